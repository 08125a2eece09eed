"""The values of an open pull that the source cut, and fetching them whole before something is done with them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.pull_state import PullState
from nimble_otter.pull import Shaped
from nimble_otter.pull.steps import (
    AppendStep,
    ColumnsStep,
    CompareStep,
    DistinctStep,
    JoinStep,
    SampleStep,
    Step,
    TransposeStep,
    UnpivotStep,
)
from nimble_otter.sources import Fetched
from nimble_otter.sources.truncation import fetch_whole
from nimble_otter.table.ops.patch import patched
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.stop import StopToken


class TruncatedValues:
    """Rows are row ids of the fetched table, places its columns; `take` gets the rows once they are whole, and what is
    to be done then."""

    def __init__(self, own: PullState, take: Callable[[Fetched, Callable[[], object]], None]) -> None:
        self._own, self._take = own, take

    def is_cut(self, row: int, place: int) -> bool:
        """Whether only the beginning of this cell was fetched."""
        fetched = self._own.fetched
        ids = fetched.cut.get(place) if fetched is not None else None
        return ids is not None and bool((ids == row).any())

    def cells(self, rows: Collection[int] | None = None) -> dict[int, list[int]]:
        """Places of the values that the source cut, by row; of all rows or of some."""
        fetched, found = self._own.fetched, dict[int, list[int]]()
        for index, ids in fetched.cut.items() if fetched is not None else ():
            for row in ids.tolist():
                if rows is None or row in rows:
                    found.setdefault(row, []).append(index)
        return found

    def rows_in(self, shaped: Shaped, places: Collection[int] | None = None) -> set[int]:
        """Rows of a result that hold a cut value in the columns it shows, or in some of them."""
        fetched, view = self._own.fetched, shaped.flat()
        if fetched is None or not fetched.cut:
            return set()
        if view.table is not fetched.table:  # a step made other rows of them: which are which is not known
            return set(self.cells())
        wanted = set(shaped.shown()) if places is None else places
        cut = [ids for place, ids in fetched.cut.items() if place in wanted]
        if not cut:
            return set()
        found = np.unique(np.concatenate(cut))
        return set(found[np.isin(found, view.row_ids())].tolist())

    def first(self, rows: Collection[int] | None, then: Callable[[], object]) -> bool:
        """Whether values of some rows (None: of all) are still to be fetched whole before something is made of them; it
        is done then."""
        if not self.cells(rows):
            return False
        self.fetch(rows, then)
        return True

    def read_by(self, steps: Sequence[Step]) -> bool:
        """Whether steps look into values that the source cut."""
        fetched = self._own.fetched
        if fetched is None or not fetched.cut:
            return False
        names = [fetched.table.fields[place].name for place in fetched.cut]
        looking = [step for step in steps if step.on and not isinstance(step, (ColumnsStep, SampleStep))]
        whole = (DistinctStep, TransposeStep, UnpivotStep, AppendStep, JoinStep, CompareStep)
        return any(isinstance(s, whole) or "anywhere" in repr(s) or any(n in repr(s) for n in names) for s in looking)

    def fetch(self, rows: Collection[int] | None = None, then: Callable[[], object] = lambda: None) -> None:
        """Fetch whole what was cut, of all rows or of some, and then do something; at once when nothing is cut."""
        own = self._own
        cells, fetched = self.cells(rows), own.fetched
        if not cells or fetched is None or fetched.long is None:
            then()
            return
        source, long = own.rows_source, fetched.long

        def work(stop: StopToken, report: Callable[[object], None]) -> Fetched:
            connection = own.hub.connection(source)
            values = fetch_whole(connection, fetched.whole, long, cells, stop, lambda n, m: report((n, m)))
            left = {p: ids[~np.isin(ids, list(cells))] for p, ids in fetched.cut.items()}
            return replace(fetched, table=patched(fetched.table, values), cut={p: i for p, i in left.items() if len(i)})

        def done(whole: Fetched) -> None:
            if own.fetched is fetched:  # else the query was run again meanwhile
                self._take(whole, then)

        own.jobs.submit(
            own.hub.lane(source), f"{own.key} whole", work, done, own.failed, title=tr("Fetching whole values")
        )
        own.tell(Aspect.RUN)
