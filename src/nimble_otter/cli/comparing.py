"""`compare`: what differs between two results, tables or files; and the statements that bring one into line."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from pathlib import Path

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

SAME, DIFFERENT = 0, 7


def compare(options: argparse.Namespace, plans: Sequence[SendPlan]) -> int:
    """Compare, tell, send; SAME or DIFFERENT. Raises: UsageError, OtterError, OSError."""
    around = Terminal("", password_file=options.password_file)
    if options.large:
        return _compare_large(options, plans, around)
    if options.schema:
        left, right = _catalogues(options, around)
    else:
        left, right = (_side(text, around, options) for text in (options.left, options.right))
    here, there = left.shaped.as_shown(), right.shaped.as_shown()
    keys = _names(options.key)
    if not keys and not options.by_position:
        keys = find_key(here, there, left.key or right.key)
        if not keys:
            raise UsageError("No columns tell the rows of both sides apart; name some by --key, or use --by-position.")
    pairs = tuple(_pair(text, "--pair") for text in options.pair)
    step = CompareStep(right.name, keys, pairs, _names(options.leave_out), _rules(options), options.all)
    step = replace(step, rows=there)
    shaped = step.apply(left.shaped, NEVER)
    assert shaped.compared is not None
    found = shaped.compared.found
    counts = [found.count(state) for state in range(4)]
    pull = replace(left.pull, name=f"{left.name} compared")
    _tell(options, keys, shaped.said, counts)
    if options.script:
        _write_script(options, left, shaped.compared, around)
    if plans:
        for made in deliver_shaped(pull, shaped, plans, around):
            tell_sent(pull, made)
    return DIFFERENT if any(counts[1:]) else SAME


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
        raise UsageError("--large needs --key: both sides are read in its order.")
    if options.script or options.all:
        raise UsageError("--large tells and sends the differences alone.")
    left, right = (_pull_of(text, around, options) for text in (options.left, options.right))
    pairs = tuple(_pair(text, "--pair") for text in options.pair)
    step = CompareStep(right.name, keys, pairs, _names(options.leave_out), _rules(options))
    other_names = {**dict(zip(keys, keys, strict=True)), **dict(pairs)}
    with around.connected(left.source) as here, around.connected(right.source) as there:
        progress = around.progress("comparing")
        found = compare_by_ranges(left, right, step, (here, there), tell=lambda mine, theirs: progress(mine + theirs))
        if found is None:
            streams = (blocks(in_order(left, keys, here), here),
                       blocks(in_order(right, [other_names[key] for key in keys], there), there))  # fmt: skip
            with closing(streams[0]), closing(streams[1]):
                found = compare_ordered(*streams, step, tell=lambda mine, theirs: progress(mine + theirs))
    _, changed, only_left, only_right = found.counts
    words = ((changed, "changed"), (only_left, "only left"), (only_right, "only right"))
    said = ", ".join(f"{count} {word}" for count, word in words if count) or "no differences"
    _tell(options, keys, f"{said}; {found.counts[0]} same", found.counts)
    if found.left_out:
        note(f"  {found.left_out} more differences are counted only", sys.stderr)
    if plans:
        for made in deliver_shaped(replace(left, name=f"{left.name} compared"), all_rows(found.table), plans, around):
            tell_sent(left, made)
    return DIFFERENT if any(found.counts[1:]) else SAME


def _catalogues(options: argparse.Namespace, around: Terminal) -> tuple[_Side, _Side]:
    """What two sources hold, as rows. Raises: SourceError's, SavedError."""
    from nimble_otter.pull.catalogue_rows import KEY, catalogue_rows

    sources = [source_named(text, options.password_file) for text in (options.left, options.right)]
    with around.connected(sources[0]) as here, around.connected(sources[1]) as there:
        plainly = here.dialect.family != there.dialect.family
        made = [
            _Side(source.name, Pull(source.name, source),
                  all_rows(catalogue_rows(connection, options.counts, plainly)), KEY)
            for source, connection in zip(sources, (here, there), strict=True)
        ]  # fmt: skip
    return made[0], made[1]


def _pull_of(text: str, around: Terminal, options: argparse.Namespace) -> Pull:
    """Raises: SavedError, SourceError, ConditionError."""
    path = saved_path(text, places.shelf_folder())
    pull = table_pull(text, around) if not path.exists() else load_pull(path)
    if pull is None:
        raise ConditionError(f"There is no pull {text}.", "Name a pull, SOURCE#TABLE, or a file of rows.")
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
        raise UsageError(f"{flag} {text!r} has no = between two names.")
    return left, right


def _rules(options: argparse.Namespace) -> dict[str, Alike]:
    found: dict[str, Alike] = {}
    for text in options.tolerance:
        name, number = _pair(text, "--tolerance")
        found[name] = replace(found.get(name, EQUAL), tolerance=read_tolerance(number))
    for flag in ("any_case", "any_space", "empty_is_null"):
        for name in _names(getattr(options, flag)):
            found[name] = replace(found.get(name, EQUAL), **{flag: True})
    return found


def _tell(options: argparse.Namespace, keys: Sequence[str], said: str, counts: Sequence[int]) -> None:
    if options.json:
        same, changed, left, right = counts
        plain = {"key": list(keys), "same": same, "changed": changed, "only_left": left, "only_right": right}
        tell(json.dumps(plain, ensure_ascii=False), sys.stdout)
        return
    tell(f"by {', '.join(keys)}: {said}" if keys else f"by position: {said}", sys.stderr)


def _write_script(options: argparse.Namespace, left: _Side, compared: Compared, around: Terminal) -> None:
    """The statements that make the left side like the right one. Raises: SendError, ConditionError."""
    from nimble_otter.changes import Edits, make_plan, script, target_for
    from nimble_otter.files import write_text

    if left.fetched is None or compared.places is None:
        raise ConditionError(
            f"The rows of {left.name} are not those of a table.",
            "Compare a table, or a pull without steps that make new rows.",
        )
    fetched = left.fetched
    with around.connected(left.pull.source) as connection:
        target = target_for(fetched, connection, left.pull.source, left.pull.by_values)
    edits = Edits(fetched.table.rows)
    side = Side(True, fetched.table, reserve(compared, True, edits), target, compared.places)
    made = align(compared, side, Wanted(not options.no_insert, not options.no_update, options.delete))
    edits.apply(made.action)
    text = script(make_plan(edits, fetched.table, target, left.pull.guard)) if made.count else ""
    try:
        write_text(Path(options.script).expanduser(), text, is_private=False)
    except OSError as problem:
        raise SendError(
            f"{options.script} can't be written: {problem.strerror}.", "Choose another folder."
        ) from problem
    note(f"{made.words()}: statements to {options.script}", sys.stderr)
    for line in made.notes:
        note(f"  {line}", sys.stderr)
