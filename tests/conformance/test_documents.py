"""SELECT over a collection gives what the same SELECT gives over the same rows in a table."""

import sqlite3

import pytest
from pymongo import MongoClient

from nimble_otter.sources import Request, fetch

_FIELDS = [
    {"a": 1, "t": "x", "n": 2}, {"a": 2, "t": "y", "n": 2}, {"a": None, "t": "y"}, {"t": "x", "n": 5},
    {"a": 3, "n": 1}, {"a": 2, "t": None, "n": 4}, {"a": 5, "t": "x", "n": 2}, {"a": 1, "t": "z", "n": 7},
]  # fmt: skip
ROWS = [{"_id": n, **fields} for n, fields in enumerate(_FIELDS)]


@pytest.fixture(scope="module")
def both(document_server):
    """A collection on the document server, and the same rows in a table."""
    with MongoClient(document_server.url) as client:
        collection = client.get_default_database()["rows"]
        collection.drop()
        collection.insert_many([dict(row) for row in ROWS])
    base = sqlite3.connect(":memory:")
    base.execute("create table rows (_id, a, t, n)")
    base.executemany(
        "insert into rows values (?, ?, ?, ?)", [tuple(r.get(c) for c in ("_id", "a", "t", "n")) for r in ROWS]
    )
    yield document_server.url, base
    base.close()


@pytest.mark.parametrize(
    "text",
    [
        "select t, count(*) as c, max(n) as m from rows group by t order by c desc, t",
        "select t, count(*) as c from rows group by t having count(*) > 1 order by t",
        "select t, count(*) as c from rows group by t having max(n) >= 4 and t is not null order by t",
        "select t, count(*) as c from rows group by t having avg(n) < 3 or t = 'z' order by t",
        "select a, t, count(n) as c from rows where n > 1 group by a, t having not (count(*) > 1) order by a, t",
        "select count(distinct t) as c, count(distinct a) as d, count(*) as e from rows",
        "select t, count(distinct n) as c from rows group by t order by c desc, t",
        "select distinct t from rows order by t", "select distinct a, t from rows where n is not null order by a, t",
        "select _id, n from rows order by _id limit 3 offset 2",
        "select _id from rows where a > 1 order by _id offset 1",
        "select t, count(*) as c from rows group by t order by t limit 2 offset 1",
    ],
)  # fmt: skip
def test_grouping_and_paging_are_sqls(both, open_base, text):
    url, base = both
    want = base.execute(text.replace("offset", "limit -1 offset") if "limit" not in text else text).fetchall()
    table = fetch(open_base(url), Request(text)).table
    got = list(zip(*(column.values() for column in table.columns), strict=True))
    assert [tuple(None if v is None or str(v) == "MISSING" else v for v in row) for row in got] == want
