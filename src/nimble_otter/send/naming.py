"""File names from a pattern: {pull}, {source}, {date}, {time}, {count}."""

from __future__ import annotations

import datetime as dt
import re

from nimble_otter.errors import SendError

PLACES = ("pull", "source", "date", "time", "count")


def fill_name(pattern: str, pull: str, source: str, count: int, at: dt.datetime) -> str:
    """The pattern with its places filled. Values can't add folders. Raises: SendError on an unknown place."""
    values = {
        "pull": _safe(pull),
        "source": _safe(source),
        "date": f"{at:%Y-%m-%d}",
        "time": f"{at:%H%M%S}",
        "count": str(count),
    }

    def fill(found: re.Match[str]) -> str:
        if found[1] not in values:
            raise SendError(
                f"There is no {{{found[1]}}} for a file name.", f"There are {', '.join(f'{{{p}}}' for p in PLACES)}."
            )
        return values[found[1]]

    name = re.sub(r"\{(\w*)\}", fill, pattern).strip()
    if not name or name.endswith("/"):
        raise SendError("The delivery has no file name.", "Write one, such as levels-{date}.csv.")
    return name


def _safe(text: str) -> str:
    return re.sub(r"[/\\\0-\x1f]", "-", text).strip(" .") or "untitled"
