"""Apache Parquet, through the pyarrow package where it is installed: columns with their types, for other programs."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from nimble_otter.errors import SendError
from nimble_otter.send.format import Option, Output, Rows
from nimble_otter.table import MISSING, Column, Field, Kind
from nimble_otter.table.core.columns import CodedText
from nimble_otter.table.text.column_texts import utf8
from nimble_otter.table.text.show import is_endless, plain
from nimble_otter.translation import tr
from nimble_otter.values import Value

if TYPE_CHECKING:
    from types import ModuleType


class _Parquet:
    key = "parquet"
    word = "Parquet"
    suffix = ".parquet"
    place = 7
    is_text = False
    many = False
    changes = ()
    options = (
        Option(
            "compression", tr("Compression"), "choice", "snappy",
            (("snappy", tr("Snappy")), ("zstd", tr("Zstandard")), ("gzip", "gzip"), ("none", "none")),
        ),
    )  # fmt: skip

    def write(self, rows: Rows, out: Output) -> Iterator[int]:
        pa, pq = _library()
        blocks = rows.blocks(out.stop)
        block = next(blocks, None)
        types = [_type(pa, f, block[n] if block else None) for n, f in enumerate(rows.fields)]
        for field, column, type_ in zip(rows.fields, block or (), types, strict=bool(block)):
            if field.kind is Kind.OBJECT and type_ == pa.string() and not column.empty_at().all():
                out.note(
                    tr("{field_name} holds values of several kinds, or objects, and is text", field_name=field.name)
                )
        schema = pa.schema(list(zip(rows.names, types, strict=True)))
        done = 0
        try:
            with pq.ParquetWriter(out.stream, schema, compression=out.options["compression"]) as writer:
                waiting: list[Any] = []
                while block is not None:
                    arrays = [_array(pa, column, type_, out) for column, type_ in zip(block, schema.types, strict=True)]
                    waiting.append(pa.record_batch(arrays, schema=schema))
                    done += len(block[0]) if block else 0
                    block = next(blocks, None)
                    if len(waiting) == 16 or block is None:  # a row group of some 130 000 rows
                        writer.write_table(pa.Table.from_batches(waiting, schema))
                        waiting = []
                    yield done
        except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError) as problem:
            raise SendError(
                tr("A column holds values that its first rows did not let expect: {problem}.", problem=problem),
                tr("Send another format."),
            ) from problem
        yield done

    def count(self, path: Path, out: Output) -> int:
        with path.open("rb") as stream:
            return int(_library()[1].ParquetFile(stream).metadata.num_rows)


def _library() -> tuple[Value, Value]:
    try:
        import pyarrow
        import pyarrow.compute
        import pyarrow.parquet
    except ImportError as problem:
        raise SendError(
            tr("Parquet needs the package pyarrow, which is not installed."),
            tr("Run: pip install 'nimble-otter[parquet]'"),
        ) from problem
    return pyarrow, pyarrow.parquet


def _type(pa: ModuleType, field: Field, column: Column | None) -> object:
    kind = field.kind
    if kind is Kind.DECIMAL:
        return pa.decimal128(38, column.scale if column is not None else 9)
    if kind is Kind.OBJECT:
        return _type_of_values(pa, [v for v in column.values() if v is not None] if column is not None else [])
    return {
        Kind.INT: pa.int64(), Kind.FLOAT: pa.float64(), Kind.BOOL: pa.bool_(), Kind.TIME: pa.timestamp("us"),
        Kind.ZONED: pa.timestamp("us", "UTC"), Kind.DATE: pa.date32(), Kind.CLOCK: pa.time64("us"),
        Kind.SPAN: pa.duration("us"), Kind.TEXT: pa.string(), Kind.UUID: pa.uuid(),
    }[kind]  # fmt: skip


def _type_of_values(pa: ModuleType, values: list[Value]) -> object:
    """Bytes, lists of one kind and exact numbers have types of their own; all else is text."""
    types = {type(v) for v in values if v is not MISSING}
    if types == {bytes}:
        return pa.binary()
    if types == {list}:
        try:
            found = pa.infer_type(values)
            return found if not _holds_objects(pa, found) else pa.string()
        except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError):
            return pa.string()
    if types and types <= {int, Decimal} and not any(is_endless(v) for v in values):
        numbers = [Decimal(v) for v in values]
        scale = max(0, *(-int(n.as_tuple().exponent) for n in numbers), 0)
        digits = max(n.adjusted() + 1 for n in numbers) + scale
        if digits <= 76:
            return pa.decimal128(38, scale) if digits <= 38 else pa.decimal256(76, scale)
    return pa.string()


def _holds_objects(pa: ModuleType, type_: Any) -> bool:
    while pa.types.is_list(type_):
        type_ = type_.value_type
    return bool(pa.types.is_struct(type_) or pa.types.is_null(type_) or pa.types.is_decimal(type_))


def _texts(pa: ModuleType, column: Column, out: Output) -> object:
    """Texts by their bytes; None where some are not UTF-8."""
    if isinstance(column, CodedText):
        codes = pa.array(np.ascontiguousarray(column.data), mask=column.empty)
        words = pa.array([out.whole(word) for word in column.words], pa.string())
        return pa.DictionaryArray.from_arrays(codes, words).cast(pa.string())
    raw = pa.array(utf8(column), pa.binary(), mask=column.empty)
    try:
        return raw.cast(pa.string())
    except pa.ArrowInvalid:
        return None


def _array(pa: ModuleType, column: Column, type_: Any, out: Output) -> object:
    kind, empty = column.kind, column.empty
    if kind in (Kind.INT, Kind.FLOAT, Kind.BOOL) and type_ in (pa.int64(), pa.float64(), pa.bool_()):
        return pa.array(np.ascontiguousarray(column.data), mask=empty).cast(type_)
    if kind in (Kind.TIME, Kind.ZONED, Kind.CLOCK, Kind.SPAN, Kind.DATE) and type_ != pa.string():
        whole = pa.array(np.ascontiguousarray(column.data), mask=empty)
        return whole.cast(pa.int32()).cast(type_) if kind is Kind.DATE else whole.cast(type_)
    if kind is Kind.UUID and type_ == pa.uuid():
        halves = np.stack([column.data["high"], column.data["low"]], axis=1).astype(">u8")
        raw = pa.FixedSizeBinaryArray.from_buffers(pa.binary(16), len(column), [None, pa.py_buffer(halves.tobytes())])
        raw = raw if empty is None else pa.compute.if_else(pa.array(empty), pa.scalar(None, pa.binary(16)), raw)
        return pa.ExtensionArray.from_storage(type_, raw)
    if kind is Kind.DECIMAL and type_ == pa.decimal128(38, column.scale):
        halves = pa.py_buffer(np.stack([column.data, column.data >> 63], axis=1).astype("<i8").tobytes())
        mask = None if empty is None else pa.py_buffer(np.packbits(~empty, bitorder="little").tobytes())
        return pa.Array.from_buffers(type_, len(column), [mask, halves])
    if kind is Kind.TEXT and type_ == pa.string() and (texts := _texts(pa, column, out)) is not None:
        return texts
    values: Sequence[Any] = [None if v is None or v is MISSING else v for v in column.values()]
    if type_ == pa.string():
        values = [None if v is None else out.whole(plain(v)) for v in values]
    elif kind is not Kind.DECIMAL and pa.types.is_decimal(type_):
        values = [None if v is None else Decimal(v) for v in values]
    return pa.array(values, type_)


FORMAT = _Parquet()
