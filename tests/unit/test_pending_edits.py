"""What is pending, without a window: what is left of it once a write was made from an earlier state."""

from collections import Counter

from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_otter.changes import Action, Report, Target
from nimble_otter.changes.edits import UNSET
from nimble_otter.desktop.pulls.pending import PendingEdits, Snapshot
from nimble_otter.pull.drafts import EditDraft
from nimble_otter.sources import ColumnInfo, TableInfo
from nimble_otter.table.core.build import table_of

COLUMNS = tuple(ColumnInfo(name, "TEXT", "text") for name in "ab")
TARGET = Target(TableInfo("item", columns=COLUMNS), (), tuple(enumerate(COLUMNS)))


def rows_with(rows, edits):
    """The rows as they would be with edits on them, by row id: plainly, one after the other."""
    found = {row: list(values) for row, values in rows.items() if row not in edits.deleted}
    found |= {row: [None, None] for row in edits.added if row not in rows}
    for row, own in edits.cells.items():
        for place, value in own.items() if row in found else ():
            found[row][place] = value
    return found


def change(data, edits, done):
    """One thing that a user may do: type, take back, delete, add, undo."""
    rows = [row for row in (*range(edits.base_rows), *edits.added) if row not in edits.deleted]
    kind = data.draw(st.sampled_from(("type", "type", "revert", "delete", "add", "undo", "undo")))
    if kind == "undo" and done:
        edits.apply(done.pop())
    elif kind == "add":
        (new,) = edits.new_ids(1)
        done.append(edits.apply(Action("New", ((new, 0, "new"),), add=((new, -1),))))
    elif rows and kind != "undo":
        row, place = data.draw(st.sampled_from(rows)), data.draw(st.integers(0, 1))
        if kind == "delete":
            done.append(
                edits.apply(Action("Delete", delete=(row,)) if row < edits.base_rows else Action("x", drop=(row,)))
            )
        else:
            value = UNSET if kind == "revert" else data.draw(st.sampled_from("pqr"))
            done.append(edits.apply(Action("Edit", ((row, place, value),))))


@given(st.data())
@settings(max_examples=300)
def test_what_is_left_after_a_write_leads_to_what_the_user_sees(data):
    count = data.draw(st.integers(1, 3))
    base = {row: [f"a{row}", f"b{row}"] for row in range(count)}
    table = table_of(a=[f"a{row}" for row in range(count)], b=[f"b{row}" for row in range(count)])
    pending, done = PendingEdits(), []
    pending.land(table, TARGET)
    for _ in range(data.draw(st.integers(0, 6))):
        change(data, pending.shown, done)
    sent = Snapshot(pending.shown.copied(), EditDraft())
    for _ in range(data.draw(st.integers(0, 6))):
        change(data, pending.shown, done)
    left = pending.left_after(sent, Report((), None, True), table, TARGET)
    there = rows_with(base, sent.shown)
    assert not left.added.keys() & there.keys()  # nothing is written twice
    assert left.deleted.keys() <= there.keys()
    after = Counter(map(tuple, rows_with(there, left).values()))
    assert after == Counter(map(tuple, rows_with(base, pending.shown).values()))
