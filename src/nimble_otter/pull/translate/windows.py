"""Window functions as a server's SQL."""

from __future__ import annotations

import datetime as dt
from typing import ClassVar

from nimble_otter.pull.translate.values import Values
from nimble_otter.query.local.meaning import MOMENTS
from nimble_otter.table.core.columns import Kind
from nimble_otter.table.ops.conditions import Literal, Operand, Windowed
from nimble_otter.translation import tr
from nimble_otter.values import Value


class Windows(Values):
    """`has_defaults`: lag and lead take a third argument; `has_spread`: standard deviations over rows; `has_distances`:
    frames by distances and groups; `has_times`: windows over times and intervals."""

    has_defaults: ClassVar[bool] = True
    has_spread: ClassVar[bool] = True
    has_distances: ClassVar[bool] = True
    has_times: ClassVar[bool] = False

    def in_order_of(self, text: str, descending: bool, empty_first: bool) -> str:
        """A key of an order, with the empties where they are here."""
        return f"{text}{' desc' if descending else ''} nulls {'first' if empty_first else 'last'}"

    def _averaged(self, text: str, kind: Kind | None) -> str:
        """What a mean is taken of."""
        return text

    def _windowed(self, node: Windowed) -> str:
        has_default = node.name in ("lag", "lead") and len(node.args) > 2
        if node.distinct or node.skips_empty or node.name == "median" or (has_default and not self.has_defaults):
            raise self._refuse(tr("{node_name} so", node_name=node.name))
        name, args = node.name, [self._number(a) for a in node.args]
        kind = self._kind(node.args[0]) if node.args else None
        if name == "count" and isinstance(node.args[0] if node.args else Literal(1), Literal):
            args = ["*"]
        if name == "avg":
            args[0] = self._averaged(args[0], kind)
        if name in ("min", "max") and kind is Kind.TEXT:
            args[0] = self._exact(node.args[0], "<")
        if name.startswith(("std", "var")):
            if not self.has_spread:
                raise self._refuse(tr("{name} over rows", name=name))
            name = {"stddev": "stddev_samp", "variance": "var_samp"}.get(name, name)
        if not self.has_times and any(self._kind(a) in (*MOMENTS, Kind.SPAN) for a in node.args):
            raise self._refuse(tr("{name} of times", name=name))
        over = []
        if node.per:
            over.append("partition by " + ", ".join(self._exact(p) if self._kind(p) is Kind.TEXT else self._number(p)
                                                    for p in node.per))  # fmt: skip
        if node.by:
            over.append("order by " + ", ".join(self._key(*key) for key in node.by))
        frame = self._frame(node)
        return f"{name}({', '.join(args)}) over ({' '.join([*over, *([frame] if frame else [])])})"

    def _key(self, operand: Operand, descending: bool, empty_first: bool) -> str:
        text = self._exact(operand, "<") if self._kind(operand) is Kind.TEXT else self._number(operand)
        return self.in_order_of(text, descending, empty_first)

    def _frame(self, node: Windowed) -> str:
        frame = node.frame
        if (frame.unit, frame.start, frame.end) == ("range", None, 0):
            return ""
        if not self.has_distances and (frame.unit == "groups" or (frame.unit == "range" and node.by)):
            raise self._refuse(tr("A frame by distance"))
        if any(isinstance(end, dt.timedelta) for end in (frame.start, frame.end)) and not self.has_times:
            raise self._refuse(tr("A frame by an interval"))
        ends = [self._end(frame.start, "preceding"), self._end(frame.end, "following")]
        return f"{frame.unit} between {ends[0]} and {ends[1]}"

    def _end(self, size: Value, open_side: str) -> str:
        if size is None:
            return f"unbounded {open_side}"
        if not size:
            return "current row"
        is_before = size < (dt.timedelta() if isinstance(size, dt.timedelta) else 0)
        return f"{self._literal(abs(size))} {'preceding' if is_before else 'following'}"
