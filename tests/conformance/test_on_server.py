"""A whole course worked out and written by the server itself gives the rows that it gives here."""

import random
import shutil
from contextlib import closing

import pytest

from nimble_otter.errors import ConditionError, NotReading, OtterError, SendError, Stopped
from nimble_otter.pull import Pull, Query, run_course
from nimble_otter.pull.send_there import write_there
from nimble_otter.pull.shaped import all_rows
from nimble_otter.pull.steps import (
    CheckStep,
    ColumnsStep,
    Condition,
    FigureOf,
    FilterStep,
    GroupStep,
    SortBy,
    SortStep,
    TopStep,
    group_keys,
)
from nimble_otter.pull.steps.check_rules import CheckLine, Rule
from nimble_otter.pull.upstream import compare
from nimble_otter.pull.whole_course import counts_there, moved_whole
from nimble_otter.send.on_server import AskedThere, statements, transfer_there
from nimble_otter.send.transfer import Transfer
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.sources.catalogue import ColumnInfo, TableInfo
from nimble_otter.sources.dialects.oracle import ORACLE
from nimble_otter.sources.dialects.postgresql import POSTGRESQL
from nimble_otter.stop import StopToken
from nimble_otter.table import Field, Kind
from nimble_otter.table.ops.group import AggregateFunction as Agg
from tests.conformance.test_upstream import PLAIN, computed, filtered
from tests.proofs import how_many, proven

NEW = Transfer("made", is_new=True)


@pytest.fixture(params=["sqlite", "postgresql", "mariadb"])
def base(request, tmp_path):
    """A connection that may write, to the survey; the table `made` is dropped behind it."""
    if request.param == "sqlite":
        url = f"sqlite:///{shutil.copy(request.getfixturevalue('survey'), tmp_path / 'own.sqlite')}"
    else:
        url = request.getfixturevalue("postgres" if request.param == "postgresql" else "mariadb").url
    with closing(connect(Source("own", url))) as connection:
        yield connection
        connection.execute(Request("drop table if exists made"), StopToken())


def pull_of(base, *steps, text=PLAIN, **parameters):
    return Pull("p", Source("own", "x"), Query(text, parameters=parameters), steps)


def made(base):
    return all_rows(fetch(base, Request("select * from made")).table)


def number(base, text):
    return fetch(base, Request(text)).table.columns[0].value(0)


GOOD = filtered(Condition("is one of", "quality", ("good", "suspect")))
PER_STATION = GroupStep(group_keys("station_id"), (FigureOf(Agg.COUNT), FigureOf(Agg.MAX, "level_m")))
COURSES = [
    (),
    (GOOD, SortStep((SortBy("level_m", True), SortBy("reading_id")))),
    (computed(twice="reading_id * 2"), FilterStep((Condition("sql", text="twice > 900 and level_m is not null"),))),
    (GOOD, PER_STATION, filtered(Condition("more than", PER_STATION.figures[0].title, (20,)))),
    (TopStep(3, (SortBy("flow_m3s"), SortBy("reading_id")), ("station_id",)), ColumnsStep(("quality",), ("flow_m3s",))),
    (GOOD, computed(word="upper(quality) || '!'"), ColumnsStep(("word", "reading_id"), only=True)),
]


@pytest.mark.parametrize("steps", COURSES)
def test_the_table_holds_what_the_course_gives_here(base, steps):
    pull = pull_of(base, *steps)
    here = run_course(fetch(base, Request(PLAIN)).table, steps)
    assert all(result.error is None for result in here.results)
    sent, columns = write_there(pull, base, NEW)
    there = made(base)
    assert compare(here.end, there).is_same
    assert (sent.added, sent.sent, columns) == (here.end.rows, here.end.rows, len(there.table.fields))
    assert write_there(pull, base, Transfer("made"))[0].added == here.end.rows  # and into one that is there
    assert number(base, "select count(*) from made") == 2 * here.end.rows
    found = list(counts_there(pull, base, True))
    assert [count.rows for count in found] == [here.table.rows, *(result.shaped.rows for result in here.results)]
    assert [count.at for count in found] == list(range(-1, len(steps)))
    guessed = list(counts_there(pull, base, False))
    assert not any(count.is_exact for count in guessed)
    assert len(guessed) == len(found)


def test_random_courses(base):
    """Filters, computed columns and sorts in any order, against the course here."""
    generator, table = random.Random(11), fetch(base, Request(PLAIN)).table
    pieces = [
        lambda: filtered(Condition("more than", "level_m", (generator.random(),))),
        lambda: filtered(Condition("is one of", "quality", (generator.choice(["good", "void", "nosuch"]),))),
        lambda: FilterStep((Condition("sql", text=f"station_id % {generator.randint(2, 5)} = 1"),)),
        lambda: computed(**{f"c{generator.randrange(9**6)}": generator.choice(["station_id * 3", "level_m + 1.5"])}),
        lambda: SortStep((SortBy("reading_id", generator.random() < 0.5),)),
        lambda: TopStep(generator.randint(1, 90), (SortBy("level_m"), SortBy("reading_id"))),
    ]  # fmt: skip
    rounds = how_many(12, 150)
    for _ in range(rounds):
        steps = tuple(generator.choice(pieces)() for _ in range(generator.randint(1, 4)))
        here = run_course(table, steps)
        sent, _ = write_there(pull_of(base, *steps), base, NEW)
        assert compare(here.end, made(base)).is_same, steps
        assert sent.added == here.end.rows
        base.execute(Request("drop table made"), StopToken())
    proven("courses written by their server", base.dialect.display_name, rounds)


def test_parameters_and_percent_signs_are_bound(base):
    pull = pull_of(base, filtered(Condition("sql", text="quality not like '%x%'")),
                   text=f"{PLAIN} where quality = :q and level_m < :most -- 100 %\n", q="good", most=0.5)  # fmt: skip
    here = run_course(fetch(base, Request(pull.query.text, {"q": "good", "most": 0.5})).table, pull.steps)
    assert here.end.rows > 5
    assert write_there(pull, base, NEW)[0].added == here.end.rows
    assert compare(here.end, made(base)).is_same


def test_digits_without_room_are_refused_before_anything_is_written(base):
    base.execute(Request("create table made (level_m integer, reading_id integer)"), StopToken())
    pull = pull_of(base, text="select level_m, reading_id from reading where level_m > 0")
    if base.dialect.is_loose:  # its columns take any digits
        assert write_there(pull, base, Transfer("made"))[0].added > 0
        return
    with pytest.raises(SendError, match="values of level_m have digits"):
        write_there(pull, base, Transfer("made"))
    assert number(base, "select count(*) from made") == 0
    rounded = pull_of(base, text="select floor(level_m) as level_m, reading_id from reading where level_m > 0")
    assert write_there(rounded, base, Transfer("made"))[0].added > 0


def test_rows_whose_key_is_there(base):
    base.execute(Request("create table made (reading_id integer primary key, quality varchar(20))"), StopToken())
    few = "select reading_id, quality from reading where reading_id <= {}"
    assert write_there(pull_of(base, text=few.format(5)), base, Transfer("made"))[0].added == 5
    with pytest.raises(OtterError):
        write_there(pull_of(base, text=few.format(8)), base, Transfer("made"))
    assert number(base, "select count(*) from made") == 5
    base.execute(Request("update made set quality = 'ours'"), StopToken())
    skipped, _ = write_there(pull_of(base, text=few.format(8)), base, Transfer("made", duplicates="skip"))
    assert (skipped.added, skipped.skipped, skipped.updated) == (3, 5, 0)
    assert number(base, "select count(*) from made where quality = 'ours'") == 5
    updated, _ = write_there(pull_of(base, text=few.format(9)), base, Transfer("made", duplicates="update"))
    assert (updated.added, updated.skipped, updated.updated) == (1, 0, 8)
    assert number(base, "select count(*) from made where quality = 'ours'") == 0


def test_a_new_table_gets_its_key_or_is_not_made(base):
    wanted = Transfer("made", is_new=True, keys=("reading_id",))
    if base.dialect.is_loose:
        with pytest.raises(SendError, match="adds no key"):
            write_there(pull_of(base), base, wanted)
    else:
        assert write_there(pull_of(base), base, wanted)[0].added > 100
        assert next(t for t in base.tables() if t.name == "made").key == ("reading_id",)
        base.execute(Request("drop table made"), StopToken())
        with pytest.raises(OtterError):
            write_there(pull_of(base), base, Transfer("made", is_new=True, keys=("quality",)))
    assert "made" not in [t.name for t in base.tables()]
    with pytest.raises(SendError, match="which is not a column"):
        write_there(pull_of(base), base, Transfer("made", is_new=True, keys=("nosuch",)))
    with pytest.raises(SendError, match="already exists"):
        write_there(pull_of(base), base, Transfer("reading", is_new=True))


def test_what_is_no_reading_query_or_can_t_be_moved_is_refused_with_its_step(base):
    with pytest.raises(NotReading):
        transfer_there(AskedThere("delete from reading", {}, ()), base, Transfer("made", is_new=True))
    before = number(base, "select count(*) from reading")
    with pytest.raises(SendError, match="Two columns of the query are called quality"):
        write_there(pull_of(base, text="select quality, reading_id, quality from reading"), base, NEW)
    for text in ("select 1) as q; drop table reading --", "select 1; select 2", "update reading set quality = ''", ""):
        with pytest.raises(OtterError):
            write_there(pull_of(base, text=text), base, NEW)
    assert number(base, "select count(*) from reading") == before
    check = CheckStep((CheckLine(Rule.FILLED, ("quality",)),))
    with pytest.raises(ConditionError, match=r"^Step 2, check: Checks look"):
        moved_whole(pull_of(base, GOOD, check), base)
    with pytest.raises(ConditionError, match=r"Step 1, group: .*median"):
        moved_whole(pull_of(base, GroupStep(group_keys("quality"), (FigureOf(Agg.MEDIAN, "level_m"),))), base)
    off = SortStep((SortBy("nosuch"),), on=False)
    whole = moved_whole(pull_of(base, GOOD, off), base)
    assert whole.moved.pull.steps == (off,)
    stop = StopToken()
    stop.set()
    with pytest.raises(Stopped):
        write_there(pull_of(base), base, NEW, stop)
    assert "made" not in [t.name for t in base.tables()]


def test_a_sample_says_that_it_is_one(base):
    steps = (filtered(Condition("is not empty", "level_m")),)
    whole = moved_whole(pull_of(base, *steps, text="select a.* from reading a, station b"), base)
    assert any("first 1\u2009000 rows" in note for note in whole.moved.notes)
    assert not moved_whole(pull_of(base, *steps, text=f"{PLAIN} limit 9"), base).moved.notes


def test_statements_of_servers_without_such_a_thing_are_refused():
    asked = AskedThere("select 1 as a", {}, (Field("a", Kind.INT),))
    with pytest.raises(SendError, match="Oracle"):
        statements(asked, NEW, None, ORACLE)
    info = TableInfo("t", "table", (ColumnInfo("b", "integer", "number"),))
    assert statements(asked, Transfer("t", columns={"a": "b"}), info, POSTGRESQL) == [
        "insert into t (b)\nselect a\nfrom (\nselect 1 as a\n) as q"
    ]
    assert statements(asked, Transfer("T x", True, columns={"a": "b"}), None, POSTGRESQL) == [
        'create table "T x" as\nselect a as b\nfrom (\nselect 1 as a\n) as q'
    ]
