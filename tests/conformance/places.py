"""Servers that rows are written to, of every kind: a connection, a table made there, and the server's own client."""

import itertools
import re
import subprocess

import pytest

from nimble_otter.sources import Request
from nimble_otter.stop import StopToken
from tests.files import sqlite_file
from tests.unit.test_changes import Bench

COUNT = itertools.count()


@pytest.fixture(params=["sqlite", "postgresql", "mariadb"])
def place(request, tmp_path, open_base):
    yield from opened(request, tmp_path, open_base)


def opened(request, tmp_path, open_base):
    """A server to write to: its kind, a connection, and a function that runs a text with the server's own client."""
    if request.param == "sqlite":
        path = tmp_path / "own.sqlite"
        path.touch()
        yield Place("sqlite", open_base(path), str(path))
        return
    if request.param == "duckdb":
        import duckdb

        duckdb.connect(tmp_path / "own.duckdb").close()
        made = Place("duckdb", open_base(f"duckdb:///{tmp_path / 'own.duckdb'}"), str(tmp_path / "own.duckdb"))
        made.do("create type mood as enum ('low', 'high')")
        made.do("create sequence numbers")
        yield made
        return
    server = request.getfixturevalue({"postgresql": "postgres", "pg8000": "postgres"}.get(request.param, request.param))
    url = server.url.replace("postgresql:", "postgresql+pg8000:") if request.param == "pg8000" else server.url
    made = Place(request.param, open_base(url), url, server)
    if made.kind == "postgresql" and not server.ask("select 1 from pg_type where typname = 'mood'", "merrow"):
        server.ask("create type mood as enum ('low', 'high')", "merrow")
    yield made
    made.clean()


class Place:
    def __init__(self, kind, connection, url, server=None):
        self.kind, self.connection, self.url, self.server, self.made = kind, connection, url, server, []

    def quote(self, name):
        if self.kind == "firebird" and re.fullmatch(r"[a-z]+", name) and name != "select":
            return name  # which is in upper case there, as every name in these tests without quotes is
        mark = "`" if self.kind == "mariadb" else '"'
        return mark + name.replace(mark, mark * 2) + mark

    def do(self, text):
        if self.kind == "firebird" and (found := re.match(r"(insert into .*? values )\((.*)\)$", text)):
            for row in found[2].split("), ("):  # it takes one row at a time
                self.connection.execute(Request(f"{found[1]}({row})"), StopToken())
            return None
        return self.connection.execute(Request(text), StopToken())

    def table(self, columns, extra="", name=None):
        """CREATE TABLE with columns as pairs of name and type."""
        name = name or f"wild {next(COUNT)}\"'"
        parts = ", ".join(f"{self.quote(n)} {t}" for n, t in columns)
        self.do(f"create table {self.quote(name)} ({parts}{extra})")
        self.made.append(name)
        self.connection._known.clear()
        return name

    def clean(self):
        for name in reversed(self.made):
            self.do(f"drop table {self.quote(name)}")
        self.made.clear()

    def bench(self, name, text=None, **more):
        return Bench(self.connection, text or f"select * from {self.quote(name)}", **more)

    def client(self, text):
        """Run a script with the server's own client program."""
        if self.kind == "sqlite":
            with sqlite_file(self.url) as base:
                base.executescript(text)
            base.close()
            return
        if self.kind == "firebird":
            self.server.script(text)
            return
        if self.kind == "duckdb":
            import duckdb

            self.connection._engine.dispose()
            with duckdb.connect(self.url) as base:
                base.execute(text)
            return
        port, word = str(self.server.port), "mariadb" if self.kind == "mariadb" else "psql"
        options = {
            "psql": ["-q", "-h", "127.0.0.1", "-p", port, "-U", "postgres", "-v", "ON_ERROR_STOP=1", "-d", "merrow"],
            "mariadb": [
                "--no-defaults",
                "-h",
                "127.0.0.1",
                "-P",
                port,
                "-u",
                "root",
                "--default-character-set=utf8mb4",
                "merrow",
            ],
        }[word]
        done = subprocess.run([word, *options], input=text.encode(), capture_output=True, timeout=60)
        assert done.returncode == 0, done.stderr.decode()[-2000:]
