"""Two results side by side, against plain Python."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as some

from nimble_otter.errors import ConditionError
from nimble_otter.table import View
from nimble_otter.table.core.build import table_of
from nimble_otter.table.ops.compare import CHANGED, ONLY_HERE, ONLY_THERE, SAME, compare_views

ROWS = some.lists(some.tuples(some.none() | some.integers(0, 5), some.none() | some.sampled_from("ab")), max_size=8)


def views(here, there):
    made = table_of(k=[k for k, _ in here], v=[v for _, v in here], more=[1] * len(here))
    return View(made), View(table_of(V=[v for _, v in there], K=[k for k, _ in there]))


@given(ROWS, ROWS)
def test_rows_are_matched_by_key_those_alike_first(here, there):
    found = compare_views(*views(here, there), ["k"])
    left, spare = list(there), [None] * len(here)
    for at, row in enumerate(here):
        if row in left:
            left.remove(row)
            spare[at] = SAME
    for at, row in enumerate(here):
        if spare[at] is None:
            other = next((each for each in left if each[0] == row[0]), None)
            spare[at] = ONLY_HERE if other is None else CHANGED
            if other is not None:
                left.remove(other)
    want = [(state, state == CHANGED) for state in spare] + [(ONLY_THERE, False)] * len(left)
    assert found.repeated == tuple(len(each) - len({k for k, _ in each}) for each in (here, there))
    assert list(zip(found.states.tolist(), found.changed[1].tolist(), strict=True)) == want
    assert not found.changed[0].any()
    assert found.pairs == ((0, 1), (1, 0))
    assert sum(map(found.count, range(4))) == len(want)


@given(ROWS, ROWS)
def test_without_keys_positions_are_compared(here, there):
    found = compare_views(*views(here, there))
    want = [
        ONLY_HERE if n >= len(there) else ONLY_THERE if n >= len(here) else SAME if here[n] == there[n] else CHANGED
        for n in range(max(len(here), len(there)))
    ]
    assert found.states.tolist() == want


def test_kinds_may_differ_and_what_can_not_be_compared_is_said():
    found = compare_views(View(table_of(k=[1, 2], v=[1, 2])), View(table_of(k=[1.0, 2.5], v=["1", 2])), ["k"])
    assert found.states.tolist() == [CHANGED, ONLY_HERE, ONLY_THERE]
    with pytest.raises(ConditionError, match="no column in common"):
        compare_views(View(table_of(a=[1])), View(table_of(b=[1])))
    with pytest.raises(ConditionError, match="z is not in both"):
        compare_views(View(table_of(a=[1])), View(table_of(a=[1])), ["z"])
