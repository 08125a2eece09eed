"""Writing back on every relational server: random tables and edits against a model, scripts, conflicts, faults."""

import contextlib
import datetime as dt
import json
import os
import string
import threading
from decimal import Decimal
from uuid import UUID

import numpy as np
import pytest
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from nimble_otter.changes import (
    Action,
    Filling,
    make_plan,
    read_value,
    refuse_broken,
    rehearse,
    script,
    unset_cell,
    write,
    write_each,
)  # fmt: skip
from nimble_otter.errors import ChangeError, LostError, NoTransactions, OtterError, OutcomeUnknown, ValueRefused
from nimble_otter.sources import Source, connect
from nimble_otter.table.text.text_format import span_text
from tests.conformance.places import COUNT, opened
from tests.proofs import how_many
from tests.servers.lines import Line
from tests.unit.test_changes import Bench

WORDS = st.text(st.characters(codec="utf-8", exclude_characters="\x00"), max_size=12) | st.sampled_from(
    ["it's", "\\'; drop table x; --", "a\\", "/* x */", "", " pad ", "%s :x ?", "\u202eabc", "A", "a", "line\nend\r"]
)
NUMBERS = {
    "smallint": st.integers(-(1 << 15), (1 << 15) - 1).map(str),
    "integer": st.integers(-(1 << 31), (1 << 31) - 1).map(str),
    "bigint": st.integers(-(1 << 63), (1 << 63) - 1).map(str),
    "numeric(12,3)": st.decimals(-(10**8), 10**8, places=3).map(str),
    "double precision": st.floats(allow_nan=False, allow_infinity=False).map(repr),
}
DAYS = st.dates(dt.date(1000, 1, 1), dt.date(9999, 12, 31)).map(str)
MOMENTS = st.datetimes(dt.datetime(1000, 1, 1), dt.datetime(9999, 12, 30))
TYPES = {
    "sqlite": {
        **{t: v for t, v in NUMBERS.items() if t != "numeric(12,3)"},
        "text": WORDS,
        "varchar(5) collate nocase": WORDS,
        "timestamp": MOMENTS.map(lambda v: v.isoformat(" ", "minutes")),
        "boolean": st.sampled_from(["0", "1"]),
        "uuid": st.uuids().map(str),
    },
    "postgresql": {
        **NUMBERS,
        "text": WORDS,
        "varchar(12)": WORDS.map(lambda t: t[:12]),
        "char(14)": WORDS.map(lambda t: t[:14].ljust(14)),
        "real": st.floats(width=32, allow_nan=False, allow_infinity=False, allow_subnormal=False).map(
            lambda v: str(np.float32(f"{v:.6g}"))
        ),
        "boolean": st.sampled_from(["yes", "no"]),
        "date": DAYS,
        "timestamp": MOMENTS.map(lambda v: v.isoformat(" ")),
        "timestamptz": MOMENTS.map(lambda v: f"{v.isoformat(' ')}+00"),
        "time": st.times().map(str),
        "interval": st.integers(0, 10**9).map(lambda n: f"{n // 60:02}:{n % 60:02}:00"),
        "uuid": st.uuids().map(str),
        "jsonb": st.sampled_from(['{"a": 1}', "[1, null]", '"x"']),
        "json": st.sampled_from(['{"a":1}', "[1,  null]", "3"]),
        "integer[]": st.sampled_from(["[]", "[1, 2]", "[3, null]"]),
        "text[]": st.lists(WORDS, max_size=3).map(lambda v: json.dumps(v)),
        "inet": st.ip_addresses(v=4).map(str),
        "mood": st.sampled_from(["low", "high"]),
    },
    "mariadb": {
        **NUMBERS,
        "varchar(12)": WORDS.map(lambda t: t[:12]),
        "text": WORDS,
        "varchar(12) character set latin1": st.text(string.printable, max_size=9),
        "float": st.floats(-(2.0**90), 2.0**90, width=32, allow_subnormal=False).map(
            lambda v: str(np.float32(f"{v:.4g}"))
        ),
        "date": DAYS,
        "datetime(6)": MOMENTS.map(lambda v: v.isoformat(" ", "microseconds")),
        "timestamp": st.datetimes(dt.datetime(1971, 1, 1), dt.datetime(2037, 1, 1)).map(
            lambda v: v.isoformat(" ", "seconds")
        ),
        "int unsigned": st.integers(0, (1 << 32) - 1).map(str),
        "tinyint(1)": st.sampled_from(["0", "1"]),
        "enum('low','high')": st.sampled_from(["low", "high"]),
        "set('a','b','c')": st.sampled_from(["", "a", "a,c"]),
        "json": st.sampled_from(['{"a": 1}', "[1,  null]"]),
        "year": st.sampled_from(["1999", "2031"]),
        "uuid": st.uuids(version=4).map(str),  # this server takes no others
        "time": st.integers(0, 800).map(lambda n: f"{n:02}:00:00"),
    },
    "firebird": {
        **NUMBERS,
        "varchar(12)": WORDS.map(lambda t: t[:12]),
        "blob sub_type text": WORDS,
        "boolean": st.sampled_from(["yes", "no"]),
        "date": DAYS,
        "timestamp": MOMENTS.map(lambda v: v.replace(microsecond=v.microsecond // 100 * 100).isoformat(" ")),
        "time": st.times().map(lambda v: str(v.replace(microsecond=0))),
    },
}
TYPES["duckdb"] = {
    **NUMBERS, "varchar": WORDS, "boolean": st.sampled_from(["yes", "no"]), "date": DAYS,
    "timestamp": MOMENTS.map(lambda v: v.isoformat(" ")), "time": st.times().map(str), "uuid": st.uuids().map(str),
    "timestamptz": MOMENTS.map(lambda v: f"{v.isoformat(' ')}+00"), "hugeint": NUMBERS["bigint"],
    "mood": st.sampled_from(["low", "high"]), "json": st.sampled_from(['{"a": 1}', "[1,  null]", "3"]),
}  # fmt: skip
TYPES["pg8000"] = {
    t: v for t, v in TYPES["postgresql"].items()
    if t in (*NUMBERS, "text", "varchar(12)", "boolean", "date", "timestamp", "timestamptz", "time", "uuid")
}  # fmt: skip
KEYS = {
    "sqlite": ["integer", "text", "uuid"],
    "postgresql": ["integer", "bigint", "text", "uuid"],
    "mariadb": ["integer", "bigint", "uuid"],
    "firebird": ["integer", "bigint", "varchar(12)"],
    "pg8000": ["integer", "bigint", "text", "uuid"],
    "duckdb": ["integer", "bigint", "uuid"],
}
NAMES = st.sampled_from(
    ['a"b', "select", "Größe", "x y", "it's", "%s", "percent%", ":p", "😀", "n" * 63, "back`tick", "UPPER"]
)


@pytest.fixture(params=["sqlite", "postgresql", "mariadb", "firebird", "pg8000", "duckdb"])
def place(request, tmp_path, open_base):
    yield from opened(request, tmp_path, open_base)


def stored(bench):
    """Every row, in an order of its own."""
    return in_order(zip(*(c.values() for c in bench.table.columns), strict=True))


def in_order(rows):
    return sorted((tuple(map(plainly, row)) for row in rows), key=repr)


def plainly(value):
    """A column that had no value takes its first one as text, times too."""
    value = span_text(value) if isinstance(value, dt.timedelta) else str(value) if isinstance(value, UUID) else value
    if isinstance(value, str) and value[:1].isdigit():
        for kind in (dt.date, dt.datetime, dt.time, Decimal):
            with contextlib.suppress(ValueError, ArithmeticError):
                value = kind.fromisoformat(value) if kind is not Decimal else Decimal(value)
                break
    return value.normalize() if isinstance(value, Decimal) else str(value) if isinstance(value, dt.date) else value


def take(bench, row, place, text):
    """Type a text into a cell. Returns whether it was taken."""
    field, info = bench.table.fields[place], bench.target.column(place)
    value = read_value(text, field, info, bench.dialect)
    bench.edits.apply(Action("Edit", ((row, place, value),)))


@st.composite
def tables(draw, kind):
    types = TYPES[kind]
    no = {"mariadb": ("😀",), "firebird": ("😀", "n" * 63), "pg8000": ("%s", "percent%")}.get(kind, ())
    some = NAMES.filter(lambda name: name not in no)
    names = draw(st.lists(some, min_size=2, max_size=5, unique_by=str.casefold))
    key_types = draw(st.lists(st.sampled_from(KEYS[kind]), min_size=1, max_size=min(2, len(names) - 1)))
    own = draw(
        st.lists(
            st.sampled_from(sorted(types)), min_size=len(names) - len(key_types), max_size=len(names) - len(key_types)
        )
    )
    columns = list(zip(names, [*key_types, *own], strict=True))

    def values(type_):
        return types[type_]

    rows = draw(
        st.lists(
            st.tuples(
                *(values(t) if n < len(key_types) else st.none() | values(t) for n, (_, t) in enumerate(columns))
            ),
            min_size=1,
            max_size=6,
            unique_by=lambda r: tuple(str(v).casefold().strip() for v in r[: len(key_types)]),
        )
    )
    edits = draw(
        st.lists(st.tuples(st.integers(0, 5), st.integers(len(key_types), len(names) - 1), st.data()), max_size=6)
    )
    return (
        columns,
        len(key_types),
        rows,
        draw(st.sets(st.integers(0, 5), max_size=2)),
        [(r, c, draw(st.none() | values(columns[c][1]))) for r, c, _ in edits],
    )


def insert(bench, rows):
    """New rows, through the write-back itself."""
    for new, row in zip(bench.edits.new_ids(len(rows)), rows, strict=True):
        bench.edits.apply(Action("New", add=((new, -1),)))
        for at, text in enumerate(row):
            if text is not None:
                take(bench, new, at, text)


@pytest.mark.timeout(7200 if os.environ.get("NIMBLE_OTTER_LONG") else 180)
@settings(
    report_multiple_bugs=False,
    phases=[phase for phase in Phase if phase is not Phase.explain],  # it traces every line
    max_examples=how_many(6, 10_000),
    suppress_health_check=list(HealthCheck),
)
@given(data=st.data())
def test_the_table_is_what_a_model_says_and_the_reversal_brings_it_back(place, data):
    columns, keys, rows, deleted, edits = data.draw(tables(place.kind))
    extra = f", primary key ({', '.join(place.quote(n) for n, _ in columns[:keys])})"
    name = (
        place.table([(n, t + (" not null" if at < keys else "")) for at, (n, t) in enumerate(columns)], extra)
        if place.kind != "mariadb"
        else place.table(columns, extra)
    )
    empty = place.bench(name)
    insert(empty, rows)
    made = write(place.connection, empty.plan)
    assert made.is_written, [o.problem for o in made.conflicts]
    bench = place.bench(name)
    before = stored(bench)
    assert len(before) == len(rows)
    model = [list(row) for row in zip(*(c.values() for c in bench.table.columns), strict=True)]
    for row, at, text in edits:
        if row < len(model) and row not in deleted:
            take(bench, row, at, text)
            model[row][at] = bench.edits.cells[row][at]
    doomed = [row for row in deleted if row < len(model)]
    bench.edits.apply(Action("Delete", delete=tuple(doomed)))
    guard = data.draw(st.sampled_from(["seen", "row", "key"]))
    plan = make_plan(bench.edits, bench.table, bench.target, guard)
    tried = rehearse(place.connection, plan)
    assert not tried.conflicts, [o.problem for o in tried.conflicts]
    assert stored(place.bench(name)) == before
    texts = script(plan)
    report = write(place.connection, plan)
    assert report.is_written
    after = stored(place.bench(name))
    assert after == in_order(row for n, row in enumerate(model) if n not in doomed)
    assert not any(o.note for o in report.outcomes if place.kind == "sqlite"), report.outcomes
    assert write(place.connection, report.back).is_written
    assert stored(place.bench(name)) == before
    place.client(texts)
    assert stored(place.bench(name)) == after
    place.client(report.reversal)
    assert stored(place.bench(name)) == before
    place.clean()


ITEM = [("id", "integer not null"), ("name", "varchar(40)"), ("amount", "numeric(8,2)"), ("note", "text")]


@pytest.fixture
def items(place):
    """A table of ten items, pulled."""
    name = place.table(ITEM, ", primary key (id)")
    place.do(
        f"insert into {place.quote(name)} values " + ", ".join(f"({n}, 'item {n}', {n}.50, null)" for n in range(1, 11))
    )
    return place.bench(name)


def rows(place, bench, order="id"):
    """What another connection reads now."""
    name = bench.target.table.name
    return Bench(place.connection, f"select * from {place.quote(name)} order by {order}").table


def test_a_conflict_tells_both_values_and_a_lost_row_is_told_apart(place, items):
    name = place.quote(items.target.table.name)
    for row, text in ((0, "mine"), (1, "mine too"), (2, "fine")):
        take(items, row, 1, text)
    items.edits.apply(Action("Delete", delete=(4,)))
    place.do(f"update {name} set name = 'THEIRS' where id = 1")
    place.do(f"delete from {name} where id = 2")
    place.do(f"update {name} set name = 'ITEM 5' where id = 5")  # the same but for its case
    for deed in (rehearse, write):
        report = deed(place.connection, items.plan)
        assert not report.is_written
        assert {(o.statement.key[0][1], o.is_gone, o.now) for o in report.conflicts} == {
            (1, False, (("name", "THEIRS"),)), (2, True, ()), (5, False, (("name", "ITEM 5"),)),
        }  # fmt: skip
        assert report.good == 1
    assert rows(place, items).column("name").value(1) == "item 3"


def test_what_the_server_refuses_is_found_among_many_and_said(place, items):
    place.do(f"insert into {place.quote(items.target.table.name)} values (1001, 'other', 0, null)")
    for row in range(10):
        take(items, row, 1, f"new {row}")
    take(items, 6, 0, "1001")
    report = rehearse(place.connection, items.plan)
    assert report.good == (9 if place.kind != "duckdb" else 6)  # which ends the transaction at the first one
    refused = report.conflicts[0]
    assert all("Not tried" in o.problem for o in report.conflicts[1:])
    assert refused.statement.key == (("id", 7),)
    assert "refused" in refused.problem
    assert "1001" in refused.problem or "UNIQUE" in refused.problem or "unique" in refused.problem


def test_rows_without_a_key_are_matched_by_all_values_when_that_is_asked_for(place):
    name = place.table([("a", "integer"), ("b", "varchar(9)"), ("c", "double precision")])
    place.do(f"insert into {place.quote(name)} values (1, 'x', 0.1), (2, null, null), (3, 'y', 1), (3, 'y', 1)")
    assert place.bench(name).target.could_match
    bench = place.bench(name, by_values=True)
    take(bench, 0, 1, "X")
    take(bench, 1, 2, "2.5")
    report = write(place.connection, bench.plan)
    assert report.is_written, report.conflicts
    assert write(place.connection, report.back).is_written
    again = place.bench(name, f"select * from {place.quote(name)} order by a", by_values=True)
    take(again, 2, 1, "z")
    assert "2 rows" in rehearse(place.connection, again.plan).conflicts[0].problem


def test_a_unique_column_that_is_never_empty_is_a_key(place):
    name = place.table([("code", "varchar(9) not null unique"), ("n", "integer")])
    place.do(f"insert into {place.quote(name)} values ('a', 1), ('b', 2)")
    bench = place.bench(name, f"select n from {place.quote(name)} order by n")
    assert bench.target.keys == ((1, "code"),)
    take(bench, 1, 0, "5")
    assert write(place.connection, bench.plan).is_written
    assert rows(place, bench, "code").column("n").values() == [1, 5]


def test_computed_columns_are_refused_and_keys_that_the_server_gives_are_read_back(place):
    number = {"sqlite": "integer primary key", "mariadb": "integer auto_increment primary key",
              "firebird": "integer generated by default as identity primary key",
              "duckdb": "integer default nextval('numbers') primary key"}  # fmt: skip
    number = number.get(place.kind, "integer generated always as identity primary key")
    stored = "" if place.kind in ("firebird", "duckdb") else " stored"
    name = place.table(
        [("id", number), ("n", "integer default 7"), ("twice", f"integer generated always as (n * 2){stored}")]
    )
    bench = place.bench(name)
    with pytest.raises(ChangeError, match="generated column"):
        bench.target.column(2)
    new = bench.edits.new_ids(2)
    bench.edits.apply(Action("New", ((new[1], 1, 30),), add=((new[0], -1), (new[1], -1))))
    report = write(place.connection, bench.plan)
    assert report.is_written, report.conflicts
    assert [report.written[row]["twice"] for row in new] == [14, 60]
    assert [report.written[row]["id"] for row in new] == [1, 2]
    assert write(place.connection, report.back).is_written


def test_what_a_new_row_is_said_to_hold_is_what_the_server_puts_there(place):
    number = {"sqlite": "integer primary key", "mariadb": "integer auto_increment primary key",
              "firebird": "integer generated by default as identity primary key",
              "duckdb": "integer default nextval('numbers') primary key"}  # fmt: skip
    id_type = number.get(place.kind, "integer generated always as identity primary key")
    stored = "" if place.kind in ("firebird", "duckdb") else " stored"
    name = place.table([
        ("id", id_type), ("must", "integer not null"), ("may", "integer"),
        ("kept", "varchar(9) default 'draft' not null"),
        ("many", "integer default 7"), ("twice", f"integer generated always as (many * 2){stored}"),
    ])  # fmt: skip
    bench = place.bench(name)
    alone = {info.name: unset_cell(info, bench.target.dialect, True) for info in bench.target.table.columns}
    said = {column: cell.filling for column, cell in alone.items()}
    assert said == {
        "id": said["id"], "must": Filling.REQUIRED, "may": Filling.NULL, "kept": Filling.DEFAULT,
        "many": Filling.DEFAULT, "twice": Filling.COMPUTED,
    }  # fmt: skip
    assert said["id"] is (Filling.DEFAULT if place.kind == "duckdb" else Filling.ASSIGNED)
    assert "draft" in alone["kept"].expression
    assert "7" in alone["many"].text
    (row,) = bench.edits.new_ids(1)
    bench.edits.apply(Action("New", add=((row, -1),)))
    assert not write(place.connection, bench.plan).is_written  # what is required is missing
    bench.edits.apply(Action("Type", ((row, bench.table.index("must"), 3),)))
    report = write(place.connection, bench.plan)
    assert report.is_written, report.conflicts
    now = dict(zip((f.name.lower() for f in bench.table.fields), stored_row(place, name), strict=True))
    assert (now["may"], now["kept"], now["many"], now["twice"]) == (None, "draft", 7, 14)
    assert now["id"] is not None


def stored_row(place, name):
    table = place.bench(name).table
    assert table.rows == 1
    return [column.value(0) for column in table.columns]


def test_deleting_a_row_that_others_hang_on_is_told_not_done(place, items):
    if place.kind == "duckdb":
        pytest.skip("its foreign keys change nothing elsewhere")
    name = items.target.table.name
    child = place.table(
        [("c", "integer"), ("item", "integer")],
        f", foreign key (item) references {place.quote(name)} (id) on delete cascade",
    )
    place.do(f"insert into {place.quote(child)} values (1, 3), (2, 3)")
    items.edits.apply(Action("Delete", delete=(1, 2)))
    report = write(place.connection, items.plan)
    assert not report.is_written
    assert [o.statement.key[0][1] for o in report.conflicts] == [3]
    assert "2" in report.conflicts[0].problem


def test_rows_that_refer_to_each_other_are_written_in_the_order_that_their_keys_need(place):
    if place.kind == "duckdb":
        pytest.skip("it checks keys of a transaction before its end, and refuses")
    name = f"tree {next(COUNT)}"
    place.table(
        [("id", "integer not null primary key"), ("up", "integer")],
        f", foreign key (up) references {place.quote(name)} (id)",
        name,
    )
    bench = place.bench(name)
    insert(bench, [("3", "2"), ("2", "1"), ("1", None)])
    report = write(place.connection, bench.plan)
    assert report.is_written, report.conflicts
    full = place.bench(name)
    full.edits.apply(Action("Delete", delete=(0, 1, 2)))
    assert write(place.connection, full.plan).is_written
    swapped = place.bench(name)
    insert(swapped, [("1", None), ("2", None), ("3", None)])
    assert write(place.connection, swapped.plan).is_written
    moved = place.bench(name, f"select * from {place.quote(name)} order by id")
    for row in range(3):  # 1 becomes 2, 2 becomes 3, 3 becomes 4
        take(moved, row, 0, str(row + 2))
    assert write(place.connection, moved.plan).is_written
    place.do(f"delete from {place.quote(name)}")


def test_what_a_trigger_changes_is_shown_as_the_server_keeps_it(place, items):
    name, own = place.quote(items.target.table.name), f"shout_{next(COUNT)}"
    if place.kind == "duckdb":
        pytest.skip("it has no triggers")
    if place.kind == "sqlite":
        place.do(
            f"create trigger {own} after update on {name} begin "
            f"update {name} set note = upper(new.name) where id = new.id; end"
        )
    elif place.kind == "firebird":
        place.do(f"create trigger {own} for {name} before update as begin new.note = upper(new.name); end")
    elif place.kind == "mariadb":
        place.do(f"create trigger {own} before update on {name} for each row set new.note = upper(new.name)")
    else:
        place.do(
            f"create function {own}() returns trigger language plpgsql as "
            "$$ begin new.note := upper(new.name); return new; end $$"
        )
        place.do(f"create trigger {own} before update on {name} for each row execute function {own}()")
    take(items, 0, 1, "loud")
    take(items, 0, 3, "quiet")
    report = write(place.connection, items.plan)
    assert report.written[0]["note"] == "LOUD"
    assert "note is kept as LOUD" in report.outcomes[0].note


@pytest.mark.parametrize(
    ("column", "text", "says"),
    [
        (1, "x" * 41, "40 characters"),
        (2, "1.005", "2 decimals"),
        (2, "1234567.5", "out of range"),
        (0, "5000000000", "out of range"),
        (2, "many", "numbers"),
        (0, None, "NULL"),
    ],
)
def test_values_that_a_column_can_not_hold_are_refused_at_once(place, items, column, text, says):
    if (place.kind == "sqlite" and says != "numbers") or (place.kind == "duckdb" and "characters" in says):
        pytest.skip("it holds them")
    with pytest.raises(ValueRefused, match=says):
        take(items, 0, column, text)


class Watched(Line):
    """A line that is cut while the server's answer to a commit is under way, or before the commit arrives."""

    when = ""

    def _carry(self, source, target, bytes_s):
        with contextlib.suppress(OSError):
            is_up = target.getpeername()[1] == self._to
            while data := source.recv(16384):
                has = b"commit" in data.lower()
                if (is_up and has and self.when == "before") or (not is_up and self.cut_down.is_set()):
                    self.when = ""
                    self.cut_down.clear()
                    break
                if is_up and has and self.when == "after":
                    self.when = ""
                    self.cut_down.set()
                target.sendall(data)
        for end in (source, target):
            with contextlib.suppress(OSError):
                end.shutdown(2)

    def __init__(self, port):
        self.cut_down = threading.Event()
        super().__init__(port)


@pytest.mark.parametrize("when", ["before", "after"])
def test_a_line_that_is_lost_in_the_commit_is_never_reported_wrongly(place, items, when):
    if place.kind not in ("postgresql", "mariadb"):
        pytest.skip("no line, or one in which a commit can't be seen from outside")
    name = items.target.table.name
    for number in range(2 if not os.environ.get("NIMBLE_OTTER_LONG") else 100):
        line = Watched(place.server.port)
        far = connect(Source("far", place.url.replace(str(place.server.port), str(line.port))))
        try:
            fresh = place.bench(name, f"select * from {place.quote(name)} order by id")
            fresh.connection = far
            take(fresh, number % 10, 1, f"{when} {number}")
            take(fresh, (number + 1) % 10, 1, f"{when} {number} too")
            with far.transaction():
                line.when, wrote = when, None
            try:
                report = write(far, fresh.plan)
                assert "all of it was written" in report.said
                wrote = True
            except OutcomeUnknown:
                pass
            except (ChangeError, LostError) as problem:
                wrote = False if "othing was written" in str(problem) else problem
            line.when, now = (
                "",
                [v for v in rows(place, fresh).column("name").values() if v.startswith(f"{when} {number}")],
            )
            assert (wrote, len(now)) in ((True, 2), (False, 0))
        finally:
            far.close()
            line.close()


def test_a_second_writer_never_loses_an_update(place, items):
    name, rounds = items.target.table.name, 1000 if os.environ.get("NIMBLE_OTTER_LONG") else 20
    url = place.url if place.server else f"{place.kind}:///{place.url}"
    one, two = (connect(Source("w", url)) for _ in range(2))
    wins, start = [], threading.Barrier(2)

    def race(connection, word):
        for _ in range(rounds):
            bench = Bench(
                connection,
                f"select * from {place.quote(name)} where id = 1",
            )
            before = bench.table.column("note").value(0) or ""
            start.wait(30)
            take(bench, 0, 3, f"{before}{word}")
            try:
                if write(connection, bench.plan).is_written:
                    wins.append(word)
            except OtterError:
                pass
            start.wait(30)

    threads = [threading.Thread(target=race, args=pair) for pair in ((one, "a"), (two, "b"))]
    [thread.start() for thread in threads]
    [thread.join(120) for thread in threads]
    one.close()
    two.close()
    assert len(rows(place, items).column("note").value(0)) == len(wins) >= rounds


def test_a_thousand_edits_over_a_slow_line_take_few_waits(place):
    if place.kind not in ("postgresql", "mariadb"):
        pytest.skip("no line, or a client that waits for each answer")
    name = place.table(ITEM, ", primary key (id)")
    place.do(
        f"insert into {place.quote(name)} values " + ", ".join(f"({n}, 'item {n}', {n}.50, null)" for n in range(1000))
    )
    line = Line(place.server.port)
    far = connect(Source("far", place.url.replace(str(place.server.port), str(line.port))))
    try:
        bench = Bench(far, f"select * from {place.quote(name)}")
        for row in range(1000):
            take(bench, row, 1, f"new {row}")
        line.turns = 0
        report = write(far, bench.plan)
    finally:
        far.close()
        line.close()
    assert report.is_written
    assert line.turns < 40


def test_a_table_without_transactions_is_said_and_written_one_by_one(place):
    if place.kind != "mariadb":
        pytest.skip("every table there has transactions")
    name = f"plain {next(COUNT)}"
    place.do(f"create table {place.quote(name)} (id integer primary key, v varchar(9)) engine = MyISAM")
    place.made.append(name)
    place.do(f"insert into {place.quote(name)} values (1, 'a'), (2, 'b'), (3, 'c')")
    bench = place.bench(name)
    for row in range(3):
        take(bench, row, 1, "new")
    place.do(f"update {place.quote(name)} set v = 'B' where id = 2")
    for deed in (rehearse, write):
        with pytest.raises(NoTransactions, match="MyISAM"):
            deed(place.connection, bench.plan)
    report = write_each(place.connection, bench.plan)
    assert (report.good, [s.key for s in report.left]) == (1, [(("id", 2),), (("id", 3),)])
    assert report.conflicts[0].now == (("v", "B"),)
    assert rows(place, bench).column("v").values() == ["new", "B", "c"]


def test_checks_refuse_here_what_the_server_refuses(place):
    name = place.table(
        [("id", "integer"), ("n", "integer"), ("low", "double precision"), ("high", "double precision")],
        ", primary key (id), check (n between 1 and 9), check (low < high or high is null), check (n <> 7)",
    )
    place.do(f"insert into {place.quote(name)} values (1, 5, 0.5, 2.5)")
    bench = place.bench(name)
    assert len(bench.target.table.checks) == 3
    held = dict(zip(("id", "n", "low", "high"), (1, 5, 0.5, 2.5), strict=True))
    for column, value in (("n", 9), ("n", 10), ("n", 7), ("n", None), ("low", 2.5), ("low", -1.0), ("high", None)):
        said = "null" if value is None else repr(value)
        try:
            place.do(f"update {place.quote(name)} set {column} = {said}")
            taken = True
            place.do(f"update {place.quote(name)} set n = 5, low = 0.5, high = 2.5")
        except OtterError:
            taken = False
        try:
            refuse_broken(bench.target.table, bench.dialect, column, {**held, column: value})
            passed = True
        except ValueRefused:
            passed = False
        assert passed == taken, (column, value, bench.target.table.checks)


def test_origins_are_those_that_the_server_tells(place):
    if place.kind != "postgresql":
        pytest.skip("only PostgreSQL's client tells them")
    name = place.table([("id", "integer primary key"), ("a", "integer"), ("b", "integer")])
    quoted, view = place.quote(name), place.quote(f"v {name}")
    place.do(f"insert into {quoted} values (1, 2, 3)")

    def origins(text):
        return [o and o.column for o in place.bench(name, text).fetched.origins]

    text = f"select id, a, b, a + b as c from {quoted}"
    assert origins(text) == origins(f"{text} where false") == ["id", "a", "b", None]
    inner = f"with w as (select * from {quoted}) select w.b as a, x.id from w join (select id from {quoted}) x on true"
    assert origins(inner) == ["b", "id"]
    place.do(f"create view {view} as select id, b as z from {quoted}")
    assert origins(f"select * from {view}") == ["id", "b"]
    place.do(f"drop view {view}")
    place.do(f"alter table {quoted} rename column a to old")
    place.do(f"alter table {quoted} rename column b to a")
    place.connection._known.clear()
    assert origins(f"select a, old from {quoted}") == ["a", "old"]  # asked again, as the numbers have other names now
    with pytest.MonkeyPatch.context() as patch:
        wrong = dict.fromkeys(place.connection._named, ("public", name, "other"))
        patch.setattr(place.connection, "_named", wrong)
        patch.setattr(place.connection, "_names_of", lambda tables, unknown: {})
        denied = place.bench(name, f"select id, a from {quoted}")
        assert denied.fetched.origins == (None, None)
        assert not denied.target.is_open
