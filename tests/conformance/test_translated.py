"""What steps look like in the SQL of each server, by a few letters of a digest: a change of it is to be meant, and
proven again by the servers (test_upstream.py, test_engines.py). `python -m tests.conformance.test_translated` writes
them anew."""

import datetime as dt
import re
from decimal import Decimal
from hashlib import sha256
from pathlib import Path
from textwrap import fill

import pytest

from nimble_otter.errors import OtterError
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.upstream import move_up
from nimble_otter.sources import Source
from nimble_otter.table import Field, Kind, Table
from nimble_otter.table.core.build import column_of
from tests.conformance.test_upstream import DUCK, ODD, ROWS, odd_steps
from tests.servers.test_engines import CLICKHOUSE, SPARK

NOTED = Path(__file__).with_name("translated.txt")
_KINDS = {"i": int, "j": int, "f": float, "r": float, "d": Decimal, "n": Decimal, "b": lambda text: text == "1",
          "day": dt.date.fromisoformat, "at": dt.datetime.fromisoformat,
          "few": lambda text: dt.datetime.fromisoformat(text).replace(tzinfo=dt.UTC)}  # fmt: skip


def odd_table(declared):
    """The odd rows as a table, with the types that a server has for its columns."""
    fields, columns = [Field("id", Kind.INT)], [column_of(list(range(8)))]
    for name, cells in ROWS.items():
        values = [None if cell == "null" else _KINDS.get(name, str)(cell.strip("'")) for cell in cells]
        if name == "few" and "zone" not in declared[name] and not re.search("tz|UTC|timestamp$", declared[name]):
            values = [value and value.replace(tzinfo=None) for value in values]
        columns.append(column_of(values))
        fields.append(Field(name, columns[-1].kind, declared=declared[name]))
    return Table(tuple(fields), tuple(columns), 8)


def digests(parser, declared):
    """Some letters for the texts of all steps that begin alike."""
    table, told = odd_table(declared), {}
    for text, step in odd_steps():
        pull = Pull("p", Source("s", "x"), Query("select * from odd_rows"), (step,))
        try:
            moved = move_up(pull, 0, table, parser, lambda name: f'"{name}"')
            said = f"{moved.pull.query.text} {moved.notes}"
        except OtterError as problem:
            said = str(problem)
        told.setdefault((re.match(r"\w+", text) or "-")[0], sha256()).update(f"{text}: {said}\n".encode())
    return {name: held.hexdigest()[:6] for name, held in told.items()}


def all_declared():
    """By the parser's name of a dialect, the types of the odd columns."""
    named = {p: {n: kinds[at] for n, kinds in ODD.items()} for at, p in enumerate(("postgres", "mysql", "sqlite"))}
    engines = {"spark": SPARK.odd, "clickhouse": CLICKHOUSE.odd}
    return named | engines | {"duckdb": {name: DUCK.get(name, "varchar") for name in ODD}}


def noted():
    """What was written down, by the dialect."""
    parts = (part.partition(":") for part in NOTED.read_text().split("\n\n"))
    return {parser: dict(pair.split("=") for pair in rest.split()) for parser, _, rest in parts}


@pytest.mark.parametrize("parser", all_declared())
def test_steps_are_written_as_they_were_proven(parser):
    assert digests(parser, all_declared()[parser]) == noted()[parser]


if __name__ == "__main__":
    made = {parser: digests(parser, declared) for parser, declared in all_declared().items()}
    parts = (f"{parser}: " + " ".join(f"{n}={d}" for n, d in told.items()) for parser, told in made.items())
    NOTED.write_text("\n\n".join(fill(part, 118, break_on_hyphens=False) for part in parts) + "\n")
