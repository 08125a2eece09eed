"""Sending: delivering rows to a file or as text, in a format with options. A file is whole or not there at all.

A format is one file in `formats/`. Calls run in any one thread and take a stop token. Read `send.py` first.
"""

from nimble_otter.send.format import Format, Option, Rows
from nimble_otter.send.naming import fill_name
from nimble_otter.send.send import Sent, all_formats, format_for, format_of_file, send_text, send_to_file

__all__ = [
    "Format",
    "Option",
    "Rows",
    "Sent",
    "all_formats",
    "fill_name",
    "format_for",
    "format_of_file",
    "send_text",
    "send_to_file",
]
