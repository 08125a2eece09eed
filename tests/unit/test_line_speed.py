"""No operation calls Python for each value: calls are counted over twice as many rows, by kind, and none grows with
them. What may is named with its reason; a kind or a format that is new is tried by itself."""

import contextlib
import datetime as dt
import gc
import io
import sys
import uuid
from decimal import Decimal
from functools import cache

import numpy as np
import pytest

from nimble_otter.errors import ConditionError
from nimble_otter.pull.deliver import rows_as_pulled
from nimble_otter.query.local.conditions import parse_condition, parse_expression
from nimble_otter.send.format import Output
from nimble_otter.send.send import all_formats, settings
from nimble_otter.stop import NEVER
from nimble_otter.table.core.build import column_of
from nimble_otter.table.core.column_builder import ColumnBuilder
from nimble_otter.table.core.columns import MISSING, Field, Kind, Table, View
from nimble_otter.table.ops import combine, compare, digests, profile
from nimble_otter.table.ops.expressions import compute
from nimble_otter.table.ops.filter import filter_view
from nimble_otter.table.ops.group import group_view
from nimble_otter.table.ops.measures import Aggregate, AggregateFunction
from nimble_otter.table.ops.search import Search, find_rows
from nimble_otter.table.ops.sort import SortKey, sort_view

DAY = dt.datetime(2031, 5, 28, 6, 30)
MAKE = {
    "integer": lambda n: n * 7919 % 100_003,
    "number": lambda n: n * 7919 % 100_003 / 7,
    "yes/no": lambda n: n % 3 == 0,
    "time": lambda n: DAY + dt.timedelta(seconds=n * 7919 % 100_003),
    "time with zone": lambda n: (DAY + dt.timedelta(seconds=n * 7919 % 100_003)).replace(tzinfo=dt.UTC),
    "date": lambda n: DAY.date() + dt.timedelta(days=n * 7919 % 9_001),
    "time of day": lambda n: (dt.datetime(2031, 5, 28) + dt.timedelta(seconds=n * 7919 % 80_003)).time(),
    "interval": lambda n: dt.timedelta(seconds=n * 7919 % 100_003),
    "decimal": lambda n: Decimal(n * 7919 % 100_003).scaleb(-2),
    "uuid": lambda n: str(uuid.UUID(int=n * 7919 * 2**80 + n)),
    "few texts": lambda n: f"station {n % 42}",
    "many texts": lambda n: f"note {n * 7919 % 100_003}",
    "bytes": lambda n: b"%d" % (n * 7919 % 100_003),
    "lists": lambda n: [n % 7, n],
    "objects": lambda n: {"a": n % 7, "b": n},
}
WHERE = {
    "integer": "v > 500", "number": "v > 500.5", "yes/no": "v", "time": "v > '2031-05-28 10:00'",
    "time with zone": "v > '2031-05-28 10:00+00'", "date": "v > '2040-01-01'", "time of day": "v > '10:00'",
    "interval": "v > interval '10 hours'", "decimal": "v > 50.5",
    "uuid": f"v = '{uuid.UUID(int=7919 * 2**80 + 1)}'", "few texts": "v = 'station 7'",
    "many texts": "v like 'note 1%'",
}  # fmt: skip
EXPRESSION = {
    "integer": "v * 2 + 1", "number": "round(v, 1)", "yes/no": "not v", "time": "date_trunc('month', v)",
    "time with zone": "extract(hour from v)", "date": "v + interval '1 month'", "interval": "v + v",
    "decimal": "v * 2", "few texts": "upper(v)", "many texts": "length(v)",
}  # fmt: skip
OBJECTS = ("bytes", "lists", "objects")
SOME = np.arange(100)
FEW, MOST = 2000, 1.5
REASONS = {
    **dict.fromkeys(OBJECTS, "objects are Python's own: each is looked at"),
    "group, list": "what comes of it are Python's lists",
    "send sqlite": "its client takes values one by one",
    "figures of many texts": "the forms of the 20 000 most frequent texts at most are told",
}


@cache
def table_of(kind, count):
    values = [
        None if n % 11 == 5 else MISSING if n % 11 == 3 and kind in OBJECTS else MAKE[kind](n) for n in range(count)
    ]
    first = ColumnBuilder(Kind.UUID if kind == "uuid" else None)
    first.extend(values)
    columns = (first.finish(), column_of([n % 10 for n in range(count)]), column_of(list(range(count))))
    return Table(tuple(Field(name, column.kind) for name, column in zip("vgn", columns, strict=True)), columns, count)


def figure(function):
    at = None if function is AggregateFunction.COUNT else 0
    return lambda view, kind: group_view(view, [1], [Aggregate(function) if at is None else Aggregate(function, at)])


def sent(format_):
    def send(view, kind):
        given = settings(format_, {"binary": "hex"} if any(o.name == "binary" for o in format_.options) else {})
        for _ in format_.write(rows_as_pulled(view.table, "result"), Output(io.BytesIO(), given, NEVER)):
            pass

    return send


OPERATIONS = {
    "filter": lambda view, kind: filter_view(view, parse_condition(WHERE[kind], view.table)),
    "is empty": lambda view, kind: filter_view(view, parse_condition("v is null", view.table)),
    "compute": lambda view, kind: compute(parse_expression(EXPRESSION[kind], view.table), view.table, view.row_ids()),
    "sort": lambda view, kind: sort_view(view, [SortKey(0, True)]),
    "group": lambda view, kind: group_view(view, [0], [Aggregate(AggregateFunction.SUM, 2)]),
    "distinct": lambda view, kind: combine.first_of_each(view, [0]),
    "values": lambda view, kind: profile.value_counts(view, 0, 20),
    "figures": lambda view, kind: profile.profile(view, 0),
    "find": lambda view, kind: find_rows(view, [0], Search("17")),
    "join": lambda view, kind: combine.join(view, view.table, [(2, 2)], combine.How.LEFT),
    "join by it": lambda view, kind: combine.join(View(view.table, SOME), view.table, [(0, 0)], combine.How.LEFT),
    "append": lambda view, kind: combine.appended(view.table, view.table),
    "compare": lambda view, kind: compare.compare_views(view, view, ["n"]),
    "digest": lambda view, kind: digests.row_digests(view, [0]),
    **{f"group, {function.value}": figure(function) for function in AggregateFunction},
    **{f"send {format_.key}": sent(format_) for format_ in all_formats()},
}  # fmt: skip


def calls(work, view, kind):
    """How often Python or C was called, on this thread, while it worked."""
    count = 0

    def note(frame, event, arg):
        nonlocal count
        count += event in ("call", "c_call")

    gc.disable()
    sys.setprofile(note)
    try:
        work(view, kind)
    finally:
        sys.setprofile(None)
        gc.enable()
    return count


@pytest.mark.parametrize("name", OPERATIONS)
def test_no_operation_calls_python_for_each_value(name):
    work, tried, slow = OPERATIONS[name], 0, {}
    for kind in MAKE:
        if kind in REASONS or name in REASONS or f"{name} of {kind}" in REASONS:
            continue
        if (name == "filter" and kind not in WHERE) or (name == "compute" and kind not in EXPRESSION):
            continue
        with contextlib.suppress(ConditionError):  # figures that there are of numbers alone
            few, many = (calls(work, View(table_of(kind, count)), kind) for count in (FEW, 2 * FEW))
            tried += 1
            if many - few > MOST * FEW:
                slow[kind] = (many - few) / FEW
    assert (slow, tried > 1 or name in REASONS) == ({}, True)


def test_every_kind_is_tried():
    assert {table_of(kind, 100).columns[0].kind for kind in MAKE} == set(Kind)
