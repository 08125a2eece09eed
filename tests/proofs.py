"""How often a proof is repeated: few times in `./check`, often with `--long`, when its count goes to PROOFS.md."""

import datetime as dt
import os
from pathlib import Path

IS_LONG = bool(os.environ.get("NIMBLE_OTTER_LONG"))
_FILE = Path(__file__).parents[1] / "benchmarks" / "PROOFS.md"


def how_many(few, many):
    return many if IS_LONG else few


def proven(what, where, cases, note=""):
    """Called where a proof held for all of its cases."""
    if IS_LONG:
        with _FILE.open("a", encoding="utf-8") as file:
            file.write(f"| {dt.date.today()} | `./check --long` | {what} | {where} | {cases:,} | none | {note} |\n")
