"""No part of the program needs itself to be understood: imports have no circle, those for types and those made late
among them."""

import ast
from pathlib import Path

import nimble_otter

ROOT = Path(nimble_otter.__file__).parent


def imports_of(path: Path, known: set[str]) -> set[str]:
    """Modules of the program that a file names in any import, wherever it stands."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            for alias in node.names:
                inner = f"{node.module}.{alias.name}"
                found.add(inner if inner in known else node.module)
    return found & known


def circle_in(graph: dict[str, set[str]]) -> list[str]:
    """Modules left when those that need none that is left are taken away, one after the other."""
    left = dict(graph)
    while free := [name for name, needs in left.items() if not needs & left.keys()]:
        for name in free:
            del left[name]
    return sorted(left)


def test_imports_have_no_circle():
    paths = {
        ".".join(p.relative_to(ROOT.parent).with_suffix("").parts).removesuffix(".__init__"): p
        for p in ROOT.rglob("*.py")
    }
    assert len(paths) > 300
    graph = {name: imports_of(path, set(paths)) - {name} for name, path in paths.items()}
    assert circle_in(graph) == []
    assert circle_in({**graph, "nimble_otter.stop": {"nimble_otter.table"}})  # one that is put in is found
