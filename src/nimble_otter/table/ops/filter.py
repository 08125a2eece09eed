"""Evaluating conditions in blocks of rows with SQL's three-valued logic: each gives (is true, is false)."""

from __future__ import annotations

import datetime as dt
import math
import operator
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.errors import ConditionError
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core import uuids
from nimble_otter.table.core.columns import (
    EPOCH,
    EPOCH_DAY,
    MISSING,
    BufferText,
    CodedText,
    Column,
    Ids,
    Kind,
    Table,
    View,
    every,
    pick,
)
from nimble_otter.table.ops.arrays import COMPARE, array_of, compare_doubles, compared
from nimble_otter.table.ops.conditions import (
    All,
    Among,
    AnyOf,
    Anywhere,
    Case,
    ColumnAt,
    Compare,
    Either,
    IsEmpty,
    Like,
    Literal,
    Node,
    Not,
    Operand,
    Windowed,
)
from nimble_otter.table.ops.functions import FUNCTIONS, TOLERANT, as_kind, as_text, ordered
from nimble_otter.table.ops.search import Search, begins, equals, mask_of
from nimble_otter.table.text.patterns import like_regex, like_tester, required_text, tester
from nimble_otter.table.text.show import plain
from nimble_otter.table.text.text_format import parse_span
from nimble_otter.translation import tr
from nimble_otter.values import Value

BLOCK = 1 << 18
Bools = NDArray[np.bool_]
_SWAP = {"<": ">", "<=": ">=", ">": "<", ">=": "<=", "=": "=", "<>": "<>"}


@dataclass(frozen=True, slots=True)
class _Words:
    """A condition on a text column of few words, worked out for each word."""

    index: int
    hits: Bools


def filter_view(view: View, node: Node, stop: StopToken = NEVER) -> View:
    """The view's rows for which a condition is true.

    Parameters
    ----------
    view : View
    node : Node
        The condition, as `query.local` parses it. As in SQL, what is unknown is not true.
    stop : StopToken

    Returns
    -------
    View
        The rows that are left, in their order.

    Raises
    ------
    ConditionError
        The condition can't be asked of these columns.
    Stopped

    Examples
    --------
    >>> from nimble_otter.query.local.conditions import parse_condition
    >>> from nimble_otter.table.core.build import table_of
    >>> table = table_of(n=[3, None, 1])
    >>> filter_view(View(table), parse_condition("n <> 1", table)).row_ids().tolist()
    [0]
    """
    kept, count = np.empty(len(view), np.int64), 0
    node = _by_word(node, view.table)

    def keep(start: int) -> int:
        stop.check()
        stop.report_progress(start, len(view))
        ids = view.row_ids(start, start + BLOCK)
        held = np.flatnonzero(true_of(node, view.table, ids))
        out = kept[start : start + len(held)]
        np.add(held, start, out=out) if view.ids is None else ids.take(held, out=out, mode="clip")
        return len(held)

    every(0, len(view))  # grown once, not by each hand
    starts = range(0, max(1, len(view)), BLOCK)
    for start, held in zip(starts, stop.map_parallel(keep, starts), strict=True):
        if start > count:
            kept[count : count + held] = kept[start : start + held]
        count += held
    return View(view.table, kept[:count] if count > len(kept) // 4 else kept[:count].copy())


def _by_word(node: object, table: Table) -> Value:
    """The condition with what asks for words of a column worked out once, not at each block."""
    if isinstance(node, Not):
        return Not(_by_word(node.part, table))
    if isinstance(node, (All, Either)):
        return type(node)(tuple(_by_word(part, table) for part in node.parts))
    operand = getattr(node, "operand", getattr(node, "left", None))
    if not isinstance(operand, ColumnAt) or operand.path or not isinstance(node, (Compare, Among, Like)):
        return node
    column = table.columns[operand.index]
    if not isinstance(column, CodedText) or column.empty_at().all():
        return node
    if isinstance(node, Compare) and not (isinstance(node.right, Literal) and node.right.value is not None):
        return node
    if isinstance(node, Among) and None in node.values:
        return node
    whole = np.arange(len(column.words), dtype=np.int32)
    words = replace(column, data=whole, empty=None, missing=None)
    columns = (*table.columns[: operand.index], words, *table.columns[operand.index + 1 :])
    hits = true_of(node, Table(table.fields, columns, len(whole)), np.arange(len(whole)))
    return _Words(operand.index, hits)


def true_of(node: Node, table: Table, ids: Ids) -> Bools:
    """Where, of the rows `ids`, the condition is true; not where it is false or unknown."""
    return _where(node, table, ids, True)


def column_of_operand(operand: Operand, table: Table, ids: Ids) -> Column | None:
    """An operand's values for the rows as a column of them alone; None where that is not possible, or not exact."""
    return array_of(operand, table, ids, true_of)


def false_of(node: Node, table: Table, ids: Ids) -> Bools:
    """Where the condition is false; not where it is true or unknown."""
    return _where(node, table, ids, False)


def _where(node: Any, table: Table, ids: Ids, want: bool) -> Bools:
    """Where the condition is true, or where it is false; neither where it is unknown."""
    if isinstance(node, Not):
        return _where(node.part, table, ids, not want)
    if isinstance(node, (All, Either)):
        both = isinstance(node, All) is want
        mask: Bools | None = None
        for part in node.parts:
            some = _where(part, table, ids, want)
            mask = some if mask is None else np.logical_and(mask, some) if both else np.logical_or(mask, some)
        return np.full(len(ids), both) if mask is None else mask
    if isinstance(node, _Words):
        return _of_words(node, table, ids, want)
    if isinstance(node, Compare):
        return _compare(node, table, ids, want)
    if isinstance(node, Among):
        return _among(node, table, ids, want)
    if isinstance(node, IsEmpty):
        gone = _empty(node.operand, table, ids)
        return gone if want else ~gone
    if isinstance(node, Anywhere):
        held = _anywhere(node, table, ids)
        return held if want else ~held
    if isinstance(node, Like):
        return _like(node, table, ids, want)
    if isinstance(node, AnyOf):
        return _any_of(node, table, ids, want)
    column = column_of_operand(node.operand, table, ids)
    if column is not None and (column.kind is Kind.BOOL or column.kind.is_number):
        holds = column.data if column.kind is Kind.BOOL else column.data != 0
        return (holds if want else ~holds) & ~column.empty_at()
    return _each(node.operand, table, ids, want, lambda value: value is True or (value is not False and bool(value)))


def _of_words(node: _Words, table: Table, ids: Ids, want: bool) -> Bools:
    column = table.columns[node.index]
    codes, hits = pick(column.data, ids), node.hits if want else ~node.hits
    many = int(np.count_nonzero(hits))
    if many in (1, len(hits) - 1) and len(hits) > 2:  # comparing codes is quicker than looking them up
        one = int(np.argmax(hits)) if many == 1 else int(np.argmin(hits))
        return _full(column, ids, codes == one if many == 1 else codes != one)
    return _full(column, ids, hits.take(codes))


def _full(column: Column, ids: Ids, held: Bools) -> Bools:
    """Those of the rows that have a value."""
    return held if column.empty is None else held & ~pick(column.empty, ids)


def _anywhere(node: Anywhere, table: Table, ids: Ids) -> Bools:
    mask = np.zeros(len(ids), np.bool_)
    for index in node.columns:
        left = np.flatnonzero(~mask)
        mask[left[mask_of(table.columns[index], ids.take(left), node.search)]] = True
    return mask


def _empty(operand: Operand, table: Table, ids: Ids) -> Bools:
    if isinstance(operand, ColumnAt) and not operand.path:
        return table.columns[operand.index].empty_at(ids)
    return np.fromiter((value is None for value in values_of(operand, table, ids)), np.bool_, len(ids))


def _among(node: Among, table: Table, ids: Ids, want: bool) -> Bools:
    if not want and None in node.values:  # then nothing is surely not among them
        return np.zeros(len(ids), np.bool_)
    tests = tuple(Compare("=", node.operand, Literal(value)) for value in node.values if value is not None)
    mask = _where(Either(tests), table, ids, want)
    return mask if want else mask & ~_empty(node.operand, table, ids)


def _compare(node: Compare, table: Table, ids: Ids, want: bool) -> Bools:
    left, right, op = node.left, node.right, node.op
    if isinstance(left, Literal) and not isinstance(right, Literal):
        left, right, op = right, left, _SWAP[op]
    if isinstance(right, Literal) and right.value is None:
        return np.zeros(len(ids), np.bool_)
    if isinstance(left, ColumnAt) and not left.path and isinstance(right, Literal):
        column = table.columns[left.index]
        if column.kind is not Kind.OBJECT:
            if column.empty is not None and pick(column.empty, ids).all():  # without a value it has no kind of its own
                return np.zeros(len(ids), np.bool_)
            value = fitted(right.value, column.kind, table.fields[left.index].name)
            true = _compare_column(column, op, value, ids)
            return _full(column, ids, true if want else ~true)
    here, there = column_of_operand(left, table, ids), column_of_operand(right, table, ids)
    if here is not None and there is not None and (holds := compared(op, here, there)) is not None:
        return (holds if want else ~holds) & ~here.empty_at() & ~there.empty_at()
    test = COMPARE[op]
    pairs = zip(values_of(left, table, ids), values_of(right, table, ids), strict=True)
    return _tested((None if a is None or b is None else _test(test, a, b) for a, b in pairs), len(ids), want)


def _test(test: Callable[[Value, Value], Value], a: object, b: object) -> bool:
    a, b = _meet(a, b), _meet(b, a)
    try:
        if a != a or b != b:  # NaN is itself, and more than any other number
            a, b = ordered(a), ordered(b)
        return bool(test(a, b))
    except TypeError:
        return test is operator.ne  # values of types that have no order are different, and neither less nor more


def _meet(value: object, other: object) -> Value:
    """Bring a value to the type of what it is compared with, where that loses nothing."""
    if isinstance(value, str) and isinstance(other, (dt.time, dt.timedelta)):
        return _read(value, other)
    if isinstance(value, dt.datetime) and value.tzinfo is not None:
        value = value.astimezone(dt.UTC).replace(tzinfo=None)
    if isinstance(value, str) and isinstance(other, (dt.date, dt.datetime)):
        return parse_time(value, with_time=isinstance(other, dt.datetime)) or value
    if isinstance(other, str) and not isinstance(value, (str, int, float, Decimal, dt.date, Mapping, list, bytes)):
        return plain(value)  # identifiers and the like are compared by their written form
    if isinstance(other, dt.datetime) and type(value) is dt.date:
        return dt.datetime.combine(value, dt.time())
    return value


def _read(text: str, other: dt.time | dt.timedelta) -> Value:
    try:
        return dt.time.fromisoformat(text) if isinstance(other, dt.time) else parse_span(text)
    except ValueError:
        return text


def _compare_column(column: Column, op: str, value: Value, ids: Ids) -> Bools:
    test = COMPARE[op]
    if isinstance(column, CodedText):
        hits = np.fromiter((test(word, value) for word in column.words), np.bool_, len(column.words))
        return hits.take(pick(column.data, ids)) if len(hits) else np.zeros(len(ids), np.bool_)
    if isinstance(column, BufferText):
        if op in ("=", "<>"):
            same = equals(column, value, ids)
            return same if op == "=" else ~same
        return np.fromiter((v is not None and test(v, value) for v in column.values(ids)), np.bool_, len(ids))
    data = pick(column.data, ids)
    if column.kind is Kind.UUID:
        return uuids.compare(data, op, value)
    if column.kind is Kind.FLOAT:
        return compare_doubles(op, data, float(value))
    if column.kind is Kind.BOOL:
        return np.asarray(test(data, bool(value)))
    return _compare_whole(data, op, value, column.scale)


def _compare_whole(data: NDArray[np.generic], op: str, value: Value, scale: int) -> Bools:
    """Compare int64 data, each data * 10**-scale, exactly with a number that need not be whole or in range."""
    if isinstance(value, float) and not math.isfinite(value):
        return np.full(len(data), _test(COMPARE[op], 0.0, value))
    exact = Decimal(value).scaleb(scale)
    floor = math.floor(exact)
    if exact != floor:
        if op in ("=", "<>"):
            return np.full(len(data), op == "<>")
        op = "<=" if op in ("<", "<=") else ">"
    if not -(1 << 63) <= floor < (1 << 63):
        return np.full(len(data), bool(COMPARE[op](0, floor)))
    return np.asarray(COMPARE[op](data, floor))


def fitted(value: object, kind: Kind, name: str) -> Value:
    """A literal as a column's kind compares it.

    Parameters
    ----------
    value : object
        The literal in Python.
    kind : Kind
        The kind of the column.
    name : str
        What the column is called in messages.

    Returns
    -------
    value
        Numbers as they are, times as int64 microseconds since 1970, dates as days since 1970.

    Raises
    ------
    ConditionError
        The two can't be compared.
    """
    if kind in (Kind.CLOCK, Kind.SPAN):
        return _fitted_span(value, kind, name)
    if kind.is_moment:
        moment = parse_time(value, with_time=True) if isinstance(value, str) else value
        if type(moment) is dt.date:
            moment = dt.datetime.combine(moment, dt.time())
        if not isinstance(moment, dt.datetime):
            raise ConditionError(
                tr("{name} holds dates; {value!r} is not one.", name=name, value=plain(value))
                if kind is Kind.DATE
                else tr("{name} holds times; {value!r} is not one.", name=name, value=plain(value)),
                tr("Write it like '2031-05-28'.") if kind is Kind.DATE else tr("Write it like '2031-05-28 23:00'."),
            )
        moment = moment if moment.tzinfo is None else moment.astimezone(dt.UTC).replace(tzinfo=None)
        micros = (moment - EPOCH) // dt.timedelta(microseconds=1)
        if kind is not Kind.DATE:
            return micros
        days = moment.toordinal() - EPOCH_DAY
        return days if moment.time() == dt.time() else days + Decimal("0.5")
    if (kind.is_number and isinstance(value, (bool, str))) or (kind.is_number and isinstance(value, dt.date)):
        number = _number(value, kind) if isinstance(value, str) else None
        if number is None:
            raise ConditionError(
                tr("{name} holds numbers; {value!r} is not one.", name=name, value=plain(value)),
                tr("Compare it with a number."),
            )
        return number
    if kind is Kind.TEXT and not isinstance(value, str):
        raise ConditionError(
            tr("{name} holds text.", name=name), tr("Put the value in quotes: '{value}'.", value=plain(value))
        )
    if kind is Kind.UUID:
        found = uuids.halves(value) if isinstance(value, str) else None
        if found is None:
            raise ConditionError(
                tr("{name} holds UUIDs; {value!r} is not one.", name=name, value=plain(value)),
                tr("Write all of it, or cast({name} as text).", name=name),
            )
        return found
    if kind is Kind.BOOL and not isinstance(value, (bool, int)):
        raise ConditionError(tr("{name} is a boolean.", name=name), tr("Compare it with true or false."))
    return value


def _fitted_span(value: Value, kind: Kind, name: str) -> int:
    """A time of day or an interval in microseconds. Raises: ConditionError."""
    try:
        if isinstance(value, str):
            value = dt.time.fromisoformat(value.strip()) if kind is Kind.CLOCK else parse_span(value)
        if isinstance(value, dt.time) and kind is Kind.CLOCK:
            value = dt.datetime.combine(EPOCH, value) - EPOCH
        return int(value // dt.timedelta(microseconds=1))
    except (ValueError, TypeError) as problem:
        text = tr("times of day") if kind is Kind.CLOCK else "intervals"
        hint = tr("Write it like '23:00'.") if kind is Kind.CLOCK else tr("Write it like '26:30:00' or '2 days'.")
        raise ConditionError(
            tr("{name} holds {text}; {value!r} is not one.", name=name, text=text, value=plain(value)), hint
        ) from problem


def _number(text: str, kind: Kind) -> Decimal | float | None:
    """The number in a text; doubles may be NaN and without end, too."""
    try:
        number = as_kind(text, "decimal")
    except (ArithmeticError, ValueError):
        return None
    return float(number) if not number.is_finite() and kind is Kind.FLOAT else number if number.is_finite() else None


def parse_time(text: str, with_time: bool) -> dt.datetime | dt.date | None:
    """A time (or date) from ISO 8601 text, or None."""
    try:
        moment = dt.datetime.fromisoformat(text.strip())
    except ValueError:
        return None
    if moment.tzinfo is not None:
        moment = moment.astimezone(dt.UTC).replace(tzinfo=None)
    return moment if with_time else moment.date()


def _like(node: Like, table: Table, ids: Ids, want: bool) -> Bools:
    if node.pattern is not None:
        return _like_others(node, node.pattern, table, ids, want)
    holds = (tester if node.finds else like_tester)(node.regex, not node.ignore_case)
    if isinstance(node.operand, ColumnAt) and not node.operand.path:
        column = table.columns[node.operand.index]
        true = None
        if isinstance(column, CodedText):
            hits = np.fromiter(map(holds, column.words), np.bool_, len(column.words))
            true = hits.take(pick(column.data, ids)) if len(hits) else np.zeros(len(ids), np.bool_)
        elif (isinstance(column, BufferText) or column.kind is Kind.UUID) and node.contains:
            true = mask_of(column, ids, Search(node.contains, case=not node.ignore_case))
        elif isinstance(column, BufferText) and node.begins and not node.ignore_case:
            true = begins(column, node.begins, ids)
        elif isinstance(column, BufferText) and node.finds and (sure := required_text(node.regex)):
            true = mask_of(column, ids, Search(sure, case=not node.ignore_case))  # most rows need no closer look
            some = np.flatnonzero(true)
            true[some] = np.fromiter(map(holds, column.values(ids.take(some))), np.bool_, len(some))
        if true is not None:
            return _full(column, ids, true if want else ~true)
    return _each(node.operand, table, ids, want, lambda value: holds(plain(value)))


def _like_others(node: Like, pattern: Operand, table: Table, ids: Ids, want: bool) -> Bools:
    """Each row by its own pattern."""
    known: dict[str, Callable[[str], bool]] = {}

    def holds(value: object, wanted: object) -> bool:
        wanted = plain(wanted)
        if wanted not in known:
            known[wanted] = like_tester(like_regex(wanted, node.regex), not node.ignore_case)
        return known[wanted](as_text(value))

    pairs = zip(values_of(node.operand, table, ids), values_of(pattern, table, ids), strict=True)
    return _tested((None if a is None or b is None else holds(a, b) for a, b in pairs), len(ids), want)


def _any_of(node: AnyOf, table: Table, ids: Ids, want: bool) -> Bools:
    """True where an item passes, unknown where none does but one has no value (ISO 9075, quantified comparison)."""
    test: Callable[[Any, Any], bool]
    if node.like is not None:
        holds = (tester if node.like.finds else like_tester)(node.like.regex, not node.like.ignore_case)
        test = lambda item, _: holds(plain(item))  # noqa: E731
    else:
        compare = COMPARE[node.op]
        test = lambda item, value: _test(compare, item, value)  # noqa: E731
    wanted = values_of(node.value, table, ids) if node.value is not None else [""] * len(ids)
    results: list[bool | None] = []
    for held, value in zip(values_of(node.items, table, ids), wanted, strict=True):
        if held is None or value is None:
            results.append(None)
            continue
        items = held if isinstance(held, list) else [held]
        passes = any(item is not None and test(item, value) for item in items)
        results.append(True if passes else None if None in items else False)
    return _tested(results, len(ids), want)


def _each(operand: Operand, table: Table, ids: Ids, want: bool, test: Callable[[object], bool]) -> Bools:
    return _tested((None if v is None else test(v) for v in values_of(operand, table, ids)), len(ids), want)


def _tested(tests: Iterable[bool | None], count: int, want: bool) -> Bools:
    return np.fromiter((t is want for t in tests), np.bool_, count)


def values_of(operand: Operand, table: Table, ids: Ids) -> list[Value]:
    """Python values of an operand for the rows; None where there is none (MISSING too)."""
    if isinstance(operand, Literal):
        return [operand.value] * len(ids)
    if isinstance(operand, ColumnAt):
        values = table.columns[operand.index].values(ids)
        return [None if v is MISSING else (at_path(v, operand.path) if operand.path else v) for v in values]
    if isinstance(operand, Windowed):
        raise ConditionError(tr("A window function can't be used here."), tr("Compute it as a column first."))
    if isinstance(operand, Case):
        return _cases(operand, table, ids)
    columns = [values_of(arg, table, ids) for arg in operand.args]
    if operand.name in TOLERANT:
        return [_call(TOLERANT[operand.name], row) for row in zip(*columns, strict=True)]
    function = FUNCTIONS[operand.name]
    return [None if None in row else _call(function, row) for row in zip(*columns, strict=True)]


def _cases(operand: Case, table: Table, ids: Ids) -> list[Value]:
    """Each branch is worked out only for the rows that it is for."""
    items: list[Any] = [None] * len(ids)
    left = np.ones(len(ids), np.bool_)
    branches = [(true_of(test, table, ids), value) for test, value in operand.branches]
    for true, value in (*branches, (np.ones(len(ids), np.bool_), operand.default)):
        places = np.flatnonzero(left & true)
        for index, found in zip(places.tolist(), values_of(value, table, ids[places]), strict=True):
            items[index] = found
        left &= ~true
    return items


def _call(function: Callable[..., Value], row: tuple[object, ...]) -> Value:
    try:
        return function(*row)
    except (TypeError, ValueError, ArithmeticError, AttributeError, LookupError):
        return None  # there is no such value for this row


def at_path(value: object, path: tuple[str | int, ...]) -> Value:
    """What stands at a path inside nested objects and lists, or None."""
    for part in path:
        if isinstance(value, Mapping):
            value = value.get(part)
        elif isinstance(value, list) and isinstance(part, int) and -len(value) <= part < len(value):
            value = value[part]
        else:
            return None
    return value
