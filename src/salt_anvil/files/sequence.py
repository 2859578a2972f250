"""Audio files read once from the front, as the engine asks for them: constant memory.

A part of each is read ahead, beside what is computed from the one before.
"""

from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

import numpy as np
import soxr

from salt_anvil.core.audio import Sound
from salt_anvil.files.read import SoundReader

CHUNK = 65536


class Sequence:
    """One file as frames in rising order, converted to a rate; silence behind its end."""

    def __init__(self, path: Path, rate: int) -> None:
        """Open a file.

        Raises:
            FileError: it cannot be read.
        """
        self._reader = SoundReader(path)
        self.info = self._reader.info
        self._stream = None
        if self.info.rate != rate:
            self._stream = soxr.ResampleStream(
                self.info.rate, rate, self.info.channels, "float64", "VHQ"
            )
        self._waiting = np.zeros((0, self.info.channels))
        self._ended = False
        self._beside = ThreadPoolExecutor(1)
        self._ahead: Future[Sound] | None = None
        self._wanted = CHUNK

    def read(self, frames: int) -> Sound:
        """Return the next frames.

        Raises:
            FileError: the file is damaged.
        """
        while len(self._waiting) < frames and not self._ended:
            block = self._next()
            whole = len(self._waiting) == 0
            self._waiting = block if whole else np.concatenate([self._waiting, block])
        taken = self._waiting[:frames]
        self._waiting = self._waiting[frames:]
        # What is over and what comes next are together as much as is asked for again.
        self._wanted = frames * -(-CHUNK // frames) - len(self._waiting) % frames
        self._look_ahead()
        if len(taken) == frames:
            return taken
        out = np.zeros((frames, self.info.channels))
        out[: len(taken)] = taken
        return out

    def _look_ahead(self) -> None:
        if self._ahead is None and not self._ended:
            self._ahead = self._beside.submit(self._reader.read, self._wanted)
            self._asked = self._wanted

    def _next(self) -> Sound:
        self._look_ahead()
        assert self._ahead is not None
        block, self._ahead = self._ahead.result(), None
        self._ended = len(block) < self._asked
        if self._stream is not None:
            block = self._stream.resample_chunk(block, last=self._ended)
        return block

    def close(self) -> None:
        """Let the file go."""
        self._beside.shutdown()
        self._reader.close()


class Sequences:
    """Several files by name, each asked for in order: what a session of files plays."""

    def __init__(self, paths: dict[str, Path], rate: int) -> None:
        """Open the files.

        Raises:
            FileError: one cannot be read; then none stays open.
        """
        self._files: dict[str, Sequence] = {}
        try:
            for name, path in paths.items():
                self._files[name] = Sequence(path, rate)
        except Exception:
            self.close()
            raise

    def __call__(self, name: str, start: int, frames: int) -> Sound:
        """Give the next frames of a file."""
        return self._files[name].read(frames)

    def close(self) -> None:
        """Let all files go."""
        for file in self._files.values():
            file.close()
