"""A server that asks for the password in clear text over a line without TLS does not get it, unless that is allowed."""

import socket
import struct
import threading
from contextlib import suppress

import pytest

from nimble_otter.errors import AuthError, OtterError
from nimble_otter.sources import Source, connect

WORD = b"s3cr3t-word"


class Greedy:
    """A server of one protocol that asks for the password as it is, and keeps all that it hears."""

    def __init__(self, play):
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port, self.heard, self._play = self._listener.getsockname()[1], b"", play
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self):
        with suppress(OSError):
            while True:
                line, _ = self._listener.accept()
                line.settimeout(5)
                with suppress(OSError, ValueError), line:
                    self._play(self, line)

    def hear(self, line):
        data = line.recv(65536)
        self.heard += data
        if not data:
            raise ValueError("gone")
        return data

    def close(self):
        self._listener.close()


def postgresql(server, line):
    data = server.hear(line)
    if data[4:8] == struct.pack("!I", 80877103):  # asked for TLS
        line.sendall(b"N")
        server.hear(line)
    line.sendall(b"R" + struct.pack("!II", 8, 3))  # AuthenticationCleartextPassword
    server.hear(line)
    line.sendall(b"E" + struct.pack("!I", 24) + b"SFATAL\0C28P01\0Mno\0\0\0\0"[:20])


def _greet(server, line):
    greeting = b"\x0a11.0.0-MariaDB\0" + struct.pack("<I", 7) + b"abcdefgh\0" + b"\xff\xf7\x21\x02\0"
    greeting += struct.pack("<H", 0x003F | 0x8008) + b"\x15" + b"\0" * 10 + b"ijklmnopqrst\0mysql_native_password\0"
    line.sendall(struct.pack("<I", len(greeting))[:3] + b"\0" + greeting)
    server.hear(line)


def mariadb(server, line):
    _greet(server, line)
    switch = b"\xfemysql_clear_password\0"
    line.sendall(struct.pack("<I", len(switch))[:3] + b"\x02" + switch)
    server.hear(line)
    error = b"\xff" + struct.pack("<H", 1045) + b"#28000no"
    line.sendall(struct.pack("<I", len(error))[:3] + b"\x04" + error)


def thief(server, line):
    """Takes the login, and answers every question with one for a file of the client's machine."""
    _greet(server, line)
    line.sendall(b"\x07\0\0\x02\0\0\0\x02\0\0\0")
    while True:
        server.hear(line)
        line.sendall(b"\x0c\0\0\x01\xfb" + b"/etc/passwd")


def test_a_server_gets_no_file_of_this_machine():
    server = Greedy(thief)
    with pytest.raises(OtterError):
        connect(Source("x", f"mariadb://u:p@127.0.0.1:{server.port}/db"))
    server.close()
    assert b"select" in server.heard.lower() or b"set " in server.heard.lower()
    assert b"root:" not in server.heard


@pytest.mark.parametrize(("scheme", "play"), [("postgresql", postgresql), ("mariadb", mariadb)], ids=["pg", "maria"])
def test_a_password_does_not_go_over_an_open_line_in_clear(scheme, play):
    for allowed in (False, True):
        server = Greedy(play)
        source = Source("x", f"{scheme}://u:{WORD.decode()}@127.0.0.1:{server.port}/db", clear_password=allowed)
        with pytest.raises(OtterError) as refused:
            connect(source)
        server.close()
        assert (WORD in server.heard) == allowed, server.heard
        if not allowed:
            assert isinstance(refused.value, AuthError), refused.value
            assert "clear text" in refused.value.message


def test_the_document_drivers_clear_way_needs_tls():
    with pytest.raises(AuthError, match="clear text"):
        connect(Source("x", "mongodb://u:p@127.0.0.1:1/db?authMechanism=PLAIN"))
