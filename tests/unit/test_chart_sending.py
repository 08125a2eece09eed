"""Charts leave: within pages and workbooks, read back by other libraries; and from the command line."""

from __future__ import annotations

import base64
import datetime as dt
import io
import json
import re
from dataclasses import replace

import openpyxl
import pytest
from lxml import etree
from PIL import Image

from nimble_otter.cli import main
from nimble_otter.pull import Pull, Query, SendPlan, save_pull
from nimble_otter.pull.charts import Chart, ChartKind, Up
from nimble_otter.pull.charts.attach import wants_charts, with_charts
from nimble_otter.pull.deliver import rows_to_send
from nimble_otter.pull.shaped import all_rows
from nimble_otter.pull.steps import GroupStep, SortBy, SortStep
from nimble_otter.pull.steps.group import KeyBy
from nimble_otter.send import format_for, send_to_file
from nimble_otter.sources import Source
from nimble_otter.stop import NEVER
from nimble_otter.table.core.build import table_of

K = KeyBy
DAYS = [dt.date(2031, 5, 1) + dt.timedelta(days=n) for n in range(40)]
SHAPED = all_rows(
    table_of(day=DAYS, river=["Sallow", "Mer'row"] * 20, level=[None if n == 7 else n / 4 for n in range(40)],
             flow=[float(40 - n) for n in range(40)])
)  # fmt: skip
LINE = Chart(ChartKind.LINE, along=K("day"), up=(Up("level"), Up("flow")), title="Levels <&>")
NATIVE = {
    "line": (LINE, "ScatterChart"),
    "bars": (Chart(ChartKind.BARS, along=K("river"), up=(Up("flow"),), order="rows", sideways=True), "BarChart"),
    "scatter": (Chart(ChartKind.SCATTER, along=K("level"), up=(Up("flow"),)), "ScatterChart"),
    "area": (Chart(ChartKind.AREA, along=K("river"), up=(Up("flow"),)), "AreaChart"),
    "words": (Chart(ChartKind.LINE, along=K("river"), up=(Up("flow"),)), "LineChart"),
}
PICTURES = [
    replace(LINE, by=K("river")), replace(LINE, y_scale="log 1 to 50"), replace(LINE, lines="3 flood"),
    Chart(ChartKind.BARS, along=K("river"), up=(Up("flow", "mean"),)), Chart(ChartKind.HISTOGRAM, along=K("flow")),
    replace(LINE, panels=K("river")), replace(LINE, up=(Up("level"), Up("flow", second=True))),
]  # fmt: skip


def sent(tmp_path, suffix, drawn, shaped=SHAPED, **options):
    pull = Pull("p", Source("s", "sqlite:////q"), Query("select 1"), charts=tuple(drawn))
    rows = with_charts(rows_to_send(shaped, "p"), pull, shaped, SendPlan(suffix, options=options))
    path = tmp_path / f"o.{suffix}"
    return send_to_file(rows, format_for(suffix), path, options), path


@pytest.mark.parametrize("kind", NATIVE)
@pytest.mark.parametrize("options", [{}, {"header": False}, {"sheet": "Lev'els 1", "first": "C4"}])
def test_a_workbook_holds_charts_over_the_cells_that_were_delivered(tmp_path, kind, options):
    chart, name = NATIVE[kind]
    done, path = sent(tmp_path, "xlsx", [chart], **options)
    assert done.notes == ()
    book = openpyxl.load_workbook(path)
    (made,) = book["Charts"]._charts
    assert type(made).__name__ == name
    own = [field.name for field in SHAPED.table.fields]
    assert len(made.series) == len(chart.up)
    for series, up in zip(made.series, chart.up, strict=True):
        values = series.yVal if name == "ScatterChart" else series.val
        across = series.xVal if name == "ScatterChart" else series.cat
        for source, column in ((values, up.column), (across, chart.along.column)):
            sheet, cells = (source.numRef or source.strRef).f.rsplit("!", 1)
            assert sheet == "'" + options.get("sheet", "Rows").replace("'", "''") + "'"
            found = [cell.value for (cell,) in book[options.get("sheet", "Rows")][cells.replace("$", "")]]
            found = [value.date() if isinstance(value, dt.datetime) else value for value in found]
            assert found == SHAPED.table.columns[own.index(column)].values()
        if options.get("header") is False:
            assert series.tx.v == up.column
        else:
            assert (
                book[options.get("sheet", "Rows")][series.tx.strRef.f.rsplit("!", 1)[1].replace("$", "")].value
                == up.column
            )


@pytest.mark.parametrize("chart", PICTURES, ids=lambda chart: chart.words())
def test_what_cells_can_not_show_is_a_picture(tmp_path, chart):
    done, path = sent(tmp_path, "xlsx", [chart, LINE])
    assert done.notes == ()
    sheet = openpyxl.load_workbook(path)["Charts"]
    assert (len(sheet._charts), len(sheet._images)) == (1, 1)
    assert Image.open(io.BytesIO(sheet._images[0]._data())).size == (1920, 1080)


def test_rows_out_of_order_or_without_the_column_are_pictures_and_groups_are_cells(tmp_path):
    back = SortStep((SortBy("day", True),)).apply(SHAPED, NEVER)
    assert len(openpyxl.load_workbook(sent(tmp_path, "xlsx", [LINE], back)[1])["Charts"]._images) == 1
    hidden = replace(SHAPED, columns=(0, 1, 3))
    assert len(openpyxl.load_workbook(sent(tmp_path, "xlsx", [LINE], hidden)[1])["Charts"]._images) == 1
    grouped = GroupStep((K("river"),), (Up("flow", "mean").figure_of,)).apply(SHAPED, NEVER)
    bars = Chart(ChartKind.BARS, along=K("river"), up=(Up("flow mean"),))
    (made,) = openpyxl.load_workbook(sent(tmp_path, "xlsx", [bars], grouped)[1])["Charts"]._charts
    assert made.series[0].val.numRef.f == "'Rows'!$B$2:$B$3"


@pytest.mark.parametrize("suffix", ["html", "xlsx"])
def test_a_chart_that_does_not_fit_is_left_out_and_told(tmp_path, suffix):
    done, path = sent(tmp_path, suffix, [replace(LINE, up=(Up("gone"),)), LINE])
    assert ["left out: There is no column gone" in note for note in done.notes] == [True]
    assert done.rows == 40
    plain, path = sent(tmp_path, suffix, [LINE], charts=False)
    assert plain.notes == ()
    if suffix == "xlsx":
        assert openpyxl.load_workbook(path).sheetnames == ["Rows"]
        pull = Pull("p", Source("s", "x:"), charts=(LINE,))
        rows = with_charts(rows_to_send(SHAPED, "p"), pull, SHAPED, SendPlan("xlsx"))
        more = send_to_file(rows, format_for("xlsx"), path, exists="append")
        assert more.notes == ("the pull's charts go into new files only",)
    else:
        assert b'class="chart"' not in path.read_bytes()


def test_a_page_shows_its_charts_and_needs_nothing_from_elsewhere(tmp_path):
    _, path = sent(tmp_path, "html", [LINE, PICTURES[3]])
    page = path.read_text()
    pictures = re.findall(r'<div class="chart"><img alt="(.*?)" src="data:image/svg\+xml;base64,(.*?)"></div>', page)
    assert [alt for alt, _ in pictures] == ["Levels &lt;&amp;&gt;", "flow mean by river"]
    for _, data in pictures:
        svg = etree.fromstring(base64.b64decode(data))
        assert not [href for href in svg.xpath("//@*[local-name()='href']") if not href.startswith(("#", "data:"))]
    assert page.count("<tr><td") == 40


def test_which_deliveries_have_charts():
    pull = Pull("p", Source("s", "sqlite:////q"), charts=(LINE,))
    assert wants_charts(pull, SendPlan("html"))
    assert wants_charts(pull, SendPlan("xlsx", options={"charts": "yes"}))
    for plan in (
        SendPlan("csv"),
        SendPlan("xlsx", options={"charts": "no"}),
        SendPlan("clipboard"),
        SendPlan("source"),
    ):
        assert not wants_charts(pull, plan)
    assert not wants_charts(replace(pull, charts=()), SendPlan("html"))


# --- the command line ---------------------------------------------------------------------------------------------


@pytest.fixture
def levels(survey, tmp_path):
    source = Source("s", f"sqlite:///{survey}")
    query = Query(
        "select station_id, taken_at, level_m from reading where reading_id < :most", parameters={"most": 500}
    )
    daily = Chart(ChartKind.LINE, "daily", K("taken_at", "day"), (Up("level_m", "mean"),))
    save_pull(
        Pull("levels", source, query, send=SendPlan("html", str(tmp_path / "page")), charts=(daily,)),
        tmp_path / "l.pull",
    )
    return tmp_path / "l.pull"


def words_of(path):
    svg = etree.fromstring(path.read_bytes())
    return " ".join("".join(node.itertext()) for node in svg.iter("{http://www.w3.org/2000/svg}text"))


def test_a_chart_is_sent_from_the_command_line(levels, tmp_path, capfdbinary):
    out = tmp_path / "o.svg"
    assert main(["chart", str(levels), "--send", str(out)]) == 0
    assert "level_m mean by taken_at by day" in words_of(out)
    made = ["--kind", "bars", "--along", "station_id", "--up", "quantile 0.9(level_m)", "--up", "count second",
            "--title", "Höhen", "--top", "3", "--order", "largest", "--lines", "1 low",
            "--y-scale", "0 to 9"]  # fmt: skip
    assert main(["chart", str(levels), "--send", str(out), *made, "--param", "most=90", "--pixels", "400x300"]) == 0
    assert all(word in words_of(out) for word in ("Höhen", "low", "other", "quantile 0.9"))
    assert main(["chart", str(levels), "--chart", "daily", "--send", "-", "--format", "png", "--scale", "2"]) == 0
    data = capfdbinary.readouterr().out
    assert Image.open(io.BytesIO(data[data.index(b"\x89PNG") :])).size == (1920, 1080)
    assert main(["run", str(levels)]) == 0
    assert 'class="chart"' in (tmp_path / "page.html").read_text()


@pytest.mark.parametrize(
    ("more", "code", "said"),
    [(["--send", "o.gif"], 2, "says no format"), (["--chart", "x", "--send", "o.svg"], 2, "Its charts: daily"),
     (["--send", "o.svg", "--up", "guess(level_m)"], 2, "not an aggregate"),
     (["--send", "o.svg", "--pixels", "big"], 2, "WIDTHxHEIGHT"), (["--send", "o.svg", "--scale", "99"], 2, "0.2 to 8"),
     (["--send", "o.svg", "--along", "gone"], 4, "no column gone"),
     (["--send", "o.svg", "--y-scale", "up"], 4, "not a scale"),
     (["--send", "/nowhere/at/all/o.svg"], 5, "can't be written")],
)  # fmt: skip
def test_what_is_wrong_with_a_chart_is_told_and_nothing_is_left(
    levels, tmp_path, monkeypatch, capsys, more, code, said
):
    monkeypatch.chdir(tmp_path)
    before = set(tmp_path.iterdir())
    if code == 5:
        (tmp_path / "f").write_text("")
        more, before = ["--send", str(tmp_path / "f" / "o.svg")], {*before, tmp_path / "f"}
    assert main(["chart", str(levels), *more]) == code
    assert said in capsys.readouterr().err
    assert set(tmp_path.iterdir()) == before


def test_a_schedule_sends_the_charts_of_that_day(levels, tmp_path, capsys):
    assert main(["schedule", "add", str(levels), "--by", "none", "--name", "page"]) == 0
    assert main(["schedule", "run", "page"]) == 0
    assert main(["history", "--json"]) == 0
    out = capsys.readouterr().out
    assert json.loads(out[out.index("[") :])[0]["rows"] == 499
    assert "data:image/svg+xml" in (tmp_path / "page.html").read_text()
