"""The Compare step and the command: against plain Python, over files and tables."""

from __future__ import annotations

import csv
import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from nimble_otter.changes import find_target
from nimble_otter.cli import main
from nimble_otter.entry import Entry
from nimble_otter.errors import ConditionError
from nimble_otter.pull.align import Side, Wanted, align
from nimble_otter.pull.compare_large import compare_ordered
from nimble_otter.pull.compared import differences_table, find_key
from nimble_otter.pull.course import run_course
from nimble_otter.pull.row_files import is_rows_file, read_rows
from nimble_otter.pull.shaped import all_rows
from nimble_otter.pull.steps import CompareStep, Condition, FilterStep, GroupStep, KeyBy, SortBy, SortStep
from nimble_otter.pull.steps.compare import read_tolerance
from nimble_otter.sources import Request, fetch
from nimble_otter.stop import NEVER
from nimble_otter.table import MISSING, Table, View
from nimble_otter.table.core.build import table_of
from nimble_otter.table.ops.alike import Alike
from nimble_otter.table.ops.compare import compare_views
from tests.files import sqlite_file
from tests.proofs import how_many

VALUES = some.none() | some.sampled_from([0, 1, 2]), some.none() | some.sampled_from(["a", "A", "b ", "b", ""])
ROWS = some.dictionaries(
    some.integers(0, 9), some.tuples(*VALUES, some.floats(0, 1).map(lambda f: round(f, 1))), max_size=8
)


def rows_table(rows):
    return table_of(
        k=list(rows), n=[r[0] for r in rows.values()], t=[r[1] for r in rows.values()], f=[r[2] for r in rows.values()]
    )


@given(ROWS, ROWS, some.booleans(), some.sampled_from([Alike(), Alike(any_case=True), Alike(any_space=True)]),
       some.sampled_from([0.0, 0.1, 0.5]))  # fmt: skip
@settings(max_examples=how_many(60, 3000), deadline=None)
def test_the_differences_are_those_of_plain_python(left, right, with_same, rule, tolerance):
    step = CompareStep(
        "o", ("k",), rules={"t": rule, "f": Alike(tolerance)}, with_same=with_same, rows=View(rows_table(right))
    )
    made = step.apply(all_rows(rows_table(left)), NEVER)

    def text(value):
        if value is not None and rule.any_case:
            value = value.lower()
        return " ".join(value.split()) if value is not None and rule.any_space else value

    want = []
    for key, row in left.items():
        if key not in right:
            want.append((key, "only left", None, *(v for value in row for v in (value, value))))
            continue
        other = right[key]
        differ = [name for name, is_so in (("n", row[0] != other[0]), ("t", text(row[1]) != text(other[1])),
                                           ("f", abs(row[2] - other[2]) > tolerance + 1e-9)) if is_so]  # fmt: skip
        if differ or with_same:
            pairs = (v for mine, theirs in zip(row, other, strict=True) for v in (theirs, mine))
            want.append((key, "changed" if differ else "same", ", ".join(differ) or None, *pairs))
    for key, row in right.items():
        if key not in left:
            want.append((key, "only right", None, *(v for value in row for v in (value, None))))
    assert list(zip(*(column.values() for column in made.table.columns), strict=True)) == want
    assert [f.name for f in made.table.fields] == [
        "k",
        "difference",
        "changed in",
        "n",
        "n left",
        "t",
        "t left",
        "f",
        "f left",
    ]
    compared = made.compared
    assert compared.before == {3: 4, 5: 6, 7: 8}
    assert compared.found.states.take(compared.lines).tolist() == [
        ["same", "changed", "only left", "only right"].index(row[1]) for row in want]  # fmt: skip


def test_the_step_is_kept_and_its_differences_are_rows_like_others():
    step = CompareStep("Catchment", ("k",), (("n", "m"),), ("x",), {"t": Alike(0.5, True, True, True)}, True)
    assert CompareStep.from_plain(Entry(json.loads(json.dumps(step.to_plain())))) == step
    assert step.words() == "Catchment by k"
    assert step.renamed("Catchment", "B").others == ("B",)
    left, right = table_of(k=[1, 2, 3], n=[1, 2, 3]), table_of(k=[1, 2, 4], n=[1, 5, 9])
    steps = (FilterStep((Condition("k", "<", "9"),)), CompareStep("o", ("k",)), SortStep((SortBy("k", True),)))
    course = run_course(left, steps, others={"o": View(right)})
    assert course.end.compared is not None
    assert course.end.view.table.columns[0].values(course.end.view.row_ids()) == [4, 3, 2]
    grouped = run_course(left, (*steps, GroupStep((KeyBy("difference"),))), others={"o": View(right)})
    assert grouped.end.table.columns[0].values() == ["changed", "only left", "only right"]
    assert grouped.results[1].shaped.said == "1 changed, 1 only left, 1 only right; 1 same"


@pytest.mark.parametrize(("step", "says"), [
    (CompareStep("", ("k",)), "No other pull is chosen"),
    (CompareStep("gone", ("k",)), "no rows of gone"),
    (CompareStep("o", ("zz",)), "zz is not in both"), (CompareStep("o", ("k",), (("n", "zz"),)), "no column zz in o"),
    (CompareStep("o", ("k",), rules={"zz": Alike(1)}), "no column zz"),
    (CompareStep("no.csv", ("k",)), "can't be read"),
])  # fmt: skip
def test_what_can_not_be_compared_is_said(step, says):
    course = run_course(table_of(k=[1], n=[2]), (step,), others={"o": View(table_of(k=[1], n=[3]))})
    assert says in str(course.results[0].error)
    with pytest.raises(ConditionError, match="not a tolerance"):
        read_tolerance("-1")


def test_a_key_is_found():
    left = table_of(day=[1, 1, 2], site_id=[1, 2, 1], row_id=[7, 8, None], name=["a", "b", "c"], kind=["x", "x", "x"])
    right = left.take(View(left).row_ids()[:2])
    assert find_key(View(left), View(right)) == ("name",)
    bare = Table(left.fields[:3], left.columns[:3], 3)
    assert find_key(View(bare), View(bare)) == ("site_id", "day")
    assert find_key(View(left), View(right), ("day", "site_id")) == ("day", "site_id")
    same = table_of(kind=["x", "x"])
    assert find_key(View(same), View(same)) == ()


FILES = {
    "a.csv": "k;t\n1;it's\n2;\n", "a.tsv": "k\tt\n1\tit's\n2\t\n",
    "a.json": '[{"k": 1, "t": "it\'s"}, {"k": 2, "t": null}]',
    "a.jsonl": '{"k": 1, "t": "it\'s"}\n\n{"k": 2, "t": null}\n',
    "under.json": '{"rows": [{"k": 1, "t": "it\'s"}, {"k": 2}]}',
}  # fmt: skip


@pytest.mark.parametrize("name", FILES)
def test_rows_of_files(name, tmp_path):
    path = tmp_path / name
    path.write_text(FILES[name], "utf-8")
    assert is_rows_file(name)
    table = read_rows(str(path))
    assert [f.name for f in table.fields] == ["k", "t"]
    assert [str(v) for v in table.columns[0].values()] == ["1", "2"]
    assert table.columns[1].values() in (["it's", None], ["it's", MISSING])
    step = CompareStep(str(path), ("k",))
    assert not step.others
    assert "; 2 same" in run_course(table_of(k=[1, 2], t=["it's", None]), (step,)).end.said


@pytest.mark.parametrize(
    ("name", "text"), [("a.json", "[1]"), ("a.json", "{"), ("a.csv", ""), ("a.xlsx", "no"), ("a.csv", "a\n1,2\n")]
)
def test_broken_files_are_told(name, text, tmp_path):
    (tmp_path / name).write_text(text)
    with pytest.raises(ConditionError, match="can't be read"):
        read_rows(str(tmp_path / name))


KEYS = some.lists(
    some.tuples(some.integers(-5, 30), some.sampled_from(["", "A", "a", "Z", "é", "\U0001f600", "b\x00"])), max_size=25
)


@given(KEYS, KEYS, some.sampled_from([1, 2, 5]), some.sampled_from([1, 3, 7]), some.data())
@settings(max_examples=how_many(60, 2000), deadline=None)
def test_sides_read_in_order_give_the_same_as_whole(left, right, stretch, block, data):
    sides = [sorted(each, key=lambda key: (key[0], key[1])) for each in (left, right)]
    tables = [table_of(k=[k for k, _ in each], w=[w for _, w in each], v=[data.draw(some.integers(0, 1)) for _ in each])
              for each in sides]  # fmt: skip
    tables = [made if made.rows else table_of(k=[0], w=["a"], v=[0]).take(View(made).row_ids()) for made in tables]
    step = CompareStep("o", ("k", "w"))

    def parts(table):
        yield from (table.take(View(table).row_ids(at, at + block)) for at in range(0, max(1, table.rows), block))

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("nimble_otter.pull.compare_large.STRETCH", stretch)
        found = compare_ordered(parts(tables[0]), parts(tables[1]), step)
    whole = compare_views(View(tables[0]), View(tables[1]), step.keys)
    assert found.counts == tuple(whole.count(state) for state in range(4))
    assert found.read == (tables[0].rows, tables[1].rows)
    want, _ = differences_table(whole)
    rows_of = lambda table: sorted(zip(*(c.values() for c in table.columns), strict=True), key=repr)  # noqa: E731
    assert rows_of(found.table) == rows_of(want)


def test_rows_in_another_order_are_refused():
    up, down = table_of(k=[1, 2, 3]), table_of(k=[3, 2, 1])
    with pytest.raises(ConditionError, match="do not come in our order"):
        compare_ordered(iter([up]), iter([down]), CompareStep("o", ("k",)))
    with pytest.raises(ConditionError, match="compared by a key"):
        compare_ordered(iter([up]), iter([up]), CompareStep("o"))


def stations(path, *changes):
    with sqlite_file(path) as base:
        base.execute(
            "create table station (station_id integer primary key, name text not null, height_m real, opened date)"
        )
        base.executemany(
            "insert into station values (?, ?, ?, ?)", [(n, f"S {n}", n * 1.5, f"2031-05-0{n}") for n in range(1, 8)]
        )
        for each in changes:
            base.execute(each)
    base.close()
    return path


def test_the_command_tells_sends_and_writes_what_brings_into_line(home, tmp_path, capsys):
    a = stations(tmp_path / "a.db")
    b = stations(tmp_path / "b.db", "update station set height_m = height_m + 0.2 where station_id = 3",
                 "update station set height_m = height_m + 0.001 where station_id = 4",
                 "delete from station where station_id = 7",
                 "insert into station values (43, 'Brook ''Foot', null, '2031-04-11')")  # fmt: skip
    sides = [f"{a}#station", f"{b}#station"]
    assert main(["compare", *sides]) == 7
    assert "by station_id: 2 changed, 1 only left, 1 only right; 4 same" in capsys.readouterr().err
    assert main(["compare", *sides, "--key", "station_id", "--large", "--send", str(tmp_path / "large.csv")]) == 7
    assert "by station_id: 2 changed, 1 only left, 1 only right; 4 same" in capsys.readouterr().err
    assert (tmp_path / "large.csv").read_text().count("\n") == 5
    out, diff = tmp_path / "out.sql", tmp_path / "diff.csv"
    within = ["--tolerance", "height_m=0.01"]
    assert main(["compare", *sides, *within, "--send", str(diff), "--script", str(out), "--delete"]) == 7
    assert "1 insert, 1 update, 1 delete" in capsys.readouterr().err
    with diff.open() as file:
        assert [(row["station_id"], row["difference"]) for row in csv.DictReader(file)] == [
            ("3", "changed"), ("7", "only left"), ("43", "only right")]  # fmt: skip
    assert main(["apply", "--source", str(a), str(out), "--write"]) == 0
    capsys.readouterr()
    assert main(["compare", *sides, *within, "--json"]) == 0
    assert json.loads(capsys.readouterr().out) == {
        "key": ["station_id"], "same": 7, "changed": 0, "only_left": 0, "only_right": 0}  # fmt: skip
    for written, says in (("1", "batch 1 of 1: 1 update"), ("2", "0 rows written in 0 batches")):
        assert main(["compare", *sides, "--write", "--batch", "3", "--json"]) == 0
        assert says in capsys.readouterr().err, written
    for suffix in ("csv", "xlsx", "json", "jsonl", "parquet"):
        file = str(tmp_path / f"b.{suffix}")
        assert main(["query", "--source", str(b), "--sql", "select * from station", "--send", file]) == 0
        assert main(["compare", sides[1], file]) == 0
        assert main(["compare", file, sides[1], "--key", "station_id"]) == 0
        assert main(["compare", file, sides[0], *within]) == 0
        assert main(["compare", file, sides[0], "--script", str(out)]) == 4
    for wrong, code, says in ((["x.csv", sides[0]], 4, "x.csv can't be read"), (["nope", sides[0]], 4, "no pull nope"),
                              ([f"{a}#stations", sides[0]], 4, "The nearest is station"),
                              ([*sides, "--tolerance", "height_m"], 2, "no = between"),
                              ([*sides, "--key", "nope"], 4, "nope is not in both"),
                              ([*sides, "--write", "--batch", "0"], 2, "--batch is a number"),
                              ([str(tmp_path / "b.csv"), sides[0], "--write"], 4, "not those of"),
                              ([*sides, "--large"], 2, "--large needs --key"),
                              ([*sides, "--large", "--key", "height_m"], 4, "can't be read in its order")):  # fmt: skip
        capsys.readouterr()
        assert main(["compare", *wrong]) == code
        assert says in capsys.readouterr().err


def test_two_sources_are_compared_table_by_table(home, tmp_path, capsys):
    a = stations(tmp_path / "a.db")
    b = stations(tmp_path / "b.db", "create table extra (x)", "create index by_name on station (name)",
                 "alter table station add column more text default 'x'", "delete from station where station_id = 1",
                 "create table other (id integer primary key, station_id integer references station)")  # fmt: skip
    sides, out = [str(a), str(b), "--schema", "--counts"], tmp_path / "diff.csv"
    assert main(["compare", *sides, "--send", str(out)]) == 7
    with out.open() as file:
        found = {(r["table"], r["part"], r["name"]): (r["difference"], r["says"]) for r in csv.DictReader(file)}
    assert found[("station", "rows", "")] == ("changed", "6")
    assert found[("station", "default", "more")] == ("only right", "'x'")
    assert found[("station", "index", "by_name")] == ("only right", "(name)")
    assert found[("other", "reference", "station_id")][1].startswith("station")
    assert found[("other", "key", "")] == ("only right", "id")
    assert {table for table, _, _ in found} == {"station", "extra", "other"}
    with sqlite_file(a) as base:
        base.execute("create table mine (x)")
    base.close()
    assert (
        main(["compare", str(a), str(b), "--all-tables", "--send", str(out), "--script", str(tmp_path / "no.sql")]) == 7
    )
    assert "station by station_id: 1 only left; 6 same" in (told := capsys.readouterr().err)
    assert "other: only right" in told
    assert "mine: only left" in told
    assert (tmp_path / "no.sql").read_text() == ""
    assert "station,6,0,1,0," in out.read_text()
    assert main(["compare", str(a), str(a), "--all-tables"]) == 0
    assert main(["compare", str(a), str(a), "--schema", "--counts"]) == 0
    assert "no differences" in capsys.readouterr().err


def test_what_a_column_can_not_take_is_left_and_said(base, open_base):
    connection = open_base(base(
        "create table t (id integer primary key, n integer not null, g integer generated always as (n * 2) stored);"
        "insert into t (id, n) values (1, 5), (2, 6), (3, 7);"))  # fmt: skip
    fetched = fetch(connection, Request("select * from t"))
    target = find_target(fetched.table, fetched.origins, fetched.tables, None, False, connection.dialect)
    right = table_of(id=["1", "2", "9"], n=["soon", "8", "3"], g=["1", "2", "3"])
    shaped = CompareStep("o", ("id",), rows=View(right)).apply(all_rows(fetched.table), NEVER)
    side = Side(True, fetched.table, [3, 4], target, (0, 1, 2))
    made = align(shaped.compared, side, Wanted(delete=True))
    assert (made.inserts, made.updates, made.deletes) == (1, 1, 1)
    assert made.action.cells == ((1, 1, 8), (3, 0, 9), (3, 1, 3))
    assert any("g is a generated column" in note for note in made.notes)
    assert any(note.startswith("n: ") and note.endswith("(1 rows)") for note in made.notes)
    only = align(shaped.compared, side, Wanted(False, True, columns=("g",)))
    assert only.words() == "nothing to change"
    some_lines = align(shaped.compared, side, Wanted(), lines=View(right).row_ids()[:1])
    assert some_lines.count == 0
