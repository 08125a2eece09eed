"""What the parts of the query drawer know of it, and what pieces know of the view they stand in."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Protocol

from PySide6.QtCore import QPoint

from nimble_otter.desktop.kit.editor import SqlEditor
from nimble_otter.desktop.kit.find_bar import FindBar
from nimble_otter.desktop.kit.picker import Picker
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.desktop.query.query_help import QueryHelp
from nimble_otter.query.pieces.model import QueryModel, TableRef
from nimble_otter.query.sql.names import Names, names_of


class QueryHost(Protocol):
    """The query drawer, for what belongs to it."""

    open_pull: OpenPull | None
    editor: SqlEditor
    help: QueryHelp
    finder: FindBar

    def say(self, text: str) -> None:
        """Why something could not be done with the text."""

    def show_text(self, at: int | None = None) -> None:
        """Back to the text, with the caret at a place of it."""


@dataclass(slots=True)
class Asked:
    """What pieces ask of the query drawer: its pieces now, the names of the source, and how they are written."""

    pieces: QueryModel = field(default_factory=lambda: QueryModel(""))
    names: Names = field(default_factory=lambda: names_of(()))
    dialect: str = ""

    def columns(self, card: TableRef) -> tuple[tuple[str, str], ...]:
        """Names and kinds of a card's columns, as far as they are known."""
        known = self.names.table(card.table) if card.table else None
        return known.columns if known is not None else ()

    def known(self) -> dict[str, str]:
        """Every way in which a column of the query can be named (folded), with its kind."""
        found: dict[str, str] = {}
        for card in self.pieces.cards:
            for name, word in self.columns(card):
                found[f"{card.alias}.{name}".casefold()] = word
                found.setdefault(name.casefold(), word)
        for item in self.pieces.items:
            if item.label:
                found.setdefault(item.label.casefold(), "")
        return found


class PiecesHost(Protocol):
    """The view of a query in pieces, for the cards and lines in it."""

    asked: Asked

    def quoted(self, name: str) -> str:
        """A name as the source writes it."""

    def change(self, make: Callable[[QueryModel], str]) -> bool:
        """Change the text by a piece, as one step of undo; False, and said, where it can't be done."""

    def pick_table(self, at: QPoint) -> Picker:
        """Offer the tables of the source."""

    def begin_condition(self, left: str) -> None:
        """A condition on a column, to be gone on with."""

    def edit_join(self, at: int) -> None:
        """Go to the join of a card as text."""

    def take_table(self, table: str, at: QPoint) -> None:
        """A table dropped on the pieces."""

    def take_field(self, table: str, name: str, at: QPoint) -> None:
        """A column dropped on the pieces."""

    def take_value(self, table: str, name: str, said: str) -> None:
        """A value dropped on the pieces."""

    def values(self, said: str) -> list[str]:
        """Values seen lately of a column as it is written in the query."""

    def tell(self, text: str) -> None:
        """Say what was done, or why not."""

    def show_text(self, at: int) -> None:
        """Go to the text, at a place of it."""
