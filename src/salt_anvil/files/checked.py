"""Sound on disk with a checksum a block, checked whenever a block is read.

NAME holds float32 rows, NAME.sums one 64-bit xxh3 checksum for each BLOCK of them; the last may be
short.
"""

import os
from pathlib import Path
from typing import BinaryIO

import numpy as np
import xxhash
from numpy.typing import NDArray

from salt_anvil.core.audio import BLOCK
from salt_anvil.core.errors import DamagedError, FileError

Rows = NDArray[np.float32]


def sums_path(path: Path) -> Path:
    """Return the file that holds a sound file's checksums."""
    return path.with_name(path.name + ".sums")


class CheckedWriter:
    """Writes rows and their checksums; what is not a whole block waits for the next rows."""

    def __init__(self, path: Path, channels: int) -> None:
        self._file: BinaryIO = path.open("wb")
        self._sums: BinaryIO = sums_path(path).open("wb")
        self._size = BLOCK * channels * 4
        self._waiting = b""

    @property
    def descriptor(self) -> int:
        """The sound file's number, to be synchronised."""
        return self._file.fileno()

    def write(self, rows: NDArray[np.floating]) -> None:
        """Append rows, (frames, channels)."""
        data = rows.astype("<f4").tobytes()
        self._file.write(data)
        data = self._waiting + data
        whole = len(data) // self._size * self._size
        for at in range(0, whole, self._size):
            self._sums.write(_sum(data[at : at + self._size]))
        self._waiting = data[whole:]

    def flush(self) -> None:
        """Let others read what is written."""
        self._file.flush()
        self._sums.flush()

    def close(self) -> None:
        """Write what waits, and close."""
        if self._waiting:
            self._sums.write(_sum(self._waiting))
        self._waiting = b""
        self._file.close()
        self._sums.close()


def _sum(data: bytes | memoryview) -> bytes:
    return xxhash.xxh3_64_intdigest(data).to_bytes(8, "little")


class CheckedSound:
    """Rows of a file, mapped; what is read is what was written, or it says that it is not."""

    def __init__(self, path: Path, channels: int, where: str) -> None:
        """Open a file; where: what is to be dropped or repaired if it is damaged.

        Raises:
            FileError: it is missing. DamagedError: its size cannot be.
        """
        self._path, self._where = path, where
        try:
            sums = sums_path(path).read_bytes()
            with path.open("rb") as file:
                size = os.fstat(file.fileno()).st_size
                self._bytes = np.memmap(file, np.uint8, "r") if size else np.empty(0, np.uint8)
        except OSError:
            raise FileError(f"the sound {path.name[:12]} is missing") from None
        row = 4 * channels
        if size % row or len(sums) != 8 * -(-size // (row * BLOCK)):
            raise self._damaged()
        self._sums = np.frombuffer(sums, "<u8").tolist()
        # A plain view: slices of a memmap object cost more than copying the block.
        self.rows: Rows = np.asarray(self._bytes).view("<f4").reshape(-1, channels)
        self._view = np.asarray(self._bytes).data
        self._size = row * BLOCK

    def _damaged(self) -> DamagedError:
        return DamagedError(f"the file {self._path.name} is damaged", self._where)

    def block(self, k: int) -> Rows:
        """Return block k, short or empty at the end.

        Raises:
            DamagedError: it is not what was written.
        """
        if not 0 <= k < len(self._sums):
            return self.rows[:0]
        data = self._view[k * self._size : (k + 1) * self._size]
        if xxhash.xxh3_64_intdigest(data) != self._sums[k]:
            raise self._damaged()
        return self.rows[k * BLOCK : (k + 1) * BLOCK]

    def blocks(self, k: int, count: int) -> Rows:
        """Return blocks [k, k + count), as many as there are.

        Raises:
            DamagedError: one is not what was written.
        """
        for each in range(k, k + count):
            self.block(each)
        return self.rows[k * BLOCK : (k + count) * BLOCK]

    def check(self) -> None:
        """Check every block.

        Raises:
            DamagedError: one is not what was written.
        """
        for k in range(len(self._sums)):
            self.block(k)
