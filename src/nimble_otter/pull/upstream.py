"""Moving steps upstream, into the query that the server runs, and a query's conditions down again as a local step; with
a comparison of the rows before and after."""

from __future__ import annotations

import datetime as dt
import difflib
import re
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.pull.model import Pull
from nimble_otter.pull.shaped import Shaped, columns_to_send
from nimble_otter.pull.steps import (
    ColumnsStep,
    ComputeStep,
    Condition,
    FilterStep,
    GroupStep,
    SortBy,
    SortStep,
    TopStep,
)
from nimble_otter.pull.translate import translator
from nimble_otter.query.assist.rewrite import lower_keywords
from nimble_otter.query.lazy import exp
from nimble_otter.query.local.conditions import parse_condition, parse_expression
from nimble_otter.query.parsed import parse_sql
from nimble_otter.query.sql.grammar import grammar_of
from nimble_otter.query.sql.scopes import Token, tokens_of
from nimble_otter.query.sql.statements import split_statements
from nimble_otter.sources.document_paths import can_be_asked
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Field, Kind, Table
from nimble_otter.table.ops.conditions import Node
from nimble_otter.table.ops.expressions import columns_in, compute
from nimble_otter.table.ops.group import AggregateFunction as Agg
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr
from nimble_otter.values import Value

_AGGREGATES = {
    Agg.COUNT: "count(*)", Agg.FILLED: "count({})", Agg.SUM: "sum({})", Agg.MEAN: "avg({})",
    Agg.MIN: "min({})", Agg.MAX: "max({})", Agg.DISTINCT: "count(distinct {})",
}  # fmt: skip
MOST_COMPARED = 500_000
_TIME = re.compile(r"(\d{4}-\d\d-\d\d[ T])?\d\d:\d\d(:\d\d(\.\d{1,6})?)?")


@dataclass(frozen=True, slots=True)
class Moved:
    """The pull with a step in its query (or a condition out of it), and why rows may differ between the two places."""

    pull: Pull
    notes: tuple[str, ...] = ()


def move_up(pull: Pull, at: int, table: Table, dialect: str, quoted: Callable[[str], str]) -> Moved:
    """The pull whose query does what step `at` did here. `table` are the rows fetched. Raises: ConditionError with what
    stands in the way."""
    step = pull.steps[at]
    before = [s for s in pull.steps[:at] if s.on]
    if before:
        raise ConditionError(tr("Steps before this one would come after it."), tr("Move those upstream first."))
    if not step.on:
        raise ConditionError(tr("The step is switched off."), tr("Switch it on first."))
    if odd := next((field.name for field in table.fields if not can_be_asked(field.origin)), ""):
        raise ConditionError(
            tr("{odd} has a dot in its name, which a query takes for a path.", odd=odd), tr("It stays a local step.")
        )
    text = _one(pull.query.text)
    notes: list[str] = []
    if isinstance(step, FilterStep):
        written = _filtered(text, step, table, dialect, quoted, notes)
    elif isinstance(step, SortStep):
        written = _sorted(text, step, table, dialect, quoted, notes)
    elif isinstance(step, ColumnsStep):
        names = [f.name for f in table.fields]
        wanted = [n for n in step.order if n in names]
        wanted += [] if step.only else [n for n in names if n not in wanted and n not in step.hidden]
        written = _chosen(text, [n for n in wanted if n not in step.hidden], table, dialect, quoted)
    elif isinstance(step, GroupStep):
        written = _grouped(text, step, table, dialect, quoted, notes)
    elif isinstance(step, TopStep):
        written = _topped(text, step, table, dialect, quoted, notes)
    elif isinstance(step, ComputeStep):
        written = _computed(text, step, table, dialect, quoted, notes)
    else:
        raise ConditionError(tr("This kind of step can't be moved upstream."), tr("It stays a local step."))
    steps = pull.without_step(at).steps
    return Moved(replace(pull, query=replace(pull.query, text=written), steps=steps), tuple(notes))


def _one(text: str) -> str:
    statements = split_statements(text)
    if len(statements) != 1:
        raise ConditionError(tr("The query is not one statement."), tr("Steps can be moved into a single SELECT only."))
    return statements[0].text


def _wrapped(text: str, columns: list[str], behind: str = "") -> str:
    inner = "\n".join(f"  {line}" for line in text.split("\n"))
    return f"select {', '.join(columns)}\nfrom (\n{inner}\n) as q{behind}"


# --- filters ---------------------------------------------------------------------------------------------------------


def _filtered(
    text: str, step: FilterStep, table: Table, dialect: str, quoted: Callable[[str], str], notes: list[str]
) -> str:
    conditions = [c for c in step.conditions if c.on]
    if not conditions:
        raise ConditionError(tr("The filter has no condition."), tr("Add one, or remove the step."))
    if any(condition.operator == "anywhere" for condition in conditions):
        raise ConditionError(
            tr("Looking into any column is done here only."), tr("Name the column to look into first.")
        )
    nodes = [condition.node(table) for condition in conditions]
    labels = _plain_labels(text, table, dialect)
    used = {place for node in nodes for place in columns_in(node) if place >= 0}
    names = {place: table.fields[place].name for place in used}
    if labels is not None and used and all(name.casefold() in labels for name in names.values()):
        inside = {place: _inner(labels[name.casefold()], dialect, text) for place, name in names.items()}
        return _with_where(text, _spelled(nodes, table, dialect, inside.__getitem__, notes))
    lines = _spelled(nodes, table, dialect, lambda place: quoted(table.fields[place].name), notes)
    return _wrapped(text, ["*"], f"\nwhere {_joined(lines)}")


def _spelled(
    nodes: Sequence[Node], table: Table, dialect: str, column: Callable[[int], str], notes: list[str]
) -> list[str]:
    speller = translator(table, dialect, column)
    lines = [speller.condition(node) for node in nodes]
    notes += speller.notes
    return lines


def _inner(expression: Any, dialect: str, text: str) -> str:
    """The expression behind a column of the query, as it stands inside another."""
    wording = lower_keywords(expression.sql(dialect=dialect or None), text)
    return wording if isinstance(expression, exp.Column) else f"({wording})"


def _computed(
    text: str, step: ComputeStep, table: Table, dialect: str, quoted: Callable[[str], str], notes: list[str]
) -> str:
    """The query with the columns worked out around it, so that each can name those of the query."""
    for computed in (c for c in step.columns if c.text):
        operand = parse_expression(computed.text, table)
        names = [quoted(field.name) for field in table.fields]
        speller = translator(table, dialect, names.__getitem__)
        text = _wrapped(text, ["q.*", f"{speller.operand(operand)} as {quoted(computed.label)}"])
        notes += speller.notes
        column = compute(operand, table, np.arange(table.rows))
        field = Field(computed.label, column.kind)
        table = Table((*table.fields, field), (*table.columns, column), table.rows)
    return text


def _chosen(text: str, names: list[str], table: Table, dialect: str, quoted: Callable[[str], str]) -> str:
    """Other columns for a query: in its own list, where they are plain, else around it."""
    labels = _plain_labels(text, table, dialect)
    if labels is None or any(name.casefold() not in labels for name in names):
        return _wrapped(text, [quoted(name) for name in names])
    columns = []
    for name in names:
        said = labels[name.casefold()].sql(dialect=dialect or None)
        columns.append(said if said.rpartition(".")[2].strip('"`') == name else f"{said} as {quoted(name)}")
    tokens = _outer(tokens_of(text))
    first = next(n for n, t in enumerate(tokens) if t.low == "select")
    end = next(t.start for t in tokens[first:] if t.low == "from")
    return f"{text[: tokens[first].end]} {', '.join(columns)}\n{text[end:]}"


def _plain_labels(text: str, table: Table, dialect: str) -> dict[str, Value] | None:
    """By label (folded) the expression behind each column, where a condition may simply be added to the query; None
    where it means something else before grouping, a limit, a union or a window."""
    parsed = parse_sql(text, dialect, ConditionError)
    no = ("group", "having", "distinct", "limit", "offset", "qualify", "windows")
    if not isinstance(parsed, exp.Select) or any(parsed.args.get(name) for name in no):
        return None
    if not (parsed.args.get("from_") or parsed.args.get("from")):
        return None
    if len(parsed.expressions) == 1 and isinstance(parsed.expressions[0], exp.Star) and not parsed.args.get("joins"):
        quote = [not f.name.isidentifier() or not f.name.islower() for f in table.fields]
        return {f.name.casefold(): exp.column(f.name, quoted=q) for f, q in zip(table.fields, quote, strict=True)}
    if grammar_of(dialect).knows_aliases_everywhere and any(isinstance(e, exp.Alias) for e in parsed.expressions):
        return None  # a name in a condition would mean what is called so, not the column
    found: dict[str, Any] = {}
    for item in parsed.expressions:
        if item.is_star or item.find(exp.Window, exp.AggFunc):
            return None
        found[item.alias_or_name.casefold()] = item.unalias()
    return found


def _joined(conditions: list[str]) -> str:
    return "\n  and ".join(f"({c})" if _has_or(c) else c for c in conditions)


def _has_or(text: str) -> bool:
    return any(t.low == "or" for t in _outer(tokens_of(text)))


def _outer(tokens: list[Token]) -> list[Token]:
    """The tokens outside all brackets."""
    results, depth = [], 0
    for token in tokens:
        depth -= token.text == ")"
        if depth == 0 and token.text not in ("(", ")"):
            results.append(token)
        depth += token.text == "("
    return results


def _with_where(text: str, conditions: list[str]) -> str:
    """The conditions added to a plain SELECT's text, which else stays as it is written."""
    tokens = _outer(tokens_of(text))
    where = next((t for t in tokens if t.low == "where"), None)
    end = next((t.start for t in tokens if t.low == "order" and (where is None or t.start > where.start)), len(text))
    head, tail = text[:end].rstrip(), text[end:]
    gap = "\n" if tail else ""
    if where is None:
        return f"{head}\nwhere {_joined(conditions)}{gap}{tail}"
    old = head[where.end :].strip()
    return f"{head[: where.end]} {_joined([old, *conditions])}{gap}{tail}"


# --- sorts, groups ---------------------------------------------------------------------------------------------------


def _order_said(
    wanted: Sequence[SortBy], table: Table, dialect: str, quoted: Callable[[str], str], notes: list[str]
) -> list[str]:
    """Keys of an order in the server's words, with the empties where they are here."""
    keys = []
    for key in wanted:
        index = table.index(key.column)
        field = table.fields[index]
        if key.order:
            raise ConditionError(
                tr("{column} is sorted in {order} order here only.", column=key.column, order=key.order),
                tr("Sort by code point first."),
            )
        own = translator(table, dialect, lambda at: quoted(table.fields[at].name))
        if field.kind is Kind.UUID and own.uuid_order_note:
            notes.append(f"{key.column} is {own.uuid_order_note}")
        keys.append(own.in_order_of(own.in_order(index), key.descending, key.empty_first))
    return keys


def _topped(
    text: str, step: TopStep, table: Table, dialect: str, quoted: Callable[[str], str], notes: list[str]
) -> str:
    """The first rows by a window's row number for each group, or by LIMIT of all of them."""
    if not step.keys:
        raise ConditionError(tr("Without a key the server may give any rows."), tr("Add a key to the Top step first."))
    notes.append(tr("Among rows with equal keys, the server decides which come first."))
    order = ", ".join(_order_said(step.keys, table, dialect, quoted, notes))
    if not step.per:
        return _wrapped(text, ["*"], f"\norder by {order}\nlimit {step.count}")
    per = [quoted(table.fields[table.index(name)].name) for name in step.per]
    mark = next(n for n in ("place", "place_", "place__") if n not in {f.name.casefold() for f in table.fields})
    number = f"row_number() over (partition by {', '.join(per)} order by {order}) as {mark}"
    inner = _wrapped(text, ["q.*", number])
    names = [quoted(f.name) for f in table.fields]
    first = ", ".join(_order_said([SortBy(n) for n in step.per], table, dialect, quoted, notes))
    return _wrapped(inner, names, f"\nwhere {mark} <= {step.count}\norder by {first}, {mark}")


def _sorted(
    text: str, step: SortStep, table: Table, dialect: str, quoted: Callable[[str], str], notes: list[str]
) -> str:
    if not step.keys:
        raise ConditionError(tr("The sort has no columns."), tr("Choose one in its drawer."))
    keys = _order_said(step.keys, table, dialect, quoted, notes)
    parsed = parse_sql(text, dialect, ConditionError)
    if parsed.args.get("limit") and not parsed.args.get("order"):
        notes.append(tr("The query has a limit without an order: which rows it gives may change."))
    plain_end = isinstance(parsed, exp.Query) and not any(parsed.args.get(n) for n in ("order", "limit", "offset"))
    labels = {item.alias_or_name for item in parsed.selects} if isinstance(parsed, exp.Select) else set()
    if plain_end and isinstance(parsed, exp.Select) and (parsed.is_star or all(k.column in labels for k in step.keys)):
        return f"{text.rstrip()}\norder by {', '.join(keys)}"
    return _wrapped(text, ["*"], f"\norder by {', '.join(keys)}")


def _grouped(
    text: str, step: GroupStep, table: Table, dialect: str, quoted: Callable[[str], str], notes: list[str]
) -> str:
    if not step.keys:
        raise ConditionError(tr("The group has no columns to group by."), tr("Choose one in its drawer."))
    speller = translator(table, dialect, lambda at: quoted(table.fields[at].name))
    columns, keys = [], []
    for key in step.keys:
        if key.part:
            raise ConditionError(
                tr("{key_title} is computed locally only.", key_title=key.title), tr("Compute it in the query first.")
            )
        name, exact = quoted(key.column), speller.in_group(table.index(key.column))
        columns.append(name if exact == name else f"{exact} as {name}")
        keys.append(name if grammar_of(dialect).knows_aliases_everywhere else exact)
    for figure in step.figures:
        form = _AGGREGATES.get(figure.figure)
        if form is None:
            word = figure.figure.value
            raise ConditionError(
                tr("The server's SQL has no {word} for every kind of server.", word=word),
                tr("Take {word} out first.", word=word),
            )
        of = speller.in_figure(table.index(figure.column), figure.figure.value) if figure.column else ""
        columns.append(f"{form.format(of)} as {quoted(figure.title)}")
    notes += speller.notes
    if len(step.keys) > 1:
        notes.append(tr("The groups come as plain rows of the deepest level."))
    notes.append(tr("The rows inside a group stay at the server."))
    return _wrapped(text, columns, f"\ngroup by {', '.join(keys)}")


# --- down again ------------------------------------------------------------------------------------------------------


def move_down(pull: Pull, table: Table, dialect: str) -> Moved:
    """The pull without its query's WHERE, whose conditions become a local filter. Raises: ConditionError, where they
    can't be worked out from the columns of the result."""
    text = _one(pull.query.text)
    parsed = parse_sql(text, dialect, ConditionError)
    where = parsed.args.get("where") if isinstance(parsed, exp.Select) else None
    if where is None or any(parsed.args.get(n) for n in ("group", "having", "distinct", "limit", "offset")):
        raise ConditionError(
            tr("The query has no condition that can be moved."), tr("It needs a WHERE, and no grouping.")
        )
    conditions = []
    for part in where.this.flatten() if isinstance(where.this, exp.And) else [where.this]:
        if part.find(exp.Placeholder, exp.Parameter):
            raise ConditionError(
                tr("A condition with a parameter stays in the query."), tr("Its value is asked for there.")
            )
        said = part.sql(dialect="postgres")
        for column in part.find_all(exp.Column):
            _find(table, column)
        copy = part.copy()
        for column in copy.find_all(exp.Column):
            field = table.fields[_find(table, column)]
            column.set("table", None)
            column.set("this", exp.to_identifier(field.name, quoted=not field.name.isidentifier()))
        said = copy.sql(dialect="postgres")
        parse_condition(said, table)
        conditions.append(Condition("sql", text=said))
    tokens = _outer(tokens_of(text))
    start = next(t for t in tokens if t.low == "where")
    end = next((t.start for t in tokens if t.low == "order" and t.start > start.start), len(text))
    written = text[: start.start].rstrip() + ("\n" + text[end:] if text[end:] else "")
    steps = (FilterStep(tuple(conditions)), *pull.steps)
    return Moved(replace(pull, query=replace(pull.query, text=written), steps=steps))


def _find(table: Table, column: Value) -> int:
    """The result's column that a query's column is. Raises: ConditionError."""
    for index, field in enumerate(table.fields):
        origin = field.origin.casefold()
        if origin.rpartition(".")[2] == column.name.casefold() or field.name.casefold() == column.name.casefold():
            return index
    raise ConditionError(
        tr("{sql} is not among the columns of the result.", sql=column.sql()), tr("Add it to the query's columns.")
    )


# --- proof -----------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Comparison:
    """How many rows are in one result only, and some of them as text."""

    before: int
    after: int
    only_before: int = 0
    only_after: int = 0
    examples: tuple[str, ...] = ()
    was_compared: bool = True

    @property
    def is_same(self) -> bool:
        """Whether the rows are the same."""
        return self.was_compared and not self.only_before and not self.only_after and self.before == self.after


def compare(before: Shaped, after: Shaped, stop: StopToken = NEVER) -> Comparison:
    """Compare the rows of two results as they would be sent, in any order. Results of more than MOST_COMPARED rows are
    only counted. Raises: Stopped."""
    counts = []
    sizes = []
    for shaped in (before, after):
        fields, columns, view = columns_to_send(shaped)
        sizes.append(len(view))
        if len(view) > MOST_COMPARED:
            return Comparison(before.rows, after.rows, was_compared=False)
        ids = view.row_ids()
        lists = []
        for _, column in sorted(zip(fields, columns, strict=True), key=lambda pair: pair[0].name.casefold()):
            stop.check()
            lists.append(list(map(_normal, column.values(ids))))
        counts.append(Counter(zip(*lists, strict=True)))
    gone, new = counts[0] - counts[1], counts[1] - counts[0]
    examples = [tr("only before: {values}", values=", ".join(map(str, row))) for row in list(gone)[:3]]
    examples += [tr("only after: {values}", values=", ".join(map(str, row))) for row in list(new)[:3]]
    return Comparison(sizes[0], sizes[1], gone.total(), new.total(), tuple(examples))


def _normal(value: object) -> Value:
    """Numbers by their value to 12 digits, as servers sum in another order, times by the moment (one that comes through
    a subquery is text in some of them), everything else as its exact text."""
    if value is None:
        return "∅"
    if isinstance(value, bool):
        return int(value)
    if isinstance(value, (int, float, Decimal)):
        return f"{float(value) + 0.0:.12g}"  # a zero with a minus is a zero
    if isinstance(value, dt.timedelta):
        return f"{value.total_seconds():.6f} s"
    text = plain(value)
    if isinstance(value, (dt.datetime, dt.time)) or (isinstance(value, str) and _TIME.fullmatch(value)):
        text = text.replace("T", " ")
        text = text.rstrip("0").rstrip(".") if "." in text else text
        text = text if text.count(":") != 1 else f"{text}:00"
    return text


def difference(before: str, after: str) -> list[tuple[str, str]]:
    """Lines of two texts as (mark, line): " " in both, "-" only before, "+" only after."""
    results = []
    for line in difflib.ndiff(before.split("\n"), after.split("\n")):
        if line[:1] != "?":
            results.append((line[:1], line[2:]))
    return results
