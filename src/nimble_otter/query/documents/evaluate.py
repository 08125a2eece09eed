"""Aggregation pipelines over documents held in memory: the stages and expressions that SELECT needs. For servers that
have none, and for the demo's stand-in.

What a pipeline means follows the MongoDB manual (aggregation stages and operators; comparison order of BSON types).
What is not here raises NotHere.
"""

from __future__ import annotations

import calendar
import datetime as dt
import math
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cmp_to_key
from typing import Any

from nimble_otter.query.documents.match import matches
from nimble_otter.query.documents.order import MISSING, NotHere, compare, rank
from nimble_otter.translation import tr
from nimble_otter.values import Value

Document = dict[str, Any]
Find = Callable[[str], Iterable[Document]]
_STEPS = {"week": dt.timedelta(7), "day": dt.timedelta(1), "hour": dt.timedelta(hours=1),
          "minute": dt.timedelta(minutes=1), "second": dt.timedelta(seconds=1)}  # fmt: skip


def run(documents: Iterable[Document], stages: Sequence[Mapping[str, object]], find: Find) -> list[Document]:
    """The documents behind all stages; `find` gives another collection's. Raises: NotHere, ValueError."""
    rows = list(documents)
    for stage in stages:
        ((name, told),) = stage.items()
        made = _STAGES.get(name)
        if made is None:
            raise NotHere(name)
        rows = made(rows, told, find)
    return rows


# --- values ----------------------------------------------------------------------------------------------------------


def _at(value: object, path: Sequence[str]) -> Value:
    for index, name in enumerate(path):
        if isinstance(value, list):
            inner = [_at(item, path[index:]) for item in value]
            return [item for item in inner if item is not MISSING]
        value = value.get(name, MISSING) if isinstance(value, Mapping) else MISSING
        if value is MISSING:
            break
    return value


def _put(document: Document, path: Sequence[str], value: object) -> None:
    for name in path[:-1]:
        inner = document.get(name)
        document[name] = document = dict(inner) if isinstance(inner, Mapping) else {}
    if value is MISSING:
        document.pop(path[-1], None)
    else:
        document[path[-1]] = value


def _same(value: Value) -> object:
    """Something that can be counted by, the same for values that are equal."""
    if isinstance(value, Mapping):
        return ("object", tuple((k, _same(v)) for k, v in value.items()))
    if isinstance(value, list):
        return ("list", tuple(map(_same, value)))
    return (rank(value), float(value) if rank(value) == 2 and not _is_big(value) else value)


def _is_big(value: object) -> bool:
    return isinstance(value, int) and abs(value) > 2**53


# --- expressions -----------------------------------------------------------------------------------------------------


def work_out(told: object, names: Mapping[str, object]) -> Value:
    """The value of an expression; `names` are its variables, with the document as ROOT."""
    if isinstance(told, str) and told.startswith("$$"):
        name, _, path = told[2:].partition(".")
        value = dt.datetime.now(dt.UTC).replace(tzinfo=None) if name == "NOW" else names.get(name, MISSING)
        return _at(value, path.split(".")) if path else value
    if isinstance(told, str) and told.startswith("$"):
        return _at(names["ROOT"], told[1:].split("."))
    if isinstance(told, list):
        return [None if (v := work_out(item, names)) is MISSING else v for item in told]
    if not isinstance(told, Mapping):
        return told
    if len(told) == 1 and next(iter(told)).startswith("$"):
        ((name, inner),) = told.items()
        return _operate(name, inner, names)
    made = {name: work_out(inner, names) for name, inner in told.items()}
    return {name: value for name, value in made.items() if value is not MISSING}


def _is_true(value: object) -> bool:
    return value is not MISSING and value is not None and value is not False and value != 0


def _operate(name: str, told: Value, names: Mapping[str, Value]) -> object:
    lazy = _LAZY.get(name)
    if lazy is not None:
        return lazy(told, names)
    if name in _NAMED:
        given = {key: work_out(inner, names) for key, inner in told.items()}
        main = next(iter(given.values()))
        return None if main is None or main is MISSING else _NAMED[name](given)
    if name in _COMPARED:
        left, right = (work_out(side, names) for side in told)
        return _COMPARED[name](compare(left, right))
    if name not in _VALUES:
        raise NotHere(name)
    raw = told if isinstance(told, list) else [told]
    given_list = [work_out(item, names) for item in raw]
    if name in _TAKES_NULL:
        return _VALUES[name](*given_list)
    if any(value is None or value is MISSING for value in given_list):
        return None
    return _VALUES[name](*given_list)


def _cond(told: Value, names: Mapping[str, Value]) -> object:
    test, then, other = told if isinstance(told, list) else (told["if"], told["then"], told["else"])
    return work_out(then if _is_true(work_out(test, names)) else other, names)


def _switch(told: Value, names: Mapping[str, Value]) -> object:
    for branch in told["branches"]:
        if _is_true(work_out(branch["case"], names)):
            return work_out(branch["then"], names)
    return work_out(told.get("default"), names)


def _if_null(told: Value, names: Mapping[str, Value]) -> object:
    value: Any = None
    for item in told:
        value = work_out(item, names)
        if value is not None and value is not MISSING:
            break
    return None if value is MISSING else value


def _filter(told: Value, names: Mapping[str, Value]) -> Value:
    items = work_out(told["input"], names)
    if items is None or items is MISSING:
        return None
    name = told.get("as", "this")
    return [item for item in items if _is_true(work_out(told["cond"], {**names, name: item}))]


def _map(told: Value, names: Mapping[str, Value]) -> Value:
    items = work_out(told["input"], names)
    if items is None or items is MISSING:
        return None
    return [work_out(told["in"], {**names, told.get("as", "this"): item}) for item in items]


def _reduce(told: Value, names: Mapping[str, Value]) -> Value:
    items, value = work_out(told["input"], names), work_out(told["initialValue"], names)
    if items is None or items is MISSING:
        return None
    for item in items:
        value = work_out(told["in"], {**names, "value": value, "this": item})
    return value


def _let(told: Value, names: Mapping[str, Value]) -> object:
    return work_out(told["in"], {**names, **{k: work_out(v, names) for k, v in told["vars"].items()}})


def _convert(told: Value, names: Mapping[str, Value]) -> object:
    value = work_out(told["input"], names)
    if value is None or value is MISSING:
        return work_out(told.get("onNull"), names)
    return _as(value, told["to"])


def _as(value: object, kind: str) -> object:
    """Raises: ValueError."""
    if kind == "string":
        if isinstance(value, bool):
            return str(value).lower()
        if isinstance(value, dt.datetime):
            return value.isoformat(timespec="milliseconds") + "Z"
        return f"{value:g}" if isinstance(value, float) and value == int(value) else str(value)
    if kind == "date":
        return value if isinstance(value, dt.datetime) else dt.datetime.fromisoformat(str(value))
    if kind == "bool":
        return bool(value) if not isinstance(value, str) else True
    return {"int": int, "long": int, "double": float, "decimal": float}[kind](value)


_LAZY: dict[str, Callable[[Any, Mapping[str, Any]], Any]] = {
    "$cond": _cond, "$switch": _switch, "$ifNull": _if_null, "$filter": _filter, "$map": _map, "$reduce": _reduce,
    "$let": _let, "$convert": _convert, "$literal": lambda told, names: told,
    "$and": lambda told, names: all(_is_true(work_out(t, names)) for t in told),
    "$or": lambda told, names: any(_is_true(work_out(t, names)) for t in told),
    "$not": lambda told, names: not _is_true(work_out(told[0] if isinstance(told, list) else told, names)),
}  # fmt: skip
_COMPARED: dict[str, Callable[[int], Any]] = {
    "$eq": lambda c: c == 0, "$ne": lambda c: c != 0, "$lt": lambda c: c < 0, "$lte": lambda c: c <= 0,
    "$gt": lambda c: c > 0, "$gte": lambda c: c >= 0, "$cmp": lambda c: c,
}  # fmt: skip


def _plus(*values: Value) -> object:
    times = [v for v in values if isinstance(v, dt.datetime)]
    rest = sum(v for v in values if not isinstance(v, dt.datetime))
    return times[0] + dt.timedelta(milliseconds=rest) if times else rest


def _minus(left: Value, right: Value) -> object:
    if isinstance(left, dt.datetime):
        ms = dt.timedelta(milliseconds=1)
        return (left - right) / ms if isinstance(right, dt.datetime) else left - right * ms
    return left - right


def _rounded(value: float, digits: int = 0) -> object:
    return value if isinstance(value, int) and digits >= 0 else float(round(value, int(digits)))


def _extreme(values: Sequence[object], way: int) -> object:
    items = values[0] if len(values) == 1 and isinstance(values[0], list) else values
    known = [v for v in items if v is not None and v is not MISSING]
    best = known[0] if known else None
    for value in known[1:]:
        best = value if compare(value, best) * way > 0 else best
    return best


def _total(*values: object) -> Value:
    items = values[0] if len(values) == 1 and isinstance(values[0], list) else values
    return sum(v for v in items if rank(v) == 2)


def _kind(value: object) -> str:
    if isinstance(value, bool):
        return "bool"
    words = ((int, "int"), (float, "double"), (str, "string"), (Mapping, "object"), (list, "array"),
             (dt.datetime, "date"), (bytes, "binData"))  # fmt: skip
    if value is MISSING:
        return "missing"
    return "null" if value is None else next((word for kind, word in words if isinstance(value, kind)), "objectId")


def _different(left: list[object], right: list[object]) -> list[object]:
    gone = {_same(v) for v in right}
    return list({_same(v): v for v in left if _same(v) not in gone}.values())


def _element(items: object, place: int) -> object:
    return items[place] if isinstance(items, list) and -len(items) <= place < len(items) else MISSING


def _cased(value: object, change: Callable[[str], str]) -> str:
    """Letters of ASCII only, as a server without a collation does it."""
    text = "" if value is None or value is MISSING else str(value)
    return "".join(change(c) if c.isascii() else c for c in text)


_VALUES: dict[str, Callable[..., Any]] = {
    "$add": _plus, "$subtract": _minus, "$multiply": lambda *v: math.prod(v), "$divide": lambda a, b: a / b,
    "$mod": math.fmod, "$abs": abs, "$ceil": math.ceil, "$floor": math.floor, "$sqrt": math.sqrt, "$ln": math.log,
    "$exp": math.exp, "$pow": lambda a, b: a**b, "$trunc": lambda v, n=0: math.trunc(v * 10**n) / 10**n,
    "$round": _rounded, "$max": lambda *v: _extreme(v, 1), "$min": lambda *v: _extreme(v, -1), "$sum": _total,
    "$toLower": lambda v: _cased(v, str.lower),
    "$toUpper": lambda v: _cased(v, str.upper), "$strLenCP": len,
    "$substrCP": lambda t, a, n: "" if t in (None, MISSING) else t[a : a + n], "$concat": lambda *v: "".join(v),
    "$indexOfCP": lambda t, p: t.find(p), "$toString": lambda v: _as(v, "string"), "$in": lambda v, items: any(
        compare(v, item) == 0 for item in items), "$size": len, "$isArray": lambda v: isinstance(v, list),
    "$arrayElemAt": _element, "$setDifference": _different, "$type": _kind, "$isNumber": lambda v: rank(v) == 2,
    "$mergeObjects": lambda *v: {k: x for d in v if isinstance(d, Mapping) for k, x in d.items()},
    "$year": lambda d: d.year, "$month": lambda d: d.month, "$dayOfMonth": lambda d: d.day, "$hour": lambda d: d.hour,
    "$minute": lambda d: d.minute, "$second": lambda d: d.second, "$dayOfYear": lambda d: d.timetuple().tm_yday,
    "$dayOfWeek": lambda d: d.isoweekday() % 7 + 1, "$isoDayOfWeek": lambda d: d.isoweekday(),
    "$isoWeek": lambda d: d.isocalendar()[1],
}  # fmt: skip
_TAKES_NULL = ("$max", "$min", "$sum", "$toLower", "$toUpper", "$substrCP", "$in", "$isArray", "$type", "$isNumber",
               "$mergeObjects")  # fmt: skip


def _moved(date: dt.datetime, unit: str, amount: int) -> dt.datetime:
    if unit in _STEPS:
        return date + _STEPS[unit] * amount
    months = date.month - 1 + amount * {"month": 1, "quarter": 3, "year": 12}[unit]
    year, month = date.year + months // 12, months % 12 + 1
    return date.replace(year=year, month=month, day=min(date.day, calendar.monthrange(year, month)[1]))


def _cut(date: dt.datetime, unit: str) -> dt.datetime:
    if unit == "week":
        date, unit = date - dt.timedelta(days=date.weekday()), "day"
    if unit == "quarter":
        date, unit = date.replace(month=(date.month - 1) // 3 * 3 + 1), "month"
    order = ("year", "month", "day", "hour", "minute", "second", "microsecond")
    least = {"month": 1, "day": 1}
    parts: dict[str, Any] = {part: least.get(part, 0) for part in order[order.index(unit) + 1 :]}
    return date.replace(**parts)


_NAMED: dict[str, Callable[[dict[str, Any]], Any]] = {
    "$dateAdd": lambda g: _moved(g["startDate"], g["unit"], g["amount"]),
    "$dateSubtract": lambda g: _moved(g["startDate"], g["unit"], -g["amount"]),
    "$dateTrunc": lambda g: _cut(g["date"], g["unit"]),
    "$dateDiff": lambda g: (_cut(g["endDate"], "day") - _cut(g["startDate"], "day")).days,
    "$dateToString": lambda g: g["date"].strftime(g.get("format", "%Y-%m-%dT%H:%M:%S.%fZ")),
    "$trim": lambda g: g["input"].strip(g.get("chars")), "$ltrim": lambda g: g["input"].lstrip(g.get("chars")),
    "$rtrim": lambda g: g["input"].rstrip(g.get("chars")),
    "$replaceAll": lambda g: g["input"].replace(g["find"], g["replacement"]),
    "$regexMatch": lambda g: re.search(g["regex"], g["input"], _flags(g.get("options", ""))) is not None,
}  # fmt: skip


def _flags(options: str) -> int:
    known = {"i": re.IGNORECASE, "s": re.DOTALL, "m": re.MULTILINE}
    return sum(known[o] for o in options)


# --- stages ----------------------------------------------------------------------------------------------------------


def _match(rows: list[Document], told: Value, find: Find) -> list[Document]:
    test, plain = told.get("$expr"), {k: v for k, v in told.items() if k != "$expr"}
    kept = [r for r in rows if matches(plain, r)] if plain else rows
    return [r for r in kept if _is_true(work_out(test, {"ROOT": r}))] if "$expr" in told else kept


def _set(rows: list[Document], told: Value, find: Find) -> list[Document]:
    items = []
    for row in rows:
        new = dict(row)
        for name, inner in told.items():
            _put(new, name.split("."), work_out(inner, {"ROOT": row}))
        items.append(new)
    return items


def _project(rows: list[Document], told: Value, find: Find) -> list[Document]:
    picks = {k: v for k, v in told.items() if not (k == "_id" and v in (0, False))}
    if all(v in (0, False) and not isinstance(v, str) for v in picks.values()):
        gone = {k.split(".")[0] for k in told} if not any("." in k for k in told) else None
        if gone is None:
            raise NotHere(tr("leaving out inner fields"))
        return [{k: v for k, v in row.items() if k not in gone} for row in rows]
    kept = [name.split(".") for name, inner in picks.items() if inner in (1, True) and not isinstance(inner, str)]
    made = {n: inner for n, inner in picks.items() if n.split(".") not in kept}
    if "_id" not in told:
        kept.append(["_id"])
    items = []
    for row in rows:
        new: Document = _picked(row, kept)
        for name, inner in made.items():
            value = work_out(inner, {"ROOT": row})
            if value is not MISSING:
                _put(new, name.split("."), value)
        items.append(new)
    return items


def _picked(value: Value, paths: Sequence[Sequence[str]]) -> Value:
    """A document with some of its fields, in its own order; of lists of documents those of each."""
    if isinstance(value, list):
        return [_picked(item, paths) for item in value if isinstance(item, (Mapping, list))]
    new: Document = {}
    for name, inner in value.items():
        deeper = [path[1:] for path in paths if path[0] == name]
        if any(not path for path in deeper):
            new[name] = inner
        elif deeper and isinstance(inner, (Mapping, list)):
            new[name] = _picked(inner, deeper)
    return new


def _group(rows: list[Document], told: Value, find: Find) -> list[Document]:
    groups: dict[Any, tuple[Any, list[Document]]] = {}
    for row in rows:
        key = work_out(told["_id"], {"ROOT": row})
        groups.setdefault(_same(key), (None if key is MISSING else key, []))[1].append(row)
    items = []
    for key, members in groups.values():
        new = {"_id": key}
        for name, figure in told.items():
            if name != "_id":
                ((sign, inner),) = figure.items()
                new[name] = _figure(sign, [work_out(inner, {"ROOT": row}) for row in members])
        items.append(new)
    return items


def _figure(sign: str, values: list[Value]) -> object:
    numbers = [v for v in values if rank(v) == 2]
    if sign == "$sum":
        return sum(numbers)
    if sign == "$avg":
        return sum(numbers) / len(numbers) if numbers else None
    if sign in ("$min", "$max"):
        return _extreme([values], 1 if sign == "$max" else -1)
    if sign == "$push":
        return [v for v in values if v is not MISSING]
    if sign == "$addToSet":
        return list({_same(v): v for v in values if v is not MISSING}.values())
    if sign in ("$first", "$last"):
        return None if values[0 if sign == "$first" else -1] is MISSING else values[0 if sign == "$first" else -1]
    if sign in ("$stdDevSamp", "$stdDevPop"):
        count, less = len(numbers), int(sign == "$stdDevSamp")
        if count <= less:
            return None
        mean = sum(numbers) / count
        return math.sqrt(sum((v - mean) ** 2 for v in numbers) / (count - less))
    raise NotHere(sign)


def _sort(rows: list[Document], told: Value, find: Find) -> list[Document]:
    for name, way in reversed(list(told.items())):
        path = name.split(".")

        def key(row: Document, path: Sequence[str] = path) -> Value:
            value = _at(row, path)
            return None if value is MISSING else value

        rows = sorted(rows, key=lambda row: cmp_to_key(compare)(key(row)), reverse=way == -1)
    return rows


def _unwind(rows: list[Document], told: Value, find: Find) -> list[Document]:
    told = {"path": told} if isinstance(told, str) else told
    path, values = told["path"][1:].split("."), []
    for row in rows:
        value = _at(row, path)
        items = value if isinstance(value, list) else [] if value in (None, MISSING) else [value]
        is_list = isinstance(value, list)
        if not items and told.get("preserveNullAndEmptyArrays"):
            items = [MISSING if is_list or value is MISSING else None]
            is_list = False
        for index, item in enumerate(items):
            new = dict(row)
            _put(new, path, item)
            if told.get("includeArrayIndex"):
                new[told["includeArrayIndex"]] = index if is_list else None
            values.append(new)
    return values


def _lookup(rows: list[Document], told: Value, find: Find) -> list[Document]:
    if "let" in told:
        raise NotHere("$lookup with let")
    others = run(find(told["from"]), told.get("pipeline", []), find)
    if "localField" not in told:
        return [{**row, told["as"]: others} for row in rows]
    by: dict[Any, list[Document]] = {}
    for other in others:
        value = _at(other, told["foreignField"].split("."))
        for item in value if isinstance(value, list) else [value]:
            by.setdefault(_same(None if item is MISSING else item), []).append(other)
    values = []
    for row in rows:
        value = _at(row, told["localField"].split("."))
        items = value if isinstance(value, list) else [value]
        results = [o for item in items for o in by.get(_same(None if item is MISSING else item), [])]
        values.append({**row, told["as"]: results})
    return values


def _replace(rows: list[Document], told: Value, find: Find) -> list[Document]:
    return [work_out(told["newRoot"], {"ROOT": row}) for row in rows]


def _facet(rows: list[Document], told: Value, find: Find) -> list[Document]:
    return [{name: run(rows, stages, find) for name, stages in told.items()}]


def _union(rows: list[Document], told: Value, find: Find) -> list[Document]:
    told = {"coll": told} if isinstance(told, str) else told
    return [*rows, *run(find(told["coll"]), told.get("pipeline", []), find)]


_STAGES: dict[str, Callable[[list[Document], Any, Find], list[Document]]] = {
    "$match": _match, "$set": _set, "$addFields": _set, "$project": _project, "$group": _group, "$sort": _sort,
    "$skip": lambda rows, told, find: rows[told:], "$limit": lambda rows, told, find: rows[:told], "$unwind": _unwind,
    "$lookup": _lookup, "$replaceRoot": _replace, "$replaceWith": lambda rows, told, find: _replace(
        rows, {"newRoot": told}, find), "$facet": _facet, "$unionWith": _union,
    "$count": lambda rows, told, find: [{told: len(rows)}] if rows else [],
    "$unset": lambda rows, told, find: [
        {k: v for k, v in row.items() if k not in ([told] if isinstance(told, str) else told)} for row in rows],
}  # fmt: skip
