"""Cells of a sheet (ECMA-376, part 1, 18.3), made column by column: real types, and text where a type would round.

Whole numbers above 2**53, decimals that no double equals, times finer than a millisecond and days before 1900-03-01
(which spreadsheets reckon differently) are written as text, with a note.
"""

from __future__ import annotations

import base64
import re
from dataclasses import dataclass
from dataclasses import field as made_by
from decimal import Decimal

import numpy as np

from nimble_otter.errors import SendError
from nimble_otter.send.format import Output
from nimble_otter.send.pictures import is_picture
from nimble_otter.send.texts import put_empty, too_exact
from nimble_otter.send.workbook import Book
from nimble_otter.table import MISSING, Column, Field, Kind
from nimble_otter.table.core.columns import DAY_US, EPOCH_DAY, TEXT_BYTES, CodedText
from nimble_otter.table.text.column_texts import by_code, moments, numbers, utf8
from nimble_otter.table.text.show import is_endless, plain
from nimble_otter.translation import tr
from nimble_otter.values import Value

MOST_CHARACTERS = 32_767
_ZERO_DAY = 693_594 - EPOCH_DAY
"""1899-12-30, in days since 1970: where spreadsheets count from."""
_FIRST_DAY = _ZERO_DAY + 61
_ILLEGAL = re.compile("[\x00-\x08\x0b-\x1f\ud800-\udfff\ufffe\uffff]|_x[0-9A-Fa-f]{4}_")
_CONTROLS = bytes(n for n in range(1, 32) if n not in (9, 10))
_CODES = {"yyyy": "yyyy", "yy": "yy", "MMMM": "mmmm", "MMM": "mmm", "MM": "mm", "M": "m", "dd": "dd", "d": "d",
          "EEEE": "dddd", "EEE": "ddd", "HH": "hh", "H": "h", "mm": "mm", "m": "m", "ss": "ss", "s": "s"}  # fmt: skip
_TOKEN = re.compile(r"'((?:[^']|'')*)'|([A-Za-z])\2*|.", re.DOTALL)
_URL = re.compile(rb"(?:https?|ftp)://\S+\Z|mailto:\S+\Z")
_START, _END = b'<is><t xml:space="preserve">', b"</t></is></c>"


def number_format(field: Field, column: Column, date: str, time: str) -> str:
    """The number format of a column (18.8.30): by its look, else by its kind and its first values; "" is the general
    one."""
    scale, look, kind = column.scale, field.look, field.kind
    fraction = ".000" if kind in (Kind.TIME, Kind.ZONED, Kind.CLOCK) and (column.data % 1_000_000).any() else ""
    if kind.is_number:
        decimals = look.decimals if look is not None and look.decimals is not None else None
        if look is not None and look.style == "percent":
            return "0" + ("." + "0" * (decimals or 0) if decimals else "") + "%"
        if look is not None and look.style == "scientific":
            return "0." + "0" * (3 if decimals is None else max(1, decimals)) + "E+00"
        whole = "#,##0" if look is not None and look.groups else "0"
        if decimals is None and kind is Kind.FLOAT:
            return "" if whole == "0" else "#,##0.###"
        digits = decimals if decimals is not None else (scale if kind is Kind.DECIMAL else 0)
        return whole + ("." + "0" * digits if digits else "")
    if kind in (Kind.DATE, Kind.TIME, Kind.ZONED):
        pattern = (look.pattern if look is not None else "") or (date if kind is Kind.DATE else time)
        usual = "yyyy\\-mm\\-dd" + (
            "" if kind is Kind.DATE else " hh:mm" if field.form.endswith("%H:%M") else f" hh:mm:ss{fraction}"
        )
        return _code(pattern) or usual if pattern else usual
    return {Kind.CLOCK: f"hh:mm:ss{fraction}", Kind.SPAN: "[h]:mm:ss"}.get(kind, "")


def _code(pattern: str) -> str:
    """A date pattern of Unicode TS #35 as a number format; "" where it has something that formats have not."""
    text = ""
    for match in _TOKEN.finditer(pattern):
        token = match[0]
        if match[2]:
            if token not in _CODES:
                return ""
            text += _CODES[token]
        elif token.startswith("'") and len(token) > 1:
            text += "".join(f"\\{c}" for c in (match[1] or "'"))
        else:
            text += token if token in ":. " else f"\\{token}"
    return text


@dataclass(slots=True)
class Cells:
    """Makes the cells of one delivery; `links` and `pictures` collect what stands outside of the cells, by (row of the
    block, place of the column)."""

    book: Book
    out: Output
    linked: frozenset[str] = frozenset()
    formulas: bool = False
    links_wanted: bool = True
    long_way: str = "refuse"
    zones: str = "text"
    pictures_wanted: bool = False
    styles: list[bytes] = made_by(default_factory=list)
    links: list[tuple[int, int, str]] = made_by(default_factory=list)
    pictures: list[tuple[int, int, bytes]] = made_by(default_factory=list)

    def set_styles(self, fields: list[Field], block: list[Column], date: str, time: str) -> None:
        """Give each column its style of the workbook."""
        self.styles = []
        for field, column in zip(fields, block, strict=True):
            code = "" if field.kind is Kind.ZONED and self.zones == "text" else number_format(
                field, column, date, time
            )  # fmt: skip
            number = self.book.style(code, link=field.name in self.linked)
            self.styles.append(f' s="{number}"'.encode() if number else b"")

    def column(self, place: int, field: Field, column: Column) -> list[bytes]:
        """The cell of each row, from behind its place: style, type and value; an empty one where there is no value."""
        style = self.styles[place]
        texts = self._numeric(column, style)
        if texts is None:
            texts = self._other(place, field, column, style)
        return put_empty(texts, column, style + b"/>")

    def _numeric(self, column: Column, style: bytes) -> list[bytes] | None:
        kind = column.kind
        start, end = style + b"><v>", b"</v></c>"
        if kind is Kind.BOOL:
            no, yes = b' t="b"' + style + b"><v>0</v></c>", b' t="b"' + style + b"><v>1</v></c>"
            return by_code([no, yes], column.data)
        if kind is Kind.INT:
            odd, text = too_exact(column), tr("whole numbers of more than 15 digits are text, so that none is rounded")
            texts = numbers(column) or []
        elif kind is Kind.DECIMAL:
            odd, text = _inexact(column), tr("decimals of more than 15 digits are text, so that none is rounded")
            texts = numbers(column) or []
        elif kind is Kind.FLOAT:
            odd, text = ~np.isfinite(column.data), tr("numbers that are NaN or infinite are text")
            clean = Column(kind, np.where(odd, 0.0, column.data)) if odd.any() else column
            texts = numbers(clean) or []
        elif kind is Kind.DATE:
            serial, odd = column.data.astype(np.int64) - _ZERO_DAY, column.data < _FIRST_DAY
            texts, text = numbers(Column(Kind.INT, serial)) or [], tr("days before 1900-03-01 are text")
        elif kind in (Kind.TIME, Kind.CLOCK, Kind.SPAN) or (kind is Kind.ZONED and self.zones == "utc"):
            shift = _ZERO_DAY * DAY_US if kind in (Kind.TIME, Kind.ZONED) else 0
            odd = column.data % 1000 != 0
            if kind is Kind.SPAN:
                odd |= column.data < 0
            elif shift:
                odd |= column.data < _FIRST_DAY * DAY_US
            text = tr("times finer than a millisecond, or that spreadsheets have not, are text")
            texts = numbers(Column(Kind.FLOAT, _serial(column.data - shift))) or []
        else:
            return None
        cells = (start + (end + b"\0" + start).join(texts) + end).split(b"\0") if texts else []
        if odd.any():
            if column.empty is not None:
                odd &= ~column.empty
            places = np.flatnonzero(odd)
            self.out.note(text, len(places))
            for at, value in zip(places.tolist(), column.values(places), strict=True):
                cells[at] = self._text(plain(value).encode(*TEXT_BYTES), b"")
        return cells

    def _other(self, place: int, field: Field, column: Column, style: bytes) -> list[bytes]:
        if column.kind is Kind.ZONED:
            texts = moments(column) or []
        elif column.kind in (Kind.TEXT, Kind.UUID):
            if isinstance(column, CodedText) and not self.links_wanted:
                words = [self._text(word.encode(*TEXT_BYTES), style) for word in column.words] or [b"/>"]
                return by_code(words, column.data)
            texts = utf8(column)
        else:
            return self._objects(place, column, style)
        self._find_links(place, field, texts, column)
        return self._texts(texts, style)

    def _objects(self, place: int, column: Column, style: bytes) -> list[bytes]:
        cells = []
        for row, value in enumerate(column.values()):
            if isinstance(value, bytes) and self.pictures_wanted and is_picture(value):
                self.pictures.append((row, place, value))
                cells.append(style + b"/>")
            elif isinstance(value, (bool, int, float, Decimal)):
                cells.append(self._number(value, style))
            else:
                is_none = value is None or value is MISSING
                cells.append(b"/>" if is_none else self._text(self._plain(value).encode(*TEXT_BYTES), style))
        return cells

    def _plain(self, value: object) -> str:
        if isinstance(value, bytes) and self.out.options["binary"] == "base64":
            return base64.b64encode(value).decode("ascii")
        return plain(value)

    def _number(self, value: Value, style: bytes) -> bytes:
        if isinstance(value, bool):
            return b' t="b"' + style + f"><v>{int(value)}</v></c>".encode()
        is_exact = not is_endless(value)
        if is_exact and not isinstance(value, float):
            is_exact = abs(value) <= 1 << 53 and Decimal(repr(float(value))) == value
        if not is_exact:
            self.out.note(tr("numbers that a spreadsheet can't hold are text"))
            return self._text(plain(value).encode(), b"")
        return style + b"><v>" + repr(float(value) if isinstance(value, Decimal) else value).encode() + b"</v></c>"

    def _find_links(self, place: int, field: Field, texts: list[bytes], column: Column) -> None:
        if not self.links_wanted:
            return
        if field.name in self.linked:
            empty = column.empty_at().tolist()
            self.links += [(row, place, t.decode()) for row, t in enumerate(texts) if t and not empty[row]]
        elif any(b"://" in t or t.startswith(b"mailto:") for t in texts[:64]) or b"://" in b"\0".join(texts):
            for row, text in enumerate(texts):
                if len(text) <= 2000 and _URL.match(text):
                    self.links.append((row, place, text.decode("utf-8", "replace")))

    def _texts(self, texts: list[bytes], style: bytes) -> list[bytes]:
        """Texts that need no care are wrapped all at once."""
        block = b"\0".join(texts)
        is_odd = block.count(b"\0") != len(texts) - 1 or _may_be_illegal(block)
        if is_odd or max(map(len, texts), default=0) > MOST_CHARACTERS or (self.formulas and b"=" in block):
            return [self._text(text, style) for text in texts]
        if b"&" in block or b"<" in block or b">" in block:
            block = block.replace(b"&", b"&amp;").replace(b"<", b"&lt;").replace(b">", b"&gt;")
        start, end = b' t="inlineStr"' + style + b">" + _START, _END
        return (start + block.replace(b"\0", end + b"\0" + start) + end).split(b"\0") if texts else []

    def _text(self, text: bytes, style: bytes) -> bytes:
        whole_text = self.out.whole(text.decode(*TEXT_BYTES))
        if len(whole_text.encode("utf-16-le", "surrogatepass")) // 2 > MOST_CHARACTERS:
            if self.long_way == "refuse":
                raise SendError(
                    tr(
                        "A cell holds {most_characters} characters; one value has {whole_text_count}.",
                        most_characters=MOST_CHARACTERS,
                        whole_text_count=len(whole_text),
                    ),
                    tr("Choose to cut such values, hide that column, or send CSV or JSON."),
                )
            self.out.note(
                tr(
                    "texts are cut to the {most_characters} characters that a cell holds",
                    most_characters=MOST_CHARACTERS,
                )
            )
            whole_text = whole_text.encode("utf-16-le", "surrogatepass")[: 2 * MOST_CHARACTERS - 2].decode(
                "utf-16-le", "ignore"
            )
        if self.formulas and whole_text.startswith("=") and len(whole_text) > 1:
            return style + b"><f>" + _escaped(whole_text[1:]) + b"</f></c>"
        return b' t="inlineStr"' + style + b">" + _START + _escaped(whole_text) + _END


def _may_be_illegal(block: bytes) -> bool:
    """Whether texts hold what XML has not, what looks like an escape, or bytes that are no UTF-8."""
    if len(block.translate(None, _CONTROLS)) != len(block) or b"_x" in block:
        return True
    if block.isascii():
        return False
    try:
        return b"\xef\xbf" in block or not block.decode()
    except UnicodeDecodeError:
        return True


def _escaped(text: str) -> bytes:
    """Signs that XML has not as _xHHHH_ (22.9.2.19), as spreadsheets read them."""
    text = _ILLEGAL.sub(lambda m: "".join(f"_x{ord(c):04X}_" for c in m[0][:1]) + m[0][1:], text)
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;").encode("utf-8")


def _serial(micros: Value) -> Value:
    """Days as spreadsheets count them; never a hair less than the moment, as some cut where others round."""
    days = micros / DAY_US
    is_less = days.astype(np.longdouble) * DAY_US < micros
    return np.where(is_less, np.nextafter(days, np.inf), days)


def _inexact(column: Column) -> Value:
    """A mask of decimals that no double equals (as spreadsheets read them: 15 digits are always safe)."""
    large = (column.data >= 10**15) | (column.data <= -(10**15))
    if not large.any():
        return large
    for at, value in zip(np.flatnonzero(large).tolist(), column.values(np.flatnonzero(large)), strict=True):
        large[at] = value is None or Decimal(repr(float(value))) != value
    return large


def header_cell(name: str, style: int) -> bytes:
    """The cell of a column's heading."""
    text = _escaped(name.encode(*TEXT_BYTES).decode("utf-8", "replace"))
    return f' t="inlineStr" s="{style}">'.encode() + _START + text + _END


def letters(place: int) -> str:
    """A column's letters, from A for 0."""
    text = ""
    place += 1
    while place:
        place, rest = divmod(place - 1, 26)
        text = chr(65 + rest) + text
    return text


def place_of(text: str) -> tuple[int, int]:
    """A cell such as B5 as (row from 1, column from 0). Raises: SendError."""
    match = re.fullmatch(r"\$?([A-Za-z]{1,3})\$?([1-9]\d{0,6})", text.strip() or "A1")
    if match is None:
        raise SendError(tr("{text!r} is not a cell.", text=text), tr("Write it like B5."))
    column = 0
    for letter in match[1].upper():
        column = column * 26 + ord(letter) - 64
    if column > 16_384 or int(match[2]) > 1_048_576:
        raise SendError(tr("A sheet has no cell {text}.", text=text), tr("The last one is XFD1048576."))
    return int(match[2]), column - 1
