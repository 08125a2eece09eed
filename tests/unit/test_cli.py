"""The command line as one types it, in a process of its own where the exit code and stderr matter."""

import csv
import json
import os
import re
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import openpyxl
import pytest

from nimble_otter import __version__
from nimble_otter.cli import main
from nimble_otter.cli.flags import UsageError, parse_group, parse_sort
from nimble_otter.pull import Pull, Query, SendPlan, places, save_pull
from nimble_otter.pull.account import deliveries
from nimble_otter.pull.places import state_folder
from nimble_otter.pull.steps import Condition, FigureOf, FilterStep, GroupStep, JoinStep, KeyBy, SortBy, group_keys
from nimble_otter.query.sql.parameters import typed
from nimble_otter.sources.source import source_of_file
from nimble_otter.table.ops.group import AggregateFunction as Agg
from tests.files import sqlite_file

READINGS = "select * from reading join station using (station_id) where taken_at >= :since"


def rows_in(path):
    with open(path, newline="", encoding="utf-8") as stream:
        return list(csv.reader(stream))


def test_query_filters_groups_sorts_and_sends(survey, tmp_path, capsys):
    out = tmp_path / "o.csv"
    code = main(
        ["query", "--source", str(survey), "--sql", READINGS,
         "--param", "since=2031-01-01", "--filter", "level_m is not null", "--filter", "quality <> 'void'",
         "--group", "river, quality: count, sum(level_m), mean(flow_m3s)", "--sort", "rows desc, quality",
         "--columns", "quality,rows,river", "--send", str(out)]
    )  # fmt: skip
    assert code == 0
    rows = rows_in(out)
    assert rows[0] == ["quality", "rows", "river"]
    assert f"{len(rows) - 1} rows, 3 columns to {out}" in capsys.readouterr().out
    rivers = [row[2] for row in rows[1:]]
    assert sorted(range(len(rivers)), key=lambda n: rivers.index(rivers[n])) == list(
        range(len(rivers))
    )  # kept together
    group = ["--group", "river, quality: count", "--tree", "--send", str(out)]
    assert main(["query", "--source", str(survey), "--sql", READINGS, "--param", "since=2031-01-01", *group]) == 0
    tree = rows_in(out)
    assert tree[0] == ["level", "river", "quality", "rows"]
    assert tree[-1][:3] == ["0", "", ""]
    assert sum(int(row[3]) for row in tree if row[0] == "1") == int(tree[-1][3])
    assert sum(int(row[3]) for row in tree if row[0] == "2") == int(tree[-1][3])


@pytest.mark.parametrize("suffix", ["csv", "xlsx", "json", "sql"])
def test_hostile_names_and_no_rows_in_every_format(hostile, tmp_path, suffix):
    for sql in ('select * from "or""der by"', 'select * from "v iew" where id < 0'):
        out = tmp_path / f"o u'\"t.{suffix}"
        table = ["--table", 'my "t'] if suffix == "sql" else []
        assert main(["query", "--source", str(hostile), "--sql", sql, "--send", str(out), *table]) == 0
        assert out.stat().st_size > 0 or suffix == "sql"


def test_a_saved_pull_runs_with_other_parameters(survey, tmp_path):
    pull = Pull(
        "levels", source_of_file(survey),
        Query("select * from station where station_id <= :n", parameters={"n": 3}, limit=10),
        (FilterStep((Condition("is", "active", ("yes",)),)),),
        SendPlan("json", str(tmp_path / "{pull}-{count}"), {"layout": "lines"}),
    )  # fmt: skip
    path = tmp_path / "levels.pull"
    save_pull(pull, path)
    assert main(["run", str(path)]) == 0
    assert len((tmp_path / "levels-3.jsonl").read_text().splitlines()) == 3
    assert main(["run", str(path), "--param", "n=5", "--send", str(tmp_path / "x.csv")]) == 0
    assert len(rows_in(tmp_path / "x.csv")) == 6
    none = replace(pull, steps=(FilterStep((Condition("is", "river", ("nowhere",)),)),), send=None)
    for plan, given, many in ((None, [], 0), (None, ["--all"], 3), (SendPlan("csv", "", scope="all"), [], 3)):
        save_pull(replace(none, send=plan), path)
        assert main(["run", str(path), *given, "--send", str(tmp_path / "y.csv")]) == 0
        assert len(rows_in(tmp_path / "y.csv")) == many + 1, (plan, given)


def test_a_saved_pull_takes_the_rows_of_others(survey, tmp_path, capsys):
    source, join = source_of_file(survey), JoinStep("highest", (("station_id", "station_id"),))
    groups = GroupStep(group_keys("station_id"), (FigureOf(Agg.MAX, "level_m"),))
    save_pull(Pull("highest", source, Query("select * from reading", limit=50), (groups,)), tmp_path / "highest.pull")
    send = SendPlan("csv", str(tmp_path / "o"))
    path = tmp_path / "stations.pull"
    save_pull(Pull("stations", source, Query("select station_id, name from station"), (join,), send), path)
    assert main(["run", str(path)]) == 0
    assert rows_in(tmp_path / "o.csv")[0] == ["station_id", "name", "level_m max"]
    assert "highest: the limit of 50 left rows at the source" in capsys.readouterr().err
    ring = Pull("highest", source, Query("select 1 as station_id"), (replace(join, other="stations"),))
    save_pull(ring, tmp_path / "highest.pull")
    assert main(["run", str(path)]) != 0
    assert "Pulls take rows of each other: stations → highest → stations." in capsys.readouterr().err
    (tmp_path / "highest.pull").unlink()
    assert main(["run", str(path)]) != 0
    assert "There is no pull highest" in capsys.readouterr().err


def test_documents_from_the_command_line(reports, tmp_path):
    out = tmp_path / "o.json"
    sql = "select kind, flood.level as level from report where flood.level > 4.5"
    assert main(["query", "--source", reports.url, "--sql", sql, "--sort", "level desc", "--send", str(out)]) == 0
    levels = [row["level"] for row in json.loads(out.read_text())]
    assert levels == sorted(levels, reverse=True)


@pytest.mark.parametrize(
    ("arguments", "code", "says"),
    [
        (["query", "--source", "SURVEY", "--sql", "selct 1"], 4, "line 1, column 1"),
        (["query", "--source", "SURVEY", "--sql", "select :a"], 4, ":a has no value"),
        (["query", "--source", "SURVEY", "--sql", "select 1 as a", "--filter", "b > 1"], 4, "There is no column b"),
        (["query", "--source", "SURVEY", "--sql", "select 1 as a", "--group", "zz"], 4, "zz"),
        (["query", "--source", "SURVEY", "--sql", "select 1 as a", "--columns", "q"], 4, "no column q"),
        (["query", "--source", "/nowhere.db", "--sql", "select 1"], 3, "no file"),
        (["query", "--source", "mongodb://127.0.0.1:9/x", "--sql", "select * from a"], 3, "refused"),
        (["query", "--source", "ftp://x", "--sql", "select 1"], 3, "no driver"),
        (["run", "/nowhere.pull"], 3, "can't be read"),
        (["query", "--source", "SURVEY", "--sql", "select 1", "--group", "a: mode(b)"], 2, "not an aggregate"),
        (["query", "--source", "SURVEY", "--sql", "select 1", "--param", "x"], 2, "NAME=VALUE"),
        (["query", "--source", "SURVEY", "--sql", "select 1", "--limit", "-1"], 2, "--limit"),
        (["demo", "DIR", "--readings", "0"], 2, "--readings"),
    ],
)
def test_exit_codes_and_one_clear_line(survey, tmp_path, capsys, arguments, code, says):
    words = [str(survey) if a == "SURVEY" else str(tmp_path) if a == "DIR" else a for a in arguments]
    if words[0] == "query":
        words += ["--send", str(tmp_path / "o.csv")]
    assert main(words) == code
    captured = capsys.readouterr()
    assert says in captured.err
    assert captured.err.count("\n") == 1
    assert not (tmp_path / "o.csv").exists()


def test_sending_where_one_can_not(survey, tmp_path, capsys):
    base = ["query", "--source", str(survey), "--sql", "select 1", "--send"]
    for more, code, said in (
        ([str(tmp_path)], 5, "does not indicate a format"),
        ([str(tmp_path / "x.xyz")], 5, "does not indicate a format"),
        ([str(survey / "x.csv")], 5, "can't be written"),
        (["-"], 2, "needs --format"),
        (["-", "--format", "xlsx"], 5, "not text"),
        ([str(tmp_path / "x.csv"), "--sheet", "a"], 2, "--sheet is not an option of csv; xlsx has it"),
        ([str(tmp_path / "x.csv"), "--delimiter", "dot"], 5, "no delimiter 'dot'"),
        ([str(tmp_path / "{nosuch}.csv")], 5, "no {nosuch}"),
    ):
        assert main([*base, *more]) == code, more
        assert said in capsys.readouterr().err
    assert list(tmp_path.iterdir()) == []


def test_several_deliveries_with_the_options_of_their_formats(survey, tmp_path, capsys):
    out = [str(tmp_path / "new" / name) for name in ("{date:%Y}.csv", "a.jsonl", "a.sql", "a.tsv")]
    command = ["query", "--source", str(survey), "--sql", "select * from station order by station_id", "--limit", "4"]
    sends = [word for path in out for word in ("--send", path)]
    flags = ["--no-header", "--delimiter", "semicolon", "--table", "place", "--create", "--rows", "objects"]
    assert main([*command, *sends[:4], "--no-header", "--delimiter", "semicolon"]) == 0
    said = capsys.readouterr()
    assert "4 rows" in said.out
    assert "the limit of 4 left rows at the source" in said.err
    (made,) = [path for path in (tmp_path / "new").iterdir() if path.suffix == ".csv"]
    assert (len(made.stem), len(made.read_text().splitlines())) == (4, 4)
    assert main([*command, *sends[4:6], "--table", "place", "--create", "--rows", "2"]) == 0
    assert (tmp_path / "new" / "a.sql").read_text().count("insert into place") == 2
    assert main([*command, *sends[6:], *flags[:1]]) == 0
    assert (tmp_path / "new" / "a.tsv").read_text().splitlines()[0].count("\t") >= 4
    assert main([*command, *sends[2:4], "--exists", "refuse"]) == 5
    assert main([*command, *sends[2:4], "--exists", "append"]) == 0
    assert len((tmp_path / "new" / "a.jsonl").read_text().splitlines()) == 8


def test_standard_output_and_the_list_of_formats(survey, tmp_path):
    run = as_process
    made = run("query", "--source", str(survey), "--sql", "select 1 as a", "--send", "-", "--format", "csv")
    assert (made.stdout, made.stderr) == ("a\n1\n", "1 rows, 1 columns\n")
    listed = run("formats").stdout
    assert "csv  CSV, *.csv" in listed
    assert "append (add the rows below)" in listed


def test_whole_tables_go_to_files_or_into_one(survey, tmp_path, capsys):
    base = ["tables", "--source", str(survey), "--names", "station, river", "--send"]
    assert main([*base, str(tmp_path / "{table}.csv")]) == 0
    assert (len(rows_in(tmp_path / "station.csv")), len(rows_in(tmp_path / "river.csv"))) == (43, 8)
    assert main([*base, str(tmp_path / "all.xlsx")]) == 0
    assert openpyxl.load_workbook(tmp_path / "all.xlsx").sheetnames == ["station", "river"]
    assert main([*base, str(tmp_path / "all.sqlite")]) == 0
    with sqlite_file(tmp_path / "all.sqlite") as made:
        (definition,) = made.execute("select sql from sqlite_master where name = 'station'").fetchone()
    made.close()
    assert "primary key (station_id)" in definition
    assert main([*base[:3], "--names", "nosuch", *base[5:], str(tmp_path / "x.csv")]) == 2
    assert main([*base, str(tmp_path / "all.csv")]) == 5
    assert "holds one table" in capsys.readouterr().err


def test_rows_go_to_another_source(survey, tmp_path, capsys):
    other = tmp_path / "other.sqlite"
    sqlite3.connect(other).close()
    base = [
        "query",
        "--source",
        str(survey),
        "--sql",
        "select station_id, name, opened from station",
        "--to",
        str(other),
    ]
    table = ["--table", "places", "--key", "station_id", "--map", "name = called, opened ="]
    assert main([*base, *table]) == 0
    assert "42 new rows, 0 updated, 0 skipped in places" in capsys.readouterr().out
    with sqlite_file(other) as made:
        assert made.execute("select count(*), count(called) from places").fetchone() == (42, 42)
    made.close()
    assert main([*base, *table, "--duplicates", "skip"]) == 0
    assert "42 skipped" in capsys.readouterr().out
    assert main([*base, *table]) != 0
    assert main([*base, "--map", "x"]) == 5
    assert main([*base, *table, "--send", "x.csv"]) == 2
    pull = Pull("p", source_of_file(survey), Query("select station_id from station"), (), SendPlan("clipboard", ""))
    save_pull(pull, tmp_path / "p.pull")
    assert main(["run", str(tmp_path / "p.pull")]) == 2
    options = {"source": str(other), "table": "ids"}
    save_pull(replace(pull, send=SendPlan("source", "", options)), tmp_path / "p.pull")
    assert main(["run", str(tmp_path / "p.pull")]) == 0


def test_rows_are_written_by_the_server_itself_and_to_no_other(own_survey, tmp_path, capsys):
    other = tmp_path / "other.sqlite"
    sqlite3.connect(other).close()
    base = ["query", "--source", str(own_survey), "--sql", "select station_id, name from station",
            "--filter", "station_id <= 5", "--on-server", "--table", "few"]  # fmt: skip
    assert main([*base, "--to", str(other)]) != 0
    assert "is not the source of the query" in capsys.readouterr().err
    assert main([*base, "--to", str(own_survey)]) == 0
    assert "5 new rows" in capsys.readouterr().out
    with closing(sqlite3.connect(own_survey)) as own, closing(sqlite3.connect(other)) as none:
        assert own.execute("select * from few").fetchall() == own.execute(
            "select station_id, name from station where station_id <= 5").fetchall()  # fmt: skip
        assert none.execute("select count(*) from sqlite_master").fetchone() == (0,)


def test_rows_stream_through_filters_and_columns_like_rows_that_are_held(survey, tmp_path, capsys):
    many = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 30000) select i, i % 7 as w, "
    text = ["query", "--source", str(survey), "--sql", f"{many} 'x' || i as t from n where i > :n", "--param", "n=3"]
    steps = ["--filter", "w > 1", "--columns", "t, i"]
    assert main([*text, *steps, "--send", str(tmp_path / "streamed.csv")]) == 0
    assert main([*text, *steps, "--sort", "i", "--send", str(tmp_path / "held.csv")]) == 0
    assert len(rows_in(tmp_path / "held.csv")) > 20_000
    assert rows_in(tmp_path / "streamed.csv") == rows_in(tmp_path / "held.csv")
    assert main([*text, "--filter", "nosuch > 1", "--send", str(tmp_path / "x.csv")]) == 4
    assert main([*text, "--limit", "0", "--send", str(tmp_path / "none-{count}.csv")]) == 0
    assert len(rows_in(tmp_path / "none-0.csv")) == 1
    made = deliveries(state_folder())
    assert [entry.path.rpartition("/")[2] for entry in made[:3]] == ["none-0.csv", "held.csv", "streamed.csv"]
    assert made[1].checked


def test_as_a_process_help_version_and_usage(tmp_path):
    run = as_process
    assert run("--version").stdout == f"nimble-otter {__version__}\n"
    assert "Exit codes: 0 done, 2 usage" in run("--help").stdout
    assert run().returncode == 2
    light = "import sys, nimble_otter.cli as c\ntry: c.main(['--help'])\nexcept SystemExit: print(len(sys.modules), 'numpy' in sys.modules)"  # noqa: E501
    count, has_numpy = subprocess.run([sys.executable, "-c", light], capture_output=True, text=True).stdout.split()[-2:]
    assert (int(count) < 150, has_numpy) == (True, "False")  # nothing heavy is read for the help
    assert run("query", "--sql", "x").returncode == 2
    demo = run("demo", str(tmp_path / "d"), "--readings", "500")
    assert demo.returncode == 0
    assert demo.stderr == ""
    assert os.path.exists(demo.stdout.strip())


def test_small_languages():
    step = parse_group('a b, c: COUNT, sum(x y), distinct("z")')
    assert step.keys == group_keys("a b", "c")
    assert parse_group("t by month: count").keys == (KeyBy("t", "month"),)
    assert step.figures[:2] == (FigureOf(Agg.COUNT), FigureOf(Agg.SUM, "x y"))
    assert parse_group("a").figures == (FigureOf(Agg.COUNT),)
    assert parse_sort("a desc, b, c asc nulls first").keys == (SortBy("a", True), SortBy("b"), SortBy("c", False, True))
    for wrong in (":count", "a: sum", "a: nope(b)"):
        with pytest.raises(UsageError):
            parse_group(wrong)


def test_the_survey_is_the_same_each_time_and_as_large_as_asked(tmp_path):
    from nimble_otter.demo.reports import make_collections
    from nimble_otter.demo.survey import write_survey
    from nimble_otter.sources import Source, connect

    progress = []
    for name, count in (("a", 4200), ("b", 4200), ("c", 51_000)):
        write_survey(tmp_path / f"{name}.sqlite", count, progress=lambda n, m: progress.append((n, m)))
    assert (tmp_path / "a.sqlite").read_bytes() == (tmp_path / "b.sqlite").read_bytes()
    assert progress[-2:] == [(50_000, 51_000), (51_000, 51_000)]
    connection = connect(Source("c", f"sqlite:///{tmp_path / 'c.sqlite'}"))
    assert connection.count("reading") == 51_000
    assert {t.name for t in connection.tables()} >= {
        "river", "station", "gauge", "reading", "visit", "visit_photo", "lab_sample", "assay", "volunteer", "loan",
        "legacy_note",
    }  # fmt: skip
    connection.close()
    first, again = make_collections(), make_collections()
    assert first == again
    assert {name: len(rows) for name, rows in first.items()} == {"report": 8412, "notice": 640}
    assert not [p for p in tmp_path.iterdir() if p.suffix == ".part"]


def test_several_values_of_a_parameter_reach_in(own_survey, tmp_path, capsys):
    """With commas, given several times, and from a pull file: as the window takes them."""
    sql = "select count(*) as n from reading where quality in (:q)"
    want = main(["query", "--source", str(own_survey), "--sql", sql.replace(":q", "'good', 'suspect'"), "--send", "-",
                 "--format", "csv"]) or capsys.readouterr().out  # fmt: skip
    for given in (["q=good, suspect"], ["q=good", "q=suspect"], ["q=good,suspect"]):
        flags = [part for item in given for part in ("--param", item)]
        assert main(["query", "--source", str(own_survey), "--sql", sql, *flags, "--send", "-", "--format", "csv"]) == 0
        assert capsys.readouterr().out == want
    flags = ["--sql", "select quality from reading", "--filter", "quality in (:q)", "--param", "q=good, suspect"]
    assert main(["query", "--source", str(own_survey), *flags, "--send", "-", "--format", "csv"]) == 0
    assert len(capsys.readouterr().out.splitlines()) - 1 == int(want.split()[1])
    assert typed("'a,b'", "", True) == ["a,b"]


def test_names_of_files_take_the_table_and_the_pull(own_survey, tmp_path):
    sql = "select * from reading where level_m > 1"
    flags = ["query", "--source", str(own_survey), "--sql", sql, "--send"]
    assert main([*flags, str(tmp_path / "{pull}-{table}.csv")]) == 0
    assert [p.name for p in tmp_path.glob("*.csv")] == ["query-reading.csv"]


def test_columns_that_a_table_computes_are_left_out_of_its_inserts(base, tmp_path):
    path = base(
        "create table t (a integer primary key, b int generated always as (a + 1) stored); insert into t (a) values (1)"
    )
    assert main(["query", "--source", str(path), "--sql", "select * from t", "--send", str(tmp_path / "x.sql")]) == 0
    assert (tmp_path / "x.sql").read_text().split("\n")[0] == "insert into t (a) values"


@pytest.mark.parametrize(("spec", "keys"), [('"n""q" desc', [('n"q', True, False)]), ('a, "b,c" asc nulls first', [
    ("a", False, False), ("b,c", False, True)]), ("x DESC", [("x", True, False)])])  # fmt: skip
def test_keys_of_a_sort_are_names_in_quotes_too(spec, keys):
    assert [(k.column, k.descending, k.empty_first) for k in parse_sort(spec).keys] == keys


def test_a_table_to_standard_output(survey, capfd):
    assert main(["tables", "--source", str(survey), "--names", "station", "--format", "csv", "--send", "-"]) == 0
    assert capfd.readouterr().out.startswith("station_id,")
    assert main(["tables", "--source", str(survey), "--format", "csv", "--send", "-"]) == 5
    assert "Several tables" in capfd.readouterr().err


def as_process(*arguments, **more):
    return subprocess.run([sys.executable, "-m", "nimble_otter.cli", *arguments], capture_output=True, text=True,
                          check=False, **more)  # fmt: skip


def test_a_query_comes_from_anywhere_and_its_rows_go_where_they_are_asked_for(own_survey, tmp_path, capfd):
    asked = ["query", "--source", str(own_survey)]
    text = "select river_id, name from river order by river_id limit 2"
    told = as_process(*asked, "--sql", "-", input=text)
    assert told.stdout.splitlines()[0] == "river_id,name"
    assert len(told.stdout.splitlines()) == 3
    file = tmp_path / "q.sql"
    file.write_bytes(b"\xef\xbb\xbf" + text.encode())
    assert main([*asked, "--sql-file", str(file), "--format", "jsonl"]) == 0
    assert [json.loads(line)["river_id"] for line in capfd.readouterr().out.splitlines()] == [1, 2]
    assert main([*asked, "--sql-file", str(tmp_path / "none.sql")]) == 3
    assert main([*asked, "--sql", text, "--send", "/dev/stdout", "--format", "json"]) == 0
    assert json.loads(capfd.readouterr().out)[0]["river_id"] == 1
    assert main([*asked, "--sql", text, "--send", "/dev/null"]) == 0
    assert os.path.exists("/dev/null")
    with pytest.raises(SystemExit):
        main(asked)
    assert len(capfd.readouterr().err.splitlines()) < 12


INTERRUPTED = """
import sys
from nimble_otter.cli import commands, entry
sys.argv = ["nimble-otter", "formats"]
commands._formats = lambda options: exec("import os; os.kill(os.getpid(), 15)")
sys.exit(entry.main())
"""


def test_the_code_of_a_signal_holds_where_it_came_while_a_text_was_compiled(tmp_path):
    """The interpreter would end itself by SIGINT (CPython, Py_RunMain), as an interrupt passed its `exec`."""
    (tmp_path / "asked.py").write_text(INTERRUPTED)
    told = subprocess.run([sys.executable, "-m", "asked"], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert (told.returncode, told.stderr) == (143, "nimble-otter: Stopped; nothing was delivered.\n")


def test_what_reads_the_rows_may_stop_and_a_full_disk_is_one_line(own_survey):
    asked = [sys.executable, "-m", "nimble_otter.cli", "query", "--source", str(own_survey), "--sql",
             "select * from reading"]  # fmt: skip
    with subprocess.Popen(asked, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as pipe:
        assert pipe.stdout.readline().startswith("reading_id")
        pipe.stdout.close()
        assert pipe.stderr.read() == ""
        assert pipe.wait(20) == 0
    with open("/dev/full", "w") as full:
        told = subprocess.run(asked, stdout=full, stderr=subprocess.PIPE, text=True, check=False)
    assert told.returncode == 5
    assert "space" in told.stderr
    assert len(told.stderr.splitlines()) == 1
    long = [*asked[:-1], "select count(*) from reading a, reading b, reading c"]
    with subprocess.Popen(long, text=True, stderr=subprocess.PIPE) as slow:
        caught = re.compile(r"^SigCgt:.*[4-7c-f]\w{3}$", re.MULTILINE)  # SIGTERM, 15, is bit 14
        deadline = time.monotonic() + 60
        while not caught.search(Path(f"/proc/{slow.pid}/status").read_text()) and time.monotonic() < deadline:
            time.sleep(0.05)
        time.sleep(0.5)
        slow.terminate()
        assert (slow.wait(20), slow.stderr.read()) == (143, "nimble-otter: Stopped; nothing was delivered.\n")


def test_parameters_and_limits_are_taken_at_their_word(own_survey, capfd):
    asked = ["query", "--source", str(own_survey), "--sql", "select * from river where river_id > :a"]
    assert main([*asked, "--param", "a=1", "--param", "b=2"]) == 2
    assert "no parameter b; it has a" in capfd.readouterr().err
    assert main([*asked, "--param", "a=0", "--limit", "2"]) == 0
    assert main([*asked, "--param", "a=0", "--limit", "2", "--fail-if-cut"]) == 5
    assert "left rows" in capfd.readouterr().err


def test_what_there_is_can_be_asked_for(own_survey, tmp_path, home, capsys):
    def told(*arguments, code=0):
        assert main(list(arguments)) == code
        return capsys.readouterr().out

    assert told("sources", "add", "Rivers", str(own_survey), "--read-only", "--stage", "test").startswith(
        "Rivers: sqlite"
    )
    listed = {line["name"]: line for line in json.loads(told("sources", "--json"))}
    assert listed["Rivers"]["marks"] == "read-only"
    assert "connected" in told("sources", "test", "Rivers")
    assert told("sources", "add", "Rivers", str(own_survey), code=2) == ""
    assert "station\ttable" in told("tables", "--source", "Rivers")
    columns = json.loads(told("describe", "--source", "Rivers", "station", "--json"))
    assert [c["column"] for c in columns if c["key"]] == ["station_id"]
    told("describe", "--source", "Rivers", "statoin", code=3)
    folder = places.shelf_folder()
    folder.mkdir(parents=True)
    save_pull(Pull("Two rivers", source_of_file(str(own_survey)), Query("select * from river limit 2")),
              folder / "Two rivers.pull")  # fmt: skip
    assert "Two rivers" in told("shelf")
    assert told("run", "Two rivers", "--send", str(tmp_path / "two.csv")).startswith("2 rows")
    assert json.loads(told("history", "--json"))[0]["rows"] == 2
    assert "removed" in told("sources", "remove", "Rivers")
    told("sources", "test", "Rivers", code=3)


# --- apply, find, quiet -------------------------------------------------------------------------------------------


def test_a_script_is_rehearsed_then_written_whole(own_survey, tmp_path, capsys):
    def now():
        with sqlite_file(own_survey) as base:
            loans = base.execute("select count(*) from loan").fetchone()[0]
            found = base.execute("select count(*) from station where name like '%-new'").fetchone()[0], loans
        base.close()
        return found

    script = tmp_path / "s.sql"
    script.write_text("begin;\nupdate station set name = name || :to where station_id < 3;\ndelete from loan;\ncommit")
    apply = ["apply", "--source", str(own_survey), str(script), "--param", "to=-new"]
    before = now()
    assert main([*apply, "--rehearse", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["written"] is False
    assert [(s["line"], s["rows"]) for s in told["statements"]] == [(2, 2), (3, before[1])]
    assert main([*apply, "--write"]) == 2
    assert f"delete every row of loan ({before[1]} rows). Nothing was run" in capsys.readouterr().err
    assert now() == before
    assert main([*apply, "--write", "--yes"]) == 0
    assert "2 statements written." in capsys.readouterr().err
    assert now() == (2, 0)
    for text, code, said in (
        ("update station set name = 'no';\nselect * fromm river;", 4, "Line 2: "),
        ("delete from loan;\nupdate river set name = null;", 4, "Nothing was written"),
        ("begin; update station set name = 'no'; commit; select 1", 5, "in the middle"),
        ("update station set name = 'no'; rollback", 5, "rollback"),
    ):
        script.write_text(text)
        assert main(["apply", "--source", str(own_survey), str(script), "--write", "--yes"]) == code
        assert said in capsys.readouterr().err
        assert now() == (2, 0)


@pytest.mark.parametrize("server", ["postgres", "mariadb"])
def test_a_rehearsal_leaves_no_trace_on_a_server(server, request, tmp_path, capsys):
    """Statements that commit by themselves are refused before they run."""
    server = request.getfixturevalue(server)
    server.ask("drop table if exists applied", "merrow")
    server.ask("create table applied (i int)", "merrow")
    try:
        for text, code in (("insert into applied values (1); truncate table applied", 0),
                           ("insert into applied values (1); create table applied_too (i int)", 0),
                           ("insert into applied values (1); grant select on applied to otter", 0),
                           ("insert into applied values (1), (2)", 0)):  # fmt: skip
            (tmp_path / "s.sql").write_text(text)
            told = main(["apply", "--source", server.url, str(tmp_path / "s.sql"), "--rehearse"])
            assert told == (5 if server.url.startswith("mariadb") and ";" in text else code)
            assert server.ask("select count(*) from applied", "merrow")[0][0] == 0
            assert not server.ask("select 1 from information_schema.tables where table_name = 'applied_too'", "merrow")
        assert main(["apply", "--source", server.url, str(tmp_path / "s.sql"), "--write"]) == 0
        assert server.ask("select count(*) from applied", "merrow")[0][0] == 2
    finally:
        server.ask("drop table applied", "merrow")


def test_a_value_is_found(own_survey, reports, capsys):
    find = ["find", "--source", str(own_survey)]
    assert main([*find, "tarnbeck", "--json"]) == 0
    found = json.loads(capsys.readouterr().out)
    with sqlite_file(own_survey) as base:
        for hit in found:
            wanted = f"select count(*) from {hit['table']} where lower({hit['column']}) like '%tarnbeck%'"
            assert base.execute(wanted).fetchone() == (hit["rows"],)
    base.close()
    assert {h["table"] for h in found} >= {"river", "station"}
    assert main([*find, "tarnbeck", "--match-case"]) == 1
    assert main([*find, "Tarn", "--word", "--names", "river"]) == 1
    assert main([*find, "^T.*k$", "--regex", "--match-case", "--names", "river"]) == 0
    assert main([*find, "x", "--names", "rivr"]) == 2
    assert main([*find, "(", "--regex"]) == 4
    assert main(["find", "--source", reports.url, "flood watch"]) == 0


def test_what_is_said_as_it_was_said(own_survey, tmp_path, capsys):
    ask = ["query", "--source", str(own_survey), "--sql", "select 1 as a", "--format", "json"]
    assert main(["-q", *ask, "--send", str(tmp_path / "x.csv")]) == 0
    assert capsys.readouterr() == ("", "")
    assert json.loads((tmp_path / "x.csv").read_text()) == [{"a": 1}]
    assert main([*ask, "--send", str(tmp_path / "bare")]) == 0
    assert (tmp_path / "bare.json").exists()
    assert main(["-q", "query", "--source", str(own_survey), "--sql", "selec"]) == 4
    assert capsys.readouterr().err
