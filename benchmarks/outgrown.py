"""Rows that outgrow this machine: a table grouped on its engine, against its rows pulled and grouped here.

    .venv/bin/python -m benchmarks.outgrown [ROWS] [PULLED]

Starts an engine of its own (the package that the long check sets up). `PULLED` rows are fetched and grouped here in the
same run; what all would take is that times their number.
"""

import sys
import time
from contextlib import closing

from tests.servers import Spark

from nimble_otter.pull import Pull, Query, run_course
from nimble_otter.pull.send_there import write_there
from nimble_otter.pull.steps import Condition, FigureOf, FilterStep, GroupStep, group_keys
from nimble_otter.pull.whole_course import counts_there, moved_whole
from nimble_otter.send.transfer import Transfer
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.table.ops.group import AggregateFunction as Agg

MADE = (
    "create table level_of using parquet as select id, cast(id % 500 as int) as station, "
    "cast((id * 7919 % 100003) / 1000 as double) as level_m, "
    "timestamp_ntz'2031-01-01 00:00:00' + make_dt_interval(0, 0, 0, id % 100000000) as taken from range({})"
)
STEPS = (
    FilterStep((Condition("more than", "level_m", (50.0,)),)),
    GroupStep(group_keys("station"), (FigureOf(Agg.COUNT), FigureOf(Agg.MEAN, "level_m"), FigureOf(Agg.MAX, "taken"))),
)


def timed(what, do):
    began = time.perf_counter()
    result = do()
    spent = time.perf_counter() - began
    print(f"{what}: {spent:.1f} s", flush=True)
    return result, spent


def main(rows, pulled):
    server = Spark()
    try:
        with closing(connect(Source("engine", server.url))) as engine:
            timed(f"a table of {rows:,} rows made", lambda: engine.execute(Request(MADE.format(rows))))
            pull = Pull("levels", Source("engine", server.url), Query("select * from level_of", limit=None), STEPS)
            timed("estimates of each step", lambda: list(counts_there(pull, engine, False)))
            timed("exact counts of each step", lambda: list(counts_there(pull, engine, True)))
            whole, first = timed("the course moved, from 1,000 rows", lambda: moved_whole(pull, engine))
            query = Request(whole.moved.pull.query.text)
            there, on_engine = timed("filtered and grouped on the engine", lambda: fetch(engine, query))
            timed("the same into a table there", lambda: write_there(pull, engine, Transfer("sums", True)))
            here, seconds = timed(
                f"{pulled:,} rows pulled", lambda: fetch(engine, Request(f"select * from level_of limit {pulled}"))
            )
            _, shaped = timed("and filtered and grouped here", lambda: run_course(here.table, STEPS))
            estimate = (seconds + shaped) * rows / pulled
            print(f"{there.table.rows} groups; all rows pulled would take {estimate:,.0f} s, "
                  f"{estimate / (first + on_engine):.0f} times as long")  # fmt: skip
    finally:
        server.close()


if __name__ == "__main__":
    given = [int(word.replace("_", "")) for word in sys.argv[1:]]
    main(*(given + [200_000_000, 2_000_000][len(given) :]))
