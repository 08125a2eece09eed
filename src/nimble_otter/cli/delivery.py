"""From a source to files or standard output: streamed where no step needs all the rows at once."""

from __future__ import annotations

import datetime as dt
import json
import os
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO, cast

from nimble_otter.cli.flags import UsageError
from nimble_otter.cli.terminal import HarmlessOutput, harmless, is_quiet, note, tell
from nimble_otter.errors import ChecksFailed, PasswordMissing, SendError
from nimble_otter.pull.model import Pull, SendPlan
from nimble_otter.sources.catalogue import EntryKind
from nimble_otter.stop import StopToken
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.pull.account import Outcome
    from nimble_otter.pull.delivery import Delivery
    from nimble_otter.send import Rows, Sent
    from nimble_otter.send.format import Format
    from nimble_otter.send.transfer import Moved
    from nimble_otter.sources import Connection, Source


def _asked_for(source: Source, problem: PasswordMissing) -> str:
    """The password, asked for on the terminal once. Raises: PasswordMissing where there is no terminal to ask on."""
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        raise PasswordMissing(problem.message, tr("Give it by --password-file or NIMBLE_OTTER_PASSWORD.")) from problem
    from getpass import getpass

    return getpass(tr("Password of {harmless}: ", harmless=harmless(source.name)))


@dataclass(frozen=True, slots=True)
class Wishes:
    """How a delivery is made: `fail_if_cut` makes a limit that left rows an error, `anyway` sends what fails its
    checks, `as_json` reports so; `by` is who asked for it."""

    fail_if_cut: bool = False
    anyway: bool = False
    as_json: bool = False
    by: str = "command line"


class Progress:
    """Counts on stderr, only when that is a terminal."""

    def __init__(self, what: str) -> None:
        self.what = what
        self.is_on = sys.stderr.isatty() and not is_quiet()

    def __call__(self, done: int, total: int | None = None) -> None:
        if self.is_on:
            so_far = tr("{done} of {total}", done=done, total=total) if total else str(done)
            print(f"\r{harmless(self.what)} {so_far}  ", end="", file=sys.stderr, flush=True)

    def end(self) -> None:
        """Clear the line."""
        if self.is_on:
            print("\r\033[K", end="", file=sys.stderr, flush=True)


def saved_sources() -> list[Source]:
    """The demo's and the saved ones. Raises: SavedError's."""
    from nimble_otter.demo import demo_sources
    from nimble_otter.pull import places
    from nimble_otter.sources.saved import load_sources
    from nimble_otter.sources.team import with_team

    config = places.config_folder()
    own = [*demo_sources(config), *load_sources(config / "sources.toml")]
    found, troubles = with_team(own, places.team_folder())
    for trouble in troubles:
        note(trouble, sys.stderr)
    return found


def source_named(text: str, password_file: str = "") -> Source:
    """A source by its URI, its file, or the name it is saved under; with the password in a file, if one is named.
    Raises: SourceError, SavedError."""
    source = _named(text)
    return with_password(source, password_file)


def with_password(source: Source, file: str) -> Source:
    """The source with the password that stands in a file. Raises: SavedError."""
    from nimble_otter.sources.secrets import password_in
    from nimble_otter.sources.urls import Secret

    return replace(source, secret=Secret(password_in(Path(file)))) if file else source


def _named(text: str) -> Source:
    from nimble_otter.sources.client_files import service_url
    from nimble_otter.sources.source import Source, source_of_file
    from nimble_otter.sources.uri import ad_hoc_name

    if text.startswith("demo:"):
        return Source(text, text)
    if "://" in text:
        url = service_url(text)
        return replace(made := Source("", url), name=ad_hoc_name(made.url))
    if not Path(text).exists():
        named = next((source for source in saved_sources() if source.name == text), None)
        if named is not None:
            return named
    return source_of_file(text)


def deliver(pull: Pull, plans: Sequence[SendPlan], wishes: Wishes, file: str = "") -> int:
    """Run a pull, which stands in `file`, and send its rows to each of the plans."""
    from nimble_otter.pull.account import Outcome
    from nimble_otter.pull.delivery import checks_words
    from nimble_otter.pull.delivery import deliver as delivered

    try:
        for delivery in delivered(pull, plans, Terminal(file, wishes.fail_if_cut), anyway=wishes.anyway):
            text = checks_words(delivery.checked)
            _say(pull, delivery.plan, delivery.made, tr("{columns} columns", columns=delivery.columns), text, wishes.by)
            report(pull, delivery, wishes.as_json)
    except ChecksFailed as problem:
        for plan in plans:
            _keep(pull, plan.format, None, wishes.by, Outcome.HELD, problem.message, plan.path)
        raise
    return 0


def report(pull: Pull, made: Delivery, as_json: bool) -> None:
    """Tell on standard error what checks found, and the delivery beside those before it."""
    beside = made.beside
    if as_json:
        plain = {
            "pull": pull.name, "format": made.plan.format, "path": str(getattr(made.made, "path", "")),
            "rows": getattr(made.made, "rows", getattr(made.made, "sent", 0)),
            "checks": [{"of": c.line.subject, "says": c.line.words(), "holds": c.holds, "found": c.said,
                        "severity": "stop" if c.line.stops else "warn"} for c in made.checked],
            "last": asdict(beside.moved) if beside is not None and beside.moved is not None else None,
            "unusual": [asdict(each) for each in beside.unusual] if beside is not None else [],
        }  # fmt: skip
        tell(json.dumps(plain, ensure_ascii=False), sys.stderr)
        return
    for each in made.checked:
        if not each.holds:
            note(tr("  check failed: {words}", words=each.words()), sys.stderr)
    if beside is None or not beside.before:
        return
    change = beside.now.rows - beside.before[0].rows
    parts = [tr("{change:+} rows since {moment:%Y-%m-%d %H:%M}", change=change, moment=beside.before[0].moment)]
    if beside.moved is not None:
        parts.append(
            tr(
                "{new} new, {gone} gone, {changed} changed",
                new=beside.moved.new,
                gone=beside.moved.gone,
                changed=beside.moved.changed,
            )
        )
    parts += [
        f"{word} {', '.join(names)}"
        for word, names in (
            (tr("new columns"), beside.appeared),
            (tr("columns gone"), beside.went),
            (tr("another type"), beside.other_kind),
        )
        if names
    ]
    parts += [
        tr("{name} {value:g} (usual {low:g} to {high:g})", name=u.name, value=u.value, low=u.low, high=u.high)
        for u in beside.unusual[:5]
    ]
    note(f"  {'; '.join(parts)}", sys.stderr)


def deliver_tables(source: Source, names: tuple[str, ...], plans: Sequence[SendPlan]) -> int:
    """Send whole tables: each to a file of its own where the file name has {table}, else all to one file."""
    from nimble_otter.pull.delivery import deliver_tables as delivered
    from nimble_otter.pull.model import Query

    around = Terminal()
    with around.connected(source) as connection:
        known = {table.name: table for table in connection.tables() if table.holds_rows}
        for name in names:
            if name not in known:
                raise UsageError(
                    tr(
                        "There is no table {name} in {source_name}; there are {tables}.",
                        name=name,
                        source_name=source.name,
                        tables=", ".join(list(known)[:20]),
                    )
                )
        wanted = [known[name] for name in names] or [
            t for t in known.values() if t.kind in (EntryKind.TABLE, EntryKind.COLLECTION)
        ]
        whole = Pull(source.name, source, Query(""))
        for plan in plans:
            if plan.path == "-":
                if len(wanted) != 1:
                    raise SendError(tr("Several tables can't be sent to standard output."), tr("Name a file for each."))
                deliver(Pull(source.name, source, Query(connection.select_all(wanted[0].name))), [plan], Wishes())
                continue
            for sent, columns in delivered(source, connection, wanted, plan, progress=around.progress(tr("writing"))):
                _say(
                    whole,
                    plan,
                    sent,
                    tr("{columns} columns", columns=columns)
                    if columns
                    else tr("{wanted_count} tables", wanted_count=len(wanted)),
                )
    return 0


class Terminal:
    """The surroundings of a delivery that is run from a command line; `file` is the pull's own."""

    def __init__(self, file: str = "", fail_if_cut: bool = False, password_file: str = "") -> None:
        from nimble_otter.pull import places

        self._password_file = password_file

        self._fail_if_cut = fail_if_cut
        self.folder = places.state_folder() if file else None

        own = [Path(file).resolve().parent] if file else []
        self._folders = tuple(dict.fromkeys((*own, *places.shelf_folders())))

    @contextmanager
    def connected(self, source: Source) -> Iterator[Connection]:
        """See `Surroundings.connected`."""
        from nimble_otter.demo import resolve
        from nimble_otter.pull.places import demo_folder
        from nimble_otter.sources import connect
        from nimble_otter.sources.marks import guarded_databases, with_marks

        saved = saved_sources()
        marked = source if source in saved else with_marks(source, saved, names=True)
        marked = with_password(marked, self._password_file)
        ours = os.environ.get("NIMBLE_OTTER_PASSWORD")  # which no other user sees, as arguments are seen
        reached, guarded = resolve(marked, demo_folder()), guarded_databases(marked, saved)
        try:
            connection = connect(reached, guarded=guarded, otherwise=ours)
        except PasswordMissing as problem:
            connection = connect(reached, _asked_for(marked, problem), guarded=guarded)
        try:
            yield connection
        finally:
            connection.close()
            Progress("").end()

    def find_source(self, name: str) -> Source:
        """See `Surroundings.find_source`."""
        return source_named(name)

    def find_pull(self, name: str) -> Pull:
        """See `Surroundings.find_pull`."""
        from nimble_otter.pull.others import find_pull, table_pull

        return (
            find_pull(name, self._folders)
            if "#" not in name
            else table_pull(name, self) or find_pull(name, self._folders)
        )

    def progress(self, what: str) -> Progress:
        """See `Surroundings.progress`."""
        return Progress(what)

    def limited(self, pull: Pull) -> None:
        """See `Surroundings.limited`."""
        text = tr(
            "{pull_name}: the limit of {limit} left rows at the source", pull_name=pull.name, limit=pull.query.limit
        )
        if self._fail_if_cut:
            raise SendError(
                tr("{text}; what was delivered is not all.", text=text), tr("Raise the limit, or leave it out.")
            )
        note(text, sys.stderr)

    def written(self, rows: Rows, plan: SendPlan) -> bool:
        """To standard output, where that is meant."""
        from nimble_otter.pull.deliver import format_of

        if plan.path != "-":
            return False
        _to_output(rows, format_of(plan), plan.options)
        return True


def tell_sent(pull: Pull, made: Delivery) -> None:
    """Tell of a delivery, and keep it in the account."""
    _say(pull, made.plan, made.made, tr("{columns} columns", columns=made.columns))


def _keep(
    pull: Pull, format_: str, sent: Sent | Moved | None, by: str, outcome: Outcome, said: str, path: str = ""
) -> None:
    from nimble_otter.pull import places
    from nimble_otter.pull.account import delivered, keep_delivery

    try:
        made = delivered(pull, format_, sent, dt.datetime.now(), by, outcome, said, path)
        keep_delivery(places.state_folder(), made)
    except OSError:  # the delivery itself stands
        note(tr("  the account of deliveries can't be written"), sys.stderr)


def _say(pull: Pull, plan: SendPlan, made: Sent | Moved, what: str, checks: str = "", by: str = "command line") -> None:
    from nimble_otter.pull.account import Outcome
    from nimble_otter.pull.schedules import target_words
    from nimble_otter.send.transfer import Moved

    if isinstance(made, Moved):
        text = tr(
            "{added} new rows, {updated} updated, {skipped} skipped",
            added=made.added,
            updated=made.updated,
            skipped=made.skipped,
        )
        note(
            tr(
                "{text} in {table} of {source_named_name}",
                text=text,
                table=made.table,
                source_named_name=source_named(str(plan.options.get("source", ""))).name,
            )
        )
        _keep(pull, plan.format, made, by, Outcome.SENT, checks, target_words(plan))
        return
    told = sys.stderr if str(made.path).startswith("/dev/") else sys.stdout
    note(tr("{rows} rows, {what} to {path}", rows=made.rows, what=what, path=made.path), told)
    for line in made.notes:
        note(f"  {line}", sys.stderr)
    if made.beside is not None:
        note(tr("  {count} files in {folder}", count=made.beside[1], folder=made.beside[0]), sys.stderr)
    _keep(pull, plan.format, made, by, Outcome.SENT, checks)


def _to_output(rows: Rows, format_: Format, options: Any) -> None:
    from nimble_otter.send import Output, settings

    if not format_.is_text:
        raise SendError(tr("{word} is not text.", word=format_.word), tr("Send it to a file."))
    given = settings(format_, options)
    if given.get("binary") == "files":
        raise SendError(tr("Files can't be written beside standard output."), tr("Choose hex or base64."))
    count, stream = 0, cast("BinaryIO", HarmlessOutput(sys.stdout.buffer, sys.stdout.isatty()))
    for done in format_.write(rows, Output(stream, given, StopToken())):
        count = done
        stream.flush()
    note(tr("{count} rows, {fields_count} columns", count=count, fields_count=len(rows.fields)), sys.stderr)
