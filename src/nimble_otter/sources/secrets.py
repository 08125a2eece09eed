"""Passwords: in the system's keyring, or in memory where there is none. Never in a file of ours."""

from __future__ import annotations

from urllib.parse import quote, unquote, urlsplit, urlunsplit

_SERVICE = "nimble-otter"
_memory: dict[str, str] = {}


def split_secret(url: str) -> tuple[str, str | None]:
    """(the URL without its password, the password or None)."""
    parts = urlsplit(url)
    user, at, host = parts.netloc.rpartition("@")
    name, colon, password = user.partition(":")
    if not at or not colon:
        return url, None
    return urlunsplit(parts._replace(netloc=f"{name}@{host}")), unquote(password)


def with_secret(url: str, password: str | None) -> str:
    """The URL with a password put in, for a driver's own use; never shown or stored."""
    if password is None:
        return url
    parts = urlsplit(url)
    user, at, host = parts.netloc.rpartition("@")
    return urlunsplit(parts._replace(netloc=f"{user}:{quote(password, safe='')}@{host}")) if at else url


def remember(url: str, password: str) -> bool:
    """Keep a password; True where the keyring took it, False where it is kept in memory only."""
    _memory[url] = password
    try:
        import keyring

        keyring.set_password(_SERVICE, url, password)
    except Exception:  # no keyring daemon, a locked one, a broken backend: all mean memory only
        return False
    return True


def recall(url: str) -> str | None:
    """The password of a URL, or None."""
    if url in _memory or "@" not in url:
        return _memory.get(url)
    try:
        import keyring

        found: str | None = keyring.get_password(_SERVICE, url)
        return found
    except Exception:  # as above: without a keyring there is nothing to recall
        return None
