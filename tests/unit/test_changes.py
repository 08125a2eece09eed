"""Edits, the statements they become, and writing them to real SQLite files."""

import datetime as dt
import sqlite3
from contextlib import closing
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_otter.changes import (
    UNSET,
    Action,
    Edits,
    Outcome,
    Report,
    Statement,
    Target,
    find_target,
    make_plan,
    read_in_zone,
    read_value,
    refuse_broken,
    rehearse,
    render,
    rows_after,
    value_text,
    without_marks,
    write,
    zoned_text,
)
from nimble_otter.errors import ConnectError, LostError, NoKeyError, Stopped, ValueRefused
from nimble_otter.pull.drafts import Draft, attach, detach, load_draft, save_draft
from nimble_otter.sources import ColumnInfo, Fetched, Request, TableInfo, fetch
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.sources.source import dialect_of
from nimble_otter.stop import StopToken
from nimble_otter.table import Field, Kind
from nimble_otter.table.core.build import table_of
from nimble_otter.table.ops.patch import patched
from tests.files import sqlite_file

READING = """select r.reading_id, s.name, s.river, r.taken_at, r.level_m, r.quality, r.level_m * 2 as twice
from reading r join station s using (station_id) order by r.reading_id limit 20"""

SCRIPT = """
create table item (
  id integer primary key, name text not null, price real, bought timestamp, good boolean, code text unique);
insert into item values (1, 'a', 1.5, '2031-05-28 23:00', 1, 'k1'), (2, 'b', null, null, 0, 'k2'),
  (3, '', 0.1, '2031-01-01 00:00', null, 'k3');
create table part (
  item_id integer references item (id) on delete cascade, n integer, primary key (item_id, n)) without rowid;
insert into part values (2, 1), (2, 2);
create table log (what text);
create trigger note after update on item begin insert into log values (old.name); end;
"""


class Bench:
    """One pull of a table with its edits."""

    def __init__(self, connection, text="select * from item", by_values=False):
        self.connection = connection
        fetched = self.fetched = fetch(connection, Request(text, with_keys=True))
        self.table = fetched.table
        origins = (*fetched.origins, *fetched.key_origins)
        self.dialect = connection.dialect
        self.target = find_target(fetched.table, origins, fetched.tables, fetched.unseen, by_values, self.dialect)
        self.edits = Edits(self.table.rows)

    def set(self, row, name, value):
        return self.edits.apply(Action("Edit", ((row, self.table.index(name), value),)))

    @property
    def plan(self):
        return make_plan(self.edits, self.table, self.target)


@pytest.fixture
def bench(base, open_base):
    return Bench(open_base(base(SCRIPT)))


def rows_of(bench, table="item"):
    with sqlite_file(bench.connection.path) as base:
        return base.execute(f"select * from {table} order by 1, 2").fetchall()


def test_only_the_table_with_its_key_once_a_row_can_be_changed(survey, open_base):
    connection = open_base(survey)
    bench = Bench(connection, READING)
    assert bench.target.table.name == "reading"
    assert [info.name for _, info in bench.target.columns] == ["reading_id", "taken_at", "level_m", "quality"]
    reasons = dict(bench.target.refusals)
    assert "open station" in reasons[1]
    assert "computed by the query" in reasons[6]
    with_key = Bench(connection, "select s.*, r.* from reading r join station s on s.station_id = r.station_id")
    assert with_key.target.table.name == "reading"
    assert "appear more than once" in dict(with_key.target.refusals)[1]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("select * from legacy_note", "no key"),
        ("select river, count(*) from station group by river", "groups"),
        ("select distinct station_id from station", "groups"),
        ("select * from (select name from station)", "key of station"),
        ("select * from high_water", "key of station"),
        ("select * from (select station_id, count(*) n from visit group by 1)", "groups"),
        ("with s as (select river as k from station union select name from river) select * from s", "No column"),
        ("select station_id from station union select 1", "No column"),
        ("select 1 as x", "No column"),
        ("select v.visit_id, v.weather from visit v left join volunteer w on w.volunteer_id = v.volunteer_id", ""),
        (
            "select a.station_id as p, b.station_id as q, a.name from station a join station b on a.river = b.river",
            "more than once",
        ),
    ],
)
def test_why_a_result_can_not_be_changed(survey, open_base, text, says):
    target = Bench(open_base(survey), text).target
    assert says in target.reason if says else target.table.name == "visit"


def test_an_outer_joins_missing_row_has_no_key(survey, open_base):
    text = "select w.volunteer_id, w.name from visit v left join volunteer w on w.volunteer_id = v.volunteer_id"
    bench = Bench(open_base(survey), f"{text} where v.visit_id = 1")
    assert bench.table.columns[0].values() == [None]
    bench.set(0, "name", "x")
    with pytest.raises(NoKeyError, match="outer join"):
        _ = bench.plan


@pytest.mark.parametrize(
    "text",
    [
        "select s.n, s.station_id from (select name as n, station_id from station where river = 'x' limit 5) s",
        "with s(i, n) as (select station_id, name from station), t as (select n, i from s) select * from t",
        "select a.name, b.name as other from station a join station b on b.station_id = a.station_id + 1",
        "select name from station order by 1",
        "select s.name as n, v.weather from visit v join station s using (station_id)",
    ],
)
def test_subqueries_views_and_keys_fetched_along_lead_to_the_table(survey, open_base, text):
    bench = Bench(open_base(survey), text)
    assert bench.target.is_open, bench.target.reason
    for place, column in bench.target.keys:
        assert None not in bench.target.held(bench.table, place).values(), column
    assert not [f for f in bench.table.fields if f.name.startswith("otter_key")]


def test_edit_insert_and_delete_are_written_together_and_read_back(bench):
    bench.set(0, "price", 2.25)
    bench.set(0, "bought", dt.datetime(2031, 6, 1, 12, 30))
    bench.set(1, "good", True)
    bench.edits.apply(Action("Delete", delete=(2,)))
    new = bench.edits.new_ids(1)[0]
    bench.edits.apply(Action("New", ((new, 1, "new"),), add=((new, 0),)))
    report = write(bench.connection, bench.plan)
    assert report.is_written
    assert rows_of(bench)[:2] == [(1, "a", 2.25, "2031-06-01 12:30", 1, "k1"), (2, "b", None, None, 1, "k2")]
    assert rows_of(bench)[2][1:] == ("new", None, None, None, None)
    assert report.written[2] is None
    assert report.written[new]["name"] == "new"
    assert {o.note for o in report.outcomes if o.statement.kind == "update"} == {"1 more row by triggers"}
    fresh = patched(bench.table, {0: {2: 2.25, 3: "2031-06-01 12:30"}}, [2], [{0: 3, 1: "new"}])
    assert fresh.columns[2].values()[0] == 2.25
    assert fresh.columns[3].values() == [dt.datetime(2031, 6, 1, 12, 30), None, None]
    assert bench.table.columns[2].values()[0] == 1.5


def test_the_reversal_puts_everything_back(bench):
    before = rows_of(bench)
    bench.set(0, "name", "it's; --")
    bench.set(0, "id", 77)
    bench.set(1, "price", 9.75)
    bench.edits.apply(Action("Delete", delete=(2,)))
    new = bench.edits.new_ids(1)[0]
    bench.edits.apply(Action("New", ((new, 1, "n"), (new, 2, 1.0)), add=((new, -1),)))
    report = write(bench.connection, bench.plan)
    assert report.is_written
    assert rows_of(bench) != before
    with sqlite_file(bench.connection.path) as base:
        base.executescript(report.reversal)
    assert rows_of(bench) == before


def test_a_deleted_row_comes_back_whole_with_columns_that_were_not_pulled(base, open_base):
    bench = Bench(open_base(base(SCRIPT)), "select id, name from item")
    before = rows_of(bench)
    bench.edits.apply(Action("Delete", delete=(0,)))
    report = write(bench.connection, bench.plan)
    with sqlite_file(bench.connection.path) as other:
        other.executescript(report.reversal)
    assert rows_of(bench) == before


def test_a_conflict_shows_both_values_and_nothing_is_written(bench):
    bench.set(0, "price", 3.0)
    bench.set(1, "name", "changed")
    with sqlite_file(bench.connection.path) as other:
        other.execute("update item set price = 2.95 where id = 1")
    for deed in (rehearse, write):
        report = deed(bench.connection, bench.plan)
        assert not report.is_written
        assert (report.good, len(report.conflicts)) == (1, 1)
        conflict = report.conflicts[0]
        assert conflict.is_conflict
        assert conflict.now == (("price", 2.95),)
        assert conflict.statement.seen == (("price", 1.5),)
        assert "price is now 2.95" in conflict.problem
    assert rows_of(bench)[1][1] == "b"


def test_a_row_that_is_gone_and_one_that_is_refused(bench):
    bench.set(0, "name", "x")
    bench.set(1, "code", "k3")
    with sqlite_file(bench.connection.path) as other:
        other.execute("delete from item where id = 1")
    problems = [o.problem for o in rehearse(bench.connection, bench.plan).conflicts]
    assert "gone" in problems[0]
    assert "UNIQUE constraint failed" in problems[1]


def test_a_delete_that_would_take_others_along_is_refused(bench):
    bench.edits.apply(Action("Delete", delete=(1,)))
    report = write(bench.connection, bench.plan)
    assert not report.is_written
    assert "also change 2 of part (cascade)" in report.conflicts[0].problem
    assert len(rows_of(bench, "part")) == 2


def test_an_update_that_touches_more_than_one_row_is_refused(base, open_base):
    path = base("create table t (a integer, b text, primary key (a)); insert into t values (1, 'x')")
    bench = Bench(open_base(path), "select * from t")
    with sqlite_file(path) as other:
        other.executescript("drop table t; create table t (a integer, b text); insert into t values (1, 'x'), (1, 'x')")
    bench.set(0, "b", "y")
    report = write(bench.connection, bench.plan)
    assert not report.is_written
    assert "2 rows" in report.conflicts[0].problem


def test_rehearsing_writes_nothing_and_a_stop_writes_nothing(bench):
    before = rows_of(bench)
    bench.set(0, "name", "x")
    report = rehearse(bench.connection, bench.plan)
    assert (report.good, report.is_written) == (1, False)
    stop = StopToken()
    stop.set()
    with pytest.raises(Stopped):
        write(bench.connection, bench.plan, stop)
    assert rows_of(bench) == before


def test_a_locked_file_and_a_file_that_may_not_be_written(bench, monkeypatch):
    bench.set(0, "name", "x")
    other = sqlite3.connect(bench.connection.path, isolation_level=None)
    other.execute("begin exclusive")
    real = sqlite3.connect
    monkeypatch.setattr(sqlite3, "connect", lambda *a, **k: real(*a, **{**k, "timeout": 0.05}))
    with pytest.raises(LostError, match="locked"):
        write(bench.connection, bench.plan)
    other.close()
    bench.connection.path.unlink()
    with pytest.raises((LostError, ConnectError)):
        write(bench.connection, bench.plan)


def test_statements_are_shown_with_literals_and_hold_hostile_names(hostile, open_base):
    bench = Bench(open_base(hostile), 'select * from "or""der by"')
    bench.set(0, "select", "it's")
    bench.set(1, "Größe ü", 0.1)
    bench.set(0, "a b", 5)
    texts = render(bench.plan)
    assert texts[0].startswith('UPDATE "or""der by" SET "select"=\'it\'\'s\', "a b"=5 WHERE id = 1')
    assert "?" not in "".join(texts)
    assert write(bench.connection, bench.plan).is_written
    fresh = Bench(bench.connection, 'select "select", "a b" from "or""der by"')
    assert [c.values()[0] for c in fresh.table.columns] == ["it's", 5]


@pytest.mark.parametrize(
    ("text", "kind", "form", "declared", "value"),
    [
        ("1.81", Kind.FLOAT, "", "REAL", 1.81),
        ("2 268.5", Kind.FLOAT, "", "REAL", ValueRefused),
        ("2\u2009268.5", Kind.FLOAT, "", "REAL", 2268.5),
        ("7", Kind.INT, "", "INTEGER", 7),
        ("7.5", Kind.INT, "", "INTEGER", ValueRefused),
        ("99999999999999999999", Kind.INT, "", "INTEGER", ValueRefused),
        ("0.1000000000000000055", Kind.FLOAT, "", "REAL", ValueRefused),
        ("inf", Kind.FLOAT, "", "REAL", ValueRefused),
        ("high", Kind.FLOAT, "", "REAL", ValueRefused),
        ("2031-05-28 23:00", Kind.TIME, "%Y-%m-%d %H:%M", "TIMESTAMP", dt.datetime(2031, 5, 28, 23)),
        ("2031-05-28 23:00:30", Kind.TIME, "%Y-%m-%d %H:%M", "TIMESTAMP", ValueRefused),
        ("noon", Kind.TIME, "%Y-%m-%d %H:%M", "TIMESTAMP", ValueRefused),
        ("2031-05-28", Kind.DATE, "%Y-%m-%d", "DATE", dt.date(2031, 5, 28)),
        ("28 May", Kind.DATE, "%Y-%m-%d", "DATE", ValueRefused),
        ("Yes", Kind.BOOL, "0/1", "BOOLEAN", True),
        ("maybe", Kind.BOOL, "0/1", "BOOLEAN", ValueRefused),
        ("", Kind.TEXT, "", "TEXT", ""),
        ("x", Kind.OBJECT, "", "BLOB", ValueRefused),
    ],
)
def test_typed_values_are_taken_exactly_or_refused(text, kind, form, declared, value):
    from nimble_otter.sources.reflect import word_of

    field, info = Field("c", kind, form=form), ColumnInfo("c", declared, word_of(declared))
    if value is ValueRefused:
        with pytest.raises(ValueRefused) as caught:
            read_value(text, field, info)
        assert "c " in str(caught.value)
    else:
        assert read_value(text, field, info) == value
    with pytest.raises(ValueRefused, match="NOT NULL"):
        read_value(None, field, ColumnInfo("c", declared, word_of(declared), nullable=False))
    assert read_value(None, field, info) is None


cell = st.tuples(st.integers(0, 6), st.integers(0, 2), st.integers(0, 3) | st.just(UNSET))
actions = st.builds(
    Action,
    st.just("x"),
    st.lists(cell, max_size=4).map(tuple),
    st.lists(st.integers(0, 4), max_size=2).map(tuple),
    st.lists(st.integers(0, 4), max_size=2).map(tuple),
    st.lists(st.tuples(st.integers(5, 8), st.integers(-1, 4)), max_size=2, unique_by=lambda p: p[0]).map(tuple),
    st.lists(st.integers(5, 8), max_size=2, unique=True).map(tuple),
)


@settings(max_examples=150)
@given(st.lists(actions, max_size=8))
def test_every_action_has_an_inverse(todo):
    edits = Edits(5)
    states, undo = [], []
    for action in todo:
        states.append(({r: dict(own) for r, own in edits.cells.items()}, set(edits.deleted), dict(edits.added)))
        restore = tuple(r for r in action.restore if r not in action.delete)
        add = tuple(a for a in action.add if a[0] not in action.drop)
        action = replace(action, restore=restore, add=add)
        undo.append(edits.apply(action))
        assert set(edits.edited_rows) == set(edits.copied().edited_rows)  # kept from action to action, and found anew
        assert edits.count == edits.copied().count
    fresh = Edits(9)
    assert fresh.count == 0
    fresh.apply(Action("Edit", tuple((row, 0, row) for row in (1, 5, 2))))
    assert fresh.edited_rows == [1, 5, 2]
    for back, state in zip(reversed(undo), reversed(states), strict=True):
        edits.apply(back)
        cells = {row: dict(own) for row, own in edits.cells.items()}
        assert cells == state[0]
        assert (set(edits.deleted), dict(edits.added)) == state[1:]


def test_take_back_by_cell_row_and_all():
    edits = Edits(5)
    edits.apply(Action("x", ((0, 0, 1), (0, 1, 2), (1, 0, 3)), delete=(2,), add=((5, -1),)))
    edits.apply(edits.revert(cells=[(0, 1), (0, 2)]))
    assert edits.cells[0] == {0: 1}
    edits.apply(edits.revert(rows=[0]))
    assert edits.count == 3
    edits.apply(edits.revert())
    assert edits.count == 0


def test_drafts_find_their_rows_again_and_keep_what_was_seen(bench, tmp_path):
    bench.set(0, "price", 3.5)
    bench.set(1, "bought", dt.datetime(2031, 1, 2))
    bench.edits.apply(Action("Delete", delete=(2,)))
    new = bench.edits.new_ids(1)[0]
    bench.edits.apply(Action("New", ((new, 1, "n"), (new, 2, None)), add=((new, -1),)))
    save_draft(tmp_path, "one", Draft("text", edits=detach(bench.edits, bench.table, bench.target)))
    draft = load_draft(tmp_path / "one.json").edits
    assert draft.count == 4
    with sqlite_file(bench.connection.path) as other:
        other.execute("update item set price = 8 where id = 1")
        other.execute("insert into item (id, name) values (-5, 'first')")
        other.execute("delete from item where id = 3")
    again = Bench(bench.connection, "select * from item order by id")
    again.edits, left = attach(draft, again.table, again.target)
    assert left.count == 1
    assert again.edits.cells[1] == {2: 3.5}
    assert again.edits.cells[2] == {3: dt.datetime(2031, 1, 2)}
    conflicts = rehearse(again.connection, again.plan).conflicts
    assert [c.now for c in conflicts] == [(("price", 8.0),)]


def test_drafts_keep_what_has_no_column_in_the_rows(bench):
    bench.set(0, "price", 3.5)
    bench.set(0, "name", "kept")
    bench.set(1, "price", 4.5)
    new = bench.edits.new_ids(1)[0]
    bench.edits.apply(Action("New", ((new, 1, "n"), (new, 2, 9.0)), add=((new, -1),)))
    draft = detach(bench.edits, bench.table, bench.target)
    fewer = Bench(bench.connection, "select id, name from item order by id")
    fewer.edits, left = attach(draft, fewer.table, fewer.target)
    assert fewer.edits.cells == {0: {1: "kept"}}
    assert (left.count, left.names) == (3, {"price", "name"})
    again = Bench(bench.connection, "select * from item order by id")
    again.edits, gone = attach(detach(fewer.edits, fewer.table, fewer.target).over(left), again.table, again.target)
    assert gone.count == 0
    assert detach(again.edits, again.table, again.target).added == draft.added
    assert {row: dict(own) for row, own in again.edits.cells.items() if row >= 0} == {
        row: dict(own) for row, own in bench.edits.cells.items() if row >= 0
    }


@settings(max_examples=60)
@given(st.lists(st.floats(allow_nan=False, allow_infinity=False) | st.just(2.3806943472695106e-293), max_size=40))
def test_doubles_in_scripts_are_read_as_they_are(values):
    info = ColumnInfo("f", "double")
    with closing(sqlite3.connect(":memory:")) as base:
        for value in values:
            assert base.execute(f"select {SQLITE.literal(value, info)}").fetchone() == (value,)


CHECKED = TableInfo(
    "t", columns=(ColumnInfo("q"), ColumnInfo("Fold", folds=True), *map(ColumnInfo, "acxyzw")),
    checks=("a > 0 and a < 100", "q in ('good', 'bad')", "Fold in ('good')", "length(c) < 4", "x < y", "z glob 'a*'",
            "w > 'm'", "not (", "nosuch(a)", "a <> 7 or q = 'bad'"),
)  # fmt: skip


@pytest.mark.parametrize(
    ("name", "values", "broken"),
    [
        ("a", {"a": 5, "q": "bad"}, ""), ("a", {"a": 500, "q": None}, "a > 0"), ("a", {"A": 0}, "a > 0"),
        ("a", {"a": None}, ""), ("a", {"a": 7, "q": "good"}, "a <> 7"), ("a", {"a": 7, "q": None}, ""),
        ("a", {"a": 7}, ""), ("q", {"q": "good"}, ""), ("q", {"q": "Good"}, "q in"), ("Fold", {"Fold": "Good"}, ""),
        ("c", {"c": "abcd"}, ""), ("x", {"x": 2.0, "y": 1}, "x < y"), ("x", {"x": 2.0}, ""), ("z", {"z": "b"}, ""),
        ("x", {"x": 0.5, "y": 1}, ""), ("w", {"w": "a"}, ""),
    ],
)  # fmt: skip
def test_checks_refuse_only_what_they_surely_refuse(name, values, broken):
    if not broken:
        refuse_broken(CHECKED, SQLITE, name, values)
        return
    with pytest.raises(ValueRefused, match="t has a check") as refused:
        refuse_broken(CHECKED, SQLITE, name, values)
    assert broken in str(refused.value)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("2031-07-01 12:00", "2031-07-01 12:00:00+02:00"),
        ("2031-01-01 12:00", "2031-01-01 12:00:00+01:00"),
        ("2031-07-01 12:00+00", "2031-07-01 12:00+00"),  # which says its own
        ("2031-03-30 02:30", "does not exist in Europe/Vienna"),
        ("2031-10-26 02:30", r"\+02:00 or \+01:00"),
        ("noon", "noon"),
    ],
)
def test_times_are_read_in_the_zone_they_are_shown_in(text, said):
    if not said[:1].isdigit() and said != text:
        with pytest.raises(ValueRefused, match=said):
            read_in_zone(text, "Europe/Vienna", "at")
        return
    assert read_in_zone(text, "Europe/Vienna", "at") == said
    if said[:1].isdigit() and "+0" in said[19:]:
        moment = dt.datetime.fromisoformat(said).astimezone(dt.UTC)
        assert zoned_text(moment, "Europe/Vienna") == said  # and shown so again


@pytest.mark.parametrize(
    ("text", "point", "comma"),
    [
        ("1 234,5", "1234.5", "1234.5"), ("1.234,56", "1234.56", "1234.56"), ("1,234.56", "1234.56", "1234.56"),
        ("1,234", "1,234", "1.234"), ("1,2", "1.2", "1.2"), ("-1\u202f234", "-1234", "-1234"),
        ("1'234.5", "1234.5", "1234.5"),
        ("1,234,567", "1234567", "1234567"), ("12.5", "12.5", "12.5"), ("n/a", "n/a", "n/a"),
    ],
)  # fmt: skip
def test_numbers_of_spreadsheets_are_read_where_they_can_mean_one_thing_only(text, point, comma):
    assert (without_marks(text, False), without_marks(text, True)) == (point, comma)


def test_items_of_a_list_stay_what_they_were_and_times_with_a_name_of_months_too():
    binary = Field("b", Kind.OBJECT), ColumnInfo("b", "BYTEA[]", "list")
    value = [b"\x00\xff", None, b"a"]
    text = value_text(value, binary[0])
    assert read_value(text.replace("61", "62"), *binary, dialect_of("postgresql"), value) == [
        b"\x00\xff",
        None,
        "\\x62",
    ]
    real = Field("f", Kind.OBJECT), ColumnInfo("f", "DOUBLE PRECISION[]", "list")
    found = read_value("[NaN, 2.5]", *real, dialect_of("postgresql"), [float("nan"), 1.5])
    assert str(found) == "[nan, 2.5]"
    span = Field("i", Kind.SPAN), ColumnInfo("i", "INTERVAL", "text")
    texts = ["1 day", "1 mon", "-2 days 03:00"]
    assert [read_value(t, *span, dialect_of("postgresql")) for t in texts] == texts
    huge = ColumnInfo("d", "DECIMAL(65, 30)", "number")
    assert str(read_value("-0." + "1" * 30, Field("d", Kind.DECIMAL), huge, dialect_of("mariadb"))) == "-0." + "1" * 30


@given(st.data())
@settings(max_examples=150)
def test_rows_after_a_write_are_those_that_the_server_gave_back(data):
    """Also rows that the server does not give back, as where a trigger or a policy hides them."""
    count = data.draw(st.integers(1, 6))
    table = table_of(id=[*range(count)], name=[f"n{n}" for n in range(count)])
    info = TableInfo("item", "table", (ColumnInfo("id", "INTEGER", "number"), ColumnInfo("name", "TEXT", "text")))
    target = Target(info, ((0, "id"),), tuple(enumerate(info.columns)))
    kinds = {row: data.draw(st.sampled_from(("", "update", "delete"))) for row in range(count)}
    kinds |= {-1 - n: "insert" for n in range(data.draw(st.integers(0, 3)))}
    outcomes, written, expected = [], {}, {row: (row, f"n{row}") for row in range(count)}
    for row, kind in kinds.items():
        is_good = data.draw(st.booleans())
        if not kind:
            continue
        outcomes.append(Outcome(Statement(kind, row), int(is_good)))
        if not is_good:
            continue
        is_back = kind != "delete" and data.draw(st.booleans())
        written[row] = {"id": row + 100, "name": "new"} if is_back else None
        expected.pop(row, None) if not is_back else expected.__setitem__(row, (row + 100, "new"))
    order = sorted(expected, key=lambda row: (row < 0, row if row >= 0 else -row))
    shown = rows_after(Fetched(table), target, Report(tuple(outcomes), dt.datetime.now(), True, written))
    now = shown.fetched.table
    assert [tuple(c.value(n) for c in now.columns) for n in range(now.rows)] == [expected[row] for row in order]
    assert shown.moved == {row: n for n, row in enumerate(order)}
    assert shown.fresh == {shown.moved[row] for row, own in written.items() if own is not None}


@pytest.mark.parametrize("dialect", ["postgresql", "mariadb", "mysql"])
@pytest.mark.parametrize(
    ("declared", "bits"), [("SMALLINT", 16), ("INTEGER", 32), ("BIGINT", 64), ("INT UNSIGNED", 32)]
)
def test_whole_numbers_are_taken_up_to_the_bounds_of_their_type(declared, bits, dialect):
    info, field = ColumnInfo("n", declared, "number"), Field("n", Kind.INT)
    low, high = (0, 2**bits - 1) if "UNSIGNED" in declared else (-(2 ** (bits - 1)), 2 ** (bits - 1) - 1)
    assert [read_value(str(n), field, info, dialect_of(dialect)) for n in (low, high)] == [low, high]
    for beyond in (low - 1, high + 1):
        with pytest.raises(ValueRefused, match="out of range"):
            read_value(str(beyond), field, info, dialect_of(dialect))
