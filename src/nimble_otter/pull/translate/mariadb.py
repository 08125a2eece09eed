"""MariaDB and MySQL (manual of MariaDB 10.11): texts are compared without case and blanks, whole numbers are not
divided as such, NULL spoils GREATEST."""

from __future__ import annotations

import datetime as dt
import re

from nimble_otter.pull.translate.conditions import escaped, micros
from nimble_otter.pull.translate.forms import form_signs
from nimble_otter.pull.translate.spans import WrittenSpans
from nimble_otter.pull.translate.values import SIMPLE
from nimble_otter.query.local.meaning import MOMENTS, NUMBERS
from nimble_otter.table.core.columns import Field, Kind
from nimble_otter.table.ops.conditions import Call, ColumnAt, Literal, Operand
from nimble_otter.translation import tr

DIGITS_NOTE = tr("MariaDB keeps fewer digits of a quotient of decimals.")
_BINARY = "utf8mb4_nopad_bin"
_STEP = {"year": "%Y-01-01", "month": "%Y-%m-01", "hour": "%Y-%m-%d %H:00:00", "minute": "%Y-%m-%d %H:%i:00",
         "second": "%Y-%m-%d %H:%i:%s"}  # fmt: skip
_PARTS = {
    "year": "year({0})", "quarter": "quarter({0})", "month": "month({0})", "day": "day({0})", "hour": "hour({0})",
    "minute": "minute({0})", "week": "week({0}, 3)", "dow": "(dayofweek({0}) - 1)", "isodow": "(weekday({0}) + 1)",
    "doy": "dayofyear({0})", "decade": "(year({0}) div 10)", "century": "((year({0}) + 99) div 100)",
    "millennium": "((year({0}) + 999) div 1000)", "isoyear": "(yearweek({0}, 3) div 100)",
    "second": "(second({0}) + microsecond({0}) / 1000000)",
    "microsecond": "(second({0}) * 1000000 + microsecond({0}))",
    "millisecond": "(second({0}) * 1000 + microsecond({0}) / 1000)",
    "epoch": "(timestampdiff(microsecond, '1970-01-01', {0}) / 1000000)",
}  # fmt: skip
_FORMS = {"YYYY": "%Y", "MM": "%m", "DD": "%d", "HH24": "%H", "MI": "%i", "SS": "%s"}


class MariadbTranslator(WrittenSpans):
    """How steps are written in the SQL of MariaDB and MySQL."""

    server = "MariaDB"
    simple = {
        **SIMPLE, "length": "char_length({0})", "reverse": "reverse({0})", "left": "left({0}, {1})",
        "right": "right({0}, {1})", "lpad": "lpad({0}, {1}, {2})", "repeat": "repeat({0}, {1})",
        "rpad": "rpad({0}, {1}, {2})", "position": "locate({1}, {0})", "days": "datediff({0}, {1})",
    }  # fmt: skip
    text_type = "char"
    single_types = ("FLOAT",)
    exact_arguments = ("position", "replace")
    has_defaults = has_distances = False
    uuid_order_note = tr("sorted by the server's own order of UUIDs; here they go by their digits.")
    finds_by_index = True

    def _text(self, value: str) -> str:
        if re.search(r"[\x00-\x1f\x7f\\]", value):
            return f"convert(x'{value.encode().hex()}' using utf8mb4)"
        return super()._text(value)

    def _double(self, value: float) -> str:
        text = super()._double(value)
        return text if "e" in text else f"{text}e0"

    def _time(self, value: object) -> str:
        if isinstance(value, dt.timedelta) and abs(value) < dt.timedelta(hours=838):
            return self._text(_clock_text(value))
        return super()._time(value)

    def _single(self, text: str) -> str:
        return f"(concat({text}) + 0e0)"

    def _bytewise(self, text: str, field: Field | None, op: str) -> str:
        return f"convert({text} using utf8mb4) collate {_BINARY}"

    def in_order_of(self, text: str, descending: bool, empty_first: bool) -> str:
        """One key of ORDER BY that puts NULLs where the step does."""
        return f"{text} is null{' desc' if empty_first else ''}, {text}{' desc' if descending else ''}"

    def _averaged(self, text: str, kind: Kind | None) -> str:
        return f"{text} * 1e0" if kind in (Kind.INT, Kind.DECIMAL) else text  # else it keeps four more digits only

    # --- arithmetic ----------------------------------------------------------------------------------------------

    def _whole(self, call: Call, texts: list[str]) -> list[str]:
        sides = zip(call.args, texts, strict=True)
        return [f"cast({t} as signed)" if self._is_unsigned(o) else t for o, t in sides]

    def _is_unsigned(self, operand: Operand) -> bool:
        return isinstance(operand, ColumnAt) and "UNSIGNED" in self._table.fields[operand.index].declared.upper()

    def _divided(self, sign: str, kinds: list[Kind | None], texts: list[str]) -> str:
        if sign == "/" and kinds == [Kind.INT, Kind.INT]:
            return f"({texts[0]} div {texts[1]})"
        if sign == "/" and Kind.FLOAT not in kinds:
            self._note(DIGITS_NOTE)
        return super()._divided(sign, kinds, texts)

    def _day_moved(self, day: str, sign: str, count: str) -> str:
        return f"cast({day} {sign} interval {count} day as date)"

    def _as_moment(self, operand: Operand) -> str:
        return f"cast({self._atom(operand)} as datetime(6))"

    def _interval(self, value: dt.timedelta) -> str:
        return f"interval {micros(value)} microsecond"

    def _do_moved(self, call: Call) -> str:
        months = getattr(call.args[1], "value", 0)
        return f"({self._as_moment(call.args[0])} + interval {months} month)"

    def _cut(self, text: str, kind: Kind | None, digits: int) -> str:
        return f"truncate({text}, {digits})"

    # --- texts ---------------------------------------------------------------------------------------------------

    def _trimmed(self, call: Call) -> str:
        text, chars = self._part(call.args[0]), call.args[1] if len(call.args) > 1 else Literal(" ")
        if not isinstance(chars, Literal) or len(str(chars.value)) != 1:
            raise self._refuse(tr("Trimming several characters"))
        side = {"trim": "both", "ltrim": "leading", "rtrim": "trailing"}[call.name]
        return f"trim({side} {self._atom(chars)} from {text})"

    def _joined(self, texts: list[str]) -> str:
        return f"concat({', '.join(texts)})"

    # --- times and casts -----------------------------------------------------------------------------------------

    def _extracted(self, part: str, of: Operand, kind: Kind | None) -> str:
        if part not in _PARTS or kind not in MOMENTS:
            return super()._extracted(part, of, kind)
        return _PARTS[part].format(self._atom(of))

    def _begun(self, unit: str, of: Operand) -> str:
        text = self._atom(of)
        if unit == "day":
            return f"cast(date({text}) as datetime)"
        if unit == "week":
            return f"cast(date({text}) - interval weekday({text}) day as datetime)"
        if unit == "quarter":
            return f"cast(makedate(year({text}), 1) + interval (quarter({text}) - 1) * 3 month as datetime)"
        if unit not in _STEP:
            return super()._begun(unit, of)
        return f"cast(date_format({text}, '{_STEP[unit]}') as datetime)"

    def _formed(self, of: Operand, form: str) -> str:
        signs = form_signs(form, _FORMS)
        if signs is None:
            return super()._formed(of, form)
        return f"date_format({self._atom(of)}, {self._text(signs)})"

    def _cast_to(self, call: Call, of: Operand, target: str, sizes: list[object]) -> str:
        kind = self._kind(of)
        text = self._number(of) if kind in NUMBERS else self._atom(of)
        if target == "double" and kind in (Kind.INT, Kind.DECIMAL):
            return f"cast({text} as double)"
        if kind is Kind.DECIMAL and target in ("integer", "bigint"):
            return f"cast(round({text}) as signed)"
        if kind in MOMENTS and target in ("date", "time"):
            return f"cast({text} as {'date' if target == 'date' else 'datetime(6)'})"
        return super()._cast_to(call, of, target, sizes)

    # --- conditions ----------------------------------------------------------------------------------------------

    def _truth(self, operand: Operand) -> str:
        text = super()._truth(operand)
        return f"{text} <> 0" if isinstance(operand, ColumnAt) else text

    def _matched(self, text: str, pattern: list[tuple[str, bool]], ignore_case: bool) -> str:
        pattern_text, text = escaped(pattern), f"convert({text} using utf8mb4)"
        if ignore_case:
            pattern_text, text = pattern_text.lower(), f"lower({text})"
        return f"{text} collate {_BINARY} like {self._text(pattern_text)} escape '!'"

    def _found(self, text: str, pattern: str, ignore_case: bool) -> str:
        inner = pattern[:-1] + "\\z" if pattern.endswith("$") else pattern
        inner = f"(?s{'i' if ignore_case else ''}){inner}"
        return f"convert({text} using utf8mb4) collate {_BINARY} regexp {self._text(inner)}"


def _clock_text(value: dt.timedelta) -> str:
    seconds, rest = divmod(micros(abs(value)), 1_000_000)
    sign = "-" if value < dt.timedelta() else ""
    return f"{sign}{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}.{rest:06}"
