"""What each drawer shows, for steps, formats and charts of every kind: recorded as the journey is, see `seen.py`."""

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from nimble_otter.changes import Action
from nimble_otter.desktop.pulls.step_ref import CHANGES, CHART, QUERY, SEND, SOURCE, WATCH, step_at
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.charts.model import Chart, ChartKind, Up
from nimble_otter.pull.steps import (
    AppendStep,
    CheckLine,
    CheckStep,
    ColumnsStep,
    CompareStep,
    Computed,
    ComputeStep,
    Condition,
    DistinctStep,
    FigureOf,
    FilterStep,
    GroupStep,
    JoinStep,
    KeyBy,
    PivotStep,
    Rule,
    SampleStep,
    SortBy,
    SortStep,
    TopStep,
    TransposeStep,
    UnpivotStep,
)
from nimble_otter.table.ops.combine import How
from nimble_otter.table.ops.measures import AggregateFunction as Agg
from nimble_otter.table.text.column_format import ColumnFormat

TEXT = "select reading_id, station_id, taken_at, level_m, quality, note from reading order by 1 limit 300"
OTHER = "select station_id, name, river, opened, active from station"
STEPS = [
    FilterStep((Condition("more than", "level_m", (1.0,)), Condition("is one of", "quality", ("good", "void")),
                Condition("contains", "note", ("x",)), Condition("is empty", "note", on=False),
                Condition("sql", text="level_m > 0.5 or note is null"))),
    SortStep((SortBy("level_m", True), SortBy("taken_at"))),
    GroupStep((KeyBy("taken_at", "month"), KeyBy("quality")),
              (FigureOf(Agg.COUNT), FigureOf(Agg.MEAN, "level_m"), FigureOf(Agg.QUANTILE, "level_m", 0.9))),
    PivotStep((KeyBy("station_id"),), KeyBy("quality"), FigureOf(Agg.MAX, "level_m"), True),
    UnpivotStep(("level_m", "quality"), "what", "of it"), TransposeStep("reading_id"), DistinctStep(("station_id",)),
    SampleStep(20), TopStep(2, (SortBy("level_m", True),), ("station_id",)),
    ComputeStep((Computed("cm", "level_m * 100"), Computed("place", "rank() over (order by level_m)"),
                 Computed("wrong", "levl * 2"))),
    *(JoinStep("Other", (("station_id", "station_id"),), how) for how in (How.LEFT, How.ANTI)), AppendStep("Other"),
    CompareStep("Other", ("station_id",)), CompareStep("Other", ("station_id",), with_same=True),
    ColumnsStep(("level_m",), ("note",), pinned=("reading_id",), looks=(
        ("level_m", ColumnFormat("Level", 3, style="scientific", align="left", paint="bars")),
        ("taken_at", ColumnFormat(pattern="yyyy-MM-dd")))),
    CheckStep(tuple(CheckLine(*each) for each in (
        (Rule.FILLED, ("level_m",), ("2 %",)), (Rule.UNIQUE, ("reading_id",)),
        (Rule.AMONG, ("quality",), ("good", "x")),
        (Rule.ELSEWHERE, ("station_id",), (), "", "Other", "station_id"), (Rule.RANGE, ("level_m",), (0, 3)),
        (Rule.PATTERN, ("quality",), ("[a-z]+",)), (Rule.TYPE, ("taken_at",), ("time",)), (Rule.NO_DUPLICATES,),
        (Rule.ROWS, (), (1, 500)), (Rule.SINCE_LAST, (), (50,)), (Rule.AGGREGATE, ("level_m",), (0, 9), "sum"),
        (Rule.NEWEST, ("taken_at",), ("2 days",)), (Rule.COLUMNS,), (Rule.SQL, (), (), "", "", "", "", "level_m > 0"),
    ))),
]  # fmt: skip
PIECES = (
    "select s.name, count(*) as n from station s join reading r on r.station_id = s.station_id "
    "where r.level_m > 1 and (s.river = 'Merrow' or s.active = 1) group by s.name having count(*) > 3 "
    "order by n limit 9",
    "select * from river r left join station s on s.river = r.name and s.name <> r.name",
    "select v.visit_id from visit v join volunteer w on w.volunteer_id = v.volunteer_id join station s "
    "on s.station_id = v.station_id join river r on r.name = s.river",
)


def take_drawers(window, seen, settle):
    """Open each of them on rows of the demo."""
    source = window.hub.sources[0]
    window.add_pull(Pull("Other", source, Query(OTHER)))
    settle()
    for at, step in enumerate(STEPS):
        window.add_pull(Pull(f"p{at}", source, Query(TEXT), (step,)))
        settle()
        window.open_drawer(step_at(0))
        settle()
        seen.take(f"{step.kind} {at}", window)
    window.add_pull(Pull("rows", source, Query(TEXT)))
    settle()
    for ref in (SOURCE, CHANGES, SEND, WATCH):
        window.open_drawer(ref)
        settle()
        seen.take(ref.place.value, window)
    window.open_drawer(SEND)
    for at in range(window.send_drawer.formats.count()):
        window.send_drawer.formats.setCurrentRow(at)
        settle()
        seen.take(f"send {at}", window)
    for kind in ChartKind:
        chart = Chart(kind, "", KeyBy("taken_at"), (Up("level_m", "mean"),), KeyBy("quality"), title="T", lines="1")
        window.add_pull(Pull(f"chart {kind}", source, Query(TEXT), charts=(chart,)))
        settle()
        window.open_drawer(CHART)
        settle()
        seen.take(f"chart {kind}", window)
    for at, text in enumerate(PIECES):
        window.add_pull(Pull(f"pieces {at}", source, Query(text)))
        settle()
        window.open_drawer(QUERY)
        window.query_drawer.show_pieces()
        for height in (800, 640):
            window.resize(1280, height)
            settle()
            seen.take(f"pieces {at} {height}", window)
    window.resize(1280, 800)
    window.add_pull(Pull("groups", source, Query(TEXT), (GroupStep((KeyBy("quality"), KeyBy("station_id"))),)))
    settle()
    seen.take("groups", window)
    QTest.keyClick(window.grid, Qt.Key.Key_End, Qt.KeyboardModifier.ControlModifier)
    settle()
    seen.take("the last group", window)


def take_pages(window, seen, settle):
    """Open each page, a source's form for every kind, and a table with changes of every kind."""
    pages, source = window.pages, window.hub.sources[0]
    window.open_table(source, next(t for t in window.hub.tables[source.name] if t.name == "lab_sample"))
    settle()
    for at in range(3):
        window.detail.turn(at)
        settle()
        seen.take(f"detail {at}", window)
    changes = window.pull.changes
    changes.edit(Action("Edit", cells=((0, 3, 5), (1, 3, None), (2, 4, 1.25))))
    changes.edit(Action("Edit", cells=((3, 1, 999_999),)))
    changes.edit(Action("Delete", delete=(5, 6)))
    changes.edit(Action("New", add=((window.pull.edits.new_ids(1)[0], -1),)))
    window.open_drawer(CHANGES)
    settle()
    seen.take("pending", window)
    window.changes_drawer.rehearse.click()
    settle()
    seen.take("rehearsed", window)
    for open_page in (pages.settings, pages.help, pages.history, pages.versions, pages.deliveries, pages.team,
                      pages.repeat, pages.search):  # fmt: skip
        open_page()
        settle()
        seen.take(open_page.__name__, window)
    pages.add_source(True)
    settle()
    kinds = window.source_page.kind
    for at in range(kinds.count()):
        kinds.setCurrentIndex(at)
        kinds.activated.emit(at)
        settle()
        seen.take(f"source {kinds.itemText(at)}", window)
    pages.edit_source(source)
    settle()
    seen.take("source", window)
