"""Sending: delivering rows to a file or as text, in a format with options. A file is whole or not there at all.

A format is one file in `formats/`. Calls run in any one thread and take a stop token. Read `send.py` first.
"""

from nimble_otter.send.format import Format, Option, Output, Rows, rows_of_view, settings
from nimble_otter.send.naming import Names, fill_name, needs_count
from nimble_otter.send.send import (
    EXISTS,
    Sent,
    all_formats,
    first_rows,
    format_for,
    format_of_file,
    place_for,
    send_tables,
    send_text,
    send_to_file,
    with_suffix,
)

__all__ = [
    "EXISTS",
    "Format",
    "Names",
    "Option",
    "Output",
    "Rows",
    "Sent",
    "all_formats",
    "fill_name",
    "first_rows",
    "format_for",
    "format_of_file",
    "needs_count",
    "place_for",
    "rows_of_view",
    "send_tables",
    "send_text",
    "send_to_file",
    "settings",
    "with_suffix",
]
