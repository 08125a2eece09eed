"""Packages that may be absent: what is used in their place, and what is said."""

import ssl
import subprocess
import sys

import pytest

from nimble_otter.demo import scene
from nimble_otter.errors import ConnectError, OtterError
from nimble_otter.sources import Source, connect, mysql_client
from nimble_otter.sources.mysql_client import Mysqlclient, Pymysql, client_for


def without(monkeypatch, module, *names):
    monkeypatch.setattr(module, "find_spec", lambda name: None if name in names else object())


def test_mariadb_is_reached_by_what_is_installed(monkeypatch):
    assert client_for("mariadb") is client_for("mysql+mysqldb") is Mysqlclient
    assert client_for("mysql+pymysql") is Pymysql
    without(monkeypatch, mysql_client, "MySQLdb")
    assert client_for("mariadb") is Pymysql
    with pytest.raises(ConnectError, match=r"nimble-otter\[fast-mariadb\]"):
        client_for("mariadb+mysqldb")
    without(monkeypatch, mysql_client, "MySQLdb", "pymysql")
    with pytest.raises(ConnectError, match="not installed"):
        client_for("mariadb")


def test_what_the_plain_client_is_told():
    """No password as it is, unless TLS is sure or the user allowed it; TLS as the URL has it."""
    told = Pymysql.options({}, False)
    assert set(told["auth_plugin_map"]) == {b"mysql_clear_password", b"dialog"}
    assert told["ssl_disabled"]
    assert not told["local_infile"]
    for refused in told["auth_plugin_map"].values():
        with pytest.raises(Exception, match="restricted_auth"):
            refused(None).authenticate(b"")
    assert "auth_plugin_map" not in Pymysql.options({"ssl_mode": "REQUIRED"}, True)
    checks = {"REQUIRED": (ssl.CERT_NONE, False), "VERIFY_CA": (ssl.CERT_REQUIRED, False),
              "VERIFY_IDENTITY": (ssl.CERT_REQUIRED, True)}  # fmt: skip
    for mode, (wanted, names) in checks.items():
        context = Pymysql.options({"ssl_mode": mode}, True)["ssl"]
        assert (context.verify_mode, context.check_hostname) == (wanted, names)
    with pytest.raises(ConnectError, match="TLS failed"):
        Pymysql.options({"ssl_mode": "VERIFY_CA", "ssl_ca": "/nowhere"}, True)


def test_the_demo_without_its_server_says_what_to_install(monkeypatch, tmp_path):
    monkeypatch.setattr(scene, "_standin", None)
    without(monkeypatch, scene, "mongomock")
    with pytest.raises(OtterError, match=r"nimble-otter\[demo\]"):
        scene.resolve(scene.REPORTS, tmp_path)


@pytest.mark.parametrize(("url", "package"), [("duckdb:///x.duckdb", "duckdb"), ("firebird://h/x.fdb", "firebird"),
                                              ("spark://h/d", "spark"),
                                              ("clickhouse://h/d", "clickhouse")])  # fmt: skip
def test_a_source_whose_package_is_absent_names_the_extra(monkeypatch, url, package):
    for name in (package, f"{package}.driver", "thrift_sasl", "clickhouse_connect"):
        monkeypatch.setitem(sys.modules, name, None)
    with pytest.raises(ConnectError, match=rf"nimble-otter\[{package}\]"):
        connect(Source("x", url))


def test_the_program_starts_without_them():
    hidden = "import sys; sys.modules.update(dict.fromkeys(('MySQLdb', 'mongomock', 'pyarrow', 'duckdb', 'firebird')))"
    told = subprocess.run([sys.executable, "-c", f"{hidden}; import nimble_otter.cli as c; c.main(['--version'])"],
                          capture_output=True, text=True, check=False)  # fmt: skip
    assert told.stdout.startswith("nimble-otter"), told.stderr
