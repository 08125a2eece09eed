"""The two demo sources: where their data is, and starting what serves them."""

from __future__ import annotations

import threading
from dataclasses import replace
from pathlib import Path

from nimble_otter.demo.standin import StandIn
from nimble_otter.demo.survey import VERSION, write_survey
from nimble_otter.files import write_text
from nimble_otter.sources import Source

SURVEY = Source("Merrow survey", "demo:survey")
REPORTS = Source("Field reports", "demo:reports")
DEMO_SOURCES = (SURVEY, REPORTS)
_lock = threading.Lock()
_standin: StandIn | None = None


def prepare(folder: Path, readings: int = 61_320) -> Path:
    """The survey's SQLite file in `folder`, written there when it is not yet; returns its path."""
    path, stamp = folder / "merrow.sqlite", folder / "merrow.version"
    with _lock:
        if not path.exists() or not stamp.exists() or stamp.read_text() != VERSION:
            folder.mkdir(parents=True, exist_ok=True)
            write_survey(path, readings)
            write_text(stamp, VERSION)
    return path


def resolve(source: Source, folder: Path) -> Source:
    """A demo source with the URL it has on this machine now; other sources as they are."""
    global _standin
    if source.url == SURVEY.url:
        return replace(source, url=f"sqlite:///{prepare(folder)}")
    if source.url != REPORTS.url:
        return source
    with _lock:
        if _standin is None:
            from nimble_otter.demo.reports import make_collections

            _standin = StandIn("field_reports", make_collections())
        return replace(source, url=_standin.url)
