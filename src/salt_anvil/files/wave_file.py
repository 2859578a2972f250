"""WAV files out: PCM and float, RF64 beyond 4 GiB, with chunks in front of and behind the sound.

RIFF (Multimedia Programming Interface and Data Specifications 1.0, 1991), RF64 (EBU Tech 3306,
2009). libsndfile writes neither loudness fields nor cue markers, and the time into float files.
"""

import os
import struct
from pathlib import Path

import numpy as np

from salt_anvil.core.audio import Sound
from salt_anvil.core.delivery.dither import Levels

RIFF_LIMIT = 0xFFFFFFFF
_TAIL_ROOM = 1 << 20


class WaveFile:
    """A WAV file being written; `begin` bytes are kept free in front of the sound for a chunk."""

    def __init__(
        self, path: Path, rate: int, channels: int, bits: int, frames: int, begin: int = 0
    ) -> None:
        """Open it for so many frames. bits: 16, 24 or 0 for 32-bit float.

        Raises:
            OSError: it cannot be written.
        """
        self._width = (bits or 32) // 8
        self._bits, self._channels = bits, channels
        self._frames = 0
        self._large = frames * channels * self._width + begin > RIFF_LIMIT - _TAIL_ROOM
        self._file = path.open("w+b")
        self._front: tuple[bytes, int] | None = None
        try:
            self._head(rate, begin)
        except OSError:
            self._file.close()
            raise

    def _head(self, rate: int, begin: int) -> None:
        write = self._file.write
        write(struct.pack("<4sI4s", b"RF64" if self._large else b"RIFF", 0xFFFFFFFF, b"WAVE"))
        if self._large:
            write(struct.pack("<4sIQQQI", b"ds64", 28, 0, 0, 0, 0))
        frame = self._channels * self._width
        kind = 1 if self._bits else 3
        form = struct.pack(
            "<HHIIHH", kind, self._channels, rate, rate * frame, frame, 8 * self._width
        )
        if not self._bits:
            form += struct.pack("<H", 0)
        write(struct.pack("<4sI", b"fmt ", len(form)) + form)
        if not self._bits:
            write(struct.pack("<4sI", b"fact", 4))
            self._fact = self._file.tell()
            write(bytes(4))
        if begin:
            write(struct.pack("<4sI", b"bext", begin))
            self._place = self._file.tell()
            write(bytes(begin + begin % 2))
        write(struct.pack("<4sI", b"data", 0xFFFFFFFF))
        self._data = self._file.tell()

    def write(self, sound: Sound | Levels) -> None:
        """Append a block: integers of the width, or float where it has no bits.

        Raises:
            OSError: the disk is full or gone.
        """
        if self._bits == 24:
            raw = np.ascontiguousarray(sound, "<i4").view(np.uint8).reshape(-1, 4)[:, :3]
        else:
            raw = np.ascontiguousarray(sound, "<i2" if self._bits else "<f4")
        self._file.write(np.ascontiguousarray(raw).data)
        self._file.flush()
        self._frames += len(sound)
        self._send_on(raw.nbytes)

    def _send_on(self, count: int) -> None:
        """Let the system begin to store what was written last, so that the end has not to wait for
        all of it."""
        if hasattr(os, "posix_fadvise"):
            begin = self._file.tell() - count
            os.posix_fadvise(self._file.fileno(), begin, count, os.POSIX_FADV_DONTNEED)

    def fill(self, chunk: bytes) -> None:
        """Write the chunk in front of the sound."""
        self._file.seek(self._place)
        self._file.write(chunk)
        self._file.seek(0, os.SEEK_END)

    def close(self, chunks: list[tuple[bytes, bytes]] | None = None) -> None:
        """Append chunks, and write the lengths.

        Raises:
            OSError: the disk is full or gone.
        """
        if self._file.closed:
            return
        try:
            size = self._frames * self._channels * self._width
            self._file.seek(0, os.SEEK_END)
            self._file.write(bytes(size % 2))
            for name, data in chunks or []:
                self._file.write(struct.pack("<4sI", name, len(data)) + data + bytes(len(data) % 2))
            whole = self._file.tell() - 8
            if self._large:
                self._file.seek(20)
                self._file.write(struct.pack("<QQQ", whole, size, self._frames))
            else:
                self._file.seek(4)
                self._file.write(struct.pack("<I", whole))
                self._file.seek(self._data - 4)
                self._file.write(struct.pack("<I", size))
            if not self._bits:
                self._file.seek(self._fact)
                self._file.write(struct.pack("<I", min(self._frames, RIFF_LIMIT)))
        finally:
            self._file.close()
