"""Forms of times in the signs that servers know."""

from __future__ import annotations

import re


def form_signs(form: str, known: dict[str, str]) -> str | None:
    """A form of to_char in the signs of strftime and its kin; None where one has none."""
    pieces = re.findall(r"YYYY|MM|DD|HH24|MI|SS|[ :./_-]|.", form, re.S)
    signs = [known.get(p, p if p in " :./_-" else None) for p in pieces]
    return None if None in signs else "".join(sign or "" for sign in signs)
