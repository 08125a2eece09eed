"""Giving a schedule to the team, taking it back, and taking over what another machine runs."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace

from nimble_otter.errors import OtterError, SavedError
from nimble_otter.pull import timers
from nimble_otter.pull.schedule_run import is_running
from nimble_otter.pull.schedules import Schedule, changed, find_schedule, load_schedules
from nimble_otter.pull.team_schedules import TeamSchedule, find_team_schedule, put, share, team_schedules, withdraw
from nimble_otter.team_changes import myself
from nimble_otter.translation import tr


def all_schedules() -> tuple[list[TeamSchedule], list[str]]:
    """Those that run on this machine, and those of the team that run elsewhere; and what is wrong with their files."""
    try:
        own, problems = load_schedules(), list[str]()
    except OtterError as problem:
        own, problems = [], [str(problem)]
    shared, unread = team_schedules()
    elsewhere = {each.schedule.name: each for each in shared if not each.is_mine}
    here = [TeamSchedule(each, myself()) for each in own if not (each.is_shared and each.name in elsewhere)]
    return [*here, *elsewhere.values()], [*problems, *unread]


def share_schedule(name: str) -> Schedule:
    """Let the team see a schedule of this machine, and take it over. Raises: SavedError."""
    schedule = _idle(name)
    if schedule.is_shared:
        raise SavedError(tr("{name} is the team's already.", name=name))
    shared = share(schedule)
    try:
        timers.reschedule(changed(shared))
    except OtterError:
        withdraw(shared)
        raise
    return shared


def unshare_schedule(name: str) -> Schedule:
    """Take a schedule that runs here out of the team's folder; it goes on here. Raises: SavedError."""
    schedule = _idle(name)
    if not schedule.is_shared:
        raise SavedError(tr("{name} is not the team's.", name=name))
    alone = withdraw(schedule)
    timers.reschedule(changed(alone))
    return alone


def take_over(name: str) -> Schedule:
    """Run a schedule of the team's on this machine; where it ran before, its next run sees that and is skipped. Raises:
    SavedError."""
    found = find_team_schedule(name)
    known = load_schedules()
    if any(each.name == name and not each.is_shared for each in known):
        raise SavedError(
            tr("There is a schedule {name} of your own.", name=name), tr("Remove or rename that one first.")
        )
    if found.is_mine and any(each.name == name for each in known):
        raise SavedError(tr("{name} runs here already.", name=name))
    made = replace(found.schedule, is_on=True, by=timers.available())
    put(made, myself())
    try:
        timers.reschedule(lambda now: [*(each for each in now if each.name != name), made])
    except OtterError:
        with suppress(OtterError):
            put(found.schedule, found.keeper)
        raise
    return made


def _idle(name: str) -> Schedule:
    schedule = find_schedule(name)
    if is_running(schedule):
        raise SavedError(tr("{name} is running.", name=name), tr("Wait until it has ended."))
    return schedule
