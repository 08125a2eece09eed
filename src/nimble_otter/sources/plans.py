"""A server's plan of a query, as a tree that reads the same for every kind of server."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from nimble_otter.translation import tr
from nimble_otter.values import Value


@dataclass(frozen=True, slots=True)
class PlanNode:
    """One step of a plan. `name` is what is done ("Seq Scan on reading"), `detail` the conditions that go with it,
    `rows` how many the server expects, `cost` in the server's own unit, of this step and all under it."""

    name: str
    detail: str = ""
    rows: float | None = None
    cost: float | None = None
    children: tuple[PlanNode, ...] = ()

    def lines(self, depth: int = 0) -> list[tuple[int, PlanNode]]:
        """Every step with its depth, from the top."""
        return [(depth, self), *(line for child in self.children for line in child.lines(depth + 1))]


def of_sqlite(rows: Sequence[tuple[int, int, int, str]]) -> PlanNode:
    """From EXPLAIN QUERY PLAN: (id, parent, _, text)."""

    def under(parent: int) -> tuple[PlanNode, ...]:
        return tuple(PlanNode(text, children=under(own)) for own, above, _, text in rows if above == parent)

    return PlanNode("query", children=under(0))


def of_postgresql(plan: Mapping[str, Value]) -> PlanNode:
    """From EXPLAIN (FORMAT JSON)."""
    name = str(plan.get("Node Type", "step"))
    if plan.get("Join Type") not in (None, "Inner"):
        name = f"{name} ({str(plan['Join Type']).lower()})"
    index, relation = plan.get("Index Name"), plan.get("Relation Name")
    name += tr(" using {index}", index=index) if index else ""
    name += tr(" on {relation}", relation=relation) if relation else ""
    keys = ("Filter", "Index Cond", "Hash Cond", "Merge Cond", "Join Filter", "Recheck Cond", "Sort Key", "Group Key")
    detail = "; ".join(f"{key.lower()}: {_flat(plan[key])}" for key in keys if plan.get(key))
    return PlanNode(
        name, detail, plan.get("Plan Rows"), plan.get("Total Cost"),
        tuple(of_postgresql(child) for child in plan.get("Plans", [])),
    )  # fmt: skip


def of_mariadb(plan: Mapping[str, object]) -> PlanNode:
    """From EXPLAIN FORMAT=JSON: nested blocks, of which tables and operations are kept."""
    return replace(PlanNode("query", children=_blocks(plan.get("query_block", plan))), cost=_cost(plan))


def _cost(plan: Mapping[str, Value]) -> float | None:
    cost = (plan.get("query_block") or {}).get("cost") if isinstance(plan.get("query_block"), Mapping) else None
    return float(cost) if cost is not None else None


def _blocks(block: object) -> tuple[PlanNode, ...]:
    plan_nodes: list[PlanNode] = []
    if isinstance(block, list):
        for item in block:
            plan_nodes += _blocks(item)
    elif isinstance(block, Mapping):
        for name, inner in block.items():
            if name == "table" and isinstance(inner, Mapping):
                plan_nodes.append(_table(inner))
            elif isinstance(inner, Mapping) and name not in ("cost_info",):
                plan_nodes.append(PlanNode(name.replace("_", " "), children=_blocks(inner)))
            elif isinstance(inner, list) and any(isinstance(item, Mapping) for item in inner):
                blocks = _blocks(inner)
                plan_nodes += blocks if name == "nested_loop" else (PlanNode(name.replace("_", " "), children=blocks),)
    return tuple(plan_nodes)


_ACCESS = {
    "ALL": tr("read all of"),
    "const": tr("one row of"),
    "eq_ref": tr("look up"),
    "ref": tr("look up"),
    "range": tr("range of"),
    "index": tr("read the index of"),
}


def _table(table: Mapping[str, Value]) -> PlanNode:
    access = str(table.get("access_type", "read"))
    how = _ACCESS.get(access, access)
    name = f"{how} {table.get('table_name', '')}" + (tr(" using {key}", key=table["key"]) if table.get("key") else "")
    detail = str(table.get("attached_condition", ""))
    rows = table.get("rows", table.get("rows_examined_per_scan"))
    return PlanNode(
        name, detail, rows, table.get("cost"), _blocks({k: v for k, v in table.items() if k == "materialized"})
    )


def of_documents(explained: Mapping[str, Value]) -> PlanNode:
    """From the explain command: the winning plan's stages."""
    planner = explained.get("queryPlanner") or {}
    stages = explained.get("stages")
    if not planner and isinstance(stages, list):
        children = []
        for stage in stages:
            name, inner = next(iter(stage.items()))
            children.append(of_documents(inner) if name == "$cursor" else PlanNode(name, _flat(inner)))
        return PlanNode("pipeline", children=tuple(children))
    winning = planner.get("winningPlan") or {}
    return _stage(winning) if winning else PlanNode("query", _flat(explained))


def _stage(stage: Mapping[str, Value]) -> PlanNode:
    inner = [stage[k] for k in ("inputStage", "queryPlan") if isinstance(stage.get(k), Mapping)]
    inner += [s for s in stage.get("inputStages", []) if isinstance(s, Mapping)]
    name = str(stage.get("stage", "stage")) + (
        tr(" using {index}", index=stage["indexName"]) if stage.get("indexName") else ""
    )
    words = {"COLLSCAN": tr("read the whole collection"), "IXSCAN": tr("read an index"), "FETCH": tr("fetch documents")}
    for word, plain in words.items():
        name = re.sub(rf"^{word}\b", plain, name)
    detail = "; ".join(f"{k}: {_flat(stage[k])}" for k in ("filter", "indexBounds", "sortPattern") if stage.get(k))
    return PlanNode(name, detail, children=tuple(_stage(s) for s in inner))


def _flat(value: object) -> str:
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)
