"""The part of the tour that compares: two tables, what brings one into line, and where a row went."""

from __future__ import annotations

import re
import sqlite3
from contextlib import closing

from nimble_otter.desktop.kit.offscreen import wait_until
from nimble_otter.desktop.steps.compare_drawer import CompareDrawer
from nimble_otter.desktop.tour.charting import Charted
from nimble_otter.desktop.tour.guide import hold
from nimble_otter.pull import Pull, Query
from nimble_otter.pull.places import demo_folder
from nimble_otter.pull.tracing import Fate
from nimble_otter.sources import Source

_STATIONS = "select station_id, name, river, height_m, opened, active\nfrom station"
_HQ = (
    "update station set height_m = 19.6 where station_id = 3",
    "update station set height_m = height_m + 0.004 where station_id = 5",
    "update station set name = 'Lower Tarn Sluice' where station_id = 8",
    "update station set active = not active where station_id = 15",
    "update station set river = 'Merrow', opened = '2014-03-02' where station_id = 27",
    "delete from reading where station_id = 31",
    "delete from station where station_id = 31",
    "insert into station (station_id, name, river, height_m, opened, active) "
    "values (43, 'Brook Foot', 'Dunlow', 8.1, '2031-04-11', 1), (44, 'Fen Gate', 'Dunlow', 3.9, '2031-05-02', 1)",
)


class Comparing(Charted):
    """Steps that compare and trace."""

    def compare(self) -> str:
        """Stations beside those of another database; one is brought into line."""
        window, folder = self.window, self.folder
        paths = {name: folder / f"{name}.sqlite" for name in ("merrow", "catchment")}
        with closing(sqlite3.connect(demo_folder() / "merrow.sqlite")) as demo:
            for path in paths.values():
                path.unlink(missing_ok=True)
                with closing(sqlite3.connect(path)) as copy:
                    demo.backup(copy)
        with closing(sqlite3.connect(paths["catchment"])) as copy, copy:
            for text in _HQ:
                copy.execute(text)
        for name, message in (("catchment", "Catchment HQ"), ("merrow", "Merrow copy")):
            source = Source(message, f"sqlite:///{paths[name]}")
            window.workspace.open(Pull("HQ stations" if name == "catchment" else "stations", source, Query(_STATIONS)),
                                  run=True)  # fmt: skip
            self.settle()
        window.commands.run("add_compare")
        self.settle()
        drawer = window.drawer_of("compare")
        assert isinstance(drawer, CompareDrawer)
        drawer.choose("HQ stations")
        wait_until(lambda: drawer.compared is not None)
        drawer._set_tolerance("height_m", "0.01")  # noqa: SLF001 - what its field does
        self.settle()
        hold(re.search(r"4\D+1\D+2\D", drawer.report.text()), f"compared: {drawer.report.text()}")
        window.grid.setFocus()
        window.say("")
        self.settle()
        self.picture("29-compare")
        drawer.panel.make.click()
        self.settle()
        hold(self.pull.edits.count == 6, "the differences are not pending")
        window.changes_drawer.write.click()
        self.settle()
        hold(self.pull.edits.count == 0, "it was not brought into line")
        return "seven differences of two tables found, six of them written"

    def trace(self) -> str:
        """A row that a filter leaves out, and what would bring it back."""
        window = self.window
        window.show_pull(0)
        self.settle()
        table, shown = self.pull.table, self.pull.shaped
        assert table is not None
        assert shown is not None
        gone = next((row for row in range(table.rows) if row not in set(shown.view.row_ids().tolist())), None)
        hold(gone is not None, "no row is left out")
        assert gone is not None
        window.commands.run("trace")
        strip = window.tracing.strip
        strip.field.setText(f"reading_id = {table.column('reading_id').value(gone)}")
        strip.asked.emit(strip.field.text())
        wait_until(lambda: bool(strip.passages))
        self.settle()
        hold(any(each.fate is Fate.LOST for each in strip.passages), "the step is not named")
        self.picture("30-trace")
        window.tracing.close()
        return "the step that leaves a row out is named"
