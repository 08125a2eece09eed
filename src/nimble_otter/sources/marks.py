"""What a URL reaches, however it is spelled, and the marks that hold there: a source marked read-only stays so under
any other URL, path or command that reaches the same database."""

from __future__ import annotations

import ipaddress
import os
import re
import socket
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from urllib.parse import unquote

from nimble_otter.sources.source import Source, all_drivers
from nimble_otter.sources.urls import SSH_OPTION, read_url

_SAME = {"cockroachdb": "postgresql"}
"""Schemes of packages that reach what another scheme reaches, too."""
_PORTS = {"oracle": 1521, "mssql": 1433, "firebird": 3050}
"""Of servers that have no driver of their own."""
_HERE = "this machine"


@dataclass(frozen=True, slots=True)
class Reach:
    """`places` are (host, port), with port None through a socket file; a file has its path (and number) instead.
    `family` is the key of its driver, or the scheme; `database` "" stands for every one of the server;
    `reaches_all`: one connection reaches them all."""

    family: str
    places: frozenset[tuple[str, int | None]]
    database: str = ""
    is_file: bool = False
    reaches_all: bool = False


def reach_of(url: str) -> Reach:
    """What a URL or a path reaches, without asking anybody."""
    parts = read_url(url)
    name = "" if parts is None else parts.scheme.partition("+")[0]
    name = _SAME.get(name, name)
    driver = next((driver for driver in all_drivers() if name in driver.schemes), None)
    if parts is None or (driver is not None and driver.address.is_file):
        return _file(url if parts is None else unquote(parts.path)[1:])
    port = _PORTS.get(name) if driver is None else driver.address.port
    options = dict(parts.options)
    socket_file = options.get("unix_socket") or (options.get("host", "") if options.get("host", "/")[:1] == "/" else "")
    hosts: list[str] = [parts.where] if parts.where else []
    if "," in parts.where:
        hosts = parts.where.split(",")
    if options.get("host") and not socket_file:
        hosts = options["host"].split(",")
    places = {_place(host, port) for host in hosts}
    if socket_file or not places:
        places = {(_HERE, None if socket_file else port)}
    if via := options.get(SSH_OPTION):  # "localhost" is that of the machine in between
        places = {(f"{_HERE} at {via}" if host == _HERE else host, number) for host, number in places}
    database = unquote(parts.path.lstrip("/"))
    if driver is not None and driver.address.user_names_database and not database:
        database = options.get("dbname") or options.get("database") or parts.user
    reaches_all = driver is not None and driver.address.reaches_databases
    return Reach(name if driver is None else driver.key, frozenset(places), database, reaches_all=reaches_all)


def _place(text: str, port: int | None) -> tuple[str, int | None]:
    match = re.match(r"(\[[^\]]*\]|[^:]*)(?::(\d+))?\Z", text)
    host = (match[1] if match else text).strip("[]").rstrip(".").lower()
    number = int(match[2]) if match and match[2] else port
    if host in ("", "localhost", "localhost.localdomain", socket.gethostname().lower()) or host.startswith("/"):
        return _HERE, number
    with suppress(ValueError):
        address = ipaddress.ip_address(host)
        mapped = getattr(address, "ipv4_mapped", None) or address
        return (_HERE, number) if mapped.is_loopback or mapped.is_unspecified else (str(mapped), number)
    with suppress(OSError):  # 127.1, 0x7f000001 and other forms that the system reads as an address
        address = ipaddress.ip_address(socket.inet_ntoa(socket.inet_aton(host)))
        return (_HERE, number) if address.is_loopback or address.is_unspecified else (str(address), number)
    return host, number


def _file(text: str) -> Reach:
    text = re.sub(r"^sqlite:(///?)?", "", text)
    if text.startswith("file:"):
        text = unquote(text[5:].partition("?")[0])
    elif not os.path.exists(os.path.expanduser(text)):
        text = text.partition("?")[0]
    path = os.path.realpath(os.path.expanduser(re.sub(r"^/{2,}", "/", text)))
    places: set[tuple[str, int | None]] = {(path, None)}
    with suppress(OSError):
        status = Path(path).stat()
        places.add((f"file {status.st_dev}", status.st_ino))  # under any name that it is linked by
    return Reach("", frozenset(places), is_file=True)


def same_reach(one: Reach, other: Reach) -> bool:
    """Whether both reach the same database."""
    if one.family != other.family or not any(_same_place(a, b) for a in one.places for b in other.places):
        return False
    return not one.database or not other.database or one.database == other.database


def _same_place(a: tuple[str, int | None], b: tuple[str, int | None]) -> bool:
    return a[0] == b[0] and (a[1] == b[1] or (a[0] == _HERE and (a[1] is None or b[1] is None)))


def resolved(reach: Reach) -> Reach:
    """The same by addresses: asks the system's names service, which may wait. A name that is not known stays."""
    places = set(reach.places)
    for host, port in reach.places:
        if host == _HERE or reach.is_file:
            continue
        with suppress(OSError, UnicodeError):
            for found in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM):
                places.add(_place(f"[{found[4][0]}]", port))
    return replace(reach, places=frozenset(places))


def guarded_databases(source: Source, saved: Iterable[Source]) -> tuple[str, ...]:
    """Databases marked read-only that a statement of this source could name: those beside its own on a server where one
    connection reaches them all (MariaDB, MySQL)."""
    own = reach_of(source.url)
    if not own.reaches_all:
        return ()
    reaches = [reach_of(s.url) for s in saved if s.read_only and s != source]
    return tuple(r.database for r in reaches if r.database and same_reach(replace(own, database=""), r))


def with_marks(source: Source, saved: Iterable[Source], names: bool = False) -> Source:
    """The source with the marks of every saved one that reaches the same database; `names`: also under another name of
    its host, which asks the names service."""
    marked = [s for s in saved if (s.read_only or s.care or s.stage) and s != source]
    if not marked:
        return source
    own = reach_of(source.url)
    sources = [s for s in marked if same_reach(own, reach_of(s.url))]
    if names and not own.is_file:
        own = resolved(own)
        sources = [
            s
            for s in marked
            if s in sources or (reach_of(s.url).family == own.family and same_reach(own, resolved(reach_of(s.url))))
        ]
    if not sources:
        return source
    return replace(
        source,
        read_only=source.read_only or any(s.read_only for s in sources),
        care=source.care or any(s.care for s in sources),
        stage=source.stage or next((s.stage for s in sources if s.stage), ""),
    )
