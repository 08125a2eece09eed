"""The whole journey of the tour, as a test."""

import json
import os
import subprocess
import sys
from dataclasses import replace

import pytest

from nimble_otter import translation
from nimble_otter.changes import Action
from nimble_otter.desktop.shell.journey import STAGES
from nimble_otter.pull.steps import FilterStep, GroupStep, KeyBy, SortStep
from nimble_otter.pull.steps.sort import SortBy
from nimble_otter.translation import VALUES, languages
from tests.desktop.conftest import settle
from tests.desktop.seen import KEPT, assert_meant, take_journey
from tests.proofs import proven
from tests.unit.test_translation import said_in_code


@pytest.mark.timeout(300)
def test_one_journey_through_everything(qapp, home, tmp_path, monkeypatch, caplog):
    monkeypatch.setattr("nimble_otter.demo.scene._standin", None)  # documents that no test before has written to
    seen = take_journey(tmp_path)
    assert "crashed" not in caplog.text
    assert_meant(seen, KEPT)


IN_GERMAN = """
from PySide6.QtCore import QCoreApplication
from nimble_otter.desktop.kit.commands import shown_keys
from nimble_otter.desktop.kit.offscreen import use_offscreen
use_offscreen()
from nimble_otter.desktop.shell.application import make_app
make_app()
from nimble_otter.desktop.shell.window import Window
window = Window()
window.pages.settings()
commands = {command.key: command.name for command in window.commands.all()}
print(QCoreApplication.translate("QPlatformTheme", "Cancel"), shown_keys("Ctrl+J, F"), window.course.accessibleName(),
      commands["run"], len(commands), window.settings_page.fields["language"].currentText(), sep="|", flush=True)
import os
os._exit(0)
"""


def test_the_window_and_the_toolkit_speak_the_language_that_is_set(home):
    (home / "config").mkdir()
    (home / "config" / "settings.toml").write_text('language = "de"')
    environment = {name: value for name, value in os.environ.items() if name != "NIMBLE_OTTER_LANGUAGE"}
    run = subprocess.run([sys.executable, "-c", IN_GERMAN], capture_output=True, text=True, env=environment)
    assert run.returncode == 0, run.stderr
    *texts, count, chosen = run.stdout.strip().split("|")
    assert texts == ["Abbrechen", "Strg+J, F", "Ablauf", "Abfrage ausführen"]
    assert (int(count) > 130, chosen) == (True, "Deutsch")


DATA = {
    "rows", "note", "key", "kind", "name", "count", "mean", "number", "text", "time", "date", "none", "yes/no", "is",
    "changed", "only left", "only right", "all rows", "share of rows", "place", "level", "and", "of", "list", "begin",
    "Query", "Readings", "Flow", "NULL", "Markdown", "May", "quality", "by", "rising", "is one of", "max", "left",
    "reading", "readings", "river", "where", "yes",
}  # fmt: skip
"""Words that are texts too, and stand in the demo's rows, names, SQL and comparisons."""


@pytest.mark.long
@pytest.mark.timeout(600)
@pytest.mark.parametrize("language", ["pseudo", *(code for code in languages() if code != "en")])
def test_the_journey_in_another_language(language, tmp_path):
    """It holds, no text is cut, and none is as it stands in the code."""
    command = [sys.executable, "-m", "tests.desktop.seen", language]
    run = subprocess.run(command, capture_output=True, text=True, timeout=500)
    assert run.returncode == 0, run.stderr
    seen = json.loads(run.stdout)
    assert language == "pseudo" or seen["cut"] == []
    said = {form for forms, _, _ in said_in_code() for form in forms} | set(VALUES)
    if language != "pseudo":
        said = {form for form in said if translation.catalogue_of([language]).gettext(form) != form}
    assert [text for text in seen["texts"] if text in said and text not in DATA] == []
    proven("texts seen on the journey, none cut or left in English", language, len(seen["texts"]))


@pytest.mark.skipif(sys.version_info >= (3, 12), reason="None can't be used up from Python 3.12 on (PEP 683)")
def test_void_calls_of_the_toolkit_do_not_use_up_none(qapp):
    from PySide6.QtWidgets import QLabel

    label = QLabel()
    before = sys.getrefcount(None)
    for _ in range(3000):
        label.setText("x")
    assert abs(sys.getrefcount(None) - before) < 500


@pytest.mark.by_hand
def test_the_first_journey_sees_each_thing_done(make_window, tmp_path, qtbot):
    window = make_window()
    strip, told = window.journey, []
    window.commands.run("journey")
    assert strip.isVisible()
    strip.look()
    assert strip.at == 0  # the demo's pulls are no part of it
    source = window.hub.find("Merrow survey")

    def done(number):
        strip.look()
        assert strip.text.text() == "Done.", told
        qtbot.waitUntil(lambda: strip.at == number, timeout=5000)
        strip.look()
        assert strip.at == number  # and what comes next is not done by it

    window.open_table(source, next(t for t in window.hub.tables[source.name] if t.name == "visit"))
    settle(window)
    done(1)
    pull = window.pull
    pull.shaping.take_pull(
        replace(pull.pull, query=replace(pull.pull.query, text="select * from visit where weather = 'frost'"))
    )
    pull.runs.run()
    settle(window)
    done(2)
    for number, step in enumerate(
        (SortStep((SortBy("visited_on"),)), FilterStep(()), GroupStep((KeyBy("volunteer_id"),))), 3
    ):
        pull.shaping.change(pull.pull.with_step(step), "Add")
        settle(window)
        done(number)
    pull.shaping.set_step(2, replace(pull.pull.steps[2], on=False), "Switch")
    settle(window)
    done(6)
    pull.changes.edit(Action("Edit", ((0, pull.table.index("remark"), "x"),)))
    done(7)
    window.commands.run("rehearse")
    settle(window)
    done(8)
    pull.last_sent = "visits.csv"
    strip.look()
    qtbot.waitUntil(lambda: strip.at == len(STAGES), timeout=5000)
    assert "Ctrl+S" in strip.text.text()
    strip.end.click()
    assert not strip.isVisible()
    window.commands.run("journey")
    strip.skip.click()
    assert strip.at == 1
