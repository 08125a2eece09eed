"""Times and dates that a source keeps as text: recognising their form, and writing them back to the letter."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nimble_otter.table.columns import MISSING, Kind

_TIME_FORMS = {
    f"0000-00-00{sep}00:00{tail}": f"%Y-%m-%d{sep}%H:%M{form}"
    for sep in (" ", "T")
    for tail, form in (("", ""), (":00", ":%S"), *((":00." + "0" * n, f":%S.%{n}") for n in range(1, 7)))
}
_FORMS = {"0000-00-00": "%Y-%m-%d", **_TIME_FORMS}
_PATTERNS = {form: pattern for pattern, form in _FORMS.items()}
ANY = "?"
"""Ends a form with as many digits of the second as are needed, none to six, without zeros at the end."""
FILLERS = {form: "1970-01-01" + pattern[10:] for form, pattern in _PATTERNS.items()}
FILLERS |= {f"%Y-%m-%d{sep}%H:%M:%S{ANY}": f"1970-01-01{sep}00:00:00" for sep in (" ", "T")}
"""For each form a text that stands in for an empty value while a batch is parsed."""


def form_of(text: str, kind: Kind) -> str:
    """The form of a text that holds a time or date in ISO 8601's extended order, or "" when it holds none."""
    form = _FORMS.get("".join("0" if c in "0123456789" else c for c in text), "")
    return form if form and (form == "%Y-%m-%d") == (kind is Kind.DATE) else ""


def parse(texts: Sequence[str], form: str) -> NDArray[Any] | None:
    """int64 microseconds (dates: int32 days) since 1970, or None when any text is not exactly of this form."""
    if form.endswith(ANY):
        return _parse_any(texts, form)
    pattern = _PATTERNS[form]
    if set(map(len, texts)) != {len(pattern)}:
        return None
    chars = np.array(texts, f"U{len(pattern)}")
    points = chars.view(np.uint32).reshape(len(texts), len(pattern))
    want = np.frombuffer(pattern.encode("utf-32-le"), np.uint32)
    digits = want == ord("0")
    if not (points[:, ~digits] == want[~digits]).all() or (points[:, digits] - ord("0") > 9).any():
        return None
    try:
        if form == "%Y-%m-%d":
            return _in_years(chars.astype("M8[D]"), np.int32)
        return _in_years(chars.astype("M8[us]"), np.int64)
    except ValueError:
        return None


def _parse_any(texts: Sequence[str], form: str) -> NDArray[Any] | None:
    """As `parse`, each text with the digits of the second that it needs."""
    lengths = np.fromiter(map(len, texts), np.int64, len(texts))
    if len(lengths) == 0 or lengths.min() < 19 or lengths.max() > 26 or (lengths == 20).any():
        return None
    chars = np.array(texts, "U26")
    points = chars.view(np.uint32).reshape(len(texts), 26)
    ends = points[np.arange(len(texts)), lengths - 1]
    fractions = points[:, 20:]
    is_digit = (fractions >= ord("0")) & (fractions <= ord("9"))
    if not (is_digit | (fractions == 0)).all() or (ends[lengths > 19] == ord("0")).any():
        return None
    if not np.isin(points[:, 19], (0, ord("."))).all():
        return None
    whole = parse(chars.astype("U19").tolist(), form.removesuffix(ANY))
    if whole is None:
        return None
    digits = np.where(is_digit, fractions.astype(np.int64) - ord("0"), 0)
    seconds: NDArray[Any] = whole + digits @ np.array([100_000, 10_000, 1000, 100, 10, 1], np.int64)
    return seconds


def widen(form: str, stored: NDArray[Any]) -> str:
    """The form with as many digits as needed that also says what is stored in `form` (int64 microseconds), or ""."""
    base, dot, digits = form.partition("%S")
    if not dot or form.endswith(ANY):
        return ""
    if digits:
        step = 10 ** (6 - int(digits[-1]))
        if ((stored // step) % 10 == 0).any():
            return ""
    return f"{base}%S{ANY}"


def _in_years(stamps: NDArray[Any], dtype: Any) -> NDArray[Any] | None:
    if len(stamps) and (stamps.min() < np.datetime64("0001-01-01")):
        return None  # year 0 is no date in Python
    return stamps.astype(np.int64).astype(dtype)


def render(value: Any, form: str) -> Any:
    """The source's own writing of a value in a column of this form; other values pass unchanged."""
    if form == "0/1" and isinstance(value, bool):
        return int(value)
    if form and isinstance(value, dt.datetime):
        if form.endswith(ANY):
            text = value.isoformat(form[8])
            return text.rstrip("0") if value.microsecond else text
        if form[-1].isdigit():
            return value.isoformat(form[8], "microseconds")[: 20 + int(form[-1])]
        return value.isoformat(form[8], "seconds" if form.endswith("%S") else "minutes")
    if form and isinstance(value, dt.date):
        return value.isoformat()
    return value


def render_all(values: Sequence[Any], form: str) -> list[Any]:
    """`render` over a list; None and MISSING pass unchanged."""
    return [value if value is None or value is MISSING else render(value, form) for value in values]
