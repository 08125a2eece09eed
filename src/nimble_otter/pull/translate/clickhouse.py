"""ClickHouse (documentation, "SQL Reference", of 24.8 and later): whole numbers wrap, functions of texts are by bytes
unless they say otherwise, and an alias is known everywhere in its SELECT."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from decimal import Decimal

from nimble_otter.pull.translate.conditions import micros
from nimble_otter.pull.translate.forms import form_signs
from nimble_otter.pull.translate.spans import EngineTranslator
from nimble_otter.pull.translate.values import FUNCTIONS_OF_DOUBLES
from nimble_otter.query.local.meaning import MOMENTS
from nimble_otter.sources.dialects.clickhouse import CLICKHOUSE
from nimble_otter.table.core.columns import Kind
from nimble_otter.table.ops.conditions import Among, Call, ColumnAt, Literal, Operand
from nimble_otter.translation import tr

DIGITS_NOTE = tr("ClickHouse computes quotients, products and means of decimals as doubles.")
_PARTS = {
    "year": "toYear({0})", "quarter": "toQuarter({0})", "month": "toMonth({0})", "day": "toDayOfMonth({0})",
    "hour": "toHour({0})", "minute": "toMinute({0})", "week": "toISOWeek({0})", "dow": "(toDayOfWeek({0}) % 7)",
    "isodow": "toDayOfWeek({0})", "doy": "toDayOfYear({0})", "decade": "intDiv(toYear({0}), 10)",
    "century": "intDiv(toYear({0}) + 99, 100)", "millennium": "intDiv(toYear({0}) + 999, 1000)",
    "isoyear": "toISOYear({0})",
}  # fmt: skip
_FORMS = {"YYYY": "%Y", "MM": "%m", "DD": "%d", "HH24": "%H", "MI": "%i", "SS": "%S"}
_BEGINNINGS = {
    "year": ("1", "1", ""), "quarter": ("toQuarter({0}) * 3 - 2", "1", ""), "month": ("toMonth({0})", "1", ""),
    "day": ("toMonth({0})", "toDayOfMonth({0})", ""), "hour": ("toMonth({0})", "toDayOfMonth({0})", "h"),
    "minute": ("toMonth({0})", "toDayOfMonth({0})", "hm"), "second": ("toMonth({0})", "toDayOfMonth({0})", "hms"),
}  # fmt: skip
"""Month, day and what is kept of the time of day: its own functions give dates of a smaller range."""


class ClickhouseTranslator(EngineTranslator):
    """How steps are written in ClickHouse's SQL."""

    server = "ClickHouse"
    dialect = CLICKHOUSE
    simple = {
        "abs": "abs({0})", "sign": "sign({0})", "neg": "-{0}", "lower": "lowerUTF8({0})", "upper": "upperUTF8({0})",
        "length": "lengthUTF8({0})", "replace": "replaceAll({0}, {1}, {2})", "reverse": "reverseUTF8({0})",
        "left": "leftUTF8({0}, {1})", "right": "rightUTF8({0}, {1})", "lpad": "leftPadUTF8({0}, {1}, {2})",
        "rpad": "rightPadUTF8({0}, {1}, {2})", "repeat": "repeat({0}, {1})",
        "starts_with": "toBool(startsWith({0}, {1}))",
        "position": "positionUTF8({0}, {1})", "days": "dateDiff('day', {1}, {0})",
    }  # fmt: skip
    text_type = "Nullable(String)"
    texts_of = (Kind.INT, Kind.DATE)
    single_types = ("FLOAT32",)
    has_distances = False
    stopping_functions = FUNCTIONS_OF_DOUBLES

    def _literal(self, value: object) -> str:
        return CLICKHOUSE.literal(value, None) if isinstance(value, Decimal) else super()._literal(value)

    def _double(self, value: float) -> str:
        super()._double(value)
        return CLICKHOUSE.literal(value, None)

    def _single(self, text: str) -> str:
        return f"toFloat64(toString({text}))"

    def _averaged(self, text: str, kind: Kind | None) -> str:
        if kind is Kind.DECIMAL:
            self._note(DIGITS_NOTE)
        return self._as_double(text)  # a sum of whole numbers would wrap

    def _summed(self, text: str, kind: Kind | None) -> str:
        return f"toInt128({text})" if kind is Kind.INT else text

    # --- arithmetic ----------------------------------------------------------------------------------------------

    def _whole(self, call: Call, texts: list[str]) -> list[str]:
        return [f"toInt64({texts[0]})", texts[1]]

    def _divided(self, sign: str, kinds: list[Kind | None], texts: list[str]) -> str:
        if kinds == [Kind.INT, Kind.INT]:
            return f"intDiv({texts[0]}, {texts[1]})" if sign == "/" else f"({texts[0]} % {texts[1]})"
        if sign == "%":
            raise self._refuse(tr("The remainder of such numbers"))
        if Kind.DECIMAL in kinds:
            self._note(DIGITS_NOTE)
        return f"({self._as_double(texts[0])} / {self._as_double(texts[1])})"

    def _signed(self, call: Call) -> str:
        kinds = [self._kind(a) for a in call.args]
        if Kind.DECIMAL in kinds and call.name in "+-*":
            if Kind.FLOAT in kinds:
                raise self._refuse(tr("Arithmetic of decimals with doubles"))
            left, right = (f"toDecimal256({self._number(a)}, {self._scale(a)})" for a in call.args)
            return f"({left} {call.name} {right})"
        return super()._signed(call)

    def _as_double(self, text: str) -> str:
        return f"toFloat64({text})"

    def _scale(self, operand: Operand) -> int:
        """Digits behind the point of a decimal, or of none."""
        if isinstance(operand, Literal) and isinstance(operand.value, Decimal):
            return max(0, -int(operand.value.as_tuple().exponent))
        if self._kind(operand) is Kind.INT:
            return 0
        if isinstance(operand, ColumnAt):
            column = self._table.columns[operand.index]
            if column.kind is Kind.DECIMAL:
                return column.scale
        raise self._refuse(tr("Arithmetic with such decimals"))

    def _days_between(self, later: str, earlier: str) -> str:
        return f"dateDiff('day', {earlier}, {later})"

    def _day_moved(self, day: str, sign: str, count: str) -> str:
        return f"addDays({day}, {'-' if sign == '-' else ''}toInt64({count}))"

    def _as_moment(self, operand: Operand) -> str:
        """A time whose parts are those that it has here, whatever the server's own zone."""
        text, kind = self._atom(operand), self._kind(operand)
        if kind is Kind.DATE:
            return f"toDateTime64({text}, 6, 'UTC')"
        return f"toTimeZone({text}, 'UTC')" if kind is Kind.ZONED else text

    def _shifted(self, operand: Operand, form: str) -> str:
        """A moment moved as `form` says; one without a zone as if there were no clock changes, as here."""
        kind = self._kind(operand)
        if kind is Kind.ZONED:
            return form.format(self._atom(operand))
        text = self._as_moment(operand)
        text = text if kind is Kind.DATE else f"toDateTime64(toString({text}), 6, 'UTC')"
        return f"toDateTime64(toString({form.format(text)}), 6)"

    def _moment_moved(self, moment: Operand, sign: str, span: dt.timedelta) -> str:
        return self._shifted(moment, f"({{}} {sign} {self._interval(span)})")

    def _interval(self, value: dt.timedelta) -> str:
        return f"toIntervalMicrosecond({micros(value)})"

    def _do_moved(self, call: Call) -> str:
        return self._shifted(call.args[0], f"addMonths({{}}, {getattr(call.args[1], 'value', 0)})")

    def _rounded(self, text: str, kind: Kind | None, digits: int | None) -> str:
        if kind is not Kind.FLOAT:
            raise self._refuse(tr("Rounding such numbers"))
        if digits is not None:
            raise self._refuse(tr("Rounding doubles to digits"))
        return f"round({text})"

    def _cut(self, text: str, kind: Kind | None, digits: int) -> str:
        if digits:
            raise self._refuse(tr("Cutting such numbers"))
        return f"trunc({text})"

    # --- texts ---------------------------------------------------------------------------------------------------

    def _trimmed(self, call: Call) -> str:
        text, chars = self._part(call.args[0]), call.args[1] if len(call.args) > 1 else Literal(" ")
        side = {"trim": "both", "ltrim": "leading", "rtrim": "trailing"}[call.name]
        if not isinstance(chars, Literal):
            raise self._refuse(tr("{call_name}() of signs that differ by row", call_name=call.name))
        return f"trim({side} {self._atom(chars)} from {text})"

    def _do_substring(self, call: Call) -> str:
        return super()._do_substring(call).replace("substring(", "substringUTF8(", 1)

    def _do_concat_ws(self, call: Call) -> str:
        raise self._refuse("concat_ws()")

    def _first_letters(self, text: str, count: object) -> str:
        return f"leftUTF8({text}, {count})"

    # --- choices -------------------------------------------------------------------------------------------------

    def _choose_among(self, *kinds: Kind | None) -> None:
        some = {kind for kind in kinds if kind is not None}
        if len(some) > 1:
            raise self._refuse(tr("A choice among values of several kinds"))

    # --- times and casts -----------------------------------------------------------------------------------------

    def _extracted(self, part: str, of: Operand, kind: Kind | None) -> str:
        if part not in _PARTS or kind not in MOMENTS:
            return super()._extracted(part, of, kind)
        return _PARTS[part].format(self._as_moment(of))

    def _begun(self, unit: str, of: Operand) -> str:
        kind = self._kind(of)
        if kind not in MOMENTS or (unit not in _BEGINNINGS and unit != "week"):
            return super()._begun(unit, of)
        text = self._as_moment(of)
        month, day, clock = _BEGINNINGS["day" if unit == "week" else unit]
        kept = [f"to{word}({text})" if sign in clock else "0"
                for sign, word in (("h", "Hour"), ("m", "Minute"), ("s", "Second"))]  # fmt: skip
        zone = ", 'UTC'" if kind is Kind.ZONED else ""
        parts = [f"toYear({text})", month.format(text), day.format(text), *kept, "0", "6"]
        begin = f"makeDateTime64({', '.join(parts)}{zone})"
        return f"addDays({begin}, 1 - toDayOfWeek({text}))" if unit == "week" else begin

    def _formed(self, of: Operand, form: str) -> str:
        signs = form_signs(form, _FORMS)
        if signs is None or self._kind(of) not in MOMENTS:
            return super()._formed(of, form)
        return f"formatDateTime({self._as_moment(of)}, {self._text(signs)})"

    # --- conditions ----------------------------------------------------------------------------------------------

    def _times_compared(self, op: str, left: Operand, right: Operand) -> str:
        kinds = {self._kind(left), self._kind(right)} & set(MOMENTS)
        if Kind.ZONED in kinds and len(kinds) > 1:
            raise self._refuse(tr("Comparing times with a zone and without"))
        return super()._times_compared(op, left, right)

    def _moment(self, operand: Operand, other: Operand) -> str:
        is_typed = isinstance(operand, Literal) and isinstance(operand.value, str)
        if not is_typed or self._kind(other) is not Kind.ZONED:
            return super()._moment(operand, other)
        moment = dt.datetime.fromisoformat(str(getattr(operand, "value", "")).strip())
        return self._literal(moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC))

    def _among(self, node: Among) -> str:
        if self._kind(node.operand) is Kind.FLOAT:  # beside which a list may hold doubles only
            node = replace(node, values=tuple(None if v is None else float(v) for v in node.values))
        known = [v for v in node.values if v is not None]
        if len(known) == len(node.values) or not known:
            return super()._among(node)
        return f"({super()._among(replace(node, values=tuple(known)))} or null)"

    def _matched(self, text: str, pattern: list[tuple[str, bool]], ignore_case: bool) -> str:
        told = "".join(p if is_wild or p not in "%_\\" else f"\\{p}" for p, is_wild in pattern)
        return f"{text} {'ilike' if ignore_case else 'like'} {self._text(told)}"

    def _found(self, text: str, pattern: str, ignore_case: bool) -> str:
        return f"match({text}, {self._text(('(?i)' if ignore_case else '') + pattern)})"
