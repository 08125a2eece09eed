"""The first words of a command: help and version at once, the rest only for a command that needs it."""

from __future__ import annotations

import logging
import os
import sys
from collections.abc import Sequence

from nimble_otter.cli.outline import COMMANDS, outline


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a command; returns the exit code."""
    given = list(sys.argv[1:] if arguments is None else arguments)
    if not any(word in COMMANDS for word in given):
        outline()[0].parse_args(given)  # which ends with the help, the version or what is wrong
    from nimble_otter.cli.commands import main as run

    code = run(given)
    if arguments is None and code > 128:
        # the interpreter ends itself by SIGINT where an interrupt once came while it compiled a text (as dataclasses
        # do), caught or not: whoever waits would be told of another end
        logging.shutdown()
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)
    return code
