"""What connections to relational servers have in common beside their catalogue: read-only pulls, stopping, writing.

Quoting and pooling are SQLAlchemy's; rows come from the driver's own cursor below it. A driver gives the hooks at the
end of `Relational` and of `Catalogued`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext, suppress
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import ChangeError, LostError, OutcomeUnknown, QueryError, SourceError
from nimble_otter.query.sql.effects import Effect, Verdict, classify, may_commit, names_a_writer
from nimble_otter.query.sql.statements import find_parameters, mark_parameters
from nimble_otter.sources.catalogue import ColumnInfo, EntryKind, TableInfo
from nimble_otter.sources.catalogued import Catalogued
from nimble_otter.sources.facts import Ask, TableFacts
from nimble_otter.sources.guard import refuse_writing
from nimble_otter.sources.open_transaction import HeldTransaction, OpenTransaction
from nimble_otter.sources.plans import PlanNode
from nimble_otter.sources.reflect import read_tables, word_of
from nimble_otter.sources.result_stream import FIRST, Answer, results
from nimble_otter.sources.session import Bound, Done
from nimble_otter.sources.source import Connection, Executed, LongColumns, Request, Run, check_guarded, check_writable
from nimble_otter.sources.texts import names_in, one_statement
from nimble_otter.sources.trace import Origin, columns_of, is_behind, trace_origins, with_keys
from nimble_otter.sources.truncation import is_long, shorten
from nimble_otter.sources.writer import Writer, run_each
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Field, Kind
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

if TYPE_CHECKING:
    from sqlalchemy import Engine
    from sqlalchemy.engine.interfaces import DBAPICursor

_PLAIN = re.compile(r"\s*(?:insert|update|delete|merge|replace|with)\b", re.IGNORECASE)
_EXACT = (Kind.TIME, Kind.ZONED, Kind.DATE, Kind.CLOCK, Kind.SPAN)
"""What a driver says of a result's column is nearer than what the word for its type says."""
KIND_OF_WORD = {"time": Kind.TIME, "date": Kind.DATE, "yes/no": Kind.BOOL, "uuid": Kind.UUID}


class Relational(Catalogued):
    """See sources.source.Connection. Only reads, except inside `transaction`."""

    is_read_only = False
    guarded: tuple[str, ...] = ()
    is_typed = True
    """Whether a column holds only values of its declared type."""
    marks = "pyformat"
    """How the driver marks parameters; see mark_parameters."""
    no_values: Any = None
    drains = False
    """Whether the client library reads all that is left of a result when it is closed: then the line is cut."""
    counts_at_once = False
    """Whether exact counts are cheap enough to be made for every table."""
    settles: tuple[str, ...] = ()
    """What makes the server check now what it would check at the commit."""
    signs = ""
    """A query that gives by what a transaction is known afterwards."""
    counts_changes = ""
    """A query that gives how many rows a transaction has changed so far, in all tables."""
    plain_quotes = False
    """Whether the server takes a backslash in quotes otherwise than its dialect does by default."""
    rehearsal_note = ""
    """What is said of every rehearsal, where it is not what the server itself would do."""
    plan_form = ""
    """What stands before a query that asks for its plan; "" where the server tells none."""

    def __init__(self, engine: Engine) -> None:
        super().__init__(engine)
        self._held: HeldTransaction | None = None
        self._replica: Connection | None = None
        self.has_written = False

    # --- asking ------------------------------------------------------------------------------------------------

    def kept_open(self) -> AbstractContextManager[None]:
        """See `Connection.kept_open`: here the pool does so."""
        return nullcontext()

    def read_from(self, replica: Connection) -> None:
        """See `Connection.read_from`: what was written here may be there later, so it is not asked from then on."""
        self._replica = replica

    def rest(self, idle_s: float) -> None:
        """See `Connection.rest`."""
        if self._held is None:
            super().rest(idle_s)
        if self._replica is not None:
            self._replica.rest(idle_s)

    @property
    def _reader(self) -> Connection | None:
        """Where rows are read instead of here."""
        return None if self.has_written or self._held is not None else self._replica

    def count(self, table: str) -> int:
        """How many rows a table has now. Raises: SourceError's."""
        return super().count(table) if self._reader is None else self._reader.count(table)

    def run(self, request: Request, stop: StopToken) -> Run:
        """See `Connection.run`."""
        if self._reader is not None:
            return self._reader.run(request, stop)
        text = one_statement(request)
        verdict = self.verdict(text)
        if verdict.effect is Effect.UNKNOWN:  # most are slips of the keyboard, which the server names at their place
            self.parse(request)
        refuse_writing(verdict, request.text, self.is_read_only)
        names = find_parameters(text)
        self._ready(stop)
        shorter = self._shortened(text) if request.shorten else None
        sent, long = shorter or (text, None)
        more: list[Origin] = []
        if shorter is None and request.with_keys:
            sent, more = self._with_keys(text)
        with self.explained(request.text):
            raw = self._engine.raw_connection()
        answer = Answer(self, raw, request.text, stop)
        answer.in_columns, answer.limit = request.in_columns, request.limit
        try:
            with self.explained(request.text):
                labels, hints = self._start(answer, sent, self._written({n: request.parameters[n] for n in names}))
        except BaseException as problem:
            answer.finish(
                is_whole=isinstance(problem, QueryError)
            )  # a statement that was refused leaves no rows behind
            stop.check()
            if sent is not text and isinstance(problem, QueryError):  # told by its place in the text as written
                return self.run(replace(request, shorten=False, with_keys=False), stop)
            raise
        if not labels:
            answer.finish(is_whole=True)
            raise QueryError(tr("The statement gave no rows."), tr("Ask with SELECT; write through Changes."))
        try:
            tables, shown = self._traced(text, labels[: len(labels) - len(more)])
            traced = [*shown, *more]
            origins = self._confirmed(traced, answer.numbers, tables, shorter is None) if answer.numbers else traced
            known = columns_of(origins, tables)
        except BaseException:
            answer.finish(is_whole=False)
            raise
        fields = tuple(
            self._field(label, origin, info) for label, origin, info in zip(labels, origins, known, strict=True)
        )
        found = tuple(
            (self._kind_of(info.declared) or hint) if info and info.declared and hint not in _EXACT else hint
            for hint, info in zip(hints, known, strict=True)
        )
        return Run(
            answer.batches(), fields, found, (), sent, tuple(origins), long, tuple(tables), len(more),
            is_typed=self.is_typed, first=FIRST,
        )  # fmt: skip

    def _traced(self, text: str, labels: Sequence[str]) -> tuple[list[TableInfo], list[Origin | None]]:
        """The tables that a query is about, and where its columns come from."""
        tables, views = self._known_in(text)
        if is_behind(text, labels, tables, self.dialect.parser, views, self.default_schema or self.main):
            for table in tables:
                self._known.pop(table.name, None)
            tables, views = self._known_in(text)
        default = self.default_schema or self.main
        return tables, trace_origins(text, labels, tables, self.dialect.parser, views, default)

    def _field(self, label: str, origin: Origin | None, info: ColumnInfo | None) -> Field:
        """A result column by the column that it comes from."""
        return Field(
            label,
            Kind.TEXT,
            origin.label if origin else "",
            info.declared if info else "",
            server=self.dialect.key,
            exact=info.exact if info else None,
            generated=info.generated if info else "",
            folds=info.folds if info else False,
            is_key=bool(info and (info.key or info.refers)),
        )

    def _with_keys(self, text: str) -> tuple[str, list[Origin]]:
        """The text with keys of its tables fetched along, and their origins; see trace.with_keys."""
        tables, views = self._known_in(text)
        origins = trace_origins(text, None, tables, self.dialect.parser, views, self.default_schema or self.main)
        return with_keys(text, origins, tables, self.dialect.parser, self.quoted)

    def _shortened(self, text: str) -> tuple[str, LongColumns] | None:
        """The text with long values cut by the server; see long.shorten."""
        names = names_in(text, self.dialect.parser)
        known = self._tables_of(text) if len(names) == 1 else []
        if len(known) != 1 or known[0].kind != EntryKind.TABLE or not any(map(is_long, known[0].columns)):
            return None
        with self.explained():  # * means the columns of now
            inspector = self._inspector()
            schema = known[0].schema or self._default_schema(inspector)
            fresh = read_tables(inspector, [schema], self._default_schema(inspector), [known[0].bare], self._declared)
        return shorten(text, fresh[0], self.dialect, self.quoted) if fresh else None

    def execute(self, request: Request, stop: StopToken = NEVER) -> Executed:
        """See `Connection.execute`."""
        text = one_statement(request)
        check_writable(self)
        check_guarded(self.guarded, text)
        values = self._written({name: request.parameters[name] for name in find_parameters(text)})
        held, messages = self._held, list[str]()
        self.has_written = True
        if held is None:
            self._ready(stop)
        elif self.dialect.defining_commits and may_commit(text):
            raise ChangeError(
                tr("On {word} this would commit what was done before it.", word=self.word),
                tr("Commit or roll back the transaction first."),
            )
        messages = held.messages if held is not None else messages
        is_begun = False
        try:
            keeps = self._leaves_session(text)
            alone = self._alone(messages, keeps, stop) if held is None else held.statement()
            with self.explained(request.text), alone as driver:
                handle = self.handle_of(driver)

                def cancel() -> None:
                    with suppress(Exception):  # it may have ended meanwhile
                        self.cancel(handle)

                stop.on_stop(cancel)
                cursor = driver.cursor()
                try:
                    is_begun = True
                    self._execute(cursor, self._marked(text, values), values)
                    tables = results(cursor, request.limit)
                    affected = cursor.rowcount if cursor.rowcount >= 0 and not tables else None
                    messages += self._warnings(cursor)
                finally:
                    stop.forget(cancel)
                    with suppress(Exception):
                        cursor.close()
        except LostError as problem:
            if held is not None:
                self._let_go()
                raise LostError(
                    tr("The connection was lost, and the open transaction with it."), tr("Nothing of it was written.")
                ) from problem
            if not is_begun:
                raise
            hint = tr("Read back what it was to change before running it again.")
            raise OutcomeUnknown(tr("The connection was lost; whether it was written is not known."), hint) from problem
        except SourceError:
            stop.check()
            raise
        return Executed(tuple(tables), affected, tuple(messages))

    @property
    def held(self) -> OpenTransaction | None:
        """The transaction that is open."""
        return self._held.told if self._held is not None else None

    def begin(self) -> None:
        """Open a transaction that stays; statements run in it until `end`. Raises: SourceError's, ChangeError."""
        if self._held is not None:
            raise ChangeError(tr("A transaction is open already."), tr("Commit it or roll it back first."))
        check_writable(self)
        self._ready()
        messages: list[str] = []
        with self.explained():
            self._held = HeldTransaction(self._writing(messages, keeps=False), messages, self.dialect)

    def end(self, commit: bool) -> None:
        """Commit the open transaction, or roll it back. Raises: OutcomeUnknown when the connection is lost then."""
        held, self._held = self._held, None
        if held is None:
            raise ChangeError(tr("No transaction is open."), tr("BEGIN opens one."))
        try:
            with self.explained():
                held.end(commit)
        except LostError as problem:
            if commit:
                hint = tr("Read back what it was to change before running it again.")
                raise OutcomeUnknown(
                    tr("The connection was lost; whether it was committed is not known."), hint
                ) from problem

    def _let_go(self) -> None:
        """Roll back what is open, as far as the server is still there."""
        held, self._held = self._held, None
        if held is not None:
            with suppress(Exception):
                held.end(False)

    def explain(self, request: Request, stop: StopToken = NEVER) -> PlanNode:
        """The server's plan of a query, as a tree; the query is not run. Raises: SourceError's."""
        text = one_statement(request)
        refuse_writing(self.verdict(f"explain {text}"), request.text, self.is_read_only)
        if not self.plan_form:
            raise SourceError(tr("{word} tells no plan here.", word=self.word))
        values = self._written({name: request.parameters[name] for name in find_parameters(text)})
        self._ready(stop)
        with self.explained(request.text):
            raw = self._engine.raw_connection()
        answer = Answer(self, raw, request.text, stop)
        try:
            with self.explained(request.text):
                self._start(answer, self.plan_form + text, values)
        except BaseException:
            answer.finish(is_whole=False)
            stop.check()
            raise
        rows = [row for batch in answer.batches() for row in batch]
        stop.check()
        return self._plan_of(rows)

    def parse(self, request: Request) -> None:
        """Let the server read a statement without running it, as far as it can. Raises: QueryError with the server's
        words, where it does not understand it."""
        text = one_statement(request)
        values = self._written({name: request.parameters[name] for name in find_parameters(text)})
        self._ready()
        with self.explained(request.text):
            raw = self._engine.raw_connection()
            try:
                self._parse(raw.driver_connection, text, values)
            finally:
                raw.close()

    def verdict(self, text: str) -> Verdict:
        """What a text does on this server."""
        return classify(text, self.dialect.parser, self.plain_quotes)

    def _leaves_session(self, text: str) -> bool:
        """Whether a statement leaves nothing behind in its session: no lock, setting or prepared name. One that may
        ends its connection with it."""
        effect = self.verdict(text).effect
        is_plain = effect in (Effect.READS, Effect.DEFINES) or (
            effect is Effect.ROWS and _PLAIN.match(text) is not None
        )
        return is_plain and not names_a_writer(text, self.dialect.parser)

    @contextmanager
    def transaction(self, stop: StopToken = NEVER, atomic: bool = True) -> Iterator[Writer]:
        """A transaction of its own that changes rows, rolled back unless it was committed. Raises: SourceError's;
        ChangeError where writing is not possible."""
        check_writable(self)
        if not self.dialect.writes:
            raise ChangeError(
                tr("Writing to {word} is not possible yet.", word=self.word),
                tr("Copy the statements, or send the rows."),
            )
        self._ready(stop, is_sure=True)
        with self.explained(), self._writing([], stop=stop) as driver:
            handle = self.handle_of(driver)

            def cancel() -> None:
                with suppress(Exception):  # it may have ended meanwhile
                    self.cancel(handle)

            stop.on_stop(cancel)
            try:
                yield Writer(self, driver)
            except SourceError:
                stop.check()
                raise
            finally:
                stop.forget(cancel)

    def without_transactions(self, table: TableInfo) -> str:
        """What keeps a table whose writes can't be rolled back; "" for every other. Raises: SourceError's."""
        return ""

    def outcome_of(self, mark: str) -> bool | None:
        """Whether a signed transaction was committed; None where that can't be told. Raises: SourceError's."""
        self._engine.dispose()  # none of the old connections is believed
        return None

    @contextmanager
    def _alone(self, messages: list[str], keeps: bool, stop: StopToken) -> Iterator[ClientObject]:
        """A transaction for one statement, committed when it succeeds."""
        with self._writing(messages, keeps, stop) as driver:
            yield driver
            driver.commit()

    def close(self) -> None:
        """Close every connection, and roll back what is open."""
        self._let_go()
        if self._replica is not None:
            self._replica.close()
        super().close()

    def rights(self) -> tuple[str, ...]:
        """See `Connection.rights`; nothing is told here."""
        return ()

    # --- what a driver gives -----------------------------------------------------------------------------------

    def facts_of(self, ask: Ask, schema: str | None, name: str, default: str | None) -> TableFacts:
        """What hangs on a table, asked on the connection that writes; see sources.facts."""
        return TableFacts()

    def _confirmed(
        self, origins: list[Origin | None], numbers: list[tuple[int, int]], tables: list[TableInfo], is_whole: bool
    ) -> list[Origin | None]:
        """The origins without those that the server denies. `is_whole`: no column was shortened on the way."""
        return origins

    def _kind_of(self, declared: str) -> Kind | None:
        """What a column of this type may be held as; see ColumnBuilder."""
        return KIND_OF_WORD.get(word_of(declared))

    def _start(self, answer: Answer, text: str, values: dict[str, object]) -> tuple[list[str], list[Kind | None]]:
        """Execute; set `answer.rows` to an iterator over batches. Returns the columns' names and kinds."""
        raise NotImplementedError

    def release(self, driver: object) -> None:
        """What a run set on the driver's connection is taken off again."""

    def _writing(
        self, messages: list[str], keeps: bool = True, stop: StopToken = NEVER
    ) -> AbstractContextManager[ClientObject]:
        """A driver's connection in a transaction that may write, rolled back unless it was committed; what the server
        says beside its answers goes to `messages`. A `stop` ends waiting for it. Without `keeps` the connection ends
        with it, and so what it holds."""
        raise ChangeError(tr("{word} can't be written to here.", word=self.word))

    def run_many(self, driver: object, wanted: Sequence[Bound]) -> list[Done]:
        """Run statements in their order, with as few waits as the driver can."""
        return run_each(lambda: self.reading_cursor(driver), wanted)

    def reading_cursor(self, driver: ClientObject) -> ClientObject:
        """A cursor that gives values in the forms in which `run` gives them."""
        return driver.cursor()

    def _execute(self, cursor: DBAPICursor, text: str, values: dict[str, object]) -> None:
        """Run one statement of the user's, so that the server takes no second one behind it."""
        cursor.execute(text, values or self.no_values)

    def _marked(self, text: str, values: dict[str, object]) -> str:
        """A text with the driver's marks for its parameters, as `_execute` takes it."""
        return mark_parameters(text, values, self.marks)

    def _written(self, values: dict[str, object]) -> dict[str, Value]:
        """Parameters' values as the driver takes them."""
        return values

    def _warnings(self, cursor: object) -> list[str]:
        """What the server warns of after a statement, where it has to be asked for."""
        return []

    def handle_of(self, driver: object) -> ClientObject:
        """What `cancel` needs to know of a connection."""
        return driver

    def abandon(self, driver: object, cursor: object) -> None:
        """The line of this connection was cut while rows were left: nobody waits for them."""

    def cancel(self, handle: ClientObject) -> None:
        """Ask the server, from outside, to end what a connection does."""

    def _parse(self, driver: object, text: str, values: dict[str, object]) -> None:
        """Have a text parsed and nothing more; raises what the driver raises where it is not understood."""

    def _plan_of(self, rows: list[object]) -> PlanNode:
        """The tree that the answer to `plan_form` tells."""
        raise NotImplementedError
