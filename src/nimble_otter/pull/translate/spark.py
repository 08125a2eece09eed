"""Spark SQL (SQL reference of version 4.0, ANSI mode): texts are compared byte by byte, whole numbers divide to
doubles, decimals have 38 digits at most."""

from __future__ import annotations

import datetime as dt

from nimble_otter.pull.translate.conditions import escaped, micros
from nimble_otter.pull.translate.forms import form_signs
from nimble_otter.pull.translate.spans import EngineTranslator
from nimble_otter.pull.translate.values import FUNCTIONS_OF_DOUBLES, SIMPLE
from nimble_otter.query.local.meaning import MOMENTS, NUMBERS
from nimble_otter.sources.dialects.spark import SPARK
from nimble_otter.table.core.columns import Field, Kind
from nimble_otter.table.ops.conditions import Call, Literal, Operand
from nimble_otter.translation import tr

DIGITS_NOTE = tr("Spark keeps fewer digits of a quotient or a mean of decimals.")
_PARTS = {
    "year": "year({0})", "quarter": "quarter({0})", "month": "month({0})", "day": "day({0})", "hour": "hour({0})",
    "minute": "minute({0})", "week": "weekofyear({0})", "dow": "(dayofweek({0}) - 1)",
    "isodow": "(weekday({0}) + 1)", "doy": "dayofyear({0})", "decade": "(year({0}) div 10)",
    "century": "((year({0}) + 99) div 100)", "millennium": "((year({0}) + 999) div 1000)",
    "isoyear": "extract(yearofweek from {0})", "second": "extract(second from {0})",
}  # fmt: skip
_UNITS = ("year", "quarter", "month", "week", "day", "hour", "minute", "second")
_FORMS = {"YYYY": "yyyy", "MM": "MM", "DD": "dd", "HH24": "HH", "MI": "mm", "SS": "ss"}


class SparkTranslator(EngineTranslator):
    """How steps are written in Spark SQL."""

    server = "Spark"
    dialect = SPARK
    simple = {
        **SIMPLE, "reverse": "reverse({0})", "left": "left({0}, {1})", "right": "right({0}, {1})",
        "lpad": "lpad({0}, {1}, {2})", "rpad": "rpad({0}, {1}, {2})", "repeat": "repeat({0}, {1})",
        "starts_with": "startswith({0}, {1})", "position": "instr({0}, {1})", "days": "datediff({0}, {1})",
    }  # fmt: skip
    text_type = "string"
    texts_of = (Kind.INT, Kind.DATE)
    single_types = ("FLOAT",)
    has_distances = False
    orders_uuids = True
    stopping_functions = FUNCTIONS_OF_DOUBLES

    def _double(self, value: float) -> str:
        return f"{super()._double(value)}D"

    def _single(self, text: str) -> str:
        return f"double(string({text}))"

    def _bytewise(self, text: str, field: Field | None, op: str) -> str:
        # here the blanks at the end of a padded text count
        return f"concat({text}, '')" if field is not None and field.declared.startswith("CHAR(") else text

    def _averaged(self, text: str, kind: Kind | None) -> str:
        if kind is Kind.DECIMAL:
            self._note(DIGITS_NOTE)
        return text

    # --- arithmetic ----------------------------------------------------------------------------------------------

    def _whole(self, call: Call, texts: list[str]) -> list[str]:
        return [f"bigint({texts[0]})", texts[1]]

    def _mix(self, kinds: list[Kind | None]) -> None:
        if Kind.DECIMAL in kinds and Kind.FLOAT not in kinds:
            self._note(DIGITS_NOTE)

    def _divided(self, sign: str, kinds: list[Kind | None], texts: list[str]) -> str:
        if sign == "/" and kinds == [Kind.INT, Kind.INT]:
            return f"({texts[0]} div {texts[1]})"
        return super()._divided(sign, kinds, texts)

    def _day_moved(self, day: str, sign: str, count: str) -> str:
        return f"date_{'add' if sign == '+' else 'sub'}({day}, int({count}))"

    def _as_moment(self, operand: Operand) -> str:
        text = self._atom(operand)
        return f"cast({text} as timestamp_ntz)" if self._kind(operand) is Kind.DATE else text

    def _interval(self, value: dt.timedelta) -> str:
        seconds, rest = divmod(abs(micros(value)), 1_000_000)
        days, seconds = divmod(seconds, 86_400)
        sign = "-" if value < dt.timedelta() else ""
        clock = f"{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}.{rest:06}"
        return f"interval '{sign}{days} {clock}' day to second"

    def _do_moved(self, call: Call) -> str:
        months = getattr(call.args[1], "value", 0)
        return f"({self._as_moment(call.args[0])} + interval '{months}' month)"

    def _rounded(self, text: str, kind: Kind | None, digits: int | None) -> str:
        if kind is Kind.FLOAT and (digits or 0) < 0:
            raise self._refuse(tr("Rounding before the point"))
        return super()._rounded(text, kind, digits)

    def _cut(self, text: str, kind: Kind | None, digits: int) -> str:
        if digits or kind is not Kind.INT:
            raise self._refuse(tr("Cutting such numbers"))
        return text

    def _as_double(self, text: str) -> str:
        return f"double({text})"

    # --- texts ---------------------------------------------------------------------------------------------------

    def _trimmed(self, call: Call) -> str:
        text, chars = self._part(call.args[0]), call.args[1] if len(call.args) > 1 else Literal(" ")
        side = {"trim": "both", "ltrim": "leading", "rtrim": "trailing"}[call.name]
        return f"trim({side} {self._atom(chars)} from {text})"

    def _extreme(self, name: str, texts: list[str]) -> str:
        return f"{name}({', '.join(texts)})"  # NULLs are left out

    # --- times and casts -----------------------------------------------------------------------------------------

    def _extracted(self, part: str, of: Operand, kind: Kind | None) -> str:
        if part not in _PARTS or kind not in MOMENTS:
            return super()._extracted(part, of, kind)
        return _PARTS[part].format(self._as_moment(of))

    def _begun(self, unit: str, of: Operand) -> str:
        if unit not in _UNITS or self._kind(of) not in MOMENTS:
            return super()._begun(unit, of)
        text = f"date_trunc('{unit}', {self._as_moment(of)})"
        return text if self._kind(of) is Kind.ZONED else f"cast({text} as timestamp_ntz)"

    def _formed(self, of: Operand, form: str) -> str:
        signs = form_signs(form, _FORMS)
        if signs is None or self._kind(of) not in MOMENTS:
            return super()._formed(of, form)
        return f"date_format({self._as_moment(of)}, {self._text(signs)})"

    def _cast_to(self, call: Call, of: Operand, target: str, sizes: list[object]) -> str:
        kind = self._kind(of)
        text = self._number(of) if kind in NUMBERS else self._atom(of)
        if target == "double" and kind in (Kind.INT, Kind.DECIMAL):
            return f"double({text})"
        if kind is Kind.DECIMAL and target in ("integer", "bigint"):
            self._checked(call, tr("A cast"))
            return f"bigint(round({text}))"
        if kind in MOMENTS and target == "date":
            return f"date({text})"
        return super()._cast_to(call, of, target, sizes)

    # --- conditions ----------------------------------------------------------------------------------------------

    def _clock_or_span(self, value: str, kind: Kind | None) -> str:
        raise self._refuse(tr("A time of day or an interval"))

    def _matched(self, text: str, pattern: list[tuple[str, bool]], ignore_case: bool) -> str:
        return f"{text} {'ilike' if ignore_case else 'like'} {self._text(escaped(pattern))} escape '!'"
