"""Asking a service over HTTP(S): one client, with limits to what an answer may be, how long it may take and where it
may lead. An answer is taken for hostile until it has come whole.
"""

from __future__ import annotations

import base64
import ipaddress
import json
import logging
import re
import socket
import ssl
import time
import urllib.request
from collections.abc import Mapping
from dataclasses import dataclass
from urllib.parse import unquote, urljoin, urlsplit, urlunsplit

import urllib3
from urllib3.util import Retry, Timeout

from nimble_otter import __version__
from nimble_otter.errors import AuthError, ClearPassword, ConnectError, LostError, SourceError, SourceTimeout
from nimble_otter.sources.waits import WAITS
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.translation import tr
from nimble_otter.values import Value

log = logging.getLogger(__name__)
MOST_BYTES = 256 << 20
"""Of an answer, unpacked."""
PATIENCE_S = 600
_REDIRECTS = 5
_TRIES, _LONGEST_WAIT_S = 3, 10.0
_AGAIN = (429, 502, 503, 504)
_CHUNK = 1 << 16
_NOT_SENT = (
    urllib3.exceptions.NewConnectionError, urllib3.exceptions.ConnectTimeoutError, urllib3.exceptions.SSLError
)  # fmt: skip
"""After these the request did not reach the server."""


@dataclass(frozen=True, slots=True)
class Reply:
    """An answer: its bytes (None: nothing is new since the `mark`), their type, the mark for the next time, where the
    next part of it is, and the URL that it came from."""

    data: bytes | None
    content_type: str
    mark: Mapping[str, str]
    following: str
    url: str


def signed_in(url: str, password: str | None, clear_password: bool, header: str = "") -> tuple[str, dict[str, str]]:
    """The URL without its user and what stands behind a #, and the headers that sign in: a bearer token, with a user
    basic authentication, or the header that is named. Raises: ConnectError; ClearPassword, where a password would go
    over the network without TLS."""
    parts = urlsplit(url)
    user, _, where = parts.netloc.rpartition("@")
    if not where.partition(":")[0]:
        raise ConnectError(tr("The address has no host."), tr("Write it like https://host/levels.csv."))
    plain = urlunsplit((parts.scheme, where, parts.path or "/", parts.query, ""))
    headers = _headers(header, unquote(user.partition(":")[0]), password)
    is_here = parts.hostname in ("localhost", "127.0.0.1", "::1")
    if headers and parts.scheme == "http" and not clear_password and not is_here:
        raise ClearPassword(
            tr("The password would be sent without TLS."), tr("Use https, or allow it on the source's page.")
        )
    return plain, headers


def _headers(name: str, user: str, password: str | None) -> dict[str, str]:
    if not password:
        return {}
    if name:
        return {name: password}
    if user and user.lower() != "bearer":
        return {"Authorization": "Basic " + base64.b64encode(f"{user}:{password}".encode()).decode("ascii")}
    return {"Authorization": f"Bearer {password}"}


class WebClient:
    """Asks one service. `headers` are sent to the host of the first URL alone."""

    def __init__(self, url: str, headers: Mapping[str, str]) -> None:
        self._home = _origin(url)
        self._headers = dict(headers)
        self._pools: dict[str, urllib3.PoolManager] = {}

    def close(self) -> None:
        """Close every connection."""
        for pool in self._pools.values():
            pool.clear()

    def get(self, url: str, mark: Mapping[str, str] | None = None, stop: StopToken = NEVER) -> Reply:
        """The answer to a GET. Raises: SourceError's, Stopped."""
        until = time.monotonic() + PATIENCE_S
        is_local = not _is_public(url)
        for _ in range(_REDIRECTS + 1):
            answer = self._ask(url, mark or {}, stop, until)
            target = answer.headers.get("location") if answer.status in (301, 302, 303, 307, 308) else None
            if target is None:
                try:
                    data = self._read(answer, stop, until) if answer.status == 200 else None
                finally:
                    answer.close()  # what is left of it is not waited for
                if answer.status not in (200, 304):
                    raise _refused(answer.status, url)
                return Reply(data, answer.headers.get("content-type", ""), _mark_of(answer), _next_of(answer, url), url)
            answer.close()
            url = _followed(url, target, is_local)
        raise ConnectError(tr("The service redirects without end."), tr("Check the address."))

    def send(
        self, method: str, url: str, body: Value = None, stop: StopToken = NEVER, headers: Mapping[str, str] = {}
    ) -> tuple[int, bytes]:  # fmt: skip
        """The status and the answer of a request with JSON, or with bytes as they are, which may change something: it
        is sent once, and leads nowhere else. Raises: ConnectError, where it did not get there; LostError, where it may
        have; Stopped."""
        stop.check()
        told = {**self._headers, "Accept": "application/json", "Content-Type": "application/json",
                "User-Agent": f"nimble-otter/{__version__}", **headers}  # fmt: skip
        is_ready = body is None or isinstance(body, bytes)
        data = body if is_ready else json.dumps(body, ensure_ascii=False).encode("utf-8", "surrogatepass")
        try:
            answer = self._pool(url).request(
                method, url, body=data, headers=told, redirect=False, preload_content=False, retries=Retry(False),
                timeout=Timeout(WAITS.connect_s, WAITS.answer_s),
            )  # fmt: skip
        except _NOT_SENT as problem:
            raise _explained(problem, url) from problem
        except urllib3.exceptions.HTTPError as problem:
            raise LostError(
                tr("The server did not answer the request."), tr("Look at what is there, then try again.")
            ) from problem
        try:
            return answer.status, self._read(answer, stop, time.monotonic() + PATIENCE_S)
        finally:
            answer.close()

    def _ask(self, url: str, mark: Mapping[str, str], stop: StopToken, until: float) -> urllib3.BaseHTTPResponse:
        own = self._headers if _origin(url) == self._home else {}
        headers = {"User-Agent": f"nimble-otter/{__version__}", "Accept-Encoding": "gzip, deflate",
                   "Accept": "application/json, text/csv, */*;q=0.5", **mark, **own}  # fmt: skip
        for left in reversed(range(_TRIES)):
            stop.check()
            try:
                answer = self._pool(url).request(
                    "GET", url, headers=headers, redirect=False, preload_content=False, retries=Retry(False),
                    timeout=Timeout(WAITS.connect_s, WAITS.answer_s),
                )  # fmt: skip
            except urllib3.exceptions.HTTPError as problem:
                raise _explained(problem, url) from problem
            except (UnicodeError, ValueError) as problem:
                raise ConnectError(
                    tr("The address can't be used."), tr("Write it like https://host/levels.csv.")
                ) from problem
            if answer.status not in _AGAIN or not left:
                return answer
            wait = _wait_of(answer.headers.get("retry-after", ""), _TRIES - left)
            answer.close()
            end = min(until, time.monotonic() + wait)
            log.info("the service is busy; asked again in %.1f s", wait)
            while time.monotonic() < end:
                stop.check()
                time.sleep(0.05)
        raise AssertionError("unreachable")

    def _pool(self, url: str) -> urllib3.PoolManager:
        proxies = urllib.request.getproxies()
        host, scheme = urlsplit(url).hostname or "", urlsplit(url).scheme
        proxy = "" if urllib.request.proxy_bypass(host) else proxies.get(scheme, proxies.get("all", ""))
        if proxy not in self._pools:
            context = ssl.create_default_context()  # which trusts what the system does
            self._pools[proxy] = _pool_by(proxy, context)
        return self._pools[proxy]

    def _read(self, answer: urllib3.BaseHTTPResponse, stop: StopToken, until: float) -> bytes:
        pieces, size = [], 0
        stop.on_stop(answer.shutdown)  # which ends a wait for bytes that do not come
        try:
            while piece := answer.read1(_CHUNK, decode_content=True):
                size += len(piece)
                if size > MOST_BYTES:
                    raise ConnectError(
                        tr("The answer is longer than {most_bytes} MB.", most_bytes=MOST_BYTES >> 20),
                        tr("Ask for less of it."),
                    )
                if time.monotonic() > until:
                    raise SourceTimeout(
                        tr("The answer did not end within {patience_s} minutes.", patience_s=PATIENCE_S // 60)
                    )
                stop.check()
                pieces.append(piece)
        except urllib3.exceptions.HTTPError as problem:
            stop.check()
            raise _explained(problem, "") from problem
        finally:
            stop.forget(answer.shutdown)
        stop.check()
        return b"".join(pieces)


def _pool_by(proxy: str, context: ssl.SSLContext) -> urllib3.PoolManager:
    """Connections by a proxy, "" for none; one of SOCKS resolves names of hosts itself. Raises: ConnectError."""
    if not proxy:
        return urllib3.PoolManager(ssl_context=context)
    if not proxy.startswith("socks"):
        return urllib3.ProxyManager(proxy, ssl_context=context)
    try:
        from urllib3.contrib.socks import SOCKSProxyManager

        return SOCKSProxyManager(re.sub(r"^socks5?:", "socks5h:", proxy), ssl_context=context)
    except (ImportError, ValueError) as problem:
        raise ConnectError(
            tr("The SOCKS proxy of the environment can't be used."), tr("Run: pip install 'nimble-otter[socks]'")
        ) from problem


def _origin(url: str) -> tuple[str, str, int | None]:
    parts = urlsplit(url)
    return parts.scheme, (parts.hostname or "").lower(), parts.port


def _is_public(url: str) -> bool:
    """Whether every address of its host is one of the public network."""
    try:
        found = socket.getaddrinfo(urlsplit(url).hostname or "", None, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        return True  # which is told when it is asked
    return all(ipaddress.ip_address(str(each[4][0]).partition("%")[0]).is_global for each in found)


def _followed(url: str, target: str, is_local: bool) -> str:
    """Where a redirect leads. Raises: ConnectError, where it leads where it should not."""
    found = urljoin(url, target)
    if urlsplit(found).scheme not in ("http", "https") or (url.startswith("https:") and found.startswith("http:")):
        raise ConnectError(
            tr("The service redirects to an address without TLS, or to none of the web."), tr("Check it first.")
        )
    if not is_local and not _is_public(found):
        raise ConnectError(tr("The service redirects into the local network."), tr("Nothing was asked there."))
    return found


def _mark_of(answer: urllib3.BaseHTTPResponse) -> Mapping[str, str]:
    marks = (("If-None-Match", "etag"), ("If-Modified-Since", "last-modified"))
    return {name: answer.headers[given] for name, given in marks if answer.headers.get(given)}


def _next_of(answer: urllib3.BaseHTTPResponse, url: str) -> str:
    """The next page by the Link header (RFC 8288)."""
    for part in answer.headers.get("link", "").split(","):
        target, _, more = part.strip().partition(">")
        if target.startswith("<") and any(word.strip().replace('"', "") == "rel=next" for word in more.split(";")):
            return urljoin(url, target[1:])
    return ""


def _wait_of(said: str, times: int) -> float:
    return min(_LONGEST_WAIT_S, float(said)) if said.isdigit() else min(_LONGEST_WAIT_S, 0.5 * 2**times)


def _refused(status: int, url: str) -> SourceError:
    path = urlsplit(url).path
    if status in (401, 403):
        return AuthError(
            tr("The service refused it ({status}).", status=status),
            tr("Give the password or token it asks for in the source."),
        )
    if status == 404:
        return ConnectError(tr("There is nothing at {path} (404).", path=path), tr("Check the address."))
    return ConnectError(
        tr("The service answered with status {status}.", status=status), tr("Try again later, or ask who runs it.")
    )


def _explained(problem: urllib3.exceptions.HTTPError, url: str) -> SourceError:
    host = urlsplit(url).hostname or tr("The service")
    name, said = type(problem).__name__, str(problem)
    is_refused = isinstance(problem, urllib3.exceptions.NewConnectionError)  # a kind of time-out to the library
    if isinstance(problem, urllib3.exceptions.TimeoutError) and not is_refused:
        return SourceTimeout(tr("{host} did not answer in time.", host=host), tr("Try again later."))
    if isinstance(problem, urllib3.exceptions.SSLError) or "certificate" in said.lower():
        return ConnectError(
            tr(
                "The certificate of {host} is not trusted: {reason}.",
                host=host,
                reason=said.rpartition(":")[2].strip(" )"),
            ),
            tr("Check the address, or have the certificate added to the system's."),
        )
    if isinstance(problem, urllib3.exceptions.NameResolutionError):
        return ConnectError(tr("There is no host {host}.", host=host), tr("Check the address and the network."))
    if isinstance(problem, (urllib3.exceptions.ProtocolError, urllib3.exceptions.DecodeError)) and url == "":
        return LostError(tr("The answer broke off, or could not be unpacked."), tr("Try again."))
    if isinstance(problem, urllib3.exceptions.LocationParseError):
        return ConnectError(tr("The address can't be used."), tr("Write it like https://host/levels.csv."))
    return ConnectError(
        tr("{host} can't be reached ({name}).", host=host, name=name), tr("Check the address and the network.")
    )
