"""Query text as statements with their places, and the parameters named in it."""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache

_QUOTED = (
    r"(?<!\w)[eE]'(?:[^'\\]|\\.|'')*(?:'|\Z)"
    r"|'(?:[^']|'')*(?:'|\Z)|\"(?:[^\"]|\"\")*(?:\"|\Z)|`(?:[^`]|``)*(?:`|\Z)|(?<![\w\])])\[[^\]]*(?:\]|\Z)"
    r"|(?<!\w)\$(?P<tag>[^\W\d]\w*|)\$.*?(?:\$(?P=tag)\$|\Z)"
)
_COMMENT = r"--[^\n]*|/\*.*?(?:\*/|\Z)"
_MARKED = re.compile(rf"(?P<quoted>{_QUOTED})|(?P<comment>{_COMMENT})|(?P<end>;)", re.DOTALL)
_NAMED = re.compile(rf"(?:{_QUOTED}|{_COMMENT})|(?<![\w:]):(?P<name>[^\W\d]\w*)", re.DOTALL)
_BODIED = re.compile(r"\b(trigger|procedure|function|event)\b", re.IGNORECASE)
_SHIFTY = re.compile(r"['\"`\[\]$]|--|/\*|\*/")
"""What may move the ends of other statements when it comes or goes."""


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
    begin = 0
    for match in _MARKED.finditer(text):
        if match.start() > begin:
            yield _Lump("code", begin, match.start())
        yield _Lump(match.lastgroup or "", match.start(), match.end())
        begin = match.end()
    if begin < len(text):
        yield _Lump("code", begin, len(text))


def split_statements(text: str) -> list[Statement]:
    """The statements of a script; comments and blanks alone are none. The body of a trigger or routine is not cut."""
    statements: list[Statement] = []
    begin, code, depth = 0, "", 0
    has_bodies = _BODIED.search(text) is not None
    for lump in [*_lumps(text), _Lump("end", len(text), len(text))]:
        if lump.kind == "code":
            code += " " + text[lump.start : lump.end]
            if not has_bodies:
                continue
            words = code.casefold().split()
            in_body = words[:1] == ["create"] and any(_BODIED.match(word) for word in words[:8])
            depth = words.count("begin") + words.count("case") - words.count("end") if in_body else 0
        elif lump.kind == "quoted":
            code += " q "
        elif lump.kind == "end" and (depth <= 0 or lump.start == len(text)):
            if code.strip():
                start = begin + len(text[begin : lump.start]) - len(text[begin : lump.start].lstrip())
                body = text[start : lump.start].rstrip()
                statements.append(Statement(body, start, start + len(body)))
            begin, code, depth = lump.end, "", 0
    return statements


def statement_at(text: str, position: int) -> Statement | None:
    """The statement under a caret at `position`: the one it is in or behind, else the one before, or the next."""
    return statement_near(split_statements(text), position)


def statement_near(statements: Sequence[Statement], position: int) -> Statement | None:
    """As `statement_at`, among statements that were split already."""
    at = bisect_left(statements, position - 1, key=lambda s: s.end)
    if at < len(statements) and statements[at].start <= position:
        return statements[at]
    before = bisect_left(statements, position, key=lambda s: s.end)
    return statements[before - 1] if before else (statements[0] if statements else None)


def find_parameters(text: str) -> list[str]:
    """Names of the `:name` parameters in order of first use; not in quotes or comments, and `::type` is a cast."""
    return list(_names_in(text))


@lru_cache(maxsize=8)
def _names_in(text: str) -> tuple[str, ...]:
    """Kept, as a view asks for them at each turn of a long script."""
    return tuple(dict.fromkeys(name for _, _, name in parameter_places(text)))


def mark_parameters(text: str, names: Collection[str], style: str) -> str:
    """The text with each `:name` as a driver marks it: "pyformat" (PEP 249), "dollar" ($1, $2) or "" for as written.
    Without names the text is left alone, as drivers then read no marks at all."""
    if not names or not style:
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
    for match in _NAMED.finditer(text):
        if match["name"]:
            yield match.start(), match.end(), match["name"]


class Script:
    """The statements of a text that is being edited, found again only around an edit where that is enough."""

    def __init__(self) -> None:
        self.text = ""
        self.statements: list[Statement] = []

    def edit(self, text: str, at: int, removed: int, added: int) -> None:
        """The text is now `text`: `added` characters stand at `at` in place of `removed` ones."""
        before, self.text = self.text, text
        end, new_end = at + removed, at + added
        around = before[max(0, at - 1) : end + 1] + "\0" + text[max(0, at - 1) : new_end + 1]
        ends_line = "\n" in before[at:end] or "\n" in text[at:new_end]  # which is where a comment ends
        commented = ends_line and ("--" in _lines(before, at, end) or "--" in _lines(text, at, new_end))
        if len(text) - len(before) != added - removed or commented or _SHIFTY.search(around):
            self.statements = split_statements(text)
            return
        first = bisect_left(self.statements, at, key=lambda s: s.end)  # those before end before the edit
        last = bisect_right(self.statements, end, key=lambda s: s.start)
        first = max(0, first - 1)
        last = min(last + 1, len(self.statements))  # what kept the next one apart may be gone
        low = self.statements[first - 1].end if first else 0
        high = self.statements[last].start if last < len(self.statements) else len(before)
        shift = added - removed
        inner = [Statement(s.text, s.start + low, s.end + low) for s in split_statements(text[low : high + shift])]
        if low and inner and not text[low : inner[0].start].lstrip().startswith(";"):
            self.statements = split_statements(text)
            return
        behind = self.statements[last:]
        if shift:
            behind = [Statement(s.text, s.start + shift, s.end + shift) for s in behind]
        self.statements = [*self.statements[:first], *inner, *behind]


def _lines(text: str, start: int, end: int) -> str:
    """The whole lines that a stretch touches."""
    stop = text.find("\n", end)
    return text[text.rfind("\n", 0, start) + 1 : len(text) if stop < 0 else stop]


def parameter_value(text: str) -> object:
    """What a typed parameter means: a whole number or decimal is a number, anything else (or in quotes) text."""
    if len(text) >= 2 and text[0] == text[-1] and text[0] in "'\"":
        return text[1:-1]
    if re.fullmatch(r"-?(0|[1-9]\d*)", text) and -(1 << 63) <= int(text) < 1 << 63:
        return int(text)
    if re.fullmatch(r"-?\d+\.\d+", text):
        return float(text)
    return text
