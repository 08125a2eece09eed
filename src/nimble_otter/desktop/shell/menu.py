"""The menu under the mark: every command once, by what it is about."""

from __future__ import annotations

from PySide6.QtWidgets import QMenu

from nimble_otter.desktop.grid.copying import COPY_FORMS
from nimble_otter.desktop.kit.commands import Commands
from nimble_otter.desktop.query.query_edits import EDITS
from nimble_otter.translation import tr

Part = str | tuple[str, tuple[str, ...]]
"""A command's key, "" for a line between, or a menu of its own with its title."""

MENU: tuple[tuple[str, tuple[Part, ...]], ...] = (
    (
        tr("Pull"),
        (
            "new_pull",
            "open_pull",
            "save",
            "save_as",
            "rename",
            "copy_pull",
            "versions",
            "",
            "next_pull",
            "previous_pull",
            "tab_left",
            "tab_right",
            "close",
            "reopen",
            "",
            "open_database",
            "add_server",
            "demo",
            "find_value",
            "history",
            "start_page",
        ),
    ),
    (
        tr("Query"),
        (
            "run",
            "run_all",
            "more_rows",
            "all_rows",
            "stop",
            "plan",
            "watch",
            "",
            "text_before",
            "text_after",
            "pieces",
            (tr("Text"), tuple(f"text_{key}" for key, *_ in EDITS)),
            "",
            "begin",
            "commit",
            "roll_back",
        ),
    ),
    (
        tr("Rows"),
        (
            "add_filter",
            "add_sort",
            "add_top",
            "add_distinct",
            "add_sample",
            "add_group",
            "add_append",
            "add_compare",
            "add_check",
            "",
            (tr("On the server"), ("upstream", "upstream_all", "down", "estimate_there", "count_there")),
            "show_end",
            "",
            "find_rows",
            "replace_rows",
            "select_all",
            "",
            "trace_row",
            "trace",
            "follow",
            "go_back",
        ),
    ),
    (
        tr("Columns"),
        (
            "cell_menu",
            "column_menu",
            "hide_column",
            "fit_window",
            "",
            "origin",
            "value_origin",
            "",
            "add_compute",
            "add_columns",
            "add_join",
            "add_pivot",
            "add_unpivot",
            "add_transpose",
        ),
    ),
    (
        tr("Changes"),
        (
            "undo",
            "redo",
            "",
            "cut",
            "copy",
            "copy_header",
            "paste",
            (tr("Copy as"), tuple(f"copy_{form}" for form in COPY_FORMS)),
            "",
            "set_empty",
            "set_blank",
            "set_default",
            "big_editor",
            (tr("Fill"), ("fill_down", "fill_up", "fill_right", "fill_left", "fill_series")),
            "",
            "new_row",
            "duplicate_rows",
            "delete_rows",
            "",
            "take_back_cells",
            "take_back",
            "rehearse",
            "write",
        ),
    ),
    (
        tr("Send and repeat"),
        ("send_file", "send_tables", "repeat", "deliveries", "team", "", "copy_chart", "send_chart"),
    ),
    (
        tr("View"),
        (
            "show_query",
            "show_changes",
            "show_send",
            "",
            "rows_0",
            "rows_1",
            "rows_2",
            "chart",
            "chart_beside",
            "side_rows",
            "beside",
            "pin",
            "",
            "detail_0",
            "detail_1",
            "detail_2",
            "",
            (tr("Panes"), ("left", "right", "drawer", "focus_sources", "focus_course", "focus_grid")),
            (
                tr("Size and colours"),
                ("taller", "lower", "larger_text", "smaller_text", "usual_text", "light", "dark", "as_desktop"),
            ),
        ),
    ),
    ("", ("find", "settings", "guide", "journey", "keys", "", "new_window", "close_window", "quit")),
)


def fill(commands: Commands, menu: QMenu) -> None:
    """Put all commands there; those that can't be done now are faint."""
    for title, parts in MENU:
        inner = menu.addMenu(title) if title else menu
        if not title:
            menu.addSeparator()
        for part in parts:
            if not part:
                inner.addSeparator()
            elif isinstance(part, str):
                commands.fill_menu(inner, [part])
            else:
                commands.fill_menu(inner.addMenu(part[0]), list(part[1]))
