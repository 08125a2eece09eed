"""When a schedule runs: a calendar expression of five fields, as cron has it, in a time zone.

Reckoning is cronsim's, which treats changes of daylight saving time as Debian's cron does: what would fall into the
hour that is left out runs once after it, and what falls into the hour that comes twice runs once. Here are the everyday
forms of such an expression, its words, and the same for systemd's timers (systemd.time(7))."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from nimble_otter.errors import SavedError
from nimble_otter.translation import tr

EVERY = ("hour", "day", "weekday", "week", "month", "minutes", "calendar")
DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
STEPS = (5, 10, 15, 20, 30)
"""Minutes that divide an hour."""
LAST = "last"
_ANY_DAY = dt.datetime(2031, 1, 1, tzinfo=dt.UTC)
_MOMENTS_OF_A_DAY = 24 * 60 + 1


@dataclass(frozen=True, slots=True)
class Timetable:
    """`expression` has five fields: minute, hour, day of the month, month, day of the week. `zone` is an IANA name;
    "" for the machine's own. `between` is the part of the day in which it runs, such as "08:00-18:00" (in that zone,
    the end left out; "22:00-04:00" goes over midnight); "" for the whole day."""

    expression: str
    zone: str = ""
    between: str = ""

    def __post_init__(self) -> None:
        self.check()

    def check(self) -> None:
        """Raises: SavedError, where the expression, the zone or the part of the day is none, or never meet."""
        from cronsim import CronSim, CronSimError

        if len(self.expression.split()) != 5:
            raise SavedError(
                tr("{expression!r} is not a calendar expression.", expression=self.expression),
                tr("It has five fields: minute, hour, day of the month, month, day of the week."),
            )
        try:
            CronSim(self.expression, dt.datetime(2031, 1, 1))
        except CronSimError as problem:
            raise SavedError(
                tr(
                    "{expression!r} is not a calendar expression: {problem}.",
                    expression=self.expression,
                    problem=problem,
                )
            ) from problem
        _zone(self.zone)
        if self.between and not any(map(self.is_open, islice(self._moments(_ANY_DAY), _MOMENTS_OF_A_DAY))):
            raise SavedError(
                tr("{expression} never runs between {between}.", expression=self.expression, between=self.between),
                tr("Choose another time, or other hours."),
            )

    def runs(self, after: dt.datetime) -> Iterator[dt.datetime]:
        """The moments after one (with a zone), in the timetable's zone."""
        return filter(self.is_open, self._moments(after))

    def _moments(self, after: dt.datetime) -> Iterator[dt.datetime]:
        from cronsim import CronSim

        return iter(CronSim(self.expression, after.astimezone(_zone(self.zone))))

    def is_open(self, moment: dt.datetime) -> bool:
        """Whether it may run at a moment (with a zone)."""
        if not self.between:
            return True
        start, end = _hours(self.between)
        time = moment.astimezone(_zone(self.zone)).time().replace(tzinfo=None)
        return start <= time < end if start < end else time >= start or time < end

    def opening(self) -> Timetable | None:
        """The moments at which its part of the day begins, when missed runs are made up for; None for whole days."""
        if not self.between:
            return None
        start, _ = _hours(self.between)
        return Timetable(f"{start.minute} {start.hour} * * *", self.zone)

    def next_run(self, after: dt.datetime) -> dt.datetime | None:
        """The first of them; None where there is none in fifty years."""
        return next(self.runs(after), None)

    def words(self) -> str:
        """In a few words, as a page lists it."""
        zone = f", {self.zone}" if self.zone else ""
        when = self._when()
        return (tr("{when} between {hours}", when=when, hours=self.between) if self.between else when) + zone

    def _when(self) -> str:
        minute, hour, day, month, weekday = self.expression.split()
        if found := re.fullmatch(r"\*/(\d+)", minute):
            if (hour, day, month, weekday) == ("*",) * 4:
                return tr("every {found} minutes", found=found[1])
        elif minute.isdigit() and month == "*":
            at = f"{int(hour):02}:{int(minute):02}" if hour.isdigit() else ""
            if hour == "*" and (day, weekday) == ("*", "*"):
                return tr("hourly at :{minute:02}", minute=int(minute))
            if at and (day, weekday) == ("*", "*"):
                return tr("daily {at}", at=at)
            if at and day == "*":
                return f"{_days_words(weekday)} {at}"
            if at and weekday == "*":
                which = tr("last day") if day == "L" else tr("day {day}", day=day)
                return tr("{which} of the month {at}", which=which, at=at)
        return self.expression

    def on_calendar(self) -> list[str]:
        """The same as lines of OnCalendar=: two where both days of the month and of the week are named, as cron runs
        on either."""
        minute, hour, day, month, weekday = self.expression.split()
        zone = f" {self.zone}" if self.zone else ""
        time = f"{_range(hour, 0)}:{_range(minute, 0)}:00{zone}"
        months = _range(_named(month, _MONTHS), 1)

        def line(days: str, weekdays: str) -> str:
            date = f"*-{months}~01" if days == "L" else f"*-{months}-{_range(days, 1)}"
            return f"{f'{weekdays} ' if weekdays else ''}{date} {time}"

        if weekday == "*":
            return [line(day, "")]
        weekdays = _weekdays(weekday)
        return [line("*", weekdays)] if day == "*" else [line(day, ""), line("*", weekdays)]


_MONTHS = ("JAN", "FEB", "MAR", "APR", "MAY", "JUN", "JUL", "AUG", "SEP", "OCT", "NOV", "DEC")


def timetable(
    every: str, at: str = "", days: str = "", minutes: int = 15, calendar: str = "", zone: str = "", between: str = ""
) -> Timetable:
    """From an everyday form: `every` is one of EVERY, `at` a time (of an hour its minute), `days` the days of the week
    ("Mon,Thu") or the day of the month ("1" to "31", "last"), `between` hours such as "8:00-18:00". Raises:
    SavedError."""
    hours = "{:%H:%M}-{:%H:%M}".format(*_hours(between)) if between.strip() else ""
    return Timetable(_expression(every, at, days, minutes, calendar), zone, hours)


def _expression(every: str, at: str, days: str, minutes: int, calendar: str) -> str:
    if every == "calendar":
        return " ".join(calendar.split())
    if every == "minutes":
        if minutes not in STEPS:
            raise SavedError(
                tr("Every {minutes} minutes is not offered.", minutes=minutes),
                tr("Use one of {values}.", values=", ".join(map(str, STEPS))),
            )
        return f"*/{minutes} * * * *"
    hour, minute = _time(at or ("00" if every == "hour" else "04:30"), every == "hour")
    if every == "hour":
        return f"{minute} * * * *"
    if every == "day":
        return f"{minute} {hour} * * *"
    if every == "weekday":
        return f"{minute} {hour} * * 1-5"
    if every == "week":
        return f"{minute} {hour} * * {_week(days or 'Mon')}"
    if every == "month":
        day = days or "1"
        if day != LAST and not (day.isdigit() and 1 <= int(day) <= 31):
            raise SavedError(tr("{day!r} is not a day of the month.", day=day), tr("Use 1 to 31, or last."))
        return f"{minute} {hour} {'L' if day == LAST else int(day)} * *"
    raise SavedError(tr("{every!r} is not known.", every=every), tr("Use one of {every}.", every=", ".join(EVERY)))


def _week(days: str) -> str:
    names = [name.strip().capitalize()[:3] for name in days.split(",") if name.strip()]
    if unknown := [name for name in names if name not in DAYS]:
        raise SavedError(
            tr("{unknown!r} is not a day of the week.", unknown=unknown[0]), tr("Use {days}.", days=", ".join(DAYS))
        )
    return ",".join(str(DAYS.index(name) + 1) for name in sorted(set(names), key=DAYS.index))


def _time(text: str, is_of_hour: bool) -> tuple[int, int]:
    match = re.fullmatch(r":?(\d{1,2})", text) if is_of_hour else re.fullmatch(r"(\d{1,2}):(\d{2})", text)
    numbers = (0, int(match[1])) if match and is_of_hour else (int(match[1]), int(match[2])) if match else (99, 99)
    if numbers[0] > 23 or numbers[1] > 59:
        raise SavedError(
            tr("{text!r} is not a time.", text=text),
            tr("Write it like :15.") if is_of_hour else tr("Write it like 04:30."),
        )
    return numbers


def _hours(between: str) -> tuple[dt.time, dt.time]:
    """Raises: SavedError."""
    match = re.fullmatch(r"\s*(\d{1,2}):(\d{2})\s*[-–]\s*(\d{1,2}):(\d{2})\s*", between)
    numbers = [int(part) for part in match.groups()] if match else [99] * 4
    if max(numbers[::2]) > 23 or max(numbers[1::2]) > 59 or numbers[:2] == numbers[2:]:
        raise SavedError(tr("{between!r} is not a part of the day.", between=between), tr("Write it like 08:00-18:00."))
    return dt.time(numbers[0], numbers[1]), dt.time(numbers[2], numbers[3])


def _zone(name: str) -> dt.tzinfo:
    if not name:
        return _own_zone()
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError) as problem:
        raise SavedError(
            tr("There is no time zone {name}.", name=name), tr("Use a name such as Europe/Lisbon.")
        ) from problem


def _own_zone() -> dt.tzinfo:
    """The machine's zone with its rules, where they are known; else only its offset of now."""
    import os

    named = os.environ.get("TZ", "").lstrip(":")
    try:
        path = Path("/etc/localtime").resolve()
        return ZoneInfo(named or str(path).split("zoneinfo/", 1)[1])
    except (IndexError, ZoneInfoNotFoundError, ValueError, OSError):
        return dt.datetime.now().astimezone().tzinfo or dt.UTC


def _days_words(field: str) -> str:
    if field == "1-5":
        return tr("weekdays")
    days = [DAYS[(int(part) - 1) % 7] for part in field.split(",") if part.isdigit()]
    return f"{', '.join(days)}" if len(days) == len(field.split(",")) else tr("on {field}", field=field)


def _named(field: str, names: tuple[str, ...]) -> str:
    return re.sub(r"[A-Za-z]{3}", lambda m: str(names.index(m[0].upper()) + 1), field)


def _range(field: str, first: int) -> str:
    """A field as systemd writes it."""
    parts = []
    for part in field.split(","):
        body, _, step = part.partition("/")
        body = body.replace("-", "..")
        if step:
            body = f"{first}" if body == "*" else body
            parts.append(f"{body}/{int(step)}")
        else:
            parts.append(body)
    return ",".join(parts)


def _weekdays(field: str) -> str:
    names = {str(n): DAYS[(n - 1) % 7] for n in range(8)} | {day.upper(): day for day in DAYS}
    texts: list[str] = []
    for part in field.upper().split(","):
        body, _, step = part.partition("/")
        low, _, high = body.partition("-")
        if body == "*":
            low, high = "0", "6"
        if not high and not step:
            texts.append(names[low])
            continue
        start = int(low) if low.isdigit() else DAYS.index(names[low]) + 1
        end = (int(high) if high.isdigit() else DAYS.index(names[high]) + 1) if high else 6
        texts += [names[str(n)] for n in range(start, end + 1, int(step or 1))]
    return ",".join(sorted(set(texts), key=DAYS.index))
