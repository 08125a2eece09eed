"""One window for each home: a second start hands its files over to the window that is there, and ends.

Two programs that write the same sources, pulls and drafts would undo each other's work. Who holds the lock of the home
has the window, and listens on a socket beside it for others; the lock ends with its process, however that ends.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import json
import logging
import os
import time
from collections.abc import Sequence
from pathlib import Path
from typing import IO

from PySide6.QtCore import QObject, Signal
from PySide6.QtNetwork import QLocalServer, QLocalSocket

from nimble_otter.entry import Entry
from nimble_otter.errors import SavedError
from nimble_otter.files import make_private
from nimble_otter.translation import tr

log = logging.getLogger(__name__)

ANSWER_MS = 5000
"""How long the window that is there may take to answer."""
_LONGEST = 108
"""Bytes of a socket's path, less one (unix(7))."""


class Instance(QObject):
    """This start of the program. `asked` tells the files that a later start hands over; none: to come to the front.
    `window_asked` tells them where that start wants a window of its own."""

    asked = Signal(list)
    window_asked = Signal(list)

    def __init__(self, folder: Path) -> None:
        super().__init__()
        self._folder = folder
        self._lock: IO[str] | None = None
        self._server: QLocalServer | None = None

    def claim(self, files: Sequence[str], new_window: bool = False) -> bool:
        """Whether the home is ours now; if not, the program that has it was given the files, for a window that is open
        or a new one. Raises: SavedError where there is one that does not answer."""
        make_private(self._folder)
        lock = (self._folder / "window.lock").open("a+")
        os.chmod(lock.name, 0o600)
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            lock.close()
            self._hand_over(files, new_window)
            return False
        except OSError as problem:  # a file system without locks
            log.warning("the home can't be locked: %s", problem.strerror)
        self._lock = lock
        return True

    def release(self) -> None:
        """Let the home go."""
        if self._server is not None:
            self._server.close()
        if self._lock is not None:
            self._lock.close()

    @property
    def _address(self) -> str:
        """The socket; in a folder of the system where the home's path is too long for one."""
        path = self._folder / "window.socket"
        if len(os.fsencode(path)) < _LONGEST:
            return str(path)
        return f"nimble-otter-{hashlib.sha256(os.fsencode(path.resolve())).hexdigest()[:16]}"

    def listen(self) -> None:
        """Hear of later starts, as long as the event loop runs."""
        QLocalServer.removeServer(self._address)  # of a process that ended without a word
        server = self._server = QLocalServer(self)
        server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        server.newConnection.connect(self._heard)
        server.listen(self._address)

    def _heard(self) -> None:
        assert self._server is not None
        while (line := self._server.nextPendingConnection()) is not None:
            line.readyRead.connect(lambda line=line: self._take(line))
            if line.bytesAvailable():
                self._take(line)

    def _take(self, line: QLocalSocket) -> None:
        if not line.canReadLine():
            return
        files, is_new = list[str](), False
        with contextlib.suppress(ValueError):
            entry = Entry(json.loads(bytes(line.readLine().data())), tr("what was handed over"))
            files, is_new = list(entry.texts("files")), entry.flag("new_window")
        line.write(b"taken\n")
        line.flush()
        line.disconnectFromServer()
        (self.window_asked if is_new else self.asked).emit(files)

    def _hand_over(self, files: Sequence[str], new_window: bool) -> None:
        line, until = QLocalSocket(), time.monotonic() + ANSWER_MS / 1000
        line.connectToServer(self._address)
        while not line.waitForConnected(ANSWER_MS) and time.monotonic() < until:
            time.sleep(0.05)  # it may be about to open
            line.connectToServer(self._address)
        told = {"files": [str(Path(name).absolute()) for name in files], "new_window": new_window}
        data = json.dumps(told).encode() + b"\n"
        is_taken = line.isValid() and line.write(data) > 0 and line.waitForBytesWritten(ANSWER_MS)
        if not (is_taken and line.waitForReadyRead(ANSWER_MS) and bytes(line.readAll().data()).startswith(b"taken")):
            raise SavedError(
                tr("A window is open on {folder}, and it does not answer.", folder=self._folder),
                tr("Close it, or start with another NIMBLE_OTTER_HOME."),
            )
