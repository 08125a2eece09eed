"""The account of deliveries: a line for each that was made, held back or failed, with what it was and where it went.

JSON Lines in the state folder, appended under a lock so that several programs may write; a file that has grown long is
put aside once, and read with the new one."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import os
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import asdict, dataclass, field, fields, replace
from enum import StrEnum
from pathlib import Path

from nimble_otter.files import LONGEST_LOG, append_text, locked, read_text
from nimble_otter.pull.file import pull_from_text, pull_to_text
from nimble_otter.pull.model import Pull
from nimble_otter.send import Sent
from nimble_otter.send.transfer import Moved
from nimble_otter.table.text.show import plain

LOG, OLDER = "deliveries.jsonl", "deliveries.1.jsonl"
MOST_BYTES = 16 << 20
"""Of the account before it is put aside."""
MOST_HASHED = 256 << 20
"""Bytes of a file that is still read for its hash."""
_MOST_TEXT = 64_000
"""Characters of a pull that is kept with its delivery."""


class Outcome(StrEnum):
    """How a delivery ended."""

    SENT = "sent"
    HELD = "held back"
    FAILED = "failed"


@dataclass(frozen=True, slots=True)
class Delivered:
    """A delivery. `checked`: its rows were counted by reading the file back; `by` is "hand", "command line" or the name
    of a schedule; `said` what checks found or why it failed; `pull_text` the pull as it was then."""

    at: str
    pull: str
    source: str
    format: str
    path: str
    rows: int = 0
    bytes: int = 0
    seconds: float = 0.0
    checked: bool = False
    by: str = "hand"
    outcome: str = Outcome.SENT.value
    said: str = ""
    steps: tuple[str, ...] = ()
    parameters: Mapping[str, str] = field(default_factory=dict)
    sha256: str = ""
    pull_text: str = field(default="", repr=False)

    @property
    def moment(self) -> dt.datetime:
        """When it was made."""
        return dt.datetime.fromisoformat(self.at)

    def as_pull(self) -> Pull | None:
        """The pull as it was then; None where that was too long to keep. Raises: SavedError."""
        return pull_from_text(self.pull_text) if self.pull_text else None


def delivered(
    pull: Pull,
    plan_format: str,
    sent: Sent | Moved | None,
    at: dt.datetime,
    by: str = "hand",
    outcome: Outcome = Outcome.SENT,
    said: str = "",
    path: str = "",
) -> Delivered:
    """The line for what was sent to a file, or moved to the place that `path` names; None: nothing was, for what is
    `said`. Reads the file for its hash."""
    text = pull_to_text(pull)
    if isinstance(sent, Moved):
        made = delivered(pull, plan_format, None, at, by, outcome, said, path)
        return replace(made, rows=sent.sent, seconds=round(sent.seconds, 3))
    return Delivered(
        at.isoformat(timespec="seconds"), pull.name, pull.source.name, plan_format,
        str(sent.path) if sent is not None else path,
        sent.rows if sent is not None else 0, sent.bytes if sent is not None else 0,
        round(sent.seconds, 3) if sent is not None else 0.0, sent.checked if sent is not None else False,
        by, outcome.value, said, tuple(f"{step.kind} {step.words()}" for step in pull.steps if step.on),
        {name: plain(value) for name, value in sorted(pull.query.parameters.items())},
        hash_of(sent.path) if sent is not None else "", text if len(text) <= _MOST_TEXT else "",
    )  # fmt: skip


def hash_of(path: Path) -> str:
    """SHA-256 of a file; "" where it is no regular file, or a very long one."""
    try:
        if not path.is_file() or path.stat().st_size > MOST_HASHED:
            return ""
        with path.open("rb") as stream:
            return hashlib.file_digest(stream, "sha256").hexdigest()
    except OSError:
        return ""


def keep_delivery(folder: Path, made: Delivered) -> None:
    """Add a line to the account. Raises: OSError."""
    path = folder / LOG
    with suppress(FileNotFoundError):
        if path.stat().st_size > MOST_BYTES:
            with locked(path):
                if path.stat().st_size > MOST_BYTES:  # no other program did so meanwhile
                    os.replace(path, folder / OLDER)
    append_text(path, json.dumps(asdict(made), ensure_ascii=False) + "\n")


def deliveries(folder: Path, pull: str = "", most: int = 50, by: str = "") -> list[Delivered]:
    """The last deliveries (of one pull, by one schedule), the newest first; what can't be read is passed over."""
    delivereds: list[Delivered] = []
    for name in (LOG, OLDER):
        try:
            lines = read_text(folder / name, LONGEST_LOG).splitlines()
        except (OSError, UnicodeDecodeError):
            continue
        for line in reversed(lines):
            if len(delivereds) == most:
                return delivereds
            made = _read(line)
            if made is not None and (not pull or made.pull == pull) and (not by or made.by == by):
                delivereds.append(made)
    return delivereds


_NAMES = {each.name for each in fields(Delivered)}


def _read(line: str) -> Delivered | None:
    try:
        plain_line = {name: value for name, value in json.loads(line).items() if name in _NAMES}
        made = Delivered(**{**plain_line, "steps": tuple(plain_line.get("steps", ()))})
        return made if made.moment and isinstance(made.parameters, dict) else None
    except (ValueError, TypeError, AttributeError, RecursionError):
        return None
