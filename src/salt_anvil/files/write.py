"""Audio files out: WAV, broadcast WAV, AIFF, FLAC; beside their place, moved there when whole."""

import contextlib
import os
from pathlib import Path
from types import TracebackType
from typing import Literal, get_args

import numpy as np
import soundfile

from salt_anvil.core.audio import Sound
from salt_anvil.core.delivery.dither import SEED, Dither, Levels, Quantiser
from salt_anvil.core.errors import FileError
from salt_anvil.core.measure.rows import RowMeter, Rows, figures
from salt_anvil.files.labels import Labels, bext, cue_chunks, history_room, info_chunk, tag
from salt_anvil.files.part import Part
from salt_anvil.files.wave_file import WaveFile

PrintFormat = Literal[
    "wav-16", "wav-24", "wav-32f", "bwf-16", "bwf-24", "bwf-32f",
    "aiff-16", "aiff-24", "flac-16", "flac-24",
]  # fmt: skip
FORMATS: tuple[str, ...] = get_args(PrintFormat)
ENDINGS = {"wav": "wav", "bwf": "wav", "aiff": "aif", "flac": "flac"}
_BITS = {"16": 16, "24": 24, "32f": 0}
_DITHERED = {
    "tpdf": "TPDF dither", "shaped": "TPDF dither, noise shaped", "none": "rounded, no dither",
}  # fmt: skip


PIECE = 32_768
"""Frames that are rounded and written in one go."""
LOUDEST = 1000.0
"""Amplitude that nothing passes on its way into a file (+60 dBFS)."""


class SoundWriter:
    """Writes sound block by block; whole or not at all.

    `clipped` counts samples that did not fit into the integer formats.
    """

    def __init__(
        self,
        path: Path,
        format: PrintFormat,
        *,
        rate: int,
        channels: int,
        frames: int,
        dither: Dither = "tpdf",
        start: int = 0,
        seed: int = SEED,
        labels: Labels | None = None,
    ) -> None:
        """Open the file for a known number of frames; start is the first one's absolute frame.

        Raises:
            FileError: the folder cannot be written to.
        """
        container, width = format.split("-")
        self._container, self._rate, self._channels = container, rate, channels
        self._bits, self._dither, self._start = _BITS[width], dither, start
        self._labels = labels or Labels()
        self._quantiser = Quantiser(
            self._bits or 32, channels, dither=dither, seed=seed, start=start
        )
        self.path = path
        self._meter = RowMeter(rate, channels) if container == "bwf" else None
        self._rows: list[Rows] = []
        self._buffer, self._held = np.empty((PIECE, channels)), 0
        try:
            self._part = Part(path)
        except OSError:
            raise FileError(f"{path} cannot be written: {_reason(path.parent)}") from None
        try:
            self._file = self._opened(self._part.path, frames)
        except (soundfile.LibsndfileError, OSError):
            self._part.drop()
            raise FileError(f"{path} cannot be written: {_reason(path.parent)}") from None

    def _opened(self, path: Path, frames: int) -> "WaveFile | _Library":
        if self._container in ("wav", "bwf"):
            begin = history_room() if self._container == "bwf" else 0
            return WaveFile(path, self._rate, self._channels, self._bits, frames, begin)
        kind = self._container.upper()
        return _Library(path, self._rate, self._channels, self._bits, kind)

    @property
    def clipped(self) -> int:
        """Samples that did not fit."""
        return self._quantiser.clipped

    def write(self, sound: Sound) -> None:
        """Append a block; what is short is kept until there is more of it.

        Raises:
            FileError: the disk is full or gone; nothing is left behind.
        """
        at = 0
        while at < len(sound):
            if not self._held and len(sound) - at >= PIECE:
                self._put(sound[at:])
                return
            taken = min(PIECE - self._held, len(sound) - at)
            self._buffer[self._held : self._held + taken] = sound[at : at + taken]
            self._held += taken
            at += taken
            if self._held == PIECE:
                self._held = 0
                self._put(self._buffer)

    def _put(self, sound: Sound) -> None:
        if not (sound.min(initial=0.0) >= -LOUDEST and sound.max(initial=0.0) <= LOUDEST):
            sound = np.clip(np.nan_to_num(sound, nan=0.0), -LOUDEST, LOUDEST)
        if self._meter is not None:
            self._rows.append(self._meter.feed(sound.copy()))  # it keeps what is left over
        data: Sound | Levels = self._quantiser.levels(sound) if self._bits else sound
        try:
            self._file.write(data)
        except (soundfile.LibsndfileError, OSError) as error:
            self.abandon()
            raise FileError(f"{self.path} was not written: {_words(error)}") from None

    def finish(self) -> None:
        """Close the file and put it in its place.

        Raises:
            FileError: the disk is full or gone; nothing is left behind.
        """
        self._put(self._buffer[: self._held])
        try:
            self._end()
            self._part.place()
        except (soundfile.LibsndfileError, OSError) as error:
            self.abandon()
            raise FileError(f"{self.path} was not written: {_words(error)}") from None

    def _end(self) -> None:
        if isinstance(self._file, _Library):
            self._file.close()
            tag(self._part.path, self._container, self._labels, self._rate)
            return
        if self._meter is not None:
            found = figures(np.concatenate([*self._rows, self._meter.flush()]))
            said = _DITHERED[self._dither] if self._bits else "float"
            self._file.fill(
                bext(
                    self._labels, found, rate=self._rate, bits=self._bits,
                    channels=self._channels, start=self._start, said=said,
                )
            )  # fmt: skip
        self._file.close([*cue_chunks(self._labels.cues), *info_chunk(self._labels)])

    def abandon(self) -> None:
        """Close and remove what has been written."""
        with contextlib.suppress(soundfile.LibsndfileError, OSError):
            self._file.close()
        self._part.drop()

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


class _Library:
    """AIFF and FLAC through libsndfile."""

    def __init__(self, path: Path, rate: int, channels: int, bits: int, kind: str) -> None:
        self._shift = 32 - bits
        self._file = soundfile.SoundFile(path, "w", rate, channels, f"PCM_{bits}", format=kind)

    def write(self, data: Sound | Levels) -> None:
        self._file.write(np.ascontiguousarray(np.asarray(data, np.int32) << self._shift))
        self._file.flush()

    def close(self) -> None:
        self._file.close()


def format_of(path: Path, width: str | None) -> PrintFormat:
    """Return the print format of a file name and a wanted width (16, 24 or 32f).

    Raises:
        FileError: the ending or the combination cannot be written.
    """
    ending = path.suffix.lower().removeprefix(".")
    container = {"aif": "aiff"}.get(ending, ending)
    width = width or ("32f" if container == "wav" else "24")
    for known in get_args(PrintFormat):
        if known == f"{container}-{width}":
            return known  # type: ignore[no-any-return]
    raise FileError(
        f"{path.name}: cannot be written as {container or 'no ending'} {width};"
        f" allowed: {', '.join(FORMATS)}"
    )


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
