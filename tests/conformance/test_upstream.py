"""Steps moved into the query give the rows that they gave here, on every kind of relational server."""

import itertools
import random
import re
import sqlite3
from collections import Counter
from contextlib import closing, suppress
from dataclasses import replace

import pytest

from nimble_otter.errors import ConditionError, QueryError
from nimble_otter.pull import Pull, Query, run_course
from nimble_otter.pull.steps import (
    ColumnsStep,
    Computed,
    ComputeStep,
    Condition,
    FigureOf,
    FilterStep,
    GroupStep,
    SortBy,
    SortStep,
    TopStep,
    group_keys,
)
from nimble_otter.pull.upstream import compare, difference, move_down, move_up
from nimble_otter.query.local.conditions import parse_expression
from nimble_otter.query.local.meaning import FORMS, NUMBERS, kind_of
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.table import Kind
from nimble_otter.table.ops.dates import PARTS, UNITS
from nimble_otter.table.ops.group import AggregateFunction as Agg
from tests.proofs import how_many, proven

PLAIN = "select reading_id, level_m, quality, station_id, flow_m3s from reading"
JOINED = (
    "select r.reading_id as id, s.name as station, r.level_m as level, r.quality from reading r "
    "join station s on r.station_id = s.station_id where r.level_m > 0.4 or r.quality = 'void'"
)


@pytest.fixture(params=["sqlite", "postgresql", "mariadb"])
def connection(request, open_base):
    fixture = {"sqlite": "survey", "postgresql": "postgres", "mariadb": "mariadb"}[request.param]
    found = request.getfixturevalue(fixture)
    return open_base(getattr(found, "url", found))


def rows_of(connection, pull):
    return run_course(fetch(connection, Request(pull.query.text)).table, pull.steps)


def filtered(*conditions):
    return FilterStep(tuple(conditions))


def computed(**columns):
    return ComputeStep(tuple(Computed(name, text) for name, text in columns.items()))


STEPS = [
    (PLAIN, filtered(Condition("is one of", "quality", ("good", "suspect")))),
    (PLAIN, filtered(Condition("is none of", "quality", ("good",)), Condition("more than", "level_m", (0.5,)))),
    (PLAIN, filtered(Condition("is none of", "quality", (), True))),
    (PLAIN, filtered(Condition("contains", "quality", ("oo",)))),
    (PLAIN, filtered(Condition("does not contain", "quality", ("%_\\!'",)))),
    (PLAIN, filtered(Condition("contains", "reading_id", ("17",)))),
    (PLAIN, filtered(Condition("between", "level_m", (0.3, 0.9)), Condition("is not empty", "flow_m3s"))),
    (PLAIN, filtered(Condition("sql", text="level_m > 1 or flow_m3s is null and quality <> 'void'"))),
    ("select * from reading", filtered(Condition("sql", text="level_m * 2 > 1 and not quality in ('good')"))),
    (JOINED, filtered(Condition("sql", text="station like '%ller%' or level > 1"))),
    (f"{PLAIN} where level_m > 0.2 order by reading_id", filtered(Condition("less than", "level_m", (0.9,)))),
    (f"{PLAIN} order by reading_id limit 500", filtered(Condition("less than", "level_m", (0.9,)))),
    ("select quality, count(*) as n from reading group by quality", filtered(Condition("more than", "n", (10,)))),
    (PLAIN, SortStep((SortBy("level_m", True), SortBy("reading_id")))),
    (f"{PLAIN} order by reading_id limit 700", SortStep((SortBy("flow_m3s", False, True), SortBy("reading_id")))),
    ("select * from reading", ColumnsStep(("level_m",), ("quality",))),
    (PLAIN, ColumnsStep(("quality", "reading_id"), only=True)),
    (PLAIN, GroupStep(group_keys("station_id", "quality"), (FigureOf(Agg.COUNT), FigureOf(Agg.SUM, "level_m"),
        FigureOf(Agg.MEAN, "level_m"), FigureOf(Agg.MAX, "flow_m3s"), FigureOf(Agg.DISTINCT, "level_m")))),
    (PLAIN, TopStep(40, (SortBy("level_m", True), SortBy("reading_id")))),
    (PLAIN, TopStep(3, (SortBy("flow_m3s"), SortBy("reading_id")), ("station_id", "quality"))),
    (PLAIN, computed(double="reading_id * 2 - station_id", word="upper(quality) || '!'", year="coalesce(level_m, 0)")),
    (PLAIN, computed(kind="case when level_m > 1 and quality = 'good' then 'high' when level_m is null then 'no' end")),
    (JOINED, computed(short="substring(station, 2, 4)", size="length(station)")),
    (JOINED, computed(place="rank() over (order by level, id)")),
    (PLAIN, computed(before="lag(level_m) over (partition by station_id order by reading_id)")),
]  # fmt: skip


@pytest.mark.parametrize(("text", "step"), STEPS)
def test_a_step_gives_the_same_rows_upstream(connection, text, step):
    pull = Pull("p", Source("s", "x"), Query(text), (step,))
    here = rows_of(connection, pull)
    assert here.results[0].error is None
    moved = move_up(pull, 0, here.table, connection.dialect.parser, connection.quoted)
    assert moved.pull.steps == ()
    there = rows_of(connection, moved.pull)
    found = compare(here.end, there.end)
    assert found.is_same, (moved.pull.query.text, found)
    assert found.after > 0 or "_" in str(step)
    if isinstance(step, SortStep):
        keys = [here.end.view.table.index("reading_id")]
        ids = [shaped.view.table.columns[keys[0]].values(shaped.view.row_ids()) for shaped in (here.end, there.end)]
        assert ids[0] == ids[1]


@pytest.mark.parametrize("text", [JOINED, f"{PLAIN} where level_m > 0.5 and quality = 'good' order by reading_id"])
def test_conditions_come_down_and_keep_the_rows(connection, text):
    pull = Pull("p", Source("s", "x"), Query(text))
    there = rows_of(connection, pull)
    moved = move_down(pull, there.table, connection.dialect.parser)
    assert "where" not in moved.pull.query.text
    here = rows_of(connection, moved.pull)
    assert here.results[0].error is None
    assert here.table.rows > there.table.rows
    assert compare(there.end, here.end).is_same
    again = move_up(moved.pull, 0, here.table, connection.dialect.parser, connection.quoted)
    assert compare(rows_of(connection, again.pull).end, there.end).is_same


def test_what_stands_in_the_way_is_said(connection):
    table = fetch(connection, Request(PLAIN)).table
    sort, keep = SortStep((SortBy("level_m"),)), filtered(Condition("is not empty", "level_m"))
    pull = Pull("p", Source("s", "x"), Query(PLAIN), (sort, keep))
    wrong = [
        (pull, 1, "Steps before"),
        (replace(pull, steps=(replace(sort, on=False),)), 0, "switched off"),
        (replace(pull, steps=(FilterStep(),)), 0, "no condition"),
        (replace(pull, query=Query("select 1; select 2")), 0, "one statement"),
        (
            replace(pull, steps=(GroupStep(group_keys("quality"), (FigureOf(Agg.MEDIAN, "level_m"),)),)),
            0,
            "median",
        ),
        (replace(pull, steps=(filtered(Condition("is", "nosuch", (1,))),)), 0, "no column nosuch"),
    ]
    for broken, at, said in wrong:
        with pytest.raises(ConditionError, match=said):
            move_up(broken, at, table, connection.dialect.parser, connection.quoted)
    for text, said in ((PLAIN, "no condition"), (f"{PLAIN} where level_m > :x", "parameter"),
                       ("select level_m from reading where quality = 'good'", "not among")):  # fmt: skip
        with pytest.raises(ConditionError, match=said):
            move_down(replace(pull, query=Query(text)), fetch(connection, Request("select level_m from reading")).table,
                      connection.dialect.parser)  # fmt: skip


def test_differences_are_found_with_examples(connection):
    one = rows_of(connection, Pull("p", Source("s", "x"), Query("select 1 as a, 2.5 as b")))
    two = rows_of(connection, Pull("p", Source("s", "x"), Query("select 2.5 as b, 1 as a union all select 7, 8")))
    assert compare(one.end, one.end).is_same
    found = compare(one.end, two.end)
    assert not found.is_same
    assert (found.only_before, found.only_after) == (0, 1)
    assert found.examples[0].startswith("only after: 8, 7")
    assert difference("a\nb", "a\nc") == [(" ", "a"), ("-", "b"), ("+", "c")]


ODD = {
    "id": ("integer", "int", "integer"), "i": ("bigint", "bigint", "integer"), "j": ("integer", "int", "int"),
    "f": ("float8", "double", "real"), "r": ("real", "float", "real"), "d": ("numeric(12,3)", "decimal(12,3)",
    "decimal(12,3)"),
    "n": ("numeric", "decimal(20,6)", "numeric"), "t": ("text", "varchar(20)", "varchar(20) collate nocase"),
    "u": ("odd_text", "varchar(20) collate utf8mb4_bin", "text"), "c": ("char(4)", "char(4)", "char(4)"),
    "b": ("boolean", "tinyint", "boolean"), "day": ("date", "date", "date"), "at": ("timestamp", "datetime(6)",
    "timestamp"),
    "few": ("timestamp(0)", "datetime", "datetime"), "clock": ("time", "time(3)", "time"), "g": ("uuid", "uuid",
    "uuid"),
}  # fmt: skip
ROWS = {
    "i": ["7", "-7", "0", "null", "12", "-1", "3", "100"], "j": ["3", "-3", "2", "5", "null", "0", "1", "-2"],
    "f": ["1.5", "-0.5", "2.5", "1e10", "null", "0.1", "-2.5", "3"],
    "r": ["0.1", "0.25", "-1.5", "null", "2.5", "3.3", "1e5", "0.7"], "d": ["1.250", "-1.250", "0.001", "null", "99.5",
    "-0.5", "2.5", "10"],
    "n": ["1.5", "-2.25", "null", "0.1", "3", "10.000001", "-1", "7"],
    "t": ["'abc'", "'ABC'", "''", "' abc'", "'abc '", "null", "'a%b_c'", "'xyz'"],
    "u": ["'b'", "'B'", "' '", "'xyz'", "null", "'abc'", "'%'", "'a'"],
    "c": ["'ab'", "'AB'", "'abcd'", "null", "'a'", "''", "'x'", "'ab'"], "b": ["1", "0", "null", "1", "0", "1", "null",
    "0"],
    "day": ["'2031-05-31'", "'2032-02-29'", "null", "'1999-12-31'", "'2000-01-01'", "'2026-12-31'", "'2027-01-03'",
    "'2031-05-01'"],
    "at": ["'2031-05-31 13:04:05.5'", "'2032-02-29 00:00:00'", "null", "'1999-12-31 23:59:59.999'",
    "'2000-01-01 12:00:00'",
           "'2026-12-31 11:59:59.25'", "'2027-01-03 01:00:00'", "'2031-05-01 00:00:00'"],
    "few": ["'2031-05-31 13:04:05'", "'2032-02-29 00:00:00'", "null", "'1999-12-31 23:59:59'", "'2000-01-01 12:00:00'",
            "'2026-12-31 11:59:59'", "'2027-01-03 01:00:00'", "'2031-05-01 00:00:00'"],
    "clock": ["'23:59:59'", "'00:00:00'", "'12:30:00'", "null", "'01:02:03'", "'06:00:00'", "'18:45:10'", "'23:00:00'"],
    "g": ["'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'", "null"] * 4,
}  # fmt: skip
VALUES = {"i": ["5", "0", "-7"], "j": ["2"], "f": ["0.5", "2.5"], "r": ["0.1", "3.3"], "d": ["1.25", "0"], "n": ["1.5"],
          "t": ["'abc'", "'B'", "''"], "u": ["'b'", "'abc '"], "c": ["'ab'", "'ab  '"], "b": ["true"],
          "day": ["'2031-05-31'"],
          "at": ["'2031-05-31'", "'2031-05-31 13:04:05.5'", "'2000-01-01 12:00'"], "few": ["'2031-05-31 13:04:05.5'",
          "'1999-12-31 23:59:59'"],
          "clock": ["'12:30'"], "g": ["'A0EEBC99-9c0b-4ef8-bb6d-6bb9bd380a11'"]}  # fmt: skip
ARGUMENTS = {
    "number": ["i", "j", "f", "r", "d", "n", "2.5"],
    "whole": ["2", "0", "-1", "j"],
    "text": ["t", "u", "c", "'ab'"],
    "any": ["i", "d", "f", "t", "u", "day", "at", "null", "c"],
    "moment": ["day", "at", "few"],
    "part": ["day", "at", "few", "clock"],
}


def odd_expressions():
    """Every function of the language, every sign, part, unit and cast over the columns of every kind."""
    made = []
    for form in FORMS.values():
        if form.takes[0] == "unit":
            continue
        for count in range(form.least, len(form.takes) + 1 + form.many):
            every = list(itertools.product(*(ARGUMENTS[form.wants(n)] for n in range(count))))
            some = every if len(every) <= 14 else random.Random(form.name).sample(every, 14)
            made += [f"{form.name}({', '.join(args)})" for args in some]
    plain = ["i", "j", "f", "r", "d", "n", "day", "at", "few", "2", "0.5"]
    made += [f"{a} {sign} {b}" for sign in "+-*/%" for a in plain for b in plain if not a[0].isdigit()]
    made += [f"extract({part} from {of})" for part in PARTS for of in ARGUMENTS["part"]]
    made += [f"date_trunc('{unit}', {of})" for unit in UNITS for of in ARGUMENTS["moment"]]
    made += [
        f"to_char({of}, '{form}')" for of in ("day", "at") for form in ("YYYY-MM", "DD.MM.YYYY HH24:MI", "FMDay", "SS")
    ]
    made += [
        f"{of} {sign} interval '{span}'"
        for of in ("day", "at", "few")
        for sign in "+-"
        for span in ("1 month", "3 days", "90 minutes")
    ]
    made += [
        f"cast({of} as {kind})"
        for of in ("i", "f", "r", "d", "t", "day", "at", "b")
        for kind in ("text", "integer", "numeric(8,1)", "float8", "date", "timestamp", "varchar(2)", "boolean")
    ]
    made += [
        "case when t = 'abc' then i else j end",
        "case i when 7 then 'x' else t end",
        "coalesce(t, u, c)",
        "t || '-' || i",
        "row_number() over (order by t, id)",
        "rank() over (partition by t order by f)",
        "sum(d) over (order by id)",
        "avg(i) over (partition by b)",
        "max(t) over ()",
        "stddev(f) over ()",
        "lag(t, 1, 'none') over (order by id)",
        "count(*) over (partition by c)",
        "ntile(3) over (order by u desc, id)",
        "min(day) over (order by id)",
        "sum(i) over (order by id rows between 1 preceding and 1 following)",
        "avg(d) over (order by id rows 2 preceding)",
    ]
    return list(dict.fromkeys(made))


def odd_conditions():
    made = [
        f"{name} {sign} {value}"
        for name, values in VALUES.items()
        for value in values
        for sign in ("=", "<>", "<", ">=")
        if not (name == "b" and sign in ("<", ">="))
    ]
    made += [f"not ({name} in ({', '.join(values)}))" for name, values in VALUES.items()]
    made += [
        f"{name} is null or {name} {sign} {other}"
        for sign in ("=", "<", ">=")
        for name, other in (
            ("t", "u"),
            ("u", "c"),
            ("i", "j"),
            ("i", "d"),
            ("f", "r"),
            ("d", "n"),
            ("at", "few"),
            ("day", "at"),
        )
    ]
    made += [
        f"{name} {word} {pattern}"
        for name in ("t", "u", "c", "i", "day", "d")
        for word in ("like", "ilike", "not like")
        for pattern in ("'%b%'", "'AB%'", "'a\\%b\\_c'", "'_b_'", "'%1%'")
    ]
    made += [f"{name} ~ {pattern}" for name in ("t", "u") for pattern in ("'^a'", "'b|y'", "'c$'", "'[A-C]+'", "'\\w'")]
    made += [
        "b",
        "not b",
        "b is null",
        "t in ('abc', null)",
        "i not in (7, null)",
        "i between 0 and 7",
        "t between 'a' and 'b'",
        "greatest(i, j) > 3",
        "length(t) > 3 and upper(u) = 'B'",
        "i / 2 = 3",
        "i % 3 = -1",
        "i / j > 1",
        "d * 2 > 2.5",
        "f / 2 > 0.5",
        "extract(year from at) = 2031",
        "coalesce(t, '') = ''",
        "(t = 'abc') is not true",
        "t is distinct from u",
    ]
    return made


DUCK = {"id": "int", "i": "bigint", "j": "int", "f": "double", "r": "float", "d": "decimal(12, 3)",
        "n": "decimal(20, 6)", "b": "boolean", "day": "date", "at": "timestamp", "few": "timestamptz", "clock": "time",
        "g": "uuid"}  # fmt: skip


@pytest.fixture
def odd_duck(tmp_path):
    """The odd columns in a file of DuckDB."""
    duckdb = pytest.importorskip("duckdb")
    with duckdb.connect(tmp_path / "odd.duckdb") as base:
        named = ", ".join(f'"{name}" {DUCK.get(name, "varchar")}' for name in ("id", *ROWS))
        base.execute(f"set timezone = 'UTC'; create table odd_rows ({named})")
        for row in range(8):
            cells = [f"cast({value} as boolean)" if n == "b" else value for n in ROWS for value in [ROWS[n][row]]]
            base.execute(f"insert into odd_rows values ({row}, {', '.join(cells)})")
    with closing(connect(Source("odd", f"duckdb:///{tmp_path / 'odd.duckdb'}"))) as opened:
        yield opened


def test_every_third_function_sign_and_condition_means_the_same_in_a_file_of_duckdb(odd_duck):
    table = fetch(odd_duck, Request("select * from odd_rows")).table
    with odd_duck.kept_open():
        told = {text: outcome(odd_duck, table, step) for text, step in odd_steps()[2 :: how_many(3, 1)]}
    assert {text: said for text, said in told.items() if said not in ("same", "noted", "refused")} == {}
    assert list(told.values()).count("same") > len(told) / 2


@pytest.fixture
def odd(connection, request, tmp_path):
    """The odd columns in a table of a server that may be written to."""
    at = ["postgres", "mysql", "sqlite"].index(connection.dialect.parser)
    columns = {name: kinds[at] for name, kinds in ODD.items()}
    words = {"true": ("1", "1", "1"), "1": ("true", "1", "1"), "0": ("false", "0", "0")}
    lines = [f"create table odd_rows ({', '.join(f'{n} {k}' for n, k in columns.items())})"]
    for row in range(8):
        cells = [str(row)] + [
            words.get(ROWS[n][row], (ROWS[n][row],) * 3)[at] if n == "b" else ROWS[n][row] for n in ROWS
        ]
        lines.append(f"insert into odd_rows (id, {', '.join(ROWS)}) values ({', '.join(cells)})")
    if at == 2:
        path = tmp_path / "odd.sqlite"
        with closing(sqlite3.connect(path)) as base:
            base.executescript(";".join(lines))
        with closing(connect(Source("odd", f"sqlite:///{path}"))) as opened:
            yield opened
        return
    server = request.getfixturevalue("postgres" if at == 0 else "mariadb")
    if at == 0:
        lines.insert(0, "create domain odd_text as text collate folding")
        lines.insert(0, "create collation folding (provider = icu, locale = 'und-u-ks-level2', deterministic = false)")
    for line in lines:
        server.ask(line, "merrow")
    with closing(connect(Source("odd", server.url))) as opened:
        yield opened
    for line in ("drop table odd_rows", *(("drop domain odd_text", "drop collation folding") if at == 0 else ())):
        server.ask(line, "merrow")


def outcome(connection, table, step):
    """What becomes of a step upstream: "refused", "noted", "same", or what is wrong."""
    pull = Pull("p", Source("s", "x"), Query("select * from odd_rows"), (step,))
    here = run_course(table, pull.steps)
    if here.results[0].error is not None:
        return "refused"
    try:
        moved = move_up(pull, 0, table, connection.dialect.parser, connection.quoted)
    except ConditionError:
        return "refused"
    try:
        there = rows_of(connection, moved.pull)
    except QueryError as problem:
        return f"{problem}: {moved.pull.query.text}"
    found = compare(here.end, there.end)
    if found.is_same:
        return "same"
    return "noted" if moved.notes else f"{found.examples}: {moved.pull.query.text}"


def odd_steps():
    """All of these as steps, and groups and tops by each column."""
    steps = [(text, computed(made=text)) for text in odd_expressions()]
    steps += [(text, filtered(Condition("sql", text=text))) for text in odd_conditions()]
    for name in ROWS:
        steps.append((f"group {name}", GroupStep(group_keys(name), (FigureOf(Agg.COUNT), FigureOf(Agg.MEAN, "i"),
            FigureOf(Agg.SUM, "d"), FigureOf(Agg.MAX, "t"), FigureOf(Agg.MIN, "u"), FigureOf(Agg.DISTINCT,
                "t"),
            FigureOf(Agg.MEAN, "d")))))  # fmt: skip
        steps.append((f"top {name}", TopStep(3, (SortBy(name, True), SortBy("id")))))
    return steps


def test_every_function_sign_and_condition_means_the_same_upstream_or_says_so(odd):
    table = fetch(odd, Request("select * from odd_rows")).table
    steps = odd_steps()
    third = how_many(3, 1)  # each server has another third of them in the short run
    own = ("sqlite", "mysql", "postgres").index(odd.dialect.parser) if third > 1 else 0
    told = {text: outcome(odd, table, step) for text, step in steps[own::third]}
    wrong = {text: said for text, said in told.items() if said not in ("same", "noted", "refused")}
    count = Counter(said for said in told.values() if said in ("same", "noted", "refused"))
    print(count)
    for text, said in wrong.items():
        print(f"({text!r}) {said[:700]}".replace("\n", " "))
    assert not wrong
    assert count["same"] > (300 if len(told) == len(steps) else 100), count


NAMES = re.compile(r"(?<![\w'.])(i|j|f|r|d|n|t|u|c|day|at|few|clock|b)(?![\w'(.])")


def nested(generator, pools, text, depth):
    """An expression with some of its columns replaced by expressions of their kind."""

    def put(match):
        pool = pools.get(KIND_OF.get(match[1]), [])
        if depth and pool and generator.random() < 0.5:
            return f"({nested(generator, pools, generator.choice(pool), depth - 1)})"
        return match[1]

    return NAMES.sub(put, text)


KIND_OF = {
    "i": "n",
    "j": "n",
    "f": "n",
    "r": "n",
    "d": "n",
    "n": "n",
    "t": "t",
    "u": "t",
    "c": "t",
    "at": "m",
    "few": "m",
}


def chain(generator, pools, table):
    """One step of a random kind, made of random parts."""
    kind = generator.choice(["compute", "filter", "filter", "group", "top"])
    names = generator.sample(list(ROWS), 2)
    if kind == "group":
        return GroupStep(group_keys(*names[: generator.randint(1, 2)]), (FigureOf(Agg.COUNT),
            FigureOf(generator.choice([Agg.SUM, Agg.MEAN, Agg.MIN, Agg.MAX, Agg.DISTINCT]), "ijfdn"[
                generator.randrange(5)]),))  # fmt: skip
    if kind == "top":
        return TopStep(
            generator.randint(1, 5),
            (SortBy(names[0], generator.random() < 0.5, generator.random() < 0.5), SortBy("id")),
            tuple(names[1:]) if generator.random() < 0.5 else (),
        )
    of = generator.choice("nntm")
    made = nested(generator, pools, generator.choice(pools[of]), 2)
    if kind == "compute":
        return computed(made=made)
    other = nested(generator, pools, generator.choice(pools[of]), 1)
    test = generator.choice(
        [
            f"({made}) {generator.choice(['=', '<', '>=', '<>'])} ({other})",
            f"({made}) is not null",
            f"({made}) is distinct from ({other}) or {names[0]} is null",
            f"not (({made}) <= ({other}))",
        ]
    )
    return filtered(Condition("sql", text=test))


def test_random_steps_mean_the_same_upstream_or_say_so(odd):
    table = fetch(odd, Request("select * from odd_rows")).table
    pools = {"n": [], "t": [], "m": []}
    for text in odd_expressions():
        with suppress(ConditionError):
            kind = kind_of(parse_expression(text, table), table)
            group = "n" if kind in NUMBERS else "t" if kind is Kind.TEXT else "m" if kind is Kind.TIME else ""
            if group and "over (" not in text:
                pools[group].append(text)
    told, many, number = Counter(), how_many(40, 400), 0
    while sum(told.values()) - told["refused"] < many:
        number += 1
        step = chain(random.Random(number), pools, table)
        said = outcome(odd, table, step)
        assert said in ("same", "noted", "refused"), (number, step, said)
        told[said] += 1
    proven("random steps moved upstream", odd.dialect.key, many, f"{told['same']} the same, {told['noted']} announced")
