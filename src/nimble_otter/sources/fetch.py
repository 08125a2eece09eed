"""Pulling: from a run's batches to a table, with snapshots while rows still stream in."""

from __future__ import annotations

import logging
import time
from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from dataclasses import field as made_by

from nimble_otter.errors import LostError, SourceError
from nimble_otter.memory import LIMIT
from nimble_otter.sources.catalogue import TableInfo
from nimble_otter.sources.document_paths import path_of
from nimble_otter.sources.shapes import word_of_type
from nimble_otter.sources.source import Connection, LongColumns, Request, Run
from nimble_otter.sources.trace import Origin
from nimble_otter.sources.truncation import cut_rows
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import MISSING, Field, Kind, Table, TableBuilder
from nimble_otter.table.core.columns import Ids, Missing, distinct_names
from nimble_otter.table.ops.filter import at_path
from nimble_otter.translation import tr
from nimble_otter.values import Value

log = logging.getLogger(__name__)

SNAPSHOT_S = 0.15
_LOOK_S = 0.05
"""Least time between two snapshots; the first comes with the first batch."""


@dataclass(frozen=True, slots=True)
class Fetched:
    """Rows of one run. `was_cut`: the row limit left rows at the server, or with `is_full` the memory limit of this
    program did; `lost`: the connection ended before all rows
    had come; `cut` has the row ids of values that the server cut, by their place; `unseen`
    are keys that were fetched along, with their origins. Times in seconds from the call."""

    table: Table
    was_cut: bool = False
    was_stopped: bool = False
    first_s: float = 0.0
    all_s: float = 0.0
    sent: str = ""
    origins: tuple[Origin | None, ...] = ()
    lost: LostError | None = None
    long: LongColumns | None = None
    cut: Mapping[int, Ids] = made_by(default_factory=dict)
    tables: tuple[TableInfo, ...] = ()
    unseen: Table | None = None
    key_origins: tuple[Origin | None, ...] = ()
    collection: str = ""
    is_full: bool = False

    @property
    def whole(self) -> Table:
        """The rows with the keys that were fetched along."""
        if self.unseen is None:
            return self.table
        return Table(
            (*self.table.fields, *self.unseen.fields), (*self.table.columns, *self.unseen.columns), self.table.rows
        )

    @property
    def is_part(self) -> bool:
        """Whether the run ended before all the rows that were asked for had come."""
        return self.was_stopped or self.lost is not None

    def refuse_part(self) -> None:
        """Raises: LostError, where the connection ended; SourceError, where the memory that may be held did."""
        if self.lost is not None:
            raise self.lost
        if self.is_full:
            raise SourceError(
                tr(
                    "The rows need more than the {bytes} MB of memory that this program may hold.",
                    bytes=LIMIT.bytes >> 20,
                ),
                tr("Let the query give fewer, move steps upstream, or raise the limit in the settings."),
            )


def fetch(
    connection: Connection,
    request: Request,
    stop: StopToken = NEVER,
    on_snapshot: Callable[[Table], None] | None = None,
) -> Fetched:
    """Run a request and hold its rows, at most `request.limit`. When stopped, or when the connection is lost after the
    first rows, the rows so far are kept and said to be a part. Raises: SourceError's."""
    began = time.perf_counter()
    run = connection.run(replace(request, in_columns=True), stop)
    builder: _Rows | _Documents = _Rows(run) if run.fields is not None else _Documents(run)
    first = shown = 0.0
    cut, full, looked, lost = False, False, 0.0, None
    try:
        for batch in run.batches:
            if stop.is_set():
                break
            if request.limit is not None and builder.rows + len(batch) > request.limit:
                batch, cut = batch[: request.limit - builder.rows], True
            builder.append(batch, stop)
            now = time.perf_counter() - began
            first = first or now
            is_all = not shown and len(batch) < run.first  # the whole follows at once
            if now - looked > _LOOK_S:
                looked, full = now, LIMIT.is_reached()
                cut = cut or full
            if on_snapshot is not None and not is_all and (not shown or now - shown > SNAPSHOT_S):
                shown = now
                on_snapshot(_split(builder.table(), run.unseen)[0])
            if cut:
                break
    except LostError as problem:
        if not builder.rows:
            raise
        lost = problem
    finally:
        close = getattr(run.batches, "close", None)
        if close is not None:
            close()
    spent = time.perf_counter() - began
    log.info(
        "pulled %d rows in %.3f s%s%s%s", builder.rows, spent,
        ", cut at the limit of memory" if full else ", cut at the limit" if cut else "",
        ", stopped" if stop.is_set() else "", ", connection lost" if lost is not None else "",
    )  # fmt: skip
    table, unseen = _split(builder.table(), run.unseen)
    origins = run.origins[: len(table.fields)], run.origins[len(table.fields) :]
    short = cut_rows(table, run.long, stop) if run.long is not None else {}
    return Fetched(table, cut, stop.is_set(), first or spent, spent, run.sent, origins[0], lost, run.long, short,
                   run.tables, unseen, origins[1], run.collection, full)  # fmt: skip


def _split(table: Table, unseen: int) -> tuple[Table, Table | None]:
    """The result's columns, and the keys behind them."""
    if not unseen:
        return table, None
    at = len(table.fields) - unseen
    return Table(table.fields[:at], table.columns[:at], table.rows), Table(
        table.fields[at:], table.columns[at:], table.rows
    )


class _Rows:
    def __init__(self, run: Run) -> None:
        self._builder = TableBuilder(distinct_names(run.fields or ()), run.hints, run.is_typed)
        self.append, self.table = self._builder.append, self._builder.table

    @property
    def rows(self) -> int:
        return self._builder.rows


class _Documents:
    """Documents as rows: one column a top-level field, or the picked columns; share and type under each name."""

    def __init__(self, run: Run) -> None:
        self._columns = list(run.columns)
        self._picked = bool(run.columns)
        self._paths = [tuple(path.split(".")) for _, path in self._columns]
        self._builder = TableBuilder([Field(name, Kind.OBJECT) for name, _ in self._columns])
        self._types: list[Counter[type]] = [Counter() for _ in self._columns]
        self.rows = 0

    def append(self, batch: list[Mapping[str, Value]], stop: StopToken) -> None:
        if not self._picked:
            for name in dict.fromkeys(name for document in batch for name in document):
                if (name,) not in self._paths:
                    self._paths.append((name,))
                    self._columns.append((name, name))
                    self._builder.add_field(Field(name, Kind.OBJECT))
                    self._types.append(Counter({Missing: self.rows} if self.rows else {}))
        columns = []
        for index, path in enumerate(self._paths):
            if len(path) == 1:
                values = [document.get(path[0], MISSING) for document in batch]
            else:
                values = [_pick(document, path) for document in batch]
            self._types[index].update(map(type, values))
            columns.append(values)
            stop.yield_control()
        self._builder.append_columns(columns, len(batch), stop)
        self.rows += len(batch)

    def table(self) -> Table:
        table = self._builder.table()
        fields = []
        for index, field in enumerate(table.fields):
            types = self._types[index]
            named: Counter[str] = Counter()
            for kind, count in types.items():
                if kind not in (type(None), Missing):
                    named[word_of_type(kind)] += count
            words = " or ".join(word for word, _ in named.most_common(2)) or "empty"
            share = round(100 * (self.rows - types[Missing]) / max(1, self.rows))
            fields.append(replace(field, note=f"{share} % · {words}", origin=_origin(self._paths[index])))
        return table.with_fields(fields)


def _origin(path: tuple[str, ...]) -> str:
    return path_of(path[0]) if len(path) == 1 else ".".join(path)


def _pick(document: Mapping[str, object], path: tuple[str, ...]) -> object:
    if len(path) == 1:
        return document.get(path[0], MISSING)
    above = at_path(document, path[:-1])
    if isinstance(above, list):
        return [_pick(item, path[-1:]) for item in above if isinstance(item, Mapping)]
    return above.get(path[-1], MISSING) if isinstance(above, Mapping) else MISSING
