"""Expressions as people write them, in every syntax that comes to mind, worked out here and by PostgreSQL: the same, or
refused here with words. None was made by a generator, which writes what its maker thought of."""

import datetime as dt
import math
from decimal import Decimal

import numpy as np
import psycopg
import pytest

from nimble_otter.errors import ConditionError
from nimble_otter.query.local.conditions import parse_expression
from nimble_otter.table.core.build import table_of
from nimble_otter.table.ops.expressions import compute

ROWS = {
    "i": [7, -7, None, 0, 2], "j": [2, 3, 4, None, -2], "f": [1.5, -0.25, None, 0.0, 2.5],
    "d": [Decimal("1.50"), Decimal("-2.25"), None, Decimal("0.00"), Decimal("10.10")],
    "t": ["Alder Weir", "it's", None, "", " x-Y_z% "], "u": ["a,b", "é漢", None, "%", "A1b2"],
    "at": [dt.datetime(2031, 5, 28, 6, 30, 15, 250_000), dt.datetime(2028, 2, 29, 23, 59, 59), None,
           dt.datetime(1969, 12, 31), dt.datetime(2031, 1, 1)],
    "day": [dt.date(2031, 5, 28), dt.date(2028, 2, 29), None, dt.date(1970, 1, 1), dt.date(2031, 12, 31)],
    "b": [True, False, None, True, False],
}  # fmt: skip
TYPES = ("int", "int", "float8", "numeric(10, 2)", "text", "text", "timestamp", "date", "boolean")
OTHERWISE = {
    "i > 0 = b": "the server has no such chain",
    "cast(t as char(3))": "the server pads an empty text with blanks",
}
"""What is known to be otherwise, and why."""
TEXTS = r"""
i + j * 2  ;  (i+j)*2  ;  -i ^ 2  ;  2 ^ 3 ^ 2  ;  -2 ^ 2  ;  i % j  ;  i / j  ;  f / 2  ;  i / 2.0  ;  i / 2
d / 3  ;  d * d  ;  i * f  ;  d * f  ;  d + i  ;  abs(i)  ;  - - i  ;  +i  ;  not b  ;  not i = 7  ;  b = (i > 0)
i > 0 = b  ;  i between 0 and 7  ;  i not between 0 and 7  ;  i between symmetric 7 and 0
i in (7, 2)  ;  i not in (7, null)  ;  i = any(array[7, 2])  ;  i <> all(array[7,2])  ;  i is null
i is not null  ;  i is distinct from j  ;  i is not distinct from null  ;  b is true  ;  b is not true
b is unknown  ;  b is not unknown  ;  b is false
t like 'A%'  ;  t not like 'A%'  ;  t ilike 'a%'  ;  t like '%\_%'  ;  t like '%!_%' escape '!'  ;  t like '%\%%'
t ~ '^A'  ;  t !~ '^A'  ;  t ~* '^a'  ;  t !~* '^a'  ;  t similar to 'A%  ;  x%'  ;  u like '\%'  ;  u like '%'
t   ;    ;   u  ;  t   ;    ;   i  ;  i   ;    ;   t  ;  t   ;    ;   null  ;  t   ;    ;   ' '   ;    ;   u
'a'   ;    ;   'b'   ;    ;   'c'  ;  'it''s'   ;    ;   t  ;  E'a\nb'   ;    ;   t  ;  'a' 'b'  ;  length(t)
char_length(u)  ;  octet_length(u)  ;  upper(t)  ;  lower(u)  ;  initcap(t)  ;  trim(t)  ;  trim(both 'x' from t)
trim(leading ' ' from t)  ;  trim(trailing from t)  ;  ltrim(t)  ;  rtrim(t)  ;  btrim(t, ' x')  ;  ltrim(t,'A')
substring(t from 2 for 3)  ;  substring(t, 2)  ;  substring(t, 2, 3)  ;  substr(t, 0, 3)
substring(t from -1 for 4)  ;  substring(t from '[a-z]+')  ;  left(t, 2)  ;  left(t, -2)  ;  right(t, 2)
right(t,-2)  ;  position('e' in t)  ;  strpos(t, 'e')  ;  replace(t, 'e', 'E')  ;  split_part(u, ',', 1)
split_part(u, ',', 2)  ;  split_part(u,',',-1)  ;  repeat(u, 2)  ;  reverse(u)  ;  lpad(u, 5, '*')  ;  rpad(u, 5)
overlay(t placing 'X' from 2 for 1)  ;  concat(t, u)  ;  concat(t, null, i)  ;  concat_ws('-', t, u)  ;  md5(u)
ascii(u)  ;  chr(65)  ;  translate(t,'er','xy')  ;  starts_with(t,'A')
coalesce(i, j, 0)  ;  nullif(i, 7)  ;  greatest(i, j)  ;  least(i, j, 0)
case when i > 0 then 'p' when i < 0 then 'n' else 'z' end  ;  case i when 7 then 'seven' else t end
case when b then 1 end  ;  case i when null then 1 else 2 end
cast(i as text)  ;  cast(f as text)  ;  cast(d as text)  ;  cast(at as text)  ;  cast(day as text)
cast(b as text)  ;  i::text  ;  f::int  ;  d::integer  ;  cast('12' as int)  ;  cast(f as numeric)
cast(d as double precision)  ;  cast(d as numeric(10,1))  ;  cast(f as numeric(10,1))  ;  at::date  ;  at::time
day::timestamp  ;  cast(b as int)  ;  cast(i as boolean)  ;  '7'::int + i  ;  cast(i as bigint)
cast(i as smallint)  ;  cast(t as varchar(3))  ;  cast(t as char(3))
round(f)  ;  round(d)  ;  round(d, 1)  ;  round(i, -1)  ;  trunc(d)  ;  trunc(d, 1)  ;  trunc(f)  ;  floor(f)
ceil(f)  ;  ceiling(d)  ;  sqrt(abs(i))  ;  power(i, 2)  ;  exp(f)  ;  ln(abs(f)+1)  ;  log(100)  ;  log(2, 8)
sign(i)  ;  sign(d)  ;  mod(i, 3)  ;  div(i, 2)  ;  pi()  ;  degrees(f)  ;  radians(f)  ;  sin(f)  ;  cbrt(27)
factorial(5)  ;  gcd(12, 18)  ;  width_bucket(f, 0, 3, 3)
extract(year from at)  ;  extract(month from day)  ;  extract(dow from day)  ;  extract(isodow from day)
extract(doy from at)  ;  extract(week from day)  ;  extract(quarter from day)  ;  extract(epoch from at)
extract(hour from at)  ;  extract(second from at)  ;  extract(milliseconds from at)  ;  extract(century from day)
extract(decade from day)  ;  date_part('year', at)  ;  date_trunc('month', at)  ;  date_trunc('hour', at)
date_trunc('week', day)  ;  date_trunc('quarter', day)  ;  date_trunc('year', at)
at + interval '1 day'  ;  at - interval '1 month'  ;  at + interval '1 day 02:00:00'
at + interval '1 month -1 day'  ;  at + interval '1' year  ;  at + interval '1.5 hours'
at + interval '90 minutes'  ;  at - interval '1 year 2 months 3 days 04:05:06'  ;  day + 1  ;  day - 1
day + interval '1 day'  ;  at - at  ;  day - day  ;  day - date '2031-01-01'  ;  at - timestamp '2031-01-01 00:00'
at > timestamp '2031-01-01'  ;  day = date '2031-05-28'  ;  at + i * interval '1 day'  ;  interval '1 day' * 2
interval '1 hour' / 2  ;  at + interval '1 week'  ;  at + interval '-1 day'  ;  at + interval '1 day ago'
at + interval '3 days 2 hours ago'  ;  at + interval 'P1D'  ;  at + interval '1-2'  ;  at + interval '2 weeks 3'
age(at, timestamp '2030-01-01')
to_char(at, 'YYYY-MM-DD HH24:MI:SS')  ;  to_char(at, 'Mon DD, YYYY')  ;  to_char(day, 'Day')
to_char(at, 'HH12:MI AM')  ;  to_char(at,'FMMonth FMDD')  ;  to_char(at,'Q')  ;  to_char(at,'IW')
to_char(at,'MS')  ;  to_char(at,'"year" YYYY')  ;  to_char(f, '999.99')  ;  to_char(i, '000')
make_date(2031, 5, 28)  ;  to_date('28.05.2031','DD.MM.YYYY')  ;  to_timestamp('2031-05-28','YYYY-MM-DD')
i = 7 and b  ;  i = 7 or b  ;  not (i = 7 and b)  ;  i = 7 and not b or f > 1  ;  i < j and j < 10
(i, j) = (7, 2)  ;  (i, j) < (7, 3)  ;  i = 7.0  ;  i > 6.5  ;  f = 1.5  ;  d = 1.5  ;  t = 'Alder Weir'
t < 'B'  ;  t >= u  ;  t <> ''  ;  day > '2031-01-01'  ;  at between '2031-01-01' and '2031-12-31'  ;  b
b and null  ;  b or null  ;  null and b  ;  i & 3  ;  i | 8  ;  i # 1  ;  i << 1  ;  ~i  ;  @ i  ;  |/ 16
1e2 + i  ;  .5 + f  ;  0x1F + i  ;  1_000 + i  ;  i + 1 -- comment  ;  i /* c */ + 1
""".strip()


@pytest.fixture(scope="module")
def server(postgres):
    with psycopg.connect(postgres.url, autocommit=True) as connection:
        names = ", ".join(f"{name} {type_}" for name, type_ in zip(ROWS, TYPES, strict=True))
        connection.execute(f"create temp table x (n serial, {names})")
        for values in zip(*ROWS.values(), strict=True):
            connection.execute(f"insert into x ({', '.join(ROWS)}) values ({', '.join(['%s'] * len(ROWS))})", values)
        connection.execute("set timezone = 'UTC'")
        yield connection


def alike(mine, theirs):
    if mine is None or theirs is None or isinstance(mine, bool) or isinstance(theirs, bool):
        return mine is theirs
    if isinstance(theirs, dt.datetime):  # of a date the server makes a time with a zone
        theirs = theirs.replace(tzinfo=None)
        mine = mine if isinstance(mine, dt.datetime) else dt.datetime.combine(mine, dt.time())
    if isinstance(mine, (int, float, Decimal)) and isinstance(theirs, (int, float, Decimal)):
        return math.isclose(float(mine), float(theirs), rel_tol=1e-12, abs_tol=1e-12)
    return mine == theirs


def test_expressions_as_people_write_them_mean_what_the_server_says(server):
    table, same, refused, other = table_of(**ROWS), 0, 0, []
    for text in [text.strip() for line in TEXTS.splitlines() for text in line.split("  ;  ")]:
        try:
            mine = compute(parse_expression(text, table), table, np.arange(table.rows)).values()
        except ConditionError:
            refused += 1
            continue
        try:
            theirs = [row[0] for row in server.execute(f"select {text}\n from x order by n").fetchall()]
        except psycopg.Error as problem:
            theirs = [str(problem)]
        fits = len(mine) == len(theirs) and all(map(alike, mine, theirs))
        same += fits
        other += [] if fits or text in OTHERWISE else [(text, mine, theirs)]
    assert (other, same > 220, refused < 60) == ([], True, True)
