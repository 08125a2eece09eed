"""Bringing a table into line with another: on each server, after writing, nothing differs; the reversal restores."""

import copy
import datetime as dt
import random

import bson
import pytest

from nimble_otter.changes import rehearse, write, write_each
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.align import Side, Wanted, align, reserve
from nimble_otter.pull.catalogue_rows import catalogue_rows
from nimble_otter.pull.compare_large import blocks, compare_by_ranges, compare_ordered, in_order
from nimble_otter.pull.shaped import all_rows
from nimble_otter.pull.steps.compare import CompareStep
from nimble_otter.sources import Source
from nimble_otter.stop import NEVER
from nimble_otter.table import View
from nimble_otter.table.ops.compare import ONLY_HERE, compare_views
from tests.conformance.test_write_back import place  # noqa: F401
from tests.conformance.test_write_documents import Pull as Documents
from tests.conformance.test_write_documents import client  # noqa: F401
from tests.proofs import how_many, proven

TYPES = {
    "sqlite": "integer text real text date", "postgresql": "integer text float8 numeric(9,3) timestamptz",
    "mariadb": "integer varchar(40) double decimal(9,3) datetime(6)",
}  # fmt: skip


class Pair:
    """Two tables of one shape with random rows, many of them the same; the key has one column or two."""

    def __init__(self, place, seed):  # noqa: F811
        self.place, self.chance = place, random.Random(seed)
        kinds = dict(zip(("number", "word", "real", "exact", "moment"), TYPES[place.kind].split(), strict=True))
        self.keys = self.chance.choice([["k"], ["k", "w"]])
        columns = [("k", f"{kinds['number']} not null"), ("w", "varchar(9) not null")]
        columns += list(zip("ntrdm", kinds.values(), strict=True))
        extra = f", primary key ({', '.join(self.keys)})"
        self.names = [place.table(columns, extra), place.table(columns, extra)]
        rows = [[self.row(n) for n in range(self.chance.randint(0, 12))]]
        kept = [row for row in rows[0] if self.chance.random() < 0.8]
        new = [self.row(n) for n in range(20, 20 + self.chance.randint(0, 4))]
        rows.append([row if self.chance.random() < 0.6 else self.changed(row) for row in kept] + new)
        for name, own in zip(self.names, rows, strict=True):
            for row in own:
                place.do(f"insert into {place.quote(name)} values ({', '.join(map(self.literal, row))})")

    def row(self, number, chance=random):
        pick = getattr(self, "chance", chance).choice
        return [number, f"w{number % 3}", pick([None, 0, -7, 2**31 - 1]), pick([None, "", "it's", "a\nb", "ü€😀"]),
                pick([None, 0.1, -2.5e10, 1e-7]), pick([None, "1.250", "-999999.999", "0.000"]),
                pick([None, "2031-05-01 04:30:00", "1999-12-31 23:59:59"])]  # fmt: skip

    def changed(self, row):
        new = self.row(row[0])
        return [*row[:2], *(b if self.chance.random() < 0.5 else a for a, b in zip(row[2:], new[2:], strict=True))]

    @staticmethod
    def literal(value):
        return (
            "null"
            if value is None
            else repr(value)
            if isinstance(value, (int, float))
            else "'" + value.replace("'", "''") + "'"
        )

    def compared(self):
        """The left table as it can be changed, and the differences."""
        left, right = (self.place.bench(name) for name in self.names)
        step = CompareStep("other", tuple(self.keys), rows=View(right.table))
        return left, step.apply(all_rows(left.table), NEVER).compared

    def rows(self, side):
        table = self.place.bench(self.names[side]).table
        return sorted(zip(*(column.values() for column in table.columns), strict=True), key=repr)


@pytest.mark.parametrize("seed", range(how_many(6, 350)))
def test_after_bringing_into_line_nothing_differs_and_the_reversal_restores(place, seed):  # noqa: F811
    pair = Pair(place, seed)
    before, goal = pair.rows(0), pair.rows(1)
    left, compared = pair.compared()
    deletes = pair.chance.random() < 0.7
    side = Side(True, left.table, reserve(compared, True, left.edits), left.target, tuple(range(7)))
    made = align(compared, side, Wanted(delete=deletes))
    assert made.notes == ()
    left.edits.apply(made.action)
    if made.count:
        assert left.edits.count == made.count
        assert rehearse(place.connection, left.plan).conflicts == ()
        report = write(place.connection, left.plan)
        assert report.good == made.count
    _, after = pair.compared()
    left_over = after.found.count(ONLY_HERE)
    assert [after.found.count(state) for state in (1, 3)] == [0, 0]
    assert left_over == (0 if deletes else compared.found.count(ONLY_HERE))
    if deletes:
        assert pair.rows(0) == goal
    if made.count and report.back is not None:
        assert write(place.connection, report.back).good
        assert pair.rows(0) == before
    if seed == how_many(6, 350) - 1:
        proven("pairs of tables brought into line, compared, reversed", place.kind, seed + 1)


@pytest.mark.parametrize("kind", ["number", "word"])
def test_large_tables_are_read_in_our_order_of_the_key(place, kind):  # noqa: F811
    words = ["a", "A", "b", "B", "é", "z", "Z", "ü", "-", "_", "1", "10", "2", "\U0001f600", "\uffee", " a"]
    keys = list(range(-8, 8)) if kind == "number" else words
    kinds = dict(zip(("number", "word", "real", "exact", "moment"), TYPES[place.kind].split(), strict=True))
    charset = " character set utf8mb4" if place.kind == "mariadb" and kind == "word" else ""
    collate = (
        {"mariadb": " collate utf8mb4_bin", "sqlite": " collate nocase", "postgresql": ""}[place.kind]
        if kind == "word"
        else ""
    )
    if place.kind == "sqlite":
        keys = [key for key in keys if key not in ("A", "B", "Z")]
    names = [place.table([("k", f"{kinds[kind]}{charset}{collate} primary key"), ("v", "integer")]) for _ in range(2)]
    for name, missing in zip(names, (keys[2], keys[3]), strict=True):
        for number, key in enumerate(keys):
            if key != missing:
                value = number + (name == names[1] and number == 5)
                place.do(f"insert into {place.quote(name)} values ({Pair.literal(key)}, {value})")
    pulls = [Pull(name, Source("", place.url), Query(f"select * from {place.quote(name)}")) for name in names]
    streams = [blocks(in_order(pull, ("k",), place.connection), place.connection) for pull in pulls]
    tables = [list(each) for each in streams]
    found = compare_ordered(iter(tables[0]), iter(tables[1]), CompareStep("o", ("k",)))
    assert found.counts == (len(keys) - 3, 1, 1, 1)


@pytest.mark.parametrize("seed", range(how_many(3, 60)))
def test_ranges_that_hash_alike_are_not_read(place, seed, monkeypatch):  # noqa: F811
    chance = random.Random(seed)
    monkeypatch.setattr("nimble_otter.pull.compare_large.RANGES", chance.choice([10, 40, 200]))
    kinds = TYPES[place.kind].split()
    columns = [("id", f"{kinds[0]} primary key"), *zip("ntrdm", kinds, strict=True)]
    names = [place.table(columns) for _ in range(2)]
    rows = {key: Pair.row(Pair, key, chance)[2:] for key in chance.sample(range(-60, 60), 50)}
    differ = set(chance.sample(sorted(rows), chance.randint(0, 4)))
    for side, name in enumerate(names):
        for key, row in rows.items():
            if key in differ and chance.random() < 0.3:
                continue
            own = Pair.row(Pair, key, chance)[2:] if key in differ and side else row
            place.do(f"insert into {place.quote(name)} values ({', '.join(map(Pair.literal, [key, *own]))})")
    pulls = [
        Pull(name, Source("", place.url), Query(f"select * from {place.quote(name)}", limit=None)) for name in names
    ]
    step = CompareStep("o", ("id",))
    both = place.connection, place.connection
    found = compare_by_ranges(pulls[0], pulls[1], step, both)
    if place.kind != "postgresql":
        assert found is None
        return
    tables = [place.bench(name).table for name in names]
    whole = compare_views(View(tables[0]), View(tables[1]), ("id",))
    assert found is None or found.counts == tuple(whole.count(state) for state in range(4))
    assert found is not None or len(differ) > 1
    if found is not None:
        assert found.read == (tables[0].rows, tables[1].rows)
        assert found.table.rows == sum(found.counts[1:])
        assert set(found.table.columns[0].values()) <= differ


def test_catalogues_of_all_servers_are_rows_alike(place):  # noqa: F811
    name = place.table([("k", "integer primary key"), ("v", "varchar(9) not null")])
    rows = [catalogue_rows(place.connection, True, plainly) for plainly in (True, False)]
    plain, full = ({row[:3]: row[3] for row in zip(*(c.values() for c in t.columns), strict=True) if row[0] == name}
                   for t in rows)  # fmt: skip
    assert plain == {(name, "table", ""): "table", (name, "type", "k"): "number", (name, "NULL", "k"): "NOT NULL",
                     (name, "type", "v"): "text", (name, "NULL", "v"): "NOT NULL", (name, "key", ""): "k",
                     (name, "rows", ""): "0"}  # fmt: skip
    assert full.keys() >= plain.keys()


DOCUMENTS = [
    {"_id": 1, "level": 1.5, "count": 5, "who": {"name": "Ada", "tags": ["a", "b"]}, "at": dt.datetime(2031, 5, 28)},
    {"_id": 2, "level": None, "price": bson.Decimal128("1.50"), "who": {"name": "Bo", "deep": {"x": [1, {"y": 2}]}}},
    {"_id": 3, "level": "high", "flag": True}, {"_id": "four", "count": bson.Int64(2**40)}, {"_id": 5},
]  # fmt: skip


@pytest.mark.parametrize("seed", range(how_many(4, 60)))
def test_documents_are_brought_into_line(client, seed):  # noqa: F811
    chance = random.Random(seed)
    other = copy.deepcopy([each for each in DOCUMENTS if chance.random() < 0.8])
    for each in other:
        for name in [name for name in each if name != "_id" and chance.random() < 0.4]:
            number = bson.Decimal128("7") if name == "price" else 7
            each[name] = chance.choice([number, "new", None, {"name": "Cy"}, [1, 2], dt.datetime(2031, 1, 1)])
        if each and chance.random() < 0.3:
            each.pop(chance.choice([name for name in each if name != "_id"] or ["none"]), None)
    other += [{"_id": 100 + n, "level": n, "who": {"name": "New"}} for n in range(chance.randint(0, 2))]
    wild, connection, has_transactions = client
    own, goal = wild.database.own, wild.database.goal
    for collection, held in ((own, DOCUMENTS), (goal, other or [{"_id": 1}])):
        if has_transactions:  # the stand-in is a new one
            collection.delete_many({})
        collection.insert_many(copy.deepcopy(held))
    left, right = (Documents(connection, collection=name, language="native") for name in ("own", "goal"))
    compared = CompareStep("goal", ("_id",), rows=View(right.table)).apply(all_rows(left.table), NEVER).compared
    places = compared.places
    side = Side(True, left.table, reserve(compared, True, left.edits), left.target, places)
    aligned = align(compared, side, Wanted(delete=True))
    left.edits.apply(aligned.action)
    if aligned.count:
        (write if has_transactions else write_each)(connection, left.plan)
    names = {name for each in other for name in each} & {name for each in DOCUMENTS for name in each}
    for each in goal.find():
        (found,) = own.find({"_id": each["_id"]})
        assert {n: found.get(n, "gone") for n in names} == {n: each.get(n, "gone") for n in names}
    assert own.count_documents({}) == goal.count_documents({})
