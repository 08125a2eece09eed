"""What a window shows, as lines of text: what its parts paint is told by a paint device of its own, whatever paints it.

`seen.txt.gz` keeps what the journey through everything shows at each of its pictures, `drawers.txt.gz` what each
drawer and page does; a line there that is other must be meant. Their tests write them anew with NIMBLE_OTTER_MEANT=1;
`python -m tests.desktop.seen LANGUAGE` tells what is seen in another language.
"""

import gzip
import json
import os
import re
import sys
import tempfile
from collections import Counter
from difflib import unified_diff
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtGui import QPaintDevice, QPaintEngine, QTransform
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QLabel,
    QStyle,
    QStyleOptionComboBox,
    QWidget,
)

KEPT = Path(__file__).with_name("seen.txt.gz")
_MOMENT_MS = 1500
"""Timers of at most so long are waited for: problems in a text, what rows lead to, a draft."""
DRAWERS = Path(__file__).with_name("drawers.txt.gz")
_VOLATILE = (
    (r"\b(Mon|Tue|Wed|Thu|Fri|Sat|Sun) \d\d \w{3}( \d\d:\d*)?", "<day>"),
    (r"\b\d{4}-\d\d-\d\d \d\d:\d\d(:\d\d)?(\.\d+)?", "<moment>"), (r"\b20(2\d)-\d\d-\d\d\b", "<today>"),
    (r"<today> \d{6}\b", "<today> <time>"), (r"\b\d\d:\d\d(:\d\d)?\b", "<time>"),
    (r"\b(Draft kept on disk|Fetched) <time>( by query above)?", "<kept>"),
    (r"\b\d+([.,]\d+)? ?(s|ms|min|seconds?|minutes?)\b", "<span>"),
    (r"\bin (\d+ (d|h)|<span>)( \d+ h| <span>)?", "soon"),
    (r"^(\w+): (\.\d\d\s)*\.\d\d\s", r"\1: <spans> "), (r"\b\d+([.,]\d+)? (kB|MB|GB|B)\b", "<size>"),
    (r"127\.0\.0\.1:\d+", "<host>"), (r"/[\w/. -]*?/(?=(home|delivered|pictures)\b)", "<folder>/"),
    (r"SQLite · \d+ tables", "SQLite"),  # once it is read
    (r"^(.{22}).*…", r"\1…"),
)  # fmt: skip


class _Engine(QPaintEngine):
    """Takes note of texts, and of how often something is filled or drawn in a colour."""

    def __init__(self):
        super().__init__(QPaintEngine.PaintEngineFeature.AllFeatures)
        self.texts, self.marks = [], Counter()
        self._pen, self._brush, self._moved = "", "", QTransform()

    def type(self):
        return QPaintEngine.Type.User

    def begin(self, device):
        return True

    def end(self):
        return True

    def updateState(self, state):
        flag, changed = QPaintEngine.DirtyFlag, state.state()
        if changed & flag.DirtyPen:
            self._pen = state.pen().color().name() if state.pen().style().value else "none"
        if changed & flag.DirtyBrush:
            self._brush = state.brush().color().name() if state.brush().style().value else "none"
        if changed & flag.DirtyTransform:
            self._moved = QTransform(state.transform())

    def drawTextItem(self, point, item):
        at, font = self._moved.map(point), item.font()
        look = f"{self._pen} {font.pixelSize()}{' bold' if font.bold() else ''}{' struck' if font.strikeOut() else ''}"
        self.texts.append((round(at.y() / 4), at.x(), f"{item.text()}  [{look}]"))

    def _mark(self, what, count=1):
        self.marks[f"{what} {self._pen}/{self._brush}"] += count

    def drawRects(self, rects, *_):
        self._mark("rectangles", len(rects))

    def drawLines(self, lines, *_):
        self._mark("lines", len(lines))

    def drawPath(self, path):
        self._mark("path")

    def drawPolygon(self, *_):
        self._mark("polygon")

    def drawEllipse(self, *_):
        self._mark("ellipse")

    def drawPixmap(self, *_):
        self._mark("picture")

    def drawImage(self, *_):
        self._mark("picture")

    def drawTiledPixmap(self, *_):
        self._mark("picture")


class _Device(QPaintDevice):
    def __init__(self, size):
        super().__init__()
        self.engine, self._size = _Engine(), size

    def paintEngine(self):
        return self.engine

    def metric(self, which):
        kinds = QPaintDevice.PaintDeviceMetric
        known = {kinds.PdmWidth: self._size.width(), kinds.PdmHeight: self._size.height(), kinds.PdmDepth: 32,
                 kinds.PdmDevicePixelRatio: 1, kinds.PdmDevicePixelRatioScaled: 65536}  # fmt: skip
        return known.get(which, 96)


def drawn(widget):
    """What a widget paints, with all that is in it: its texts in the order of reading, then the counts of its marks."""
    device = _Device(widget.size())
    widget.render(device)
    lines = [text for _, _, text in sorted(device.engine.texts, key=lambda each: each[:2])]
    return [*lines, *(f"({mark} ×{count})" for mark, count in sorted(device.engine.marks.items()))]


def shown(window):
    """What a window shows, by its parts."""
    parts = {"title": window.title, "course": window.course, "left": window.sources, "centre": window.centre,
             "detail": window.detail, "status": window.status}  # fmt: skip
    window.status.message.clear()  # which goes by itself
    if window.drawer is not None and window.drawer.isVisible():
        parts["drawer"] = window.drawer
    return [_plain(f"{name}: {line}") for name, part in parts.items() if part.isVisible() for line in drawn(part)]


def cut_in(window):
    """Texts of buttons, boxes and labels that have no room, but names of columns: "class: text"."""
    from nimble_otter.desktop.kit.widgets import ElidedLabel

    found = set()
    for part in window.findChildren(QWidget):
        if not part.isVisible() or isinstance(part, ElidedLabel) or getattr(part, "wordWrap", bool)():
            continue
        if isinstance(part, QComboBox):
            option, text = QStyleOptionComboBox(), part.currentText()
            part.initStyleOption(option)
            field = QStyle.SubControl.SC_ComboBoxEditField
            room = part.style().subControlRect(QStyle.ComplexControl.CC_ComboBox, option, field, part).width()
            needed = part.fontMetrics().horizontalAdvance(text) + part.width() - room
        elif isinstance(part, QAbstractButton | QLabel):
            text, needed = part.text(), part.sizeHint().width()
        else:
            continue
        if needed > part.width() + 1 and re.search(r"\w", text) and not re.search(r"\w[._]\w", text):
            found.add(f"{type(part).__name__}: {text}")
    return found


def _plain(line):
    for pattern, word in _VOLATILE:
        line = re.sub(pattern, word, line)
    return line


class Seen:
    """Pictures by their names, as lines."""

    def __init__(self):
        QApplication.setCursorFlashTime(0)
        self.pictures, self.cut = {}, set()

    def take(self, name, window):
        self.pictures[name] = shown(window)
        self.cut |= cut_in(window)

    def text(self):
        """Each picture by what is other in it than in the one before."""
        lines, before = [], Counter()
        for name, whole in self.pictures.items():
            now = Counter(whole)
            lines += [f"== {name}", *(f"- {line}" for line in (before - now).elements()),
                      *(f"+ {line}" for line in (now - before).elements())]  # fmt: skip
            before = now
        return "\n".join(lines) + "\n"


def come_to_rest(window, settle):
    """Until nothing is under way, or shown after a moment or for some seconds only."""
    settle()
    while any(t.isActive() and t.isSingleShot() and t.interval() <= _MOMENT_MS for t in window.findChildren(QTimer)):
        settle(0.05)
    if window.pull is not None:
        window.pull.plans.settle()  # what was just written is marked for some seconds
    settle(0.05)


def take_journey(folder):
    """The journey through everything; returns what was seen."""
    from nimble_otter.desktop.runtime import connections
    from nimble_otter.desktop.tour.tour import Tour

    seen, sample = Seen(), connections.SAMPLE
    connections.SAMPLE = 100_000  # all documents, so that their shapes are the same each time

    class Recorded(Tour):
        def picture(self, name, over=None):
            come_to_rest(self.window, self.settle)
            seen.take(name, self.window)

    tour = Recorded(folder, pictures=False)
    try:
        for name, step in tour.steps():
            assert step(), name
    finally:
        connections.SAMPLE = sample
        tour.close()
    return seen


def assert_meant(seen, path):
    """It is what was seen when that was last meant, and no text is cut."""
    if os.environ.get("NIMBLE_OTTER_MEANT"):
        path.write_bytes(gzip.compress(seen.text().encode(), mtime=0))
    meant = gzip.decompress(path.read_bytes()).decode().splitlines()
    found = unified_diff(meant, seen.text().splitlines(), "meant", "seen", lineterm="", n=0)
    other = [line for line in found if line[0] in "+-"]
    assert other == [], "\n".join(other[:80])
    assert seen.cut == set()


if __name__ == "__main__":
    language = sys.argv[1]
    os.environ["NIMBLE_OTTER_LANGUAGE"] = language
    if language == "pseudo":
        from tests.pseudo import speak

        speak()
    from nimble_otter.desktop.kit.offscreen import use_offscreen

    use_offscreen()
    from nimble_otter.desktop.shell.application import make_app

    with tempfile.TemporaryDirectory() as folder:
        os.environ["NIMBLE_OTTER_HOME"] = f"{folder}/home"
        make_app()
        taken = take_journey(Path(folder))
        texts = {line.partition(": ")[2].rpartition("  [")[0] for lines in taken.pictures.values() for line in lines}
        print(json.dumps({"texts": sorted(texts), "cut": sorted(taken.cut)}))
    sys.stdout.flush()
    os._exit(0)
