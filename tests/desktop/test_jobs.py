"""What runs beside the window: where its pieces end, and where Python collects."""

import gc
import threading
import weakref

import pytest

from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.runtime.jobs import Jobs, JobToken, _WorkerPool
from nimble_otter.errors import OtterError, Stopped


@pytest.fixture
def jobs(qapp):
    jobs = Jobs()
    yield jobs
    jobs.close()


class OpenTransaction:
    """Tells the thread that let go of it last."""

    ended: list[threading.Thread] = []

    def __init__(self):
        weakref.finalize(self, lambda: OpenTransaction.ended.append(threading.current_thread()))


@pytest.mark.parametrize("end", [None, OtterError, Stopped, ValueError])
@pytest.mark.parametrize("lane", ["local", "source"])
def test_what_a_job_holds_is_let_go_of_in_the_main_thread(jobs, lane, end):
    crashed, OpenTransaction.ended = [], []
    jobs.crashed.connect(crashed.append)

    def submit(key):
        held = [OpenTransaction() for _ in range(3)]

        def work(stop, report):
            mine = held[0]
            report(mine)

            def part(number):
                if end is not None and number == 5:
                    raise end("a reason")
                return (mine, number)[1]

            assert stop.map_parallel(part, range(9)) == [*range(9)]
            return OpenTransaction()

        jobs.submit(lane, key, work, lambda _: held[1], lambda _: held[1], lambda _: held[2], lambda: held[1])

    for number in range(30):  # the later ones stop the earlier, whose ends nobody hears
        submit(f"key {number % 4}")
    assert wait_until(lambda: not jobs.is_busy, 5)
    assert wait_until(lambda: len(OpenTransaction.ended) >= 90, 5)
    assert set(OpenTransaction.ended) == {threading.main_thread()}
    assert [report for report in crashed if "a reason" in report] == crashed
    assert bool(crashed) == (end is ValueError)


def test_cycles_are_collected_in_the_main_thread_alone(jobs):
    where = set()

    def note(phase, info):
        where.add((threading.current_thread(), info["generation"]))

    def work(stop, report):
        for _ in range(50_000):
            cycle = []
            cycle.append(cycle)

    gc.callbacks.append(note)
    try:
        for _ in range(3):
            jobs.submit("source", "key", work)
            assert wait_until(lambda: not jobs.is_busy, 10)
        assert wait_until(lambda: where, 5)
    finally:
        gc.callbacks.remove(note)
    assert {thread for thread, _ in where} == {threading.main_thread()}


def test_parts_are_taken_by_several_hands_and_come_in_their_order():
    token, hands = JobToken(), _WorkerPool(3)
    both = threading.Barrier(3, timeout=5)

    def part(number):
        if number < 3:
            both.wait()  # three are under way at once, or this fails
        return sum(hands.all(lambda n: n * number, range(20)))  # a part that has parts itself

    assert hands.all(part, range(40)) == [190 * n for n in range(40)]
    assert token.map_parallel(lambda n: -n, range(1000)) == [-n for n in range(1000)]
    done = []

    def fails(number):
        done.append(number)
        if number == 2:
            raise Stopped

    with pytest.raises(Stopped):
        hands.all(fails, range(10_000))
    assert len(done) < 10_000
