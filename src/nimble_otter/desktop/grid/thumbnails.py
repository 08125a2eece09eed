"""Small pictures for the grid: decoded in the background, a few at a time, and kept while there is room."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QSize, Qt
from PySide6.QtGui import QImage, QImageReader, QPixmap

from nimble_otter.desktop.runtime.jobs import LOCAL, Jobs

MOST = 600
"""Pictures kept; the oldest go first."""
_AT_ONCE = 8
Key = tuple[int, int, int]


class Thumbnails:
    """`picture` answers at once with what there is; `changed` is called when more has been made."""

    def __init__(self, jobs: Jobs, changed: Callable[[], None]) -> None:
        self._jobs, self._changed = jobs, changed
        self._made: dict[Key, QPixmap] = {}
        self._wanted: dict[Key, bytes] = {}
        self._is_busy = False

    def picture(self, data: bytes, height: int) -> QPixmap | None:
        """The picture that `data` is, at most `height` pixels high; None when it is none, or not made yet."""
        key = (hash(data), len(data), height)
        pixmap = self._made.get(key)
        if pixmap is None and key not in self._wanted:
            self._wanted[key] = data
            while len(self._wanted) > 4 * _AT_ONCE:  # scrolled past: those in sight are the latest
                del self._wanted[next(iter(self._wanted))]
            self._next()
        return None if pixmap is None or pixmap.isNull() else pixmap

    def _next(self) -> None:
        if self._is_busy or not self._wanted:
            return
        self._is_busy = True
        some = [(key, self._wanted.pop(key)) for key in list(self._wanted)[-_AT_ONCE:]]

        def done(images: list[QImage]) -> None:
            self._is_busy = False
            for (key, _), image in zip(some, images, strict=True):
                self._made[key] = QPixmap.fromImage(image)
            while len(self._made) > MOST:
                del self._made[next(iter(self._made))]
            self._changed()
            self._next()

        def work(*_: object) -> list[QImage]:
            return [_decode(data, key[2]) for key, data in some]

        self._jobs.submit(LOCAL, f"thumbnails {id(self)}", work, done)


def _decode(data: bytes, height: int) -> QImage:
    """A picture made small; a null one when the bytes are no picture."""
    buffer = QBuffer()
    buffer.setData(QByteArray(data))
    buffer.open(QIODevice.OpenModeFlag.ReadOnly)
    reader = QImageReader(buffer)
    reader.setAutoTransform(True)
    size = reader.size()
    if size.isValid() and size.height() > height:
        reader.setScaledSize(size.scaled(QSize(4 * height, height), Qt.AspectRatioMode.KeepAspectRatio))
    return reader.read()
