"""Folders of their own for every test, and small databases with hostile names."""

import faulthandler
import gc
import os
import sys
from collections import Counter
from contextlib import contextmanager

os.environ["NIMBLE_OTTER_LANGUAGE"] = "en"  # whatever the desktop speaks; read when the first of ours is imported

import pytest
from hypothesis import HealthCheck, settings

from nimble_otter.log import stop_log
from nimble_otter.sources import Source, connect, mysql_client
from nimble_otter.sources.drivers import mariadb as mariadb_driver
from tests import servers
from tests.files import sqlite_file
from tests.servers.survey import copy_survey

# no deadlines on machines that are shared; the same examples each time where a build depends on it
settings.register_profile(
    "house", deadline=None, suppress_health_check=[HealthCheck.too_slow], derandomize=bool(os.environ.get("CI"))
)
settings.load_profile("house")


if os.environ.get("NIMBLE_OTTER_TEST_PYMYSQL"):  # the suites of MariaDB with the client that needs no compiler
    mariadb_driver.client_for = lambda scheme: mysql_client.Pymysql


@pytest.fixture(autouse=True)
def home(tmp_path_factory, monkeypatch):
    """Everything of ours goes to a folder of the test."""
    folder = tmp_path_factory.mktemp("home")
    monkeypatch.setenv("NIMBLE_OTTER_HOME", str(folder))
    monkeypatch.setenv("PYTHON_KEYRING_BACKEND", "keyring.backends.fail.Keyring")
    yield folder
    stop_log()
    if not gc.isenabled():  # since a window was there, only its timer collects
        gc.collect(1)


@pytest.fixture(scope="session")
def survey(tmp_path_factory):
    """The demo's database, written once; tests that write take `own_survey`."""
    from nimble_otter.demo import prepare

    return prepare(tmp_path_factory.mktemp("survey"), readings=4200)


@pytest.fixture
def own_survey(survey, tmp_path):
    path = tmp_path / "own.sqlite"
    path.write_bytes(survey.read_bytes())
    return path


@pytest.fixture
def base(tmp_path):
    """A function that runs a script in a new SQLite file and gives its path."""

    def make(script, name="base.sqlite"):
        path = tmp_path / name
        with sqlite_file(path) as connection:
            connection.executescript(script)
        connection.close()
        return path

    return make


@pytest.fixture
def open_base():
    """Connections that are closed at the end."""
    opened = []

    def open_(where):
        opened.append(connect(Source("test", where if "://" in str(where) else f"sqlite:///{where}")))
        return opened[-1]

    yield open_
    for connection in opened:
        connection.close()


@pytest.fixture(scope="session")
def reports():
    """The stand-in document server with the demo's collections."""
    from nimble_otter.demo.reports import make_collections
    from nimble_otter.demo.standin import StandIn

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("nimble_otter.demo.reports.REPORTS", 2000)
        server = StandIn("field_reports", make_collections())
    yield server
    server.close()


@pytest.fixture(scope="session")
def documents(reports):
    connection = connect(Source("reports", reports.url))
    yield connection
    connection.close()


@contextmanager
def started(kind):
    """A real server for the session; where its programs are missing the test fails in CI and is skipped elsewhere."""
    try:
        server = kind()
    except servers.NoServer as missing:
        if os.environ.get("CI"):
            raise
        pytest.skip(f"{missing} is not installed")
    try:
        yield server
    finally:
        server.close()


@pytest.fixture(scope="session")
def postgres(survey):
    with started(servers.Postgres) as server:
        copy_survey(survey, server.url.replace("postgresql:", "postgresql+psycopg:"))
        server.ask("analyze", "merrow")
        yield server


@pytest.fixture(scope="session")
def mariadb(survey):
    with started(servers.Mariadb) as server:
        copy_survey(survey, server.url.replace("mariadb:", "mariadb+mysqldb:"))
        yield server


@pytest.fixture(scope="session")
def firebird():
    with started(servers.Firebird) as server:
        yield server


@pytest.fixture(scope="session")
def document_server():
    """A server of the document protocol that is not our stand-in, with some of the demo's reports."""
    from pymongo import MongoClient

    from nimble_otter.demo.reports import make_collections

    with started(servers.Documents) as server:
        with MongoClient(server.url) as client:
            client.merrow.report.insert_many(make_collections()["report"][:3000])
        yield server


_LONG = {"test_write_back": 300, "test_upstream": 300, "test_columns": 100, "test_couch": 100, "test_journey": 45,
         "test_drawers": 25}  # fmt: skip
"""Files of few tests that take long, with how many tests they count for."""


def pytest_collection_modifyitems(items):
    """Files of many tests first, so that none is left alone at the end; those of the window, after which garbage is
    collected more rarely, come late by their number."""
    counts = Counter(item.path for item in items)
    items.sort(key=lambda item: (-_LONG.get(item.path.stem, counts[item.path]), item.path))


@pytest.hookimpl(trylast=True)
def pytest_configure(config):
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    # a crash shows the thread it came from, not pages of those that wait
    faulthandler.enable(os.dup(sys.__stderr__.fileno()), all_threads=False)


_HOSTILE = """
create table "or""der by" (id integer primary key, "select" text, "Größe ü" real, "a b" integer, "it's" text,
  data blob);
insert into "or""der by" values (1, 'x', 1.5, 9223372036854775807, 'quo''te', x'00ff'), (2, null, null, null, '', null),
  (3, 'tab	and
line', -0.1, -9223372036854775808, 'ü€', x'');
create view "v iew" as select * from "or""der by";
"""


@pytest.fixture
def hostile(base):
    """A table whose names hold spaces, quotes, keywords and letters beyond ASCII."""
    return base(_HOSTILE, "hostile name's.sqlite")
