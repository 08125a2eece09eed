"""Texts in another language: all of them, with the same values, and nothing in files that depends on it."""

import ast
import gettext
import os
import re
import string
import subprocess
import sys
from functools import cache
from pathlib import Path

import pytest

import nimble_otter
from nimble_otter import translation
from nimble_otter.desktop.steps.condition_row import SHOWN
from nimble_otter.pull.account import Outcome
from nimble_otter.pull.charts import ChartKind
from nimble_otter.pull.compared import STATES
from nimble_otter.pull.schedule_run import NOTHING_NEW, SKIPPED
from nimble_otter.pull.steps import STEPS
from nimble_otter.pull.steps.filter import OPERATORS
from nimble_otter.pull.watching import What
from nimble_otter.sources.catalogue import EntryKind
from nimble_otter.table.ops.combine import How
from nimble_otter.team_changes import ADDED, CHANGED, REMOVED

ROOT = Path(nimble_otter.__file__).parent
LANGUAGES = [code for code in translation.languages() if code != "en"]
SHOWN_BY = {
    "button", "label", "QLabel", "QPushButton", "QCheckBox", "QAction", "addAction", "addMenu", "setText", "addItem",
    "setToolTip", "setAccessibleName", "setAccessibleDescription", "setPlaceholderText", "setWindowTitle",
    "setInformativeText", "setHeaderLabels", "QListWidgetItem", "getText", "getSaveFileName", "getOpenFileName", "say",
    "warning", "Notice", "Option", "AddressForm", "note", "Passage", "Remedy", "Offer", "field", "named", "Line",
}  # fmt: skip
"""Functions whose texts people see."""
NAMES = {"Aa", "Nimble Otter", "Firebird", "Oracle", "SQL Server", "Spark SQL", "ClickHouse", "PostgreSQL", "Parquet",
         "Markdown"}  # fmt: skip
"""The same in every language."""


@cache
def trees():
    paths = [path for path in sorted(ROOT.rglob("*.py")) if path.parent.name not in ("tour", "demo")]
    return [(path, ast.parse(path.read_text())) for path in paths]


def called(node):
    return node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")


def said_in_code():
    """Every text that the code says: its forms, and where."""
    for path, tree in trees():
        for node in ast.walk(tree):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in ("tr", "trn"):
                forms = node.args[: 1 if node.func.id == "tr" else 2]
                assert all(isinstance(form, ast.Constant) for form in forms), f"{path}:{node.lineno}"
                yield tuple(form.value for form in forms), {keyword.arg for keyword in node.keywords}, path


def values_in(text):
    """The names in braces, with how they are converted."""
    found = {(name, kind) for _, name, _, kind in string.Formatter().parse(text) if name is not None}
    assert all(re.fullmatch(r"\w+", name) for name, _ in found), text
    return found


def test_a_text_has_one_plural():
    forms = {forms for forms, _, _ in said_in_code()}
    counted = {each[0]: each for each in forms if each[1:]}
    assert {each for each in forms if counted.get(each[0], each) != each} == set()


@pytest.mark.parametrize("code", LANGUAGES)
def test_every_text_is_there_in_every_language_with_the_same_values(code):
    catalogue, bad, count = translation.catalogue_of([code]), [], 0
    assert catalogue.info()["language"] == code
    assert code in translation.NAMES
    for forms, given, path in said_in_code():
        count += 1
        told = [catalogue.ngettext(*forms, n) for n in (1, 2)] if forms[1:] else [catalogue.gettext(forms[0])]
        known = catalogue._catalog.get((forms[0], 0) if forms[1:] else forms[0])
        names = {name for form in forms for name, _ in values_in(form)} if given else set()
        if not known or names != given:
            bad.append(f"{path.name}: {forms}, {given}")
        for form, own in zip(forms, told, strict=True):
            spaces = [re.match(r"\s*", text)[0] + re.search(r"\s*$", text)[0] for text in (form, own)]
            if (given and values_in(form) != values_in(own)) or spaces[0] != spaces[1]:
                bad.append(f"{path.name}: {form!r} is {own!r}")
    assert bad == []
    assert count > 4000
    assert [value for value in translation.VALUES if value not in catalogue._catalog] == []


def test_values_of_files_that_are_shown_are_all_said():
    kinds = [kind.capitalize() for kind in (*STEPS, *ChartKind)]
    words = [*kinds, *OPERATORS, *SHOWN.values(), *Outcome, SKIPPED, NOTHING_NEW, *What, *EntryKind, *How, ADDED,
             CHANGED, REMOVED, *(state for state in STATES.values() if state != "same")]  # fmt: skip
    assert {str(word) for word in words} - {"sql", "anywhere"} <= set(translation.VALUES)


def of_log(node):
    return called(node) == "warning" and any(isinstance(a, ast.Constant) and "%s" in a.value for a in node.args[:1])


def words_alone(node):
    """English that is shown as it is, by a call."""
    args = node.args[1:2] if called(node) == "Option" else node.args
    for part in [*args, *(k.value for k in node.keywords if k.arg in ("tip", "title", "hint", "text"))]:
        for each in part.elts if isinstance(part, ast.List | ast.Tuple) else [part]:
            if isinstance(each, ast.JoinedStr):
                text = "".join(p.value if isinstance(p, ast.Constant) else "" for p in each.values)
            else:
                text = each.value if isinstance(each, ast.Constant) and isinstance(each.value, str) else ""
            if re.search(r"[A-Z][a-z]+|[a-z]{2,} [a-z]{2,}", text) and text not in NAMES and not SQL.search(text):
                yield text


SQL = re.compile(r"^\s*(select|from) |<>|\byyyy\b|^(Ctrl|Alt|Shift)|^\d|^https?:|</?\w+[ >]|^--|^[a-z_.*]+\(")


def test_what_people_read_goes_through_the_catalogue():
    found = []
    for path, tree in trees():
        for node in ast.walk(tree):
            is_error = isinstance(node, ast.Call) and re.fullmatch(r"\w+(?<!Key)Error|OutcomeUnknown", called(node))
            if isinstance(node, ast.Call) and (is_error or called(node) in SHOWN_BY) and not of_log(node):
                found += [f"{path.relative_to(ROOT)}:{node.lineno} {called(node)}: {t}" for t in words_alone(node)]
    assert found == []


@pytest.mark.parametrize(
    ("wanted", "environment"),
    [
        ([], {}), ([], {"LANG": "C.UTF-8"}), ([], {"LANG": "en_GB.UTF-8"}), (["de_AT.UTF-8"], {"LANG": "de_AT.UTF-8"}),
        (["de"], {"LANG": "fr_FR", "LANGUAGE": "de:en"}), ([], {"LANG": "C", "LANGUAGE": "de"}),
        ([], {"LANG": "de_DE", "LANGUAGE": "en_US:de"}), (["de"], {"LANG": "en_US.UTF-8", "LANGUAGE": "de"}),
        ([], {"LC_ALL": "POSIX", "LANG": "de_DE"}), (["fr"], {"LC_MESSAGES": "fr", "LANG": "de_DE"}),
        ([], {translation.VARIABLE: "en", "LANG": "de_DE"}), (["de"], {translation.VARIABLE: "de", "LANG": "C"}),
    ],
)  # fmt: skip
def test_the_language_is_the_desktops(wanted, environment, monkeypatch, home):
    for name in (translation.VARIABLE, "LANGUAGE", "LC_ALL", "LC_MESSAGES", "LANG"):
        monkeypatch.delenv(name, raising=False)
    for name, value in environment.items():
        monkeypatch.setenv(name, value)
    assert translation.wanted_languages() == wanted
    found = translation.catalogue_of(wanted)
    assert isinstance(found, gettext.GNUTranslations) == any(each.startswith("de") for each in wanted)
    (home / "config").mkdir(exist_ok=True)
    for text, set_so in (('language = "fr"', ["fr"]), ('language = "en"', []), ('language = ""', wanted),
                         ("language = 3", wanted), ("language = [", wanted), ("\x00", wanted),
                         ("a = " + "[" * 9000, wanted)):  # fmt: skip
        (home / "config" / "settings.toml").write_text(text)
        assert translation.wanted_languages() == (wanted if translation.VARIABLE in environment else set_so)


DELIVERIES = """
import sys
from pathlib import Path
from nimble_otter.cli.entry import main
from nimble_otter.pull import Pull, Query, save_pull
from nimble_otter.pull import steps as s
from nimble_otter.pull.file import pull_from_text
from nimble_otter.pull.schedules import load_schedules, load_state
from nimble_otter.send import all_formats
from nimble_otter.sources.source import source_of_file
from nimble_otter.table.ops.measures import AggregateFunction as Agg
folder, survey, other, example = map(Path, sys.argv[1:5])
save_pull(pull_from_text(example.read_text(), "x"), folder / "example.pull")
query = ["query", "--source", str(survey), "--sql", "select * from reading order by reading_id limit 300"]
grouped = ["--group", "quality, note: count, mean(level_m), distinct(station_id)", "--tree"]
for format_ in all_formats():
    if format_.key not in ("parquet", "sqlite"):
        for name, more in (("rows", []), ("groups", grouped)):
            assert main([*query, *more, "--send", str(folder / f"{name}{format_.suffix}")]) == 0, format_.key
        assert main(["compare", f"{survey}#station", f"{other}#station", "--send",
                     str(folder / f"differences{format_.suffix}"), "--script", str(folder / "script.sql")]) == 7
month, quality, count = s.KeyBy("taken_at", "month"), s.KeyBy("quality"), s.FigureOf(Agg.COUNT)
courses = {
    "parts": [s.GroupStep((month, s.KeyBy("level_m", "steps of 1"), s.KeyBy("taken_at", "weekday")), (count,))],
    "figures": [s.GroupStep((quality,), tuple(s.FigureOf(each, "level_m") for each in Agg))],
    "pivot": [s.PivotStep((s.KeyBy("station_id"),), quality, count, True)],
    "unpivot": [s.UnpivotStep(("level_m", "flow_m3s"))], "transpose": [s.TransposeStep()],
    "compare": [s.CompareStep("parts", ("quality",))], "compute": [s.ComputeStep((s.Computed("a", "note is null"),))],
}
source = source_of_file(survey)
for name, steps in courses.items():
    pull = Pull(name, source, Query("select * from reading order by reading_id limit 90"), tuple(steps))
    save_pull(pull, folder / f"{name}.pull")
    if name != "compare":
        assert main(["run", str(folder / f"{name}.pull"), "--send", str(folder / f"{name}.csv")]) == 0
photos = ["query", "--source", str(survey), "--sql", "select * from visit_photo order by 1 limit 3", "--binary", "both"]
assert main([*photos, "--send", str(folder / "photos.xlsx")]) == 0
assert main(["chart", str(folder / "compute.pull"), "--kind", "bars", "--along", "quality", "--up", "count", "--send",
             str(folder / "chart.svg")]) == 0
outcomes = []
assert main(["schedule", "add", str(folder / "compute.pull"), "--by", "none", "--name", "n", "--only-new", "--new-key",
             "reading_id", "--send", str(folder / "new.jsonl")]) == 0
for _ in range(2):
    assert main(["schedule", "run", "n"]) == 0
    outcomes.append(load_state(load_schedules()[0]).outcome)
(folder / "outcomes").write_text(" ".join(outcomes))
"""


def test_what_is_delivered_is_the_same_in_every_language(survey, own_survey, tmp_path):
    import sqlite3
    import zipfile
    from contextlib import closing

    with closing(sqlite3.connect(own_survey)) as base, base:
        base.execute("update station set height_m = height_m + 1 where station_id in (3, 9)")
        base.execute("delete from station where station_id = 1 and not exists (select 1 from reading)")
    found = (ROOT.parents[1] / "docs" / "pull-file.md").read_text()
    example = tmp_path / "example.toml"
    example.write_text(re.search(r"```toml\n(format.*?)```", found, re.DOTALL)[1])
    made = {}
    for code in ("en", *LANGUAGES):
        folder = tmp_path / code
        folder.mkdir()
        run = subprocess.run(
            [sys.executable, "-c", DELIVERIES, folder, survey, own_survey, example], capture_output=True, text=True,
            env={**os.environ, translation.VARIABLE: code, "NIMBLE_OTTER_HOME": str(tmp_path / f"home-{code}")},
        )  # fmt: skip
        assert run.returncode == 0, run.stderr
        made[code] = {"said": run.stderr}
        for path in sorted(path for path in folder.rglob("*") if path.is_file()):
            if path.suffix == ".xlsx":
                with zipfile.ZipFile(path) as book:
                    parts = [book.read(name) for name in sorted(book.namelist()) if "docProps" not in name]
                made[code][path.name] = b"".join(parts)
            else:
                made[code][path.name] = path.read_bytes()
    said = {code: files.pop("said") for code, files in made.items()}
    assert len(made["en"]) > 18
    for code in LANGUAGES:
        assert said[code] != said["en"]
        assert {name for name in made["en"] if made[code].get(name) != made["en"][name]} == set()
