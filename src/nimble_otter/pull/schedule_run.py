"""Running a schedule: one at a time, with further tries where a source is down, and what became of it kept."""

from __future__ import annotations

import datetime as dt
import fcntl
import os
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from decimal import InvalidOperation
from pathlib import Path

from nimble_otter.errors import ChecksFailed, ConnectError, LostError, OtterError, SavedError, SourceTimeout, Stopped
from nimble_otter.files import make_private
from nimble_otter.pull.account import Outcome, delivered, keep_delivery
from nimble_otter.pull.delivery import Delivery, Once, Surroundings, checks_words, deliver
from nimble_otter.pull.file import load_pull
from nimble_otter.pull.growing import High
from nimble_otter.pull.model import Pull, SendPlan
from nimble_otter.pull.only_new import Marks
from nimble_otter.pull.schedules import RunState, Schedule, keep_state, load_state, state_file, target_words
from nimble_otter.pull.team_schedules import keeper_of, marks_folder
from nimble_otter.send import Sent
from nimble_otter.send.transfer import Moved
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table.text.show import grouped
from nimble_otter.team_changes import myself
from nimble_otter.translation import tr

FIRST_WAIT_S, LONGEST_WAIT_S = 20.0, 600.0
"""Before the second try; each further one waits three times as long."""
WAIT_FOR_OTHER_S = 5.0


@dataclass(frozen=True, slots=True)
class Ran:
    """What a run came to; `delivered` are its deliveries."""

    outcome: str
    said: str
    delivered: tuple[Delivery, ...] = ()
    problem: OtterError | None = None


SKIPPED, NOTHING_NEW = "skipped", "nothing new"


def run_schedule(
    schedule: Schedule,
    around_of: Callable[[Path], Surroundings],
    stop: StopToken = NEVER,
    wait: Callable[[float], None] = time.sleep,
    tell: Callable[[str], None] = lambda text: None,
) -> Ran:
    """Deliver as a schedule says. A second run waits a little for one that is under way, then is skipped. Everything is
    kept in the account. Raises: Stopped."""
    with _alone(schedule, wait) as is_alone:
        if not is_alone:
            tell(tr("{schedule_name}: a run is under way; this one is skipped", schedule_name=schedule.name))
            return Ran(SKIPPED, tr("Another run was under way."))
        if elsewhere := runs_elsewhere(schedule):
            tell(f"{schedule.name}: {elsewhere}")
            return Ran(SKIPPED, elsewhere)
        began = dt.datetime.now(dt.UTC)
        before = load_state(schedule)
        with suppress(OSError):
            keep_state(schedule, replace(before, started=began.isoformat(timespec="seconds")))
        try:
            ran = _run(schedule, around_of, stop, wait, tell)
        except Stopped:
            ran = Ran(Outcome.FAILED.value, tr("It was stopped."))
            _keep_end(schedule, began, ran)
            raise
        _keep_end(schedule, began, ran)
        return ran


def _run(
    schedule: Schedule,
    around_of: Callable[[Path], Surroundings],
    stop: StopToken,
    wait: Callable[[float], None],
    tell: Callable[[str], None],
) -> Ran:
    path = Path(schedule.pull)
    pull: Pull | None = None
    is_within = schedule.table.is_open(dt.datetime.now(dt.UTC))
    pause, problem = FIRST_WAIT_S, OtterError(tr("It was not tried."))
    for attempt in range(schedule.tries):
        try:
            pull = pull_of(schedule)
            return _delivered(schedule, pull, around_of(path), stop)
        except ChecksFailed as failed:
            _keep(schedule, pull, None, Outcome.HELD, failed.message)
            return Ran(Outcome.HELD.value, failed.message, problem=failed)
        except (ConnectError, LostError, SourceTimeout) as failed:
            problem = failed
            if attempt + 1 < schedule.tries:
                following = dt.datetime.now(dt.UTC) + dt.timedelta(seconds=pause)
                if is_within and not schedule.table.is_open(following):
                    problem = SavedError(
                        tr(
                            "{message} No more tries outside {between}.",
                            message=failed.message,
                            between=schedule.table.between,
                        )
                    )
                    break
                tell(
                    tr(
                        "{schedule_name}: {message} Trying again in {pause:.0f} s",
                        schedule_name=schedule.name,
                        message=failed.message,
                        pause=pause,
                    )
                )
                wait(pause)
                stop.check()
                pause = min(LONGEST_WAIT_S, pause * 3)
        except OtterError as failed:
            problem = failed
            break
        except OSError as failed:
            problem = SavedError(
                tr("{filename} can't be used: {strerror}.", filename=failed.filename or path, strerror=failed.strerror)
            )
            break
    tries = (
        tr(" ({tries} tries)", tries=schedule.tries)
        if isinstance(problem, (ConnectError, LostError, SourceTimeout))
        else ""
    )
    text = f"{problem}{tries}"
    _keep(schedule, pull, None, Outcome.FAILED, text)
    return Ran(Outcome.FAILED.value, text, problem=problem)


def runs_elsewhere(schedule: Schedule) -> str:
    """Why a shared schedule is not to run here, in a sentence; "" where it is, or where that can't be told: then the
    run itself fails, and says so."""
    if not schedule.is_shared:
        return ""
    try:
        keeper = keeper_of(schedule)
    except SavedError:
        return ""
    return (
        ""
        if keeper == myself()
        else tr("{keeper} runs it now.", keeper=keeper)
        if keeper
        else tr("The team no longer has it.")
    )


def pull_of(schedule: Schedule) -> Pull:
    """The schedule's pull with its parameters. Raises: SavedError's."""
    pull = load_pull(Path(schedule.pull))
    given = {**pull.query.parameters, **schedule.parameters}
    return replace(pull, query=replace(pull.query, parameters=given))


def plans_of(schedule: Schedule, pull: Pull) -> tuple[SendPlan, ...]:
    """Where the schedule delivers to. Raises: SavedError, where that is nowhere, or only the clipboard."""
    plans = schedule.sends or ((pull.send,) if pull.send is not None else ())
    if not plans or any(plan.format == "clipboard" for plan in plans):
        raise SavedError(
            tr("{pull_name} is delivered nowhere that a schedule could reach.", pull_name=pull.name),
            tr("Give it a file or a source."),
        )
    return tuple(replace(plan, exists="refuse") if plan.exists == "ask" else plan for plan in plans)


@dataclass(frozen=True, slots=True)
class Mark:
    """What a schedule has delivered to one target: how many rows, told apart by key, and up to which value of a column
    that grows ("" for none)."""

    target: str
    rows: int
    up_to: str

    def words(self) -> str:
        """In a few words."""
        return tr(
            "{rows} delivered{up_to}",
            rows=grouped(self.rows),
            up_to=tr(", up to {up_to}", up_to=self.up_to) if self.up_to else "",
        )


def marks_of(schedule: Schedule) -> list[Mark]:
    """What was delivered so far; none where rows are not delivered once. Raises: SavedError's, OSError."""
    if not schedule.only_new:
        return []
    results = []
    for plan, marks in _marks(schedule):
        high = marks.high()
        results.append(Mark(target_words(plan), len(marks.load().keys), high.text if high is not None else ""))
    return results


def set_back(schedule: Schedule, to: str = "") -> None:
    """Let rows count as new again: those from a value on of the column that grows, or all. Raises: SavedError, also
    while it runs; OSError."""
    with _alone(schedule, lambda seconds: None) as is_alone:
        if not is_alone:
            raise SavedError(
                tr("{schedule_name} is running.", schedule_name=schedule.name), tr("Wait until it has ended.")
            )
        if not to:
            shutil.rmtree(marks_folder(schedule), ignore_errors=True)
            return
        for _, marks in _marks(schedule):
            before = marks.high()
            if before is None:
                raise SavedError(
                    tr("{schedule_name} keeps no value of a column that grows.", schedule_name=schedule.name),
                    tr("Set it back whole."),
                )
            high = High(before.kind, to)
            try:
                high.value()
            except (ValueError, InvalidOperation) as problem:
                raise SavedError(
                    tr("{to!r} is not a value of kind {kind_value}.", to=to, kind_value=high.kind.value)
                ) from problem
            marks.set_back(high)


def _marks(schedule: Schedule) -> list[tuple[SendPlan, Marks]]:
    once = Once(marks_folder(schedule), schedule.key)
    return [(plan, once.marks(plan)) for plan in plans_of(schedule, pull_of(schedule))]


def _delivered(schedule: Schedule, pull: Pull, around: Surroundings, stop: StopToken) -> Ran:
    folder, own = marks_folder(schedule), schedule
    once = Once(folder, own.key, own.changed_too, own.grows, own.overlap) if own.only_new else None
    plans = plans_of(schedule, pull)
    deliveries: list[Delivery] = []
    for each in deliver(pull, plans, around, stop, schedule.anyway, once):
        deliveries.append(each)
        _keep(schedule, pull, each.made, Outcome.SENT, checks_words(each.checked), each.plan)
    if not deliveries:
        return Ran(NOTHING_NEW, "")
    rows = sum(each.made.rows if isinstance(each.made, Sent) else each.made.sent for each in deliveries)
    return Ran(Outcome.SENT.value, tr("{rows} rows", rows=rows), tuple(deliveries))


def _keep(
    schedule: Schedule,
    pull: Pull | None,
    sent: Sent | Moved | None,
    outcome: Outcome,
    said: str,
    plan: SendPlan | None = None,
) -> None:
    from nimble_otter.pull import places
    from nimble_otter.sources.source import Source

    shown = pull or Pull(Path(schedule.pull).stem, Source("", ""))
    place = target_words(plan) if plan is not None else ""
    key = plan.format if plan is not None else ""
    line = delivered(shown, key, sent, dt.datetime.now(), schedule.name, outcome, said, place)
    with suppress(OSError):  # the delivery itself stands
        keep_delivery(places.state_folder(), line)


def _keep_end(schedule: Schedule, began: dt.datetime, ran: Ran) -> None:
    ended = dt.datetime.now(dt.UTC)
    rows = sum(each.made.rows if isinstance(each.made, Sent) else each.made.sent for each in ran.delivered)
    state = RunState(began.isoformat(timespec="seconds"), ended.isoformat(timespec="seconds"), ran.outcome, ran.said,
                     round((ended - began).total_seconds(), 3), rows)  # fmt: skip
    with suppress(OSError):
        keep_state(schedule, state)


@contextmanager
def _alone(schedule: Schedule, wait: Callable[[float], None]) -> Iterator[bool]:
    """Whether no other run of the schedule is under way; the lock ends with the process, however that ends."""
    path = state_file(schedule).with_suffix(".lock")
    make_private(path.parent)
    with path.open("a") as lock:
        os.chmod(path, 0o600)
        for attempt in range(2):
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                if attempt:
                    yield False
                    return
                wait(WAIT_FOR_OTHER_S)
                continue
            break
        yield True


def is_running(schedule: Schedule) -> bool:
    """Whether a run of the schedule is under way in some process."""
    path = state_file(schedule).with_suffix(".lock")
    try:
        with path.open("a") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except FileNotFoundError:
        return False
    except OSError:
        return True
    return False
