"""Values, functions and arithmetic as a server's SQL. What is here holds on every server that does not say otherwise in
its own file."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import ClassVar

import numpy as np

from nimble_otter.errors import ConditionError
from nimble_otter.query.local.meaning import NUMBERS, SAID, kind_of
from nimble_otter.table.core.columns import Field, Kind, Table
from nimble_otter.table.ops.conditions import Call, Case, ColumnAt, Literal, Node, Operand, Windowed
from nimble_otter.table.ops.expressions import compute
from nimble_otter.table.ops.filter import values_of
from nimble_otter.translation import tr
from nimble_otter.values import Value

CASE_NOTE = tr("The server compares case by its own rules, which cover fewer letters.")
ROUND_NOTE = tr("The server rounds halves of doubles away from zero; here they round to even.")
FUNCTIONS_OF_DOUBLES = ("sqrt", "ln", "exp", "power", "log")
LEAST_ONE = ("left", "right", "lpad", "rpad", "repeat", "split_part")
"""Take a count that the servers read otherwise below 1."""
SIMPLE: Mapping[str, str] = {
    "abs": "abs({0})", "sign": "sign({0})", "lower": "lower({0})", "upper": "upper({0})", "length": "length({0})",
    "neg": "-{0}", "replace": "replace({0}, {1}, {2})",
}  # fmt: skip
"""Functions by their names, with the arguments in place; what is not there is refused."""


class Values:
    """`notes` are what may differ all the same. `server` is its name; `simple` its functions; `text_type` what CAST
    knows of texts, `texts_of` the kinds whose texts are those that we write; `single_types` hold single precision; of
    `exact_arguments` the texts are compared letter by letter; `strict_arguments` are functions in which NULL or an
    empty text would mean something else, `stopping_functions` those that stop a query where they have no value."""

    server: ClassVar[str] = ""
    simple: ClassVar[Mapping[str, str]] = SIMPLE
    text_type: ClassVar[str] = "text"
    texts_of: ClassVar[tuple[Kind, ...]] = (Kind.INT, Kind.DATE, Kind.DECIMAL)
    single_types: ClassVar[tuple[str, ...]] = ()
    exact_arguments: ClassVar[tuple[str, ...]] = ()
    strict_arguments: ClassVar[tuple[str, ...]] = ("replace", "lpad", "rpad")
    stopping_functions: ClassVar[tuple[str, ...]] = ("power", "exp")

    def __init__(self, table: Table, column: Callable[[int], str]) -> None:
        self._table, self._column = table, column
        self.notes: list[str] = []

    def _note(self, said: str) -> None:
        if said not in self.notes:
            self.notes.append(said)

    def _kind(self, operand: Operand) -> Kind | None:
        if isinstance(operand, Literal) and isinstance(operand.value, str):
            return Kind.TEXT
        return kind_of(operand, self._table)

    def _refuse(self, what: str) -> ConditionError:
        return ConditionError(
            tr("{what} is computed differently by {server}.", what=what, server=self.server),
            tr("It stays a local step."),
        )

    # --- what conditions and windows add --------------------------------------------------------------------------

    def condition(self, node: Node) -> str:
        """A condition as the server's SQL. Raises: ConditionError."""
        raise NotImplementedError

    def _windowed(self, node: Windowed) -> str:
        raise NotImplementedError

    def _compared(self, op: str, left: Operand, right: Operand) -> str:
        raise NotImplementedError

    # --- how a server writes values -------------------------------------------------------------------------------

    def _text(self, value: str) -> str:
        return "'" + value.replace("'", "''") + "'"

    def _truth_literal(self, value: bool) -> str:
        return str(value).lower()

    def _double(self, value: float) -> str:
        if not np.isfinite(value):
            raise self._refuse(tr("NaN or infinity"))
        return repr(value)

    def _time(self, value: Value) -> str:
        """A time, a date, a time of day or an interval."""
        if isinstance(value, dt.timedelta):
            raise self._refuse(tr("An interval"))
        if isinstance(value, dt.datetime):
            utc = value.astimezone(dt.UTC).replace(tzinfo=None) if value.tzinfo is not None else value
            return f"timestamp '{utc.isoformat(' ')}'"
        return f"{'time' if isinstance(value, dt.time) else 'date'} '{value.isoformat()}'"

    def _single(self, text: str) -> str:
        """A column of single precision as its text says it."""
        return text

    def _bytewise(self, text: str, field: Field | None, op: str) -> str:
        """A text that the server compares byte by byte; `field` where it is a column."""
        return text

    # --- operands ------------------------------------------------------------------------------------------------

    def _number(self, operand: Operand) -> str:
        """A number as its text says it: single precision holds other digits than it shows."""
        text = self._atom(operand)
        return self._single(text) if isinstance(operand, ColumnAt) and self._is_single(operand) else text

    def _is_single(self, operand: ColumnAt) -> bool:
        declared = self._table.fields[operand.index].declared.upper()
        return bool(self.single_types) and declared.startswith(self.single_types)

    def _exact(self, operand: Operand, op: str = "=") -> str:
        """A text that the server compares byte by byte."""
        text = self._atom(operand)
        if isinstance(operand, Literal):
            return text
        return self._bytewise(text, self._table.fields[operand.index] if isinstance(operand, ColumnAt) else None, op)

    def _as_text(self, operand: Operand) -> str:
        """A value as the text that it is here."""
        kind, text = self._kind(operand), self._atom(operand)
        if kind is Kind.TEXT:
            return self._part(operand)
        if kind is None:
            return self._text_of_null(text)
        if kind in self.texts_of and not (kind is Kind.DECIMAL and self._is_mixed(operand)):
            return f"cast({text} as {self.text_type})"
        raise self._refuse(tr("{kind} as a text", kind=SAID[kind].capitalize()))

    def _text_of_null(self, text: str) -> str:
        return text

    def _is_mixed(self, operand: Operand) -> bool:
        return isinstance(operand, ColumnAt) and self._table.columns[operand.index].kind is Kind.OBJECT

    def operand(self, operand: Operand) -> str:
        """Raises: ConditionError."""
        if isinstance(operand, ColumnAt):
            if operand.path:
                raise self._refuse(tr("A part of a nested value"))
            return self._column(operand.index)
        if isinstance(operand, Literal):
            return self._literal(operand.value)
        if isinstance(operand, Case):
            return self._case(operand)
        if isinstance(operand, Windowed):
            return self._windowed(operand)
        return self._call(operand)

    _atom = operand

    def _literal(self, value: object) -> str:
        if value is None:
            return "null"
        if isinstance(value, bool):
            return self._truth_literal(value)
        if isinstance(value, (int, Decimal)):
            text = format(value, "f") if isinstance(value, Decimal) else str(value)
            return f"({text})" if text.startswith("-") else text
        if isinstance(value, float):
            return self._double(value)
        if isinstance(value, str):
            return self._text(value)
        return self._time(value)

    def _case(self, operand: Case) -> str:
        parts = [f"when {self.condition(test)} then {self._atom(value)}" for test, value in operand.branches]
        has_default = not (isinstance(operand.default, Literal) and operand.default.value is None)
        tail = f" else {self._atom(operand.default)}" if has_default else ""
        self._choose_among(self._kind(operand))
        return f"case {' '.join(parts)}{tail} end"

    def _choose_among(self, *kinds: Kind | None) -> None:
        """Refuses a choice among values of kinds that the server would mix up."""

    # --- functions -----------------------------------------------------------------------------------------------

    def _call(self, call: Call) -> str:
        name = call.name
        own = getattr(self, _METHODS.get(name, f"_do_{name}"), None)
        if own is not None:
            return str(own(call))
        if name not in self.simple:
            raise self._refuse(f"{name}()")
        if name in LEAST_ONE and not all(is_count(a) for a in call.args[1:] if self._kind(a) is Kind.INT):
            raise self._refuse(tr("{name}() of a count that is not 1 or more", name=name))
        if name in ("lower", "upper", "initcap"):
            self._note(CASE_NOTE)
        args = list(call.args) + ([Literal(" ")] if name in ("lpad", "rpad") and len(call.args) == 2 else [])
        texts = [self._exact(a) if name in self.exact_arguments else self._part(a) for a in args]
        is_plain = all(isinstance(a, Literal) and a.value not in ("", None) for a in args[1:])
        if name in self.strict_arguments and not is_plain:
            raise self._refuse(tr("{name}() of what may be NULL or empty", name=name))
        if name in ("replace", "position") and any(isinstance(a, Literal) and a.value == "" for a in args[1:2]):
            raise self._refuse(tr("{name}() of an empty text", name=name))
        return self.simple[name].format(*texts)

    def _part(self, operand: Operand) -> str:
        """An argument."""
        return self._number(operand) if self._kind(operand) in NUMBERS else self._atom(operand)

    def _checked(self, call: Call, what: str) -> None:
        """Refuses what has no value, or none of 64 bits, in a row that is here: the server would stop there."""
        ids = np.arange(self._table.rows)
        if call.gives is Kind.INT:
            if len(ids) and compute(call, self._table, ids).kind is Kind.OBJECT:
                raise self._refuse(tr("{what} beyond 64 bits", what=what))
            return
        given = [values_of(a, self._table, ids) for a in call.args]
        items = values_of(call, self._table, ids)
        for row, value in enumerate(items):
            if value is None and all(of[row] is not None for of in given):
                raise ConditionError(
                    tr("{what} has no value in some rows, which makes the server fail.", what=what),
                    tr("Filter them first."),
                )

    # --- arithmetic ----------------------------------------------------------------------------------------------

    def _signed(self, call: Call) -> str:
        sign, (left, right) = call.name, call.args
        kinds = [self._kind(left), self._kind(right)]
        if not all(k in NUMBERS for k in kinds):
            return self._times_joined(call, kinds)
        texts = [self._number(left), self._number(right)]
        if kinds == [Kind.INT, Kind.INT]:
            self._checked(call, tr("{sign} of whole numbers", sign=sign))
            texts = self._whole(call, texts)
        else:
            self._mix(kinds)
        if sign in "/%":
            texts[1] = f"nullif({texts[1]}, 0)"
            return self._divided(sign, kinds, texts)
        return f"({texts[0]} {sign} {texts[1]})"

    def _whole(self, call: Call, texts: list[str]) -> list[str]:
        """The sides of an operation of whole numbers, so that it is one of 64 bits there."""
        return texts

    def _mix(self, kinds: list[Kind | None]) -> None:
        """Notes what arithmetic of such kinds loses."""

    def _divided(self, sign: str, kinds: list[Kind | None], texts: list[str]) -> str:
        if sign == "%" and Kind.FLOAT in kinds:
            raise self._refuse(tr("The remainder of such numbers"))
        return f"({texts[0]} {sign} {texts[1]})"

    def _times_joined(self, call: Call, kinds: list[Kind | None]) -> str:
        """A sum or difference with times."""
        raise self._refuse(tr("Arithmetic with such values"))

    def _do_round(self, call: Call) -> str:
        kind, text = self._kind(call.args[0]), self._number(call.args[0])
        digits = getattr(call.args[1], "value", None) if len(call.args) > 1 else None
        if len(call.args) > 1 and type(digits) is not int:
            raise self._refuse(tr("Rounding to digits that differ by row"))
        return text if kind is Kind.INT and (digits or 0) >= 0 else self._rounded(text, kind, digits)

    def _rounded(self, text: str, kind: Kind | None, digits: int | None) -> str:
        if kind is not Kind.DECIMAL:
            self._note(ROUND_NOTE)
        return f"round({text}, {digits or 0})"

    def _do_trunc(self, call: Call) -> str:
        kind, text = self._kind(call.args[0]), self._number(call.args[0])
        digits = getattr(call.args[1], "value", None) if len(call.args) > 1 else 0
        if type(digits) is not int or (digits and kind is Kind.FLOAT):
            raise self._refuse(tr("Cutting such numbers"))
        return self._cut(text, kind, digits)

    def _cut(self, text: str, kind: Kind | None, digits: int) -> str:
        return f"trunc({text})" if not digits else f"trunc({text}, {digits})"

    def _stepped(self, call: Call) -> str:
        text = self._number(call.args[0])
        return text if self._kind(call.args[0]) is Kind.INT else f"{call.name}({text})"

    def _irrational(self, call: Call) -> str:
        if call.name in self.stopping_functions:
            self._checked(call, f"{call.name}()")
        texts = [self._as_double(self._number(a)) for a in call.args]
        if call.name == "log" and len(texts) == 2:
            return f"(ln({texts[1]}) / ln({texts[0]}))"
        return f"{self._named(call.name)}({', '.join(texts)})"

    def _as_double(self, text: str) -> str:
        """A number as functions of doubles take it."""
        return text

    def _named(self, name: str) -> str:
        return "log10" if name == "log" else name

    # --- texts ---------------------------------------------------------------------------------------------------

    def _trimmed(self, call: Call) -> str:
        text, chars = self._part(call.args[0]), call.args[1] if len(call.args) > 1 else Literal(" ")
        return f"{call.name}({text}, {self._atom(chars)})"

    def _do_substring(self, call: Call) -> str:
        if not is_plain_span(call):
            raise self._refuse(tr("A substring that starts before the text"))
        return f"substring({', '.join([self._part(call.args[0]), *map(self._atom, call.args[1:])])})"

    def _joined(self, texts: list[str]) -> str:
        return f"({' || '.join(texts)})"

    def _do_both(self, call: Call) -> str:
        return self._joined([self._as_text(a) for a in call.args])

    def _do_concat(self, call: Call) -> str:
        return self._joined([f"coalesce({self._as_text(a)}, '')" for a in call.args])

    def _do_concat_ws(self, call: Call) -> str:
        return f"concat_ws({', '.join(self._as_text(a) for a in call.args)})"

    # --- choices -------------------------------------------------------------------------------------------------

    def _do_coalesce(self, call: Call) -> str:
        self._choose_among(*map(self._kind, call.args))
        if len(call.args) == 1:
            return self._atom(call.args[0])
        return f"coalesce({', '.join(self._atom(a) for a in call.args)})"

    def _do_nullif(self, call: Call) -> str:
        self._choose_among(*map(self._kind, call.args))
        test = self._compared("=", *call.args)
        return f"case when {test} then null else {self._atom(call.args[0])} end"

    def _chosen(self, call: Call) -> str:
        self._choose_among(*map(self._kind, call.args))
        kind = self._kind(call)
        texts = [self._exact(a, "<") if kind is Kind.TEXT else self._number(a) for a in call.args]
        return texts[0] if len(texts) == 1 else self._extreme(call.name, texts)

    def _extreme(self, name: str, texts: list[str]) -> str:
        """The greatest or least of several; one NULL among them would be the answer on most servers."""
        filled = [f"coalesce({', '.join([t, *(o for o in texts if o != t)])})" for t in texts]
        return f"{name}({', '.join(filled)})"

    # --- times ---------------------------------------------------------------------------------------------------

    def _do_extract(self, call: Call) -> str:
        part, of = str(getattr(call.args[0], "value", "")), call.args[1]
        return self._extracted(part, of, self._kind(of))

    def _extracted(self, part: str, of: Operand, kind: Kind | None) -> str:
        raise self._refuse(tr("The {part} of such a value", part=part))

    def _do_date_trunc(self, call: Call) -> str:
        return self._begun(str(getattr(call.args[0], "value", "")), call.args[1])

    def _begun(self, unit: str, of: Operand) -> str:
        """The beginning of the unit that a time lies in."""
        raise self._refuse(tr("The beginning of a {unit}", unit=unit))

    def _do_to_char(self, call: Call) -> str:
        form = getattr(call.args[1], "value", None)
        if not isinstance(form, str):
            raise self._refuse(tr("A form that differs by row"))
        return self._formed(call.args[0], form)

    def _formed(self, of: Operand, form: str) -> str:
        raise self._refuse(tr("This form of a time"))

    def _do_cast(self, call: Call) -> str:
        of, target = call.args[0], str(getattr(call.args[1], "value", ""))
        sizes = [getattr(a, "value", None) for a in call.args[2:]]
        if target == "text":
            text = self._as_text(of)
            return self._first_letters(text, sizes[0]) if sizes else text
        return self._cast_to(call, of, target, sizes)

    def _first_letters(self, text: str, count: object) -> str:
        return f"left({text}, {count})"

    def _cast_to(self, call: Call, of: Operand, target: str, sizes: list[object]) -> str:
        kind = self._kind(of)
        if kind is Kind.INT and target in ("integer", "bigint", "smallint"):
            self._checked(call, tr("A cast"))
            return self._number(of)
        raise self._refuse(tr("A cast to {target}", target=target))


_METHODS = {
    **dict.fromkeys("+-*/%", "_signed"), "||": "_do_both", **dict.fromkeys(("ceil", "floor"), "_stepped"),
    **dict.fromkeys(FUNCTIONS_OF_DOUBLES, "_irrational"),
    **dict.fromkeys(("trim", "ltrim", "rtrim"), "_trimmed"), **dict.fromkeys(("greatest", "least"), "_chosen"),
}  # fmt: skip
"""Functions that share a method; every other has one of its own, or is simple."""


def is_count(operand: Operand, least: int = 1) -> bool:
    """Whether an operand is a whole number of at least `least` that stands in the text."""
    value = getattr(operand, "value", None) if isinstance(operand, Literal) else None
    return type(value) is int and least <= value < 1 << 31


def is_plain_span(call: Call) -> bool:
    """Whether a substring starts inside its text and has a length."""
    return is_count(call.args[1]) and (len(call.args) < 3 or is_count(call.args[2], 0))
