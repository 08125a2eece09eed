"""The log of the program: what it did and where it failed, never a value of a row, a text of a query or a secret.

Modules log under their own names (`logging.getLogger(__name__)`), so that a level can be set for an area. Texts of
errors may hold values; of an exception only its type and the places of the code are written.
"""

from __future__ import annotations

import faulthandler
import logging
import sys
import threading
import traceback
from datetime import datetime
from io import TextIOWrapper
from logging.handlers import RotatingFileHandler
from pathlib import Path
from types import TracebackType
from typing import IO

from nimble_otter.files import make_private

LARGEST, KEPT = 1_000_000, 4
"""Bytes of a file before the next is begun, and files kept beside the newest."""

_AREAS = "nimble_otter"
_fatal: IO[str] | None = None


class _Formatter(logging.Formatter):
    """One line a record; an exception as its types and the places of the code that it came through."""

    def __init__(self) -> None:
        super().__init__("%(asctime)s.%(msecs)03d %(levelname)-7s %(name)s: %(message)s", "%F %T")

    def formatException(self, ei: object) -> str:
        problem = ei[1] if isinstance(ei, tuple) else None
        return told(problem)


class _PrivateFile(RotatingFileHandler):
    """Each file that it begins, the first and every further one, is for its owner alone."""

    def _open(self) -> TextIOWrapper:
        Path(self.baseFilename).touch(0o600)
        return super()._open()


def told(problem: BaseException | None) -> str:
    """An error, and those that it came of, as their types and the places of the code; never their words."""
    lines = []
    while problem is not None:
        lines.append(f"  {type(problem).__module__}.{type(problem).__qualname__}")
        places = traceback.extract_tb(problem.__traceback__)
        lines += [f"    {place.filename}:{place.lineno} {place.name}" for place in places]
        problem = problem.__cause__ or problem.__context__
    return "\n".join(lines)


def log_path(folder: Path, name: str) -> Path:
    """Where the log of a program (`window`, `command`) is."""
    return folder / "log" / f"{name}.log"


def start_log(folder: Path, name: str, is_verbose: bool = False) -> Path | None:
    """Write the log of this program to a file of its own under `folder`, to be read by its owner alone, and faults of
    the interpreter beside it; with `is_verbose` in more detail, and to standard error too. Gives the report of the
    crash that ended the program last time, if there was one. Where nothing can be written there is no log."""
    stop_log()
    root = logging.getLogger(_AREAS)
    root.setLevel(logging.DEBUG if is_verbose else logging.INFO)
    root.propagate = False
    if is_verbose:
        _add(root, logging.StreamHandler(sys.stderr))
    path = log_path(folder, name)
    crash: Path | None = None
    try:
        make_private(path.parent)
        _add(root, _PrivateFile(path, maxBytes=LARGEST, backupCount=KEPT, encoding="utf-8", delay=True))
        crash = _watch_faults(path.with_suffix(".crash"))
    except OSError as problem:
        root.addHandler(logging.NullHandler())
        root.warning("no log is kept: %s", type(problem).__name__)
    sys.excepthook = _note_exception
    threading.excepthook = lambda told: _note(told.exc_value)
    if crash is not None:
        root.error("the last session ended in a crash; its report is kept as %s", crash.name)
    return crash


def stop_log() -> None:
    """Write no log any more; what was written stays."""
    global _fatal
    root = logging.getLogger(_AREAS)
    for handler in list(root.handlers):
        root.removeHandler(handler)
        handler.close()
    root.propagate = True
    sys.excepthook, threading.excepthook = sys.__excepthook__, threading.__excepthook__
    if _fatal is not None:
        faulthandler.disable()
        _fatal.close()
        _fatal = None


def _add(root: logging.Logger, handler: logging.Handler) -> None:
    handler.setFormatter(_Formatter())
    root.addHandler(handler)


def _watch_faults(path: Path) -> Path | None:
    """Have the interpreter tell its faults there; what is there from before is set aside and given."""
    global _fatal
    earlier = None
    if path.exists() and path.stat().st_size:
        earlier = path.with_name(f"{path.stem}-{datetime.now():%Y%m%d-%H%M%S}.crash")
        path.rename(earlier)
    path.touch(0o600)
    if not faulthandler.is_enabled():  # else somebody watches already
        _fatal = path.open("w")
        faulthandler.enable(_fatal)
    return earlier


def _note(problem: BaseException | None) -> None:
    logging.getLogger(_AREAS).critical("an error that nothing caught", exc_info=problem)


def _note_exception(kind: type[BaseException], problem: BaseException, place: TracebackType | None) -> None:
    if issubclass(kind, Exception):
        _note(problem)
    sys.__excepthook__(kind, problem, place)
