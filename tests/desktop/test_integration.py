"""The entry in the desktop's menu: what the desktop's own programs make of it."""

import ctypes
import json
import subprocess
import sys

import pytest

from nimble_otter.desktop.runtime import integration
from nimble_otter.desktop.runtime.integration import APPLICATION_ID, SHARE, entry_with
from nimble_otter.pull.file import save_pull
from nimble_otter.pull.model import Pull, Query
from nimble_otter.sources import Source

ENTRY = SHARE / "applications" / f"{APPLICATION_ID}.desktop"


def start(home, *words):
    env = {"XDG_DATA_HOME": str(home), "PATH": "/usr/bin:/bin", "HOME": str(home / "home")}
    return subprocess.run([sys.executable, "-m", "nimble_otter.desktop.app", *words], env=env, capture_output=True,
                          text=True, check=False)  # fmt: skip


def test_it_goes_into_the_menu_and_out_again(tmp_path):
    home = tmp_path / "data home"
    others = home / "applications" / "other.desktop"
    others.parent.mkdir(parents=True)
    others.write_text("[Desktop Entry]\n")
    (home / "applications" / "nimble-otter.desktop").write_text("of an earlier version")
    told = start(home, "--install")
    assert told.returncode == 0, told.stderr
    subprocess.run(["desktop-file-validate", home / "applications" / ENTRY.name], check=True)
    assert not (home / "applications" / "nimble-otter.desktop").exists()
    pull = Pull("levels", Source("survey", "demo:survey"), Query("select 1"))
    for name in ("levels.pull", "levels"):  # by its ending, and by what it begins with
        save_pull(pull, tmp_path / name)
        env = {"XDG_DATA_HOME": str(home), "XDG_DATA_DIRS": "/usr/share"}
        seen = subprocess.run(["gio", "info", "-a", "standard::content-type", tmp_path / name], env=env,
                              capture_output=True, text=True, check=True).stdout  # fmt: skip
        assert "application/x-nimble-otter-pull" in seen
    assert start(home, "--install").returncode == 0
    told = start(home, "--uninstall")
    left = {p.relative_to(home).as_posix() for p in home.rglob("*") if p.is_file() and APPLICATION_ID in p.name}
    assert (told.returncode, left) == (0, set())
    assert others.exists()
    assert "was not in the menu" in start(home, "--uninstall").stdout


def test_a_home_that_takes_nothing_says_so(tmp_path):
    (tmp_path / "file").write_text("")
    told = start(tmp_path / "file", "--install")
    assert (told.returncode, told.stdout) == (3, "")
    assert "can't be written" in told.stderr


@pytest.mark.parametrize(
    "word",
    ["/opt/plain", "/a b/c", '/q"uote', "/dollar$HOME", "/tick`x`", "/back\\slash", "/100%f", "/ü/ß", "/tab\\t", "/'"],
)
def test_the_command_is_read_as_it_was_meant(word):
    """GLib, which reads menu entries for most desktops, has the words that were given."""
    glib = ctypes.CDLL("libglib-2.0.so.0")
    glib.g_key_file_new.restype = glib.g_key_file_get_string.restype = ctypes.c_void_p
    data = entry_with(ENTRY.read_text("utf-8"), [word, "-m"]).encode()
    keys = ctypes.c_void_p(glib.g_key_file_new())
    assert glib.g_key_file_load_from_data(keys, data, ctypes.c_size_t(len(data)), 0, None)
    line = ctypes.c_void_p(glib.g_key_file_get_string(keys, b"Desktop Entry", b"Exec", None))
    count, words = ctypes.c_int(), ctypes.POINTER(ctypes.c_char_p)()
    assert glib.g_shell_parse_argv(line, ctypes.byref(count), ctypes.byref(words), None)
    assert [words[n].decode().replace("%%", "%") for n in range(count.value)] == [word, "-m", "%F"]


def test_the_command_is_that_of_this_installation(monkeypatch, tmp_path):
    script = tmp_path / "nimble-otter-desktop"
    script.write_text("")
    script.chmod(0o755)
    monkeypatch.setattr(sys, "argv", [str(script), "--install"])
    assert integration.command() == [str(script)]
    monkeypatch.setattr(sys, "argv", ["app.py"])
    monkeypatch.setattr(sys, "executable", str(tmp_path / "elsewhere" / "python"))
    assert integration.command() == [str(tmp_path / "elsewhere" / "python"), "-m", "nimble_otter.desktop.app"]


def test_the_sandbox_is_told_the_same_names():
    root = SHARE.parents[3]
    manifest = json.loads((root / "packaging" / f"{APPLICATION_ID}.json").read_text("utf-8"))
    assert (manifest["id"], manifest["command"]) == (APPLICATION_ID, "nimble-otter-desktop")
    (module,) = manifest["modules"]
    told = module["build-commands"][-1]
    service = f"dbus-1/services/{APPLICATION_ID}.service"
    assert service in told
    assert (SHARE / service).read_text("utf-8").count("Exec=") == 1
    assert "--filesystem=home" in manifest["finish-args"]  # files are delivered and opened by their path
