"""PostgreSQL's client, psycopg 3: its connections, and what its results tell."""

from __future__ import annotations

import logging
from collections.abc import Iterator
from functools import cache
from itertools import islice
from typing import TYPE_CHECKING, Any

from nimble_otter.sources.result_stream import BATCH
from nimble_otter.sources.waits import WAITS
from nimble_otter.table import Kind
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

if TYPE_CHECKING:
    from psycopg.adapt import Loader
    from sqlalchemy import Engine
    from sqlalchemy.engine.interfaces import DBAPIConnection

KINDS = {1082: Kind.DATE, 1114: Kind.TIME, 1184: Kind.ZONED, 1083: Kind.CLOCK, 1186: Kind.SPAN, 1700: Kind.DECIMAL,
          16: Kind.BOOL, 2950: Kind.UUID}  # fmt: skip
KINDS |= dict.fromkeys((20, 21, 23), Kind.INT) | dict.fromkeys((700, 701), Kind.FLOAT)
KINDS |= dict.fromkeys((25, 1042, 1043), Kind.TEXT)
"""Kinds of columns by the numbers of their types."""


@cache
def _list_loaders() -> dict[int, type[Loader]]:
    """By the type of a list what reads it: as the driver does, but one that begins elsewhere than at 1 stays the text
    that the server writes, as a list has no place for that."""
    from psycopg import adapters, postgres
    from psycopg.adapt import Loader as Plain
    from psycopg.pq import Format

    def reader_of(own: ClientObject) -> type[Loader]:
        class Reader(Plain):
            def __init__(self, oid: int, context: ClientObject = None) -> None:
                super().__init__(oid, context)
                self._load = own(oid, context).load

            def load(self, data: Value) -> str:
                return bytes(data).decode() if data[:1] == b"[" else self._load(data)

        return Reader

    found: dict[int, type[Loader]] = {}
    for info in postgres.types:
        own = adapters.get_loader(info.array_oid, Format.TEXT) if info.array_oid else None
        if own is not None:
            found[info.array_oid] = reader_of(own)
    return found


def make_engine(url: str, clear_password: bool) -> Engine:
    """Connections that only read, in UTC; a password goes as it is only where that is allowed."""
    from sqlalchemy import create_engine, event, make_url

    logging.getLogger("psycopg").setLevel(logging.ERROR)  # what fails is raised too
    made = make_url(url).set(drivername="postgresql+psycopg")
    options: dict[str, Any] = {} if "connect_timeout" in made.query else {"connect_timeout": WAITS.connect_s}
    options.update(application_name="nimble-otter", keepalives_idle=20, keepalives_interval=5, keepalives_count=3)
    if not clear_password and made.query.get("sslmode") not in ("require", "verify-ca", "verify-full"):
        options["require_auth"] = "!password"  # never the password as it is, where the line may be open
    engine = create_engine(made, connect_args=options, use_native_hstore=False, **WAITS.pool())

    @event.listens_for(engine, "connect")
    def prepare(connection: DBAPIConnection, record: object) -> None:
        connection.prepare_threshold = None  # a transaction that is taken back takes prepared statements along
        for oid, loader in _list_loaders().items():
            connection.adapters.register_loader(oid, loader)
        connection.execute("set timezone = 'UTC'")
        connection.execute("set default_transaction_read_only = on")
        connection.commit()

    return engine


def begin_reading(driver: DBAPIConnection) -> None:
    """A transaction that may only read, which the server confirms in the same message; a connection whose last one is
    not over is taken back first. Raises: psycopg.Error."""
    import psycopg

    if driver.info.transaction_status is not psycopg.pq.TransactionStatus.IDLE:
        driver.rollback()
    result = driver.pgconn.exec_(b"begin transaction read only; show transaction_read_only")
    if result.status != psycopg.pq.ExecStatus.TUPLES_OK:
        raise psycopg.errors.error_from_result(result)
    if result.get_value(0, 0) != b"on":
        raise psycopg.OperationalError(tr("the server did not begin a transaction that only reads"))


def told_by(plain: ClientObject, setting: str) -> str:
    """What the server said of one of its settings."""
    return (plain.parameter_status(setting.encode()) or b"").decode()


def numbers_of(result: ClientObject) -> list[tuple[int, int]]:
    """Table and column of each column of a result, as the server numbers them; 0 where there is none."""
    return [(result.ftable(n), result.ftablecol(n)) for n in range(result.nfields)]


def answered(driver: ClientObject) -> ClientObject:
    """The answer to what was just sent. Other threads run meanwhile: the calls of libpq that wait by themselves hold
    the interpreter."""
    from psycopg import generators

    return driver.wait(generators.execute(driver.pgconn))[-1]


def form_of(driver: ClientObject, text: str) -> ClientObject:
    """The columns of a query, as the server tells them without running it; its error where it does not read it."""
    driver.pgconn.send_prepare(b"", text.encode())
    answered(driver)
    driver.pgconn.send_describe_prepared(b"")
    return answered(driver)


def columns_of(form: ClientObject) -> tuple[list[str], list[Kind | None], list[tuple[int, int]]]:
    """Names, kinds and numbers of a query's columns, from its form."""
    names = [(form.fname(n) or b"").decode() for n in range(form.nfields)]
    return names, [KINDS.get(form.ftype(n)) for n in range(form.nfields)], numbers_of(form)


def batches_from(first: list[object], rows: Iterator[object]) -> Iterator[list[Value]]:
    """Rows some at a time, the first of them given."""
    try:
        while first:
            yield first
            first = list(islice(rows, BATCH))
    finally:
        rows.close()  # type: ignore[attr-defined]
