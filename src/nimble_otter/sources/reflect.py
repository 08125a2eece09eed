"""Reading a relational catalogue through SQLAlchemy's inspector, a schema at a time, in bulk."""

from __future__ import annotations

import re
import warnings
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

from nimble_otter.sources.catalogue import ColumnInfo, Definition, EntryKind, ForeignKey, TableInfo
from nimble_otter.values import Value

if TYPE_CHECKING:
    from sqlalchemy import Engine, Inspector

_WORDS = [
    (re.compile(r"^ENUM", re.I), "text"),  # whatever its values are
    (re.compile(r"^(?:STRUCT<|(?:MAP|TUPLE|NESTED)[<(]|VARIANT|DYNAMIC)", re.I), "nested"),
    (re.compile(r"\[\]|ARRAY", re.I), "list"),
    (re.compile(r"BLOB|BINARY|BYTEA|IMAGE", re.I), "binary"),
    (re.compile(r"JSON(?!PATH)|HSTORE|XML", re.I), "nested"),
    (re.compile(r"INTERVAL|RANGE|POINT|GEOM", re.I), "text"),
    (re.compile(r"DATE.*TIME|TIMESTAMP|DATETIME", re.I), "time"),
    (re.compile(r"DATE", re.I), "date"),
    (re.compile(r"BOOL", re.I), "yes/no"),
    (re.compile(r"INT|REAL|FLOA|DOUB|NUM|DEC|SERIAL|MONEY|YEAR", re.I), "number"),
    (re.compile(r"^UUID", re.I), "uuid"),
    (re.compile(r"CHAR|CLOB|TEXT|ENUM|SET|INET|CIDR|TIME", re.I), "text"),
]


@dataclass(frozen=True, slots=True)
class Written:
    """What reflection changes or misses of a column: its type as it was written (None: as reflected), what generates
    it, whether texts that differ may count as equal, whether * leaves it out, and its exact type (see ColumnInfo)."""

    declared: str | None = None
    generated: str = ""
    folds: bool = False
    is_hidden: bool = False
    exact: str = ""


Declared = Callable[[str | None, Sequence[str] | None], Mapping[str, Mapping[str, Written]]]
"""By table and column, what a dialect changes or misses; of a schema's tables, or of some of them."""


def word_of(declared: str) -> str:
    """The plain word for a declared type."""
    return next((word for pattern, word in _WORDS if pattern.search(declared)), "any" if not declared else "text")


def label_of(schema: str | None, name: str, default: str | None) -> str:
    """What queries call a table: with its schema where that is not the default one."""
    return name if not schema or schema == default else f"{schema}.{name}"


def read_tables(
    inspector: Inspector,
    schemas: Sequence[str | None],
    default: str | None,
    names: Sequence[str] | None = None,
    declared: Declared | None = None,
) -> list[TableInfo]:
    """Tables, views and materialized views of some schemas, or only those in `names`, with columns, keys and foreign
    keys. `declared` gives what the dialect changes or misses."""
    from sqlalchemy.engine.reflection import ObjectKind
    from sqlalchemy.exc import SAWarning

    results = []
    for schema in schemas:
        own: dict[str, Any] = {"schema": schema, "kind": ObjectKind.ANY}
        if names is not None:
            own["filter_names"] = list(names)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", SAWarning)  # of types that the dialect does not know: they are any
            columns: dict[Any, Any] = inspector.get_multi_columns(**own)
            keys: dict[Any, Any] = inspector.get_multi_pk_constraint(**own)
            foreign: dict[Any, Any] = inspector.get_multi_foreign_keys(**own)
        if inspector.dialect.identifier_preparer.initial_quote == "`":
            columns, keys, foreign = (_unquoted(made) for made in (columns, keys, foreign))
        views = set(inspector.get_view_names(schema))
        stored = set(_quietly(partial(inspector.get_materialized_view_names, schema)))
        more = declared(schema, names) if declared is not None else {}
        for (_, name), infos in columns.items():
            label = label_of(schema, name, default)
            links = _foreign(label, foreign.get((schema, name)) or [], schema, default)
            key = (keys.get((schema, name)) or {}).get("constrained_columns") or []
            written = more.get(name, {})
            made = tuple(_column(info, key, links, written.get(info["name"])) for info in infos)
            kind = EntryKind.VIEW if name in views else EntryKind.TABLE
            kind = EntryKind.MATERIALIZED_VIEW if name in stored else kind
            results.append(TableInfo(label, kind, made, schema=label[: -len(name) - 1], foreign=links))
    return results


def _unquoted(found: object) -> Value:
    """Names as they are: reflection leaves a backtick doubled as it stands in the definition."""
    if isinstance(found, dict):
        return {_unquoted(key): _unquoted(value) for key, value in found.items()}
    if isinstance(found, (list, tuple)):
        return type(found)(map(_unquoted, found))
    return found.replace("``", "`") if isinstance(found, str) else found


def _foreign(label: str, infos: list[Value], schema: str | None, default: str | None) -> tuple[ForeignKey, ...]:
    return tuple(
        ForeignKey(
            label,
            tuple(info["constrained_columns"]),
            label_of(info.get("referred_schema") or schema, info["referred_table"], default),
            tuple(info["referred_columns"] or info["constrained_columns"]),
            _on_delete(info),
        )
        for info in infos
    )


def _on_delete(info: Value) -> str:
    text = str((info.get("options") or {}).get("ondelete") or "").lower()
    return "" if text in ("restrict", "no action") else text


def read_unique(inspector: Inspector, table: TableInfo, schema: str | None) -> tuple[tuple[str, ...], ...]:
    """Sets of columns of a table that are unique, beside its primary key."""
    results = [u["column_names"] for u in _quietly(lambda: inspector.get_unique_constraints(table.bare, schema))]
    for index in _quietly(lambda: inspector.get_indexes(table.bare, schema)):
        is_partial = any(
            key.endswith("_where") and value for key, value in (index.get("dialect_options") or {}).items()
        )
        if index["unique"] and not index.get("expressions") and not is_partial:
            results.append(index["column_names"])
    return tuple(dict.fromkeys(tuple(names) for names in results if names and None not in names))


def read_checks(inspector: Inspector, table: TableInfo, schema: str | None) -> tuple[str, ...]:
    """Conditions that each row of a table must hold, as the server writes them."""
    results = _quietly(lambda: inspector.get_check_constraints(table.bare, schema))
    return tuple(str(check["sqltext"]) for check in results if check.get("sqltext"))


def _column(info: Value, key: list[str], links: tuple[ForeignKey, ...], written: Written | None) -> ColumnInfo:
    name, written = info["name"], written or Written()
    declared = _type_text(info["type"]) if written.declared is None else written.declared
    refers = next(
        (f"{link.target}.{link.referred[link.columns.index(name)]}" for link in links if name in link.columns), ""
    )
    generated = (info.get("computed") or {}).get("sqltext", "") or ("identity" if info.get("identity") else "")
    if not generated and info.get("autoincrement") is True:
        generated = "identity"
    return ColumnInfo(
        name, declared, word_of(declared), key.index(name) + 1 if name in key else 0, refers, bool(info["nullable"]),
        str(info.get("default") or ""), generated or written.generated, info.get("comment") or "",
        written.folds, tuple(getattr(info["type"], "enums", ())), bool((info.get("identity") or {}).get("always")),
        written.is_hidden, written.exact,
    )  # fmt: skip


def _type_text(kind: Value) -> str:
    from sqlalchemy.exc import SQLAlchemyError

    try:
        text = str(kind)
    except (SQLAlchemyError, NotImplementedError):
        return type(kind).__name__
    if getattr(kind, "fsp", None) and "(" not in text:  # digits after the second, which the text leaves out
        text += f"({kind.fsp})"
    return re.sub(r' COLLATE "?\w+"?', "", text) + (" UNSIGNED" if getattr(kind, "unsigned", False) else "")


def describe(inspector: Inspector, engine: Engine, name: str, schema: str | None, kind: str) -> Definition:
    """Constraints, indexes, comment, and the definition as this dialect would write it."""
    constraints: list[tuple[str, str]] = []
    if kind == EntryKind.TABLE:
        key = _quietly(lambda: [inspector.get_pk_constraint(name, schema)])
        for info in key:
            if info["constrained_columns"]:
                constraints.append((info.get("name") or "", f"primary key ({', '.join(info['constrained_columns'])})"))
        for info in _quietly(lambda: inspector.get_foreign_keys(name, schema)):
            options = " ".join(f"{k} {v}" for k, v in (info.get("options") or {}).items() if isinstance(v, str)).lower()
            text = f"({', '.join(info['constrained_columns'])}) refers to {info['referred_table']}"
            text += f" ({', '.join(info['referred_columns'])}) {options}"
            constraints.append((info.get("name") or "", text.strip()))
        for info in _quietly(lambda: inspector.get_unique_constraints(name, schema)):
            constraints.append((info.get("name") or "", f"unique ({', '.join(info['column_names'])})"))
        for info in _quietly(lambda: inspector.get_check_constraints(name, schema)):
            constraints.append((info.get("name") or "", f"check ({info['sqltext']})"))
    indexes = []
    for index in _quietly(lambda: inspector.get_indexes(name, schema)):
        columns: list[Any] = index.get("expressions") or index["column_names"]
        listed = ", ".join(str(c) for c in columns if c)
        indexes.append((index.get("name") or "", f"{'unique ' if index['unique'] else ''}({listed})"))
    comment = _quietly(lambda: [inspector.get_table_comment(name, schema)])
    return Definition(
        definition_text(inspector, engine, name, schema, kind), tuple(constraints), tuple(indexes),
        (comment[0].get("text") if comment else "") or "",
    )  # fmt: skip


def definition_text(inspector: Inspector, engine: Engine, name: str, schema: str | None, kind: str) -> str:
    """CREATE TABLE with its indexes, or a view's query, by the dialect's own compiler."""
    from sqlalchemy import MetaData, Table
    from sqlalchemy.exc import SAWarning, SQLAlchemyError
    from sqlalchemy.schema import CreateIndex, CreateTable

    if kind != EntryKind.TABLE:
        return next(iter(_quietly(lambda: [inspector.get_view_definition(name, schema)])), "") or ""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", SAWarning)
            table = Table(name, MetaData(), schema=schema, autoload_with=engine, resolve_fks=False)
        texts = [str(CreateTable(table).compile(engine)).strip()]
        texts += [str(CreateIndex(index).compile(engine)).strip() for index in table.indexes]
    except SQLAlchemyError:
        return ""
    return ";\n\n".join(texts) + ";"


def _quietly(work: Callable[[], list[Value]]) -> list[Value]:
    """What a dialect can tell; nothing where it can't."""
    from sqlalchemy.exc import SAWarning, SQLAlchemyError

    with warnings.catch_warnings():
        warnings.simplefilter("ignore", SAWarning)
        try:
            return list(work())
        except (NotImplementedError, SQLAlchemyError):
            return []
