"""Delivering rows: choosing the format, writing a file that is whole or not there, or a text for the clipboard."""

from __future__ import annotations

import importlib
import io
import pkgutil
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from nimble_otter.errors import SendError
from nimble_otter.files import replacing
from nimble_otter.send import formats
from nimble_otter.send.format import Format, Rows, settings
from nimble_otter.stop import NEVER, Progress, StopToken


@dataclass(frozen=True, slots=True)
class Sent:
    """What was delivered."""

    path: Path
    rows: int
    bytes: int


def all_formats() -> list[Format]:
    """Every format, found by its file in the formats folder, in the order of their words."""
    names = [module.name for module in pkgutil.iter_modules(formats.__path__)]
    found: list[Format] = [importlib.import_module(f"{formats.__name__}.{name}").FORMAT for name in names]
    return sorted(found, key=lambda f: f.word.casefold())


def format_for(key: str) -> Format:
    """Raises: SendError."""
    for format_ in all_formats():
        if format_.key == key:
            return format_
    raise SendError(f"There is no format {key}.", f"There are {', '.join(f.key for f in all_formats())}.")


def format_of_file(path: str | Path) -> Format:
    """The format that a file's name ends with. Raises: SendError."""
    for format_ in all_formats():
        if str(path).lower().endswith(format_.suffix):
            return format_
    known = ", ".join(f.suffix for f in all_formats())
    raise SendError(f"The name {Path(path).name} does not say a format.", f"End it with one of {known}.")


def send_to_file(
    rows: Rows,
    format_: Format,
    path: Path,
    options: Mapping[str, Any] | None = None,
    stop: StopToken = NEVER,
    progress: Progress | None = None,
) -> Sent:
    """Write to a temporary file beside `path`, check the count, and rename it. On failure or stop `path` is as it was.

    Raises: SendError, Stopped.
    """
    path = path.expanduser()
    try:
        with replacing(path) as stream:
            done = 0
            for done in format_.write(rows, stream, settings(format_, options or {}), stop):
                if progress is not None:
                    progress(done, len(rows))
            if done != len(rows):
                raise SendError(f"{done} of {len(rows)} rows were written; the file was not kept.")
            size = stream.tell()
    except OSError as problem:
        where = (
            "its folder does not exist" if isinstance(problem, FileNotFoundError) else (problem.strerror or "failed")
        )
        raise SendError(f"{path} can't be written: {where}.", "Choose another place.") from None
    return Sent(path, len(rows), size)


def send_text(rows: Rows, format_: Format, options: Mapping[str, Any] | None = None, stop: StopToken = NEVER) -> str:
    """The delivery as text, for the clipboard; only for formats that are text. Raises: SendError, Stopped."""
    if not format_.is_text:
        raise SendError(f"{format_.word} is not text.", "Send it to a file.")
    stream = io.BytesIO()
    for _ in format_.write(rows, stream, settings(format_, options or {}), stop):
        pass
    return stream.getvalue().decode("utf-8-sig", "surrogateescape")
