"""Where a value comes from: back through the steps that made it, to the columns and rows of the source."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.pull.course import Course
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps import (
    AppendStep,
    CompareStep,
    ComputeStep,
    GroupStep,
    JoinStep,
    PivotStep,
    Step,
    TransposeStep,
    UnpivotStep,
    find_column,
)
from nimble_otter.pull.steps.base import step_title
from nimble_otter.pull.steps.group import with_parts
from nimble_otter.pull.steps.join import needed
from nimble_otter.pull.tracing import Fate, Passage, row_words, value_words
from nimble_otter.query.local.conditions import parse_expression
from nimble_otter.query.pieces.model import QueryModel
from nimble_otter.stop import NEVER, StopToken
from nimble_otter.table import Table
from nimble_otter.table.core.columns import Ids
from nimble_otter.table.ops.combine import join_rows
from nimble_otter.table.ops.expressions import columns_in
from nimble_otter.table.ops.group import group_view
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr


@dataclass(slots=True)
class _Sought:
    """What is followed back: columns by their names, and the row ids that they are of."""

    names: list[str]
    rows: Ids

    def swap(self, name: str, others: list[str]) -> None:
        """Follow other columns in the place of one."""
        at = self.names.index(name)
        rest = [*self.names[:at], *self.names[at + 1 :]]
        self.names[at : at + 1] = [other for other in others if other not in rest]


def origin_of(
    course: Course, row: int, place: int, query: QueryModel | None = None, stop: StopToken = NEVER
) -> tuple[Passage, ...]:
    """The way back of a value at the end of the course: the row by its id (of groups: the number of the deepest group),
    the column by its place. The last passages are of the query, which `query` has in pieces. Raises: Stopped."""
    end = course.end
    name = end.table.fields[place].name
    at = len(course.results)
    passages = [
        Passage(
            at,
            tr("Result"),
            Fate.KEPT,
            tr("{name} is {value_words}", name=name, value_words=value_words(end.table, place, row)),
        )
    ]
    if end.grouped is None:
        sought = _Sought([name], np.array([row], np.int64))
    else:
        level = end.grouped.levels[-1]
        sought = _Sought([name], level.ids[level.codes == row])
    for number in range(len(course.results) - 1, -1, -1):
        stop.check()
        result = course.results[number]
        step = result.applied if result.applied is not None else result.step
        if not step.on or result.error is not None:
            continue
        text = _back(step, course.before(number), result.shaped, sought, stop)
        if text:
            passages.append(Passage(number, step.name or f"{step_title(step.kind)} {step.words()}", Fate.KEPT, text))
        if not sought.names:
            return tuple(passages)
    passages += [
        Passage(-1, tr("Query"), Fate.RETURNED, _asked(course.table, name, sought.rows, query)) for name in sought.names
    ]
    return tuple(passages)


def _back(step: Step, before: Shaped, after: Shaped, sought: _Sought, stop: StopToken) -> str:
    """What a step did to the values sought; they are then those before it. "" where it only let them pass."""
    if isinstance(step, ComputeStep):
        return _computed(step, before, sought)
    if isinstance(step, GroupStep):
        return _grouped(step, before, after, sought)
    if isinstance(step, PivotStep):
        return _pivoted(step, before, after, sought, stop)
    if isinstance(step, JoinStep):
        return _joined(step, before, after, sought, stop)
    if isinstance(step, AppendStep):
        count = len(before.flat())
        if len(sought.rows) and int(sought.rows[0]) >= count:
            row = int(sought.rows[0]) - count
            sought.names.clear()
            return tr("row {row} of {other}", row=grouped(row + 1), other=step.other)
        sought.rows = _ids(before, sought.rows)
        return ""
    if isinstance(step, UnpivotStep):
        count = max(1, len(step.columns))
        if (step.value or "value") in sought.names:
            sought.swap(step.value or "value", [step.columns[int(sought.rows[0]) % count]])
        sought.names = [name for name in sought.names if name != (step.label or "column")]
        sought.rows = _ids(before, np.unique(sought.rows // count))
        return tr("from the column {names}", names=sought.names[0]) if sought.names else tr("the name of a column")
    if isinstance(step, TransposeStep):
        sought.names.clear()
        return tr("a row there is a column here; what stands before it can't be followed")
    if isinstance(step, CompareStep):
        sought.names.clear()
        return tr("from the comparison with {other}", other=step.other)
    return ""


def _ids(before: Shaped, places: Ids) -> Ids:
    """The ids of rows by their places in the view that a step saw."""
    ids = before.flat().row_ids()
    if before.grouped is None:
        return ids.take(places)
    level = before.grouped.levels[-1]
    return level.ids[np.isin(level.codes, ids.take(places))]


def _computed(step: ComputeStep, before: Shaped, sought: _Sought) -> str:
    lines = []
    for number in range(len(step.columns) - 1, -1, -1):
        computed = step.columns[number]
        if computed.label not in sought.names:
            continue
        table = before.table
        try:
            names = [table.fields[p].name for p in sorted(columns_in(parse_expression(computed.text, table))) if p >= 0]
        except ConditionError:  # it names columns that were computed before it in the same step
            earlier = [c.label for c in step.columns[:number] if c.label in computed.text]
            names = earlier + [f.name for f in table.fields if f.name in computed.text]
        at = _row_of(before, sought.rows)
        values = [f"{name} {value_words(table, find_column(table, name), at)}" for name in names
                  if at >= 0 and any(f.name == name for f in table.fields)]  # fmt: skip
        lines.append(
            f"{computed.label} = {computed.text}" + (tr(", with {values}", values=", ".join(values)) if values else "")
        )
        sought.swap(computed.label, names)
    return "; ".join(lines)


def _row_of(shaped: Shaped, rows: Ids) -> int:
    """The row of a table whose values are told; -1 where there are several."""
    if shaped.grouped is not None:
        level = shaped.grouped.levels[-1]
        found = np.unique(level.codes[np.isin(level.ids, rows)])
        return int(found[0]) if len(found) == 1 else -1
    return int(rows[0]) if len(rows) == 1 else -1


def _grouped(step: GroupStep, before: Shaped, after: Shaped, sought: _Sought) -> str:
    assert after.grouped is not None
    leaves, keys = after.grouped.leaves, step.keys
    titles = [field.name for field in leaves.fields]
    group = ", ".join(
        f"{key.title} {value_words(leaves, n, _row_of(after, sought.rows))}" for n, key in enumerate(keys)
    )
    count, lines = len(sought.rows), []
    for name in list(sought.names):
        at = titles.index(name) if name in titles else -1
        if 0 <= at < len(keys):
            sought.swap(name, [keys[at].column])
            lines.append(
                tr("a key of the group: the {part} of {column}", part=keys[at].part, column=keys[at].column)
                if keys[at].part
                else tr("a key of the group")
            )
        elif at - len(keys) < len(step.figures) and at >= 0:
            figure = step.figures[at - len(keys)]
            words = figure.figure.value if figure.column else tr("count")
            lines.append(
                tr("{words} over the {count} rows of {group}", words=words, count=grouped(count), group=group or "all")
            )
            sought.swap(name, [figure.column] if figure.column else [])
    return "; ".join(lines)


def _pivoted(step: PivotStep, before: Shaped, after: Shaped, sought: _Sought, stop: StopToken) -> str:
    view = with_parts(before.flat(), (*step.keys, step.column))
    keys = [view.table.index(key.title) for key in step.keys]
    ids = view.row_ids()
    level = group_view(view, keys, (), stop).levels[-1] if keys else None
    own = ids if level is None else level.ids[np.isin(level.codes, sought.rows)]
    name = sought.names[0]
    if name in [key.title for key in step.keys]:
        sought.names, sought.rows = [next(k.column for k in step.keys if k.title == name)], _under(before, own)
        return tr("a key of the pivot")
    column = view.table.index(step.column.title)
    texts = np.array([value_words(view.table, column, int(i)) for i in own])
    sought.rows = _under(before, own[texts == name] if (texts == name).any() else own)
    sought.names = [step.figure.column] if step.figure.column else []
    return tr(
        "{figure_value} over {rows_count} rows whose {column_title} is {name}",
        figure_value=step.figure.figure.value,
        rows_count=grouped(len(sought.rows)),
        column_title=step.column.title,
        name=name,
    )


def _under(before: Shaped, ids: Ids) -> Ids:
    """The rows behind those that a step saw, which may have been groups."""
    if before.grouped is None:
        return ids
    level = before.grouped.levels[-1]
    return level.ids[np.isin(level.codes, ids)]


def _joined(step: JoinStep, before: Shaped, after: Shaped, sought: _Sought, stop: StopToken) -> str:
    right, here = needed(step.other, step.rows), before.as_shown().table
    met = join_rows(before.as_shown(), right, step.places(before), step.how, stop)
    rows, mine = sought.rows, [field.name for field in here.fields]
    theirs = met.there_ids.take(rows)
    own = [name for name in sought.names if name in mine]
    foreign = [name for name in sought.names if name not in mine]
    text = ""
    if foreign and len(theirs) and int(theirs[0]) >= 0:
        text = tr(
            "{foreign} from {other}: {row_words}",
            foreign=", ".join(foreign),
            other=step.other,
            row_words=row_words(right, int(theirs[0]), 3),
        )
    elif foreign:
        text = tr("no row of {other} matches it: {foreign} is NULL", other=step.other, foreign=", ".join(foreign))
    kept = met.here_ids.take(rows)
    sought.names, sought.rows = own, _under(before, kept[kept >= 0])
    if own and not len(sought.rows):
        sought.names = []
        text = text or tr("a row of {other} that matches no row here", other=step.other)
    return text


def _asked(table: Table, name: str, rows: Ids, query: QueryModel | None) -> str:
    """What the query says of a column, and of which rows it is."""
    field = table.fields[table.index(name)] if any(f.name == name for f in table.fields) else None
    item = (
        next((each for each in query.items if (each.label or each.column) == name), None) if query is not None else None
    )
    if field is not None and field.origin:
        text = field.origin
    elif item is not None:
        text = tr("computed by the query: {split}", split=" ".join(item.said.split()))
    else:
        text = name
    if len(rows) == 1:
        return tr("{text}, of the row {row_words}", text=text, row_words=row_words(table, int(rows[0]), 3))
    return tr("{text}, of {rows_count} rows", text=text, rows_count=grouped(len(rows)))
