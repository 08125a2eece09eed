"""The way to a server that is reached only from another machine: a port of this one, forwarded by the system's ssh, or
through a SOCKS proxy.

What ssh knows counts: the user's configuration with its aliases and jump hosts, the agent and the known keys of hosts.
Nothing is asked: a key that is not known, or one that is refused, is told with what to do in a terminal.
"""

from __future__ import annotations

import logging
import os
import re
import select
import shlex
import socket
import subprocess
import sys
import tempfile
import time
from typing import IO

from nimble_otter.errors import ConnectError, SourceTimeout
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.urls import SSH_OPTION, read_url, url_without, without_secrets
from nimble_otter.translation import tr

log = logging.getLogger(__name__)
PATIENCE_S = 25
_INSTALL = tr("Install the system's SSH client.")
_TRIES = 3
_SOCKS = "socks5://"
_READY = b"ready"
_LOCAL = "127.0.0.1"
_OPTIONS = (
    "BatchMode=yes", "ExitOnForwardFailure=yes", "ConnectTimeout=15", "ServerAliveInterval=15", "ServerAliveCountMax=3",
    "ControlMaster=no", "ControlPath=none", "PermitLocalCommand=yes", f"LocalCommand=echo {_READY.decode()}",
)  # fmt: skip
_SCRIPT = 'exec 3<&0; "$@" </dev/null & way=$!; { cat; kill $way; } <&3 >/dev/null 2>&1 & wait $way'
"""Ends ssh when its standard input ends, which it does with this process, however that ends."""
_FAILURES = (
    (
        "REMOTE HOST IDENTIFICATION HAS CHANGED",
        tr("{at} shows another host key than before."),
        tr("Find out why before you go on; then run in a terminal: ssh {at}"),
    ),
    (
        "Host key verification failed",
        tr("The host key of {at} is not known here."),
        tr("Run once in a terminal: ssh {at}"),
    ),
    ("Permission denied", tr("{at} refused this user and its keys."), tr("Try in a terminal: ssh {at}")),
    ("Too many authentication failures", tr("{at} refused this user and its keys."), tr("Try in a terminal: ssh {at}")),
    ("Could not resolve hostname", tr("There is no host {at}."), tr("Check the name, or its entry in ~/.ssh/config.")),
    ("Connection refused", tr("{at} refuses the connection."), tr("Check the host and the port of its ssh server.")),
    ("timed out", tr("{at} did not answer."), tr("Check the network, or try again.")),
    ("No route to host", tr("There is no way to {at}."), tr("Check the network.")),
    ("administratively prohibited", tr("{at} does not allow to forward ports."), tr("Ask who runs it.")),
)


def by_tunnel(url: str, form: AddressForm) -> tuple[str, Tunnel | None]:
    """Open the way to the server of a URL with the option `ssh`, the destination or proxy; `form` is how sources of its
    kind are addressed. Returns the URL to be used instead, and the tunnel, which is to be closed. A URL without the
    option is given back as it is. Raises: ConnectError, SourceTimeout."""
    parts = read_url(url)
    destination = dict(parts.options).get(SSH_OPTION, "") if parts is not None else ""
    if parts is None or not destination:
        return url, None
    from sqlalchemy.engine import make_url
    from sqlalchemy.exc import ArgumentError

    try:
        parsed = make_url(url_without(parts.without(SSH_OPTION)))
    except ArgumentError as problem:
        raise ConnectError(
            tr("The URL can't be used: {without_secrets}.", without_secrets=without_secrets(str(problem)))
        ) from problem
    port = parsed.port or form.port
    if not parsed.host or port is None or parsed.drivername.endswith("+srv"):
        raise ConnectError(
            tr("A source is reached through another machine only by the host and port of its server."),
            tr("Write both in its URL, or leave “Through” empty."),
        )
    is_proxy = destination.startswith(_SOCKS)
    tunnel = (ProxyTunnel if is_proxy else SshTunnel)(destination, parsed.host, port)
    tunnel.open()
    here = parsed.set(host=_LOCAL, port=tunnel.port)
    verified = form.tls.get("verified", {})
    if form.address_option and verified and verified.items() <= dict(parsed.query).items():
        here = parsed.set(port=tunnel.port)  # the certificate names the server, not this machine
        here = here.update_query_dict({form.address_option: _LOCAL})
    return here.update_query_dict(dict(form.forwarded)).render_as_string(hide_password=False), tunnel


class Tunnel:
    """A port here that leads to (`host`, `port`) as the machine `at` sees them; `hint` is what to look at when it does
    not. What goes that way says how."""

    def __init__(self, at: str, host: str, port: int, hint: str) -> None:
        self._at, self._hint = at, hint
        self._target = f"[{host}]:{port}" if ":" in host else f"{host}:{port}"
        self._process: subprocess.Popen[bytes] | None = None
        self._said: IO[bytes] | None = None
        self.port = 0

    def _command(self) -> list[str]:
        """What forwards the port, and says `ready` once it does."""
        raise NotImplementedError

    def _failure(self, said: str) -> Exception:
        """What is to be raised for what the command said, where it is not that the port is taken."""
        raise NotImplementedError

    def open(self) -> None:
        """Have ssh forward a free port. Raises: ConnectError, SourceTimeout."""
        for left in reversed(range(_TRIES)):
            self.port = _free_port()
            try:
                self._start()
                return
            except _PortTaken as problem:
                if not left:
                    raise ConnectError(tr("No port of this machine could be forwarded."), tr("Try again.")) from problem

    def ensure(self) -> None:
        """Open it again where ssh has ended: the line was lost, or the machine slept. Raises: ConnectError."""
        if self._process is not None and self._process.poll() is not None:
            log.info("the way through another machine had ended; it is opened again")
            self.close()
            self._start()

    @property
    def refusal(self) -> str:
        """What ssh said of the server behind it; "" where it reached it, or said nothing."""
        found = re.findall(rb"open failed: (?:connect failed: )?([^\r\n]+)", self._heard())
        return found[-1].decode("utf-8", "replace") if found else ""

    @property
    def way(self) -> str:
        """Where it leads, in words."""
        return tr("{at} can't reach {target}", at=self._at, target=self._target)

    def close(self) -> None:
        """End ssh."""
        process, self._process = self._process, None
        if process is not None:
            if process.stdin is not None:
                process.stdin.close()
            try:
                process.wait(3)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
            if process.stdout is not None:
                process.stdout.close()
        if self._said is not None:
            self._said.close()
            self._said = None

    def _start(self) -> None:
        self._said = tempfile.TemporaryFile()  # noqa: SIM115 - closed with the tunnel; a pipe could fill
        try:
            process = subprocess.Popen(
                ["sh", "-c", _SCRIPT, "sh", *self._command()], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
                stderr=self._said, start_new_session=True,
            )  # fmt: skip
        except OSError as problem:
            raise ConnectError(
                tr("The way can't be opened: {strerror}.", strerror=problem.strerror), _INSTALL
            ) from problem
        self._process = process
        assert process.stdout is not None
        until, heard = time.monotonic() + PATIENCE_S, b""
        while _READY not in heard:
            if not select.select([process.stdout], [], [], max(0.0, until - time.monotonic()))[0]:
                self.close()
                raise SourceTimeout(
                    tr("{at} did not answer within {patience_s} s.", at=self._at, patience_s=PATIENCE_S), self._hint
                )
            piece = os.read(process.stdout.fileno(), 4096)
            if not piece:
                process.wait(3)
                said = self._heard().decode("utf-8", "replace")
                self.close()
                is_taken = "Address already in use" in said or "cannot listen to port" in said
                raise _PortTaken(said) if is_taken else self._failure(said)
            heard += piece
        log.info("a way through another machine was opened")

    def _heard(self) -> bytes:
        if self._said is None:
            return b""
        size = os.fstat(self._said.fileno()).st_size
        return os.pread(self._said.fileno(), 65_536, max(0, size - 65_536))


class SshTunnel(Tunnel):
    """By the system's ssh to `destination`: [user@]host[:port], or a host of the user's ssh configuration. Raises:
    ConnectError for what is none."""

    def __init__(self, destination: str, host: str, port: int) -> None:
        match = re.fullmatch(r"(?:([^\s@-][^\s@]*)@)?([^\s@:-][^\s@:]*)(?::(\d{1,5}))?", destination.strip())
        if match is None:
            raise ConnectError(
                tr("{destination!r} is not an SSH destination.", destination=destination),
                tr("Write it like otter@bastion.example:22."),
            )
        user, name, own_port = match.groups()
        at = f"{user}@{name}" if user else name
        super().__init__(at, host, port, tr("Try in a terminal: ssh {at}", at=at))
        self._words = [*(["-p", own_port] if own_port else []), "--", at]

    def _command(self) -> list[str]:
        options = [word for option in _OPTIONS for word in ("-o", option)]
        command = shlex.split(os.environ.get("NIMBLE_OTTER_SSH", "ssh"))
        return [*command, "-N", "-T", *options, "-L", f"{_LOCAL}:{self.port}:{self._target}", *self._words]

    def _failure(self, said: str) -> Exception:
        if "not found" in said and "ssh" in said and ": 1:" in said:
            return ConnectError(tr("There is no ssh on this machine."), _INSTALL)
        for mark, message, hint in _FAILURES:
            if mark in said:
                return ConnectError(message.format(at=self._at), hint.format(at=self._at))
        lines = [line.strip() for line in said.splitlines() if line.strip()]
        return ConnectError(
            tr("ssh to {at} failed: {lines}.", at=self._at, lines=lines[-1] if lines else tr("it said nothing")),
            self._hint,
        )


class ProxyTunnel(Tunnel):
    """Through a SOCKS proxy, `socks5://host:port`. Raises: ConnectError for what is none."""

    def __init__(self, destination: str, host: str, port: int) -> None:
        match = re.fullmatch(rf"{_SOCKS}([\w.\-]+|\[[0-9A-Fa-f:.]+\])(?::(\d{{1,5}}))?/?", destination.strip())
        if match is None:
            raise ConnectError(
                tr("{without_secrets!r} is not a SOCKS proxy.", without_secrets=without_secrets(destination)),
                tr("Write it like socks5://proxy.example:1080; one that asks for a password can't be used."),
            )
        self._proxy, self._to = (match[1].strip("[]"), match[2] or "1080"), (host, str(port))
        super().__init__(tr("The proxy {proxy}", proxy=self._proxy[0]), host, port, tr("Check its host and port."))

    def _command(self) -> list[str]:
        return [sys.executable, "-m", "nimble_otter.sources.socks_forwarder", str(self.port), *self._proxy, *self._to]

    def _failure(self, said: str) -> Exception:
        if "no package" in said:
            return ConnectError(tr("SOCKS proxies need the package PySocks, which is not installed."),
                                tr("Run: pip install 'nimble-otter[socks]'"))  # fmt: skip
        line = next((line.strip() for line in reversed(said.splitlines()) if line.strip()), tr("it said nothing"))
        return ConnectError(f"{self.way}: {line.rstrip('.')}.", self._hint)


class _PortTaken(Exception):
    pass


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind((_LOCAL, 0))
        return int(probe.getsockname()[1])
