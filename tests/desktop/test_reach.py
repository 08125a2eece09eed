"""Getting oriented in the real window: glance, find a value, follow, plan; servers that hang or go away."""

import json
import time
from contextlib import closing
from dataclasses import replace

import pytest
from PySide6.QtCore import QEvent, QMimeData, QPointF, Qt
from PySide6.QtGui import QImage, QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QPushButton

from nimble_otter.changes import Action
from nimble_otter.cli import main
from nimble_otter.cli.delivery import saved_sources
from nimble_otter.desktop.kit.confirm_dialogs import CareQuestion
from nimble_otter.desktop.kit.mime_types import NAME_DRAG
from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.pulls.step_ref import QUERY
from nimble_otter.desktop.runtime import jobs as jobs_module
from nimble_otter.desktop.shell.frame import SEARCH, WORK
from nimble_otter.desktop.steps.course import stops_of
from nimble_otter.errors import ChangeError
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.file import save_pull
from nimble_otter.pull.model import SendPlan
from nimble_otter.sources import Request, Source, TableInfo, connect, fetch
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.saved import load_sources
from nimble_otter.sources.team import share, team_sources, withdraw
from nimble_otter.sources.waits import WAITS
from tests.desktop.conftest import settle, when_shown
from tests.files import sqlite_file
from tests.servers.lines import Line


def item_of(window, name):
    window.sources.reveal("Merrow survey", name)
    return window.sources.tree.currentItem()


@pytest.fixture
def served(window, postgres):
    """The window with a PostgreSQL source behind a line that the test can disturb."""
    line = Line(postgres.port)
    url = postgres.url.replace(str(postgres.port), str(line.port))
    source = window.hub.add(Source("HQ", url, "production"))
    settle(window)
    yield window, source, line
    line.close()


# --- the catalogue -----------------------------------------------------------------------------------------------


def test_a_click_opens_a_source_or_a_table_and_the_next_closes_it(window):
    tree = window.sources.tree
    window.sources.reveal("Merrow survey", "reading")
    for item in (tree.currentItem(), tree.currentItem().parent()):
        before = item.isExpanded()
        for expanded in (not before, before):
            place = tree.visualItemRect(item).center()
            QTest.mouseClick(tree.viewport(), Qt.MouseButton.LeftButton, pos=place)
            assert item.isExpanded() is expanded, item.text(0)
            QTest.qWait(QApplication.doubleClickInterval() + 20)  # two clicks, not a double click


def test_space_glances_at_a_table_and_enter_opens_it(window):
    item_of(window, "gauge")
    window.sources.tree.setFocus()
    QTest.keyClick(window.sources.tree, Qt.Key.Key_Space)
    settle(window)
    glance = window.glance
    assert glance.isVisible()
    assert glance.grid.model.rows == 6
    glance.pages.choose(2)
    glance._turn(2)
    assert "create table gauge" in glance.text.toPlainText().lower()
    assert "key 1" in glance.columns.toPlainText()
    assert "→ station.station_id" in glance.columns.toPlainText()
    QTest.keyClick(glance, Qt.Key.Key_Space)
    assert not glance.isVisible()
    pulls = len(window.pulls)
    QTest.keyClick(window.sources.tree, Qt.Key.Key_Space)
    QTest.keyClick(glance, Qt.Key.Key_Return)
    settle(window)
    assert (len(window.pulls), window.pull.pull.name) == (pulls + 1, "gauge")


def test_the_mouse_glances_with_alt_held(window):
    item = item_of(window, "river")
    at = QPointF(window.sources.tree.visualItemRect(item).center())
    for held, shown in ((Qt.KeyboardModifier.NoModifier, False), (Qt.KeyboardModifier.AltModifier, True)):
        none = Qt.MouseButton.NoButton
        QApplication.sendEvent(
            window.sources.tree.viewport(), QMouseEvent(QEvent.Type.MouseMove, at, at, none, none, held)
        )
        settle(window)
        assert window.glance.isVisible() == shown
    assert window.glance.title.text() == "river"


def test_a_glance_tells_how_many_rows_have_pictures(window):
    item_of(window, "visit_photo")
    window.sources.glance(window.sources.tree.currentItem())
    settle(window)
    held = window.hub.connect_new(window.hub.sources[0])
    count = fetch(held, Request("select count(picture) from visit_photo")).table.columns[0].value(0)
    held.close()
    assert f"picture in {count} rows" in window.glance.words.text()


def test_a_result_tells_its_text_parameters_source_and_time(window):
    query = Query("select * from station where station_id = :s", parameters={"s": 3})
    window.add_pull(Pull("p", window.hub.sources[0], query))
    settle(window)
    told = window.status.fetched.toolTip()
    for part in ("Merrow survey", "1 rows", ":s = 3", "select * from station"):
        assert part in told


def test_connections_that_nobody_uses_are_given_back_as_the_settings_say(window, monkeypatch):
    source, asked = window.hub.sources[0], []
    monkeypatch.setattr(window.hub._connections[source.url], "rest", asked.append)
    window.hub.rest()
    settle(window)
    monkeypatch.setattr(WAITS, "idle_s", 0)  # never
    window.hub.rest()
    settle(window)
    assert asked == [600]
    assert window.hub._rests.isActive()


def test_a_glance_at_what_is_gone_says_so(window):
    window.glance.show_table(window.hub.sources[0], TableInfo("nowhere", "table"))
    settle(window)
    assert "nowhere" in window.glance.note.text()
    QTest.keyClick(window.glance, Qt.Key.Key_Escape)
    assert not window.glance.isVisible()


def test_typing_filters_the_catalogue_and_escape_brings_all_back(window):
    top = item_of(window, "reading").parent()
    whole = top.childCount()
    window.sources.tree.setFocus()
    QTest.keyClick(window.sources.tree, Qt.Key.Key_L)
    QTest.keyClicks(window.sources.filter, "evel")
    assert window.sources.filter.text() == "level"
    assert [top.child(n).text(0) for n in range(top.childCount())] == ["reading", "high_water"]
    QTest.keyClick(window.sources.filter, Qt.Key.Key_Down)
    assert window.sources.tree.currentItem().text(0) == "reading"
    window.sources.filter.setFocus()
    QTest.keyClick(window.sources.filter, Qt.Key.Key_Escape)
    assert top.childCount() == whole


def test_five_thousand_tables_are_filtered_and_found_as_one_types(window):
    columns = tuple(ColumnInfo(f"column_{n}") for n in range(4))
    source = window.hub.sources[0]
    window.hub.tables[source.name] = [TableInfo(f"table_{n:04}", "table", columns, n) for n in range(5000)]
    began = time.perf_counter()
    window.hub.changed.emit(source.name)
    top = window.sources._tops()[0]
    assert top.childCount() == 401
    assert "4\u2009600 more" in top.child(400).text(0)
    window.sources.filter.setText("table_4321")
    assert top.childCount() == 1
    window.find_box.open()
    QTest.keyClicks(window.title.box, "table_4322")
    assert window.find_box.list.item(0).text() == "table_4322"
    assert time.perf_counter() - began < 20


def test_a_name_is_dropped_on_the_query_quoted(window):
    made = QMimeData()
    made.setData(NAME_DRAG, b"order")
    editor = window.query_drawer.editor
    assert editor.canInsertFromMimeData(made)
    editor.insertFromMimeData(made)
    assert '"order"' in editor.toPlainText()


def test_a_column_is_one_key_away_from_its_place_in_the_catalogue(window):
    window.grid.setFocus()
    window.grid.go(0, 2)
    name = window.grid.model.columns[2].name
    window.commands.run("origin")
    item = window.sources.tree.currentItem()
    assert (item.text(0), item.parent().text(0)) == (name, "lab_sample")


# --- following and searching -------------------------------------------------------------------------------------


def test_a_row_is_followed_and_one_comes_back(window):
    window.detail.turn(1)
    window.grid.go(4, 0)
    settle(window, 0.5)
    links = window.follower.links
    assert {link.table for link in links} >= {"assay"}
    place = next(n for n, link in enumerate(links) if link.table == "assay")
    assert wait_until(lambda: "row" in window.detail.record._counts[place].text(), 10)
    count = window.detail.record._counts[place].text()
    before = window.pull
    window.follower.go(place)
    settle(window)
    assert window.pull is not before
    assert window.pull.pull.came_from.startswith("followed from a row of lab_sample")
    assert str(window.pull.table.rows) == count.split()[0]
    assert stops_of(window.pull)[0].under.startswith("followed from")
    window.commands.run("go_back")
    assert window.pull is before


@pytest.mark.by_hand
def test_a_count_that_comes_late_finds_another_record_and_leaves_it_alone(window):
    window.detail.turn(1)
    window.grid.go(4, 0)
    record = window.detail.record
    assert record._counts
    record.fill(record._fields.fields[:2], record._fields.values[:2], 0, 1)
    record.show_count(0, "3 rows")
    assert record._counts == []


def test_a_value_is_found_and_its_rows_are_opened(window):
    window.commands.run("find_value")
    page = window.search_page
    assert window.centre.currentIndex() == SEARCH
    QTest.keyClicks(page.text, "otterholt")
    QTest.keyClick(page.text, Qt.Key.Key_Return)
    settle(window)
    assert [page.hits.topLevelItem(n).text(0) for n in range(page.hits.topLevelItemCount())] == ["station"]
    assert "1 column" in page.outcome.text()
    page._open()
    settle(window)
    assert window.centre.currentIndex() == WORK
    assert window.pull.table.rows == 1
    source, found = window.hub.sources[0], {}
    for name in ("", "river"):
        window.pages.search(source, next((t for t in window.hub.tables[source.name] if t.name == name), None))
        assert page.table.currentData() == name
        page.text.setText("merrow")
        page.search()
        settle(window)
        found[name] = {page.hits.topLevelItem(n).text(0) for n in range(page.hits.topLevelItemCount())}
    assert found["river"] == {"river"} < found[""]
    window.pages.search(source, None)
    page.regex.setChecked(True)
    page.text.setText("(")
    page.search()
    settle(window)
    assert "regular expression" in page.outcome.text()
    page.closed.emit()


def test_the_plan_of_a_query_is_a_tree_and_goes_away_again(window):
    drawer = window.query_drawer
    window.open_drawer(QUERY)
    drawer.plan_button.click()
    settle(window)
    assert "lab_sample" in drawer.plan.topLevelItem(0).child(0).text(0)
    drawer.plan_button.click()
    assert drawer.side._sides.currentIndex() == 0


def test_what_a_query_cost_is_kept_for_the_next_time(make_window):
    window = make_window(demo=False)
    pull = Pull("cost", window.hub.sources[0], Query("select * from station"))
    for _ in range(2):
        window.add_pull(pull)
        settle(window)
    settle(window)
    costs = window.hub.costs.of(pull.source.url, pull.query.text)
    assert [c.rows for c in costs] == [42, 42]
    again = make_window(demo=False)
    assert len(again.hub.costs.of(pull.source.url, pull.query.text)) >= 2


# --- servers -----------------------------------------------------------------------------------------------------


def test_a_server_is_saved_with_its_marks_and_opened(served):
    window, source, _ = served
    assert window.hub.errors == {}
    tables = {t.name: t for t in window.hub.tables["HQ"]}
    assert tables["reading"].is_estimate
    window.hub.count_exactly(source, "reading")
    settle(window)
    counted = next(t for t in window.hub.tables["HQ"] if t.name == "reading")
    assert (counted.rows, counted.is_estimate) == (4200, False)
    window.pages.edit_source(source)
    page = window.source_page
    assert (page.stage.currentData(), page.name.text(), page.kind.currentData()) == ("production", "HQ", "postgresql")
    page.name.setText("Head office")
    page.read_only.setChecked(True)
    page.save.click()
    settle(window)
    assert window.hub.find("HQ") is None
    assert window.hub.find("Head office").read_only


def test_the_form_of_a_source_follows_its_kind(window):
    window.pages.add_source(server=True)
    page = window.source_page

    def choose(kind):
        page.kind.setCurrentIndex(page.kind.findData(kind))
        page.kind.activated.emit(page.kind.currentIndex())

    page.host.setText("h")
    page.user.setText("ann")
    page.host.textEdited.emit("h")
    choose("mariadb")
    assert page.url.text() == "mariadb://ann@h/"
    choose("sqlite")
    assert (page.url.text(), page.host.text(), page.user.text()) == ("", "", "")
    page.file.setText("/d/x.sqlite")
    page.file.textEdited.emit("/d/x.sqlite")
    assert page.url.text() == "sqlite:////d/x.sqlite"
    choose("mongodb")
    assert (page.url.text(), page.database.text(), page.port.placeholderText()) == ("", "", "27017")
    choose("sqlserver")  # whose client can't check a certificate
    assert [page.tls.itemData(n) for n in range(page.tls.count())] == ["", "required"]
    choose("oracle")
    page.host.setText("h")
    page.tls.setCurrentIndex(page.tls.findData("verified"))
    page.tls.activated.emit(page.tls.currentIndex())
    assert page.url.text() == "oracle://h/?tls=verified"


def test_a_hung_server_answers_a_stop_within_a_second(served, monkeypatch):
    window, source, line = served
    window.add_pull(Pull("p", source, Query("select * from station")))
    settle(window)
    line.hold()
    window.pull.runs.run()
    assert wait_until(lambda: window.pull.is_running, 2)
    began = time.monotonic()
    window.jobs.stop_all()
    assert wait_until(lambda: not window.pull.is_running, 3)
    assert time.monotonic() - began < jobs_module.LISTEN_MS / 1000 + 0.9
    assert window.pull.table.rows == 42  # the rows of before stay
    line.go_on()
    window.pull.runs.run()
    settle(window)
    assert window.pull.error is None


def test_a_hung_document_server_lets_the_lane_go_too(window, reports):
    port = int(reports.url.rsplit(":", 1)[1].split("/")[0])
    line = Line(port)
    source = window.hub.add(Source("far reports", reports.url.replace(str(port), str(line.port))))
    settle(window)
    line.hold()
    window.add_pull(Pull("p", source, Query("select * from notice limit 5")))
    assert wait_until(lambda: window.pull.is_running, 2)
    began = time.monotonic()
    window.jobs.stop_all()
    assert wait_until(lambda: not window.pull.is_running, 3)
    assert time.monotonic() - began < jobs_module.LISTEN_MS / 1000 + 0.9
    line.go_on()
    window.pull.runs.run()
    settle(window)
    assert window.pull.table.rows == 5
    line.close()


def test_a_lost_connection_keeps_rows_and_pending_changes(served):
    window, source, line = served
    window.add_pull(Pull("p", source, Query("select n, repeat('x', 200) as t from generate_series(1, 400000) n")))
    assert wait_until(lambda: window.pull.table is not None and window.pull.table.rows > 0, 20)
    line.cut()
    settle(window)
    assert "connection" in str(window.pull.error).lower()
    assert window.pull.table.rows > 0
    assert "first" in window.pull.notice.text or window.pull.table.rows == 100_000
    window.pull.runs.run()
    settle(window)
    assert window.pull.error is None
    assert window.pull.table.rows == 100_000


# --- bytes -------------------------------------------------------------------------------------------------------


@pytest.mark.by_hand
def test_a_picture_is_shown_with_what_it_says_of_itself(window, tmp_path):
    source = window.hub.sources[0]
    window.open_table(source, next(t for t in window.hub.tables[source.name] if t.name == "visit_photo"))
    settle(window)
    window.commands.run("detail_0")
    window.grid.go(0, 3)
    view = window.detail.cell.bytes
    assert "PNG picture" in view.kind.text()
    assert not view.picture._pixmap.isNull()
    assert ("size", "48 × 32") in view._content.facts
    view._choose(2)
    assert view.hex.toPlainText().startswith("000000  89 50 4e 47")
    view.save_to(tmp_path / "one.png")
    assert (tmp_path / "one.png").read_bytes().startswith(b"\x89PNG")
    view.save_to(tmp_path / "no folder" / "one.png")
    assert "can't be written" in view.said.text()


def test_json_kept_as_text_is_shown_as_a_tree(window):
    window.add_pull(
        Pull("j", window.hub.sources[0], Query("select '" + json.dumps({"a": [1, {"b": None}]}) + "' as doc"))
    )
    settle(window)
    window.commands.run("detail_0")
    window.grid.go(0, 0)
    tree = window.detail.cell.tree
    assert window.detail.cell._views.currentWidget() is tree
    assert tree.topLevelItem(0).text(0) == "a"
    QApplication.processEvents()


# --- marks -------------------------------------------------------------------------------------------------------


def marked(window, base, **marks):
    source = window.hub.add(Source("mine", f"sqlite:///{base('create table t (id integer primary key, a text); insert into t values (1, 0)')}", **marks))  # fmt: skip  # noqa: E501
    settle(window)
    window.open_table(source, window.hub.tables["mine"][0])
    settle(window)
    return source


def press(text):
    for box in QApplication.topLevelWidgets():
        for made in box.findChildren(QPushButton):
            if made.text() == text:
                made.click()


@pytest.mark.parametrize(("answer", "after"), [("Don't write", "0"), ("Write them", "new")])
def test_a_source_marked_take_care_asks_for_its_name(window, base, answer, after):
    def reply(box):
        assert not box.write.isEnabled()
        box.name.setText(" Mine")
        assert box.write.isEnabled()
        press(answer)

    source = marked(window, base, care=True, stage="production")
    assert "PRODUCTION" in stops_of(window.pull)[0].under
    window.pull.changes.edit(Action("Edit", cells=((0, 1, "new"),)))
    when_shown(CareQuestion, reply)
    window.writes.write(window.pull)
    settle(window)
    with closing(connect(source)) as own, own.transaction() as held:
        assert held.query(("select a from t", ()))[1] == [(after,)]


def test_a_source_marked_read_only_takes_no_changes(window, base):
    source = marked(window, base, read_only=True)
    assert window.pull.target.table is None
    assert "read-only" in window.pull.target.reason
    assert "read-only" in window.status.writes.text()
    connection = connect(source)
    with pytest.raises(ChangeError, match="read-only"), connection.transaction():
        pass
    connection.close()


def test_work_that_is_asked_for_after_the_end_is_not_begun(make_window):
    window = make_window(demo=False)
    window.close()
    done = []
    window.jobs.submit("lane", "late", lambda *_: done.append(1))
    assert not window.jobs.is_busy
    assert done == []


# --- tall rows, pictures, long values ----------------------------------------------------------------------------


def test_tall_rows_show_pictures_and_are_remembered(window, make_window):
    source = window.hub.sources[0]
    window.open_table(source, next(t for t in window.hub.tables[source.name] if t.name == "visit_photo"))
    settle(window)
    assert window.grid.horizontalScrollBar().maximum() == 0  # the bar beside the rows takes no column away
    window.resize(window.width() + 60, window.height())
    settle(window)
    assert sum(window.grid.widths) == window.grid.viewport().width() - 1
    window.grid.go(40, 0)
    top = window.grid.verticalScrollBar().value() // window.grid.row
    for _ in range(2):
        window.commands.run("taller")
    assert window.grid.row == 100
    assert window.grid.verticalScrollBar().value() // 100 == top
    place = window.grid.model.columns.index(next(c for c in window.grid.model.columns if c.name == "picture"))
    window.grid.go(41, place)

    def colours():
        rect = window.grid.cell_rect(41, place)
        image = window.grid.viewport().grab(rect).toImage()
        return {image.pixelColor(x, 50).name() for x in range(4, 60)}

    wanted = QImage.fromData(window.grid.model.value(41, place)).pixelColor(5, 16).name()
    assert wait_until(lambda: wanted in colours(), 10)
    window.commands.run("lower")
    window.close()
    assert make_window(demo=False).grid.row == 50


@pytest.fixture
def essays(window, small_demo):

    with sqlite_file(small_demo) as base:
        base.execute("create table essay (essay_id integer primary key, title text, body text)")
        base.executemany("insert into essay values (?, ?, ?)", [(1, "long", "é" * 70_000), (2, "short", "é")])
    base.close()
    window.add_pull(Pull("essays", window.hub.sources[0], Query("select * from essay order by 1", limit=None)))
    settle(window)
    window.pull.runs.run()
    settle(window)
    assert window.pull.truncated.cells() == {0: [2]}
    assert "1 value is over 64 kB" in window.pull.notice.text
    return window


def test_a_long_value_is_fetched_whole_on_demand(essays):
    window = essays
    window.commands.run("detail_0")
    window.grid.go(0, 2)
    assert window.detail.cell.whole.isVisibleTo(window)
    assert "first 64 kB" in window.detail.cell.note.text()
    window.detail.cell.whole.click()
    settle(window)
    assert window.detail.cell.text.toPlainText().replace("\n", "") == "é" * 70_000  # a line of many in parts
    assert not window.detail.cell.whole.isVisibleTo(window)
    assert not window.pull.truncated.cells()


@pytest.mark.parametrize("way", ["send", "copy", "edit"])
def test_nothing_cut_is_sent_copied_or_edited(essays, tmp_path, way):
    window = essays
    if way == "send":
        window.sending.send(window.pull, SendPlan("csv", str(tmp_path / "out.csv"), {}))
        settle(window)
        assert (tmp_path / "out.csv").read_text("utf-8").count("é") == 70_001
    elif way == "copy":
        window.grid.go(0, 2)
        window.commands.run("copy")
        settle(window)
        assert QApplication.clipboard().text() == "é" * 70_000
    else:
        window.grid.setFocus()
        window.actions_on_grid.begin_edit(0, 2, None)
        settle(window)
        assert window.actions_on_grid._big._whole_text() == "é" * 70_000


def test_a_row_with_a_long_value_is_deleted_by_the_whole_value_seen(essays, small_demo):

    window = essays
    window.pull.changes.edit(Action("Delete", delete=(0,)))
    window.writes.write(window.pull)
    settle(window)
    assert window.pull.table.rows == 1
    with sqlite_file(small_demo) as base:
        assert base.execute("select essay_id from essay").fetchall() == [(2,)]
    base.close()


def test_only_what_is_copied_is_fetched_whole(essays):
    window = essays
    window.grid.go(0, 1)
    window.commands.run("copy")
    settle(window)
    assert QApplication.clipboard().text() == "long"
    assert window.pull.truncated.cells() == {0: [2]}
    window.grid.go(1, 2)
    window.commands.run("copy")
    settle(window)
    assert QApplication.clipboard().text() == "é"
    assert window.pull.truncated.cells() == {0: [2]}


def test_a_source_goes_to_a_colleague_as_a_file(window, tmp_path, monkeypatch, capsys):
    path = tmp_path / "far.source"
    kept = Source(
        "Far", "postgresql://ann@far:5432/levels", "production", True, True, True, password_command="pass far"
    )
    window.hub.add(kept, "s3cret")
    window.pages.edit_source(window.hub.find("Far"))
    page = window.source_page
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    page.export.click()
    assert "without its password" in page.outcome.text()
    assert not any(word in path.read_text() for word in ("s3cret", "pass far", "clear"))
    path.write_text(path.read_text() + 'password_command = "rm -rf x"\nclear_password = true\n')
    window.hub.remove(window.hub.find("Far"))
    window.open_any(path)
    assert (page.name.text(), page.url.text(), page.stage.currentData()) == ("Far", kept.url, "production")
    assert (page.read_only.isChecked(), page.care.isChecked()) == (True, True)
    assert page.command.text() == ""  # it would run here
    assert not page.clear.isChecked()
    assert not page.save.isEnabled()  # it is tested first
    assert window.hub.find("Far") is None
    for text, says in (("broken", "not the file of a source"), ("version = 1", "0 sources"), ("version = 9", "newer")):
        path.write_text(text)
        window.open_any(path)
        assert says in window.status.message.text()
    own = tmp_path / "own.source"
    for words, code in ((["export", "Merrow survey", str(own)], 0), (["export", "None such", str(own)], 3),
                        (["import", str(own), "Mine"], 0), (["import", str(own), "Mine"], 2), (["export"], 2),
                        (["import", str(tmp_path / "none")], 3)):  # fmt: skip
        assert main(["sources", *words]) == code, words
    assert any(source.name == "Mine" for source in saved_sources())
    capsys.readouterr()


def test_a_team_s_folder_stands_beside_one_s_own_sources_and_pulls(window, tmp_path, small_demo):
    team, page = tmp_path / "team", None
    (team / "pulls").mkdir(parents=True)
    save_pull(Pull("theirs", Source("levels", str(small_demo)), Query("select 1 as n")), team / "pulls" / "theirs.pull")
    window.settings.set("team_folder", str(team))
    settle(window)
    shelf = window.sources.shelf
    assert [shelf.topLevelItem(n).text(0) for n in range(shelf.topLevelItemCount())] == ["theirs"]
    own = window.hub.add(Source("levels", str(small_demo), "test"))
    window.pages.edit_source(own)
    settle(window)
    page = window.source_page
    assert page.share.isVisibleTo(window)
    page.share.click()
    settle(window)
    assert "in the team's folder" in page.outcome.text()
    shared = window.hub.find("levels")
    assert shared.is_shared
    assert shared not in load_sources(window.hub._file)
    window.pages.edit_source(shared)
    settle(window)
    assert "changed for everybody" in page.outcome.text()
    assert not page.share.isVisibleTo(window)
    page.care.setChecked(True)
    page.test.click()
    settle(window)
    page.save.click()
    settle(window)
    assert team_sources(team)[0][0].care
    assert window.hub.find("levels").care
    alike = replace(window.hub.sources[0], url=str(small_demo), is_shared=True)
    share(alike, team)  # by a colleague, named as one that is there
    share(Source("of a colleague", str(small_demo)), team)
    assert wait_until(lambda: window.hub.find("of a colleague") is not None)
    assert [source.name for source in window.hub.sources].count(alike.name) == 1
    for source in team_sources(team)[0]:
        if source.name != "levels":
            withdraw(source, team)
    before = window.hub.find("levels")
    share(replace(before, read_only=True), team, before)  # by a colleague
    assert wait_until(lambda: window.hub.find("levels").read_only)
    window.hub.add(replace(before, stage="production"), before=before)
    assert "changed by somebody else" in window.status.message.text()
    window.hub.remove(window.hub.find("levels"))
    settle(window)
    assert window.hub.find("levels") is None
    assert team_sources(team) == ([], [])
    window.settings.set("team_folder", "")
    assert shelf.topLevelItemCount() == 0
