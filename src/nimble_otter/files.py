"""Writing files so that a crash leaves either the old one or the new one, and setting damaged ones aside."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO


@contextmanager
def replacing(path: Path) -> Iterator[BinaryIO]:
    """A stream to a temporary file beside `path`, flushed to disk and renamed over it when the block ends well.

    On any exception, `Stopped` included, the temporary file is removed and `path` is as it was.
    """
    path = Path(os.path.realpath(path))  # through links: the file behind is replaced, not the link
    handle, name = tempfile.mkstemp(prefix=f".{path.name[:40]}.", suffix=".part", dir=path.parent)
    os.close(handle)
    try:
        with open(name, "r+b", buffering=1 << 20) as stream:
            yield stream
            stream.flush()
            os.fsync(stream.fileno())
        os.chmod(name, _mode_for(path))
        os.replace(name, path)
    except BaseException:
        with suppress(FileNotFoundError):
            os.unlink(name)
        raise


def _mode_for(path: Path) -> int:
    try:
        return path.stat().st_mode & 0o777
    except FileNotFoundError:
        umask = os.umask(0)
        os.umask(umask)
        return 0o666 & ~umask


def write_text(path: Path, text: str) -> None:
    """Write a small UTF-8 text file whole, making its folder when needed."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with replacing(path) as stream:
        stream.write(text.encode("utf-8"))


def set_aside(path: Path) -> Path:
    """Rename a damaged file so that it is kept but not read again; returns where it went."""
    for number in range(1, 1000):
        aside = path.with_name(f"{path.name}.damaged-{number}")
        if not aside.exists():
            path.rename(aside)
            return aside
    raise OSError(f"too many damaged copies beside {path}")
