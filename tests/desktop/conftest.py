"""A real window without a screen, on a small survey."""

import pytest

from nimble_otter.demo.survey import VERSION
from nimble_otter.desktop.kit.offscreen import use_offscreen, wait_for_rest, wait_until
from nimble_otter.pull.model import Pull, Query
from tests.desktop.staleness import stale_parts
from tests.proofs import how_many

use_offscreen()


@pytest.fixture(scope="session")
def qapp_cls():
    from PySide6.QtWidgets import QApplication

    return QApplication


@pytest.fixture(scope="session", autouse=True)
def styled(qapp):
    from nimble_otter.desktop.shell.application import make_app

    make_app()


@pytest.fixture
def small_demo(survey, home, monkeypatch):
    """The demo's database is a small one, copied to this test's home; so are its documents."""
    monkeypatch.setattr("nimble_otter.demo.reports.REPORTS", 1500)
    path = home / "data" / "demo" / "merrow.sqlite"
    path.parent.mkdir(parents=True)
    path.write_bytes(survey.read_bytes())
    (path.parent / "merrow.version").write_text(VERSION)
    return path


def _is_looked_at(request):
    """Every twelfth test in the short run; none that puts something in by hand."""
    is_due = sum(request.node.nodeid.encode()) % how_many(12, 1) == 0
    return is_due and not request.node.get_closest_marker("by_hand")


@pytest.fixture
def make_window(qapp, small_demo, request):
    """Windows that are closed at the end; `demo` opens the demo's pulls."""
    from nimble_otter.desktop.shell.window import Window

    made = []

    def make(demo=True):
        window = Window()
        made.append(window)
        window.show()
        window.begin(demo)
        for source in window.hub.sources[: 0 if demo else 1]:
            window.hub.open(source)
        settle(window)
        return window

    yield make
    told = [name for window in made for name in stale_parts(window)] if _is_looked_at(request) else []
    for window in made:
        window.hub.holding = list  # a test that failed leaves nobody to answer
        window.close()
        window.deleteLater()
    qapp.processEvents()
    assert told == [], "shown otherwise once filled anew"


@pytest.fixture
def window(make_window):
    """On one table, with its key, so that everything can be changed."""
    window = make_window(demo=False)
    source = window.hub.sources[0]
    table = next(t for t in window.hub.tables[source.name] if t.name == "lab_sample")
    window.open_table(source, table)
    settle(window)
    window.grid.setFocus()
    return window


def settle(window, seconds=0.05):
    wait_until(lambda: False, seconds)
    assert wait_for_rest(window, lambda: window.jobs.is_busy, 30)


def open_text(window, text, source=None):
    """A pull of its own with the rows of a text."""
    window.add_pull(Pull("typed", source or window.hub.sources[0], Query(text)))
    settle(window)
    window.grid.setFocus()


def when_shown(kind, do):
    """Do something with a box of a kind once it stands there, however long that takes."""
    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication

    def look():
        box = next((w for w in QApplication.topLevelWidgets() if isinstance(w, kind) and w.isVisible()), None)
        QTimer.singleShot(20, look) if box is None else do(box)

    QTimer.singleShot(20, look)


def answer(which, said):
    """Press a button of the message box that will stand there."""
    from PySide6.QtWidgets import QMessageBox, QPushButton

    def press(box):
        said.append(f"{box.text()}\n{box.informativeText()}")
        next(b for b in box.findChildren(QPushButton) if b.text() == which).click()

    when_shown(QMessageBox, press)
