"""Keeping passwords: in the system's keyring, or in memory where there is none. Never in a file of ours.

A keyring may ask its user to unlock it and answers when they have: `remember`, `forget` and `look_up` are called off
the window's thread; `hold` and `held` only touch memory.
"""

from __future__ import annotations

import logging
import shlex
import subprocess
from pathlib import Path

from nimble_otter.errors import ConnectError, SavedError
from nimble_otter.translation import tr

log = logging.getLogger(__name__)

_SERVICE = "nimble-otter"
_COMMAND_S = 30
_LOOK = tr("Try it in a terminal; it stands on the source's page.")
_memory: dict[str, str] = {}
_FORGOTTEN = ""
"""What memory holds for a URL whose password the keyring may still have, though it is to be forgotten."""
REFUSED = tr("The keyring gave no password: it is locked, or none is running.")


def hold(url: str, password: str) -> None:
    """Keep a password until the program ends."""
    _memory[url] = password


def held(url: str) -> str | None:
    """The password that memory has for a URL."""
    return _memory.get(url) or None


def remember(url: str, password: str) -> bool:
    """Keep a password; True where the keyring took it, False where it is in memory only."""
    hold(url, password)
    try:
        import keyring

        keyring.set_password(_SERVICE, url, password)
    except Exception as problem:  # noqa: BLE001 - no keyring daemon, a locked one, a broken backend: all mean memory only
        log.info("the keyring took no password: %s", type(problem).__name__)
        return False
    return True


def forget(url: str) -> None:
    """Keep the password of a URL no longer."""
    _memory[url] = _FORGOTTEN
    try:
        import keyring

        if keyring.get_password(_SERVICE, url) is not None:
            keyring.delete_password(_SERVICE, url)
    except Exception as problem:  # noqa: BLE001 - as above; what it has is not asked for again in this run
        log.info("the keyring forgot no password: %s", type(problem).__name__)


def look_up(url: str) -> tuple[str | None, str]:
    """The password of a URL, or None with what kept it: "" where the keyring answered that it has none."""
    if url in _memory:
        return held(url), ""
    if "@" not in url:
        return None, ""
    try:
        import keyring

        return keyring.get_password(_SERVICE, url), ""
    except Exception as problem:  # noqa: BLE001 - as above: without a keyring there is nothing to recall
        log.info("the keyring gave no password: %s", type(problem).__name__)
        return None, REFUSED


def recall(url: str) -> str | None:
    """The password of a URL, or None."""
    return look_up(url)[0]


def password_from(command: str) -> str:
    """The first line that a command prints, as for passwords that live for minutes; it runs without a shell and without
    a terminal. Raises: ConnectError, which holds nothing of what was printed."""
    try:
        parts = shlex.split(command)
        done = subprocess.run(parts, stdin=subprocess.DEVNULL, capture_output=True, timeout=_COMMAND_S, check=False)
        first = done.stdout.decode().partition("\n")[0].rstrip("\r") if done.returncode == 0 else ""
    except subprocess.TimeoutExpired as problem:
        raise ConnectError(
            tr("The password command did not end within {command_s} s.", command_s=_COMMAND_S), _LOOK
        ) from problem
    except (OSError, ValueError, IndexError) as problem:  # no such program, an open quote, an output that is no text
        text = problem.strerror if isinstance(problem, OSError) else type(problem).__name__
        raise ConnectError(tr("The password command can't be run: {text}.", text=text), _LOOK) from problem
    if done.returncode:
        raise ConnectError(
            tr("The password command ended with exit code {returncode}.", returncode=done.returncode), _LOOK
        )
    if not first:
        raise ConnectError(tr("The password command printed nothing."), _LOOK)
    return first


def password_in(path: Path) -> str:
    """The first line of a file that only its owner may read. Raises: SavedError."""
    try:
        if path.stat().st_mode & 0o077:
            raise SavedError(
                tr("{path} can be read by others of this machine.", path=path), tr("Run: chmod 600 {path}", path=path)
            )
        with path.open(encoding="utf-8") as stream:
            return stream.readline(65_536).rstrip("\r\n")
    except OSError as problem:
        raise SavedError(tr("{path} can't be read: {strerror}.", path=path, strerror=problem.strerror)) from problem
    except UnicodeDecodeError as problem:
        raise SavedError(tr("{path} is not UTF-8 text.", path=path), tr("Save it as UTF-8.")) from problem
