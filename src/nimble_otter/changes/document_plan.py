"""From pending edits on documents to statements by path: only what differs inside a nested value is set.

A path is a dotted name as in the MongoDB query language; MISSING stands for a field that is not there.
"""

from __future__ import annotations

import datetime as dt
import json
import re
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal

from nimble_otter.changes.edits import Edits
from nimble_otter.changes.plan import Guard, Pairs, Plan, Statement, StatementKind
from nimble_otter.changes.target import Target
from nimble_otter.errors import NoKeyError, ValueRefused
from nimble_otter.sources.catalogue import ColumnInfo, EntryKind, TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.dialects.documents import DOCUMENTS
from nimble_otter.sources.document_paths import can_be_asked
from nimble_otter.sources.trace import KEY_NAME
from nimble_otter.table import MISSING, Table
from nimble_otter.table.ops.filter import parse_time
from nimble_otter.translation import tr
from nimble_otter.values import Value


def document_target(table: Table, collection: str, unseen: Table | None = None, dialect: Dialect = DOCUMENTS) -> Target:
    """Every column that stands for a path can be changed, but for the key."""
    width = len(table.fields)
    fields = [*table.fields, *(unseen.fields if unseen is not None else ())]
    key = next((at for at, f in enumerate(fields) if (f.origin or f.name) == "_id" or f.name == f"{KEY_NAME}0"), None)
    if key is None:
        return Target(None, reason=tr("The documents' _id is not in the result; add it to the query."))
    columns, refusals = [], []
    for at, field in enumerate(table.fields):
        path = field.origin or field.name
        if path == "_id":
            refusals.append((at, tr("_id names the document and can't be changed; duplicate the document instead.")))
        elif not can_be_asked(path):
            refusals.append(
                (at, tr("{field_name} has a dot in its name and can't be changed by itself.", field_name=field.name))
            )
        elif re.search(r"[$\x00]|\.\.|^\.|\.$", path):
            refusals.append((at, tr("{path} can't be named in a path.", path=path)))
        else:
            columns.append((at, ColumnInfo(path)))
    info = TableInfo(collection, EntryKind.COLLECTION, (ColumnInfo("_id", key=1), *(c for _, c in columns)))
    return Target(info, ((key, "_id"),), tuple(columns), tuple(refusals), "", unseen if key >= width else None,
                  dialect=dialect)  # fmt: skip


def make_document_plan(edits: Edits, table: Table, target: Target, guard: Guard = Guard.SEEN) -> Plan:
    """Raises: NoKeyError, where there is nothing to write to or a document has no key."""
    if target.table is None:
        raise NoKeyError(target.reason)
    paths = {at: info.name for at, info in target.columns}
    literal = {at: field.origin for at, field in enumerate(table.fields) if not can_be_asked(field.origin)}
    whole_paths = paths | literal
    key_place = target.keys[0][0]

    def stored(row: int, place: int) -> Value:
        return edits.seen.get((row, place), target.value(table, place, row))

    def key_of(row: int) -> Pairs:
        key = target.value(table, key_place, row)
        if key is MISSING or key is None:
            raise NoKeyError(tr("A changed document has no _id."))
        return (("_id", key),)

    def whole(row: int) -> Pairs:
        return tuple((path, stored(row, place)) for place, path in whole_paths.items())

    statements = []
    for row in edits.deleted:
        held = whole(row)
        statements.append(
            Statement(StatementKind.DELETE, row, (), key_of(row), held if guard != Guard.KEY else (), held)
        )
    for row in edits.edited_rows:
        changed = [
            pair
            for place, value in sorted(edits.cells[row].items())
            for pair in differences(paths[place], stored(row, place), value)
        ]
        values = tuple((path, new) for path, _, new in changed)
        old = tuple((path, before) for path, before, _ in changed)
        held = {"seen": old, "row": whole(row)}.get(guard, ())
        statements.append(Statement(StatementKind.UPDATE, row, values, key_of(row), held, old))
    for row in edits.added:
        given = edits.cells.get(row, {})
        own = {"_id": given[key_place]} if key_place in given else {}
        pairs = {
            whole_paths[at]: value for at, value in sorted(given.items()) if at in whole_paths and value is not MISSING
        }
        statements.append(Statement(StatementKind.INSERT, row, tuple((own | pairs).items())))
    return Plan(target.table, ("_id",), tuple(statements), target.dialect, guard)


def with_part(whole: object, names: Sequence[str], part: object, path: str) -> object:
    """A nested value with one part of it replaced, or taken out (MISSING); objects on the way that are not there are
    made. Raises: ValueRefused where something else stands on the way."""
    if not names:
        return part
    if whole is None or whole is MISSING:
        whole = {}
        if part is MISSING:
            return MISSING
    if not isinstance(whole, Mapping):
        raise ValueRefused(
            tr("{path} holds no object in this document, so it has no field {names}.", path=path, names=names[0])
        )
    inner = with_part(whole.get(names[0], MISSING), names[1:], part, f"{path}.{names[0]}")
    if inner is MISSING:
        return {name: value for name, value in whole.items() if name != names[0]}
    return {**whole, names[0]: inner}


def differences(path: str, old: object, new: object) -> Iterator[tuple[str, object, object]]:
    """(path, old, new) for each part in which two values differ: fields of objects, items of lists of one length."""
    if isinstance(old, Mapping) and isinstance(new, Mapping) and old and new and _in_place(list(old), list(new)):
        for name in dict.fromkeys((*old, *new)):
            yield from differences(f"{path}.{name}", old.get(name, MISSING), new.get(name, MISSING))
    elif isinstance(old, list) and isinstance(new, list) and old and len(old) == len(new):
        for at, (one, other) in enumerate(zip(old, new, strict=True)):
            yield from differences(f"{path}.{at}", one, other)
    elif not exactly(old, new):
        yield path, old, new


def _in_place(old: list[object], new: list[object]) -> bool:
    """Whether fields can be set one by one: they can be named in a path, and what is added or removed stands behind the
    others, as the server puts it there (the order of fields counts)."""
    common = [name for name in old if name in new]
    return old[: len(common)] == common == new[: len(common)] and _can_be_named((*old, *new))


def _can_be_named(names: Sequence[object]) -> bool:
    return all(isinstance(n, str) and n and "." not in n and not n.startswith("$") and "\x00" not in n for n in names)


def exactly(a: object, b: object) -> bool:
    """Whether two values are one in type and content; the order of an object's fields counts, as it does there."""
    if isinstance(a, Mapping) and isinstance(b, Mapping):
        return list(a) == list(b) and all(exactly(a[name], b[name]) for name in a)
    if isinstance(a, list) and isinstance(b, list):
        return len(a) == len(b) and all(map(exactly, a, b))
    if isinstance(a, float) and isinstance(b, float):
        return repr(a) == repr(b)
    return (a is b) if MISSING in (a, b) or None in (a, b) else _kind(a) is _kind(b) and bool(a == b)


def _kind(value: object) -> type:
    return int if isinstance(value, int) and not isinstance(value, bool) else type(value)


def read_document_value(text: str | None, before: object, path: str) -> object:
    """What was typed as a value of the type that stands there: ObjectId, Decimal128, time, number, text. Where nothing
    stands, and for objects and lists, extended JSON is read, and other words are a text. Raises: ValueRefused."""
    if text is None:
        return None
    words = text.strip()
    if isinstance(before, bool):
        if words.casefold() not in ("yes", "no", "true", "false"):
            raise ValueRefused(tr("{path} is a boolean here.", path=path), tr("Type yes or no."))
        return words.casefold() in ("yes", "true")
    if isinstance(before, str):
        return text
    kind = type(before).__name__
    if kind in ("ObjectId", "Decimal128"):
        return _of_bson(kind, words, path)
    if isinstance(before, dt.datetime):
        moment = parse_time(words, with_time=True)
        if not isinstance(moment, dt.datetime) or moment.microsecond % 1000:
            raise ValueRefused(
                tr("{path} holds times to the millisecond here.", path=path), tr("Type it like 2031-05-28 23:00.")
            )
        return moment
    if isinstance(before, (int, float, Decimal)) and not words.startswith("{"):
        return _number(words, before, path)
    return from_json(text, path, is_strict=isinstance(before, (Mapping, list)))


def _number(words: str, before: object, path: str) -> Value:
    plain = words.replace("\u2009", "")
    try:
        exact = Decimal(plain)
    except ArithmeticError as problem:
        raise ValueRefused(
            tr("{path} holds a number here; {words!r} is not one.", path=path, words=words[:40]),
            tr("Use a decimal point."),
        ) from problem
    if isinstance(before, Decimal):
        return exact
    if isinstance(before, int):
        if exact != exact.to_integral_value() or not -(1 << 63) <= exact < 1 << 63:
            raise ValueRefused(
                tr("{path} holds a whole number of 64 bits here.", path=path),
                'Another type is written as {"$numberDouble": "1.5"}.',
            )
        return type(before)(int(exact))
    if exact.is_finite() and Decimal(repr(float(exact))) != exact:
        raise ValueRefused(
            tr("{path} can't hold {words} exactly.", path=path, words=words[:40]),
            tr("The nearest it can hold is {float!r}.", float=float(exact)),
        )
    return float(exact)


def _of_bson(kind: str, words: str, path: str) -> object:
    import bson
    from bson.errors import InvalidId

    try:
        return bson.ObjectId(words) if kind == "ObjectId" else bson.Decimal128(words)
    except (InvalidId, ArithmeticError, ValueError) as problem:
        raise ValueRefused(
            tr("{path} holds {kind} here; {words!r} is not one.", path=path, kind=kind, words=words[:40])
        ) from problem


def from_json(text: str, path: str, is_strict: bool = False) -> object:
    """A value of MongoDB's extended JSON; without `is_strict` what is none is a text. Raises: ValueRefused."""
    from bson import json_util
    from bson.errors import BSONError

    try:
        options = json_util.JSONOptions(tz_aware=False)
        return json_util.loads(text, json_options=options)
    except json.JSONDecodeError as problem:
        if not is_strict and text.strip()[:1] not in ("{", "["):
            return text
        message = tr(
            "{msg} in line {lineno}, column {colno}", msg=problem.msg, lineno=problem.lineno, colno=problem.colno
        )
        raise ValueRefused(
            tr("{path}: this is not JSON: {message}.", path=path, message=message),
            tr("Put names and texts in double quotes."),
        ) from problem
    except (BSONError, TypeError, ValueError) as problem:
        raise ValueRefused(
            tr("{path}: a value does not match its type: {problem}.", path=path, problem=problem)
        ) from problem


def to_json(value: object, indent: int | None = None) -> str:
    """Extended JSON, relaxed where that keeps the type: whole numbers of 64 bits are marked."""
    from bson import json_util

    options = json_util.JSONOptions(
        json_mode=json_util.JSONMode.RELAXED, datetime_representation=json_util.DatetimeRepresentation.ISO8601
    )
    return json_util.dumps(value, json_options=options, indent=indent, ensure_ascii=False)
