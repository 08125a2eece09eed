"""Edges where a small slip would go unseen: each was slipped by chance once, and no test had noticed."""

import datetime as dt
import threading
import uuid
from dataclasses import replace
from decimal import Decimal
from types import SimpleNamespace

import numpy as np
import pytest

from nimble_otter.changes.values import read_value
from nimble_otter.cli import main
from nimble_otter.errors import QueryError, ValueRefused
from nimble_otter.pull import Pull, Query, pull_from_text, pull_to_text, run_course
from nimble_otter.pull.charts.model import KeyBy
from nimble_otter.pull.charts.places import kind_of as chart_kind
from nimble_otter.pull.charts.suggest import chart_of, figure_for
from nimble_otter.pull.compared import find_key
from nimble_otter.pull.deliver import rows_to_send
from nimble_otter.pull.shaped import all_rows
from nimble_otter.pull.steps.reshape import DistinctStep
from nimble_otter.pull.timetable import Timetable
from nimble_otter.query.assist.rewrite import format_sql
from nimble_otter.query.lazy import sqlglot
from nimble_otter.query.local.conditions import parse_condition, parse_expression
from nimble_otter.send.formats import sql
from nimble_otter.send.send import format_for, send_to_file
from nimble_otter.sources import Source
from nimble_otter.sources.catalogue import ColumnInfo, TableInfo
from nimble_otter.sources.dialects.mariadb import MARIADB
from nimble_otter.sources.dialects.postgresql import POSTGRESQL
from nimble_otter.stop import NEVER
from nimble_otter.table import MISSING, Kind, View
from nimble_otter.table.core.build import column_of, table_of
from nimble_otter.table.core.column_builder import ColumnBuilder
from nimble_otter.table.core.columns import Field
from nimble_otter.table.ops import digests
from nimble_otter.table.ops.expressions import compute
from nimble_otter.table.ops.filter import filter_view
from nimble_otter.table.ops.group import AggregateFunction as Agg
from nimble_otter.table.ops.group import group_view
from nimble_otter.table.ops.measures import Aggregate
from nimble_otter.table.text import patterns
from nimble_otter.table.text.collation import dictionary_key
from nimble_otter.table.text.content import hex_lines
from nimble_otter.table.text.show import LONGEST, shown
from nimble_otter.table.text.text_format import render_all

AT = dt.datetime(2031, 5, 28, 6, 30, 15, 250_000)
NIGHT = AT.replace(hour=18)
VALUES = {
    "at": [AT, NIGHT], "clock": [AT.time(), NIGHT.time()], "span": [dt.timedelta(hours=2), -dt.timedelta(minutes=90)],
    "n": [25, -7], "text": [" +7 ", "12"], "tags": [["alder", "weir"], ["pool"]],
}  # fmt: skip


@pytest.mark.parametrize(
    ("expression", "wanted"),
    [
        ("to_char(at, 'HH12:MI am')", ["06:30 am", "06:30 pm"]),
        ("to_char(at, 'FMMonth FMDay')", ["May Wednesday", "May Wednesday"]),
        ("cast(text as integer)", [7, 12]),
        ("span * 2", [dt.timedelta(hours=4), -dt.timedelta(hours=3)]),
        ("2 * span", [dt.timedelta(hours=4), -dt.timedelta(hours=3)]),
        ("round(n, -1)", [30, -10]),
        ("round(n, 0)", [25, -7]),
        ("round(n)", [25, -7]),
        ("extract(second from clock)", [Decimal("15.250000"), Decimal("15.250000")]),
        ("at + interval '1 day 02:00:00'", [AT + dt.timedelta(days=1, hours=2), NIGHT + dt.timedelta(days=1, hours=2)]),
        ("at + interval '-02:00:00'", [AT - dt.timedelta(hours=2), NIGHT - dt.timedelta(hours=2)]),
    ],
)
def test_values_are_worked_out_alone_and_as_columns(expression, wanted):
    table = table_of(**VALUES)
    assert compute(parse_expression(expression, table), table, np.arange(2)).values() == wanted
    few = table_of(**{name: [*values, *values] * 2 for name, values in VALUES.items()})
    assert compute(parse_expression(expression, few), few, np.arange(8)).values() == wanted * 4


@pytest.mark.parametrize("dialect", ["postgres", "mysql", "duckdb", ""])
@pytest.mark.parametrize(
    "text", ["1 day 02:00:00", "1 day ago", "1 week 3", "-1 month +3 days 04:05:06.7", "02:00:00", "1 day 2 hours"]
)
def test_nothing_of_an_interval_is_lost_when_a_statement_is_parsed(text, dialect):
    written = sqlglot.parse_one(f"select interval '{text}' as gap", dialect=dialect or None).sql(dialect or None)
    assert f"INTERVAL '{text}' AS gap" in written
    assert text in format_sql(f"select interval '{text}' as gap", dialect)


def test_what_the_parser_would_lose_is_never_formatted_away(monkeypatch):
    from sqlglot import expressions

    monkeypatch.setattr(expressions, "INTERVAL_STRING_RE", expressions.INTERVAL_STRING_RE._pattern)
    with pytest.raises(QueryError, match="without changing its meaning"):
        format_sql("select interval '1 day 02:00:00' gap", "postgres")


def test_conditions_on_an_item_of_a_list_and_on_days_beside_texts():
    table = table_of(tags=[["alder", "weir"], ["pool"], None], day=[AT.date(), AT.date(), None])
    for text, rows in (("any(tags) like 'a%'", [0]), ("any(tags) ~ 'oo'", [1]), ("day = '2031-05-28'", [0, 1])):
        assert filter_view(View(table), parse_condition(text, table)).row_ids().tolist() == rows


def test_a_range_has_the_digits_of_its_column():
    for values, wanted in (([1, 5], 4), ([Decimal("1.50"), Decimal("4.25")], Decimal("2.75"))):
        groups = group_view(View(table_of(v=values)), [], [Aggregate(Agg.RANGE, 0)])
        assert groups.totals.columns[0].values() == [wanted]


def test_a_chance_of_many_ways_is_told_by_their_product():
    assert patterns.tester("(a|b|c)(d|e)?x", True)("adx")
    for pattern, ways in (("(ab|cd)(ef|gh)", 4), ("(x)?(?(1)ab|cd)(ef|gh)", 8), ("(?:ab|cd){2}", 4)):
        assert patterns._ways(patterns.re._parser.parse(pattern)) == ways, pattern


def test_texts_as_they_are_shown():
    assert list(hex_lines(b"weir, alder pool."))[1] == "000010  " + "2e".ljust(47) + "  ."
    assert shown(bytes(LONGEST + 1)) == "over 65\u2009536 bytes"
    assert render_all([None, MISSING, AT], "%Y-%m-%d %H:%M")[:2] == [None, MISSING]
    assert sorted(["İz", "ix", "Iy", "ız"], key=lambda text: dictionary_key(text, "tr")) == ["Iy", "ız", "ix", "İz"]
    for expression, words in (("30 4 * * 1-5", "weekdays"), ("30 4 * * 2", "Tue"), ("30 4 * * 2-4", "on 2-4")):
        assert words in Timetable(expression).words()


def test_whole_rows_are_distinct_by_the_columns_in_sight():
    table = table_of(a=[1, 1, 1], b=["x", "x", "y"], c=[1, 2, 3])
    course = run_course(table, (DistinctStep(),))
    assert len(course.end.view) == 3
    shaped = replace(all_rows(table), columns=(0, 1))
    assert len(DistinctStep().apply(shaped, NEVER).view) == 2


def test_rows_that_are_sent_have_the_keys_of_their_table():
    info = TableInfo("t", columns=(ColumnInfo("a", "INTEGER", "integer", key=True), ColumnInfo("b", "TEXT", "text")))
    table = table_of(a=[1], b=["x"])
    table = table.with_fields([replace(f, origin=f"t.{f.name}") for f in table.fields])
    assert rows_to_send(all_rows(table), "t", info).keys == ("a",)


def test_a_pull_file_without_a_language_is_sql():
    text = pull_to_text(Pull("P", Source("S", "sqlite:///x"), Query("select 1")))
    without = "\n".join(line for line in text.splitlines() if not line.startswith("language"))
    assert pull_from_text(without).query.language == "sql"


def test_keys_are_looked_for_among_columns_that_can_be_compared():
    days = [AT.date(), AT.date() + dt.timedelta(1)]
    here, there = table_of(a=[1, 2], b=["x", "y"]), table_of(a=days, b=["x", "y"])
    assert find_key(View(here), View(there)) == ("b",)
    assert find_key(View(there), View(here)) == ("b",)


def test_charts_are_suggested_by_kind():
    fields = [Field("n", Kind.INT), Field("level", Kind.FLOAT), Field("river", Kind.TEXT)]
    assert [figure_for(f) for f in fields] == ["sum", "mean", "count"]
    chart = chart_of(fields, "river")
    assert (chart.kind.value, chart.order, chart.top, chart.along) == ("bars", "largest", 20, KeyBy("river"))
    assert [chart_kind(Field("v", kind), part) for kind, part in (
        (Kind.FLOAT, "steps of 0.5"), (Kind.TEXT, "first 2"))] == ["number", "category"]  # fmt: skip


@pytest.mark.parametrize(
    ("declared", "word", "text", "wanted"),
    [
        ("NUMERIC(5, 2)", "decimal", "999.99", Decimal("999.99")),
        ("NUMERIC(5, 2)", "decimal", "1000", None),
        ("NUMERIC(5, 2)", "decimal", "0.00", Decimal("0.00")),
        ("NUMERIC(2, 2)", "decimal", "1", None),
        ("BOOLEAN", "yes/no", "maybe", None),
        ("BOOLEAN", "yes/no", "yes", True),
        ("TIMESTAMP", "time", "2031-05-28 06:30", dt.datetime(2031, 5, 28, 6, 30)),
    ],
)
@pytest.mark.parametrize("dialect", [POSTGRESQL, MARIADB], ids=str)
def test_typed_values_fit_their_columns(declared, word, text, wanted, dialect):
    info = ColumnInfo("c", declared, word)
    field = Field("c", column_of([wanted]).kind if wanted is not None else Kind.DECIMAL, form="%Y-%m-%d %H:%M")
    if wanted is None:
        with pytest.raises(ValueRefused, match="c "):
            read_value(text, field, info, dialect, None)
    else:
        assert read_value(text, field, info, dialect, None) == wanted


def test_digests_of_uuids_are_those_of_their_texts():
    """As they were when deliveries were kept by them: by the bytes of the text in quotes."""
    texts = [str(uuid.UUID(int=n * 0x9E3779B97F4A7C15F39CC0605CEDC835 % 2**128)) for n in range(300)]
    builder = ColumnBuilder(Kind.UUID)
    builder.extend([*texts, None])
    column = builder.finish()
    assert column.kind is Kind.UUID
    found = digests.column_digests(column, np.arange(301)).tolist()
    other, none = int(digests._OTHER), int(digests._NONE)
    assert found == [*(digests._of_bytes(repr(text).encode()) ^ other for text in texts), none]


def test_letters_of_many_texts_are_pythons():
    letters = "".join(map(chr, range(1, 127)))
    texts = [letters[n % 100 :] + str(n) for n in range(2000)]
    table = table_of(v=[*texts, None])
    for name, own in (("upper", str.upper), ("lower", str.lower), ("length", len)):
        values = compute(parse_expression(f"{name}(v)", table), table, np.arange(2001)).values()
        assert values == [*map(own, texts), None], name


def test_decimals_of_all_digits_come_back_from_parquet(tmp_path):
    parquet = pytest.importorskip("pyarrow.parquet")
    values = [Decimal(n).scaleb(-2) for n in (2**63 - 1, -(2**63) + 1, 2**62, -1, 0)] + [None]
    send_to_file(rows_to_send(all_rows(table_of(v=values)), "t"), format_for("parquet"), tmp_path / "x.parquet")
    assert parquet.read_table(tmp_path / "x.parquet").column("v").to_pylist() == values


def test_rows_of_a_script_are_counted_whatever_part_of_it_is_read_at_a_time(tmp_path, monkeypatch):
    texts = ["it's\n  (not a row", "plain", 'quote " and \n  (this', "`\n  (tick", ""] * 9
    table = table_of(a=texts, b=list(range(len(texts))))
    rows = rows_to_send(all_rows(table), 'odd "na`me')
    sent = send_to_file(rows, format_for("sql"), tmp_path / "x.sql", {"batch": 4})
    assert sent.rows == len(texts)
    for size in (3, 17, 64, 1000):
        monkeypatch.setattr(sql, "_PART", size)
        out = SimpleNamespace(stop=NEVER)
        assert format_for("sql").count(tmp_path / "x.sql", out) == len(texts), size


def test_the_command_line_runs_in_any_thread(capsys):
    codes = []
    worker = threading.Thread(target=lambda: codes.append(main(["formats"])))
    worker.start()
    worker.join(20)
    assert codes == [0]
    assert "csv" in capsys.readouterr().out
