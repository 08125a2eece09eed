"""Reading what a person typed or pasted as a value of a column, or refusing it with the reason. Nothing is rounded."""

from __future__ import annotations

import datetime as dt
import json
import re
import uuid
from decimal import Context, Decimal, InvalidOperation
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from nimble_otter.errors import ValueRefused
from nimble_otter.sources.catalogue import ColumnInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.table import MISSING, Field, Kind
from nimble_otter.table.ops.filter import parse_time
from nimble_otter.table.text.column_format import in_zone
from nimble_otter.table.text.show import plain
from nimble_otter.table.text.text_format import keeps_letters, parse, parse_span, read_styled, render, span_text
from nimble_otter.translation import tr
from nimble_otter.values import Value

_YES = {"yes", "true", "1", "y", "on"}
_NO = {"no", "false", "0", "n", "off"}
_INFINITE = {"inf": "inf", "infinity": "inf", "-inf": "-inf", "-infinity": "-inf", "nan": "nan"}
_WIDE = Context(prec=400, Emin=-999_999, Emax=999_999)
"""More digits than any server's decimals have."""
_LONGEST_TIME = dt.timedelta(hours=838, minutes=59, seconds=59)
_STYLED = {
    Kind.ZONED: (tr("times with a zone"), tr("Type it like 2031-05-28 23:00:00+00.")),
    Kind.CLOCK: (tr("times of day"), tr("Type it like 23:00.")),
    Kind.SPAN: ("intervals", tr("Type it like 26:30:00 or 1 day 02:30:00.")),
}


def read_value(
    text: str | None, field: Field, info: ColumnInfo, dialect: Dialect = SQLITE, before: object = MISSING
) -> object:
    """The value of `text` for a column; None is NULL. A text that is what stands there (`before`) as it is shown is
    that value, whatever its type. Raises: ValueRefused."""
    if text is not None and before is not MISSING and before is not None and text == value_text(before, field):
        return before
    if text is None:
        is_numbered = info.word == "number" and (dialect.null_numbers_keys or info.generated)
        if not info.nullable or (info.key and not is_numbered):
            raise ValueRefused(
                tr("{info_name} can't be NULL.", info_name=info.name), tr("The column is declared NOT NULL.")
            )
        return None
    return dialect.check(_read(text, field, info, dialect, before), info.name)


def _read(text: str, field: Field, info: ColumnInfo, dialect: Dialect, before: object) -> Value:  # noqa: C901 - a branch for each kind of value
    declared = info.declared.upper()
    if info.word == "list" and dialect.has_lists:
        return _nested(text, info, before)
    if info.values:
        return _one_of(text, info)
    if field.kind is Kind.TIME:
        moment = _time(text, info.name)
        return _with_form(moment, field, info.name) if dialect.times_are_texts else _precise(moment, info, dialect)
    if field.kind is Kind.DATE:
        return _with_form(_date(text, info.name), field, info.name)
    if declared.startswith("INTERVAL") and dialect.has_intervals:
        return _interval(text, info)
    if field.kind in _STYLED:
        styled = _styled(text, field, info, dialect)
        return styled if isinstance(styled, str) else _precise(styled, info, dialect)
    if field.kind is Kind.BOOL or (info.word == "yes/no" and dialect.has_truth):
        word = text.strip().casefold()
        if word not in _YES | _NO:
            raise ValueRefused(
                tr("{info_name} is a boolean; {text!r} is not a valid value.", info_name=info.name, text=text[:40]),
                tr("Type yes or no."),
            )
        return word in _YES
    if info.word == "number" or field.kind.is_number:
        return _number(text, field, info, dialect, before)
    if info.word == "binary":
        raise ValueRefused(
            tr("{info_name} holds binary values, which can't be typed.", info_name=info.name),
            tr("Load one from a file."),
        )
    if info.word == "nested":
        return _nested(text, info, before)
    if declared.startswith("UUID"):
        try:
            return str(uuid.UUID(text.strip()))
        except ValueError as problem:
            raise ValueRefused(
                tr("{info_name} holds UUIDs; {text!r} is not one.", info_name=info.name, text=text[:40])
            ) from problem
    if field.kind is Kind.OBJECT:
        return _mixed(text, info)
    return _fitting(text, info, dialect)


def value_text(value: object, field: Field) -> str:
    """A value as a person would type it: what `read_value` reads back."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return json.dumps(_as_json(value), ensure_ascii=False)
    return plain(render(value, field.form) if field.form else value)


def _one_of(text: str, info: ColumnInfo) -> str:
    if info.declared.upper().startswith("SET"):
        parts = text.split(",") if text else []
        wrong = [part for part in parts if part not in info.values]
        if wrong:
            raise ValueRefused(
                tr(
                    "{info_name}: allowed values: {values}. {wrong!r} is not one of them.",
                    info_name=info.name,
                    values=", ".join(info.values),
                    wrong=wrong[0][:40],
                )
            )
        return ",".join(value for value in info.values if value in parts)
    if text not in info.values:
        raise ValueRefused(
            tr(
                "{info_name}: allowed values: {values}. {text!r} is not one of them.",
                info_name=info.name,
                values=", ".join(info.values),
                text=text[:40],
            )
        )
    return text


def _fitting(text: str, info: ColumnInfo, dialect: Dialect) -> str:
    """A text that is not too long for its column; SQLite holds texts of any length in every column."""
    match = re.match(r"(?:N?VAR|N?)CHAR(?:ACTER)?(?: VARYING)?\((\d+)\)", info.declared.upper())
    if match and not dialect.is_loose and len(text) > int(match[1]):
        raise ValueRefused(
            tr(
                "{info_name} holds {match} characters; this has {text_count}.",
                info_name=info.name,
                match=match[1],
                text_count=len(text),
            ),
            tr("Shorten it."),
        )
    return text


def _mixed(text: str, info: ColumnInfo) -> object:
    """In a column without a type of its own, what looks like a number is one."""
    plain_text = text.strip()
    if re.fullmatch(r"-?\d{1,18}", plain_text):
        return int(plain_text)
    if re.fullmatch(r"-?\d+\.\d+", plain_text) and Decimal(repr(float(plain_text))) == Decimal(plain_text):
        return float(plain_text)
    return text


def _nested(text: str, info: ColumnInfo, before: object) -> object:
    """JSON, checked; a list becomes one where the server has lists."""
    if info.word != "list" and re.search("XML|HSTORE", info.declared, re.IGNORECASE):
        return text
    if info.word == "list" and re.match(r"\s*(\{|\[-?\d+:)", text):
        return text  # in the server's own writing of lists (PostgreSQL documentation, 8.15.2)
    try:
        found = json.loads(text)
    except ValueError as problem:
        message = (
            tr("{msg} in line {lineno}", msg=problem.msg, lineno=problem.lineno)
            if isinstance(problem, json.JSONDecodeError)
            else str(problem)
        )
        raise ValueRefused(
            tr("{info_name} holds JSON; this is not JSON: {message}.", info_name=info.name, message=message)
        ) from problem
    if info.word == "list":
        if not isinstance(found, list):
            raise ValueRefused(tr("{info_name} holds lists.", info_name=info.name), tr("Type it like [1, 2, 3]."))
        return _as_items(found, _items_of(before))
    return text


def _as_json(value: object) -> object:
    """A list's items as JSON has them; what it has no form for as the text that the server writes."""
    if isinstance(value, list):
        return [_as_json(item) for item in value]
    if isinstance(value, bytes):
        return f"\\x{value.hex()}"
    return value if value is None or isinstance(value, (bool, int, float, str)) else str(value)


def _items_of(value: object) -> dict[str, object]:
    """The items of a list, those of lists in it too, by their JSON."""
    if isinstance(value, list):
        return {shown: kept for item in value for shown, kept in _items_of(item).items()}
    return {json.dumps(_as_json(value)): value}


def _as_items(found: list[object], known: dict[str, object]) -> list[object]:
    """What was typed as a list; items that stood there before are what they were, bytes too."""
    return [_as_items(i, known) if isinstance(i, list) else known.get(json.dumps(i), i) for i in found]


def _interval(text: str, info: ColumnInfo) -> str:
    """Months, days and hours stay what they are, as the server reads them (PostgreSQL documentation, 8.5.4)."""
    written = text.strip()
    if not re.fullmatch(r"[\w\s.:,+\-@]*\d[\w\s.:,+\-@]*|-?infinity", written, re.IGNORECASE):
        raise ValueRefused(
            tr("{info_name} holds intervals; {text!r} is not one.", info_name=info.name, text=text[:40]),
            _STYLED[Kind.SPAN][1],
        )
    return written


def _number(text: str, field: Field, info: ColumnInfo, dialect: Dialect, before: object = MISSING) -> Value:
    written = text.strip().replace("\u2009", "").replace("\u00a0", "")
    declared = info.declared.upper()
    if declared.startswith("MONEY") and re.fullmatch(r"\(?[-+]?\W*[\d.,']+\W*\)?", written):
        return written  # in the server's own writing of amounts
    whole = "INT" in declared or declared.startswith(("YEAR", "SERIAL", "BIGSERIAL"))
    is_decimal = field.kind is Kind.DECIMAL or (not dialect.is_loose and declared.startswith(("DECIMAL", "NUMERIC")))
    try:
        exact = Decimal(written)
    except InvalidOperation as problem:
        raise ValueRefused(
            tr("{info_name} holds numbers; {text!r} is not one.", info_name=info.name, text=text[:40]),
            tr("Use a decimal point."),
        ) from problem
    if not exact.is_finite():
        if dialect.has_endless and written.casefold() in _INFINITE and not whole and not is_decimal:
            return float(_INFINITE[written.casefold()])
        if dialect.has_endless and written.casefold() in _INFINITE and is_decimal and "(" not in declared:
            return exact
        raise ValueRefused(tr("{info_name} holds finite numbers.", info_name=info.name))
    if is_decimal:
        return _decimal(exact, text, info)
    is_whole = "." not in written and exact == exact.to_integral_value()
    if whole or (is_whole and (field.kind is Kind.INT or type(before) is int)):
        if exact != exact.to_integral_value():
            raise ValueRefused(
                tr("{info_name} holds whole numbers; {text} is not one.", info_name=info.name, text=text[:40])
            )
        low, high = dialect.bounds(declared)
        if not low <= int(exact) <= high:
            message = (
                tr("It holds {low} to {high}.", low=low, high=high)
                if high < 1 << 62
                else tr("It holds 64-bit integers.")
            )
            raise ValueRefused(
                tr("{info_name} can't hold {text}: it is out of range.", info_name=info.name, text=text[:40]), message
            )
        return int(exact)
    near = (
        float(str(np.float32(float(exact))))
        if dialect.is_single(declared) and abs(exact) < Decimal("3e38")
        else float(exact)
    )
    if Decimal(repr(near)) != exact:
        raise ValueRefused(
            tr("{info_name} can't hold {text} exactly.", info_name=info.name, text=text[:40]),
            tr("The nearest it can hold is {near!r}.", near=near),
        )
    return near


def _decimal(exact: Decimal, text: str, info: ColumnInfo) -> Decimal:
    """A decimal of a column that may say how many digits it holds: NUMERIC(8, 2)."""
    match = re.search(r"\((\d+)(?:,\s*(\d+))?\)", info.declared)
    if match:
        digits, scale = int(match[1]), int(match[2] or 0)
        if exact.adjusted() < 200 and exact != _WIDE.quantize(exact, Decimal(1).scaleb(-scale)):
            raise ValueRefused(
                tr(
                    "{info_name} holds {scale} decimals; {text} has more.",
                    info_name=info.name,
                    scale=scale,
                    text=text[:40],
                ),
                tr("Round it first."),
            )
        if exact.adjusted() >= digits - scale and exact:
            raise ValueRefused(
                tr("{info_name} can't hold {text}: it is out of range.", info_name=info.name, text=text[:40]),
                tr("It holds {digits} digits.", digits=digits),
            )
    return exact


def _time(text: str, name: str) -> dt.datetime:
    moment = parse_time(text, with_time=True)
    if not isinstance(moment, dt.datetime):
        raise ValueRefused(
            tr("{name} holds times; {text!r} is not one.", name=name, text=text[:40]),
            tr("Type it like 2031-05-28 23:00."),
        )
    return moment


def _date(text: str, name: str) -> dt.date:
    try:
        return dt.date.fromisoformat(text.strip())
    except ValueError as problem:
        raise ValueRefused(
            tr("{name} holds dates; {text!r} is not one.", name=name, text=text[:40]), tr("Type it like 2031-05-28.")
        ) from problem


def _precise(value: Value, info: ColumnInfo, dialect: Dialect) -> Value:
    """A time whose fraction the column holds: TIMESTAMP(3), and none where MariaDB says no number."""
    match = re.search(r"\((?:FSP=)?(\d)\)", info.declared.upper())
    digits = int(match[1]) if match else dialect.fraction_digits
    micros = value.microseconds if isinstance(value, dt.timedelta) else value.microsecond
    if not dialect.is_loose and micros % 10 ** (6 - digits):
        raise ValueRefused(
            tr("{info_name} holds {digits} digits after the second.", info_name=info.name, digits=digits),
            tr("Leave out the smaller parts."),
        )
    return value


def _styled(text: str, field: Field, info: ColumnInfo, dialect: Dialect) -> Value:
    """A time with its zone, a time of day or an interval."""
    message, hint = _STYLED[field.kind]
    written = text.strip()
    try:
        if field.kind is Kind.ZONED:
            moment = dt.datetime.fromisoformat(written)
            return moment.replace(tzinfo=dt.UTC) if moment.tzinfo is None else moment.astimezone(dt.UTC)
        if field.kind is Kind.SPAN:
            value: Any = parse_span(written)
        else:
            value = (read_styled([written], field.kind) or [None])[0]
            if value is None and dialect.clocks_span_days:  # TIME holds more than a day there
                span = _precise(parse_span(written), info, dialect)
                if abs(span) <= _LONGEST_TIME:
                    return span_text(span)
            if value is None:
                raise ValueError(written)
    except (ValueError, OverflowError) as problem:
        raise ValueRefused(
            tr(
                "{info_name} holds {message}; {text!r} is not one.",
                info_name=info.name,
                message=message,
                text=text[:40],
            ),
            hint,
        ) from problem
    if (
        dialect.times_are_texts
        and field.form
        and not keeps_letters([str(render(value, field.form))], [value], field.form)
    ):
        raise ValueRefused(
            tr(
                "{info_name} is kept as {form}, which can't represent all of this.",
                info_name=info.name,
                form=field.form,
            )
        )
    return value


def _with_form(value: dt.date, field: Field, name: str) -> dt.date:
    """The source keeps times as text in one form; what that form can't say is refused, not cut."""
    if not field.form:
        return value
    back = parse([str(render(value, field.form))], field.form)
    unit = "M8[us]" if field.kind is Kind.TIME else "M8[D]"
    if back is None or back.astype("i8").view("M8[us]" if unit == "M8[us]" else "M8[D]").tolist()[0] != value:
        raise ValueRefused(
            tr("{name} is kept as {form}, which can't represent all of this.", name=name, form=field.form),
            tr("Leave out the smaller parts."),
        )
    return value


def without_marks(text: str, comma: bool) -> str:
    """A number of another program without thousands' marks and with a point: "1 234,5", "1'234.5", "1.234,50". `comma`:
    what stands alone behind a comma are decimals, as its user writes them."""
    written = re.sub(r"[\s\u00a0\u2009\u202f'’]", "", text)
    if not re.fullmatch(r"[-+]?[\d.,]+", written) or "," not in written:
        return written
    last = max(written.rfind(","), written.rfind("."))
    groups = re.split(r"[.,]", written.lstrip("+-"))[1:]
    is_single = written.count(",") + written.count(".") == 1
    is_decimal = written[last] == "," and written.count(",") == 1
    if is_single and len(groups[0]) == 3 and not comma:
        return text  # 1,234 may be either: it is not guessed
    mark = written[last] if is_decimal or written[last] == "." else ""
    whole, _, rest = written.rpartition(mark) if mark else (written, "", "")
    return f"{re.sub('[.,]', '', whole)}.{rest}" if mark else re.sub("[.,]", "", written)


def zoned_text(value: dt.datetime, zone: str) -> str:
    """A time with a zone as it is typed in another one, with what that was off then."""
    return in_zone(value, zone).isoformat(" ")


def read_in_zone(text: str, zone: str, name: str) -> str:
    """A time typed without a zone, in the one that its column is shown in. Raises: ValueRefused, where clocks were put
    forward over it, or show it twice."""
    try:
        moment = dt.datetime.fromisoformat(text.strip())
    except ValueError:
        return text
    if moment.tzinfo is not None:
        return text
    own = ZoneInfo(zone)
    first, second = (moment.replace(tzinfo=own, fold=fold) for fold in (0, 1))
    if first.utcoffset() == second.utcoffset():
        return first.isoformat(" ")
    if first.astimezone(dt.UTC).astimezone(own).replace(tzinfo=None) != moment:
        raise ValueRefused(
            tr(
                "{name}: {text} does not exist in {zone}, where clocks went forward then.",
                name=name,
                text=text.strip(),
                zone=zone,
            ),
            tr("Type another time, or one with its offset."),
        )
    offsets = " or ".join(one.isoformat(" ")[-6:] for one in (first, second))
    raise ValueRefused(
        tr("{name}: {text} occurs twice in {zone}.", name=name, text=text.strip(), zone=zone),
        tr("Add the offset: {offsets}.", offsets=offsets),
    )
