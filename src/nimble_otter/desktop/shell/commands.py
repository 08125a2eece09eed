"""Every command of the window, and what the find box looks through."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache, partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtWidgets import QApplication, QFileDialog, QInputDialog, QLineEdit, QPlainTextEdit

from nimble_otter.desktop.grid.copying import COPY_FORMS
from nimble_otter.desktop.kit.commands import Command, shown_keys
from nimble_otter.desktop.kit.widgets import calling
from nimble_otter.desktop.pulls.new_steps import STEP_WORDS, new_step
from nimble_otter.desktop.pulls.step_ref import CHANGES, QUERY, SEND, WATCH, step_at
from nimble_otter.desktop.query.query_edits import EDITS
from nimble_otter.desktop.shell.find_box import FindBox, Finding
from nimble_otter.desktop.shell.shortcuts import CHORDS
from nimble_otter.desktop.steps.course import query_words
from nimble_otter.errors import OtterError
from nimble_otter.pull import load_pull, places
from nimble_otter.pull.file import SUFFIX
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.desktop.pulls.open_pull import OpenPull
    from nimble_otter.desktop.shell.workbench import Workbench


_MOST_TEXT = 5000
"""Characters of a saved pull's text that it is found by."""


def add_commands(window: Workbench, find_box: FindBox) -> None:  # noqa: C901 - counts its handlers in
    """Register all commands, in the order of the menu."""
    grid = window.actions_on_grid

    def on_pull(do: Callable[[OpenPull], object]) -> Callable[[], None]:
        """What is done with the pull in sight, if there is one."""

        def act() -> None:
            if window.pull is not None:
                do(window.pull)

        return act

    def has_pull() -> bool:
        return window.pull is not None

    def has_rows() -> bool:
        return window.pull is not None and window.pull.table is not None

    def pending() -> bool:
        return window.pull is not None and window.pull.pending.count > 0

    def in_a_text(is_undo: bool = True) -> bool:
        """Whether a text field has the keyboard; one that can't be typed in has nothing to undo."""
        focus = QApplication.focusWidget()
        return isinstance(focus, (QLineEdit, QPlainTextEdit)) and not (is_undo and focus.isReadOnly())

    def is_held() -> bool:
        return window.pull is not None and window.pull.held is not None

    def is_cut() -> bool:
        return window.pull is not None and window.pull.was_cut

    def in_pieces() -> bool:
        return window.pull is not None and window.is_shown("query") and window.query_drawer.shows_pieces

    def in_text(key: str, otherwise: Callable[[], object]) -> Callable[[], None]:
        """Clipboard and undo commands belong to a text field while one has the keyboard."""

        def do() -> None:
            focus = QApplication.focusWidget()
            if key in ("undo", "redo") and in_pieces() and window.query_drawer.undoes_pieces(key, focus):
                return
            if in_a_text(key in ("undo", "redo")):
                getattr(focus, key)()
            else:
                otherwise()

        return do

    def add(
        key: str, name: str, do: Callable[[], object], shortcut: str = "", group: str = "",
        can: Callable[[], bool] = lambda: True, anywhere: bool = True,
    ) -> None:  # fmt: skip
        keys = CHORDS.get(key, shortcut)
        window.commands.add(Command(key, name, lambda: (do(), None)[1], keys, group, can, anywhere))

    add("new_pull", tr("New pull"), window.new_pull, "Ctrl+T", "pull")
    add("open_pull", tr("Open a pull…"), lambda: _open_pull(window), "Ctrl+O", "pull")
    add("save", tr("Save the pull"), window.save_pull, "Ctrl+S", "pull", has_pull)
    add("save_as", tr("Save the pull as…"), lambda: _save_as(window), "Ctrl+Shift+S", "pull", has_pull)
    add("rename", tr("Rename the pull…"), lambda: _rename(window), "", "pull", has_pull)
    add("copy_pull", tr("Copy the pull"), window.pages.copy_pull, "", "pull", has_pull)
    add("versions", tr("Versions of the pull"), window.pages.versions, "Ctrl+Shift+V", "pull", has_pull)
    add("close", tr("Close the pull"), lambda: window.close_pull(window.current), "Ctrl+W", "pull", has_pull)
    add("reopen", tr("Reopen the pull closed last"), window.closing.reopen, "Ctrl+Shift+T", "pull")
    add("tab_left", tr("Move the tab to the left"), lambda: _shift(window, -1), "", "pull", lambda: window.current > 0)
    add("tab_right", tr("Move the tab to the right"), lambda: _shift(window, 1), "", "pull",
        lambda: 0 <= window.current < len(window.pulls) - 1)  # fmt: skip
    add("next_pull", tr("Next pull"), lambda: _turn(window, 1), "Ctrl+PgDown", "pull", has_pull)
    add("previous_pull", tr("Previous pull"), lambda: _turn(window, -1), "Ctrl+PgUp", "pull", has_pull)
    add("open_database", tr("Open a database file…"), lambda: _open_database(window), "", "source")
    add("add_server", tr("Add a server…"), lambda: window.pages.add_source(True), "", "source")
    add("demo", tr("Open the demo"), window.pages.show_demo, "", "source")
    add("find_value", tr("Find a value in a source…"), lambda: window.pages.search(), "Ctrl+Shift+K", "source")
    add("deliveries", tr("Deliveries and schedules"), window.pages.deliveries, "Ctrl+Shift+A", "send")
    add("repeat", tr("Repeat a delivery…"), window.pages.repeat, "", "send", has_pull)
    add("history", tr("Query history"), window.pages.history, "Ctrl+Shift+H", "source")
    add("team", tr("What the team changed"), window.pages.team, "", "source")
    add("start_page", tr("Start page"), lambda: window.show_pull(-1), "", "source")
    add("run", tr("Run the query"), lambda: _run(window), "F5", "query", has_pull)
    add("run_all", tr("Run every statement"), lambda: _run(window, True), "Shift+F5", "query", has_pull)
    add("more_rows", tr("Fetch more rows"), lambda: _fetch_more(window, False), "", "query", is_cut)
    add("all_rows", tr("Fetch all rows"), lambda: _fetch_more(window, True), "", "query", is_cut)
    add(
        "text_before",
        tr("Previous query in history"),
        lambda: window.query_drawer.recall(-1),
        "Alt+Up",
        "query",
        has_pull,
    )
    add("text_after", tr("Next query in history"), lambda: window.query_drawer.recall(1), "Alt+Down", "query", has_pull)
    add("plan", tr("The server's plan of the query"), lambda: _plan(window), "", "query", has_pull)
    add("pieces", tr("The query as text or in pieces"), lambda: _turn_over(window), "", "query", has_pull)
    add("begin", tr("Begin a transaction"), lambda: _transaction(window, "begin"), "", "query",
        lambda: window.pull is not None and not window.pull.is_documents)  # fmt: skip
    for key, name in (("commit", tr("Commit the transaction")), ("roll_back", tr("Roll the transaction back"))):
        add(key, name, calling(_transaction, window, key), "", "query", is_held)
    add("stop", tr("Stop what is running"), lambda: _stop(window), "Escape", "query")
    add("origin", tr("Show the column in the catalogue"), lambda: window.follower.show_origin(), "", "query", has_rows)
    add("follow", tr("Follow the row…"), lambda: window.follower.offer(), "", "query", has_rows)
    add("go_back", tr("Back to the rows followed from"), lambda: window.follower.go_back(), "Alt+Left", "query",
        lambda: window.pull is not None and window.pull.came_from is not None)  # fmt: skip
    for ref, name, shortcut in (
        (QUERY, tr("Query"), "Alt+1"),
        (CHANGES, tr("Changes"), "Alt+2"),
        (SEND, tr("Send"), "Alt+3"),
    ):
        add(
            f"show_{ref.place.value}",
            tr("Show {name}", name=name),
            calling(window.open_drawer, ref),
            shortcut,
            "query",
            has_pull,
        )
    add("watch", tr("Watch the rows…"), calling(window.open_drawer, WATCH), "", "query", has_rows)
    for key, name, shortcut in EDITS:
        add(f"text_{key}", name, calling(_edit_text, window, key), shortcut if key != "comment" else "", "text",
            has_pull)  # fmt: skip
    add("side_rows", tr("Rows side by side"), lambda: window.side.open(), "Ctrl+4", "view", has_rows)
    add(
        "beside",
        tr("Another pull beside this one"),
        window.beside.open,
        "",
        "view",
        lambda: len(window.workspace.pulls) > 1,
    )
    add("pin", tr("Pin this result"), window.side.pin, "", "view", has_rows)
    add("settings", tr("Settings"), lambda: window.pages.settings(), "Ctrl+,", "help")
    add("guide", tr("Guide"), lambda: window.pages.help(), "F1", "help")
    add("journey", tr("First journey"), window.journey.begin, "", "help")
    add("keys", tr("Keyboard shortcuts"), lambda: window.pages.help("Keyboard"), "", "help")
    add("menu", tr("Menu"), window.show_menu, "F10", "view")
    add("cell_menu", tr("Menu of the cell"), lambda: _menu_here(window), "Shift+F10", "view", has_rows)
    add("column_menu", tr("Menu of the column"), window.grid.open_column_menu, "", "view", has_rows)
    add("hide_column", tr("Hide the column"), lambda: window.column_actions.hide(window.grid.selection.current[1]), "",
        "columns", has_rows)  # fmt: skip
    add("fit_window", tr("Fit all columns to the window"), lambda: window.column_actions.fit("window"), "", "columns",
        has_rows)  # fmt: skip
    add("find_rows", tr("Find in the rows"), lambda: window.rows_find.open(), "", "text", has_rows)
    add("replace_rows", tr("Replace in the rows"), lambda: window.rows_find.open(True), "", "text", has_rows)
    for kind, text in STEP_WORDS.items():
        add(
            f"add_{kind}",
            tr("Add an {text}", text=text) if text[0] in "AU" else tr("Add a {text}", text=text),
            calling(_add_step, window, kind),
            "",
            "steps",
            has_pull,
        )
    add("upstream", tr("Move the step upstream…"), window.upstream.move_selected, "", "steps",
        window.upstream.can_move)  # fmt: skip
    add(
        "upstream_all",
        tr("Move all steps upstream…"),
        window.upstream.move_all,
        "",
        "steps",
        window.upstream.has_course,
    )
    add("estimate_there", tr("Estimate the rows at each step on the server"), window.upstream.estimate, "", "steps",
        window.upstream.can_ask)  # fmt: skip
    add("count_there", tr("Count the rows at each step on the server"), window.upstream.count, "", "steps",
        window.upstream.can_ask)  # fmt: skip
    add("down", tr("Move WHERE conditions to a local filter…"), window.upstream.move_down, "", "steps", has_rows)
    show_end = tr("Show rows at the end of the course")
    add("show_end", show_end, on_pull(lambda pull: pull.shaping.show_rows_at(None)), "", "steps", has_rows)
    add("undo", tr("Undo"), in_text("undo", on_pull(lambda pull: pull.changes.undo())), "Ctrl+Z", "edit",
        lambda: in_a_text() or in_pieces() or (window.pull is not None and window.pull.changes.can_undo))  # fmt: skip
    add("redo", tr("Redo"), in_text("redo", on_pull(lambda pull: pull.changes.redo())), "Ctrl+Shift+Z", "edit",
        lambda: in_a_text() or in_pieces() or (window.pull is not None and window.pull.changes.can_redo))  # fmt: skip
    add("copy", tr("Copy"), in_text("copy", grid.copy), "Ctrl+C", "edit")
    add("copy_header", tr("Copy with header"), lambda: grid.copy(header=True), "Ctrl+Shift+C", "edit", has_rows)
    for form, word in COPY_FORMS.items():
        add(f"copy_{form}", tr("Copy {word}", word=word), partial(grid.copy_as, form), "", "edit", has_rows)
    add("paste", tr("Paste"), in_text("paste", grid.paste), "Ctrl+V", "edit")
    add("select_all", tr("Select all"), in_text("selectAll", window.grid.select_all), "Ctrl+A", "edit")
    add("cut", tr("Cut"), in_text("cut", lambda: _in_grid(window, grid.cut)), "Ctrl+X", "edit")
    for way in ("down", "up", "right", "left"):
        add(f"fill_{way}", tr("Fill {way}", way=way), partial(grid.fill, way), "", "edit", has_rows)
    add("fill_series", tr("Fill with a series"), lambda: grid.fill("series"), "", "edit", has_rows)
    add("big_editor", tr("Edit in a bigger editor"), grid.open_big, "Shift+F2", "edit", has_rows)
    add("set_blank", tr("Set empty text"), grid.set_blank, "", "edit", has_rows)
    add("set_default", tr("Set default (documents: remove the field)"), grid.set_default, "", "edit", has_rows)
    add("take_back_cells", tr("Revert selected cells"), grid.revert_cells, "", "edit", pending)
    add("set_empty", tr("Set NULL"), lambda: _in_grid(window, grid.set_empty), "", "edit", has_rows)
    add("new_row", tr("New row"), grid.new_row, "Ctrl+Ins", "edit", has_rows)
    add("duplicate_rows", tr("Duplicate rows"), grid.duplicate, "Ctrl+D", "edit", has_rows)
    add("delete_rows", tr("Delete rows"), lambda: _in_grid(window, grid.delete), "Ctrl+Del", "edit", has_rows)
    add("take_back", tr("Revert changes"), grid.revert, "Ctrl+Backspace", "edit", pending)
    add(
        "rehearse",
        tr("Rehearse the changes"),
        window.rehearse,
        "",
        "write",
        pending,
    )
    add("write", tr("Write the changes"), window.write, "", "write", pending)
    add("send_file", tr("Send the rows"), window.send, "", "write", has_rows)
    add("send_tables", tr("Send tables of the source"), lambda: _send_tables(window), "", "write", has_pull)
    add("find", tr("Find a table, column, pull or command"), lambda: find_box.open(), "Ctrl+K", "view")
    add("left", tr("Show or hide Sources"), lambda: window.toggle_part("left"), "F7", "view")
    add("right", tr("Show or hide Detail"), lambda: window.toggle_part("right"), "F8", "view")
    add("drawer", tr("Show or hide the drawer"), lambda: window.toggle_part("drawer"), "F9", "view")
    for page, name in enumerate((tr("Cell"), tr("Record"), tr("Column"))):
        add(
            f"detail_{page}", tr("Detail: {name}", name=name), calling(_detail, window, page), f"Alt+{page + 7}", "view"
        )
    for index, name in enumerate((tr("a table"), tr("a tree"), "JSON")):
        add(f"rows_{index}", tr("Show the rows as {name}", name=name), calling(window.rows_views.choose, index),
            f"Ctrl+{index + 1}", "view", has_rows)  # fmt: skip
    add("taller", tr("Taller rows"), lambda: window.change_rows(1), "Ctrl++", "view", has_rows)
    add("larger_text", tr("Larger text"), lambda: window.change_text(1), "", "view")
    add("smaller_text", tr("Smaller text"), lambda: window.change_text(-1), "", "view")
    add("usual_text", tr("Text of the usual size"), lambda: window.change_text(0), "", "view")
    add("lower", tr("Lower rows"), lambda: window.change_rows(-1), "Ctrl+-", "view", has_rows)
    add("focus_sources", tr("Go to Sources"), lambda: _go_to_sources(window), "Alt+0", "view")
    add("focus_course", tr("Go to the course"), window.course.setFocus, "Alt+6", "view", has_pull)
    add("focus_grid", tr("Go to the grid"), window.grid.setFocus, "F6", "view", has_rows)
    for word, name in (("light", tr("Light")), ("dark", tr("Dark")), ("", tr("Light or dark as the desktop is"))):
        add(word or "as_desktop", name, calling(window.change_theme, word), "", "view")
    add("new_window", tr("New window"), window.window_wanted.emit, "Ctrl+Shift+N", "view")
    add("close_window", tr("Close the window"), window.close, "", "view")
    add("quit", tr("Quit"), QApplication.closeAllWindows, "Ctrl+Q", "view")


def _add_step(window: Workbench, kind: str) -> None:
    """A new step; with the keyboard in the rows it begins with the column that is current there."""
    is_at_column = window.grid.hasFocus() and window.grid.model is not None
    if not (is_at_column and window.column_actions.begin_at(kind, window.grid.selection.current[1])):
        window.add_step(new_step(kind))
    elif window.pull is not None and kind != "filter":  # whose values are shown once the menus are gone
        at = next((n for n, step in enumerate(window.pull.pull.steps) if step.kind == kind), -1)
        window.open_drawer(step_at(at), focus=False) if at >= 0 else None


def _send_tables(window: Workbench) -> None:
    assert window.pull is not None
    window.sending.ask_tables(window, window.hub.known(window.pull.pull.source))


def _turn(window: Workbench, way: int) -> None:
    window.show_pull((window.current + way) % len(window.pulls))


def _run(window: Workbench, every: bool = False) -> None:
    window.open_drawer(QUERY, focus=False)
    window.query_drawer.run_all() if every else window.query_drawer.run()


def _fetch_more(window: Workbench, every: bool) -> None:
    """Run again with a row limit that is higher by as many rows as a new pull has, or with none. A cut result holds
    nothing open at the server, so it is asked from the start."""
    assert window.pull is not None
    pull = window.pull.pull
    limit = None if every else (pull.query.limit or 0) + (window.settings.now.row_limit or pull.query.limit or 0)
    window.pull.shaping.put(replace(pull, query=replace(pull.query, limit=limit)))
    _run(window)


def _transaction(window: Workbench, key: str) -> None:
    assert window.pull is not None
    window.open_drawer(QUERY, focus=False)
    window.pull.runs.begin() if key == "begin" else window.pull.runs.end(key == "commit")


def _menu_here(window: Workbench) -> None:
    """The menu of the current cell, or of what else has the keyboard."""
    focus = QApplication.focusWidget()
    if focus is None or focus is window.grid:
        window.grid.open_cell_menu()
        return
    at = focus.inputMethodQuery(Qt.InputMethodQuery.ImCursorRectangle).center()
    QApplication.sendEvent(focus, QContextMenuEvent(QContextMenuEvent.Reason.Keyboard, at, focus.mapToGlobal(at)))


def _go_to_sources(window: Workbench) -> None:
    window.toggle_part("left", True)
    window.sources.tree.setFocus()


def _plan(window: Workbench) -> None:
    window.open_drawer(QUERY, focus=False)
    window.query_drawer.show_plan()


def _turn_over(window: Workbench) -> None:
    window.open_drawer(QUERY, focus=False)
    window.query_drawer.turn_over()


def _edit_text(window: Workbench, key: str) -> None:
    in_rows = (
        not window.is_shown("query") or window.grid.hasFocus() or window.rows_find.isAncestorOf(window.focusWidget())
    )
    if key in ("find_text", "replace_text") and in_rows and window.grid.model is not None:
        window.rows_find.open(key == "replace_text")
        return
    if not window.is_shown("query"):
        window.open_drawer(QUERY)
    window.query_drawer.edits.do(key)


def _stop(window: Workbench) -> None:
    if window.jobs.shown() is not None:
        window.jobs.stop_all()
    else:
        window.pages.close()


def _in_grid(window: Workbench, do: Callable[[], None]) -> None:
    if not isinstance(QApplication.focusWidget(), (QLineEdit, QPlainTextEdit)):
        do()


def _detail(window: Workbench, page: int) -> None:
    window.toggle_part("right", True)
    window.detail.offer_shapes(None)
    window.detail.turn(page)


def _open_pull(window: Workbench) -> None:
    folder = str(places.shelf_folder())
    path, _ = QFileDialog.getOpenFileName(
        window, tr("Open a pull"), folder, tr("Pulls (*{suffix});;All files (*)", suffix=SUFFIX)
    )
    if path:
        window.open_file(Path(path))


def _save_as(window: Workbench) -> None:
    assert window.pull is not None
    folder = places.shelf_folder()
    folder.mkdir(parents=True, exist_ok=True)
    begin = str(window.pull.path or folder / f"{window.pull.pull.name}{SUFFIX}")
    path, _ = QFileDialog.getSaveFileName(window, tr("Save the pull as"), begin, tr("Pulls (*{suffix})", suffix=SUFFIX))
    if path:
        window.save_pull(Path(path if path.endswith(SUFFIX) else path + SUFFIX))


def _rename(window: Workbench) -> None:
    assert window.pull is not None
    text, done = QInputDialog.getText(window, tr("Rename the pull"), tr("Name:"), text=window.pull.pull.name)
    if done:
        window.rename_pull(text)


def _open_database(window: Workbench) -> None:
    path, _ = QFileDialog.getOpenFileName(
        window, tr("Open a database file"), "", tr("Database files (*.sqlite *.sqlite3 *.db *.duckdb);;All files (*)")
    )
    if path:
        window.open_database(Path(path))


_LATELY = 3
"""Commands done last that the find box has at its top."""


@lru_cache(1000)
def _words_of(path: Path, _changed: int) -> tuple[str, str]:
    """The tables that a saved pull reads, and its text, so that it is found by them; read again when the file
    changed."""
    try:
        text = load_pull(path).query.text
    except OtterError:
        return "", ""
    return query_words(text), text[:_MOST_TEXT]


def _commands(window: Workbench) -> list[Finding]:
    """All commands, those done last first; one that can't be done now says so."""
    used = {key: n for n, key in enumerate(window.commands.used)}
    results = []
    for command in sorted(window.commands.all(), key=lambda each: used.get(each.key, len(used))):
        word = tr("command  {shortcut}", shortcut=shown_keys(command.shortcut)) if command.shortcut else tr("command")
        text = "" if command.can() else tr("can't be done now")
        results.append(Finding(command.name, text, word, calling(window.commands.run, command.key)))
    return results


def collect_findings(window: Workbench) -> list[Finding]:
    """Everything that the find box can find now; first the commands that were done last."""
    from nimble_otter.desktop.shell.help_page import guide_parts
    from nimble_otter.desktop.shell.settings_page import settings_found

    commands, lately = _commands(window), min(_LATELY, len(window.commands.used))
    findings = commands[:lately]
    for index, open_pull in enumerate(window.pulls):
        findings.append(
            Finding(open_pull.pull.name, open_pull.pull.source.name, tr("open pull"), calling(window.show_pull, index))
        )
    for n in range(window.sources.shelf.topLevelItemCount()):
        item = window.sources.shelf.topLevelItem(n)
        if item is None:
            continue
        path = item.data(0, 258)
        words, text = _words_of(path, path.stat().st_mtime_ns) if path.exists() else ("", "")
        name = f"{item.text(0)} · {words}" if words else item.text(0)
        findings.append(Finding(name, tr("Shelf"), "pull", calling(window.open_file, path), text))
    for source in window.hub.sources:
        for table in window.hub.tables.get(source.name, []):
            findings.append(Finding(table.name, source.name, table.kind, calling(window.open_table, source, table)))
    findings += commands[lately:]
    findings += [Finding(name, tr("Settings, {part}", part=part), "setting", do)
              for name, part, do in settings_found(window.pages.settings)]  # fmt: skip
    findings += [Finding(title, tr("Guide"), "guide", calling(window.pages.help, title), text[:_MOST_TEXT])
              for title, text in guide_parts().items()]  # fmt: skip
    for source in window.hub.sources:
        for table in window.hub.tables.get(source.name, []):
            shapes = window.hub.shapes.get((source.name, table.name))
            names = [c.name for c in table.columns] if shapes is None else list(shapes.types)
            for name in names:
                where = f"{table.name} · {source.name}"
                word = tr("field") if shapes is not None else tr("column")
                findings.append(Finding(name, where, word, calling(_reveal, window, source.name, table.name, name)))
    return findings


def _shift(window: Workbench, way: int) -> None:
    window.workspace.move(window.current, window.current + way)


def _reveal(window: Workbench, source: str, table: str, column: str) -> None:
    window.toggle_part("left", True)
    window.sources.reveal(source, table, column)
    window.sources.tree.setFocus()
