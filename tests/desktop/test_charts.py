"""Charts in the window, by mouse and keyboard: offered, drawn, changed, picked, filtered to, kept, copied and sent."""

from dataclasses import replace

import numpy as np
import pytest
from lxml import etree
from PySide6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QHelpEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QInputDialog, QLabel, QLineEdit, QMenu, QPushButton, QToolTip

from nimble_otter.desktop.chart.drawer import as_kind
from nimble_otter.desktop.grid.rows_views import BOTH, CHART_ALONE, TABLE
from nimble_otter.desktop.kit import tokens
from nimble_otter.desktop.kit.mime_types import COLUMN_DRAG
from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.pulls.step_ref import CHART, QUERY
from nimble_otter.pull import Query, pull_from_text, pull_to_text
from nimble_otter.pull.charts import Chart, ChartKind, Up
from nimble_otter.pull.charts.hits import Hit
from nimble_otter.pull.charts.looks import LOOKS
from nimble_otter.pull.charts.make import draw
from nimble_otter.pull.steps import FilterStep, GroupStep
from nimble_otter.pull.steps.group import KeyBy
from nimble_otter.table.ops.measures import AggregateFunction as Agg
from tests.desktop.conftest import settle

K = KeyBy
LINE = Chart(ChartKind.LINE, along=K("taken_at", "month"), up=(Up("level_m", "mean"),), by=K("quality"))
POINTS = Chart(ChartKind.SCATTER, along=K("level_m"), up=(Up("flow_m3s"),))


@pytest.fixture
def charted(make_window):
    """A pull of readings, its rows shown."""
    window = make_window(demo=False)
    source = window.hub.sources[0]
    table = next(t for t in window.hub.tables[source.name] if t.name == "reading")
    window.open_table(source, table)
    settle(window)
    return window


def shown(window, chart):
    window.charting.presenter.add(chart)
    window.charting.open()
    settle(window, 0.2)
    canvas = window.charting.presenter.canvas
    assert canvas.painted is not None, canvas.words
    return canvas


def drag(canvas, start, end, modifier=Qt.KeyboardModifier.NoModifier):
    QTest.mousePress(canvas, Qt.MouseButton.LeftButton, modifier, start)
    QTest.mouseMove(canvas, (start + end) / 2)
    QTest.mouseMove(canvas, end)
    QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, modifier, end)


def across(canvas, first, last, down=(0.2, 0.22), panel=0):
    ground = canvas.painted.grounds[panel]
    xs = [ground.left + share * ground.width for share in (first, last)]
    ys = [ground.top + share * ground.height for share in down]
    return [QPoint(int(x), int(y)) for x, y in zip(xs, ys, strict=True)]


def control(drawer, name, kind=QComboBox):
    return next(w for w in drawer.findChildren(kind) if w.accessibleName() == name)


def take(drawer, name, value):
    box = control(drawer, name)
    assert box.findData(value) >= 0, [box.itemData(n) for n in range(box.count())]
    box.setCurrentIndex(box.findData(value))
    box.activated.emit(box.currentIndex())


def test_a_chart_is_two_clicks_away_and_takes_every_change_back(charted):
    window = charted
    way = next(b for b in window.status.views.findChildren(QPushButton) if b.text() == "Chart")
    QTest.mouseClick(way, Qt.MouseButton.LeftButton)
    settle(window)
    presenter = window.charting.presenter
    assert (window.pull.rows_as, window.pull.selected) == (CHART_ALONE, CHART)
    assert not window.rows_stack.isVisible()
    offers = [b for b in presenter.view.findChildren(QPushButton) if b.text().startswith(("Line:", "Bars:"))]
    QTest.mouseClick(offers[0], Qt.MouseButton.LeftButton)
    settle(window, 0.2)
    (chart,) = window.pull.pull.charts
    assert chart.kind is ChartKind.LINE
    assert presenter.canvas.painted.drawn.marks
    assert "rows drawn as" in window.drawer.head.words.text()
    drawer = window.drawer_of("chart")
    take(drawer, "Along, part", "month")
    take(drawer, "Up 1, aggregate", "max")
    take(drawer, "Colour", "quality")
    settle(window, 0.2)
    chart = window.pull.pull.charts[0]
    assert (chart.along.part, chart.up[0].figure, chart.by.column) == ("month", "max", "quality")
    assert len(presenter.made.drawn.names) > 1
    for row, kind in enumerate(ChartKind):
        drawer.kinds.setCurrentRow(row)
        settle(window, 0.15)
        assert window.pull.pull.charts[0].kind is kind
        assert presenter.canvas.painted is not None or presenter.problem
    field = control(drawer, "Lines at", QLineEdit)
    field.setText("flood")
    field.editingFinished.emit()
    assert "does not begin with a value" in drawer.problem.text()
    field.setText("3.2 flood watch")
    field.editingFinished.emit()
    settle(window)
    assert window.pull.pull.charts[0].lines == "3.2 flood watch"
    while window.pull.changes.can_undo:
        window.commands.run("undo")
    settle(window)
    assert window.pull.pull.charts == ()
    assert presenter.canvas.painted is None or presenter.view.pages.currentIndex() == 1
    window.commands.run("redo")
    settle(window)
    assert len(window.pull.pull.charts) == 1
    way = next(b for b in window.status.views.findChildren(QPushButton) if b.text() == "Table")
    QTest.mouseClick(way, Qt.MouseButton.LeftButton)
    assert (window.pull.rows_as, window.pull.selected, window.rows_stack.isVisible()) == (TABLE, QUERY, True)


def test_a_drag_picks_rows_in_the_grid_too_and_becomes_a_filter(charted):
    window = charted
    canvas = shown(window, LINE)
    drag(canvas, *across(canvas, 0.3, 0.6))
    settle(window, 0.25)
    presenter, shaped = window.charting.presenter, window.pull.shaped
    picked = set(presenter.rows.tolist())
    month = window.pull.table.column("taken_at").values()
    inside = {str(month[row])[:7] for row in picked}
    assert picked == {row for row, value in enumerate(month) if value is not None and str(value)[:7] in inside}
    blocks = window.grid.selection.blocks
    assert {row for b in blocks for row in shaped.view.row_ids(b.top, b.bottom + 1).tolist()} == picked
    assert window.grid.selection.row_count == len(picked)
    for position in range(0, len(shaped.view), 37):
        assert window.grid.selection.holds(position, 1) == (position in picked)
        assert window.grid.selection.holds_row(position) == (position in picked)
    page = presenter._page
    assert page.isVisible()
    assert f"{len(picked):,}".replace(",", "\u2009") in " ".join(w.text() for w in page.findChildren(QLabel))
    keep = next(b for b in page.findChildren(QPushButton) if b.text() == "Filter to them")
    QTest.mouseClick(keep, Qt.MouseButton.LeftButton)
    settle(window, 0.25)
    assert isinstance(window.pull.pull.steps[0], FilterStep)
    assert set(window.pull.shaped.view.row_ids().tolist()) == picked
    window.charting.open()
    settle(window, 0.25)
    assert presenter.made.drawn.rows == len(picked)
    assert presenter.rows is None
    drag(canvas, *across(canvas, 0.3, 0.7))
    settle(window, 0.25)
    gone = set(presenter.rows.tolist())
    presenter.filter_picked(False)
    settle(window, 0.25)
    assert set(window.pull.shaped.view.row_ids().tolist()) == picked - gone


def test_rows_selected_in_the_grid_are_ringed_in_the_chart(charted):
    window = charted
    canvas = shown(window, POINTS)
    window.charting.open(True)
    settle(window, 0.3)
    assert window.rows_stack.isVisible()
    assert window.pull.rows_as == BOTH
    window.grid.setFocus()
    window.grid.go(3, 0)
    window.grid.go(9, 0, extend=True)
    assert wait_until(lambda: len(canvas._rings) == 7, 4)
    window.grid.select_all()
    assert wait_until(lambda: not canvas._rings, 4)
    canvas.setFocus()
    box = across(canvas, 0.2, 0.5, (0.3, 0.9))
    drag(canvas, *box)
    settle(window, 0.25)
    presenter = window.charting.presenter
    x, y = (np.sort(v) for v in zip(*(canvas.painted.grounds[0].place(p.x(), p.y()) for p in box), strict=True))
    each = presenter.made.drawn.series[0]
    inside = (each.x >= x[0]) & (each.x <= x[1]) & (each.y >= y[0]) & (each.y <= y[1])
    assert set(presenter.rows.tolist()) == set(each.at[inside].tolist())
    drag(canvas, *across(canvas, 0.2, 0.5, (0.3, 0.9)), Qt.KeyboardModifier.AltModifier)
    settle(window, 0.25)
    presenter.filter_picked(True)
    assert presenter.rows is None or "drag over it instead" in window.status.message.text()
    QTest.keyClick(canvas, Qt.Key.Key_Escape)
    settle(window)


def test_every_mark_can_be_reached_picked_and_told_by_keys(charted):
    window = charted
    canvas = shown(window, replace(LINE, kind=ChartKind.BARS))
    canvas.setFocus()
    seen = set()
    for _ in range(4):
        QTest.keyClick(canvas, Qt.Key.Key_Right)
        seen.add(canvas.current)
        assert "level_m mean: " in canvas.accessibleDescription()
    QTest.keyClick(canvas, Qt.Key.Key_Down)
    assert canvas.current.series != 0 or len(canvas.painted.drawn.series) == 1
    assert len(seen) > 2
    QTest.keyClick(canvas, Qt.Key.Key_Return)
    settle(window, 0.2)
    presenter = window.charting.presenter
    each = presenter.made.drawn.series[canvas.current.series]
    assert presenter.rows.tolist() == each.rows_of(np.array([canvas.current.mark])).tolist()
    QTest.keyClick(canvas, Qt.Key.Key_Escape)
    settle(window)
    assert presenter.rows is None
    QTest.keyClick(canvas, Qt.Key.Key_Plus)
    settle(window, 0.2)
    near = canvas.painted.grounds[0].x
    QTest.keyClick(canvas, Qt.Key.Key_Right, Qt.KeyboardModifier.ControlModifier)
    settle(window, 0.2)
    moved = canvas.painted.grounds[0].x
    assert (moved[0] - near[0]) / (near[1] - near[0]) == pytest.approx(0.2, abs=0.02)
    assert moved[1] - moved[0] == pytest.approx(near[1] - near[0])
    QTest.keyClick(canvas, Qt.Key.Key_Home)
    settle(window, 0.2)
    assert canvas.painted.grounds[0].x[1] - canvas.painted.grounds[0].x[0] > moved[1] - moved[0]


def test_the_wheel_looks_closer_where_it_points_and_tips_name_exact_values(charted):
    window = charted
    canvas = shown(window, POINTS)
    ground = canvas.painted.grounds[0]
    at = QPointF(ground.left + ground.width * 0.7, ground.top + ground.height * 0.3)
    held = ground.place(at.x(), at.y())
    nothing, wheel = QPoint(), QPoint(0, 120)
    event = QWheelEvent(at, canvas.mapToGlobal(at), nothing, wheel, Qt.MouseButton.NoButton,
                        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
    QApplication.sendEvent(canvas, event)
    settle(window, 0.25)
    after = canvas.painted.grounds[0]
    assert after.place(at.x(), at.y()) == pytest.approx(held, rel=0.02)
    assert after.x[1] - after.x[0] == pytest.approx(0.8 * (ground.x[1] - ground.x[0]))
    presenter, drawn = window.charting.presenter, canvas.painted.drawn
    drag(canvas, *across(canvas, 0.4, 0.6, (0.1, 0.9)))
    settle(window, 0.2)
    picked = presenter.rows
    QTest.keyClick(canvas, Qt.Key.Key_Plus)
    settle(window, 0.25)
    assert canvas.painted.drawn is drawn  # looking closer draws nothing anew, and lets go of nothing
    assert picked is not None
    assert presenter.rows is picked
    QTest.mouseDClick(canvas, Qt.MouseButton.LeftButton, pos=at.toPoint())
    settle(window, 0.25)
    assert canvas.painted.grounds[0].x == pytest.approx(ground.x)
    each = canvas.painted.drawn.series[0]
    pixel = canvas._pixel(Hit(0, 5))
    QApplication.sendEvent(
        canvas, QHelpEvent(QEvent.Type.ToolTip, pixel.toPoint(), canvas.mapToGlobal(pixel.toPoint()))
    )
    assert "level_m: " in QToolTip.text()
    assert canvas.told(Hit(0, 5)) == "\n".join(f"{name}: {value}" for name, value in each.values(5))
    QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=pixel.toPoint())
    settle(window, 0.2)
    assert len(window.charting.presenter.rows) >= 1


def test_columns_are_dropped_on_the_axes_and_charted_from_their_menu(charted):
    window = charted
    canvas = shown(window, POINTS)
    presenter = window.charting.presenter
    for at, side in ((QPointF(canvas.width() / 2, canvas.height() - 10), "along"), (QPointF(10, 200), "up"),
                     (QPointF(canvas.width() / 2, 200), "by")):  # fmt: skip
        data = QMimeData()
        data.setData(COLUMN_DRAG, b"station_id" if side != "by" else b"quality")
        enter = QDragEnterEvent(at.toPoint(), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                                Qt.KeyboardModifier.NoModifier)  # fmt: skip
        canvas.dragEnterEvent(enter)
        assert enter.isAccepted()
        canvas.dropEvent(QDropEvent(at, Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                                    Qt.KeyboardModifier.NoModifier))  # fmt: skip
        settle(window)
        chart = presenter.chart
        found = {"along": chart.along.column, "up": chart.up[0].column, "by": chart.by.column}[side]
        assert found == ("quality" if side == "by" else "station_id")
    window.rows_views.choose(TABLE)
    menu = QMenu()
    window.column_actions._fill_column(menu, [c.name for c in window.grid.model.columns].index("level_m"), True)
    next(a for a in menu.actions() if a.text() == "Chart level_m").trigger()
    settle(window, 0.25)
    assert window.pull.rows_as == BOTH
    assert presenter.chart.up == (Up("level_m"),)
    assert len(window.pull.pull.charts) == 2


def test_several_charts_are_tabs_kept_with_the_pull(charted, tmp_path, monkeypatch):
    window = charted
    shown(window, LINE)
    presenter = window.charting.presenter
    presenter.view.add()
    settle(window)
    assert presenter.chart is None
    assert presenter.view.pages.currentIndex() == 1
    presenter.add(POINTS)
    settle(window, 0.2)
    menu = QMenu()
    presenter.fill_tab_menu(menu, 1)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("Flow", True))
    next(a for a in menu.actions() if a.text() == "Name…").trigger()
    settle(window)
    assert "Flow" in [b.text() for b in presenter.view.findChildren(QPushButton)]
    window.save_pull(tmp_path / "kept.pull")
    text = (tmp_path / "kept.pull").read_text()
    assert pull_from_text(text).charts == (LINE, replace(POINTS, name="Flow"))
    assert not window.pull.is_dirty
    presenter.choose(0)
    settle(window, 0.2)
    assert presenter.made.chart == LINE
    presenter.remove(0)
    settle(window)
    assert [chart.name for chart in window.pull.pull.charts] == ["Flow"]
    assert pull_from_text(pull_to_text(window.pull.pull)).charts == window.pull.pull.charts
    assert window.pull.is_dirty


def test_pictures_and_values_leave_whole(charted, tmp_path):
    window = charted
    shown(window, replace(LINE, title="Levels"))
    window.commands.run("copy_chart")
    settle(window)
    assert not QApplication.clipboard().image().isNull()
    window.charting.pictures.copy("values")
    settle(window)
    lines = QApplication.clipboard().text().split("\n")
    assert lines[0].split("\t") == ["quality", "taken_at by month", "level_m mean"]
    assert len(lines) == window.charting.presenter.made.drawn.marks + 1
    window.charting.pictures.copy("svg")
    settle(window)
    assert b"<svg" in bytes(QApplication.clipboard().mimeData().data("image/svg+xml").data())
    for form in ("png", "svg", "pdf"):
        window.charting.pictures.write(tmp_path / "o", form, 2.0)
        settle(window)
        assert (tmp_path / f"o.{form}").stat().st_size > 1000
    etree.parse(tmp_path / "o.svg")
    window.charting.pictures.write(tmp_path / "o", "csv")
    settle(window)
    assert [line.split(",")[0] for line in (tmp_path / "o.csv").read_text().splitlines()] == [
        line.split("\t")[0] for line in lines
    ]
    window.charting.pictures.write(tmp_path / "o.png" / "no", "png")
    settle(window)
    assert "can't be written" in window.status.message.text()


def test_what_can_not_be_drawn_is_said_and_nothing_else_is_lost(charted):
    window = charted
    presenter = window.charting.presenter
    presenter.add(Chart(ChartKind.LINE, along=K("gone"), up=(Up("level_m"),)))
    window.charting.open()
    settle(window, 0.2)
    assert "There is no column gone here." in presenter.canvas.words
    assert "no column gone" in window.drawer_of("chart").problem.text()
    assert not window.drawer_of("chart").send.isEnabled()
    presenter.put(LINE, "again")
    settle(window, 0.2)
    assert presenter.canvas.painted is not None
    window.add_step(GroupStep((K("quality"),), (Up("level_m", "mean").figure_of,)))
    settle(window, 0.2)
    assert "There is no column taken_at here." in presenter.canvas.words
    presenter.put(Chart(ChartKind.BARS, along=K("quality"), up=(Up("level_m mean"),)), "of groups")
    settle(window, 0.2)
    drag(presenter.canvas, *across(presenter.canvas, 0.1, 0.9))
    settle(window, 0.2)
    assert len(presenter.rows) == presenter.made.drawn.marks
    window.pull.shaping.change(replace(window.pull.pull, query=Query("select 1 as n where 0")), "none")
    window.pull.runs.run()
    settle(window, 0.2)
    assert presenter.canvas.painted is None or not presenter.made.drawn.marks


def test_a_chart_follows_the_theme_and_the_colours_are_those_of_the_window():
    for name, own in (("light", tokens.LIGHT), ("dark", tokens.DARK)):
        look = LOOKS[name]
        assert (look.surface, look.ink, look.muted, look.line, look.grid, look.warn) == tuple(
            own[token] for token in ("surface", "ink", "muted", "line", "grid_line", "plum")
        )


@pytest.mark.parametrize("kind", ChartKind)
def test_any_kind_becomes_any_other_and_draws(charted, kind):
    shaped, fields = charted.pull.shaped, charted.pull.table.fields
    starts = (LINE, POINTS, Chart(ChartKind.HISTOGRAM, along=K("level_m")),
              Chart(ChartKind.BARS, along=K("quality"), up=(Up("", Agg.COUNT.value),)),
              Chart(ChartKind.BOX, along=K("quality"), up=(Up("level_m"),)))  # fmt: skip
    for start in starts:
        made = as_kind(start, kind, fields)
        assert made.kind is kind
        assert draw(shaped, made).marks
