"""`schedule`: list, add, remove, pause, resume, run, share, take over, log and units."""

from __future__ import annotations

import argparse
import datetime as dt
import sys
from dataclasses import replace
from pathlib import Path

from nimble_otter.cli.delivery import Terminal, report
from nimble_otter.cli.flags import UsageError, parse_parameters
from nimble_otter.cli.listing import Line, show
from nimble_otter.cli.terminal import note, tell
from nimble_otter.errors import ChecksFailed
from nimble_otter.pull import places, timers
from nimble_otter.pull.account import deliveries
from nimble_otter.pull.file import load_pull
from nimble_otter.pull.growing import check_overlap
from nimble_otter.pull.model import SendPlan
from nimble_otter.pull.others import saved_path
from nimble_otter.pull.schedule_run import (
    SKIPPED,
    is_running,
    marks_of,
    plans_of,
    pull_of,
    run_schedule,
    runs_elsewhere,
    set_back,
)
from nimble_otter.pull.schedule_sharing import all_schedules, share_schedule, take_over, unshare_schedule
from nimble_otter.pull.schedules import (
    Schedule,
    added,
    changed,
    find_schedule,
    is_due,
    load_schedules,
    load_state,
    without,
)
from nimble_otter.pull.timetable import timetable
from nimble_otter.session_bus import notify
from nimble_otter.translation import tr, tr_value


def schedule(options: argparse.Namespace, plans: list[SendPlan]) -> int:
    """Do what the word says. Raises: UsageError, OtterError, OSError."""
    if any(plan.path == "-" for plan in plans):
        raise UsageError(tr("A schedule has no standard output; name a file."))
    plans = [plan if plan.format == "source" else replace(plan, path=str(Path(plan.path).expanduser().absolute()))
             for plan in plans]  # fmt: skip
    return {
        "list": _list, "add": _add, "remove": _remove, "pause": _pause, "resume": _pause, "run": _run, "log": _log,
        "units": _units, "reset": _reset, "marks": _marks, "share": _share, "unshare": _share, "take-over": _share,
    }[options.what](options, plans)  # fmt: skip


def _list(options: argparse.Namespace, _: list[SendPlan]) -> int:
    now, lines = dt.datetime.now(dt.UTC), list[Line]()
    found, problems = all_schedules()
    for each in found:
        own = each.schedule
        line: Line = {
            "name": own.name, "pull": Path(own.pull).stem, "when": own.table.words(), "next": "", "last": "",
            "outcome": "", "said": "", "seconds": 0.0, "by": own.by if each.is_mine else each.keeper,
        }  # fmt: skip
        if each.is_mine:
            state, following = load_state(own), own.table.next_run(now) if own.is_on else None
            line |= {
                "next": following.isoformat(timespec="minutes") if following is not None else "paused",
                "last": state.ended, "outcome": "running" if is_running(own) else state.outcome, "said": state.said,
                "seconds": state.seconds,
            }  # fmt: skip
        lines.append(line)
    for problem in problems:
        note(problem, sys.stderr)
    return show(lines, options.json)


def _add(options: argparse.Namespace, plans: list[SendPlan]) -> int:
    if not options.subject:
        raise UsageError(tr("schedule add needs a pull: a file, or the name of one on the shelf."))
    path = saved_path(options.subject, places.shelf_folders()).resolve()
    pull = load_pull(path)
    every = "calendar" if options.calendar else options.every
    table = timetable(every, options.at, options.on, options.minutes, options.calendar, options.time_zone,
                      options.between)  # fmt: skip
    by = options.by or timers.available()
    check_overlap(options.overlap)
    if options.only_new and any(p.format == "source" and p.options.get("duplicates") in (None, "stop") for p in plans):
        raise UsageError(
            tr("--only-new to a source needs --duplicates skip or update: a run that is cut off may have written.")
        )
    made = Schedule(
        options.name or pull.name, str(path), table, tuple(plans),
        {name: str(value) if not isinstance(value, list) else ", ".join(map(str, value))
         for name, value in parse_parameters(options.param).items()},
        options.missed, options.tell, options.tries, True, options.send_anyway,
        options.only_new or options.changed_too or bool(options.grows),
        options.changed_too, tuple(name.strip() for name in options.new_key.split(",") if name.strip()),
        str(Path(options.password_file).resolve()) if options.password_file else "", by, options.grows, options.overlap,
    )  # fmt: skip
    plans_of(made, pull)
    timers.reschedule(added(made))
    following = table.next_run(dt.datetime.now(dt.UTC))
    note(
        tr(
            "{made_name}: {words}, by {by}; next {following:%Y-%m-%d %H:%M %Z}",
            made_name=made.name,
            words=table.words(),
            by=by,
            following=following,
        )
    )
    for line in timers.warnings(by, pull.source.url, made.password_file):
        note(f"  {line}", sys.stderr)
    return 0


def _remove(options: argparse.Namespace, _: list[SendPlan]) -> int:
    gone = find_schedule(_subject(options))
    timers.reschedule(without(gone))
    note(tr("{gone_name} was removed; its pull and what it delivered stay.", gone_name=gone.name))
    return 0


def _pause(options: argparse.Namespace, _: list[SendPlan]) -> int:
    made = replace(find_schedule(_subject(options)), is_on=options.what == "resume")
    timers.reschedule(changed(made))
    note(tr("{name} runs again.", name=made.name) if made.is_on else tr("{name} is paused.", name=made.name))
    return 0


def _share(options: argparse.Namespace, _: list[SendPlan]) -> int:
    name = _subject(options)
    if options.what == "share":
        share_schedule(name)
        note(tr("{name} is the team's, and runs here.", name=name))
    elif options.what == "unshare":
        unshare_schedule(name)
        note(tr("{name} is no longer the team's; it runs here.", name=name))
    else:
        made = take_over(name)
        note(tr("{name} runs here now: {words}, by {by}.", name=name, words=made.table.words(), by=made.by))
        for line in timers.warnings(made.by, pull_of(made).source.url, made.password_file):
            note(f"  {line}", sys.stderr)
    return 0


def _subject(options: argparse.Namespace) -> str:
    if not options.subject:
        raise UsageError(tr("schedule {what} needs the NAME of a schedule.", what=options.what))
    return str(options.subject)


def _run(options: argparse.Namespace, _: list[SendPlan]) -> int:
    made = find_schedule(_subject(options))
    if options.due and not (made.is_on and is_due(made, dt.datetime.now(dt.UTC))):
        note(tr("{made_name} is not due.", made_name=made.name), sys.stderr)
        return 0
    ran = run_schedule(made, lambda path: Terminal(str(path), password_file=made.password_file),
                       tell=lambda text: note(text, sys.stderr))  # fmt: skip
    if ran.outcome == SKIPPED and runs_elsewhere(made):
        timers.reschedule(without(made))
        notify(made.name, tr("{said} It was removed from this machine.", said=ran.said))
        return 0
    pull = pull_of(made) if ran.delivered else None
    for each in ran.delivered:
        assert pull is not None
        report(pull, each, options.report == "json")
    is_well = ran.problem is None
    if made.told == "always" or (made.told == "failed" and not is_well):
        title = made.name
        if not is_well:
            is_held = isinstance(ran.problem, ChecksFailed)
            title = tr("{name} was held back", name=title) if is_held else tr("{name} failed", name=title)
        notify(title, ran.said, is_urgent=not is_well)
    if ran.problem is not None:
        raise ran.problem
    note(f"{made.name}: {', '.join(filter(None, (tr_value(ran.outcome), ran.said)))}")
    return 0


def _log(options: argparse.Namespace, _: list[SendPlan]) -> int:
    made = find_schedule(_subject(options))
    lines: list[Line] = [
        {"at": d.at, "outcome": d.outcome, "rows": d.rows, "seconds": d.seconds, "file": d.path, "said": d.said}
        for d in deliveries(places.state_folder(), most=options.last, by=made.name)
    ]
    return show(lines, options.json)


def _units(options: argparse.Namespace, _: list[SendPlan]) -> int:
    """Print what would start the schedules, without touching anything."""
    chosen = [each for each in load_schedules() if not options.subject or each.name == options.subject]
    for each in chosen:
        for unit in timers.units(each):
            tell(f"# {timers.unit_folder() / unit.name}\n{unit.text}")
    for line in timers.cron_lines(chosen):
        tell(line)
    return 0


def _reset(options: argparse.Namespace, _: list[SendPlan]) -> int:
    """Let rows count as new again: all, or those from a value on."""
    made = find_schedule(_subject(options))
    set_back(made, options.to_value)
    note(
        tr(
            "{made_name}: {to_value} count as new again.",
            made_name=made.name,
            to_value=tr("rows from {to_value} on", to_value=options.to_value) if options.to_value else tr("all rows"),
        )
    )
    return 0


def _marks(options: argparse.Namespace, _: list[SendPlan]) -> int:
    """What was delivered so far, target by target."""
    return show([{"to": mark.target, "rows": mark.rows, "up to": mark.up_to}
                 for mark in marks_of(find_schedule(_subject(options)))], options.json)  # fmt: skip
