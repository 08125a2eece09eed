"""Regular expressions and LIKE that end in time proportional to the text, whatever the pattern: a user's filter must
never hold the window.

A pattern without an unbounded repeat is tried in at most a few ways at each place, so Python's own engine takes it. One
with such a repeat goes to RE2 (https://github.com/google/re2), which never tries a place twice; it knows no look-around
and no back references, which is said. Letters, digits and blanks are those of Unicode in both; \\b tells those of ASCII
in RE2.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import Any

from nimble_otter.errors import ConditionError
from nimble_otter.translation import tr
from nimble_otter.values import Value

MOST_WAYS = 1000
"""Ways to match at one place from which on a pattern is taken for one that may not end."""
_MEMORY = 1 << 26
_WORD, _SPACE = r"\p{L}\p{N}_", r"\s\x{0b}\x{1c}-\x{1f}\x{85}\p{Z}"
_ESCAPES = {"w": f"[{_WORD}]", "W": f"[^{_WORD}]", "d": r"\p{Nd}", "D": r"\P{Nd}", "s": f"[{_SPACE}]",
    "S": f"[^{_SPACE}]",
            "Z": r"\z"}  # fmt: skip
_IN_CLASS = {"w": _WORD, "d": r"\p{Nd}", "D": r"\P{Nd}", "s": _SPACE}


def tester(pattern: str, case: bool) -> Callable[[str], bool]:
    """Whether a part of a text matches. Raises: ConditionError for what is no regular expression, or can't be used."""
    if _is_bounded(pattern, case):
        search = re.compile(_at_the_end(pattern), _flags(case)).search
        return lambda text: search(text) is not None
    match = _set_of(pattern, case).Match
    return lambda text: bool(match(text.encode("utf-8", "replace")))


def compiled(pattern: str, case: bool, lines: bool = False) -> object:
    """A pattern with `search`, `finditer` and `sub` as Python's own has; with `lines`, ^ and $ stand at each line.
    Raises: ConditionError."""
    if _is_bounded(pattern, case):
        return re.compile(pattern, _flags(case) | (re.MULTILINE if lines else 0))
    import re2

    body = f"(?m){_for_re2(pattern)}" if lines else _for_re2(pattern)
    try:
        return re2.compile(body, _options(case, dot_nl=not lines))
    except re2.error as problem:
        raise _refused(pattern, problem) from problem


def like_regex(pattern: str, escape: str | None = "\\") -> str:
    """A LIKE pattern as a regular expression for the whole text (ISO 9075: % any text, _ any character)."""
    out, at = [], 0
    while at < len(pattern):
        char = pattern[at]
        if escape and char == escape and at + 1 < len(pattern):
            at += 1
            out.append(re.escape(pattern[at]))
        else:
            out.append({"%": ".*", "_": "."}.get(char, re.escape(char)))
        at += 1
    return "".join(out)


def like_tester(regex: str, case: bool) -> Callable[[str], bool]:
    """Whether a whole text matches a LIKE pattern, given as a regular expression of plain characters, "." and ".*":
    its pieces are looked for one behind the other, each as far to the left as it can stand."""
    pieces, is_open = _pieces(regex)
    flags = _flags(case)
    if not is_open:
        whole = re.compile(pieces[0], flags).fullmatch
        return lambda text: whole(text) is not None
    first = re.compile(pieces[0], flags).match
    middle = [re.compile(piece, flags).search for piece in pieces[1:-1] if piece]
    last, size = re.compile(pieces[-1] + r"\Z", flags).search, _width(pieces[-1])

    def test(text: str) -> bool:
        match = first(text)
        if match is None:
            return False
        at = match.end()
        for search in middle:
            match = search(text, at)
            if match is None:
                return False
            at = match.end()
        return last(text, max(at, len(text) - size)) is not None

    return test


def required_text(pattern: str) -> str:
    """The longest plain text that everything matching a regular expression holds; "" where none is sure."""
    if set(pattern) & set("|()"):
        return ""
    best = run = ""
    at = 0
    while at < len(pattern):
        char, at = pattern[at], at + 1
        plain: str | None = char
        if char == "\\":
            escaped, at = pattern[at : at + 1], at + 1
            plain = escaped if not escaped.isalnum() else None
        elif char == "[":
            at += pattern[at : at + 1] == "^"
            at += pattern[at : at + 1] == "]"
            while at < len(pattern) and pattern[at] != "]":
                at += 2 if pattern[at] == "\\" else 1
            at, plain = at + 1, None
        elif char in ".^$":
            plain = None
        many = pattern[at : at + 1]
        if plain is not None and many not in ("?", "*", "{"):
            run += plain
        if plain is None or many in ("?", "*", "{", "+"):
            best, run = max(best, run, key=len), ""
        if many == "{":
            at = pattern.find("}", at) + 1 or len(pattern)
        elif many in ("?", "*", "+"):
            at += 1
        if many in ("?", "*", "+", "{") and pattern[at : at + 1] in ("?", "+"):
            at += 1
    return max(best, run, key=len)


def _flags(case: bool) -> re.RegexFlag:
    return re.DOTALL if case else re.DOTALL | re.IGNORECASE


@lru_cache(maxsize=512)
def _is_bounded(pattern: str, case: bool) -> bool:
    """Whether Python's engine tries at most MOST_WAYS ways at a place. Raises: ConditionError."""
    try:
        return _ways(re._parser.parse(pattern, _flags(case))) <= MOST_WAYS  # type: ignore[attr-defined]  # noqa: SLF001 - the parser has no public name
    except re.error as problem:
        place = tr(" at character {pos}", pos=problem.pos + 1) if problem.pos is not None else ""
        raise ConditionError(
            tr("{pattern!r} is not a regular expression: {msg}{place}.", pattern=pattern, msg=problem.msg, place=place)
        ) from problem
    except (RecursionError, OverflowError) as problem:
        raise ConditionError(
            tr("The regular expression is nested too deeply."), tr("Write it in a simpler way.")
        ) from problem


def _ways(parsed: Value) -> float:
    """A bound of the ways in which a parsed pattern can be tried at one place, infinite for an unbounded repeat."""
    ways = 1.0
    for op, given in parsed:
        name = str(op)
        if name in ("MAX_REPEAT", "MIN_REPEAT", "POSSESSIVE_REPEAT"):
            low, high, inner = given
            if high is re._constants.MAXREPEAT:  # type: ignore[attr-defined]  # noqa: SLF001 - the parser has no public name
                return float("inf")
            each = _ways(inner)
            ways *= sum(each ** min(n, 64) for n in range(low, high + 1)) if high <= MOST_WAYS else float("inf")
        elif name == "BRANCH":
            ways *= sum(_ways(branch) for branch in given[1])
        elif name == "SUBPATTERN":
            ways *= _ways(given[3])
        elif name in ("ASSERT", "ASSERT_NOT"):
            ways *= _ways(given[1])
        elif name == "ATOMIC_GROUP":
            ways *= _ways(given)
        elif name == "GROUPREF_EXISTS":
            ways *= sum(_ways(part) for part in given[1:] if part is not None)
        if ways > MOST_WAYS:
            return float("inf")
    return ways


@lru_cache(maxsize=64)
def _set_of(pattern: str, case: bool) -> Value:
    """The quickest way to ask RE2 whether a text matches: it is told nothing of where."""
    import re2
    from re2 import _re2

    body = _for_re2(pattern).encode("utf-8", "replace")
    try:
        re2.compile(body, _options(case))  # which says what is wrong
        made = _re2.Set(_re2.RE2.Anchor.UNANCHORED, _options(case))
        made.Add(body)
        made.Compile()
    except re2.error as problem:
        raise _refused(pattern, problem) from problem
    return made


def _options(case: bool, dot_nl: bool = True) -> object:
    import re2

    made = re2.Options()
    made.log_errors, made.dot_nl, made.case_sensitive, made.max_mem = False, dot_nl, case, _MEMORY
    return made


def _refused(pattern: str, problem: Exception) -> ConditionError:
    said = problem.args[0] if problem.args else ""
    text = said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said)
    if "perl operator" in text or "escape sequence" in text or "named capture" in text:
        return ConditionError(
            tr("{pattern!r} can't be used: {text}.", pattern=pattern, text=text),
            tr("With + and * there is no look-around (?= (?! (?<= and no reference back to a group."),
        )
    return ConditionError(
        tr("{pattern!r} can't be used: {text}.", pattern=pattern, text=text), tr("Write it in a simpler way.")
    )


def _at_the_end(pattern: str) -> str:
    """The pattern with each $ meaning the end of the text alone, as in RE2 and PostgreSQL, not a line end before it."""
    return re.sub(
        r"\\.|\[\^?\]?(?:\\.|[^\]\\])*\]|\$", lambda m: r"\Z" if m[0] == "$" else m[0], pattern, flags=re.DOTALL
    )


def _for_re2(pattern: str) -> str:
    """The pattern in RE2's spelling, with the meanings that Python's engine gives."""
    texts: list[str] = []
    at, in_class = 0, False
    while at < len(pattern):
        char = pattern[at]
        if char == "\\" and at + 1 < len(pattern):
            escaped = pattern[at + 1]
            named = _IN_CLASS if in_class else _ESCAPES
            size = {"u": 4, "U": 8}.get(escaped, 0)
            if escaped in named:
                texts.append(named[escaped])
            elif size:
                texts.append(f"\\x{{{pattern[at + 2 : at + 2 + size]}}}")
            else:
                texts.append(char + escaped)
            at += 2 + size
            continue
        if in_class:
            in_class = char != "]"
        elif char == "[":
            in_class = True
            start = at + 1 + (pattern[at + 1 : at + 2] == "^")
            if pattern[start : start + 1] == "]":  # which stands for itself there
                texts.append(pattern[at:start] + "\\]")
                at = start + 1
                continue
        elif pattern.startswith("{,", at) and re.match(r"\{,\d+\}", pattern[at:]):
            texts.append("{0,")
            at += 2
            continue
        texts.append(char)
        at += 1
    return "".join(texts)


@lru_cache(maxsize=512)
def _pieces(regex: str) -> tuple[list[str], bool]:
    """The stretches of a LIKE pattern between its ".*", and whether there is one."""
    pieces, at = [""], 0
    while at < len(regex):
        if regex.startswith(".*", at):
            pieces.append("")
            at += 2
        else:
            size = 2 if regex[at] == "\\" else 1
            pieces[-1] += regex[at : at + size]
            at += size
    return pieces, len(pieces) > 1


def _width(piece: str) -> int:
    """How many characters a piece takes."""
    parsed: Sequence[Any] = re._parser.parse(piece)  # type: ignore[attr-defined]  # noqa: SLF001 - the parser has no public name
    return len(parsed)
