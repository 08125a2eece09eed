"""A query in pieces: the tables as cards, and beside them its columns, conditions, order and limit."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPoint, QSize, Qt, QTimer, Signal
from PySide6.QtWidgets import QSplitter, QStackedWidget, QWidget

from nimble_otter.desktop.kit.picker import Choice, Picker
from nimble_otter.desktop.kit.widgets import boxed, button, column, label, row
from nimble_otter.desktop.query.pieces_cards import Cards
from nimble_otter.desktop.query.pieces_rows import PieceRows
from nimble_otter.desktop.query.query_host import Asked, QueryHost
from nimble_otter.errors import QueryError
from nimble_otter.query.pieces.conditions import add_condition, literal
from nimble_otter.query.pieces.edits import Route, add_table, column_said, routes, ticked
from nimble_otter.query.pieces.model import QueryModel, read_pieces
from nimble_otter.query.sql.names import names_of
from nimble_otter.translation import tr

_PREVIEW_MS = 700
_MOST_TABLES = 20_000


class PiecesView(QWidget):
    """`changed` when the text was changed by a piece; `preview_wanted` when it stayed so for a moment."""

    changed = Signal()
    preview_wanted = Signal()

    def minimumSizeHint(self) -> QSize:
        """The editor stands in the same place: it must not be as wide as the cards."""
        return QSize(240, super().minimumSizeHint().height())

    def __init__(self, drawer: QueryHost) -> None:
        super().__init__()
        self._drawer = drawer
        self.asked = Asked()
        self._seen: tuple[object, ...] = ()
        self.cards = Cards(self)
        self.rows = PieceRows(self)
        both = QSplitter(Qt.Orientation.Horizontal)
        both.setHandleWidth(1)
        both.setChildrenCollapsible(False)
        both.addWidget(self.cards)
        both.addWidget(self.rows)
        both.setStretchFactor(0, 1)
        both.setSizes([430, 420])
        self.why_not = label("", "muted", wrap=True)
        to_text = button(tr("Show the text"), lambda: drawer.show_text(), "link")
        empty = boxed(column(self.why_not, row(to_text, None), None, space=8, margins=(16, 14, 16, 8)))
        self._pages = QStackedWidget()
        self._pages.addWidget(both)
        self._pages.addWidget(empty)
        self.setLayout(column(self._pages, space=0))
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_PREVIEW_MS)
        self._later.timeout.connect(self.preview_wanted)

    # --- filling -----------------------------------------------------------------------------------------------

    def quoted(self, name: str) -> str:
        """A name as the source writes it; paths into documents stay as they are."""
        is_path = self._drawer.open_pull is not None and self._drawer.open_pull.is_documents and "." in name
        return name if is_path else self._drawer.editor.quoted(name)

    def refresh(self) -> None:
        """Read the text again, where it or the catalogue changed."""
        editor, names = self._drawer.editor, self._drawer.help.names()
        caret = editor.textCursor().position()
        mark = (editor.text, caret, id(names), id(self._drawer.open_pull))
        if mark == self._seen:
            return
        self._seen = mark
        before = self.asked
        self.asked = Asked(read_pieces(editor.text, caret, names or names_of(())), names or names_of(()),
                           self._drawer.help.dialect)  # fmt: skip
        self._pages.setCurrentIndex(1 if self.asked.pieces.why_not else 0)
        if self.asked.pieces.why_not:
            self.why_not.setText(tr("{why_not} It is kept as text.", why_not=self.asked.pieces.why_not))
            return
        if before.pieces != self.asked.pieces or before.names is not self.asked.names:
            self.cards.fill()
            self.rows.fill()

    def change(self, make: Callable[[QueryModel], str]) -> bool:
        """Change the text by a piece, as one step of undo; False, and said, where it can't be done."""
        try:
            text = make(self.asked.pieces)
        except QueryError as problem:
            self._drawer.say(str(problem))
            return False
        if text == self.asked.pieces.text:
            return True
        editor, start = self._drawer.editor, self.asked.pieces.start
        editor.replace_text(text)
        cursor = editor.textCursor()
        cursor.setPosition(min(start, len(text)))
        editor.setTextCursor(cursor)
        self.changed.emit()
        self.refresh()
        self._later.start()
        return True

    # --- tables and values that come from elsewhere ------------------------------------------------------------

    def pick_table(self, at: QPoint) -> Picker:
        """Offer the tables of the source, first those that a key leads to."""
        pieces, names = self.asked.pieces, self.asked.names
        near, others = [], []
        for table in names.tables[:_MOST_TABLES]:
            if table.kind in ("routine", "sequence"):
                continue
            ways = routes(pieces, names, table.name) if len(pieces.cards) < 12 else []
            near += [Choice(table.name, tr("by {said}", said=way.said), (table.name, way)) for way in ways]
            if not ways:
                others.append(Choice(table.name, tr("no key") if pieces.cards else table.kind, (table.name, None)))
        return Picker(self, tr("Add a table"), [*near, *others], lambda data: self.add_table(*data)).open_at(at)

    def add_table(self, table: str, route: Route | None = None) -> bool:
        """Add a table to the query, joined by a route; whether it was done."""
        done = self.change(lambda p: add_table(p, self.asked.names, table, self.quoted, route))
        if done:
            QTimer.singleShot(0, self, self.cards.reveal_last)
        return done

    def take_table(self, table: str, at: QPoint) -> None:
        """A table dropped on the pieces: joined along its only key, or along one that is chosen."""
        known = self.asked.names.table(table)
        if known is None:
            self._drawer.say(tr("{table} is not a table of this source.", table=table))
            return
        ways = routes(self.asked.pieces, self.asked.names, known.name)
        if len(ways) < 2:
            self.add_table(known.name, ways[0] if ways else None)
            return
        choices = [Choice(known.name, tr("by {said}", said=way.said), (known.name, way)) for way in ways]
        Picker(self, tr("Join by"), choices, lambda data: self.add_table(*data)).open_at(at)

    def take_field(self, table: str, name: str, at: QPoint) -> None:
        """A column dropped on the pieces: ticked; a key brings the table it refers to, and its own one first."""
        known = self.asked.names.table(table)
        if known is None:
            self._drawer.say(tr("{table} is not a table of this source.", table=table))
            return
        key = next((k for k in known.keys if name in k.columns), None)
        here = [c for c in self.asked.pieces.cards if c.table == known.name]
        if not here:
            self.take_table(known.name, at)
            return
        if key is not None:
            target = self.asked.names.table(key.target)
            ways = routes(self.asked.pieces, self.asked.names, target.name if target is not None else key.target)
            pairs = tuple(zip(key.columns, key.referred, strict=True))
            way = next((w for w in ways if w.pairs == pairs and w.card.table == known.name), None)
            if way is not None and target is not None:
                self.add_table(target.name, way)
                return
        if not ticked(self.asked.pieces, here[0], self.asked.names) & {name.casefold(), "*"}:
            self.cards.tick(here[0], name, True)

    def take_value(self, table: str, name: str, said: str) -> None:
        """A value dropped on the pieces: a condition on its column."""
        card = next((c for c in self.asked.pieces.cards if c.table == table), None)
        if card is None or not name:
            self._drawer.say(tr("This value's column is not traced to a table of the query."))
            return
        left = column_said(self.asked.pieces, card, name, self.quoted)
        test = f"{left} is null" if said == literal(None, "") else f"{left} = {said}"
        self.change(lambda p: add_condition(p, "where", test))

    def values(self, said: str) -> list[str]:
        """Values seen lately of a column as it is written in the query."""
        alias, _, name = said.replace('"', "").replace("`", "").rpartition(".")
        for card in self.asked.pieces.cards:
            if not alias or card.alias.casefold() == alias.casefold():
                for column_name, _ in self.asked.columns(card):
                    if column_name.casefold() == name.casefold():
                        return self._drawer.help.values(card.table, column_name)
        return []

    def begin_condition(self, left: str) -> None:
        """A condition on a column, to be gone on with."""
        self.rows.begin("where", left)

    def edit_join(self, at: int) -> None:
        """Go to the join of a card as text."""
        self.rows.focus(f"join {at}")

    def tell(self, text: str) -> None:
        """Say something in the drawer."""
        self._drawer.say(text)

    def show_text(self, at: int) -> None:
        """Go to the text, at a place of it."""
        self._drawer.show_text(at)

    def focus_first(self) -> None:
        """Put the keyboard on the first card."""
        self.cards.focus_first()
