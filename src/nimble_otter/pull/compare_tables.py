"""Comparing all tables of two sources row by row, and the statements that bring one into line, in an order that their
foreign keys allow."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from nimble_otter.changes import Edits, Guard, Plan, make_plan, target_for
from nimble_otter.errors import ConditionError
from nimble_otter.pull.align import Side, Wanted, align, reserve
from nimble_otter.pull.compared import Compared, find_key
from nimble_otter.pull.delivery import Surroundings, pulled
from nimble_otter.pull.model import Pull, Query
from nimble_otter.pull.steps.compare import CompareStep
from nimble_otter.sources import Fetched, Source
from nimble_otter.sources.catalogue import EntryKind, TableInfo
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True, eq=False)
class TableCompared:
    """`counts` are rows that are the same, changed, only left, only right, and `says` has them in words; None where it
    says why there are none."""

    name: str
    key: tuple[str, ...] = ()
    counts: tuple[int, int, int, int] | None = None
    says: str = ""
    fetched: Fetched | None = None
    compared: Compared | None = None

    @property
    def is_same(self) -> bool:
        """Whether nothing differs."""
        return self.counts is not None and not any(self.counts[1:])


def compare_tables(
    left: Source, right: Source, around: Surroundings, stop: StopToken = NEVER
) -> Iterator[TableCompared]:
    """The tables of both sources by their names, one after the other. Raises: SourceError's, Stopped."""
    sides = []
    for source in (left, right):
        with around.connected(source) as connection:
            known = [each for each in connection.tables() if _counts(each)]
            sides.append({each.bare.casefold(): (each, connection.select_all(each.name)) for each in known})
    here, there = sides
    for name in sorted(here.keys() | there.keys()):
        stop.check()
        if name not in there or name not in here:
            own = here.get(name) or there[name]
            yield TableCompared(own[0].bare, says="only left" if name in here else "only right")
            continue
        info, text = here[name]
        fetched, course = pulled(Pull(info.bare, left, Query(text, limit=None)), around, stop)
        _, others = pulled(Pull(info.bare, right, Query(there[name][1], limit=None)), around, stop)
        rows, other = course.end, others.end.as_shown()
        try:
            key = find_key(rows.as_shown(), other, info.key, stop)
            if not key:
                yield TableCompared(info.bare, says=tr("no columns tell the rows of both sides apart"))
                continue
            shaped = CompareStep(info.bare, key, rows=other).apply(rows, stop)
        except ConditionError as problem:
            yield TableCompared(info.bare, says=str(problem))
            continue
        assert shaped.compared is not None
        same, changed, only_left, only_right = map(shaped.compared.found.count, range(4))
        counts = same, changed, only_left, only_right
        yield TableCompared(info.bare, key, counts, shaped.said, fetched, shaped.compared)


def plan_of(
    each: TableCompared, left: Source, wanted: Wanted, around: Surroundings, stop: StopToken = NEVER
) -> tuple[Plan | None, str, tuple[str, ...]]:
    """The statements that bring the left table into line (None: there is nothing to do), the counts in words, and what
    can't be brought into line. Rows are matched by all that was seen of them, which tells what they refer to, too.

    Raises: ConditionError, ValueRefused, NoKeyError, SourceError's, Stopped."""
    if each.fetched is None or each.compared is None or each.compared.places is None:
        return None, "", (each.says,)
    with around.connected(left) as connection:
        target = target_for(each.fetched, connection, left, False)
    edits = Edits(each.fetched.table.rows)
    side = Side(True, each.fetched.table, reserve(each.compared, True, edits), target, each.compared.places)
    aligned = align(each.compared, side, wanted, stop=stop)
    if not aligned.count:
        return None, aligned.words(), aligned.notes
    edits.apply(aligned.action)
    return make_plan(edits, each.fetched.table, target, Guard.ROW), aligned.words(), aligned.notes


def _counts(info: TableInfo) -> bool:
    return info.kind in (EntryKind.TABLE, EntryKind.COLLECTION)
