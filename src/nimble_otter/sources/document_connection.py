"""What connections to servers of documents have in common: no statements, no transaction that is held open."""

from __future__ import annotations

import json
from contextlib import AbstractContextManager, nullcontext
from typing import NoReturn

from nimble_otter.errors import ChangeError, QueryError, place_of
from nimble_otter.query.documents.request import DocumentRequest
from nimble_otter.query.documents.translation import translate_select
from nimble_otter.query.sql.effects import Effect, Verdict
from nimble_otter.sources.catalogue import Shapes, TableInfo
from nimble_otter.sources.guard import refuse_stages
from nimble_otter.sources.source import Connection, Executed, Request
from nimble_otter.stop import StopToken
from nimble_otter.translation import tr


class DocumentConnection:
    """See sources.source.Connection."""

    counts_at_once = True
    is_read_only = False
    guarded: tuple[str, ...] = ()
    held = None

    def __init__(self) -> None:
        self._shapes: dict[str, Shapes] = {}

    def read_from(self, replica: Connection) -> None:
        """Nothing: a replica is chosen by the client's own options."""

    def rest(self, idle_s: float) -> None:
        """Nothing: the client closes what was not used."""

    def kept_open(self) -> AbstractContextManager[None]:
        """See `Connection.kept_open`: here the client does so."""
        return nullcontext()

    def select_all(self, table: str) -> str:
        """The request for all documents of a collection."""
        return f"select *\nfrom {self.quoted(table)}"

    def quoted(self, name: str) -> str:
        """A name as it is written in a request."""
        from sqlalchemy.engine.default import DefaultDialect

        return str(DefaultDialect().identifier_preparer.quote(name))

    def translate(self, request: Request) -> DocumentRequest:
        """The request as it would be sent. Raises: QueryError with its place."""
        if request.language == "native":
            return native(request)
        return translate_select(request.text, self._types, request.parameters)

    def verdict(self, text: str) -> Verdict:
        """Requests are checked stage by stage where they are made, see `native`; SELECT gives none that writes."""
        return Verdict(Effect.READS)

    def parse(self, request: Request) -> None:
        """A request from its text."""
        self.translate(request)

    def _types(self, collection: str) -> dict[str, set[str]]:
        shapes = self._shapes.get(collection)
        return shapes.type_words() if shapes is not None else {}

    def execute(self, request: Request, stop: StopToken) -> Executed:
        """Nothing: documents are changed by their pending edits alone. Raises: ChangeError."""
        self._refuse_statements()

    def begin(self) -> None:
        """Nothing: no transaction is held open. Raises: ChangeError."""
        self._refuse_statements()

    def end(self, commit: bool) -> None:
        """Nothing: no transaction is held open. Raises: ChangeError."""
        raise ChangeError(tr("No transaction is open."))

    @staticmethod
    def _refuse_statements() -> NoReturn:
        raise ChangeError(
            tr("A source of documents runs no statements that write."), tr("Edit cells and write the changes.")
        )

    def without_transactions(self, table: TableInfo) -> str:
        """Empty: collections take part in transactions where the server has them."""
        return ""

    def outcome_of(self, mark: str) -> bool | None:
        """None: the server keeps no word of transactions."""
        return None


def native(request: Request) -> DocumentRequest:
    """A filter or a pipeline from its text. Raises: QueryError with its place."""
    from bson import json_util
    from bson.errors import BSONError

    text = request.text.strip() or "{}"
    try:
        options = json_util.JSONOptions(tz_aware=False)
        wanted = json_util.loads(text, json_options=options)
    except json.JSONDecodeError as problem:
        place = place_of(request.text, request.text.find(text) + problem.pos)
        raise QueryError(
            tr("This is not JSON: {msg}.", msg=problem.msg), tr("Put names and texts in double quotes."), place
        ) from problem
    except (BSONError, TypeError, ValueError) as problem:
        raise QueryError(tr("A value is not what its type says: {problem}.", problem=problem)) from problem
    if isinstance(wanted, list):
        refuse_stages(wanted, request.text)
        return DocumentRequest(request.collection, pipeline=tuple(wanted[: request.stages]))
    if not isinstance(wanted, dict):
        raise QueryError(
            tr("A filter is a JSON object, a pipeline a JSON list."), tr('Write it like { "kind": "sighting" }.')
        )
    return DocumentRequest(request.collection, wanted)


def refuse_missing(wanted: DocumentRequest, names: list[str], request: Request) -> None:
    """Raises: QueryError where a request names a collection that is not there."""
    from nimble_otter.query.parsed import nearest

    wanting = [name for name in (wanted.collections or (wanted.collection,)) if name not in names]
    if wanting:
        near = nearest(wanting[0], names)
        at = request.text.find(wanting[0])
        place = place_of(request.text, at, at + len(wanting[0])) if at >= 0 else None
        hint = (
            tr("The nearest name is {near}.", near=near)
            if near
            else tr("There are {names}.", names=", ".join(sorted(names)[:8]))
        )
        raise QueryError(tr("There is no collection {wanting}.", wanting=wanting[0]), hint, place)
