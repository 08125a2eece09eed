"""The scheme of the keyboard. What a desktop has everywhere stays where it is (copy, undo, find, save, tabs, F1, F5,
F10); places are Alt with a digit, ways to look at rows Ctrl with one. All else is two strokes: one that says what it is
about, and the letter of what is done."""

from __future__ import annotations

from collections.abc import Mapping

from nimble_otter.translation import tr

TEXT, STEPS, ROWS = "Ctrl+J", "Ctrl+G", "Ctrl+R"
FAMILIES = (
    (TEXT, tr("the text of the query")),
    (STEPS, tr("the steps of the course")),
    (ROWS, tr("the rows and cells")),
)
CHORDS: Mapping[str, str] = {
    "pieces": f"{TEXT}, J",
    "add_filter": f"{STEPS}, F", "add_sort": f"{STEPS}, S", "add_group": f"{STEPS}, G", "add_compute": f"{STEPS}, C",
    "add_top": f"{STEPS}, T", "add_distinct": f"{STEPS}, D", "add_join": f"{STEPS}, J", "add_columns": f"{STEPS}, L",
    "add_pivot": f"{STEPS}, P", "add_check": f"{STEPS}, K", "upstream": f"{STEPS}, U", "upstream_all": f"{STEPS}, A",
    "down": f"{STEPS}, W", "count_there": f"{STEPS}, N", "show_end": f"{STEPS}, E",
    "set_empty": f"{ROWS}, N", "set_blank": f"{ROWS}, E", "set_default": f"{ROWS}, D", "take_back_cells": f"{ROWS}, R",
    "fill_down": f"{ROWS}, F", "origin": f"{ROWS}, O", "value_origin": f"{ROWS}, V", "trace_row": f"{ROWS}, T",
    "follow": f"{ROWS}, G",
    "pin": f"{ROWS}, P", "beside": f"{ROWS}, B",
}  # fmt: skip
"""By command; those of the text are in query/query_edits.py."""
FORMER: Mapping[str, str] = {
    "text_format": "Ctrl+Shift+F", "text_expand": "Ctrl+Shift+E", "text_qualify": "Ctrl+Shift+Q",
    "text_rename_alias": "Shift+F6", "text_parameter": "Ctrl+Shift+P", "text_name_part": "Ctrl+Shift+Y",
    "text_mend": "Alt+Return", "text_comment": "Ctrl+/", "text_fold": "Ctrl+Shift+[", "pieces": "Ctrl+Shift+J",
    "origin": "F4", "pin": "Ctrl+Shift+L", "upstream": "Ctrl+Shift+U", "down": "Ctrl+Shift+D", "set_empty": "Ctrl+0",
}  # fmt: skip
"""What commands had in the release before, to be shown in this one."""
