"""Conditions as a server's SQL, and columns as keys of sorts and groups."""

from __future__ import annotations

import datetime as dt
import re
from typing import ClassVar

from nimble_otter.pull.translate.values import CASE_NOTE
from nimble_otter.pull.translate.windows import Windows
from nimble_otter.query.local.meaning import MOMENTS, NUMBERS, kind_of, like_other
from nimble_otter.table.core.columns import Kind
from nimble_otter.table.ops.conditions import (
    All,
    Among,
    ColumnAt,
    Compare,
    Either,
    IsEmpty,
    Like,
    Literal,
    Node,
    Not,
    Operand,
    Truth,
)
from nimble_otter.translation import tr
from nimble_otter.values import Value

_PLAIN_REGEX = re.compile(r"[\w\s.^$|()\[\]*+?{},\-'\"/:;=<>!@#%&~`]*")


class Translator(Windows):
    """Everything of one step. `orders_uuids`: the server's order of UUIDs is ours; `uuid_order_note` says how it is
    otherwise; `finds_by_index`: a plain comparison beside the exact one lets the server use an index."""

    orders_uuids: ClassVar[bool] = False
    uuid_order_note: ClassVar[str] = ""
    finds_by_index: ClassVar[bool] = False

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
        """A column that a figure of a group is worked out from."""
        at = ColumnAt(place)
        kind = self._kind(at)
        if kind is Kind.TEXT:
            return self._exact(at, "<" if figure in ("min", "max") else "=")
        text = self._number(at)
        return self._averaged(text, kind) if figure == "mean" else self._summed(text, kind) if figure == "sum" else text

    def _summed(self, text: str, kind: Kind | None) -> str:
        return text

    # --- conditions ----------------------------------------------------------------------------------------------

    def condition(self, node: Node) -> str:
        """Raises: ConditionError with what has no equal there."""
        if isinstance(node, Not):
            return f"not ({self.condition(node.part)})"
        if isinstance(node, (All, Either)):
            if not node.parts:
                return self._always(isinstance(node, All))
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
        raise self._refuse(tr("Looking into lists, or into any column,"))

    def _in_brackets(self, part: Node, whole: Node) -> str:
        text = self.condition(part)
        is_other = isinstance(part, (All, Either)) and len(part.parts) > 1 and type(part) is not type(whole)
        return f"({text})" if is_other else text

    def _truth(self, operand: Operand) -> str:
        """A value of yes and no as a condition."""
        return self._atom(operand)

    def _always(self, value: bool) -> str:
        """A condition that holds for every row, or for none."""
        return self._truth_literal(value)

    def _compared(self, op: str, left: Operand, right: Operand) -> str:
        kinds = [k for k in (kind_of(left, self._table), kind_of(right, self._table)) if k is not None]
        if Kind.TEXT in kinds or not kinds:  # a text in quotes is what it stands beside
            return self._texts_compared(op, left, right)
        if Kind.UUID in kinds:
            if op not in ("=", "<>") and not self.orders_uuids:
                raise self._refuse(tr("The order of UUIDs"))
            return f"{self._uuid(left)} {op} {self._uuid(right)}"
        if any(k in (*MOMENTS, Kind.CLOCK, Kind.SPAN) for k in kinds):
            return self._times_compared(op, left, right)
        if any(isinstance(o, Literal) and isinstance(o.value, str) for o in (left, right)):
            left, right = (like_other(o, kinds[0]) for o in (left, right))
        return f"{self._number(left)} {op} {self._number(right)}"

    def _texts_compared(self, op: str, left: Operand, right: Operand) -> str:
        plain = f"{self._atom(left)} {op} {self._atom(right)}"
        exact = f"{self._exact(left, op)} {op} {self._exact(right, op)}"
        return self._both_ways(plain, exact) if op == "=" else exact

    def _both_ways(self, plain: str, exact: str) -> str:
        """The first finds an index, the second compares letter by letter."""
        return f"({plain} and {exact})" if self.finds_by_index and plain != exact else exact

    def _uuid(self, operand: Operand) -> str:
        return self._atom(operand)

    def _times_compared(self, op: str, left: Operand, right: Operand) -> str:
        return f"{self._moment(left, right)} {op} {self._moment(right, left)}"

    def _moment(self, operand: Operand, other: Operand) -> str:
        if not isinstance(operand, Literal) or not isinstance(operand.value, str):
            return self._atom(operand)
        kind = self._kind(other)
        if kind not in MOMENTS:
            return self._clock_or_span(operand.value, kind)
        moment = dt.datetime.fromisoformat(operand.value.strip())
        return self._literal(moment if kind is not Kind.DATE or moment.time() != dt.time() else moment.date())

    def _clock_or_span(self, value: str, kind: Kind | None) -> str:
        """A time of day or an interval that was typed."""
        return self._text(value)

    def _among(self, node: Among) -> str:
        values = [v for v in node.values if v is not None]
        kind = self._kind(node.operand)
        is_text = kind is Kind.TEXT or (kind is None and all(isinstance(v, str) for v in values))
        if not is_text and kind not in (*NUMBERS, Kind.BOOL):
            tests = [self._compared("=", node.operand, Literal(v)) for v in values]
            tests += [f"{self._atom(node.operand)} = null"] if None in node.values else []
            return f"({' or '.join(tests)})" if tests else self._always(False)
        if not node.values:
            return f"({self._atom(node.operand)} is null and null)"
        shown = ", ".join(self._literal(v) for v in node.values)
        if not is_text:
            return f"{self._number(node.operand)} in ({shown})"
        plain, exact = (f"{text} in ({shown})" for text in (self._atom(node.operand), self._exact(node.operand)))
        return self._both_ways(plain, exact)

    def _like(self, node: Like) -> str:
        if node.pattern is not None:
            raise self._refuse(tr("A pattern that differs by row"))
        if node.finds:
            return self._regex(node)
        text = self._as_text(node.operand)
        if node.ignore_case:
            self._note(CASE_NOTE)
        return self._matched(text, _pattern_of(node.regex), node.ignore_case)

    def _matched(self, text: str, pattern: list[tuple[str, bool]], ignore_case: bool) -> str:
        """LIKE of a pattern by its signs, and whether each stands for others."""
        raise NotImplementedError

    def _regex(self, node: Like) -> str:
        """Only what every engine reads alike: no classes by letter, no lazy or possessive repeats, no look-around."""
        pattern = node.regex
        lazy = re.search(r"[*+?}][+?]|\(\?|\[:|\\", pattern)
        if lazy or not _PLAIN_REGEX.fullmatch(pattern) or "$" in pattern[:-1]:
            raise self._refuse(tr("This regular expression"))
        if node.ignore_case:
            self._note(CASE_NOTE)
        return self._found(self._as_text(node.operand), pattern, node.ignore_case)

    def _found(self, text: str, pattern: str, ignore_case: bool) -> str:
        raise self._refuse(tr("This regular expression"))


def escaped(pattern: list[tuple[str, bool]]) -> str:
    """A pattern for LIKE with ! before what would stand for others."""
    return "".join(p if is_wild or p not in "%_!" else f"!{p}" for p, is_wild in pattern)


def _pattern_of(regex: str) -> list[tuple[str, bool]]:
    """A LIKE pattern by its signs, and whether each stands for others; from the form that conditions.Like keeps."""
    results: list[tuple[str, bool]] = []
    at = 0
    while at < len(regex):
        if regex.startswith(".*", at):
            results.append(("%", True))
            at += 2
        elif regex[at] == "." or regex[at] != "\\":
            results.append(("_", True) if regex[at] == "." else (regex[at], False))
            at += 1
        else:
            results.append((regex[at + 1], False))
            at += 2
    return results


def micros(value: Value) -> int:
    """An interval in microseconds."""
    return int(value // dt.timedelta(microseconds=1))
