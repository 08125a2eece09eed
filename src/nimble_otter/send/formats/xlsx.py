"""XLSX workbooks (ECMA-376, part 1), streamed with our own writer: doubles keep 17 digits and nothing is cut silently.

Whole numbers above 2**53 and dates that the format can't hold are written as text, so that no digit is lost.
"""

from __future__ import annotations

import datetime as dt
import re
import zipfile
from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Any, BinaryIO
from xml.sax.saxutils import escape, quoteattr

from nimble_otter.errors import SendError
from nimble_otter.send.format import Option, Rows
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING, Kind
from nimble_otter.table.show import plain

MOST_ROWS, MOST_COLUMNS, MOST_CHARACTERS = 1_048_576, 16_384, 32_767
_FIRST_DAY = dt.datetime(1900, 3, 1)
_ZERO = dt.datetime(1899, 12, 30)
_ILLEGAL = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]|_x[0-9A-Fa-f]{4}_")
_HEAD = '<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n'
_MAIN = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
_OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
_PACKAGE = "http://schemas.openxmlformats.org/package/2006"
_STYLES = (
    f'<styleSheet xmlns="{_MAIN}"><numFmts count="2"><numFmt numFmtId="164" formatCode="yyyy\\-mm\\-dd\\ hh:mm:ss"/>'
    '<numFmt numFmtId="165" formatCode="yyyy\\-mm\\-dd"/></numFmts>'
    '<fonts count="2"><font><sz val="11"/><name val="Calibri"/></font><font><b/><sz val="11"/><name val="Calibri"/>'
    '</font></fonts><fills count="2"><fill><patternFill patternType="none"/></fill><fill>'
    '<patternFill patternType="gray125"/></fill></fills><borders count="1"><border/></borders>'
    '<cellStyleXfs count="1"><xf/></cellStyleXfs><cellXfs count="4"><xf xfId="0"/>'
    '<xf numFmtId="164" xfId="0" applyNumberFormat="1"/><xf numFmtId="165" xfId="0" applyNumberFormat="1"/>'
    '<xf fontId="1" xfId="0" applyFont="1"/></cellXfs>'
    '<cellStyles count="1"><cellStyle name="Normal" xfId="0" builtinId="0"/></cellStyles></styleSheet>'
)


class _Xlsx:
    key = "xlsx"
    word = "XLSX workbook"
    suffix = ".xlsx"
    is_text = False
    options = (
        Option("sheet", "Sheet", "text", "Rows"),
        Option("header", "Header row", "yes/no", True),
        Option("freeze", "Keep header in sight", "yes/no", True),
    )

    def write(self, rows: Rows, stream: BinaryIO, options: Mapping[str, Any], stop: StopToken) -> Iterator[int]:
        header = bool(options["header"])
        if len(rows) + header > MOST_ROWS:
            raise SendError(
                f"A sheet holds {MOST_ROWS} rows; this is {len(rows) + header}.", "Filter first, or send CSV."
            )
        if len(rows.columns) > MOST_COLUMNS:
            raise SendError(f"A sheet holds {MOST_COLUMNS} columns; this is {len(rows.columns)}.", "Hide some first.")
        sheet = re.sub(r"[\[\]:*?/\\\x00-\x1f]", " ", str(options["sheet"])).strip(" '")[:31] or "Rows"
        with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as book:
            for name, text in _parts(sheet).items():
                book.writestr(name, _HEAD + text)
            with book.open("xl/worksheets/sheet1.xml", "w", force_zip64=True) as out:
                yield from _write_sheet(rows, out, header, header and bool(options["freeze"]), stop)


def _write_sheet(rows: Rows, out: Any, header: bool, freeze: bool, stop: StopToken) -> Iterator[int]:
    pane = '<pane ySplit="1" topLeftCell="A2" activePane="bottomLeft" state="frozen"/>' if freeze else ""
    view = f'<sheetViews><sheetView workbookViewId="0">{pane}</sheetView></sheetViews>'
    widths = "".join(
        f'<col min="{n}" max="{n}" width="{_width(field.name, field.kind)}" customWidth="1"/>'
        for n, field in enumerate(rows.fields, 1)
    )
    cols = f"<cols>{widths}</cols>" if widths else ""
    out.write(f'{_HEAD}<worksheet xmlns="{_MAIN}">{view}{cols}<sheetData>'.encode())
    if header:
        cells = "".join(_text_cell(name, ' s="3"') for name in rows.names)
        out.write(f"<row>{cells}</row>".encode())
    done = 0
    for batch in rows.batches(stop):
        columns = [[_cell(value) for value in values] for values in batch]
        lines = [f"<row>{''.join(cells)}</row>" for cells in zip(*columns, strict=True)]
        out.write("".join(lines).encode("utf-8"))
        done += len(lines)
        yield done
    out.write(b"</sheetData></worksheet>")
    yield done


def _width(name: str, kind: Kind) -> int:
    least = {Kind.TIME: 19, Kind.DATE: 11, Kind.ZONED: 25, Kind.TEXT: 16}.get(kind, 9)
    return min(40, max(least, len(name) + 2))


def _cell(value: Any) -> str:
    if value is None or value is MISSING:
        return "<c/>"
    if isinstance(value, bool):
        return f'<c t="b"><v>{int(value)}</v></c>'
    if isinstance(value, int):
        return f"<c><v>{value}</v></c>" if -(1 << 53) <= value <= 1 << 53 else _text_cell(str(value))
    if isinstance(value, float):
        finite = value == value and value not in (float("inf"), float("-inf"))
        return f"<c><v>{value!r}</v></c>" if finite else _text_cell(repr(value))
    if isinstance(value, Decimal):
        exact = Decimal(repr(float(value))) == value
        return f"<c><v>{float(value)!r}</v></c>" if exact else _text_cell(format(value, "f"))
    if (
        isinstance(value, dt.datetime)
        and value.tzinfo is None
        and value >= _FIRST_DAY
        and value.microsecond % 1000 == 0
    ):
        return f'<c s="1"><v>{(value - _ZERO) / dt.timedelta(days=1)!r}</v></c>'
    if type(value) is dt.date and value >= _FIRST_DAY.date():
        return f'<c s="2"><v>{(value - _ZERO.date()).days}</v></c>'
    return _text_cell(plain(value))


def _text_cell(text: str, style: str = "") -> str:
    if len(text) > MOST_CHARACTERS:
        raise SendError(
            f"A cell holds {MOST_CHARACTERS} characters; one value has {len(text)}.",
            "Hide that column, or send CSV or JSON.",
        )
    body = _ILLEGAL.sub(lambda m: "".join(f"_x{ord(c):04X}_" for c in m[0][:1]) + m[0][1:], text)
    return f'<c t="inlineStr"{style}><is><t xml:space="preserve">{escape(body)}</t></is></c>'


def _parts(sheet: str) -> dict[str, str]:
    """Every part of the package but the sheet itself."""
    office = "application/vnd.openxmlformats-officedocument.spreadsheetml"
    return {
        "[Content_Types].xml": f'<Types xmlns="{_PACKAGE}/content-types">'
        '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
        f'<Override PartName="/xl/workbook.xml" ContentType="{office}.sheet.main+xml"/>'
        f'<Override PartName="/xl/worksheets/sheet1.xml" ContentType="{office}.worksheet+xml"/>'
        f'<Override PartName="/xl/styles.xml" ContentType="{office}.styles+xml"/></Types>',
        "_rels/.rels": f'<Relationships xmlns="{_PACKAGE}/relationships">'
        f'<Relationship Id="r1" Type="{_OFFICE}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        "xl/workbook.xml": f'<workbook xmlns="{_MAIN}" xmlns:r="{_OFFICE}"><sheets>'
        f'<sheet name={quoteattr(sheet)} sheetId="1" r:id="r1"/></sheets></workbook>',
        "xl/_rels/workbook.xml.rels": f'<Relationships xmlns="{_PACKAGE}/relationships">'
        f'<Relationship Id="r1" Type="{_OFFICE}/worksheet" Target="worksheets/sheet1.xml"/>'
        f'<Relationship Id="r2" Type="{_OFFICE}/styles" Target="styles.xml"/></Relationships>',
        "xl/styles.xml": _STYLES,
    }


FORMAT = _Xlsx()
