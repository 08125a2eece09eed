"""Charts in a workbook (ECMA-376 part 1, 20.5 and 21.2): on a sheet of their own, over the delivered cells where that
is possible, else as pictures."""

from __future__ import annotations

from dataclasses import dataclass
from xml.sax.saxutils import escape

from nimble_otter.errors import ConditionError, SendError
from nimble_otter.send.cells import letters
from nimble_otter.send.format import Attached, CellChart, Output
from nimble_otter.send.workbook import HEAD, MAIN, OFFICE, Book
from nimble_otter.translation import tr

_DRAWING_ML = "http://schemas.openxmlformats.org/drawingml/2006"
_CHART_TYPE = "application/vnd.openxmlformats-officedocument.drawingml.chart+xml"
_DRAWING_TYPE = "application/vnd.openxmlformats-officedocument.drawing+xml"
_WIDTH_PX, _HEIGHT_PX, _EMU_A_PIXEL = 960, 540, 9525
_ROWS = 27
"""Rows that a chart lies over."""
_FEW_DAYS = 4
_FIRST_DAY = 25569
"""What a workbook's days are ahead of days since 1970."""
_COLOURS = ("17636C", "B97A10", "3C5AA6", "7A3E63", "5F9EA0", "8A5430", "7F8FC9", "5B6B2F")
_DASHES = ("solid", "dash", "sysDot", "dashDot", "lgDash", "sysDash", "lgDashDot", "sysDashDot")
_STACKS = {"beside": "clustered", "stacked": "stacked", "share": "percentStacked"}


@dataclass(frozen=True, slots=True)
class Area:
    """Where rows were written: a sheet, its rows from `top` to `bottom` (from 1), the first column (from 0), and
    whether names stand above."""

    sheet: str
    top: int
    bottom: int
    left: int
    has_header: bool

    def column(self, place: int) -> str:
        """A formula that names a column's cells."""
        letter = letters(self.left + place)
        return f"{self._quoted()}!${letter}${self.top}:${letter}${self.bottom}"

    def head(self, place: int) -> str:
        """A formula that names the cell of a column's name."""
        return f"{self._quoted()}!${letters(self.left + place)}${self.top - 1}"

    def _quoted(self) -> str:
        return "'" + self.sheet.replace("'", "''") + "'"


def put_charts(book: Book, charts: tuple[Attached, ...], area: Area | None, out: Output) -> None:
    """Put the charts on a sheet of their own; one that can't be drawn is left out, which is noted. `area` None: the
    rows are on several sheets, so charts over cells become pictures."""
    part = book.add_sheet(book.free_name("Charts"))
    drawing, own, anchors = book.free_part("xl/drawings/drawing{}.xml"), book.new_relations(), list[str]()
    book.put(drawing, b"")
    for number, chart in enumerate(charts, 1):
        out.stop.check()
        try:
            anchors.append(_anchor(book, own, chart, area, number, len(anchors)))
        except ConditionError as problem:
            out.note(tr("the chart {chart_title} was left out: {problem}", chart_title=chart.title, problem=problem), 1)
    if not anchors:
        anchors.append("")
    text = "".join(anchors)
    space = f'xmlns:xdr="{_DRAWING_ML}/spreadsheetDrawing" xmlns:a="{_DRAWING_ML}/main" xmlns:r="{OFFICE}"'
    book.put(drawing, HEAD + f"<xdr:wsDr {space}>{text}</xdr:wsDr>".encode(), _DRAWING_TYPE)
    book.put_relations(drawing, own)
    relations = book.new_relations()
    relation = book.relate(relations, "drawing", f"/{drawing}")
    sheet = (
        f'<worksheet xmlns="{MAIN}" xmlns:r="{OFFICE}"><sheetViews>'
        '<sheetView showGridLines="0" workbookViewId="0"/>'
        '</sheetViews><sheetFormatPr defaultRowHeight="15" customHeight="1"/><sheetData/>'
        f'<drawing r:id="{relation}"/></worksheet>'
    )
    book.put(part, HEAD + sheet.encode())
    book.put_relations(part, relations)


def _anchor(book: Book, relations: object, chart: Attached, area: Area | None, number: int, place: int) -> str:
    cells = chart.cells() if area is not None and area.bottom >= area.top else None
    if cells is not None and area is not None:
        part = book.free_part("xl/charts/chart{}.xml")
        book.put(part, HEAD + chart_xml(cells, area).encode(), _CHART_TYPE)
        relation = book.relate(relations, "chart", f"/{part}")
        inner = (
            f'<xdr:graphicFrame macro=""><xdr:nvGraphicFramePr><xdr:cNvPr id="{number + 1}" name="Chart {number}" '
            f"descr={_attribute(chart.title)}/><xdr:cNvGraphicFramePr/></xdr:nvGraphicFramePr>"
            '<xdr:xfrm><a:off x="0" y="0"/><a:ext cx="0" cy="0"/></xdr:xfrm><a:graphic>'
            f'<a:graphicData uri="{_DRAWING_ML}/chart"><c:chart xmlns:c="{_DRAWING_ML}/chart" r:id="{relation}"/>'
            "</a:graphicData></a:graphic></xdr:graphicFrame>"
        )
    else:
        media = book.free_part("xl/media/image{}.png")
        book.put(media, chart.picture("png"))
        book.add_default_type("png", "image/png")
        relation = book.relate(relations, "image", f"/{media}")
        inner = (
            f'<xdr:pic><xdr:nvPicPr><xdr:cNvPr id="{number + 1}" name="Chart {number}" '
            f"descr={_attribute(chart.title)}/><xdr:cNvPicPr>"
            '<a:picLocks noChangeAspect="1"/></xdr:cNvPicPr></xdr:nvPicPr><xdr:blipFill>'
            f'<a:blip r:embed="{relation}"/><a:stretch><a:fillRect/></a:stretch></xdr:blipFill><xdr:spPr><a:xfrm>'
            '<a:off x="0" y="0"/><a:ext cx="0" cy="0"/></a:xfrm><a:prstGeom prst="rect"><a:avLst/></a:prstGeom>'
            "</xdr:spPr></xdr:pic>"
        )
    row = 1 + place * (_ROWS + 2)
    at = f"<xdr:col>1</xdr:col><xdr:colOff>0</xdr:colOff><xdr:row>{row}</xdr:row><xdr:rowOff>0</xdr:rowOff>"
    size = f'<xdr:ext cx="{_WIDTH_PX * _EMU_A_PIXEL}" cy="{_HEIGHT_PX * _EMU_A_PIXEL}"/>'
    return f"<xdr:oneCellAnchor><xdr:from>{at}</xdr:from>{size}{inner}<xdr:clientData/></xdr:oneCellAnchor>"


def _attribute(text: str) -> str:
    from xml.sax.saxutils import quoteattr

    return quoteattr("".join(c for c in text if c >= " "))


def chart_xml(cells: CellChart, area: Area) -> str:
    """The part of a chart. Raises: SendError for a kind that workbooks have not."""
    made = {"bars": _bars, "line": _lines, "area": _areas, "scatter": _points}.get(cells.kind)
    if made is None:
        raise SendError(tr("A workbook has no chart of the kind {kind}.", kind=cells.kind))
    return (
        f'<c:chartSpace xmlns:c="{_DRAWING_ML}/chart" xmlns:a="{_DRAWING_ML}/main" xmlns:r="{OFFICE}">'
        f'<c:roundedCorners val="0"/><c:chart>{_title(cells.title, 1400, True)}<c:autoTitleDeleted val="0"/>'
        f"<c:plotArea><c:layout/>{made(cells, area)}</c:plotArea>{_legend(cells)}"
        '<c:plotVisOnly val="1"/><c:dispBlanksAs val="gap"/></c:chart></c:chartSpace>'
    )


def _legend(cells: CellChart) -> str:
    return '<c:legend><c:legendPos val="t"/><c:overlay val="0"/></c:legend>' if len(cells.ys) > 1 else ""


def _title(text: str, size: int, bold: bool = False) -> str:
    clean = escape("".join(c for c in text if c >= " "))
    return (
        f'<c:title><c:tx><c:rich><a:bodyPr/><a:p><a:pPr><a:defRPr sz="{size}" b="{int(bold)}"/></a:pPr><a:r>'
        f'<a:rPr sz="{size}" b="{int(bold)}"/><a:t>{clean}</a:t></a:r></a:p></c:rich></c:tx>'
        '<c:overlay val="0"/></c:title>'
    )


def _series(cells: CellChart, area: Area, number: int, fill: bool, marks: bool = False) -> str:
    """A column as a series; over numbers or times its places are numbers."""
    colour = f'<a:solidFill><a:srgbClr val="{_COLOURS[number % len(_COLOURS)]}"/></a:solidFill>'
    line = f'<a:ln w="19050">{colour}<a:prstDash val="{_DASHES[number % len(_DASHES)]}"/></a:ln>'
    look = colour if fill else '<a:ln w="19050"><a:noFill/></a:ln>' if marks else line
    name = (
        f"<c:strRef><c:f>{escape(area.head(cells.ys[number]))}</c:f></c:strRef>"
        if area.has_header
        else f"<c:v>{escape(cells.names[number])}</c:v>"
    )
    across, up = area.column(cells.x), area.column(cells.ys[number])
    kind = "numRef" if cells.is_measured else "strRef"
    tags = ("xVal", "yVal") if cells.is_measured else ("cat", "val")
    shape = "" if fill else '<c:marker><c:symbol val="none"/></c:marker>'
    if marks:
        shape = f'<c:marker><c:symbol val="circle"/><c:size val="5"/><c:spPr>{colour}</c:spPr></c:marker>'
    smooth = '<c:smooth val="0"/>' if not fill else ""
    return (
        f'<c:ser><c:idx val="{number}"/><c:order val="{number}"/><c:tx>{name}</c:tx><c:spPr>{look}</c:spPr>{shape}'
        f"<c:{tags[0]}><c:{kind}><c:f>{escape(across)}</c:f></c:{kind}></c:{tags[0]}>"
        f"<c:{tags[1]}><c:numRef><c:f>{escape(up)}</c:f></c:numRef></c:{tags[1]}>{smooth}</c:ser>"
    )


def _all(cells: CellChart, area: Area, fill: bool, marks: bool = False) -> str:
    return "".join(_series(cells, area, number, fill, marks) for number in range(len(cells.ys)))


def _bars(cells: CellChart, area: Area) -> str:
    way = "bar" if cells.is_sideways else "col"
    return (
        f'<c:barChart><c:barDir val="{way}"/><c:grouping val="clustered"/><c:varyColors val="0"/>'
        f'{_all(cells, area, True)}<c:gapWidth val="60"/><c:axId val="1"/><c:axId val="2"/></c:barChart>'
        f"{_categories(cells, 'l' if cells.is_sideways else 'b')}{_values(cells, 'b' if cells.is_sideways else 'l')}"
    )


def _areas(cells: CellChart, area: Area) -> str:
    return (
        f'<c:areaChart><c:grouping val="standard"/><c:varyColors val="0"/>{_all(cells, area, True)}'
        f'<c:axId val="1"/><c:axId val="2"/></c:areaChart>{_categories(cells, "b")}{_values(cells, "l")}'
    )


def _lines(cells: CellChart, area: Area) -> str:
    if cells.is_measured:
        return _points(cells, area, False)
    return (
        f'<c:lineChart><c:grouping val="standard"/><c:varyColors val="0"/>{_all(cells, area, False)}'
        f'<c:marker val="1"/><c:axId val="1"/><c:axId val="2"/></c:lineChart>'
        f"{_categories(cells, 'b')}{_values(cells, 'l')}"
    )


def _points(cells: CellChart, area: Area, marks: bool = True) -> str:
    form, ends = "", ""
    if cells.ends is not None:
        low, high = (end + _FIRST_DAY if cells.is_moment else end for end in cells.ends)
        ends = f'<c:max val="{high!r}"/><c:min val="{low!r}"/>'
        if cells.is_moment:
            code = "yyyy\\-mm\\-dd" if high - low > _FEW_DAYS else "yyyy\\-mm\\-dd\\ hh:mm"
            form = f'<c:numFmt formatCode="{code}" sourceLinked="0"/>'
    across = (
        f'<c:valAx><c:axId val="1"/><c:scaling><c:orientation val="minMax"/>{ends}</c:scaling><c:delete val="0"/>'
        f'<c:axPos val="b"/>{_title(cells.x_title, 1000)}{form}'
        '<c:majorTickMark val="out"/>'
        '<c:minorTickMark val="none"/><c:tickLblPos val="low"/><c:crossAx val="2"/><c:crosses val="autoZero"/>'
        "</c:valAx>"
    )
    return (
        f'<c:scatterChart><c:scatterStyle val="lineMarker"/><c:varyColors val="0"/>{_all(cells, area, False, marks)}'
        f'<c:axId val="1"/><c:axId val="2"/></c:scatterChart>{across}{_values(cells, "l")}'
    )


def _categories(cells: CellChart, place: str) -> str:
    way = "maxMin" if place == "l" else "minMax"  # the first on top
    return (
        f'<c:catAx><c:axId val="1"/><c:scaling><c:orientation val="{way}"/></c:scaling><c:delete val="0"/>'
        f'<c:axPos val="{place}"/>{_title(cells.x_title, 1000)}'
        '<c:majorTickMark val="none"/>'
        '<c:minorTickMark val="none"/><c:tickLblPos val="low"/><c:crossAx val="2"/><c:crosses val="autoZero"/>'
        "</c:catAx>"
    )


def _values(cells: CellChart, place: str) -> str:
    return (
        '<c:valAx><c:axId val="2"/><c:scaling><c:orientation val="minMax"/></c:scaling><c:delete val="0"/>'
        f'<c:axPos val="{place}"/><c:majorGridlines><c:spPr><a:ln><a:solidFill><a:srgbClr val="ECE9E0"/></a:solidFill>'
        f"</a:ln></c:spPr></c:majorGridlines>{_title(cells.y_title, 1000)}"
        '<c:majorTickMark val="none"/><c:minorTickMark val="none"/><c:tickLblPos val="low"/><c:crossAx val="1"/>'
        '<c:crosses val="autoZero"/></c:valAx>'
    )
