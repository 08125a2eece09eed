"""Whether values are the same whatever holds them, against plain Python."""

from __future__ import annotations

import datetime as dt
import math
import uuid
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from nimble_otter.errors import ConditionError
from nimble_otter.table import Kind
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.column_builder import ColumnBuilder
from nimble_otter.table.ops.alike import Alike, are_comparable, reconciled, unequal
from tests.proofs import how_many

WORDS = some.text("aAbB é\x00😀", max_size=20) | some.sampled_from(
    ["", "1", "1.0", "01", "true", "2031-05-01", "x" * 70]
)
MOMENT = some.datetimes(dt.datetime(1900, 1, 1), dt.datetime(2100, 1, 1))
KINDS = {
    Kind.INT: some.integers(-3, 3) | some.integers(-(2**63), 2**63 - 1) | some.integers(2**53 - 2, 2**53 + 2),
    Kind.FLOAT: some.floats(-4, 4) | some.floats() | some.sampled_from([-0.0, 0.5, float(2**53), 2.0**63, 1.0]),
    Kind.DECIMAL: some.decimals(-9, 9, places=2) | some.decimals(-(10**15), 10**15, places=3),
    Kind.BOOL: some.booleans(),
    Kind.TEXT: WORDS,
    Kind.TIME: MOMENT | some.just(dt.datetime(2031, 5, 1)),
    Kind.ZONED: MOMENT.map(lambda m: m.replace(tzinfo=dt.UTC)),
    Kind.DATE: some.dates(dt.date(2031, 4, 30), dt.date(2031, 5, 2)),
    Kind.CLOCK: some.times(),
    Kind.SPAN: some.timedeltas(dt.timedelta(0), dt.timedelta(hours=30)),
    Kind.UUID: some.integers(0, 3).map(lambda n: str(uuid.UUID(int=n))),
}


def column(kind, values):
    builder = ColumnBuilder(kind)
    builder.extend(values)
    made = builder.finish()
    return made if made.kind is kind or all(v is None for v in values) else None


def plain(value, other):
    """What a value is beside one of another type, in Python's own words."""
    if isinstance(value, Decimal) and isinstance(other, float):
        return float(value)
    if isinstance(value, dt.datetime):
        return value.replace(tzinfo=None)
    if isinstance(value, dt.date):
        return dt.datetime.combine(value, dt.time())
    if isinstance(value, dt.time) and isinstance(other, dt.timedelta):
        return dt.timedelta(
            hours=value.hour, minutes=value.minute, seconds=value.second, microseconds=value.microsecond
        )
    return value


def same(a, b):
    if a is None or b is None:
        return a is b
    a, b = plain(a, b), plain(b, a)
    if isinstance(a, float) and isinstance(b, float) and math.isnan(a) and math.isnan(b):
        return True
    return a == b


PAIRS = [(a, b) for a in KINDS for b in KINDS if are_comparable(a, b) and Kind.TEXT not in (a, b)]


@pytest.mark.parametrize(("left", "right"), [*PAIRS, (Kind.TEXT, Kind.TEXT)], ids=lambda kind: kind.name)
@given(data=some.data())
@settings(max_examples=how_many(12, 300), deadline=None)
def test_values_are_the_same_as_in_python(left, right, data):
    count = data.draw(some.integers(0, 8))
    a, b = (data.draw(some.lists(some.none() | KINDS[kind], min_size=count, max_size=count)) for kind in (left, right))
    if left is right:
        b = [mine if data.draw(some.booleans()) else theirs for mine, theirs in zip(a, b, strict=True)]
    one, other = column(left, a), column(right, b)
    if one is None or other is None:
        return
    assert unequal(one, other).tolist() == [not same(x, y) for x, y in zip(a, b, strict=True)]
    assert unequal(other, one).tolist() == unequal(one, other).tolist()


TOLD = {
    (Kind.INT, 12): ["12", " 12.0 ", "1.2e1", "13", "x", ""], (Kind.DECIMAL, Decimal("1.50")): ["1.5", "1.51", "-"],
    (Kind.FLOAT, 0.1): ["0.1", "0.10000000000000001", "0.11"], (Kind.BOOL, True): ["true", "T", "yes", "1", "no", "2"],
    (Kind.TIME, dt.datetime(2031, 5, 1, 4)): ["2031-05-01 04:00", "2031-05-01T04:00Z", "2031-05-01T06:00+02:00", ""],
    (Kind.DATE, dt.date(2031, 5, 1)): ["2031-05-01", "2031-05-01 00:00:00", "2031-05-02"],
    (Kind.CLOCK, dt.time(4, 30)): ["04:30", "04:30:00", "04:31"],
    (Kind.UUID, str(uuid.UUID(int=7))): [str(uuid.UUID(int=7)).upper(), str(uuid.UUID(int=8)), "7"],
}  # fmt: skip
ARE = ["YYYNNN", "YNN", "YYN", "YYYYNN", "YYYN", "YYN", "YYN", "YNN"]


@pytest.mark.parametrize(
    ("kind", "value", "texts", "are"), [(*k, v, a) for (k, v), a in zip(TOLD.items(), ARE, strict=True)]
)
def test_texts_are_read_as_what_the_other_column_holds(kind, value, texts, are):
    own = column(kind, [value] * len(texts))
    found = unequal(own, column(Kind.TEXT, texts))
    assert "".join("NY"[not differs] for differs in found.tolist()) == are
    alone = [unequal(column(kind, [value]), column(Kind.TEXT, [text]))[0] for text in texts]
    assert alone == found.tolist()


@given(some.lists(some.tuples(some.text(" aA", max_size=4), some.text(" aA", max_size=4)), max_size=8), some.booleans(),
       some.booleans(), some.booleans())  # fmt: skip
def test_texts_may_be_folded(rows, any_case, any_space, empty_is_null):
    def folded(text):
        text = " ".join(text.split()) if any_space else text
        text = text.lower() if any_case else text
        return None if empty_is_null and not text else text

    rule = Alike(0, any_case, any_space, empty_is_null)
    a, b = (column(Kind.TEXT, [row[side] for row in rows]) for side in (0, 1))
    assert unequal(a, b, rule).tolist() == [folded(x) != folded(y) for x, y in rows]


ITEMS = some.lists(some.tuples(some.sampled_from([1, 2, 2.5, "a", None, "b"]), some.integers(0, 1)), max_size=4,
                   unique_by=lambda item: item[0])  # fmt: skip


@given(some.lists(some.tuples(ITEMS, ITEMS, some.booleans()), min_size=1, max_size=6))
def test_items_of_lists_are_matched_by_a_field_inside(rows):
    def held(items, is_deep):
        items = [{"k": key, "v": value} for key, value in items]
        return {"x": [{"k": 0, "y": items}]} if is_deep else items

    sides = [[held(row[side], row[2]) for row in rows] for side in (0, 1)]
    a, b = (column(Kind.OBJECT, side) for side in sides)
    assert unequal(a, b, Alike(lists_by="k")).tolist() == [dict(row[0]) != dict(row[1]) for row in rows]
    assert unequal(a, b).tolist() == [x != y for x, y in zip(*sides, strict=True)]
    again = [[held([(i["k"], i["v"]) for i in items[::-1]], is_deep) for (items, is_deep) in (
        (v["x"][0]["y"], True) if isinstance(v, dict) else (v, False) for v in side)] for side in sides]  # fmt: skip
    assert not unequal(a, column(Kind.OBJECT, again[0]), Alike(lists_by="k")).any()


@pytest.mark.parametrize(("kind", "a", "b", "tolerance"), [
    (Kind.INT, [1, 2, -(2**63), None], [3, 5, 2**63 - 1, None], 2),
    (Kind.FLOAT, [0.3, 1.0, math.nan], [0.2, 1.11, 1.0], 0.1),
    (Kind.DECIMAL, [Decimal("1.00"), Decimal("2.00")], [Decimal("1.01"), Decimal("2.02")], 0.01),
    (Kind.TIME, [dt.datetime(2031, 1, 1)] * 2, [dt.datetime(2031, 1, 1, 0, 0, 1), dt.datetime(2031, 1, 1, 0, 0, 2)], 1),
    (Kind.DATE, [dt.date(2031, 1, 1)] * 2, [dt.date(2031, 1, 2), dt.date(2031, 1, 3)], 86400),
])  # fmt: skip
def test_values_within_a_tolerance_are_the_same(kind, a, b, tolerance):
    found = unequal(column(kind, a), column(kind, b), Alike(tolerance)).tolist()
    assert found == {Kind.INT: [False, True, True, False], Kind.FLOAT: [False, True, True]}.get(kind, [False, True])


def test_long_texts_and_many_are_compared_byte_by_byte():
    rng = np.random.default_rng(5)
    words = ["".join(map(chr, rng.integers(97, 99, n))) for n in rng.integers(0, 40, 5000)]
    others = [w if rng.random() < 0.5 else w[:-1] + "z" for w in words]
    assert unequal(column_of(words), column_of(others)).tolist() == [a != b for a, b in zip(words, others, strict=True)]


def test_what_can_not_be_the_same_is_said():
    assert not are_comparable(Kind.INT, Kind.DATE)
    with pytest.raises(ConditionError, match="integer can't be compared with date"):
        unequal(column_of([1]), column_of([dt.date(2031, 1, 1)]))
    assert "in UTC" in reconciled(Kind.TIME, Kind.ZONED)
    assert "doubles" in reconciled(Kind.FLOAT, Kind.DECIMAL)
    assert unequal(column_of([None]), column_of([dt.date(2031, 1, 1)])).tolist() == [True]
