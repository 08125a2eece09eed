"""What the names in a SELECT over collections mean: whose field, at which path, and what kinds of values are there."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any

from nimble_otter.errors import QueryError
from nimble_otter.query.lazy import exp
from nimble_otter.query.parsed import literal_of, name_parts, place_in
from nimble_otter.table.ops.filter import parse_time
from nimble_otter.translation import tr
from nimble_otter.values import Value

Types = Mapping[str, set[str]]
"""Kinds of values ("time", "text", ...) by dotted path."""


class NotPlain(QueryError):
    """A condition that is no comparison of a field with a value, so that it can't be a filter."""


@dataclass(frozen=True, slots=True)
class Source:
    """One of FROM: `prefix` is what stands before its fields ("" where the document is the row itself, "a." inside it,
    "$b_." for a variable). `is_value`: the alias is no document but a value, such as an item of a list."""

    alias: str
    prefix: str = ""
    types: Types = field(default_factory=dict)
    is_value: bool = False

    def has(self, name: str) -> bool:
        """Whether its documents have a field of that name."""
        return any(path == name or path.startswith(f"{name}.") for path in self.types)


@dataclass(frozen=True, slots=True)
class Found:
    """A field: its path in the row (or in a variable, then with $ before it), whose it is, kinds of values there."""

    path: str
    alias: str
    types: frozenset[str] = frozenset()


@dataclass(slots=True)
class Reading:
    """A text being translated: its parameters and the sources in scope. `merged` are the columns of USING, with the
    alias whose they are. `given` are expressions by what they are written as, once rows are groups: nothing else is
    left of them then. `renamed` are names for values that have no path of their own, such as the items of a list."""

    text: str
    parameters: Mapping[str, Any]
    sources: tuple[Source, ...] = ()
    merged: dict[str, str] = field(default_factory=dict)
    given: dict[str, Any] | None = None
    renamed: dict[str, str] = field(default_factory=dict)

    def within(self, sources: Sequence[Source]) -> Reading:
        """The same text with other sources in scope."""
        return replace(self, sources=tuple(sources), given=None, merged=dict(self.merged))

    def refuse(
        self, what: str, node: exp.Expr | None = None, hint: str = "", kind: Callable[..., QueryError] = QueryError
    ) -> QueryError:
        """An error that says what can't be asked of documents."""
        return kind(what, hint, place_in(self.text, node) if node is not None else None)

    # --- fields ------------------------------------------------------------------------------------------------

    def find(self, node: exp.Expr) -> Found:
        """The field that a dotted path means. Raises: QueryError."""
        parts = name_parts(node)
        if parts is None:
            text = tr("{sql} is not a field.", sql=node.sql()[:40])
            raise self.refuse(text, node, tr("Only fields and dotted paths can be used here."), NotPlain)
        if len(parts) > 1 and self.renamed.get(parts[1], "").split("_at")[0] == parts[0]:
            parts = parts[1:]  # x.item of unnest(list) x(item)
        if parts[0] in self.renamed and not any(s.alias == parts[0] for s in self.sources):
            path = ".".join((self.renamed[parts[0]], *parts[1:]))
            return Found(path, self.renamed[parts[0]].removesuffix("_at"))
        source, rest = self._owner(parts, node)
        path = ".".join(rest)
        if not rest:  # the document or the value itself
            return Found(source.prefix.rstrip(".") or "$ROOT", source.alias, frozenset(source.types.get("", set())))
        return Found(source.prefix + path, source.alias, frozenset(source.types.get(path, set())))

    def _owner(self, parts: list[str], node: exp.Expr) -> tuple[Source, list[str]]:
        if len(self.sources) == 1 and not self.sources[0].prefix:
            only = self.sources[0]
            is_alias = parts[0] == only.alias and not only.has(".".join(parts)) and len(parts) > 1
            return only, parts[1:] if is_alias else parts
        for source in self.sources:
            if source.alias == parts[0]:
                return source, parts[1:]
        if parts[0] in self.merged:
            return next(s for s in self.sources if s.alias == self.merged[parts[0]]), parts
        owners = [s for s in self.sources if not s.is_value and s.has(parts[0])]
        if len(owners) == 1:
            return owners[0], parts
        names = ", ".join(s.alias for s in (owners or self.sources))
        what = (
            tr("{parts} is in several of {names}.", parts=parts[0], names=names)
            if owners
            else tr("Which of {names} has {parts}?", names=names, parts=parts[0])
        )
        raise self.refuse(
            what,
            node,
            tr("Write it with its name in front, like {alias}.{parts}.", alias=self.sources[0].alias, parts=parts[0]),
        )

    def aliases(self, node: exp.Expr) -> set[str]:
        """Whose fields an expression names."""
        tops = [c for c in node.find_all(exp.Column, exp.Dot) if not isinstance(c.parent, exp.Dot)]
        return {self.find(c).alias for c in tops}

    def is_field(self, node: exp.Expr) -> bool:
        """Whether a node names a field."""
        return isinstance(node, (exp.Column, exp.Dot)) and name_parts(node) is not None

    # --- values ------------------------------------------------------------------------------------------------

    def is_value(self, node: exp.Expr) -> bool:
        """Whether a node is a value that stands in the text."""
        return isinstance(node, exp.Placeholder) or literal_of(node) is not None

    def value(self, node: exp.Expr, types: frozenset[str] = frozenset()) -> Value:
        """A literal or parameter as it is sent to be compared with values of these types."""
        if isinstance(node, exp.Placeholder):
            if node.name not in self.parameters:
                raise self.refuse(
                    tr("The parameter :{node_name} has no value.", node_name=node.name),
                    node,
                    tr("Give it one beside the query."),
                )
            value = self.parameters[node.name]
        else:
            literal = literal_of(node)
            if literal is None:
                text = tr("{sql} is not a value.", sql=node.sql()[:40])
                raise self.refuse(text, node, tr("A field is compared with a value here."), NotPlain)
            value = literal.value
        if isinstance(value, Decimal):
            value = float(value)
        if type(value) is dt.date:
            value = dt.datetime.combine(value, dt.time())
        if isinstance(value, str) and types == {"time"}:
            return parse_time(value, with_time=True) or value
        return value

    def number(self, node: exp.Expr, word: str) -> int:
        """A whole number, as LIMIT takes it."""
        value = self.value(node) if self.is_value(node) else None
        if not isinstance(value, int) or isinstance(value, bool):
            raise self.refuse(tr("{word} takes a whole number.", word=word), node)
        return value
