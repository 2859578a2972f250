"""Rows in timeline order, taken out in pieces of another size."""

from collections import deque

import numpy as np

from salt_anvil.core.audio import Sound
from salt_anvil.core.engine.pieces import one

AHEAD = 4
"""A new buffer has room for so many puts of the size of the one that needed it."""


class Fifo:
    """Rows (frames or cells) from a moving front; rows before the next one wanted are dropped.

    What is taken is never written to again: rows are appended in a buffer until it is full.
    """

    def __init__(self, position: int, columns: int) -> None:
        self.position = position
        self.rows = np.empty((0, columns))

    @property
    def rows(self) -> Sound:
        """What is held."""
        return self._buffer[self._begin : self._end]

    @rows.setter
    def rows(self, rows: Sound) -> None:
        self._buffer, self._begin, self._end = rows, 0, len(rows)

    @property
    def end(self) -> int:
        """The row after the last one held."""
        return self.position + self._end - self._begin

    def space(self, at: int, count: int) -> tuple[int, Sound]:
        """Append room for rows that start at `at`; return how many are past, and the others."""
        skip = self.position + self._end - self._begin - at
        if skip > 0:
            return skip, self._more(max(count - skip, 0))
        if skip < 0:
            self._more(-skip)[:] = 0.0
        return 0, self._more(count)

    def _more(self, count: int) -> Sound:
        begin, end = self._end, self._end + count
        if end > len(self._buffer):
            held = self.rows
            room = np.empty((len(held) + AHEAD * count, self._buffer.shape[1]))
            room[: len(held)] = held
            self._buffer, self._begin = room, 0
            begin, end = len(held), len(held) + count
        self._end = end
        return self._buffer[begin:end]

    def take(self, count: int) -> Sound:
        """Return the next rows and drop them."""
        begin = self._begin
        self._begin = min(begin + count, self._end)
        self.position += self._begin - begin
        return self._buffer[begin : self._begin]

    def drop_to(self, position: int) -> None:
        """Drop all rows before a position, which may lie ahead of what is held."""
        self._begin = min(self._begin + max(position - self.position, 0), self._end)
        self.position = position


class Rope:
    """Sound from a moving front, as the pieces that were put: only what is cut across is copied.

    Nobody writes to what was put here, nor to what is taken.
    """

    def __init__(self, position: int, channels: int) -> None:
        self.position, self._channels = position, channels
        self._pieces: deque[Sound] = deque()
        self._held = 0

    @property
    def rows(self) -> Sound:
        """What is held."""
        return one([*self._pieces]) if self._pieces else np.empty((0, self._channels))

    @rows.setter
    def rows(self, rows: Sound) -> None:
        self._pieces = deque([rows] if len(rows) else [])
        self._held = len(rows)

    @property
    def end(self) -> int:
        """The frame after the last one held."""
        return self.position + self._held

    def put(self, at: int, sound: Sound) -> None:
        """Append sound that starts at `at`: the end, or before the front; gaps are silent."""
        past = self.end - at
        if past < 0:
            self._append(np.zeros((-past, sound.shape[1])))
        self._append(sound[past:] if past > 0 else sound)

    def _append(self, sound: Sound) -> None:
        if len(sound):
            self._pieces.append(sound)
            self._held += len(sound)

    def take(self, count: int) -> Sound:
        """Return the next frames and drop them."""
        return one(self.take_parts(count))

    def take_parts(self, count: int) -> list[Sound]:
        """Return the next frames in the pieces that they lie in, one at least, and drop them."""
        found, left = [], min(count, self._held)
        self.position += left
        self._held -= left
        while left:
            piece = self._pieces.popleft()
            found.append(piece[:left])
            if len(piece) > left:
                self._pieces.appendleft(piece[left:])
            left -= len(found[-1])
        return found or [np.empty((0, self._channels))]

    def drop_to(self, position: int) -> None:
        """Drop all frames before a position, which may lie ahead of what is held."""
        self.take(max(position - self.position, 0))
        self.position = max(position, self.position)

    def clone(self) -> "Rope":
        """Return an independent copy."""
        other = Rope(self.position, self._channels)
        other._pieces, other._held = self._pieces.copy(), self._held
        return other


class Cells:
    """What a stage reports, by name, side by side in one queue."""

    def __init__(self, position: int) -> None:
        self._fifo = Fifo(position, 0)
        self._columns: dict[str, slice] = {}

    def put(self, at: int, cells: dict[str, Sound]) -> None:
        """Append cells; all start at `at`."""
        if cells.keys() != self._columns.keys():
            self._lay_out(cells)
        skip, space = self._fifo.space(at, len(next(iter(cells.values()))))
        for name, span in self._columns.items():
            space[:, span] = cells[name][skip:]

    def _lay_out(self, cells: dict[str, Sound]) -> None:
        """Make room for other names; what is queued of one that was not told so far is 0."""
        queued = self._fifo.rows
        kept, begin, columns = [], 0, {}
        for name, rows in cells.items():
            width = rows.shape[1]
            reported = self._columns.get(name)
            kept.append(np.zeros((len(queued), width)) if reported is None else queued[:, reported])
            columns[name] = slice(begin, begin + width)
            begin += width
        self._fifo.rows = np.concatenate(kept, axis=1)
        self._columns = columns

    def clone(self) -> "Cells":
        """Return an independent copy."""
        other = Cells(self._fifo.position)
        other._fifo.rows, other._columns = self._fifo.rows.copy(), self._columns
        return other

    def take(self, count: int) -> dict[str, Sound]:
        """Return the next cells and drop them."""
        rows = self._fifo.take(count)
        return {name: rows[:, span] for name, span in self._columns.items()}

    def drop_to(self, position: int) -> None:
        """Drop all cells before a position."""
        self._fifo.drop_to(position)
