"""PostgreSQL (documentation of version 15, chapter 9): nearest to the local language; stops where a value has none."""

from __future__ import annotations

import datetime as dt
import re
from typing import ClassVar

from nimble_otter.pull.translate.conditions import Translator, escaped, micros
from nimble_otter.pull.translate.values import FUNCTIONS_OF_DOUBLES, SIMPLE, is_count, is_plain_span
from nimble_otter.table.core.columns import Field, Kind
from nimble_otter.table.ops.conditions import Call, ColumnAt, Literal, Operand
from nimble_otter.table.ops.functions import float_text
from nimble_otter.translation import tr

_TYPES = {"double": "float8", "decimal": "numeric", "bool": "boolean", "time": "timestamp", "zoned": "timestamptz",
          "clock": "time", "span": "interval"}  # fmt: skip


class PostgresqlTranslator(Translator):
    """How steps are written in the SQL of PostgreSQL."""

    server = "PostgreSQL"
    simple = {
        **SIMPLE, "initcap": "initcap({0})", "reverse": "reverse({0})", "split_part": "split_part({0}, {1}, {2})",
        "left": "left({0}, {1})", "right": "right({0}, {1})", "lpad": "lpad({0}, {1}, {2})",
        "repeat": "repeat({0}, {1})", "rpad": "rpad({0}, {1}, {2})", "starts_with": "starts_with({0}, {1})",
        "position": "strpos({0}, {1})", "in_zone": "({1} at time zone {0})", "days": "({0}::date - {1}::date)",
    }  # fmt: skip
    single_types = ("REAL", "FLOAT4")
    strict_arguments: ClassVar[tuple[str, ...]] = ()
    has_times = True
    orders_uuids = True
    stopping_functions = FUNCTIONS_OF_DOUBLES

    def _text(self, value: str) -> str:
        quoted = super()._text(value)
        return f"E{quoted.replace(chr(92), chr(92) * 2)}" if "\\" in value else quoted

    def _double(self, value: float) -> str:
        return f"'{float_text(value)}'::float8"

    def _time(self, value: object) -> str:
        if isinstance(value, dt.timedelta):
            return f"interval '{micros(value)} microseconds'"
        if isinstance(value, dt.datetime) and value.tzinfo is not None:
            return f"timestamptz '{value.astimezone(dt.UTC).replace(tzinfo=None).isoformat(' ')}+00'"
        return super()._time(value)

    def _single(self, text: str) -> str:
        return f"{text}::text::float8"

    def _bytewise(self, text: str, field: Field | None, op: str) -> str:
        if field is not None and (sized := re.fullmatch(r"CHAR\((\d+)\)", field.declared)):
            return f'rpad({text}::text, {sized[1]}) collate "C"'  # here the blanks at its end count
        if field is not None and field.folds:
            return f'{text}::text collate "C"'
        return text if op in ("=", "<>") else f'{text} collate "C"'

    def _text_of_null(self, text: str) -> str:
        return f"{text}::text"

    def _part(self, operand: Operand) -> str:
        if self._kind(operand) is Kind.TEXT and isinstance(operand, ColumnAt):
            return self._exact(operand)  # a padded text as it is here
        return super()._part(operand)

    # --- arithmetic ----------------------------------------------------------------------------------------------

    def _whole(self, call: Call, texts: list[str]) -> list[str]:
        return [f"{texts[0]}::bigint", texts[1]]

    def _times_joined(self, call: Call, kinds: list[Kind | None]) -> str:
        if None in kinds:
            return super()._times_joined(call, kinds)
        sign, (a, b) = call.name, map(self._atom, call.args)
        if kinds == [Kind.DATE, Kind.DATE]:
            return f"({a} - {b})"
        if Kind.DATE in kinds and Kind.INT in kinds:
            day, count = (a, b) if kinds[0] is Kind.DATE else (b, a)
            return f"({day} {sign} {count}::integer)"
        a, b = (f"{t}::timestamp" if k is Kind.DATE else t for t, k in ((a, kinds[0]), (b, kinds[1])))
        return f"({a} {sign} {b})"

    def _do_moved(self, call: Call) -> str:
        text, months = self._atom(call.args[0]), getattr(call.args[1], "value", 0)
        text = f"{text}::timestamp" if self._kind(call.args[0]) is Kind.DATE else text
        return f"({text} + interval '{months} months')"

    def _rounded(self, text: str, kind: Kind | None, digits: int | None) -> str:
        if kind is Kind.FLOAT and digits is not None:
            return f"round({text}::text::numeric, {digits})::float8"
        return f"round({text})" if digits is None else f"round({text}::numeric, {digits})"

    def _cut(self, text: str, kind: Kind | None, digits: int) -> str:
        return f"trunc({text})" if not digits else f"trunc({text}::numeric, {digits})"

    def _as_double(self, text: str) -> str:
        return f"{text}::float8"

    # --- texts ---------------------------------------------------------------------------------------------------

    def _trimmed(self, call: Call) -> str:
        text, chars = self._part(call.args[0]), call.args[1] if len(call.args) > 1 else Literal(" ")
        return f"{'btrim' if call.name == 'trim' else call.name}({text}, {self._part(chars)})"

    def _do_substring(self, call: Call) -> str:
        if not is_plain_span(call):
            self._checked(call, "substring()")
        places = (self._atom(a) if isinstance(a, Literal) else f"{self._atom(a)}::integer" for a in call.args[1:])
        return f"substring({', '.join([self._part(call.args[0]), *places])})"

    def _do_overlay(self, call: Call) -> str:
        if not all(map(is_count, call.args[2:])):
            raise self._refuse("overlay()")
        texts = [self._part(a) for a in call.args]
        tail = f" for {texts[3]}" if len(texts) > 3 else ""
        return f"overlay({texts[0]} placing {texts[1]} from {texts[2]}{tail})"

    def _extreme(self, name: str, texts: list[str]) -> str:
        return f"{name}({', '.join(texts)})"

    # --- times and casts -----------------------------------------------------------------------------------------

    def _extracted(self, part: str, of: Operand, kind: Kind | None) -> str:
        return f"extract({part} from {self._atom(of)})"

    def _begun(self, unit: str, of: Operand) -> str:
        return f"date_trunc('{unit}', {self._atom(of)}{'::timestamp' if self._kind(of) is Kind.DATE else ''})"

    def _formed(self, of: Operand, form: str) -> str:
        return f"to_char({self._atom(of)}, {self._text(form)})"

    def _do_cast(self, call: Call) -> str:
        of, target = call.args[0], str(getattr(call.args[1], "value", ""))
        if target == "text" and self._kind(of) not in (None, Kind.TEXT, Kind.SPAN):
            text, size = f"cast({self._number(of)} as text)", [getattr(a, "value", None) for a in call.args[2:]]
            return self._first_letters(text, size[0]) if size else text
        return super()._do_cast(call)

    def _cast_to(self, call: Call, of: Operand, target: str, sizes: list[object]) -> str:
        kind = self._kind(of)
        if kind in (None, Kind.TEXT, Kind.SPAN, Kind.CLOCK):
            return super()._cast_to(call, of, target, sizes)
        self._checked(Call("cast", call.args, Kind.TEXT), tr("A cast"))
        sql_type, text = _TYPES.get(target, target), self._number(of)
        if target == "bool" and kind is Kind.INT:
            return f"({text} <> 0)"
        if target == "decimal" and sizes:
            sql_type += f"({', '.join(map(str, sizes))})"
        return f"{text}::{sql_type}"

    # --- conditions ----------------------------------------------------------------------------------------------

    def _clock_or_span(self, value: str, kind: Kind | None) -> str:
        return f"{'time' if kind is Kind.CLOCK else 'interval'} {self._text(value)}"

    def _matched(self, text: str, pattern: list[tuple[str, bool]], ignore_case: bool) -> str:
        return f"{text} {'ilike' if ignore_case else 'like'} {self._text(escaped(pattern))} escape '!'"

    def _found(self, text: str, pattern: str, ignore_case: bool) -> str:
        return f"{text} {'~*' if ignore_case else '~'} {self._text(pattern)}"
