"""The columns, conditions, joins and order of a query in pieces, one line each; and what is kept as text."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QCompleter,
    QHBoxLayout,
    QLineEdit,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from nimble_otter.desktop.kit.picker import Choice, Picker
from nimble_otter.desktop.kit.theme import code_font
from nimble_otter.desktop.kit.widgets import as_plain, boxed, button, clear, column, combo, label, row
from nimble_otter.desktop.query.query_host import PiecesHost
from nimble_otter.query.pieces import conditions, edits
from nimble_otter.query.pieces.model import Group, Predicate, QueryModel
from nimble_otter.query.sql.scopes import tokens_of
from nimble_otter.translation import tr, tr_value

_FIGURES = [
    ("", tr("as it is")),
    ("count", tr("count")),
    ("count distinct", tr("distinct")),
    ("sum", tr("sum")),
    ("avg", tr("mean")),
    ("min", tr("min")),
    ("max", tr("max")),
]
_INDENT = 18
_NAMED = 96
_TEXTS = ("text", "time", "date", "uuid")
_UNARY = ("is null", "is not null")


@dataclass(frozen=True, slots=True)
class _Draft:
    """A condition or expression that is being written and is no part of the text yet."""

    clause: str
    left: str = ""
    path: tuple[int, ...] = ()
    word: str = ""


class PieceRows(QScrollArea):
    """Every field changes the text when it is left or Enter is pressed."""

    def __init__(self, view: PiecesHost) -> None:
        super().__init__()
        self._view = view
        self._draft: _Draft | None = None
        self._filling = False
        self.setWidgetResizable(True)
        self.setMinimumWidth(380)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._lines = QVBoxLayout()
        self._lines.setSpacing(4)
        self.distinct, self.limit, self.preview = QCheckBox(tr("Distinct")), QLineEdit(), QCheckBox(tr("Preview"))
        self.distinct.setToolTip(tr("Remove duplicate rows"))
        self.preview.setToolTip(tr("Show the first rows whenever a piece changes; Run pulls all of them"))
        self.preview.setChecked(True)
        self.limit.setAccessibleName(tr("Limit in the query"))
        self.limit.setPlaceholderText(tr("none"))
        self.limit.setFixedWidth(84)
        self.limit.editingFinished.connect(self._limited)
        self.distinct.clicked.connect(self._set_distinct)
        foot = row(self.distinct, 10, label(tr("Limit"), "muted"), self.limit, None, self.preview, space=8)
        self.place = QVBoxLayout()
        self.setWidget(boxed(column(self._lines, self.place, foot, None, space=10, margins=(12, 8, 12, 8)), "raised"))

    def _body(self) -> QWidget:
        body = self.widget()
        assert body is not None
        return body

    @property
    def _pieces(self) -> QueryModel:
        return self._view.asked.pieces

    def _change(self, make: Callable[[QueryModel], str]) -> bool:
        """Change the text; where it can't be done, fields go back to what the text says."""
        if self._filling:
            return False
        done = self._view.change(make)
        if not done:
            QTimer.singleShot(0, self, self.fill)
        return done

    # --- filling -----------------------------------------------------------------------------------------------

    def fill(self) -> None:
        """Make the lines anew, with the keyboard where it was."""
        held = self.focusWidget()
        name = held.objectName() if held is not None and held.hasFocus() else ""
        bar = self.verticalScrollBar().value()
        self._filling = True
        clear(self._lines)
        pieces = self._pieces
        self._columns(pieces)
        self._conditions("where", "Where", pieces.where)
        if pieces.has_aggregates or pieces.having is not None:
            self._conditions("having", "Having", pieces.having)
        self._order(pieces)
        self._joins(pieces)
        self._kept(pieces)
        self.distinct.setChecked(pieces.is_distinct)
        if not self.limit.hasFocus():
            self.limit.setText(pieces.limit)
        self._filling = False
        if name and not self.focus(name):
            titles = {"select": "Columns", "where": "Where", "having": "Having", "order": "Order"}
            self.focus(f"add {titles.get(name.partition(' ')[0], 'Where')}")
        QTimer.singleShot(0, self, lambda: self.verticalScrollBar().setValue(bar))

    def focus(self, name: str) -> bool:
        """Put the keyboard into a field by its name, such as `where 0 right`; False where there is none."""
        widget = self._body().findChild(QWidget, name)
        if widget is not None:
            if not widget.testAttribute(Qt.WidgetAttribute.WA_WState_ExplicitShowHide):
                widget.show()  # one just made is not seen yet, and takes no keyboard
            widget.setFocus()
            QTimer.singleShot(0, widget, lambda: self.ensureWidgetVisible(widget))  # once the lines have their places
        return widget is not None

    def _head(self, title: str, note: str, add: str, do: Callable[[], object], tip: str) -> None:
        made = button(add, do, "link", tip)
        made.setObjectName(f"add {title}")
        self._lines.addLayout(
            row(label(tr_value(title), bold=True, px=12), label(note, "faint", 11), None, made, space=8)
        )

    def _field(self, name: str, text: str, done: Callable[[str], object], hint: str, is_code: bool = True) -> QLineEdit:
        line_edit = QLineEdit(text)
        line_edit.setObjectName(name)
        line_edit.setAccessibleName(hint)
        line_edit.setPlaceholderText(hint)
        line_edit.setCursorPosition(0)
        if is_code:
            line_edit.setFont(code_font())
        line_edit.editingFinished.connect(lambda: done(line_edit.text()) if line_edit.text() != text else None)
        return line_edit

    def _movers(self, clause: str, at: int, what: str) -> list[QWidget]:
        buttons = [
            button(
                "↑",
                lambda: self._change(lambda p: edits.move_item(p, clause, at, -1)),
                "plain",
                tr("Move {what} up", what=what),
            ),
            button(
                "↓",
                lambda: self._change(lambda p: edits.move_item(p, clause, at, 1)),
                "plain",
                tr("Move {what} down", what=what),
            ),
            button(
                "×",
                lambda: self._change(lambda p: edits.remove_item(p, clause, at)),
                "plain",
                tr("Remove {what}", what=what),
            ),
        ]
        for name, mover in zip(("up", "down", "remove"), buttons, strict=True):
            mover.setObjectName(f"{clause} {at} {name}")
            mover.setFixedWidth(22)
        return list(buttons)

    # --- columns -----------------------------------------------------------------------------------------------

    def _columns(self, pieces: QueryModel) -> None:
        groups = ", ".join(item.said for item in pieces.groups)
        note = tr("grouped by {groups}", groups=groups) if groups else ""
        self._head("Columns", note if len(note) < 44 else note[:43] + "…", tr("+ Expression"), self.begin_expression,
                   tr("Add a computed column"))  # fmt: skip
        for at, item in enumerate(pieces.items):
            line_edit = self._field(f"select {at} said", item.said, partial(self._said, "select", at), tr("Expression"))
            if item.is_star:
                line_edit.setReadOnly(True)
                whose = label(tr("all columns{alias}", alias=" of " + item.alias if item.alias else ""), "muted")
                self._lines.addLayout(
                    self._row(line_edit, whose, *self._movers("select", at, tr("all columns")), stretch=0)
                )
                continue
            figure = combo(_FIGURES, item.function, tr("Aggregate of {said}", said=item.said))
            figure.setObjectName(f"select {at} aggregate")
            figure.setFixedWidth(80)
            figure.activated.connect(partial(self._figured, at, figure))
            figure.setEnabled(item.role != "window" and (bool(item.function) or item.role == "key"))
            name = self._field(f"select {at} name", item.label, partial(self._named, at), "name", False)
            name.setFixedWidth(_NAMED)
            self._lines.addLayout(self._row(line_edit, figure, name, *self._movers("select", at, item.said), stretch=0))
        if self._draft is not None and self._draft.clause == "select":
            made = self._field("draft", "", self._expression_written, tr("Expression, such as round(level_m, 1)"))
            self._lines.addLayout(self._row(made, self._leave(), stretch=0))

    @staticmethod
    def _row(*parts: QWidget, stretch: int, indent: int = 0) -> QHBoxLayout:
        layout = row(*parts, space=4, margins=(indent, 0, 0, 0))
        layout.setStretch(stretch, 1)
        return layout

    def _said(self, clause: str, at: int, text: str) -> None:
        dialect = self._view.asked.dialect
        self._change(lambda p: edits.set_said(p, clause, at, edits.one_expression(text, dialect)))

    def _figured(self, at: int, made: QComboBox, _: int) -> None:
        self._change(lambda p: edits.set_function(p, at, made.currentData(), self._view.quoted))

    def _named(self, at: int, text: str) -> None:
        self._change(lambda p: edits.rename_item(p, at, text, self._view.quoted))

    def begin_expression(self) -> None:
        """Begin a new expression of the result."""
        self._begin(_Draft("select"))

    def _expression_written(self, text: str) -> None:
        dialect = self._view.asked.dialect
        draft, self._draft = self._draft, None
        if text.strip() and not self._change(lambda p: edits.add_item(p, edits.one_expression(text, dialect))):
            self._draft = draft
        self.fill()

    # --- conditions --------------------------------------------------------------------------------------------

    def _conditions(self, clause: str, title: str, top: Predicate | Group | None) -> None:
        self._head(title, "", tr("+ Condition"), lambda: self.begin(clause), tr("Add a condition"))
        if top is not None:
            self._node(clause, top, ())
        draft = self._draft
        if draft is not None and draft.clause == clause and not draft.path:
            self._leaf_row(clause, Predicate("", 0, 0, draft.left, "="), None, 0)

    def _node(self, clause: str, node: Predicate | Group, path: tuple[int, ...]) -> None:
        indent = _INDENT * len(path)
        draft = self._draft
        if isinstance(node, Predicate):
            self._leaf_row(clause, node, path, indent)
        else:
            word = combo(
                [("and", tr("all of")), ("or", tr("any of"))], node.word, tr("How the conditions are combined")
            )
            word.setObjectName(f"{clause} {_path(path)} word")
            word.setFixedWidth(86)
            word.activated.connect(
                lambda _: self._change(lambda p: conditions.set_word(p, clause, path, word.currentData()))
            )
            add = button("+", lambda: self.begin(clause, "", path, ""), "plain", tr("Add a condition to these"))
            parts: list[QWidget] = [word, label(tr("these"), "muted"), add]
            if path:
                parts.append(self._remover(clause, path, tr("these conditions")))
            self._lines.addLayout(row(*parts, None, space=4, margins=(indent, 0, 0, 0)))
            for index, part in enumerate(node.parts):
                self._node(clause, part, (*path, index))
        if draft is not None and draft.clause == clause and draft.path == path and path:
            self._leaf_row(clause, Predicate("", 0, 0, draft.left, "="), None, indent + _INDENT)

    def _remover(self, clause: str, path: tuple[int, ...], what: str) -> QWidget:
        made = button(
            "×",
            lambda: self._change(lambda p: conditions.remove_condition(p, clause, path)),
            "plain",
            tr("Remove {what}", what=what),
        )
        made.setObjectName(f"{clause} {_path(path)} remove")
        made.setFixedWidth(22)
        return made

    def _leaf_row(self, clause: str, leaf: Predicate, path: tuple[int, ...] | None, indent: int) -> None:
        """A condition; `path` None for the one that is being written."""
        name = f"{clause} {_path(path)}" if path is not None else "draft"
        if path is not None and not leaf.sign:
            whole = self._field(f"{name} left", leaf.text, partial(self._whole_written, clause, path), tr("Condition"))
            self._lines.addLayout(self._row(whole, self._remover(clause, path, leaf.text), stretch=0, indent=indent))
            return
        left = QComboBox()
        left.setEditable(True)
        left.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        left.addItems(self._choices(clause))
        left.setCurrentText(leaf.left)
        left.setObjectName(f"{name} column")
        left.setAccessibleName(tr("Column"))
        left.setFont(code_font())
        left.setMinimumWidth(60)
        left.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        typed = left.lineEdit()
        assert typed is not None
        typed.setPlaceholderText(tr("column"))
        typed.setCursorPosition(0)
        signs = list(conditions.SIGNS)
        sign = combo(signs if leaf.sign in signs else [leaf.sign, *signs], leaf.sign, tr("Comparison"))
        sign.setObjectName(f"{name} sign")
        sign.setFixedWidth(106)
        right = QLineEdit(leaf.right)
        right.setFont(code_font())
        right.setCursorPosition(0)
        right.setObjectName(f"{name} right")
        right.setAccessibleName(tr("Value"))
        right.setPlaceholderText(tr("value, or :parameter"))
        if leaf.sign in _UNARY:
            right.hide()
        self._offer_values(right, leaf.left)

        def written() -> None:
            self._written(clause, path, leaf, left.currentText(), sign.currentText(), right.text())

        def signed() -> None:
            needs = sign.currentText() not in _UNARY
            right.setVisible(needs)
            if needs and not right.text().strip():
                right.setFocus()
            elif left.currentText().strip():
                written()

        def chosen() -> None:
            self._offer_values(right, left.currentText())
            if right.text().strip() or sign.currentText() in _UNARY:
                written()
            else:
                right.setFocus()

        left.activated.connect(lambda _: chosen())
        typed.editingFinished.connect(
            lambda: written() if right.text().strip() and left.currentText() != leaf.left else None
        )
        sign.activated.connect(lambda _: signed())
        right.editingFinished.connect(lambda: written() if right.text() != leaf.right else None)
        parts: list[QWidget] = [left, sign, right]
        if path is not None:
            either = button(
                tr("or"), lambda: self.begin(clause, leaf.left, path, "or"), "plain", tr("Add an alternative to it")
            )
            either.setObjectName(f"{name} or")
            parts += [either, self._remover(clause, path, leaf.text)]
        else:
            parts.append(self._leave())
        layout = self._row(*parts, stretch=0, indent=indent)
        layout.setStretch(2, 1)
        self._lines.addLayout(layout)

    def _leave(self) -> QWidget:
        made = button("×", self._drop_draft, "plain", tr("Leave it"))
        made.setFixedWidth(22)
        return made

    def _drop_draft(self) -> None:
        self._draft = None
        self.fill()

    def _choices(self, clause: str) -> list[str]:
        """Columns that a condition can be of."""
        pieces, names = self._pieces, list[str]()
        if clause == "having":
            names += [item.said for item in pieces.items if item.role == "figure"] or ["count(*)"]
        for card in pieces.cards:
            for name, _ in self._view.asked.columns(card):
                names.append(edits.column_said(pieces, card, name, self._view.quoted))
        return names

    def _offer_values(self, right: QLineEdit, left: str) -> None:
        values = self._view.values(left)
        if values:
            completer = QCompleter(values, right)
            completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
            completer.setFilterMode(Qt.MatchFlag.MatchContains)
            right.setCompleter(completer)

    def _written(
        self, clause: str, path: tuple[int, ...] | None, leaf: Predicate, left: str, sign: str, right: str
    ) -> None:
        if self._filling:
            return
        known, dialect = self._view.asked.known(), self._view.asked.dialect

        def said() -> str:
            subject = edits.one_expression(left, dialect)
            if sign in _UNARY:
                return conditions.said_of(subject, sign, "")
            if path is not None and right == leaf.right and sign == leaf.sign:
                return conditions.said_of(subject, sign, right)
            plain = "".join(t.plain for t in tokens_of(left)).casefold()
            is_text = known.get(plain, "") in _TEXTS
            return conditions.said_of(subject, sign, conditions.value_said(right, sign, is_text, known, dialect))

        if path is not None:
            self._change(lambda p: conditions.set_condition(p, clause, path, said()))
            return
        draft, self._draft = self._draft, None
        if draft is None:
            return
        if not self._change(lambda p: conditions.add_condition(p, clause, said(), draft.path, draft.word)):
            self._draft = draft
        else:
            self.fill()

    def _whole_written(self, clause: str, path: tuple[int, ...], text: str) -> None:
        dialect = self._view.asked.dialect
        self._change(lambda p: conditions.set_condition(p, clause, path, edits.one_expression(text, dialect)))

    def begin(self, clause: str, left: str = "", path: Sequence[int] = (), word: str = "") -> None:
        """Open a line for a new condition."""
        self._begin(_Draft(clause, left, tuple(path), word))
        if left:
            self.focus("draft right")

    def _begin(self, draft: _Draft) -> None:
        if not self._pieces.cards and draft.clause != "select":
            self._view.tell(tr("Add a table first."))
            return
        self._draft = draft
        self.fill()
        self.focus("draft" if draft.clause == "select" else "draft column")

    # --- order, joins, text ------------------------------------------------------------------------------------

    def _order(self, pieces: QueryModel) -> None:
        self._head("Order", "", tr("+ Key"), self._offer_order, tr("Add a key to order by"))
        for at, item in enumerate(pieces.orders):
            line_edit = self._field(f"order {at} said", item.said, partial(self._said, "order", at), tr("Key"))
            is_down = item.way.startswith("desc")
            turn = partial(self._change, partial(edits.turn_order, at=at))
            way = button(tr("descending ↓") if is_down else tr("ascending ↑"), turn, "", tr("Reverse the order"))
            way.setObjectName(f"order {at} way")
            way.setFixedWidth(110)
            rest = item.way.partition("nulls")[2].strip()
            line_edit.setToolTip(as_plain(f"empty {rest}" if rest else ""))
            self._lines.addLayout(self._row(line_edit, way, *self._movers("order", at, item.said), stretch=0))

    def _offer_order(self) -> None:
        used = {item.said for item in self._pieces.orders}
        labels = [i.label or i.column for i in self._pieces.items if i.label or i.function]
        names = [self._view.quoted(n) for n in labels if n and n != "*"] + self._choices("where")
        choices = [Choice(n, "", n) for n in dict.fromkeys(names) if n not in used]
        at = self._body().findChild(QWidget, "add Order")
        point = at.mapToGlobal(at.rect().bottomLeft()) if at is not None else self.mapToGlobal(self.rect().center())
        Picker(self, tr("Order by"), choices, lambda n: self._change(lambda p: edits.add_order(p, n))).open_at(point)

    def _joins(self, pieces: QueryModel) -> None:
        """The condition of each join as text: what a line can't show is changed here."""
        joined = [(at, card) for at, card in enumerate(pieces.cards) if card.condition is not None]
        if joined:
            self._lines.addLayout(row(label(tr("Joins"), bold=True, px=12), None))
        for at, card in joined:
            assert card.condition is not None
            kind = label(f"{card.join} {card.alias}", "muted")
            kind.setMinimumWidth(70)
            word, _, rest = card.condition.text.partition(" ")
            is_using = word.lower() != "on"
            line_edit = self._field(f"join {at}", card.condition.text if is_using else rest.strip(),
                               partial(self._joined, at), tr("Condition of the join"))  # fmt: skip
            line_edit.setReadOnly(is_using)
            self._lines.addLayout(self._row(kind, line_edit, stretch=1))

    def _joined(self, at: int, text: str) -> None:
        dialect = self._view.asked.dialect
        self._change(lambda p: edits.set_join_condition(p, at, edits.one_expression(text, dialect)))

    def _kept(self, pieces: QueryModel) -> None:
        for title, span in (
            (tr("Before it, kept as text"), pieces.before),
            (tr("After it, kept as text"), pieces.behind),
        ):
            if span is None:
                continue
            to_text = button(tr("Show in the text"), partial(self._view.show_text, span.start), "link")
            self._lines.addLayout(row(label(tr_value(title), bold=True, px=12), None, to_text))
            lines = span.text.split("\n")
            said = label("\n".join(line[:60] for line in lines[:4]) + ("\n…" if len(lines) > 4 else ""), "muted")
            said.setFont(code_font(11))
            said.setToolTip(as_plain(span.text[:2000]))
            self._lines.addWidget(said)

    def _set_distinct(self, on: bool) -> None:
        if not self._view.change(lambda p: edits.set_distinct(p, on)):
            self.distinct.setChecked(not on)

    def _limited(self) -> None:
        text = "".join(self.limit.text().split())
        if text != self._pieces.limit and not self._change(lambda p: edits.set_limit(p, text)):
            self.limit.setText(self._pieces.limit)


def _path(path: Sequence[int] | None) -> str:
    return ".".join(map(str, path or ()))
