"""What is pending has one life: a random model of the window, and each of the ways in which changes were lost."""

import contextlib
import copy
import random
import sqlite3
import sys
from dataclasses import replace

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMessageBox, QPushButton

from nimble_otter.changes import Action
from nimble_otter.desktop.grid.selection import Block
from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.pulls.step_ref import CHANGES, SOURCE
from nimble_otter.desktop.shell import closing
from nimble_otter.errors import LostError, OutcomeUnknown
from nimble_otter.pull.model import Pull, Query
from nimble_otter.pull.steps import Condition, FilterStep
from nimble_otter.sources import Source
from nimble_otter.sources.writer import Writer
from tests.proofs import how_many, proven


def settle(window):
    """Until nothing is under way, and a moment more."""
    for _ in range(2):
        assert wait_until(lambda: not window.jobs.is_busy, 30)
        wait_until(lambda: False, 0.015)
    assert wait_until(lambda: not window.jobs.is_busy, 30)


NAMES = ("id", "name", "amount")
ALL = "select * from item order by id"


def rows_in(path):
    with contextlib.closing(sqlite3.connect(path)) as base:
        return {row[0]: dict(zip(NAMES, row, strict=True)) for row in base.execute("select * from item")}


class Model:
    """What should be: rows at the source, and what is pending on them by key. Cells are (value, seen)."""

    def __init__(self, path):
        self.path, self.db = path, rows_in(path)
        self.shown = copy.deepcopy(self.db)
        self.cells, self.deleted, self.added = {}, set(), []
        self.undo = []

    def pending(self):
        return copy.deepcopy((self.cells, self.deleted, self.added))

    def push(self):
        self.undo.append(("edit", self.pending()))

    def edit(self, key, name, value):
        self.push()
        own = self.cells.setdefault(key, {})
        if value == self.shown[key][name]:
            own.pop(name, None)
        else:
            own[name] = (value, own.get(name, (None, self.shown[key][name]))[1])
        if not own:
            del self.cells[key]

    def fits(self, sent):
        """Whether a write of what was sent meets the rows as it saw them."""
        cells, deleted, _ = sent
        for key, own in cells.items():
            if key in deleted or key not in self.shown:
                continue
            if key not in self.db or any(self.db[key][name] != seen for name, (_, seen) in own.items()):
                return False
        return all(key not in self.shown or self.db.get(key) == self.shown[key] for key in deleted)

    def write(self, sent, at):
        """It was written: what is still pending is what was done since."""
        cells, deleted, added = sent
        for key, own in cells.items():
            if key in deleted or key not in self.shown:
                continue
            before = dict(self.db[key])
            self.db[key].update({name: value for name, (value, _) in own.items()})
            now = self.cells.get(key, {})
            for name, (value, _) in own.items():
                if name in now and now[name][0] == value:
                    del now[name]
                elif name not in now and key not in self.deleted:
                    now[name] = (before[name], value)
                elif name in now:
                    now[name] = (now[name][0], value)
            self.cells[key] = now
            if not now:
                del self.cells[key]
        for key in [k for k in deleted if k in self.shown]:
            gone = self.db.pop(key)
            since = self.cells.pop(key, {})
            if key in self.deleted:
                self.deleted.discard(key)
            else:
                self.added.append(gone | {name: value for name, (value, _) in since.items()})
        for row in added:
            self.db[row["id"]] = dict.fromkeys(NAMES) | row
            if row in self.added:
                self.added.remove(row)
            else:
                self.deleted.add(row["id"])
        self.shown = {key: dict(self.db[key]) for key in self.db if key in at or key in {r["id"] for r in added}}
        self.undo = [u for u in self.undo if u[0] == "pull"] + [("written", None)]


class Bench:
    """The window under test, and random actions on it and on the model."""

    def __init__(self, make_window, path, seed):
        self.make, self.chance = make_window, random.Random(seed)
        self.window = make_window(demo=False)
        source = self.window.hub.add(Source("store", f"sqlite:///{path}"))
        settle(self.window)
        self.window.add_pull(Pull("items", source, Query(ALL)))
        settle(self.window)
        self.model, self.next, self.done = Model(path), 1000, []
        self.query = ALL

    @property
    def pull(self):
        return self.window.pulls[0]

    def act(self):
        often = [self.edit, self.edit, self.edit, self.run, self.run, self.write, self.write]
        seldom = [self.delete, self.new, self.revert, self.undo, self.redo_nothing, self.narrow, self.limit, self.step]
        rare = [self.write_and_edit, self.run_and_edit, self.stop_write, self.stop_run, self.restart, self.outside]
        do = self.chance.choice([*often, *seldom, *rare, self.close_while_writing, self.rename])
        self.done.append(do.__name__)
        do()

    def row_of(self, key):
        held = self.pull.table.column("id").values()
        return held.index(key) if key in held else None

    def keys(self):
        return [k for k in self.pull.table.column("id").values() if k not in self.model.deleted]

    # --- on rows ---

    def edit(self):
        keys = self.keys() if self.pull.target.is_open else []
        if not keys:
            return
        key, name = self.chance.choice(keys), self.chance.choice(NAMES[1:])
        value = (
            self.chance.choice([f"n{self.chance.randint(0, 5)}", None]) if name == "name" else self.chance.randint(0, 9)
        )
        place = self.pull.table.index(name)
        text = None if value is None else str(value)
        assert self.window.actions_on_grid.put_texts("Edit", [(self.row_of(key), place, text)])
        self.model.edit(key, name, value)

    def delete(self):
        keys = self.keys() if self.pull.target.is_open else []
        if keys:
            key = self.chance.choice(keys)
            self.pull.changes.edit(Action("Delete", delete=(self.row_of(key),)))
            self.model.push()
            self.model.deleted.add(key)

    def new(self):
        if not self.pull.target.is_open:
            return
        self.next += 1
        (row,) = self.pull.edits.new_ids(1)
        self.pull.changes.edit(Action("New", ((row, 0, self.next), (row, 1, "fresh")), add=((row, -1),)))
        self.model.push()
        self.model.added.append({"id": self.next, "name": "fresh"})

    def revert(self):
        keys = [k for k in {*self.model.cells, *self.model.deleted} if self.row_of(k) is not None]
        if keys and self.pull.target.is_open:
            key = self.chance.choice(sorted(keys))
            self.pull.changes.edit(self.pull.edits.revert(rows=[self.row_of(key)]))
            self.model.push()
            self.model.cells.pop(key, None)
            self.model.deleted.discard(key)

    def undo(self):
        self.pull.changes.undo()
        if self.model.undo:
            kind, what = self.model.undo.pop()
            if kind == "pull":
                self.query = self.pull.pull.query.text
            if kind == "edit":
                self.model.cells, self.model.deleted, self.model.added = what
        settle(self.window)

    def redo_nothing(self):
        assert self.pull.changes.can_undo == bool(self.model.undo)

    # --- runs ---

    def ask(self, text, during=()):
        self.query = text
        if text != self.pull.pull.query.text:
            self.pull.shaping.change(replace(self.pull.pull, query=Query(text)), "Type")
            self.model.undo.append(("pull", "text"))
        self.pull.runs.run()
        for name in during:
            getattr(self, name)()
        settle(self.window)
        self.came()

    def came(self):
        """Rows came: what they show is what is at the source."""
        held = self.pull.table.column("id").values()
        self.model.shown = {key: dict(self.model.db[key]) for key in held}
        self.model.undo = [u for u in self.model.undo if u[0] != "edit"]

    def run(self):
        self.ask(ALL)

    def narrow(self):
        self.ask(f"select * from item where id % {self.chance.randint(2, 4)} = 0 order by id")

    def limit(self):
        self.ask(f"select * from item order by id limit {self.chance.randint(1, 5)}")

    def run_and_edit(self):
        self.ask(self.query, during=self.chance.choices(["edit", "delete", "new", "undo_now"], k=2))

    def undo_now(self):
        if self.model.undo and self.model.undo[-1][0] == "edit":
            self.pull.changes.undo()
            self.model.cells, self.model.deleted, self.model.added = self.model.undo.pop()[1]

    def stop_run(self):
        """Rows came, or those of before stay with all that was done to them."""
        before = self.pull.fetched
        self.pull.runs.run()
        self.pull.runs.stop()
        settle(self.window)
        if self.pull.fetched is not before:
            self.came()

    # --- writes ---

    def write(self, during=(), stop=False):
        sent, at = self.model.pending(), set(self.model.shown)
        has = any(k in at for k in (*sent[0], *sent[1])) or sent[2]
        self.window.writes.write(self.pull)
        for name in during:
            getattr(self, name)()
        if stop:
            self.window.jobs.stop_all()
            wait_until(lambda: False, 0.05)
        settle(self.window)
        self.heard(sent, at, bool(has) and self.pull.target.is_open, may=stop)

    def heard(self, sent, at, has, may=False):
        """What became of a write: it was done where it met the rows as they were seen; with `may` either way."""
        before = copy.deepcopy(self.model)
        if has and self.model.fits(sent):
            self.model.write(sent, at)
            if may and rows_in(self.model.path) != self.model.db:
                self.model = before
        assert rows_in(self.model.path) == self.model.db

    def write_and_edit(self):
        self.write(during=self.chance.choices(["edit", "new", "delete", "revert"], k=2))

    def stop_write(self):
        self.write(stop=True)

    def close_while_writing(self):
        sent, at = self.model.pending(), set(self.model.shown)
        has = (any(k in at for k in (*sent[0], *sent[1])) or sent[2]) and self.pull.target.is_open
        self.window.writes.write(self.pull)
        self.window.close()
        self.heard(sent, at, has, may=True)
        self.again()

    def restart(self):
        self.window.close()
        self.again()

    def again(self):
        self.window = self.make(demo=False)
        settle(self.window)
        assert len(self.window.pulls) == 1
        if self.pull.table is None:
            self.pull.runs.run()
            settle(self.window)
        self.model.undo = []
        self.came()

    # --- else ---

    def outside(self):
        key = self.chance.choice(sorted(self.model.db))
        with contextlib.closing(sqlite3.connect(self.model.path)) as base:
            base.execute("update item set amount = amount + 100 where id = ?", (key,))
            base.commit()
        self.model.db[key]["amount"] = (
            (self.model.db[key]["amount"] or 0) + 100 if self.model.db[key]["amount"] is not None else None
        )

    def step(self):
        self.pull.shaping.add_step(FilterStep((Condition("is not empty", "name"),)), "Filter")
        self.model.undo.append(("pull", "step"))
        settle(self.window)

    def rename(self):
        self.window.rename_pull(f"items {self.chance.random()}")
        self.model.undo.append(("pull", "name"))

    def check(self):
        pull = self.pull
        assert not pull.in_doubt
        held = pull.pending.by_key(pull.table, pull.target)
        cells = {} if held is None else {key[0]: dict(new) for key, new, _ in held.cells}
        deleted = set() if held is None else {key[0] for key in held.deleted}
        added = [] if held is None else sorted(held.added, key=lambda row: row["id"])
        want = {k: {n: v for n, (v, _) in own.items()} for k, own in self.model.cells.items()}
        assert cells == want, (cells, want)
        assert deleted == self.model.deleted
        assert added == sorted(self.model.added, key=lambda row: row["id"])
        assert rows_in(self.model.path) == self.model.db
        assert pull.is_dirty >= (pull.pending.count > 0)


@pytest.mark.timeout(7200)
def test_the_window_keeps_what_is_pending_as_a_model_does(make_window, base, monkeypatch):
    monkeypatch.setattr(closing, "ask_while_writing", lambda names: True)
    sequences = how_many(5, 300)
    for seed in range(sequences):
        values = ", ".join(f"({n}, 'n{n}', {n * 10})" for n in range(1, 9))
        text = (
            f"create table item (id integer primary key, name text, amount integer); insert into item values {values}"
        )
        path = base(text, f"items{seed}.sqlite")
        bench = Bench(make_window, path, seed)
        for _ in range(8):
            try:
                bench.act()
                bench.check()
            except AssertionError as problem:
                raise AssertionError(f"seed {seed}, after {bench.done}: {problem}") from problem
        bench.pull.pending.wait(None)
        for open_pull in list(bench.window.pulls):
            bench.window.close_pull(bench.window.pulls.index(open_pull), ask=False)
        bench.window.close()
    proven("random actions in the window against a model", "sqlite", sequences, "8 actions each")


SCRIPT = """
create table tree (id integer primary key, kind text, height real, note text not null default '', at timestamp);
insert into tree values (1, 'a', 1.5, 'one', '2031-01-01 10:00'), (2, null, 2.5, 'two', null),
  (3, '"x', null, '', null), (4, 'b' || char(9) || 'c', 4.5, 'four', null);
create table long (id integer primary key, said text);
insert into long values (1, substr(replace(hex(zeroblob(50000)), '0', 'x'), 1, 100000)), (2, 'short');
"""


@pytest.fixture
def trees(window, base):
    path = base(SCRIPT)
    source = window.hub.add(Source("wood", f"sqlite:///{path}"))
    settle(window)
    window.add_pull(Pull("trees", source, Query("select * from tree order by id")))
    settle(window)
    return path


def stored(path, text="select * from tree order by id"):
    with contextlib.closing(sqlite3.connect(path)) as base:
        return base.execute(text).fetchall()


def select(window, *blocks):
    window.grid.go(blocks[0][0], blocks[0][1])
    window.grid.selection.blocks[:] = [Block(*block) for block in blocks]


def run(window, text):
    window.pull.shaping.put(replace(window.pull.pull, query=Query(text)))
    window.pull.runs.run()
    settle(window)


def test_changes_out_of_sight_wait_are_shown_asked_about_and_reverted_with_undo(window, trees, monkeypatch):
    window.actions_on_grid.put_texts("Edit", [(0, 2, "9"), (3, 2, "8")])
    run(window, "select * from tree where id > 3")
    pull = window.pull
    assert (pull.edits.count, pull.pending.waiting_count) == (1, 1)
    assert pull.is_dirty
    window.open_drawer(CHANGES)
    entries = window.changes_drawer.list.entries
    assert entries.rowCount() == 2
    assert (entries.entry(1).end, entries.entry(1).text) == ("waits for its row", "height 1.5 → 9.0")
    asked = []
    monkeypatch.setattr(QMessageBox, "exec", lambda box: asked.append(box.text()))
    run(window, "select * from tree where id > 8")
    window.close_pull(window.pulls.index(pull))
    assert "2 pending changes" in asked[0]
    assert pull in window.pulls
    waiting = next(b for b in window.changes_drawer.side.findChildren(QPushButton) if b.text() == "Revert what waits")
    waiting.click()
    assert pull.pending.count == 0
    window.commands.run("undo")
    assert pull.pending.waiting_count == 2
    run(window, "select * from tree order by id")
    assert pull.edits.cells == {0: {2: 9.0}, 3: {2: 8.0}}


def test_undo_takes_back_a_step_and_leaves_what_was_typed_since(window, trees):
    pull = window.pull
    pull.shaping.add_step(FilterStep((Condition("is not empty", "kind"),)), "Filter")
    pull.shaping.put(replace(pull.pull, query=replace(pull.pull.query, text="select * from tree", limit=7)))
    window.rename_pull("other")
    pull.changes.undo()
    assert (pull.pull.name, pull.pull.query.limit, len(pull.pull.steps)) == ("trees", 7, 1)
    pull.changes.undo()
    assert pull.pull.query.text == "select * from tree order by id"
    pull.changes.redo()
    assert pull.pull.query.text == "select * from tree"
    pull.undo_stack.back.pop(0)  # the step's own, taken from below the text's
    assert len(pull.pull.steps) == 1


def test_undo_behind_a_write_says_how_it_is_put_back_and_takes_no_step(window, trees):
    pull = window.pull
    pull.shaping.add_step(FilterStep((Condition("is not empty", "id"),)), "Filter")
    window.actions_on_grid.put_texts("Edit", [(0, 3, "written")])
    window.writes.write(pull)
    settle(window)
    window.commands.run("undo")
    assert "reversal" in pull.notice.text
    assert len(pull.pull.steps) == 1
    window.commands.run("undo")
    assert len(pull.pull.steps) == 0


def test_what_is_copied_is_pasted_back_equal(window, trees):
    pull, width = window.pull, 4
    before = stored(trees)
    for header in (False, True):
        select(window, (0, 1, 3, width))
        window.actions_on_grid.copy(header)
        wait_until(lambda: False, 0.05)
        others = [(row, place, "7" if place == 2 else "2031-02-02 10:00" if place == 4 else "other")
                  for row in range(4) for place in range(1, width + 1)]  # fmt: skip
        assert window.actions_on_grid.put_texts("Edit", others)
        select(window, (0, 1, 0, 1))
        window.grid.go(0, 1)
        window.actions_on_grid.paste()
        assert pull.edits.count == 0  # everything is what it was
    window.grid.go(0, 1)
    select(window, (1, 1, 1, 1), (3, 1, 3, 1))
    QApplication.clipboard().setText("both")
    window.actions_on_grid.paste()
    assert pull.edits.cells == {1: {1: "both"}, 3: {1: "both"}}
    assert stored(trees) == before


def test_a_spreadsheets_block_is_taken(window, trees):
    """A header line, blank cells, its decimal mark, and a quote that begins a cell."""
    window.layout_state.copying = {"decimal": "comma"}
    QApplication.clipboard().setText('id\theight\tnote\n1\t1 234,5\t"quoted\n2\t\tline\n')
    window.grid.go(0, 0)
    window.actions_on_grid.paste()
    pull = window.pull
    assert pull.edits.cells == {0: {2: 1234.5, 3: '"quoted'}, 1: {2: None, 3: "line"}}
    pull.changes.edit(pull.edits.revert())
    window.layout_state.copying = {}
    QApplication.clipboard().setText("1,234")
    window.grid.go(0, 2)
    window.actions_on_grid.paste()
    assert pull.edits.count == 0  # which may be either
    QApplication.clipboard().clear()
    window.actions_on_grid.paste()


def test_delete_and_backspace_on_a_cell_do_what_they_say(window, trees):
    window.grid.setFocus()
    window.grid.go(0, 1)
    QTest.keyClick(window.grid, Qt.Key.Key_Delete)
    assert window.pull.edits.cells == {0: {1: None}}
    window.grid.go(0, 3)
    QTest.keyClick(window.grid, Qt.Key.Key_Delete)
    assert window.pull.edits.cells == {0: {1: None}}  # NOT NULL, which is said
    window.grid.go(0, 1)
    QTest.keyClick(window.grid, Qt.Key.Key_Backspace)
    assert window.grid.editor is not None
    assert window.grid.editor.text() == ""
    window.grid.close_editor()


def test_long_values_are_whole_before_anything_is_made_of_them(window, trees):
    window.add_pull(Pull("long", window.pull.pull.source, Query("select * from long order by id")))
    settle(window)
    pull, whole = window.pull, stored(trees, "select said from long where id = 1")[0][0]
    assert pull.fetched.cut
    select(window, (0, 1, 1, 1))
    window.actions_on_grid.fill("down")
    settle(window)
    assert pull.edits.cells == {1: {1: whole}}
    pull.changes.edit(pull.edits.revert())
    run(window, "select * from long order by id")
    select(window, (0, 0, 0, 1))
    window.actions_on_grid.duplicate()
    settle(window)
    assert [own[1] for own in pull.edits.cells.values()] == [whole]
    pull.changes.edit(pull.edits.revert())
    run(window, "select * from long order by id")
    pull.shaping.add_step(FilterStep((Condition("sql", text="length(said) > 99000"),)), "Filter")
    settle(window)
    assert pull.shaped.rows == 1


def test_a_new_row_behind_a_new_row_stands_there(window, trees):
    window.grid.go(1, 1)
    window.actions_on_grid.new_row()
    window.actions_on_grid.new_row()
    model = window.grid.model
    assert [model.row_id(n) for n in range(model.rows)] == [0, 1, 4, 5, 2, 3]


def test_a_renamed_pull_keeps_its_writes_and_one_reopened_its_file(window, trees, tmp_path):
    pull = window.pull
    window.actions_on_grid.put_texts("Edit", [(0, 3, "written")])
    window.writes.write(pull)
    settle(window)
    window.rename_pull("another name")
    window.open_drawer(SOURCE)
    window.open_drawer(CHANGES)
    assert len(window.changes_drawer._writes) == 1
    window.save_pull(tmp_path / "kept.pull")
    window.close_pull(window.pulls.index(pull))
    window.closing.reopen()
    assert window.pull.path == tmp_path / "kept.pull"
    assert not window.pull.is_dirty


def test_a_tab_does_not_close_while_it_writes(window, trees):
    window.actions_on_grid.put_texts("Edit", [(0, 3, "written")])
    pull = window.pull
    window.writes.write(pull)
    window.close_pull(window.pulls.index(pull), ask=False)
    assert pull in window.pulls
    settle(window)
    assert stored(trees)[0][3] == "written"
    window.close_pull(window.pulls.index(pull))
    assert pull not in window.pulls


def test_a_write_of_which_nobody_heard_is_looked_up_before_the_next_one(window, trees, monkeypatch):
    """The line is lost in the commit and the rows can't be asked: it is not known, and then it is."""
    commit = Writer.commit

    def lost(writer):
        commit(writer)
        raise LostError("The connection was lost.")

    def unknown(*_):
        raise OutcomeUnknown("It is not known.")

    pull = window.pull
    window.actions_on_grid.put_texts("Edit", [(0, 3, "once")])
    pull.changes.edit(Action("New", ((4, 1, "new"),), add=((4, -1),)))
    monkeypatch.setattr(Writer, "commit", lost)
    monkeypatch.setattr(sys.modules["nimble_otter.changes.write"], "look_up", unknown)
    window.writes.write(pull)
    settle(window)
    assert pull.in_doubt
    assert pull.pending.count == 2
    assert len(stored(trees)) == 5
    monkeypatch.undo()
    window.actions_on_grid.put_texts("Edit", [(1, 3, "since")])
    window.writes.write(pull)
    settle(window)
    assert not pull.in_doubt
    assert len(stored(trees)) == 5  # the new row was not written twice
    assert pull.edits.cells == {1: {3: "since"}}
    assert window.writes.journal.open() == []


def test_the_value_of_a_condition_is_typed_where_it_belongs(window, trees):
    window.grid.setFocus()
    window.column_actions._filter(Condition("contains", "kind"))
    settle(window)
    assert window.filter_drawer._rows[-1].value.hasFocus()
    QTest.keyClicks(QApplication.focusWidget(), "a")
    assert window.pull.edits.count == 0


def test_what_is_done_while_a_write_is_under_way_stays_to_be_written(window, trees):
    """Typed over again, reverted, brought back, a new row changed: each is pending against what was written."""
    pull, texts = window.pull, window.actions_on_grid.put_texts
    texts("Edit", [(0, 3, "first"), (1, 3, "second"), (1, 2, "7")])
    pull.changes.edit(Action("Delete", delete=(2,)))
    (new,) = pull.edits.new_ids(1)
    pull.changes.edit(Action("New", ((new, 0, 9), (new, 3, "new")), add=((new, -1),)))
    window.writes.write(pull)
    assert pull.is_writing
    window.writes.write(pull)  # a second one does not begin
    texts("Edit", [(0, 3, "newer")])
    pull.changes.edit(pull.edits.revert(cells=[(1, 3)]))
    pull.changes.edit(Action("Keep", restore=(2,)))
    pull.changes.edit(Action("Edit", ((new, 3, "new and newer"),)))
    settle(window)
    assert [(row[0], row[2], row[3]) for row in stored(trees)] == [
        (1, 1.5, "first"), (2, 7.0, "second"), (4, 4.5, "four"), (9, None, "new"),
    ]  # fmt: skip
    held = pull.pending.by_key(pull.table, pull.target)
    assert {key: new for key, new, _ in held.cells} == {
        (1,): {"note": "newer"}, (2,): {"note": "two"}, (9,): {"note": "new and newer"}
    }  # fmt: skip
    assert [row["id"] for row in held.added] == [3]
    window.writes.write(pull)
    settle(window)
    assert [(row[0], row[3]) for row in stored(trees)] == [
        (1, "newer"), (2, "two"), (3, ""), (4, "four"), (9, "new and newer"),
    ]  # fmt: skip
