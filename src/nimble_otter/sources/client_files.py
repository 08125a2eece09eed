"""What database clients keep on this machine for their user: services and passwords.

`~/.pgpass` is read by libpq itself. `pg_service.conf` (PostgreSQL documentation, "The Connection Service File") is read
when a user names a service, never for a URL that a pull brings along: its settings then stand in the URL and are
checked as any other. `~/.my.cnf` (MariaDB documentation, "Configuring MariaDB with Option Files") lends its password
only to the host that it names, or to this machine where it names none.
"""

from __future__ import annotations

import configparser
import os
from pathlib import Path
from urllib.parse import quote, urlencode

from nimble_otter.errors import ConnectError
from nimble_otter.sources.urls import UrlParts, read_url
from nimble_otter.translation import tr

_LOCAL = ("", "localhost", "127.0.0.1", "[::1]", "::1")
_PARTS = ("host", "port", "dbname", "user", "password")


def service_url(url: str) -> str:
    """A URL that names a service, such as postgresql://?service=survey, with what the service says; parts that the URL
    has count. Others come back as they are. The password stays in it. Raises: ConnectError."""
    parts = read_url(url)
    name = dict(parts.options).get("service") if parts is not None else None
    if parts is None or name is None or not parts.scheme.startswith("postgres"):
        return url
    own = _service(name)
    host, port = (*parts.where.rsplit(":", 1), "")[:2] if parts.where else ("", "")
    host, port = host or own.get("host", "localhost"), port or own.get("port", "")
    host = f"[{host}]" if host.count(":") > 1 and not host.startswith("[") else host
    user = parts.user or own.get("user", "")
    password = parts.password if parts.password is not None else own.get("password")
    signed = quote(user, safe="") + (f":{quote(password, safe='')}" if password is not None else "")
    options = {key: value for key, value in own.items() if key not in _PARTS} | dict(parts.options)
    options.pop("service")
    if host.startswith("/"):  # the folder of a socket
        options["host"], host = host, ""
    database = parts.path.strip("/") or quote(own.get("dbname", ""), safe="")
    where = f"{f'{signed}@' if signed else ''}{host}{f':{port}' if port else ''}"
    return f"{parts.scheme}://{where}/{database}{f'?{urlencode(options)}' if options else ''}"


def _service(name: str) -> dict[str, str]:
    files = [Path(os.environ.get("PGSERVICEFILE") or Path.home() / ".pg_service.conf")]
    files += [Path(folder) / "pg_service.conf" for folder in (os.environ.get("PGSYSCONFDIR"), "/etc/postgresql-common")
              if folder]  # fmt: skip
    known: list[str] = []
    for path in files:
        read = _read(path)
        if name in read:
            return dict(read[name])
        known += read.sections()
    there = tr("There are {known}.", known=", ".join(known)) if known else tr("{files} names none.", files=files[0])
    raise ConnectError(tr("There is no service {name}.", name=name), there)


def option_password(url: str) -> str | None:
    """The password that the user's option file has for a MariaDB or MySQL server, for the URL's user or any."""
    parts = read_url(url)
    if parts is None or not parts.scheme.startswith(("mysql", "mariadb")):
        return None
    try:
        read = _read(Path.home() / ".my.cnf")
    except ConnectError:  # which the client itself would tell; here it is only one place to look
        return None
    for group in ("client-mariadb", "client"):
        if group in read and (password := read[group].get("password")) is not None and _fits(parts, read[group]):
            return _unquoted(password)
    return None


def _fits(parts: UrlParts, group: configparser.SectionProxy) -> bool:
    host, _, port = parts.where.rpartition(":") if parts.where.rsplit(":", 1)[-1].isdigit() else (parts.where, "", "")
    wanted = group.get("host") or "localhost"
    is_host = host == wanted or (host in _LOCAL and wanted in _LOCAL)
    own_port = group.get("port") or "3306"
    return is_host and (port or "3306") == own_port and parts.user in ("", group.get("user") or parts.user)


def _unquoted(text: str) -> str:
    text = text.strip()
    return text[1:-1] if len(text) > 1 and text[0] == text[-1] and text[0] in "'\"" else text


def _read(path: Path) -> configparser.ConfigParser:
    """A file of sections; nothing where there is none. Raises: ConnectError."""
    read = configparser.ConfigParser(interpolation=None, strict=False, allow_no_value=True, comment_prefixes=("#", ";"),
                                     delimiters=("=",))  # fmt: skip
    try:
        lines = (line for line in path.read_text("utf-8").splitlines() if not line.startswith("!"))
        read.read_string("\n".join(lines))
    except FileNotFoundError:
        pass
    except (OSError, UnicodeDecodeError, configparser.Error) as problem:
        raise ConnectError(tr("{path} can't be read.", path=path), tr("Check what it holds.")) from problem
    return read
