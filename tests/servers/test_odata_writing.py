"""Changes written to an OData service: what its database holds afterwards, against a model in plain Python."""

import datetime as dt
import json
import sqlite3
import subprocess
from contextlib import closing
from urllib.request import urlopen

import pytest
import sqlglot
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nimble_otter.changes import Action, Guard, make_plan, read_value, rehearse, write, write_each
from nimble_otter.demo.entity_service import EntityService, etag_of
from nimble_otter.errors import (
    ChangeError,
    LostError,
    NoTransactions,
    OtterError,
    OutcomeUnknown,
    QueryError,
    SourceError,
)
from nimble_otter.send.transfer import Transfer, transfer
from nimble_otter.sources import Request, Source, connect, fetch, odata, odata_reading
from nimble_otter.sources.drivers import odata as driver
from nimble_otter.sources.odata_changes import json_text, parts_of
from tests.conformance.test_transfer import rows_of
from tests.proofs import how_many, proven
from tests.servers.test_odata_asking import PROGRAM, PYTHON
from tests.unit.test_changes import Bench

WORDS = st.text(st.characters(codec="utf-8", exclude_characters="\x00"), max_size=9) | st.sampled_from(
    ["it's", "a/b", "100%", "a,b=c", "(x)", "", " pad ", "--outer--", "\r\n\r\n--changes--", "ÄÖ", "#", "?$top=1"]
)
VALUES = {
    "name text": WORDS, "size real": st.floats(-1e12, 1e12, allow_nan=False).map(repr),
    "number integer": st.integers(-(2**63), 2**63 - 1).map(str), "is_on boolean": st.sampled_from(["0", "1"]),
    "price decimal": st.decimals(-10**6, 10**6, places=2).map(str),
    "day date": st.dates(dt.date(1000, 1, 1)).map(str),
    "moment timestamp": st.datetimes(dt.datetime(1000, 1, 2), dt.datetime(9999, 12, 30)).map(
        lambda v: f"{v.replace(second=0, microsecond=0).isoformat(' ')}+00:00"),
}  # fmt: skip
KEYS = {"id integer": st.integers(-9, 10**9).map(str), "code text": WORDS, "part integer": st.integers(0, 9).map(str)}


@pytest.fixture
def served(tmp_path, monkeypatch):
    """Serves tables that are given as texts and rows; gives the service and a connection to it."""
    monkeypatch.setattr(odata_reading, "FRESH_S", 0)
    opened = []

    def serve(*texts, rows=(), maker=EntityService):
        path = tmp_path / f"served {len(opened)}.sqlite"
        with closing(sqlite3.connect(path, isolation_level=None)) as base:
            for text in texts:
                base.execute(text)
            for row in rows:
                base.execute(f"insert into thing values ({', '.join('?' * len(row))})", row)
        service = maker(path)
        connection = connect(Source("s", service.url))
        opened.extend((connection, service))
        return service, connection

    yield serve
    for each in opened:
        each.close()


def held(service, name):
    """What its database holds."""
    if isinstance(service, OtherService):
        return service.held(name)
    with closing(sqlite3.connect(service.path)) as base:
        return sorted(base.execute(f"select * from {name}"), key=repr)


class OtherService:
    """A service of another maker over a file that it reads once."""

    def __init__(self, path):
        self.path = path
        self._process = subprocess.Popen([PYTHON, PROGRAM, path, "100"], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        self.url = f"odata+http://127.0.0.1:{int(self._process.stdout.readline())}/svc/"

    def held(self, name):
        """What it has now, in the form of the file."""
        with urlopen(f"{self.url.removeprefix('odata+')}{name}") as answer:
            rows = json.loads(answer.read())["value"]
        with closing(sqlite3.connect(self.path)) as base:
            columns = [column[1:3] for column in base.execute(f"pragma table_info({name})")]
        return sorted((tuple(stored(kind, row.get(column)) for column, kind in columns) for row in rows), key=repr)

    def close(self):
        self._process.stdin.close()
        self._process.wait()
        self._process.stdout.close()


def stored(kind, value):
    if kind == "timestamp" and value is not None:
        return value.replace("T", " ").removesuffix("Z").removesuffix(":00")
    if kind == "decimal" and value is not None:
        return int(value) if float(value).is_integer() else float(value)
    return float(value) if kind == "real" and value is not None else int(value) if value in (True, False) else value


def do(service, *texts):
    """What somebody else does there."""
    with closing(sqlite3.connect(service.path, isolation_level=None)) as base:
        for text in texts:
            base.execute(text)


def take(bench, row, column, text):
    at = bench.table.index(column)
    value = None if text is None else read_value(text, bench.table.fields[at], bench.target.column(at), bench.dialect)
    bench.edits.apply(Action("Edit", ((row, at, value),)))


def kept(column, text):
    """A text that was typed as the service's database keeps it."""
    if text is None:
        return None
    if column.endswith("timestamp"):
        return text.removesuffix(":00+00:00")
    if column.endswith("decimal"):
        return int(number) if (number := float(text)).is_integer() else number
    if column.endswith("real"):
        return float(text)
    return int(text) if column.split()[1] in ("integer", "boolean") else text


@st.composite
def rounds(draw, codes=WORDS):
    known = KEYS | {"code text": codes}
    keys = draw(st.lists(st.sampled_from(sorted(KEYS)), min_size=1, max_size=2, unique=True))
    columns = [*keys, *draw(st.lists(st.sampled_from(sorted(VALUES)), min_size=1, max_size=4, unique=True))]

    def row():
        return [draw(known[c]) if c in keys else draw(st.none() | VALUES[c]) for c in columns]

    def is_other(rows, row):
        return all(tuple(each[: len(keys)]) != tuple(row[: len(keys)]) for each in rows)

    rows, new = [], []
    for many, most in ((rows, 6), (new, 3)):
        for _ in range(draw(st.integers(0, most))):
            made = row()
            if is_other([*rows, *new], made):
                many.append(made)
    edits = [(draw(st.integers(0, 5)), draw(st.integers(len(keys), len(columns) - 1)), row())
             for _ in range(draw(st.integers(0, 6)))]  # fmt: skip
    return keys, columns, rows, new, edits, draw(st.sets(st.integers(0, 5), max_size=2)), draw(st.booleans())


@pytest.mark.timeout(3600)
@settings(max_examples=(count := how_many(25, 600)), deadline=None,
          suppress_health_check=[HealthCheck.function_scoped_fixture])  # fmt: skip
@given(rounds())
def test_the_service_holds_what_a_model_says_and_the_reversal_brings_it_back(served, case):
    check_round(served, case)


@pytest.mark.timeout(3600)
@settings(max_examples=(other_count := how_many(8, 300)), deadline=None,
          suppress_health_check=[HealthCheck.function_scoped_fixture])  # fmt: skip
@given(rounds(st.text("aZ09'_-", min_size=1, max_size=9)))
def test_so_does_a_service_of_another_maker(served, case):
    """It does not decode what stands in keys in a change set, nor can it tell of such a new one."""
    check_round(served, case, OtherService)


def check_round(served, case, maker=EntityService):
    keys, columns, rows, new, edits, gone, is_one_by_one = case
    named = [c.split()[0] for c in columns]
    service, connection = served(
        f"create table thing ({', '.join(columns)}, primary key ({', '.join(c.split()[0] for c in keys)}))",
        rows=[[kept(c, v) for c, v in zip(columns, row, strict=True)] for row in rows], maker=maker,
    )  # fmt: skip
    try:
        before = held(service, "thing")
        bench = Bench(connection, "select * from thing")
        model = {tuple(row[: len(keys)]): list(row) for row in before}
        places = [tuple(r[: len(keys)]) for r in zip(*(c.values() for c in bench.table.columns), strict=True)]
        for row, at, values in edits:
            if row < len(places) and row not in gone:
                take(bench, row, named[at], values[at])
                model[places[row]][at] = kept(columns[at], values[at])
        for row in gone & set(range(len(places))):
            del model[places[row]]
        bench.edits.apply(Action("Delete", delete=tuple(sorted(gone & set(range(len(places)))))))
        for made, row in zip(bench.edits.new_ids(len(new)), new, strict=True):
            bench.edits.apply(Action("New", add=((made, -1),)))
            for name, text in zip(named, row, strict=True):
                if text is not None:
                    take(bench, made, name, text)
            model[tuple(kept(c, v) for c, v in zip(keys, row, strict=False))] = [
                kept(c, v) for c, v in zip(columns, row, strict=True)
            ]
        plan = make_plan(bench.edits, bench.table, bench.target, Guard.SEEN)
        tried = rehearse(connection, plan)
        assert not tried.conflicts, [o.problem for o in tried.conflicts]
        assert "compared" in tried.said
        assert held(service, "thing") == before
        report = write_each(connection, plan) if is_one_by_one else write(connection, plan)
        assert not plan.statements or report.is_written
        assert held(service, "thing") == sorted(map(tuple, model.values()), key=repr)
        if report.back is not None:
            assert not write(connection, report.back).conflicts
            assert held(service, "thing") == before
    finally:
        connection.close()
        service.close()


def test_the_rounds_are_counted():
    proven("rounds of changes written to an OData service and back", "odata", count)
    proven("the same on a service of another maker", "odata", other_count)


ITEMS = ("create table item (id integer primary key, name text, size real)",
         "insert into item values (1, 'one', 1.5), (2, 'two', 2.5), (3, 'three', null)")  # fmt: skip


def test_somebody_else_s_change_is_never_written_over(served):
    service, connection = served(*ITEMS)
    bench = Bench(connection, "select * from item")
    for row in range(3):
        take(bench, row, "name", f"mine {row}")
    do(service, "update item set name = 'theirs' where id = 1", "delete from item where id = 2")
    for deed in (rehearse, write):
        report = deed(connection, bench.plan)
        assert [(o.statement.key[0][1], o.now, o.is_gone) for o in report.conflicts] == [
            (1, (("name", "theirs"),), False), (2, (), True)]  # fmt: skip
    before = held(service, "item")
    bench = Bench(connection, "select * from item")
    for row in range(2):
        take(bench, row, "name", f"mine {row}")

    def between(_):  # what nobody has seen changes between the comparing and the change
        do(service, "update item set size = 9 where id = 3")

    with pytest.raises(ChangeError, match=r"One of the entities was changed by somebody else"):
        write(connection, bench.plan, note=between)
    assert held(service, "item") == [row if row[0] != 3 else (3, "three", 9.0) for row in before]
    service.gives_etags = False
    with pytest.raises((ChangeError, QueryError), match="no ETag"):
        write(connection, bench.plan)


def test_a_change_asks_for_the_entities_that_it_is_about(served):
    service, connection = served(*ITEMS)
    bench = Bench(connection, "select * from item")
    take(bench, 0, "name", "x")
    take(bench, 2, "size", "4")
    service.asked.clear()
    assert write(connection, bench.plan).is_written
    asked = [a.removeprefix("/svc/") for a in service.asked]
    assert asked[0] == "$batch"  # whether it takes change sets
    assert asked[1:] == ["item?$filter=(id eq 1) or (id eq 3)", "$batch", "PATCH /svc/item(1)", "PATCH /svc/item(3)"]
    done = connection.execute(Request("update item set size = size * 2 where id in (1, 3) and name <> 'y'"))
    assert (done.affected, held(service, "item")) == (2, [(1, "x", 3.0), (2, "two", 2.5), (3, "three", 8.0)])
    for text, says in (
        ("create table t (a)", "can't be made"), ("drop table item", "can't be made"),
        (f"attach '{service.path}' as other", "reading only"),
        ("update item set id = 7 where id = 1", "key of item"),
        ("update item set (name, id) = ('x', 7) where id = 1", "key of item"),
        ("insert into item (id) values (1) on conflict do update set id = 8", "key of item"),
        ("insert into item (name) values ('x')", "NOT NULL"),
        ("insert into item (id) values (1)", "409"), ("insert into item (id, size) values (9, 'wide')", "Double"),
    ):  # fmt: skip
        with pytest.raises((ChangeError, QueryError), match=says):
            connection.execute(Request(text))
    connection.execute(
        Request("insert into item (id, name) values (2, 'other') on conflict do update set name = 'both'")
    )
    assert held(service, "item")[1] == (2, "both", 2.5)
    connection.begin()
    connection.execute(Request("delete from item where id = 2"))
    connection.execute(Request("insert into item values (2, 'again', 1)"))
    connection.execute(Request("delete from item where name = 'three'"))
    assert len(held(service, "item")) == 3
    connection.end(True)
    assert held(service, "item") == [(1, "x", 3.0), (2, "again", 1.0)]


def test_what_is_fetched_after_a_savepoint_is_there_once_that_was_gone_back_to(served):
    service, connection = served(*ITEMS)
    named = lambda name, key: ("update item set name = ? where id = ?", (name, key))  # noqa: E731
    with connection.transaction() as writer:
        writer.execute_many([("delete from item where id = ?", (2,))])
        writer.execute("savepoint here")
        assert [d.touched for d in writer.execute_many([named("lost", 1), named("gone", 2)])] == [1, 0]
        writer.execute("rollback to here")
        assert [d.touched for d in writer.execute_many([named("kept", 1), named("gone", 2)])] == [1, 0]
        writer.commit()
    assert held(service, "item") == [(1, "kept", 1.5), (3, "three", None)]
    with connection.transaction() as writer:  # here nothing was asked of the set before the savepoint
        writer.execute("savepoint here")
        writer.execute_many([named("lost", 1)])
        writer.execute("rollback to here")
        writer.execute_many([named("again", 1)])
        writer.commit()
    assert held(service, "item")[0] == (1, "again", 1.5)


def test_what_could_not_be_fetched_is_asked_for_again(served, monkeypatch):
    service, connection = served(*ITEMS)
    real, text = connection.entities, "update item set name = 'x' where id = 1"

    def entities(*given):
        raise LostError("The line broke.")

    connection.begin()
    monkeypatch.setattr(connection, "entities", entities)
    with pytest.raises(SourceError):
        connection.execute(Request(text))
    monkeypatch.setattr(connection, "entities", real)
    if connection.held is None:
        connection.begin()
    assert connection.execute(Request(text)).affected == 1
    connection.end(True)
    assert held(service, "item")[0] == (1, "x", 1.5)


def test_a_statement_that_only_the_database_can_read_is_about_what_it_names(served):
    service, connection = served(*ITEMS)

    def refuse(*_, **__):
        raise sqlglot.errors.ParseError("not understood")

    with connection.transaction() as writer, pytest.MonkeyPatch.context() as patch:
        patch.setattr("nimble_otter.sources.odata_session.sqlglot.parse", refuse)
        done = writer.execute_many([("update item set name = 'x' where id in (?, ?)", (1, 3))])
        assert done[0].touched == 2
        with pytest.raises(QueryError, match="syntax"):
            writer.execute_many([("update item sett name = 'y'", ())])
        writer.commit()
    assert [row[1] for row in held(service, "item")] == ["x", "two", "x"]


def test_a_service_without_change_sets_is_written_one_by_one(served):
    service, connection = served(*ITEMS)
    service.takes_batches = False
    with pytest.raises(ChangeError, match="no change sets"):
        connection.begin()
    with connection.transaction() as writer:  # each is done at once, with the ETag that the one before left
        for name in ("a", "b"):
            assert writer.execute_many([("update item set name = ? where id = 1", (name,))])[0].touched == 1
            assert held(service, "item")[0] == (1, name, 1.5)
        writer.execute_many([("update item set name = 'one' where id = 1", ())])
    bench = Bench(connection, "select * from item")
    for row in range(3):
        take(bench, row, "name", f"mine {row}")
    for deed in (rehearse, write):
        with pytest.raises(NoTransactions, match="without change sets"):
            deed(connection, bench.plan)
    do(service, "update item set name = 'theirs' where id = 2")
    report = write_each(connection, bench.plan)
    assert [o.rows for o in report.outcomes][:2] == [1, 0]
    assert [row[1] for row in held(service, "item")] == ["mine 0", "theirs", "three"]
    assert write_each(connection, report.back).is_written
    assert held(service, "item")[0] == (1, "one", 1.5)
    with pytest.raises(SourceError, match="1 of 2 were changed before"):
        connection.execute(Request("insert into item (id) values (4), (1)"))


@pytest.mark.parametrize("is_done", [True, False])
def test_an_answer_that_is_lost_is_looked_up(served, monkeypatch, is_done):
    service, connection = served(*ITEMS)
    bench = Bench(connection, "select * from item")
    take(bench, 0, "name", "x")
    plan, before = bench.plan, held(service, "item")
    assert connection.without_transactions(bench.target.table) == ""
    real = driver.send

    def send(*given):
        if is_done:
            real(*given)
        raise LostError("The line broke.")

    monkeypatch.setattr(driver, "send", send)
    if is_done:
        report = write(connection, plan)
        assert "all of it was written" in report.said
        assert held(service, "item")[0] == (1, "x", 1.5)
    else:
        with pytest.raises((ChangeError, OutcomeUnknown), match="nothing was written"):
            write(connection, plan)
        assert held(service, "item") == before


def test_what_a_service_says_is_told(served, monkeypatch):
    service, connection = served(*ITEMS, "create table note (text text)", "insert into note values ('x')")
    with pytest.raises(QueryError, match="no key"):
        connection.execute(Request("delete from note"))
    assert fetch(connection, Request("select * from note")).table.rows == 1
    with pytest.raises(QueryError, match=r"refused.*409.*UNIQUE constraint failed: item\.id\."):
        connection.execute(Request("insert into item (id) values (1)"))
    with pytest.raises(QueryError, match=r"refused.*409"):
        connection.execute(Request("insert into item (id) values (7), (1)"))
    service.password = "Bearer other"
    with pytest.raises(SourceError, match=r"refused|allow"):
        connection.execute(Request("delete from item where id = 1"))
    assert len(held(service, "item")) == 3


def test_values_are_written_in_the_forms_of_the_standard():
    for edm, value, text in (
        ("Edm.Boolean", 1, "true"), ("Edm.Int64", 2**62, str(2**62)), ("Edm.Decimal", "1E+2", "100"),
        ("Edm.Double", float("inf"), '"INF"'), ("Edm.Binary", b"\xff\xfe", '"__4="'), ("Edm.Guid", "A-b", '"A-b"'),
        ("M.Point", '{"x": 1}', '{"x": 1}'), ("Edm.String", None, "null"),
        ("Edm.DateTimeOffset", "2031-05-01 06:30:00+00:00", '"2031-05-01T06:30:00Z"'),
        ("Edm.DateTimeOffset", "2031-05-01 06:30:00+02:00", '"2031-05-01T06:30:00+02:00"'),
    ):  # fmt: skip
        assert json_text(value, odata.Property("p", edm)) == text, edm
    for edm, value in (("Edm.Int32", 1.5), ("Edm.Boolean", 2), ("Edm.DateTimeOffset", "2031-05-01 06:30"),
                       ("M.Point", "{"), ("Edm.String", "\ud800"), ("Edm.Decimal", "nan"),
                       ("Edm.Double", "x")):  # fmt: skip
        with pytest.raises(QueryError, match="p:"):
            json_text(value, odata.Property("p", edm))
    assert parts_of(b"{}") == parts_of(b"") == []
    assert etag_of((1,)) != etag_of(("1",))
    known = odata.read_metadata(
        b"""<edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices>
        <Schema Namespace="M" xmlns="http://docs.oasis-open.org/odata/ns/edm"><EntityType Name="T"><Key>
        <PropertyRef Name="id"/></Key><Property Name="id" Type="Edm.Int32">
        <Annotation Term="Org.OData.Core.V1.Computed" Bool="true"/></Property><Property Name="n" Type="Edm.String">
        <Annotation Term="Core.Computed" Bool="false"/></Property></EntityType><EntityContainer Name="C">
        <EntitySet Name="ts" EntityType="M.T"/></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>"""
    )
    assert [p.is_computed for p in known["ts"].properties] == [True, False]


def test_rows_of_elsewhere_are_sent_to_a_set(served):
    service, connection = served(*ITEMS)
    names = ["it's", "", None, "four"] * 100
    rows = rows_of({"id": list(range(3, 403)), "name": names, "size": [n / 4 for n in range(400)]})
    with pytest.raises(OtterError):
        transfer(rows, connection, Transfer("item"))
    assert held(service, "item")[2] == (3, "three", None)
    moved = transfer(rows, connection, Transfer("item", duplicates="update"))
    assert (moved.added, moved.updated) == (399, 1)
    sent = list(zip(range(3, 403), names, [n / 4 for n in range(400)], strict=True))
    assert sorted(held(service, "item"))[2:] == sent
    moved = transfer(rows, connection, Transfer("item", duplicates="skip"))
    assert (moved.added, moved.skipped) == (0, 400)
    with pytest.raises(OtterError, match="can't be made"):
        transfer(rows, connection, Transfer("other", True, ("id",)))
