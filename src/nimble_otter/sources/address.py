"""How sources of a kind are addressed: what a driver says of its URIs, for their form and for the marks of a source."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from nimble_otter.errors import ConnectError
from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True)
class AddressForm:
    """`label` names the kind in a list, `place` its place there; `example` is a URI to follow. A file has `is_file` and
    begins with the bytes of `head` at a place; a server has its usual `port`; what has neither is addressed by its URI
    alone. `tls` are the options of the URI for TLS "required" and "verified", `ca` that for a certificate file.
    `many_hosts`: several may stand in one URI; `user_names_database`: without a database that of the user's name is
    meant; `reaches_databases`: one connection reaches every database of its server. `forwarded` are options that hold a
    client to a port that another leads to, `address_option` names the one for the address of a host that is kept;
    `reads_only`: nothing is ever written there; `has_replicas`: rows may be read from another server of the same
    data."""

    label: str
    place: int
    example: str
    port: int | None = None
    is_file: bool = False
    head: tuple[int, bytes] = (0, b"")
    tls: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    ca: str = ""
    many_hosts: bool = False
    user_names_database: bool = False
    reaches_databases: bool = False
    forwarded: Mapping[str, str] = field(default_factory=dict)
    address_option: str = ""
    reads_only: bool = False
    has_replicas: bool = False

    @property
    def is_server(self) -> bool:
        """Whether a host is part of it."""
        return self.port is not None


def readable_file(url: str, scheme: str) -> Path:
    """The file that a path, or a URL of a scheme, leads to. Raises: ConnectError, where it can't be read."""
    path = Path(re.sub(rf"^{scheme}:(///?)?", "", url)).expanduser()
    if not path.is_file():
        raise ConnectError(
            tr("There is no file {path}.", path=path), tr("Pick another file, or put it back where it was.")
        )
    if not os.access(path, os.R_OK):
        raise ConnectError(
            tr("The file {path} may not be read.", path=path), tr("Ask its owner for the right to read it.")
        )
    return path
