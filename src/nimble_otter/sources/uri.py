"""A source's URI and its parts, for a form whose fields and URI stay in step. No passwords here (see secrets.py)."""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import parse_qsl, quote, unquote, urlencode, urlsplit

KINDS = {
    "sqlite": "SQLite file", "postgresql": "PostgreSQL", "mariadb": "MariaDB or MySQL",
    "mongodb": "Documents (MongoDB protocol)", "other": "Other, by URI",
}  # fmt: skip
PORTS = {"postgresql": 5432, "mariadb": 3306, "mongodb": 27017}
_SCHEMES = {"postgres": "postgresql", "mysql": "mariadb", "mongodb+srv": "mongodb"}
TLS = {"": "as the server likes", "required": "required", "verified": "required, certificate checked"}
_TLS_OPTIONS: dict[str, dict[str, dict[str, str]]] = {
    "postgresql": {"required": {"sslmode": "require"}, "verified": {"sslmode": "verify-full"}},
    "mariadb": {"required": {"ssl_mode": "REQUIRED"}, "verified": {"ssl_mode": "VERIFY_IDENTITY"}},
    "mongodb": {
        "verified": {"tls": "true"}, "required": {"tls": "true", "tlsAllowInvalidCertificates": "true"}
    },
}  # fmt: skip
_CA = {"postgresql": "sslrootcert", "mariadb": "ssl_ca", "mongodb": "tlsCAFile"}


@dataclass(frozen=True, slots=True)
class Parts:
    """`scheme` as written where it is not the kind's own; `rest` are options that have no field of their own."""

    kind: str
    host: str = ""
    port: int | None = None
    database: str = ""
    user: str = ""
    tls: str = ""
    ca: str = ""
    rest: tuple[tuple[str, str], ...] = ()
    scheme: str = ""


def parts_of(url: str) -> Parts:
    """The parts of a URI or of a file's path. Raises: ValueError with the reason."""
    url = url.strip()
    if "://" not in url or url.startswith("sqlite:"):
        path = url.removeprefix("sqlite://").removeprefix("sqlite:")
        return Parts("sqlite", database=path[1:] if path.startswith("//") or path[2:3] == ":" else path)
    found = urlsplit(url)
    kind = _SCHEMES.get(found.scheme, found.scheme)
    if kind not in KINDS:
        return Parts("other", database=url)
    user, _, where = found.netloc.rpartition("@")
    host, port = where, None
    if kind != "mongodb" or "," not in where:
        try:
            host, port = found.hostname or "", found.port
        except ValueError:
            raise ValueError("The port is not a number.") from None
    options = dict(parse_qsl(found.query, keep_blank_values=True))
    ca = options.pop(_CA[kind], "")
    tls = ""
    for name in ("required", "verified"):
        wanted = _TLS_OPTIONS[kind][name]
        if wanted.items() <= options.items():
            tls = name
    if tls == "verified" and kind == "mongodb" and "tlsAllowInvalidCertificates" in options:
        tls = "required"
    for name in _TLS_OPTIONS[kind].get(tls, {}):
        options.pop(name)
    scheme = "" if found.scheme == kind else found.scheme
    name = unquote(user.partition(":")[0])
    return Parts(kind, host, port, unquote(found.path[1:]), name, tls, ca, tuple(options.items()), scheme)


def url_of(parts: Parts) -> str:
    """The URI of the parts."""
    if parts.kind == "sqlite":
        return f"sqlite:///{parts.database}" if parts.database else ""
    if parts.kind == "other":
        return parts.database
    user = f"{quote(parts.user, safe='')}@" if parts.user else ""
    host = f"[{parts.host}]" if parts.host.count(":") > 1 and "," not in parts.host else parts.host
    port = f":{parts.port}" if parts.port is not None else ""
    options = dict(parts.rest) | _TLS_OPTIONS[parts.kind].get(parts.tls, {})
    options |= {_CA[parts.kind]: parts.ca} if parts.ca else {}
    query = f"?{urlencode(options, safe='/')}" if options else ""
    return f"{parts.scheme or parts.kind}://{user}{host}{port}/{quote(parts.database, safe='')}{query}"
