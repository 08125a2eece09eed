"""Parameters of a query: what kind of value each takes, days told relative to today, and lists for IN."""

from __future__ import annotations

import calendar
import csv
import datetime as dt
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from typing import Any

from nimble_otter.errors import QueryError
from nimble_otter.query.sql.names import Names
from nimble_otter.query.sql.scopes import NOT_NAMES, read, tokens_of
from nimble_otter.query.sql.statements import parameter_places, parameter_value
from nimble_otter.translation import tr
from nimble_otter.values import Value

KINDS = ("text", "number", "date", "time", "yes/no")
PHRASES = (
    "today", "yesterday", "start of this week", "start of last week", "start of this month", "start of last month",
    "end of last month", "start of this year", "start of last year", "end of last year", "today - 7 days",
    "today - 30 days",
)  # fmt: skip
_PHRASE = re.compile(
    r"(?P<base>today|yesterday|tomorrow|now"
    r"|(?P<edge>start|end) of (?P<which>this|last|next) (?P<part>week|month|quarter|year))"
    r"(?:\s*(?P<sign>[+-])\s*(?P<count>\d{1,4})\s*(?P<unit>day|week|month|year)s?)?",
    re.IGNORECASE,
)


@dataclass(frozen=True, slots=True)
class Use:
    """Where a parameter is used: the kind of the column it is compared with ("" where that can't be told), that column,
    and whether it stands in a list, so that it may hold several values."""

    kind: str = ""
    table: str = ""
    column: str = ""
    many: bool = False


@dataclass(frozen=True, slots=True)
class Ask:
    """What a pull says of a parameter: its `kind`, "" to tell it from the query; `choices`, a query whose first column
    gives the values to choose from."""

    kind: str = ""
    choices: str = ""


@dataclass(frozen=True, slots=True)
class Bound:
    """The text as it is sent, with a parameter for each value of a list, and the values. `moves` are the places from
    which the text is longer than it was written, each with by how much."""

    text: str
    values: Mapping[str, Any]
    moves: tuple[tuple[int, int], ...] = ()

    def written_at(self, place: int) -> int:
        """The place in the text as it was written."""
        return place - sum(more for at, more in self.moves if at <= place)


def find_uses(text: str, names: Names) -> dict[str, Use]:
    """For each parameter of a statement what it is compared with, by its first use."""
    tokens, reading = tokens_of(text), read(text, names)
    found: dict[str, Use] = {}
    for start, _, name in parameter_places(text):
        at = next((n for n, t in enumerate(tokens) if t.start >= start), len(tokens))
        before = tokens[:at]
        many = len(before) > 1 and before[-1].text in ("(", ",") and any(t.low == "in" for t in before[-4:])
        while before and (
            before[-1].text in ("=", "(", "<", ">", "!", ",", ":")
            or before[-1].low in _BETWEEN
            or before[-1].kind in ("text", "number")
            or (len(before) > 1 and before[-2].text == ":")
        ):
            before = before[:-1]
        use = Use(many=many)
        if before and before[-1].kind in ("word", "name") and before[-1].low not in NOT_NAMES:
            column = before[-1].plain
            alias = before[-3].plain.casefold() if len(before) > 2 and before[-2].text == "." else ""
            select = reading.at(start)
            for ref in select.visible() if select is not None else []:
                known = names.table(ref.table) if ref.table and (not alias or ref.alias.casefold() == alias) else None
                word = next((w for c, w in known.columns if c.casefold() == column.casefold()), None) if known else None
                if known is not None and word is not None:
                    use = Use(word if word in KINDS else "", known.name, column, many)
                    break
        if name not in found or (found[name] == Use() and use != Use()):
            found[name] = use
    return found


_BETWEEN = ("in", "not", "like", "ilike", "between", "and", "is", "distinct", "from")


def typed(text: str, kind: str, many: bool) -> Value:
    """What a field's text stands for before it is bound: several values with commas between them where a list is
    wanted, a number or text as it looks where the kind is not known."""
    if many:
        parts = next(csv.reader([text], skipinitialspace=True, quotechar="'"), []) if text.strip() else []
        values = [typed(part.strip(), kind, False) for part in parts if part.strip()]
        is_one = len(values) == 1 and "," not in str(values[0])  # else it would be taken for several, later
        return values[0] if is_one else values
    return text if kind else parameter_value(text)


def value_of(name: str, value: object, kind: str, is_set: bool, today: dt.date) -> object:
    """A value as it is bound. `is_set`: the kind was chosen, so that a value that is none is refused; a kind told from
    the query only turns phrases into days. Raises: QueryError."""
    if kind in ("date", "time") and isinstance(value, str):
        day = day_of(value, today)
        if day is not None:
            return dt.datetime.combine(day, dt.time()) if kind == "time" else day
    if not is_set or not kind:
        return value
    text = str(value).strip()
    try:
        if kind == "date":
            return value if type(value) is dt.date else dt.date.fromisoformat(text)
        if kind == "time":
            return value if isinstance(value, dt.datetime) else dt.datetime.fromisoformat(text)
        if kind == "number":
            return value if isinstance(value, (int, float)) and not isinstance(value, bool) else _number(text)
        if kind == "yes/no":
            return {"yes": True, "true": True, "1": True, "no": False, "false": False, "0": False}[text.casefold()]
    except (ValueError, KeyError, InvalidOperation) as problem:
        like = {"date": "2031-05-01, or start of last month", "time": "2031-05-01 14:00, or today", "number": "12.5",
                "yes/no": "yes or no"}[kind]  # fmt: skip
        raise QueryError(
            tr("The value of :{name} is not a valid {kind}.", name=name, kind=kind),
            tr("Write it like {like}.", like=like),
        ) from problem
    return text


def _number(text: str) -> int | Decimal:
    return int(text) if re.fullmatch(r"[+-]?\d+", text) else Decimal(text)


def day_of(phrase: str, today: dt.date) -> dt.date | None:
    """The day that a phrase means (PHRASES are examples), or None where it is none."""
    match = _PHRASE.fullmatch(" ".join(phrase.split()))
    if match is None:
        return None
    day = today + dt.timedelta(days={"yesterday": -1, "tomorrow": 1}.get(match["base"].lower(), 0))
    if match["edge"]:
        step = {"this": 0, "last": -1, "next": 1}[match["which"].lower()]
        day = _edge(today, match["part"].lower(), step, match["edge"].lower() == "end")
    if match["sign"]:
        count = int(match["count"]) * (1 if match["sign"] == "+" else -1)
        unit = match["unit"].lower()
        try:
            if unit in ("day", "week"):
                return day + dt.timedelta(days=count * (7 if unit == "week" else 1))
            return _months_on(day, count * (12 if unit == "year" else 1))
        except (OverflowError, ValueError):
            return None
    return day


def _edge(today: dt.date, part: str, step: int, is_end: bool) -> dt.date:
    """The first or last day of a week (from Monday, ISO 8601), month, quarter or year."""
    if part == "week":
        monday = today - dt.timedelta(days=today.weekday() - 7 * step)
        return monday + dt.timedelta(days=6 if is_end else 0)
    months = {"month": 1, "quarter": 3, "year": 12}[part]
    first = today.replace(day=1, month=(today.month - 1) // months * months + 1)
    first = _months_on(first, step * months)
    return _months_on(first, months) - dt.timedelta(days=1) if is_end else first


def _months_on(day: dt.date, months: int) -> dt.date:
    """So many months later, on the same day or the month's last."""
    total = day.year * 12 + day.month - 1 + months
    year, month = divmod(total, 12)
    return dt.date(year, month + 1, min(day.day, calendar.monthrange(year, month + 1)[1]))


def bind(
    text: str,
    parameters: Mapping[str, object],
    asks: Mapping[str, Ask] | None = None,
    uses: Mapping[str, Use] | None = None,
    today: dt.date | None = None,
) -> Bound:
    """The values as they are bound: days worked out, and lists spread over parameters of their own. Raises:
    QueryError."""
    asks, uses, today = asks or {}, uses or {}, today or dt.date.today()
    values: dict[str, Any] = {}
    for name, value in parameters.items():
        kind = asks[name].kind if name in asks else ""
        is_set = bool(kind)
        kind = kind or (uses[name].kind if name in uses else "")
        if isinstance(value, str) and name in uses and uses[name].many:
            value = typed(value, kind, True)
        each = value if isinstance(value, (list, tuple)) else [value]
        items = [value_of(name, one, kind, is_set, today) if one is not None else None for one in each]
        values[name] = items if isinstance(value, (list, tuple)) else items[0]
    pieces, at, moves = [], 0, []
    lists = {name: value for name, value in values.items() if isinstance(value, list)}
    length = 0
    for start, end, name in parameter_places(text) if lists else ():
        if name not in lists:
            continue
        spread = ", ".join(f":{name}__{n}" for n in range(1, len(lists[name]) + 1)) or "null"
        pieces += [text[at:start], spread]
        length += start - at + len(spread)
        moves.append((length, len(spread) - (end - start)))
        at = end
    for name, several in lists.items():
        del values[name]
        values |= {f"{name}__{n}": value for n, value in enumerate(several, 1)}
    return Bound("".join(pieces) + text[at:], values, tuple(moves))


def shown(value: object) -> str:
    """A parameter's value as a field shows it; `typed` reads it again."""
    if isinstance(value, (list, tuple)):
        return ", ".join(_listed(item) for item in value)
    if isinstance(value, str) and parameter_value(value) != value:
        return f"'{value}'"
    return "" if value is None else str(value)


def _listed(value: object) -> str:
    text = str(value)
    return "'" + text.replace("'", "''") + "'" if any(c in text for c in ",'") or text != text.strip() else text


def last_values(runs: Sequence[Mapping[str, object]], name: str, most: int = 6) -> list[object]:
    """The different values that a parameter had in earlier runs (their parameters, the latest at the end)."""
    results: list[Any] = []
    for parameters in reversed(runs):
        value = parameters.get(name)
        if value not in (None, "") and value not in results:
            results.append(value)
    return results[:most]
