"""Running statements that write, and scripts, on every kind of relational server."""

import pytest

from nimble_otter.errors import ChangeError, LostError, OutcomeUnknown, QueryError, SourceError, Stopped
from nimble_otter.query.sql.effects import Effect, changes_catalogue, classify
from nimble_otter.query.sql.statements import split_statements
from nimble_otter.sources import Request, fetch
from nimble_otter.sources.script import run_script
from nimble_otter.stop import StopToken


@pytest.fixture(params=["sqlite", "postgresql", "mariadb"])
def kind(request):
    return request.param


@pytest.fixture
def connection(kind, request, open_base, own_survey):
    """A connection to a server of the kind, with a table of the test's own."""
    if kind == "sqlite":
        made = open_base(own_survey)
    else:
        made = open_base(request.getfixturevalue("postgres" if kind == "postgresql" else "mariadb").url)
    made.execute(Request("drop table if exists mine"))
    made.execute(Request("create table mine (mine_id integer primary key, word varchar(20) not null)"))
    return made


def rows(connection):
    return fetch(connection, Request("select * from mine order by 1")).table.rows


def run(connection, text, **more):
    request = Request("", more.pop("parameters", {}), more.pop("limit", None))
    return run_script(connection, text, split_statements(text), request, **more)


def test_writes_are_committed_and_say_how_many_rows_they_touched(connection):
    done = connection.execute(Request("insert into mine values (1, 'a'), (2, :word)", {"word": "it's 100 % ;"}))
    assert (done.affected, done.tables) == (2, ())
    assert rows(connection) == 2
    assert connection.execute(Request("update mine set word = 'c' where mine_id > :n", {"n": 1})).affected == 1
    assert connection.execute(Request("delete from mine where mine_id = 7")).affected == 0
    assert fetch(connection, Request("select word from mine where mine_id = 2")).table.columns[0].values() == ["c"]


def test_a_refused_write_changes_nothing_and_reading_stays_reading(connection):
    connection.execute(Request("insert into mine values (1, 'a')"))
    with pytest.raises(QueryError):
        connection.execute(Request("insert into mine values (2, 'b'), (1, 'again')"))
    assert rows(connection) == 1
    with pytest.raises(SourceError):
        fetch(connection, Request("delete from mine"))
    connection.is_read_only = True
    with pytest.raises(ChangeError, match="read-only"):
        connection.execute(Request("delete from mine"))
    connection.is_read_only = False
    assert rows(connection) == 1


def test_a_script_gives_an_outcome_for_each_statement_and_stops_at_an_error(connection):
    text = "insert into mine values (1, 'a');\nselect * from mine;\nselect nosuch from mine;\ndelete from mine;"
    seen = []
    found = run(connection, text, on_outcome=lambda outcomes: seen.append(len(outcomes)))
    assert seen == [1, 2, 3]
    assert found[0].affected == 1
    assert found[1].fetched.table.rows == 1
    assert "nosuch" in found[2].error.message
    place = found[2].error.place
    assert place is None or text[place.start : place.end] == "nosuch"
    assert rows(connection) == 1
    assert len(run(connection, text.replace("1, 'a'", "2, 'a'"), goes_on=True)) == 4
    assert rows(connection) == 0


def test_the_row_limit_and_parameters_hold_for_each_statement(connection):
    found = run(connection, "insert into mine values (:n, 'x'); select * from reading", parameters={"n": 9}, limit=5)
    assert found[0].affected == 1
    assert found[1].fetched.table.rows == 5
    assert found[1].fetched.was_cut


def test_a_stop_ends_a_script(connection):
    stop = StopToken()
    found = run(connection, "select 1; select 2; select 3", stop=stop, on_outcome=lambda outcomes: stop.set())
    assert len(found) == 1
    with pytest.raises(Stopped):
        stop.check()


def test_what_the_server_says_beside_its_answer_is_kept(connection, kind):
    text = {
        "postgresql": "drop table if exists not_there",
        "mariadb": "drop table if exists not_there",
        "sqlite": "drop table if exists not_there",
    }[kind]
    said = connection.execute(Request(text)).messages
    assert any("not_there" in line for line in said) or kind == "sqlite"


def test_a_call_gives_each_of_its_results(connection, kind):
    if kind == "mariadb":
        connection.execute(
            Request("create or replace procedure two(n int) begin select n as a; select n + 1 as b; end")
        )
        done = connection.execute(Request("call two(:n)", {"n": 4}))
        assert [table.columns[0].values() for table, _ in done.tables] == [[4], [5]]
    elif kind == "postgresql":
        connection.execute(Request("insert into mine values (5, 'r')"))
        done = connection.execute(Request("delete from mine returning word"))
        assert [table.columns[0].values() for table, _ in done.tables] == [["r"]]
        assert rows(connection) == 0


READS, ROWS, DEFINES = Effect.READS, Effect.ROWS, Effect.DEFINES


@pytest.mark.parametrize(
    ("text", "kind_word"),
    [
        ("select 1", READS), ("-- delete\nselect 'insert'", READS), ("with a as (select 1) select * from a", READS),
        ("explain delete from t", READS), ("explain analyze delete from t", ROWS), ("(select 1) union select 2", READS),
        ("with a as (delete from t returning *) select 1", ROWS), ("with a as (select 1) update t set b = 1", ROWS),
        ("insert into t select 1", ROWS), ("call p()", ROWS), ("create table t (a int)", DEFINES),
        ("select 1 into t", ROWS), ("", READS), ("show tables", READS),
    ],
)  # fmt: skip
def test_statements_that_write_are_told_from_those_that_read(text, kind_word):
    assert classify(text, "postgres").effect is kind_word
    assert changes_catalogue(text) == text.startswith("create")


def test_a_transaction_stays_open_until_it_is_ended(connection, open_base, kind):
    other = open_base(connection.path if kind == "sqlite" else connection._engine.url.render_as_string(False))
    assert connection.held is None
    found = run(connection, "begin; insert into mine values (1, 'a'); select count(*) from mine")
    assert [o.error for o in found] == [None] * 3
    assert found[0].messages == ("A transaction is open.",)
    assert found[2].fetched.table.columns[0].values() == [1]
    assert connection.held.statements == 2
    assert rows(other) == 0  # nobody else sees it yet
    found = run(
        connection, "insert into mine values (2, 'b'), (1, 'again'); insert into mine values (3, 'c')", goes_on=True
    )
    assert found[0].error is not None
    assert found[1].affected == 1  # the one before was undone alone
    with pytest.raises(ChangeError, match="open already"):
        connection.begin()
    run(connection, "rollback")
    assert connection.held is None
    assert rows(other) == rows(connection) == 0
    connection.begin()
    run(connection, "insert into mine values (5, 'e')")
    connection.end(commit=True)
    assert rows(other) == 1
    assert "No transaction is open" in run(connection, "commit")[0].error.message
    connection.begin()
    if kind == "mariadb":
        assert "would commit" in run(connection, "create table more (a int)")[0].error.message
    run(connection, "delete from mine")
    connection.close()  # what is left open is rolled back
    assert rows(other) == 1
    other.is_read_only = True
    with pytest.raises(ChangeError, match="read-only"):
        other.begin()


def test_an_open_transaction_is_gone_with_its_connection(postgres, open_base):
    made = open_base(postgres.url)
    made.execute(Request("create table if not exists held_mine (a int)"))
    made.begin()
    made.execute(Request("insert into held_mine values (1)"))
    number = made.execute(Request("select pg_backend_pid()")).tables[0][0].columns[0].values()[0]
    open_base(postgres.url).execute(Request(f"select pg_terminate_backend({number})"))
    with pytest.raises(LostError, match="open transaction with it"):
        made.execute(Request("insert into held_mine values (2)"))
    assert made.held is None
    assert fetch(made, Request("select * from held_mine")).table.rows == 0
    made.begin()
    made.execute(Request("insert into held_mine values (3)"))
    number = made.execute(Request("select pg_backend_pid()")).tables[0][0].columns[0].values()[0]
    open_base(postgres.url).execute(Request(f"select pg_terminate_backend({number})"))
    with pytest.raises(OutcomeUnknown, match="whether it was committed"):
        made.end(commit=True)
    made.execute(Request("drop table held_mine"))
