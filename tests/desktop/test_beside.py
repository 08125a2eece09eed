"""Two pulls beside each other in the real window."""

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox

from nimble_otter.desktop.grid.selection import Block
from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.steps import Condition
from tests.desktop.conftest import settle

CONTROL = Qt.KeyboardModifier.ControlModifier


def add(window, name, text):
    made = window.add_pull(Pull(name, window.hub.sources[0], Query(text)))
    settle(window)
    return made


def test_another_pull_stands_beside_swaps_copies_and_follows_what_becomes_of_it(window):
    first = add(window, "stations", "select * from station")
    second = add(window, "readings", "select * from reading")
    beside = window.beside
    window.commands.run("beside")
    settle(window)
    assert (beside.other, beside.grid.rows, beside.said.text()) == (first, first.shaped.rows, "42 rows")
    assert beside.grid.width() > 200
    window.show_pull(window.workspace.pulls.index(first))  # the other one stands there now
    assert (beside.other, beside.grid.rows) == (second, second.shaped.rows)
    window.actions_on_grid.add_condition(Condition("is", "river", ("Merrow",)))
    beside.swap_sides()
    settle(window)
    assert (window.pull, beside.other) == (second, first)
    assert beside.grid.rows == first.shaped.rows < 42
    beside.grid.selection.blocks = [Block(0, 1, 1, 1)]
    beside.grid.setFocus()
    QTest.keyClick(beside.grid, Qt.Key.Key_C, CONTROL)
    settle(window)
    names = [first.shaped.view.table.columns[1].value(int(row)) for row in first.shaped.view.row_ids()[:2]]
    assert QApplication.clipboard().text().split() == " ".join(names).split()
    QTest.keyClick(beside.grid, Qt.Key.Key_Return)
    settle(window)
    assert (window.pull, beside.other) == (first, second)
    before = window.pull.edits.count
    beside.grid.setFocus()
    QTest.keyClicks(beside.grid, "7")
    assert window.pull.edits.count == second.edits.count == before  # it is read only
    QTest.keyClick(beside.grid, Qt.Key.Key_Escape)
    assert beside.other is None
    assert not beside.isVisible()
    looked = []
    beside.refresh = lambda: looked.append(1)
    for each in (first, second):
        each.changed.emit(Aspect.ROWS)
    assert not looked  # neither is listened to any more


def test_both_scroll_together_when_asked_and_a_closed_pull_gives_its_place_to_another(window):
    first = add(window, "a", "select * from reading")
    second = add(window, "b", "select reading_id, level_m from reading where reading_id > 9")
    third = add(window, "c", "select * from station")
    beside = window.beside
    window.show_pull(window.workspace.pulls.index(second))
    window.commands.run("beside")
    assert beside.other is third  # which was in sight before
    beside.show_pull(first)
    settle(window)
    window.grid.verticalScrollBar().setValue(700)
    assert beside.grid.verticalScrollBar().value() == 0
    beside.together.click()
    assert beside.grid.verticalScrollBar().value() == 700
    beside.grid.verticalScrollBar().setValue(1500)
    assert window.grid.verticalScrollBar().value() == 1500
    chosen = beside.findChild(QComboBox)
    assert chosen.itemText(chosen.currentIndex()).startswith("a · ")
    chosen.setCurrentIndex(chosen.findData(third.uid))
    chosen.activated.emit(chosen.currentIndex())
    assert (beside.other, beside.said.text()) == (third, "42 rows")
    window.workspace.close(third)
    settle(window)
    assert beside.other in window.workspace.pulls
    assert beside.other is not window.pull
    while len(window.workspace.pulls) > 1:
        window.workspace.close(beside.other)
        settle(window)
    assert beside.other is None
    window.beside.open()
    assert "no other pull" in window.status.message.text()
