"""`compare`: what differs between two results, tables or files; and the statements that bring one into line."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from nimble_otter.cli.delivery import Terminal, source_named, tell_sent
from nimble_otter.cli.flags import UsageError, parse_parameters
from nimble_otter.cli.terminal import note, tell
from nimble_otter.errors import ConditionError, SendError
from nimble_otter.pull import places
from nimble_otter.pull.align import Side, Wanted, align, reserve
from nimble_otter.pull.compared import Compared, find_key
from nimble_otter.pull.delivery import deliver_shaped, key_of, pulled
from nimble_otter.pull.file import load_pull
from nimble_otter.pull.model import Pull, SendPlan
from nimble_otter.pull.others import saved_path, table_pull
from nimble_otter.pull.row_files import is_rows_file, read_rows
from nimble_otter.pull.shaped import Shaped, all_rows
from nimble_otter.pull.steps.compare import CompareStep, read_tolerance
from nimble_otter.sources import Fetched, Source
from nimble_otter.stop import NEVER
from nimble_otter.table.ops.alike import EQUAL, Alike
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.pull.align_batches import Place

SAME, DIFFERENT = 0, 7

COMPARED = "{} compared"
"""What the differences from a pull are called where they are delivered."""


def compare(options: argparse.Namespace, plans: Sequence[SendPlan]) -> int:
    """Compare, tell, send, write; SAME (or written) or DIFFERENT. Raises: UsageError, OtterError, OSError."""
    around = Terminal("", password_file=options.password_file)
    if options.large:
        return _compare_large(options, plans, around)
    if options.all_tables:
        return _compare_tables(options, plans, around)
    if options.schema:
        left, right = _catalogues(options, around)
    else:
        left, right = (_side(text, around, options) for text in (options.left, options.right))
    here, there = left.shaped.as_shown(), right.shaped.as_shown()
    keys = _names(options.key)
    if not keys and not options.by_position:
        keys = find_key(here, there, left.key or right.key)
        if not keys:
            raise UsageError(
                tr("No columns tell the rows of both sides apart; name some by --key, or use --by-position.")
            )
    pairs = tuple(_pair(text, "--pair") for text in options.pair)
    step = CompareStep(right.name, keys, pairs, _names(options.leave_out), _rules(options), options.all)
    step = replace(step, rows=there)
    shaped = step.apply(left.shaped, NEVER)
    assert shaped.compared is not None
    differences = shaped.compared.found
    counts = [differences.count(state) for state in range(4)]
    pull = replace(left.pull, name=COMPARED.format(left.name))
    _tell(options, keys, shaped.said, counts)
    if options.script:
        _write_script(options, left, shaped.compared, around)
    if options.write:
        _write_batches(options, left, shaped.compared, around)
    if plans:
        for delivery in deliver_shaped(pull, shaped, plans, around):
            tell_sent(pull, delivery)
    return DIFFERENT if any(counts[1:]) and not options.write else SAME


@dataclass(frozen=True, slots=True, eq=False)
class _Side:
    """Rows with the pull that they are of; `key` is the primary key among them, `fetched` what its source gave (a file
    has none)."""

    name: str
    pull: Pull
    shaped: Shaped
    key: tuple[str, ...] = ()
    fetched: Fetched | None = None


def _compare_large(options: argparse.Namespace, plans: Sequence[SendPlan], around: Terminal) -> int:
    """Compare sides that need not fit into memory. Raises: UsageError, OtterError."""
    from nimble_otter.pull.compare_large import blocks, compare_by_ranges, compare_ordered, in_order

    keys = _names(options.key)
    if not keys:
        raise UsageError(tr("--large needs --key: both sides are read in its order."))
    if options.script or options.write or options.all:
        raise UsageError(tr("--large tells and sends the differences alone."))
    left, right = (_pull_of(text, around, options) for text in (options.left, options.right))
    pairs = tuple(_pair(text, "--pair") for text in options.pair)
    step = CompareStep(right.name, keys, pairs, _names(options.leave_out), _rules(options))
    other_names = {**dict(zip(keys, keys, strict=True)), **dict(pairs)}
    with around.connected(left.source) as here, around.connected(right.source) as there:
        progress = around.progress(tr("comparing"))
        compared = compare_by_ranges(
            left, right, step, (here, there), tell=lambda mine, theirs: progress(mine + theirs)
        )
        if compared is None:
            streams = (blocks(in_order(left, keys, here), here),
                       blocks(in_order(right, [other_names[key] for key in keys], there), there))  # fmt: skip
            with closing(streams[0]), closing(streams[1]):
                compared = compare_ordered(*streams, step, tell=lambda mine, theirs: progress(mine + theirs))
    _, changed, only_left, only_right = compared.counts
    words = ((changed, "changed"), (only_left, "only left"), (only_right, "only right"))
    message = ", ".join(f"{count} {word}" for count, word in words if count) or tr("no differences")
    _tell(options, keys, tr("{message}; {counts} same", message=message, counts=compared.counts[0]), compared.counts)
    if compared.left_out:
        note(tr("  {left_out} more differences are counted only", left_out=compared.left_out), sys.stderr)
    if plans:
        for delivery in deliver_shaped(
            replace(left, name=COMPARED.format(left.name)), all_rows(compared.table), plans, around
        ):
            tell_sent(left, delivery)
    return DIFFERENT if any(compared.counts[1:]) else SAME


def _catalogues(options: argparse.Namespace, around: Terminal) -> tuple[_Side, _Side]:
    """What two sources hold, as rows. Raises: SourceError's, SavedError."""
    from nimble_otter.pull.catalogue_rows import KEY, catalogue_rows

    sources = [source_named(text, options.password_file) for text in (options.left, options.right)]
    with around.connected(sources[0]) as here, around.connected(sources[1]) as there:
        plainly = here.dialect.family != there.dialect.family
        sides = [
            _Side(source.name, Pull(source.name, source),
                  all_rows(catalogue_rows(connection, options.counts, plainly)), KEY)
            for source, connection in zip(sources, (here, there), strict=True)
        ]  # fmt: skip
    return sides[0], sides[1]


def _compare_tables(options: argparse.Namespace, plans: Sequence[SendPlan], around: Terminal) -> int:
    """Compare the rows of all tables that two sources have. Raises: UsageError, SourceError's, SendError."""
    from nimble_otter.changes import Plan, script_of_all
    from nimble_otter.pull.compare_tables import compare_tables, plan_of
    from nimble_otter.table.core.build import table_of

    left, right = (source_named(text, options.password_file) for text in (options.left, options.right))
    wanted, is_same = _wanted(options), True
    rows: list[tuple[str, int | None, int | None, int | None, int | None, str]] = []
    made: list[Plan] = []
    for each in compare_tables(left, right, around):
        is_same = is_same and each.is_same
        rows.append((each.name, *(each.counts or (None,) * 4), each.says))
        _tell(options, each.key, each.says, each.counts, each.name)
        if options.script:
            plan, words, notes = plan_of(each, left, wanted, around)
            if plan is not None and plan.dialect.is_documents:
                raise UsageError(
                    tr("--script of --all-tables is for relational sources; compare collections one by one.")
                )
            made += [plan] if plan is not None else []
            for line in (*([f"{each.name}: {words}"] if plan is not None else ()), *notes):
                note(f"  {line}", sys.stderr)
    if options.script:
        _write(options.script, script_of_all(made) if made else "")
        note(
            tr("statements for {made_count} tables to {script}", made_count=len(made), script=options.script),
            sys.stderr,
        )
    if plans:
        names = ("table", "same", "changed", "only_left", "only_right", "says")
        table = table_of(**dict(zip(names, map(list, zip(*rows, strict=True)), strict=True)))
        pull = Pull(COMPARED.format(left.name), left)
        for sent in deliver_shaped(pull, all_rows(table), plans, around):
            tell_sent(pull, sent)
    return SAME if is_same else DIFFERENT


def _pull_of(text: str, around: Terminal, options: argparse.Namespace) -> Pull:
    """Raises: SavedError, SourceError, ConditionError."""
    path = saved_path(text, places.shelf_folders())
    pull = table_pull(text, around) if not path.exists() else load_pull(path)
    if pull is None:
        raise ConditionError(
            tr("There is no pull {text}.", text=text), tr("Name a pull, SOURCE#TABLE, or a file of rows.")
        )
    values = {**pull.query.parameters, **parse_parameters(options.param)}
    return replace(pull, query=replace(pull.query, parameters=values))


def _side(text: str, around: Terminal, options: argparse.Namespace) -> _Side:
    """Raises: SavedError, SourceError, ConditionError."""
    if is_rows_file(text):
        file = str(Path(text).expanduser().resolve()) if "#" not in text else text
        return _Side(file, Pull(Path(text).stem, Source("", "")), all_rows(read_rows(text)))
    pull = _pull_of(text, around, options)
    fetched, course = pulled(pull, around)
    key = key_of(course, course.end.shown_fields(), fetched.tables)
    return _Side(pull.name, pull, course.whole().end, key, fetched)


def _names(text: str) -> tuple[str, ...]:
    return tuple(name.strip() for name in text.split(",") if name.strip())


def _pair(text: str, flag: str) -> tuple[str, str]:
    left, mark, right = (part.strip() for part in text.partition("="))
    if not (left and mark and right):
        raise UsageError(tr("{flag} {text!r} has no = between two names.", flag=flag, text=text))
    return left, right


def _rules(options: argparse.Namespace) -> dict[str, Alike]:
    found: dict[str, Alike] = {}
    for text in options.tolerance:
        name, number = _pair(text, "--tolerance")
        found[name] = replace(found.get(name, EQUAL), tolerance=read_tolerance(number))
    for text in options.lists_by:
        name, inside = _pair(text, "--lists-by")
        found[name] = replace(found.get(name, EQUAL), lists_by=inside)
    for flag in ("any_case", "any_space", "empty_is_null"):
        for name in _names(getattr(options, flag)):
            found[name] = replace(found.get(name, EQUAL), **{flag: True})  # type: ignore[arg-type]
    return found


def _tell(
    options: argparse.Namespace, keys: Sequence[str], said: str, counts: Sequence[int] | None, table: str = ""
) -> None:
    """A comparison on a line of its own, of a `table` among many; no `counts` where `said` is why there are none."""
    words = ("same", "changed", "only_left", "only_right")
    if options.json:
        known = {"key": list(keys), **dict(zip(words, counts, strict=True))} if counts is not None else {"says": said}
        tell(json.dumps(({"table": table} if table else {}) | known, ensure_ascii=False), sys.stdout)
        return
    by = tr("by {keys}", keys=", ".join(keys)) if keys else tr("by position") if counts is not None else ""
    tell(f"{' '.join(part for part in (table, by) if part)}: {said}", sys.stderr)


def _write(file: str, text: str) -> None:
    from nimble_otter.files import write_text

    try:
        write_text(Path(file).expanduser(), text, is_private=False)
    except OSError as problem:
        raise SendError(
            tr("{file} can't be written: {strerror}.", file=file, strerror=problem.strerror),
            tr("Choose another folder."),
        ) from problem


def _left(left: _Side, compared: Compared, around: Terminal) -> Place:
    """The table that is to be brought into line. Raises: ConditionError, SourceError's."""
    from nimble_otter.changes import target_for
    from nimble_otter.pull.align_batches import Place

    if left.fetched is None or compared.places is None:
        raise ConditionError(
            tr("The rows of {left_name} are not those of a table.", left_name=left.name),
            tr("Compare a table, or a pull without steps that make new rows."),
        )
    with around.connected(left.pull.source) as connection:
        target = target_for(left.fetched, connection, left.pull.source, left.pull.by_values)
    return Place(left.name, left.pull.source, left.fetched.table, target, left.pull.guard)


def _write_script(options: argparse.Namespace, left: _Side, compared: Compared, around: Terminal) -> None:
    """The statements that make the left side like the right one. Raises: SendError, ConditionError."""
    from nimble_otter.changes import Edits, make_plan, script

    place = _left(left, compared, around)
    assert compared.places is not None
    edits = Edits(place.table.rows)
    side = Side(True, place.table, reserve(compared, True, edits), place.target, compared.places)
    aligned = align(compared, side, _wanted(options))
    edits.apply(aligned.action)
    _write(options.script, script(make_plan(edits, place.table, place.target, place.guard)) if aligned.count else "")
    note(tr("{words}: statements to {script}", words=aligned.words(), script=options.script), sys.stderr)
    for line in aligned.notes:
        note(f"  {line}", sys.stderr)


def _write_batches(options: argparse.Namespace, left: _Side, compared: Compared, around: Terminal) -> None:
    """Make the left side like the right one, and tell of each batch. Raises: UsageError, ChangeError, SourceError's."""
    from nimble_otter.pull.align_batches import write_in_batches
    from nimble_otter.pull.writes import WriteJournal

    source = left.pull.source
    if source.care and not options.yes:
        raise UsageError(
            tr(
                "{source_name} is marked with “take care”. Nothing was written; --yes says that this is meant.",
                source_name=source.name,
            )
        )
    if options.batch < 1:
        raise UsageError(tr("--batch is a number of rows, 1 at least."))
    place, journal = _left(left, compared, around), WriteJournal(places.state_folder() / "reversals")
    written = batches = 0
    try:
        with around.connected(source) as connection:
            for each in write_in_batches(compared, place, _wanted(options), connection, journal, options.batch):
                written, batches = written + each.rows, each.number
                text = tr("; reversal: {reversal}", reversal=each.reversal) if each.reversal is not None else ""
                note(
                    tr(
                        "batch {number} of {count}: {words}{text}",
                        number=each.number,
                        count=each.count,
                        words=each.words,
                        text=text,
                    ),
                    sys.stderr,
                )
                for line in each.notes:
                    note(f"  {line}", sys.stderr)
    finally:
        note(tr("{written} rows written in {batches} batches", written=written, batches=batches), sys.stderr)
        journal.close()


def _wanted(options: argparse.Namespace) -> Wanted:
    return Wanted(not options.no_insert, not options.no_update, options.delete)
