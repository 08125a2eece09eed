"""SELECT over collections as the document server's own request: a find, or an aggregation pipeline.

Rows on their way through a pipeline are documents. With one source in FROM a row is that source's document; with
several it is a document with one field an alias. Names are looked up by `document_names`, conditions become filters
where they can (`document_filters`) and expressions elsewhere (`document_expressions`).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

from nimble_otter.errors import QueryError
from nimble_otter.query.documents.names import Reading, Types
from nimble_otter.query.documents.request import Built, DocumentRequest, distinct, paged
from nimble_otter.query.documents.select import SelectStages
from nimble_otter.query.lazy import exp, sqlglot
from nimble_otter.query.parsed import parse_sql
from nimble_otter.translation import tr
from nimble_otter.values import Value

TypesOf = Callable[[str], Types]


def translate_select(
    text: str, types_of: TypesOf | None = None, parameters: Mapping[str, object] | None = None
) -> DocumentRequest:
    """Translate one SELECT (or several joined by UNION). `types_of` tells the kinds of values seen at the paths of a
    collection ("time", "text", ...): a text compared with a field of times is sent as a time. Raises: QueryError with
    its place."""
    # a document server sorts empties first, and last when descending
    dialect = sqlglot.Dialect.get_or_raise("postgres")
    dialect.NULL_ORDERING = "nulls_are_small"
    parsed = parse_sql(text, dialect, QueryError)
    if not isinstance(parsed, (exp.Select, exp.SetOperation)):
        raise QueryError(
            tr("Collections can only be queried with SELECT."), tr("Write it like select * from report where ...")
        )
    translator = Translator(text, types_of or (lambda collection: {}), parameters or {})
    built = translator.query(parsed, {}, is_top=True)
    read = tuple(dict.fromkeys(translator.collections))
    if built.find is not None:
        return replace(built.find, collections=read)
    return DocumentRequest(built.collection, {}, None, (), None, tuple(built.stages), built.columns, read)


class Translator:
    """Expressions of SQL as expressions of the document server."""

    def __init__(self, text: str, types_of: TypesOf, parameters: Mapping[str, object]) -> None:
        self.base = Reading(text, parameters)
        self.types_of = types_of
        self.collections: list[str] = []

    def query(
        self, node: exp.Expr, outer: Mapping[str, Value], fields: Sequence[str] = (), is_top: bool = False
    ) -> Built:
        """A SELECT or UNION. `outer` are the common table expressions in scope; `fields` what the columns must be
        called, of the second part of a UNION; only the whole request (`is_top`) can be a find."""
        ctes = dict(outer)
        clause = node.args.get("with_") or node.args.get("with")
        if clause is not None:
            if clause.args.get("recursive"):
                raise self.base.refuse("Recursive queries are not supported for collections.")
            ctes.update((cte.alias, cte.this) for cte in clause.expressions)
        if isinstance(node, exp.Subquery):
            return self.query(node.this, ctes, fields)
        if isinstance(node, exp.SetOperation):
            return self._union(node, ctes, fields)
        return SelectStages(self.base, self.source, node, ctes, fields).build(is_top)

    def _union(self, node: exp.Expr, ctes: Mapping[str, object], fields: Sequence[str]) -> Built:
        if not isinstance(node, exp.Union):
            raise self.base.refuse(f"{node.key.upper()} is not supported for collections.", None, "UNION is supported.")
        first = self.query(node.this, ctes, fields)
        names = [name for _, name in first.columns]
        second = self.query(node.expression, ctes, names)
        if len(first.columns) != len(second.columns):
            raise self.base.refuse(
                "Both parts of a UNION must have as many columns.", None, "Write the columns of each."
            )
        stages = [*first.stages, {"$unionWith": {"coll": second.collection, "pipeline": second.stages}}]
        if node.args.get("distinct"):  # a missing value and null are the same
            filled = {name: {"$ifNull": [f"${name}", None]} for name in names}
            stages += [{"$project": {"_id": 0} | filled}, *distinct()]
        keys = node.args.get("order")
        sort: dict[str, int] = {}
        for key in keys.expressions if keys is not None else ():
            sort[self._of_union(key.this, first.columns)] = -1 if key.args.get("desc") else 1
        stages += [{"$sort": sort}] if sort else []
        stages += paged(self.base, node)
        return Built(first.collection, stages, first.columns, first.types)

    def _of_union(self, node: exp.Expr, columns: Sequence[tuple[str, str]]) -> str:
        if isinstance(node, exp.Literal) and not node.is_string and 0 < int(node.name) <= len(columns):
            return columns[int(node.name) - 1][1]
        text = next((name for label, name in columns if label == node.name), None)
        if text is None:
            raise self.base.refuse(
                f"{node.sql()[:40]} is not a column of the UNION.", node, "Order by a column's name."
            )
        return text

    def source(self, node: exp.Expr, ctes: Mapping[str, Value]) -> Built:
        """What one of FROM gives: a collection, a common table expression or a query in brackets."""
        if isinstance(node, exp.Subquery):
            return self.query(node.this, ctes)
        if not isinstance(node, exp.Table) or not isinstance(node.this, exp.Identifier):
            raise self.base.refuse(tr("FROM must name a collection."), node)
        if node.name in ctes and not node.db:
            earlier = dict(ctes)
            inner = earlier.pop(node.name)
            return self.query(inner, earlier)
        self.collections.append(node.name)
        return Built(node.name, [], (), self.types_of(node.name))
