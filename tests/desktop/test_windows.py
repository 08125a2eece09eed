"""Several windows of one process on one home: each with its own pulls, none in the way of another."""

import os
import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtWidgets import QApplication

from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.kit.usual_looks import UsualLooks, use_looks
from nimble_otter.desktop.runtime.instance import Instance
from nimble_otter.desktop.shell.windows import Windows
from nimble_otter.pull import Pull, Query, pull_to_text
from tests.desktop.conftest import settle


@pytest.fixture
def windows(qapp, small_demo):
    made = Windows()
    yield made
    for window in made.opened:
        window.hub.holding = list
        window.close()
    assert made.opened == []
    use_looks(UsualLooks())
    qapp.processEvents()


def test_another_window_has_its_own_pulls_and_they_come_back_in_one(windows):
    first = windows.add()
    first.new_pull()
    first.commands.run("new_window")
    second = windows.opened[-1]
    settle(second)
    assert (len(windows.opened), second is not first, len(second.pulls)) == (2, True, 0)
    assert second.pos() != first.pos()
    second.add_pull(Pull("Catchment", first.hub.sources[0], Query("select 1 as n")))
    settle(second)
    first.settings.set("null_mark", "NULL")
    assert wait_until(lambda: second.settings.now.null_mark == "NULL" and second._looks.null == "NULL")
    second.keep_drafts()
    second.commands.run("close_window")
    assert windows.opened == [first]
    assert first.pull.pull.name == "New pull"
    first.close()
    both = windows.add()
    settle(both)
    assert sorted(each.pull.name for each in both.pulls) == ["Catchment", "New pull"]


def test_quit_closes_all_and_stops_where_one_is_kept(windows, monkeypatch):
    first, second = windows.add(), windows.add()
    monkeypatch.setattr(second.closing, "may_close", lambda: False)
    first.commands.run("quit")
    assert second in windows.opened
    monkeypatch.setattr(second.closing, "may_close", lambda: True)
    second.commands.run("quit")
    assert windows.opened == []


@pytest.mark.parametrize("is_new", [True, False])
def test_a_later_start_opens_its_files_in_a_window_of_its_own_or_in_the_last_one(windows, tmp_path, is_new):
    first = windows.add()
    file = tmp_path / "Levels.pull"
    file.write_text(pull_to_text(Pull("Levels", first.hub.sources[0], Query("select 1 as n"))))
    instance = Instance(Path(os.environ["NIMBLE_OTTER_HOME"]) / "state")
    instance.asked.connect(windows.take)
    instance.window_asked.connect(windows.take_anew)
    assert instance.claim([])
    instance.listen()
    words = [sys.executable, "-m", "nimble_otter.desktop.app", *(["--new-window"] if is_new else []), str(file)]
    other = subprocess.Popen(words, stdout=subprocess.PIPE, text=True)
    assert wait_until(lambda: any(each.pulls for each in windows.opened))
    said, _ = other.communicate(timeout=20)
    assert (other.returncode, "window" in said) == (0, True)
    assert [len(each.pulls) for each in windows.opened] == ([0, 1] if is_new else [1])
    assert QApplication.topLevelWidgets()
    instance.release()
