"""What every format must do: all rows and exact values, read back with another library; whole files or none."""

import base64
import csv
import datetime as dt
import html.parser
import io
import json
import math
import re
import sqlite3
import xml.etree.ElementTree as ET
import zipfile
from decimal import Decimal

import numpy as np
import openpyxl
import pyarrow.parquet
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl.utils.escape import unescape
from PIL import Image

from nimble_otter.errors import SendError, Stopped
from nimble_otter.send import (
    Names,
    all_formats,
    fill_name,
    format_for,
    format_of_file,
    rows_of_view,
    send_tables,
    send_text,
    send_to_file,
)
from nimble_otter.send.ddl import type_of
from nimble_otter.send.format import BATCH, Output
from nimble_otter.send.formats import xlsx as xlsx_module
from nimble_otter.send.literals import Literals
from nimble_otter.sources.source import dialect_of
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import MISSING, Field, Kind, View
from nimble_otter.table.core.build import column_of, table_of
from nimble_otter.table.text.column_format import ColumnFormat
from tests.files import sqlite_file
from tests.proofs import IS_LONG, how_many, proven

FORMATS = ["csv", "html", "json", "jsonl", "markdown", "parquet", "sql", "sqlite", "text", "xlsx", "xml"]
TEXTUAL = [key for key in FORMATS if key not in ("parquet", "sqlite", "xlsx")]
SAMPLE = {
    "id": [1, 2, 3, 4],
    "big": [2**63 - 1, None, -(2**63), 2**53 + 1],
    "real": [0.1, -0.0, 1e300, None],
    "amount": [Decimal("1.10"), Decimal("-0.05"), None, Decimal("3.00")],
    "yes": [True, False, None, True],
    "at": [
        dt.datetime(2031, 5, 28, 23, 0),
        dt.datetime(1969, 1, 1, 0, 0, 1),
        None,
        dt.datetime(2031, 5, 28, 0, 0, 0, 500000),
    ],
    "on": [dt.date(2031, 5, 28), dt.date(1850, 1, 1), None, dt.date(2000, 2, 29)],
    "zoned": [dt.datetime(2031, 5, 28, 23, tzinfo=dt.UTC), None, None, dt.datetime(1, 1, 1, tzinfo=dt.UTC)],
    "clock": [dt.time(23, 5), None, dt.time(0, 0, 0, 1), dt.time()],
    "span": [dt.timedelta(hours=26), dt.timedelta(microseconds=-1), None, dt.timedelta()],
    "text": ['quo"te, and\nline', "", None, "=1+1"],
    "ü name": ["tab\t;", " lead", "é€😀", "null"],
    "nested": [{"a": [1, None]}, [dt.datetime(2031, 1, 1)], None, {"b": 2.5}],
}


def rows_of(columns, ids=None, table="re sult", fields=None):
    made = table_of(**columns)
    return rows_of_view(fields or made.fields, made.columns, View(made, None if ids is None else np.array(ids)), table)


def send(columns, key, path, /, **options):
    exists = options.pop("exists", "replace")
    return send_to_file(rows_of(columns), format_for(key), path, options, exists=exists)


def text_of(columns, key, /, **options):
    return send_text(rows_of(columns), format_for(key), options)


class _Cells(html.parser.HTMLParser):
    def __init__(self):
        super().__init__()
        self.rows, self.is_in, self.is_hidden = [], False, False

    def handle_starttag(self, tag, attributes):
        self.is_hidden = tag == "span" and ("hidden", None) in attributes
        if tag == "tr":
            self.rows.append([])
        if tag in ("td", "th"):
            self.rows[-1].append("")
        self.is_in = tag in ("td", "th") or (self.is_in and tag == "span")

    def handle_endtag(self, tag):
        self.is_in = self.is_in and tag == "span"
        self.is_hidden = False

    def handle_data(self, data):
        if self.is_in and not self.is_hidden:
            self.rows[-1][-1] += data


def read_back(path, sheet=None):
    """The rows as dictionaries, read by another library."""
    text = path.read_text("utf-8-sig", "replace") if path.suffix not in (".xlsx", ".sqlite", ".parquet") else ""
    if path.suffix == ".csv":
        return list(csv.DictReader(io.StringIO(text, newline="")))
    if path.suffix == ".json":
        return json.loads(text, parse_float=Decimal)
    if path.suffix == ".jsonl":
        return [json.loads(line, parse_float=Decimal) for line in text.split("\n") if line]
    if path.suffix == ".html":
        parser = _Cells()
        parser.feed(text)
        return [dict(zip(parser.rows[0], row, strict=True)) for row in parser.rows[1:]]
    if path.suffix == ".xml":
        return [{value.tag: value.text or "" for value in row} for row in ET.fromstring(text)]
    if path.suffix == ".md":
        lines = [line.strip("| ").split(" | ") for line in text.splitlines()]
        return [dict(zip(lines[0], line, strict=False)) for line in lines[2:]]
    if path.suffix == ".txt":
        lines = text.splitlines()
        return [dict(zip(lines[0].split(), line.split(), strict=False)) for line in lines[2:]]
    if path.suffix == ".parquet":
        return pyarrow.parquet.read_table(path).to_pylist()
    if path.suffix == ".xlsx":
        book = openpyxl.load_workbook(path)
        lines = list((book[sheet] if sheet else book.worksheets[0]).iter_rows(values_only=True))
        return [dict(zip(lines[0], line, strict=True)) for line in lines[1:]]
    base = sqlite3.connect(path if path.suffix == ".sqlite" else ":memory:")
    base.row_factory = sqlite3.Row
    if path.suffix == ".sql":
        if "create table" not in text:
            names = (text.split("(", 1)[1].split(")")[0]) if "insert" in text else "n, t"
            base.execute(f'create table "re sult" ({names})')
        base.executescript(text)
    rows = [dict(row) for row in base.execute('select * from "re sult"')]
    base.close()
    return rows


def test_every_format_is_found_by_its_file_and_suffix():
    assert sorted(f.key for f in all_formats()) == FORMATS
    assert [format_of_file(n).key for n in ("/x/LEVELS.CSV", "a.tsv", "b.md", "c.jsonl")] == [
        "csv", "csv", "markdown", "jsonl",
    ]  # fmt: skip
    with pytest.raises(SendError, match="does not indicate a format"):
        format_of_file("levels.xyz")
    with pytest.raises(SendError, match="no format"):
        format_for("nosuch")
    for format_ in all_formats():
        names = [option.name for option in format_.options]
        assert len(set(names)) == len(names)
        assert all(o.default in dict(o.choices) for o in format_.options if o.kind == "choice"), format_.key
    wrong = {"encoding": ("x", "no encoding 'x'"), "words": ("yes", "two words"), "date": ("PP", "not a valid pattern")}
    for name, (value, match) in wrong.items():
        with pytest.raises(SendError, match=match):
            text_of({"a": [1]}, "csv", **{name: value})
    with pytest.raises(SendError, match="whole number"):
        text_of({"a": [1]}, "sql", rows="many")


@pytest.mark.parametrize("key", FORMATS)
@pytest.mark.parametrize("count", [0, 1, BATCH - 1, BATCH, BATCH + 1])
def test_all_rows_arrive_in_order_whatever_the_batches(key, count, tmp_path):
    path, ids = tmp_path / f"out{format_for(key).suffix}", list(range(count))[::-1]
    rows = rows_of({"n": list(range(count)) or [0], "t": ["x"] * (count or 1)}, ids)
    sent = send_to_file(rows, format_for(key), path)
    assert (sent.rows, sent.checked, sent.bytes) == (count, True, path.stat().st_size)
    assert [int(row["n"]) for row in read_back(path)] == ids


def test_csv_tells_no_value_from_empty_text_and_quotes_what_must_be(tmp_path):
    path = tmp_path / "a.csv"
    sent = send(SAMPLE, "csv", path)
    raw = path.read_bytes()
    assert raw.endswith(b"\r\n")
    rows = read_back(path)
    assert [r["text"] for r in rows] == ['quo"te, and\nline', "", "", "'=1+1"]
    assert sent.notes == ("2 texts that begin like a formula have an apostrophe before them",)
    lines = raw.decode().split("\r\n")
    assert ',"",' in lines[2]
    assert ',,"' not in lines[2]
    assert rows[0]["big"] == "9223372036854775807"
    assert [r["amount"] for r in rows] == ["1.10", "-0.05", "", "3.00"]
    assert [r["at"] for r in rows] == ["2031-05-28 23:00:00", "1969-01-01 00:00:01", "", "2031-05-28 00:00:00.500000"]
    assert [r["on"] for r in rows] == ["2031-05-28", "1850-01-01", "", "2000-02-29"]
    assert [rows[0][n] for n in ("zoned", "clock", "span")] == ["2031-05-28 23:00:00+00:00", "23:05:00", "26:00:00"]
    assert (rows[3]["zoned"], rows[2]["clock"]) == ("0001-01-01 00:00:00+00:00", "00:00:00.000001")
    assert [r["real"] for r in rows] == ["0.1", "-0.0", "1e+300", ""]
    assert rows[1]["ü name"] == " lead"
    assert json.loads(rows[0]["nested"]) == {"a": [1, None]}
    options = {"delimiter": "tab", "header": False, "empty": "∅", "line_end": "LF", "encoding": "utf-8-sig"}
    text = text_of({"a": ["x", None, "∅", ""], "b": [1, 2, 3, None]}, "csv", **options)
    assert text == 'x\t1\n∅\t2\n"∅"\t3\n""\t∅\n'
    assert text_of({"a": ["x", None]}, "csv") == 'a\r\nx\r\n""\r\n'


def test_csv_is_written_as_the_receiver_wants_it():
    columns = {
        "Mixed": ["it's", "-5", "+44 x", "@a", "\tb", "1.5"], "n": [1.5, -2.25, 1e-7, None, 4.0, 5.0],
        "d": [dt.date(2031, 5, 9)] * 6, "t": [dt.datetime(2031, 5, 9, 8, 1)] * 6, "y": [True, False] * 3,
    }  # fmt: skip
    options = {
        "delimiter": "semicolon", "decimal": "comma", "date": "dd.MM.yyyy", "time": "d/M HH:mm", "words": "ja/nein",
        "case": "upper", "quote": "text", "quote_mark": "single", "line_end": "LF",
    }  # fmt: skip
    assert text_of(columns, "csv", **options).splitlines() == [
        "'MIXED';'N';'D';'T';'Y'",
        "'it''s';1,5;09.05.2031;9/5 08:01;ja",
        "'-5';-2,25;09.05.2031;9/5 08:01;nein",
        "'''+44 x';1e-7;09.05.2031;9/5 08:01;ja",
        "'''@a';;09.05.2031;9/5 08:01;nein",
        "'''\tb';4,0;09.05.2031;9/5 08:01;ja",
        "'1.5';5,0;09.05.2031;9/5 08:01;nein",
    ]
    assert text_of({"a": ["=x"]}, "csv", guard=False).endswith("=x\r\n")
    assert text_of({"a": ["é"]}, "csv", encoding="utf-16") == "a\r\né\r\n"
    assert text_of({"a": ["é€"]}, "csv", encoding="cp1252", quote="all") == '"a"\r\n"é€"\r\n'
    with pytest.raises(SendError, match="no character"):
        text_of({"a": ["猫"]}, "csv", encoding="cp1252")
    with pytest.raises(SendError, match="can't hold the delimiter"):
        text_of({"a": [1]}, "csv", empty=",")
    fields = [
        Field("a", Kind.FLOAT, look=ColumnFormat(decimals=1, groups=True)),
        Field("b", Kind.BOOL, look=ColumnFormat(words=("+", "-"))),
    ]
    looked = rows_of({"a": [12345.678], "b": [True]}, fields=fields)
    assert send_text(looked, format_for("csv"), {"values": "shown"}).splitlines()[1] == "12345.7,+"


def test_json_keeps_every_digit_and_leaves_missing_fields_out(tmp_path):
    for key, layout in (("json", "objects"), ("jsonl", "objects"), ("json", "lists"), ("jsonl", "lists")):
        path = tmp_path / f"a.{key}"
        send(SAMPLE, key, path, rows=layout)
        rows = read_back(path)
        if layout == "lists":
            rows = [dict(zip(SAMPLE, row, strict=True)) for row in rows[key == "json" :]]
        assert [r["big"] for r in rows] == SAMPLE["big"]
        assert [r["amount"] for r in rows] == SAMPLE["amount"]
        assert [r["text"] for r in rows] == SAMPLE["text"]
        assert rows[1]["at"] == "1969-01-01T00:00:01"
        assert rows[0]["nested"] == {"a": [1, None]}
    assert '"amount":1.10' in (tmp_path / "a.json").read_text() or layout == "lists"
    odd = {"a": [1, MISSING, None], "f": [math.nan, math.inf, 1.0], "h": [2**70, b"\x01", "x"]}
    assert json.loads(text_of(odd, "json")) == [
        {"a": 1, "f": None, "h": 2**70},
        {"f": None, "h": "01"},
        {"a": None, "f": 1.0, "h": "x"},
    ]
    lines = text_of(odd, "jsonl", missing="null", numbers="text", binary="base64").splitlines()
    assert [sorted(json.loads(line)) for line in lines] == [["a", "f", "h"]] * 3
    assert [json.loads(line)["h"] for line in lines] == [str(2**70), "AQ==", "x"]
    texts = ['a","b', 'ends",', "\\", '"', "", "é\ud800".encode("utf-8", "surrogatepass").decode("utf-8", "replace")]
    assert [r["t"] for r in json.loads(text_of({"t": texts + [str(n) for n in range(2000)]}, "json"))][:6] == texts


@pytest.mark.parametrize("format", all_formats(), ids=lambda f: f.key)
@pytest.mark.parametrize("kind", ["many", "few", "mixed", "nested"])
def test_bytes_that_are_no_utf8_are_kept_or_noted(tmp_path, format, kind):
    odd = b"a\xffb\xed\xa0\x80".decode("utf-8", "surrogateescape")
    columns = {
        "many": {"t": [odd, "é", *map(str, range(600))]},
        "few": {"t": [odd, "é", odd] * 300},
        "mixed": {"t": [odd, 1, None, b"x"]},
        "nested": {"t": [{"k" + odd: [odd]}, [odd], None]},
    }[kind]
    if format.key == "sql":  # of the three servers only SQLite holds them
        for dialect in ("postgresql", "mysql"):
            with pytest.raises(SendError, match="not UTF-8"):
                send(columns, "sql", tmp_path / "a.sql", dialect=dialect)
    options = {"dialect": "sqlite"} if format.key == "sql" else {}
    sent = send(columns, format.key, tmp_path / f"a{format.suffix}", **options)
    raw, held = (tmp_path / f"a{format.suffix}").read_bytes(), odd.encode("utf-8", "surrogateescape")
    if not any("UTF-8" in note or "XML can't hold" in note for note in sent.notes):
        assert held in raw or held.hex().encode() in raw, sent.notes
        assert format.key in ("csv", "markdown", "sql")


def test_sql_inserts_load_exactly(tmp_path):
    path = tmp_path / "a.sql"
    columns = {**SAMPLE, "raw": [b"\x00'", b"", None, b"\xff"], "zero": ["a\0b", "\\", "'", ";--"]}
    send(columns, "sql", path, create=True, rows="1", key="id", drop=True)
    rows = read_back(path)
    for name in ("id", "big", "text", "ü name", "raw", "zero"):
        assert [r[name] for r in rows] == columns[name], name
    assert (rows[0]["real"], rows[1]["yes"]) == (0.1, 0)
    script = path.read_text("utf-8")
    assert script.count("insert into") == 4
    assert "primary key (id)" in script
    numbers = {"n": list(range(3 * BATCH))}
    assert text_of(numbers, "sql", rows=1000).count("insert into") == math.ceil(3 * BATCH / 1000)
    for dialect, literal in (
        ("postgresql", "E'x\\\\''y'"),
        ("mysql", "convert(x'785c2779' using utf8mb4)"),
        ("sqlite", "'x\\''y'"),
    ):
        text = text_of({"order": [True], "b": ["x\\'y"]}, "sql", dialect=dialect, table="s.t t")
        assert literal in text
        assert text.startswith("insert into s.`t t`" if dialect == "mysql" else 'insert into s."t t"')
    for wrong, match in (
        ({"a": [math.nan]}, "NaN"),
        ({"a": ["a\0b"]}, "NUL character"),
        ({"a": ["\udcff"]}, "not UTF-8"),
    ):
        with pytest.raises(SendError, match=match):
            text_of(wrong, "sql", dialect="postgresql" if "NaN" not in match else "mysql")
    with pytest.raises(SendError, match="not a column"):
        text_of({"a": [1]}, "sql", create=True, key="b")
    rows = rows_of({"t": [dt.datetime(2031, 5, 28, 23)]}, fields=[Field("t", Kind.TIME, form="%Y-%m-%dT%H:%M")])
    assert "('2031-05-28T23:00')" in send_text(rows, format_for("sql"))  # SQLite's own way of writing it


def test_columns_that_a_table_fills_itself_are_left_to_it(postgres):
    from nimble_otter.pull import Pull, Query
    from nimble_otter.pull.deliver import stream_rows
    from nimble_otter.sources import Request, Source, connect

    connection = connect(Source("s", postgres.url))
    run = lambda text: connection.execute(Request(text), StopToken())  # noqa: E731
    try:
        run("create table own (id integer generated always as identity primary key, a integer, "
            "b integer generated always as (a * 2) stored)")  # fmt: skip
        run("insert into own (a) values (5), (6)")
        info = next(t for t in connection.tables() if t.name == "own")
        pull = Pull("own", Source("s", postgres.url), Query(""))
        rows = stream_rows(connection, Request("select * from own order by id"), pull, StopToken(), "own", info).rows
        script = send_text(rows, format_for("sql"), {"dialect": "postgresql"})
        assert "(id, a) overriding system value values" in script
        run("delete from own")
        run(script.strip().rstrip(";"))
        rows = stream_rows(connection, Request("select * from own order by id"), pull, StopToken(), "own", info).rows
        assert send_text(rows, format_for("csv")).split() == ["id,a,b", "1,5,10", "2,6,12"]
        rows = stream_rows(connection, Request("select * from own"), pull, StopToken(), "own", info).rows
        assert "(id, a, b) values" in send_text(rows, format_for("sql"), {"create": True})
    finally:
        run("drop table if exists own")
        connection.close()


def test_rows_of_inserts_are_counted_whatever_the_texts_hold(tmp_path, monkeypatch):
    from nimble_otter.send.formats import sql

    monkeypatch.setattr(sql, "_PART", 64)
    texts = ["a'\n  ('b", "\n  (1, 2),\n", "'", "''", "x" * 200, '`"', ""] * 9
    for dialect in ("sqlite", "postgresql", "mysql"):
        columns = {"t\n  (": texts, "it's": texts[::-1]}
        assert send(columns, "sql", tmp_path / "a.sql", dialect=dialect, rows=4, create=True).checked


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
def test_inserts_and_their_table_load_into_real_servers(kind, request):
    from nimble_otter.query import split_statements
    from nimble_otter.sources import Request, Source, connect, fetch

    server = request.getfixturevalue("postgres" if kind == "postgresql" else "mariadb")
    columns = {**SAMPLE, "raw": [b"\x00'\\", b"", None, b"\xff"], "hard": ["\\", "a'b\\'", "%s -- ;", "\x01\t\r\n"]}
    columns["zoned"] = [*columns["zoned"][:3], dt.datetime(2000, 1, 1, tzinfo=dt.UTC)]
    if kind == "mariadb":
        columns["span"] = [None] * 4
    columns["real"] = [0.1, 5e-324, 1.7976931348623157e308, None]
    dialect = "mysql" if kind == "mariadb" else kind
    script = text_of(columns, "sql", create=True, key="id", dialect=dialect, table="sent t", rows=3)
    connection = connect(Source("s", server.url))
    try:
        for statement in split_statements(script):
            connection.execute(Request(statement.text), StopToken())
        table = fetch(connection, Request("select * from " + connection.quoted("sent t") + " order by id")).table
        for name, wanted in columns.items():
            got = table.column(name).values()
            if kind == "mariadb" and name in ("yes", "zoned", "nested"):
                continue
            assert got == wanted if name != "nested" else [v is None for v in got] == [v is None for v in wanted], name
    finally:
        connection.execute(Request("drop table if exists " + connection.quoted("sent t")), StopToken())
        connection.close()


def test_sqlite_and_parquet_keep_types(tmp_path):
    columns = {**SAMPLE, "raw": [b"\x00'", b"", None, b"\xff"]}
    path = tmp_path / "a.sqlite"
    send(columns, "sqlite", path, key="id")
    rows = read_back(path)
    for name in ("id", "big", "real", "text", "ü name", "raw"):
        assert [r[name] for r in rows] == columns[name], name
    send({"id": [9]}, "sqlite", path, exists="append")
    assert len(read_back(path)) == 5
    send({"id": [9]}, "sqlite", path, exists="within")
    assert read_back(path) == [{"id": 9}]
    send({"x": [1]}, "sqlite", path, exists="within", table="other.table")
    with sqlite_file(path) as base:
        assert base.execute('select count(*) from "other.table"').fetchone() == (1,)
    base.close()
    with pytest.raises(SendError, match="no column named nosuch"):
        send({"nosuch": [1]}, "sqlite", path, exists="append")
    assert read_back(path) == [{"id": 9}]
    path = tmp_path / "a.parquet"
    send(columns, "parquet", path)
    rows = read_back(path)
    for name in ("id", "big", "real", "amount", "yes", "at", "on", "zoned", "clock", "span", "text", "raw"):
        assert [r[name] for r in rows] == columns[name], name


def test_parquet_without_its_package_says_what_to_do(tmp_path, monkeypatch):
    monkeypatch.setitem(__import__("sys").modules, "pyarrow", None)
    with pytest.raises(SendError, match=r"pip install .nimble-otter\[parquet\]"):
        send({"a": [1]}, "parquet", tmp_path / "a.parquet")
    assert list(tmp_path.iterdir()) == []


def test_pages_and_marked_up_text_show_values_as_they_are(tmp_path):
    hostile = {"a|b": ["<b>&amp;", "x|y\\", "_*`[", None], "n": [1, 2, 3, 4]}
    page = text_of(hostile, "html", title="Levels <May>")
    assert "<h1>Levels &lt;May&gt;</h1>" in page
    assert "<td>&lt;b&gt;&amp;amp;</td>" in page
    assert text_of(hostile, "html", bare=True).startswith("<table>")
    (tmp_path / "a.html").write_text(page)
    assert [r["a|b"] for r in read_back(tmp_path / "a.html")] == ["<b>&amp;", "x|y\\", "_*`[", ""]
    assert text_of(hostile, "markdown").splitlines()[:3] == [r"| a\|b | n |", "|---|---:|", r"| \<b>&amp; | 1 |"]
    assert text_of({"t": ["a\nb"]}, "markdown").splitlines()[2] == "| a<br>b |"
    lines = text_of({"name": ["Alder", "川の字", "x" * 9], "n": [1, 20, 3]}, "text", most=6).splitlines()
    assert lines == ["name     n", "------  --", "Alder    1", "川の字  20", "xxxxx…   3"]
    xml = text_of({"1 st": ["a<b&\x01", None], "row": [1, 2], "1_st": [None, 5]}, "xml", missing="nil", root="levels")
    root = ET.fromstring(xml)
    assert (root.tag, [v.tag for v in root[0]]) == ("levels", ["_1_st", "row", "_1_st_2"])
    assert root[0][0].text == "a<b&\ufffd"
    assert root[1][0].attrib == {"{http://www.w3.org/2001/XMLSchema-instance}nil": "true"}


def test_xlsx_has_real_types_and_never_rounds(tmp_path):
    path = tmp_path / "a.xlsx"
    sent = send(SAMPLE, "xlsx", path, sheet="May: [levels]/x", case="upper")
    assert any("more than 15 digits" in note for note in sent.notes)
    book = openpyxl.load_workbook(path)
    sheet = book.worksheets[0]
    assert book.sheetnames == ["May   levels  x"]
    assert (sheet.freeze_panes, sheet["A1"].value, sheet["A1"].font.b) == ("A2", "ID", True)
    rows = [dict(zip(SAMPLE, row, strict=True)) for row in sheet.iter_rows(2, values_only=True)]
    assert [r["big"] for r in rows] == ["9223372036854775807", None, "-9223372036854775808", "9007199254740993"]
    assert [r["real"] for r in rows] == SAMPLE["real"]
    assert [r["amount"] for r in rows] == [1.1, -0.05, None, 3]
    assert rows[0]["yes"] is True
    assert [r["at"] for r in rows] == SAMPLE["at"]
    assert [r["on"] for r in rows] == [dt.datetime(2031, 5, 28), "1850-01-01", None, dt.datetime(2000, 2, 29)]
    assert rows[0]["zoned"] == "2031-05-28 23:00:00+00:00"
    assert [rows[0]["clock"], rows[2]["clock"]] == [dt.time(23, 5), "00:00:00.000001"]
    assert rows[0]["span"] == dt.timedelta(hours=26)
    assert (rows[3]["text"], sheet["K5"].data_type) == ("=1+1", "s")
    assert [sheet[c].number_format for c in ("A2", "D2", "F2", "G2")] == [
        "0", "0.00", r"yyyy\-mm\-dd hh:mm:ss.000", r"yyyy\-mm\-dd",
    ]  # fmt: skip
    odd = {"c": ["a\x01b", "_x0041_", "\udcff", " s ", "\ufffe", "<&>"]}
    send(odd, "xlsx", path)
    assert [unescape(r["c"]) for r in read_back(path)][::3] == ["a\x01b", " s "]
    with pytest.raises(SendError, match="32767"):
        send({"c": ["x" * 40_000]}, "xlsx", path)
    send({"c": ["x" * 40_000], "f": ["=1+2"]}, "xlsx", path, long="cut", formulas=True)
    sheet = openpyxl.load_workbook(path).worksheets[0]
    assert (len(sheet["A2"].value), sheet["B2"].data_type) == (32_766, "f")
    for wrong, match in (
        ({"first": "5B"}, "not a cell"),
        ({"first": "XFE1"}, "no cell XFE1"),
        ({"first": "XFD1"}, "16384"),
    ):
        with pytest.raises(SendError, match=match):
            send({"a": [1], "b": [2]}, "xlsx", path, **wrong)


def test_xlsx_sheets_have_links_filters_tables_looks_and_pictures(tmp_path):
    path, picture = tmp_path / "a.xlsx", io.BytesIO()
    Image.new("RGB", (40, 20), "red").save(picture, "PNG")
    data = picture.getvalue()
    urls = ["https://merrow.example/a?b=1&c", "no link", None]
    columns = {"url": urls, "n": [0.256, 1.0, 2.0], "pic": [data, b"raw", None]}
    made = table_of(**columns)
    fields = [made.fields[0], Field("n", Kind.FLOAT, look=ColumnFormat(decimals=1, style="percent")), made.fields[2]]
    rows = rows_of(columns, fields=fields)
    options = {"first": "B5", "buttons": True, "binary": "both", "binary_name": "{n}"}
    sent = send_to_file(rows, format_for("xlsx"), path, options)
    sheet = openpyxl.load_workbook(path).worksheets[0]
    assert [c.value for c in sheet[5]] == [None, "url", "n", "pic", "pic file"]
    assert (sheet["B6"].hyperlink.target, sheet["C6"].number_format) == ("https://merrow.example/a?b=1&c", "0.0%")
    assert (sheet.auto_filter.ref, sheet.freeze_panes) == ("B5:E8", "A6")
    assert sheet["E6"].value == "a-files/0.256.png"
    assert sheet["E6"].hyperlink.target == "a-files/0.256.png"
    assert (sheet["D7"].value, sheet["D6"].value) == (b"raw".hex(), None)
    (anchor,) = sheet._images
    assert (anchor.anchor._from.row, anchor.anchor._from.col) == (5, 3)
    assert sent.beside == (tmp_path / "a-files", 2)
    assert (tmp_path / "a-files" / "0.256.png").read_bytes() == data
    send({"a": [1], "b": ["x"]}, "xlsx", path, as_table="my levels")
    (table,) = openpyxl.load_workbook(path).worksheets[0].tables.values()
    assert (table.name, table.ref, table.column_names) == ("my_levels", "A1:B2", ["a", "b"])
    with pytest.raises(SendError, match="name of its own"):
        send_to_file(rows_of({"a": [1], "A": [2]}), format_for("xlsx"), path, {"as_table": "t"})


def test_rows_beyond_a_sheet_go_to_further_ones(tmp_path, monkeypatch):
    monkeypatch.setattr(xlsx_module, "MOST_ROWS", 5000)
    path = tmp_path / "a.xlsx"
    sent = send({"n": list(range(BATCH + 3000))}, "xlsx", path, sheet="N")
    book = openpyxl.load_workbook(path)
    assert book.sheetnames == ["N", "N (2)", "N (3)"]
    assert [s.max_row for s in book.worksheets] == [5000, 5000, BATCH + 3000 - 2 * 4999 + 1]
    assert [s.cell(2, 1).value for s in book.worksheets] == [0, 4999, 9998]
    assert (sent.rows, sent.checked) == (BATCH + 3000, True)
    assert any("further sheets" in note for note in sent.notes)


@pytest.fixture
def workbook(tmp_path):
    """A file with a sheet of formulas and styles, and one with a form around a place for rows."""
    path, book = tmp_path / "book.xlsx", openpyxl.Workbook()
    figures, form = book.active, book.create_sheet("Form")
    figures.title = "Figures"
    figures["A1"], figures["A2"] = "=SUM(Form!B5:B9)", dt.datetime(2031, 5, 1)
    figures["A2"].number_format = "mmm yyyy"
    figures.column_dimensions["A"].width = 33
    book.defined_names["total"] = openpyxl.workbook.defined_name.DefinedName("total", attr_text="Figures!$A$1")
    form["A1"], form["D6"], form["A20"] = "Merrow survey", "beside", "signed"
    form["B6"].number_format = "0.000"
    form.merge_cells("A1:C1")
    picture = io.BytesIO()
    Image.new("RGB", (8, 8)).save(picture, "PNG")
    form.add_image(openpyxl.drawing.image.Image(picture), "F1")
    book.save(path)
    return path


def untouched(path):
    """What of the file must be as it was: the sheet of figures, whole."""
    with zipfile.ZipFile(path) as inside:
        assert inside.testzip() is None
        assert len(set(inside.namelist())) == len(inside.namelist())
        return re.sub(rb"</f><v(?:>[^<]*</v| ?/)>", b"</f>", inside.read("xl/worksheets/sheet1.xml"))


def test_a_sheet_of_a_workbook_is_replaced_and_the_others_are_kept(workbook):
    before = untouched(workbook)
    for _ in range(2):
        sent = send(
            {"n": [1.5, 2.5], "d": [dt.date(2031, 5, 28)] * 2},
            "xlsx",
            workbook,
            exists="within",
            sheet="form",
            first="B5",
        )
        assert (sent.rows, sent.checked) == (2, True)
    assert untouched(workbook) == before
    book = openpyxl.load_workbook(workbook)
    assert book.sheetnames == ["Figures", "Form"]
    assert [[c.value for c in row] for row in book["Form"]["B5:C7"]] == [
        ["n", "d"], [1.5, dt.datetime(2031, 5, 28)], [2.5, dt.datetime(2031, 5, 28)],
    ]  # fmt: skip
    assert book["Form"]["A1"].value is None
    assert (book["Figures"]["A1"].value, book["Figures"]["A2"].number_format) == ("=SUM(Form!B5:B9)", "mmm yyyy")
    assert (book.defined_names["total"].attr_text, book.calculation.fullCalcOnLoad) == ("Figures!$A$1", True)
    send({"n": [1]}, "xlsx", workbook, exists="within", sheet="New")
    assert openpyxl.load_workbook(workbook).sheetnames == ["Figures", "Form", "New"]


def test_rows_are_written_over_a_form_and_what_stands_around_stays(workbook):
    before = untouched(workbook)
    send({"n": [1.5, 2.5, 3.5], "t": ["a", "b", "c"]}, "xlsx", workbook, exists="over", sheet="Form", first="B5")
    sent = send({"n": [9.5, None], "t": ["z", "y"]}, "xlsx", workbook, exists="over", sheet="Form", first="B5")
    assert "emptied" in sent.notes[0]
    assert untouched(workbook) == before
    form = openpyxl.load_workbook(workbook)["Form"]
    assert [[c.value for c in row] for row in form["B5:D8"]] == [
        ["n", "t", None], [9.5, "z", "beside"], [None, "y", None], [None, None, None],
    ]  # fmt: skip
    assert (form["A1"].value, form["A20"].value, form["B6"].number_format) == ("Merrow survey", "signed", "0.000")
    assert ([str(area) for area in form.merged_cells.ranges], len(form._images)) == (["A1:C1"], 1)


def test_rows_are_added_below_those_of_a_sheet(workbook):
    for start in (0, 2):
        send({"n": [start, start + 1]}, "xlsx", workbook, exists="append", sheet="Log")
        send({"n": [start]}, "xlsx", workbook, exists="append", sheet="Form", first="B5")
    book = openpyxl.load_workbook(workbook)
    assert [c.value for c in book["Log"]["A"]] == ["n", 0, 1, 2, 3]
    assert [c.value for c in book["Form"]["B"]][4:7] == ["n", 0, 2]
    workbook.write_bytes(b"no workbook")
    with pytest.raises(SendError, match="not an XLSX workbook"):
        send({"n": [1]}, "xlsx", workbook, exists="append")
    assert workbook.read_bytes() == b"no workbook"


LOADED = st.tuples(
    st.none() | st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=20),
    st.none() | st.floats(allow_nan=False, allow_infinity=False),
    st.none() | st.integers(-(2**63), 2**63 - 1),
    st.none() | st.decimals(-(10**9), 10**9, places=3),
    st.none() | st.datetimes(dt.datetime(1901, 1, 1)),
    st.none() | st.binary(max_size=12),
)


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
@pytest.mark.timeout(0 if IS_LONG else 180)
def test_whatever_inserts_hold_the_servers_load_it(kind, request):
    from nimble_otter.query import split_statements
    from nimble_otter.sources import Request, Source, connect, fetch

    @settings(max_examples=(many := how_many(15, 1000)), deadline=None)
    @given(rows=st.lists(LOADED, min_size=1, max_size=8))
    def holds(rows):
        columns = {"id": list(range(len(rows))), **dict(zip("tfndmb", map(list, zip(*rows, strict=True)), strict=True))}
        script = text_of(columns, "sql", create=True, drop=True, dialect=dialect, table="sent_any", rows=3)
        for statement in split_statements(script):
            connection.execute(Request(statement.text), StopToken())
        table = fetch(connection, Request("select * from sent_any order by id")).table
        for name in "tndm":
            assert table.column(name).values() == columns[name], name
        assert [v if v is None else float(v) for v in table.column("f").values()] == columns["f"]
        if any(columns["b"]):
            assert [v if v is None else bytes(v) for v in table.column("b").values()] == columns["b"]

    server = request.getfixturevalue("postgres" if kind == "postgresql" else "mariadb")
    dialect = "mysql" if kind == "mariadb" else kind
    connection = connect(Source("s", server.url))
    try:
        holds()
    finally:
        connection.execute(Request("drop table if exists sent_any"), StopToken())
        connection.close()
    proven("random tables as inserts, loaded", kind, many)


VALUES = st.tuples(
    st.none() | st.text(st.characters(codec="utf-8", exclude_characters="\r"), max_size=12),
    st.none() | st.floats(allow_nan=False, allow_infinity=False),
    st.none() | st.integers(-(2**80), 2**80),
    st.none() | st.decimals(-(10**9), 10**9, places=3),
    st.none() | st.datetimes(dt.datetime(1901, 1, 1)),
)


@pytest.mark.timeout(0 if IS_LONG else 180)
def test_whatever_the_values_they_come_back(tmp_path):
    @settings(max_examples=(many := how_many(40, 1000)), deadline=None)
    @given(st.lists(VALUES, min_size=1, max_size=12))
    def holds(rows):
        columns = dict(zip("tfndm", map(list, zip(*rows, strict=True)), strict=True))
        made = rows_of(columns)
        for key in FORMATS:
            options = {"create": True, "guard": False, "empty": "", "most": 1000}
            send_to_file(made, format_for(key), tmp_path / f"a{format_for(key).suffix}", options)
        back = read_back(tmp_path / "a.csv")
        assert [r["t"] for r in back] == [t or "" for t in columns["t"]]
        assert [float(r["f"]) if r["f"] else None for r in back] == columns["f"]
        assert [int(r["n"]) if r["n"] else None for r in back] == columns["n"]
        assert [Decimal(r["d"]) if r["d"] else None for r in back] == columns["d"]
        assert [dt.datetime.fromisoformat(r["m"]) if r["m"] else None for r in back] == columns["m"]
        for key in ("json", "jsonl"):
            back = read_back(tmp_path / f"a.{key}")
            assert [(r["t"], None if r["f"] is None else float(r["f"]), r["n"], r["d"]) for r in back] == [
                r[:4] for r in rows
            ]
        back = read_back(tmp_path / "a.sql")
        assert [r["t"] for r in back] == columns["t"]
        back = read_back(tmp_path / "a.sqlite")
        assert [(r["t"], r["f"]) for r in back] == [r[:2] for r in rows]
        back = read_back(tmp_path / "a.parquet")
        assert [(r["t"], r["f"], r["d"], r["m"]) for r in back] == [(*r[:2], *r[3:]) for r in rows]
        back = read_back(tmp_path / "a.xlsx")
        assert [r["f"] for r in back] == columns["f"]
        assert [None if r["n"] is None else int(r["n"]) for r in back] == columns["n"]
        assert [r["t"] is None for r in back] == [t is None for t in columns["t"]]
        for suffix in ("html", "xml"):
            got = [float(r["f"]) if r.get("f") else None for r in read_back(tmp_path / f"a.{suffix}")]
            assert got == columns["f"]

    holds()
    proven("random tables through files, read by others", ", ".join(FORMATS), many)


class _Breaks:
    """A format that fails half-way, or after something happened."""

    key, word, suffix, options, is_text, many, changes = "x", "X", ".x", (), True, False, (("append", "add"),)

    def __init__(self, problem=None, rows=2, found=2, meanwhile=lambda: None):
        self.problem, self.rows, self.found, self.meanwhile = problem, rows, found, meanwhile

    def write(self, rows, out):
        out.stream.write(b"half")
        yield 1
        self.meanwhile()
        if self.problem is not None:
            raise self.problem
        yield self.rows

    def count(self, path, out):
        return 0 if path == out.existing else self.found


@pytest.mark.parametrize("problem", [SendError("bad"), Stopped(), OSError(28, "No space left on device")])
def test_nothing_half_written_is_left(tmp_path, problem):
    path = tmp_path / "out.x"
    path.write_text("before")
    with pytest.raises((SendError, Stopped)) as caught:
        send_to_file(rows_of({"a": [1, 2]}), _Breaks(problem), path)
    assert "no space is left" in str(caught.value) or not isinstance(problem, OSError)
    assert path.read_text() == "before"
    assert [p.name for p in tmp_path.iterdir()] == ["out.x"]
    with pytest.raises((SendError, Stopped)):
        send_to_file(rows_of({"a": [1, 2]}), _Breaks(problem), tmp_path / "new" / "er" / "out.x")
    assert not (tmp_path / "new").exists()


@pytest.mark.parametrize(("code", "says"), [(sqlite3.SQLITE_FULL, "no space is left"), (0, "Check its columns")])
def test_a_full_disk_is_told_alike_by_a_database_file(tmp_path, monkeypatch, code, says):
    def fails(*_):
        problem = sqlite3.OperationalError("database or disk is full")
        problem.sqlite_errorcode = code
        raise problem

    monkeypatch.setattr("nimble_otter.send.formats.sqlite._fill", fails)
    with pytest.raises(SendError, match=says):
        send_to_file(rows_of({"a": [1, 2]}), format_for("sqlite"), tmp_path / "o.sqlite", {"table": "t"})
    assert not list(tmp_path.iterdir())


def test_a_delivery_is_checked_and_a_file_that_is_there_is_safe(tmp_path):
    rows, path = rows_of({"a": [1, 2]}), tmp_path / "o.x"
    for wrong, match in ((_Breaks(rows=1), "1 of 2"), (_Breaks(found=1), "1 were read back")):
        with pytest.raises(SendError, match=match):
            send_to_file(rows, wrong, path)
    path.write_text("before")
    for exists in ("refuse", "ask"):
        with pytest.raises(SendError, match="already exists"):
            send_to_file(rows, _Breaks(), path, exists=exists)
    with pytest.raises(SendError, match="can't within"):
        send_to_file(rows, _Breaks(), path, exists="within")
    with pytest.raises(SendError, match="meanwhile"):
        send_to_file(rows, _Breaks(meanwhile=lambda: path.write_text("theirs")), path, exists="append")
    assert path.read_text() == "theirs"
    assert send_to_file(rows, _Breaks(), path, exists="number").path.name == "o (2).x"
    with pytest.raises(SendError, match="is a folder"):
        send_to_file(rows, _Breaks(), tmp_path)
    lock = tmp_path / ".~lock.o.x#"
    lock.touch()
    with pytest.raises(SendError, match="open in another program"):
        send_to_file(rows, _Breaks(), path)
    lock.unlink()
    gone = tmp_path / "gone"
    gone.mkdir()

    def vanish():
        for file in gone.iterdir():
            file.unlink()
        gone.rmdir()

    with pytest.raises(SendError, match="folder vanished"):
        send_to_file(rows, _Breaks(meanwhile=vanish), gone / "o.x")
    with pytest.raises(SendError, match="no columns"):
        send_to_file(rows_of({}), format_for("csv"), path)
    with pytest.raises(SendError, match="not text"):
        send_text(rows, format_for("xlsx"))
    assert sorted(p.name for p in tmp_path.iterdir()) == ["o (2).x", "o.x"]


def test_rows_are_added_to_text_files_whose_columns_fit(tmp_path):
    for key in ("csv", "jsonl", "sql"):
        path = tmp_path / f"a.{key}"
        for _ in range(2):
            assert send({"n": [1, 2], "t": ["x", "y"]}, key, path, exists="append").checked
        assert [int(row["n"]) for row in read_back(path)] == [1, 2, 1, 2]
    path = tmp_path / "a.csv"
    path.write_bytes(path.read_bytes().rstrip())
    send({"n": [3], "t": ["z"]}, "csv", path, exists="append")
    assert [row["t"] for row in read_back(path)][-2:] == ["y", "z"]
    before = path.read_bytes()
    with pytest.raises(SendError, match="other columns: n, t"):
        send({"n": [3], "u": ["z"]}, "csv", path, exists="append")
    assert path.read_bytes() == before


def test_several_tables_go_to_one_file(tmp_path):
    tables = [(name, rows_of({"n": list(range(count))}, table=name)) for name, count in (("station", 3), ("river", 2))]
    sent = send_tables(tables, format_for("xlsx"), tmp_path / "a.xlsx")
    assert (sent.rows, sent.checked) == (5, True)
    assert openpyxl.load_workbook(tmp_path / "a.xlsx").sheetnames == ["station", "river"]
    assert [r["n"] for r in read_back(tmp_path / "a.xlsx", "river")] == [0, 1]
    for key in ("sqlite", "sql"):
        path = tmp_path / f"a.{key}"
        assert send_tables(tables, format_for(key), path, {"create": True}).rows == 5
        base = sqlite3.connect(path if key == "sqlite" else ":memory:")
        if key == "sql":
            base.executescript(path.read_text())
        assert [base.execute(f"select count(*) from {n}").fetchone()[0] for n in ("station", "river")] == [3, 2]
        base.close()
    with pytest.raises(SendError, match="holds one table"):
        send_tables(tables, format_for("csv"), tmp_path / "a.csv")
    assert sorted(p.name for p in tmp_path.iterdir()) == ["a.sql", "a.sqlite", "a.xlsx"]


def test_binary_values_go_to_files_beside(tmp_path):
    columns = {
        "who": ["a/b", "..", "A-B", None],
        "blob": [b"\x89PNG\r\n\x1a\n" + b"0" * 30, b"plain text", b"\0\1", None],
    }
    path = tmp_path / "p.csv"
    sent = send(columns, "csv", path, binary="files", binary_name="{who}")
    assert [r["blob"] for r in read_back(path)] == [
        "p-files/a-b.png",
        "p-files/untitled.txt",
        "p-files/A-B (2).bin",
        "",
    ]
    assert sent.beside == (tmp_path / "p-files", 3)
    assert (tmp_path / "p-files" / "untitled.txt").read_bytes() == b"plain text"
    with pytest.raises(SendError, match=r"no \{nosuch\}"):
        send(columns, "csv", path, binary="files", binary_name="{nosuch}")
    stop = StopToken()
    stop.set()
    with pytest.raises(Stopped):
        send_to_file(rows_of(columns), format_for("csv"), tmp_path / "q.csv", {"binary": "files"}, stop)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["p-files", "p.csv"]
    assert json.loads(text_of(columns, "json", binary="base64"))[1]["blob"] == base64.b64encode(b"plain text").decode()


@pytest.mark.parametrize("key", FORMATS)
def test_a_stop_is_heard_and_progress_is_told(key, tmp_path):
    stop = StopToken()
    stop.set()
    with pytest.raises(Stopped):
        send_to_file(rows_of({"a": [1]}), format_for(key), tmp_path / "o", stop=stop)
    assert list(tmp_path.iterdir()) == []
    told = []
    send_to_file(rows_of({"a": [1] * 9000}), format_for(key), tmp_path / "o", progress=lambda n, m: told.append((n, m)))
    assert told[-1] == (9000, 9000)


def test_file_names_from_patterns():
    names = Names(
        "High/water",
        "S",
        dt.datetime(2031, 5, 28, 8, 2),
        "reading",
        5,
        {"since": dt.datetime(2031, 5, 1), "r": ["a", "b"]},
    )
    assert fill_name("~/x/{pull}-{date}-{time}-{count}.csv", names) == "~/x/High-water-2031-05-28-080200-5.csv"
    assert (
        fill_name("{table} {date:%Y-%m} {time:%H.%M} {param.since} {param.r}", names)
        == "reading 2031-05 08.02 2031-05-01 a+b"
    )
    assert fill_name("{source}{:since}", Names("p", "../..", names.at, parameters={"since": 1})) == "-1"
    for pattern, match in (
        ("{month}.csv", "month"), ("", "file name"), ("x/", "file name"), ("{param.no}", "no value"),
        ("{date:%Q}", "not a time format"), ("{pull:%Y}", "takes no form"), ("x" * 300, "bytes long"),
    ):  # fmt: skip
        with pytest.raises(SendError, match=match):
            fill_name(pattern, names)


@pytest.mark.parametrize("key", FORMATS)
def test_numbers_beyond_doubles_go_with_all_their_digits_or_as_text(tmp_path, key):
    """1e400 as a decimal and as a whole number, and 2 as a whole number beside doubles."""
    columns = {"id": [1, 2, 3], "far": [Decimal("1e400"), 10**400, Decimal("-1.5")], "near": [2, 2.5, None]}
    if key == "parquet":
        columns["far"] = [Decimal("1e30"), 10**30, Decimal("-1.5")]
    wide = {"most": 500} if key == "text" else {}
    sent = send(columns, key, tmp_path / f"far{format_for(key).suffix}", **wide)
    assert not any("NaN" in note for note in sent.notes)
    if key in ("sql", "parquet"):
        return
    rows = read_back(next(p for p in tmp_path.iterdir()))
    far = [str(row["far"] if isinstance(row, dict) else row[1]) for row in rows]
    assert [Decimal(v.replace("\u2009", "")) for v in far] == columns["far"], far


def test_lengths_count_only_where_the_source_holds_to_them():
    """SQLite holds texts of any length in every column (https://sqlite.org/datatype3.html, 3)."""
    for server, wanted in (("sqlite", "text"), ("mariadb", "varchar(3)"), ("", "varchar(3)")):
        field = Field("t", Kind.TEXT, declared="VARCHAR(3)", server=server)
        assert type_of(field, None, dialect_of("postgresql")) == wanted


def test_decimals_that_a_server_rounds_are_told():
    out = Output(None, {}, NEVER)
    values = column_of([Decimal("0.1"), Decimal("1e-31"), Decimal("1e-30"), "a text"])
    for dialect, count in (("postgresql", 0), ("mysql", 1)):
        Literals(dialect_of(dialect), out).of(Field("d", Kind.OBJECT), values)
        assert sum(out.notes.values()) == count
