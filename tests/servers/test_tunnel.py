"""The way through SSH, against a real server of it on this machine that gives nobody a shell."""

import getpass
import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path
from urllib.parse import quote

import pytest

from nimble_otter.demo.entity_service import EntityService
from nimble_otter.errors import ConnectError, SourceError
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.sources.marks import reach_of, same_reach
from nimble_otter.sources.source import driver_for
from nimble_otter.sources.tunnel import SshTunnel, by_tunnel
from nimble_otter.sources.uri import parts_of, url_of

SSHD = "/usr/sbin/sshd"


def is_open(port):
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0


class Bastion:
    """An SSH server on loopback, and a configuration of the client that knows it as `bastion`."""

    def __init__(self, folder):
        if not Path(SSHD).exists():
            if os.environ.get("CI"):
                raise AssertionError("openssh-server is missing")
            pytest.skip("openssh-server is missing")
        self.folder = folder
        for name in ("host", "user", "other"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", folder / name], check=True)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        (folder / "authorized").write_bytes((folder / "user.pub").read_bytes())
        (folder / "known").write_text(f"[127.0.0.1]:{self.port} {(folder / 'host.pub').read_text()}")
        (folder / "another").write_text(f"[127.0.0.1]:{self.port} {(folder / 'other.pub').read_text()}")
        (folder / "server").write_text(
            f"Port {self.port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nPidFile {folder}/pid\n"
            f"AuthorizedKeysFile {folder}/authorized\nUsePAM no\nStrictModes no\nPasswordAuthentication no\n"
            "ForceCommand /bin/false\n"
        )
        entry = "Host {}\n HostName 127.0.0.1\n Port {}\n User {}\n IdentityFile {}\n IdentitiesOnly yes\n" \
                " UserKnownHostsFile {}\n GlobalKnownHostsFile /dev/null\n"  # fmt: skip
        user = getpass.getuser()
        (folder / "client").write_text("".join([
            entry.format("bastion", self.port, user, folder / "user", folder / "known"),
            entry.format("stranger", self.port, user, folder / "user", folder / "nobody"),
            entry.format("changed", self.port, user, folder / "user", folder / "another"),
            entry.format("locked", self.port, user, folder / "other", folder / "known"),
            entry.format("silent", 1, user, folder / "user", folder / "known"),
        ]))  # fmt: skip
        Path("/run/sshd").mkdir(exist_ok=True)
        self.process = subprocess.Popen([SSHD, "-D", "-e", "-f", folder / "server"], stderr=subprocess.DEVNULL)
        until = time.monotonic() + 10
        while not is_open(self.port) and time.monotonic() < until:
            time.sleep(0.05)


@pytest.fixture(scope="module")
def bastion(tmp_path_factory):
    made = Bastion(tmp_path_factory.mktemp("ssh"))
    yield made
    made.process.terminate()
    made.process.wait()


@pytest.fixture(autouse=True)
def own_ssh(bastion, monkeypatch):
    monkeypatch.setenv("NIMBLE_OTTER_SSH", f"ssh -F {bastion.folder}/client")


def by(url, destination="bastion"):
    return f"{url}{'&' if '?' in url else '?'}ssh={quote(destination, safe='')}"


@pytest.fixture(params=["postgres", "mariadb", "document_server"])
def server_url(request):
    return request.getfixturevalue(request.param).url


def asked(connection):
    if connection.dialect.is_documents:
        return fetch(connection, Request("{}", language="native", collection="report", limit=5)).table.rows
    return fetch(connection, Request("select count(*) as n from station")).table.columns[0].values()[0]


def test_a_server_is_reached_lost_and_reached_again(server_url):
    direct = connect(Source("direct", server_url))
    wanted = asked(direct)
    direct.close()
    connection = connect(Source("behind", by(server_url)))
    tunnel = connection._tunnel
    assert (asked(connection), {t.name for t in connection.tables()} != set()) == (wanted, True)
    os.killpg(tunnel._process.pid, signal.SIGTERM)
    tunnel._process.wait(5)
    if connection.dialect.is_documents:  # its client opens connections by itself, and knows of no tunnel
        tunnel.ensure()
    for _ in range(3):
        try:
            assert asked(connection) == wanted
            break
        except SourceError:
            continue
    else:
        raise AssertionError("it was not reached again")
    process = tunnel._process
    connection.close()
    assert process.poll() is not None
    assert not is_open(tunnel.port)


@pytest.mark.parametrize(
    ("destination", "says"),
    [
        ("stranger", "host key of stranger is not known here.*ssh stranger"),
        ("changed", "changed shows another host key than before"),
        ("locked", "locked refused this user and its keys.*ssh locked"),
        ("silent", "silent refuses the connection"),
        ("no.such.host.invalid", "There is no host no.such.host.invalid"),
        ("-oProxyCommand=touch x", "is not an SSH destination"), ("a b", "is not an SSH destination"),
    ],
)  # fmt: skip
def test_what_keeps_from_the_way_is_told_in_plain_words(postgres, destination, says):
    with pytest.raises(ConnectError, match=says):
        connect(Source("x", by(postgres.url, destination)))


def test_a_server_that_is_not_there_behind_the_way_is_told_apart(postgres):
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        free = probe.getsockname()[1]
    with pytest.raises(ConnectError, match=rf"bastion can't reach 127.0.0.1:{free}: Connection refused"):
        connect(Source("x", by(f"postgresql://postgres@127.0.0.1:{free}/merrow")))
    for url in ("sqlite:///x.db?ssh=bastion", "mongodb+srv://x/y?ssh=bastion"):
        with pytest.raises(ConnectError):
            connect(Source("x", url))


def test_a_machine_without_ssh_says_so(postgres, monkeypatch):
    monkeypatch.setenv("NIMBLE_OTTER_SSH", "no-such-ssh")
    with pytest.raises(ConnectError, match="There is no ssh on this machine"):
        connect(Source("x", by(postgres.url)))


@pytest.mark.parametrize("end", [signal.SIGKILL, signal.SIGTERM])
def test_ssh_ends_with_the_program_however_that_ends(postgres, end):
    code = (
        "import sys, time\nfrom nimble_otter.sources import Source, connect\n"
        f"c = connect(Source('x', {by(postgres.url)!r}))\nprint(c._tunnel._process.pid, c._tunnel.port, flush=True)\n"
        "time.sleep(60)\n"
    )
    with subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True) as process:
        group, port = map(int, process.stdout.readline().split())
        process.send_signal(end)
    until = time.monotonic() + 10
    while time.monotonic() < until:
        try:
            os.killpg(group, 0)
        except ProcessLookupError:
            break
        time.sleep(0.05)
    else:
        raise AssertionError("ssh goes on")
    assert not is_open(port)


def test_a_url_is_left_alone_without_the_option_and_names_the_certificates_host_with_it(postgres):
    form = driver_for(postgres.url).address
    assert by_tunnel(postgres.url, form) == (postgres.url, None)
    port = reach_of(postgres.url)
    verified = f"postgresql://postgres@localhost:{next(iter(port.places))[1]}/merrow?sslmode=verify-full"
    url, tunnel = by_tunnel(by(verified), form)
    assert ("@localhost:" in url, "hostaddr=127.0.0.1" in url, f":{tunnel.port}/" in url) == (True, True, True)
    tunnel.close()
    tunnel.close()


def test_local_means_the_machine_in_between():
    url = "mariadb://otter@localhost/merrow"
    assert not same_reach(reach_of(url), reach_of(by(url)))
    assert not same_reach(reach_of(by(url, "a")), reach_of(by(url, "b")))
    assert same_reach(reach_of(by(url)), reach_of(by(url.replace("localhost", "127.0.0.1:3306"))))
    assert same_reach(
        reach_of(url.replace("localhost", "db.example")), reach_of(by(url.replace("localhost", "db.example")))
    )


def test_fields_and_uri_agree():
    for destination in ("bastion", "otter@bastion.example:2222"):
        url = by("postgresql://otter@db.example:5432/merrow", destination)
        parts = parts_of(url)
        assert (parts.ssh, url_of(parts), parts.rest) == (destination, url, ())
        assert Source("x", url).url == url
    assert SshTunnel("otter@bastion.example:2222", "::1", 5)._words == ["-p", "2222", "--", "otter@bastion.example"]


# --- SOCKS ---------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def proxy(bastion):
    """A SOCKS proxy of OpenSSH's on loopback, by its port."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    words = ["ssh", "-F", f"{bastion.folder}/client", "-N", "-D", f"127.0.0.1:{port}", "bastion"]
    process = subprocess.Popen(words, stderr=subprocess.DEVNULL)
    until = time.monotonic() + 10
    while not is_open(port) and time.monotonic() < until:
        time.sleep(0.05)
    yield port
    process.terminate()
    process.wait()


def test_a_server_is_reached_through_a_socks_proxy(server_url, proxy):
    url = by(server_url, f"socks5://127.0.0.1:{proxy}")
    connection = connect(Source("s", url))
    try:
        assert connection._tunnel.port != proxy
        names = {table.name for table in connection.tables()}
        if "report" not in names:
            first = fetch(connection, Request("select reading_id from reading", limit=2000)).table
            again = fetch(connection, Request("select count(*) as n from reading")).table
            assert (first.rows, again.columns[0].values()[0] >= 2000) == (2000, True)
        way = connection._tunnel._process
    finally:
        connection.close()
    assert way.poll() is not None


def test_what_a_socks_proxy_can_t_do_is_said(postgres, proxy):
    for destination, says in (
        ("socks5://user:hush@h:1", "holds a secret"), ("socks5://h:x", "not a SOCKS proxy"),
        ("socks5://127.0.0.1:1", "The proxy 127.0.0.1 can't reach"),
    ):  # fmt: skip
        with pytest.raises(ConnectError, match=says) as caught:
            connect(Source("s", by(postgres.url, destination)))
        assert "hush" not in f"{caught.value} {Source('s', by(postgres.url, destination)).url}"
    with pytest.raises(ConnectError, match=r"can't reach 127\.0\.0\.1:1: .*(refused|rejected|failure|closed)"):
        connect(Source("s", by("postgresql://u@127.0.0.1:1/d", f"socks5://127.0.0.1:{proxy}")))


def test_a_web_service_is_reached_through_the_environment_s_proxy(survey, proxy, monkeypatch):
    service = EntityService(survey)
    try:
        monkeypatch.setenv("http_proxy", f"socks5://127.0.0.1:{proxy}")
        monkeypatch.setenv("no_proxy", "")
        connection = connect(Source("s", service.url))
        assert fetch(connection, Request("select * from river")).table.rows > 3
        connection.close()
        monkeypatch.setenv("http_proxy", "socks5://127.0.0.1:1")
        with pytest.raises(ConnectError, match="can't be reached"):
            connect(Source("s", service.url))
    finally:
        service.close()
