"""Workbooks opened by an office suite, where one is installed: values and types as any spreadsheet sees them."""

import csv
import datetime as dt
import shutil
import subprocess

import openpyxl
import pytest
from tests.conformance.test_formats import SAMPLE, rows_of, send

from nimble_otter.send import format_for, send_to_file

OFFICE = shutil.which("soffice")
AS_VALUES = "csv:Text - txt - csv (StarCalc):44,34,76,1,,0,false,false,false,false,false,-1"


def converted(path, sheet):
    subprocess.run(
        [OFFICE, "--headless", f"-env:UserInstallation=file://{path.parent}/office", "--convert-to", AS_VALUES,
         "--outdir", str(path.parent), str(path)],
        check=True, capture_output=True, timeout=120,
    )  # fmt: skip
    with path.with_name(f"{path.stem}-{sheet}.csv").open(newline="", encoding="utf-8") as stream:
        return list(csv.reader(stream))


@pytest.mark.long
@pytest.mark.skipif(OFFICE is None, reason="no office suite is installed")
@pytest.mark.timeout(300)
def test_an_office_suite_reads_what_was_sent(tmp_path):
    path = tmp_path / "a.xlsx"
    send(SAMPLE, "xlsx", path, sheet="May", buttons=True, freeze=True)
    rows = [dict(zip(SAMPLE, row, strict=True)) for row in converted(path, "May")[1:]]
    assert [r["big"] for r in rows] == ["" if v is None else str(v) for v in SAMPLE["big"]]
    assert [float(r["real"]) if r["real"] else None for r in rows] == SAMPLE["real"]
    assert [r["text"] for r in rows] == [v or "" for v in SAMPLE["text"]]
    assert rows[3]["text"] == "=1+1"
    subprocess.run(
        [OFFICE, "--headless", f"-env:UserInstallation=file://{tmp_path}/office", "--convert-to", "xlsx",
         "--outdir", str(tmp_path / "out"), str(path)],
        check=True, capture_output=True, timeout=120,
    )  # fmt: skip
    sheet = openpyxl.load_workbook(tmp_path / "out" / "a.xlsx")["May"]
    place = list(SAMPLE).index("at") + 1
    assert [sheet.cell(row, place).value for row in (2, 3)] == SAMPLE["at"][:2]
    assert isinstance(sheet.cell(2, list(SAMPLE).index("on") + 1).value, dt.datetime)


@pytest.mark.long
@pytest.mark.skipif(OFFICE is None, reason="no office suite is installed")
@pytest.mark.timeout(300)
def test_an_office_suite_reckons_a_changed_workbook_again(tmp_path):
    path, book = tmp_path / "book.xlsx", openpyxl.Workbook()
    book.active.title = "Figures"
    book["Figures"]["A1"] = "=SUM(Form!B6:B9)"
    book.create_sheet("Form")["A20"] = "signed"
    book.save(path)
    rows = rows_of({"n": [1.5, 2.5], "t": ["a", "b"]})
    send_to_file(rows, format_for("xlsx"), path, {"sheet": "Form", "first": "B5"}, exists="over")
    send({"n": [7]}, "xlsx", path, exists="append", sheet="Form", first="B5")
    assert converted(path, "Figures") == [["11"]]
    form = converted(path, "Form")
    assert [line[1] for line in form[4:8]] == ["n", "1.5", "2.5", "7"]
    assert form[19][0] == "signed"
