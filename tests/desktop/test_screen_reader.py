"""What an assistive program reads of the real window: asked over AT-SPI, on a screen and buses of the test's own."""

import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from jeepney import DBusAddress, MessageType, Properties, new_method_call
from jeepney.io.blocking import open_dbus_connection

_LAUNCHER = Path("/usr/libexec/at-spi-bus-launcher")
_PREFIX = "org.a11y.atspi."
WINDOW = """
import sys
from PySide6.QtCore import QTimer
from nimble_otter.desktop.shell.application import make_app
app = make_app()
from nimble_otter.desktop.shell.window import Window
window = Window()
window.show()
window.begin(False)
def opened():
    source = window.hub.sources[0]
    if source.name not in window.hub.tables:
        window.hub.open(source)
        return QTimer.singleShot(200, opened)
    window.open_table(source, next(t for t in window.hub.tables[source.name] if t.name == "river"))
    QTimer.singleShot(1500, focused)
def focused():
    window.activateWindow()
    window.grid.setFocus()
    window.grid.go(1, 1)
    print("ready", flush=True)
def told():
    if sys.stdin.readline():
        window.grid.go(2, 0)
QTimer.singleShot(500, opened)
app.exec()
"""


class Reader:
    """Asks over the bus of assistive programs."""

    def __init__(self, address):
        self.line = open_dbus_connection(address)

    def ask(self, where, interface, method, signature=None, body=()):
        message = new_method_call(DBusAddress(where[1], where[0], _PREFIX + interface), method, signature, body)
        reply = self.line.send_and_get_reply(message, timeout=20)
        assert reply.header.message_type is not MessageType.error, (method, reply.body)
        return reply.body[0] if reply.body else None

    def get(self, where, interface, name):
        message = Properties(DBusAddress(where[1], where[0], _PREFIX + interface)).get(name)
        return self.line.send_and_get_reply(message, timeout=20).body[0][1]

    def role(self, where):
        return self.ask(where, "Accessible", "GetRoleName")

    def name(self, where):
        return self.get(where, "Accessible", "Name")

    def children(self, where):
        return self.ask(where, "Accessible", "GetChildren")

    def found(self, where, role, name):
        """The first of a role and name, level by level."""
        level, passed = [where], []
        while level:
            inner = []
            for one in level:
                for child in self.children(one):
                    kind = self.role(child)
                    if kind == role and self.name(child) == name:
                        return child
                    passed.append(f"{kind} {self.name(child)}")
                    inner += (
                        [child] if kind in ("filler", "layered pane", "splitter", "panel", "frame", "viewport") else []
                    )
            level = inner
        raise AssertionError(f"no {role} {name} among {sorted(set(passed))}")


@pytest.fixture
def reader(home, own_survey):
    """A window on a screen of its own, and an assistive program beside it."""
    if shutil.which("Xvfb") is None or not _LAUNCHER.exists():
        assert not os.environ.get("CI"), "Xvfb and at-spi2-core are missing"
        pytest.skip("Xvfb or at-spi2-core is not installed")
    running = []

    def start(*command, env, **more):
        more = {"text": True, "stderr": subprocess.DEVNULL, "start_new_session": True, **more}
        running.append(subprocess.Popen(command, env=env, **more))
        return running[-1]

    env = {k: v for k, v in os.environ.items() if k not in ("QT_QPA_PLATFORM", "DBUS_SESSION_BUS_ADDRESS")}
    numbers, end = os.pipe()
    start("Xvfb", "-displayfd", str(end), "-screen", "0", "1280x800x24", "-nolisten", "tcp", env=env, pass_fds=(end,))
    os.close(end)
    with os.fdopen(numbers) as told:
        env["DISPLAY"] = f":{told.readline().strip()}"
    daemon = start("dbus-daemon", "--session", "--nofork", "--print-address", env=env, stdout=subprocess.PIPE)
    env["DBUS_SESSION_BUS_ADDRESS"] = daemon.stdout.readline().strip()
    start(str(_LAUNCHER), "--launch-immediately", env=env)
    session, address = open_dbus_connection(env["DBUS_SESSION_BUS_ADDRESS"]), ""
    for _ in range(100):
        asked = new_method_call(DBusAddress("/org/a11y/bus", "org.a11y.Bus", "org.a11y.Bus"), "GetAddress")
        reply = session.send_and_get_reply(asked, timeout=20)
        if reply.header.message_type is not MessageType.error:
            address = reply.body[0]
            break
        time.sleep(0.1)
    session.close()
    env |= {"QT_LINUX_ACCESSIBILITY_ALWAYS_ON": "1", "QT_QPA_PLATFORM": "xcb"}
    window = start(sys.executable, "-c", WINDOW, env=env, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    assert window.stdout.readline() == "ready\n"
    made = Reader(address)
    yield made
    made.line.close()
    for process in reversed(running):
        os.killpg(process.pid, signal.SIGKILL)  # with what it started
        process.wait(20)
        for stream in filter(None, (process.stdin, process.stdout)):
            stream.close()


def test_the_grid_is_a_table_and_the_course_a_list(reader):
    root = ("org.a11y.atspi.Registry", "/org/a11y/atspi/accessible/root")
    (window,) = [w for app in reader.children(root) for w in reader.children(app) if reader.role(w) == "frame"]
    table = reader.found(window, "table", "Rows")
    assert (reader.get(table, "Table", "NRows"), reader.get(table, "Table", "NColumns")) == (7, 4)
    assert reader.get(table, "Accessible", "Description") == "7 rows, 4 columns"
    assert reader.ask(table, "Table", "GetColumnDescription", "i", (1,)) == "name"
    assert reader.ask(table, "Table", "GetRowDescription", "i", (6,)) == "7"
    cell = reader.ask(table, "Table", "GetAccessibleAt", "ii", (1, 1))
    assert reader.name(cell) == "Sallow"
    assert reader.ask(table, "Table", "IsSelected", "ii", (1, 1))
    assert not reader.ask(table, "Table", "IsSelected", "ii", (0, 1))
    steps = reader.found(window, "list", "Steps")
    texts = [reader.name(one) for one in reader.children(steps)]
    assert [text.split(",")[0] for text in texts] == ["Source", "Query", "Changes", "Send"]
    assert "7 rows" in texts[1]
