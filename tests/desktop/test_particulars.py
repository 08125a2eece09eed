"""Particulars that nothing else would miss: what is checked, in sight, selected or said at a place."""

import pytest
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtTest import QTest

from nimble_otter.changes import Action
from nimble_otter.desktop.kit.diff_view import DiffView
from nimble_otter.desktop.shell.status_text import show_status
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.charts.data import Axis, place_text
from tests.desktop.conftest import settle


def test_the_view_in_sight_is_checked_alone(window):
    def checked():
        return [each.text() for each in window.status._ways.buttons() if each.isChecked()]

    assert checked() == ["Table"]
    window.commands.run("chart")
    settle(window)
    assert checked() == ["Chart"]


def test_a_message_of_the_status_is_gone_after_a_while_and_not_shown_again(window):
    assert window.status._fade.isSingleShot()
    window.say("one", False)
    window.status._fade.timeout.emit()
    assert window.status.message.text() == ""


def test_a_row_limit_that_is_typed_is_the_pulls(window):
    window.open_drawer(window.course.stops[1].ref)
    field = window.query_drawer.limit
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "17 rows")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert window.pull.pull.query.limit == 17
    field.selectAll()
    QTest.keyClicks(field, "no limit")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert window.pull.pull.query.limit is None


def test_a_page_is_what_is_in_sight_less_a_row(window):
    grid = window.grid
    grid.go(0, 0)
    page = grid.viewport().height() // grid.row - 1
    for key, wanted in ((Qt.Key.Key_PageDown, page), (Qt.Key.Key_PageDown, 2 * page), (Qt.Key.Key_PageUp, page)):
        QTest.keyClick(grid, key)
        assert grid.selection.current == (wanted, 0)


def test_figures_of_a_selection_say_how_much_is_selected(window):
    told = []
    window.detail_presenter.figures_changed.connect(told.append)
    grid = window.grid
    grid.go(1, 0)
    grid.go(3, 1, True)
    settle(window)
    assert told[-1].startswith("3 × 2 selected")
    grid.go(1, 0)
    settle(window)
    assert "selected" not in told[-1]


def test_a_number_of_rows_can_be_read_in_its_field(window):
    for kind in ("top", "sample"):
        window.commands.run(f"add_{kind}")
        settle(window)
        field = window.drawer.count
        needed = field.fontMetrics().horizontalAdvance(field.text())
        assert field.lineEdit().contentsRect().width() - 12 >= needed > 5, kind
        drawn = {field.grab().toImage().pixelColor(x, field.height() // 2).name() for x in range(8, field.width() - 8)}
        assert len(drawn) > 1, kind  # the digits


def test_the_status_says_running_until_there_are_rows(window):
    status, said = window.status, []
    made = window.add_pull(Pull("slow", window.hub.sources[0], Query("select * from reading a, river b")))
    made.runs.run()
    show_status(status, made)
    said.append(status.rows.text())
    settle(window)
    show_status(status, made)
    said.append(status.rows.text())
    assert said[0] == "Running"
    assert "shown" in said[1]


def test_a_difference_is_shown_from_its_first_line_on(qtbot):
    view = DiffView("x")
    qtbot.addWidget(view)
    view.show_lines([(" ", "a"), ("-", "b"), ("+", "c"), (" ", "d"), (" ", "e")])
    assert view.textCursor().blockNumber() == 1
    view.show_lines([(" ", "a"), (" ", "b")])
    assert view.textCursor().blockNumber() == 0
    assert view.toPlainText().startswith("  a")


def test_writes_before_are_offered_once_they_are_there(window):
    place = window.pull.table.index("note") if "note" in [f.name for f in window.pull.table.fields] else 1
    window.commands.run("show_changes")
    drawer = window.changes_drawer
    assert not drawer.review.isVisibleTo(drawer)
    field = window.pull.table.fields[place]
    window.pull.changes.edit(Action("Edit", ((0, place, window.pull.cells.typed("3", place, 0)),)))
    settle(window)
    assert drawer.write.isVisibleTo(drawer)
    assert "1 change" in drawer.write.text(), field
    window.commands.run("write")
    settle(window)
    assert window.pull.report.is_written
    assert drawer.review.isVisibleTo(drawer)
    assert not drawer.write.isVisibleTo(drawer)


@pytest.mark.parametrize(("place", "wanted"), [(-0.6, ""), (-0.4, "a"), (1.4, "b"), (1.6, ""), (0, "a")])
def test_places_of_categories_beside_the_axis_have_no_name(place, wanted):
    assert place_text(Axis("category", labels=("a", "b")), place) == wanted


def test_a_brush_over_lying_bars_goes_across(window, monkeypatch):
    from nimble_otter.desktop.chart.canvas import ChartCanvas
    from nimble_otter.pull.charts.model import Chart

    class Ground:
        left, top, width, height = 10, 20, 300, 200

    class Drawn:
        chart = None

    class Painted:
        drawn = Drawn

    canvas = ChartCanvas()
    monkeypatch.setattr(canvas, "painted", Painted)
    drag = QRectF(QPointF(50, 60), QPointF(90, 100))
    cases = ("bars", True, True), ("box", True, True), ("bars", False, False), ("line", True, False)
    for kind, sideways, is_across in cases:
        Drawn.chart = Chart(kind=kind, sideways=sideways)
        got = canvas._stretch(Ground, drag)
        assert ((got.left(), got.width()) == (10, 300)) is is_across
        assert ((got.top(), got.height()) == (20, 200)) is not is_across
    canvas.deleteLater()
