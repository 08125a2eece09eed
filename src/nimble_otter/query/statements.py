"""Query text as statements with their places, and the parameters named in it."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import Any

_PAIRS = {"'": "'", '"': '"', "`": "`", "[": "]"}


@dataclass(frozen=True, slots=True)
class Statement:
    """`text` without what surrounds it; it stands at text[start:end] of the whole."""

    text: str
    start: int
    end: int


@dataclass(frozen=True, slots=True)
class _Lump:
    """A stretch of text: code, quoted, comment or a semicolon."""

    kind: str
    start: int
    end: int


def _lumps(text: str) -> Iterator[_Lump]:
    """Cut text where strings, quoted names and comments begin and end (ISO 9075; -- and /* */ comments).

    BEGIN ... END of a trigger is kept together by `split_statements`. Text that is cut off inside a quote or comment
    is that lump up to its end.
    """
    at = begin = 0
    while at < len(text):
        char, two = text[at], text[at : at + 2]
        if char in _PAIRS and (char != "[" or _is_bracketed_name(text, at)):
            end = _quote_end(text, at, _PAIRS[char])
            kind = "quoted"
        elif two == "--":
            end = text.find("\n", at)
            end, kind = (len(text) if end < 0 else end), "comment"
        elif two == "/*":
            end = text.find("*/", at + 2)
            end, kind = (len(text) if end < 0 else end + 2), "comment"
        elif char == ";":
            end, kind = at + 1, "end"
        else:
            at += 1
            continue
        if at > begin:
            yield _Lump("code", begin, at)
        yield _Lump(kind, at, end)
        at = begin = end
    if begin < len(text):
        yield _Lump("code", begin, len(text))


def _is_bracketed_name(text: str, at: int) -> bool:
    return at == 0 or not (text[at - 1].isalnum() or text[at - 1] in "_])")


def _quote_end(text: str, at: int, close: str) -> int:
    at += 1
    while True:
        end = text.find(close, at)
        if end < 0:
            return len(text)
        if close != "]" and text[end + 1 : end + 2] == close:
            at = end + 2
            continue
        return end + 1


def split_statements(text: str) -> list[Statement]:
    """The statements of a script; comments and blanks alone are none. A trigger's body is not cut."""
    found: list[Statement] = []
    begin, code, depth = 0, "", 0
    for lump in [*_lumps(text), _Lump("end", len(text), len(text))]:
        if lump.kind == "code":
            code += " " + text[lump.start : lump.end]
            words = code.casefold().split()
            in_trigger = words[:1] == ["create"] and "trigger" in words[:4]
            depth = words.count("begin") + words.count("case") - words.count("end") if in_trigger else 0
        elif lump.kind == "quoted":
            code += " q "
        elif lump.kind == "end" and (depth <= 0 or lump.start == len(text)):
            if code.strip():
                start = begin + len(text[begin : lump.start]) - len(text[begin : lump.start].lstrip())
                body = text[start : lump.start].rstrip()
                found.append(Statement(body, start, start + len(body)))
            begin, code, depth = lump.end, "", 0
    return found


def statement_at(text: str, position: int) -> Statement | None:
    """The statement under a caret at `position`: the one it is in or behind, else the one before, or the next."""
    statements = split_statements(text)
    for statement in statements:
        if statement.start <= position <= statement.end + 1:
            return statement
    before = [s for s in statements if s.end < position]
    return before[-1] if before else (statements[0] if statements else None)


def find_parameters(text: str) -> list[str]:
    """Names of the `:name` parameters in order of first use; not in quotes or comments, and `::type` is a cast."""
    names: list[str] = []
    for _, _, name in parameter_places(text):
        if name not in names:
            names.append(name)
    return names


def mark_parameters(text: str, names: Collection[str], style: str) -> str:
    """The text with each `:name` as a driver marks it: "pyformat" (PEP 249) or "dollar" ($1, $2). Without names the
    text is left alone, as drivers then read no marks at all."""
    if not names:
        return text
    double = "%%" if style == "pyformat" else "%"
    pieces, at = [], 0
    numbers: dict[str, int] = {}
    for start, end, name in parameter_places(text):
        mark = f"%({name})s" if style == "pyformat" else f"${numbers.setdefault(name, len(numbers) + 1)}"
        pieces += [text[at:start].replace("%", double), mark]
        at = end
    return "".join(pieces) + text[at:].replace("%", double)


def parameter_places(text: str) -> Iterator[tuple[int, int, str]]:
    """(start, end, name) of every `:name`."""
    for lump in _lumps(text):
        if lump.kind != "code":
            continue
        at = lump.start
        while (at := text.find(":", at, lump.end)) >= 0:
            end = at + 1
            while end < lump.end and (text[end].isalnum() or text[end] == "_"):
                end += 1
            before = text[at - 1 : at]
            name = text[at + 1 : end]
            if name and not name[0].isdigit() and before != ":" and not (before.isalnum() and before):
                yield at, end, name
                at = end
            else:
                at += 2 if text[at : at + 2] == "::" else 1


def parameter_value(text: str) -> Any:
    """What a typed parameter means: a whole number or decimal is a number, anything else (or in quotes) text."""
    if len(text) >= 2 and text[0] == text[-1] and text[0] in "'\"":
        return text[1:-1]
    if re.fullmatch(r"-?(0|[1-9]\d*)", text) and -(1 << 63) <= int(text) < 1 << 63:
        return int(text)
    if re.fullmatch(r"-?\d+\.\d+", text):
        return float(text)
    return text
