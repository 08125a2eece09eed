"""What every format must do: all rows and exact values, read back with another library; whole files or none."""

import csv
import datetime as dt
import io
import json
import math
import sqlite3
import zipfile
from decimal import Decimal

import numpy as np
import openpyxl
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from openpyxl.utils.escape import unescape

from nimble_otter.errors import SendError, Stopped
from nimble_otter.send import Rows, all_formats, fill_name, format_for, format_of_file, send_text, send_to_file
from nimble_otter.send.format import BATCH
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING, Field, Kind, View
from nimble_otter.table.build import table_of

FORMATS = ["csv", "json", "sql", "xlsx"]
SAMPLE = {
    "id": [1, 2, 3, 4],
    "big": [2**63 - 1, None, -(2**63), 2**53 + 1],
    "real": [0.1, -0.0, 1e300, None],
    "amount": [Decimal("1.10"), Decimal("-20.05"), None, Decimal("3.00")],
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


def rows_of(columns, ids=None, **kinds):
    table = table_of(**columns)
    return Rows(table.fields, table.columns, View(table, None if ids is None else np.array(ids)), "re sult")


def test_every_format_is_found_by_its_file_and_suffix():
    assert sorted(f.key for f in all_formats()) == FORMATS
    assert format_of_file("/x/LEVELS.CSV").key == "csv"
    with pytest.raises(SendError, match="does not say a format"):
        format_of_file("levels.txt")
    with pytest.raises(SendError, match="no format"):
        format_for("parquet")


@pytest.mark.parametrize("key", FORMATS)
@pytest.mark.parametrize("count", [0, 1, BATCH - 1, BATCH, BATCH + 1])
def test_all_rows_arrive_in_order_whatever_the_batches(key, count, tmp_path):
    path, ids = tmp_path / f"out.{key}", list(range(count))[::-1]
    sent = send_to_file(
        rows_of({"n": list(range(count)) or [0], "t": ["x"] * (count or 1)}, ids), format_for(key), path
    )
    assert sent.rows == count
    assert sent.bytes == path.stat().st_size
    assert [int(row["n"]) for row in read_back(path)] == ids


def read_back(path):
    if path.suffix == ".csv":
        with path.open(newline="", encoding="utf-8") as stream:
            return list(csv.DictReader(stream))
    if path.suffix == ".json":
        return json.loads(path.read_text("utf-8"), parse_float=Decimal)
    if path.suffix == ".sql":
        base = sqlite3.connect(":memory:")
        base.row_factory = sqlite3.Row
        script = path.read_text("utf-8")
        if "create table" not in script:
            names = (script.split("(", 1)[1].split(")")[0]) if "insert" in script else "n, t"
            base.execute(f'create table "re sult" ({names})')
        base.executescript(script)
        rows = [dict(row) for row in base.execute('select * from "re sult"')]
        base.close()
        return rows
    sheet = openpyxl.load_workbook(path).worksheets[0]
    lines = list(sheet.iter_rows(values_only=True))
    return [dict(zip(lines[0], line, strict=True)) for line in lines[1:]]


def test_csv_tells_no_value_from_empty_text_and_quotes_what_must_be(tmp_path):
    path = tmp_path / "a.csv"
    send_to_file(rows_of(SAMPLE), format_for("csv"), path)
    raw = path.read_bytes()
    assert raw.endswith(b"\r\n")
    rows = read_back(path)
    assert [r["text"] for r in rows] == ['quo"te, and\nline', "", "", "=1+1"]
    lines = raw.decode().split("\r\n")
    assert ',"",' in lines[2]
    assert ',,"' not in lines[2]
    assert rows[0]["big"] == "9223372036854775807"
    assert [r["amount"] for r in rows] == ["1.10", "-20.05", "", "3.00"]
    assert rows[0]["at"] == "2031-05-28 23:00:00"
    assert [rows[0][n] for n in ("zoned", "clock", "span")] == ["2031-05-28 23:00:00+00:00", "23:05:00", "26:00:00"]
    assert rows[1]["ü name"] == " lead"
    assert json.loads(rows[0]["nested"]) == {"a": [1, None]}
    options = {"delimiter": "tab", "header": False, "empty": "∅", "line_end": "LF", "encoding": "utf-8-sig"}
    text = send_text(rows_of({"a": ["x", None, "∅", ""], "b": [1, 2, 3, None]}), format_for("csv"), options)
    assert text == 'x\t1\n∅\t2\n"∅"\t3\n""\t∅\n'
    assert send_text(rows_of({"a": ["x", None]}), format_for("csv")) == 'a\r\nx\r\n""\r\n'


def test_json_keeps_every_digit_and_leaves_missing_fields_out(tmp_path):
    path = tmp_path / "a.json"
    send_to_file(rows_of(SAMPLE), format_for("json"), path)
    rows = read_back(path)
    assert [r["big"] for r in rows] == SAMPLE["big"]
    assert rows[0]["amount"] == Decimal("1.10")
    assert '"amount":1.10' in path.read_text()
    assert rows[1]["at"] == "1969-01-01T00:00:01"
    assert rows[0]["nested"] == {"a": [1, None]}
    odd = rows_of({"a": [1, MISSING, None], "f": [math.nan, math.inf, 1.0], "h": [2**70, b"\x01", "x"]})
    assert json.loads(send_text(odd, format_for("json"))) == [
        {"a": 1, "f": None, "h": 2**70},
        {"f": None, "h": "01"},
        {"a": None, "f": 1.0, "h": "x"},
    ]
    lines = send_text(odd, format_for("json"), {"layout": "lines", "missing": "null"}).splitlines()
    assert [sorted(json.loads(line)) for line in lines] == [["a", "f", "h"]] * 3


def test_sql_inserts_load_exactly(tmp_path):
    path = tmp_path / "a.sql"
    columns = {**SAMPLE, "raw": [b"\x00'", b"", None, b"\xff"], "zero": ["a\0b", "\\", "'", ";--"]}
    send_to_file(rows_of(columns), format_for("sql"), path, {"create": True, "rows": "1"})
    rows = read_back(path)
    for name in ("id", "big", "text", "ü name", "raw", "zero"):
        assert [r[name] for r in rows] == columns[name], name
    assert rows[0]["real"] == 0.1
    assert rows[1]["yes"] == 0
    assert path.read_text("utf-8").count("insert into") == 4
    for dialect, literal in (("postgresql", "true"), ("mysql", "true"), ("sqlite", "1")):
        text = send_text(
            rows_of({"order": [True], "b": ["x\\'y"]}), format_for("sql"), {"dialect": dialect, "table": "s.t t"}
        )
        assert f"({literal}, 'x\\{chr(92) if dialect == 'mysql' else ''}''y')" in text
    with pytest.raises(SendError, match="NaN"):
        send_text(rows_of({"a": [math.nan]}), format_for("sql"))
    with pytest.raises(SendError, match="no dialect"):
        send_text(rows_of({"a": [1]}), format_for("sql"), {"dialect": "nosuch"})


def test_times_go_to_sqlite_in_the_form_they_came_in():
    rows = rows_of({"t": [dt.datetime(2031, 5, 28, 23)]})
    fields = [Field("t", Kind.TIME, form="%Y-%m-%dT%H:%M")]
    assert "('2031-05-28T23:00')" in send_text(Rows(fields, rows.columns, rows.view, "t"), format_for("sql"))


def test_xlsx_has_real_types_and_never_rounds(tmp_path):
    path = tmp_path / "a.xlsx"
    send_to_file(rows_of(SAMPLE), format_for("xlsx"), path, {"sheet": "May: [levels]/x"})
    book = openpyxl.load_workbook(path)
    assert book.sheetnames == ["May   levels  x"]
    assert book.worksheets[0].freeze_panes == "A2"
    rows = read_back(path)
    assert rows[0]["big"] == "9223372036854775807"
    assert rows[3]["big"] == "9007199254740993"
    assert rows[0]["real"] == 0.1
    assert rows[0]["amount"] == 1.1
    assert rows[0]["yes"] is True
    assert rows[0]["at"] == dt.datetime(2031, 5, 28, 23)
    assert rows[1]["at"] == dt.datetime(1969, 1, 1, 0, 0, 1)
    assert rows[1]["on"] == "1850-01-01"
    assert rows[0]["on"] == dt.datetime(2031, 5, 28)
    assert rows[3]["text"] == "=1+1"
    assert book.worksheets[0].cell(5, 11).data_type == "s"
    assert (rows[0]["span"], rows[0]["clock"]) == ("26:00:00", "23:05:00")
    with zipfile.ZipFile(path) as inside:
        assert inside.testzip() is None
    odd = rows_of(
        {
            "c": [
                "a\x01b",
                "_x0041_",
                "\ud800".encode("utf-8", "surrogatepass").decode("utf-8", "surrogateescape"),
                " s ",
            ]
        }
    )
    send_to_file(odd, format_for("xlsx"), path)
    assert [unescape(r["c"]) for r in read_back(path)][::3] == ["a\x01b", " s "]
    with pytest.raises(SendError, match="32767"):
        send_to_file(rows_of({"c": ["x" * 40_000]}), format_for("xlsx"), path)
    table = table_of(c=[1])
    with pytest.raises(SendError, match="1048576"):
        send_to_file(
            Rows(table.fields, table.columns, View(table, np.zeros(1_048_576, np.int64))), format_for("xlsx"), path
        )


@settings(max_examples=40, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(
    st.lists(
        st.tuples(
            st.none() | st.text(st.characters(codec="utf-8", exclude_characters="\r"), max_size=12),
            st.none() | st.floats(allow_nan=False, allow_infinity=False),
            st.none() | st.integers(-(2**80), 2**80),
        ),
        min_size=1,
        max_size=12,
    )
)
def test_whatever_the_values_they_come_back(tmp_path, rows):
    columns = dict(zip(("t", "f", "n"), map(list, zip(*rows, strict=True)), strict=True))
    made = rows_of(columns)
    for key in FORMATS:
        send_to_file(made, format_for(key), tmp_path / f"a.{key}", {"create": True})
    back = read_back(tmp_path / "a.csv")
    assert [r["t"] for r in back] == [t or "" for t in columns["t"]]
    assert [float(r["f"]) if r["f"] else None for r in back] == columns["f"]
    assert [int(r["n"]) if r["n"] else None for r in back] == columns["n"]
    back = json.loads((tmp_path / "a.json").read_text("utf-8"))
    assert [(r["t"], r["f"], r["n"]) for r in back] == list(map(tuple, rows))
    back = read_back(tmp_path / "a.sql")
    assert [r["t"] for r in back] == columns["t"]
    back = read_back(tmp_path / "a.xlsx")
    assert [r["f"] for r in back] == columns["f"]
    assert [None if r["n"] is None else int(r["n"]) for r in back] == columns["n"]


class _Breaks:
    """A format that fails half-way."""

    key, word, suffix, options = "x", "X", ".x", ()

    def __init__(self, problem, rows=None):
        self.problem, self.rows = problem, rows

    def write(self, rows, stream, options, stop):
        stream.write(b"half")
        yield 1
        if self.problem is not None:
            raise self.problem
        yield self.rows


@pytest.mark.parametrize("problem", [SendError("bad"), Stopped(), OSError(28, "No space left on device")])
def test_nothing_half_written_is_left(tmp_path, problem):
    path = tmp_path / "out.x"
    path.write_text("before")
    with pytest.raises((SendError, Stopped)):
        send_to_file(rows_of({"a": [1, 2]}), _Breaks(problem), path)
    assert path.read_text() == "before"
    assert [p.name for p in tmp_path.iterdir()] == ["out.x"]


def test_the_count_is_checked_folders_must_exist_and_a_stop_is_heard(tmp_path):
    with pytest.raises(SendError, match="1 of 2"):
        send_to_file(rows_of({"a": [1, 2]}), _Breaks(None, 1), tmp_path / "o.x")
    with pytest.raises(SendError, match="folder does not exist"):
        send_to_file(rows_of({"a": [1]}), format_for("csv"), tmp_path / "no" / "o.csv")
    stop = StopToken()
    stop.set()
    for key in FORMATS:
        with pytest.raises(Stopped):
            send_to_file(rows_of({"a": [1]}), format_for(key), tmp_path / "o", stop=stop)
    assert list(tmp_path.iterdir()) == []
    with pytest.raises(SendError, match="not text"):
        send_text(rows_of({"a": [1]}), format_for("xlsx"))
    progress = []
    send_to_file(
        rows_of({"a": [1] * 9000}), format_for("csv"), tmp_path / "o.csv", progress=lambda n, m: progress.append((n, m))
    )
    assert progress[-1] == (9000, 9000)
    assert io.BytesIO


def test_file_names_from_patterns():
    at = dt.datetime(2031, 5, 28, 8, 2)
    assert (
        fill_name("~/x/{pull}-{date}-{time}-{count}.csv", "High/water", "S", 5, at)
        == "~/x/High-water-2031-05-28-080200-5.csv"
    )
    assert fill_name("{source}", "p", "../..", 0, at) == "-"
    with pytest.raises(SendError, match="month"):
        fill_name("{month}.csv", "p", "s", 0, at)
    for empty in ("", "x/"):
        with pytest.raises(SendError, match="file name"):
            fill_name(empty, "p", "s", 0, at)
