"""Schedules: which pull is delivered when and where, kept as one TOML file; and what became of their runs."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import re
import tomllib
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path

import tomli_w

from nimble_otter.entry import Entry
from nimble_otter.errors import CorruptError, SavedError, TooNewError
from nimble_otter.files import read_text, set_aside, update_text, write_text
from nimble_otter.pull import places
from nimble_otter.pull.model import SCOPES, SendPlan
from nimble_otter.pull.timetable import Timetable
from nimble_otter.send import EXISTS
from nimble_otter.translation import tr

VERSION = 1
MISSED = ("run", "skip")
TOLD = ("failed", "always", "never")
BY = ("systemd", "cron", "none")
_PLAIN = (str, bool, int, float)
RECENT = dt.timedelta(minutes=50)
"""How long after its moment a run is still on time."""


@dataclass(frozen=True, slots=True)
class Schedule:
    """`pull` is the pull's file; `sends` are deliveries (none: the pull's own). `missed` says whether a run that was
    missed is made up for once, `told` when a notification is shown, `tries` how often a source that is down is tried,
    `only_new` that rows are delivered once only, told apart by `key`; with `grows`, a column, only rows are asked for
    that came since, less an `overlap`; `by` is what starts it; one that `is_shared` stands in the team's folder."""

    name: str
    pull: str
    table: Timetable
    sends: tuple[SendPlan, ...] = ()
    parameters: Mapping[str, str] = field(default_factory=dict)
    missed: str = "run"
    told: str = "failed"
    tries: int = 4
    is_on: bool = True
    anyway: bool = False
    only_new: bool = False
    changed_too: bool = False
    key: tuple[str, ...] = ()
    password_file: str = ""
    by: str = "systemd"
    grows: str = ""
    overlap: str = ""
    is_shared: bool = False

    @property
    def slug(self) -> str:
        """Its name as a part of names of files and units, which no other schedule has."""
        plain = re.sub(r"[^a-z0-9]+", "-", self.name.lower()).strip("-")[:40] or "schedule"
        mark = hashlib.sha256(self.name.encode()).hexdigest()[:6]
        return f"{plain}-{mark}"


@dataclass(frozen=True, slots=True)
class RunState:
    """What became of a schedule's last run; `started` is set while one runs. Times are in UTC."""

    started: str = ""
    ended: str = ""
    outcome: str = ""
    said: str = ""
    seconds: float = 0.0
    rows: int = 0


def schedules_file() -> Path:
    """Where the list is kept."""
    return places.config_folder() / "schedules.toml"


def load_schedules(path: Path | None = None) -> list[Schedule]:
    """The schedules; none where there is no file yet. Raises: CorruptError (the file is set aside), TooNewError."""
    path = path or schedules_file()
    if not path.exists():
        return []
    try:
        return schedules_from_text(read_text(path), path)
    except (OSError, UnicodeDecodeError, ValueError, SavedError) as problem:
        if isinstance(problem, TooNewError):
            raise
        aside = set_aside(path)
        raise CorruptError(
            tr("The list of schedules was damaged; it is kept as {aside_name}.", aside_name=aside.name)
        ) from problem


def change_schedules(change: Change, path: Path | None = None) -> list[Schedule]:
    """Change the list as it is on disk now. Raises: TooNewError, CorruptError: nothing is written then; OSError."""
    path, found = path or schedules_file(), list[Schedule]()

    def merged(text: str | None) -> str:
        nonlocal found
        try:
            found = change(schedules_from_text(text, path) if text is not None else [])
        except ValueError as problem:
            raise CorruptError(
                tr("The list of schedules is damaged: {problem}.", problem=problem), tr("It is {path}.", path=path)
            ) from problem
        return schedules_to_text(found)

    update_text(path, merged)
    return found


def find_schedule(name: str) -> Schedule:
    """Raises: SavedError."""
    known = load_schedules()
    schedule = next((each for each in known if each.name == name), None)
    if schedule is None:
        there = ", ".join(each.name for each in known)
        raise SavedError(
            tr("There is no schedule {name}.", name=name),
            tr("There are {there}.", there=there) if there else tr("No schedule exists yet."),
        )
    return schedule


Change = Callable[[list[Schedule]], list[Schedule]]
"""What is to become of the list of schedules."""


def added(made: Schedule) -> Change:
    """One more. Raises when done: SavedError, where the name is taken."""

    def change(known: list[Schedule]) -> list[Schedule]:
        if any(each.name == made.name for each in known):
            raise SavedError(
                tr("There is a schedule {made_name} already.", made_name=made.name),
                tr("Remove it first, or choose another name."),
            )
        return [*known, made]

    return change


def changed(made: Schedule) -> Change:
    """This in the place of the one of its name. Raises when done: SavedError, where that is gone."""

    def change(known: list[Schedule]) -> list[Schedule]:
        if all(each.name != made.name for each in known):
            raise SavedError(
                tr("The schedule {made_name} was removed meanwhile.", made_name=made.name),
                tr("Save it under another name."),
            )
        return [made if each.name == made.name else each for each in known]

    return change


def without(gone: Schedule) -> Change:
    """One less."""
    return lambda known: [each for each in known if each.name != gone.name]


def target_words(plan: SendPlan) -> str:
    """Where a delivery goes, in a few words."""
    if plan.format == "source":
        return tr("{table} of {source}", table=plan.options.get("table", ""), source=plan.options.get("source", ""))
    return plan.path


# --- runs --------------------------------------------------------------------------------------------------------


def state_file(schedule: Schedule) -> Path:
    """Where what became of its runs is kept."""
    return places.state_folder() / "schedules" / f"{schedule.slug}.json"


def load_state(schedule: Schedule) -> RunState:
    """What became of the last run; an empty one before the first."""
    try:
        plain = json.loads(read_text(state_file(schedule)))
        return RunState(**{name: plain[name] for name in RunState.__dataclass_fields__ if name in plain})
    except (OSError, ValueError, TypeError, RecursionError):
        return RunState()


def keep_state(schedule: Schedule, state: RunState) -> None:
    """Raises: OSError."""
    write_text(state_file(schedule), json.dumps(asdict(state), ensure_ascii=False))


def is_due(schedule: Schedule, now: dt.datetime) -> bool:
    """Whether a moment of its timetable lies between its last start and now: of the last minutes, or any where missed
    runs are made up for; never outside the part of the day in which it runs. A clock that was set back makes none due
    twice."""
    if not schedule.table.is_open(now):
        return False
    started = load_state(schedule).started
    recent = now - RECENT
    last = dt.datetime.fromisoformat(started) if started else recent
    after = last if started and schedule.missed == "run" else max(last, recent)
    moment = schedule.table.next_run(after)
    return moment is not None and moment <= now


# --- the file ----------------------------------------------------------------------------------------------------


def schedules_from_text(text: str, path: Path) -> list[Schedule]:
    """What a file of schedules holds. Raises: ValueError, SavedError."""
    try:
        whole = tomllib.loads(text)
    except RecursionError as problem:
        raise ValueError(tr("it is nested too deeply")) from problem
    version, items = whole.get("version"), whole.get("schedule", [])
    if not isinstance(version, int) or not isinstance(items, list):
        raise ValueError(tr("it has no version or no list of schedules"))
    if version > VERSION:
        raise TooNewError(tr("{path} was written by a newer Nimble Otter.", path=path), tr("Update it first."))
    try:
        return [_schedule(Entry(item, tr("schedule {k}", k=k))) for k, item in enumerate(items, 1)]
    except (KeyError, TypeError, AttributeError) as problem:
        raise ValueError(tr("a schedule is incomplete: {problem}", problem=problem)) from problem


def _schedule(plain: Entry) -> Schedule:
    ways = (*(way for way, _ in EXISTS), "append", "within", "over")
    sends = tuple(
        SendPlan(each.text("format"), each.text("path", ""), each.mapping("options"),
                 each.word("exists", ways, "replace"), each.word("scope", SCOPES, "shown"), each.flag("as_named"))
        for each in plain.entries("send")
    )  # fmt: skip
    parameters = plain.entry("parameters")
    schedule = Schedule(
        plain.text("name"), plain.text("pull"), _timetable(plain), sends,
        {name: parameters.text(name) for name in parameters},
        plain.word("missed", MISSED, "run"), plain.word("told", TOLD, "failed"), plain.whole("tries", 4),
        plain.flag("on", True), plain.flag("anyway"), plain.flag("only_new"), plain.flag("changed_too"),
        plain.texts("key"), plain.text("password_file", ""), plain.word("by", BY, "systemd"),
        plain.text("grows", ""), plain.text("overlap", ""), plain.flag("shared"),
    )  # fmt: skip
    if not 1 <= schedule.tries <= 20:
        raise ValueError(tr("tries of {at} should be 1 to 20", at=plain.at))
    return schedule


def _timetable(plain: Entry) -> Timetable:
    return Timetable(plain.text("calendar"), plain.text("time_zone", ""), plain.text("between", ""))


def schedules_to_text(schedules: list[Schedule], **more: str) -> str:
    """A file of schedules, with `more` at its head."""
    items = []
    for each in schedules:
        plain: dict[str, object] = {"name": each.name, "pull": each.pull, "calendar": each.table.expression}
        named = {
            "time_zone": each.table.zone, "between": each.table.between, "parameters": dict(each.parameters),
            "missed": each.missed, "told": each.told, "tries": each.tries, "anyway": each.anyway,
            "only_new": each.only_new, "changed_too": each.changed_too, "key": list(each.key),
            "password_file": each.password_file, "by": each.by,
            "grows": each.grows, "overlap": each.overlap, "shared": each.is_shared,
        }  # fmt: skip
        plain |= {name: value for name, value in named.items() if value not in ("", {}, [], False)}
        plain |= {} if each.is_on else {"on": False}
        plain["send"] = [
            {"format": p.format, "path": p.path, "exists": p.exists, "scope": p.scope, "as_named": p.is_as_named,
             "options": {k: v if isinstance(v, _PLAIN) else str(v) for k, v in p.options.items()}}
            for p in each.sends
        ]  # fmt: skip
        items.append(plain)
    return tomli_w.dumps({"version": VERSION, **more, "schedule": items})
