"""One window for each home, shown with real processes."""

import errno
import os
import shutil
import signal
import subprocess
import sys
import time

import pytest

from nimble_otter.desktop.runtime.instance import Instance

START = [sys.executable, "-m", "nimble_otter.desktop.app"]


@pytest.fixture
def started(home):
    running = []

    def start(*files):
        running.append(subprocess.Popen([*START, *files], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True))
        return running[-1]

    yield start
    for one in running:
        if one.poll() is None:
            one.kill()
        one.communicate()


def until(holds, seconds=30):
    end = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < end
        time.sleep(0.05)


def test_a_second_start_gives_its_files_to_the_window_that_is_open(started, home, tmp_path, own_survey):
    first = started()
    until(lambda: list(home.rglob("window.socket")))
    second = started(str(own_survey))
    assert second.communicate(timeout=30)[0].startswith("The window that is open takes it")
    assert second.returncode == 0
    until(lambda: any(str(own_survey) in path.read_text() for path in home.rglob("sources.toml")))
    assert first.poll() is None
    first.send_signal(signal.SIGKILL)  # the lock ends with its process; the socket stays behind
    first.wait()
    third = started()
    time.sleep(2)
    assert third.poll() is None


def test_two_starts_at_once_lose_no_file(started, home, own_survey, tmp_path):
    """The window that is still opening takes what the other was given."""
    files = [str(shutil.copy(own_survey, tmp_path / name)) for name in ("one.sqlite", "two.sqlite")]
    both = [started(file) for file in files]
    until(lambda: any(one.poll() is not None for one in both))
    assert sorted(one.poll() is None for one in both) == [False, True]
    assert next(one for one in both if one.poll() is not None).returncode == 0
    until(lambda: any(all(file in path.read_text() for file in files) for path in home.rglob("sources.toml")))


def test_a_window_that_does_not_answer_is_named(tmp_path, started, home, monkeypatch):
    held = Instance(tmp_path)
    assert held.claim([])  # and it never listens
    code = "from nimble_otter.desktop.runtime import instance as i; from pathlib import Path; import sys\n" \
           "i.ANSWER_MS = 100\ntry: i.Instance(Path(sys.argv[1])).claim([])\n" \
           "except i.SavedError as p: print(p)"  # fmt: skip
    told = subprocess.run([sys.executable, "-c", code, str(tmp_path)], capture_output=True, text=True, check=False)
    assert "does not answer" in told.stdout, told.stderr
    held.release()
    again = Instance(tmp_path)
    assert again.claim([])
    again.release()


def test_a_home_that_can_not_be_locked_opens_all_the_same(tmp_path, monkeypatch):
    def refused(*_):
        raise OSError(errno.ENOLCK, "No locks available")

    monkeypatch.setattr("fcntl.flock", refused)
    one = Instance(tmp_path)
    assert one.claim([])
    one.release()


def test_a_long_home_has_a_socket_too(qtbot, tmp_path):
    folder = tmp_path / ("deep" * 20) / ("er" * 40)
    one, asked = Instance(folder), []
    one.asked.connect(asked.append)
    assert one.claim([])
    one.listen()
    code = "from nimble_otter.desktop.runtime.instance import Instance; from pathlib import Path; import sys\n" \
           "sys.exit(Instance(Path(sys.argv[1])).claim(['a b.pull']))"  # fmt: skip
    other = subprocess.Popen([sys.executable, "-c", code, str(folder)])
    qtbot.waitUntil(lambda: bool(asked), timeout=10_000)
    assert asked == [[os.path.abspath("a b.pull")]]
    assert other.wait(10) == 0
    one.release()
