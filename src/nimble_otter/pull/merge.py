"""Two people's changes of one saved pull brought together, where they do not touch."""

from __future__ import annotations

import difflib
import itertools
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from nimble_otter.pull.model import Pull
from nimble_otter.translation import tr
from nimble_otter.values import Value


@dataclass(frozen=True, slots=True)
class Merged:
    """`pull` has both changes; `theirs` are the parts that came from the other, `conflicts` those that both changed
    differently, in which `pull` has mine."""

    pull: Pull
    theirs: tuple[str, ...] = ()
    conflicts: tuple[str, ...] = ()


def merge(base: Pull, mine: Pull, theirs: Pull) -> Merged:
    """Bring `mine` and `theirs` together, both made from `base`."""
    work = _Merge()
    query, a, b, c = mine.query, base.query, mine.query, theirs.query
    text = work.sequence(tr("the query's text"), _lines(a.text), _lines(b.text), _lines(c.text))
    pull = replace(
        mine,
        name=work.value(tr("the name"), base.name, mine.name, theirs.name),
        source=work.value(tr("the source"), base.source, mine.source, theirs.source),
        query=replace(
            query,
            text="".join(text),
            language=work.value(tr("the language"), a.language, b.language, c.language),
            collection=work.value(tr("the collection"), a.collection, b.collection, c.collection),
            limit=work.value(tr("the row limit"), a.limit, b.limit, c.limit),
            parameters=work.mapping(":{}", a.parameters, b.parameters, c.parameters),
            asks=work.mapping(tr("the kind of :{}"), a.asks, b.asks, c.asks),
        ),
        steps=tuple(work.sequence(tr("the steps"), base.steps, mine.steps, theirs.steps)),
        charts=tuple(work.sequence(tr("the charts"), base.charts, mine.charts, theirs.charts)),
        send=work.value(tr("the delivery"), base.send, mine.send, theirs.send),
        widths={**theirs.widths, **mine.widths},
    )
    return Merged(pull, tuple(work.theirs), tuple(work.conflicts))


def _lines(text: str) -> list[str]:
    return text.splitlines(keepends=True)


class _Merge:
    def __init__(self) -> None:
        self.theirs: list[str] = []
        self.conflicts: list[str] = []

    def value(self, name: str, base: object, mine: object, theirs: object) -> Value:
        if theirs in (base, mine):
            return mine
        (self.theirs if mine == base else self.conflicts).append(name)
        return theirs if mine == base else mine

    def mapping(
        self, name: str, base: Mapping[str, object], mine: Mapping[str, object], theirs: Mapping[str, object]
    ) -> dict[str, Value]:
        keys = dict.fromkeys([*mine, *theirs])
        found = {k: self.value(name.format(k), base.get(k), mine.get(k), theirs.get(k)) for k in keys}
        return {k: value for k, value in found.items() if value is not None}

    def sequence(
        self, name: str, base: Sequence[object], mine: Sequence[object], theirs: Sequence[object]
    ) -> list[Value]:
        """Item by item; changes that lie next to each other touch."""
        if theirs in (base, mine):
            return list(mine)
        if mine == base:
            self.theirs.append(name)
            return list(theirs)
        changes = sorted([*_changes(base, mine), *_changes(base, theirs)], key=lambda c: c[:2])
        for first, second in itertools.pairwise(changes):
            if second[0] <= first[1] and first != second:
                self.conflicts.append(name)
                return list(mine)
        items, at = [], 0
        for start, end, new in dict.fromkeys((s, e, tuple(n)) for s, e, n in changes):
            items += [*base[at:start], *new]
            at = end
        self.theirs.append(name)
        return [*items, *base[at:]]


def _changes(base: Sequence[object], other: Sequence[object]) -> list[tuple[int, int, list[object]]]:
    """(start, end, what stands there instead) of every stretch of `base` that is another."""
    tokens: dict[str, int] = {}
    number: Callable[[Any], int] = lambda item: tokens.setdefault(repr(item), len(tokens))  # noqa: E731
    matcher = difflib.SequenceMatcher(None, [number(i) for i in base], [number(i) for i in other], autojunk=False)
    return [(a, b, list(other[c:d])) for tag, a, b, c, d in matcher.get_opcodes() if tag != "equal"]
