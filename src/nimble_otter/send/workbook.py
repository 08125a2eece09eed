"""The parts of a workbook's package (ECMA-376, parts 1 and 2), new or as it is in a file.

A file's parts that a delivery does not touch are copied byte for byte: formulas, styles, charts, macros and whatever
else stands in other sheets stay as they were. Only the few parts that list sheets, types and styles are changed.
"""

from __future__ import annotations

import posixpath
import re
import shutil
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from nimble_otter.errors import SendError
from nimble_otter.translation import tr
from nimble_otter.values import Element

MAIN = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
PACKAGE = "http://schemas.openxmlformats.org/package/2006"
RELS = f"{PACKAGE}/relationships"
TYPES = f"{PACKAGE}/content-types"
SHEET_ML = "application/vnd.openxmlformats-officedocument.spreadsheetml"
HEAD = b'<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n'
_BOOK, _STYLES, _TYPES = "xl/workbook.xml", "xl/styles.xml", "[Content_Types].xml"
_NEW = {
    _TYPES: f'<Types xmlns="{TYPES}"><Default Extension="rels" '
    'ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
    '<Default Extension="xml" ContentType="application/xml"/>'
    f'<Override PartName="/{_BOOK}" ContentType="{SHEET_ML}.sheet.main+xml"/>'
    f'<Override PartName="/{_STYLES}" ContentType="{SHEET_ML}.styles+xml"/></Types>',
    "_rels/.rels": f'<Relationships xmlns="{RELS}"><Relationship Id="rId1" Type="{OFFICE}/officeDocument" '
    f'Target="{_BOOK}"/></Relationships>',
    _BOOK: f'<workbook xmlns="{MAIN}" xmlns:r="{OFFICE}"><sheets/></workbook>',
    "xl/_rels/workbook.xml.rels": f'<Relationships xmlns="{RELS}"><Relationship Id="rId1" Type="{OFFICE}/styles" '
    'Target="styles.xml"/></Relationships>',
    _STYLES: f'<styleSheet xmlns="{MAIN}"><fonts count="1"><font><sz val="11"/><name val="Calibri"/></font></fonts>'
    '<fills count="2"><fill><patternFill patternType="none"/></fill><fill><patternFill patternType="gray125"/></fill>'
    '</fills><borders count="1"><border/></borders><cellStyleXfs count="1"><xf/></cellStyleXfs><cellXfs count="1">'
    '<xf xfId="0"/></cellXfs><cellStyles count="1"><cellStyle name="Normal" xfId="0" builtinId="0"/></cellStyles>'
    "</styleSheet>",
}
_ORDER = ("numFmts", "fonts", "fills", "borders", "cellStyleXfs", "cellXfs", "cellStyles", "dxfs")
MOST_SHEET_NAME = 31
_SHEET = re.compile(r"xl/worksheets/[^/]+\.xml")
_HAS_FORMULA = re.compile(rb"<(?:\w+:)?f[ />]")
_RECKONED = re.compile(
    rb"(<(?:\w+:)?f(?:\s[^>]*)?(?:/>|>[^<]*</(?:\w+:)?f>))\s*<(?:\w+:)?v(?: ?/>|>[^<]*</(?:\w+:)?v>)"
)
"""A formula with the value that it had: some programs show that value until the sheet is touched."""


_LARGE, _TIGHT = 32 << 20, 100
"""Bytes of a part from which on it must not be packed tighter than so many to one: no sheet of real rows is."""


@contextmanager
def odd_book(existing: Path | None) -> Iterator[None]:
    """Whatever a file that is no workbook of the usual make leads to, said as one error. Raises: SendError."""
    try:
        yield
    except (KeyError, ValueError, TypeError, AttributeError, IndexError, EOFError, NotImplementedError, OverflowError,
            RuntimeError, zipfile.BadZipFile, zlib.error) as problem:  # fmt: skip
        if existing is None:
            raise
        raise SendError(
            tr(
                "{existing_name} is a workbook of a kind that can't be changed ({name}: {problem}).",
                existing_name=existing.name,
                name=type(problem).__name__,
                problem=problem,
            ),
            tr("Replace it, or send to a new file."),
        ) from problem


def parse(data: bytes) -> object:
    """An XML part as a tree; entities from elsewhere are not followed. Raises: SendError."""
    from lxml import etree

    try:
        return etree.fromstring(data, etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=True))
    except etree.XMLSyntaxError as problem:
        raise SendError(
            tr("The workbook is damaged: {problem}.", problem=problem), tr("Choose another file, or replace it.")
        ) from problem


def tag(name: str, space: str = MAIN) -> str:
    """A name of a namespace as the parser writes it."""
    return f"{{{space}}}{name}"


def sheet_name(text: str) -> str:
    """A text as a name that a sheet can have: 31 characters, none of [ ] : * ? / \\."""
    return re.sub(r"[\[\]:*?/\\\x00-\x1f]", " ", text).strip(" '")[:MOST_SHEET_NAME] or "Rows"


class Book:
    """A package under way: sheets are added or replaced, then `finish` writes what is left of it. Raises: SendError
    where the file is no workbook."""

    def __init__(self, existing: Path | None = None) -> None:
        self._old: zipfile.ZipFile | None = None
        if existing is not None:
            try:
                self._old = zipfile.ZipFile(existing)
                self._main = self._find_main()
            except (zipfile.BadZipFile, KeyError) as problem:
                raise SendError(
                    tr("{existing_name} is not an XLSX workbook.", existing_name=existing.name),
                    tr("Replace it, or choose another."),
                ) from problem
        else:
            self._main = _BOOK
        self._rels_name = _rels_of(self._main)
        self.workbook, self._rels = self._tree(self._main), self._tree(self._rels_name)
        if self.workbook.tag != tag("workbook"):
            raise SendError(
                tr(
                    "{existing_name} is a workbook in the strict form of Open XML.",
                    existing_name=existing.name if existing else tr("The file"),
                ),
                tr("Save it as a usual workbook first, or send to a new file."),
            )
        self._types = self._tree(_TYPES)
        self._styles_name = self._target_of_type("/styles") or _STYLES
        self._styles = self._tree(self._styles_name)
        self._gone: set[str] = set()
        self._added: dict[str, bytes] = {}
        self._known: dict[tuple[str, bool, bool], int] = {}

    def close(self) -> None:
        """Let go of the file."""
        if self._old is not None:
            self._old.close()

    def _find_main(self) -> str:
        for relation in self._tree("_rels/.rels"):
            if relation.get("Type", "").endswith("/officeDocument"):
                return str(relation.get("Target")).lstrip("/")
        raise KeyError("officeDocument")

    def _tree(self, name: str) -> Element:
        return parse(self.read(name) if self._old is not None else _NEW[name].encode())

    def read(self, name: str) -> bytes:
        """A part of the file as it was. Raises: KeyError."""
        assert self._old is not None
        member = self._old.getinfo(name)
        if member.file_size > _LARGE and member.file_size > _TIGHT * max(1, member.compress_size):
            raise SendError(
                tr(
                    "The workbook's part {name} unpacks to {file_size} MB from {compress_size} kB.",
                    name=name,
                    file_size=member.file_size >> 20,
                    compress_size=member.compress_size >> 10,
                ),
                tr("It was not opened. Choose another file, or replace it."),
            )
        return self._old.read(name)

    def _target_of_type(self, end: str) -> str:
        for relation in self._rels:
            if relation.get("Type", "").endswith(end):
                return _resolved(self._main, relation.get("Target"))
        return ""

    # --- sheets ------------------------------------------------------------------------------------------------

    @property
    def sheets(self) -> list[str]:
        """Names of the sheets, in their order."""
        return [str(sheet.get("name")) for sheet in self.workbook.find(tag("sheets"))]

    def part_of(self, name: str) -> str:
        """The part that holds a sheet; "" where there is none of that name (letters' case does not count)."""
        for sheet in self.workbook.find(tag("sheets")):
            if sheet.get("name", "").casefold() == name.casefold():
                wanted = sheet.get(tag("id", OFFICE))
                for relation in self._rels:
                    if relation.get("Id") == wanted:
                        return _resolved(self._main, relation.get("Target"))
        return ""

    def free_name(self, name: str) -> str:
        """The name, with a number behind it where a sheet has it already."""
        taken, number, free = {sheet.casefold() for sheet in self.sheets}, 1, name
        while free.casefold() in taken:
            number += 1
            free = f"{name[: MOST_SHEET_NAME - len(str(number)) - 3]} ({number})"
        return free

    def add_sheet(self, name: str) -> str:
        """List one more sheet; returns the part to write it to."""
        from lxml import etree

        number = 1
        taken = {part.casefold() for part in self._names()}
        while f"xl/worksheets/sheet{number}.xml" in taken:
            number += 1
        part = f"xl/worksheets/sheet{number}.xml"
        self._added[part] = b""
        sheets = self.workbook.find(tag("sheets"))
        highest = max((int(sheet.get("sheetId", 0)) for sheet in sheets), default=0)
        relation = self._relate(self._rels, f"{OFFICE}/worksheet", f"/{part}")
        sheet = etree.SubElement(sheets, tag("sheet"), {"name": name, "sheetId": str(highest + 1)})
        sheet.set(tag("id", OFFICE), relation)
        self.add_type(part, f"{SHEET_ML}.worksheet+xml")
        return part

    def tree_of(self, part: str) -> Element:
        """A part as a tree. Raises: KeyError, SendError."""
        return parse(self._added[part] if part in self._added else self.read(part))

    def put_tree(self, part: str, tree: object) -> None:
        """A part as it is to be written."""
        self._added[part] = _text(tree)

    def relations_of(self, part: str) -> Element:
        """The relations of a part, none where it has none."""
        try:
            return self.tree_of(_rels_of(part))
        except KeyError:
            return self.new_relations()

    @staticmethod
    def resolved(part: str, target: str) -> str:
        """A relation's target as the name of a part."""
        return _resolved(part, target)

    def drop_part(self, name: str) -> None:
        """Leave a part out."""
        self._gone.add(name)
        self._added.pop(name, None)
        for override in self._types.findall(tag("Override", TYPES)):
            if override.get("PartName") == f"/{name}":
                self._types.remove(override)

    def table_names(self) -> set[str]:
        """Names of all tables, and of all that is named: they must differ."""
        names = [n for n in self._names() if re.fullmatch(r"xl/tables/[^/]+\.xml", n) and n not in self._gone]
        found = {str(self.tree_of(name).get("displayName", "")).casefold() for name in names}
        defined = self.workbook.find(tag("definedNames"))
        return found | {str(d.get("name", "")).casefold() for d in (defined if defined is not None else ())}

    def _names(self) -> list[str]:
        old = self._old.namelist() if self._old is not None else []
        return [*old, *self._added]

    @staticmethod
    def new_relations() -> object:
        """A tree for the relations of a new part."""
        return parse(f'<Relationships xmlns="{RELS}"/>'.encode())

    def relate(self, tree: object, type_: str, target: str, external: bool = False) -> str:
        """One more relation in a tree; returns its id."""
        return self._relate(tree, f"{OFFICE}/{type_}", target, external)

    @staticmethod
    def _relate(tree: Element, type_: str, target: str, external: bool = False) -> str:
        from lxml import etree

        taken, number = {relation.get("Id") for relation in tree}, len(tree) + 1
        while f"rId{number}" in taken:
            number += 1
        made = etree.SubElement(tree, tag("Relationship", RELS), Id=f"rId{number}", Type=type_, Target=target)
        if external:
            made.set("TargetMode", "External")
        return f"rId{number}"

    def put_relations(self, part: str, tree: Element) -> None:
        """Write the relations of a part."""
        if len(tree):
            self.put(_rels_of(part), _text(tree))

    def put(self, name: str, data: bytes, type_: str = "") -> None:
        """A small part, written at the end."""
        self._added[name] = data
        if type_:
            self.add_type(name, type_)

    def free_part(self, pattern: str) -> str:
        """A name by a pattern with {} for a number, that no part has."""
        number, taken = 1, set(self._names())
        while pattern.format(number) in taken:
            number += 1
        return pattern.format(number)

    def add_type(self, part: str, type_: str) -> None:
        """Say what kind of content a part has."""
        from lxml import etree

        for override in self._types.findall(tag("Override", TYPES)):
            if override.get("PartName") == f"/{part}":
                override.set("ContentType", type_)
                return
        etree.SubElement(self._types, tag("Override", TYPES), PartName=f"/{part}", ContentType=type_)

    def add_default_type(self, extension: str, type_: str) -> None:
        """Say what kind of content an ending of names means."""
        from lxml import etree

        known = {default.get("Extension", "").lower() for default in self._types.findall(tag("Default", TYPES))}
        if extension not in known:
            self._types.insert(0, etree.Element(tag("Default", TYPES), Extension=extension, ContentType=type_))

    # --- styles ------------------------------------------------------------------------------------------------

    def style(self, code: str = "", bold: bool = False, link: bool = False) -> int:
        """The number of a cell style with a number format, added where it is not there yet."""
        from lxml import etree

        if not code and not bold and not link:
            return 0
        wanted = (code, bold, link)
        if wanted not in self._known:
            formats = self._list("cellXfs")
            number = self._format(code)
            made = etree.SubElement(
                formats, tag("xf"), numFmtId=str(number), fontId=str(self._font(bold, link)), fillId="0", borderId="0",
                xfId="0",
            )  # fmt: skip
            if code:
                made.set("applyNumberFormat", "1")
            if bold or link:
                made.set("applyFont", "1")
            formats.set("count", str(len(formats)))
            self._known[wanted] = len(formats) - 1
        return self._known[wanted]

    def _list(self, name: str) -> Element:
        from lxml import etree

        found = self._styles.find(tag(name))
        if found is None:
            found = etree.Element(tag(name), count="0")
            before = _ORDER[: _ORDER.index(name)]
            index = sum(1 for child in self._styles if etree.QName(child).localname in before)
            self._styles.insert(index, found)
        return found

    def _format(self, code: str) -> int:
        from lxml import etree

        if not code:
            return 0
        formats = self._list("numFmts")
        for known in formats:
            if known.get("formatCode") == code:
                return int(known.get("numFmtId"))
        number = max([163, *(int(known.get("numFmtId")) for known in formats)]) + 1
        etree.SubElement(formats, tag("numFmt"), numFmtId=str(number), formatCode=code)
        formats.set("count", str(len(formats)))
        return number

    def _font(self, bold: bool, link: bool) -> int:
        from copy import deepcopy

        from lxml import etree

        if not bold and not link:
            return 0
        fonts = self._list("fonts")
        font = deepcopy(fonts[0]) if len(fonts) else etree.Element(tag("font"))
        for name in ("b", "u", "color"):
            for child in font.findall(tag(name)):
                font.remove(child)
        if link:
            font.insert(0, etree.Element(tag("u")))
        if bold:
            font.insert(0, etree.Element(tag("b")))
        fonts.append(font)
        fonts.set("count", str(len(fonts)))
        return len(fonts) - 1

    # --- the end -----------------------------------------------------------------------------------------------

    def finish(self, out: zipfile.ZipFile, written: set[str], check: Callable[[], None]) -> None:
        """Write every part that is not `written` yet."""
        self._count_anew()
        changed = {
            self._main: self.workbook,
            self._rels_name: self._rels,
            _TYPES: self._types,
            self._styles_name: self._styles,
        }
        done = set(written)
        for name, tree in changed.items():
            out.writestr(name, _text(tree))
            done.add(name)
        for name, data in self._added.items():
            if name not in done and data:
                out.writestr(name, data)
                done.add(name)
        if self._old is None:
            out.writestr("_rels/.rels", HEAD + _NEW["_rels/.rels"].encode())
            return
        for info in self._old.infolist():
            if info.filename in done or info.filename in self._gone or info.is_dir():
                continue
            check()
            copy = zipfile.ZipInfo(info.filename, info.date_time)
            copy.compress_type, copy.external_attr = zipfile.ZIP_DEFLATED, info.external_attr
            if _SHEET.fullmatch(info.filename) and (data := self.read(info.filename)) and _HAS_FORMULA.search(data):
                out.writestr(copy, _RECKONED.sub(rb"\1", data))
                continue
            with self._old.open(info) as old, out.open(copy, "w", force_zip64=info.file_size > 1 << 31) as new:
                shutil.copyfileobj(old, new, 1 << 20)

    def _count_anew(self) -> None:
        """Formulas of other sheets are reckoned again when the file is opened; the old order of reckoning goes."""
        from lxml import etree

        if self._old is None:
            return
        chain = self._target_of_type("/calcChain")
        if chain:
            self._gone.add(chain)
            for relation in list(self._rels):
                if relation.get("Type", "").endswith("/calcChain"):
                    self._rels.remove(relation)
            for override in self._types.findall(tag("Override", TYPES)):
                if override.get("PartName") == f"/{chain}":
                    self._types.remove(override)
        reckoning = self.workbook.find(tag("calcPr"))
        if reckoning is None:
            before = ("fileVersion", "workbookPr", "workbookProtection", "bookViews", "sheets", "functionGroups",
                      "externalReferences", "definedNames", "fileSharing", "AlternateContent")  # fmt: skip
            index = 1 + max(n for n, child in enumerate(self.workbook) if etree.QName(child).localname in before)
            reckoning = etree.Element(tag("calcPr"))
            self.workbook.insert(index, reckoning)
        reckoning.set("fullCalcOnLoad", "1")


def _text(tree: object) -> bytes:
    from lxml import etree

    return HEAD + bytes(etree.tostring(tree))


def _rels_of(part: str) -> str:
    folder, name = posixpath.split(part)
    return posixpath.join(folder, "_rels", f"{name}.rels")


def _resolved(part: str, target: str) -> str:
    """A relation's target as the name of a part."""
    if target.startswith("/"):
        return target[1:]
    return posixpath.normpath(posixpath.join(posixpath.dirname(part), target))
