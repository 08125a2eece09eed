"""What a team shares in a folder: sources without secrets, and pulls."""

import json
import random
import sqlite3
from dataclasses import replace
from pathlib import Path

import pytest

from nimble_otter.cli import main
from nimble_otter.errors import SavedError
from nimble_otter.pull import Pull, Query, places, timers
from nimble_otter.pull.file import save_pull
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.pieces import Piece, drop_piece, keep_piece, load_pieces
from nimble_otter.pull.schedule_sharing import share_schedule, take_over, unshare_schedule
from nimble_otter.pull.schedules import Schedule, added, changed, load_schedules, without
from nimble_otter.pull.steps import SortBy, SortStep
from nimble_otter.pull.team_schedules import team_schedules
from nimble_otter.pull.timetable import timetable
from nimble_otter.sources import Source
from nimble_otter.sources.team import share, team_sources, withdraw
from nimble_otter.sources.urls import Secret
from nimble_otter.team_changes import TeamChange, noting, team_changes
from tests.proofs import how_many

LEVELS = Source("levels", "postgresql://me@h/levels", "production", care=True, password_command="print it",
                clear_password=True, secret=Secret("river bank"))  # fmt: skip


@pytest.fixture
def team(tmp_path, monkeypatch):
    """A team's folder, and who sits where: `team.at("anna")` is her machine from then on, with a home of its own."""
    folder = tmp_path / "team"
    (folder / "pulls").mkdir(parents=True)
    monkeypatch.setenv("NIMBLE_OTTER_TEAM", str(folder))

    def at(who):
        monkeypatch.setattr("nimble_otter.team_changes.getpass.getuser", lambda: who)
        monkeypatch.setattr("nimble_otter.team_changes.socket.gethostname", lambda: f"{who}s")
        monkeypatch.setenv("NIMBLE_OTTER_HOME", str(tmp_path / who))

    at("anna")
    return type("Team", (), {"folder": folder, "at": staticmethod(at)})


def told(team):
    return [(c.who, c.what, c.kind, c.name, c.said) for c in team_changes(team.folder)]


def test_it_is_told_who_changed_what(team):
    pull, path = Pull("few", LEVELS, Query("select 1")), team.folder / "pulls" / "few.pull"
    save_pull(pull, path)
    team.at("bea")
    save_pull(replace(pull, query=Query("select 2", limit=7), steps=(SortStep((SortBy("n"),)),)), path)
    save_pull(replace(pull, query=Query("select 2", limit=7), steps=(SortStep((SortBy("n"),)),)), path)  # nothing new
    save_pull(pull, team.folder.parent / "own.pull")
    first = share(LEVELS, team.folder)
    again = share(replace(first, name="stages", stage="test"), team.folder, first)
    keep_piece("by n", (SortStep((SortBy("n"),)),), for_team=True)
    with pytest.raises(SavedError, match="has a piece by n"):
        keep_piece("by n", (SortStep((SortBy("m"),)),), for_team=True)
    keep_piece("mine", (SortStep((SortBy("m"),)),))
    assert load_pieces()[0] == [
        Piece("by n", (SortStep((SortBy("n"),)),), True),
        Piece("mine", (SortStep((SortBy("m"),)),)),
    ]
    keep_piece("by n", (SortStep((SortBy("k"),)),))
    assert [p.is_shared for p in load_pieces()[0]] == [False, False]  # one's own comes first
    drop_piece(Piece("by n", ()))
    drop_piece(Piece("by n", (), True))
    withdraw(again, team.folder)
    assert told(team) == [
        ("bea@beas", "removed", "source", "stages", ""), ("bea@beas", "removed", "piece", "by n", ""),
        ("bea@beas", "added", "piece", "by n", ""), ("bea@beas", "removed", "source", "levels", ""),
        ("bea@beas", "added", "source", "stages", "postgresql://me@h/levels, production, take care → "
         "postgresql://me@h/levels, test, take care"),
        ("bea@beas", "added", "source", "levels", "postgresql://me@h/levels, production, take care"),
        ("bea@beas", "changed", "pull", "few", "the query's text, the row limit, the steps"),
        ("anna@annas", "added", "pull", "few", ""),
    ]  # fmt: skip


def test_what_was_changed_by_other_means_is_told_too(team):
    path = team.folder / "pulls" / "few.pull"
    save_pull(Pull("few", LEVELS, Query("select 1")), path)
    (team.folder / "pulls" / "by hand.pull").write_text("")
    (team.folder / "pulls" / "notes.txt").write_text("")
    path.write_text(path.read_text().replace("select 1", "select 3"))
    by_hand = {(c.what, c.name, c.said) for c in team_changes(team.folder) if c.said}
    assert by_hand == {("added", "by hand", "by other means"), ("changed", "few", "by other means")}
    log = next((team.folder / "changes").iterdir())
    odd = ['{"at": 3}', "[]", "{", "[" * 5000, json.dumps({**json.loads(log.read_text()), "at": "soon"})]
    log.write_text("\n".join([*odd, log.read_text()]))
    path.unlink()
    gone, *_ = (c for c in team_changes(team.folder) if c.what == "removed")
    assert gone == TeamChange("", "", "pulls/few.pull", "few", "removed", "by other means")
    with noting(team.folder, Path("/nowhere/else"), "x"), noting(None, path, "x"):
        path.write_text("")
    assert len(log.read_text().splitlines()) == 6
    assert len(team_changes(team.folder, most=1)) == 1


@pytest.fixture
def numbered(tmp_path):
    """A table whose rows have numbers, and what adds one."""
    path = tmp_path / "numbers.sqlite"
    database = sqlite3.connect(path, isolation_level=None)
    database.execute("create table t (n integer primary key)")
    yield path, lambda: database.execute("insert into t default values")
    database.close()


def _repeated(team, database):
    pull = Pull("numbers", Source("numbers", f"sqlite:///{database}"), Query("select n from t"))
    save_pull(pull, team.folder / "pulls" / "numbers.pull")
    secret = team.folder.parent / "secret"
    secret.write_text("river bank")
    secret.chmod(0o600)
    plan = SendPlan("csv", str(team.folder / "out.csv"), {}, "append")
    return Schedule("numbers", str(team.folder / "pulls" / "numbers.pull"), timetable("day", "04:30"), (plan,),
                    only_new=True, key=("n",), by="none", password_file=str(secret), tries=1)  # fmt: skip


def test_random_hands_on_a_schedule_deliver_every_row_once(team, numbered, capsys):
    """Two machines take over, change, pause, withdraw, share and run one schedule in any order; whatever they do, each
    row is delivered once, and only where the schedule runs."""
    path, add = numbered
    chance, rows, delivered, runs_at = random.Random(11), 0, 0, "anna"
    timers.reschedule(added(_repeated(team, path)))
    share_schedule("numbers")
    for _ in range(how_many(90, 1500)):
        who = chance.choice(("anna", "bea"))
        team.at(who)
        here = {each.name: each for each in load_schedules()}.get("numbers")
        do = chance.choice(("row", "row", "run", "run", "take", "change", "pause", "pause", "alone", "remove"))
        is_keeper, is_refused = runs_at == who, False
        try:
            if do == "row":
                add()
                rows += 1
            elif do == "run":
                assert main(["schedule", "run", "numbers"]) == (0 if here is not None else 3)
                if is_keeper:
                    delivered = rows
                assert is_keeper or all(each.name != "numbers" for each in load_schedules())  # it leaves by itself
            elif do == "take":
                take_over("numbers")
                runs_at = who
            elif do in ("change", "pause") and here is not None:
                changes = {"tries": chance.randint(1, 20)} if do == "change" else {"is_on": not here.is_on}
                timers.reschedule(changed(replace(here, **changes)))
                assert is_keeper
                assert team_schedules()[0][0].schedule.tries == load_schedules()[0].tries
            elif do == "alone" and here is not None:
                unshare_schedule("numbers")
                share_schedule("numbers")
                assert is_keeper
            elif do == "remove" and here is not None and not is_keeper:
                timers.reschedule(without(here))
        except SavedError:
            is_refused = True
        assert not (is_refused and is_keeper) or do == "take", do
        if (team.folder / "out.csv").exists():
            lines = (team.folder / "out.csv").read_text().split()[1:]
            assert sorted(map(int, lines)) == list(range(1, delivered + 1)), do
        assert [each.keeper for each in team_schedules()[0]] == [f"{runs_at}@{runs_at}s"]
        capsys.readouterr()
        assert main(["schedule"]) == 0
        (line,) = capsys.readouterr().out.splitlines()  # also where the next run is to find out
        assert (line.split("\t")[0], line.endswith(f"{runs_at}@{runs_at}s")) == ("numbers", runs_at != who)
    assert delivered > 5
    assert "secret" not in next((team.folder / "schedules").glob("*.toml")).read_text()
    said = {c.said for c in team_changes(team.folder) if c.kind == "schedule"}
    assert {"taken over from anna@annas", "taken over from bea@beas", "paused", "resumed"} <= said


def test_a_schedule_is_shared_only_where_its_pull_is(team, numbered, tmp_path, monkeypatch, capsys):
    schedule = _repeated(team, numbered[0])
    elsewhere = tmp_path / "own.pull"
    save_pull(Pull("numbers", LEVELS, Query("select 1")), elsewhere)
    timers.reschedule(added(replace(schedule, name="own", pull=str(elsewhere))))
    timers.reschedule(added(schedule))
    for words in (["share", "own"], ["share", "none"], ["take-over", "numbers"], ["unshare", "numbers"]):
        assert main(["schedule", *words]) == 3, words
    assert main(["schedule", "share"]) == 2
    assert not any(each.is_shared for each in load_schedules())
    assert main(["schedule", "share", "numbers"]) == 0
    assert main(["schedule", "share", "numbers"]) == 3
    (text,) = (team.folder / "schedules").glob("*.toml")
    assert 'pull = "pulls/numbers.pull"' in text.read_text()
    assert 'path = "out.csv"' in text.read_text()
    team.at("bea")
    capsys.readouterr()
    assert main(["schedule"]) == 0
    assert capsys.readouterr().out.split("\t")[::8] == ["numbers", "anna@annas\n"]
    timers.reschedule(added(schedule))
    assert main(["schedule", "take-over", "numbers"]) == 3  # she has one of this name
    assert "of your own" in capsys.readouterr().err
    (team.folder / "schedules" / "odd.toml").write_text("version = 1\n")
    nobody = "\n".join(line for line in text.read_text().splitlines() if not line.startswith("runs_at"))
    (team.folder / "schedules" / "nobody.toml").write_text(nobody)
    outside = text.read_text().replace("pulls/numbers.pull", "../own.pull")
    (team.folder / "schedules" / "outside.toml").write_text(outside)
    found, problems = team_schedules()
    assert [each.schedule.name for each in found] == ["numbers"]
    assert ["runs_at" in problems[0], "odd.toml" in problems[1], "is not in" in problems[2]] == [True, True, True]
    team.at("anna")
    monkeypatch.setenv("NIMBLE_OTTER_TEAM", str(tmp_path / "gone"))
    assert main(["schedule", "run", "numbers"]) != 0  # nothing is known of what was delivered
    assert "is not there" in capsys.readouterr().err
    assert not (team.folder / "out.csv").exists()
    assert main(["schedule", "pause", "numbers"]) != 0  # the others would not know
    assert main(["schedule", "remove", "numbers"]) == 0
    assert all(each.name != "numbers" for each in load_schedules())


def test_a_shared_source_has_its_marks_and_nothing_that_runs_or_reveals(tmp_path):
    shared = share(LEVELS, tmp_path)
    text = (tmp_path / "sources" / "levels.source").read_text()
    assert "print it" not in text
    assert "river bank" not in text
    found, troubles = team_sources(tmp_path)
    assert (found, troubles) == ([shared], [])
    assert found[0].is_shared
    assert (found[0].care, found[0].stage, found[0].password_command, found[0].clear_password) == (
        True, "production", "", False,
    )  # fmt: skip
    withdraw(shared, tmp_path)
    assert team_sources(tmp_path) == ([], [])


def test_what_somebody_else_changed_is_not_written_over(tmp_path):
    first = share(LEVELS, tmp_path)
    with pytest.raises(SavedError, match="changed by somebody else"):
        share(Source("levels", "sqlite:///other"), tmp_path)
    theirs = share(replace(first, stage="test"), tmp_path, first)
    with pytest.raises(SavedError, match="it is postgresql://me@h/levels, test, take care now"):
        share(replace(first, read_only=True), tmp_path, first)
    share(Source("other", "sqlite:///x"), tmp_path)
    with pytest.raises(SavedError, match="has a source other"):
        share(replace(theirs, name="other"), tmp_path, theirs)
    renamed = share(replace(theirs, name="levels / new"), tmp_path, theirs)
    assert [s.name for s in team_sources(tmp_path)[0]] == ["levels / new", "other"]
    assert renamed.name == "levels / new"
    withdraw(Source("never there", "x"), tmp_path)


def test_random_changes_of_two_people_lose_nothing(tmp_path):
    """Each knows what they read last; what they hold is written only where nobody changed it since."""
    chance, truth = random.Random(5), {}
    seen = [{}, {}]
    for number in range(how_many(120, 2000)):
        mine = seen[chance.randrange(2)]
        if chance.random() < 0.4:
            mine.clear()
            mine.update({s.name: s for s in team_sources(tmp_path)[0]})
        name = chance.choice("abc")
        wanted, knew = Source(name, f"sqlite:///{number}"), mine[name].url if name in mine else None
        try:
            mine[name] = share(wanted, tmp_path, mine.get(name))
        except SavedError:
            assert truth.get(name) != knew
            continue
        assert truth.get(name) == knew
        truth[name] = wanted.url
        assert {s.name: s.url for s in team_sources(tmp_path)[0]} == truth


def test_files_that_can_t_be_read_are_named_and_the_others_are_there(tmp_path):
    share(LEVELS, tmp_path)
    inside = tmp_path / "sources"
    (inside / "bad.source").write_text("not [ toml")
    (inside / "copy.source").write_text((inside / "levels.source").read_text())
    found, troubles = team_sources(tmp_path)
    assert [s.name for s in found] == ["levels"]
    assert len(troubles) == 2
    assert "bad.source" in troubles[0]
    (said,) = team_sources(tmp_path / "nowhere")[1]
    assert said.startswith(f"The folder of the team, {tmp_path / 'nowhere'}, is not there.")
    (tmp_path / "plain").write_text("")
    with pytest.raises(SavedError, match="can't be written"):
        share(LEVELS, tmp_path / "plain")


def test_the_command_line_knows_the_team_s_sources_and_pulls(tmp_path, home, survey, monkeypatch, capsys):
    assert places.team_folder() is None
    share(Source("rivers", f"sqlite:///{survey}"), tmp_path)
    save_pull(Pull("few", Source("rivers", f"sqlite:///{survey}"), Query("select river_id from river limit 2")),
              tmp_path / "pulls" / "few.pull")  # fmt: skip
    (home / "config").mkdir(parents=True, exist_ok=True)
    (home / "config" / "settings.toml").write_text(f'team_folder = "{tmp_path}"\n')
    assert places.team_folder() == tmp_path
    assert main(["sources"]) == 0
    assert "rivers" in capsys.readouterr().out
    assert main(["run", "few", "--send", "-", "--format", "csv"]) == 0
    assert capsys.readouterr().out.splitlines()[0] == "river_id"
    assert main(["shelf"]) == 0
    assert "few" in capsys.readouterr().out
    assert main(["sources", "remove", "rivers"]) == 2
    assert "is the team's" in capsys.readouterr().err
    monkeypatch.setenv("NIMBLE_OTTER_TEAM", str(tmp_path / "gone"))
    assert main(["sources"]) == 0
    assert "is not there" in capsys.readouterr().err
    assert main(["team"]) == 3
    assert "is not there" in capsys.readouterr().err
    monkeypatch.setenv("NIMBLE_OTTER_TEAM", str(tmp_path))
    assert main(["team", "--json"]) == 0
    lines = json.loads(capsys.readouterr().out)
    assert [(line["what"], line["file"]) for line in lines] == [
        ("added the pull few", "pulls/few.pull"), ("added the source rivers", "sources/rivers.source")]  # fmt: skip
    monkeypatch.delenv("NIMBLE_OTTER_TEAM")
    (home / "config" / "settings.toml").unlink()
    assert main(["team"]) == 2
