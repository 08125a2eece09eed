"""Forty things an analyst does, each by mouse alone and by keyboard alone in the real window, counted: clicks (a double
click is two), and strokes (a chord is one) beside the letters that are typed.

    python -m benchmarks.tasks [WORDS]

Each is a line of deeds and a question whether it was done; a deed finds what it needs by what is to be seen: the words
on a button, in a menu or a list. Nothing is called but what the mouse and the keys call."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

os.environ["NIMBLE_OTTER_LANGUAGE"] = "en"  # what is looked for is English

from nimble_otter.desktop.kit.offscreen import use_offscreen, wait_for_rest, wait_until

_TICK_MS, _PATIENCE_S, _LONGEST_S = 40, 4.0, 30.0


@dataclass(frozen=True, slots=True)
class Task:
    """`deeds`, by mouse and by keyboard, apart from each other by " | "; `done` is asked of the window at the end.
    `before` are deeds that are not counted."""

    name: str
    mouse: str
    keys: str
    done: Callable[[Any], object]
    before: str = ""


@dataclass(slots=True)
class Count:
    """What a way took."""

    clicks: int = 0
    strokes: int = 0
    letters: int = 0
    problem: str = ""

    def words(self) -> str:
        parts = [(self.clicks, "click"), (self.strokes, "stroke"), (self.letters, "letter")]
        said = ", ".join(f"{n} {word}{'s' if n != 1 else ''}" for n, word in parts if n)
        return f"{said} **{self.problem}**" if self.problem else said


class Robot:
    """Does deeds one after the other, also while a menu or a dialog waits inside one of them."""

    def __init__(self, window: Any) -> None:
        self.window, self.count = window, Count()
        self._left: list[str] = []
        self._since, self._ended, self._grace = 0.0, False, 10

    def do(self, deeds: str) -> Count:
        """Do them all. A deed that finds nothing is tried again for a while."""
        from PySide6.QtCore import QTimer

        self._left, self._since = [deed.strip() for deed in deeds.split(" | ") if deed.strip()], time.monotonic()
        self._ended = False
        QTimer.singleShot(0, self._next)
        wait_until(lambda: self._ended, _LONGEST_S)
        wait_until(lambda: False, 0.05)
        wait_for_rest(self.window, lambda: self.window.jobs.is_busy, 20)
        return self.count

    def _next(self) -> None:
        from PySide6.QtCore import QTimer
        from PySide6.QtWidgets import QApplication

        if not self._left or self.count.problem:
            waits = QApplication.activePopupWidget() or QApplication.activeModalWidget()
            if waits is not None:  # nothing goes on before it is closed; one that is closing is let be
                self._grace -= 1
                if self._grace < 0:
                    waits.close()
                QTimer.singleShot(_TICK_MS, self._next)
            else:
                self._ended = True
            return
        QTimer.singleShot(_TICK_MS, self._next)
        if self.window.jobs.is_busy and not (QApplication.activePopupWidget() or QApplication.activeModalWidget()):
            return
        deed = self._left[0]
        verb, _, rest = deed.partition(" ")
        try:
            act = getattr(self, f"_{verb}")(rest.strip())
        except LookupError as problem:
            if time.monotonic() - self._since > _PATIENCE_S:
                self.count.problem = f"{deed}: {problem}"
            return
        except Exception as problem:  # noqa: BLE001 - a deed that can't be done is told with its task
            self.count.problem = f"{deed}: {problem!r}"
            return
        del self._left[0]
        self._since = time.monotonic()
        act()

    # --- deeds: each gives what is to be done, or raises LookupError -------------------------------------------

    def _key(self, chord: str) -> Callable[[], None]:
        from PySide6.QtGui import QKeySequence
        from PySide6.QtTest import QTest

        target, stroke = self._focus(), QKeySequence(chord)[0]
        self.count.strokes += 1
        return lambda: QTest.keyClick(target, stroke.key(), stroke.keyboardModifiers())

    def _keys(self, told: str) -> Callable[[], None]:
        """A chord some times: "Down 3"."""
        chord, _, times = told.rpartition(" ")
        self._left[1:1] = [f"key {chord}"] * int(times)
        return lambda: None

    def _type(self, text: str) -> Callable[[], None]:
        from PySide6.QtTest import QTest

        target, letters = self._focus(), text.replace("␠", " ")
        self.count.letters += len(letters)
        return lambda: QTest.keyClicks(target, letters)

    def _click(self, words: str) -> Callable[[], None]:
        return self._at(*self._find(words))

    def _double(self, words: str) -> Callable[[], None]:
        return self._at(*self._find(words), times=2)

    def _right(self, words: str) -> Callable[[], None]:
        return self._at(*self._find(words), right=True)

    def _cell(self, told: str, **how: Any) -> Callable[[], None]:
        """ "4 level_m": a row as shown, from 0, and a column."""
        row, _, name = told.partition(" ")
        grid = self._grid()
        return self._at(grid.viewport(), grid.cell_rect(int(row), self._column(grid, name)).center(), **how)

    def _shift(self, told: str) -> Callable[[], None]:
        from PySide6.QtCore import Qt

        return self._cell(told, held=Qt.KeyboardModifier.ShiftModifier)

    def _doublecell(self, told: str) -> Callable[[], None]:
        return self._cell(told, times=2)

    def _rightcell(self, told: str) -> Callable[[], None]:
        return self._cell(told, right=True)

    def _head(self, name: str, **how: Any) -> Callable[[], None]:
        from PySide6.QtCore import QPoint

        grid = self._grid()
        rect = grid.cell_rect(0, self._column(grid, name))
        left = grid.viewport().geometry().topLeft()
        return self._at(grid, QPoint(left.x() + rect.center().x(), left.y() // 2), **how)

    def _righthead(self, name: str) -> Callable[[], None]:
        return self._head(name, right=True)

    def _stop(self, words: str, **how: Any) -> Callable[[], None]:
        """A stop of the course, by its kind or what stands in it; "+" adds one."""
        from nimble_otter.desktop.steps.course import ADD

        course = self.window.course
        for stop, rect in zip(course.stops, course.cells(), strict=True):
            if words in (stop.kind, stop.words) or (words == "+" and stop.ref == ADD):
                return self._at(course, rect.center(), **how)
        raise LookupError(f"there is no stop {words}")

    def _rightstop(self, words: str) -> Callable[[], None]:
        return self._stop(words, right=True)

    def _menu(self, words: str) -> Callable[[], None]:
        """Entries of open menus, one in the other: "Filter where > contains"."""
        from PySide6.QtTest import QTest
        from PySide6.QtWidgets import QApplication, QMenu

        first, _, more = words.partition(" > ")
        for menu in [w for w in QApplication.topLevelWidgets() if isinstance(w, QMenu) and w.isVisible()][::-1]:
            for action in menu.actions():
                if action.text().replace("&", "").partition("\t")[0].strip(" …") == first.strip(" …"):
                    if not action.isEnabled():
                        raise LookupError(f"{first} can't be chosen")
                    if more:
                        self._left.insert(1, f"menu {more}")
                    self.count.clicks += 1
                    place = menu.actionGeometry(action).center()
                    return lambda: (QTest.mouseMove(menu, place), QTest.mouseClick(menu, _left(), pos=place))[0]
        there = [a.text() for w in QApplication.topLevelWidgets() if isinstance(w, QMenu) and w.isVisible()
                 for a in w.actions()]  # fmt: skip
        raise LookupError(f"no menu has {first}; there are {there}")

    def _tab(self, told: str) -> Callable[[], None]:
        """A tab by its number from 0, or "+"."""
        tabs = self.window.title.tabs
        return self._at(tabs, tabs.rects()[-1 if told == "+" else int(told)].center())

    def _tick(self, words: str) -> Callable[[], None]:
        """The box in front of an entry of a list."""
        from PySide6.QtCore import QPoint

        widget, place = self._find(words)
        return self._at(widget, QPoint(12 if place.x() > 12 else place.x(), place.y()))

    # --- finding -----------------------------------------------------------------------------------------------

    def _at(self, widget: Any, place: Any, times: int = 1, right: bool = False, held: Any = None) -> Callable[[], None]:
        from PySide6.QtCore import Qt
        from PySide6.QtTest import QTest

        self.count.clicks += times
        button = Qt.MouseButton.RightButton if right else Qt.MouseButton.LeftButton
        keys = held if held is not None else Qt.KeyboardModifier.NoModifier

        def act() -> None:
            QTest.mouseMove(widget, place)
            if right:
                self._context(widget, place)
            else:
                QTest.mouseClick(widget, button, keys, place)
                if times == 2:
                    QTest.mouseDClick(widget, button, keys, place)

        return act

    @staticmethod
    def _context(widget: Any, place: Any) -> None:
        """A right click, and what the desktop makes of it."""
        from PySide6.QtCore import QPoint, Qt
        from PySide6.QtGui import QContextMenuEvent
        from PySide6.QtTest import QTest
        from PySide6.QtWidgets import QApplication

        QTest.mouseClick(widget, Qt.MouseButton.RightButton, Qt.KeyboardModifier.NoModifier, QPoint(place))
        event = QContextMenuEvent(QContextMenuEvent.Reason.Mouse, place, widget.mapToGlobal(place))
        QApplication.sendEvent(widget, event)

    def _top(self) -> Any:
        from PySide6.QtWidgets import QApplication

        return QApplication.activeModalWidget() or QApplication.activePopupWidget() or self.window

    def _focus(self) -> Any:
        from PySide6.QtWidgets import QApplication, QMenu

        popup, dialog = QApplication.activePopupWidget(), QApplication.activeModalWidget()
        if dialog is not None:  # which a menu's entry may have opened
            focus = QApplication.focusWidget()
            if focus is None or focus.window() is not dialog:
                raise LookupError("the dialog has no keyboard yet")
            return focus
        if popup is not None and not isinstance(popup, QMenu) and popup.focusWidget() is not None:
            return popup.focusWidget()
        return popup or QApplication.focusWidget() or self.window

    def _find(self, words: str) -> tuple[Any, Any]:
        """A widget or a part of one with these words, and where: buttons and boxes first, then fields, then entries of
        lists. "Name: entry" asks for an entry of the list of that name."""
        from PySide6.QtWidgets import QAbstractButton, QAbstractItemView, QWidget

        top = self._top()
        seen = [w for w in top.findChildren(QWidget) if w.isVisible() and w.isEnabled() and w.width() > 2]
        plain = words.strip(" …")
        for widget in [w for w in seen if isinstance(w, QAbstractButton)]:
            text = widget.text().replace("&", "").partition("  ")[0].strip(" …")
            if plain in (text, widget.accessibleName(), widget.toolTip()):
                return widget, _part(widget)
        for widget in seen:
            if widget.accessibleName() == words and not isinstance(widget, QAbstractItemView):
                return widget, widget.rect().center()
        named, _, entry = words.partition(": ")
        for view in [w for w in seen if isinstance(w, QAbstractItemView)]:
            if entry and view.accessibleName() != named:
                continue
            for index in _indexes(view):
                if str(index.data() or "") == (entry or words) and view.visualRect(index).isValid():
                    view.scrollTo(index)
                    return view.viewport(), view.visualRect(index).center()
        said = {getattr(w, "text", str)() or w.accessibleName() for w in seen if isinstance(w, QAbstractButton)}
        raise LookupError(f"nothing in sight says {words}; there are {sorted(map(str, said))}")

    def _grid(self) -> Any:
        if not self.window.grid.isVisible():
            raise LookupError("there are no rows in sight")
        return self.window.grid

    @staticmethod
    def _column(grid: Any, name: str) -> int:
        for at, column in enumerate(grid.model.columns if grid.model is not None else ()):
            if name in (column.name, column.title):
                return at
        raise LookupError(f"there is no column {name}")


def _left() -> Any:
    from PySide6.QtCore import Qt

    return Qt.MouseButton.LeftButton


def _part(widget: Any) -> Any:
    """Where a button takes a click: a box at its left."""
    from PySide6.QtCore import QPoint
    from PySide6.QtWidgets import QCheckBox

    return QPoint(10, widget.height() // 2) if isinstance(widget, QCheckBox) else widget.rect().center()


def _indexes(view: Any) -> Iterator[Any]:
    model = view.model()
    if model is None:
        return

    def below(parent: Any) -> Iterator[Any]:
        for row in range(min(model.rowCount(parent), 400)):
            for column in range(6):
                index = model.index(row, column, parent)
                if not index.isValid():
                    break
                yield index
            if hasattr(view, "isExpanded"):
                yield from below(model.index(row, 0, parent))

    yield from below(view.rootIndex())


def _pull(window: Any) -> Any:
    return window.pull.pull


def _steps(window: Any) -> list[str]:
    return [step.kind for step in window.pull.pull.steps]


def _step(window: Any, kind: str) -> Any:
    return next((step for step in window.pull.pull.steps if step.kind == kind), None)


def _text(window: Any) -> str:
    return str(window.pull.pull.query.text)


def _pending(window: Any) -> bool:
    """Whether something waits to be written, as the course says."""
    return any(stop.kind == "Changes" and stop.words != "none" for stop in window.course.stops)


def _clip() -> str:
    from PySide6.QtWidgets import QApplication

    return QApplication.clipboard().text()


_OPEN = "key Ctrl+K | type visit | key Return"
_HIGH = "key Ctrl+K | type high_water | key Return"
"""A table and a view as pulls of their own, their rows in sight, the keyboard in them."""

TASKS = (
    # reach a source, get oriented
    Task(
        "Open the demo",
        "click Open the demo",
        "key Ctrl+K | type demo | key Return",
        lambda w: w.pull is not None,
        "key Ctrl+W | key Ctrl+W",
    ),
    Task(
        "Open a table",
        "double visit",
        "key Ctrl+K | type visit | key Return",
        lambda w: "visit" in _text(w) and w.pull.table.rows == 1904,
    ),
    Task(
        "Find a column",
        "click Find a table, column, pull or command | type mg_per | click mg_per_l",
        "key Ctrl+K | type mg_per | key Return",
        lambda w: w.sources.tree.currentItem().text(0).startswith("mg_per"),
    ),
    Task(
        "Find a value in all tables of a source",
        "click Nimble Otter menu | menu Pull > Find a value in a source | type Stone Leat | click Find",
        "key Ctrl+Shift+K | type Stone Leat | key Return",
        lambda w: w.search_page.hits.topLevelItemCount(),
    ),
    Task(
        "Count the rows of a table",
        "right visit | menu Count exactly",
        "key Alt+0 | type visit | key Shift+F10 | keys Down 5 | key Return",
        lambda w: True,
    ),
    # ask
    Task(
        "Write a query and run it",
        "tab + | type select * from river | click Run",
        "key Ctrl+T | type select * from river | key F5",
        lambda w: w.pull.table and w.pull.table.rows == 7,
    ),
    Task(
        "Run a query with a parameter",
        "tab + | type select * from loan where item = :what | click Parameter what | type rope | click Run",
        "key Ctrl+T | type select * from loan where item = :what | key F5 | type rope | key Return",
        lambda w: w.pull.table is not None,
    ),
    Task(
        "See the server's plan of a query",
        "click Plan",
        "key Ctrl+K | type plan | key Return",
        lambda w: w.query_drawer.plan.isVisible() and w.query_drawer.plan.topLevelItemCount(),
        _OPEN,
    ),
    Task(
        "Put an earlier query back",
        "click Nimble Otter menu | menu Pull > Query history | click Open as a pull",
        "key Ctrl+Shift+H | key Return",
        lambda w: len(w.pulls) == 4,
        _OPEN,
    ),
    Task(
        "Fetch the rest of a result that was cut",
        "click Fetch more | menu Fetch all rows",
        "key Ctrl+K | type all rows | key Return",
        lambda w: w.pull.table.rows == 61320,
        "double reading | click Row limit | key Ctrl+A | type 1000 | key Return | key F5",
    ),
    # look
    Task(
        "Look at one record, then the next",
        "cell 0 weather | click Record | click Next record",
        "key Alt+8 | key Down",
        lambda w: w.grid.selection.current[0] == 1,
        _OPEN,
    ),
    Task(
        "Make all columns fit the window",
        "righthead remark | menu Width > Fit all to the window",
        "key Ctrl+K | type fit | key Return",
        lambda w: True,
        _OPEN,
    ),
    Task(
        "Hide a column",
        "righthead weather | menu Hide weather",
        "keys Right 4 | key Ctrl+K | type hide | key Return",
        lambda w: "weather" not in [c.name for c in w.grid.model.columns],
        _OPEN,
    ),
    Task(
        "Find a word in the rows",
        "click Nimble Otter menu | menu Rows > Find in the rows | type gauge",
        "key Ctrl+F | type gauge",
        lambda w: w.rows_find.isVisible(),
        _OPEN,
    ),
    Task(
        "Follow a row to what it refers to, and back",
        "cell 0 weather | click station | click ‹ Back to visit",
        "key Ctrl+R | key G | key Return | key Alt+Left",
        lambda w: len(w.pulls) == 4 and "visit" in _text(w),
        _OPEN,
    ),
    Task(
        "Draw a chart of a column",
        "righthead weather | menu Chart weather",
        "keys Right 4 | key Alt+4 | key Return",
        lambda w: w.pull.pull.charts,
        _OPEN,
    ),
    # shape
    Task(
        "Sort by a column, the largest first",
        "head visited_on | head visited_on",
        "keys Right 3 | key Ctrl+G | key S | key Ctrl+G | key S",
        lambda w: [k.descending for k in _step(w, "sort").keys] == [True],
        _OPEN,
    ),
    Task(
        "Keep rows with the value of a cell",
        "rightcell 2 weather | menu Keep only rows with this weather",
        "keys Right 4 | key Shift+F10 | key Down | key Return",
        lambda w: _step(w, "filter"),
        _OPEN,
    ),
    Task(
        "Keep two values of a column",
        "righthead weather | menu Filter by values | tick Values: frost | tick Values: rain",
        "keys Right 4 | key Ctrl+G | key F | type fro | key Return | type rain | key Return",
        lambda w: _step(w, "filter").conditions[0].values,
        _OPEN,
    ),
    Task(
        "Keep rows where a number is larger",
        "righthead level_m | menu Filter where level_m > more than | type 3.6 | key Return",
        "keys Right 2 | key Ctrl+G | key F | type >3.6 | key Return",
        lambda w: "3.6" in _step(w, "filter").words(),
        _HIGH,
    ),
    Task(
        "Group and count",
        "righthead weather | menu Group by weather",
        "keys Right 4 | key Ctrl+G | key G",
        lambda w: _step(w, "group").keys,
        _OPEN,
    ),
    Task(
        "Compute a column",
        "stop + | click Compute: an SQL expression | type cm | click Expression of computed column 1 | "
        "type level_m * 100 | key Return",
        "key Ctrl+G | key C | type cm | key Tab | type level_m * 100 | key Return",
        lambda w: "* 100" in _step(w, "compute").columns[0].text,
        _HIGH,
    ),
    Task(
        "Keep the ten largest",
        "stop + | click Top: the first n, of all or per group",
        "keys Right 2 | key Ctrl+G | key T",
        lambda w: _step(w, "top"),
        _HIGH,
    ),
    Task(
        "Switch a step off",
        "rightstop Sort | menu Switch off",
        "key Alt+6 | keys Right 3 | key Space",
        lambda w: not all(step.on for step in _pull(w).steps),
    ),
    Task(
        "Take the last step back",
        "click Nimble Otter menu | menu Changes > Undo",
        "key Ctrl+Z",
        lambda w: not _steps(w),
        f"{_OPEN} | head weather",
    ),
    Task(
        "Let the server do the steps",
        "click Nimble Otter menu | menu Rows > On the server > Move all steps upstream | click Accept and run",
        "key Ctrl+G | key A | key Return",
        lambda w: len(_steps(w)) < 3,
    ),
    Task(
        "Join another pull",
        "stop + | click Join: columns of another pull",
        "key Ctrl+G | key J",
        lambda w: _step(w, "join"),
        _OPEN,
    ),
    # change
    Task(
        "Change a cell",
        "doublecell 0 remark | type dry | cell 1 remark",
        "keys Right 5 | type dry | key Return",
        _pending,
        _OPEN,
    ),
    Task(
        "Set a cell to NULL",
        "rightcell 1 remark | menu Set and fill > Set NULL",
        "key Down | keys Right 5 | key Ctrl+R | key N",
        _pending,
        _OPEN,
    ),
    Task(
        "Change a cell and write it",
        "doublecell 0 remark | type dry | cell 1 remark | stop Changes | click Write 1 change",
        "keys Right 5 | type dry | key Return | key Ctrl+K | type write | key Return",
        lambda w: not _pending(w) and "wrote" in w.status.message.text().casefold(),
        _OPEN,
    ),
    Task("Add a row", "click Nimble Otter menu | menu Changes > New row", "key Ctrl+Ins", _pending, _OPEN),
    Task(
        "Delete three rows",
        "cell 0 weather | shift 2 weather | rightcell 1 weather | menu Delete rows",
        "keys Shift+Down 2 | key Ctrl+Del",
        _pending,
        _OPEN,
    ),
    Task(
        "Revert one cell",
        "rightcell 0 remark | menu Revert changes",
        "keys Right 5 | key Ctrl+Backspace",
        lambda w: not _pending(w),
        f"{_OPEN} | keys Right 5 | type dry | key Return | key Up | keys Left 5",
    ),
    # send and keep
    Task(
        "Send as CSV",
        "stop Send | click Write file",
        "key Alt+3 | key Return",
        lambda w: list(Path(os.environ["HOME"]).glob("*.csv")),
        _OPEN,
    ),
    Task(
        "Copy rows with their header",
        "cell 0 weather | shift 5 remark | rightcell 2 remark | menu Copy with header",
        "keys Shift+Down 5 | keys Shift+Right 2 | key Ctrl+Shift+C",
        lambda w: _clip().count("\n") >= 5,
        _OPEN,
    ),
    Task(
        "Copy rows as Markdown",
        "rightcell 0 weather | menu Copy as > Copy as Markdown",
        "key Ctrl+K | type markdown | key Return",
        lambda w: _clip().startswith("|"),
        _OPEN,
    ),
    Task(
        "Save the pull on the shelf",
        "click Nimble Otter menu | menu Pull > Save the pull",
        "key Ctrl+S",
        lambda w: w.pull.path,
        _OPEN,
    ),
    Task(
        "Repeat a delivery every day",
        "stop Send | click Repeat… | click Save",
        "key Ctrl+K | type repeat | key Return | key Tab | key Return",
        lambda w: w.deliveries_page.schedules.list.topLevelItemCount(),
    ),
    Task(
        "Give a pull another name",
        "click Nimble Otter menu | menu Pull > Rename the pull | type frost | key Return",
        "key Ctrl+K | type rename the | key Return | type frost | key Return",
        lambda w: _pull(w).name == "frost",
        _OPEN,
    ),
    Task("See what can be done", "click Nimble Otter menu", "key F10", lambda w: True),
)


def _fresh() -> Any:
    """A window on the demo with a home of its own."""
    from nimble_otter.desktop.shell.window import Window

    home = Path(tempfile.mkdtemp(prefix="nimble-otter-tasks-"))
    os.environ |= {"NIMBLE_OTTER_HOME": str(home), "HOME": str(home)}
    window = Window()
    window.resize(1280, 800)
    window.show()
    window.begin(True)
    wait_until(lambda: False, 0.2)
    wait_for_rest(window, lambda: window.jobs.is_busy, 30)
    return window


def _way(number: int, way: int) -> Count:
    """Do a task one way, in a window of its own."""
    use_offscreen()
    from nimble_otter.desktop.shell.application import make_app

    make_app()
    task, window = TASKS[number], _fresh()
    if task.before:
        before = Robot(window).do(task.before)
        if before.problem:
            return Count(problem=f"before: {before.problem}")
    count = Robot(window).do((task.mouse, task.keys)[way])
    if not count.problem:
        try:
            count.problem = "" if task.done(window) else "not done"
        except (AttributeError, LookupError, TypeError) as problem:
            count.problem = f"not done: {problem}"
    return count


def main(words: list[str]) -> int:
    """Do those tasks whose name has the words, and print what each way took."""
    if words[:1] == ["--way"]:
        count = _way(int(words[1]), int(words[2]))
        print(json.dumps(asdict(count)), flush=True)
        os._exit(0)
    wanted = [n for n, task in enumerate(TASKS) if all(word.casefold() in task.name.casefold() for word in words)]

    def counted(job: tuple[int, int]) -> Count:
        command = [sys.executable, "-m", "benchmarks.tasks", "--way", *map(str, job)]
        try:
            done = subprocess.run(command, capture_output=True, text=True, timeout=60)
        except subprocess.TimeoutExpired:
            return Count(problem="no end")
        lines = [line for line in done.stdout.splitlines() if line.startswith("{")]
        return Count(**json.loads(lines[-1])) if lines else Count(problem=done.stderr[-300:])

    jobs = [(number, way) for number in wanted for way in (0, 1)]
    print("| Task | Mouse | Keyboard |\n|---|---|---|")
    bad = 0
    with ThreadPoolExecutor(2) as pool:
        counts = pool.map(counted, jobs)
        for number in wanted:
            mouse, keys = next(counts), next(counts)
            print(f"| {TASKS[number].name} | {mouse.words()} | {keys.words()} |", flush=True)
            bad += bool(mouse.problem or keys.problem)
    return bool(bad)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
