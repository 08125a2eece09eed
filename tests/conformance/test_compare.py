"""Bringing a table into line with another: on each server, after writing, nothing differs; the reversal restores."""

import copy
import datetime as dt
import json
import random
import sqlite3

import bson
import pytest

from nimble_otter.changes import rehearse, write, write_each
from nimble_otter.cli import main
from nimble_otter.errors import ChangeError
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.align import Side, Wanted, align, reserve
from nimble_otter.pull.align_batches import Place, write_in_batches
from nimble_otter.pull.catalogue_rows import catalogue_rows
from nimble_otter.pull.compare_large import blocks, compare_by_ranges, compare_ordered, in_order
from nimble_otter.pull.shaped import all_rows
from nimble_otter.pull.steps.compare import CompareStep
from nimble_otter.pull.writes import WriteJournal, load_reversal
from nimble_otter.sources import Request, Source
from nimble_otter.stop import NEVER
from nimble_otter.table import View
from nimble_otter.table.ops.compare import CHANGED, ONLY_HERE, ONLY_THERE, compare_views
from tests.conformance.places import place  # noqa: F401
from tests.conformance.test_write_documents import Pull as Documents
from tests.conformance.test_write_documents import client  # noqa: F401
from tests.proofs import IS_LONG, how_many, proven
from tests.unit.test_changes import Bench

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


@pytest.mark.parametrize("seed", range(how_many(5, 120)))
def test_batches_are_written_one_by_one_and_reversed_one_by_one(place, seed, tmp_path):  # noqa: F811
    pair, journal = Pair(place, seed), WriteJournal(tmp_path / "reversals")
    before, goal = pair.rows(0), pair.rows(1)
    left, compared = pair.compared()
    source = Source("", place.url)
    size, wanted = 1 + seed % 4, Wanted(insert=seed % 5 != 3, delete=seed % 4 != 2)
    lines = [compared.found.count(state) for state in (ONLY_HERE, CHANGED, ONLY_THERE)]
    expected = [n if is_wanted else 0 for n, is_wanted in zip(lines, (wanted.delete, True, wanted.insert), strict=True)]
    to_write = Place("t", source, left.table, left.target)
    batches = write_in_batches(compared, to_write, wanted, place.connection, journal, size)
    meddled = seed % 3 == 1 and place.kind != "sqlite"
    made = [next(batches, None)] if meddled else list(batches)
    if meddled and made[0] is not None:
        after_first = pair.rows(0)
        place.do(f"delete from {place.quote(pair.names[0])}")
        if sum(expected[:2]) > size:
            with pytest.raises(ChangeError, match="Batch 2 of"):
                list(batches)
            assert pair.rows(0) == []
            assert len(list(journal.folder.glob("*.json"))) == 1
            assert after_first != before
        return
    written = [each for each in made if each is not None]
    assert [each.number for each in written] == list(range(1, len(written) + 1))
    assert [each.rows for each in written[:-1]] == [size] * (len(written) - 1)
    assert sum(each.rows for each in written) == sum(expected)
    assert pair.rows(0) == goal or not (wanted.insert and wanted.delete)
    _, after = pair.compared()
    left_over = [after.found.count(state) for state in (ONLY_HERE, CHANGED, ONLY_THERE)]
    assert left_over == [n - m for n, m in zip(lines, expected, strict=True)]
    assert not list(journal.folder.glob("*.intent"))
    for each in reversed(written):
        assert each.reversal.exists()
        assert write(place.connection, load_reversal(each.reversal.with_suffix(".json"))).good == each.rows
    assert pair.rows(0) == before
    if seed == how_many(5, 120) - 1:
        proven("pairs of tables brought into line in batches, reversed one by one", place.kind, seed + 1)


REFERS = "foreign key ({0}) references {{{1}}} ({0})"
BASINS = {
    "basin": ("basin_id name part_of", "primary key (basin_id)", "unique (name)",
              "foreign key (part_of) references {basin} (basin_id)"),
    "gauge": ("basin_id no label", "primary key (basin_id, no)", REFERS.format("basin_id", "basin")),
    "visit": ("visit_id basin_id no noted", "primary key (visit_id)", REFERS.format("basin_id, no", "gauge")),
    "head": ("basin_id visit_id", "primary key (basin_id)", REFERS.format("basin_id", "basin"),
             REFERS.format("visit_id", "visit")),
}  # fmt: skip


def basins(chance):
    """Rows of tables that refer to each other, and to themselves."""
    some = lambda rows: chance.sample(rows, min(len(rows), chance.randint(0, 6)))  # noqa: E731
    ids = chance.sample(range(1, 9), chance.randint(1, 8))
    names = chance.sample("abcdefgh", len(ids))
    basin = [(n, name, chance.choice([None, *ids[:at]])) for at, (n, name) in enumerate(zip(ids, names, strict=True))]
    gauge = [(n, no, chance.choice("xyz")) for n in some(ids) for no in chance.sample(range(3), 2)]
    visit = [(n, *chance.choice([(None, None), *(g[:2] for g in gauge)]), chance.choice("pq")) for n in some(range(9))]
    head = [(n, chance.choice([None, *(v[0] for v in visit)])) for n in some(ids)]
    return {"basin": basin, "gauge": gauge, "visit": visit, "head": head}


RINGS = (8, 13, 16)
"""Seeds whose rows need each other in rings."""


@pytest.mark.parametrize("seed", range(250) if IS_LONG else (0, *RINGS))
def test_tables_that_refer_to_each_other_are_brought_into_line_by_one_script(place, seed, tmp_path, capsys):  # noqa: F811
    chance = random.Random(seed)
    names = {name: f"{name}_{place.kind}_{seed}" for name in BASINS}
    other = sqlite3.connect(tmp_path / "right.db")
    left, right = basins(chance), basins(chance)
    for name, (columns, *keys) in BASINS.items():
        extra = "".join(f", {key}" for key in keys)
        made = [(c, "varchar(9)" if c in ("name", "label", "noted") else "integer") for c in columns.split()]
        place.table(made, extra.format(**{k: place.quote(v) for k, v in names.items()}), names[name])
        other.execute(f"create table {names[name]} ({', '.join(map(' '.join, made))} {extra.format(**names)})")
        for row in left[name]:
            place.do(f"insert into {place.quote(names[name])} values ({', '.join(map(Pair.literal, row))})")
        other.executemany(f"insert into {names[name]} values ({', '.join('?' * len(made))})", right[name])
    other.commit()
    other.close()
    out, sides = tmp_path / "out.sql", [place.url, str(tmp_path / "right.db"), "--all-tables", "--json"]

    def told():
        lines = [json.loads(line) for line in capsys.readouterr().out.splitlines()]
        return {
            line["table"]: [line[w] for w in ("changed", "only_left", "only_right")] for line in lines if "same" in line
        }

    main(["compare", *sides, "--script", str(out), "--delete"])
    differ = told()
    assert set(differ) == set(names.values())
    assert any(map(any, differ.values())) == (left != right) or {n: sorted(r, key=repr) for n, r in left.items()} == {
        n: sorted(r, key=repr) for n, r in right.items()}  # fmt: skip
    if out.read_text():
        assert main(["apply", "--source", place.url, str(out), "--write", "--yes"]) == 0, capsys.readouterr()
        capsys.readouterr()
    main(["compare", *sides])
    assert told() == {name: [0, 0, 0] for name in names.values()}
    if seed == 249:
        proven("sets of four tables with foreign keys brought into line by a script", place.kind, seed + 1)


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


def test_rows_that_stand_twice_do_not_go_out_of_the_sums(place):  # noqa: F811
    if place.kind != "postgresql":
        return
    for own, kinds, differ in ((["b", "b"], ("text", "text"), True), (["a", "a"], ("text", "text"), False),
                               (["5", "5"], ("integer", "date"), None)):  # fmt: skip
        names = [place.table([("k", "integer"), ("v", kind)]) for kind in kinds]
        rows = [own if kinds[0] == "integer" else ["a", "a"], ["2000-01-06"] * 2 if kinds[0] == "integer" else own]
        for name, values in zip(names, rows, strict=True):
            for number in range(60):
                place.do(f"insert into {place.quote(name)} values ({number}, 'z{number}')" if kinds[0] == "text" else
                         f"insert into {place.quote(name)} values ({number}, null)")  # fmt: skip
            for value in values:
                place.do(f"insert into {place.quote(name)} values (61, {Pair.literal(value)})")
        pulls = [Pull(n, Source("", place.url), Query(f"select * from {place.quote(n)}", limit=None)) for n in names]
        found = compare_by_ranges(*pulls, CompareStep("o", ("k",)), (place.connection, place.connection))
        assert (found is None) == (differ is None)
        if found is not None:
            assert any(found.counts[1:]) is differ


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


KINDS_OF_BOTH = {
    "n": ("integer", [None, 0, -7, 2**40]), "t": ("text", [None, "", "it's", "ü€😀"]),
    "r": ("real", [None, 0.5, -2.5e10]),
    "m": ("timestamp", [None, dt.datetime(2031, 5, 1, 4, 30), dt.datetime(1999, 12, 31, 23, 59, 59)]),
}  # fmt: skip


@pytest.mark.parametrize("seed", range(how_many(6, 150)))
@pytest.mark.parametrize("is_left", [True, False])
def test_documents_and_tables_are_brought_into_line_with_each_other(client, base, open_base, seed, is_left):  # noqa: F811
    chance = random.Random(seed)

    def row(number):
        return (number, *(chance.choice(values) for _, values in KINDS_OF_BOTH.values()))

    rows = [row(n) for n in range(8)]
    held = [own if chance.random() < 0.5 else row(own[0]) for own in rows if chance.random() < 0.8]
    held += [row(n) for n in range(20, 20 + chance.randint(0, 3))]
    documents = [
        {n: v for n, v in zip(("_id", *KINDS_OF_BOTH), own, strict=True) if v is not None or chance.random() < 0.5}
        for own in held
    ]
    wild, connection, has_transactions = client
    both = wild.database.both
    if has_transactions:
        both.delete_many({})
    both.insert_many(copy.deepcopy([*documents, {"_id": 99, "n": 1, "t": "x", "r": 1.5, "m": dt.datetime(2031, 1, 1)}]))
    columns = ", ".join(f"{name} {kind}" for name, (kind, _) in KINDS_OF_BOTH.items())
    table = open_base(base(f"create table both (id integer primary key, {columns});"))
    texts = [[v.isoformat(" ") if isinstance(v, dt.datetime) else v for v in own] for own in rows]
    for own in texts:
        table.execute(Request(f"insert into both values ({', '.join(map(Pair.literal, own))})"), NEVER)

    def sides():
        docs = Documents(connection, collection="both", language="native")
        return docs, Bench(table, "select * from both")

    def compared(left, right):
        keys = (("_id",), (("_id", "id"),)) if is_left else (("id",), (("id", "_id"),))
        return CompareStep("o", *keys, rows=View(right.table)).apply(all_rows(left.table), NEVER).compared

    left, right = sides() if is_left else sides()[::-1]
    found = compared(left, right)
    side = Side(True, left.table, reserve(found, True, left.edits), left.target, found.places)
    made = align(found, side, Wanted(delete=True))
    assert made.notes == ()
    left.edits.apply(made.action)
    if made.count:
        if is_left:
            (write if has_transactions else write_each)(connection, left.plan)
        else:
            assert write(table, left.plan).good == made.count
    after = compared(*(sides() if is_left else sides()[::-1])).found
    assert [after.count(state) for state in (1, 2, 3)] == [0, 0, 0]
    plain = sorted(tuple(each.get(n) for n in ("_id", *KINDS_OF_BOTH)) for each in both.find())
    assert is_left is (plain == sorted(rows)) or rows == held
    if seed == how_many(6, 150) - 1:
        what = "documents brought into line with a table" if is_left else "a table brought into line with documents"
        proven(what, "server" if has_transactions else "stand-in", seed + 1)
