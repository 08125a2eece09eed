"""The Check step at work: its lines, the rows that fail, deliveries held back, lines suggested and from a column."""

import json
from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QLabel, QLineEdit, QMenu, QPushButton

from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.pulls.step_ref import QUERY, SEND, step_at
from nimble_otter.pull import SendPlan
from nimble_otter.pull.account import deliveries
from nimble_otter.pull.steps import CheckLine, CheckStep, Condition, FilterStep, Rule
from nimble_otter.table.text.show import grouped
from tests.desktop.conftest import settle

WRONG = CheckLine(Rule.RANGE, ("sample_id",), ("", "10"))
FINE = CheckLine(Rule.UNIQUE, ("sample_id",))


def checked(window, *lines):
    window.add_step(CheckStep(lines))
    settle(window)
    return window.drawer_of("check")


def texts(drawer):
    items = [drawer.lines.topLevelItem(n) for n in range(drawer.lines.topLevelItemCount())]
    return [[item.text(column) for column in (0, 1, 2, 4)] for item in items]


def field(drawer, name, kind=QLineEdit):
    return next(f for f in drawer.editor.findChildren(kind) if f.accessibleName() == name)


def strip(window, kind):
    return next(stop for stop in window.course.stops if stop.kind == kind)


def test_rows_that_fail_are_shown_and_all_again(window):
    rows = window.pull.table.rows
    drawer = checked(window, FINE, WRONG)
    assert texts(drawer) == [["✓", "sample_id", "unique", "stop"], ["!", "sample_id", "at most 10", "stop"]]
    assert strip(window, "Check").words == "1 of 2 fails"
    assert strip(window, "Check").under == f"{grouped(rows - 10)} rows fail"
    assert strip(window, "Send").words == "held back"
    drawer.lines.setCurrentItem(drawer.lines.topLevelItem(1))
    settle(window)
    assert window.grid.model.rows == rows - 10
    assert not window.failing_strip.isHidden()
    assert "sample_id at most 10" in window.failing_strip.words.text()
    assert window.status.rows.text().endswith("rows fail")
    drawer.lines.setCurrentItem(drawer.lines.topLevelItem(0))
    settle(window)
    assert window.grid.model.rows == rows
    assert window.failing_strip.isHidden()
    drawer.lines.setCurrentItem(drawer.lines.topLevelItem(1))
    window.failing_strip.all_wanted.emit()
    settle(window)
    assert window.grid.model.rows == rows


def test_lines_are_added_changed_and_removed_with_undo(window):
    drawer = checked(window)
    assert not drawer.nothing.isHidden()
    drawer.add()
    settle(window)
    rule = field(drawer, "What must hold", QComboBox)
    rule.setCurrentIndex(rule.findData(Rule.RANGE.value))
    rule.activated.emit(0)
    settle(window)
    assert drawer.line.rule is Rule.RANGE
    least = field(drawer, "at least")
    least.setFocus()
    QTest.keyClicks(least, "5")
    QTest.keyClick(least, Qt.Key.Key_Return)
    settle(window)
    assert drawer.line.values == ("5", "")
    assert texts(drawer)[0][2] == "at least 5"
    for kind in Rule:  # every rule has an editor
        drawer._set_rule(kind)
        settle(window, 0.01)
        assert drawer.line.rule is kind
    drawer._change(stops=False)
    assert texts(drawer)[0][3] == "warn"
    drawer.remove()
    assert window.pull.pull.steps[-1].lines == ()
    window.commands.run("undo")
    assert len(window.pull.pull.steps[-1].lines) == 1


def test_a_delivery_is_held_back_until_it_is_meant(window, tmp_path):
    checked(window, WRONG)
    out = tmp_path / "o.csv"
    plan = SendPlan("csv", str(out), {}, "replace")
    window.workspace.show_step(SEND, True)
    settle(window)
    drawer = window.send_drawer
    window.sending.send(window.pull, plan)
    settle(window)
    assert not out.exists()
    assert "1 of 1 checks fails" in window.status.message.text()
    assert not drawer.write.isEnabled()
    assert not drawer.anyway.isHidden()
    assert "held back" in drawer.head.words.text()
    window.sending.send(window.pull, plan, True)
    assert wait_until(lambda: out.exists() and len(deliveries(window.store.folder)) == 2, 20)
    settle(window)
    held, sent = reversed(deliveries(window.store.folder))
    assert (held.outcome, sent.outcome) == ("held back", "sent")
    assert "1 of 1 checks failed" in sent.said
    assert window.pull.beside.now.rows == window.pull.table.rows
    (kept,) = (window.store.folder / "profiles").glob("*.jsonl")
    assert json.loads(kept.read_text())["key"] == ["sample_id"]
    window.pull.shaping.show_failing((len(window.pull.pull.steps) - 1, 0))
    window.sending.send(window.pull, plan)  # only the rows that fail: they are sent as they are
    settle(window)
    assert out.read_text().count("\n") - 1 == window.pull.table.rows - 10


def test_suggested_lines_are_taken_one_by_one_or_together(window):
    drawer = checked(window)
    drawer.suggest()
    assert wait_until(lambda: drawer._offers.count() > 3, 20)
    settle(window)
    first = drawer._offers.count()
    drawer._take([FINE], [CheckLine(Rule.COLUMNS)])
    settle(window)
    assert window.pull.pull.steps[-1].lines == (FINE,)
    assert drawer._offers.count() == 2 < first
    drawer.suggest()
    settle(window)
    assert not any(b.accessibleName() == "Add: sample_id unique" for b in drawer._offered.findChildren(QPushButton))
    drawer._close_offers()
    assert not drawer.lines.isHidden()


def test_a_column_is_checked_from_its_menu(window):
    for _ in range(2):
        menu = QMenu()
        window.column_actions._fill_column(menu, 0, True)
        next(action for action in menu.actions() if action.text().startswith("Check ")).trigger()
        settle(window)
    steps = [step for step in window.pull.pull.steps if isinstance(step, CheckStep)]
    assert [step.lines for step in steps] == [(CheckLine(Rule.FILLED, (window.column_actions.name_of(0),)),)]
    assert window.pull.selected == step_at(len(window.pull.pull.steps) - 1)


def test_a_join_of_checks_takes_other_pulls_by_their_names(window):
    other = window.hub.tables[window.hub.sources[0].name]
    window.open_table(window.hub.sources[0], next(t for t in other if t.name == "assay"))
    settle(window)
    drawer = checked(window, CheckLine(Rule.ELSEWHERE, ("sample_id",), other="lab_sample"))
    assert texts(drawer)[0][0] == "✓"
    first = window.pulls[0]
    first.shaping.put(replace(first.pull, name="samples"))
    window.workspace.dependencies.renamed(first, "lab_sample")
    settle(window)
    assert window.pull.pull.steps[-1].others == ("samples",)


def test_rows_beside_the_deliveries_before(window, tmp_path):
    page, plan = window.detail.last, SendPlan("csv", str(tmp_path / "o.csv"), {}, "replace")

    def lines():
        return [label.text() for label in page.findChildren(QLabel) if label.text()]

    window.commands.run("detail_1")
    window.workspace.show_step(SEND, True)
    settle(window)
    assert window.detail.segments._group.button(1).text() == "Last times"
    assert "Nothing was delivered yet" in lines()[0]
    whole = window.pull.pull
    for least in (0, 10, 20):
        step = FilterStep((Condition("more than", "sample_id", (least,)),))
        window.pull.shaping.change(whole.with_step(step), "Filter")
        settle(window)
        window.sending.send(window.pull, plan)
        settle(window, 0.3)
        assert lines()[0].startswith("These rows beside the last ")
    window.pull.shaping.change(whole.with_step(FilterStep((Condition("less than", "sample_id", (100,)),))), "Filter")
    settle(window, 0.3)
    told, rows = lines(), window.pull.table.rows
    assert told[0] == "These rows beside the last 3 deliveries"
    assert told[told.index("rows") : told.index("rows") + 3] == ["rows", "99", f"{99 - rows + 20:+}"]
    assert told[told.index("new keys") + 1] == "20"
    assert told[told.index("gone keys") + 1] == grouped(rows - 99)
    window.workspace.show_step(QUERY, True)
    settle(window)
    assert window.detail.segments._group.button(1).text() == "Record"


def test_rows_that_are_meant_all_the_same_go_after_their_values_are_fetched_whole(window, tmp_path, monkeypatch):
    checked(window, WRONG)
    waits, out = [True], tmp_path / "o.csv"

    def wait(then, all_rows):
        if waits:
            waits.pop()
            then(window.pull)
            return True
        return False

    monkeypatch.setattr(window.pull, "wait_for_whole", wait)
    window.sending.send(window.pull, SendPlan("csv", str(out), {}, "replace"), True)
    settle(window)
    assert out.exists()
