"""Where a URL of a server leads, for clients that take its parts, and whether its password may go there."""

from __future__ import annotations

import re
import ssl
from collections.abc import Mapping
from dataclasses import dataclass
from urllib.parse import unquote

from nimble_otter.errors import ClearPassword
from nimble_otter.sources.urls import read_url
from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True)
class Reached:
    """`path` without its first slash; `tls` is "" (none), "required" or "verified", `ca` a file of certificates."""

    host: str
    port: int
    user: str
    password: str
    path: str
    options: Mapping[str, str]

    @property
    def tls(self) -> str:
        """How the line is kept from others."""
        return self.options.get("tls", "")

    def context(self) -> ssl.SSLContext | None:
        """For the line; None without TLS."""
        if not self.tls:
            return None
        context = ssl.create_default_context(cafile=self.options.get("ca"))
        if self.tls == "required":
            context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        return context


def reached(url: str, port: int, password: str | None, clear_password: bool) -> Reached:
    """Where a URL leads. Raises: ClearPassword, where a password would go over the network in clear."""
    parts = read_url(url)
    assert parts is not None
    host, _, own = parts.where.rpartition(":") if re.search(r":\d+$", parts.where) else (parts.where, "", str(port))
    host, options = host.strip("[]") or "127.0.0.1", dict(parts.options)
    password = password if password is not None else parts.password
    if password and "tls" not in options and not clear_password and host not in ("localhost", "127.0.0.1", "::1"):
        raise ClearPassword(
            tr("The password would be sent without TLS."), tr("Choose TLS for the source, or allow it on its page.")
        )
    return Reached(host, int(own), parts.user or "", password or "", unquote(parts.path.lstrip("/")), options)
