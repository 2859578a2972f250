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
        skip = self.end - at
        if skip < 0:
            gap = np.zeros((-skip, self.rows.shape[1]))
            self.rows = np.concatenate([self.rows, gap, rows])
        elif skip < len(rows):
            fresh = rows[skip:]
            self.rows = np.concatenate([self.rows, fresh]) if len(self.rows) else fresh

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
