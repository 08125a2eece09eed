"""SQLite files."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nimble_otter.sources.address import AddressForm, readable_file
from nimble_otter.sources.dialects.sqlite import SQLITE
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from nimble_otter.sources.sqlite_file import SqliteConnection


class _Sqlite:
    key = "sqlite"
    word = "SQLite"
    schemes = ("sqlite",)
    dialects = (SQLITE,)
    address = AddressForm(tr("SQLite file"), 1, "/path/to/survey.sqlite", is_file=True, head=(0, b"SQLite format 3\0"))

    def takes(self, scheme: str) -> bool:
        return scheme in self.schemes

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> SqliteConnection:
        from nimble_otter.sources.sqlite_file import SqliteConnection

        return SqliteConnection(readable_file(url, self.key))


DRIVER = _Sqlite()
