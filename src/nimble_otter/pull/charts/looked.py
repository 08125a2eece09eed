"""The rows that a chart looks at: their columns as places, names and panels brought down to what can be told apart."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.pull.charts.data import Drawn, Series, labels_of
from nimble_otter.pull.charts.model import Chart, ChartKind, Up
from nimble_otter.pull.charts.places import (
    CATEGORY,
    NUMBER,
    TIME,
    Axis,
    Floats,
    day_of_part,
    kind_of,
    parts_between,
    places_of,
)
from nimble_otter.pull.shaped import Shaped
from nimble_otter.pull.steps.base import find_column
from nimble_otter.pull.steps.group import KeyBy, with_parts
from nimble_otter.stop import StopToken
from nimble_otter.table import Field, Kind, Table, View
from nimble_otter.table.core.columns import CodedText, Column, Ids
from nimble_otter.table.kernels.codes import codes_of
from nimble_otter.table.ops.group import group_view
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr

MOST_NAMES, MOST_PANELS, MOST_CATEGORIES = 12, 24, 2000
OTHER = "other"


class Looked:
    """What a chart's marks are made from; `notes` gathers what is not drawn."""

    def __init__(self, shaped: Shaped, chart: Chart, stop: StopToken) -> None:
        self.chart, self.stop = chart, stop
        self.shaped = shaped
        view = shaped.flat()
        looked = Table(
            tuple(shaped.field(n) for n in range(len(view.table.fields))), view.table.columns, view.table.rows
        )
        self.view = View(looked, view.ids)
        self.notes: list[str] = []
        self._orders: dict[str, list[str]] = {}
        """Names of keys that were brought down to some and \"other\", in their order."""

    def shorten(self) -> None:
        """Bring names, panels and categories down to what can be told apart: the rest is "other"."""
        chart, view = self.chart, self.view
        keys = [key for key in (chart.along, chart.by, chart.panels) if key.column]
        self.view = view = with_parts(view, keys)
        if chart.panels.column:
            self.limit(chart.panels, MOST_PANELS)
        if chart.by.column and chart.kind is not ChartKind.HEAT and not self.is_shade():
            self.limit(chart.by, MOST_NAMES)
        if chart.top and chart.kind in (ChartKind.BARS, ChartKind.BOX, ChartKind.HEAT) and chart.up[0].figure:
            groups = group_view(self.view, [self.place(chart.along)], [chart.up[0].figure_of.measure(self.view.table)],
                               self.stop)  # fmt: skip
            column, count = groups.leaves.columns[1], groups.leaves.rows
            if count > chart.top:
                ranks = places_of(column, groups.leaves.fields[1], np.arange(count))
                order = np.argsort(np.where(np.isnan(ranks), np.inf, -ranks), kind="stable")
                self.recode(chart.along, groups.levels[0].codes, order[: chart.top], groups.leaves.columns[0])

    def limit(self, key: KeyBy, most: int) -> None:
        """Keep the most frequent values of a key."""
        groups = group_view(self.view, [self.place(key)], [], self.stop)
        counts = groups.levels[0].counts
        if len(counts) > most:
            order = np.argsort(-counts, kind="stable")[: most - 1]
            self.recode(key, groups.levels[0].codes, np.sort(order), groups.leaves.columns[0])
            self.notes.append(f"{grouped(len(counts) - most + 1)} values of {key.title} stand as “{OTHER}”")

    def recode(self, key: KeyBy, codes: Ids, kept: Ids, values: Column) -> None:
        """Put texts in the place of a key's column: the values kept, and "other"."""
        index, table = self.place(key), self.view.table
        words = labels_of(values, table.fields[index], kept)
        new = np.full(len(values), len(kept), np.int32)
        new[kept] = np.arange(len(kept), dtype=np.int32)
        data = np.zeros(table.rows, np.int32)
        data[self.view.row_ids()] = new.take(codes)
        texts = tuple(dict.fromkeys([*words, OTHER]))
        number = np.array([texts.index(word) for word in (*words, OTHER)], np.int32)
        column = CodedText(Kind.TEXT, number.take(data), words=texts)
        fields = (*table.fields[:index], Field(key.title, Kind.TEXT), *table.fields[index + 1 :])
        columns = (*table.columns[:index], column, *table.columns[index + 1 :])
        self.view = View(Table(fields, columns, table.rows), self.view.ids)
        self._orders[key.title] = [*words, OTHER]

    def place(self, key: KeyBy) -> int:
        """Where the column of a key is. Raises: ConditionError."""
        return find_column(self.view.table, key.title)

    def is_shade(self) -> bool:
        """Whether the colour of a scatter is that of a number rather than of names."""
        if self.chart.kind is not ChartKind.SCATTER or not self.chart.by.column:
            return False
        own = self.view.table.fields[find_column(self.view.table, self.chart.by.column)]
        return not self.chart.by.part and kind_of(own) in (NUMBER, TIME)

    def field(self, name: str) -> tuple[Field, Column]:
        """A column by its name. Raises: ConditionError."""
        index = find_column(self.view.table, name)
        return self.view.table.fields[index], self.view.table.columns[index]

    def coded(self, key: KeyBy, ids: Ids) -> tuple[Ids, list[str]]:
        """The number of each row's value, and what the values are called; one name where there is no key."""
        if not key.column:
            return np.zeros(len(ids), np.int64), [""]
        index = self.place(key)
        codes, first = codes_of(self.view.table.columns[index], ids, self.stop)
        names = labels_of(self.view.table.columns[index], self.view.table.fields[index], ids.take(first))
        return self.last_is_other(key, codes, names)

    def last_is_other(self, key: KeyBy, codes: Ids, names: list[str]) -> tuple[Ids, list[str]]:
        """Numbers and names of a key's values with "other" behind all, where there is one."""
        wanted = self._orders.get(key.title)
        if wanted is None:
            return codes, names
        order = sorted(range(len(names)), key=lambda n: wanted.index(names[n]) if names[n] in wanted else len(wanted))
        new = np.empty(len(names), np.int64)
        new[order] = np.arange(len(names))
        return new.take(codes), [names[n] for n in order]

    def title(self, name: str) -> str:
        """What the header of a column says."""
        index = find_column(self.shaped.table, name)
        return self.shaped.title(index)

    def numbers(self, up: Up) -> tuple[Field, Column]:
        """The column of what stands up. Raises: ConditionError where its values have no height."""
        own, column = self.field(up.column)
        if kind_of(own) == CATEGORY:
            raise ConditionError(
                tr("{column} holds {kind_value}, which has no height.", column=up.column, kind_value=own.kind.value),
                tr("Choose an aggregate of it."),
            )
        return own, column

    def clean(self, values: Floats, name: str, empty: int = 0) -> Floats:
        """Values without infinities, which are told; so are values that are no number, where `empty` rows have none."""
        endless = np.isinf(values)
        if endless.any():
            values = np.where(endless, np.nan, values)
            self.notes.append(f"{grouped(int(endless.sum()))} infinite of {name} left out")
        odd = int(np.isnan(values).sum()) - int(endless.sum()) - empty
        if odd > 0:
            self.notes.append(f"{grouped(odd)} NaN of {name} left out")
        return values

    @staticmethod
    def empty(column: Column, ids: Ids) -> int:
        """How many of the rows have no value."""
        return int(column.empty_at(ids).sum()) if column.empty is not None else 0

    def tell_missing(self, count: int, name: str) -> None:
        """Tell of rows that have no place."""
        if count:
            self.notes.append(f"{grouped(count)} without {name}")

    def told(self, up: Up) -> tuple[tuple[Field, Column], ...]:
        """The columns that name a mark of a row."""
        chart, table = self.chart, self.view.table
        columns = tuple(zip(table.fields, table.columns, strict=True))
        names = [chart.panels.column, chart.by.column, chart.along.column, up.column, chart.size]
        found = {own.name: (own, column) for own, column in reversed(columns)}
        return tuple(found[name] for name in dict.fromkeys(filter(None, names)) if name in found)

    def name(self, up: Up, by: str, number: int, place: int) -> tuple[str, int]:
        """What a series is called, and the place of its colour."""
        if not self.chart.by.column or self.is_shade():
            return up.title if len(self.chart.up) > 1 else "", number
        if len(self.chart.up) == 1:
            return by, place
        return f"{by}, {up.title}", place + 100 * number

    @staticmethod
    def check_count(count: int, name: str) -> None:
        """Raises: ConditionError for more categories than can be told apart."""
        if count > MOST_CATEGORIES:
            raise ConditionError(
                tr("{count} values of {name} are too many to tell apart.", count=grouped(count), name=name),
                tr("Choose a part of them, the top of them, or a histogram."),
            )

    def along_title(self) -> str:
        """What stands under the axis along the bottom."""
        key = self.chart.along
        return f"{self.title(key.column)} by {key.part}" if key.part else self.title(key.column)

    def codes_in(self, leaves: Table, key: KeyBy, place: int) -> tuple[Ids, list[str]]:
        """Which value of a key each group has, and their names."""
        if not key.column:
            return np.zeros(leaves.rows, np.int64), [""]
        every = np.arange(leaves.rows)
        codes, first = codes_of(leaves.columns[place], every, self.stop)
        names = labels_of(leaves.columns[place], leaves.fields[place], first)
        return self.last_is_other(key, codes, names)

    def along(self, leaves: Table, place: int, kind: str, codes: Ids) -> tuple[Floats, list[str]]:
        """Where each group stands along the bottom; with names where these are categories."""
        chart, own, column = self.chart, leaves.fields[place], leaves.columns[place]
        part, every = chart.along.part, np.arange(leaves.rows)
        is_measured = chart.kind in (ChartKind.LINE, ChartKind.AREA) and kind != CATEGORY
        if is_measured and own.kind.is_moment | own.is_amount | (own.kind is Kind.CLOCK) and part != "year":
            return self.clean(places_of(column, own, every), own.name, self.empty(column, every)), []
        if is_measured:
            days = {value: day_of_part(str(value), part) for value in set(column.values())}
            return np.array([days[value] for value in column.values()], np.float64), []
        number, first = codes_of(column, every, self.stop)
        self.check_count(len(first), own.name)
        labels = labels_of(column, own, first)
        number, labels = self.last_is_other(chart.along, number, labels)
        if part and chart.order == "along" and len(labels) > 1 and chart.kind is not ChartKind.HEAT:
            named = [label for label in labels if label != "NULL"]
            whole = parts_between(named[0], named[-1], part) if named else []
            if len(whole) > len(named):
                whole += ["NULL"] if "NULL" in labels else []
                number = np.array([whole.index(label) for label in labels], np.int64).take(number)
                labels = whole
        return number.astype(np.float64), labels

    def reordered(self, x: Floats, labels: list[str], heights: Floats, codes: Ids) -> tuple[Floats, list[str]]:
        """Categories in the order of what stands up there, or as the rows come; "other" last."""
        at = x.astype(np.int64)
        if self.chart.order == "rows":
            first = np.full(len(labels), len(codes), np.int64)
            np.minimum.at(first, at.take(codes), np.arange(len(codes)))
            order = np.argsort(first, kind="stable")
        else:
            order = by_value(np.bincount(at, np.nan_to_num(heights), len(labels)).astype(np.float64), self.chart.order)
        if OTHER in labels and self.chart.top:
            last = labels.index(OTHER)
            order = np.append(order[order != last], last)
        new = np.empty(len(labels), np.int64)
        new[order] = np.arange(len(labels))
        return new.take(at).astype(np.float64), [labels[n] for n in order.tolist()]

    def stacked(self, x: Floats, panels: Ids, codes: Ids, heights: list[Floats]) -> list[Floats] | None:
        """Where each mark begins when series stand on each other; heights become the ends of the marks."""
        chart = self.chart
        if not chart.kind.stacks or chart.stack == "beside":
            return None
        if any(each.second for each in chart.up):
            raise ConditionError(tr("What stands on each other has one axis."), tr("Take the second axis off."))
        spots, where = np.unique(np.stack([panels.astype(np.float64), np.nan_to_num(x, nan=-1e300)]), axis=1,
                                 return_inverse=True)  # fmt: skip
        where = where.ravel()
        values = [np.nan_to_num(each) for each in heights]
        if any((each < 0).any() for each in values) and chart.stack == "share":
            raise ConditionError(tr("Values below 0 have no share of a whole."), tr("Choose stacked, or beside."))
        if chart.stack == "share":
            whole = sum(np.bincount(where, each, spots.shape[1]) for each in values)
            assert isinstance(whole, np.ndarray)
            values = [np.divide(100 * each, whole.take(where), out=np.zeros(len(each)), where=whole.take(where) != 0)
                      for each in values]  # fmt: skip
        up, down = np.zeros(spots.shape[1]), np.zeros(spots.shape[1])
        bases = []
        for number, each in enumerate(values):
            base = np.zeros(len(each))
            for code in range(int(codes.max(initial=0)) + 1):
                mine = np.flatnonzero(codes == code)
                own, at = each.take(mine), where.take(mine)
                base[mine] = np.where(own < 0, down.take(at), up.take(at))
                np.add.at(up, at, np.maximum(own, 0))
                np.add.at(down, at, np.minimum(own, 0))
            bases.append(base)
            heights[number] = base + each
        return bases

    def made(
        self, x: Axis, series: list[Series], panels: list[str], names: list[str], shade: Axis | None = None
    ) -> Drawn:
        """The chart of these series."""
        chart = self.chart
        if not chart.by.column or self.is_shade():
            names = [up.title for up in chart.up] or [""]
        left = [up for up in chart.up if not up.second] or list(chart.up)
        right = [up for up in chart.up if up.second]
        share = chart.stack == "share" and chart.kind.stacks
        y = Axis(NUMBER, chart.y_title or ("% of all" if share else self.up_title(left)), field=self.up_field(left))
        second = Axis(NUMBER, chart.second_title or self.up_title(right), field=self.up_field(right)) if right else None
        if chart.kind is ChartKind.HISTOGRAM:
            y = Axis(NUMBER, chart.y_title or ("% of all" if share else "rows"))
        if not any(len(each.x) for each in series):
            self.notes.append("nothing to draw")
        return Drawn(
            chart, x, y, second, tuple(series), tuple(panels), tuple(names), len(self.view), self.view.table.rows,
            tuple(dict.fromkeys(self.notes)), shade=shade,
        )  # fmt: skip

    def up_title(self, ups: Sequence[Up]) -> str:
        """What stands beside an axis."""
        if not ups:
            return ""
        if len({up.column for up in ups}) > 1:
            return ", ".join(dict.fromkeys(up.title for up in ups))
        up = ups[0]
        title = self.title(up.column) if up.column else "rows"
        figures = dict.fromkeys(up.figure_of.title.removeprefix(up.column).strip() if up.figure else "" for up in ups)
        return f"{title} {', '.join(filter(None, figures))}".strip() if up.column else "rows"

    def up_field(self, ups: Sequence[Up]) -> Field | None:
        """The column whose form the numbers of an axis have."""
        if not ups or not ups[0].column:
            return None
        own = self.field(ups[0].column)[0]
        return own if not ups[0].figure or kind_of(own) == NUMBER else None


def by_value(values: Floats, order: str) -> Ids:
    """The order by what stands up, largest or smallest first."""
    ranks = np.where(np.isnan(values), np.inf, -values if order == "largest" else values)
    return np.argsort(ranks, kind="stable")
