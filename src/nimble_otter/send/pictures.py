"""Pictures in a sheet (ECMA-376, part 1, 20.5): each stands in the cell of its value, no larger than a row can show."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

from nimble_otter.send.workbook import HEAD, MAIN, OFFICE, Book
from nimble_otter.table.text.content import content_of

HEIGHT_POINTS = 90
_EMU_A_PIXEL = 9525
_DRAWING = "http://schemas.openxmlformats.org/drawingml/2006"
_TYPES = {".png": "image/png", ".jpg": "image/jpeg", ".gif": "image/gif", ".bmp": "image/bmp", ".tif": "image/tiff"}


def is_picture(data: bytes) -> bool:
    """Whether spreadsheets can show it."""
    content = content_of(data)
    return content.is_picture and content.suffix in _TYPES


def row_heights(count: int, pictures: Sequence[tuple[int, int, bytes]]) -> list[bytes]:
    """How the rows of a block go on behind their numbers: those with pictures are tall."""
    tall = {row for row, _, _ in pictures}
    high = f' ht="{HEIGHT_POINTS}" customHeight="1">'.encode()
    return [high if n in tall else b">" for n in range(count)]


def put_pictures(book: Book, relations: object, pictures: Sequence[tuple[int, int, bytes]]) -> str:
    """Put the pictures, given with row (from 1) and column (from 0), into the package; returns the sheet's element."""
    import io

    from PIL import Image

    part = book.free_part("xl/drawings/drawing{}.xml")
    book.put(part, b"")
    own, known, anchors = book.new_relations(), dict[str, str](), []
    for number, (row, index, data) in enumerate(pictures, 1):
        suffix = content_of(data).suffix
        digest = hashlib.sha256(data).hexdigest()
        if digest not in known:
            media = book.free_part(f"xl/media/image{{}}{suffix}")
            book.put(media, data)
            book.add_default_type(suffix[1:], _TYPES[suffix])
            known[digest] = book.relate(own, "image", f"/{media}")
        with Image.open(io.BytesIO(data)) as picture:
            width, height = picture.size
        most = HEIGHT_POINTS * 96 // 72 - 6
        share = min(1.0, most / max(1, height), 240 / max(1, width))
        size = f'cx="{int(width * share) * _EMU_A_PIXEL}" cy="{int(height * share) * _EMU_A_PIXEL}"'
        anchors.append(
            f"<xdr:oneCellAnchor><xdr:from><xdr:col>{index}</xdr:col><xdr:colOff>28575</xdr:colOff>"
            f"<xdr:row>{row - 1}</xdr:row><xdr:rowOff>28575</xdr:rowOff></xdr:from><xdr:ext {size}/><xdr:pic>"
            f'<xdr:nvPicPr><xdr:cNvPr id="{number}" name="Picture {number}"/><xdr:cNvPicPr>'
            '<a:picLocks noChangeAspect="1"/></xdr:cNvPicPr></xdr:nvPicPr><xdr:blipFill>'
            f'<a:blip r:embed="{known[digest]}"/><a:stretch><a:fillRect/></a:stretch></xdr:blipFill><xdr:spPr>'
            f'<a:xfrm><a:off x="0" y="0"/><a:ext {size}/></a:xfrm><a:prstGeom prst="rect"><a:avLst/></a:prstGeom>'
            "</xdr:spPr></xdr:pic><xdr:clientData/></xdr:oneCellAnchor>"
        )
    text = (
        f'<xdr:wsDr xmlns:xdr="{_DRAWING}/spreadsheetDrawing" xmlns:a="{_DRAWING}/main" xmlns:r="{OFFICE}">'
        f"{''.join(anchors)}</xdr:wsDr>"
    )
    book.put(part, HEAD + text.encode(), "application/vnd.openxmlformats-officedocument.drawing+xml")
    book.put_relations(part, own)
    relation = book.relate(relations, "drawing", f"/{part}")
    return f'<drawing xmlns="{MAIN}" xmlns:r="{OFFICE}" r:id="{relation}"/>'
