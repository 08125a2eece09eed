"""What cursors (PEP 249) over batches of columns have in common: rows as they are asked for."""

from __future__ import annotations

from collections.abc import Iterator

from nimble_otter.values import Value


class ColumnCursor:
    """`_left` are the rows that were not asked for yet."""

    _left: Iterator[Value] = iter(())

    def fetchmany(self, size: int = 1) -> list[Value]:
        """Rows, at most so many."""
        return [row for _, row in zip(range(size), self._left, strict=False)]

    def fetchall(self) -> list[Value]:
        """All rows that are left."""
        return list(self._left)

    def fetchone(self) -> Value:
        """One row; None behind the last."""
        return next(self._left, None)
