"""Reading what a person typed or pasted as a value of a column, or refusing it with the reason. Nothing is rounded."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal, InvalidOperation
from typing import Any

from nimble_otter.errors import ValueRefused
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.table import Field, Kind
from nimble_otter.table.filter import parse_time
from nimble_otter.table.forms import parse, render
from nimble_otter.table.show import plain

_YES = {"yes", "true", "1", "y", "on"}
_NO = {"no", "false", "0", "n", "off"}


def read_value(text: str | None, field: Field, info: ColumnInfo) -> Any:
    """The value of `text` for a column; None is empty (NULL). Raises: ValueRefused."""
    if text is None:
        if not info.nullable or (info.key and info.word != "number"):
            raise ValueRefused(f"{info.name} may not be empty.", "The table says NOT NULL.")
        return None
    if field.kind is Kind.TIME:
        return _with_form(_time(text, info.name), field, info.name)
    if field.kind is Kind.DATE:
        return _with_form(_date(text, info.name), field, info.name)
    if field.kind is Kind.BOOL:
        word = text.strip().casefold()
        if word not in _YES | _NO:
            raise ValueRefused(f"{info.name} holds yes or no; {text[:40]!r} is neither.", "Type yes or no.")
        return word in _YES
    if info.word == "number" or field.kind.is_number:
        return _number(text, field, info)
    if info.word == "binary":
        raise ValueRefused(f"{info.name} holds binary values, which can't be typed.")
    if field.kind is Kind.OBJECT:
        raise ValueRefused(f"{info.name} holds values of several types; it can't be changed by typing yet.")
    return text


def value_text(value: Any, field: Field) -> str:
    """A value as a person would type it: what `read_value` reads back."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    return plain(render(value, field.form) if field.form else value)


def _number(text: str, field: Field, info: ColumnInfo) -> Any:
    plain = text.strip().replace("\u2009", "").replace("\u00a0", "")
    try:
        exact = Decimal(plain)
    except InvalidOperation:
        raise ValueRefused(
            f"{info.name} holds numbers; {text[:40]!r} is not one.", "Use a point before decimals."
        ) from None
    if not exact.is_finite():
        raise ValueRefused(f"{info.name} holds finite numbers.")
    whole = "INT" in info.declared.upper()
    if field.kind is Kind.DECIMAL:
        return exact
    if exact == exact.to_integral_value() and (whole or (field.kind is Kind.INT and "." not in plain)):
        if not -(1 << 63) <= int(exact) < (1 << 63):
            raise ValueRefused(
                f"{info.name} can't hold {text[:40]}: it is too large.", "It holds whole numbers of 64 bits."
            )
        return int(exact)
    if whole:
        raise ValueRefused(f"{info.name} holds whole numbers; {text[:40]} is not one.")
    near = float(exact)
    if Decimal(repr(near)) != exact:
        raise ValueRefused(f"{info.name} can't hold {text[:40]} exactly.", f"The nearest it can hold is {near!r}.")
    return near


def _time(text: str, name: str) -> dt.datetime:
    moment = parse_time(text, with_time=True)
    if not isinstance(moment, dt.datetime):
        raise ValueRefused(f"{name} holds times; {text[:40]!r} is not one.", "Type it like 2031-05-28 23:00.")
    return moment


def _date(text: str, name: str) -> dt.date:
    try:
        return dt.date.fromisoformat(text.strip())
    except ValueError:
        raise ValueRefused(f"{name} holds dates; {text[:40]!r} is not one.", "Type it like 2031-05-28.") from None


def _with_form(value: dt.date, field: Field, name: str) -> dt.date:
    """The source keeps times as text in one form; what that form can't say is refused, not cut."""
    if not field.form:
        return value
    back = parse([str(render(value, field.form))], field.form)
    unit = "M8[us]" if field.kind is Kind.TIME else "M8[D]"
    if back is None or back.astype("i8").view("M8[us]" if unit == "M8[us]" else "M8[D]").tolist()[0] != value:
        raise ValueRefused(
            f"{name} is kept as {field.form}, which can't say all of this.", "Leave the smaller parts out."
        )
    return value
