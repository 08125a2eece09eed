"""Workbooks opened by other programs: values and types as any spreadsheet sees them, and what a changed one keeps."""

import csv
import datetime as dt
import os
import re
import shutil
import subprocess
import warnings
import zipfile

import openpyxl
import pytest
from openpyxl.chart import BarChart, Reference
from openpyxl.comments import Comment
from openpyxl.formatting.rule import CellIsRule
from openpyxl.worksheet.datavalidation import DataValidation
from openpyxl.worksheet.formula import ArrayFormula
from openpyxl.worksheet.table import Table

from nimble_otter.errors import SendError
from nimble_otter.send import format_for, send_to_file
from tests.conformance.test_formats import SAMPLE, rows_of, send

PROGRAMS = {"LibreOffice": "soffice", "Gnumeric": "ssconvert", "xlsx2csv": "xlsx2csv"}
AS_VALUES = "csv:Text - txt - csv (StarCalc):44,34,76,1,,0,false,false,false,false,false,-1"


def run(*command):
    subprocess.run([str(part) for part in command], check=True, capture_output=True, timeout=120)


def read_by(program, path, sheet):
    """The cells of a sheet, as a program writes them again."""
    if shutil.which(PROGRAMS[program]) is None:
        if os.environ.get("CI"):
            raise AssertionError(f"{program} is not installed")
        pytest.skip(f"{program} is not installed")
    out = path.with_name(f"{path.stem}-{sheet}.csv")
    out.unlink(missing_ok=True)
    if program == "LibreOffice":
        home = f"-env:UserInstallation=file://{path.parent}/office"
        run("soffice", "--headless", home, "--convert-to", AS_VALUES, "--outdir", path.parent, path)
    elif program == "Gnumeric":
        run("ssconvert", "--recalc", path, path.with_name("again.xlsx"))
        with warnings.catch_warnings():
            warnings.filterwarnings("ignore", "Workbook contains no default style")
            made = openpyxl.load_workbook(path.with_name("again.xlsx"), data_only=True)[sheet]
        return [["" if v is None else str(v) for v in row] for row in made.iter_rows(values_only=True)]
    else:
        run("xlsx2csv", "-n", sheet, path, out)
    with out.open(newline="", encoding="utf-8") as stream:
        return list(csv.reader(stream))


def merged(path, columns, exists, **options):
    return send_to_file(rows_of(columns), format_for("xlsx"), path, options, exists=exists)


@pytest.mark.timeout(300)
@pytest.mark.parametrize("program", PROGRAMS)
def test_every_program_reads_all_that_was_sent(tmp_path, program):
    path = tmp_path / "a.xlsx"
    wide = {**SAMPLE, **{f"n{n}": list(range(n, n + 4)) for n in range(30)}}
    send(wide, "xlsx", path, sheet="May", buttons=True, freeze=True, first="C4")
    cells = [row[2:] for row in read_by(program, path, "May")[-5:]]
    assert cells[0][: len(wide)] == list(wide)
    rows = [dict(zip(wide, row, strict=False)) for row in cells[1:]]
    assert [r["big"] for r in rows] == ["" if v is None else str(v) for v in SAMPLE["big"]]
    assert [float(r["real"]) if r["real"] else None for r in rows] == SAMPLE["real"]
    assert [r["text"] for r in rows] == [v or "" for v in SAMPLE["text"]]
    assert rows[3]["text"] == "=1+1"
    assert [r["n29"] for r in rows] == ["29", "30", "31", "32"]
    if program != "LibreOffice":
        return
    run("soffice", "--headless", f"-env:UserInstallation=file://{tmp_path}/office", "--convert-to", "xlsx",
        "--outdir", tmp_path / "out", path)  # fmt: skip
    sheet = openpyxl.load_workbook(tmp_path / "out" / "a.xlsx")["May"]
    place = list(SAMPLE).index("at") + 3
    assert [sheet.cell(row, place).value for row in (5, 6)] == SAMPLE["at"][:2]
    assert isinstance(sheet.cell(5, list(SAMPLE).index("on") + 3).value, dt.datetime)


@pytest.mark.timeout(300)
@pytest.mark.parametrize("program", ["LibreOffice", "Gnumeric"])
def test_totals_of_other_sheets_are_reckoned_again(tmp_path, program):
    """Also where the file holds the values that they had, as all programs write them."""
    path, book = tmp_path / "book.xlsx", openpyxl.Workbook()
    book.active.title = "Figures"
    book["Figures"]["A1"] = "=SUM(Form!B6:B9)"
    book.create_sheet("Form")["A20"] = "signed"
    book.save(path)
    changed(path, "xl/worksheets/sheet1.xml", rb"<v ?/>|<v></v>", b"<v>77</v>")
    merged(path, {"n": [1.5, 2.5], "t": ["a", "b"]}, "over", sheet="Form", first="B5")
    merged(path, {"n": [7]}, "append", sheet="Form", first="B5")
    assert read_by(program, path, "Figures")[0][0] == "11"
    form = read_by(program, path, "Form")
    assert [line[1] for line in form[4:8]] == ["n", "1.5", "2.5", "7"]
    assert form[19][0] == "signed"


def changed(path, part, pattern, new):
    """A part of a workbook with something in it replaced."""
    with zipfile.ZipFile(path) as old:
        parts = {name: old.read(name) for name in old.namelist()}
    parts[part] = re.sub(pattern, new, parts[part])
    with zipfile.ZipFile(path, "w") as out:
        for name, data in parts.items():
            out.writestr(name, data)


@pytest.fixture
def full(tmp_path):
    """A workbook whose sheet holds a table, a chart, notes, rules, print settings, a validation, merged cells."""
    path, book = tmp_path / "full.xlsx", openpyxl.Workbook()
    sheet = book.active
    sheet.title = "Log"
    for row in (["n", "t"], [1, "a"], [2, "b"], [3, "c"]):
        sheet.append(row)
    sheet.add_table(Table(displayName="Levels", ref="A1:B4"))
    chart = BarChart()
    chart.add_data(Reference(sheet, min_col=1, min_row=1, max_row=4), titles_from_data=True)
    sheet.add_chart(chart, "H2")
    sheet["F1"], sheet["F2"] = "note", "kept"
    sheet["F1"].comment = Comment("who wrote this", "otter")
    sheet.conditional_formatting.add("A2:A9", CellIsRule(operator="greaterThan", formula=["2"]))
    valid = DataValidation("whole", operator="between", formula1="0", formula2="9")
    valid.add("A2:A9")
    sheet.add_data_validation(valid)
    sheet.merge_cells("D8:E9")
    sheet.page_setup.orientation, sheet.print_title_rows = "landscape", "1:1"
    book.create_sheet("Sums")["A1"] = "=SUM(Levels[n])"
    book.save(path)
    return path


def what_is_kept(path):
    sheet = openpyxl.load_workbook(path)["Log"]
    return {
        "charts": len(sheet._charts), "rules": len(sheet.conditional_formatting), "note": bool(sheet["F1"].comment),
        "valid": len(sheet.data_validations.dataValidation), "print": sheet.page_setup.orientation,
        "tables": {t.displayName: (t.ref, [c.name for c in t.tableColumns]) for t in sheet.tables.values()},
    }  # fmt: skip


def test_a_replaced_sheet_keeps_what_stands_around_its_cells(full):
    before = what_is_kept(full)
    assert (before["charts"], before["valid"], before["note"]) == (1, 1, True)
    for count in (5, 2):
        sent = merged(full, {"n": list(range(count)), "word": ["x"] * count}, "within", sheet="Log", as_table="Levels")
        assert not any("called" in note for note in sent.notes)
        after = what_is_kept(full)
        assert after["tables"] == {"Levels": (f"A1:B{count + 1}", ["n", "word"])}
        assert {k: v for k, v in after.items() if k != "tables"} == {k: v for k, v in before.items() if k != "tables"}
    sent = merged(full, {"n": [1]}, "within", sheet="Log", first="C3")
    assert "the table Levels went with its cells" in " ".join(sent.notes)
    assert what_is_kept(full)["tables"] == {}


def test_merged_ranges_and_links_are_named_when_they_go(full):
    sent = merged(full, {"n": [1]}, "within", sheet="Log")
    assert "merged ranges went" in " ".join(sent.notes)


@pytest.mark.timeout(300)
def test_tables_take_in_the_rows_below_and_the_names_above_them(full):
    merged(full, {"n": [10, 20], "t": ["d", "e"]}, "append", sheet="Log")
    assert what_is_kept(full)["tables"] == {"Levels": ("A1:B6", ["n", "t"])}
    assert read_by("LibreOffice", full, "Sums")[0][0] == "36"
    merged(full, {"m": [1, 2, 3, 4, 5, 6], "t": list("abcdef")}, "over", sheet="Log")
    assert what_is_kept(full)["tables"] == {"Levels": ("A1:B7", ["m", "t"])}
    sheet = openpyxl.load_workbook(full)["Log"]
    assert [sheet.cell(row, 1).value for row in range(1, 9)] == ["m", 1, 2, 3, 4, 5, 6, None]


@pytest.mark.timeout(300)
@pytest.mark.parametrize("program", PROGRAMS)
def test_a_formula_that_cells_share_goes_on_in_the_others(tmp_path, program):
    path, book = tmp_path / "shared.xlsx", openpyxl.Workbook()
    sheet = book.active
    sheet.title = "S"
    for row in range(1, 7):
        sheet[f"A{row}"], sheet[f"D{row}"] = row, f"=A{row}*2"
    book.save(path)
    changed(path, "xl/worksheets/sheet1.xml", rb"<f>A1\*2</f>", b'<f t="shared" ref="D1:D6" si="0">A1*2</f>')
    changed(path, "xl/worksheets/sheet1.xml", rb"<f>A\d\*2</f>", b'<f t="shared" si="0"/>')
    merged(path, {"x": [7, 8]}, "over", sheet="S", first="D1", header=False)
    if program == "xlsx2csv":  # it reckons nothing: the formulas themselves
        cells = openpyxl.load_workbook(path)["S"]
        assert [cells[f"D{row}"].value for row in (1, 2, 3)] == [7, 8, "=A3*2"]
        return
    assert [row[3] for row in read_by(program, path, "S")] == ["7", "8", "6", "8", "10", "12"]


def test_parts_of_array_formulas_are_refused_and_merged_ranges_split(tmp_path):
    path, book = tmp_path / "array.xlsx", openpyxl.Workbook()
    sheet = book.active
    sheet.title = "S"
    sheet["B1"] = ArrayFormula("B1:B3", "=A1:A3*2")
    sheet.merge_cells("D5:E6")
    sheet.protection.sheet = True
    book.save(path)
    before = path.read_bytes()
    with pytest.raises(SendError, match="B1:B3 of the array formula in B1"):
        merged(path, {"x": [1]}, "over", sheet="S", first="B2", header=False)
    assert path.read_bytes() == before
    sent = merged(path, {"x": [1, 2]}, "over", sheet="S", first="D5", header=False)
    said = " ".join(sent.notes)
    assert "merged ranges" in said
    assert "protected" in said
    made = openpyxl.load_workbook(path)["S"]
    assert ([str(r) for r in made.merged_cells.ranges], made["D6"].value) == ([], 2)


def test_workbooks_with_macros_are_changed_and_strict_ones_refused(full, tmp_path):
    macros = tmp_path / "m.xlsm"
    shutil.copy(full, macros)
    changed(
        macros,
        "[Content_Types].xml",
        rb"[\w.\-]*spreadsheetml\.sheet\.main\+xml",
        b"vnd.ms-excel.sheet.macroEnabled.main+xml",
    )
    sent = merged(macros, {"n": [4], "t": ["d"]}, "append", sheet="Log")
    assert sent.path == macros
    assert not list(tmp_path.glob("m.xlsm.*"))
    assert openpyxl.load_workbook(macros)["Log"]["A5"].value == 4
    with pytest.raises(SendError, match="with macros"):
        send({"n": [1]}, "xlsx", tmp_path / "new.xlsm")
    changed(full, "xl/workbook.xml", rb"http://schemas.openxmlformats.org/spreadsheetml/2006/main",
            b"http://purl.oclc.org/ooxml/spreadsheetml/main")  # fmt: skip
    with pytest.raises(SendError, match="strict form"):
        merged(full, {"n": [1]}, "append", sheet="Log")


@pytest.mark.timeout(300)
@pytest.mark.parametrize("program", ["LibreOffice", "Gnumeric"])
def test_no_page_runs_a_formula_in_a_spreadsheet(tmp_path, program):
    """And a browser shows what was there."""
    path = tmp_path / "a.html"
    sent = send({"t": ["=1+1", "+1+1", "@SUM(1)", "plain"]}, "html", path)
    assert "apostrophe" in " ".join(sent.notes)
    assert "<td><span hidden>'</span>=1+1</td>" in path.read_text()
    out = tmp_path / "a.csv"
    if shutil.which(PROGRAMS[program]) is None:
        pytest.skip(f"{program} is not installed")
    if program == "LibreOffice":
        home = f"-env:UserInstallation=file://{tmp_path}/office"
        run(
            "soffice",
            "--headless",
            home,
            "--infilter=HTML (StarCalc)",
            "--convert-to",
            "csv",
            "--outdir",
            tmp_path,
            path,
        )
    else:
        run("ssconvert", path, out)
    cells = [row[0] for row in csv.reader(out.read_text().splitlines()) if row and row[0]]
    assert [cell.removeprefix("'") for cell in cells[-4:]] == ["=1+1", "+1+1", "@SUM(1)", "plain"]
