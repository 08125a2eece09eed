"""Keeping passwords: in the system's keyring, or in memory where there is none. Never in a file of ours."""

from __future__ import annotations

from contextlib import suppress

_SERVICE = "nimble-otter"
_memory: dict[str, str] = {}


def remember(url: str, password: str) -> bool:
    """Keep a password; True where the keyring took it, False where it is in memory only."""
    _memory[url] = password
    try:
        import keyring

        keyring.set_password(_SERVICE, url, password)
    except Exception:  # noqa: BLE001 - no keyring daemon, a locked one, a broken backend: all mean memory only
        return False
    return True


def forget(url: str) -> None:
    """Keep the password of a URL no longer."""
    _memory.pop(url, None)
    with suppress(Exception):  # no keyring, or nothing in it
        import keyring

        keyring.delete_password(_SERVICE, url)


def recall(url: str) -> str | None:
    """The password of a URL, or None."""
    if url in _memory or "@" not in url:
        return _memory.get(url)
    try:
        import keyring

        found: str | None = keyring.get_password(_SERVICE, url)
        return found
    except Exception:  # noqa: BLE001 - as above: without a keyring there is nothing to recall
        return None
