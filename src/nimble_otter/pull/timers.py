"""What starts schedules while the application is closed: a timer of the user's systemd for each, or lines in the user's
crontab. No process of ours waits for the time.

systemd: one service and one timer a schedule (systemd.timer(5)). cron: lines between two marks, without touching any
others; where the schedule has a zone of its own, which not every cron knows, it looks each hour whether it is due."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
import sys
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from nimble_otter.errors import OtterError, SavedError
from nimble_otter.files import write_text
from nimble_otter.pull.schedules import Change, Schedule, change_schedules, load_schedules, state_file
from nimble_otter.pull.team_schedules import publish
from nimble_otter.sources.secrets import REFUSED, look_up
from nimble_otter.translation import tr

BEGIN, END = "# nimble-otter schedules begin: changed by nimble-otter", "# nimble-otter schedules end"
_PATIENCE_S = 20


@dataclass(frozen=True, slots=True)
class Unit:
    """A file of systemd's: its name and text."""

    name: str
    text: str


def command() -> list[str]:
    """How the command line of this installation is started."""
    beside = Path(sys.executable).with_name("nimble-otter")
    return [str(beside)] if os.access(beside, os.X_OK) else [sys.executable, "-m", "nimble_otter.cli"]


def available() -> str:
    """What can start schedules here: "systemd", "cron", or "none"."""
    if shutil.which("systemctl") and _run(["systemctl", "--user", "show-environment"]).returncode == 0:
        return "systemd"
    return "cron" if shutil.which("crontab") else "none"


def lingers() -> bool | None:
    """Whether the user's timers run while they are not logged in; None where that can't be told."""
    if not shutil.which("loginctl"):
        return None
    found = _run(["loginctl", "show-user", str(os.getuid()), "--property=Linger", "--value"])
    return found.stdout.strip() == "yes" if found.returncode == 0 else None


def warnings(by: str, url: str, password_file: str) -> list[str]:
    """What will be missing when a schedule runs by itself, in sentences. Asks the keyring, which may take its time."""
    results = []
    if by == "none":
        results.append("Nothing here starts it: there is neither a systemd session of this user nor cron.")
    if by == "systemd" and lingers() is False:
        results.append("It runs only while you are logged in; loginctl enable-linger lets it run always.")
    if "@" in url and not password_file:
        password, why = look_up(url)
        if password is None and why == REFUSED:
            results.append("The keyring gives no password here; where the source needs one, it takes --password-file.")
    return results


def unit_folder() -> Path:
    """Where the user's units are (XDG Base Directory Specification)."""
    named = os.environ.get("XDG_CONFIG_HOME", "")
    return (Path(named) if os.path.isabs(named) else Path.home() / ".config") / "systemd/user"


def units(schedule: Schedule, words: Sequence[str] | None = None) -> list[Unit]:
    """The service and the timer of a schedule."""
    name = f"nimble-otter-{schedule.slug}"
    line = " ".join(map(_unit_word, [*(words or command()), "schedule", "run", schedule.name, "--due"]))
    own = "".join(f"Environment={_unit_word(f'{name}={value}')}\n" for name, value in _surroundings())
    opening = schedule.table.opening() if schedule.missed == "run" else None
    moments = (*schedule.table.on_calendar(), *_after_gaps(schedule), *(opening.on_calendar() if opening else ()))
    calendar = "".join(f"OnCalendar={each}\n" for each in moments)
    text = schedule.name.replace("\n", " ").replace("%", "%%")
    service = (
        f"[Unit]\nDescription=Nimble Otter delivers {text}\n\n"
        f"[Service]\nType=oneshot\nExecStart={line}\n{own}"
        "# a delivery that its checks hold back is told by the program itself\nSuccessExitStatus=6\n"
    )
    timer = (
        f"[Unit]\nDescription=When Nimble Otter delivers {text}\n\n"
        f"[Timer]\n{calendar}Persistent={'true' if schedule.missed == 'run' else 'false'}\nAccuracySec=30s\n\n"
        "[Install]\nWantedBy=timers.target\n"
    )
    return [Unit(f"{name}.service", service), Unit(f"{name}.timer", timer)]


def _surroundings() -> list[tuple[str, str]]:
    """What of the environment a run needs."""
    names = ("NIMBLE_OTTER_HOME", "NIMBLE_OTTER_TEAM")
    return [(name, os.environ[name]) for name in names if os.environ.get(name)]


def _after_gaps(schedule: Schedule) -> list[str]:
    """Moments at which a run is made up for that the hour would have had which daylight saving time leaves out: systemd
    passes over what falls into it. On all other days the run is not due then."""
    minute, hour, *rest = schedule.table.expression.split()
    if not hour.isdigit() or int(hour) > 3:
        return []
    return replace(schedule.table, expression=" ".join((minute, str(int(hour) + 1), *rest))).on_calendar()


def _unit_word(word: str) -> str:
    """An argument of ExecStart=, quoted (systemd.service(5), "Command lines"; systemd.syntax(7))."""
    escaped = word.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$").replace("\n", "\\n")
    return f'"{escaped}"'


def cron_lines(schedules: Sequence[Schedule], words: Sequence[str] | None = None) -> list[str]:
    """The lines of the user's crontab between our marks; none without a schedule."""
    lines = []
    before = "".join(f"{name}={shlex.quote(value)} " for name, value in _surroundings())
    for schedule in schedules:
        start = [*(words or command()), "schedule", "run", schedule.name]
        line = before + " ".join(shlex.quote(word) for word in start).replace("%", "\\%").replace("\n", " ")
        table = schedule.table
        minute, _, day, *_ = table.expression.split()
        looked = table.zone or day == "L"  # at each hour, as cron itself knows neither
        lines.append(f"{f'{minute} * * * *' if looked else table.expression} {line} --due")
        if schedule.missed == "run":
            lines.append(f"@reboot {line} --due")
            if opening := table.opening():
                first = opening.expression
                lines.append(f"{f'{first.split()[0]} * * * *' if looked else first} {line} --due")
    return [BEGIN, *lines, END] if lines else []


def with_cron_block(crontab: str, lines: Sequence[str]) -> str:
    """A crontab with our lines in the place of those of before. Raises: SavedError, where only one of our marks is
    there."""
    if crontab.count(BEGIN) > 1 or crontab.count(BEGIN) != crontab.count(END):
        raise SavedError(tr("The marks of our lines in the crontab are damaged."), tr("Remove them with crontab -e."))
    block = re.compile(rf"{re.escape(BEGIN)}\n.*?{re.escape(END)}\n?", re.DOTALL)
    kept = block.sub("", crontab)
    kept = f"{kept.rstrip(chr(10))}\n" if kept.strip() else ""
    return kept + "".join(f"{line}\n" for line in lines)


def apply(schedules: Sequence[Schedule]) -> None:
    """Make timers and crontab what the schedules say: those that are on, and no others of ours. Raises: SavedError,
    OSError."""
    active = [schedule for schedule in schedules if schedule.is_on]
    _apply_units([schedule for schedule in active if schedule.by == "systemd"])
    _apply_cron([schedule for schedule in active if schedule.by == "cron"])


def reschedule(change: Change) -> None:
    """Change the list of schedules, what starts them, and what the team sees of them; where that fails, the list is as
    it was before. Raises: SavedError."""
    try:
        before = load_schedules()
        after = change_schedules(change)
        try:
            apply(after)
            publish(before, after)
        except (OtterError, OSError):
            change_schedules(lambda _: before)
            with suppress(OtterError, OSError):
                apply(before)
            raise
        for gone in {each.name: each for each in before if all(each.name != kept.name for kept in after)}.values():
            state_file(gone).unlink(missing_ok=True)
    except OSError as problem:
        raise SavedError(
            tr("The schedules can't be changed: {strerror}.", strerror=problem.strerror or problem)
        ) from problem


def _apply_units(schedules: Sequence[Schedule]) -> None:
    folder = unit_folder()
    wanted = {unit.name: unit.text for schedule in schedules for unit in units(schedule)}
    there = {path.name: path for path in folder.glob("nimble-otter-*") if path.suffix in (".service", ".timer")}
    if not wanted and not there:
        return
    gone = sorted(name for name in there if name not in wanted)
    for name in gone:
        if name.endswith(".timer"):
            _told(["systemctl", "--user", "disable", "--now", name], can_fail=True)
        there[name].unlink(missing_ok=True)
    changed = [name for name, text in wanted.items()
               if name not in there or there[name].read_text("utf-8", "replace") != text]  # fmt: skip
    for name in changed:
        write_text(folder / name, wanted[name], is_private=False)
    if gone or changed:
        _told(["systemctl", "--user", "daemon-reload"], can_fail=not wanted)
    for name in sorted(changed):
        if name.endswith(".timer"):
            _told(["systemctl", "--user", "enable", name])
            _told(["systemctl", "--user", "restart", name])


def _apply_cron(schedules: Sequence[Schedule]) -> None:
    lines = cron_lines(schedules)
    if not shutil.which("crontab"):
        if lines:
            raise SavedError(tr("There is no crontab here."), tr("Install cron, or let systemd start the schedule."))
        return
    read = _run(["crontab", "-l"])
    before = read.stdout if read.returncode == 0 else ""
    after = with_cron_block(before, lines)
    if after != before:
        done = subprocess.run(["crontab", "-"], input=after, text=True, capture_output=True, check=False,
                              timeout=_PATIENCE_S)  # fmt: skip
        if done.returncode:
            raise SavedError(tr("The crontab was not taken: {stderr}.", stderr=done.stderr.strip()))


def _told(words: list[str], can_fail: bool = False) -> None:
    done = _run(words)
    if done.returncode and not can_fail:
        text = " ".join(done.stderr.split()) or f"exit code {done.returncode}"
        raise SavedError(
            tr("{words} failed: {text}.", words=" ".join(words), text=text),
            tr("Choose cron, or see systemctl --user status."),
        )


def _run(words: list[str]) -> subprocess.CompletedProcess[str]:
    try:
        return subprocess.run(words, text=True, capture_output=True, check=False, timeout=_PATIENCE_S)
    except (OSError, subprocess.TimeoutExpired) as problem:
        return subprocess.CompletedProcess(words, 1, "", str(problem))
