"""Reading a source's URL: its parts, the secrets in it, and the options that its driver may be given.

Passwords come in many forms (RFC 3986 userinfo, raw characters that should have been escaped, options of the client
libraries): all are found here, so that a URL that is kept or shown holds none.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from urllib.parse import parse_qsl, quote, unquote, urlencode

from nimble_otter.errors import ConnectError
from nimble_otter.translation import tr

SSH_OPTION = "ssh"
"""The option of a URL that names the SSH destination by which its server is reached (see tunnel.py)."""
REPLICA_OPTION = "replica"
"""The option of a URL that names the host, and the port where it is another, of a server that rows are read from."""
_SECRET_NAME = re.compile(
    r"pass(?!file$)|pwd|secret|token|credential|api_?key|private_?key|authmechanismproperties", re.I
)
_PASSWORD_NAMES = ("password", "passwd", "pwd")
_SECRET_INSIDE = re.compile(r"(?i)(?:^|;)\s*(?:pwd|password)\s*=\s*(\{(?:[^}]|\}\})*\}|[^;]*)|://[^/@\s]*:[^/@\s]+@")
_QUERY = re.compile(r"[\w.\-%+\[\]]+=[^?]*\Z")


class Secret:
    """A password. It is shown and written as dots, whatever shows it; `reveal` gives it to a driver."""

    __slots__ = ("_value",)

    def __init__(self, value: str) -> None:
        self._value = value

    def reveal(self) -> str:
        """The password in clear."""
        return self._value

    def __repr__(self) -> str:
        return "Secret(•••)"

    __str__ = __repr__

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and other._value == self._value

    def __hash__(self) -> int:
        return hash(self._value)

    def __reduce__(self) -> tuple[object, ...]:
        raise TypeError(tr("a secret is not stored"))


@dataclass(frozen=True, slots=True)
class UrlParts:
    """`where` is hosts and ports as written, `path` with its first slash and still escaped; `secrets` are options that
    hold some, by name."""

    scheme: str
    user: str
    password: str | None
    where: str
    path: str
    options: tuple[tuple[str, str], ...]
    secrets: Mapping[str, str]

    def without(self, option: str) -> UrlParts:
        """The same but for an option."""
        return replace(self, options=tuple(pair for pair in self.options if pair[0] != option))


def read_url(url: str) -> UrlParts | None:
    """The parts of a URL with an authority; None for a path, `demo:` and what else has no `://`."""
    match = re.match(r"([A-Za-z][\w.+\-]*)://", url)
    if not match:
        return None
    rest = url[match.end() :]
    head, options = _split_query(rest)
    userinfo, at, where = head.rpartition("@")
    if not at:
        userinfo = ""
    authority, slash, path = where.partition("/")
    authority = authority.partition("#")[0]
    user, colon, password = userinfo.partition(":")
    pairs = parse_qsl(options, keep_blank_values=True)
    secrets = {k: v for k, v in pairs if _SECRET_NAME.search(k)}
    secrets |= {k: v for k, v in pairs if _SECRET_INSIDE.search(v)}
    kept = [(k, v) for k, v in pairs if k not in secrets]
    return UrlParts(
        match[1].lower(),
        unquote(user),
        unquote(password) if colon else None,
        authority,
        slash + path,
        tuple(kept),
        secrets,
    )


def _split_query(rest: str) -> tuple[str, str]:
    """What stands before the options, and the options; a question mark of a password is none of theirs."""
    at = rest.rfind("?")
    while at >= 0:
        head, tail = rest[:at], rest[at + 1 :]
        if not tail:
            return head, ""
        if _QUERY.match(tail) and not ("@" in tail and "@" not in head and _has_raw_password(head)):
            return head, tail
        at = rest.rfind("?", 0, at)
    return rest, ""


def _has_raw_password(head: str) -> bool:
    """Whether `user:begin-of-password` may stand before a question mark: what is behind the colon is no port."""
    name, colon, behind = head.partition(":")
    return bool(colon) and "/" not in name and not re.match(r"\d+(?:/|\Z)", behind)


def url_without(parts: UrlParts, with_options: bool = True) -> str:
    """The URL without any secret."""
    user = f"{quote(parts.user, safe='')}@" if parts.user else ""
    query = f"?{urlencode(parts.options, safe='/,:*')}" if parts.options and with_options else ""
    return f"{parts.scheme}://{user}{parts.where}{parts.path}{query}"


def split_secret(url: str) -> tuple[str, str | None]:
    """(the URL without its secrets, the password or None). A URL that holds none is given back as it is."""
    parts = read_url(url)
    if parts is None or (parts.password is None and not parts.secrets):
        return url, None
    password = parts.password
    if password is None:
        password = next((v for k, v in parts.secrets.items() if k.lower() in _PASSWORD_NAMES), None)
    return url_without(parts), password


def split_replica(url: str) -> tuple[str, str]:
    """(the URL of a server without its replica, the URL of the replica or ""). Raises: ConnectError, where the option
    names no host."""
    parts = read_url(url)
    where = dict(parts.options).get(REPLICA_OPTION) if parts is not None else None
    if parts is None or where is None:
        return url, ""
    if not re.fullmatch(r"(\[[0-9A-Fa-f:.%]+\]|[\w.\-]+)(:\d{1,5})?", where):
        raise ConnectError(
            tr("{where!r} is not the host of a replica.", where=where), tr("Write it like replica.example:5432.")
        )
    plain = parts.without(REPLICA_OPTION)
    port = re.search(r":\d+\Z", parts.where)
    if port is not None and not re.search(r":\d+\Z", where):
        where += port[0]
    return url_without(plain), url_without(replace(plain, where=where))


def dropped_secrets(url: str) -> tuple[str, ...]:
    """Names of the options that hold secrets which `split_secret` leaves out for good."""
    parts = read_url(url)
    return tuple(n for n in (parts.secrets if parts is not None else ()) if n.lower() not in _PASSWORD_NAMES)


def with_secret(url: str, password: str | None) -> str:
    """The URL with a password put in, for a driver's own use; never shown or stored."""
    parts = read_url(url)
    if password is None or parts is None or not parts.user:
        return url
    whole = url_without(parts)
    user = quote(parts.user, safe="")
    return whole.replace(f"://{user}@", f"://{user}:{quote(password, safe='')}@", 1)


def without_secrets(text: str) -> str:
    """A text that may be a URL, without its secrets."""
    return split_secret(text)[0] if "://" in text else text


def check_options(url: str, allowed: Mapping[str, str], known: Mapping[str, str] | None = None) -> None:
    """Raises: ConnectError, naming the option, where a URL gives a client library one that is not on the driver's list:
    such options read files of this machine, reach another host or run statements. `allowed` has a pattern for each
    option's value; `known` says why some are refused."""
    parts = read_url(url)
    for name, value in parts.options if parts is not None else ():
        pattern = allowed.get(name)
        if pattern is None:
            why = (known or {}).get(name, "")
            some = ", ".join(sorted(allowed))
            raise ConnectError(
                tr("The option {name} of the URL is not taken{why}.", name=name, why=why),
                tr("Taken are {some}.", some=some),
            )
        if not re.fullmatch(pattern, value):
            raise ConnectError(
                tr("The value of the URL's option {name} is not taken.", name=name), tr("Check it in the source.")
            )
