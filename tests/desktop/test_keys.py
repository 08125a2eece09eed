"""What the keyboard alone does: places, menus, steps at the current column, ways to follow and back."""

import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMenu

from nimble_otter.desktop.kit.widgets import button
from nimble_otter.desktop.shell.commands import collect_findings
from nimble_otter.desktop.shell.find_box import Index
from tests.desktop.conftest import open_text, settle

ALT, CONTROL, SHIFT = (Qt.KeyboardModifier[f"{name}Modifier"] for name in ("Alt", "Control", "Shift"))
KEY = Qt.Key


def press(window, key, held=Qt.KeyboardModifier.NoModifier):
    QTest.keyClick(QApplication.focusWidget() or window, key, held)


def chord(window, first, second):
    press(window, first, CONTROL)
    press(window, second)
    settle(window)


def in_menu(window, open_it, *keys):
    """The entries of the menu that opens; keys are pressed in it, or it is closed."""
    entries = []

    def act():
        menu = QApplication.activePopupWidget()
        assert isinstance(menu, QMenu)
        entries.extend(action.text() for action in menu.actions())
        for key in keys:
            QTest.keyClick(menu, key)
        menu.close()

    QTimer.singleShot(50, act)
    open_it()
    window.activateWindow()
    QApplication.processEvents()
    return entries


def test_a_step_begins_with_the_column_that_has_the_keyboard(window):
    window.grid.go(0, 1)
    chord(window, KEY.Key_G, KEY.Key_S)
    assert [step.words() for step in window.pull.pull.steps] == ["station_id ↑"]
    assert window.drawer is window.drawer_of("sort")
    assert window.grid.hasFocus()
    chord(window, KEY.Key_G, KEY.Key_S)
    assert window.pull.pull.steps[0].keys[0].descending
    chord(window, KEY.Key_G, KEY.Key_F)
    assert window.pull.pull.steps[0].conditions[0].column == "station_id"
    assert QApplication.focusWidget() is window.filter_drawer.search
    window.grid.setFocus()
    chord(window, KEY.Key_G, KEY.Key_G)
    assert [key.column for key in window.pull.pull.steps[-1].keys] == ["station_id"]
    window.course.setFocus()
    window.commands.run("add_sort")  # from elsewhere: a step without a column
    assert [step.keys for step in window.pull.pull.steps if step.kind == "sort"][-1] == ()
    for _ in range(5):
        window.commands.run("undo")
    assert window.pull.pull.steps == ()


def test_values_are_taken_and_compared_by_typing(window):
    window.grid.go(0, 1)
    chord(window, KEY.Key_G, KEY.Key_F)
    search, ids = window.filter_drawer.search, window.pull.table.column("station_id").values()

    def type_in(text):
        search.setText(text)
        press(window, KEY.Key_Return)
        settle(window)
        condition = window.pull.pull.steps[0].conditions[0]
        return condition.operator, condition.values, window.pull.shaped.rows

    most = max(set(ids), key=lambda v: ("3" in str(v), ids.count(v)))
    found = type_in("3")
    assert (found[0], found[2]) == ("is one of", ids.count(found[1][0]))
    assert "3" in str(found[1][0])
    assert ids.count(found[1][0]) == ids.count(most)
    both = type_in("17")
    assert (both[0], both[1]) == ("is one of", (*found[1], 17))
    assert type_in("17")[1] == found[1]  # the same again is no longer meant
    assert type_in("> 12")[::2] == ("more than", sum(v > 12 for v in ids))
    assert type_in("<=5")[::2] == ("at most", sum(v <= 5 for v in ids))
    assert type_in("<> 5")[::2] == ("is not", sum(v != 5 for v in ids))
    assert type_in("nothing like it")[0] == "is not"
    assert search.hasFocus()


def test_the_menu_key_opens_the_menu_of_what_has_the_keyboard(window):
    window.grid.go(2, 1)
    entries = in_menu(window, lambda: press(window, KEY.Key_F10, SHIFT))
    assert entries[0] == "Keep only rows with this station_id"
    assert "Hide station_id" in entries
    open_text(window, "select river_id from river where 1 = 0")
    entries = in_menu(window, lambda: press(window, KEY.Key_F10, SHIFT))
    assert "Hide river_id" in entries
    press(window, KEY.Key_0, ALT)
    tree = window.sources.tree
    assert tree.hasFocus()
    window.sources.reveal(window.hub.sources[0].name, "river")
    entries = in_menu(window, lambda: press(window, KEY.Key_F10, SHIFT))
    assert "Count exactly" in entries
    press(window, KEY.Key_6, ALT)
    assert window.course.hasFocus()
    press(window, KEY.Key_F6)
    assert window.grid.hasFocus()


@pytest.mark.parametrize("held", [ALT, CONTROL, Qt.KeyboardModifier.MetaModifier])
def test_a_letter_held_with_another_key_is_not_typed_into_a_cell(window, held):
    typed = []
    window.grid.go(0, 1)
    window.grid.typed.connect(lambda *given: typed.append(given))
    QTest.sendKeyEvent(QTest.KeyAction.Click, window.grid, KEY.Key_9, "9", held | SHIFT)
    assert typed == []
    QTest.sendKeyEvent(QTest.KeyAction.Click, window.grid, KEY.Key_9, "9", Qt.KeyboardModifier.NoModifier)
    assert typed == [(0, 1, "9")]


def test_enter_presses_a_button_and_charts_are_at_hand(window):
    pressed = []
    made = button("Do it", lambda: pressed.append(1))
    made.setParent(window)
    made.show()
    made.setFocus()
    press(window, KEY.Key_Return)
    assert pressed == [1]
    window.grid.setFocus()
    press(window, KEY.Key_4, ALT)
    settle(window)
    assert QApplication.focusWidget().toolTip() == "Draw this chart"
    press(window, KEY.Key_Return)
    settle(window)
    assert len(window.pull.pull.charts) == 1


def test_a_row_is_followed_and_the_way_back_is_in_sight(window):
    window.grid.go(0, 1)
    before, record = window.pull, window.detail.record
    assert record.back.isHidden()
    entries = in_menu(window, window.follower.offer, KEY.Key_Return)
    assert "station, by station_id" in entries
    settle(window)
    assert window.pull is not before
    assert record.back.text() == f"‹ Back to {before.pull.name}"
    record.back.click()
    settle(window)
    assert (window.pull, record.back.isHidden()) == (before, True)
    window.new_pull()
    window.follower.offer()
    assert "leads nowhere" in window.status.message.text()


def test_the_find_box_puts_names_before_what_texts_mention_and_finds_a_column_at_its_place(window):
    index = Index(collect_findings(window))
    assert index.best("demo")[0].name == "Open the demo"
    assert index.best("plan")[0].name == "The server's plan of the query"
    found = next(f for f in index.best("clarity_cm") if f.word == "column")
    found.do()
    settle(window)
    assert window.sources.tree.currentItem().text(0) == "clarity_cm"
    window.commands.run("plan")
    settle(window)
    assert window.query_drawer.plan.topLevelItemCount() > 0
    window.grid.go(0, 2)
    window.commands.run("hide_column")
    settle(window)
    assert "drawn_at" not in [column.name for column in window.grid.model.columns]
    window.grid.selection.move(-1, -1)
    window.commands.run("hide_column")  # none is current
    assert len(window.grid.model.columns) == 5
    window.commands.run("fit_window")
    assert abs(sum(window.grid.widths) - window.grid.viewport().width()) < 30
