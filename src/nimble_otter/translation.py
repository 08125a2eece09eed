"""Texts for people in the language that was chosen, or in the desktop's, by the catalogues in `locale/`.

English is the language of the code: a text is its own key. What goes into files and to servers (names of columns,
statements, charts of deliveries) is never translated, so that a delivery is the same whoever makes it.

The language is found when this is imported, as texts of modules are made when these are: another choice holds from the
next start on.
"""

from __future__ import annotations

import gettext
import os
from pathlib import Path

from nimble_otter.home import text_setting

DOMAIN = "nimble-otter"
FOLDER = Path(__file__).parent / "locale"
VARIABLE = "NIMBLE_OTTER_LANGUAGE"
"""A language for one start, such as "de"; it wins over setting and desktop."""
ENGLISH = "en"
NAMES = {ENGLISH: "English", "de": "Deutsch"}
"""What speakers call their language."""


def languages() -> tuple[str, ...]:
    """The codes of the languages there are, English first."""
    return (ENGLISH, *sorted(path.parent.parent.name for path in FOLDER.glob(f"*/LC_MESSAGES/{DOMAIN}.mo")))


def wanted_languages() -> list[str]:
    """The languages to look for, the best first, none for English: the variable's, the setting's, or the desktop's as
    GNU gettext finds them, up to the first that is English."""
    named = os.environ.get(VARIABLE) or text_setting("language")
    if not named:
        locale = next((os.environ[v] for v in ("LC_ALL", "LC_MESSAGES", "LANG") if os.environ.get(v)), "C")
        named = locale if locale.split(".")[0] in ("C", "POSIX") else os.environ.get("LANGUAGE") or locale
    wanted: list[str] = []
    for each in named.split(":"):
        if _is_english(each):
            break
        wanted.append(each)
    return wanted


def _is_english(locale: str) -> bool:
    return locale.split("_")[0].split(".")[0] in (ENGLISH, "C", "POSIX")


def catalogue_of(wanted: list[str]) -> gettext.NullTranslations:
    """The texts of the first language that there is a catalogue of, else English."""
    if not wanted:
        return gettext.NullTranslations()
    return gettext.translation(DOMAIN, FOLDER, wanted, fallback=True)


VALUES = (
    "Filter", "Sort", "Compute", "Group", "Columns", "Open", "Top", "Join", "Append", "Compare", "Distinct", "Sample",
    "Pivot", "Unpivot", "Transpose", "Check",
    "is one of", "is none of", "is not one of", "is", "is not", "more than", "at least", "less than", "at most",
    "between", "contains", "does not contain", "starts with", "is empty", "is not empty",
    "matching rows", "all rows here", "all rows of both", "rows without a match", "rows with a match",
    "only left", "only right", "lowest", "highest", "mean", "distinct", "rows",
    "sent", "held back", "failed", "skipped", "nothing new", "new", "gone", "changed", "added",
    "removed", "source", "pull", "piece", "schedule", "settings",
    "table", "view", "materialized view", "collection", "routine", "sequence",
    "Line", "Area", "Bars", "Scatter", "Histogram", "Box", "Heat map", "Where", "Having", "Order",
)  # fmt: skip
"""Words of our files that are shown too: these hold them as they are, `tr_value` says them."""

_catalogue = catalogue_of(wanted_languages())


def language() -> str:
    """The code of the language that texts are in."""
    return _catalogue.info().get("language", ENGLISH)


def tr(text: str, /, **values: object) -> str:
    """A text in the language of the reader, with `values` in place of their names in braces."""
    found = _catalogue.gettext(text)
    return found.format(**values) if values else found


def trn(one: str, many: str, count: int, /, **values: object) -> str:
    """The text for a count of one or of many, in the forms that the language of the reader has."""
    found = _catalogue.ngettext(one, many, count)
    return found.format(**values) if values else found


def tr_value(value: str) -> str:
    """One of VALUES in the language of the reader; another as it is."""
    return _catalogue.gettext(value) if value else ""
