"""Writing to a terminal: what comes from servers, files and names must not be able to move its cursor, change its
title or hide what stands before."""

from __future__ import annotations

import re
import sys
from typing import BinaryIO, TextIO

_ODD = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069\ud800-\udfff]")
_ODD_BYTES = re.compile(rb"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]|\xc2[\x80-\x9f]")


def harmless(text: str) -> str:
    """The text with control characters written out; line ends and tabs stay."""
    return _ODD.sub(lambda found: found[0].encode("unicode_escape").decode(), text)


_quiet = False


def be_quiet(is_wanted: bool) -> None:
    """Whether notes are left out from now on."""
    global _quiet
    _quiet = is_wanted


def is_quiet() -> bool:
    """Whether notes are left out."""
    return _quiet


def note(text: str, stream: TextIO | None = None) -> None:
    """Print a line that tells what was done, unless the user wants none."""
    if not _quiet:
        tell(text, stream)


def tell(text: str, stream: TextIO | None = None) -> None:
    """Print a line of ours, on standard output unless told otherwise."""
    print(harmless(text), file=stream or sys.stdout)


class HarmlessOutput:
    """Standard output for rows: as they are into a pipe or file, with control characters written out on a terminal."""

    def __init__(self, stream: BinaryIO, is_terminal: bool) -> None:
        self._stream, self._is_terminal = stream, is_terminal

    def write(self, data: bytes) -> int:
        """Write bytes; returns how many were given."""
        if self._is_terminal:
            self._stream.write(_ODD_BYTES.sub(lambda found: repr(found[0])[2:-1].encode(), bytes(data)))
        else:
            self._stream.write(data)
        return len(data)

    def flush(self) -> None:
        """Pass on what is held."""
        self._stream.flush()
