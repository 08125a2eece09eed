"""Delivering rows: choosing the format, writing a file that is whole or not there, or a text for the clipboard."""

from __future__ import annotations

import errno
import importlib
import io
import logging
import os
import pkgutil
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path
from typing import Any

from nimble_otter.errors import SendError
from nimble_otter.files import clear_parts, locked, replacing
from nimble_otter.send import formats
from nimble_otter.send.format import Format, Output, Rows, settings
from nimble_otter.send.naming import numbered
from nimble_otter.send.sidecar_files import Beside
from nimble_otter.stop import NEVER, Progress, StopToken
from nimble_otter.translation import tr
from nimble_otter.values import Value

log = logging.getLogger(__name__)

EXISTS = (("ask", "ask"), ("number", tr("number the new one")), ("replace", tr("replace it")), ("refuse", "stop"))
"""What every format can do about a file that is there; its `changes` come beside these."""
WAIT_S = 120.0
"""How long a delivery waits for another one to the same target."""
MOST_CHECKED_BYTES = 256 << 20
"""A larger delivery is not read back: its rows are those that were written."""


Part = tuple[str, Rows | Callable[[], Rows]]
"""A table of several that are sent: its name and its rows."""


@dataclass(frozen=True, slots=True)
class Sent:
    """What was delivered. `checked`: the rows were counted by reading the file back; `notes` say what had to be written
    otherwise than it was; `beside` are the folder of files beside and their number."""

    path: Path
    rows: int
    bytes: int
    seconds: float = 0.0
    checked: bool = False
    notes: tuple[str, ...] = ()
    beside: tuple[Path, int] | None = None


@cache
def all_formats() -> tuple[Format, ...]:
    """Every format, found by its file in the formats folder, in the order of their places."""
    names = [module.name for module in pkgutil.iter_modules(formats.__path__)]
    found: list[Format] = [importlib.import_module(f"{formats.__name__}.{name}").FORMAT for name in names]
    return tuple(sorted(found, key=lambda f: f.place))


def format_for(key: str) -> Format:
    """Raises: SendError."""
    for format_ in all_formats():
        if format_.key == key:
            return format_
    raise SendError(
        tr("There is no format {key}.", key=key),
        tr("There are {all_formats}.", all_formats=", ".join(f.key for f in all_formats())),
    )


def format_of_file(path: str | Path) -> Format:
    """The format that a file's name ends with. Raises: SendError."""
    name = str(path).lower()
    if name.endswith((".tsv", ".tab")):
        return format_for("csv")
    if name.endswith(".xlsm"):
        return format_for("xlsx")
    for format_ in all_formats():
        if name.endswith(format_.suffix):
            return format_
    known = ", ".join(f.suffix for f in all_formats())
    raise SendError(
        tr("The name {path_name} does not indicate a format.", path_name=Path(path).name),
        tr("End it with one of {known}.", known=known),
    )


def with_suffix(path: str, format_: Format) -> str:
    """The path with the format's ending, unless it has one that says as much."""
    more = {
        "csv": (".tsv", ".tab", ".txt"),
        "sqlite": (".db", ".sqlite3"),
        "html": (".htm",),
        "markdown": (".markdown",),
        "xlsx": (".xlsm",),
    }
    ends = (format_.suffix, *more.get(format_.key, ()))
    return path if path.lower().endswith(ends) else path + format_.suffix


def place_for(path: Path, exists: str) -> Path:
    """Where a delivery goes: the path itself, or the first free one with a number. Raises: SendError where a file is
    there and `exists` is "refuse" or "ask" (whoever asks does so before)."""
    path = path.expanduser()
    if path.is_dir():
        raise SendError(tr("{path} is a folder.", path=path), tr("Name a file in it."))
    if exists == "number":
        return numbered(path)
    if exists in ("refuse", "ask") and path.exists():
        raise SendError(
            tr("{path} already exists.", path=path),
            tr("Choose what to do if it exists: add a number, replace it or append to it."),
        )
    return path


def send_to_file(
    rows: Rows,
    format_: Format,
    path: Path,
    options: Mapping[str, object] | None = None,
    stop: StopToken = NEVER,
    progress: Progress | None = None,
    exists: str = "replace",
) -> Sent:
    """Write to a temporary file beside `path`, count its rows by reading it back, and rename it. On failure or stop
    `path` is as it was. `exists` says what happens to a file that is there: replace, number, refuse, or a change that
    the format can make.

    Raises: SendError, Stopped.
    """
    return send_tables([("", rows)], format_, path, options, stop, progress, exists)


def send_tables(
    tables: Sequence[Part],
    format_: Format,
    path: Path,
    options: Mapping[str, object] | None = None,
    stop: StopToken = NEVER,
    progress: Progress | None = None,
    exists: str = "replace",
) -> Sent:
    """As `send_to_file`, for several (name, rows) that go to one file: each a sheet, or a table of its own. Rows that
    are to be asked for only when their turn comes are given as a call."""
    given = settings(format_, options or {})
    if exists not in dict((*EXISTS, *format_.changes)):
        raise SendError(
            tr("{word} can't {exists} a file.", word=format_.word, exists=exists),
            tr("It can: {choices}.", choices=", ".join(dict((*EXISTS, *format_.changes)))),
        )
    if len(tables) > 1 and not format_.many:
        raise SendError(
            tr("A file of {word} holds one table.", word=format_.word), tr("Put {table} into the file name.")
        )
    began = time.perf_counter()
    with _alone(path, stop):
        path = place_for(path, exists)
        mode = exists if exists in dict(format_.changes) and path.exists() else "replace"
        if mode == "replace" and path.suffix.lower() == ".xlsm":
            raise SendError(
                tr(
                    "{path_name} would be a workbook with macros, which can be changed but not made here.",
                    path_name=path.name,
                ),
                tr("End the name with .xlsx, or add to an existing workbook."),
            )
        _refuse_open(path)
        with _made_folders(path.parent, path):
            clear_parts(path.parent, f".{path.name[:40]}.*.part", 60)
            return _send(tables, format_, path, given, stop, progress, mode, began)


@contextmanager
def _alone(path: Path, stop: StopToken) -> Iterator[None]:
    """One delivery to a target at a time, whichever process makes it: the next one waits, and then numbers, refuses or
    adds to what is there by then. Raises: SendError, Stopped."""
    until = time.monotonic() + WAIT_S
    with ExitStack() as held:
        while True:
            try:
                held.enter_context(locked(path.expanduser(), 0.2))
                break
            except OSError as problem:
                stop.check()
                if problem.errno != errno.EBUSY or time.monotonic() > until:
                    raise SendError(
                        tr("Another delivery is writing {path_name}; this one was not made.", path_name=path.name),
                        tr("Send again."),
                    ) from problem
        yield


def _send(
    tables: Sequence[Part], format_: Format, path: Path, options: dict[str, object], stop: StopToken,
    progress: Progress | None, mode: str, began: float,
) -> Sent:  # fmt: skip
    notes: dict[str, int] = {}
    rows_done, checked, stages = 0, True, list[Path]()
    counts = [None if callable(rows) else rows.count for _, rows in tables]
    total = None if None in counts else sum(count or 0 for count in counts)
    beside = Beside(path, str(options.get("binary_name", "")), mode != "replace")
    before = _mark(path)
    try:
        with replacing(path) as stream:
            for index, (name, given) in enumerate(tables):
                rows = given() if callable(given) else given
                if not rows.fields:
                    raise SendError(tr("There are no columns to send."), tr("Show at least one."))
                is_last = index == len(tables) - 1
                if options.get("binary") in ("files", "both"):
                    rows = beside.of(rows, options["binary"] == "both")
                existing = stages[-1] if stages else (path if mode != "replace" else None)
                now = mode if not stages else ("within" if "within" in dict(format_.changes) else "append")
                own = {**options, **(dict.fromkeys({"sheet", "table"} & options.keys(), name) if name else {})}
                with _stage(stream, is_last, path, stages) as target:
                    out = Output(target, own, stop, existing, now, Path(target.name), notes)
                    done = _written(rows, format_, out, lambda n, d=rows_done: progress and progress(d + n, total))
                    checked &= _checked(format_, out, done, existing)
                rows_done += done
            size = os.fstat(stream.fileno()).st_size
            if mode != "replace" and _mark(path) != before:
                raise SendError(
                    tr("{path_name} was changed by someone else meanwhile; it was left as it is.", path_name=path.name),
                    tr("Send again."),
                )
            moved = beside.finish()
    except OSError as problem:
        raise _explained(problem, path) from problem
    finally:
        beside.clean()
        for stage in stages:
            stage.unlink(missing_ok=True)
    log.info("sent %d rows as %s, %d bytes, checked: %s", rows_done, format_.key, size, checked)
    said = tuple(f"{count} {text}" if count > 1 or "texts" in text else text for text, count in notes.items())
    return Sent(path, rows_done, size, time.perf_counter() - began, checked, said, moved)


@contextmanager
def _stage(stream: object, is_last: bool, path: Path, stages: list[Path]) -> Iterator[Value]:
    """The stream of the delivery for the last table, a further temporary file for those before."""
    if is_last:
        yield stream
        return
    handle, name = tempfile.mkstemp(prefix=f".{path.name[:40]}.", suffix=".part", dir=path.parent)
    os.close(handle)
    with open(name, "r+b", buffering=1 << 20) as binary_i_o:
        try:
            yield binary_i_o
        finally:
            stages.append(Path(name))


def _written(rows: Rows, format_: Format, out: Output, tell: Any) -> int:
    done = 0
    for done in format_.write(rows, out):
        tell(done)
    if rows.count is not None and done != rows.count:
        raise SendError(tr("{done} of {count} rows were written; the file was not kept.", done=done, count=rows.count))
    return done


def _checked(format_: Format, out: Output, done: int, existing: Path | None) -> bool:
    """Count the rows of what was written by reading it back. Raises: SendError where they are not all there."""
    out.stream.flush()
    assert out.path is not None
    if out.path.stat().st_size > MOST_CHECKED_BYTES:
        return False
    before = format_.count(existing, out) if existing is not None and out.mode == "append" else 0
    number = format_.count(out.path, out)
    if number is None or before is None:
        return False
    if number - before != done:
        raise SendError(
            tr(
                "{done} rows were written, but {number} were read back; the file was not kept.",
                done=done,
                number=number - before,
            ),
            tr("Send in another format, and report this."),
        )
    return True


def _mark(path: Path) -> tuple[int, int] | None:
    try:
        status = path.stat()
    except OSError:
        return None
    return status.st_mtime_ns, status.st_size


def _refuse_open(path: Path) -> None:
    """Office programs leave a mark beside a file that they have open."""
    for name in (f".~lock.{path.name}#", f"~${path.name}"):
        if path.exists() and path.with_name(name).exists():
            raise SendError(
                tr("{path} is open in another program.", path=path),
                tr("Close it there, or choose to number the new one."),
            )


@contextmanager
def _made_folders(folder: Path, path: Path) -> Iterator[None]:
    """The folder, made where it is not there; what was made goes again when nothing was delivered."""
    paths = [f for f in (folder, *folder.parents) if not f.exists()]
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise _explained(problem, path) from problem
    try:
        yield
    except BaseException:
        for each in paths:
            with suppress(OSError):
                each.rmdir()
        raise


def _explained(problem: OSError, path: Path) -> SendError:
    if isinstance(problem, FileNotFoundError):
        return SendError(
            tr("{path} can't be written: its folder vanished.", path=path), tr("Make it, or choose another place.")
        )
    why = {28: tr("no space is left there"), 13: tr("it is not allowed"), 30: tr("that place can only be read")}
    text = why.get(problem.errno or 0) or problem.strerror or str(problem)
    hint = tr("Free some space, or choose another place.") if problem.errno == 28 else tr("Choose another place.")
    return SendError(tr("{path} can't be written: {text}.", path=path, text=text), hint)


def send_text(rows: Rows, format_: Format, options: Mapping[str, object] | None = None, stop: StopToken = NEVER) -> str:
    """The delivery as text, for the clipboard or a preview; only for formats that are text. Raises: SendError,
    Stopped."""
    if not format_.is_text:
        raise SendError(tr("{word} is not text.", word=format_.word), tr("Send it to a file."))
    given = settings(format_, options or {})
    if given.get("binary") == "files":
        given["binary"] = "hex"
    stream = io.BytesIO()
    for _ in format_.write(rows, Output(stream, given, stop)):
        pass
    encoding = str(given.get("encoding", "utf-8"))
    return stream.getvalue().decode("utf-8-sig" if encoding == "utf-8" else encoding, "surrogateescape")


def first_rows(rows: Rows, count: int) -> Rows:
    """The first rows alone, for a preview."""
    import numpy as np

    def blocks(stop: StopToken) -> Iterator[Value]:
        left = count
        for block in rows.blocks(stop):
            size = len(block[0]) if block else 0
            yield block if size <= left else [column.take(np.arange(left)) for column in block]
            left -= size
            if left <= 0:
                return

    return replace(rows, blocks=blocks, count=None if rows.count is None else min(count, rows.count))
