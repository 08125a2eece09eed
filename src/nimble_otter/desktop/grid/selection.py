"""What is selected in the grid: blocks of positions and columns, never a list of cells."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import overload

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class Block:
    """Positions top..bottom and columns left..right, both ends in."""

    top: int
    left: int
    bottom: int
    right: int

    def holds(self, position: int, column: int) -> bool:
        """Whether a cell lies in the block."""
        return self.top <= position <= self.bottom and self.left <= column <= self.right

    @property
    def cells(self) -> int:
        """How many cells the block has."""
        return (self.bottom - self.top + 1) * (self.right - self.left + 1)


class _Runs(Sequence[Block]):
    """Whole rows wherever they are, as blocks that are made when they are asked for; `positions` ascend."""

    def __init__(self, positions: NDArray[np.int64], right: int) -> None:
        ends = np.flatnonzero(np.diff(positions) != 1)
        self._tops = positions[np.append(0, ends + 1)] if len(positions) else positions
        self._bottoms = positions[np.append(ends, len(positions) - 1)] if len(positions) else positions
        self._right, self.rows = right, len(positions)

    def __len__(self) -> int:
        return len(self._tops)

    @overload
    def __getitem__(self, place: int) -> Block: ...
    @overload
    def __getitem__(self, place: slice) -> list[Block]: ...
    def __getitem__(self, place: int | slice) -> Block | list[Block]:
        if isinstance(place, slice):
            return [self[n] for n in range(*place.indices(len(self)))]
        return Block(int(self._tops[place]), 0, int(self._bottoms[place]), self._right)

    def at(self, position: int) -> list[Block]:
        """The block that a row is in."""
        number = int(np.searchsorted(self._tops, position, side="right")) - 1
        return [self[number]] if number >= 0 else []


class Selection:
    """Blocks with an anchor and a current cell; the last block goes from one to the other."""

    def __init__(self) -> None:
        self.blocks: Sequence[Block] = []
        self.anchor = (0, 0)
        self.current = (-1, -1)
        self._runs: _Runs | None = None

    def clear(self) -> None:
        """Select nothing, with no current cell."""
        self.blocks, self.current = [], (-1, -1)

    def move(self, position: int, column: int, extend: bool = False, add: bool = False) -> None:
        """Go to a cell: alone, `extend` the last block to it, or `add` a block that begins there."""
        if not extend or self.current[0] < 0:
            self.anchor = (position, column)
            self.blocks = [*self.blocks, Block(position, column, position, column)] if add else []
        self.current = (position, column)
        self._put_last()

    def _put_last(self) -> None:
        (a, b), (c, d) = self.anchor, self.current
        block = Block(min(a, c), min(b, d), max(a, c), max(b, d))
        self.blocks = [*self.blocks[:-1], block]

    def rows(self, top: int, bottom: int, columns: int, add: bool = False) -> None:
        """Whole rows."""
        self._whole(Block(min(top, bottom), 0, max(top, bottom), max(0, columns - 1)), (top, 0), add)

    def column(self, column: int, rows: int, add: bool = False) -> None:
        """A whole column."""
        self._whole(Block(0, column, max(0, rows - 1), column), (max(0, self.current[0]), column), add)

    def everything(self, rows: int, columns: int) -> None:
        """Select all cells; the current one stays."""
        self._whole(Block(0, 0, max(0, rows - 1), max(0, columns - 1)), self.current, False)

    def _whole(self, block: Block, current: tuple[int, int], add: bool) -> None:
        self.blocks = [*(self.blocks if add else []), block]
        self.anchor = (block.top, block.left)
        self.current = current if current[0] >= 0 else (block.top, block.left)

    def pick(self, positions: NDArray[np.int64], columns: int) -> None:
        """Whole rows wherever they are; `positions` ascend."""
        runs = _Runs(positions, max(0, columns - 1))
        self.blocks = self._runs = runs
        if runs:
            self.anchor = self.current = (runs[0].top, max(0, self.current[1]))

    def _beside(self, position: int) -> Sequence[Block]:
        """The blocks that a row can be in."""
        return self._runs.at(position) if self._runs is not None and self._runs is self.blocks else self.blocks

    def holds(self, position: int, column: int) -> bool:
        """Whether a cell is selected."""
        return any(block.holds(position, column) for block in self._beside(position))

    def holds_row(self, position: int) -> bool:
        """Whether any cell of a row is selected."""
        return any(block.top <= position <= block.bottom for block in self._beside(position))

    def fit(self, rows: int, columns: int) -> None:
        """Cut to what is there now."""
        if not rows or not columns:
            self.clear()
            return
        kept = [
            Block(b.top, b.left, min(b.bottom, rows - 1), min(b.right, columns - 1))
            for b in self.blocks
            if b.top < rows and b.left < columns
        ]
        self.blocks = kept
        if self.current[0] >= 0:
            self.current = (min(self.current[0], rows - 1), min(self.current[1], columns - 1))
            self.anchor = (min(self.anchor[0], rows - 1), min(self.anchor[1], columns - 1))

    def positions(self) -> Iterator[int]:
        """Selected positions, ascending, each once."""
        done = -1
        for block in sorted(self.blocks, key=lambda b: b.top):
            yield from range(max(block.top, done + 1), block.bottom + 1)
            done = max(done, block.bottom)

    @property
    def row_count(self) -> int:
        """How many different rows are selected."""
        if self._runs is not None and self._runs is self.blocks:
            return self._runs.rows
        count, done = 0, -1
        for block in sorted(self.blocks, key=lambda b: b.top):
            count += max(0, block.bottom - max(block.top, done + 1) + 1)
            done = max(done, block.bottom)
        return count
