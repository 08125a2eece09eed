"""DuckDB (documentation of 1.4 and later): near to PostgreSQL; decimals divide to doubles, and a second has no fraction
of its own."""

from __future__ import annotations

import datetime as dt

from nimble_otter.pull.translate.forms import form_signs
from nimble_otter.pull.translate.postgresql import PostgresqlTranslator
from nimble_otter.pull.translate.values import ROUND_NOTE, is_plain_span
from nimble_otter.query.local.meaning import MOMENTS
from nimble_otter.table.core.columns import Field, Kind
from nimble_otter.table.ops.conditions import Among, Call, ColumnAt, Literal, Operand
from nimble_otter.translation import tr
from nimble_otter.values import Value

DIGITS_NOTE = tr("DuckDB computes quotients and means of decimals as doubles.")
_PARTS = ("year", "quarter", "month", "day", "hour", "minute", "week", "dow", "isodow", "doy", "decade", "century",
          "millennium", "isoyear")  # fmt: skip
_FORMS = {"YYYY": "%Y", "MM": "%m", "DD": "%d", "HH24": "%H", "MI": "%M", "SS": "%S"}


class DuckdbTranslator(PostgresqlTranslator):
    """How steps are written in the SQL of DuckDB."""

    server = "DuckDB"
    simple = {name: form for name, form in PostgresqlTranslator.simple.items() if name not in ("initcap", "in_zone")}
    single_types = ("FLOAT", "REAL")
    strict_arguments = ("replace", "lpad", "rpad", "split_part")

    def _text(self, value: str) -> str:
        return super(PostgresqlTranslator, self)._text(value)

    def _double(self, value: float) -> str:
        text = super(PostgresqlTranslator, self)._double(value)
        return text if "e" in text else f"{text}e0"

    def _time(self, value: Value) -> str:
        if isinstance(value, dt.datetime) and value.tzinfo is not None:
            return f"timestamptz '{value.astimezone(dt.UTC).replace(tzinfo=None).isoformat(' ')}+00'"
        return super()._time(value)

    def _single(self, text: str) -> str:
        return f"{text}::double"

    def _bytewise(self, text: str, field: Field | None, op: str) -> str:
        return text

    def _averaged(self, text: str, kind: Kind | None) -> str:
        if kind is Kind.DECIMAL:
            self._note(DIGITS_NOTE)
        return text

    # --- arithmetic ----------------------------------------------------------------------------------------------

    def _divided(self, sign: str, kinds: list[Kind | None], texts: list[str]) -> str:
        if sign == "/" and kinds == [Kind.INT, Kind.INT]:
            return f"({texts[0]} // {texts[1]})"
        if sign == "/" and Kind.FLOAT not in kinds:
            self._note(DIGITS_NOTE)
        return super()._divided(sign, kinds, texts)

    def _times_joined(self, call: Call, kinds: list[Kind | None]) -> str:
        if all(kind in MOMENTS for kind in kinds) and kinds != [Kind.DATE, Kind.DATE]:
            raise self._refuse(tr("The time between two times"))  # a part of a month is none here
        return super()._times_joined(call, kinds)

    def _rounded(self, text: str, kind: Kind | None, digits: int | None) -> str:
        if kind is Kind.FLOAT:
            self._note(ROUND_NOTE)
        return f"round({text}, {digits or 0})"

    def _cut(self, text: str, kind: Kind | None, digits: int) -> str:
        if digits:
            raise self._refuse(tr("Cutting such numbers"))
        return f"trunc({text})"

    def _as_double(self, text: str) -> str:
        return f"{text}::double"

    # --- texts ---------------------------------------------------------------------------------------------------

    def _trimmed(self, call: Call) -> str:
        text, chars = self._part(call.args[0]), call.args[1] if len(call.args) > 1 else Literal(" ")
        return f"{call.name}({text}, {self._part(chars)})"

    def _do_substring(self, call: Call) -> str:
        if not is_plain_span(call):
            raise self._refuse(tr("A substring that starts before the text"))
        return super(PostgresqlTranslator, self)._do_substring(call)

    def _do_overlay(self, call: Call) -> str:
        raise self._refuse("overlay()")

    # --- times and casts -----------------------------------------------------------------------------------------

    def _extracted(self, part: str, of: Operand, kind: Kind | None) -> str:
        if part not in _PARTS or kind not in MOMENTS:
            raise self._refuse(tr("The {part} of such a value", part=part))
        return f"extract({part} from {self._as_moment(of)})"

    def _as_moment(self, of: Operand) -> str:
        """A time as it is in UTC: the client's zone says what a zoned one is."""
        text, kind = self._atom(of), self._kind(of)
        return f"({text} at time zone 'UTC')" if kind is Kind.ZONED else text

    def _begun(self, unit: str, of: Operand) -> str:
        if unit in ("century", "millennium"):
            raise self._refuse(tr("The beginning of a {unit}", unit=unit))  # DuckDB counts them from the year 2000
        if self._kind(of) is Kind.ZONED:
            return f"(date_trunc('{unit}', {self._as_moment(of)}) at time zone 'UTC')"
        return f"date_trunc('{unit}', {self._atom(of)}::timestamp)"

    def _formed(self, of: Operand, form: str) -> str:
        signs = form_signs(form, _FORMS)
        if signs is None or self._kind(of) not in MOMENTS:
            raise self._refuse(tr("This form of a time"))
        return f"strftime({self._as_moment(of)}, {self._text(signs)})"

    def _do_cast(self, call: Call) -> str:
        if self._kind(call.args[0]) is Kind.FLOAT and getattr(call.args[1], "value", "") == "text":
            raise self._refuse(tr("The text of such a number"))
        return super()._do_cast(call)

    def _cast_to(self, call: Call, of: Operand, target: str, sizes: list[object]) -> str:
        if self._kind(of) is Kind.ZONED or target in ("bool", "time", "zoned", "clock", "span"):
            raise self._refuse(tr("A cast to {target}", target=target))
        return super()._cast_to(call, of, target, sizes)

    # --- conditions ----------------------------------------------------------------------------------------------

    def _compared(self, op: str, left: Operand, right: Operand) -> str:
        self._plain(left)
        self._plain(right)
        return super()._compared(op, left, right)

    def _among(self, node: Among) -> str:
        self._plain(node.operand)
        return super()._among(node)

    def _plain(self, operand: Operand) -> None:
        """Raise for a column of a type that this engine has and the table here has not."""
        field = self._table.fields[operand.index] if isinstance(operand, ColumnAt) else None
        if field is not None and field.kind is Kind.OBJECT and not field.numbers:
            raise self._refuse(tr("Comparing values of such a type"))

    def _found(self, text: str, pattern: str, ignore_case: bool) -> str:
        return f"regexp_matches({text}, {self._text(pattern)}{', ' + self._text('i') if ignore_case else ''})"
