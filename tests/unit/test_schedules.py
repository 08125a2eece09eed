"""Schedules: when they run, against systemd's own reckoning; what starts them; runs, crashes, rows delivered once."""

import csv
import datetime as dt
import json
import os
import random
import signal
import subprocess
import sys
import time
from dataclasses import replace
from zoneinfo import ZoneInfo

import pytest

from nimble_otter.cli import main
from nimble_otter.cli.delivery import Terminal
from nimble_otter.errors import ConditionError, ConnectError, CorruptError, SavedError, TooNewError
from nimble_otter.pull import Pull, Query, SendPlan, places, run_course, save_pull, timers
from nimble_otter.pull import schedule_run as running
from nimble_otter.pull.account import deliveries
from nimble_otter.pull.growing import High, check_overlap, highest, later, lowest_asked
from nimble_otter.pull.only_new import NOTHING, only_new
from nimble_otter.pull.schedules import (
    RunState,
    Schedule,
    added,
    change_schedules,
    changed,
    find_schedule,
    is_due,
    keep_state,
    load_schedules,
    load_state,
    schedules_file,
    without,
)
from nimble_otter.pull.steps import CheckLine, CheckStep, FigureOf, GroupStep, Rule, group_keys
from nimble_otter.pull.timetable import timetable
from nimble_otter.sources import Source, fetch
from nimble_otter.table import Kind
from nimble_otter.table.core.build import table_of
from nimble_otter.table.ops.group import AggregateFunction as Agg
from tests.files import sqlite_file
from tests.proofs import how_many, proven

LISBON = "Europe/Lisbon"
TABLES = [
    timetable("hour", ":15"), timetable("day", "04:30", zone=LISBON), timetable("weekday", "23:59", zone="Asia/Tokyo"),
    timetable("week", "12:00", "Mon,Thu"), timetable("week", "06:05", "Sun", zone="America/New_York"),
    timetable("month", "04:30", "last", zone=LISBON), timetable("month", "10:00", "31"),
    timetable("month", "10:00", "29"),
    timetable("minutes", minutes=20, zone="Australia/Lord_Howe"), timetable("calendar", calendar="*/7 8-18/2 * * 1-5"),
    timetable("calendar", calendar="0 9 1,15 jan-jun *"), timetable("calendar", calendar="0 12 13 * 5"),
    timetable("calendar", calendar="5 4 29 2 *"), timetable("calendar", calendar="30 6 * * 0,6", zone=LISBON),
    timetable("calendar", calendar="0 0 * * mon-fri"), timetable("calendar", calendar="10 10 * */3 7"),
]  # fmt: skip


@pytest.mark.parametrize("table", TABLES, ids=lambda table: f"{table.expression} {table.zone}")
def test_moments_are_those_of_systemd(table):
    """The next moments in the words of systemd-analyze; those in hours that come twice or never are passed over."""
    start, count = dt.datetime(2031, 1, 1, tzinfo=dt.UTC), how_many(70, 700)
    own = table.runs(start)
    mine = [next(own).astimezone(dt.UTC) for _ in range(count)]
    theirs = set()
    for line in table.on_calendar():
        told = subprocess.run(
            ["systemd-analyze", "calendar", f"--iterations={count}", "--base-time=2031-01-01 00:00:00", line],
            capture_output=True, text=True, check=True, env={"TZ": "UTC", "PATH": os.environ["PATH"]})  # fmt: skip
        for said in told.stdout.splitlines():
            name, _, moment = said.partition(": ")
            if name.strip().startswith(("Next elapse", "Iter")):
                theirs.add(dt.datetime.strptime(moment.strip(), "%a %Y-%m-%d %H:%M:%S UTC").replace(tzinfo=dt.UTC))
    until = min(max(mine), max(theirs))
    odd = {m for m in {*mine} ^ theirs if m <= until}
    zone = ZoneInfo(table.zone or "UTC")
    shifts = [m for m in odd if (m - dt.timedelta(hours=4)).astimezone(zone).utcoffset()
              == (m + dt.timedelta(hours=4)).astimezone(zone).utcoffset()]  # fmt: skip
    assert shifts == []
    assert len([m for m in mine if m <= until]) >= min(35, count // 2)
    assert table.words()


def test_what_falls_into_an_hour_that_is_left_out_runs_after_it_and_once():
    table = timetable("day", "01:30", zone=LISBON)
    spring = table.runs(dt.datetime(2031, 3, 29, 12, tzinfo=dt.UTC))
    assert [f"{next(spring):%d %H:%M %Z}" for _ in range(2)] == ["30 02:00 WEST", "31 01:30 WEST"]
    autumn = table.runs(dt.datetime(2031, 10, 25, 12, tzinfo=dt.UTC))
    assert [f"{next(autumn):%d %H:%M}" for _ in range(2)] == ["26 01:30", "27 01:30"]
    made = Schedule("x", "p", table)
    assert "OnCalendar=*-*-* 2:30:00 Europe/Lisbon" in timers.units(made)[1].text  # which systemd passes over
    keep_state(made, RunState(started="2031-03-29T01:30:00+00:00"))
    assert is_due(made, dt.datetime(2031, 3, 30, 1, 30, tzinfo=dt.UTC))
    keep_state(made, RunState(started="2031-03-29T01:30:00+00:00"))
    assert not is_due(made, dt.datetime(2031, 3, 29, 2, 30, tzinfo=dt.UTC))


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({"every": "day", "at": "25:00"}, "not a time"),
        ({"every": "hour", "at": "04:30"}, "Write it like :15"),
        ({"every": "week", "days": "Mo,Xy"}, "not a day of the week"),
        ({"every": "month", "days": "32"}, "day of the month"),
        ({"every": "minutes", "minutes": 7}, "not offered"),
        ({"every": "day", "zone": "Europe/Merrow"}, "no time zone"),
        ({"every": "calendar", "calendar": "* * *"}, "five fields"),
        ({"every": "calendar", "calendar": "61 * * * *"}, "not a calendar"),
        ({"every": "fortnight"}, "is not known"),
        ({"every": "day", "zone": "../etc"}, "no time zone"),
    ],
)
def test_a_wrong_time_is_told(given, said):
    with pytest.raises(SavedError, match=said):
        timetable(**given)


def moment(text):
    return dt.datetime.fromisoformat(f"2031-05-{text}+00:00")


def test_due_once_made_up_for_and_not_after_the_clock_went_back():
    made = Schedule("x", "p", timetable("day", "04:30", zone="UTC"))
    assert is_due(made, moment("01T04:31"))
    assert is_due(made, moment("01T04:30"))
    assert not is_due(made, moment("01T04:29"))
    assert not is_due(made, moment("01T09:00"))  # never run: what was before it was made is not made up for
    keep_state(made, RunState(started="2031-05-01T04:30:05+00:00"))
    assert not is_due(made, moment("01T04:31"))
    assert is_due(made, moment("03T15:00"))  # the machine was off
    assert not is_due(replace(made, missed="skip"), moment("03T15:00"))
    assert is_due(replace(made, missed="skip"), moment("03T04:40"))
    assert not is_due(made, moment("01T03:00"))


# --- what starts them ---------------------------------------------------------------------------------------------


HOSTILE = 'levels "100%" $HOME \\ back\u00e9\'s'


@pytest.mark.parametrize("table", TABLES[:8], ids=lambda table: table.expression)
def test_systemd_takes_the_units(table, tmp_path):
    made = Schedule(HOSTILE, "/p", table)
    for unit in timers.units(made, ["/bin/true"]):
        (tmp_path / unit.name).write_text(unit.text)
    names = sorted(p.name for p in tmp_path.iterdir())
    told = subprocess.run(["systemd-analyze", "verify", "--man=no", *(str(tmp_path / n) for n in names)],
                          capture_output=True, text=True, check=False,
                          env={**os.environ, "SYSTEMD_UNIT_PATH": f"{tmp_path}:"})  # fmt: skip
    assert "$$HOME" in timers.units(made, ["/bin/true"])[0].text
    assert '"/bin/true" "schedule" "run"' in timers.units(made, ["/bin/true"])[0].text
    assert not [line for line in told.stderr.splitlines() if "nimble-otter" in line]
    assert len({Schedule(name, "p", table).slug for name in ("a b", "a-b", "A B", "ä b")}) == 4


def test_only_our_lines_of_a_crontab_change(monkeypatch):
    monkeypatch.delenv("NIMBLE_OTTER_HOME")
    others = "# mine\nMAILTO=me\n0 5 * * 1 backup\n"
    made = [
        Schedule("a", "p", timetable("day", "04:30")),
        Schedule("b", "p", timetable("day", "04:30", zone=LISBON), missed="skip"),
    ]
    lines = timers.cron_lines(made, ["/opt/no"])
    assert lines[1:-1] == ["30 4 * * * /opt/no schedule run a --due", "@reboot /opt/no schedule run a --due",
                           "30 * * * * /opt/no schedule run b --due"]  # fmt: skip
    once = timers.with_cron_block(others, lines)
    assert once.startswith(others)
    assert timers.with_cron_block(once, lines) == once
    assert timers.with_cron_block(once, []) == others
    assert timers.with_cron_block("", []) == ""
    with pytest.raises(SavedError, match="damaged"):
        timers.with_cron_block(timers.BEGIN + "\n", lines)
    (line,) = timers.cron_lines(
        [Schedule(HOSTILE, "p", timetable("month", "04:30", "last"), missed="skip")], ["/bin/echo"]
    )[1:-1]
    command = line.split(maxsplit=5)[5].replace("\\%", "%")
    assert (
        subprocess.run(["sh", "-c", command], capture_output=True, text=True, check=True).stdout
        == f"schedule run {HOSTILE} --due\n"
    )


@pytest.fixture
def programs(tmp_path, monkeypatch):
    """A systemctl that notes how it is called, and a crontab that keeps its text, before the system's in the path."""
    folder = tmp_path / "bin"
    folder.mkdir()
    (folder / "systemctl").write_text(f'#!/bin/sh\necho "$@" >> {tmp_path}/calls\n')
    (folder / "crontab").write_text(f'#!/bin/sh\n[ "$1" = -l ] && exec cat {tmp_path}/cron\ncat > {tmp_path}/cron\n')
    for path in folder.iterdir():
        path.chmod(0o755)
    monkeypatch.setenv("PATH", f"{folder}:{os.environ['PATH']}")
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    (tmp_path / "calls").write_text("")
    return tmp_path


def test_timers_are_made_changed_and_removed(programs):
    made = Schedule("a", "p", timetable("day", "04:30"))
    folder = timers.unit_folder()
    timers.apply([made, replace(made, name="b", is_on=False)])
    assert sorted(p.name for p in folder.iterdir()) == [
        f"nimble-otter-{made.slug}.service",
        f"nimble-otter-{made.slug}.timer",
    ]
    calls = (programs / "calls").read_text().splitlines()
    assert calls == [
        "--user daemon-reload",
        f"--user enable nimble-otter-{made.slug}.timer",
        f"--user restart nimble-otter-{made.slug}.timer",
    ]
    timers.apply([made])
    assert (programs / "calls").read_text().splitlines() == calls  # nothing changed
    (folder / "other.timer").write_text("mine")
    timers.apply([replace(made, by="cron")])
    assert [p.name for p in folder.iterdir()] == ["other.timer"]
    assert f"schedule run a --due\n{timers.END}" in (programs / "cron").read_text()
    timers.apply([])
    assert (programs / "cron").read_text() == ""
    assert timers.available() == "systemd"
    (programs / "bin" / "systemctl").write_text("#!/bin/sh\necho no bus >&2; exit 1\n")
    assert timers.available() == "cron"
    with pytest.raises(SavedError, match="no bus"):
        timers.apply([made])


# --- the list -----------------------------------------------------------------------------------------------------


SENDS = (
    SendPlan("xlsx", "/o.xlsx", {"sheet": "May"}, "within"),
    SendPlan("source", "", {"source": "s", "table": "t", "key": "a"}, "ask"),
)
SUNDAYS = timetable("week", "06:05", "Sun", zone=LISBON)
FULL = Schedule(
    HOSTILE, "/p.pull", SUNDAYS, SENDS, {"since": "last monday"}, "skip", "always", 2, False, True, True, True,
    ("a", "b"), "/word", "cron",
)  # fmt: skip


def test_the_list_is_kept_as_it_is():
    plain = Schedule("a", "/q.pull", timetable("day"))
    change_schedules(added(FULL))
    change_schedules(added(plain))
    assert load_schedules() == [FULL, plain]
    assert schedules_file().stat().st_mode & 0o777 == 0o600
    with pytest.raises(SavedError, match="already"):
        change_schedules(added(plain))
    paused = replace(plain, is_on=False)
    change_schedules(changed(paused))
    assert find_schedule("a") == paused
    change_schedules(without(FULL))
    with pytest.raises(SavedError, match="removed meanwhile"):
        change_schedules(changed(FULL))
    with pytest.raises(SavedError, match="There are a"):
        find_schedule(HOSTILE)


INCOMPLETE = "version = 1\n[[schedule]]\nname = 'a'\n"


@pytest.mark.parametrize(
    "text",
    [
        "no",
        'version = "x"',
        "version = 1\nschedule = 3",
        INCOMPLETE,
        f"{INCOMPLETE}pull = 'p'\ncalendar = '* *'",
        "\ud800",
    ],
)
def test_a_damaged_list_is_set_aside(text):
    schedules_file().parent.mkdir(parents=True, exist_ok=True)
    schedules_file().write_bytes(text.encode("utf-8", "surrogatepass"))
    with pytest.raises(CorruptError, match="kept as"):
        load_schedules()
    assert load_schedules() == []
    schedules_file().write_text("version = 9")
    with pytest.raises(TooNewError):
        load_schedules()
    assert schedules_file().exists()


# --- runs ---------------------------------------------------------------------------------------------------------


class Levels:
    """A table that grows, a pull on it with a check, and a schedule that delivers its rows."""

    def __init__(self, path, folder):
        self.path, self.out, self.pull_file = path, folder / "o.csv", folder / "levels.pull"
        source = Source("s", f"sqlite:///{path}")
        self.pull = Pull(
            "levels", source, Query("select * from level"), (CheckStep((CheckLine(Rule.RANGE, ("m",), (0, 9)),)),)
        )
        save_pull(self.pull, self.pull_file)

    def schedule(self, **more):
        plan = SendPlan("csv", str(self.out), {}, more.pop("exists", "replace"))
        made = Schedule("daily", str(self.pull_file), timetable("day"), (plan,), by="none", **more)
        change_schedules(added(made))
        return made

    def change(self, text):
        with sqlite_file(self.path) as connection:
            connection.executescript(text)
        connection.close()

    def rows(self):
        with self.out.open(newline="") as stream:
            return [int(row[0]) for row in list(csv.reader(stream))[1:]]


@pytest.fixture
def levels(base, tmp_path):
    return Levels(
        base("create table level (id integer primary key, m real); insert into level values (1, 1), (2, 2)"), tmp_path
    )


def ran(made, **more):
    waits = []
    found = running.run_schedule(made, lambda path: Terminal(str(path)), wait=waits.append, **more)
    return found, waits


def test_a_run_delivers_and_is_kept(levels):
    made = levels.schedule()
    found, waits = ran(made)
    assert (found.outcome, found.said, waits, levels.rows()) == ("sent", "2 rows", [], [1, 2])
    state = load_state(made)
    assert (state.outcome, state.rows, state.started != "", state.ended != "") == ("sent", 2, True, True)
    levels.change("update level set m = 99 where id = 2")
    found, _ = ran(made)
    assert found.outcome == "held back"
    assert load_state(made).outcome == "held back"
    assert levels.rows() == [1, 2]
    assert ran(replace(made, anyway=True))[0].outcome == "sent"
    assert [(d.outcome, d.by) for d in deliveries(places.state_folder())] == [
        ("sent", "daily"), ("held back", "daily"), ("sent", "daily")]  # fmt: skip


def test_a_source_that_is_down_is_tried_again_and_what_is_wrong_is_not(levels, monkeypatch):
    made = levels.schedule(tries=3)
    told, failures = [], [ConnectError("It is down."), ConnectError("Still down.")]
    real = running._delivered

    def sometimes(*given):
        if failures:
            raise failures.pop(0)
        return real(*given)

    monkeypatch.setattr(running, "_delivered", sometimes)
    found, waits = ran(made, tell=told.append)
    assert (found.outcome, waits) == ("sent", [20.0, 60.0])
    assert "Trying again in 20 s" in told[0]
    failures += [ConnectError("It is down.")] * 5
    found, waits = ran(made)
    assert (found.outcome, found.said, waits) == ("failed", "It is down. (3 tries)", [20.0, 60.0])
    failures.clear()
    levels.change("alter table level rename to gone")
    found, waits = ran(made)
    assert (found.outcome, waits) == ("failed", [])
    assert "No such table: level" in found.said
    levels.pull_file.unlink()
    assert "levels.pull" in ran(made)[0].said
    save_pull(replace(levels.pull, send=SendPlan("clipboard", "")), levels.pull_file)
    assert "delivered nowhere" in ran(replace(made, sends=()))[0].said


def test_two_runs_at_once_do_not_mix(levels):
    made = levels.schedule()
    with running._alone(made, lambda s: None) as first:
        assert first
        assert running.is_running(made)
        found, waits = ran(made)
        assert (found.outcome, waits) == ("skipped", [running.WAIT_FOR_OTHER_S])
        assert not levels.out.exists()
    assert not running.is_running(made)
    assert ran(made)[0].outcome == "sent"


# --- only new rows ------------------------------------------------------------------------------------------------


def shaped_rows(**columns):
    return run_course(table_of(**columns), ()).end


def test_rows_are_new_once_and_again_when_they_changed():
    fresh, kept = only_new(shaped_rows(k=[1, 2, 2], v=["a", "b", "c"]), ["k"], NOTHING)
    assert fresh.view.row_ids().tolist() == [0, 1]
    again = shaped_rows(k=[2, 3, 1], v=["b", "x", "changed"])
    assert only_new(again, ["k"], kept)[0].view.row_ids().tolist() == [1]
    changed, after = only_new(again, ["k"], kept, changed_too=True)
    assert changed.view.row_ids().tolist() == [1, 2]
    assert only_new(again, ["k"], after, changed_too=True)[0].view.row_ids().tolist() == []
    assert only_new(shaped_rows(k=[], v=[]), ["k"], after)[1].keys.tolist() == after.keys.tolist()
    for key, said in (((), "Nothing tells rows apart"), (("w",), "key column w is not delivered")):
        with pytest.raises(ConditionError, match=said):
            only_new(again, key, kept)
    grouped = run_course(table_of(k=[1]), (GroupStep(group_keys("k"), (FigureOf(Agg.COUNT),)),)).end
    with pytest.raises(ConditionError, match="groups"):
        only_new(grouped, ["k"], kept)


# --- a column that grows ------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("kind", "text", "overlap", "low"),
    [(Kind.INT, "9007199254740995", "10", "9007199254740985"), (Kind.DECIMAL, "1.10", "0.2", "0.90"),
     (Kind.FLOAT, "2.5", "", "2.5"), (Kind.TIME, "2031-03-01 00:00:00", "1 day", "2031-02-28 00:00:00"),
     (Kind.ZONED, "2031-03-01 00:00:00+00:00", "90 minutes", "2031-02-28 22:30:00+00:00"),
     (Kind.DATE, "2031-03-01", "2 days", "2031-02-27"), (Kind.TIME, "2031-03-01 00:00:00.000001", "", None),
     (Kind.INT, "5", "1 day", ConditionError), (Kind.TIME, "2031-03-01", "10", ConditionError)],
)  # fmt: skip
def test_rows_are_asked_for_from_where_one_has_been(kind, text, overlap, low):
    high = High(kind, text)
    assert High.from_text(high.to_text()) == high
    if low is ConditionError:
        with pytest.raises(ConditionError, match="is not an overlap"):
            lowest_asked(high, overlap)
    else:
        assert lowest_asked(high, overlap) == (low or text)


def test_the_highest_value_and_what_does_not_grow():
    table = table_of(
        n=[3, None, 9, 4], f=[1.5, float("nan"), float("inf"), -2.0], t=["a", "b", None, "c"], e=[None] * 4
    )
    assert highest(table, "n") == High(Kind.INT, "9")
    assert highest(table, "f") == High(Kind.FLOAT, "1.5")
    assert highest(table, "e") is None
    with pytest.raises(ConditionError, match="does not grow"):
        highest(table, "t")
    assert later(High(Kind.INT, "9"), High(Kind.INT, "10")).text == "10"
    assert later(None, High(Kind.INT, "1")).text == "1"
    for text in ("", "1 day", "10", "0.5"):
        check_overlap(text)
    with pytest.raises(ConditionError):
        check_overlap("soon")


@pytest.mark.parametrize("column", ["id", "at"])
def test_only_what_came_since_is_asked_for_and_each_row_goes_once(levels, column):
    """Rows late within the overlap and rows without a value go once; the server is asked for the end of the table."""
    levels.change("alter table level add column at timestamp; update level set at = '2031-01-01 00:00:00'")
    asked, read = [], []

    def fetching(connection, request, *given):
        asked.append(request.text)
        found = fetch(connection, request, *given)
        read.append(found.table.rows)
        return found

    watching = pytest.MonkeyPatch()
    watching.setattr("nimble_otter.pull.delivery.fetch", fetching)
    overlap = "10" if column == "id" else "1 day"
    made = levels.schedule(exists="append", only_new=True, grows=column, overlap=overlap)
    rng, there, first = random.Random(column), {1, 2}, 100
    assert ran(made)[0].said == "2 rows"
    for round_ in range(12):
        lines = []
        for _ in range(rng.randrange(0, 6)):
            late = rng.randrange(0, 9) if column == "id" else 0
            key = next(k for k in (first - late + rng.randrange(50), *range(10_000, 20_000)) if k not in there)
            day = f"2031-01-{2 + round_:02} {rng.randrange(24):02}:00:00"
            there.add(key)
            first = max(first, key) if column == "id" else first + 60
            lines.append(f"insert into level values ({key}, 1, {'null' if rng.random() < 0.2 else repr(day)});")
        levels.change("\n".join(lines))
        found, _ = ran(made)
        assert found.outcome in ("sent", "nothing new"), found.said
        assert sorted(levels.rows()) == sorted(there)
    assert all(f'"{column}" >=' in text or f"{column} >=" in text for text in asked[1:])
    assert read[-1] < len(there)
    (folder,) = [running.marks_folder(made)]
    assert list(folder.glob("*.high"))
    watching.undo()
    levels.change("delete from level")
    assert ran(made)[0].outcome == "nothing new"
    before = levels.rows()
    levels.change("insert into level values (1, 1, null), (99999, 2, '2032-01-01 00:00:00')")
    assert ran(made)[0].said == "1 rows", set(levels.rows()) - set(before)
    assert levels.rows()[len(before) :] == [99999]


def test_a_limit_that_cut_moves_no_mark_and_a_step_that_cannot_go_upstream_stays_here(levels):
    save_pull(replace(levels.pull, query=Query("select * from level order by id limit 100", limit=1)), levels.pull_file)
    made = levels.schedule(exists="append", only_new=True, grows="id")
    assert ran(made)[0].said == "1 rows"
    assert not list(running.marks_folder(made).glob("*.high"))
    save_pull(replace(levels.pull, query=Query("select * from level order by id limit 100")), levels.pull_file)
    assert ran(made)[0].said == "1 rows"
    assert levels.rows() == [1, 2]
    levels.change("insert into level values (3, 1)")
    assert ran(made)[0].said == "1 rows"
    assert levels.rows() == [1, 2, 3]
    wrong = replace(made, grows="m", overlap="1 day")
    assert ran(wrong)[0].outcome in ("nothing new", "failed")
    assert "no column gone" in ran(replace(made, grows="gone"))[0].said


def test_only_new_rows_are_appended(levels):
    made = levels.schedule(exists="append", only_new=True)
    assert ran(made)[0].said == "2 rows"
    assert ran(made)[0].outcome == "nothing new"
    levels.change("insert into level values (0, 3), (7, 4); update level set m = 5 where id = 1")
    assert ran(made)[0].said == "2 rows"  # one of them with a lower key than before: late
    assert levels.rows() == [1, 2, 0, 7]
    changing = replace(made, changed_too=True)
    levels.change("update level set m = 6 where id = 2")
    assert ran(changing)[0].said == "2 rows"  # 1 had changed before, too
    assert levels.rows() == [1, 2, 0, 7, 1, 2]
    levels.change("update level set m = -1 where id = 7; insert into level values (8, 1)")
    assert ran(made)[0].outcome == "held back"
    levels.change("update level set m = 1 where id = 7")
    assert ran(made)[0].said == "1 rows"  # the mark had not moved
    (kept,) = running.marks_folder(made).glob("*.npz")
    kept.write_bytes(b"damaged")
    found, _ = ran(made)
    assert (found.outcome, "is damaged" in found.said) == ("failed", True)
    assert main(["schedule", "reset", "daily"]) == 0
    assert ran(made)[0].said == "5 rows"


def test_marks_are_seen_and_set_back(levels, capsys):
    made = levels.schedule(exists="append", only_new=True, grows="id")
    change_schedules(lambda known: [made])
    assert [mark.words() for mark in running.marks_of(made)] == ["0 delivered"]
    assert ran(made)[0].said == "2 rows"
    levels.change("insert into level values (7, 1), (9, 1)")
    assert ran(made)[0].said == "2 rows"
    assert [mark.words() for mark in running.marks_of(made)] == ["4 delivered, up to 9"]
    capsys.readouterr()
    assert main(["schedule", "marks", "daily", "--json"]) == 0
    assert [(line["rows"], line["up to"]) for line in json.loads(capsys.readouterr().out)] == [(4, "9")]
    assert main(["schedule", "reset", "daily", "--to-value", "7"]) == 0
    assert ran(made)[0].said == "2 rows"
    assert levels.rows() == [1, 2, 7, 9, 7, 9]
    for wrong, says in (("soon", "not a value of kind integer"), ("7 or 1=1", "not a value")):
        with pytest.raises(SavedError, match=says):
            running.set_back(made, wrong)
    with pytest.raises(SavedError, match="no value of a column that grows"):
        running.set_back(replace(made, name="other"), "7")
    running.set_back(made)
    assert ran(made)[0].said == "4 rows"
    assert running.marks_of(replace(made, only_new=False)) == []


def die_at(number, made):
    """Run a schedule in a process that ends before or after its so-manieth renaming or removing of a file; how it
    ended."""
    child = os.fork()
    if child:
        return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    left = [number]

    def count():
        left[0] -= 1
        if not left[0]:
            os._exit(9)

    def dying(real):
        def call(*given, **more):
            count()
            found = real(*given, **more)
            count()
            return found

        return call

    os.replace, os.unlink = dying(os.replace), dying(os.unlink)
    try:
        ran(made)
    finally:
        os._exit(0)


@pytest.mark.parametrize("target", ["o.csv", "o-{count}-{time}.csv"])
def test_a_run_that_ends_anywhere_loses_and_doubles_nothing(levels, target):
    """It dies before and after every renaming and removing of a file, one after the other."""
    levels.out = levels.out.with_name(target)
    made = levels.schedule(exists="append" if target == "o.csv" else "number", only_new=True)
    ran(made)  # what it needs is imported before the processes part
    for number in range(1, 80):
        levels.change(f"insert into level values ({100 + number}, 1)")
        if die_at(number, find_schedule("daily")) == 0:
            break
    assert ran(find_schedule("daily"))[0].outcome in ("sent", "nothing new")
    made = []
    for path in levels.out.parent.glob("o*.csv"):
        levels.out = path
        made += levels.rows()
    with sqlite_file(levels.path) as connection:
        wanted = [row[0] for row in connection.execute("select id from level")]
    connection.close()
    assert sorted(made) == sorted(wanted)


def test_runs_that_are_killed_at_random_deliver_each_row_once(levels):
    levels.schedule(exists="append", only_new=True)
    chance, killed = random.Random(7), 0
    runs = how_many(6, 200)
    for number in range(runs):
        three = "(select 0 value union select 1 union select 2)"
        levels.change(f"insert into level select {10 * number + 10} + value, 1 from {three}")
        process = subprocess.Popen([sys.executable, "-m", "nimble_otter.cli", "-q", "schedule", "run", "daily"],
                                   stderr=subprocess.DEVNULL)  # fmt: skip
        time.sleep(chance.uniform(0.25, 0.9))
        process.send_signal(chance.choice((signal.SIGKILL, signal.SIGTERM, signal.SIGHUP)))
        killed += process.wait() != 0
    assert killed
    assert ran(find_schedule("daily"))[0].outcome in ("sent", "nothing new")
    assert sorted(levels.rows()) == sorted([1, 2, *(10 * n + 10 + v for n in range(runs) for v in range(3))])
    proven("scheduled runs killed at random, each row delivered once", "sqlite", runs, f"{killed} were killed")


# --- the command line ---------------------------------------------------------------------------------------------


def test_a_schedule_from_the_command_line(levels, capsys, monkeypatch, programs):
    notes = []
    monkeypatch.setattr("nimble_otter.cli.scheduling.notify", lambda *given, **more: notes.append(given))
    add = ["schedule", "add", str(levels.pull_file), "--name", "daily", "--every", "day", "--at", "04:30"]
    assert main([*add, "--time-zone", LISBON, "--send", str(levels.out), "--by", "systemd", "--tell", "always"]) == 0
    assert "daily 04:30, Europe/Lisbon, by systemd; next " in capsys.readouterr().out
    assert main([*add, "--send", "-", "--format", "csv"]) == 2
    assert main([*add, "--every", "week", "--on", "Xy", "--name", "w", "--send", str(levels.out)]) == 3
    assert main(["schedule", "add", "nowhere.pull", "--send", "x.csv"]) == 3
    assert main([*add, "--name", "to", "--to", "s", "--only-new", "--table", "t"]) == 2
    assert main(["schedule", "run", "daily"]) == 0
    assert notes == [("daily", "2 rows")]
    capsys.readouterr()
    assert main(["schedule", "--json"]) == 0
    (line,) = json.loads(capsys.readouterr().out)
    assert (line["outcome"], line["when"], line["by"]) == ("sent", "daily 04:30, Europe/Lisbon", "systemd")
    levels.change("update level set m = 99")
    assert main(["schedule", "run", "daily"]) == 6
    assert notes[-1][0] == "daily was held back"
    capsys.readouterr()
    assert main(["schedule", "log", "daily", "--json"]) == 0
    assert [each["outcome"] for each in json.loads(capsys.readouterr().out)] == ["held back", "sent"]
    assert main(["schedule", "pause", "daily"]) == 0
    assert not list(timers.unit_folder().glob("*.timer"))
    assert main(["schedule", "run", "daily", "--due"]) == 0
    assert main(["schedule", "resume", "daily"]) == 0
    assert main(["schedule", "units"]) == 0
    assert "OnCalendar=*-*-* 4:30:00 Europe/Lisbon" in capsys.readouterr().out
    assert main(["schedule", "remove", "daily"]) == 0
    assert load_schedules() == []
    assert main(["schedule", "remove", "daily"]) == 3
    (programs / "bin" / "systemctl").write_text("#!/bin/sh\nexit 1\n")
    assert main([*add, "--send", str(levels.out), "--by", "systemd"]) == 3
    assert load_schedules() == []  # nothing that nothing starts


def test_rows_go_to_a_table_once(levels, base):
    """Also those of a run that was cut off before its mark moved: their keys are there."""
    there = base("create table kept (id integer primary key, m real)", "there.sqlite")
    plan = SendPlan("source", "", {"source": str(there), "table": "kept", "key": "id", "duplicates": "skip"})
    change_schedules(
        added(Schedule("daily", str(levels.pull_file), timetable("day"), (plan,), by="none", only_new=True))
    )
    made = find_schedule("daily")
    for number in range(1, 40):
        levels.change(f"insert into level values ({100 + number}, 1)")
        if die_at(number, made) == 0:
            break
    assert ran(made)[0].outcome in ("sent", "nothing new")
    both = []
    for path, table in ((there, "kept"), (levels.path, "level")):
        with sqlite_file(path) as connection:
            both.append(connection.execute(f"select id, m from {table} order by id").fetchall())
        connection.close()
    assert both[0] == both[1]
    sent = [line for line in deliveries(places.state_folder()) if line.outcome == "sent"]
    assert sent[0].path == f"kept of {there}"
    assert sent[0].rows >= 1


@pytest.mark.parametrize(("between", "zone"), [("08:00-18:00", ""), ("22:30-04:15", LISBON), ("0:00-23:45", "")])
def test_only_moments_of_the_part_of_the_day_count(between, zone):
    whole, part = timetable("minutes", zone=zone), timetable("minutes", zone=zone, between=between)
    start = dt.datetime(2031, 3, 28, tzinfo=dt.UTC)
    own, moments = part.runs(start), whole.runs(start)
    low, high = (dt.time(*map(int, each.split(":"))) for each in between.split("-"))
    everything = [next(moments) for _ in range(600)]
    kept = [m for m in everything
            if (low <= m.time() < high if low < high else not high <= m.time() < low)]  # fmt: skip
    assert [next(own) for _ in kept] == kept
    assert 0 < len(kept) < len(everything)
    assert part.words() == f"every 15 minutes between {part.between}{', ' + zone if zone else ''}"


@pytest.mark.parametrize("between", ["8-18", "24:00-25:00", "08:00-08:00", "05:00-06:00", "x", "08:60-09:00"])
def test_a_part_of_the_day_is_checked(between):
    with pytest.raises(SavedError, match=r"part of the day|never runs"):
        timetable("day", "04:30", between=between)


def test_a_missed_run_waits_for_its_part_of_the_day(home, monkeypatch):
    table = timetable("hour", between="08:00-10:00", zone="UTC")
    made = Schedule("p", "p.pull", table, by="cron")
    at = lambda day, hour, minute=0: dt.datetime(2031, 1, day, hour, minute, tzinfo=dt.UTC)  # noqa: E731
    keep_state(made, RunState(started=at(1, 8).isoformat()))
    due = {moment: is_due(made, moment) for moment in (at(1, 9), at(1, 12), at(2, 7, 59), at(2, 8), at(2, 10))}
    assert list(due.values()) == [True, False, False, True, False]
    keep_state(made, RunState(started=at(2, 9).isoformat()))
    assert [is_due(made, moment) for moment in (at(2, 9, 40), at(4, 9, 30))] == [False, True]
    skips = replace(made, missed="skip")
    assert [is_due(skips, moment) for moment in (at(4, 9, 30), at(4, 9, 55))] == [True, False]
    assert "OnCalendar=*-*-* 8:0:00 UTC" in timers.units(made)[1].text
    lines = timers.cron_lines([replace(made, table=timetable("hour", ":20", between="08:30-10:00"))])
    assert [line.split(" ")[:2] for line in lines if "--due" in line] == [["20", "*"], ["@reboot", lines[2].split()[1]],
                                                                          ["30", "8"]]  # fmt: skip
    change_schedules(added(made))
    assert load_schedules() == [made]
