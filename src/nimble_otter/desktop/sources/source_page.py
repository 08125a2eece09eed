"""The page of a source: fields and URI in step, marks, a test in plain words; saving, copying, removing it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QFileDialog, QLineEdit

from nimble_otter.desktop.kit.forms import FormPage
from nimble_otter.desktop.kit.theme import code_font
from nimble_otter.desktop.kit.widgets import as_plain, boxed, button, column, combo, label, row, set_tone
from nimble_otter.desktop.runtime.connections import ConnectionManager
from nimble_otter.errors import ConnectError, OtterError
from nimble_otter.pull import places
from nimble_otter.sources import Source, driver_for
from nimble_otter.sources.client_files import service_url
from nimble_otter.sources.saved import SUFFIX, export_source, import_source
from nimble_otter.sources.source import source_of_file
from nimble_otter.sources.uri import FILE, SERVER, TLS, Parts, kinds, parts_of, url_of
from nimble_otter.sources.urls import split_secret
from nimble_otter.translation import tr

STAGES = [("", tr("not set")), ("test", tr("test")), ("production", tr("production"))]


class SourcePage(FormPage):
    """`saved` with the source; `closed` when the page is left."""

    saved = Signal(object)
    removed = Signal(object)
    closed = Signal()

    def __init__(self, hub: ConnectionManager) -> None:
        super().__init__()
        self._hub = hub
        self._known: Source | None = None
        self._parts = Parts(FILE)
        self._tested, self._failed = "", False
        self.title = label(tr("Add a source"), px=18, bold=True)
        self.kind = combo([(key, form.label) for key, form in kinds().items()], FILE, tr("Kind of source"))
        self.url, self.name, self.password = self.field("URI"), self.field(tr("Name")), self.field(tr("Password"))
        self.host, self.port, self.database = self.field(tr("Host")), self.field(tr("Port")), self.field(tr("Database"))
        self.user, self.ca, self.file = (
            self.field(tr("User")),
            self.field(tr("Certificate file")),
            self.field(tr("File")),
        )
        self.command = self.field(tr("Password command"))
        self.command.setFont(code_font())
        self.command.setPlaceholderText(tr("a command that prints it, run at each connection"))
        self.ssh = self.field(tr("Through"))
        self.ssh.setPlaceholderText(tr("user@host, a host of ~/.ssh/config, or socks5://host:port"))
        self.replica = self.field(tr("Replica"))
        self.replica.setPlaceholderText(tr("host:port of a replica, until something is written"))
        self.url.setFont(code_font())
        self.port.setFixedWidth(76)
        self.password.setEchoMode(QLineEdit.EchoMode.Password)
        self.password.setPlaceholderText(tr("if the server asks for one"))
        self.name.setPlaceholderText(tr("what it is called in the list"))
        self.ca.setPlaceholderText(tr("the system's own, when empty"))
        self.tls = combo(TLS.items(), "", "TLS")
        self.stage = combo(STAGES, "", tr("Environment"))
        self.read_only, self.care = (
            QCheckBox(tr("read-only: nothing is ever written")),
            QCheckBox(tr("take care: ask once more")),
        )
        self.clear = QCheckBox(tr("send the password even without TLS"))
        self.clear.setToolTip(
            tr("Without this, the password is never sent in clear text over a connection without TLS")
        )
        self.test, self.save = button(tr("Test"), self._test), button(tr("Save"), self._save, "primary")
        self.copy = button(tr("Copy"), self._copy, "", tr("A new source like this one"))
        self.export = button(tr("Export…"), self._export, "", tr("Into a file for colleagues, without its password"))
        self.share = button(tr("Share"), self._share, "", tr("Into the team's folder, without its password"))
        self.remove = button(
            tr("Remove"), self._remove, "", tr("Remove it from the list; pulls that use it keep its URI")
        )
        self.outcome = label("", "muted", wrap=True)
        self.outcome.setMinimumHeight(34)
        self._lines = {
            "file": row(self.named(tr("File")), self.file, button("…", self._pick, tip=tr("Choose a file"))),
            "host": row(self.named(tr("Host")), self.host, label(tr("port"), "muted"), self.port),
            "database": row(self.named(tr("Database")), self.database),
            "user": row(self.named(tr("User")), self.user, label(tr("password"), "muted"), self.password),
            "command": row(self.named(tr("Password by")), self.command),
            "ssh": row(self.named(tr("Through")), self.ssh),
            "replica": row(self.named(tr("Rows from")), self.replica),
            "tls": row(self.named("TLS"), self.tls),
            "clear": row(self.named(""), self.clear),
            "ca": row(self.named(tr("Certificate")), self.ca, button("…", self._pick_ca, tip=tr("Choose a file"))),
        }
        self._boxes = {name: boxed(line) for name, line in self._lines.items()}
        self._note = label(
            tr("The password goes to the system's keyring, or stays in memory where there is no keyring."),
            "faint",
            12,
            wrap=True,
        )
        inner = column(
            self.title, 4,
            row(self.named(tr("Kind")), self.kind),
            row(self.named("URI"), self.url),
            *self._boxes.values(),
            row(self.named(""), self._note),
            6,
            row(self.named(tr("Name")), self.name),
            row(self.named(tr("Environment")), self.stage, None),
            row(self.named(""), self.read_only),
            row(self.named(""), self.care),
            8,
            row(self.named(""), self.test, self.save, self.copy, self.export, self.share, self.remove,
                button(tr("Close"), self.closed.emit), None),
            row(self.named(""), self.outcome),
            None,
            space=8,
        )  # fmt: skip
        self.lay_out(inner)
        self.kind.activated.connect(lambda _: self._kind_chosen())
        self.tls.activated.connect(lambda _: self._fields_edited())
        for line_edit in (self.host, self.port, self.database, self.user, self.ca, self.ssh, self.replica,
                          self.file):  # fmt: skip
            line_edit.textEdited.connect(lambda _: self._fields_edited())
        self.url.textEdited.connect(lambda _: self._url_edited())
        self.url.editingFinished.connect(self._read_service)
        self.password.returnPressed.connect(self.save.click)
        self.password.textEdited.connect(lambda _: self._ready())
        self.name.textEdited.connect(lambda _: self._ready())
        self.command.textEdited.connect(lambda _: self._ready())
        self.show_parts(Parts(FILE))

    # --- fields and URI in step --------------------------------------------------------------------------------

    def open(self, server: bool = False, source: Source | None = None) -> None:
        """Empty, for a file or a server; or a saved source to be changed."""
        self._known, self._tested = source, ""
        self.title.setText(tr("Add a source") if source is None else source.name)
        self.name.setText("" if source is None else source.name)
        self.password.clear()
        self.stage.setCurrentIndex(max(0, self.stage.findData(source.stage if source else "")))
        self.read_only.setChecked(bool(source and source.read_only))
        self.care.setChecked(bool(source and source.care))
        self.clear.setChecked(bool(source and source.clear_password))
        self.command.setText(source.password_command if source is not None else "")
        self.show_parts(parts_of(source.url) if source is not None else Parts(SERVER if server else FILE))
        self.copy.setVisible(source is not None)
        self.export.setVisible(source is not None)
        is_own = source is not None and not source.is_shared and not source.url.startswith("demo:")
        self.share.setVisible(is_own and places.team_folder() is not None)
        whole = (
            tr("from the team's list and everybody's")
            if source is not None and source.is_shared
            else tr("from the list")
        )
        self.remove.setToolTip(as_plain(tr("Remove it {whole}; pulls that use it keep its URI", whole=whole)))
        self.remove.setVisible(source is not None)
        self._say("", "muted")
        if source is not None and source.is_shared:
            self._say(tr("Shared with the team: what is saved here is changed for everybody."), "amber")
        if source is not None:

            def tell(rights: tuple[str, ...]) -> None:
                if rights and source is self._known:
                    whole = [*([self.outcome.text()] if source.is_shared else []), *rights]
                    self._say(" ".join(whole), "amber")

            self._hub.rights(source, tell)
        (self.host if server and source is None else self.url).setFocus()

    def ask_password(self, problem: OtterError | None) -> None:
        """Say what the server said, and wait for the password of the source shown."""
        self._say(
            tr("{message} Enter it and choose Save.", message=problem.message) if problem is not None else "", "plum"
        )
        self.password.setFocus()

    def show_parts(self, parts: Parts, keep_url: bool = False) -> None:
        """Fill the fields, and the URI unless it is being typed."""
        self._parts = parts
        self.kind.setCurrentIndex(self.kind.findData(parts.kind))
        form = parts.address
        is_server = form.is_server
        host = (self.host, parts.host), (self.port, "" if parts.port is None else str(parts.port))
        for name, box in self._boxes.items():
            box.setVisible(is_server if name != "file" else form.is_file)
        self._boxes["ca"].setVisible(is_server and parts.tls == "verified")
        self._boxes["user"].setVisible(not form.is_file)
        self._boxes["replica"].setVisible(form.has_replicas)
        self._note.setVisible(not form.is_file)
        self._boxes["clear"].setVisible(is_server and not parts.tls)
        for field, text in (
            *host, (self.user, parts.user), (self.database, parts.database if is_server else ""), (self.ca, parts.ca),
            (self.ssh, parts.ssh), (self.replica, parts.replica), (self.file, parts.database if form.is_file else ""),
        ):  # fmt: skip
            if field.text() != text:
                field.setText(text)
        self.port.setPlaceholderText("" if form.port is None else str(form.port))
        known = [(key, text) for key, text in TLS.items() if not key or key in form.tls]
        if known != [(self.tls.itemData(n), self.tls.itemText(n)) for n in range(self.tls.count())]:
            self.tls.clear()
            for key, text in known:  # what a client can't do is not offered
                self.tls.addItem(text, key)
        self.tls.setCurrentIndex(max(0, self.tls.findData(parts.tls)))
        if not keep_url:
            self.url.setText(url_of(parts) if (is_server and parts.host) or not is_server else "")
        self.url.setPlaceholderText(form.example)
        self._ready()

    def _kind_chosen(self) -> None:
        kind = str(self.kind.currentData())
        was = self._parts
        kept = replace(was, kind=kind, tls="", ca="", rest=(), scheme="", port=None)
        self.show_parts(kept if kept.address.is_server and was.address.is_server else Parts(kind))

    def _fields_edited(self) -> None:
        form = self._parts.address
        digits = "".join(c for c in self.port.text() if c.isdigit())
        database = self.file.text().strip() if form.is_file else self.database.text().strip()
        parts = replace(
            self._parts, host=self.host.text().strip(), port=int(digits) if digits else None,
            database=database if form.is_file or form.is_server else self._parts.database,
            user=self.user.text().strip(), tls=str(self.tls.currentData()), ca=self.ca.text().strip(),
            ssh=self.ssh.text().strip(), replica=self.replica.text().strip(),
        )  # fmt: skip
        self.show_parts(parts)

    def _url_edited(self) -> None:
        """Take a typed or pasted URI apart; a password in it goes to its own field."""
        url, inside = split_secret(self.url.text().strip())
        if inside:
            self.password.setText(inside)
            self.url.setText(url)
        try:
            self.show_parts(parts_of(url), keep_url=True)
        except ValueError as problem:
            self._say(str(problem), "plum")

    def _read_service(self) -> None:
        """A URI that names a service of PostgreSQL's clients becomes what the service says."""
        try:
            text = service_url(self.url.text().strip())
        except OtterError as problem:
            self._say(str(problem), "plum")
            return
        if text != self.url.text().strip():
            self.url.setText(text)
            self._url_edited()

    def _ready(self) -> None:
        ready = bool(self.url.text().strip())
        self.test.setEnabled(ready)
        is_same = self._known is not None and self._known.url == self.url.text().strip()
        tested = self._tested == self._state()
        self.save.setEnabled(ready and (tested or is_same))
        self.save.setText(tr("Save anyway") if tested and self._failed else tr("Save"))
        self.save.setToolTip("" if self.save.isEnabled() else tr("Test it first"))

    def _state(self) -> str:
        return f"{self.url.text().strip()} {self.password.text()} {self.command.text()}"

    def _pick(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self, tr("Open a database file"), "", tr("Database files (*.sqlite *.sqlite3 *.db *.duckdb);;All files (*)")
        )
        if path:
            self.show_parts(Parts(FILE, database=path))
            self.name.setText(self.name.text() or Path(path).stem)

    def _pick_ca(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self, tr("Pick a certificate file"), "", tr("Certificates (*.pem *.crt);;All files (*)")
        )
        if path:
            self.ca.setText(path)
            self._fields_edited()

    # --- doing -------------------------------------------------------------------------------------------------

    def source(self) -> tuple[Source, str | None]:
        """What is typed, and the password apart. Raises: ConnectError."""
        text, inside = split_secret(self.url.text().strip())
        try:
            parts = parts_of(text)
        except ValueError as problem:
            raise ConnectError(str(problem), tr("Write it like postgresql://user@host:5432/name.")) from problem
        marks = (str(self.stage.currentData()), self.care.isChecked(), self.read_only.isChecked(),
                 self.clear.isChecked() and not self._boxes["clear"].isHidden(),
                 self.command.text().strip())  # fmt: skip
        if parts.address.is_file:
            made = source_of_file(parts.database)
            return Source(self.name.text().strip() or made.name, made.url, *marks), None
        driver_for(text)
        if parts.address.is_server and not parts.host:
            raise ConnectError(tr("The host is missing."), tr("Type the name or address of the server."))
        name = self.name.text().strip() or parts.database.rsplit("/", 1)[-1].split("?")[0] or parts.host
        return Source(name, text, *marks), self.password.text() or inside

    def _test(self) -> None:
        try:
            source, password = self.source()
        except OtterError as problem:
            self._say(str(problem), "plum")
            return
        state = self._state()
        self._say(tr("Testing."), "muted")
        self.test.setEnabled(False)

        def done(words: str) -> None:
            self._tested, self._failed = state, False
            self._say(words, "water")
            self._ready()

        def failed(problem: OtterError | None) -> None:
            self._tested, self._failed = state, True
            self._say(
                str(problem) if problem is not None else tr("Stopped."), "plum" if problem is not None else "muted"
            )
            self._ready()

        self._hub.test(source, password, done, failed)

    def _say(self, text: str, tone: str) -> None:
        set_tone(self.outcome, tone)
        self.outcome.setText(text)

    def _save(self) -> None:
        try:
            source, password = self.source()
        except OtterError as problem:
            self._say(str(problem), "plum")
            return
        self.saved.emit(self._hub.add(source, password, self._known))

    def _copy(self) -> None:
        self._known = None
        self.title.setText(tr("Add a source"))
        self.name.setText(tr("{text} copy", text=self.name.text()))
        self.copy.setVisible(False)
        self.export.setVisible(False)
        self.share.setVisible(False)
        self.remove.setVisible(False)
        self.name.setFocus()

    def _export(self) -> None:
        if self._known is None:
            return
        name = f"{self._known.name}{SUFFIX}"
        path, _ = QFileDialog.getSaveFileName(
            self, tr("Export the source"), name, tr("Sources (*{suffix})", suffix=SUFFIX)
        )
        if not path:
            return
        try:
            export_source(self._known, Path(path))
        except OtterError as problem:
            self._say(str(problem), "plum")
            return
        self._say(
            tr("{known_name} is in {path}, without its password.", known_name=self._known.name, path=path), "water"
        )

    def _share(self) -> None:
        if self._known is not None and self._hub.share(self._known):
            self._say(
                tr("{known_name} is in the team's folder, without its password.", known_name=self._known.name), "water"
            )
            self._known = self._hub.find(self._known.name) or self._known
            self.share.setVisible(False)

    def take(self, path: Path) -> None:
        """Fill the page from the file of a source, which is looked at, tested and saved here. Raises: SavedError's."""
        source = import_source(path)
        self.open(source=source)
        self._known = None
        self.title.setText(tr("Add a source"))
        for made in (self.copy, self.export, self.share, self.remove):
            made.hide()
        self._say(
            tr("As {path_name} has it. Look at it, give the password it needs, and test it.", path_name=path.name),
            "muted",
        )
        self._ready()

    def _remove(self) -> None:
        if self._known is not None:
            self._hub.remove(self._known)
            self.removed.emit(self._known)
            self.closed.emit()
