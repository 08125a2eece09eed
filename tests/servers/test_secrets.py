"""Where a password comes from when none is given, against servers that ask for one."""

import os
import pty
import subprocess
import sys
from dataclasses import replace

import keyring
import pytest

from nimble_otter.cli import main
from nimble_otter.errors import AuthError, ConnectError, PasswordMissing, SavedError
from nimble_otter.sources import Source, connect, secrets
from nimble_otter.sources.client_files import option_password, service_url
from nimble_otter.sources.saved import change_sources, load_sources
from nimble_otter.sources.secrets import password_from, password_in
from nimble_otter.sources.uri import ad_hoc_name

ASK = ["query", "--sql", "select count(*) as n from station", "--format", "csv"]


@pytest.fixture(params=["postgres", "mariadb"])
def signed(request):
    """The URL of a user who needs the password `river bank`."""
    server = request.getfixturevalue(request.param)
    if request.param == "postgres":
        server.ask("grant select on all tables in schema public to otter", "merrow")
    return server.url.replace("postgres@", "otter@").replace("root@", "otter@")


def command(home, *words, **more):
    env = {**os.environ, "HOME": str(home), **more.pop("env", {})}
    return subprocess.run([sys.executable, "-m", "nimble_otter.cli", *words], env=env, capture_output=True, text=True,
                          check=False, stdin=subprocess.DEVNULL, **more)  # fmt: skip


def test_it_is_missed_and_found(signed, tmp_path, monkeypatch, capsys):
    monkeypatch.setenv("HOME", str(tmp_path))
    with pytest.raises(PasswordMissing, match=r"without a password.*keyring.*source's page"):
        connect(Source("x", signed))
    with pytest.raises(AuthError) as caught:
        connect(Source("x", signed), "wrong")
    assert not isinstance(caught.value, PasswordMissing)
    file = tmp_path / "word"
    file.write_text("river bank\nmore\n")
    file.chmod(0o644)
    for more, said in ((), "--password-file or NIMBLE_OTTER_PASSWORD"), (["--password-file", str(file)], "chmod 600"):
        assert main([*ASK, "--source", signed, *more]) == 3
        told = capsys.readouterr()
        assert (told.out, said in told.err) == ("", True)
    file.chmod(0o600)
    assert main([*ASK, "--source", signed, "--password-file", str(file)]) == 0
    monkeypatch.setenv("NIMBLE_OTTER_PASSWORD", "river bank")
    assert main([*ASK, "--source", signed]) == 0
    assert [line for line in capsys.readouterr().out.splitlines() if line] == ["n", "42"] * 2


def test_a_terminal_is_asked_once(signed, tmp_path):
    for typed, code in (("river bank", 0), ("wrong", 3)):
        ours, theirs = pty.openpty()
        started = subprocess.Popen([sys.executable, "-m", "nimble_otter.cli", *ASK, "--source", signed], stdin=theirs,
                                   stdout=subprocess.PIPE, stderr=theirs, start_new_session=True,
                                   env={**os.environ, "HOME": str(tmp_path)})  # fmt: skip
        os.close(theirs)
        seen = b""
        while b"Password of merrow on 127.0.0.1: " not in seen:
            seen += os.read(ours, 1000)
        os.write(ours, f"{typed}\n".encode())
        rows, _ = started.communicate(timeout=60)
        os.close(ours)
        assert (started.returncode, rows) == (code, b"n\r\n42\r\n" if code == 0 else b"")


def test_files_of_the_servers_clients(postgres, mariadb, tmp_path):
    postgres.ask("grant select on all tables in schema public to otter", "merrow")
    passes, services = tmp_path / ".pgpass", tmp_path / ".pg_service.conf"
    passes.write_text("127.0.0.1:*:*:otter:river bank\n")
    passes.chmod(0o600)
    services.write_text(
        f"[river]\nhost=127.0.0.1\nport={postgres.port}\nuser=otter\ndbname=merrow\n# 100%\n[x]\nport=1"
    )
    options = tmp_path / ".my.cnf"
    options.write_text(
        f"!includedir /none\n[mysqld]\nskip-name-resolve\n[client]\nuser=otter\nport={mariadb.port}\n"
        "host=127.0.0.1\npassword='river bank'\n"
    )
    env = {"PGPASSFILE": str(passes), "PGSERVICEFILE": str(services)}
    for url in ("postgresql://?service=river", mariadb.url.replace("root@", "otter@")):
        told = command(tmp_path, *ASK, "--source", url, env=env)
        assert told.stdout == "n\n42\n", told.stderr
    told = command(tmp_path, *ASK, "--source", "postgresql://?service=sea", env=env)
    assert (told.returncode, "There are river, x." in told.stderr) == (3, True)


def test_a_pull_file_names_no_service_and_no_other_host_gets_a_password(tmp_path, monkeypatch):
    with pytest.raises(ConnectError, match="service of the URL is not taken"):
        connect(Source("x", "postgresql://?service=river"))
    monkeypatch.setenv("HOME", str(tmp_path))
    (tmp_path / ".my.cnf").write_text("[client]\npassword=word\nuser=me\n")
    known = {"mysql://me@localhost/d": "word", "mariadb://127.0.0.1:3306/d": "word", "mysql://you@localhost": None,
             "mysql://me@db.example": None, "mysql://me@localhost:3307": None,
             "postgresql://me@localhost": None}  # fmt: skip
    assert {url: option_password(url) for url in known} == known
    (tmp_path / ".my.cnf").write_bytes(b"\xff[")
    assert option_password("mysql://me@localhost") is None


@pytest.mark.parametrize(
    ("url", "said", "wanted"),
    [
        ("postgresql://?service=s", "host=h\nport=7\nuser=u@x\npassword=a/b\ndbname=d e", "postgresql://u%40x:a%2Fb@h:7/d%20e"),
        ("postgresql://me@other:8/z?service=s", "host=h\nport=7\nuser=u\ndbname=d", "postgresql://me@other:8/z"),
        ("postgresql:///?service=s", "host=/run/pg\nsslmode=require", "postgresql:///?host=%2Frun%2Fpg&sslmode=require"),
        ("postgresql://?service=s", "host=::1", "postgresql://[::1]/"),
        ("postgresql://h/d", "", "postgresql://h/d"),
        ("mysql://h/d?service=s", "host=x", "mysql://h/d?service=s"),
    ],
)  # fmt: skip
def test_what_a_service_says_stands_in_the_url(url, said, wanted, tmp_path, monkeypatch):
    (tmp_path / "services").write_text(f"[s]\n{said}\n")
    monkeypatch.setenv("PGSERVICEFILE", str(tmp_path / "services"))
    given = service_url(url)
    assert sorted(given.partition("?")[2].split("&")) == sorted(wanted.partition("?")[2].split("&"))
    assert given.partition("?")[0] == wanted.partition("?")[0]


def test_a_command_gives_the_password_at_each_connection_and_is_kept_without_it(signed, tmp_path, capsys):
    script = tmp_path / "token"
    script.write_text('#!/bin/sh\necho "river $1"\necho more\n')
    script.chmod(0o700)
    source = Source("x", signed, password_command=f"'{script}' bank")
    change_sources(tmp_path / "s.toml", lambda _: [source])
    assert load_sources(tmp_path / "s.toml") == [source]
    assert "river bank" not in (tmp_path / "s.toml").read_text()
    connect(source).close()
    assert main(["sources", "add", "made", signed, "--password-command", source.password_command]) == 0
    assert main(["query", "--source", "made", *ASK[1:]]) == 0
    assert "42" in capsys.readouterr().out
    with pytest.raises(AuthError):
        connect(replace(source, password_command=f"'{script}' wrong"))


@pytest.mark.parametrize(
    ("command", "says"),
    [
        ("/nowhere/token", "No such file"), ("false", "exit code 1"), ("true", "printed nothing"),
        ("echo 'x", "can't be run"), ("printf '\\377'", "can't be run"), ("  ", "can't be run"),
        ("sh -c 'echo s3cret; exit 3'", "exit code 3"), ("sleep 5", "within 0.2 s"),
    ],
)  # fmt: skip
def test_a_password_command_that_fails_is_told_without_what_it_printed(monkeypatch, command, says):
    monkeypatch.setattr(secrets, "_COMMAND_S", 0.2)
    with pytest.raises(ConnectError, match=says) as told:
        password_from(command)
    assert "s3cret" not in str(told.value)


def test_names_of_sources_that_are_only_given():
    named = {"postgresql://me@db.example:5/levels?sslmode=require": "levels on db.example", "mysql://h": "h",
             "mongodb://a:1,b:2/reports": "reports on a:1,b:2", "duckdb:///tmp/x.db": "x.db",
             "oracle://me@h:1521/x": "x on h", "snowflake://me@h:1521/x": "x on h:1521"}  # fmt: skip
    assert {url: ad_hoc_name(url) for url in named} == named


def test_the_keyring_keeps_moves_and_forgets(monkeypatch):
    kept = {}
    monkeypatch.setattr(secrets, "_memory", {})
    monkeypatch.setattr(keyring, "set_password", lambda *given: kept.__setitem__(given[1], given[2]))
    monkeypatch.setattr(keyring, "get_password", lambda _, url: kept.get(url))
    monkeypatch.setattr(keyring, "delete_password", lambda _, url: kept.pop(url))
    assert secrets.remember("a@b", "word")
    secrets._memory.clear()
    assert secrets.look_up("a@b") == ("word", "")
    secrets.forget("a@b")
    secrets.forget("never@there")
    assert (kept, secrets.look_up("a@b")) == ({}, (None, ""))
    secrets.hold("a@b", "next")
    assert (secrets.held("a@b"), secrets.held("b@c")) == ("next", None)


def test_a_file_that_holds_no_password(tmp_path):
    for made in (tmp_path / "none", tmp_path):
        with pytest.raises(SavedError):
            password_in(made)
    (tmp_path / "word").write_text("word\n")
    for mode in (0o640, 0o604, 0o620):
        (tmp_path / "word").chmod(mode)
        with pytest.raises(SavedError, match="chmod 600"):
            password_in(tmp_path / "word")
    (tmp_path / "odd").write_bytes(b"\xff\n")
    (tmp_path / "odd").chmod(0o600)
    with pytest.raises(SavedError, match="UTF-8"):
        password_in(tmp_path / "odd")
