"""What a look at watched rows finds, against plain Python."""

import datetime as dt
from collections import Counter

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from nimble_otter.errors import ConditionError
from nimble_otter.pull.watching import MOST_SEEN, What, look, matching, wait_s
from nimble_otter.table.core.build import table_of
from tests.proofs import how_many

NOW = dt.datetime(2031, 5, 1)
VALUES = some.none() | some.integers(-3, 3) | some.just(10**9)
TEXTS = some.none() | some.sampled_from(["a", "b", "", "Élan"])
KEYED = some.dictionaries(some.integers(0, 25), some.tuples(VALUES, TEXTS), max_size=20)


def tables(rows):
    return table_of(k=[key for key, _ in rows], v=[v for _, (v, _) in rows], t=[t for _, (_, t) in rows])


@given(KEYED, KEYED, some.randoms())
@settings(max_examples=how_many(80, 3000))
def test_rows_are_told_apart_by_their_key(before, after, random):
    old, new = list(before.items()), list(after.items())
    random.shuffle(new)
    if not old or not new:
        return
    a, b = tables(old), tables(new)
    if [f.kind for f in a.fields] != [f.kind for f in b.fields]:
        return  # a column of NULLs alone has no kind of its own
    found = look(a, b, ["k"], NOW)
    both = before.keys() & after.keys()
    changed = {k for k in both if before[k] != after[k]}
    assert (found.new, found.gone, found.changed) == (len(after.keys() - both), len(before.keys() - both), len(changed))
    keys = b.column("k").values()
    assert {keys[row] for row in found.fresh.tolist()} == (after.keys() - both) | changed
    for row, (key, _) in enumerate(old):
        now = int(found.moved[row])
        assert (keys[now] if now >= 0 else None) == (key if key in both else None)
    told = Counter((seen.what, seen.row) for seen in found.seen if seen.what is not What.CHANGED)
    assert told == Counter(
        [(What.NEW, str(k)) for k in after.keys() - both] + [(What.GONE, str(k)) for k in before.keys() - both]
    )
    cells = {(seen.row, seen.column) for seen in found.seen if seen.what is What.CHANGED}
    assert cells == {(str(k), name) for k in changed for n, name in enumerate("vt") if before[k][n] != after[k][n]}
    assert found.is_same == (not (found.new or found.gone or found.changed))
    assert ("nothing" in found.words()) == found.is_same


@given(
    some.lists(some.integers(0, 4), min_size=1, max_size=30), some.lists(some.integers(0, 4), min_size=1, max_size=30)
)
def test_without_a_key_equal_rows_are_the_same_as_often_as_they_stand_there(before, after):
    found = look(table_of(n=before), table_of(n=after), [], NOW)
    assert found.new == sum((Counter(after) - Counter(before)).values())
    assert found.gone == sum((Counter(before) - Counter(after)).values())
    assert found.changed == 0


def test_the_rest_of_a_look():
    before, after = table_of(k=[1, 2], v=[1.0, 2.0]), table_of(k=[1, 2, 3], v=[1.0, 5.0, 9.0])
    found = look(before, after, ["k"], NOW)
    assert matching(after, found.fresh, "v > 4") == 2
    assert matching(after, found.fresh, "v > 6") == 1
    assert matching(after, found.fresh, "") == 0
    (changed,) = [seen for seen in found.seen if seen.what is What.CHANGED]
    assert (changed.row, changed.column, changed.before, changed.after, changed.at) == ("2", "v", "2.0", "5.0", NOW)
    with pytest.raises(ConditionError):
        matching(after, found.fresh, "gone > 4")
    with pytest.raises(ConditionError, match="columns are others"):
        look(before, table_of(k=[1], w=[1.0]), ["k"], NOW)
    many = np.arange(5000)
    whole = look(table_of(k=many.tolist()), table_of(k=(many + 10_000).tolist()), ["k"], NOW)
    assert (whole.new, whole.gone, len(whole.seen)) == (5000, 5000, MOST_SEEN)
    assert (wait_s(5, 0.1), wait_s(5, 3)) == (5, 12)
