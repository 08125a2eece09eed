"""The order in which a plan's statements can run, and temporary values where rows exchange what is unique.

Deletes come first, as they make room for what is unique, then updates, then inserts. An update that takes a value comes
behind the one that gives it away; where updates take each other's values, one of them is put aside first: it gets a
value that nobody has, inside the same transaction. Where rows refer to rows of the same table, those referred to are
written first and deleted last.
"""

from __future__ import annotations

import datetime as dt
import re
import uuid
from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal, InvalidOperation
from typing import Any

from nimble_otter.changes.plan import Pairs, Plan, Statement, StatementKind
from nimble_otter.errors import ChangeError
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr
from nimble_otter.values import Value

_INTEGERS = {"TINYINT": 8, "SMALLINT": 16, "INT2": 16, "SMALLSERIAL": 16, "MEDIUMINT": 24, "BIGINT": 64, "INT8": 64,
             "BIGSERIAL": 64}  # fmt: skip
SeenOf = Callable[[Statement, str], Any]
_UNKNOWN = object()


def arranged(plan: Plan, uniques: Sequence[tuple[str, ...]], before: Mapping[int, Mapping[str, object]]) -> Plan:
    """The plan with its statements in an order that works, and with what is put aside first. `before` has the rows as
    they are, by row id, as far as they are known. Raises: ChangeError where an exchange is not possible."""
    deletes = [s for s in plan.statements if s.kind == StatementKind.DELETE]
    updates = [s for s in plan.statements if s.kind == StatementKind.UPDATE]
    inserts = [s for s in plan.statements if s.kind == StatementKind.INSERT]
    sets = list(dict.fromkeys((*((plan.key,) if plan.key and not plan.by_values else ()), *uniques)))

    def held(statement: Statement, name: str) -> Value:
        for part in (before.get(statement.row_id, {}), *map(dict, (statement.old, statement.key, statement.seen))):
            if name in part:
                return part[name]
        return _UNKNOWN

    updates, aside = _chained(updates, sets, held)
    parks = tuple(
        (row, _parked(plan, by_row[0], by_row[1], number)) for number, (row, by_row) in enumerate(aside.items())
    )
    own = next((link for link in plan.info.foreign if link.target == plan.info.name), None)
    if own is None:
        return replace(plan, statements=(*deletes, *updates, *inserts), parks=parks)
    inserts = _after(inserts, lambda s: _of(s.values, own.referred), lambda s: [_of(s.values, own.columns)])
    children = _after(deletes, lambda s: _of(s.old, own.referred), lambda s: [_of(s.old, own.columns)])
    return replace(plan, statements=(*inserts, *updates, *reversed(children)), parks=parks)


def _chained(  # noqa: C901 - the rule is one, told step by step
    updates: list[Statement], sets: Sequence[tuple[str, ...]], held: SeenOf
) -> tuple[list[Statement], dict[int, tuple[Statement, list[tuple[str, ...]]]]]:
    """Updates with those that give a value away before those that take it, and those to be put aside, each with the
    sets of columns whose values it gives away."""
    gives: list[dict[Hashable, Statement]] = []
    takes: list[dict[int, Hashable]] = []
    for names in sets:
        given, taken = dict[Hashable, Statement](), dict[int, Hashable]()
        for statement in updates:
            new = dict(statement.values)
            if not any(name in new for name in names):
                continue
            old = tuple(held(statement, name) for name in names)
            if _UNKNOWN in old:
                continue
            now, then = folded(old), folded(tuple(new.get(n, o) for n, o in zip(names, old, strict=True)))
            if now == then:
                continue
            if now is not None:
                given[now] = statement
            if then is not None:
                taken[statement.row_id] = then
        gives.append(given)
        takes.append(taken)
    aside: dict[int, tuple[Statement, list[tuple[str, ...]]]] = {}
    done: dict[int, Statement] = {}

    def needed(statement: Statement) -> Iterator[tuple[Statement, tuple[str, ...]]]:
        for names, given, taken in zip(sets, gives, takes, strict=True):
            other = given.get(taken.get(statement.row_id))
            if other is not None and other is not statement:
                yield other, names

    for first in updates:
        if first.row_id in done:
            continue
        path: list[tuple[Statement, Iterator[tuple[Statement, tuple[str, ...]]]]] = [(first, needed(first))]
        on_path = {first.row_id}
        while path:
            statement, rest = path[-1]
            step = next(rest, None)
            if step is None:
                done[statement.row_id] = statement
                on_path.discard(statement.row_id)
                path.pop()
                continue
            other, names = step
            if other.row_id in done:
                continue
            if other.row_id in on_path:  # they swap their values
                aside.setdefault(other.row_id, (other, []))[1].append(names)
                continue
            path.append((other, needed(other)))
            on_path.add(other.row_id)
    return list(done.values()), aside


def folded(values: tuple[object, ...]) -> Hashable:
    """Values as a unique index may take them for one: numbers by value, texts without letters' case and blanks at the
    end; None where one is missing, which is never taken for another."""
    hashables: list[Hashable] = []
    for value in values:
        if value is None:
            return None
        if isinstance(value, bytes):
            hashables.append(value)
            continue
        text = str(int(value)) if isinstance(value, bool) else plain(value)
        try:
            number = Decimal(text)
            hashables.append(number.normalize() if number.is_finite() else text)
        except InvalidOperation:
            hashables.append(text.casefold().rstrip())
    return tuple(hashables)


def _parked(plan: Plan, statement: Statement, sets: list[tuple[str, ...]], number: int) -> Pairs:
    """What a statement's row gets in the meantime. Raises: ChangeError."""
    found: dict[str, Any] = {}
    for names in sets:
        changed = [name for name, _ in statement.values if name in names]
        if any(name in found for name in changed):
            continue
        for name in changed:
            info = plan.column(name)
            if info is not None and (others := candidates(info, number)):
                found[name] = others[0]
                break
        else:
            raise ChangeError(
                tr(
                    "Rows of {table} swap their {names}; no value of {changed} could be used meanwhile.",
                    table=plan.table,
                    names=", ".join(names),
                    changed=changed[0],
                ),
                tr("Write one of them with another value first."),
            )
    return tuple(found.items())


def candidates(info: ColumnInfo, number: int) -> list[object]:
    """Values of a column's type that hardly a row holds, for the exchange with this number; none where the type has too
    few. NULL, which rows that refer to it would not follow, comes last."""
    return [*_values(info, number), *([None] if info.nullable and not info.key else [])]


def _values(info: ColumnInfo, number: int) -> list[Value]:
    declared = info.declared.upper()
    if info.values or info.word == "yes/no":
        return []
    if declared.startswith("UUID"):
        return [str(uuid.uuid4())]
    if size := re.match(r"(?:DECIMAL|NUMERIC)\((\d+)(?:,\s*(\d+))?\)", declared):
        most = Decimal(10) ** (int(size[1]) - int(size[2] or 0)) - 1 - number
        return [-most, most] if most > 0 else []
    if info.word == "number":
        if "INT" not in declared and "SERIAL" not in declared:
            return [Decimal(-(10**15) - number), Decimal(10**15 + number)] if "YEAR" not in declared else []
        bits = next((n for word, n in _INTEGERS.items() if declared.startswith(word)), 32)
        low, high = (0, (1 << bits) - 1) if "UNSIGNED" in declared else (-(1 << (bits - 1)), (1 << (bits - 1)) - 1)
        return [low + number, high - number]
    if info.word in ("date", "time"):
        day = dt.date(1000 if "TIMESTAMP" not in declared else 1971, 1, 1) + dt.timedelta(number)
        return [day.isoformat() if info.word == "date" else f"{day.isoformat()} 00:00:00"]
    if info.word in ("text", "any", "") and not re.search(r"RANGE|POINT|INET|CIDR|TIME|INTERVAL|SET|BIT", declared):
        length = re.search(r"\((\d+)\)", declared)
        room = min(int(length[1]) if length else 40, 40)
        return [f"~{uuid.uuid4().hex}"[:room]] if room >= 5 else []
    return []


def _of(pairs: Pairs, names: tuple[str, ...]) -> Hashable:
    found = dict(pairs)
    values = tuple(found.get(name) for name in names)
    return None if None in values else values


def _after(
    statements: list[Statement], name: Callable[[Statement], Hashable], needs: Callable[[Statement], list[Hashable]]
) -> list[Statement]:
    """Each statement behind those whose name it needs; rings stay as they are, for the server to refuse."""
    by_name: Mapping[Hashable, Statement] = {name(s): s for s in statements if name(s) is not None}
    done: dict[int, Statement] = {}
    for first in statements:
        chain, found = [first], {first.row_id}
        while chain:
            wanted = [by_name[n] for n in needs(chain[-1]) if n in by_name]
            ahead = next((s for s in wanted if s.row_id not in done and s.row_id not in found), None)
            if ahead is not None:
                chain.append(ahead)
                found.add(ahead.row_id)
            else:
                done.setdefault(chain[-1].row_id, chain[-1])
                chain.pop()
    return list(done.values())
