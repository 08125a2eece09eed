"""Writes that change more than their rows: what hangs on them is asked of the server, said before, and put back whole.
Random worlds of tables with keys between them, triggers, computed and numbered columns; after each write its reversal,
and the whole database compared."""

import contextlib
import random
import re

import pytest

from nimble_otter.changes import Action, make_plan, read_value, rehearse, script, write
from nimble_otter.errors import ChangeError, LostError, OtterError
from nimble_otter.sources import Request, Source, connect
from nimble_otter.sources.trace import Origin
from tests.conformance.places import place  # noqa: F401
from tests.proofs import how_many, proven
from tests.unit.test_changes import Bench

ACTIONS = ("no action", "cascade", "set null", "restrict")


class World:
    """Tables that hang together, made anew with a seed: `parent` is written to, `child` stands in another schema."""

    def __init__(self, place, seed):  # noqa: F811
        self.place, self.chance = place, random.Random(seed)
        pick, kind = self.chance.choice, place.kind
        self.far = {"sqlite": "far_child", "postgresql": "far.child", "mariadb": "far.child"}[kind]
        self.drop()
        if kind != "sqlite":
            self.run("create schema far" + (" character set utf8mb4" if kind == "mariadb" else ""))
        number = {"sqlite": ["integer primary key"], "postgresql": [
            "integer primary key", "integer generated always as identity primary key", "serial primary key"],
            "mariadb": ["integer primary key", "integer auto_increment primary key"]}[kind]  # fmt: skip
        computed = pick(["", ", twice integer generated always as (amount * 2) stored"])
        stamp = ", at timestamp default current_timestamp on update current_timestamp" if kind == "mariadb" else ""
        self.run(
            f"create table parent (id {pick(number)}, code varchar(20) unique, amount integer{computed}, note text, "
            f"up integer{pick(['', stamp])}, unique (amount, note{'(9)' if kind == 'mariadb' else ''}))",
            *((self.chance.random() < 0.5 and kind != "sqlite" and [
                f"alter table parent add foreign key (up) references parent (id) on delete {pick(ACTIONS)}"]) or []),
            f"create table {self.far} (id integer primary key, pid integer, pcode varchar(20), "
            f"foreign key (pid) references {'merrow.' if kind == 'mariadb' else ''}parent (id) "
            f"on delete {pick(ACTIONS)} on update {pick(ACTIONS)}, "
            f"foreign key (pcode) references {'merrow.' if kind == 'mariadb' else ''}parent (code) "
            f"on delete {pick(ACTIONS)} on update {pick(ACTIONS)})",
            f"create table log (n {number[-1]}, said varchar(90))",
        )  # fmt: skip
        explicit = "overriding system value " if kind == "postgresql" else ""
        for n in range(1, 9):
            self.run(
                f"insert into parent (id, code, amount, note, up) {explicit}values ({n}, 'c{n}', {n * 10}, 'n', null)"
            )
        if kind == "postgresql":
            self.run("select setval(pg_get_serial_sequence('parent', 'id'), 50) where "
                     "pg_get_serial_sequence('parent', 'id') is not null")  # fmt: skip
        for n in range(4):
            pid, code = pick([1, 2, 3, "null"]), pick(["null", "null", "'c4'"])
            self.run(f"insert into {self.far} values ({n}, {pid}, {code})")
        if self.chance.random() < 0.4:
            self.trigger(pick(["insert", "update", "delete"]), pick([True, False]))
        place.connection._known.clear()

    def drop(self):
        far = {"postgresql": "schema if exists far cascade", "mariadb": "database if exists far"}
        self.run(f"drop {far.get(self.place.kind, 'table if exists far_child')}")
        self.run(*(f"drop table if exists {name}" for name in ("parent", "log")))

    def run(self, *texts):
        for text in texts:
            self.place.do(text)

    def trigger(self, event, is_stamp):
        """One that logs elsewhere, or one that sets a column of the row itself."""
        row = "old" if event == "delete" else "new"
        is_stamp = is_stamp and event != "delete" and self.place.kind != "sqlite"
        if self.place.kind == "postgresql":
            body = "new.note := 'stamped';" if is_stamp else f"insert into log (said) values ({row}.code);"
            self.run(
                f"create or replace function far.noted() returns trigger language plpgsql as $$ begin {body} "
                f"return {row}; end $$",
                f"create trigger noted before {event} on parent for each row execute function far.noted()",
            )
        elif is_stamp:
            self.run(f"create trigger noted before {event} on parent for each row set new.note = 'stamped'")
        else:
            insert = f"insert into log (said) values ({row}.code)"
            self.run(f"create trigger noted after {event} on parent for each row "
                     + (f"begin {insert}; end" if self.place.kind == "sqlite" else insert))  # fmt: skip

    def whole(self):
        """Every row of every table, as another connection reads it."""
        with_key, found = {"parent": "id", "log": "n", self.far: "id"}, {}
        for name, key in with_key.items():
            table = Bench(self.place.connection, f"select * from {name} order by {key}").table
            found[name] = list(zip(*(c.values() for c in table.columns), strict=True))
        return found

    def edited(self):
        """A pull of the table with some random changes pending."""
        bench, chance = Bench(self.place.connection, "select * from parent order by id"), self.chance
        places = {f.name: n for n, f in enumerate(bench.table.fields)}
        rows = list(range(bench.table.rows))
        cells, deleted, added = {}, set(), []
        for _ in range(chance.randint(1, 4)):
            what = chance.random()
            some = chance.sample(rows, min(3, len(rows)))
            if what < 0.3:  # exchange what is unique
                name = chance.choice(["code", "amount", "id"])
                values = [bench.table.columns[places[name]].value(row) for row in some]
                for row, value in zip(some, values[1:] + values[:1], strict=True):
                    cells[row, places[name]] = value
            elif what < 0.6:
                name = chance.choice(["code", "amount", "note", "up", "id"])
                text = chance.choice(["7", "c4", "c99", "10", None, "note", "5", "88"])
                try:
                    info = bench.target.column(places[name])
                    cells[some[0], places[name]] = read_value(
                        text, bench.table.fields[places[name]], info, bench.dialect
                    )
                except OtterError:
                    continue
            elif what < 0.85:
                deleted.add(some[0])
            else:
                (new,) = bench.edits.new_ids(1)
                added.append((new, -1))
                cells[new, places["code"]] = chance.choice(["c1", "fresh", None])
                if bench.target.table.column("id").generated != "identity":
                    cells[new, places["id"]] = 100 + new
        done = tuple((r, c, v) for (r, c), v in cells.items() if r not in deleted)
        bench.edits.apply(Action("Edit", done, delete=tuple(deleted), add=tuple(added)))
        return bench


@pytest.fixture
def world_of(place):  # noqa: F811
    """A function that makes a world; the last one is taken down."""
    made = []
    yield lambda seed: made.append(World(place, seed)) or made[-1]
    if made:
        made[-1].drop()


@pytest.mark.timeout(7200)
def test_every_write_that_succeeds_is_reversed_and_the_whole_database_is_as_before(place, world_of):  # noqa: F811
    rounds, written, told = how_many(14, 2000), 0, 0
    world = None
    for seed in range(rounds):
        if seed % 8 == 0:
            world = world_of(seed)
        before = world.whole()
        bench = world.edited()
        try:
            plan = make_plan(bench.edits, bench.table, bench.target, world.chance.choice(["seen", "row", "key"]))
            tried = rehearse(place.connection, plan)
            assert world.whole() == before, seed
            report = write(place.connection, plan, accepts=not tried.lasting)
        except ChangeError:
            assert world.whole() == before, seed
            continue
        assert bool(tried.conflicts) == bool(report.conflicts), (seed, tried, report)
        if not report.is_written:
            assert world.whole() == before, (seed, plan)
            told += bool(report.lasting)
            if not report.lasting:
                continue
            report = write(place.connection, plan)  # what can't be brought back is accepted now
            assert (report.is_written, report.lasting) == (True, tried.lasting), (seed, report)
            world = world_of(seed)
            continue
        written += 1
        after = world.whole()
        kept = {row[0]: row for row in after["parent"]}
        for row in report.written.values():
            assert row is None or kept[row["id"]][:3] == (row["id"], row["code"], row["amount"]), seed
        back = write(place.connection, report.back)
        assert back.is_written, (seed, plan, [o.problem for o in back.conflicts])
        assert world.whole() == before, (seed, plan, report.back)
    assert written > rounds // 6, written
    proven("write, reverse, compare the whole database", place.kind, rounds, f"{written} written, {told} told before")


def two(place, extra="", kind="integer"):  # noqa: F811
    name = place.table(
        [("id", "integer primary key"), ("rank", f"{kind} not null unique"), ("said", "varchar(20)")], extra
    )
    place.do(f"insert into {place.quote(name)} values (1, 10, 'a'), (2, 20, 'b'), (3, 30, 'c')")
    return name


def test_a_child_table_made_after_the_source_was_opened_holds_its_parent(place):  # noqa: F811
    """In another schema or database, too; SET NULL and a key that is changed alike."""
    name = two(place)
    place.connection.tables()
    bench = place.bench(name, f"select * from {place.quote(name)} order by id")
    other = connect(Source("other", place.url if "://" in place.url else f"sqlite:///{place.url}"))
    far = "late" if place.kind == "sqlite" else "late.child"
    try:
        for text in ([] if place.kind == "sqlite" else ["create schema late"]) + [
            f"create table {far} (n integer, pid integer, foreign key (pid) references "
            f"{'merrow.' if place.kind == 'mariadb' else ''}{place.quote(name)} (id) "
            "on delete set null on update set null)",
            f"insert into {far} values (1, 2), (2, 2)",
        ]:
            other.execute(Request(text))
        for action in (Action("Delete", delete=(1,)), Action("Edit", ((1, 0, 9),))):
            bench = place.bench(name, f"select * from {place.quote(name)} order by id")
            bench.edits.apply(action)
            for report in (rehearse(place.connection, bench.plan), write(place.connection, bench.plan)):
                assert re.search("also change 2 of .*set null", report.conflicts[0].problem)
    finally:
        other.execute(Request(f"drop table {far}"))
        if place.kind != "sqlite":
            other.execute(Request("drop schema late"))
        other.close()


def test_values_that_are_unique_are_exchanged_and_passed_on(place):  # noqa: F811
    name = two(place)
    for ranks in ([20, 10, 30], [20, 30, 10], [30, 20, 10], [20, 30, 40]):
        bench = place.bench(name, f"select * from {place.quote(name)} order by id")
        bench.edits.apply(
            Action("Edit", tuple((row, 1, rank) for row, rank in enumerate(ranks) if rank != (row + 1) * 10))
        )
        plan = bench.plan
        texts = script(plan)
        report = write(place.connection, plan)
        assert report.is_written, [o.problem for o in report.conflicts]
        assert (
            place.bench(name, f"select * from {place.quote(name)} order by id").table.column("rank").values() == ranks
        )
        assert write(place.connection, report.back).is_written
        place.client(texts)  # so does the script
        assert (
            place.bench(name, f"select * from {place.quote(name)} order by id").table.column("rank").values() == ranks
        )
        place.client(report.reversal)
        assert place.bench(name, f"select * from {place.quote(name)} order by id").table.column("rank").values() == [
            10,
            20,
            30,
        ]
    keys = place.bench(name, f"select * from {place.quote(name)} order by id")
    keys.edits.apply(Action("Edit", ((0, 0, 2), (1, 0, 1), (0, 2, "was 1"))))
    assert write(place.connection, keys.plan).is_written
    assert place.bench(name, f"select * from {place.quote(name)} order by id").table.column("said").values() == [
        "b",
        "was 1",
        "c",
    ]


def test_an_exchange_that_no_value_can_stand_in_for_is_refused_before_it_is_rehearsed(place):  # noqa: F811
    name = place.table([("id", "integer primary key"), ("yes", "boolean not null unique")])
    place.do(f"insert into {place.quote(name)} values (1, {'true' if place.kind == 'postgresql' else 1}), "
             f"(2, {'false' if place.kind == 'postgresql' else 0})")  # fmt: skip
    bench = place.bench(name, f"select * from {place.quote(name)} order by id")
    bench.edits.apply(Action("Edit", ((0, 1, False), (1, 1, True))))
    if place.kind != "mariadb":
        with pytest.raises(ChangeError, match="swap their yes"):
            _ = bench.plan
        return
    report = write(place.connection, bench.plan)  # a small number there, which has others
    assert report.is_written, [o.problem for o in report.conflicts]


def test_what_a_trigger_changes_elsewhere_is_told_before_and_no_reason_to_refuse(place, world_of):  # noqa: F811
    world = world_of(8)
    world.run(
        *(
            ["drop trigger if exists noted on parent"]
            if place.kind == "postgresql"
            else ["drop trigger if exists noted"]
        )
    )
    world.trigger("delete", False)
    bench = Bench(place.connection, "select * from parent order by id")
    bench.edits.apply(Action("Delete", delete=(6,)))
    told = rehearse(place.connection, bench.plan)
    assert not told.conflicts
    assert "noted" in told.lasting
    assert not write(place.connection, bench.plan, accepts=False).is_written
    assert write(place.connection, bench.plan).is_written


def test_names_with_their_schema_and_tables_changed_since_can_be_edited(place):  # noqa: F811
    name = two(place)
    schema = {"sqlite": "main", "postgresql": "public", "mariadb": "merrow"}[place.kind]
    place.connection.tables()
    for text in (
        f"select * from {schema}.{place.quote(name)}",
        f"select t.said, t.id from {schema}.{place.quote(name)} t",
    ):
        assert place.bench(name, text).target.is_open
    other = connect(Source("other", place.url if "://" in place.url else f"sqlite:///{place.url}"))
    other.execute(Request(f"alter table {place.quote(name)} add column later integer"))
    if place.kind == "mariadb":
        other.execute(Request(f"alter table {place.quote(name)} add column unseen integer invisible"))
    other.close()
    bench = place.bench(name)
    assert "later" in [info.name for _, info in bench.target.columns]
    bench.edits.apply(Action("Delete", delete=(0, 1)))
    report = write(place.connection, bench.plan)
    assert report.is_written
    assert write(place.connection, report.back).is_written


def test_a_coalesce_is_no_column_of_using(place):  # noqa: F811
    one, two_ = two(place), two(place)
    text = (f"select a.id, b.id as other, coalesce(a.said, b.said) as said from {place.quote(one)} a "
            f"join {place.quote(two_)} b on a.id = b.id")  # fmt: skip
    bench = place.bench(one, text)
    assert "computed by the query" in dict(bench.target.refusals)[2]
    using = place.bench(one, f"select id, a.said from {place.quote(one)} a join {place.quote(two_)} b using (id)")
    assert isinstance(using.fetched.origins[0], Origin)


def test_a_transaction_of_the_users_own_is_said_not_waited_for(place):  # noqa: F811
    name = two(place)
    bench = place.bench(name)
    bench.edits.apply(Action("Edit", ((0, 2, "x"),)))
    place.connection.begin()
    try:
        for do in (rehearse, write):
            with pytest.raises(ChangeError, match="transaction is open"):
                do(place.connection, bench.plan)
    finally:
        place.connection.end(False)


def test_one_lost_line_costs_one_failure_at_most_and_says_that_nothing_was_written(place):  # noqa: F811
    if place.kind == "sqlite":
        pytest.skip("there is no line to a file")
    from tests.servers.lines import Line

    name, line = two(place), Line(place.server.port)
    far = connect(Source("far", place.url.replace(str(place.server.port), str(line.port))))
    try:
        with far._engine.connect(), far._engine.connect():  # two in the pool
            pass
        bench = place.bench(name)
        bench.edits.apply(Action("Edit", ((0, 2, "y"),)))
        plan = bench.plan
        line.cut()
        with contextlib.suppress(LostError):
            write(far, plan)
            plan = None
        assert plan is None or write(far, plan).is_written
    finally:
        far.close()
        line.close()
