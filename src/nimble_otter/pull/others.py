"""Rows of the pulls that a pull's steps take, where no window holds them: each is run as well."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Protocol

from nimble_otter.errors import ConditionError
from nimble_otter.pull.course import Course, run_course
from nimble_otter.pull.file import SUFFIX, load_pull
from nimble_otter.pull.model import Pull, Query
from nimble_otter.pull.profiles import DeliveryProfile
from nimble_otter.pull.steps import TakesRows
from nimble_otter.query.parsed import nearest
from nimble_otter.sources import Connection, Source
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Table, View
from nimble_otter.translation import tr


def path_of(name: str, folder: Path) -> Path | None:
    """Where a folder, or one inside it, has the pull of a name."""
    return next((path for path in sorted(folder.rglob(f"*{SUFFIX}")) if path.stem == name), None)


def path_among(name: str, shelves: Sequence[Path]) -> Path | None:
    """The file of a saved pull in the first of the folders that has it."""
    return next((found for shelf in shelves if (found := path_of(name, shelf)) is not None), None)


def saved_path(text: str, shelves: Sequence[Path]) -> Path:
    """The pull file that a text names: a path, or the name of a pull in the first of the folders that has it."""
    path = Path(text)
    if path.exists() or path.suffix == SUFFIX:
        return path
    return path_among(text, shelves) or path


class FindsSources(Protocol):
    """What finds sources by their names, and reaches them."""

    def find_source(self, name: str) -> Source:
        """Raises: SavedError, SourceError."""

    def connected(self, source: Source) -> AbstractContextManager[Connection]:
        """Raises: SourceError."""


def table_pull(text: str, around: FindsSources) -> Pull | None:
    """A pull of the whole table that "SOURCE#TABLE" names; None where it names none. Raises: SourceError,
    ConditionError, where there is no such table."""
    named, mark, table = text.rpartition("#")
    if not mark or not named or not table:
        return None
    source = around.find_source(named)
    with around.connected(source) as connection:
        known = [each.name for each in connection.tables() if each.holds_rows]
        if table not in known:
            near = nearest(table, known)
            raise ConditionError(
                tr("There is no table {table} in {source_name}.", table=table, source_name=source.name),
                tr("The nearest is {near}.", near=near) if near else "",
            )
        return Pull(text, source, Query(connection.select_all(table), limit=None))


def find_pull(name: str, folders: tuple[Path, ...]) -> Pull:
    """The saved pull of a name in the first of the folders that has it. Raises: ConditionError, SavedError."""
    for folder in folders:
        path = path_of(name, folder)
        if path is not None:
            return load_pull(path)
    text = " or ".join(map(str, folders))
    raise ConditionError(
        tr("There is no pull {name} in {text}.", name=name, text=text), tr("Save it there, or remove the step.")
    )


def walk(
    pull: Pull,
    table: Table,
    named: Callable[[str], Pull],
    fetch: Callable[[Pull], Table],
    stop: StopToken = NEVER,
    above: tuple[str, ...] = (),
    last: DeliveryProfile | None = None,
) -> Course:
    """Take a pull's rows along its course, with the rows of the pulls it names: `named` finds them, `fetch` asks their
    sources. Raises: ConditionError where pulls take rows of each other in a ring, and what the two raise."""
    others: dict[str, View] = {}
    ring = (*above, pull.name)
    for step in pull.steps:
        for name in step.others if isinstance(step, TakesRows) and step.on else ():
            if name in others:
                continue
            if name in ring:
                takes = " → ".join((*ring, name))
                raise ConditionError(
                    tr("Pulls take rows of each other: {ring}.", ring=takes), tr("Remove one of the joins.")
                )
            other = named(name)
            others[name] = walk(other, fetch(other), named, fetch, stop, ring).whole().end.as_shown()
    return run_course(table, pull.steps, stop, values=pull.values(), others=others, last=last)
