"""What hangs on a table, asked of the server itself inside the transaction that writes: the catalogue read when the
source was opened may be older, and knows one database alone.

One function a server; each gets `ask(text, values)`, which runs a query on the connection that writes.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from nimble_otter.sources.catalogue import EntryKind, ForeignKey, TableInfo
from nimble_otter.sources.reflect import label_of, read_unique

if TYPE_CHECKING:
    from sqlalchemy import Inspector

Ask = Callable[[str, tuple[Any, ...]], list[tuple[Any, ...]]]
_HARMLESS = ("", "restrict", "no action")
_EVENTS = {"insert": 4, "delete": 8, "update": 16}
"""Bits of `pg_trigger.tgtype` (PostgreSQL sources, catalog/pg_trigger.h)."""
_ACTIONS = {"a": "", "r": "", "c": "cascade", "n": "set null", "d": "set default"}
"""Of `pg_constraint.confdeltype` and `confupdtype` (PostgreSQL documentation, 53.13)."""


@dataclass(frozen=True, slots=True)
class Fact:
    """A column as it is now. `generated` is "" or computed; `is_always`: the server numbers it and takes a value only
    where it is told to; `changes`: an update that does not name it may change it."""

    name: str
    declared: str = ""
    generated: str = ""
    is_always: bool = False
    changes: bool = False


@dataclass(frozen=True, slots=True)
class TableFacts:
    """`referring` are foreign keys by which rows elsewhere change or go with a row of this table. `triggers` maps
    insert, update and delete to the names of what the server runs then. `uniques` are the sets of columns that are
    unique, keys included. `has_policies`: rows may be hidden from this user, or kept from being written."""

    columns: tuple[Fact, ...] = ()
    referring: tuple[ForeignKey, ...] = ()
    triggers: dict[str, tuple[str, ...]] = field(default_factory=dict)
    uniques: tuple[tuple[str, ...], ...] = ()
    has_policies: bool = False

    def column(self, name: str) -> Fact | None:
        """What is known of a column; None where it has none of that name."""
        return next((c for c in self.columns if c.name.casefold() == name.casefold()), None)

    @property
    def may_change_more(self) -> bool:
        """Whether an update may change columns that it does not name."""
        return bool(self.triggers.get("update")) or any(c.changes or c.generated for c in self.columns)


def of_postgresql(ask: Ask, schema: str | None, name: str, default: str | None) -> TableFacts:
    """From the system catalogues, which hold every schema (PostgreSQL documentation, chapter 53)."""
    results = ask(
        "select c.oid::bigint, c.relrowsecurity and not (c.relowner = u.oid and not c.relforcerowsecurity) "
        "and not u.rolsuper and not u.rolbypassrls from pg_class c join pg_namespace n on n.oid = c.relnamespace "
        "join pg_roles u on u.rolname = current_user "
        "where n.nspname = coalesce(%s, current_schema()) and c.relname = %s",
        (schema, name),
    )
    if not results:
        return TableFacts()
    number, has_policies = results[0]
    columns = ask(
        "select attname, format_type(atttypid, atttypmod), attgenerated::text, attidentity::text from pg_attribute "
        "where attrelid = %s::oid and attnum > 0 and not attisdropped order by attnum",
        (number,),
    )
    family = "(select %s::oid union select relid from pg_partition_ancestors(%s::oid) union select relid from "
    family += "pg_partition_tree(%s::oid))"
    names = (
        "(select array_agg(a.attname::text order by u.n) from unnest({}) with ordinality u(number, n) "
        "join pg_attribute a on a.attrelid = {} and a.attnum = u.number)"
    )
    links = ask(
        "select n.nspname, c.relname, k.confdeltype::text, k.confupdtype::text, "
        f"{names.format('k.conkey', 'k.conrelid')}, {names.format('k.confkey', 'k.confrelid')} "
        "from pg_constraint k join pg_class c on c.oid = k.conrelid join pg_namespace n on n.oid = c.relnamespace "
        f"where k.contype = 'f' and k.conparentid = 0 and k.confrelid in {family}",
        (number,) * 3,
    )
    triggers = ask(
        "select tgname, tgtype::int from pg_trigger where not tgisinternal and tgenabled <> 'D' "
        f"and tgrelid in {family} union all select rulename, case ev_type when '2' then 16 when '3' then 4 when '4' "
        "then 8 else 0 end from pg_rewrite where rulename <> '_RETURN' and ev_class = %s::oid",
        (number,) * 4,
    )
    uniques = ask(
        "select (select array_agg(a.attname::text order by k.n) from unnest(i.indkey) with ordinality k(number, n) "
        "join pg_attribute a on a.attrelid = i.indrelid and a.attnum = k.number where k.n <= i.indnkeyatts) "
        "from pg_index i where i.indrelid = %s::oid and i.indisunique and i.indexprs is null and i.indpred is null",
        (number,),
    )
    label = label_of(schema, name, default)
    return TableFacts(
        tuple(Fact(n, kind, "computed" if made else "", identity == "a") for n, kind, made, identity in columns),
        tuple(
            ForeignKey(label_of(s, t, default), tuple(own), label, tuple(theirs), _ACTIONS[delete], _ACTIONS[update], s)
            for s, t, delete, update, own, theirs in links
        ),
        {event: tuple(n for n, bits in triggers if bits & bit) for event, bit in _EVENTS.items()},
        tuple(tuple(names) for (names,) in uniques if names),
        bool(has_policies),
    )


def of_mariadb(ask: Ask, schema: str | None, name: str, default: str | None) -> TableFacts:
    """From the information schema, over all databases that this user may see (MariaDB documentation)."""
    here = (schema, name)
    columns = ask(
        "select column_name, column_type, lower(extra) from information_schema.columns "
        "where table_schema = coalesce(%s, database()) and table_name = %s order by ordinal_position",
        here,
    )
    parts = ask(
        "select k.constraint_schema, k.constraint_name, k.table_schema, k.table_name, k.column_name, "
        "k.referenced_column_name from information_schema.key_column_usage k where k.referenced_table_schema = "
        "coalesce(%s, database()) and k.referenced_table_name = %s order by k.ordinal_position",
        here,
    )
    rules = {
        (own, constraint, table): (_rule(delete), _rule(update))
        for own, constraint, table, delete, update in ask(
            "select constraint_schema, constraint_name, table_name, delete_rule, update_rule "
            "from information_schema.referential_constraints where unique_constraint_schema = coalesce(%s, database()) "
            "and referenced_table_name = %s",
            here,
        )
    }
    label, links = label_of(schema, name, default), dict[tuple[str, str, str, str], list[tuple[str, str]]]()
    for own, constraint, table_schema, table, column, referred in parts:
        links.setdefault((own, constraint, table_schema, table), []).append((column, referred))
    triggers = ask(
        "select trigger_name, lower(event_manipulation) from information_schema.triggers "
        "where event_object_schema = coalesce(%s, database()) and event_object_table = %s",
        here,
    )
    indexes: dict[str, list[str | None]] = {}
    for index, column in ask(
        "select index_name, column_name from information_schema.statistics where non_unique = 0 and table_schema = "
        "coalesce(%s, database()) and table_name = %s order by index_name, seq_in_index",
        here,
    ):
        indexes.setdefault(index, []).append(column)
    return TableFacts(
        tuple(
            Fact(n, kind, "computed" if "generated" in extra else "", changes="on update" in extra)
            for n, kind, extra in columns
        ),
        tuple(
            ForeignKey(
                label_of(table_schema, table, default), tuple(c for c, _ in pairs), label,
                tuple(r for _, r in pairs), *rules.get((own, constraint, table), ("", "")), table_schema,
            )
            for (own, constraint, table_schema, table), pairs in links.items()
        ),
        {event: tuple(n for n, done in triggers if done == event) for event in _EVENTS},
        tuple(tuple(c for c in names if c is not None) for names in indexes.values() if None not in names),
    )  # fmt: skip


def of_sqlite(ask: Ask, schema: str | None, name: str, default: str | None) -> TableFacts:
    """From the file's own tables (https://sqlite.org/pragma.html)."""
    columns = ask("select name, type, hidden, pk from pragma_table_xinfo(?)", (name,))
    keys = tuple(n for n, *_, key in sorted(columns, key=lambda c: c[3]) if key)
    links: dict[tuple[str, int], list[tuple[str, str | None, str, str]]] = {}
    for table, number, column, to, delete, update in ask(
        'select m.name, f.id, f."from", f."to", f.on_delete, f.on_update from sqlite_master m '
        "join pragma_foreign_key_list(m.name) f on lower(f.\"table\") = lower(?) where m.type = 'table' "
        "order by m.name, f.id, f.seq",
        (name,),
    ):
        links.setdefault((table, number), []).append((column, to, _rule(delete), _rule(update)))
    triggers: dict[str, list[str]] = {}
    for own, text in ask("select name, sql from sqlite_master where type = 'trigger' and tbl_name = ? collate nocase",
                         (name,)):  # fmt: skip
        if event := re.search(r"\b(delete|insert|update)\b(?:\s+of\b[^;]*?)?\s+on\b", text or "", re.I | re.S):
            triggers.setdefault(event[1].lower(), []).append(own)
    uniques = [keys] if keys else []
    for index, is_unique, is_partial in ask('select name, "unique", partial from pragma_index_list(?)', (name,)):
        names = [column for (column,) in ask("select name from pragma_index_info(?) order by seqno", (index,))]
        if is_unique and not is_partial and None not in names and tuple(names) not in uniques:
            uniques.append(tuple(names))

    def referred(number: int, name: str | None) -> str:
        return name or (keys[number] if number < len(keys) else "rowid")

    return TableFacts(
        tuple(Fact(n, kind, "computed" if hidden in (2, 3) else "") for n, kind, hidden, _ in columns if hidden != 1),
        tuple(
            ForeignKey(
                table, tuple(part[0] for part in parts), name, tuple(referred(n, p[1]) for n, p in enumerate(parts)),
                *parts[0][2:],
            )
            for (table, _), parts in links.items()
        ),
        {event: tuple(names) for event, names in triggers.items()},
        tuple(uniques),
    )  # fmt: skip


def of_inspector(inspector: Inspector, schema: str | None, name: str, default: str | None) -> TableFacts:
    """What SQLAlchemy's inspector tells of the tables of one schema; triggers and policies it does not know."""
    from sqlalchemy.exc import SQLAlchemyError

    label, links = label_of(schema, name, default), list[ForeignKey]()
    table = TableInfo(label, EntryKind.TABLE, schema=schema or "")
    own: list[tuple[str, ...]] = []
    try:
        columns = inspector.get_columns(name, schema)
        for (_, other), infos in inspector.get_multi_foreign_keys(schema).items():
            for info in infos:
                if info["referred_table"] == name and (info.get("referred_schema") or schema) == schema:
                    options = info.get("options") or {}
                    links.append(
                        ForeignKey(
                            label_of(schema, other, default), tuple(info["constrained_columns"]), label,
                            tuple(info["referred_columns"]), _rule(str(options.get("ondelete") or "")),
                            _rule(str(options.get("onupdate") or "")), schema or "",
                        )
                    )  # fmt: skip
        if key := inspector.get_pk_constraint(name, schema).get("constrained_columns"):
            own.append(tuple(key))
        own += [names for names in read_unique(inspector, table, schema) if names not in own]
    except (SQLAlchemyError, NotImplementedError):
        return TableFacts()
    found = tuple(Fact(c["name"], str(c["type"]), "computed" if c.get("computed") else "") for c in columns)
    return TableFacts(found, tuple(links), {}, tuple(own))


def _rule(said: str) -> str:
    return "" if said.lower() in _HARMLESS else said.lower()
