"""What local expressions give, against PostgreSQL's own answers: every function, sign and cast over every kind and odd
values. A cell is alike where both give the same value, or the server an error and we NULL; an expression that the
server refuses is refused here, too, but for what docs/local-sql.md allows beyond it."""

import datetime as dt
import itertools
import math
import random
import re
from contextlib import closing
from decimal import Decimal

import numpy as np
import psycopg
import pytest

from nimble_otter.errors import ConditionError
from nimble_otter.query.local.conditions import parse_expression
from nimble_otter.query.local.meaning import FORMS
from nimble_otter.sources import Request, fetch
from nimble_otter.table.ops.dates import PARTS, UNITS, parse_interval
from nimble_otter.table.ops.expressions import compute
from nimble_otter.table.ops.filter import values_of
from nimble_otter.table.ops.functions import as_text
from tests.proofs import proven

KINDS = {
    "i": "bigint", "j": "integer", "f": "float8", "e": "float8", "d": "numeric(20,4)", "n": "numeric", "t": "text",
    "u": "text", "b": "boolean", "day": "date", "at": "timestamp", "upto": "timestamp", "z": "timestamptz",
    "c": "time", "s": "interval", "g": "uuid",
}  # fmt: skip
VALUES = {
    "i": ["0", "-7", "7", "null", "9223372036854775807", "-9223372036854775808", "12", "1"],
    "j": ["3", "2", "-3", "5", "2", "-1", "0", "null"],
    "f": ["1.5", "-0.5", "'NaN'", "'Infinity'", "1e300", "null", "2.5", "-0.0"],
    "e": ["2", "-2", "'NaN'", "1e300", "1e300", "1", "0", "0.1"],
    "d": ["1.25", "-1.25", "0.0001", "-0.5", "9999999999999999.9999", "null", "0", "2.5"],
    "n": ["1.005", "-12345678901234567890123456789.5", "0.00000000000000000001", "3", "null", "-2.50", "1e30", "7"],
    "t": ["''", "' abc '", "'äÖß'", "null", "'12'", "'yes'", "'a%b_c\\d'", "'İx-y-z'"],
    "u": ["'b'", "' '", "'%ö%'", "'x'", "null", "'y%'", "'a\\%b_c\\\\d'", "'-'"],
    "b": ["true", "false", "null", "true", "false", "true", "null", "false"],
    "day": ["'2031-05-31'", "'2032-02-29'", "'1999-12-31'", "null", "'1970-01-01'", "'2000-01-01'", "'2026-12-31'",
            "'2027-01-03'"],
    "at": ["'2031-05-31 13:04:05.678901'", "'2032-02-29 00:00:00'", "null", "'1969-12-31 23:59:59.999999'",
           "'2000-01-01 12:00:00'", "'2001-01-01 00:30:00'", "'2026-12-31 11:59:59.5'", "'2027-01-03 01:00:00'"],
    "upto": ["'2031-06-01 00:00:00'", "'2031-02-28 06:00:00'", "'2031-06-01 00:00:00'", "'1970-01-01 00:00:00'", "null",
             "'2001-01-01 00:30:00'", "'2030-12-31 23:00:00'", "'1900-03-01 00:00:00'"],
    "z": ["'2031-05-31 13:04:05.5+02'", "null", "'2031-01-01 00:00:00+00'", "'1969-07-20 20:17:00-05'",
          "'2031-07-01 12:00:00+00'", "'2000-02-29 23:59:59.999999+00'", "'2031-03-30 01:30:00+00'",
          "'2031-10-26 00:30:00+00'"],
    "c": ["'23:59:59.999999'", "'00:00:00'", "'12:30:00'", "null", "'01:02:03.5'", "'06:00:00'", "'18:45:10'",
          "'23:00:00'"],
    "s": ["'26:30:00'", "'-01:00:00.5'", "'00:00:00'", "null", "'90:00:00'", "'00:00:01.25'", "'23:59:59.999999'",
          "'12:00:00'"],
    "g": ["'00000000-0000-0000-0000-000000000001'", "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'", "null",
          "'ffffffff-ffff-ffff-ffff-ffffffffffff'"] * 2,
}  # fmt: skip
OF = {
    "number": ["i", "j", "f", "d", "n", "t", "b", "2.5", "-3"], "whole": ["j", "2", "0", "-1", "d"],
    "text": ["t", "u", "'ab'", "i", "day"], "moment": ["day", "at", "z", "c", "i"],
    "part": ["day", "at", "z", "c", "s", "t"],
    "any": ["i", "f", "d", "t", "b", "day", "at", "z", "c", "s", "g", "null", "'x'", "2.50"],
}  # fmt: skip
FORMS_OF_TIMES = (
    "YYYY-MM-DD HH24:MI:SS", "FMDay, DD FMMonth YYYY", "Dy DD Mon YY HH12:MI AM", "Q IYYY-IW ID DDD D",
    "MS US SSSS AD b.c.",
    '"at" HH:MI p.m. "YYYY"', "DAY MONTH MON day month dy", "FMDDth FMMM W WW CC J",
)  # fmt: skip
BEYOND = re.compile(  # what is taken here though the server does not
    r"(round|trunc)\([fe], |mod\(.*\b[fe]\b|.* %|log\(.*\b[fe]\b|(t|g) \S+ (t|g)$|nullif\(t, g|cast\(i as boolean|"
    r"[ij] \S+ b$|b \S+ i$|i \+ day|day [+-] i|c \+ c"
)


REFUSED = (  # what is refused here though the server takes it; docs/local-sql.md says why
    *(f"extract({part} from s)" for part in ("hour", "day", "week", "month", "quarter", "year", "decade", "century",
      "millennium")), "to_char(i", "to_char(c", "t similar",
    *(f"{a} {sign} interval '1 {unit}" for a in "cs" for sign in "+-"
      for unit in ("month", "year")),
)  # fmt: skip


@pytest.fixture(scope="module")
def odd(postgres):
    """The table of odd values as we read it, and what the server says of an expression in each of its rows."""
    url = postgres.url.replace("/merrow", "/meaning")
    postgres.ask("create database meaning")
    with closing(psycopg.connect(url, autocommit=True)) as server:
        server.execute("set timezone = 'UTC'")
        server.execute(f"create table odd (id int primary key, {', '.join(f'{n} {k}' for n, k in KINDS.items())})")
        for row in range(8):
            cells = ", ".join(VALUES[name][row] for name in KINDS)
            server.execute(f"insert into odd values ({row}, {cells})")
        server.execute(r"""create function tried(expression text) returns table(at int, kind text, answer text) as $$
            declare r int;
            begin
              for r in select id from odd order by id loop
                at := r;
                begin
                  execute format('select (%s)::text, pg_typeof(%s) from odd where id = %s', expression, expression, r)
                    into answer, kind;
                exception when others then answer := sqlstate; kind := 'error'; end;
                return next;
              end loop;
            end $$ language plpgsql""")
        from nimble_otter.sources import Source, connect

        with closing(connect(Source("odd", url))) as connection:
            table = fetch(connection, Request("select * from odd order by id")).table

        def ask(text):
            found = server.execute("select kind, answer from tried(%s)", [text]).fetchall()
            return None if found[0][0] == "error" and found[0][1][:2] == "42" else found

        yield table, ask, lambda text: server.execute(f"select ({text})::text from odd order by id").fetchall()
    postgres.ask("drop database meaning with (force)")


def expressions():
    """Every form with arguments of the kinds it takes and of others, every sign, cast, part, unit and form."""
    made = []
    for form in FORMS.values():
        if form.takes[0] == "unit" or form.name in ("datediff", "regexp_replace", "concat", "concat_ws"):
            continue
        for count in range(form.least, len(form.takes) + 1 + 2 * form.many):
            pools = [OF[form.wants(n)] for n in range(count)]
            every = list(itertools.product(*pools))
            some = every if len(every) <= 60 else random.Random(form.name).sample(every, 60)
            made += [f"{form.name}({', '.join(args)})" for args in some]
    plain = ["i", "j", "f", "e", "d", "n", "day", "at", "upto", "z", "c", "s", "t", "b", "2", "0.5", "-3"]
    made += [
        f"{a} {sign} {b}" for sign in "+-*/%" for a in plain for b in plain if not (a in "2-30.5" and b in "2-30.5")
    ]
    made += [
        f"{a} {sign} {b}"
        for sign in ("=", "<", ">=", "<>")
        for a in (*OF["any"], "j", "e", "n")
        for b in OF["any"]
        if "null" not in (a, b) and not (a[0] in "'2" and b[0] in "'2")
    ]
    made += [
        f"cast({a} as {kind})"
        for a in (*OF["any"], "n", "e")
        for kind in (
            "text",
            "varchar(3)",
            "int",
            "smallint",
            "bigint",
            "float8",
            "real",
            "numeric",
            "numeric(10,2)",
            "boolean",
            "date",
            "timestamp",
            "timestamptz",
            "time",
            "interval",
            "uuid",
        )
        if "null" not in a and "'" not in a
    ]
    made += [
        f"cast({text} as {kind})"
        for kind, texts in {
            "int": ("' 12 '", "'1.5'", "'x'", "''", "'99999999999'", "'1_0'"),
            "float8": ("'1e5'", "'inf'", "' NaN '", "'1e999'", "'x'"),
            "numeric": ("'1.50'", "'NaN'", "'1e3'", "'.5'", "'1_0'"),
            "numeric(4,1)": ("'12.25'", "'1234.5'", "'-0.05'"),
            "boolean": ("'t'", "'off'", "'of'", "'o'", "' YES '", "'2'", "'tru'"),
            "uuid": ("'A0EEBC99-9c0b-4ef8-bb6d-6bb9bd380a11'", "'x'"),
            "interval": ("'1 day 02:00'", "'90 min'", "'-3 hours'", "'2 days ago'"),
            "time": ("'12:30'", "'25:00'"),
        }.items()
        for text in (f"t || {x}" if False else f"concat({x}, '')" for x in texts)
    ]
    made += [f"extract({part} from {a})" for part in (*PARTS, "nonsense") for a in OF["part"]]
    made += [f"date_trunc('{unit}', {a})" for unit in UNITS for a in ("day", "at", "z")]
    made += [f"to_char({a}, '{form}')" for form in FORMS_OF_TIMES for a in ("day", "at")]
    made += [
        f"{a} {sign} interval '{span}'"
        for sign in "+-"
        for a in ("day", "at", "z", "c", "s")
        for span in ("1 month", "1 day 2 hours", "90 minutes", "1 year 3 days", "-2 weeks", "0.5 seconds")
    ]
    made += [
        "at at time zone 'Europe/Vienna'",
        "z at time zone 'America/New_York'",
        "t like u",
        "t not like u",
        "t ilike u",
        "i in (j, 7)",
        "i not in (j, null)",
        "(i, j) in ((7, 5), (0, 3))",
        "(i, j) = (j, i)",
        "i = any(array[7, 12])",
        "i <> all(array[7, 12])",
        "i between symmetric 7 and 0",
        "b is true",
        "b is not false",
        "b is unknown",
        "i is distinct from j",
        "f = 'NaN'",
        "f > 5",
        "f <= 'NaN'",
        "case when b then i else j end",
        "t similar to 'x'",
        "case i when 7 then 'a' else t end",
        "coalesce(i, d)",
        "t || i",
        "i || t",
        "i || j",
        "f || t",
        "b || t",
        "at || t",
        "n || t",
        "s || t",
        "z || t",
        "day || t",
        "c || t",
        "g || t",
        "t || null",
        "-f",
        "-n",
        "-i",
        "-s",
        "- day",
        "not b",
        "concat(i, f, d, n, t, b, day, at, z, c, g)",
        "concat_ws('-', i, null, t)",
        "concat_ws(u, t, i)",
        "regexp_replace(t, '[a-z]', '<\\&>')",
        "regexp_replace(t, '(.)(.)', '\\2\\1', 'g')",
        "regexp_replace(t, 'A', 'x', 'gi')",
        "trim(both 'x' from t)",
        "trim(leading from t)",
        "trim(trailing 'z' from t)",
        "substring(t from 2 for 3)",
        "position('b' in t)",
        "overlay(t placing 'XX' from 2 for 1)",
        "i ^ 2",
        "2 ^ j",
        "abs(-9223372036854775807 - 1)",
        "-(-9223372036854775807 - 1)",
        "10 / 3",
        "-7 % 3",
        "7 % -3",
        "1.0 / 3",
        "1 / 3.0",
        "2.50 * 2.50",
        "1e3 / 7",
        "round(2.675, 2)",
        "round(-2.5)",
        "round(1234.5, -2)",
        "trunc(-1.99)",
        "1 / 0",
        "sqrt(2)",
    ]
    return list(dict.fromkeys(made))


def alike(value, kind, answer, text):
    """Whether our value is the server's: an error there is NULL here."""
    if kind == "error":  # whole numbers have no end here, and what is too small for a double is 0
        return value is None or (answer == "22003" and (type(value) is int or value == 0))
    if answer is None or (text == "power(n, i)" and len(answer) > 308):  # a double here
        return not value
    if value is None:
        return "1_0" in text and answer == "10"  # PostgreSQL takes it from version 16 on
    if isinstance(value, bool):
        return answer == as_text(value)
    if isinstance(value, (int, float, Decimal)):
        if kind in ("text", "boolean"):
            return False
        theirs = float(answer)
        if isinstance(value, float) or kind in ("double precision", "real"):
            near = {"real": 1e-7, "numeric": 1e-10}.get(kind, 1e-14)
            return (math.isnan(theirs) and value != value) or math.isclose(value, theirs, rel_tol=near, abs_tol=1e-16)
        return Decimal(value) == Decimal(answer) or (value != value and math.isnan(theirs))
    if isinstance(value, dt.timedelta):
        months, span = parse_interval(answer.replace("-", " -") if " " in answer else answer)
        return not months and span == value
    is_cut = text.startswith("date_trunc") and "day)" in text  # a time without zone here
    return as_text(value) == (answer.removesuffix("+00") if is_cut else answer)


def test_expressions_give_what_the_server_gives(odd):
    table, ask, _ = odd
    ids, wrong, cells, refused = np.arange(table.rows), [], 0, 0
    texts = expressions()
    for text in texts:
        theirs = ask(text)
        try:
            operand = parse_expression(text, table)
        except ConditionError:
            refused += 1
            taken = theirs is not None and any(kind != "error" and answer is not None for kind, answer in theirs)
            if taken and not text.startswith(REFUSED):
                wrong.append((text, "refused here", theirs[0]))
            continue
        try:
            made, single = compute(operand, table, ids).values(), values_of(operand, table, ids)
        except Exception as problem:  # noqa: BLE001 - told where it is waited for
            wrong.append((text, "raises", repr(problem)))
            continue
        same = [a == b or as_text(a) == as_text(b) for a, b in zip(single, made, strict=True)]
        if not all(same):
            wrong.append((text, "arrays", single, made))
        if theirs is None:
            if not BEYOND.match(text):
                wrong.append((text, "taken here", made[:3]))
            continue
        same = [a == b or as_text(a) == as_text(b) for a, b in zip(single, made, strict=True)]
        if not all(same):
            wrong.append((text, "arrays", single, made))
        for row, (value, (kind, answer)) in enumerate(zip(made, theirs, strict=True)):
            cells += 1
            if not alike(value, kind, answer, text):
                wrong.append((text, row, value, kind, answer))
    for line in wrong[:400]:
        print(line)
    assert not wrong, (len(texts), cells, refused, len(wrong))
    proven(
        "expressions worked out here, as the server does", "postgresql", cells, f"cells of {len(texts):,} expressions"
    )


def test_windows_give_what_the_server_gives(odd):
    table, _, ask = odd
    figures = [f"{name}({of})" for name in ("stddev", "stddev_pop", "variance", "var_pop", "sum", "avg", "max")
               for of in ("i / 1000", "d", "e / 1e290::float8", "j * 1000003")]  # fmt: skip
    overs = (
        "()",
        "(partition by b)",
        "(order by id)",
        "(order by id rows 2 preceding)",
        "(order by b range current row)",
    )
    texts = [f"{figure} over {over}" for figure in figures for over in overs]
    texts += ["case when rank() over (order by i) < 3 then 1 end", "i > avg(i) over (partition by b)",
              "coalesce(lag(t) over (order by id), '-') like '%a%'"]  # fmt: skip
    for text in texts:
        made = compute(parse_expression(text, table), table, np.arange(table.rows)).values()
        for value, (answer,) in zip(made, ask(text), strict=True):
            if isinstance(value, (float, int, Decimal)) and not isinstance(value, bool):
                assert answer is not None, text
                near = math.isclose(value, float(answer), rel_tol=1e-9, abs_tol=1e-9)
                assert near or (value != value and answer == "NaN"), (text, made, ask(text))
            else:
                assert (None if value is None else as_text(value)) == answer, (text, made)
