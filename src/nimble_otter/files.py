"""Writing files so that a crash leaves either the old one or the new one, several processes do not lose each other's
lines, nobody else of the machine can read what is ours, and damaged files are set aside.

Files of our own home are for their owner alone (0600, folders 0700); those that a user chose a place for have the
rights that the system gives new files, without writing for others.
"""

from __future__ import annotations

import errno
import fcntl
import os
import stat
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

from nimble_otter.translation import tr

LOCK_S = 10.0
"""How long another process may hold a file before waiting for it is given up."""
STALE_S = 3600
"""Age of a temporary file from which nobody is taken to write it any more."""
LARGEST, LONGEST_LOG = 64 << 20, 1 << 30
"""Bytes of a file of ours that is still read whole; logs grow longer."""


def make_private(folder: Path) -> None:
    """Make a folder that only its owner may enter; one that is there is left as it is. Raises: OSError."""
    for missing in reversed([p for p in (folder, *folder.parents) if not p.exists()]):
        missing.mkdir(mode=0o700, exist_ok=True)


@contextmanager
def replacing(path: Path, is_private: bool = False) -> Iterator[BinaryIO]:
    """A stream to a temporary file beside `path`, flushed to disk and renamed over it when the block ends well.

    On any exception, `Stopped` included, the temporary file is removed and `path` is as it was. Raises: OSError, also
    where `path` is no regular file: a device or pipe is not replaced.
    """
    path = Path(os.path.realpath(path))  # through links: the file behind is replaced, not the link
    with suppress(FileNotFoundError):
        if not stat.S_ISREG(path.stat().st_mode):
            raise OSError(errno.EINVAL, tr("It is not a regular file"), str(path))
    handle, name = tempfile.mkstemp(prefix=f".{path.name[:40]}.", suffix=".part", dir=path.parent)
    os.close(handle)
    try:
        with open(name, "r+b", buffering=1 << 20) as stream:
            fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)  # told apart from one that a dead process left
            yield stream
            stream.flush()
            os.fsync(stream.fileno())
            os.chmod(name, _mode_for(path, is_private))
            os.replace(name, path)
    except BaseException:
        with suppress(FileNotFoundError):
            os.unlink(name)
        raise


def _mode_for(path: Path, is_private: bool) -> int:
    if is_private:
        return 0o600
    try:
        return path.stat().st_mode & 0o777
    except FileNotFoundError:
        umask = os.umask(0)
        os.umask(umask)
        return 0o664 & ~umask


def clear_parts(folder: Path, names: str = ".*.part", older_s: float = STALE_S) -> int:
    """Remove temporary files of processes that were killed: those of ours that nobody writes and that are old. Returns
    how many."""
    gone = 0
    with suppress(OSError):
        for path in folder.glob(names):
            with suppress(OSError):
                if time.time() - path.stat().st_mtime < older_s or path.is_symlink() or not path.is_file():
                    continue
                with path.open("rb") as stream:
                    fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    path.unlink()
                    gone += 1
    return gone


def write_text(path: Path, text: str, is_private: bool = True) -> None:
    """Write a small UTF-8 text file whole, making its folder when needed. Raises: OSError."""
    write_bytes(path, text.encode("utf-8"), is_private)


def write_bytes(path: Path, data: bytes, is_private: bool = True) -> None:
    """Write a small file whole, making its folder when needed. Raises: OSError."""
    make_private(path.parent) if is_private else path.parent.mkdir(parents=True, exist_ok=True)
    with replacing(path, is_private) as stream:
        stream.write(data)


def append_text(path: Path, text: str) -> None:
    """Put lines behind those of a file of ours in one go, so that lines of several processes do not mix. Raises:
    OSError."""
    make_private(path.parent)
    with locked(path):
        handle = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_NOFOLLOW, 0o600)
        try:
            data = memoryview(text.encode("utf-8"))
            while data:
                data = data[os.write(handle, data) :]
            os.fchmod(handle, 0o600)
        finally:
            os.close(handle)


def update_text(path: Path, change: Callable[[str | None], str]) -> None:
    """Read a file of ours, change its text, and write it, while no other process does. `change` gets None where there
    is no file yet. Raises: OSError, UnicodeDecodeError, and what `change` raises."""
    make_private(path.parent)
    with locked(path):
        write_text(path, change(read_text(path) if path.exists() else None))


def read_text(path: Path, most: int = LARGEST) -> str:
    """A file of ours. Raises: OSError, also where it is no regular file or too large to be one of ours;
    UnicodeDecodeError."""
    status = path.stat()
    if not stat.S_ISREG(status.st_mode):
        raise OSError(errno.EISDIR, tr("It is not a regular file"), str(path))
    if status.st_size > most:
        raise OSError(errno.EFBIG, tr("It is larger than any file of this kind"), str(path))
    return path.read_text("utf-8")


@contextmanager
def locked(path: Path, wait_s: float = LOCK_S) -> Iterator[None]:
    """Hold a file for this process alone, by a lock file beside it. Raises: OSError, where another process holds it for
    so long."""
    with _lock_file(path).open("ab") as stream:
        until = time.monotonic() + wait_s
        while True:
            try:
                fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except OSError as problem:
                if problem.errno not in (errno.EAGAIN, errno.EACCES) or time.monotonic() > until:
                    raise OSError(errno.EBUSY, tr("Another process holds it"), str(path)) from problem
            time.sleep(0.01)
        yield


def _lock_file(path: Path) -> Path:
    """In the folder for locks of this user, as beside a delivery nothing of ours is to lie."""
    base = os.environ.get("XDG_RUNTIME_DIR", "")
    folder = Path(base) if base and os.path.isdir(base) else Path(tempfile.gettempdir())
    own = folder / f"nimble-otter-{os.getuid()}"
    own.mkdir(mode=0o700, exist_ok=True)
    status = own.lstat()
    if not stat.S_ISDIR(status.st_mode) or status.st_uid != os.getuid():
        raise OSError(errno.EPERM, tr("The lock folder belongs to another user"), str(own))
    import hashlib

    mark = hashlib.sha256(os.path.realpath(path).encode("utf-8", "surrogateescape")).hexdigest()[:32]
    return own / f"{mark}.lock"


def set_aside(path: Path) -> Path:
    """Rename a damaged file (or what stands in its place) so that it is kept but not read again; returns where it went.
    Raises: OSError."""
    for number in range(1, 1000):
        aside = path.with_name(f"{path.name}.damaged-{number}")
        if not aside.exists():
            path.rename(aside)
            return aside
    raise OSError(tr("too many damaged copies beside {path}", path=path))
