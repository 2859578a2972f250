"""Audio files out: WAV and FLAC, written beside their place and moved there when whole."""

import contextlib
import os
from pathlib import Path
from types import TracebackType
from typing import BinaryIO, Literal, get_args

import numpy as np
import soundfile

from salt_anvil.core.audio import Sound
from salt_anvil.core.delivery.dither import quantised
from salt_anvil.core.errors import FileError

PrintFormat = Literal["wav-16", "wav-24", "wav-32f", "flac-16", "flac-24"]
FORMATS: tuple[str, ...] = get_args(PrintFormat)
_BITS = {"16": 16, "24": 24, "32f": 0}
_SUBTYPE = {16: "PCM_16", 24: "PCM_24", 0: "FLOAT"}
_RIFF_LIMIT = 0xFFFFFFFF - 4096


LOUDEST = 1000.0
"""Amplitude that nothing passes on its way into a file (+60 dBFS)."""


class SoundWriter:
    """Writes sound block by block; whole or not at all.

    `dither` adds TPDF of 2 LSB to the integer formats. `clipped` counts samples that did not fit.
    """

    def __init__(
        self,
        path: Path,
        format: PrintFormat,
        *,
        rate: int,
        channels: int,
        frames: int,
        dither: bool = True,
        start: int = 0,
    ) -> None:
        """Open the file for a known number of frames; start is the first one's absolute frame.

        Raises:
            FileError: the folder cannot be written to.
        """
        container, width = format.split("-")
        self._bits, self._dither, self._at = _BITS[width], dither, start
        self.path, self.clipped = path, 0
        self._part = part_of(path)
        size = frames * channels * (self._bits or 32) // 8
        kind = "RF64" if container == "wav" and size > _RIFF_LIMIT else container.upper()
        try:
            self._file = soundfile.SoundFile(
                self._part, "w", rate, channels, _SUBTYPE[self._bits], format=kind
            )
        except (soundfile.LibsndfileError, OSError):
            raise FileError(f"{path} cannot be written: {_reason(path.parent)}") from None

    def write(self, sound: Sound) -> None:
        """Append a block.

        Raises:
            FileError: the disk is full or gone; nothing is left behind.
        """
        if not np.abs(sound).max(initial=0.0) <= LOUDEST:
            sound = np.clip(np.nan_to_num(sound, nan=0.0), -LOUDEST, LOUDEST)
        if self._bits:
            levels, over = quantised(sound, self._at, self._bits, dither=self._dither)
            self.clipped += over
            data = np.ascontiguousarray(levels << (32 - self._bits))
        else:
            data = sound.astype(np.float32)
        self._at += len(sound)
        try:
            self._file.write(data)
            self._file.flush()
        except (soundfile.LibsndfileError, OSError) as error:
            self.abandon()
            raise FileError(f"{self.path} was not written: {_words(error)}") from None

    def finish(self) -> None:
        """Close the file and put it in its place."""
        self._file.close()
        with self._part.open("r+b") as file:
            if not self._bits:
                _undate(file)
            os.fsync(file.fileno())
        self._part.replace(self.path)

    def abandon(self) -> None:
        """Close and remove what has been written."""
        with contextlib.suppress(soundfile.LibsndfileError, OSError):
            self._file.close()
        self._part.unlink(missing_ok=True)

    def __enter__(self) -> "SoundWriter":
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        at: TracebackType | None,
    ) -> None:
        if kind is None:
            self.finish()
        else:
            self.abandon()


def part_of(path: Path) -> Path:
    """Return the file that a file is written to until it is whole."""
    return path.with_name(path.name + ".part")


def format_of(path: Path, width: str | None) -> PrintFormat:
    """Return the print format of a file name and a wanted width (16, 24 or 32f).

    Raises:
        FileError: the ending or the combination cannot be written.
    """
    container = path.suffix.lower().removeprefix(".")
    width = width or ("32f" if container == "wav" else "24")
    for known in get_args(PrintFormat):
        if known == f"{container}-{width}":
            return known  # type: ignore[no-any-return]
    raise FileError(
        f"{path.name}: cannot be written as {container or 'no ending'} {width};"
        f" allowed: {', '.join(FORMATS)}"
    )


def _undate(file: BinaryIO) -> None:
    """Take the time of writing out of a float file's peak chunk: same sound, same bytes."""
    at = file.read(256).find(b"PEAK")
    if at > 0:
        file.seek(at + 12)  # name, size, version
        file.write(bytes(4))
        file.flush()


def _reason(folder: Path) -> str:
    if not folder.is_dir():
        return f"there is no folder {folder}"
    return (
        "the folder does not let this user write" if not os.access(folder, os.W_OK) else "no access"
    )


def _words(error: Exception) -> str:
    if isinstance(error, OSError) and error.strerror:
        return error.strerror.lower()
    return "the disk is full or cannot be reached"
