"""The commands by name, and how a wrong argument is told: all that `--help` needs."""

from __future__ import annotations

import argparse
from typing import NoReturn

from nimble_otter import __version__
from nimble_otter.translation import tr

COMMANDS = {
    "query": tr("ask a source and deliver the rows"),
    "run": tr("run a saved pull and deliver its rows"),
    "chart": tr("draw a chart of a saved pull's rows as PNG, SVG or PDF"),
    "compare": tr("tell what differs between two pulls, tables or files; statements that bring one into line"),
    "trace": tr("tell what each step of a saved pull made of a row, or what keeps it out of the query"),
    "tables": tr("list the tables of a source; with --send or --to deliver them whole"),
    "describe": tr("tell the columns of a table, its keys and references"),
    "sources": tr("list, add, test or remove saved sources"),
    "find": tr("find a value in a source, table by table"),
    "apply": tr("rehearse or write a script of statements as one transaction"),
    "schedule": tr("list, add, remove, pause, resume, run or share schedules; their log and units"),
    "shelf": tr("list the saved pulls"),
    "team": tr("list who changed what in the team's folder, the newest first"),
    "history": tr("list the last deliveries, the newest first"),
    "formats": tr("list the formats and their options"),
    "demo": tr("write the Merrow river survey, invented sample data, to a folder"),
}


class Parser(argparse.ArgumentParser):
    """Tells a wrong argument in two lines, not by all the options there are."""

    def error(self, message: str) -> NoReturn:
        """End with what is wrong."""
        self.exit(
            2, tr("{prog}: {message}\nRun {prog} --help to see what it takes.\n", prog=self.prog, message=message)
        )


def outline() -> tuple[Parser, dict[str, argparse.ArgumentParser]]:
    """The parser with a parser for each command, which take nothing yet."""
    parser = Parser(
        prog="nimble-otter",
        description=tr("Pull rows, shape them here and deliver them. The desktop application is nimble-otter-desktop."),
        epilog=tr(
            "Exit codes: 0 done, 2 usage, 3 source, 4 query, 5 send, 6 held back by checks, 7 compare found "
            "differences, 128 + n ended by signal n."
        ),
    )
    parser.add_argument("--version", action="version", version=f"nimble-otter {__version__}")
    group = parser.add_mutually_exclusive_group()
    group.add_argument("-v", "--verbose", action="store_true", help=tr("log in more detail, and to standard error too"))
    group.add_argument(
        "-q", "--quiet", action="store_true", help=tr("say nothing but what was asked for, and what failed")
    )
    commands = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")
    return parser, {name: commands.add_parser(name, help=said) for name, said in COMMANDS.items()}
