"""What a window shows must be what it would show if it were filled anew: a part that was not told of a change, or not
painted where something moved, is found by comparing it before and after everything is refreshed."""

from PySide6.QtWidgets import QApplication

from nimble_otter.desktop.kit.offscreen import wait_for_rest, wait_until
from nimble_otter.desktop.pulls.aspect import Aspect

ALL = Aspect.PULL | Aspect.ROWS | Aspect.EDITS | Aspect.RUN


def stale_parts(window):
    """Names of the parts of a window that show something else once they are filled anew."""
    open_pull = window.pull
    if not window.isVisible() or window.jobs.is_busy or open_pull is None or open_pull.is_running:
        return []
    if open_pull.fresh:  # what was just written is marked for some seconds
        return []
    window.setFocus()
    _shown(window)  # lists are laid out when they are first painted
    before = _shown(window)
    window._changed(open_pull, ALL)
    stale = []
    for _ in range(40):  # what is laid out later
        after = _shown(window)
        stale = [name for name, held in before.items() if after[name] != held]
        if not stale:
            break
    return stale


def _shown(window):
    wait_until(lambda: False, 0.02)
    wait_for_rest(window, lambda: window.jobs.is_busy, 10)
    QApplication.processEvents()
    for count in window.detail.record._counts:  # which come a while later
        count.clear()
    parts = {"title": window.title, "course": window.course, "detail": window.detail, "grid": window.grid}
    status = window.status  # without its message, which goes by itself
    labels = (status.strong, status.rows, status.figures, status.writes, status.more)
    return {name: part.grab().toImage() for name, part in parts.items()} | {
        "status": [(each.text(), each.isVisible()) for each in labels]  # and not when a draft was kept
    }
