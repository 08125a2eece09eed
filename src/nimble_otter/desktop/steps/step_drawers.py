"""Sort and Open: short lists of choices, each with what is there to choose from."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

from PySide6.QtCore import QLocale
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from nimble_otter.desktop.kit.widgets import boxed, button, clear, column, combo, label, row
from nimble_otter.desktop.pulls.drawer import Drawer
from nimble_otter.pull.steps import OpenStep, SortBy, SortStep, Step
from nimble_otter.table import Field, Kind
from nimble_otter.table.text.collation import LANGUAGES, language_of
from nimble_otter.table.text.show import grouped
from nimble_otter.translation import tr


class StepDrawer(Drawer):
    """What the drawers of local steps share: which step it is and the columns that reach it. `says_report`: the head
    has what the step tells of what it did."""

    says_report = True

    def __init__(self) -> None:
        super().__init__()
        self.at = 0
        self.problem = label("", "plum", wrap=True)
        self._built: tuple[object, ...] | None = None

    def show_step(self, at: int) -> None:
        """Show the step at this place of the course."""
        self.at = at

    def is_new(self) -> bool:
        """Whether the step, or the columns that reach it, are others than when this was asked last: only then the
        editor is built anew."""
        built = (id(self.open_pull), self.at, self.current, self.fields())
        is_new, self._built = built != self._built, built
        return is_new

    def rebuild(self) -> None:
        """Show what the step has, whatever was typed."""
        self._built = None
        self.refresh()

    @property
    def current(self) -> Step | None:
        """The step at the drawer's place, if there is one."""
        assert self.open_pull is not None
        return self.open_pull.pull.steps[self.at] if self.at < len(self.open_pull.pull.steps) else None

    def fields(self) -> tuple[Field, ...]:
        """The columns of the rows as they reach the step."""
        assert self.open_pull is not None
        course = self.open_pull.course
        if course is not None and self.at <= len(course.results):
            return course.before(self.at).table.fields
        return self.open_pull.table.fields if self.open_pull.table is not None else ()

    def names(self, also: str = "") -> list[str]:
        """The columns that reach the step, `also` among them."""
        names = [field.name for field in self.fields()]
        return names if not also or also in names else [also, *names]

    def put(self, step: Step, name: str) -> None:
        """Put a changed step in its place; `name` is the word of its undo."""
        assert self.open_pull is not None
        self.open_pull.shaping.set_step(self.at, step, name)

    def tell(self) -> None:
        """Rows before and after in the head; the step's error, if any."""
        assert self.open_pull is not None
        course = self.open_pull.course
        self.problem.setText("")
        if course is not None and self.at < len(course.results):
            result, before = course.results[self.at], course.before(self.at)
            rows = (
                f"{grouped(before.rows)} → {grouped(result.shaped.rows)}" if result.shaped.rows != before.rows else ""
            )
            words = tr(
                "{rows} rows, on this machine, {spent_s:.0f} ms",
                rows=rows or grouped(before.rows),
                spent_s=result.spent_s * 1000,
            )
            words += f", {result.shaped.said}" if result.shaped.said and self.says_report else ""
            if result.shaped.grouped is not None and before.grouped is None:
                words = tr(
                    "{rows} rows → {groups} groups", rows=grouped(before.rows), groups=grouped(result.shaped.rows)
                )
            self.head.words.setText(words if result.step.on else tr("switched off"))
            self.problem.setText(str(result.error or ""))
        self.problem.setVisible(bool(self.problem.text()))

    @staticmethod
    def scrolled(lines: QVBoxLayout, *more: QWidget) -> QScrollArea:
        """Lines in an area that scrolls."""
        scroll_area = QScrollArea()
        scroll_area.setWidgetResizable(True)
        lines.setSpacing(6)
        scroll_area.setWidget(boxed(column(lines, *more, None, space=8, margins=(12, 10, 12, 8))))
        return scroll_area


def movers(move: Callable[[int], None], remove: Callable[[], None]) -> list[QWidget]:
    """The buttons that move a line up or down, or remove it."""
    return [
        button("↑", lambda: move(-1), "plain", tr("Move up")),
        button("↓", lambda: move(1), "plain", tr("Move down")),
        button("×", remove, "plain", tr("Remove")),
    ]


def moved(items: tuple[object, ...], place: int, way: int) -> tuple[Any, ...]:
    """The items with one of them moved by `way`; unchanged at the ends."""
    to = place + way
    if not 0 <= to < len(items):
        return items
    changed = list(items)
    changed[place], changed[to] = changed[to], changed[place]
    return tuple(changed)


def _languages() -> list[tuple[str, str]]:
    known = sorted((name, code) for code, (name, _) in LANGUAGES.items())
    return [("", tr("any language")), *((code, name) for name, code in known)]


class SortDrawer(StepDrawer):
    """The drawer of a Sort step: its keys, their directions and where NULLs go."""

    title = tr("Sort")

    def __init__(self) -> None:
        super().__init__()
        self.head.right.addWidget(button(tr("Add key"), self.add))
        self._lines = QVBoxLayout()
        self.set_body(self.scrolled(self._lines, self.problem))

    def refresh(self) -> None:
        """Show the step as it is now."""
        step = self.current
        if not isinstance(step, SortStep):
            return
        self.tell()
        if not self.is_new():
            return
        clear(self._lines)
        for index, key in enumerate(step.keys):
            name = combo(self.names(key.column), key.column, tr("Key {index}", index=index + 1))
            way = combo(
                [("up", tr("ascending ↑")), ("down", tr("descending ↓"))],
                "down" if key.descending else "up",
                tr("Direction"),
            )
            empty = combo(
                [("last", tr("empty last")), ("first", tr("empty first"))],
                "first" if key.empty_first else "last",
                tr("Empty"),
            )
            name.setFixedWidth(180)
            name.activated.connect(lambda _, p=index, w=name: self._set(p, column=w.currentData()))
            way.activated.connect(lambda _, p=index, w=way: self._set(p, descending=w.currentData() == "down"))
            empty.activated.connect(lambda _, p=index, w=empty: self._set(p, empty_first=w.currentData() == "first"))
            orders = [("", tr("by code point")), ("dictionary", tr("natural order")), ("letters", tr("ignoring case"))]
            order = combo(orders, key.order, tr("Text order"))
            order.setToolTip(tr("Natural order puts Élan next to Elan and Weir 9 before Weir 10"))
            order.activated.connect(partial(self._set_order, index, order))
            is_text = any(f.name == key.column and f.kind is Kind.TEXT for f in self.fields())
            is_text = any(f.name == key.column and f.kind is Kind.TEXT for f in self.fields())
            more = [order] if is_text else []
            moving = movers(partial(self._move, index), partial(self._remove, index))
            number = label(str(index + 1), "faint")
            number.setFixedWidth(16)
            self._lines.addLayout(row(number, name, way, empty, *more, *moving, None, space=6))
            if is_text and key.order:
                self._lines.addLayout(self._language_line(index, key))
        if not step.keys:
            self._lines.addWidget(
                label(
                    tr("No key yet: rows are in the order they arrived. Add one, or click a column's header."), "faint"
                )
            )

    def _language_line(self, place: int, key: SortBy) -> QHBoxLayout:
        language = combo(_languages(), key.language, tr("Language"))
        language.activated.connect(lambda: self._set(place, language=language.currentData()))
        return row(22, label(tr("in the alphabet of"), "faint"), language, None, space=6)

    def _set_order(self, place: int, order: QComboBox, _: int) -> None:
        """By code point first: then in the reader's own language, where it has an order."""
        step = self.current
        assert isinstance(step, SortStep)
        before, after = step.keys[place], str(order.currentData())
        fresh = language_of(QLocale.system().name()) if not before.order else before.language
        self._set(place, order=after, language=fresh if after else "")

    def _set(self, place: int, **changes: object) -> None:
        step = self.current
        assert isinstance(step, SortStep)
        keys = list(step.keys)
        keys[place] = replace(keys[place], **changes)  # type: ignore[arg-type]
        self.put(replace(step, keys=tuple(keys)), tr("Change sort"))

    def _move(self, place: int, way: int) -> None:
        step = self.current
        assert isinstance(step, SortStep)
        self.put(replace(step, keys=moved(step.keys, place, way)), tr("Change sort"))

    def _remove(self, place: int) -> None:
        step = self.current
        assert isinstance(step, SortStep)
        self.put(replace(step, keys=(*step.keys[:place], *step.keys[place + 1 :])), tr("Remove key"))

    def add(self) -> None:
        """Sort by one more column."""
        step = self.current
        assert isinstance(step, SortStep)
        used = {key.column for key in step.keys}
        name = next((n for n in self.names() if n not in used), "")
        if name:
            self.put(replace(step, keys=(*step.keys, SortBy(name))), tr("Add key"))


class OpenDrawer(StepDrawer):
    """Open: which columns' objects are columns of their own; each can be closed again."""

    title = tr("Open")

    def __init__(self) -> None:
        super().__init__()
        self._lines = QVBoxLayout()
        note = label(
            tr("Objects in these columns are expanded into columns of their own. Use a column's "
"menu to expand more."),
            "muted", 12, wrap=True,
        )  # fmt: skip
        self.set_body(boxed(column(note, self._lines, None, self.problem, margins=(12, 10, 12, 8))))

    def refresh(self) -> None:
        """Show the step as it is now."""
        step = self.current
        if not isinstance(step, OpenStep):
            return
        self.tell()
        clear(self._lines)
        for path in step.paths:
            self._lines.addLayout(
                row(
                    label(path),
                    button(tr("Close"), partial(self._close, path), "link", tr("Close {path} again", path=path)),
                    None,
                )
            )

    def _close(self, path: str) -> None:
        step = self.current
        if isinstance(step, OpenStep):
            kept = tuple(p for p in step.paths if p != path and not p.startswith(f"{path}."))
            self.put(replace(step, paths=kept), tr("Close {path}", path=path))
