"""Rows that come as columns, against the same rows one by one: every type, hostile values, on a server."""

import random
from contextlib import closing, suppress
from dataclasses import replace

import numpy as np
import pytest

from nimble_otter.errors import QueryError
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.sources.relational import Relational
from nimble_otter.stop import StopToken
from nimble_otter.table.core.parts import ColumnBatch
from tests.conformance.test_types import POSTGRESQL
from tests.proofs import how_many, proven

MADE = {  # values by the row's number n
    "int2": "(n * 7919 % 65536 - 32768)::int2", "int4": "n * 7919", "int8": "n::int8 * 7000000000000", "oid": "n::oid",
    "float4": "(n / 3.7)::float4", "float8": "n / 3.7::float8", "bool": "n % 3 = 0",
    "bytea": "decode(md5(n::text), 'hex')",
    "text": "repeat(chr(200 + n % 9000), n % 40)", "varchar": "'note ' || n", "bpchar": "('x' || n)::char(9)",
    "name": "('n' || n % 5)::name", "date": "date '2001-01-01' + n * 37",
    "time": "time '00:00' + n * interval '1.037 s'",
    "timestamp": "timestamp '1931-01-01' + n * interval '9.0371 hours'",
    "whole": "timestamp '2031-01-01' + n * interval '1 s'",
    "tenths": "timestamp '2031-01-01 00:00:00.1' + n * interval '1 s'",
    "timestamptz": "timestamptz '2031-01-01' + n * interval '7.25 hours'", "interval": "(n - 40) * interval '37.5 s'",
    "days": "(n - 40) * interval '1 day'", "age": "age(date '2031-01-01' - n * 37)", "uuid": "md5(n::text)::uuid",
    "numeric(12,2)": "((n - 40) / 8.0)::numeric(12, 2)",
    "numeric(18)": "((n % 9000)::numeric * 99999999999999)::numeric(18)",
    "numeric(30,12)": "(n * 1234567.123456789012)::numeric(30, 12)", "numeric": "n::numeric / (n % 9 + 1)",
    "json": "json_build_object('a', n, 'é', null)", "jsonb": "jsonb_build_object('a', n)",
    "int4[]": "array[n, null, n + 1]",
    "text[]": "array['a' || n, null, 'b c', '', 'NULL', 'q\"x\\y']", "int8[]": "array[[n, 2], [3, 4]]::int8[]",
    "int2[]": "case when n % 5 = 0 then '[0:1]={1,2}' else '{}' end::int2[]",
    "long list": "array_fill(n, array[n % 90])",
    "varchar[]": "('[2:3]={\" a\",' || n || '}')::varchar[]", "numeric[]": "array[n, 1.50]", "point": "point(n, 1)",
    "record": "row(n, 'a')", "inet": "'10.0.0.0'::inet + n", "money": "n::money", "void": "null::text",
}  # fmt: skip
ODD = {
    "date": ["infinity", "-infinity", "0044-03-15 BC", "10000-01-01", "5874897-12-31", "4714-11-24 BC", "0001-01-01"],
    "timestamp": ["infinity", "-infinity", "0044-03-15 01:02:03.5 BC", "294276-12-31 23:59:59.999999",
                  "4714-11-24 00:00:00 BC", "9999-12-31 23:59:59.999999", "0001-01-01 00:00:00"],
    "timestamptz": ["infinity", "0044-03-15 01:02:03 BC", "294276-12-31 23:59:59.999999+00", "0001-01-01 00:00+00"],
    "time": ["24:00:00", "23:59:59.999999"],
    "interval": ["1 year -2 mons +3 days -04:05:06.7", "-1 mon +1 day", "1 day -00:00:01", "-3 days 100:00:00",
                 "178000000 years", "30 hours", "1 day 30 hours", "-0.000001 s", "0"],
    "numeric(30,12)": ["NaN", "999999999999999999.999999999999", "-0.000000000001", "123456.7"],
    "numeric(18)": ["999999999999999999", "-999999999999999999", "NaN"], "float4": ["0.1", "NaN", "-Infinity", "1e-45"],
    "float8": ["NaN", "Infinity", "-0", "5e-324"], "numeric": ["1e400", "NaN", "Infinity", "0", "0.000"],
    "bool": ["true"], "int8": ["-9223372036854775808"], "text": ["'; drop table t; --", "\U0001f9a6", "\\",
    "x" * 70_000],
    "uuid": ["00000000-0000-0000-0000-000000000000"], "bytea": [r"\x", r"\x00ff"], "jsonb": ["null", '"\\u00e9"'],
}  # fmt: skip


def _open(server):
    return closing(connect(Source("survey", server.url)))


@pytest.fixture(scope="module")
def server(postgres):
    postgres.ask("drop type if exists kind_mood, kind_pair; drop domain if exists kind_small", "merrow")
    postgres.ask("create type kind_mood as enum ('low', 'high')", "merrow")
    postgres.ask("create domain kind_small as int2 check (value > 0)", "merrow")
    postgres.ask("create type kind_pair as (a int, b text)", "merrow")
    return postgres


@pytest.fixture
def both(server, monkeypatch):
    """A query's table as columns brought it, compared with what rows make of it; and whether columns came."""
    connection = connect(Source("fast", server.url))
    slow = connect(Source("slow", server.url))
    inner = type(slow)._start
    monkeypatch.setattr(slow, "_start", lambda answer, text, values: (
        setattr(answer, "in_columns", False), inner(slow, answer, text, values))[1])  # fmt: skip

    def ask(text, parameters=None, limit=None):
        request = Request(text, parameters or {}, limit)
        kinds = []
        run = connection.run(replace(request, in_columns=True), StopToken())
        for batch in run.batches:
            kinds.append(isinstance(batch, ColumnBatch))
        there, here = fetch(slow, request), fetch(connection, request)
        assert [(f.name, f.kind, f.form, f.numbers, f.declared, f.origin) for f in here.table.fields] == [
            (f.name, f.kind, f.form, f.numbers, f.declared, f.origin) for f in there.table.fields
        ], text
        assert (here.table.rows, here.was_cut, here.origins) == (there.table.rows, there.was_cut, there.origins)
        for field, ours, theirs in zip(here.table.fields, here.table.columns, there.table.columns, strict=True):
            assert repr(ours.values()) == repr(theirs.values()), (text, field.name)
            assert ours.scale == theirs.scale
            assert np.array_equal(ours.empty_at(), theirs.empty_at())
        return all(kinds)

    yield ask
    connection.close()
    slow.close()


def test_every_type_comes_alike(both, server):
    for kind, values in POSTGRESQL.items():
        if values:
            one, two = (v.replace("''", "'").replace("'", "''") for v in values)
            told = f"select * from (values ('{one}'::{kind}), (null), ('{two}'::{kind})) v (v)"
            assert both(told) or kind in ("name",), kind
            assert both(f"select array[v, null] as v from ({told}) q"), kind


def test_made_tables_of_every_kind(both):
    """With NULL here and there, in several batches, with the odd value early, late, alone and all over."""
    rng = random.Random(4)
    for kind, made in MADE.items():
        for share in (0, 3):
            value = f"case when n % {share} = 1 then null else {made} end" if share else made
            assert both(f'select n as id, {value} as v, {value} as "w w" from generate_series(1, 700) n order by 1'), (
                kind
            )
    for kind, texts in ODD.items():
        base, cast = MADE[kind], kind
        for text in texts:
            at = rng.choice([1, 2, 499, 501, 700])
            told = text.replace("'", "''")
            chosen = f"case when n = {at} then '{told}'::{cast} when n % 7 = 1 then null else ({base})::{cast} end"
            assert both(f"select {chosen} as v, n from generate_series(1, 710) n order by n"), (kind, text)
        every = ", ".join(f"""('{text.replace("'", "''")}'::{cast})""" for text in texts)
        assert both(f"select v from (values {every}, (null)) q (v)"), kind


def test_random_tables_of_all_types(both):
    rng = random.Random(11)
    count = how_many(4, 300)
    for _ in range(count):
        names = [rng.choice(list(MADE)) for _ in range(rng.randint(1, 9))]
        columns = []
        for number, kind in enumerate(names):
            made = MADE[kind]
            if kind in ODD and rng.random() < 0.5:
                told = rng.choice(ODD[kind]).replace("'", "''")
                when = f"n % {rng.randint(2, 3000)} = {rng.randint(0, 1)}"
                made = f"case when {when} then '{told}'::{kind} else ({made})::{kind} end"
            if rng.random() < 0.4:
                made = f"case when n % {rng.randint(2, 9)} = 0 then null else {made} end"
            columns.append(f'{made} as "{kind} {number}"')
        rows = rng.choice([0, 1, 499, 500, 501, 2600, 17_001])
        assert both(f"select {', '.join(columns)} from generate_series(1, {rows}) n order by n", None,
                    rng.choice([None, None, 0, 1, 500, rows]))  # fmt: skip
    proven("rows as columns and one by one", "postgresql", count, "random tables of all types")


def test_texts_that_copy_can_take_and_those_it_cannot(both, server):
    """Whatever stands in the text, columns and rows tell the same, and nothing is written."""
    server.ask("drop table if exists kept; create table kept as select generate_series(1, 3) as a", "merrow")
    takes = ["select a from kept -- the end", "select a from kept;", "(select 1 as a) union all (select 2)",
    "values (1, 'x')",
             "table kept", "with q as (select 1 as a) select * from q /* ( */", "select ')', '(' as b",
             "select E'\\')' as a",
             "select $$)$$ as a", "select 1 as a, 2 as a", "select * from kept where false",
             "/* a ( b */ select 1", "select 'a;b' as \"x)\"", "select a % 2 as m from kept",
             "select '%s' as a"]  # fmt: skip
    for text in takes:
        both(text)
    for text in ("show timezone", "explain select 1", "select 1) to '/tmp/otter'; --", "select 1; drop table kept"):
        with _open(server) as connection, suppress(QueryError):
            fetch(connection, Request(text))
    assert server.ask("select count(*) from kept", "merrow") == [(3,)]
    assert both("select :a::int + n as v, :b as w from generate_series(1, 3) n where n < :c",
                {"a": 5, "b": "it's %s \\ :a", "c": 3})  # fmt: skip
    for text, at in (("select 1 / (a - 2), a from kept", None), ("select levl from kept", 8), ("select 1 +", None)):
        with _open(server) as connection, pytest.raises(QueryError) as found:
            fetch(connection, Request(text))
        assert at is None or found.value.place.column == at


def test_stopped_cut_and_closed_early_leaves_the_connection_usable(server):
    with _open(server) as connection:
        assert isinstance(connection, Relational)
        endless = "select n, repeat('x', 300) as t from (select generate_series(1, 100000000) n) q"
        assert fetch(connection, Request(endless, limit=1234)).table.rows == 1234
        run = connection.run(Request(endless, in_columns=True), StopToken())
        assert isinstance(next(run.batches), ColumnBatch)
        run.batches.close()
        stop, seen = StopToken(), []

        def stop_soon(table):
            seen.append(table.rows)
            stop.set()

        fetched = fetch(connection, Request(endless), stop, stop_soon)
        assert fetched.was_stopped
        assert fetched.table.rows >= seen[0] > 0
        assert fetch(connection, Request("select 1 as a")).table.columns[0].values() == [1]
        with pytest.raises(QueryError, match="ivision by zero"):
            fetch(connection, Request("select 1 / (n - 900) from generate_series(1, 2000) n"))
        assert fetch(connection, Request("select 2 as a")).table.columns[0].values() == [2]
        assert server.ask("select count(*) from pg_stat_activity where state = 'active' and query like 'copy%'") == [
            (0,)
        ]
