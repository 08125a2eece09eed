"""What the desktop's services are asked, on a bus of the test's own where a thread plays them."""

import os
import shutil
import subprocess
import sys
import threading
import time

import pytest
from jeepney import DBusAddress, MessageType, new_error, new_method_call, new_method_return
from jeepney.bus_messages import message_bus
from jeepney.io.blocking import open_dbus_connection

from nimble_otter import session_bus as desktop_bus
from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.runtime import jobs
from nimble_otter.desktop.runtime.bus_service import PATH, BusService
from nimble_otter.desktop.runtime.jobs import LOCAL
from nimble_otter.desktop.runtime.settings import read_settings
from nimble_otter.home import settings_file
from tests.desktop.conftest import settle
from tests.proofs import how_many


@pytest.fixture
def bus(monkeypatch):
    """A function that begins to answer calls, by their method: (signature, body), or None for an error."""
    daemon = subprocess.Popen(["dbus-daemon", "--session", "--nofork", "--print-address"], stdout=subprocess.PIPE,
                              text=True)  # fmt: skip
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", daemon.stdout.readline().strip())
    calls, ends = [], threading.Event()

    def play(answers):
        connection = open_dbus_connection("SESSION")
        for name in ("org.freedesktop.portal.Desktop", "org.freedesktop.Notifications"):
            connection.send_and_get_reply(message_bus.RequestName(name))

        def answer():
            while not ends.is_set():
                try:
                    message = connection.receive(timeout=0.1)
                except TimeoutError:
                    continue
                if message.header.message_type is MessageType.method_call:
                    method = message.header.fields[3]
                    calls.append((method, message.body))
                    found = answers.get(method)
                    connection.send(new_method_return(message, *found) if found else new_error(message, "test.No"))
            connection.close()

        threading.Thread(target=answer, daemon=True).start()
        return calls

    yield play
    ends.set()
    time.sleep(0.15)
    daemon.terminate()
    daemon.wait()
    daemon.stdout.close()


def test_text_is_as_large_as_the_desktop_wants(bus, monkeypatch):
    monkeypatch.delenv("QT_FONT_DPI", raising=False)
    assert desktop_bus.text_scale() == 1  # nobody answers
    calls = bus({"Read": ("v", (("v", ("d", 1.25)),))})
    assert desktop_bus.text_scale() == 1.25
    assert calls == [("Read", ("org.gnome.desktop.interface", "text-scaling-factor"))]
    monkeypatch.setenv("QT_FONT_DPI", "144")
    assert desktop_bus.text_scale() == 1.5
    monkeypatch.setenv("QT_FONT_DPI", "large")
    assert desktop_bus.text_scale() == 1.25


def test_odd_answers_and_no_bus_leave_the_usual_size(bus, monkeypatch):
    monkeypatch.delenv("QT_FONT_DPI", raising=False)
    answers = {"Read": ("v", (("s", "big"),))}
    bus(answers)
    assert desktop_bus.text_scale() == 1
    answers["Read"] = ("v", (("d", 90.0),))
    assert desktop_bus.text_scale() == 1
    del answers["Read"]
    assert desktop_bus.text_scale() == 1
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", "unix:path=/nowhere")
    assert desktop_bus.text_scale() == 1
    assert not desktop_bus.notify("a", "b")


def test_long_work_is_told_when_the_window_is_behind(bus, window, monkeypatch):
    calls = bus({"Notify": ("u", (7,))})
    monkeypatch.setattr(jobs, "LONG_S", 0.05)
    monkeypatch.setattr(window, "isActiveWindow", lambda: False)
    window.jobs.submit(LOCAL, "slow", lambda *_: time.sleep(0.1), title="Sending <a> & b")
    assert wait_until(lambda: calls, 10)
    ((method, body),) = calls
    assert (method, body[0], body[3], body[6]["desktop-entry"][1]) == (
        "Notify", "Nimble Otter", "Sending <a> & b", desktop_bus.APPLICATION_ID)  # fmt: skip
    assert body[4].startswith("Done after 0 s")
    window.jobs.submit(LOCAL, "quick", lambda *_: None, title="Sending")
    window.jobs.submit(LOCAL, "untold", lambda *_: time.sleep(0.1))
    monkeypatch.setattr(window, "isActiveWindow", lambda: True)
    window.jobs.submit(LOCAL, "seen", lambda *_: time.sleep(0.1), title="Sending")
    settle(window)
    assert len(calls) == 1


@pytest.mark.parametrize("percent", how_many([200], [80, 150, 200]))
def test_the_whole_window_fits_at_every_size_of_text(percent, home, tmp_path):
    """On a screen of 1280 x 800, nothing wider than the window; the rows keep room."""
    script = """if 1:
        import sys
        from nimble_otter.desktop.kit.offscreen import use_offscreen, wait_until
        use_offscreen(1280, 800)
        from nimble_otter.desktop.shell.application import make_app, scale_text
        scale_text()
        app = make_app()
        from nimble_otter.desktop.shell.window import Window
        window = Window()
        window.show()
        window.begin(False)
        wait_until(lambda: not window.jobs.is_busy, 30)
        source = window.hub.sources[0]
        window.hub.open(source)
        wait_until(lambda: source.name in window.hub.tables, 30)
        window.open_table(source, next(t for t in window.hub.tables[source.name] if t.name == "river"))
        wait_until(lambda: not window.jobs.is_busy, 30)
        print(window.devicePixelRatio(), window.width() * window.devicePixelRatio() <= 1281,
              window.height() * window.devicePixelRatio() <= 801, window.grid.width() >= 300,
              window.centralWidget().width() == window.width(), window.layout_state.shown["right"])
        window.close()
        """
    settings_file().parent.mkdir(parents=True, exist_ok=True)
    settings_file().write_text(f"text_percent = {percent}")
    told = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=False,
                          env={**os.environ, "DBUS_SESSION_BUS_ADDRESS": ""})  # fmt: skip
    assert told.stdout.split() == [str(percent / 100), *["True"] * 5], told.stderr


def test_text_sizes_go_step_by_step_and_are_kept(window, home):
    for command, wanted in (("larger", 110), ("larger", 125), ("usual", 100), ("smaller", 90), ("smaller", 80),
                            ("smaller", 80)):  # fmt: skip
        window.commands.run(f"{command}_text")
        assert window.settings.now.text_percent == wanted
    assert read_settings(settings_file())[0].text_percent == 80
    for odd in ("text_percent = 900", 'text_percent = "1"', "text_percent = true"):
        settings_file().write_text(odd)
        assert read_settings(settings_file())[0].text_percent == 100


@pytest.fixture
def desktop(tmp_path):
    """A bus of its own that knows the service files of a data folder, and what programs it starts see."""
    usual = {f"XDG_{kind}_HOME": str(tmp_path / kind.lower()) for kind in ("CONFIG", "STATE", "CACHE", "DATA")}
    kept = {k: v for k, v in os.environ.items() if k != "NIMBLE_OTTER_HOME"}
    env = {**kept, **usual, "HOME": str(tmp_path), "QT_QPA_PLATFORM": "offscreen"}
    subprocess.run([sys.executable, "-m", "nimble_otter.desktop.app", "--install"], env=env, check=True, timeout=60,
                   stdout=subprocess.DEVNULL)  # fmt: skip
    daemon = subprocess.Popen(["dbus-daemon", "--session", "--nofork", "--print-address"], stdout=subprocess.PIPE,
                              text=True, env=env)  # fmt: skip
    env["DBUS_SESSION_BUS_ADDRESS"] = daemon.stdout.readline().strip()
    with open_dbus_connection(env["DBUS_SESSION_BUS_ADDRESS"]) as line:
        yield line, env, tmp_path
        owner = line.send_and_get_reply(message_bus.GetNameOwner(desktop_bus.APPLICATION_ID))
        if owner.header.message_type is not MessageType.error:
            os.kill(line.send_and_get_reply(message_bus.GetConnectionUnixProcessID(owner.body[0])).body[0], 15)
    daemon.terminate()
    daemon.wait()
    daemon.stdout.close()


def test_the_desktop_starts_it_and_hands_it_files(desktop, own_survey):
    """The bus starts the program by the service file that --install wrote; later calls reach the one that runs."""
    line, env, folder = desktop
    address = DBusAddress(PATH, desktop_bus.APPLICATION_ID, "org.freedesktop.Application")

    def call(method, signature, body, where=address):
        return line.send_and_get_reply(new_method_call(where, method, signature, body), timeout=60)

    copy = folder / "two words & ü.sqlite"
    shutil.copy(own_survey, copy)
    token = {"activation-token": ("s", "t1"), "desktop-startup-id": ("s", "")}
    answer = call("Open", "asa{sv}", ([copy.as_uri(), "https://elsewhere/x.pull"], token))
    assert answer.header.message_type is MessageType.method_return, answer.body
    sources = folder / "config/nimble-otter/sources.toml"
    assert wait_until(lambda: sources.exists() and "two words" in sources.read_text(), 30)
    owner = line.send_and_get_reply(message_bus.GetNameOwner(desktop_bus.APPLICATION_ID)).body
    action, taken, refused = "ActivateAction", MessageType.method_return, MessageType.error
    for method, signature, body, wanted in (
        ("Activate", "a{sv}", ({},), taken), (action, "sava{sv}", ("new-window", [], {}), taken),
        ("Activate", "s", ("x",), refused), (action, "sava{sv}", ("gone", [], {}), refused), ("Gone", "", (), refused),
    ):  # fmt: skip
        assert call(method, signature, body).header.message_type is wanted, method
    peer = DBusAddress(PATH, desktop_bus.APPLICATION_ID, "org.freedesktop.DBus.Introspectable")
    assert 'name="Open"' in call("Introspect", None, (), peer).body[0]
    again = [sys.executable, "-m", "nimble_otter.desktop.app", str(copy)]
    second = subprocess.run(again, env=env, check=False, timeout=60, capture_output=True, text=True)
    assert second.stdout.startswith("The window that is open")
    assert line.send_and_get_reply(message_bus.GetNameOwner(desktop_bus.APPLICATION_ID)).body == owner


def test_a_name_that_is_taken_and_a_bus_that_ends_leave_the_window_alone(bus, qtbot):
    first, second = BusService(), BusService()
    bus({})
    assert first.listen()
    assert not second.listen()
    first.close()
    assert second.listen()
    second.close()
    os.environ["DBUS_SESSION_BUS_ADDRESS"] = "unix:path=/nowhere"
    assert not first.listen()
