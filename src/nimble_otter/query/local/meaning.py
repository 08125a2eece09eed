"""What the functions and signs of the local language take and give: PostgreSQL's meaning, as one table. The reader of
conditions asks it, `docs/local-sql.md` is written from it, and what is not in it is refused where it stands."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal

from nimble_otter.table.core.columns import Kind, Table
from nimble_otter.table.ops.conditions import Call, Case, ColumnAt, Literal, Operand, Windowed
from nimble_otter.table.ops.dates import PARTS, UNITS
from nimble_otter.table.ops.functions import as_kind
from nimble_otter.translation import tr

NUMBERS = (Kind.INT, Kind.FLOAT, Kind.DECIMAL)
MOMENTS = (Kind.DATE, Kind.TIME, Kind.ZONED)
_CLASSES: dict[str, tuple[Kind, ...]] = {
    "number": NUMBERS, "whole": (Kind.INT,), "text": (Kind.TEXT,), "moment": MOMENTS, "stamp": (Kind.TIME, Kind.ZONED),
    "part": (*MOMENTS, Kind.CLOCK, Kind.SPAN), "span": (Kind.SPAN,), "any": tuple(Kind),
}  # fmt: skip
SAID = {
    Kind.INT: tr("a whole number"), Kind.FLOAT: tr("a number"), Kind.DECIMAL: tr("a decimal"), Kind.TEXT: "text",
    Kind.BOOL: tr("a boolean"), Kind.TIME: tr("a time"), Kind.ZONED: tr("a time with zone"), Kind.DATE: tr("a date"),
    Kind.CLOCK: tr("a time of day"), Kind.SPAN: tr("an interval"), Kind.UUID: tr("a UUID"), Kind.OBJECT: tr("a value"),
}  # fmt: skip
_WANTED = {"number": tr("a number"), "whole": tr("a whole number"), "text": "text", "moment": tr("a date or time"),
           "stamp": tr("a time"), "part": tr("a date, a time or an interval"), "span": tr("an interval")}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Form:
    """How a function is called: for each argument the class of kinds that it takes, how many of them are needed (the
    last one may be repeated where `many`), and the kind that it gives (None: that of its first argument)."""

    name: str
    takes: tuple[str, ...]
    least: int
    gives: Kind | None
    says: str
    many: bool = False

    def wants(self, place: int) -> str:
        """The kind that its argument at a place must have."""
        return self.takes[min(place, len(self.takes) - 1)]

    def fits(self, count: int) -> bool:
        """Whether it takes so many arguments."""
        return count >= self.least and (self.many or count <= len(self.takes))

    @property
    def written(self) -> str:
        """How it is written."""
        parts = [f"[{t}]" if n >= self.least else t for n, t in enumerate(self.takes)]
        return f"{self.name}({', '.join(parts)}{', …' if self.many else ''})"


_TABLE = """
abs(number) same: The size of a number.
sign(number) same: -1, 0 or 1.
round(number [whole]) same: Halves away from zero; a double without digits to the nearest even number.
ceil(number) same: The next whole number above.
floor(number) same: The next whole number below.
trunc(number [whole]) same: Cut towards zero.
sqrt(number) number: NULL below zero.
power(number number) number: a ^ b; a double.
exp(number) number: A double.
ln(number) number: NULL from zero down.
log(number [number]) number: To base 10, or log(base, x).
mod(number number) same: a % b; has the sign of a.
lower(text) text: Letter by letter.
upper(text) text: Letter by letter; one that would become two stays.
initcap(text) text: The first letter of each word large, all others small.
length(text) integer: In characters.
trim(text [text]) text: Takes blanks off both ends, or any of the characters given, trim(both 'x' from t).
ltrim(text [text]) text: The same at the beginning.
rtrim(text [text]) text: The same at the end.
substring(text whole [whole]) text: From the n-th character, counted from 1: substring(t from 2 for 3).
left(text whole) text: The first n characters; all but the last n where n is negative.
right(text whole) text: The last n characters; all but the first n where n is negative.
lpad(text whole [text]) text: Filled at the beginning to a length, or cut to it.
rpad(text whole [text]) text: Filled at the end to a length, or cut to it.
repeat(text whole) text: Several times.
reverse(text) text: From its end.
replace(text text text) text: Each place of one text by another.
overlay(text text whole [whole]) text: overlay(t placing 'x' from 2 for 3).
strpos(text text) integer: Where a part begins, from 1; 0 where it is not: position(part in t).
starts_with(text text) yes/no: Whether it begins so.
split_part(text text whole) text: The n-th part; from the end where n is negative.
regexp_replace(text text text [text]) text: The first match, all with the flag 'g'; 'i' without regard to case.
concat(any) text …: Everything that is not NULL, as text.
concat_ws(text any) text …: The same with a text between.
coalesce(any) same …: The first that is not NULL.
nullif(any any) same: NULL where the two are equal.
greatest(any) same …: The largest that is not NULL.
least(any) same …: The smallest that is not NULL.
extract(unit part) number: extract(year from t), year(t), month(t), day(t), hour(t) and so on.
date_trunc(unit moment) time: The beginning of the unit that a time is in; weeks begin on Monday.
to_char(moment text) text: By a form such as 'YYYY-MM-DD HH24:MI'.
datediff(moment moment) integer: Whole days from the second date to the first.
"""


def _read(line: str) -> Form:
    head, _, says = line.partition(": ")
    call, _, gives = head.partition(") ")
    name, _, inside = call.partition("(")
    many, gives = gives.endswith("…"), gives.removesuffix("…").strip()
    takes = inside.split()
    least = next((n for n, t in enumerate(takes) if t.startswith("[")), len(takes))
    kinds = {"number": Kind.FLOAT, "time": Kind.TIME, "same": None}
    kind = kinds[gives] if gives in kinds else Kind(gives)
    return Form(name, tuple(t.strip("[]") for t in takes), least, kind, says, many)


FORMS = {form.name: form for form in map(_read, _TABLE.strip().splitlines())}
"""By name; see also ALIKE."""
ALIKE = {"ceiling": "ceil", "pow": "power", "substr": "substring", "char_length": "length", "btrim": "trim",
         "character_length": "length", "position": "strpos", "log10": "log", "date_part": "extract"}  # fmt: skip
"""Other names of the same functions."""
CALLED = {"mod": "%", "datediff": "days", "strpos": "position"}
"""Functions that are another one of functions.FUNCTIONS."""
CASTS = {
    "text": "text", "varchar": "text", "char": "text", "bpchar": "text", "smallint": "smallint", "int": "integer",
    "bigint": "bigint", "double": "double", "float": "real", "decimal": "decimal", "boolean": "bool", "date": "date",
    "timestamp": "time", "timestamptz": "zoned", "datetime": "time", "time": "clock", "interval": "span",
    "uuid": "uuid",
}  # fmt: skip
"""What a type's name in CAST makes of a value; see functions.as_kind."""
_CAST_KINDS = {
    "text": Kind.TEXT, "smallint": Kind.INT, "integer": Kind.INT, "bigint": Kind.INT, "double": Kind.FLOAT,
    "real": Kind.FLOAT, "decimal": Kind.DECIMAL, "bool": Kind.BOOL, "date": Kind.DATE, "time": Kind.TIME,
    "zoned": Kind.ZONED, "clock": Kind.CLOCK, "span": Kind.SPAN, "uuid": Kind.UUID,
}  # fmt: skip
_CASTABLE: dict[str, tuple[Kind, ...]] = {
    "text": tuple(Kind), **dict.fromkeys(("smallint", "bigint"), NUMBERS), "integer": (*NUMBERS, Kind.BOOL),
    **dict.fromkeys(("double", "real", "decimal"), NUMBERS), "bool": (Kind.BOOL, Kind.INT),
    **dict.fromkeys(("date", "time", "zoned"), MOMENTS), "clock": (Kind.CLOCK, Kind.SPAN, Kind.TIME, Kind.ZONED),
    "span": (Kind.SPAN, Kind.CLOCK), "uuid": (Kind.UUID,),
}  # fmt: skip
WINDOW_KINDS = {"avg": Kind.FLOAT, "percent_rank": Kind.FLOAT, "cume_dist": Kind.FLOAT, "stddev": Kind.FLOAT,
                "stddev_samp": Kind.FLOAT, "stddev_pop": Kind.FLOAT, "variance": Kind.FLOAT, "var_pop": Kind.FLOAT,
                "var_samp": Kind.FLOAT, "row_number": Kind.INT, "rank": Kind.INT, "dense_rank": Kind.INT,
                "ntile": Kind.INT, "count": Kind.INT, "median": Kind.FLOAT}  # fmt: skip


class Mismatch(Exception):
    """Kinds that do not go together: what to say of it, and what to do."""


def kind_of(operand: Operand, table: Table) -> Kind | None:
    """The kind that an operand has in all rows; None where that is not known before (mixed values, no values), and
    for NULL and texts in quotes, which take the kind that is wanted."""
    if isinstance(operand, ColumnAt):
        if operand.path or operand.index >= len(table.columns):
            return None
        column, field = table.columns[operand.index], table.fields[operand.index]
        if column.kind is Kind.OBJECT:
            return Kind.DECIMAL if field.numbers else None
        return None if (column.empty is not None and bool(column.empty.all())) or not len(column) else column.kind
    if isinstance(operand, Literal):
        return None if operand.value is None or isinstance(operand.value, str) else kind_of_value(operand.value)
    if isinstance(operand, Case):
        values = [value for _, value in operand.branches] + [operand.default]
        return next((k for k in (kind_of(v, table) for v in values) if k is not None), None)
    if isinstance(operand, Windowed):
        known = WINDOW_KINDS.get(operand.name)
        return known or (kind_of(operand.args[0], table) if operand.args else None)
    return operand.gives if isinstance(operand, Call) else None


def kind_of_value(value: object) -> Kind:
    """The kind that a literal has."""
    if isinstance(value, dt.datetime):
        return Kind.TIME if value.tzinfo is None else Kind.ZONED
    kinds = {bool: Kind.BOOL, int: Kind.INT, float: Kind.FLOAT, Decimal: Kind.DECIMAL, str: Kind.TEXT,
             dt.date: Kind.DATE, dt.time: Kind.CLOCK, dt.timedelta: Kind.SPAN}  # fmt: skip
    return kinds.get(type(value), Kind.OBJECT)


def wanted(operand: Operand, want: str, table: Table) -> Operand:
    """An argument as a function takes it: a text in quotes becomes what is wanted. Raises: Mismatch."""
    kind = kind_of(operand, table)
    if isinstance(operand, Literal) and isinstance(operand.value, str) and want not in ("any", "text"):
        targets = {"number": ("decimal",), "whole": ("integer",), "moment": ("date", "time"), "stamp": ("time",),
                   "part": ("date", "time", "clock", "span"), "span": ("span",)}[want]  # fmt: skip
        return adapted(operand, targets, _WANTED[want])
    if kind is None or want == "any" or kind in _CLASSES[want]:
        return operand
    raise Mismatch(tr("takes {wanted} here; this is {said}", wanted=_WANTED[want], said=SAID[kind]), _way_to(want))


def _way_to(want: str) -> str:
    types = {"number": "numeric", "whole": "integer", "text": "text", "moment": "timestamp", "stamp": "timestamp"}
    return tr("Write cast(... as {types}).", types=types[want]) if want in types else ""


def adapted(operand: Literal, targets: Sequence[str], said: str) -> Literal:
    """A text in quotes as the first of the types that it can be read as. Raises: Mismatch."""
    for target in targets:
        try:
            made = as_kind(operand.value, target)
        except (ValueError, ArithmeticError, KeyError):
            continue
        if target == "decimal" and made == made.to_integral_value() and made.as_tuple().exponent == 0:
            made = int(made)
        return Literal(made)
    raise Mismatch(tr("takes {said} here; {operand_value!r} is not one", said=said, operand_value=operand.value), "")


_AS: dict[Kind, tuple[str, ...]] = {
    Kind.INT: ("decimal",), Kind.DECIMAL: ("decimal",), Kind.FLOAT: ("double",), Kind.BOOL: ("bool",),
    Kind.DATE: ("date", "time"), Kind.TIME: ("date", "time"), Kind.ZONED: ("zoned",), Kind.CLOCK: ("clock",),
    Kind.SPAN: ("span",), Kind.UUID: ("uuid",),
}  # fmt: skip


def like_other(operand: Operand, other: Kind | None) -> Operand:
    """A text in quotes as the kind of what it stands beside. Raises: Mismatch."""
    if isinstance(operand, Literal) and isinstance(operand.value, str) and other in _AS:
        return adapted(operand, _AS[other], SAID[other])
    return operand


def alike(operands: Sequence[Operand], table: Table) -> tuple[tuple[Operand, ...], Kind | None]:
    """Values of which one is chosen: all of one class of kinds. Raises: Mismatch."""
    kinds = [k for k in (kind_of(o, table) for o in operands) if k is not None]
    if not kinds:
        return tuple(operands), None
    for kind in kinds[1:]:
        if kind is not kinds[0] and not any(kind in c and kinds[0] in c for c in (NUMBERS, MOMENTS)):
            raise Mismatch(
                tr(
                    "takes values of one kind; here stand {kind} and {other_kind}",
                    kind=SAID[kinds[0]],
                    other_kind=SAID[kind],
                ),
                _CAST,
            )
    widest = next((k for k in (Kind.FLOAT, Kind.DECIMAL) if k in kinds), kinds[0])
    if kinds[0] in MOMENTS:
        widest = next((k for k in (Kind.ZONED, Kind.TIME) if k in kinds), Kind.DATE)
    return tuple(_as_moment(like_other(o, widest), widest, table) for o in operands), widest


def _as_moment(operand: Operand, kind: Kind, table: Table) -> Operand:
    """A date or time among times, or times with a zone, as one of them."""
    own = kind_of(operand, table)
    if own is None or own is kind or kind not in MOMENTS:
        return operand
    return Call("cast", (operand, Literal("zoned" if kind is Kind.ZONED else "time")), kind)


def as_span(operand: Operand, table: Table) -> Operand:
    """A time of day as the interval since midnight; others as they are."""
    is_clock = kind_of(operand, table) is Kind.CLOCK
    return Call("cast", (operand, Literal("span")), Kind.SPAN) if is_clock else operand


_CAST = tr("Write one of them in a cast, such as cast(... as text).")


def go_together(one: Kind, other: Kind) -> bool:
    """Whether values of two kinds can be compared."""
    classes = (NUMBERS, MOMENTS, (Kind.TEXT, Kind.UUID), (Kind.BOOL, Kind.INT))
    return one is other or any(one in c and other in c for c in classes)


def combined(sign: str, left: Operand, right: Operand, table: Table) -> tuple[Operand, Operand, Kind | None]:
    """The two sides of an arithmetic sign, and the kind of what it gives. Raises: Mismatch."""
    a, b = kind_of(left, table), kind_of(right, table)
    left, right = _beside(left, b, sign), _beside(right, a, sign)
    a, b = kind_of(left, table), kind_of(right, table)
    if a is None or b is None:
        known = a or b
        if known is not None and known not in (*NUMBERS, *MOMENTS, Kind.CLOCK, Kind.SPAN):
            raise Mismatch(
                tr("takes numbers, times and intervals; this is {said}", said=SAID[known]), _way_to("number")
            )
        return left, right, None
    if a in NUMBERS and b in NUMBERS:
        widest = next((k for k in (Kind.FLOAT, Kind.DECIMAL) if k in (a, b)), Kind.INT)
        return left, right, widest
    kind = _GIVES.get((sign, a, b)) or (_GIVES.get((sign, b, a)) if sign in "+*" else None)
    if kind is None and Kind.CLOCK in (a, b) and Kind.TEXT not in (a, b):
        return combined(sign, as_span(left, table), as_span(right, table), table)
    if kind is None:
        raise Mismatch(
            tr("can't join {kind} and {other_kind}", kind=SAID[a], other_kind=SAID[b]),
            _CAST if Kind.TEXT in (a, b) else "",
        )
    return left, right, kind


def _beside(operand: Operand, other: Kind | None, sign: str) -> Operand:
    if other in NUMBERS:
        return like_other(operand, Kind.DECIMAL)
    is_text = isinstance(operand, Literal) and isinstance(operand.value, str)
    if not is_text or other is None:
        return operand
    assert isinstance(operand, Literal)
    if other in MOMENTS:
        return adapted(
            operand, ("date", "time") if sign == "-" else ("span",), tr("a time") if sign == "-" else SAID[Kind.SPAN]
        )
    return like_other(operand, other)


def _gives() -> dict[tuple[str, Kind, Kind], Kind]:
    found: dict[tuple[str, Kind, Kind], Kind] = {}
    for sign in "+-":
        found[sign, Kind.DATE, Kind.INT] = Kind.DATE
        found[sign, Kind.SPAN, Kind.SPAN] = Kind.SPAN
        found[sign, Kind.CLOCK, Kind.SPAN] = Kind.CLOCK
        for kind in MOMENTS:
            found[sign, kind, Kind.SPAN] = Kind.ZONED if kind is Kind.ZONED else Kind.TIME
    for one in MOMENTS:
        for other in MOMENTS:
            found["-", one, other] = Kind.INT if one is other is Kind.DATE else Kind.SPAN
    found["-", Kind.CLOCK, Kind.CLOCK] = Kind.SPAN
    found["+", Kind.DATE, Kind.CLOCK] = Kind.TIME
    for number in NUMBERS:
        found["*", Kind.SPAN, number] = found["/", Kind.SPAN, number] = Kind.SPAN
    return found


_GIVES = _gives()


def cast_kind(operand: Operand, target: str, table: Table) -> Kind:
    """The kind that a cast gives. Raises: Mismatch where there is none such."""
    kind = kind_of(operand, table)
    if kind is not None and kind is not Kind.TEXT and kind not in _CASTABLE[target]:
        hint = tr("Cast it to integer first.") if kind is Kind.BOOL and _CAST_KINDS[target] in NUMBERS else ""
        raise Mismatch(
            tr("can't make {kind} {other_kind}", kind=SAID[kind], other_kind=SAID[_CAST_KINDS[target]]), hint
        )
    return _CAST_KINDS[target]


def check_part(part: str, operand: Operand, table: Table) -> Kind:
    """Whether a value of this kind has such a part, and the kind of it. Raises: Mismatch."""
    kind = kind_of(operand, table)
    clock = ("hour", "minute", "second", "millisecond", "microsecond")
    has: Callable[[str], bool] = {
        Kind.DATE: lambda p: p not in clock, Kind.CLOCK: lambda p: p in (*clock, "epoch"),
        Kind.SPAN: lambda p: p in (*clock[1:], "epoch"),
    }.get(kind or Kind.TIME, lambda p: True)  # fmt: skip
    if part not in PARTS:
        raise Mismatch(tr("knows no part {part}", part=part), tr("There are {parts}.", parts=", ".join(PARTS)))
    if not has(part):
        hint = tr("Write extract(epoch from ...) / 3600.") if kind is Kind.SPAN else ""
        raise Mismatch(tr("finds no {part} in {said}", part=part, said=SAID[kind or Kind.TIME]), hint)
    is_exact = part in ("second", "millisecond") or (part == "epoch" and kind is not Kind.DATE)
    return Kind.DECIMAL if is_exact else Kind.INT


def check_unit(unit: str) -> None:
    """Raises: Mismatch for what is no unit of DATE_TRUNC."""
    if unit not in UNITS:
        raise Mismatch(tr("knows no unit {unit}", unit=unit), tr("There are {units}.", units=", ".join(UNITS)))
