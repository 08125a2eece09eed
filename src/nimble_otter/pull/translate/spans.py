"""Times and intervals on servers that take an interval only where it stands in the text; literals of engines whose
dialect writes values."""

from __future__ import annotations

import datetime as dt
from typing import ClassVar

from nimble_otter.pull.translate.conditions import Translator
from nimble_otter.query.local.meaning import MOMENTS
from nimble_otter.sources.dialects import Dialect
from nimble_otter.table.core.columns import Kind
from nimble_otter.table.ops.conditions import Call, Literal, Operand
from nimble_otter.translation import tr


class WrittenSpans(Translator):
    """How such a server writes a day so many days on, a moment that takes an interval, and the interval."""

    def _times_joined(self, call: Call, kinds: list[Kind | None]) -> str:
        if None in kinds:
            return super()._times_joined(call, kinds)
        sign, (left, right) = call.name, call.args
        a, b = self._atom(left), self._atom(right)
        if kinds == [Kind.DATE, Kind.DATE]:
            return self._days_between(a, b)
        if Kind.DATE in kinds and Kind.INT in kinds:
            day, count = (a, b) if kinds[0] is Kind.DATE else (b, a)
            return self._day_moved(day, sign, count)
        span = next((o for o in (left, right) if isinstance(o, Literal) and isinstance(o.value, dt.timedelta)), None)
        moment = left if span is right else right
        if span is None or self._kind(moment) not in MOMENTS:
            raise self._refuse(tr("Arithmetic with intervals"))
        return self._moment_moved(moment, sign, span.value)

    def _moment_moved(self, moment: Operand, sign: str, span: dt.timedelta) -> str:
        return f"({self._as_moment(moment)} {sign} {self._interval(span)})"

    def _days_between(self, later: str, earlier: str) -> str:
        return f"datediff({later}, {earlier})"

    def _day_moved(self, day: str, sign: str, count: str) -> str:
        raise NotImplementedError

    def _as_moment(self, operand: Operand) -> str:
        raise NotImplementedError

    def _interval(self, value: dt.timedelta) -> str:
        raise NotImplementedError


class EngineTranslator(WrittenSpans):
    """Literals as the engine's dialect writes them."""

    dialect: ClassVar[Dialect]

    def _text(self, value: str) -> str:
        return self.dialect.text_literal(value.encode()).decode()

    def _literal(self, value: object) -> str:
        if isinstance(value, int) and not isinstance(value, bool) and not -(1 << 63) <= value < 1 << 63:
            raise self._refuse(tr("A whole number beyond 64 bits"))
        return super()._literal(value)

    def _time(self, value: object) -> str:
        if isinstance(value, dt.timedelta):
            return self._interval(value)
        if isinstance(value, dt.time):
            raise self._refuse(tr("A time of day"))
        return self.dialect.literal(value, None)
