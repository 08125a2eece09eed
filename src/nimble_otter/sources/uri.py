"""A source's URI and its parts, for a form whose fields and URI stay in step. No passwords here (see secrets.py)."""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import parse_qsl, quote, unquote, urlencode, urlsplit

from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.source import all_drivers
from nimble_otter.sources.urls import REPLICA_OPTION, SSH_OPTION
from nimble_otter.translation import tr

TLS = {"": "as the server likes", "required": "required", "verified": tr("required, certificate checked")}
FILE, SERVER, _OTHER = "sqlite", "postgresql", "other"
"""Keys of the drivers of files, of the server that is offered first, and of every other URI."""


def kinds() -> dict[str, AddressForm]:
    """The kinds of sources by their drivers' keys, in the order of a list."""
    return {driver.key: driver.address for driver in sorted(all_drivers(), key=lambda driver: driver.address.place)}


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
    ssh: str = ""
    replica: str = ""

    @property
    def address(self) -> AddressForm:
        """How sources of its kind are addressed."""
        return kinds()[self.kind]


def parts_of(url: str) -> Parts:
    """The parts of a URI or of a file's path. Raises: ValueError with the reason."""
    url = url.strip()
    if "://" not in url or url.startswith("sqlite:"):
        path = url.removeprefix("sqlite://").removeprefix("sqlite:")
        return Parts(FILE, database=path[1:] if path.startswith("//") or path[2:3] == ":" else path)
    parts = urlsplit(url)
    driver = next((d for d in all_drivers() if parts.scheme in d.schemes), None)
    if driver is not None and driver.address.is_file:
        return Parts(driver.key, database=parts.path.removeprefix("/") if parts.path.startswith("//") else parts.path)
    if driver is None or not driver.address.is_server:
        return Parts(driver.key if driver is not None else _OTHER, database=url)
    kind, form = driver.key, driver.address
    user, _, where = parts.netloc.rpartition("@")
    host, port = where, None
    if not form.many_hosts or "," not in where:
        try:
            host, port = parts.hostname or "", parts.port
        except ValueError as problem:
            raise ValueError(tr("The port is not a number.")) from problem
    options = dict(parse_qsl(parts.query, keep_blank_values=True))
    ssh = options.pop(SSH_OPTION, "")
    replica = options.pop(REPLICA_OPTION, "") if form.has_replicas else ""
    ca = options.pop(form.ca, "")
    fitting = [name for name, wanted in form.tls.items() if wanted.items() <= options.items()]
    tls = max(fitting, key=lambda name: len(form.tls[name]), default="")  # the one that says most of them
    for name in form.tls.get(tls, {}):
        options.pop(name)
    scheme = "" if parts.scheme == kind else parts.scheme
    name = unquote(user.partition(":")[0])
    return Parts(kind, host, port, unquote(parts.path[1:]), name, tls, ca, tuple(options.items()), scheme, ssh,
                 replica)  # fmt: skip


def ad_hoc_name(url: str) -> str:
    """What a source that is only given by its URL is called: its database and host."""
    try:
        parts = parts_of(url)
    except ValueError:
        return url
    if parts.kind == _OTHER:
        url_parts = urlsplit(url)
        parts = Parts(_OTHER, url_parts.netloc.rpartition("@")[2], database=url_parts.path.rsplit("/", 1)[-1])
    if parts.address.is_file:
        return parts.database.rsplit("/", 1)[-1]
    return " on ".join(filter(None, (parts.database, parts.host))) or url


def url_of(parts: Parts) -> str:
    """The URI of the parts."""
    if parts.address.is_file:
        return f"{parts.kind}:///{parts.database}" if parts.database else ""
    if not parts.address.is_server:
        return parts.database
    user = f"{quote(parts.user, safe='')}@" if parts.user else ""
    host = f"[{parts.host}]" if parts.host.count(":") > 1 and "," not in parts.host else parts.host
    port = f":{parts.port}" if parts.port is not None else ""
    options = {**dict(parts.rest), **parts.address.tls.get(parts.tls, {})}
    options |= {parts.address.ca: parts.ca} if parts.ca else {}
    options |= {SSH_OPTION: parts.ssh} if parts.ssh else {}
    options |= {REPLICA_OPTION: parts.replica} if parts.replica else {}
    query = f"?{urlencode(options, safe='/')}" if options else ""
    return f"{parts.scheme or parts.kind}://{user}{host}{port}/{quote(parts.database, safe='')}{query}"
