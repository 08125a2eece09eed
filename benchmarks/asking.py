"""Completion at every key, among N tables and in a long script, and looking for problems.

    .venv/bin/python -m benchmarks.asking [TABLES]

The stick is going through the tables' names once in plain Python.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable

from nimble_otter.query.assist.completion import complete
from nimble_otter.query.assist.diagnosis import diagnose
from nimble_otter.query.documents.translation import translate_select
from nimble_otter.query.pieces.edits import routes
from nimble_otter.query.pieces.model import read_pieces
from nimble_otter.query.sql.names import Key, TableNames, names_of
from nimble_otter.query.sql.statements import Script

TIMES = 30


def best(do: Callable[[], object]) -> float:
    """Milliseconds of the quickest of some runs."""
    found = []
    for _ in range(TIMES):
        began = time.perf_counter()
        do()
        found.append((time.perf_counter() - began) * 1000)
    return min(found)


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 5000
    columns = tuple((f"column_{n}", "number") for n in range(12))
    names = names_of(
        TableNames(f"area_{n % 40}_table_{n}", "table", columns, (Key(("column_0",), "area_0_table_0", ("column_0",)),))
        for n in range(count)
    )
    stick = best(lambda: [name for name in names.folded if "tab" in name])
    queries = {
        "a table's first letters": "select * from are",
        "any two letters": "select * from ta",
        "a column in scope": "select col from area_1_table_1 a join area_2_table_2 b on a.column_0 = b.column_0",
        "a join": "select * from area_0_table_0 a join ",
    }
    print(f"stick: {stick:.2f} ms for {count} names")
    for what, text in queries.items():
        at = text.index("col") + 3 if what.startswith("a column") else len(text)
        spent = best(lambda t=text, at=at: complete(t, at, names, "postgres"))
        print(f"{what}: {spent:.1f} ms, {spent / stick:.0f} times the stick")
    text = queries["a column in scope"].replace("col ", "column_1 ")
    print(f"problems of one statement: {best(lambda: diagnose(text, names, 'postgres')):.1f} ms, in the background")
    pieces = best(lambda: read_pieces(text, 8, names))
    print(f"a query read as pieces: {pieces:.2f} ms, {pieces / stick:.1f} times the stick")
    near = read_pieces("select * from area_0_table_0 a", 8, names)
    ways = best(lambda: routes(near, names, "area_1_table_1"))
    print(f"ways to join a table, among {count} that refer to one: {ways:.1f} ms, {ways / stick:.1f} times the stick")
    asked = "select r.kind, year(r.at), count(*), avg(x.level) from report r, unnest(r.readings) x "
    asked += "join other o on o.k = r.a where lower(r.place) like '%weir%' and r.a > 3 "
    asked += "group by r.kind, year(r.at) having count(*) > 2 order by 3"
    made = best(lambda: translate_select(asked))
    print(f"SELECT over collections translated: {made:.1f} ms, {made / stick:.1f} times the stick")
    line = "select column_0, column_1 from area_1_table_1 where column_2 > 1 and column_3 = 'good';\n"
    script, whole = Script(), line * 10_000
    script.edit(whole, 0, 0, len(whole))
    at = len(line) * 5000 + 10
    longer = whole[:at] + "x" + whole[at:]

    def key() -> None:
        script.edit(longer, at, 0, 1)
        script.edit(whole, at, 1, 0)

    print(f"a key in the middle of 10 000 lines: {best(key) / 2:.1f} ms")


if __name__ == "__main__":
    main()
