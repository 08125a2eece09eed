"""The schedules of a team: a file for each in its folder, with who runs it. One machine does; another can take it over,
and goes on where the first stopped, as what was delivered once is kept beside the file."""

from __future__ import annotations

import shutil
import tomllib
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from nimble_otter.errors import OtterError, SavedError
from nimble_otter.files import locked, read_text, write_text
from nimble_otter.pull import places
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.schedules import Schedule, schedules_from_text, schedules_to_text, state_file
from nimble_otter.team_changes import absent, myself, noting
from nimble_otter.translation import tr

_FOLDER, _SUFFIX = "schedules", ".toml"


@dataclass(frozen=True, slots=True)
class TeamSchedule:
    """`keeper`: the user and machine that run it."""

    schedule: Schedule
    keeper: str

    @property
    def is_mine(self) -> bool:
        """Whether it runs here."""
        return self.keeper == myself()


def team_schedules() -> tuple[list[TeamSchedule], list[str]]:
    """Those of the team's folder by their names; and what is wrong with files that can't be read."""
    team = places.team_folder()
    found, problems = [], []
    for path in sorted((team / _FOLDER).glob(f"*{_SUFFIX}")) if team is not None else ():
        try:
            found.append(_load(path))
        except SavedError as problem:
            problems.append(str(problem))
    return sorted(found, key=lambda each: each.schedule.name.casefold()), problems


def find_team_schedule(name: str) -> TeamSchedule:
    """Raises: SavedError."""
    known, _ = team_schedules()
    found = next((each for each in known if each.schedule.name == name), None)
    if found is None:
        there = ", ".join(each.schedule.name for each in known)
        raise SavedError(
            tr("The team has no schedule {name}.", name=name),
            tr("It has {there}.", there=there) if there else tr("Share one first."),
        )
    return found


def keeper_of(schedule: Schedule) -> str:
    """Who runs a shared schedule now; "" where it is no longer shared. Raises: SavedError, where that can't be read."""
    path = _file(schedule)
    return _load(path).keeper if path.exists() else ""


def marks_folder(schedule: Schedule) -> Path:
    """Where it is kept what a schedule delivered: with its state, or beside the team's file. Raises: SavedError, where
    the team's folder is not there: all rows would count as new."""
    return (_file(schedule) if schedule.is_shared else state_file(schedule)).with_suffix(".marks")


def put(schedule: Schedule, keeper: str = "", is_new: bool = False) -> None:
    """Write the team's file of a schedule, run by `keeper` (by whom it was: ""). Raises: SavedError, where the team has
    another of its name, or the pull lies elsewhere."""
    team, path = _folder(), _file(schedule)
    _in_team(Path(schedule.pull), team / "pulls", schedule.name)
    plain = replace(
        schedule, pull=Path(schedule.pull).resolve().relative_to(team.resolve()).as_posix(), is_shared=False,
        sends=tuple(replace(plan, path=_portable(plan, team)) for plan in schedule.sends), password_file="",
    )  # fmt: skip
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with locked(path):
            if is_new and path.exists():
                raise SavedError(
                    tr("The team has a schedule {schedule_name}.", schedule_name=schedule.name),
                    tr("Choose another name."),
                )
            text = schedules_to_text([plain], runs_at=keeper or keeper_of(schedule) or myself())
            if not path.exists() or read_text(path) != text:
                with noting(team, path, schedule.name, lambda before, _: _said(schedule, keeper, before)):
                    write_text(path, text, is_private=False)
    except OSError as problem:
        raise SavedError(
            tr("{path} can't be written: {strerror}.", path=path, strerror=problem.strerror),
            tr("Check the team's folder."),
        ) from problem


def share(schedule: Schedule) -> Schedule:
    """Let the team see a schedule, and take it over; returns what it is here from then on. Raises: SavedError."""
    shared = replace(schedule, is_shared=True)
    put(shared, myself(), is_new=True)
    _move_marks(schedule, shared)
    return shared


def withdraw(schedule: Schedule) -> Schedule:
    """Take a schedule out of the team's folder; it goes on here alone. Raises: SavedError."""
    alone = replace(schedule, is_shared=False)
    _move_marks(schedule, alone)
    path = _file(schedule)
    try:
        with noting(places.team_folder(), path, schedule.name):
            path.unlink(missing_ok=True)
    except OSError as problem:
        raise SavedError(
            tr("{path} can't be removed: {strerror}.", path=path, strerror=problem.strerror),
            tr("Check the team's folder."),
        ) from problem
    return alone


def publish(before: list[Schedule], after: list[Schedule]) -> None:
    """What was changed here of shared schedules stands in the team's folder from now on; one that is removed goes here
    in any case. Raises: SavedError, also where another machine runs one that was changed."""
    known, left = {each.name: each for each in before if each.is_shared}, {each.name: each for each in after}
    for name, old in known.items():
        schedule = left.get(name)
        if schedule is None:
            with suppress(SavedError):  # the folder may be out of reach
                if keeper_of(old) == myself():
                    withdraw(old)
        elif schedule.is_shared and schedule != old:
            if (keeper := keeper_of(schedule)) not in ("", myself()):
                raise SavedError(
                    tr("{name} runs with {keeper} now.", name=name, keeper=keeper), tr("Take it over to change it.")
                )
            put(schedule)


def _move_marks(before: Schedule, after: Schedule) -> None:
    old, new = marks_folder(before), marks_folder(after)
    if not old.exists():
        return
    try:
        shutil.copytree(old, new, dirs_exist_ok=True)
        shutil.rmtree(old, ignore_errors=True)
    except (OSError, shutil.Error) as problem:
        raise SavedError(
            tr("What was delivered can't be moved to {new}: {problem}.", new=new, problem=problem)
        ) from problem


def _load(path: Path) -> TeamSchedule:
    """Raises: SavedError."""
    team = _folder()
    try:
        text = read_text(path)
        found = schedules_from_text(text, path)
        keeper = tomllib.loads(text).get("runs_at")
        if len(found) != 1 or not isinstance(keeper, str):
            raise ValueError(tr("it is not one schedule with runs_at"))
    except OSError as problem:
        raise SavedError(
            tr("{path} can't be read: {strerror}.", path=path, strerror=problem.strerror),
            tr("Check the team's folder."),
        ) from problem
    except ValueError as problem:  # UnicodeDecodeError too
        raise SavedError(
            tr("{path_name} is not a team's schedule: {problem}.", path_name=path.name, problem=problem)
        ) from problem
    plain = found[0]
    _in_team(team / plain.pull, team / "pulls", plain.name)
    sends = tuple(replace(plan, path=_here(plan, team)) for plan in plain.sends)
    return TeamSchedule(replace(plain, pull=str(team / plain.pull), sends=sends, is_shared=True, password_file=""),
                        keeper)  # fmt: skip


def _in_team(path: Path, folder: Path, name: str) -> None:
    if folder.resolve() not in path.resolve().parents:
        raise SavedError(
            tr("The pull of {name} is not in {folder}, where the team would find it.", name=name, folder=folder),
            tr("Save it there, and repeat that."),
        )


def _folder() -> Path:
    team = places.team_folder()
    if team is None or not team.is_dir():
        raise absent(team)
    return team


def _file(schedule: Schedule) -> Path:
    return _folder() / _FOLDER / f"{schedule.slug}{_SUFFIX}"


def _portable(plan: SendPlan, team: Path) -> str:
    """A target as each machine finds it: in the team's folder, or in the user's own."""
    if plan.format == "source":
        return plan.path
    for start, base in (("", team.resolve()), ("~/", Path.home())):
        with suppress(ValueError):
            return f"{start}{Path(plan.path).relative_to(base).as_posix()}"
    return plan.path


def _here(plan: SendPlan, team: Path) -> str:
    return plan.path if plan.format == "source" else str(team.resolve() / Path(plan.path).expanduser())


def _said(schedule: Schedule, keeper: str, before: str) -> str:
    """What is other, in a few words."""
    with suppress(OtterError, ValueError):
        old = schedules_from_text(before, Path())[0]
        was = tomllib.loads(before).get("runs_at")
        words = [tr("taken over from {was}", was=was)] if keeper and was != keeper else []
        words += [schedule.table.words()] if old.table != schedule.table else []
        words += ["paused" if old.is_on else "resumed"] if old.is_on != schedule.is_on else []
        return ", ".join(words)
    return tr("{words}, run by {keeper}", words=schedule.table.words(), keeper=keeper)
