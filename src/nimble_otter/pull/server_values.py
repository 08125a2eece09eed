"""Conditions and expressions of the local language as a server's SQL that means the same there: what a server works out
otherwise is spelled so that it does not, announced in a note, or refused.

The meaning is PostgreSQL's (docs/local-sql.md); in MariaDB texts are compared without case and blanks, whole numbers
are not divided as such and NULL spoils GREATEST; in SQLite times are texts and decimals doubles. Sources: the manuals
of PostgreSQL 15, MariaDB 10.11 and SQLite 3.40. The file is long as each function has its own way on three servers.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable
from decimal import Decimal
from typing import Any

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.pull.server_tables import CUT_SQLITE, FORM_SIGNS, LEAST_ONE, PARTS_MARIADB, PARTS_SQLITE, SIMPLE, STEP
from nimble_otter.query.meaning import MOMENTS, NUMBERS, SAID, kind_of
from nimble_otter.table.columns import Kind, Table
from nimble_otter.table.conditions import (
    Call,
    Case,
    ColumnAt,
    Literal,
    Node,
    Operand,
    Windowed,
)
from nimble_otter.table.expressions import compute
from nimble_otter.table.filter import values_of
from nimble_otter.table.functions import float_text
from nimble_otter.table.text_format import ANY

SERVERS = {"postgres": "PostgreSQL", "mysql": "MariaDB", "sqlite": "SQLite"}
CASE_NOTE = "The server compares case by its own rules, which cover fewer letters."
DOUBLES_NOTE = "SQLite works with doubles: decimals may differ in their last digits."
DIGITS_NOTE = "MariaDB keeps fewer digits of a quotient of decimals."
ROUND_NOTE = "The server rounds halves of doubles away from zero; here they round to even."
TEXT_TIME_NOTE = "The server returns such times as texts."
BINARY = "utf8mb4_nopad_bin"
PLAIN_REGEX = re.compile(r"[\w\s.^$|()\[\]*+?{},\-'\"/:;=<>!@#%&~`]*")


class Values:
    """`column` gives the text of a column by its place in the table; `notes` are what may differ all the same."""

    def __init__(self, table: Table, dialect: str, column: Callable[[int], str]) -> None:
        if dialect not in SERVERS:
            raise ConditionError("The SQL of this kind of source is not supported here.", "Filter here.")
        self._table, self._dialect, self._column = table, dialect, column
        self._at = list(SERVERS).index(dialect)
        self.notes: list[str] = []

    def _note(self, said: str) -> None:
        if said not in self.notes:
            self.notes.append(said)

    def _kind(self, operand: Operand) -> Kind | None:
        if isinstance(operand, Literal) and isinstance(operand.value, str):
            return Kind.TEXT
        return kind_of(operand, self._table)

    def _refuse(self, what: str) -> ConditionError:
        return ConditionError(f"{what} is computed differently by {SERVERS[self._dialect]}.", "It stays a local step.")

    # --- what both need ---------------------------------------------------------------------------------------

    def condition(self, node: Node) -> str:
        raise NotImplementedError

    def _windowed(self, node: Windowed) -> str:
        raise NotImplementedError

    def _compared(self, op: str, left: Operand, right: Operand) -> str:
        raise NotImplementedError

    def _number(self, operand: Operand) -> str:
        """A number as its text says it: single precision holds other digits than it shows."""
        text = self._atom(operand)
        if isinstance(operand, ColumnAt) and self._is_single(operand):
            return f"{text}::text::float8" if self._dialect == "postgres" else f"(concat({text}) + 0e0)"
        return text

    def _is_single(self, operand: ColumnAt) -> bool:
        declared = self._table.fields[operand.index].declared.upper()
        single = {"postgres": ("REAL", "FLOAT4"), "mysql": ("FLOAT",)}.get(self._dialect, ())
        return declared.startswith(single) if single else False

    def _exact(self, operand: Operand, op: str = "=") -> str:
        """A text that the server compares byte by byte."""
        text = self._atom(operand)
        if isinstance(operand, Literal):
            return text
        field = self._table.fields[operand.index] if isinstance(operand, ColumnAt) else None
        if self._dialect == "mysql":
            return f"convert({text} using utf8mb4) collate {BINARY}"
        if self._dialect == "sqlite":
            return f"{text} collate binary" if field is not None and field.folds else text
        if field is not None and (sized := re.fullmatch(r"CHAR\((\d+)\)", field.declared)):
            return f'rpad({text}::text, {sized[1]}) collate "C"'  # here the blanks at its end count
        if field is not None and field.folds:
            return f'{text}::text collate "C"'
        return text if op in ("=", "<>") else f'{text} collate "C"'

    def _form(self, operand: Operand) -> str:
        """How SQLite writes the times of an operand."""
        if isinstance(operand, ColumnAt):
            form = self._table.fields[operand.index].form
            return (
                form if (form.startswith(("%Y", "%H")) and not form.endswith(("Z", "?"))) or form.endswith(ANY) else ""
            )
        is_cut = isinstance(operand, Call) and operand.name == "date_trunc"
        return "%Y-%m-%d %H:%M:%S" if is_cut else ""

    def _as_text(self, operand: Operand) -> str:
        """A value as the text that it is here."""
        kind, text = self._kind(operand), self._atom(operand)
        if kind is Kind.TEXT:
            return self._part(operand)
        if kind is None:
            return f"{text}::text" if self._dialect == "postgres" else text
        if kind is Kind.INT or (kind is Kind.DATE and self._dialect != "sqlite") or (
            kind is Kind.DECIMAL and self._dialect != "sqlite" and not self._is_mixed(operand)
        ):  # fmt: skip
            target = {"postgres": "text", "mysql": "char", "sqlite": "text"}[self._dialect]
            return f"cast({text} as {target})"
        raise self._refuse(f"{SAID[kind].capitalize()} as a text")

    def _is_mixed(self, operand: Operand) -> bool:
        return isinstance(operand, ColumnAt) and self._table.columns[operand.index].kind is Kind.OBJECT

    # --- operands ------------------------------------------------------------------------------------------------

    def operand(self, operand: Operand) -> str:
        """Raises: ConditionError."""
        if isinstance(operand, ColumnAt):
            if operand.path:
                raise self._refuse("A part of a nested value")
            return self._column(operand.index)
        if isinstance(operand, Literal):
            return self._literal(operand.value)
        if isinstance(operand, Case):
            return self._case(operand)
        if isinstance(operand, Windowed):
            return self._windowed(operand)
        return self._call(operand)

    _atom = operand

    def _literal(self, value: Any) -> str:
        if value is None:
            return "null"
        if isinstance(value, bool):
            return str(value).lower() if self._dialect != "sqlite" else str(int(value))
        if isinstance(value, (int, Decimal)):
            text = format(value, "f") if isinstance(value, Decimal) else str(value)
            return f"({text})" if text.startswith("-") else text
        if isinstance(value, float):
            return self._double(value)
        if isinstance(value, str):
            return self._text(value)
        return self._time(value)

    def _double(self, value: float) -> str:
        if self._dialect == "postgres":
            return f"'{float_text(value)}'::float8"
        if not np.isfinite(value):
            raise self._refuse("NaN or infinity")
        return f"{value!r}e0" if "e" not in repr(value) and self._dialect == "mysql" else repr(value)

    def _time(self, value: Any) -> str:
        if isinstance(value, dt.timedelta):
            if self._dialect == "postgres":
                return f"interval '{value // dt.timedelta(microseconds=1)} microseconds'"
            if self._dialect == "mysql" and abs(value) < dt.timedelta(hours=838):
                return self._text(_clock_text(value))
            raise self._refuse("An interval")
        if self._dialect == "sqlite":
            return self._text(value.isoformat(" ") if isinstance(value, dt.datetime) else value.isoformat())
        if isinstance(value, dt.datetime):
            zoned = value.tzinfo is not None
            utc = value.astimezone(dt.UTC).replace(tzinfo=None) if zoned else value
            if self._dialect == "postgres" and zoned:
                return f"timestamptz '{utc.isoformat(' ')}+00'"
            return f"timestamp '{utc.isoformat(' ')}'"
        return f"{'time' if isinstance(value, dt.time) else 'date'} '{value.isoformat()}'"

    def _text(self, value: str) -> str:
        quoted = value.replace("'", "''")
        if self._dialect == "mysql" and re.search(r"[\x00-\x1f\x7f\\]", value):
            return f"convert(x'{value.encode().hex()}' using utf8mb4)"
        if self._dialect == "sqlite" and "\0" in value:
            return f"cast(x'{value.encode().hex()}' as text)"
        return (
            f"E'{quoted.replace(chr(92), chr(92) * 2)}'"
            if self._dialect == "postgres" and "\\" in value
            else f"'{quoted}'"
        )

    def _case(self, operand: Case) -> str:
        parts = [f"when {self.condition(test)} then {self._atom(value)}" for test, value in operand.branches]
        has_default = not (isinstance(operand.default, Literal) and operand.default.value is None)
        tail = f" else {self._atom(operand.default)}" if has_default else ""
        if self._dialect == "sqlite" and self._kind(operand) in (*MOMENTS, Kind.CLOCK, Kind.SPAN):
            raise self._refuse("A choice among times")
        return f"case {' '.join(parts)}{tail} end"

    def _call(self, call: Call) -> str:
        name = call.name
        own = getattr(self, f"_do_{_WORDS.get(name, name)}", None)
        if own is not None:
            return str(own(call))
        pattern = SIMPLE[name][self._at] if name in SIMPLE else None
        if pattern is None:
            raise self._refuse(f"{name}()")
        if name in LEAST_ONE and not all(_is_count(a) for a in call.args[1:] if self._kind(a) is Kind.INT):
            raise self._refuse(f"{name}() of a count that is not 1 or more")
        if name in ("lower", "upper", "initcap"):
            self._note(CASE_NOTE)
        args = list(call.args) + ([Literal(" ")] if name in ("lpad", "rpad") and len(call.args) == 2 else [])
        texts = [self._part(a) for a in args]
        if name in ("position", "replace") and self._dialect == "mysql":
            texts = [self._exact(a) for a in args]
        if (
            self._dialect != "postgres"
            and name in ("replace", "lpad", "rpad")
            and not all(isinstance(a, Literal) and a.value not in ("", None) for a in args[1:])
        ):
            raise self._refuse(f"{name}() of what may be NULL or empty")
        if name in ("replace", "position") and any(isinstance(a, Literal) and a.value == "" for a in args[1:2]):
            raise self._refuse(f"{name}() of an empty text")
        if name == "days" and self._dialect == "sqlite":
            texts = [f"substr({t}, 1, 10)" for t in texts]
        return pattern.format(*texts)

    def _part(self, operand: Operand) -> str:
        """An argument; a padded text as it is here."""
        if self._dialect == "postgres" and self._kind(operand) is Kind.TEXT and isinstance(operand, ColumnAt):
            return self._exact(operand)
        if self._kind(operand) in NUMBERS:
            return self._number(operand)
        return self._atom(operand)

    def _checked(self, call: Call, what: str) -> None:
        """Refuses what has no value, or none of 64 bits, in a row that is here: the server would stop there."""
        ids = np.arange(self._table.rows)
        if call.gives is Kind.INT:
            if len(ids) and compute(call, self._table, ids).kind is Kind.OBJECT:
                raise self._refuse(f"{what} beyond 64 bits")
            return
        given = [values_of(a, self._table, ids) for a in call.args]
        made = values_of(call, self._table, ids)
        for row, value in enumerate(made):
            if value is None and all(of[row] is not None for of in given):
                raise ConditionError(
                    f"{what} has no value in some rows, which makes the server fail.", "Filter them first."
                )

    def _signed(self, call: Call) -> str:
        sign, (left, right) = call.name, call.args
        kinds = [self._kind(left), self._kind(right)]
        if not all(k in NUMBERS for k in kinds):
            return self._times_joined(call, kinds)
        texts = [self._number(left), self._number(right)]
        if kinds == [Kind.INT, Kind.INT]:
            self._checked(call, f"{sign} of whole numbers")
            if self._dialect == "postgres":
                texts[0] = f"{texts[0]}::bigint"
            elif self._dialect == "mysql":
                texts = [
                    f"cast({t} as signed)" if self._is_unsigned(o) else t for o, t in zip(call.args, texts, strict=True)
                ]
        elif self._dialect == "sqlite" and Kind.DECIMAL in kinds:
            self._note(DOUBLES_NOTE)
        if sign in "/%":
            texts[1] = f"nullif({texts[1]}, 0)"
            return self._divided(sign, kinds, texts)
        return f"({texts[0]} {sign} {texts[1]})"

    def _divided(self, sign: str, kinds: list[Kind | None], texts: list[str]) -> str:
        is_whole = kinds == [Kind.INT, Kind.INT]
        if sign == "%" and (Kind.FLOAT in kinds or (self._dialect == "sqlite" and not is_whole)):
            raise self._refuse("The remainder of such numbers")
        if sign == "/" and self._dialect == "mysql":
            if is_whole:
                return f"({texts[0]} div {texts[1]})"
            if Kind.FLOAT not in kinds:
                self._note(DIGITS_NOTE)
        if sign == "/" and self._dialect == "sqlite" and not is_whole:
            return f"({texts[0]} * 1.0 / {texts[1]})"
        return f"({texts[0]} {sign} {texts[1]})"

    def _is_unsigned(self, operand: Operand) -> bool:
        return isinstance(operand, ColumnAt) and "UNSIGNED" in self._table.fields[operand.index].declared.upper()

    def _times_joined(self, call: Call, kinds: list[Kind | None]) -> str:
        sign, (left, right) = call.name, call.args
        if None in kinds or (self._dialect == "sqlite" and not (kinds == [Kind.DATE, Kind.DATE] and sign == "-")):
            raise self._refuse("Arithmetic with such values")
        a, b = self._atom(left), self._atom(right)
        if kinds == [Kind.DATE, Kind.DATE]:
            return {"postgres": f"({a} - {b})", "mysql": f"datediff({a}, {b})",
                    "sqlite": f"cast(julianday({a}) - julianday({b}) as integer)"}[self._dialect]  # fmt: skip
        if Kind.DATE in kinds and Kind.INT in kinds:
            day, count = (a, b) if kinds[0] is Kind.DATE else (b, a)
            return f"({day} {sign} {count}::integer)" if self._dialect == "postgres" else (
                f"cast({day} {sign} interval {count} day as date)")  # fmt: skip
        if self._dialect == "postgres":
            a, b = (f"{t}::timestamp" if k is Kind.DATE else t for t, k in ((a, kinds[0]), (b, kinds[1])))
            return f"({a} {sign} {b})"
        span = next((o for o in (left, right) if isinstance(o, Literal) and isinstance(o.value, dt.timedelta)), None)
        moment = left if span is right else right
        if span is None or self._kind(moment) not in MOMENTS:
            raise self._refuse("Arithmetic with intervals")
        micros = span.value // dt.timedelta(microseconds=1)
        return f"(cast({self._atom(moment)} as datetime(6)) {sign} interval {micros} microsecond)"

    _do_add = _do_sub = _do_mul = _do_div = _do_mod = _signed

    def _do_moved(self, call: Call) -> str:
        text, months = self._atom(call.args[0]), getattr(call.args[1], "value", 0)
        if self._dialect == "sqlite":
            raise self._refuse("A date so many months later")
        if self._dialect == "mysql":
            return f"(cast({text} as datetime(6)) + interval {months} month)"
        text = f"{text}::timestamp" if self._kind(call.args[0]) is Kind.DATE else text
        return f"({text} + interval '{months} months')"

    def _do_round(self, call: Call) -> str:
        kind, text = self._kind(call.args[0]), self._number(call.args[0])
        digits = getattr(call.args[1], "value", None) if len(call.args) > 1 else None
        if len(call.args) > 1 and type(digits) is not int:
            raise self._refuse("Rounding to digits that differ by row")
        if kind is Kind.INT and (digits or 0) >= 0:
            return text
        if self._dialect == "postgres":
            if kind is Kind.FLOAT and digits is not None:
                return f"round({text}::text::numeric, {digits})::float8"
            return f"round({text})" if digits is None else f"round({text}::numeric, {digits})"
        if self._dialect == "sqlite" and (digits or 0) < 0:
            raise self._refuse("Rounding before the point")
        if kind is not Kind.DECIMAL or self._dialect == "sqlite":
            self._note(ROUND_NOTE)
        return f"round({text}, {digits or 0})"

    def _do_trunc(self, call: Call) -> str:
        kind, text = self._kind(call.args[0]), self._number(call.args[0])
        digits = getattr(call.args[1], "value", None) if len(call.args) > 1 else 0
        if type(digits) is not int or (digits and (kind is Kind.FLOAT or self._dialect == "sqlite")):
            raise self._refuse("Cutting such numbers")
        if self._dialect == "sqlite":
            return f"trunc({text})" if kind is not Kind.INT else text
        if self._dialect == "mysql":
            return f"truncate({text}, {digits})"
        return f"trunc({text})" if not digits else f"trunc({text}::numeric, {digits})"

    def _stepped(self, call: Call) -> str:
        kind, text = self._kind(call.args[0]), self._number(call.args[0])
        if kind is Kind.INT or self._dialect != "sqlite":
            return text if kind is Kind.INT else f"{call.name}({text})"
        self._checked(Call(call.name, call.args, Kind.INT), f"{call.name}()")  # its own floor() stops at NULL
        whole = f"cast({text} as integer)"
        return f"({whole} {'+' if call.name == 'ceil' else '-'} ({text} {'>' if call.name == 'ceil' else '<'} {whole}))"

    _do_ceil = _do_floor = _stepped

    def _irrational(self, call: Call) -> str:
        texts = [self._number(a) for a in call.args]
        if self._dialect == "postgres":
            self._checked(call, f"{call.name}()")
            texts = [f"{t}::float8" for t in texts]
            if call.name == "log" and len(texts) == 2:
                return f"(ln({texts[1]}) / ln({texts[0]}))"
        name = {"power": "pow" if self._dialect == "sqlite" else "power", "log": "log10"}.get(call.name, call.name)
        if call.name == "log" and len(texts) == 2:
            return f"(ln({texts[1]}) / ln({texts[0]}))"
        if call.name == "power" or (call.name == "exp" and self._dialect != "postgres"):
            self._checked(call, f"{call.name}()")
        return f"{name}({', '.join(texts)})"

    _do_sqrt = _do_ln = _do_exp = _do_power = _do_log = _irrational

    def _trimmed(self, call: Call) -> str:
        text, chars = self._part(call.args[0]), call.args[1] if len(call.args) > 1 else Literal(" ")
        name = {"trim": "btrim"}.get(call.name, call.name)
        if self._dialect == "postgres":
            return f"{name}({text}, {self._part(chars)})"
        if self._dialect == "sqlite":
            return f"{call.name}({text}, {self._atom(chars)})"
        if not isinstance(chars, Literal) or len(str(chars.value)) != 1:
            raise self._refuse("Trimming several characters")
        side = {"trim": "both", "ltrim": "leading", "rtrim": "trailing"}[call.name]
        return f"trim({side} {self._atom(chars)} from {text})"

    _do_trim = _do_ltrim = _do_rtrim = _trimmed

    def _do_substring(self, call: Call) -> str:
        args = call.args
        is_plain = _is_count(args[1]) and (len(args) < 3 or _is_count(args[2], 0))
        if not is_plain and self._dialect != "postgres":
            raise self._refuse("A substring that starts before the text")
        if not is_plain:
            self._checked(call, "substring()")
        texts = [self._part(args[0]), *(f"{self._atom(a)}::integer" if not isinstance(a, Literal) and (
            self._dialect == "postgres") else self._atom(a) for a in args[1:])]  # fmt: skip
        return f"{'substr' if self._dialect == 'sqlite' else 'substring'}({', '.join(texts)})"

    def _do_overlay(self, call: Call) -> str:
        if self._dialect != "postgres" or not all(map(_is_count, call.args[2:])):
            raise self._refuse("overlay()")
        texts = [self._part(a) for a in call.args]
        tail = f" for {texts[3]}" if len(texts) > 3 else ""
        return f"overlay({texts[0]} placing {texts[1]} from {texts[2]}{tail})"

    def _do_both(self, call: Call) -> str:
        texts = [self._as_text(a) for a in call.args]
        return f"concat({', '.join(texts)})" if self._dialect == "mysql" else f"({' || '.join(texts)})"

    def _do_concat(self, call: Call) -> str:
        texts = [f"coalesce({self._as_text(a)}, '')" for a in call.args]
        return f"concat({', '.join(texts)})" if self._dialect == "mysql" else f"({' || '.join(texts)})"

    def _do_concat_ws(self, call: Call) -> str:
        if self._dialect == "sqlite":
            raise self._refuse("concat_ws()")
        return f"concat_ws({', '.join(self._as_text(a) for a in call.args)})"

    def _do_coalesce(self, call: Call) -> str:
        self._same_times(call)
        if len(call.args) == 1:
            return self._atom(call.args[0])
        return f"coalesce({', '.join(self._atom(a) for a in call.args)})"

    def _same_times(self, call: Call) -> None:
        if self._dialect == "sqlite" and any(self._kind(a) in (*MOMENTS, Kind.CLOCK, Kind.SPAN) for a in call.args):
            raise self._refuse("A choice among times")

    def _do_nullif(self, call: Call) -> str:
        self._same_times(call)
        test = self._compared("=", *call.args)
        return f"case when {test} then null else {self._atom(call.args[0])} end"

    def _chosen(self, call: Call) -> str:
        self._same_times(call)
        kind = self._kind(call)
        texts = [self._exact(a, "<") if kind is Kind.TEXT else self._number(a) for a in call.args]
        if len(texts) == 1:
            return texts[0]
        if self._dialect == "postgres":
            return f"{call.name}({', '.join(texts)})"
        name = call.name if self._dialect == "mysql" else {"greatest": "max", "least": "min"}[call.name]
        filled = [f"coalesce({', '.join([t, *(o for o in texts if o != t)])})" for t in texts]
        return f"{name}({', '.join(filled)})"  # one NULL among them would be the answer there

    _do_greatest = _do_least = _chosen

    def _do_extract(self, call: Call) -> str:
        part, of = str(getattr(call.args[0], "value", "")), call.args[1]
        kind, text = self._kind(of), self._atom(of)
        if self._dialect == "postgres":
            return f"extract({part} from {text})"
        if self._dialect == "mysql":
            if part not in PARTS_MARIADB or kind not in MOMENTS:
                raise self._refuse(f"The {part} of such a value")
            return PARTS_MARIADB[part].format(text)
        if part not in PARTS_SQLITE or kind not in MOMENTS or not self._form(of):
            raise self._refuse(f"The {part} of such a value")
        return PARTS_SQLITE[part].format(text)

    def _do_date_trunc(self, call: Call) -> str:
        unit, of = str(getattr(call.args[0], "value", "")), call.args[1]
        text = self._atom(of)
        if self._dialect == "postgres":
            return f"date_trunc('{unit}', {text}{'::timestamp' if self._kind(of) is Kind.DATE else ''})"
        if self._dialect == "sqlite":
            if unit not in CUT_SQLITE or not self._form(of):
                raise self._refuse(f"The beginning of a {unit}")
            self._note(TEXT_TIME_NOTE)
            return CUT_SQLITE[unit].format(text)
        if unit == "day":
            return f"cast(date({text}) as datetime)"
        if unit == "week":
            return f"cast(date({text}) - interval weekday({text}) day as datetime)"
        if unit == "quarter":
            return f"cast(makedate(year({text}), 1) + interval (quarter({text}) - 1) * 3 month as datetime)"
        if unit not in STEP:
            raise self._refuse(f"The beginning of a {unit}")
        return f"cast(date_format({text}, '{STEP[unit]}') as datetime)"

    def _do_to_char(self, call: Call) -> str:
        form = getattr(call.args[1], "value", None)
        if not isinstance(form, str):
            raise self._refuse("A form that differs by row")
        text = self._atom(call.args[0])
        if self._dialect == "postgres":
            return f"to_char({text}, {self._text(form)})"
        pieces = re.findall(r"YYYY|MM|DD|HH24|MI|SS|[ :./_-]|.", form, re.S)
        signs = [FORM_SIGNS[p][self._at - 1] if p in FORM_SIGNS else p if p in " :./_-" else None for p in pieces]
        if None in signs or (self._dialect == "sqlite" and not self._form(call.args[0])):
            raise self._refuse("This form of a time")
        said = self._text("".join(s or "" for s in signs))
        return f"date_format({text}, {said})" if self._dialect == "mysql" else f"strftime({said}, {text})"

    def _do_cast(self, call: Call) -> str:
        of, target = call.args[0], str(getattr(call.args[1], "value", ""))
        sizes = [getattr(a, "value", None) for a in call.args[2:]]
        kind = self._kind(of)
        if target == "text":
            text = f"cast({self._number(of)} as text)" if self._dialect == "postgres" and kind not in (
                None, Kind.TEXT, Kind.SPAN) else self._as_text(of)  # fmt: skip
            return f"left({text}, {sizes[0]})" if sizes and self._dialect != "sqlite" else (
                f"substr({text}, 1, {sizes[0]})" if sizes else text)  # fmt: skip
        if self._dialect == "postgres" and kind not in (None, Kind.TEXT, Kind.SPAN, Kind.CLOCK):
            self._checked(Call("cast", call.args, Kind.TEXT), "A cast")
            said = {"double": "float8", "decimal": "numeric", "bool": "boolean", "time": "timestamp",
                    "zoned": "timestamptz", "clock": "time", "span": "interval"}.get(target, target)  # fmt: skip
            text = self._number(of)
            if target == "bool" and kind is Kind.INT:
                return f"({text} <> 0)"
            if target == "decimal":
                said += f"({', '.join(map(str, sizes))})" if sizes else ""
            return f"{text}::{said}"
        text = self._number(of) if kind in NUMBERS else self._atom(of)
        if kind is Kind.INT and target in ("integer", "bigint", "smallint"):
            self._checked(call, "A cast")
            return text
        if target == "double" and kind in (Kind.INT, Kind.DECIMAL):
            return f"cast({text} as {'double' if self._dialect == 'mysql' else 'real'})"
        if self._dialect == "mysql" and kind is Kind.DECIMAL and target in ("integer", "bigint"):
            return f"cast(round({text}) as signed)"
        if self._dialect == "mysql" and kind in MOMENTS and target in ("date", "time"):
            return f"cast({text} as {'date' if target == 'date' else 'datetime(6)'})"
        if self._dialect == "sqlite" and target == "date" and self._form(of):
            self._note(TEXT_TIME_NOTE)
            return f"substr({text}, 1, 10)"
        raise self._refuse(f"A cast to {target}")


_WORDS = {"+": "add", "-": "sub", "*": "mul", "/": "div", "%": "mod", "||": "both"}


def _is_count(operand: Operand, least: int = 1) -> bool:
    value = getattr(operand, "value", None) if isinstance(operand, Literal) else None
    return type(value) is int and least <= value < 1 << 31


def _clock_text(value: dt.timedelta) -> str:
    micros = abs(value) // dt.timedelta(microseconds=1)
    seconds, rest = divmod(micros, 1_000_000)
    sign = "-" if value < dt.timedelta() else ""
    return f"{sign}{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}.{rest:06}"
