"""Startup: the window shown, against a bare toolkit window, in turns, warm.

    .venv/bin/python benchmarks/startup.py [RUNS]

Each run is a whole process that ends once its window has been painted. Prints medians and the goal (1.5x + 0.5 s).
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time

BARE = """
from PySide6.QtWidgets import QApplication, QMainWindow
app = QApplication([])
window = QMainWindow()
window.resize(1280, 800)
window.show()
app.processEvents()
"""
OURS = """
from nimble_otter.desktop.shell.application import make_app
app = make_app()
from nimble_otter.desktop.shell.window import Window
window = Window()
window.show()
app.processEvents()
import os
os._exit(0)
"""


def run(code: str, home: str) -> float:
    env = {**os.environ, "NIMBLE_OTTER_HOME": home}
    env.setdefault("QT_QPA_PLATFORM", "offscreen")
    env.pop("PYTHONDONTWRITEBYTECODE", None)  # warm means with bytecode, as it is installed
    began = time.perf_counter()
    subprocess.run([sys.executable, "-c", code], check=True, env=env)
    return time.perf_counter() - began


def main() -> None:
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 9
    with tempfile.TemporaryDirectory() as home:
        for code in (BARE, OURS):
            run(code, home)
        pairs = [(run(BARE, home), run(OURS, home)) for _ in range(runs)]
    bare, ours = (statistics.median(column) for column in zip(*pairs, strict=True))
    print(f"bare {bare:.2f} s, ours {ours:.2f} s, ratio {statistics.median(b / a for a, b in pairs):.2f}")
    print(f"goal {1.5 * bare + 0.5:.2f} s: {'held' if ours <= 1.5 * bare + 0.5 else 'missed'}")


if __name__ == "__main__":
    main()
