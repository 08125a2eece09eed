"""The application on the session bus: the desktop starts it, raises it and hands it files without a second process.

Specifications: Desktop Entry Specification 1.5, "D-Bus Activation" (org.freedesktop.Application); D-Bus 0.42. What is
asked arrives in the window's own thread, when the bus's socket has something to read. The bus starts the program where
it does not run, by the service file in `share/`. Where there is no bus, nothing is lost: `instance.py` has a socket.
"""

from __future__ import annotations

import contextlib
import logging
import os
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING
from urllib.parse import unquote, urlsplit

from PySide6.QtCore import QObject, QSocketNotifier, Signal, SignalInstance

from nimble_otter import APPLICATION_ID

if TYPE_CHECKING:
    from jeepney import Message
    from jeepney.io.blocking import DBusConnection

log = logging.getLogger(__name__)

PATH = "/" + APPLICATION_ID.replace(".", "/")
_APPLICATION = "org.freedesktop.Application"
_PATIENCE_S = 2.0
_OWNER = 1
"""The answer of RequestName to who has the name now."""
_DO_NOT_QUEUE = 4
_XML = f"""<node><interface name="{_APPLICATION}">
<method name="Activate"><arg type="a{{sv}}" direction="in"/></method>
<method name="Open"><arg type="as" direction="in"/><arg type="a{{sv}}" direction="in"/></method>
<method name="ActivateAction"><arg type="s" direction="in"/><arg type="av" direction="in"/>
<arg type="a{{sv}}" direction="in"/></method>
</interface></node>"""


class BusService(QObject):
    """`asked` tells the files that the desktop hands over (none: to come to the front), `window_asked` that a window of
    its own is wanted."""

    asked = Signal(list)
    window_asked = Signal(list)

    def __init__(self) -> None:
        super().__init__()
        self._line: DBusConnection | None = None
        self._watch: QSocketNotifier | None = None

    def listen(self) -> bool:
        """Take the application's name on the bus, and answer as long as the event loop runs; whether it is ours. It is
        not where there is no bus, or where a program with another home has it."""
        if not os.environ.get("DBUS_SESSION_BUS_ADDRESS"):
            return False
        try:
            from jeepney import MatchRule
            from jeepney.bus_messages import message_bus
            from jeepney.io.blocking import open_dbus_connection

            self._line = open_dbus_connection("SESSION")
            request = message_bus.RequestName(APPLICATION_ID, _DO_NOT_QUEUE)
            with self._line.filter(MatchRule(type="method_call")) as early:  # a call may come before the answer
                answer = self._line.send_and_get_reply(request, timeout=_PATIENCE_S).body
        except Exception as problem:  # noqa: BLE001 - whatever a bus does, the window goes on without it
            log.info("the session bus can't be used: %s", type(problem).__name__)
            self.close()
            return False
        if answer != (_OWNER,):
            log.info("another program has the name %s", APPLICATION_ID)
            self.close()
            return False
        self._watch = QSocketNotifier(self._line.sock.fileno(), QSocketNotifier.Type.Read, self)
        self._watch.activated.connect(self._hear)
        for message in early:
            self._answer(message)
        self._hear()
        return True

    def close(self) -> None:
        """Let the name go."""
        if self._watch is not None:
            self._watch.setEnabled(False)
            self._watch = None
        if self._line is not None:
            with contextlib.suppress(OSError):
                self._line.close()
            self._line = None

    def _hear(self) -> None:
        from jeepney import MessageType

        while self._line is not None:
            try:
                message = self._line.receive(timeout=0)
            except TimeoutError:
                return
            except Exception as problem:  # noqa: BLE001 - a bus that ended, or that sends what can't be read
                log.info("the session bus went away: %s", type(problem).__name__)
                self.close()
                return
            if message.header.message_type is MessageType.method_call:
                self._answer(message)

    def _answer(self, message: Message) -> None:
        from jeepney import HeaderFields, MessageFlag, new_error, new_method_return

        fields = message.header.fields
        called = fields.get(HeaderFields.interface), fields.get(HeaderFields.member)
        wish = self._wish(str(called[1]), message.body) if called[0] in (_APPLICATION, None) else None
        if called == ("org.freedesktop.DBus.Introspectable", "Introspect"):
            reply = new_method_return(message, "s", (_XML,))
        elif called == ("org.freedesktop.DBus.Peer", "Ping") or wish is not None:
            reply = new_method_return(message)
        else:
            reply = new_error(message, "org.freedesktop.DBus.Error.UnknownMethod", "s", ("No such method.",))
        if self._line is not None and not message.header.flags & MessageFlag.no_reply_expected:
            with contextlib.suppress(OSError):
                self._line.send(reply)
        if wish is not None:
            wish()

    def _wish(self, method: str, body: tuple[object, ...]) -> Callable[[], None] | None:
        """What a call asks for; None where there is no such method."""
        match method, body:
            case "Activate", (dict() as data,):
                return partial(self._emit, self.asked, [], data)
            case "Open", (list() as places, dict() as data):
                files = [path for place in places if (path := _path(str(place)))]
                return partial(self._emit, self.asked, files, data)
            case "ActivateAction", ("new-window", list(), dict() as data):
                return partial(self._emit, self.window_asked, [], data)
        return None

    @staticmethod
    def _emit(signal: SignalInstance, files: list[str], data: dict[str, object]) -> None:
        match data.get("activation-token"):  # lets a window come to the front where none may do so by itself
            case ("s", str() as token) if token:
                os.environ["XDG_ACTIVATION_TOKEN"] = token
        signal.emit(files)


def _path(place: str) -> str:
    """The path of a file's URI; "" where it is on another machine."""
    parts = urlsplit(place)
    return unquote(parts.path) if parts.scheme == "file" and parts.netloc in ("", "localhost") else ""
