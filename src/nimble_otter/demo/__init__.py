"""The Merrow river survey: invented sample data, as an SQLite file, as documents behind a stand-in server
and as an OData service.

Everything comes from a fixed seed. `prepare` may be called from any thread; the stand-ins run threads of their own (see
docs/decisions). Read `survey.py` first; it is imported by those who write it.
"""

from nimble_otter.demo.scene import DEMO_SOURCES, demo_pulls, demo_sources, prepare, resolve, show_demo

__all__ = ["DEMO_SOURCES", "demo_pulls", "demo_sources", "prepare", "resolve", "show_demo"]
