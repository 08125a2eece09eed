"""CouchDB's protocol: asked, changed and sent to, on a stand-in and on a server of others."""

import datetime as dt
import json
import random
from decimal import Decimal
from urllib.parse import quote

import pytest

from nimble_otter.changes import Action, Edits, document_target, make_plan, rehearse, render, write_each
from nimble_otter.demo.reports import make_collections
from nimble_otter.errors import (
    AuthError,
    ChangeError,
    ClearPassword,
    ConnectError,
    LostError,
    QueryError,
    SourceError,
)
from nimble_otter.send.transfer import Transfer, transfer
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.sources.catalogue import EntryKind
from nimble_otter.sources.search import Sought, find_value
from nimble_otter.table import MISSING
from tests.conformance.test_transfer import rows_of
from tests.conftest import started
from tests.proofs import how_many, proven
from tests.servers.couch import Pouch, StandIn, ask, fill, held

REPORTS = [{**d, "_id": str(d["_id"])} for d in make_collections()["report"][:1500]]
VIEW = {"views": {"by_kind": {"map": "function(d){emit(d.kind,1)}"}}}


def plain(value):
    """As JSON, times as texts."""
    return json.loads(json.dumps(value, default=lambda v: v.isoformat()))


@pytest.fixture(scope="module", params=["stand-in", pytest.param("pouch", marks=pytest.mark.long)])
def server(request):
    if request.param == "pouch":
        with started(Pouch) as real:
            yield real
    else:
        made = StandIn()
        yield made
        made.close()


@pytest.fixture(scope="module")
def reports(server):
    fill(server, "report", [plain(d) for d in REPORTS])
    ask(server, "PUT", "report/_design/stats", VIEW)
    return server


@pytest.fixture
def opened():
    made = []

    def open_(url, password=None, **marks):
        made.append(connect(Source("c", url, **marks), password))
        return made[-1]

    yield open_
    for connection in made:
        connection.close()


def test_databases_are_collections_with_shapes_and_views(reports, opened):
    connection = opened(reports.url)
    tables = {t.name: t for t in connection.tables()}
    assert tables["report"].kind is EntryKind.COLLECTION
    assert tables["report/stats/by_kind"].kind is EntryKind.VIEW
    assert (connection.count("report"), connection.count("report/stats/by_kind")) == (1500, 1500)
    assert connection.shapes("report").total == 1500
    assert "by_kind" not in connection.describe(tables["report"]).text
    assert "emit(d.kind" in connection.describe(tables["report/stats/by_kind"]).text
    one = opened(f"{reports.url}report")
    assert {t.name for t in one.tables()} == tables.keys() & {"report", "report/stats/by_kind"}
    with pytest.raises(QueryError, match=r"nearest name is report"):
        fetch(one, Request("select * from repot"))
    view = fetch(one, Request('select "key", count(*) as n from "report/stats/by_kind" group by "key"')).table
    assert dict(zip(*(c.values() for c in view.columns), strict=True)) == {
        k: sum(d["kind"] == k for d in REPORTS) for k in {d["kind"] for d in REPORTS}
    }


def test_what_is_asked_is_worked_out_over_pages(reports, opened):
    connection = opened(f"{reports.url}report")
    whole = fetch(connection, Request("select * from report")).table
    assert whole.rows == 1500
    assert "_rev" not in [f.name for f in whole.fields]
    cut = fetch(connection, Request("select kind from report where kind = 'sighting'", {}, 10))
    assert (cut.table.rows, cut.was_cut) == (10, True)
    assert "GET /report/_all_docs" in cut.sent
    native = Request('{"selector": {"kind": "sighting"}, "limit": 1200}', language="native", collection="report")
    wanted = sum(d["kind"] == "sighting" for d in REPORTS)
    assert fetch(connection, native).table.rows == wanted
    stages = '[{"$match": {"kind": "sighting"}}, {"$count": "n"}]'
    counted = fetch(connection, Request(stages, language="native", collection="report")).table
    assert counted.columns[0].values() == [wanted]
    hits = list(find_value(connection, connection.tables(), Sought("sighting")))
    assert [(hit.table, hit.column, hit.rows) for hit in hits if hit.column == "kind"] == [("report", "kind", wanted)]
    with pytest.raises(QueryError, match="not supported"):
        fetch(connection, Request('[{"$bucketAuto": {}}]', language="native", collection="report"))
    with pytest.raises(QueryError):
        fetch(connection, Request('[{"$out": "x"}]', language="native", collection="report"))
    with pytest.raises(SourceError):
        connection.explain(Request("select 1 from report"), None)


class Pull:
    """Documents pulled, and edits on them."""

    def __init__(self, connection, name):
        self.connection = connection
        fetched = fetch(connection, Request("{}", language="native", collection=name, with_keys=True))
        self.table = fetched.table
        self.target = document_target(self.table, fetched.collection, fetched.unseen, connection.dialect)
        self.edits = Edits(self.table.rows)
        self.ids = self.table.column("_id").values()

    @property
    def plan(self):
        return make_plan(self.edits, self.table, self.target)


VALUES = [None, True, 7, -2.5, "", "it's ü😀", [1, {"a": None}], {"x": {"y": [1]}}, "2031-05-01T06:30:00"]


@pytest.mark.timeout(1800)
def test_random_writes_are_what_a_model_says_and_are_reversed(server, opened):
    """Edited, new and deleted documents, and one that somebody else has changed meanwhile, which stays as theirs."""
    rounds = how_many(12, 300)
    for number in range(rounds):
        chance = random.Random(number)
        documents = [
            {"_id": f"k/{n} ü", **{n: chance.choice(VALUES) for n in "abol" if chance.random() < 0.8}} for n in range(6)
        ]
        fill(server, "wild", documents)
        connection = opened(f"{server.url}wild")
        pull, before = Pull(connection, "wild"), held(server, "wild")
        at = {key: row for row, key in enumerate(pull.ids)}
        gone, edited, theirs = chance.sample(sorted(at), 3)
        name = chance.choice([f.name for f in pull.table.fields if f.name in "abol"])
        change = chance.choice([MISSING, 99, {"x": {"y": [2]}}, *VALUES])
        new = pull.edits.new_ids(1)[0]
        place, id_place = pull.table.index(name), pull.table.index("_id")
        cells = ((at[edited], place, change), (at[theirs], place, "mine"), (new, id_place, "new one"))
        pull.edits.apply(Action("x", cells, delete=(at[gone],), add=((new, -1),)))
        path = quote(theirs, safe="")
        rev = ask(server, "GET", f"wild/{path}")["_rev"]
        other = {**before[theirs], name: "somebody else's"}
        ask(server, "PUT", f"wild/{path}", {**other, "_rev": rev})
        left = {key: value for key, value in before[edited].items() if key != name}
        model = {
            edited: left if change is MISSING else {**left, name: change},
            gone: None,
            "new one": {"_id": "new one"},
        }
        assert '"wild"' in render(pull.plan)[0]
        assert rehearse(connection, pull.plan).good <= 3
        report = write_each(connection, pull.plan)
        now, done = held(server, "wild"), {o.statement.row_id for o in report.outcomes if o.is_good}
        assert now[theirs] == other, number  # whoever comes later does not win
        for key, row in ((edited, at[edited]), (gone, at[gone]), ("new one", new)):
            assert now.get(key) == (model[key] if row in done else before.get(key)), (number, key)
        if done:
            write_each(connection, report.back)
            assert held(server, "wild") == {**before, theirs: other}, number
        connection.close()
    proven("random writes to documents by revision, and their reversal", "couchdb", rounds)


def test_a_change_between_reading_and_writing_is_no_loss(server, opened):
    fill(server, "race", [{"_id": "a", "n": 1}])
    connection = opened(f"{server.url}race")
    with connection.transaction(atomic=False) as writer:
        (read,) = writer.documents("race", ["a"])
        assert read == {"_id": "a", "n": 1}
        rev = ask(server, "GET", "race/a")["_rev"]
        ask(server, "PUT", "race/a", {"n": 2, "_rev": rev})
        assert writer.one("race", ("update", {"_id": "a"}, {"$set": {"n": 9}})) == 0
        assert writer.one("race", ("delete", {"_id": "a"}, None)) == 1  # read anew
        assert writer.one("race", ("delete", {"_id": "a"}, None)) == 0
        writer.one("race", ("insert", {"_id": "b", "n": 1}, None))
        with pytest.raises(QueryError, match="already"):
            writer.one("race", ("insert", {"_id": "b", "n": 1}, None))
        with pytest.raises(QueryError, match="JSON"):
            writer.one("race", ("insert", {"_id": "c", "n": b"x"}, None))
    assert not writer.is_atomic
    with pytest.raises(ChangeError):
        connection.begin()
    assert held(server, "race") == {"b": {"_id": "b", "n": 1}}


def test_rows_become_documents_and_existing_ones_are_kept_or_updated(server, opened):
    if "sent" in ask(server, "GET", "_all_dbs"):
        ask(server, "DELETE", "sent")
    connection = opened(server.url)
    columns = {"_id": ["a", "b"], "at": [dt.datetime(2031, 5, 1, 2, 3), None], "m": [Decimal("1.50"), Decimal("2")]}
    assert transfer(rows_of(columns), connection, Transfer("sent")).added == 2
    assert held(server, "sent")["a"] == {"_id": "a", "at": "2031-05-01T02:03:00", "m": 1.5}
    more = {"_id": ["b", "c"], "m": [Decimal("7"), Decimal("8")]}
    assert transfer(rows_of(more), connection, Transfer("sent", duplicates="skip")).added == 1
    assert transfer(rows_of(more), connection, Transfer("sent", duplicates="update")).updated == 2
    assert {k: d["m"] for k, d in held(server, "sent").items()} == {"a": 1.5, "b": 7, "c": 8}


def test_signing_in_and_servers_that_are_something_else(opened):
    server = StandIn()
    try:
        fill(server, "a", [{"_id": "x"}])
        assert "administrator" in str(opened(server.url).rights())
        with pytest.raises(ConnectError, match="no database nothing"):
            connect(Source("c", f"{server.url}nothing"))
        server.wanted = "Basic YW5uOndvcmQ="  # ann:word
        with pytest.raises(AuthError):
            connect(Source("c", server.url))
        named = server.url.replace("//", "//ann@")
        connection = opened(named, "word")
        assert connection.count("a") == 1
        server.fails = lambda verb, path: verb == "PUT"
        with connection.transaction(atomic=False) as writer, pytest.raises(LostError):
            writer.one("a", ("insert", {"_id": "y"}, None))
    finally:
        server.close()
    with pytest.raises(ConnectError):
        connect(Source("c", server.url))
    with pytest.raises(ClearPassword):
        connect(Source("c", "couchdb://ann@192.0.2.1:5984/a"), "word")
