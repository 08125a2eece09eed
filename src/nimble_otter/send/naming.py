"""File names from a pattern: {pull}, {source}, {date}, {time}, {count}, and {:name} for a parameter's value."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping
from typing import Any

from nimble_otter.errors import SendError

PLACES = ("pull", "source", "date", "time", "count")


def fill_name(
    pattern: str, pull: str, source: str, count: int, at: dt.datetime, parameters: Mapping[str, Any] | None = None
) -> str:
    """The pattern with its places filled. Values can't add folders. Raises: SendError on an unknown place."""
    values = {
        "pull": _safe(pull),
        "source": _safe(source),
        "date": f"{at:%Y-%m-%d}",
        "time": f"{at:%H%M%S}",
        "count": str(count),
    }

    def fill(found: re.Match[str]) -> str:
        name = found[1]
        if name.startswith(":"):
            value = (parameters or {}).get(name[1:])
            if value is None:
                raise SendError(f"The parameter {name} in the file name has no value.", "Give it one beside the query.")
            return _safe("+".join(map(_short, value)) if isinstance(value, list) else _short(value))
        if name not in values:
            raise SendError(
                f"There is no {{{found[1]}}} for a file name.", f"There are {', '.join(f'{{{p}}}' for p in PLACES)}."
            )
        return values[name]

    name = re.sub(r"\{(:?\w*)\}", fill, pattern).strip()
    if not name or name.endswith("/"):
        raise SendError("The delivery has no file name.", "Write one, such as levels-{date}.csv.")
    return name


def _short(value: Any) -> str:
    """A day without its midnight."""
    if isinstance(value, dt.datetime):
        return f"{value:%Y-%m-%d}" if value.time() == dt.time() else f"{value:%Y-%m-%d %H%M}"
    return str(value)


def _safe(text: str) -> str:
    return re.sub(r"[/\\\0-\x1f]", "-", text).strip(" .") or "untitled"
