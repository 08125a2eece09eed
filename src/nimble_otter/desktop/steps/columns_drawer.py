"""Columns: which are shown, their order, and how the chosen one looks."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from zoneinfo import available_timezones

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QCompleter, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from nimble_otter.desktop.kit.widgets import Line, boxed, button, clear, column, combo, label, narrow, row
from nimble_otter.desktop.steps.step_drawers import StepDrawer
from nimble_otter.pull.steps import ColumnsStep
from nimble_otter.table import Field, Kind
from nimble_otter.table.text.column_format import ColumnFormat
from nimble_otter.translation import tr, trn

_PATTERNS = {
    Kind.TIME: ("yyyy-MM-dd HH:mm", "yyyy-MM-dd HH:mm:ss", "yyyy-MM-dd HH:mm:ss.SSS", "d MMM yyyy HH:mm"),
    Kind.DATE: ("yyyy-MM-dd", "d MMM yyyy", "EEE d MMM yyyy", "dd.MM.yyyy", "yyyy-'W'ww"),
    Kind.CLOCK: ("HH:mm", "HH:mm:ss", "h:mm a"),
}  # fmt: skip
_WORDS = (("", "yes, no"), ("true,false", "true, false"), ("1,0", "1, 0"), ("✓,–", "✓, –"), ("on,off", "on, off"))


class ColumnsDrawer(StepDrawer):
    """The drawer of a Columns step: order, names, hiding, formats."""

    title = tr("Columns")

    def __init__(self) -> None:
        super().__init__()
        self.head.right.addWidget(button(tr("Show all"), lambda: self._put(tr("Show columns"), hidden=())))
        self.narrow = QLineEdit()
        self.narrow.setPlaceholderText(tr("Find a column"))
        self.narrow.setAccessibleName(tr("Find a column"))
        self.narrow.textChanged.connect(self._narrow)
        self.list = QListWidget()
        self.list.setAccessibleName(tr("Columns, in order"))
        self.list.setDragDropMode(QListWidget.DragDropMode.InternalMove)
        self.list.itemChanged.connect(lambda _: self._read())
        self.list.model().rowsMoved.connect(lambda *_: self._read())
        self.list.currentItemChanged.connect(lambda *_: self._show_look())
        note = label(tr("Checked: shown and sent; drag to move"), "muted", 12)
        left = boxed(column(row(self.narrow, note, None), self.list, self.problem, margins=(12, 10, 12, 8)))
        self._look = QVBoxLayout()
        self._look.setSpacing(6)
        right = self.scrolled(self._look)
        right.setObjectName("raised")
        self.set_body(left, Line(True, "grid_line"), right, stretch=(1, 0, 1))

    @property
    def step(self) -> ColumnsStep | None:
        """The step, if it is there still."""
        found = self.current
        return found if isinstance(found, ColumnsStep) else None

    def refresh(self) -> None:
        """Show the step as it is now."""
        step = self.step
        if step is None:
            return
        self.tell()
        names, chosen = self.names(), self.chosen
        ordered = [n for n in step.order if n in names]
        ordered += [n for n in names if n not in ordered]
        self.list.blockSignals(True)
        top = self.list.verticalScrollBar().value()
        self.list.clear()
        for name in ordered:
            look = step.look(name)
            text = f"{name} → {look.title}" if look.title else name
            item = QListWidgetItem(tr("{column}  · pinned", column=text) if name in step.pinned else text)
            item.setData(Qt.ItemDataRole.UserRole, name)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Unchecked if name in step.hidden else Qt.CheckState.Checked)
            self.list.addItem(item)
        self.list.verticalScrollBar().setValue(top)
        self.begin_at(chosen or (ordered[0] if ordered else ""))
        self.list.blockSignals(False)
        self._narrow()
        self._show_look()

    @property
    def chosen(self) -> str:
        """The column that is selected; empty if none is."""
        item = self.list.currentItem()
        return str(item.data(Qt.ItemDataRole.UserRole)) if item is not None else ""

    def begin_at(self, part: str) -> None:
        """Show how a column looks."""
        for n in range(self.list.count()):
            if self.list.item(n).data(Qt.ItemDataRole.UserRole) == part:
                self.list.setCurrentRow(n)

    def _narrow(self) -> None:
        narrow(self.list, self.narrow.text())

    def _read(self) -> None:
        items = [self.list.item(n) for n in range(self.list.count())]
        order = tuple(str(item.data(Qt.ItemDataRole.UserRole)) for item in items)
        off = [item for item in items if item.checkState() == Qt.CheckState.Unchecked]
        if len(off) == len(items):
            self.refresh()
            return
        hidden = tuple(str(item.data(Qt.ItemDataRole.UserRole)) for item in off)
        self._put(tr("Change columns"), order=order if order != tuple(self.names()) else (), hidden=hidden)

    def _put(self, name: str, **changes: object) -> None:
        if self.step is not None:
            self.put(replace(self.step, **changes), name)  # type: ignore[arg-type]

    # --- how one looks -----------------------------------------------------------------------------------------

    def _set(self, **changes: object) -> None:
        step, name = self.step, self.chosen
        if step is not None and name:
            self.put(step.with_look(name, replace(step.look(name), **changes)), tr("Change look"))  # type: ignore[arg-type]

    def _pin(self, on: bool) -> None:
        step, name = self.step, self.chosen
        if step is not None and name:
            self._put(tr("Pin column"), pinned=(*(n for n in step.pinned if n != name), *((name,) if on else ())))

    def _show_look(self) -> None:
        step, name = self.step, self.chosen
        field = next((f for f in self.fields() if f.name == name), None)
        clear(self._look)
        if step is None or field is None:
            return
        look = step.look(name)
        self._look.addWidget(label(tr("Format of {name}", name=name), "muted", 12))
        title = QLineEdit(look.title)
        title.setPlaceholderText(name)
        title.setAccessibleName(tr("Title"))
        title.editingFinished.connect(lambda: self._set(title=title.text().strip()))
        pinned = combo(
            [("", tr("scrolls")), ("on", tr("stays at the left"))], "on" if name in step.pinned else "", tr("Place")
        )
        pinned.activated.connect(lambda _: self._pin(bool(pinned.currentData())))
        self._line(tr("Title"), title, pinned)
        for text, *parts in self._fields_for(field, look):
            self._line(text, *parts)
        align = self._choice(
            [("", tr("as usual")), ("left", tr("left")), ("centre", tr("centre")), ("right", tr("right"))],
            look.align,
            tr("Align"),
            lambda v: self._set(align=v),
        )
        paint = self._choice(
            [("", tr("no paint")), ("bars", tr("bars")), ("scale", tr("shades"))],
            look.paint,
            tr("Paint"),
            lambda v: self._set(paint=v),
        )
        paint.setEnabled(field.kind.is_amount)
        self._line(tr("Align"), align, paint)

    def _fields_for(self, field: Field, look: ColumnFormat) -> list[tuple[str, *tuple[QWidget, ...]]]:
        kind = field.kind
        if kind.is_number:
            style = self._choice(
                [
                    ("", tr("number")),
                    ("percent", tr("percent")),
                    ("bytes", tr("bytes, kB, MB")),
                    ("scientific", "1.2e+03"),
                ],
                look.style,
                tr("Numbers as"),
                lambda v: self._set(style=v),
            )
            digits = [
                ("", tr("all digits")),
                *((str(n), trn("{n} decimal", "{n} decimals", n, n=n)) for n in range(7)),
            ]
            decimals = self._choice(digits, "" if look.decimals is None else str(look.decimals), tr("Decimals"),
                                    lambda v: self._set(decimals=int(v) if v else None))  # fmt: skip
            groups = self._choice(
                [("", tr("as usual")), ("on", "1 000 000"), ("off", "1000000")],
                "" if look.groups is None else "on" if look.groups else "off", tr("Thousands"),
                lambda v: self._set(groups={"": None, "on": True, "off": False}[v]),
            )  # fmt: skip
            return [(tr("Number"), style, decimals), (tr("Thousands"), groups)]
        if kind is Kind.BOOL:
            words = self._choice(_WORDS, ",".join(look.words), tr("Words"),
                                 lambda v: self._set(words=tuple(v.split(",")) if v else ()))  # fmt: skip
            return [(tr("Words"), words)]
        if not (kind.is_moment or kind is Kind.CLOCK):
            return []
        offered = _PATTERNS[Kind.TIME if kind is Kind.ZONED else kind]
        pattern = self._typed([*offered], look.pattern, tr("Pattern"), lambda v: self._set(pattern=v))
        pattern.setToolTip(tr("Unicode date pattern: yyyy MM dd HH mm ss SSS, MMM and EEE for names, 'text' in quotes"))
        if kind is not Kind.ZONED:
            return [(tr("Pattern"), pattern)]
        zone = self._typed(sorted(available_timezones()), look.zone, tr("Time zone"), lambda v: self._set(zone=v))
        return [(tr("Pattern"), pattern), (tr("Zone"), zone)]

    @staticmethod
    def _choice(
        choices: Iterable[str | tuple[str, str]], value: str, name: str, take: Callable[[str], object]
    ) -> QComboBox:
        combo_box = combo(choices, value, name)
        combo_box.activated.connect(lambda _: take(combo_box.currentData()))
        return combo_box

    @staticmethod
    def _typed(choices: list[str], value: str, name: str, take: Callable[[str], object]) -> QComboBox:
        combo_box = combo(["", *choices], value, name)
        combo_box.setEditable(True)
        editor, completer = combo_box.lineEdit(), QCompleter(choices, combo_box)
        assert editor is not None
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        completer.setFilterMode(Qt.MatchFlag.MatchContains)
        combo_box.setCompleter(completer)
        editor.setPlaceholderText(tr("as usual"))
        editor.setText(value)
        editor.editingFinished.connect(lambda: editor.text().strip() != value and take(editor.text().strip()))
        return combo_box

    def _line(self, text: str, *parts: QWidget) -> None:
        word = label(text, "muted")
        word.setFixedWidth(74)
        for part in parts:
            part.setFixedWidth(130 if len(parts) > 1 else 200)
        self._look.addLayout(row(word, *parts, None, space=6))
