"""Our own source files as syntax trees, each read once."""

import ast
from functools import cache


@cache
def tree_of(path):
    return ast.parse(path.read_text("utf-8"))


@cache
def nodes_of(path):
    return tuple(ast.walk(tree_of(path)))
