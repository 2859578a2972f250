"""The media folder: originals under their hash, decoded once, with overviews to draw from."""

import hashlib
import json
import math
import os
import shutil
from collections.abc import Callable
from dataclasses import asdict, dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
import soxr
from numpy.typing import NDArray

from salt_anvil.core.dsp.gate import Sound
from salt_anvil.files.errors import FileError
from salt_anvil.files.read import SoundReader

CHUNK = 65536
PEAK_FRAMES = (64, 512, 4096)
"""Frames a column of the overviews, finest first."""

Progress = Callable[[float], None]


@dataclass(frozen=True)
class Media:
    """One decoded file at one rate. source_rate differs from rate where it was converted."""

    id: str
    name: str
    rate: int
    source_rate: int
    channels: int
    frames: int
    format: str
    nonfinite: int


class MediaFolder:
    """Keeps audio: originals are never changed, decoded sound is memory-mapped."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._known: dict[str, Media] = {}
        folder.mkdir(parents=True, exist_ok=True)

    def bring_in(
        self, path: Path, name: str, rate: int, progress: Progress = lambda share: None
    ) -> Media:
        """Copy a file in, decode it to a rate, and make its overviews.

        A rate other than the file's is reached with soxr at its highest quality.

        Raises:
            FileError: the file cannot be used, or the disk is full; nothing is left behind.
        """
        digest = _digest(path)
        media_id = f"{digest}-{rate}"
        known = self._meta(media_id)
        if known.is_file():
            return self.media(media_id)
        with SoundReader(path, name) as reader:
            media = self._decode(reader, media_id, rate, progress)
        try:
            original = self._folder / f"{digest}{Path(name).suffix.lower()}"
            if not original.exists():
                part = original.with_name(original.name + ".part")
                shutil.copyfile(path, part)
                part.replace(original)
            self._make_peaks(media)
            _write_whole(known, json.dumps(asdict(media)).encode())
        except OSError as error:
            raise FileError(f"{name} was not kept: {(error.strerror or 'error').lower()}") from None
        return media

    def media(self, media_id: str) -> Media:
        """Return what is known of a decoded file.

        Raises:
            FileError: it is not here.
        """
        if media_id in self._known:
            return self._known[media_id]
        try:
            media = Media(**json.loads(self._meta(media_id).read_text()))
        except FileNotFoundError:
            raise FileError(f"the audio {media_id[:12]} is missing from the media folder") from None
        self._known[media_id] = media
        return media

    def _meta(self, media_id: str) -> Path:
        return self._folder / f"{media_id}.json"

    def _decode(self, reader: SoundReader, media_id: str, rate: int, progress: Progress) -> Media:
        info = reader.info
        part = self._folder / f"{media_id}.f32.part"
        convert = info.rate != rate
        stream = soxr.ResampleStream(info.rate, rate, info.channels, "float64", "VHQ")
        frames = nonfinite = 0
        try:
            with part.open("wb") as out:
                done = False
                while not done:
                    block = reader.read(CHUNK)
                    done = len(block) < CHUNK
                    bad = ~np.isfinite(block)
                    nonfinite += int(bad.sum())
                    block[bad] = 0.0
                    sound = stream.resample_chunk(block, last=done) if convert else block
                    out.write(sound.astype("<f4").tobytes())
                    frames += len(sound)
                    progress(min(frames / max(info.frames * rate / info.rate, 1), 1.0))
                out.flush()
                os.fsync(out.fileno())
            part.replace(self._folder / f"{media_id}.f32")
        except OSError as error:
            part.unlink(missing_ok=True)
            raise FileError(f"{info.name} was not kept: {(error.strerror or '').lower()}") from None
        except FileError:
            part.unlink(missing_ok=True)
            raise
        return Media(
            media_id, info.name, rate, info.rate, info.channels, frames,
            f"{info.format} {info.subtype}", nonfinite,
        )  # fmt: skip

    def sound(self, media_id: str) -> NDArray[np.float32]:
        """Return the decoded sound, memory-mapped, (frames, channels).

        Raises:
            FileError: it is not here.
        """
        return _mapped(self._folder / f"{media_id}.f32", self.media(media_id).channels)

    def source(self) -> Callable[[str, int, int], Sound]:
        """Return the reader that the engine asks for frames; zeros outside the file."""

        def read(media_id: str, start: int, frames: int) -> Sound:
            sound = self.sound(media_id)
            out = np.zeros((frames, sound.shape[1]))
            low, high = max(start, 0), min(start + frames, len(sound))
            if high > low:
                out[low - start : high - start] = sound[low:high]
            return out

        return read

    def _make_peaks(self, media: Media) -> None:
        sound = _mapped(self._folder / f"{media.id}.f32", media.channels)
        columns = math.ceil(media.frames / PEAK_FRAMES[0])
        finest = np.empty((columns, 2, media.channels), np.float32)
        step = CHUNK // PEAK_FRAMES[0]
        for at in range(0, columns, step):
            piece = sound[at * PEAK_FRAMES[0] : (at + step) * PEAK_FRAMES[0]]
            finest[at : at + step] = extremes(piece, PEAK_FRAMES[0])
        for size in PEAK_FRAMES:
            level = coarser(finest, size // PEAK_FRAMES[0])
            _write_whole(self._folder / f"{media.id}.p{size}", level.tobytes())

    def peaks(self, media_id: str, size: int) -> NDArray[np.float32]:
        """Return the overview of a size in PEAK_FRAMES: (columns, min and max, channels)."""
        media = self.media(media_id)
        raw = np.fromfile(self._folder / f"{media_id}.p{size}", "<f4")
        return raw.reshape(-1, 2, media.channels)


def extremes(sound: NDArray[np.floating], size: int) -> NDArray[np.float32]:
    """Return (columns, min and max, channels) of pieces of `size` frames; the last may be short."""
    frames, channels = sound.shape
    pad = -frames % size
    if pad:
        sound = np.concatenate([sound, np.repeat(sound[-1:], pad, axis=0)])
    pieces = sound.reshape(-1, size, channels)
    return np.stack([pieces.min(axis=1), pieces.max(axis=1)], axis=1).astype(np.float32)


def coarser(peaks: NDArray[np.float32], factor: int) -> NDArray[np.float32]:
    """Return the overview with `factor` columns taken together."""
    if factor == 1:
        return peaks
    pad = -len(peaks) % factor
    if pad:
        peaks = np.concatenate([peaks, np.repeat(peaks[-1:], pad, axis=0)])
    pieces = peaks.reshape(-1, factor, 2, peaks.shape[2])
    return np.stack([pieces[:, :, 0].min(axis=1), pieces[:, :, 1].max(axis=1)], axis=1)


@lru_cache(maxsize=256)
def _mapped(path: Path, channels: int) -> NDArray[np.float32]:
    try:
        return np.memmap(path, "<f4", "r").reshape(-1, channels)
    except FileNotFoundError:
        raise FileError(f"the sound {path.name[:12]} is missing from the media folder") from None


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _write_whole(path: Path, data: bytes) -> None:
    part = path.with_name(path.name + ".part")
    part.write_bytes(data)
    part.replace(path)
