"""Binary values in files beside a delivery: one a value, named by a pattern, with the ending that its content has."""

from __future__ import annotations

import re
import shutil
import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from nimble_otter.errors import SendError
from nimble_otter.send.format import Rows
from nimble_otter.send.naming import safe_part
from nimble_otter.stop import StopToken
from nimble_otter.table import MISSING, Column, Field, Kind
from nimble_otter.table.core.build import column_of
from nimble_otter.table.text.content import content_of
from nimble_otter.table.text.show import plain
from nimble_otter.translation import tr

FILE = "{} file"
"""What the column of a file's path is called, beside that of its bytes."""


class Beside:
    """Files are made in a folder of their own beside the delivery's place, and moved to it once all is written."""

    def __init__(self, delivery: Path, pattern: str, keep: bool) -> None:
        self._folder = delivery.with_name(f"{delivery.stem}-files")
        self._pattern, self._keep = pattern or "{column}-{row}", keep
        self._taken: set[str] = set()
        self._stage: Path | None = None
        self._row = 0

    def of(self, rows: Rows, both: bool) -> Rows:
        """The same rows with the paths of files where binary values were; with `both` the paths stand in a column of
        their own behind the values."""
        self._check(rows)
        binary = [place for place, field in enumerate(rows.fields) if field.kind is Kind.OBJECT]
        fields: list[Field] = []
        linked = set()
        for place, field in enumerate(rows.fields):
            if place not in binary:
                fields.append(field)
                continue
            if both:
                fields.append(field)
            fields.append(replace(field, name=FILE.format(field.name) if both else field.name, look=None))
            linked.add(fields[-1].name)

        def blocks(stop: StopToken) -> Iterator[Sequence[Column]]:
            for block in rows.blocks(stop):
                columns: list[Column] = []
                for index, column in enumerate(block):
                    if index not in binary:
                        columns.append(column)
                        continue
                    if both:
                        columns.append(column)
                    columns.append(self._written(rows, block, index, stop))
                self._row += len(block[0]) if block else 0
                yield columns

        return replace(rows, fields=fields, blocks=blocks, linked=frozenset(linked))

    def _check(self, rows: Rows) -> None:
        for name in re.findall(r"\{([^{}]*)\}", self._pattern):
            if name not in ("column", "row", *rows.names):
                raise SendError(
                    tr("There is no {{{name}}} for the names of files beside.", name=name),
                    tr("There are {{column}}, {{row}} and the columns: {names}.", names=", ".join(rows.names[:12])),
                )

    def _written(self, rows: Rows, block: Sequence[Column], place: int, stop: StopToken) -> Column:
        values = block[place].values()
        if not any(isinstance(value, bytes) for value in values):
            return block[place]
        paths: list[Any] = []
        for row, value in enumerate(values):
            if not isinstance(value, bytes):
                paths.append(value if value is not MISSING else None)
                continue
            stop.check()
            name = self._name(rows, block, place, row) + content_of(value).suffix
            (self._folder_of_now() / name).write_bytes(value)
            paths.append(f"{self._folder.name}/{name}")
        return column_of(paths)

    def _name(self, rows: Rows, block: Sequence[Column], place: int, row: int) -> str:
        def fill(found: re.Match[str]) -> str:
            if found[1] == "column":
                return rows.names[place]
            if found[1] == "row":
                return str(self._row + row + 1)
            return plain(block[rows.names.index(found[1])].value(row))[:80]

        wanted = safe_part(re.sub(r"\{([^{}]*)\}", fill, self._pattern))[:120]
        name, number = wanted, 1
        while name.casefold() in self._taken or (self._keep and any(self._folder.glob(f"{_no_signs(name)}.*"))):
            number += 1
            name = f"{wanted} ({number})"
        self._taken.add(name.casefold())
        return name

    def _folder_of_now(self) -> Path:
        if self._stage is None:
            self._stage = Path(
                tempfile.mkdtemp(prefix=f".{self._folder.name[:40]}.", suffix=".part", dir=self._folder.parent)
            )
            self._stage.chmod(0o755)
        return self._stage

    def finish(self) -> tuple[Path, int] | None:
        """Move the files to their place; returns the folder and how many there are. Raises: OSError."""
        if self._stage is None:
            return None
        self._folder.mkdir(exist_ok=True)
        files = list(self._stage.iterdir())
        for file in files:
            file.replace(self._folder / file.name)
        return self._folder, len(files)

    def clean(self) -> None:
        """Remove what was written, as the delivery failed."""
        if self._stage is not None:
            shutil.rmtree(self._stage, ignore_errors=True)


def _no_signs(name: str) -> str:
    return re.sub(r"([*?\[])", r"[\1]", name)
