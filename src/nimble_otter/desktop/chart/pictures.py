"""Pictures of charts leave: to the clipboard, to a file; and the values drawn as text. What leaves is light, as it is
printed and laid into pages."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QByteArray, QMimeData
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QApplication, QFileDialog, QMenu

from nimble_otter.desktop.chart.presenter import ChartPresenter
from nimble_otter.desktop.kit.widgets import calling
from nimble_otter.desktop.pulls.workspace import Workspace
from nimble_otter.desktop.runtime.jobs import CHARTS, Report
from nimble_otter.errors import OtterError, SavedError
from nimble_otter.files import write_bytes
from nimble_otter.pull.charts.data import Drawn
from nimble_otter.pull.charts.ground import Window
from nimble_otter.pull.charts.looks import LIGHT
from nimble_otter.send import format_for, rows_of_view, send_to_file
from nimble_otter.send.naming import safe_part
from nimble_otter.stop import StopToken
from nimble_otter.table import View
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr

FILES = (("PNG…", "png", 1.0), (tr("PNG, twice as fine…"), "png", 2.0), (tr("PNG, for print…"), "png", 4.0),
         ("SVG…", "svg", 1.0), ("PDF…", "pdf", 1.0), (tr("Values drawn, as CSV…"), "csv", 1.0),
         (tr("Values drawn, as XLSX…"), "xlsx", 1.0))  # fmt: skip
COPIES = ((tr("Picture"), "png"), (tr("Picture as SVG"), "svg"), (tr("Values drawn"), "values"))
_MOST_COPIED = 100_000


class Pictures:
    """Copies and writes the chart in sight."""

    def __init__(self, workspace: Workspace, charts: ChartPresenter) -> None:
        self._workspace, self._charts = workspace, charts

    def fill_menu(self, menu: QMenu, copies: bool = True) -> None:
        """Ways to copy, or to write, the chart in sight."""
        if copies:
            for words, what in COPIES:
                menu.addAction(words, calling(self.copy, what))
            return
        for words, form, scale in FILES:
            menu.addAction(words, calling(self.ask, form, scale))

    def copy(self, what: str) -> None:
        """Copy the picture (png or svg), or the values drawn, with tabs between."""
        picture, size, window = self._charts.made, self._charts.size(), self._charts.window
        if picture is None:
            return

        def work(stop: StopToken, _: Report) -> bytes:
            if what == "values":
                return values_of(picture.drawn).encode("utf-8", "replace")
            return _file(picture.drawn, size, what, 2.0, window, stop)

        def done(data: bytes) -> None:
            mime = QMimeData()
            if what == "png":
                mime.setImageData(QImage.fromData(data))
            else:
                mime.setText(data.decode())
            if what == "svg":
                mime.setData("image/svg+xml", QByteArray(data))
            QApplication.clipboard().setMimeData(mime)
            self._workspace.say(tr("The values drawn are copied") if what == "values" else tr("The picture is copied"))

        self._submit("copy a chart", work, done, tr("Copying a chart"))

    def ask(self, form: str, scale: float) -> None:
        """Write the picture to a file that is chosen."""
        chart = self._charts.chart
        if self._charts.made is None or chart is None:
            return
        name = str(Path.home() / f"{safe_part(chart.label)}.{form}")
        path, _ = QFileDialog.getSaveFileName(self._charts.view, tr("Send picture"), name, f"{form.upper()} (*.{form})")
        if path:
            self.write(Path(path), form, scale)

    def write(self, path: Path, form: str, scale: float = 1.0) -> None:
        """Write the picture, or the values drawn, to a file."""
        picture, size, window = self._charts.made, self._charts.size(), self._charts.window
        if picture is None:
            return
        target = path if path.suffix.lower() == f".{form}" else path.with_name(f"{path.name}.{form}")

        def work(stop: StopToken, _: Report) -> None:
            if form in ("csv", "xlsx"):
                table = picture.drawn.as_table()
                rows = rows_of_view(table.fields, table.columns, View(table), safe_part(picture.chart.label))
                send_to_file(rows, format_for(form), target, stop=stop)
                return
            data = _file(picture.drawn, size, form, scale, window, stop)
            try:
                write_bytes(target, data, is_private=False)
            except OSError as problem:
                raise SavedError(
                    tr("{target} can't be written: {strerror}.", target=target, strerror=problem.strerror),
                    tr("Choose another folder."),
                ) from problem

        self._submit("send a chart", work, lambda _: self._workspace.say(tr("Written to {target}", target=target)),
                     tr("Sending a chart"))  # fmt: skip

    def _submit(
        self, key: str, work: Callable[[StopToken, Report], Any], done: Callable[[Any], None], title: str
    ) -> None:
        def refused(problem: OtterError) -> None:
            self._workspace.say(str(problem), True)

        self._workspace.hub.jobs.submit(CHARTS, key, work, done, refused, title=title)


def _file(drawn: Drawn, size: tuple[int, int], form: str, scale: float, window: Window, stop: StopToken) -> bytes:
    from nimble_otter.pull.charts.paint import paint

    return paint(drawn, LIGHT, size, scale, window, stop).file(form)


def values_of(drawn: Drawn) -> str:
    """The marks' exact values, a line each, with tabs between."""
    table = drawn.as_table()
    ids = np.arange(min(table.rows, _MOST_COPIED))
    columns = [column.values(ids) for column in table.columns]
    lines = ["\t".join(field.name for field in table.fields)]
    lines += ["\t".join(" ".join(plain(value).split()) for value in each) for each in zip(*columns, strict=True)]
    return "\n".join(lines)
