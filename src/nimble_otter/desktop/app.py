"""Starting the window: `nimble-otter-desktop [--demo] [--new-window] [--install | --uninstall] [FILE ...]`."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Sequence
from pathlib import Path

from nimble_otter import __version__
from nimble_otter.errors import SavedError
from nimble_otter.log import start_log
from nimble_otter.memory import settle
from nimble_otter.pull import places
from nimble_otter.translation import tr


def parser() -> argparse.ArgumentParser:
    """The parser of its flags."""
    whole = argparse.ArgumentParser(
        prog="nimble-otter-desktop", description=tr("The Nimble Otter desktop application.")
    )
    whole.add_argument("--version", action="version", version=f"nimble-otter {__version__}")
    whole.add_argument("--demo", action="store_true", help=tr("open the demo's pulls when nothing else is open"))
    whole.add_argument(
        "--tour", metavar="FOLDER", help=tr("run the tour without a screen and leave its pictures in FOLDER")
    )
    group = whole.add_mutually_exclusive_group()
    group.add_argument("--install", action="store_true", help=tr("put the application into this user's desktop menu"))
    group.add_argument("--uninstall", action="store_true", help=tr("take it out of the menu; sources and pulls stay"))
    whole.add_argument("--new-window", action="store_true", help=tr("open another window of the program that runs"))
    whole.add_argument("--verbose", action="store_true", help=tr("log in more detail, and to standard error too"))
    whole.add_argument("files", nargs="*", metavar="FILE", help=tr("pull files or SQLite files to open"))
    return whole


def main(arguments: Sequence[str] | None = None) -> int:
    """Run the desktop application and give its exit code."""
    options = parser().parse_args(arguments)
    if options.tour:
        os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
        from nimble_otter.desktop.tour.tour import run_tour

        return run_tour(Path(options.tour))
    if options.install or options.uninstall:
        return _integrate(options.install)
    from nimble_otter.desktop.runtime.instance import Instance

    instance = Instance(places.state_folder())
    try:
        if not instance.claim(options.files, options.new_window):
            print(
                tr("The window that is open takes it from here.")
                if not options.new_window
                else tr("Another window opens.")
            )
            return 0
    except SavedError as problem:
        print(tr("nimble-otter-desktop: {problem}", problem=problem), file=sys.stderr)
        return 3
    crash = start_log(places.state_folder(), "window", options.verbose)
    from nimble_otter.desktop.shell.application import log_toolkit, make_app, scale_text

    log_toolkit()
    scale_text()
    app = make_app()
    from nimble_otter.desktop.runtime.bus_service import BusService
    from nimble_otter.desktop.shell.windows import Windows

    windows = Windows()
    window = windows.add(options.files, options.demo)
    if crash is not None:
        window.hub.trouble.emit(tr("The last session ended in a crash. Its report is kept as {crash}.", crash=crash))
    instance.asked.connect(windows.take)
    instance.window_asked.connect(windows.take_anew)
    instance.listen()
    service = BusService()
    service.asked.connect(windows.take)
    service.window_asked.connect(windows.take_anew)
    if not os.environ.get("NIMBLE_OTTER_HOME"):  # the name is that of the usual home
        service.listen()
    settle()
    try:
        return app.exec()
    finally:
        service.close()
        instance.release()


def _integrate(is_wanted: bool) -> int:
    from nimble_otter.desktop.runtime.integration import install, uninstall

    try:
        if is_wanted:
            print(tr("Nimble Otter is in the desktop's menu ({install}).", install=install()))
        else:
            removed = uninstall()
            print(tr("{removed} files were removed.", removed=removed) if removed else tr("It was not in the menu."))
    except SavedError as problem:
        print(tr("nimble-otter-desktop: {problem}", problem=problem), file=sys.stderr)
        return 3
    return 0


if __name__ == "__main__":
    sys.exit(main())
