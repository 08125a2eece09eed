"""The demo's sources: where their data is, and starting what serves them."""

from __future__ import annotations

import threading
from dataclasses import replace
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING

from nimble_otter.errors import ConnectError
from nimble_otter.files import write_text
from nimble_otter.pull import Pull, Query, SendPlan
from nimble_otter.pull.steps import Condition, FilterStep, SortBy, SortStep
from nimble_otter.sources import Source
from nimble_otter.translation import tr

SURVEY = Source("Merrow survey", "demo:survey")
REPORTS = Source("Field reports", "demo:reports")
SERVICE = Source("Survey service", "demo:service")
DEMO_SOURCES = (SURVEY, REPORTS, SERVICE)
_REMOVED = "demo-removed"
_HIGH_WATER = """select s.name as station, s.river, r.taken_at,
       r.level_m, r.flow_m3s, r.quality, r.note, r.reading_id
from reading r join station s using (station_id)
where r.taken_at >= :since
  and r.level_m is not null
"""
_REPORTS = """select * from report
where kind in ('flood watch', 'sighting', 'fault ticket')
"""
if TYPE_CHECKING:
    from nimble_otter.demo.entity_service import EntityService
    from nimble_otter.demo.standin import StandIn

_lock = threading.Lock()
_standin: StandIn | None = None
_service: EntityService | None = None


def demo_sources(config: Path) -> tuple[Source, ...]:
    """The demo's sources, unless they were removed from the list of this home; `config` is its folder of settings."""
    return () if (config / _REMOVED).exists() else DEMO_SOURCES


def show_demo(config: Path, is_shown: bool) -> None:
    """Put the demo's sources into the list, or take them out. Raises: OSError."""
    if is_shown:
        (config / _REMOVED).unlink(missing_ok=True)
    else:
        config.mkdir(parents=True, exist_ok=True)
        write_text(config / _REMOVED, "")


def demo_pulls() -> list[Pull]:
    """Two pulls to begin with, one from each demo source."""
    filters = (
        FilterStep((Condition("is one of", "river", ("Merrow", "Sallow", "Tarnbeck")),)),
        FilterStep((Condition("sql", text="level_m > 0.3 and quality <> 'void'"),)),
        SortStep((SortBy("taken_at", True), SortBy("level_m", True))),
    )
    send = SendPlan("xlsx", "~/levels-{date}.xlsx")
    reports = (SortStep((SortBy("at", True),)),)
    return [
        Pull("High water, May", SURVEY, Query(_HIGH_WATER, parameters={"since": "2031-05-01"}), filters, send),
        Pull("Field reports by shape", REPORTS, Query(_REPORTS), reports),
    ]


def prepare(folder: Path, readings: int = 61_320) -> Path:
    """The survey's SQLite file in `folder`, written there when it is not yet; returns its path."""
    from nimble_otter.demo.survey import VERSION, write_survey

    path, stamp = folder / "merrow.sqlite", folder / "merrow.version"
    with _lock:
        if not path.exists() or not stamp.exists() or stamp.read_text() != VERSION:
            folder.mkdir(parents=True, exist_ok=True)
            write_survey(path, readings)
            write_text(stamp, VERSION)
    return path


def resolve(source: Source, folder: Path) -> Source:
    """A demo source with the URL it has on this machine now; other sources as they are."""
    global _service, _standin
    if source.url == SERVICE.url:
        path = prepare(folder)
        with _lock:
            if _service is None or _service.path != path:
                from nimble_otter.demo.entity_service import EntityService

                if _service is not None:
                    _service.close()
                _service = EntityService(path)
            return replace(source, url=_service.url)
    if source.url == SURVEY.url:
        return replace(source, url=f"sqlite:///{prepare(folder)}")
    if source.url != REPORTS.url:
        return source
    with _lock:
        if _standin is None:
            from nimble_otter.demo.reports import make_collections
            from nimble_otter.demo.standin import StandIn

            if find_spec("mongomock") is None:
                text = "The demo's documents need the package mongomock, which is not installed."
                raise ConnectError(text, tr("Run: pip install 'nimble-otter[demo]'"))
            _standin = StandIn("field_reports", make_collections())
        return replace(source, url=_standin.url)
