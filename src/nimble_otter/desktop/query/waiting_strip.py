"""What stands above a pull that comes from elsewhere: whom it would ask, until Run is pressed once."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QWidget

from nimble_otter.desktop.kit.widgets import label, row
from nimble_otter.desktop.pulls.open_pull import OpenPull
from nimble_otter.translation import tr


class WaitingStrip(QWidget):
    """Stands under the head of the query."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("caution")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.words = label("", "amber", 12, wrap=True)
        self.setLayout(row(self.words, margins=(12, 4, 12, 4)))
        self.setAccessibleName(tr("A pull that was not run here before"))
        self.hide()

    def show_pull(self, open_pull: OpenPull) -> None:
        """Bring it up to date with a pull."""
        self.setVisible(open_pull.waits)
        if open_pull.waits:
            source = open_pull.hub.known(open_pull.pull.source)
            marks = [source.stage] if source.stage else []
            marks += ["read-only"] if source.is_read_only else []
            text = f" ({', '.join(marks)})" if marks else ""
            name = (
                "" if source.name == source.url else tr("{source_name}{text} at ", source_name=source.name, text=text)
            )
            self.words.setText(
                tr(
                    "Not run here before: nothing is queried until you press Run. It queries {name}{url}",
                    name=name,
                    url=source.url,
                )
            )
