"""Whether values of two columns are the same, whatever kinds hold them: what comparing rows stands on."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal, InvalidOperation

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.core import uuids
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.columns import DAY_US, BufferText, CodedText, Column, Ids, Kind, Mask
from nimble_otter.table.kernels.codes import codes_of
from nimble_otter.table.ops.combine import buffered, chained
from nimble_otter.table.text.text_format import parse_span
from nimble_otter.translation import tr

_EXACT = 1 << 53
"""Whole numbers up to this are doubles, too."""
_MOST = (1 << 63) - 1
_YES, _NO = ("true", "t", "yes", "y", "1"), ("false", "f", "no", "n", "0")


@dataclass(frozen=True, slots=True)
class Alike:
    """When values count as the same. `tolerance`: numbers no further apart than this, times than so many seconds.
    Texts: `any_case`, `any_space` (at the ends and in runs), `empty_is_null`. Lists, at any depth: their items are
    matched by the field `lists_by` inside, whatever their order ("": by position)."""

    tolerance: float = 0.0
    any_case: bool = False
    any_space: bool = False
    empty_is_null: bool = False
    lists_by: str = ""

    def words(self) -> str:
        """In a few words; "" where values must be equal."""
        lines = [tr("within {tolerance:g}", tolerance=self.tolerance)] if self.tolerance else []
        lines += [
            word
            for is_so, word in (
                (self.any_case, tr("in any case")),
                (self.any_space, tr("whatever the spaces")),
                (self.empty_is_null, tr("empty text as NULL")),
            )
            if is_so
        ]
        lines += [tr("lists by {lists_by}", lists_by=self.lists_by)] if self.lists_by else []
        return ", ".join(lines)


EQUAL = Alike()


def levelled(a: Column, b: Column, rule: Alike = EQUAL) -> tuple[Column, Column]:
    """Two columns held alike, so that values are equal there where they are the same. Whole numbers, decimals and
    doubles are compared exactly, but a decimal with a double as that double; a date is its midnight, a time without a
    zone is in UTC; texts are read as what the other column holds. Raises: ConditionError, where kinds have no values
    in common."""
    if rule.any_case or rule.any_space or rule.empty_is_null:
        a, b = _folded(a, rule), _folded(b, rule)
    if rule.lists_by:
        a, b = _lists_ordered(a, rule.lists_by), _lists_ordered(b, rule.lists_by)
    if a.empty_at().all() or b.empty_at().all():
        return (_none_like(b, len(a)), b) if a.empty_at().all() else (a, _none_like(a, len(b)))
    kinds = {a.kind, b.kind}
    if kinds == {Kind.FLOAT} or (len(kinds) == 1 and a.scale == b.scale and a.kind is not Kind.OBJECT):
        return replace(a, whole=None), replace(b, whole=None)
    if Kind.OBJECT in kinds:
        return _objects(a), _objects(b)
    if Kind.TEXT in kinds:
        return _read(a, b) if a.kind is Kind.TEXT else _read(b, a)[::-1]
    if Kind.BOOL in kinds and any(kind.is_number for kind in kinds):
        a, b = _whole(a), _whole(b)
        kinds = {a.kind, b.kind}
    if all(kind.is_number for kind in kinds):
        return _numbers(a, b)
    if all(kind.is_moment for kind in kinds):
        return _moments(a), _moments(b)
    if kinds == {Kind.CLOCK, Kind.SPAN}:
        return replace(a, kind=Kind.SPAN), replace(b, kind=Kind.SPAN)
    raise ConditionError(tr("{kind} can't be compared with {other_kind}.", kind=a.kind.value, other_kind=b.kind.value))


def are_comparable(a: Kind, b: Kind) -> bool:
    """Whether values of two kinds can be the same at all."""
    return (
        a is b or Kind.OBJECT in (a, b) or Kind.TEXT in (a, b) or (a.is_moment and b.is_moment)
        or {a, b} == {Kind.CLOCK, Kind.SPAN} or all(kind.is_number or kind is Kind.BOOL for kind in (a, b))
    )  # fmt: skip


def reconciled(a: Kind, b: Kind) -> str:
    """What is to be said of comparing two kinds; "" where they are the same."""
    if a is b:
        return ""
    text = tr("{a_value} against {b_value}", a_value=a.value, b_value=b.value)
    if {a, b} <= {Kind.TIME, Kind.ZONED, Kind.DATE} and Kind.ZONED in (a, b):
        text += tr(" (without a zone: in UTC)")
    elif {a, b} == {Kind.DECIMAL, Kind.FLOAT}:
        text += tr(" (as doubles)")
    return text


def unequal(a: Column, b: Column, rule: Alike = EQUAL, stop: StopToken = NEVER) -> Mask:
    """Where values of the same row differ.

    Parameters
    ----------
    a, b : Column
        Of n rows each.
    rule : Alike
        What counts as equal.
    stop : StopToken

    Returns
    -------
    ndarray of bool, shape (n,)
        NULL is the same as NULL, NaN as NaN.

    Raises
    ------
    ConditionError
        The kinds have no values in common.
    Stopped
    """
    if not len(a):
        return np.zeros(0, np.bool_)
    a, b = levelled(a, b, rule)
    gone, lost = a.empty_at(), b.empty_at()
    differs: Mask = gone != lost
    both = np.flatnonzero(~(gone | lost))
    if len(both) == len(a):
        differs = _apart(a, b, rule, stop)
    elif len(both):
        differs = differs.copy()
        differs[both] = _apart(a.take(both), b.take(both), rule, stop)
    return differs


def _apart(a: Column, b: Column, rule: Alike, stop: StopToken) -> Mask:
    if a.kind is Kind.TEXT and b.kind is Kind.TEXT:
        return _texts_apart(a, b)
    if a.kind in (Kind.OBJECT, Kind.UUID) or a.kind is not b.kind:
        codes, _ = codes_of(chained([a, b]), np.arange(2 * len(a)), stop)
        return np.not_equal(codes[: len(a)], codes[len(a) :])
    if rule.tolerance and (a.kind.is_number or a.kind.is_moment or a.kind in (Kind.CLOCK, Kind.SPAN)):
        return _further_apart(a, b, rule.tolerance)
    if a.kind is Kind.FLOAT:
        mask: Mask = (a.data != b.data) & ~(np.isnan(a.data) & np.isnan(b.data))
        return mask
    return np.asarray(a.data != b.data, np.bool_)


def _further_apart(a: Column, b: Column, tolerance: float) -> Mask:
    """In the units that the columns hold; whole ones exactly, if their difference is held by 64 bits."""
    if a.kind is Kind.FLOAT:
        both = np.isnan(a.data) & np.isnan(b.data)
        with np.errstate(invalid="ignore"):
            is_near = np.abs(a.data - b.data) <= tolerance * (1 + 1e-12)  # .3 - .2 is a little more than .1
        return np.asarray(~(is_near | both | (a.data == b.data)), np.bool_)
    unit = 10**a.scale if a.kind is Kind.DECIMAL else 1 if a.kind is Kind.INT else 1_000_000
    if a.kind is Kind.DATE:
        a, b = _moments(a), _moments(b)
    low, high = np.minimum(a.data, b.data), np.maximum(a.data, b.data)
    most = min(_MOST * 2, int(Decimal(repr(tolerance)) * unit))
    return np.asarray(high.view(np.uint64) - low.view(np.uint64) > np.uint64(most), np.bool_)


def _texts_apart(a: Column, b: Column) -> Mask:
    """Byte by byte, eight at a time, of those that are as long."""
    if isinstance(a, CodedText) and isinstance(b, CodedText):
        place = {word: n for n, word in enumerate(a.words)}
        theirs = np.array([place.get(word, -1) for word in b.words] or [-1], np.int64)
        return np.asarray(theirs.take(b.data) != a.data)
    left, right = buffered(a), buffered(b)
    assert isinstance(left, BufferText)
    assert isinstance(right, BufferText)
    lengths = left.ends - left.data
    differs = np.asarray(lengths != right.ends - right.data, np.bool_)
    words = [np.ndarray((max(0, len(c.buffer) - 7),), "<u8", c.buffer.data, 0, (1,)) for c in (left, right)]
    alive, at = np.flatnonzero(~differs & (lengths > 0)), 0
    while len(alive):
        rest = lengths.take(alive) - at
        mine, theirs = (w[c.data.take(alive) + at] for w, c in zip(words, (left, right), strict=True))
        unlike = mine ^ theirs
        short = rest < 8
        if short.any():
            unlike &= np.where(short, (np.uint64(1) << (np.minimum(rest, 7) * 8).astype(np.uint64)) - np.uint64(1),
                               np.uint64(_MOST * 2 + 1))  # fmt: skip
        apart = unlike != 0
        differs[alive[apart]] = True
        at += 8
        alive = alive[~apart & (rest > 8)]
    return differs


# --- into one form -----------------------------------------------------------------------------------------------


def _none_like(column: Column, rows: int) -> Column:
    blank = np.zeros(rows, np.int64)
    if not len(column):
        return column_of([None] * rows)
    return replace(column.take(blank), empty=np.ones(rows, np.bool_), missing=None)


def _whole(column: Column) -> Column:
    if column.kind is not Kind.BOOL:
        return column
    return Column(Kind.INT, column.data.astype(np.int64), column.empty, column.missing)


def _moments(column: Column) -> Column:
    data = column.data.astype(np.int64) * DAY_US if column.kind is Kind.DATE else column.data
    return Column(Kind.TIME, data, column.empty, column.missing)


def _objects(column: Column) -> Column:
    """Each value as Python has it; a date as its midnight, a time in UTC without its zone."""
    if column.kind is Kind.OBJECT:
        return column
    column = _moments(column) if column.kind.is_moment else column
    data = np.empty(len(column), np.object_)
    data[:] = column.values()
    data[column.empty_at()] = None
    return Column(Kind.OBJECT, data, column.empty, column.missing)


def _numbers(a: Column, b: Column) -> tuple[Column, Column]:
    if Kind.FLOAT in (a.kind, b.kind):
        items = [_as_doubles(each) for each in (a, b)]
        if items[0] is not None and items[1] is not None:
            return items[0], items[1]
        return _objects(a), _objects(b)
    scale = max(a.scale, b.scale)
    scaled = [_scaled(each, scale) for each in (a, b)]
    if scaled[0] is not None and scaled[1] is not None:
        return scaled[0], scaled[1]
    return _objects(a), _objects(b)


def _as_doubles(column: Column) -> Column | None:
    """None where whole numbers are too large to be doubles."""
    if column.kind is Kind.FLOAT:
        return replace(column, whole=None)
    if column.kind is Kind.DECIMAL:
        if column.scale <= 22 and _reach(column) <= _EXACT:  # one rounding, as both are exact
            doubles = column.data / float(10**column.scale)
        else:
            doubles = np.array([float(v) if v is not None else 0.0 for v in replace(column, missing=None).values()])
        return Column(Kind.FLOAT, doubles, column.empty, column.missing)
    if _reach(column) > _EXACT:
        return None
    return Column(Kind.FLOAT, column.data.astype(np.float64), column.empty, column.missing)


def _scaled(column: Column, scale: int) -> Column | None:
    """None where the numbers do not fit so many digits."""
    factor = 10 ** (scale - column.scale)
    if _reach(column) * factor > _MOST:
        return None
    return Column(Kind.DECIMAL, column.data * factor, column.empty, column.missing, scale)


def _reach(column: Column) -> int:
    """The largest magnitude there is."""
    return max(abs(int(column.data.min(initial=0))), int(column.data.max(initial=0)))


def _folded(column: Column, rule: Alike) -> Column:
    """A column of texts with what does not count taken away, once for each different text."""
    if column.kind is not Kind.TEXT:
        return column
    words, codes = words_of(column)

    def fold(word: str) -> str:
        word = " ".join(word.split()) if rule.any_space else word
        return word.casefold() if rule.any_case else word

    folded = [fold(word) for word in words]
    place = {word: n for n, word in enumerate(dict.fromkeys(folded))}
    own = np.array([place[word] for word in folded] or [0], np.int32).take(codes)
    empty = column.empty_at()
    if rule.empty_is_null and "" in place:
        empty = empty | (own == place[""])
    return CodedText(Kind.TEXT, own, empty, words=tuple(place))


def _lists_ordered(column: Column, by: str) -> Column:
    """A column of nested values with the items of lists in the order of a field inside, those without it last."""
    if column.kind is not Kind.OBJECT:
        return column

    def rank(item: object) -> tuple[bool, str, float, str]:
        found = item.get(by) if isinstance(item, Mapping) else None
        if isinstance(found, (int, float, Decimal)) and found == found:
            return (False, "", float(found), "")
        return (found is None, type(found).__name__, 0.0, "" if found is None else str(found))

    def ordered(value: object) -> object:
        if isinstance(value, Mapping):
            return {name: ordered(own) for name, own in value.items()}
        return sorted(map(ordered, value), key=rank) if isinstance(value, list) else value

    data = np.empty(len(column), np.object_)
    data[:] = [ordered(value) for value in column.data]
    return Column(Kind.OBJECT, data, column.empty, column.missing)


def words_of(column: Column) -> tuple[Sequence[str], Ids]:
    """The different texts of a column, and for each row which of them it has (any where it has none)."""
    if isinstance(column, CodedText):
        return column.words, column.data
    codes, examples = codes_of(column, np.arange(len(column)))
    words = ["" if word is None or not isinstance(word, str) else word for word in column.values(examples)]
    return words, codes


def _read(texts: Column, other: Column) -> tuple[Column, Column]:
    """Texts as values of the kind that the other column holds, and that one beside them; what can't be read stays a
    text, which is equal to none of its values. Once for each different text."""
    words, codes = words_of(texts)
    empty = texts.empty_at()
    used = np.unique(codes[~empty])
    some = [words[code] for code in used.tolist()]
    small = np.zeros(int(codes.max(initial=0)) + 1, np.int64)
    small[used] = np.arange(len(used))
    if other.kind is Kind.UUID and (found := uuids.parse([word.strip().lower() for word in some])) is not None:
        own = Column(Kind.UUID, found)
    else:
        own = column_of([_value(word, other.kind) for word in some])
    own = replace(own.take(small.take(codes)), empty=empty, missing=None)
    return (_objects(own), _objects(other)) if own.kind is Kind.TEXT else levelled(own, other)


def _value(word: str, kind: Kind) -> object:
    try:
        return _READ[kind](word.strip())
    except (ValueError, InvalidOperation, OverflowError, KeyError):
        return word


def _read_bool(word: str) -> bool:
    return {**dict.fromkeys(_YES, True), **dict.fromkeys(_NO, False)}[word.lower()]


def _read_moment(word: str) -> dt.datetime:
    value = dt.datetime.fromisoformat(word)
    return value if value.tzinfo is None else value.astimezone(dt.UTC).replace(tzinfo=None)


_READ: dict[Kind, Callable[[str], object]] = {
    Kind.INT: Decimal, Kind.DECIMAL: Decimal, Kind.FLOAT: float, Kind.BOOL: _read_bool, Kind.TIME: _read_moment,
    Kind.ZONED: _read_moment, Kind.DATE: _read_moment, Kind.CLOCK: dt.time.fromisoformat, Kind.SPAN: parse_span,
}  # fmt: skip
