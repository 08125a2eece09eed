"""The text of statements: with the driver's markers for values when they run, with literals where they are shown.

Statements that change the same columns have the same text but for their values, so each text is made once.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

from nimble_otter.changes.edits import DEFAULT
from nimble_otter.changes.plan import Pairs, Plan, Statement, StatementKind
from nimble_otter.changes.shape import shape
from nimble_otter.sources.catalogue import ForeignKey
from nimble_otter.values import Value

Bound = tuple[str, tuple[Any, ...]]


@dataclass(frozen=True, slots=True)
class _Text:
    """`pieces` stand around the values, which `order` takes out of the statement's own."""

    pieces: tuple[str, ...]
    order: tuple[int, ...]


class Wording:
    """The texts of one plan's statements."""

    def __init__(self, plan: Plan) -> None:
        self._plan, self._dialect, self._made = plan, plan.dialect, dict[Any, _Text]()
        names = " ".join((plan.table, *(c.name for c in plan.info.columns)))
        self._is_tidy = "\n" not in names
        self._token = next(f"otter{n}value" for n in range(1000) if f"otter{n}value" not in names)

    def bound(self, statement: Statement, returning: Sequence[str] = (), start: int = 0) -> Bound:
        """(text with the driver's markers, values in their order); `returning` are columns that it gives back, or
        reads; `start` values stand before it in the same statement."""
        text, pairs = self._text(statement, tuple(returning))
        values = tuple(self._dialect.for_driver(pairs[n][1], self._plan.column(pairs[n][0])) for n in text.order)
        return self._dialect.joined(text.pieces, start), values

    def shown(self, statement: Statement) -> str:
        """The statement with its values as literals."""
        text, pairs = self._text(statement, ())
        lines = [self._dialect.literal(pairs[n][1], self._plan.column(pairs[n][0])) for n in text.order]
        return "".join([text.pieces[0], *(p for pair in zip(lines, text.pieces[1:], strict=True) for p in pair)]) + ";"

    def reading(self, keys: Sequence[Pairs], columns: Sequence[str]) -> Bound:
        """One query for many rows by their keys: the number of the key, then some columns."""
        texts, values = [], list[Any]()
        for number, key in enumerate(keys):
            text, own = self.bound(Statement(StatementKind.SELECT, number, key=key), columns, len(values))
            texts.append(text.replace(f"{self._token}number", str(number), 1))
            values += own
        return " UNION ALL ".join(texts), tuple(values)

    def locking(self, key: Pairs, columns: Sequence[str], waits: bool = True) -> Bound:
        """Some columns of one row by its key, and those of `exact` again as they can be put back. It `waits` for
        whoever is changing the row, and then keeps others from it."""
        text, values = self.bound(Statement(StatementKind.LOCK, 0, key=key), columns)
        return text + (self._dialect.lock_suffix if waits else ""), values

    def exact(self, columns: Sequence[str]) -> list[str]:
        """Of some columns those whose plain reading loses something."""
        from sqlalchemy import column

        plan = self._plan
        return [name for name in columns if self._dialect.exactly(column(name), plan.column(name)) is not None]

    def counting(self, link: ForeignKey, key: Pairs) -> Bound:
        """How many rows of another table refer to a row."""
        from sqlalchemy import and_, column, func, select, table

        places = [self._place(n) for n in range(len(key))]
        matched = [column(name) == place for name, place in zip(link.columns, places, strict=True)]
        bare = link.table.removeprefix(f"{link.schema}.") if link.schema else link.table
        named = table(bare, *map(column, link.columns), schema=link.schema or None)
        text = self._split(select(func.count()).select_from(named).where(and_(*matched)))
        values = [self._dialect.for_driver(key[n][1], self._plan.column(key[n][0])) for n in text.order]
        return self._dialect.joined(text.pieces), tuple(values)

    def _text(self, statement: Statement, returning: tuple[str, ...]) -> tuple[_Text, Pairs]:
        every = (*statement.values, *statement.key, *statement.seen)
        pairs = tuple(p for p in every if p[1] is not None and p[1] is not DEFAULT)
        sign = (
            statement.kind, returning,
            *(tuple((n, shape(v)) for n, v in part) for part in (statement.values, statement.key, statement.seen)),
        )  # fmt: skip
        if sign not in self._made:
            numbered = statement.kind == StatementKind.INSERT and any(
                info.is_always for n, _ in statement.values if (info := self._plan.column(n)) is not None
            )
            self._made[sign] = self._split(self._clause(statement, returning), numbered)
        return self._made[sign], pairs

    def _clause(self, statement: Statement, returning: tuple[str, ...]) -> Value:
        from sqlalchemy import and_, column, delete, insert, literal_column, null, select, update

        plan, number = self._plan, iter(range(10_000))
        names = dict.fromkeys(n for n, _ in (*statement.values, *statement.key, *statement.seen))
        named = self._named([*names, *returning])

        def place(value: object) -> Value:
            if value is DEFAULT:
                return literal_column("DEFAULT")
            return null() if value is None else plan.dialect.place(value, self._place(next(number)))

        set_ = {name: place(value) for name, value in statement.values}
        matched = []
        for name, value in statement.key:
            bound = self._place(next(number)) if value is not None else None
            is_loose = plan.by_values or value is None
            info = plan.column(name)
            own: Any = column(name)
            matched.append(
                plan.dialect.equals(own, info, value, bound) if is_loose else own == plan.dialect.place(value, bound)
            )
        for name, value in statement.seen:
            bound = self._place(next(number)) if value is not None else None
            matched.append(plan.dialect.equals(column(name), plan.column(name), value, bound))
        if statement.kind in (StatementKind.SELECT, StatementKind.LOCK):
            own = named.alias("t")
            whole: list[Any] = (
                [literal_column(f"{self._token}number")] if statement.kind == StatementKind.SELECT else []
            )
            whole += [own.c[name] for name in returning]
            if statement.kind == StatementKind.LOCK:
                made_exact = (plan.dialect.exactly(own.c[name], plan.column(name)) for name in returning)
                whole += [part.label(f"{self._token}{n}e") for n, part in enumerate(made_exact) if part is not None]
            return select(*whole).select_from(own).where(and_(*matched))
        if statement.kind == StatementKind.DELETE:
            return delete(named).where(and_(*matched))
        if statement.kind == StatementKind.INSERT:
            made: Any = insert(named).values(set_) if set_ else insert(named)
            return made.returning(*(column(name) for name in returning)) if returning else made
        return update(named).values(set_).where(and_(*matched))

    def _named(self, columns: Sequence[str]) -> Value:
        from sqlalchemy import column, table

        info = self._plan.info
        return table(info.bare, *(column(name) for name in dict.fromkeys(columns)), schema=info.schema or None)

    def _place(self, number: int) -> Value:
        from sqlalchemy import bindparam

        return bindparam(f"{self._token}{number}", type_=_plain_type()())

    def _split(self, made: Value, overrides: bool = False) -> _Text:
        """`overrides`: the insert gives a number that the server would give (ISO 9075-2, 14.11)."""
        # without values of its own an insert would name every column it knows
        bare: dict[str, Any] = {"column_keys": []} if made.is_insert and not made._values else {}  # noqa: SLF001 - there is no other way to ask
        text = str(made.compile(dialect=_compiler(self._dialect.compiler), **bare))
        if overrides:
            first = text.find(f":{self._token}")
            at = text.rindex(") VALUES (", 0, first if first >= 0 else None) + 1
            text = f"{text[:at]} OVERRIDING SYSTEM VALUE{text[at:]}"
        parts = re.split(rf":{self._token}(\d+)", text.replace("\n", " ") if self._is_tidy else text)
        return _Text(tuple(parts[::2]), tuple(map(int, parts[1::2])))


@cache
def _compiler(name: str) -> Value:
    from sqlalchemy import make_url

    found: Any = make_url(f"{name}://").get_dialect()
    return found(paramstyle="named")


@cache
def _plain_type() -> Value:
    """A type that adds nothing of its own to a value's place."""
    from sqlalchemy.types import UserDefinedType

    class Plain(UserDefinedType[Any]):
        cache_ok = True

        def coerce_compared_value(self, op: object, value: object) -> Value:
            return self

    return Plain
