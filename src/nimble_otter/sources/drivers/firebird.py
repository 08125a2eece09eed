"""Firebird servers and files, by the package firebird-driver and its dialect of SQLAlchemy."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from nimble_otter.errors import ConnectError
from nimble_otter.sources import facts
from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.dialects.firebird import FIREBIRD
from nimble_otter.sources.general import GeneralConnection
from nimble_otter.sources.reflect import Written
from nimble_otter.sources.urls import check_options
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject

if TYPE_CHECKING:
    from sqlalchemy import Connection, Engine

_WAIT_S = 10
"""How long a row that another one is changing is waited for."""
_OPTIONS = {"charset": r"[\w\-]{1,20}", "role": r"[\w$]{1,63}"}
_EVENTS = {"insert": 1, "update": 2, "delete": 3}
"""In `rdb$trigger_type`, which is one less than before (0) or after (1) and then two bits for each event (Firebird 3
language reference, appendix D)."""


class _Firebird:
    key = "firebird"
    word = "Firebird"
    schemes = ("firebird", "firebird+firebird")
    dialects = (FIREBIRD,)
    address = AddressForm("Firebird", 7, "firebird://user@host:3050//path/to/file.fdb", 3050)

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> FirebirdConnection:
        check_options(url, _OPTIONS)
        try:
            import firebird.driver  # noqa: F401 - to say what is missing
            import sqlalchemy_firebird  # noqa: F401
        except ImportError as problem:
            raise ConnectError(
                tr("Firebird needs the packages firebird-driver and sqlalchemy-firebird."),
                tr("Install nimble-otter[firebird]."),
            ) from problem
        return FirebirdConnection(url, password)


class FirebirdConnection(GeneralConnection):
    """See sources.source.Connection."""

    word = "Firebird"
    is_typed = True

    def __init__(self, url: str, password: str | None) -> None:
        text = f"firebird+firebird://{url.partition('://')[2]}"
        if "charset=" not in text:
            text += ("&" if "?" in text else "?") + "charset=UTF8"
        super().__init__(text, password, FIREBIRD)

    def _hold_to_reading(self, engine: Engine) -> None:
        """Every transaction of the engine begins for reading."""
        from firebird.driver import Isolation, TraAccessMode, tpb
        from sqlalchemy import event

        @event.listens_for(engine, "connect")
        def prepare(connection: ClientObject, record: object) -> None:
            _begin_as(connection, tpb(Isolation.READ_COMMITTED_RECORD_VERSION, access_mode=TraAccessMode.READ))

    def _set_up_writing(self, connection: Connection) -> None:
        from firebird.driver import Isolation, tpb

        self._engine.dispose()  # what an idle connection has read counts as in use, and can't be altered
        _begin_as(connection.connection.driver_connection, tpb(Isolation.READ_COMMITTED_RECORD_VERSION, _WAIT_S))

    def cancel(self, handle: ClientObject) -> None:
        """The one call that a connection takes from another thread while a statement runs (fb_cancel_operation)."""
        from firebird.driver import CancelType

        handle._att.cancel_operation(CancelType.RAISE.value)  # noqa: SLF001 - the package has no name for it

    def _declared(self, schema: str | None, tables: Sequence[str] | None) -> dict[str, dict[str, Written]]:
        """Which blobs hold text, which reflection does not tell (sub-type 1)."""
        found: dict[str, dict[str, Written]] = {}
        as_queried: Any = self._engine.dialect.normalize_name  # what is all in upper case needs no quotes
        for table, column in self._ask(
            "select trim(r.rdb$relation_name), trim(r.rdb$field_name) from rdb$relation_fields r "
            "join rdb$fields f on f.rdb$field_name = r.rdb$field_source "
            "where f.rdb$field_type = 261 and f.rdb$field_sub_type = 1 and coalesce(r.rdb$system_flag, 0) = 0"
        ):
            written = Written(declared="TEXT", exact="blob sub_type text")
            found.setdefault(as_queried(table), {})[as_queried(column)] = written
        return found

    def facts_of(self, ask: facts.Ask, schema: str | None, name: str, default: str | None) -> facts.TableFacts:
        """What the inspector tells of a table, and its triggers."""
        table_facts = super().facts_of(ask, schema, name, default)
        stored = self._engine.dialect.denormalize_name(name)
        rows = ask(
            "select trim(rdb$trigger_name), rdb$trigger_type from rdb$triggers where rdb$relation_name = ? "
            "and coalesce(rdb$trigger_inactive, 0) = 0 and coalesce(rdb$system_flag, 0) = 0",
            (stored,),
        )
        triggers = {event: tuple(n for n, kind in rows if _is_for(int(kind), event)) for event in _EVENTS}
        return replace(table_facts, triggers=triggers)


def _is_for(kind: int, event: str) -> bool:
    """Whether a trigger of a kind runs at an event, of which it may have three."""
    return any(((kind + 1) >> shift) & 3 == _EVENTS[event] for shift in (1, 3, 5))


def _begin_as(connection: ClientObject, parameters: bytes) -> None:
    connection.default_tpb = connection.main_transaction.default_tpb = parameters


DRIVER = _Firebird()
