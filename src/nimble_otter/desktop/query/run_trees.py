"""Two trees beside the query: the server's plan, and what became of each statement of a script."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHeaderView, QTreeWidget, QTreeWidgetItem

from nimble_otter.desktop.kit.theme import theme
from nimble_otter.desktop.kit.widgets import as_plain
from nimble_otter.query.sql.effects import Effect
from nimble_otter.sources.plans import PlanNode
from nimble_otter.sources.script import Outcome
from nimble_otter.table.text.show import grouped, rows_words
from nimble_otter.translation import tr

_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


class _Tree(QTreeWidget):
    """The first column takes the room, figures stand at the right."""

    def __init__(self, name: str, heads: list[str], widths: tuple[int, int]) -> None:
        super().__init__()
        self.setHeaderLabels(heads)
        self.setAccessibleName(name)
        self.setIndentation(14)
        self.setObjectName("rows")
        self.header().setStretchLastSection(False)
        self.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for at, width in enumerate(widths, 1):
            self.setColumnWidth(at, width)
            self.headerItem().setTextAlignment(at, _RIGHT)

    def item(self, texts: list[str], tip: str = "", tone: str = "") -> QTreeWidgetItem:
        tree_widget_item = QTreeWidgetItem(texts)
        tree_widget_item.setToolTip(0, as_plain(tip or texts[0]))
        for at in (1, 2):
            tree_widget_item.setTextAlignment(at, _RIGHT)
        if tone:
            tree_widget_item.setForeground(0, theme[tone])
        return tree_widget_item


class PlanTree(_Tree):
    """The server's plan of a query, with its own details under each step."""

    def __init__(self) -> None:
        super().__init__(tr("The server's plan"), [tr("Step"), tr("Rows"), tr("Cost")], (70, 70))
        self._shown: PlanNode | None = None

    def fill(self, tree: PlanNode | None) -> None:
        """Show a plan; the same one again is left as it stands."""
        if tree is self._shown:
            return
        self._shown = tree
        self.clear()
        above: list[QTreeWidgetItem] = []
        nodes = [] if tree is None else list(tree.lines())
        for depth, node in nodes:
            rows = "" if node.rows is None else grouped(round(node.rows))
            cost = "" if node.cost is None else f"{node.cost:,.1f}".replace(",", " ")
            item = self.item([node.name, rows, cost], f"{node.name}\n{node.detail}" if node.detail else "")
            del above[depth:]
            above[-1].addChild(item) if above else self.addTopLevelItem(item)
            above.append(item)
            if node.detail:
                item.addChild(self.item([node.detail], tone="muted"))
        self.expandAll()
        self.setColumnHidden(1, all(node.rows is None for _, node in nodes))
        self.setColumnHidden(2, all(node.cost is None for _, node in nodes))


class OutcomesList(_Tree):
    """`chosen` has the number of the statement, and of its result where a call gave several."""

    chosen = Signal(int, int)

    def __init__(self) -> None:
        super().__init__(tr("Statements that ran"), [tr("Statement"), tr("Result"), tr("Time")], (110, 60))
        self._shown: Sequence[Outcome] = ()
        self.itemClicked.connect(lambda item, _: self._choose(item))
        self.itemActivated.connect(lambda item, _: self._choose(item))

    def fill(self, outcomes: Sequence[Outcome]) -> None:
        """Show what became of each statement of a script; of one that goes on, what is new is put behind the rest."""
        if outcomes is self._shown:
            return
        known = len(self._shown)
        if known > len(outcomes) or any(one is not other for one, other in zip(self._shown, outcomes, strict=False)):
            known = 0
            self.clear()
        self._shown = outcomes
        for number, outcome in enumerate(outcomes[known:], known):
            text = outcome.statement.text
            first = self.item([" ".join(text.split())[:200], _became(outcome), f"{outcome.seconds:.2f} s"], text[:2000])
            self._mark(first, number, 0)
            if outcome.error is not None:
                first.setForeground(1, theme["plum"])
                first.addChild(self.item([str(outcome.error)], tone="plum"))
            for index, more in enumerate(outcome.more, 1):
                child = self.item(
                    [tr("result {index}", index=index + 1), tr("{rows} rows", rows=grouped(more.table.rows)), ""]
                )
                self._mark(child, number, index)
                first.addChild(child)
            for message in outcome.messages[:50]:
                first.addChild(self.item([message], tone="muted"))
            self.addTopLevelItem(first)
            first.setExpanded(True)

    @staticmethod
    def _mark(item: QTreeWidgetItem, number: int, place: int) -> None:
        item.setData(0, Qt.ItemDataRole.UserRole, (number, place))

    def _choose(self, item: QTreeWidgetItem) -> None:
        above = item.parent() or item
        marked = item.data(0, Qt.ItemDataRole.UserRole) or above.data(0, Qt.ItemDataRole.UserRole)
        self.chosen.emit(*marked)


def _became(outcome: Outcome) -> str:
    """What became of a statement, in two words."""
    if outcome.error is not None:
        return tr("Error")
    if outcome.fetched is not None:
        rows = outcome.fetched.table.rows
        words = rows_words(rows)
        return tr("{rows} (cut)", rows=words) if outcome.fetched.was_cut else words
    if outcome.affected is not None and outcome.effect is Effect.ROWS:
        return tr("{affected} written", affected=grouped(outcome.affected))
    return tr("done")
