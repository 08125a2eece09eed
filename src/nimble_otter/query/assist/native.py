"""What can come next in a native request to a document server: fields, operators and stages, by their place in the
JSON that is being typed. Names are those of the MongoDB protocol's query language."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from nimble_otter.query.assist.completion import Completion, Offer, ranked
from nimble_otter.translation import tr

STAGES = {
    "$match": tr("documents that fit"),
    "$project": tr("choose fields"),
    "$addFields": tr("work out fields"),
    "$group": "group",
    "$sort": "order",
    "$limit": tr("at most so many"),
    "$skip": tr("leave out the first"),
    "$unwind": tr("one document an item"),
    "$lookup": tr("join a collection"),
    "$count": tr("how many"),
    "$facet": tr("several at once"),
    "$sample": tr("some at random"),
    "$bucket": tr("group by ranges"),
    "$replaceRoot": tr("an inner object instead"),
    "$unset": tr("leave fields out"),
    "$sortByCount": tr("values with counts"),
    "$unionWith": tr("and another collection"),
}
LOGIC = {
    "$and": tr("all hold"),
    "$or": tr("one holds"),
    "$nor": tr("none holds"),
    "$expr": tr("an expression"),
    "$text": tr("text search"),
}
COMPARISONS = {
    "$eq": "equal",
    "$ne": tr("not equal"),
    "$gt": tr("more than"),
    "$gte": tr("at least"),
    "$lt": tr("less than"),
    "$lte": tr("at most"),
    "$in": tr("one of"),
    "$nin": tr("none of"),
    "$exists": tr("has the field"),
    "$type": tr("of a type"),
    "$regex": tr("fits a pattern"),
    "$options": tr("of the pattern"),
    "$size": tr("list of so many"),
    "$all": tr("list with all"),
    "$elemMatch": tr("an item fits"),
    "$not": tr("does not"),
    "$mod": "remainder",
}
ACCUMULATORS = {
    "$sum": "sum",
    "$avg": "mean",
    "$min": "least",
    "$max": "most",
    "$first": "first",
    "$last": "last",
    "$push": "list",
    "$addToSet": tr("different values"),
    "$count": tr("how many"),
    "$stdDevPop": tr("standard deviation"),
}
EXPRESSIONS = {
    "$add": "sum",
    "$subtract": "difference",
    "$multiply": "product",
    "$divide": "quotient",
    "$concat": tr("join texts"),
    "$toLower": tr("small letters"),
    "$toUpper": "capitals",
    "$substrCP": tr("part of a text"),
    "$cond": tr("if then else"),
    "$ifNull": tr("instead of empty"),
    "$dateTrunc": tr("start of a unit"),
    "$dateToString": tr("date as text"),
    "$year": "year",
    "$month": "month",
    "$dayOfMonth": "day",
    "$size": tr("length of a list"),
    "$map": tr("each item"),
    "$filter": tr("some items"),
    "$round": "rounded",
    "$toString": tr("as text"),
    "$toInt": tr("as a whole number"),
}
_FIELDED = ("$match", "$project", "$addFields", "$set", "$sort", "$unset")


def complete_native(
    text: str, position: int, fields: Sequence[tuple[str, str]], collections: Sequence[str] = (),
    used: Mapping[str, int] | None = None,
) -> Completion:  # fmt: skip
    """Offers for a caret inside a JSON text's quotes; `fields` are dotted paths with their types."""
    place = _place(text[:position])
    if place is None:
        return Completion(position)
    start, above, is_key = place
    typed = text[start:position]
    offers: list[Offer] = []
    if is_key:
        offers = _keys(above, fields)
    elif above[-1:] == ["from"] or above[-1:] == ["$unionWith"]:
        offers = [Offer(name, "table", "collection") for name in collections]
    elif above[-1:] not in (["$regex"], ["$options"], ["as"]):
        offers = [Offer(f"${path}", "column", word) for path, word in fields]
        if above[-1:] in (["$unset"], ["localField"], ["$exists"]):
            offers = [Offer(path, "column", word) for path, word in fields]
    return Completion(start, tuple(ranked(offers, typed, used or {})))


def _keys(above: list[str], fields: Sequence[tuple[str, str]]) -> list[Offer]:
    """Offers for a name in an object; `above` are the names around it, outermost first, "[]" for a list."""
    paths = [Offer(path, "column", word) for path, word in fields]
    names = [name for name in above if name != "[]"]
    if above == ["[]"]:
        return _named(STAGES)
    if not names or names[-1] in ("$match", "$and", "$or", "$nor"):
        return paths + _named(LOGIC)
    if names[-1] == "$group":
        return [Offer("_id", "column", tr("what to group by"))]
    if names[-1] == "$lookup":
        words = {"from": "collection", "localField": "here", "foreignField": "there", "as": tr("name of the list")}
        return [Offer(name, "keyword", note) for name, note in words.items()]
    if names[-1] in _FIELDED:
        return paths
    if len(names) > 1 and names[-2] == "$group":
        return _named(EXPRESSIONS if names[-1] == "_id" else ACCUMULATORS)
    if any(name in ("$project", "$addFields", "$set", "$expr", "$group") for name in names):
        return _named(EXPRESSIONS)
    return _named(COMPARISONS)


def _named(words: Mapping[str, str]) -> list[Offer]:
    return [Offer(name, "function", note) for name, note in words.items()]


def _place(before: str) -> tuple[int, list[str], bool] | None:  # noqa: C901 - a branch for each sign
    """(where the open quote's content begins, the names around it, whether it is a name); None outside of quotes."""
    above: list[str] = []
    kinds: list[str] = []
    pending, is_value = "", False
    for match in re.finditer(r'"(?:[^"\\]|\\.)*("|\Z)|[{}\[\]:,]', before, re.DOTALL):
        token = match[0]
        if token[0] == '"':
            if not match[1]:
                inside_list = bool(kinds) and kinds[-1] == "["
                is_name = not is_value and bool(kinds) and not inside_list
                return match.start() + 1, [*above, *([pending] if is_value and pending else [])], is_name
            if not is_value:
                pending = token[1:-1]
        elif token in "{[":
            if is_value and pending:
                above.append(pending)
                kinds.append("")  # taken away with what it names
            if token == "[":
                above.append("[]")
            kinds.append(token)
            pending, is_value = "", token == "["
        elif token in "}]":
            while kinds and kinds.pop() == "":
                pass
            if token == "]" and above:
                above.pop()
            if kinds and kinds[-1] == "":
                kinds.pop()
                del above[-1:]  # brackets that do not pair may have taken it already
            pending, is_value = "", bool(kinds) and kinds[-1] == "["
        elif token == ":":
            is_value = True
        else:
            pending, is_value = "", bool(kinds) and kinds[-1] == "["
    return None
