"""The statements of several tables' plans in an order in which one transaction can run them.

A row that is referred to is written before the rows that refer to it, and deleted once none does; what is unique is
given up before it is taken. Where rows need each other in a ring, one of them is put aside first: what is unique gets a
value that nobody has, a reference none. A ring without such a row stays as it is, for the server to tell.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Hashable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from graphlib import CycleError, TopologicalSorter
from itertools import pairwise

from nimble_otter.changes.order import candidates, folded
from nimble_otter.changes.plan import Pairs, Plan, Statement, StatementKind
from nimble_otter.changes.statement_sql import Wording

Name = tuple[int, int]
"""The number of a plan and the row of its statement."""


@dataclass(frozen=True, slots=True)
class Need:
    """What must have run before; `columns` of that row's, put aside, would do as well (none: they would not)."""

    on: Name
    columns: tuple[str, ...] = ()


@dataclass(slots=True)
class _Order:
    """Statements by their names, what each needs, and what is put aside so far."""

    plans: list[Plan]
    statements: dict[Name, Statement]
    needs: dict[Name, list[Need]] = field(default_factory=dict)
    aside: dict[Name, Pairs] = field(default_factory=dict)

    def put_aside(self, need: Need) -> bool:
        """Whether the row can be put aside."""
        at, row = need.on
        if not need.columns or self.statements[need.on].kind == StatementKind.INSERT:
            return False
        plan, held = self.plans[at], dict(self.aside.get(need.on, ()))
        if any(name in held for name in need.columns):
            return True
        refers = {name for link in plan.info.foreign for name in link.columns}
        for name in need.columns:
            info = plan.column(name)
            if info is None or info.generated or name in plan.key:
                continue
            others: list[object] = [None] if info.nullable else []
            others = others if name in refers else candidates(info, row)
            if others:
                self.aside[need.on] = (*self.aside.get(need.on, ()), (name, others[0]))
                return True
        return False


def script_of_all(plans: Sequence[Plan], head: str = "") -> str:
    """One script for the server's own client, in one transaction. `plans`: of tables of one relational source."""
    order = _ordered(plans)
    whole = [
        replace(plan, parks=tuple((row, pairs) for (own, row), pairs in order.aside.items() if own == at))
        for at, plan in enumerate(order.plans)
    ]
    words = [Wording(plan) for plan in whole]
    aside = [words[at].shown(replace(s, kind=StatementKind.UPDATE, values=order.aside[at, s.row_id], old=()))
             for (at, _), s in order.statements.items() if (at, s.row_id) in order.aside]  # fmt: skip
    texts = [words[at].shown(whole[at].as_run(s)) for (at, _), s in order.statements.items()]
    parts = [*(f"-- {line}" for line in head.splitlines()), whole[0].dialect.script_head, *aside, *texts]
    return "\n".join([*parts, "commit;", ""])


def _ordered(plans: Sequence[Plan]) -> _Order:
    """All statements in an order that works: deletes, updates and inserts, each behind those that it needs."""
    parents_first = _ranked(plans)
    wanted = ((StatementKind.DELETE, parents_first[::-1]), (StatementKind.UPDATE, parents_first),
              (StatementKind.INSERT, parents_first))  # fmt: skip
    all_of = {
        (at, s.row_id): s for kind, order in wanted for at in order for s in plans[at].statements if s.kind == kind
    }
    found = _Order(list(plans), all_of)
    found.aside.update({(at, row): pairs for at, plan in enumerate(plans) for row, pairs in plan.parks})
    found.needs = _needs(found)
    done: dict[Name, Statement] = {}
    for first in all_of:
        path = [] if first in done else [first]
        while path:
            open_needs = [need for need in found.needs[path[-1]] if need.on not in done and not _is_met(found, need)]
            ring = next((need for need in open_needs if need.on in path), None)
            if ring is not None:
                around = path[path.index(ring.on) :]
                links = [*((one, next(n for n in found.needs[one] if n.on == two))
                           for one, two in pairwise(around)), (around[-1], ring)]  # fmt: skip
                if not any(found.put_aside(need) for _, need in links):
                    found.needs[path[-1]].remove(ring)
                else:
                    path = [first]
            elif open_needs:
                path.append(open_needs[0].on)
            else:
                done[path[-1]] = all_of[path[-1]]
                path.pop()
    found.statements = done
    return found


def _is_met(found: _Order, need: Need) -> bool:
    return any(name in need.columns for name, _ in found.aside.get(need.on, ()))


def _ranked(plans: Sequence[Plan]) -> list[int]:
    """The plans' numbers, those that are referred to first."""
    by_name = {plan.info.name: at for at, plan in enumerate(plans)}
    links = {at: {by_name[f.target] for f in plan.info.foreign if by_name.get(f.target, at) != at}
             for at, plan in enumerate(plans)}  # fmt: skip
    try:
        return list(TopologicalSorter(links).static_order())
    except CycleError:
        return list(range(len(plans)))


def _needs(found: _Order) -> dict[Name, list[Need]]:
    """For each statement what must have run before it."""
    numbers = {plan.info.name: at for at, plan in enumerate(found.plans)}
    links = [[link for link in plan.info.foreign if link.target in numbers] for plan in found.plans]
    referred = [{(link.referred) for own in links for link in own if numbers[link.target] == at}
                for at in range(len(found.plans))]  # fmt: skip
    gives, frees = dict[Hashable, Name](), dict[Hashable, Name]()
    drops = defaultdict[Hashable, list[tuple[Name, tuple[str, ...]]]](list)
    wanted: list[tuple[Name, Hashable, Hashable, Hashable]] = []
    for name, statement in found.statements.items():
        at, plan = name[0], found.plans[name[0]]
        for names in {*(() if plan.by_values else (plan.key,)), *(plan.info.distinct or ())}:
            for was, now in _turned(statement, names):
                frees.update({(at, names, was): name} if was is not None else {})
                wanted.append((name, (at, names, now), None, None))
        for names in referred[at]:
            for was, now in _turned(statement, names):
                gives.update({(at, names, now): name} if now is not None else {})
                wanted.append((name, None, None, (at, names, was)))
        for link in links[at]:
            for was, now in _turned(statement, link.columns):
                there = numbers[link.target], link.referred
                wanted.append((name, None, (*there, now), None))
                if was is not None:
                    drops[(*there, was)].append((name, link.columns))
    made = {name: list[Need]() for name in found.statements}
    for name, taken, given, ended in wanted:
        own = [Need(frees[taken], taken[1])] if isinstance(taken, tuple) and taken in frees else []
        own += [Need(gives[given])] if given in gives else []
        own += [Need(*each) for each in drops.get(ended, ())] if ended is not None else []
        made[name] += [need for need in own if need.on != name]
    return made


def _turned(statement: Statement, names: tuple[str, ...]) -> Iterator[tuple[Hashable, Hashable]]:
    """What a row had in some columns and what it gets, where that differs; None for nothing, or what is not known."""
    held = {**dict(statement.seen), **dict(statement.key), **dict(statement.old)}
    new = dict(statement.values)
    is_new, is_gone = statement.kind == StatementKind.INSERT, statement.kind == StatementKind.DELETE
    was = None if is_new else folded(tuple(held.get(name) for name in names))
    now = None if is_gone else folded(tuple(new.get(name, held.get(name)) for name in names))
    if was != now:
        yield was, now
