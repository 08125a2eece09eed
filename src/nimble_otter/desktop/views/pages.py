"""Pages in the centre when no pull is shown: the start page, and adding a source."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QRect, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QFileDialog, QFrame, QLineEdit, QVBoxLayout, QWidget

from nimble_otter.desktop.hub import Hub
from nimble_otter.desktop.parts import Segments, button, clear, column, label, row, set_tone
from nimble_otter.desktop.theme import code_font, theme
from nimble_otter.desktop.views.title import paint_mark
from nimble_otter.errors import ConnectError, OtterError
from nimble_otter.sources import Source, driver_for
from nimble_otter.sources.secrets import split_secret
from nimble_otter.sources.source import source_of_file


class StartPage(QWidget):
    """Recent pulls, the sources, where to drop a file."""

    source_opened = Signal(object)
    pull_opened = Signal(Path)
    file_wanted = Signal()
    add_wanted = Signal()

    def __init__(self, hub: Hub) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._hub = hub
        self._recent: list[Path] = []
        self._pulls, self._sources = QVBoxLayout(), QVBoxLayout()
        drop = _DropBox()
        pick = button("Pick a database file", self.file_wanted.emit)
        add = button("Add a document server", self.add_wanted.emit)
        left = column(label("Recent pulls", "muted", 12, True), self._pulls, None, space=8)
        right = column(label("Sources", "muted", 12, True), self._sources, None, space=8)
        title = label("Pull rows, shape them here, deliver them.", px=20, bold=True)
        title.setWordWrap(True)
        under = label("Open a table from a source, or go on with a saved pull.", "muted")
        lists = row(left, right, space=40)
        lists.setStretch(0, 1)
        lists.setStretch(1, 1)
        inner = column(_Mark(), title, under, 14, lists, 10, drop, row(pick, add, None), space=8)
        box = QWidget()
        box.setMaximumWidth(640)
        box.setLayout(inner)
        self.setLayout(row(None, column(None, box, None, None), None, margins=(24, 20, 24, 20)))
        self.layout().setStretch(1, 8)
        hub.changed.connect(lambda _: self.refresh(self._recent))

    def refresh(self, recent: list[Path]) -> None:
        self._recent = recent
        clear(self._pulls)
        for path in recent[:6]:
            made = button(path.stem, partial(self.pull_opened.emit, path), "link", str(path))
            self._pulls.addWidget(made)
        if not recent:
            self._pulls.addWidget(label("None yet. Saved pulls come here.", "faint", wrap=True))
        clear(self._sources)
        for source in self._hub.sources[:8]:
            made = button(source.name, partial(self.source_opened.emit, source), "link")
            self._sources.addLayout(row(made, label(source.word, "faint", 11), None))


class _Mark(QWidget):
    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(52, 48)

    def paintEvent(self, event: QPaintEvent) -> None:
        paint_mark(QPainter(self), QRect(0, 0, 48, 48))


class _DropBox(QFrame):
    """Says that files can be dropped; the whole window takes them."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(58)
        self.setAccessibleName("Drop a database file here")

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        pen = painter.pen()
        pen.setColor(theme["line"])
        pen.setStyle(Qt.PenStyle.DashLine)
        pen.setWidthF(1.4)
        painter.setPen(pen)
        painter.setBrush(theme["paper"])
        painter.drawRoundedRect(self.rect().adjusted(1, 1, -2, -2), 8, 8)
        painter.setPen(theme["muted"])
        painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Drop a database file here")


class SourcePage(QWidget):
    """Adding a source: a file or a server's URI, tested before it is saved."""

    saved = Signal(object)
    closed = Signal()

    def __init__(self, hub: Hub) -> None:
        super().__init__()
        self.setObjectName("surface")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._hub = hub
        self.kind = Segments(["SQLite file", "Document server"], lambda _: self._turn())
        self.kind.setFixedWidth(300)
        self.name, self.url, self.password = QLineEdit(), QLineEdit(), QLineEdit()
        self.name.setPlaceholderText("what it is called in the list")
        self.url.setFont(code_font())
        self.password.setEchoMode(QLineEdit.EchoMode.Password)
        self.password.setPlaceholderText("if the server asks for one")
        for field, name in ((self.name, "Name"), (self.url, "File or URI"), (self.password, "Password")):
            field.setAccessibleName(name)
            field.textEdited.connect(lambda _: self._edited())
        self.pick = button("…", self._pick, tip="Choose a file")
        self.test, self.save = button("Test", self._test), button("Save", self._save, "primary")
        self.outcome = label("", "muted", wrap=True)
        self._url_label = label("File", "muted")
        self._password_line = QWidget()
        self._password_line.setLayout(row(self._named(label("Password", "muted")), self.password))
        note = label(
            "The password goes to the system's keyring, or stays in memory where there is none.", "faint", 12, wrap=True
        )
        self._note = note
        inner = column(
            label("Add a source", px=18, bold=True),
            6,
            self.kind,
            6,
            row(self._named(self._url_label), self.url, self.pick),
            row(self._named(label("Name", "muted")), self.name),
            self._password_line,
            note,
            row(self.test, self.save, button("Close", self.closed.emit), None),
            self.outcome,
            space=9,
        )
        box = QWidget()
        box.setMaximumWidth(560)
        box.setLayout(inner)
        self.setLayout(row(None, column(24, box, None), None, margins=(24, 20, 24, 20)))
        self.layout().setStretch(1, 8)
        self._tested = ""
        self._turn()

    @staticmethod
    def _named(made: QWidget) -> QWidget:
        made.setFixedWidth(76)
        return made

    def _turn(self) -> None:
        server = self.kind.chosen == 1
        self._url_label.setText("URI" if server else "File")
        self.url.setPlaceholderText("mongodb://host:27017/name" if server else "/path/to/survey.sqlite")
        self._password_line.setVisible(server)
        self._note.setVisible(server)
        self.pick.setVisible(not server)
        self._edited()

    def open(self, server: bool) -> None:
        """Empty, for one kind."""
        for field in (self.name, self.url, self.password):
            field.clear()
        self.kind.choose(int(server))
        self._turn()
        self.outcome.setText("")
        self.url.setFocus()

    def _edited(self) -> None:
        ready = bool(self.url.text().strip())
        self.test.setEnabled(ready)
        self.save.setEnabled(ready and self._tested == self._state())
        self.save.setToolTip("" if self.save.isEnabled() else "Test it first")

    def _state(self) -> str:
        return f"{self.kind.chosen} {self.url.text().strip()} {self.password.text()}"

    def _pick(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self, "Pick a database file", "", "SQLite (*.sqlite *.sqlite3 *.db);;All files (*)"
        )
        if path:
            self.url.setText(path)
            self.name.setText(self.name.text() or Path(path).stem)
            self._edited()

    def source(self) -> tuple[Source, str | None]:
        """What is typed, and the password apart. Raises: ConnectError."""
        text = self.url.text().strip()
        if self.kind.chosen == 0:
            made = source_of_file(text.removeprefix("sqlite:///") if text.startswith("sqlite:") else text)
            return Source(self.name.text().strip() or made.name, made.url), None
        if not text.startswith(("mongodb://", "mongodb+srv://")):
            raise ConnectError("This is not the URI of a document server.", "It begins with mongodb://")
        driver_for(text)
        url, inside = split_secret(text)
        name = self.name.text().strip() or url.rsplit("/", 1)[-1].split("?")[0] or "documents"
        return Source(name, url), self.password.text() or inside

    def _test(self) -> None:
        try:
            source, password = self.source()
        except OtterError as problem:
            self._say(str(problem), "plum")
            return
        state = self._state()
        self._say("Testing.", "muted")
        self.test.setEnabled(False)

        def done(words: str) -> None:
            self._tested = state
            self._say(words, "water")
            self._edited()

        def failed(problem: OtterError) -> None:
            self._say(str(problem), "plum")
            self._edited()

        self._hub.test(source, password, done, failed)

    def _say(self, text: str, tone: str) -> None:
        set_tone(self.outcome, tone)
        self.outcome.setText(text)

    def _save(self) -> None:
        source, password = self.source()
        self.saved.emit(self._hub.add(source, password))
