"""Rows in timeline order, taken out in pieces of another size."""

import numpy as np

from salt_anvil.core.dsp.gate import Sound


class Fifo:
    """Rows (frames or cells) from a moving front; rows before the next one wanted are dropped."""

    def __init__(self, position: int, columns: int) -> None:
        self.position = position
        self.rows: Sound = np.empty((0, columns))

    @property
    def end(self) -> int:
        """The row after the last one held."""
        return self.position + len(self.rows)

    def put(self, at: int, rows: Sound) -> None:
        """Append rows that start at `at`, which is the end unless they lie before the front."""
        held = len(self.rows)
        skip = self.position + held - at
        if skip < 0:
            gap = np.zeros((-skip, self.rows.shape[1]))
            self.rows = np.concatenate([self.rows, gap, rows])
        elif skip < len(rows):
            fresh = rows[skip:] if skip else rows
            self.rows = np.concatenate([self.rows, fresh]) if held else fresh

    def take(self, count: int) -> Sound:
        """Return the next rows and drop them."""
        taken, self.rows = self.rows[:count], self.rows[count:]
        self.position += len(taken)
        return taken

    def drop_to(self, position: int) -> None:
        """Drop all rows before a position, which may lie ahead of what is held."""
        self.rows = self.rows[max(position - self.position, 0) :]
        self.position = position

    def clone(self) -> "Fifo":
        """Return an independent copy."""
        other = Fifo(self.position, self.rows.shape[1])
        other.rows = self.rows
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
        self._fifo.put(at, np.concatenate([cells[name] for name in self._columns], axis=1))

    def _lay_out(self, cells: dict[str, Sound]) -> None:
        """Make room for other names; what is queued of one that was not told so far is 0."""
        queued = self._fifo.rows
        kept, begin, columns = [], 0, {}
        for name, rows in cells.items():
            width = rows.shape[1]
            told = self._columns.get(name)
            kept.append(np.zeros((len(queued), width)) if told is None else queued[:, told])
            columns[name] = slice(begin, begin + width)
            begin += width
        self._fifo.rows = np.concatenate(kept, axis=1)
        self._columns = columns

    def take(self, count: int) -> dict[str, Sound]:
        """Return the next cells and drop them."""
        rows = self._fifo.take(count)
        return {name: rows[:, span] for name, span in self._columns.items()}

    def drop_to(self, position: int) -> None:
        """Drop all cells before a position."""
        self._fifo.drop_to(position)
