"""Calls of routines: the text that calls one, with a parameter for each of its arguments."""

from __future__ import annotations

import re
from collections.abc import Callable

from nimble_otter.query.sql.parameters import KINDS, Ask
from nimble_otter.sources.catalogue import TableInfo
from nimble_otter.sources.dialects import Dialect
from nimble_otter.sources.reflect import word_of

_ARGUMENT = re.compile(
    r'(?:(?P<mode>IN|OUT|INOUT|VARIADIC)\s+)?(?:(?P<name>"(?:[^"]|"")*"|\w+)\s+)?(?P<type>.+)',
    re.IGNORECASE | re.DOTALL,
)


def call_of(routine: TableInfo, dialect: Dialect, quoted: Callable[[str], str]) -> tuple[str, dict[str, Ask]]:
    """(text, what is asked of each parameter). Functions are selected from, procedures called; an argument that only
    gives something back is left to the server."""
    match = re.match(r"\((.*)\) → (.*)$", routine.comment, re.DOTALL)
    arguments, result = (match[1], match[2]) if match else ("", "procedure")
    is_procedure = result.strip().lower() == "procedure"
    bare = routine.bare.split("(")[0]
    name = f"{quoted(routine.schema)}.{quoted(bare)}" if routine.schema else quoted(bare)
    given, asks = [], dict[str, Ask]()
    for number, argument in enumerate(_split(arguments), 1):
        found = _ARGUMENT.match(argument)
        assert found is not None
        if (found["mode"] or "").upper() == "OUT":
            given += ["null"] if is_procedure and dialect.passes_outputs else []
            continue
        own = re.sub(r"\W+", "_", found["name"] or "").strip("_") or f"argument_{number}"
        kind = word_of(found["type"].split(" DEFAULT ")[0])
        asks[own] = Ask(kind if kind in KINDS else "")
        given.append(f":{own}")
    call = f"{name}({', '.join(given)})"
    if is_procedure:
        return f"call {call}", asks
    return (f"select *\nfrom {call}" if dialect.selects_from_functions else f"select {call} as {quoted(bare)}"), asks


def _split(arguments: str) -> list[str]:
    """Arguments apart at the commas outside of brackets."""
    results, depth, at = [], 0, 0
    for index, char in enumerate(arguments):
        depth += {"(": 1, ")": -1}.get(char, 0)
        if char == "," and depth == 0:
            results.append(arguments[at:index].strip())
            at = index + 1
    return [part for part in [*results, arguments[at:].strip()] if part]
