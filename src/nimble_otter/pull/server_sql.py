"""Conditions of the local language as a server's SQL that means the same there; see server_values.py."""

from __future__ import annotations

import datetime as dt
import re
from typing import Any

from nimble_otter.pull.server_values import BINARY, CASE_NOTE, DOUBLES_NOTE, PLAIN_REGEX
from nimble_otter.pull.server_windows import Windows
from nimble_otter.query.meaning import MOMENTS, NUMBERS, kind_of, like_other
from nimble_otter.table.columns import Kind
from nimble_otter.table.conditions import (
    All,
    Among,
    Any_,
    ColumnAt,
    Compare,
    IsEmpty,
    Like,
    Literal,
    Node,
    Not,
    Operand,
    Truth,
)
from nimble_otter.table.text_format import render


class Speller(Windows):
    """As Values, with windows and conditions."""

    # --- columns of sorts and groups -----------------------------------------------------------------------------

    def in_order(self, place: int) -> str:
        """A column as a key of an order: texts by code point, single precision as it shows."""
        at = ColumnAt(place)
        return self._exact(at, "<") if self._kind(at) is Kind.TEXT else self._number(at)

    def in_group(self, place: int) -> str:
        """A column by which rows are grouped: texts that differ at all are different."""
        at = ColumnAt(place)
        return self._exact(at) if self._kind(at) is Kind.TEXT else self._number(at)

    def in_figure(self, place: int, figure: str) -> str:
        at = ColumnAt(place)
        kind = self._kind(at)
        if figure in ("min", "max") and kind is Kind.TEXT:
            return self._exact(at, "<")
        if kind is Kind.TEXT:
            return self._exact(at)
        text = self._number(at)
        if figure == "mean" and self._dialect == "mysql" and kind in (Kind.INT, Kind.DECIMAL):
            return f"{text} * 1e0"  # else it keeps four more digits only
        if kind is Kind.DECIMAL and self._dialect == "sqlite" and figure == "sum":
            self._note(DOUBLES_NOTE)
        return text

    # --- conditions ----------------------------------------------------------------------------------------------

    def condition(self, node: Node) -> str:
        """Raises: ConditionError with what has no equal there."""
        if isinstance(node, Not):
            return f"not ({self.condition(node.part)})"
        if isinstance(node, (All, Any_)):
            if not node.parts:
                return self._bool(isinstance(node, All))
            sign = " and " if isinstance(node, All) else " or "
            return sign.join(self._in_brackets(part, node) for part in node.parts)
        if isinstance(node, IsEmpty):
            return f"{self._atom(node.operand)} is null"
        if isinstance(node, Compare):
            return self._compared(node.op, node.left, node.right)
        if isinstance(node, Among):
            return self._among(node)
        if isinstance(node, Like):
            return self._like(node)
        if isinstance(node, Truth):
            return self._truth(node.operand)
        raise self._refuse("Looking into lists, or into any column,")

    def _in_brackets(self, part: Node, whole: Node) -> str:
        text = self.condition(part)
        is_other = isinstance(part, (All, Any_)) and len(part.parts) > 1 and type(part) is not type(whole)
        return f"({text})" if is_other else text

    def _truth(self, operand: Operand) -> str:
        text = self._atom(operand)
        return f"{text} <> 0" if self._dialect == "mysql" and isinstance(operand, ColumnAt) else text

    def _bool(self, value: bool) -> str:
        return str(value).lower() if self._dialect != "sqlite" else f"(1 = {int(value)})"

    def _compared(self, op: str, left: Operand, right: Operand) -> str:
        kinds = [k for k in (kind_of(left, self._table), kind_of(right, self._table)) if k is not None]
        if Kind.TEXT in kinds or not kinds:  # a text in quotes is what it stands beside
            return self._texts_compared(op, left, right)
        if Kind.UUID in kinds:
            return self._uuids_compared(op, left, right)
        if any(k in (*MOMENTS, Kind.CLOCK, Kind.SPAN) for k in kinds):
            return self._times_compared(op, left, right)
        if any(isinstance(o, Literal) and isinstance(o.value, str) for o in (left, right)):
            left, right = (like_other(o, kinds[0]) for o in (left, right))
        return f"{self._number(left)} {op} {self._number(right)}"

    def _texts_compared(self, op: str, left: Operand, right: Operand) -> str:
        plain = f"{self._atom(left)} {op} {self._atom(right)}"
        exact = f"{self._exact(left, op)} {op} {self._exact(right, op)}"
        if plain == exact or op != "=" or self._dialect != "mysql":
            return exact
        return f"({plain} and {exact})"  # the first finds an index, the second compares letter by letter

    def _uuids_compared(self, op: str, left: Operand, right: Operand) -> str:
        if op not in ("=", "<>") and self._dialect != "postgres":
            raise self._refuse("The order of UUIDs")
        if self._dialect == "sqlite":
            bare = "replace(replace(replace(lower({}), '-', ''), '{{', ''), '}}', '')"
            return f"{bare.format(self._atom(left))} {op} {bare.format(self._atom(right))}"
        return f"{self._atom(left)} {op} {self._atom(right)}"

    def _times_compared(self, op: str, left: Operand, right: Operand) -> str:
        if self._dialect != "sqlite":
            return f"{self._moment(left, right)} {op} {self._moment(right, left)}"
        forms = [self._form(left), self._form(right)]
        if isinstance(left, Literal):
            return f"{self._written(left, forms[1])} {op} {self._atom(right)}"
        if isinstance(right, Literal):
            return f"{self._atom(left)} {op} {self._written(right, forms[0])}"
        if not forms[0] or forms[0] != forms[1]:
            raise self._refuse("A comparison of times that are written differently")
        return f"{self._atom(left)} {op} {self._atom(right)}"

    def _moment(self, operand: Operand, other: Operand) -> str:
        if not isinstance(operand, Literal) or not isinstance(operand.value, str):
            return self._atom(operand)
        kind = self._kind(other)
        read = dt.datetime.fromisoformat if kind in MOMENTS else None
        if read is None:
            return f"{'time' if kind is Kind.CLOCK else 'interval'} {self._text(operand.value)}" if (
                self._dialect == "postgres") else self._text(operand.value)  # fmt: skip
        moment = read(operand.value.strip())
        return self._literal(moment if kind is not Kind.DATE or moment.time() != dt.time() else moment.date())

    def _written(self, literal: Literal, form: str) -> str:
        """A time as SQLite's column writes it: texts of one form are in the order of the times."""
        value = literal.value
        if not form:
            raise self._refuse("A comparison of times")
        if isinstance(value, str) and form.startswith("%Y"):
            value = dt.datetime.fromisoformat(value.strip())
        elif isinstance(value, str):
            value = dt.time.fromisoformat(value.strip())
        if isinstance(value, dt.datetime) and value.tzinfo is not None:
            value = value.astimezone(dt.UTC).replace(tzinfo=None)
        if type(value) is dt.date:
            value = dt.datetime.combine(value, dt.time())
        if isinstance(value, dt.datetime) and form == "%Y-%m-%d":
            is_day = value.time() == dt.time()
            return self._text(value.date().isoformat() if is_day else value.isoformat(" "))
        text = str(render(value, form))
        if isinstance(value, (dt.datetime, dt.time)) and _loses(value, form):
            separator = "T" if "T%H" in form else " "
            text = value.isoformat(separator) if isinstance(value, dt.datetime) else value.isoformat()
            text = text.rstrip("0") if "." in text else text
        return self._text(text)

    def _among(self, node: Among) -> str:
        values = [v for v in node.values if v is not None]
        kind = self._kind(node.operand)
        is_text = kind is Kind.TEXT or (kind is None and all(isinstance(v, str) for v in values))
        if not is_text and kind not in (*NUMBERS, Kind.BOOL):
            tests = [self._compared("=", node.operand, Literal(v)) for v in values]
            tests += [f"{self._atom(node.operand)} = null"] if None in node.values else []
            return f"({' or '.join(tests)})" if tests else self._bool(False)
        if not node.values:
            return f"({self._atom(node.operand)} is null and null)"
        shown = ", ".join(self._literal(v) for v in node.values)
        if not is_text:
            return f"{self._number(node.operand)} in ({shown})"
        plain, exact = (f"{text} in ({shown})" for text in (self._atom(node.operand), self._exact(node.operand)))
        return exact if plain == exact or self._dialect != "mysql" else f"({plain} and {exact})"

    def _like(self, node: Like) -> str:
        if node.pattern is not None:
            raise self._refuse("A pattern that differs by row")
        if node.finds:
            return self._regex(node)
        text = self._as_text(node.operand)
        if node.ignore_case:
            self._note(CASE_NOTE)
        pattern = _pattern_of(node.regex)
        if self._dialect == "sqlite" and not node.ignore_case:
            glob = "".join(
                {"%": "*", "_": "?"}[p] if is_wild else f"[{p}]" if p in "*?[" else p for p, is_wild in pattern
            )
            return f"{text} glob {self._text(glob)}"
        said = "".join(p if is_wild or p not in "%_!" else f"!{p}" for p, is_wild in pattern)
        escape = " escape '!'" if "!" in said or self._dialect != "sqlite" else ""
        word = "ilike" if node.ignore_case and self._dialect == "postgres" else "like"
        if self._dialect == "mysql":
            text = f"convert({text} using utf8mb4)"
            text = f"{f'lower({text})' if node.ignore_case else text} collate {BINARY}"
            said = said.lower() if node.ignore_case else said
        return f"{text} {word} {self._text(said)}{escape}"

    def _regex(self, node: Like) -> str:
        """Only what every engine reads alike: no classes by letter, no lazy or possessive repeats, no look-around."""
        pattern = node.regex
        lazy = re.search(r"[*+?}][+?]|\(\?|\[:|\\", pattern)
        if self._dialect == "sqlite" or lazy or not PLAIN_REGEX.fullmatch(pattern) or "$" in pattern[:-1]:
            raise self._refuse("This regular expression")
        if node.ignore_case:
            self._note(CASE_NOTE)
        text = self._as_text(node.operand)
        if self._dialect == "postgres":
            return f"{text} {'~*' if node.ignore_case else '~'} {self._text(pattern)}"
        inner = pattern[:-1] + "\\z" if pattern.endswith("$") else pattern
        inner = f"(?s{'i' if node.ignore_case else ''}){inner}"
        return f"convert({text} using utf8mb4) collate {BINARY} regexp {self._text(inner)}"


def _pattern_of(regex: str) -> list[tuple[str, bool]]:
    """A LIKE pattern by its signs, and whether each stands for others; from the form that conditions.Like keeps."""
    found: list[tuple[str, bool]] = []
    at = 0
    while at < len(regex):
        if regex.startswith(".*", at):
            found.append(("%", True))
            at += 2
        elif regex[at] == "." or regex[at] != "\\":
            found.append(("_", True) if regex[at] == "." else (regex[at], False))
            at += 1
        else:
            found.append((regex[at + 1], False))
            at += 2
    return found


def _loses(value: Any, form: str) -> bool:
    """Whether a form leaves out what a time has."""
    try:
        kept = type(value).fromisoformat(str(render(value, form)))
    except ValueError:
        return True
    return bool(kept != value)
