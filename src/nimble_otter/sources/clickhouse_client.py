"""Connections (PEP 249, as far as it is used here) to ClickHouse by the package clickhouse-connect, which speaks its
HTTP interface: each statement is a request of its own, and rows come as columns.

What the package would change is asked for otherwise: texts as their bytes (it writes those that are not UTF-8 as hex
digits), dates and times as numbers (it drops nanoseconds, and moves some to another zone).
"""

from __future__ import annotations

import datetime as dt
import re
import threading
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from decimal import Decimal
from functools import cache
from itertools import chain
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from nimble_otter.sources.column_cursor import ColumnCursor
from nimble_otter.sources.singles import as_shown
from nimble_otter.sources.time_parts import days_part, moments_part
from nimble_otter.table.core.columns import DAY_US, TEXT_BYTES, Kind
from nimble_otter.table.core.parts import ArrayPart, ColumnBatch, Part, given, text_part
from nimble_otter.values import ClientObject, Value

paramstyle = "qmark"
_WRAPPED = re.compile(r"(?:Nullable|LowCardinality)\((.*)\)", re.DOTALL)
_WHOLE = re.compile(r"U?Int(?:8|16|32|64)$")
_TEXTS = re.compile(r"(?:String|FixedString\(\d+\))$")
_MOMENT = re.compile(r"DateTime(?P<fine>64)?(?:\((?P<digits>\d+)?(?:,\s*)?(?:'(?P<zone>[^']+)')?\))?$")
_AS_GIVEN = re.compile(
    r"(?:UUID|(?:Array\()?(?:Nullable\()?(?:Bool|Decimal|Enum|IPv|U?Int|Time)[^()]*(?:\([^()]*\))?\)*)$"
)
"""Types whose values are ours as the package gives them, in lists too."""
_SPAN = re.compile(r"Interval(\w+)$")
_FORMATS = {"String": "bytes", "FixedString": "native", "IPv4": "string", "IPv6": "string", "Time": "string",
            "Time64": "string"}  # fmt: skip
"""How the package is to give types, in nested values too."""


_QUERY = re.compile(r"[\s(]*(?:select|with|values)\b", re.IGNORECASE)
_TELLS = re.compile(r"[\s(]*(?:show|describe|desc|explain|exists|check)\b", re.IGNORECASE)
"""How statements begin that give rows: those whose columns are told before, and others."""


def is_query(text: str) -> bool:
    """Whether a statement's columns are told before it runs."""
    return _QUERY.match(text) is not None


def bare(declared: str) -> str:
    """A type without what says how it is kept and whether it may be NULL."""
    while match := _WRAPPED.fullmatch(declared):
        declared = match[1]
    return declared


_KINDS = (
    (re.compile("Date(?:32)?$"), Kind.DATE), (re.compile("Bool$"), Kind.BOOL), (_WHOLE, Kind.INT),
    (re.compile("Float|BFloat"), Kind.FLOAT), (re.compile("Decimal"), Kind.DECIMAL), (re.compile("UUID$"), Kind.UUID),
)  # fmt: skip


class Error(Exception):
    """What SQLAlchemy would wrap: nothing, as errors of the package are told as they are."""


def kind_of(declared: str) -> Kind | None:
    """The kind of a column of a type; None where its values tell."""
    kind = bare(declared)
    moment = _MOMENT.match(kind)
    if moment:
        return Kind.ZONED if moment["zone"] else Kind.TIME
    return next((own for pattern, own in _KINDS if pattern.match(kind)), None)


class Connection:
    """What statements are run on: a client of the package, which any thread may use, and the number of the statement
    under way."""

    def __init__(self, client: ClientObject, settings: Mapping[str, str]) -> None:
        self._client, self._settings = client, dict(settings)
        self._running = ""
        self._lock = threading.Lock()

    def cursor(self) -> Cursor:
        """A cursor."""
        return Cursor(self)

    @property
    def zone(self) -> str:
        """The zone in which the server tells times that have none."""
        return str(getattr(self._client.server_tz, "key", "UTC"))

    def begin(self, settings: Mapping[str, str]) -> dict[str, str]:
        """The settings of one more statement."""
        with self._lock:
            self._running = str(uuid.uuid4())
            return {**self._settings, **settings, "query_id": self._running}

    def ended(self) -> None:
        """Nothing is under way."""
        with self._lock:
            self._running = ""

    def cancel(self) -> None:
        """Let the server end the statement under way; any thread may ask."""
        with self._lock:
            number = self._running
        if number:
            self._client.command(f"KILL QUERY WHERE query_id = '{number}' ASYNC", use_database=False)

    def commit(self) -> None:
        """Nothing: every statement was done at once."""

    rollback = commit

    def close(self) -> None:
        """Nothing: the lines are the client's."""


class Cursor(ColumnCursor):
    """See PEP 249. `types` are the declared types of the columns."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._client: Any = connection._client  # noqa: SLF001 - one thing in two parts
        self.description: list[tuple[str, Any]] | None = None
        self.types: list[str] = []
        self.rowcount = -1
        self._stream: Any = None
        self._left: Iterator[Value] = iter(())

    def described(self, text: str, values: Mapping[str, object]) -> list[tuple[str, str]]:
        """Names and types of a query's columns, without running it. Raises: what the client raises."""
        settings = self._connection.begin({})
        result = self._client.query(f"describe ({text}\n)", dict(values) or None, settings)
        return [(str(row[0]), str(row[1])) for row in result.result_rows]

    def execute(
        self, text: str, values: Mapping[str, object] | Sequence[object] = (), limit: int | None = None,
        columns: Sequence[tuple[str, str]] = (),
    ) -> None:  # fmt: skip
        """Run a statement; `columns` as `described` gives them, no more than `limit` rows are sent. Raises: what the
        client raises."""
        settings = self._connection.begin({} if limit is None else {"limit": str(limit)})
        formats: dict[str, Any] = {name: f for name, declared in columns if (f := _format_of(declared))}
        context = self._client.query_column_block_stream(
            text, dict(values) if isinstance(values, Mapping) and values else None, settings,
            query_formats=_FORMATS, column_formats=formats or None,
        )  # fmt: skip
        self._stream = context
        source = context.source
        told = columns or [(n, k.name) for n, k in zip(source.column_names, source.column_types, strict=True)]
        if not told and _QUERY.match(text):  # without a row the server sends no names
            told = self.described(text, dict(values) if isinstance(values, Mapping) else {})
        elif not told and _TELLS.match(text):
            told = [("name", "String")]
        if not told:
            self._ended()
            return
        self.description, self.types = [(name, None) for name, _ in told], [declared for _, declared in told]
        self._left = chain.from_iterable(batch.as_rows() for batch in self.batches())

    def batches(self) -> Iterator[ColumnBatch]:
        """The rows as columns, as the server sends them. Raises: what the client raises."""
        readers = [reader_of(declared, self._connection.zone) for declared in self.types]
        with self._stream as blocks:
            for block in blocks:
                yield ColumnBatch([read(column) for read, column in zip(readers, block, strict=True)], len(block[0]))
        self._ended()

    def _ended(self) -> None:
        self._connection.ended()

    def close(self) -> None:
        """Let go of what is left."""
        if self._stream is not None:
            with suppress(Exception):  # what is left of a stream that was broken off
                self._stream.source.close()
        self._stream, self._left = None, iter(())
        self._ended()


# --- values ----------------------------------------------------------------------------------------------------------


def _format_of(declared: str) -> str:
    """How the package is to give a column itself."""
    kind = bare(declared)
    return "int" if kind.startswith("Date") else ""


Reader = Callable[[Any], Part]


def reader_of(declared: str, zone: str) -> Reader:
    """What makes a part of a batch from a column of the package; `zone` is that of times which name none."""
    kind = bare(declared)
    moment = _MOMENT.match(kind)
    if moment:
        digits = int(moment["digits"] or 3) if moment["fine"] else 0
        return lambda held: _moments(held, digits, zone if moment["zone"] is None else "")
    if kind in ("Date", "Date32"):
        return _days
    if _WHOLE.match(kind):
        return _numbers
    if kind in ("Float64", "Float32"):
        return _singles if kind == "Float32" else _doubles
    if _TEXTS.match(kind):
        return _texts
    span = _SPAN.match(kind)
    if span:
        return lambda held: [None if v is None else f"{v} {span[1].lower()}{'s' * (v not in (1, -1))}" for v in held]
    if kind == "Bool":
        return _truths
    return list if _AS_GIVEN.match(kind) else lambda held: [_plain(value) for value in held]


def _given(held: Sequence[Value]) -> tuple[Sequence[Value], NDArray[np.bool_] | None]:
    """Numbers with 0 for NULL, and where it was."""
    if not isinstance(held, (list, tuple)) or None not in held:
        return held, None
    empty = np.fromiter((value is None for value in held), np.bool_, len(held))
    return [0 if value is None else value for value in held], empty


def _numbers(held: Sequence[Value]) -> Part:
    values, empty = _given(held)
    data = np.asarray(values)
    if data.dtype.kind not in "iu" or (data.dtype == np.uint64 and (data >> np.uint64(63)).any()):
        return list(held)  # more than a column of them holds
    stored = data.astype(np.int64)
    return ArrayPart(Kind.INT, stored, empty, lambda: given(stored.tolist(), empty))


def _truths(held: Sequence[Value]) -> Part:
    values, empty = _given(held)
    data = np.array(values, np.bool_)
    return ArrayPart(Kind.BOOL, data, empty, lambda: given(data.tolist(), empty))


def _doubles(held: Sequence[Value]) -> Part:
    values, empty = _given(held)
    data = np.array(values, np.float64)
    return ArrayPart(Kind.FLOAT, data, empty, lambda: given(data.tolist(), empty))


def _singles(held: Sequence[Value]) -> Part:
    values, empty = _given(held)
    data = as_shown(np.array(values, np.float32))
    return ArrayPart(Kind.FLOAT, data, empty, lambda: given(data.tolist(), empty))


def _texts(held: Sequence[Value]) -> Part:
    if None not in held:
        return text_part(held, None)
    empty = np.fromiter((value is None for value in held), np.bool_, len(held))
    return text_part([b"" if value is None else value for value in held], empty)


def _days(held: Sequence[Value]) -> Part:
    values, empty = _given(held)
    return days_part(np.array(values, np.int64), empty)


def _moments(held: Sequence[Value], digits: int, zone: str) -> Part:
    """Times by their ticks since 1970, UTC; told in `zone`, or with their own where it is ""."""
    values, empty = _given(held)
    ticks = np.array(values, np.int64)
    tail = "" if zone else "+00"
    if digits > 6 and (ticks % 10 ** (digits - 6)).any():
        nanos = _in_zone(ticks // 10 ** (digits - 6), zone) * 1000 + ticks * 10 ** (9 - digits) % 1000
        texts = np.datetime_as_string(nanos.astype("M8[ns]"), "ns").tolist()
        return given([text.replace("T", " ") + tail for text in texts], empty)
    micros = ticks * 10 ** (6 - digits) if digits <= 6 else ticks // 10 ** (digits - 6)
    days, rest = np.divmod(_in_zone(micros, zone), DAY_US)
    return moments_part(Kind.TIME if zone else Kind.ZONED, days, rest, empty, tail)


def _in_zone(micros: NDArray[np.int64], zone: str) -> NDArray[np.int64]:
    """What a clock in a zone says at moments in UTC."""
    if zone in ("", "UTC", "Etc/UTC"):
        return micros
    hours, places = np.unique(micros // (DAY_US // 96), return_inverse=True)  # clocks change at full quarters
    return micros + np.array([_offset(zone, int(hour)) for hour in hours], np.int64)[places]


@cache
def _offset(zone: str, quarter: int) -> int:
    """Of a zone from UTC, in microseconds, in a quarter of an hour counted from 1970."""
    moment = dt.datetime.fromtimestamp(0, ZoneInfo("UTC")) + dt.timedelta(minutes=15 * quarter)
    return (moment.astimezone(ZoneInfo(zone)).utcoffset() or dt.timedelta()) // dt.timedelta(microseconds=1)


def _plain(value: ClientObject) -> Value:
    """A value of the package as one of ours."""
    if value is None or isinstance(value, (str, int, float, Decimal, dt.date)):
        return value
    if isinstance(value, (bytes, bytearray)):
        return bytes(value).decode(*TEXT_BYTES)
    if isinstance(value, Mapping):
        return {_key(key): _plain(item) for key, item in value.items()}
    if isinstance(value, (list, tuple)):
        return [_plain(item) for item in value]
    return str(value)


def _key(value: ClientObject) -> str:
    own = _plain(value)
    return own if isinstance(own, str) else str(own)
