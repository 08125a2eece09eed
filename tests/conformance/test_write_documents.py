"""Writing documents, on a real server with transactions and on the stand-in without."""

import datetime as dt
import os

import bson
import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st
from pymongo import MongoClient

from nimble_otter.changes import (
    Action,
    Edits,
    document_target,
    from_json,
    look_up,
    make_plan,
    read_document_value,
    rehearse,
    render,
    to_json,
    write,
    write_each,
)
from nimble_otter.changes.document_plan import differences, exactly
from nimble_otter.changes.plan import Guard
from nimble_otter.errors import (
    ChangeError,
    ConditionError,
    LostError,
    NoTransactions,
    OtterError,
    OutcomeUnknown,
    ValueRefused,
)
from nimble_otter.pull import Pull as Saved
from nimble_otter.pull import Query
from nimble_otter.pull.drafts import EditDraft, attach, detach, plain_in, plain_out
from nimble_otter.pull.steps import Condition, FilterStep
from nimble_otter.pull.upstream import move_up
from nimble_otter.pull.writes import WriteJournal, Written, all_writes, load_reversal
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.sources.document_paths import can_be_asked, parts_of, path_of
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING

MOMENT = dt.datetime(2031, 5, 28, 23, 0, 0, 123000)
OLD = [
    {"_id": 1, "level": 1.5, "count": bson.Int64(5), "who": {"name": "Ada", "tags": ["a", "b"]}, "at": MOMENT},
    {"_id": 2, "level": None, "price": bson.Decimal128("1.50"), "who": {"name": "Bo", "deep": {"x": [1, {"y": 2}]}}},
    {"_id": bson.ObjectId("65f000000000000000000001"), "level": "high", "flag": True, "odd.name": 1},
]


class Pull:
    """Documents pulled, and edits on them by row and field."""

    def __init__(self, connection, text="{}", **request):
        self.connection = connection
        fetched = fetch(connection, Request(text, with_keys=True, **request))
        self.table, self.collection = fetched.table, fetched.collection
        self.target = document_target(fetched.table, fetched.collection, fetched.unseen)
        self.edits = Edits(self.table.rows)

    def set(self, row, name, value):
        self.edits.apply(Action("Edit", ((row, self.table.index(name), value),)))

    def value(self, row, name):
        return self.table.column(name).value(row)

    @property
    def plan(self):
        return make_plan(self.edits, self.table, self.target)


@pytest.fixture(params=["server", "stand-in"])
def client(request, document_server):
    """A client and our connection to a collection of a few documents; the stand-in has no transactions."""
    from nimble_otter.demo.standin import StandIn

    own = StandIn("merrow", {}) if request.param == "stand-in" else None
    url = own.url if own else document_server.url
    with MongoClient(url) as made:
        made.merrow.wild.delete_many({}) if own is None else None
        made.merrow.wild.insert_many([dict(d) for d in OLD])
        connection = connect(Source("docs", url))
        yield made.merrow.wild, connection, own is None
        connection.close()
    if own is not None:
        own.close()


def put(connection, plan, has_transactions):
    return (write if has_transactions else write_each)(connection, plan)


def test_what_differs_is_set_by_path_with_its_type_and_put_back(client, tmp_path):
    wild, connection, has_them = client
    pull = Pull(connection, collection="wild", language="native")
    pull.set(0, "level", 2.5)
    pull.set(0, "count", 6)
    pull.set(0, "who", {"name": "Ada", "tags": ["a", "c"], "new": {"z": 1}})
    pull.set(1, "level", 3)
    pull.set(1, "price", bson.Decimal128("1.75"))
    pull.set(1, "who", {"name": "Bo", "deep": {"x": [1, {"y": None}]}})
    pull.set(1, "at", MOMENT)
    pull.set(2, "flag", MISSING)
    new = pull.edits.new_ids(1)[0]
    pull.edits.apply(Action("New", ((new, pull.table.index("level"), 9.5),), add=((new, -1),)))
    texts = "\n".join(render(pull.plan))
    assert (
        '{"who.tags.1": "c", "who.new": {"z": 1}' in texts.replace('"level": 2.5, "count": 6, ', "")
        or "who.tags.1" in texts
    )
    assert '"$unset": {"flag": ""}' in texts
    assert rehearse(connection, pull.plan).good == 4
    assert wild.count_documents({}) == 3
    journal, do = WriteJournal(tmp_path), write if has_them else write_each
    told = Written(MOMENT, "p", "docs", "wild", 4, tmp_path)
    report, made = journal.write(told, "url", EditDraft(), lambda note: do(connection, pull.plan, note=note))
    assert report.is_written, report.conflicts
    now = {str(d["_id"]): d for d in wild.find()}
    assert exactly(
        now["1"],
        OLD[0] | {"level": 2.5, "count": bson.Int64(6), "who": {"name": "Ada", "tags": ["a", "c"], "new": {"z": 1}}},
    )
    assert type(now["1"]["count"]) is bson.Int64
    assert now["2"]["price"] == bson.Decimal128("1.75")
    assert now["2"]["who"]["deep"] == {"x": [1, {"y": None}]}
    assert "flag" not in now[str(OLD[2]["_id"])]
    assert [w.path for w in all_writes(tmp_path, "p", "docs")] == [made.written.path]
    back = load_reversal(made.written.path)
    assert put(connection, back, has_them).is_written
    assert sorted(to_json(dict(sorted(d.items()))) for d in wild.find()) == sorted(
        to_json(dict(sorted(d.items()))) for d in OLD
    )


def test_conflicts_are_told_by_path_and_a_change_elsewhere_in_the_document_is_none(client):
    wild, connection, has_them = client
    pull = Pull(connection, collection="wild", language="native")
    pull.set(0, "level", 2.0)
    pull.set(1, "who", {"name": "Bert", "deep": {"x": [1, {"y": 2}]}})
    pull.edits.apply(Action("Delete", delete=(2,)))
    wild.update_one({"_id": 1}, {"$set": {"level": 1.75}})
    wild.update_one({"_id": 2}, {"$set": {"who.deep.x": [], "more": 1}})
    wild.delete_one({"_id": OLD[2]["_id"]})
    for deed in (rehearse, write if has_them else write_each):
        report = deed(connection, pull.plan)
        bad = {str(o.statement.key[0][1]): (o.now, o.is_gone) for o in report.conflicts}
        assert bad.get("1", ((("level", 1.75),), False)) == ((("level", 1.75),), False)
        assert bad[str(OLD[2]["_id"])] == ((), True)
        assert "2" not in bad
    assert wild.find_one({"_id": 2})["who"]["name"] == "Bo"


def test_types_count_and_null_is_not_absent(client):
    wild, connection, _ = client
    pull = Pull(connection, collection="wild", language="native")
    pull.set(1, "level", 4)
    wild.update_one({"_id": 2}, {"$unset": {"level": ""}})
    report = rehearse(connection, pull.plan)
    assert report.conflicts[0].now == (("level", MISSING),)
    assert "not there" in report.conflicts[0].problem


def test_without_transactions_it_is_said_and_one_by_one_stops_at_the_first_failure(client):
    wild, connection, has_them = client
    pull = Pull(connection, collection="wild", language="native")
    pull.set(0, "level", 2.0)
    pull.set(1, "level", 2.0)
    pull.set(2, "level", "low")
    wild.update_one({"_id": 2}, {"$set": {"level": 7}})
    if not has_them:
        with pytest.raises(NoTransactions, match="no transactions"):
            write(connection, pull.plan)
        assert "nothing was run" in rehearse(connection, pull.plan).said
    report = write_each(connection, pull.plan)
    assert (report.good, len(report.left), len(report.outcomes)) == (1, 2, 2)
    assert [d["level"] for d in wild.find()] == [2.0, 7, "high"]
    draft = detach(pull.edits.only([s.row_id for s in report.left]), pull.table, pull.target)
    fresh = Pull(connection, collection="wild", language="native")
    fresh.edits, lost = attach(draft, fresh.table, fresh.target)
    assert fresh.edits.count == 2
    assert not lost.count


def test_columns_picked_by_sql_lead_to_their_paths_with_the_key_fetched_along(client):
    wild, connection, has_them = client
    pull = Pull(connection, "select who.name as n, level from wild order by level")
    assert pull.target.is_open
    row = pull.table.column("n").values().index("Ada")
    pull.set(row, "n", "Eva")
    assert put(connection, pull.plan, has_them).is_written
    assert wild.find_one({"_id": 1})["who"] == {"name": "Eva", "tags": ["a", "b"]}
    grouped = fetch(connection, Request("select level, count(*) as n from wild group by level"))
    assert grouped.collection == ""


NESTED = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 9) | st.text("ab.$", max_size=3) | st.floats(allow_nan=False)
    | st.just(MOMENT) | st.just(bson.ObjectId("65f000000000000000000009")) | st.just(bson.Int64(1 << 40)),
    lambda inner: st.lists(inner, max_size=3)
    | st.dictionaries(st.text("ab.$ 'é", max_size=3), inner, max_size=3),
    max_leaves=6,
)  # fmt: skip


LONG = bool(os.environ.get("NIMBLE_OTTER_LONG"))


@pytest.mark.timeout(3600 if LONG else 60)
@settings(max_examples=10_000 if LONG else 30, suppress_health_check=list(HealthCheck))
@given(st.lists(st.tuples(NESTED, NESTED), min_size=1, max_size=4))
def test_documents_become_what_was_typed_and_come_back(document_server, pairs):
    with MongoClient(document_server.url) as client:
        wild = client.merrow.random
        wild.delete_many({})
        old = [{"_id": n, "v": one, "other": 1} for n, (one, _) in enumerate(pairs)]
        wild.insert_many([dict(d) for d in old])
        connection = connect(Source("docs", document_server.url))
        try:
            pull = Pull(connection, collection="random", language="native")
            for row, (one, two) in enumerate(pairs):
                found = list(differences("v", one, two))
                # a number typed over a double is one too
                assume(not any(type(a) is float and type(b) is int for _, a, b in found))
                if found:
                    pull.set(row, "v", two)
            if not pull.edits.count:
                return
            report = write(connection, pull.plan)
            assert report.is_written, [o.problem for o in report.conflicts]
            assert exactly([d["v"] for d in wild.find().sort("_id")], [two for _, two in pairs])
            assert write(connection, report.back).is_written
            assert exactly(list(wild.find().sort("_id")), old)
        finally:
            connection.close()


@settings(max_examples=60)
@given(NESTED)
def test_drafts_and_json_keep_every_type(value):
    import json

    assert exactly(plain_in(json.loads(json.dumps(plain_out(value)))), value)
    assert exactly(from_json(to_json(value), "v"), value) or isinstance(value, (int, float, dict, list))


@pytest.mark.parametrize(
    ("text", "before", "value"),
    [("3", 1.5, 3.0), ("3.5", 1, ValueRefused), ("7", bson.Int64(1), bson.Int64(7)), ("yes", True, True),
     ("0.1", bson.Decimal128("1"), bson.Decimal128("0.1")), ("x", bson.ObjectId(), ValueRefused), ("12", "1", "12"),
     ("2031-05-28 23:00", MOMENT, dt.datetime(2031, 5, 28, 23)), ("noon", MOMENT, ValueRefused), ("12", None, 12),
     ("word", MISSING, "word"), ('{"a": 1}', {}, {"a": 1}), ("{a}", {}, ValueRefused), ("[1,", MISSING, ValueRefused),
     ('{"$numberLong": "5"}', None, bson.Int64(5)), (None, 1, None)],
)  # fmt: skip
def test_typed_values_keep_the_type_that_stands_there(text, before, value):
    if value is ValueRefused:
        with pytest.raises(ValueRefused):
            read_document_value(text, before, "v")
    else:
        assert exactly(read_document_value(text, before, "v"), value)


def test_a_stop_and_a_lost_server_write_nothing(client):
    wild, connection, has_them = client
    if not has_them:
        pytest.skip("there is nothing to roll back")
    pull = Pull(connection, collection="wild", language="native")
    pull.set(0, "level", 2.0)
    stop = StopToken()
    stop.set()
    with pytest.raises((Exception,)):
        write(connection, pull.plan, stop)
    assert wild.find_one({"_id": 1})["level"] == 1.5


@given(st.text(max_size=9))
def test_the_path_of_a_field_leads_back_to_it(name):
    assert parts_of(path_of(name)) == [name]
    assert can_be_asked(path_of(name)) is ("." not in name and not name.startswith("$['"))


@pytest.mark.parametrize("client", ["server"], indirect=True)  # the stand-in takes such names for paths
@pytest.mark.parametrize("guard", list(Guard))
def test_a_field_with_a_dot_in_its_name_is_kept_whole_and_seen(client, guard):
    wild, connection, has_them = client
    last = OLD[2]["_id"]
    wild.replace_one({"_id": last}, before := {"_id": last, "a.b": 1, "a": {"b": 2, "c.d": 3}, "it's": {"x.y": [1]}})
    pull = Pull(connection, collection="wild", language="native")
    place = pull.table.index("a.b")
    assert pull.value(2, "a.b") == 1
    assert [why for at, why in pull.target.refusals if at == place] == [
        "a.b has a dot in its name and can't be changed by itself."
    ]
    step = FilterStep((Condition("is", "a.b", (1,)),))
    with pytest.raises(ConditionError, match="dot in its name"):  # a query would look for b in a
        move_up(Saved("p", Source("s", ""), Query("select * from wild"), (step,)), 0, pull.table, "sqlite", str)
    (copied,) = pull.edits.new_ids(1)
    cells = tuple((copied, at, pull.value(2, f.name)) for at, f in enumerate(pull.table.fields) if f.name != "_id")
    pull.edits.apply(Action("Delete", cells, delete=(2,), add=((copied, -1),)))
    plan = make_plan(pull.edits, pull.table, pull.target, guard)
    wild.replace_one({"_id": last}, {**before, "a.b": 7})  # somebody else
    if guard is not Guard.KEY:
        assert "a.b" in put(connection, plan, has_them).conflicts[0].problem
        assert wild.find_one({"_id": last})["a.b"] == 7
        wild.delete_many({"_id": {"$nin": [1, 2, last]}})
        wild.replace_one({"_id": last}, before)
    else:
        before = {**before, "a.b": 7}
    report = put(connection, plan, has_them)
    assert report.is_written
    assert wild.find_one({"_id": last}) is None
    (made,) = wild.find({"_id": {"$nin": [1, 2, last]}})
    assert {name: value for name, value in made.items() if name != "_id"} == {
        name: value for name, value in {**before, "a.b": 1}.items() if name != "_id"
    }
    assert put(connection, report.back, has_them).is_written
    assert [exactly(d, before) for d in wild.find({"_id": {"$nin": [1, 2]}})] == [True]


@pytest.mark.parametrize("client", ["server"], indirect=True)
def test_after_a_commit_without_an_answer_the_documents_tell_or_it_stays_open(client):
    wild, connection, _ = client
    pull, noted = Pull(connection, collection="wild", language="native"), []
    pull.set(0, "level", 2.5)
    pull.set(1, "level", 3)
    pull.edits.apply(Action("Delete", delete=(2,)))
    report = write(connection, pull.plan, note=noted.append)
    assert report.is_written, report
    assert "all of it was written" in look_up(connection, noted[0])
    for back in ([], [0], [1], [2], [0, 1, 2]):  # who is as before again
        for at in back:
            wild.replace_one({"_id": OLD[at]["_id"]}, dict(OLD[at]), upsert=True)
        wanted = ChangeError if len(back) == 3 else OutcomeUnknown
        if back:
            with pytest.raises(wanted, match="nothing was written" if len(back) == 3 else "do not show") as told:
                look_up(connection, noted[0])
            assert type(told.value) is wanted
            wild.update_many({"_id": 1}, {"$set": {"level": 2.5}})
            wild.update_many({"_id": 2}, {"$set": {"level": 3}})
            wild.delete_many({"_id": OLD[2]["_id"]})


def test_a_line_lost_at_any_message_is_never_reported_wrongly(document_server):
    from tests.servers.lines import Line

    with MongoClient(document_server.url) as client:
        wild = client.merrow.lost
        wild.delete_many({})
        wild.insert_many([{"_id": n, "v": 0} for n in range(3)])
        for number in range(6 if not os.environ.get("NIMBLE_OTTER_LONG") else 200):
            line = Line(document_server.port)
            url = document_server.url.replace(str(document_server.port), str(line.port))
            far = connect(Source("far", url + "?directConnection=true"))
            try:
                pull = Pull(far, collection="lost", language="native")
                for row in range(3):
                    pull.set(row, "v", number + 1)
                line.cut_after = line.turns + 1 + number % 8
                try:
                    wrote = write(far, pull.plan).is_written
                except OutcomeUnknown:
                    wrote = None
                except (LostError, OtterError):
                    wrote = False
                now = {d["v"] for d in wild.find()}
                assert len(now) == 1
                assert wrote is None or wrote is (now == {number + 1})
            finally:
                far.close()  # a session that is open may hold the documents
                line.close()
            wild.update_many({}, {"$set": {"v": number + 1}})


def test_a_reversal_brings_the_types_back_too(document_server):
    with MongoClient(document_server.url) as client:
        kinds = client.merrow.kinds
        kinds.delete_many({})
        old = [{"_id": 1, "n": 0}, {"_id": 2, "n": bson.Int64(3)}, {"_id": 3, "n": bson.Decimal128("1.50")}]
        kinds.insert_many([dict(d) for d in old])
        connection = connect(Source("docs", document_server.url))
        try:
            pull = Pull(connection, collection="kinds", language="native")
            for row, value in enumerate((0.0, "three", 2.5)):
                pull.set(row, "n", value)
            report = write(connection, pull.plan)
            assert report.is_written
            assert write(connection, report.back).is_written
            assert exactly(list(kinds.find().sort("_id")), old)
        finally:
            connection.close()


ANYTHING = [None, "text", "", 7, 7.5, True, bson.Decimal128("1.5"), bson.Int64(9), MOMENT,
    bson.ObjectId("65f000000000000000000009"),
            [1, "a"], [], {"a": 1}, {}, b"\x00"]  # fmt: skip


def test_every_type_can_take_the_place_of_every_other_and_goes_back(document_server):
    """Rehearsed, written and put back: a document a pair of types, exactly as it was."""
    with MongoClient(document_server.url) as made:
        base = made.merrow.anything
        base.drop()
        pairs = [(old, new) for old in ANYTHING for new in ANYTHING if type(old) is not type(new)]
        base.insert_many([{"_id": n, "v": old} for n, (old, _) in enumerate(pairs)])
        before = list(base.find(sort=[("_id", 1)]))
        connection = connect(Source("docs", document_server.url))
        pull = Pull(connection, collection="anything", language="native")
        for row, (_, new) in enumerate(pairs):
            pull.set(row, "v", new)
        plan = pull.plan
        assert not rehearse(connection, plan).conflicts
        report = write(connection, plan)
        assert report.is_written
        now = {d["_id"]: d["v"] for d in base.find()}
        for row, (old, new) in enumerate(pairs):
            wanted = float(new) if isinstance(old, float) and type(new) in (int, bson.Int64) else new
            assert now[row] == wanted or str(now[row]) == str(wanted), (old, new, now[row])
        assert write(connection, report.back).is_written
        after = list(base.find(sort=[("_id", 1)]))
        assert [(d, type(d["v"])) for d in after] == [(d, type(d["v"])) for d in before]
        connection.close()
