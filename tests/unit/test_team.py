"""What a team shares in a folder: sources without secrets, and pulls."""

import random
from dataclasses import replace

import pytest

from nimble_otter.cli import main
from nimble_otter.errors import SavedError
from nimble_otter.pull import Pull, Query, places
from nimble_otter.pull.file import save_pull
from nimble_otter.sources import Source
from nimble_otter.sources.team import share, team_sources, withdraw
from nimble_otter.sources.urls import Secret
from tests.proofs import how_many

LEVELS = Source("levels", "postgresql://me@h/levels", "production", care=True, password_command="print it",
                clear_password=True, secret=Secret("river bank"))  # fmt: skip


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
    assert team_sources(tmp_path / "nowhere")[1] == [f"The folder of the team, {tmp_path / 'nowhere'}, is not there."]
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
