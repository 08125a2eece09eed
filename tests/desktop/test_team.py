"""What a team shares, in the window: settings, pieces, schedules, and who changed what."""

import getpass
from dataclasses import replace

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QMessageBox

from nimble_otter.desktop.runtime.settings import USUAL, read_settings
from nimble_otter.desktop.shell.step_pieces import KeepQuestion
from nimble_otter.pull import Pull, Query, load_pull, save_pull
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.schedules import Schedule, added, change_schedules, load_schedules
from nimble_otter.pull.steps import SortBy, SortStep
from nimble_otter.pull.team_schedules import team_schedules
from nimble_otter.pull.timetable import timetable
from nimble_otter.sources import Source
from nimble_otter.sources.team import share
from nimble_otter.team_changes import team_changes
from tests.desktop.conftest import settle, wait_until
from tests.desktop.test_schedules import rows_of


@pytest.fixture
def team(tmp_path, monkeypatch, small_demo):
    folder = tmp_path / "team"
    (folder / "pulls").mkdir(parents=True)
    monkeypatch.setenv("NIMBLE_OTTER_TEAM", str(folder))
    few = Pull("few", Source("levels", f"sqlite:///{small_demo}"), Query("select river_id, name from river"),
               send=SendPlan("csv", str(folder / "out.csv"), {}, "replace"))  # fmt: skip
    save_pull(few, folder / "pulls" / "few.pull")
    return folder


@pytest.fixture
def colleague(monkeypatch):
    """What is done inside is somebody else's doing."""

    def act(do):
        with monkeypatch.context() as other:
            other.setattr(getpass, "getuser", lambda: "bea")
            other.setattr("nimble_otter.team_changes.socket.gethostname", lambda: "lab")
            do()

    return act


def test_a_team_s_settings_hold_where_none_is_set_here(team, make_window, home):
    window = make_window(demo=False)
    window.commands.run("settings")
    page, store, told = window.settings_page, window.settings, []
    store.trouble.connect(told.append)
    page.open()
    page.words.setText("NULL shown as")

    def link(text):
        settle(window)
        return next(w for w in page._stack.widget(0).findChildren(type(page.keys.use)) if w.text() == text)

    assert not link("For the team").isVisibleTo(page)
    store.set("null_mark", "–")
    assert link("Set back").isVisibleTo(page)
    link("For the team").click()
    own = home / "config" / "settings.toml"
    assert (store.usual.null_mark, store.now.null_mark, read_settings(own)[0].null_mark) == ("–", "–", USUAL.null_mark)
    assert next((c.kind, c.said) for c in team_changes(team)) == ("settings", "null_mark is –")
    assert not link("Set back").isVisibleTo(page)
    store.set("null_mark", USUAL.null_mark)  # what is usual elsewhere is a choice of one's own here
    assert 'null_mark = "∅"' in own.read_text()
    store.set("null_mark", store.usual.null_mark)
    (team / "settings.toml").write_text('row_limit = 77\ntheme = "dark"\nguard = "sometimes"\n')
    assert wait_until(lambda: store.now.row_limit == 77)
    window.new_pull()
    assert window.pull.pull.query.limit == 77
    assert (store.now.theme, store.now.guard, store.now.null_mark) == ("", USUAL.guard, USUAL.null_mark)
    assert told[-1] == "Settings of the team with values that can't be used: guard."
    (team / "settings.toml").write_text("row_limit = ")
    assert wait_until(lambda: "can't be read" in told[-1])
    store.set("stripes", True)
    store.give_to_team("stripes")
    assert "can't be saved" in told[-1]
    assert (team / "settings.toml").read_text() == "row_limit = "


def test_what_the_team_changed_is_listed_opened_and_told(team, colleague, window, small_demo):
    settle(window)
    window.file_watcher.look()
    settle(window)
    colleague(lambda: share(Source("of bea", f"sqlite:///{small_demo}"), team))
    path = team / "pulls" / "few.pull"
    colleague(lambda: save_pull(replace(load_pull(path), query=Query("select 1 as n")), path))
    assert wait_until(lambda: "bea@lab" in window.status.message.text())
    window.commands.run("team")
    settle(window)
    page = window.team_page
    shown = [row[1:] for row in rows_of(page.list)]
    assert shown[:2] == [
        ["bea@lab", "changed the pull", "few", "the query's text"],
        ["bea@lab", "added the source", "of bea", f"sqlite:///{small_demo}"],
    ]
    assert page.found.text() == "3 changes"
    page.words.setText("source bea")
    page.words.textEdited.emit("")
    assert rows_of(page.list) == [[page.list.topLevelItem(0).text(0), *shown[1]]]
    page.words.returnPressed.emit()
    assert window.source_page.name.text() == "of bea"
    window.commands.run("team")
    page.words.setText("few")
    page.words.textEdited.emit("")
    page.list.itemActivated.emit(page.list.topLevelItem(0), 0)
    settle(window)
    assert (window.pull.path, window.pull.waits) == (path, True)  # it is looked at before it runs
    window.commands.run("team")
    page.words.setText("nothing like it")
    page.words.textEdited.emit("")
    assert (page.nothing.text(), page.open_button.isEnabled()) == ("No change has these words.", False)
    page.closed.emit()
    assert window.centre.currentWidget() is not page


def test_without_a_folder_the_page_says_how_to_name_one(window):
    window.commands.run("team")
    settle(window)
    page = window.team_page
    assert "in a folder on a share or in git" in page.nothing.text()
    page.set_button.click()
    assert window.settings_page.fields["team_folder"].isVisibleTo(window)


def test_a_piece_is_kept_for_the_team_and_removed_after_a_question(team, window, monkeypatch, qtbot):
    window.add_step(SortStep((SortBy("sample_id"),)))
    settle(window)
    monkeypatch.setattr(KeepQuestion, "exec", lambda own: (own.for_team.setChecked(True), own.DialogCode.Accepted)[1])
    window.step_pieces.keep(0, 0)
    assert (team / "pieces" / "Sort.pull").exists()
    answers = iter(["Keep it", "Remove it"])

    def answer(box):
        word = next(answers)
        next(b for b in box.buttons() if b.text() == word).click()

    monkeypatch.setattr(QMessageBox, "exec", answer)
    for is_there in (True, False):
        window.course.add_wanted.emit(QPoint(0, 0))
        palette = window.step_palette
        assert [(e.title, e.line) for e in palette.entries if e.is_piece] == [("Sort", "Sort · team")]
        qtbot.keyClicks(palette.field, "sort")
        palette.mark(next(e for e in palette.entries if e.is_piece))
        qtbot.keyClick(palette.field, Qt.Key.Key_Delete)
        assert (palette.isVisible(), (team / "pieces" / "Sort.pull").exists()) == (False, is_there)


def test_a_schedule_is_shared_and_taken_over_in_the_window(team, colleague, window):
    schedule = Schedule("few", str(team / "pulls" / "few.pull"), timetable("day", "04:30"), by="none")
    change_schedules(added(schedule))
    window.commands.run("deliveries")
    settle(window)
    part = window.deliveries_page.schedules

    def press(text, until):
        assert part.share_button.text() == text
        part.share_button.click()
        assert wait_until(until)
        settle(window)

    press("Share", lambda: team_schedules()[0])
    assert part.list.topLevelItem(0).data(3, 0x0101) == "nothing starts it · team"
    press("Stop sharing", lambda: not team_schedules()[0])
    press("Share", lambda: team_schedules()[0])
    file = next((team / "schedules").glob("*.toml"))
    file.write_text(
        "\n".join(['runs_at = "bea@lab"' if "runs_at" in line else line for line in file.read_text().split("\n")])
    )
    window.deliveries_page.refresh()
    settle(window)
    assert rows_of(part.list) == [["few", "daily 04:30", "as the pull says", "with bea@lab"]]
    assert [b.isEnabled() for b in (part.run_button, part.edit_button, part.remove_button)] == [False, False, False]
    part._edit()  # does nothing
    assert window.centre.currentWidget() is window.deliveries_page
    press("Take over", lambda: team_schedules()[0][0].is_mine)
    assert load_schedules()[0].is_shared
    part.remove_button.click()
    assert wait_until(lambda: not load_schedules())
    settle(window)
    assert team_schedules() == ([], [])
    assert "here and for the team" in window.status.message.text()
