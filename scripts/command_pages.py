"""Writes completions and manual pages of the commands to the folder that is installed; `--check` only compares."""

import argparse
import os
import re
import subprocess
import sys
from pathlib import Path

import shtab

os.environ["NIMBLE_OTTER_LANGUAGE"] = "en"  # read when the first of ours is imported

from nimble_otter.cli.commands import parser

SHARE = Path(__file__).parents[1] / "src/nimble_otter/desktop/share"
SHELLS = {"bash": "bash-completion/completions/nimble-otter", "zsh": "zsh/site-functions/_nimble-otter",
          "fish": "fish/vendor_completions.d/nimble-otter.fish"}  # fmt: skip
PAGES = {"nimble-otter": "nimble_otter.cli.commands", "nimble-otter-desktop": "nimble_otter.desktop.app"}


FILES = ("FILE", "PATH", "DIR", "SCRIPT")


def with_files(whole: argparse.ArgumentParser) -> argparse.ArgumentParser:
    """The parser, with names of files completed where one is meant."""
    for action in whole._actions:  # noqa: SLF001 - argparse tells them nowhere else
        if isinstance(action, argparse._SubParsersAction):  # noqa: SLF001
            for inner in action.choices.values():
                with_files(inner)
        elif action.metavar in FILES:
            action.complete = shtab.FILE
    return whole


def pages() -> dict[Path, str]:
    """The files and their texts."""
    made = {SHARE / path: shtab.complete(with_files(parser()), shell) for shell, path in SHELLS.items()}
    for name, module in PAGES.items():
        words = ["argparse-manpage", "--module", module, "--function", "parser", "--prog", name,
                 "--project-name", "nimble-otter", "--manual-title", "Nimble Otter"]  # fmt: skip
        text = subprocess.run([Path(sys.executable).with_name(words[0]), *words[1:]], capture_output=True, text=True,
                              check=True).stdout  # fmt: skip
        made[SHARE / "man/man1" / f"{name}.1"] = re.sub(r'("1" )"[^"]*"', r'\1""', text, count=1)  # without a date
    return made


def main() -> int:
    """Write them, or tell those that are not as they would be written."""
    stale = [path for path, text in pages().items() if not path.exists() or path.read_text("utf-8") != text]
    for path in stale:
        if "--check" in sys.argv[1:]:
            print(f"{path} is stale: run python scripts/command_pages.py")
            continue
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(pages()[path], "utf-8")
    return len(stale) if "--check" in sys.argv[1:] else 0


if __name__ == "__main__":
    sys.exit(main())
