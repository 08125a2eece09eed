"""A write that is cut off, frozen, stopped or killed at any message to a server, or at any system call of ours that
writes to a file: all of it is there or nothing, what was said is true, and what nobody heard is found out."""

import ctypes
import datetime as dt
import os
import platform
import signal
import sqlite3
import subprocess
import sys
import threading
from contextlib import closing, contextmanager, suppress
from pathlib import Path

import pytest
from pymongo import MongoClient

from nimble_otter.changes import Action, document_target, look_up, make_plan, write
from nimble_otter.changes.edits import Edits
from nimble_otter.errors import ChangeError, OutcomeUnknown, SourceError, Stopped
from nimble_otter.pull.drafts import EditDraft
from nimble_otter.pull.writes import WriteJournal, Written
from nimble_otter.sources import Request, Source, connect, fetch
from nimble_otter.stop import StopToken
from tests.conformance.places import place  # noqa: F401
from tests.proofs import IS_LONG, proven
from tests.servers.lines import Line
from tests.unit.test_changes import Bench

WAYS = ("before", "after", "stop", "freeze")


class Cutting(Line):
    """Does something at the client's message number `at`: cuts the line before it is sent on, or after, or sets a stop
    (and holds all that follows a while)."""

    def __init__(self, port):
        self.at, self.way, self.seen, self.stop = 0, "", 0, None
        super().__init__(port)

    def arm(self, at, way, stop):
        self.at, self.way, self.seen, self.stop = at, way, 0, stop

    def _carry(self, source, target, bytes_s):
        with suppress(OSError):
            is_up = target.getpeername()[1] == self._to
            while data := source.recv(1 << 16):
                hit = False
                if is_up:
                    self.seen += 1
                    hit = self.seen == self.at
                if hit and self.way == "before":
                    break
                if hit and self.way == "kill":
                    self.stop()
                    break
                if hit and self.way == "freeze":
                    threading.Timer(0.6, self.go_on).start()
                    self.hold()
                if hit and self.way in ("stop", "freeze"):
                    threading.Thread(target=self.stop.set, daemon=True).start()
                self._open.wait()
                target.sendall(data)
                if hit and self.way == "after":
                    break
        for end in (source, target):
            with suppress(OSError):
                end.shutdown(2)


def outcome(journal, url, do):
    """What was said of a write: True, False, or None where it is not known."""
    told = Written(dt.datetime.now(), "p", "s", "t", 3, Path(), uid="cut")
    try:
        report, noted = journal.write(told, url, EditDraft(), do)
        assert report.is_written
        journal.taken(noted)
        return True
    except OutcomeUnknown:
        return None
    except Stopped:
        return False
    except (ChangeError, SourceError) as problem:
        return False if "othing was written" in str(problem) else str(problem)


def agrees(said, is_there, journal, connection):
    """Whether what was said is so; what was not known is looked up, and then known."""
    notes = journal.open()
    if said is not None:
        assert not notes
        assert said == is_there
        return
    try:
        look_up(connection, notes[0].intent())
        found = True
    except OutcomeUnknown:
        raise
    except ChangeError:
        found = False
    assert found == is_there
    journal.drop(notes[0])


@pytest.mark.timeout(3600)
def test_at_every_message_to_a_server_a_write_is_whole_and_told_truly(place, tmp_path):  # noqa: F811
    if place.kind == "sqlite":
        pytest.skip("there is no line to a file")
    name = place.table([("id", "integer primary key"), ("said", "varchar(20)")])
    place.do(f"insert into {place.quote(name)} values (1, 'a'), (2, 'b'), (3, 'c')")
    line, journal = Cutting(place.server.port), WriteJournal(tmp_path / "reversals")
    url, cases = place.url.replace(str(place.server.port), str(line.port)), 0
    text = f"select * from {place.quote(name)} order by id"

    def once(at, way, number):
        bench = Bench(place.connection, text)
        before = bench.table.column("said").values()
        (new,) = bench.edits.new_ids(1)
        cells = ((0, 1, f"{way} {number}"), (1, 1, f"{way} {number}!"), (new, 0, 100 + number), (new, 1, "new"))
        bench.edits.apply(Action("Edit", cells, delete=(2,) if len(before) > 3 else (), add=((new, -1),)))
        plan, stop = bench.plan, StopToken()
        far = connect(Source("far", url))
        far.tables()
        line.arm(at, way, stop)
        said = outcome(journal, url, lambda note: write(far, plan, stop, note=note))
        seen, line.way = line.seen, ""
        line.go_on()
        values = Bench(place.connection, text).table.column("said").values()
        is_there = values != before
        assert not is_there or values[:2] == [f"{way} {number}", f"{way} {number}!"]
        assert not is_there or values[-1] == "new"
        agrees(said, is_there, journal, place.connection)
        far.close()
        return seen

    try:
        messages = once(0, "", 0)
        assert messages > 5
        for way in WAYS if IS_LONG else WAYS[:3]:
            for at in range(1, messages + 1, 1 if IS_LONG else 7):
                cases += 1
                once(at, way, cases)
    finally:
        line.close()
    proven("cut, frozen, stopped at every message", place.kind, cases, f"{messages} messages a write")


@pytest.mark.timeout(3600)
def test_at_every_message_documents_are_whole_and_told_truly(document_server, tmp_path):
    line, journal, cases = Cutting(document_server.port), WriteJournal(tmp_path / "reversals"), 0
    url = document_server.url.replace(str(document_server.port), str(line.port))
    separator = "&" if "?" in url else "?"
    url += f"{separator}directConnection=true"
    with MongoClient(document_server.url) as client:
        own = client.merrow.cuts
        own.delete_many({})
        own.insert_many([{"_id": n, "said": "a"} for n in range(3)])
        near = connect(Source("near", document_server.url))

        def once(at, way, number):
            before = list(own.find().sort("_id"))
            fetched = fetch(near, Request('{"_id": {"$lt": 3}}', language="native", collection="cuts", with_keys=True))
            edits = Edits(fetched.table.rows)
            place_of = fetched.table.index("said")
            edits.apply(Action("Edit", ((0, place_of, f"{way} {number}"), (1, place_of, f"{way} {number}!"))))
            plan, stop = make_plan(edits, fetched.table, document_target(fetched.table, "cuts")), StopToken()
            far = connect(Source("far", url))
            line.arm(at, way, stop)
            said = outcome(journal, url, lambda note: write(far, plan, stop, note=note))
            seen, line.way = line.seen, ""
            line.go_on()
            after = list(own.find().sort("_id"))
            assert after == before or [d["said"] for d in after[:2]] == [f"{way} {number}", f"{way} {number}!"]
            agrees(said, after != before, journal, near)
            far.close()
            return seen

        try:
            messages = once(0, "", 0)
            for way in WAYS if IS_LONG else WAYS[:2]:
                for at in range(1, messages + 1, 1 if IS_LONG else 4):
                    cases += 1
                    once(at, way, cases)
        finally:
            line.close()
            near.close()
    proven("cut, frozen, stopped at every message", "documents", cases, f"{messages} messages a write")


WRITER = """
import datetime, sys
from pathlib import Path
from nimble_otter.changes import Action, write
from nimble_otter.pull.drafts import EditDraft
from nimble_otter.pull.writes import WriteJournal, Written
from nimble_otter.sources import Source, connect
from tests.unit.test_changes import Bench
connection = connect(Source("w", sys.argv[1]))
bench = Bench(connection, "select * from kills order by id")
bench.edits.apply(Action("Edit", tuple((row, 1, sys.argv[2]) for row in range(bench.table.rows))))
plan, journal = bench.plan, WriteJournal(Path(sys.argv[3]))
told = Written(datetime.datetime.now(), "p", "s", "kills", 3, Path(), uid="cut")
print("ready", flush=True)
sys.stdin.readline()
journal.write(told, sys.argv[1], EditDraft(), lambda note: write(connection, plan, note=note))
"""


@contextmanager
def writing(url, word, journal):
    """A program of ours about to write, once a line comes in."""
    command = [sys.executable, "-c", WRITER, url, word, str(journal.folder)]
    pipe, root = subprocess.PIPE, Path(__file__).parents[2]
    with subprocess.Popen(command, cwd=root, stdin=pipe, stdout=pipe, stderr=subprocess.DEVNULL) as writer:
        assert writer.stdout.readline() == b"ready\n"
        yield writer


def after_a_kill(connection, journal, word, before):
    """All or nothing is there, and what the journal says of it is so."""
    values = Bench(connection, "select * from kills order by id").table.column("said").values()
    assert values in (before, [word] * len(before)), values
    is_there = values == [word] * len(before)
    for noted in journal.open():
        assert not noted.is_alive
        if noted.outcome:
            assert is_there
        else:
            agrees(None, is_there, journal, connection)
        journal.taken(noted)
    return is_there


@pytest.mark.timeout(3600)
def test_our_program_killed_at_every_message_leaves_what_can_be_looked_up(place, tmp_path):  # noqa: F811
    if place.kind == "sqlite":
        pytest.skip("there is no line to a file")
    place.do("create table kills (id integer primary key, said varchar(20))")
    place.made.append("kills")
    place.do("insert into kills values (1, 'a'), (2, 'a')")
    line, seen, cases = Cutting(place.server.port), set(), 0
    url, journal = place.url.replace(str(place.server.port), str(line.port)), WriteJournal(tmp_path / "reversals")
    try:
        at, step = 1, 1 if IS_LONG else 25
        while True:
            before = Bench(place.connection, "select * from kills order by id").table.column("said").values()
            with writing(url, f"k{at}", journal) as writer:
                line.arm(at, "kill", writer.kill)
                writer.stdin.write(b"go\n")
                writer.stdin.close()
                code = writer.wait(60)
            seen.add(after_a_kill(place.connection, journal, f"k{at}", before))
            cases += 1
            if code == 0:
                break
            at += step
    finally:
        line.close()
    assert seen == {True, False}
    proven("our program killed at every message", place.kind, cases)


_WRITES = {1: "write", 18: "pwrite64", 74: "fsync", 75: "fdatasync", 76: "truncate", 77: "ftruncate", 82: "rename",
           87: "unlink", 263: "unlinkat", 264: "renameat", 316: "renameat2"}  # fmt: skip
"""Numbers of the system calls that change files (Linux, x86-64)."""
_PEEK, _SYSCALL, _SETOPTIONS, _SEIZE, _INTERRUPT = 3, 24, 0x4200, 0x4206, 0x4207


def kill_at(process, number):
    """Follow a process and kill it at its system call number so-and-so that writes (ptrace(2)). Returns whether it came
    to that. Raises: OSError where that is not allowed here."""
    libc = ctypes.CDLL(None, use_errno=True)
    libc.ptrace.restype, libc.ptrace.argtypes = ctypes.c_long, [ctypes.c_long] * 4

    def ptrace(what, data=0, where=0):
        ctypes.set_errno(0)
        made = libc.ptrace(what, process.pid, where, data)
        if made == -1 and ctypes.get_errno():
            raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
        return made

    ptrace(_SEIZE, 1)  # a call is told apart from a signal
    ptrace(_INTERRUPT)
    os.waitpid(process.pid, 0)
    process.stdin.write(b"go\n")
    process.stdin.close()
    count, is_inside = 0, False
    while True:
        ptrace(_SYSCALL)
        _, status = os.waitpid(process.pid, 0)
        if os.WIFEXITED(status) or os.WIFSIGNALED(status):
            process.returncode = 0
            return False
        if os.WSTOPSIG(status) != signal.SIGTRAP | 0x80:
            continue
        is_inside = not is_inside
        if is_inside and ptrace(_PEEK, where=120) in _WRITES:
            count += 1
            if count == number:
                process.kill()
                process.wait()
                return True


@pytest.mark.timeout(3600)
@pytest.mark.skipif(platform.machine() != "x86_64" or sys.platform != "linux", reason="numbers of system calls")
def test_our_program_killed_at_every_call_that_writes_leaves_a_file_whole(tmp_path, open_base):
    path, journal = tmp_path / "kills.sqlite", WriteJournal(tmp_path / "reversals")
    with closing(sqlite3.connect(path)) as base:
        base.executescript("create table kills (id integer primary key, said text); "
                           "insert into kills values (1, 'a'), (2, 'a'), (3, 'a')")  # fmt: skip
    connection, seen, at = open_base(path), set(), 1
    while True:
        before = Bench(connection, "select * from kills order by id").table.column("said").values()
        with writing(f"sqlite:///{path}", f"k{at}", journal) as writer:
            try:
                was_killed = kill_at(writer, at)
            except PermissionError:
                writer.kill()
                pytest.skip("processes may not be followed here")
        seen.add(after_a_kill(connection, journal, f"k{at}", before))
        if not was_killed:
            break
        at += 1 if IS_LONG else 29
    assert seen == {True, False}
    proven("our program killed at every call that writes", "sqlite", at)


def test_a_file_that_a_program_left_in_the_middle_of_a_write_is_read_as_it_was_before(tmp_path, open_base):
    path, left = tmp_path / "own.sqlite", tmp_path / "left.sqlite"
    with closing(sqlite3.connect(path, isolation_level=None)) as base:
        base.executescript("create table kills (id integer primary key, said text)")
        base.executemany("insert into kills values (?, ?)", [(n, "a" * 900) for n in range(200)])
        base.execute("pragma cache_size = 1")  # so that pages are written before the end
        base.execute("begin immediate")
        base.execute("update kills set said = 'half'")
        for suffix in ("", "-journal"):
            Path(f"{left}{suffix}").write_bytes(Path(f"{path}{suffix}").read_bytes())
        base.execute("rollback")
    values = Bench(open_base(left), "select * from kills order by id").table.column("said").values()
    assert set(values) == {"a" * 900}
