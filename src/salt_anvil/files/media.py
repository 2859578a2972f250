"""The media folder: originals under their hash, decoded once, with overviews to draw from."""

import hashlib
import json
import math
import os
import re
import shutil
import threading
from collections.abc import Callable
from contextlib import closing
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np
import soxr
from numpy.typing import NDArray

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.errors import DamagedError, FileError
from salt_anvil.core.measure.overview import extremes
from salt_anvil.files.checked import CheckedSound, CheckedWriter, sums_path
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
        self.folder = folder
        self._known: dict[str, Media] = {}
        self._sounds: dict[str, CheckedSound] = {}
        self._repairs: dict[str, int] = {}
        self._lock = threading.Lock()
        self._locks: dict[str, threading.Lock] = {}
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
        with self._decoding(media_id):
            if self.whole(media_id):
                return self.media(media_id)
            with SoundReader(path, name) as reader:
                media = self._decode(reader, media_id, rate, progress)
            try:
                self._keep_original(path, digest, Path(name).suffix.lower())
                self._make_peaks(media)
                _write_whole(self._meta(media_id), json.dumps(asdict(media)).encode())
            except OSError as error:
                reason = (error.strerror or "error").lower()
                raise FileError(f"{name} was not kept: {reason}") from None
            self.forget(media_id)
            return media

    def _decoding(self, media_id: str) -> threading.Lock:
        """Return the lock of a decoded file: the same one may be brought in twice at once."""
        with self._lock:
            return self._locks.setdefault(media_id, threading.Lock())

    def _keep_original(self, path: Path, digest: str, suffix: str) -> None:
        original = self.folder / f"{digest}{suffix}"
        kept = path.parent == self.folder
        if kept or (original.exists() and _digest(original) == digest):
            return
        part = original.with_name(original.name + ".part")
        shutil.copyfile(path, part)
        part.replace(original)

    def whole(self, media_id: str) -> bool:
        """Say whether a decoded file is there, and as it was written from end to end."""
        try:
            self.sound(media_id).check()
            return all(len(self.peaks(media_id, size)) for size in PEAK_FRAMES)
        except (FileError, OSError, ValueError):
            return False

    def repair(self, media_id: str) -> Media:
        """Decode a damaged file again from its original.

        Raises:
            FileError: the original is missing or damaged as well.
        """
        digest, _, rate = media_id.rpartition("-")
        name = self._name(media_id)
        for original in self.folder.glob(f"{digest}.*"):
            if original.suffix != ".part" and _digest(original) == digest:
                self.forget(media_id)
                return self.bring_in(original, name, int(rate))
        raise FileError(f"the recording {name} is damaged; bring that file in again to repair it")

    def _name(self, media_id: str) -> str:
        try:
            return self.media(media_id).name
        except FileError:
            return f"{media_id[:12]}"

    def forget(self, media_id: str) -> None:
        """Look a decoded file up again: it was made anew."""
        self._known.pop(media_id, None)
        self._sounds.pop(media_id, None)
        self._repairs[media_id] = self._repairs.get(media_id, 0) + 1

    def media(self, media_id: str) -> Media:
        """Return what is known of a decoded file.

        Raises:
            FileError: it is not here.
        """
        if media_id in self._known:
            return self._known[media_id]
        if not re.fullmatch(r"[A-Za-z0-9_-]+", media_id):
            raise FileError(f"there is no audio “{media_id[:40]}” in the media folder")
        try:
            media = Media(**json.loads(self._meta(media_id).read_text()))
            sound = media.channels in (1, 2) and media.frames >= 0 and media.id == media_id
        except FileNotFoundError:
            raise FileError(f"the audio {media_id[:12]} is missing from the media folder") from None
        except (OSError, ValueError, TypeError):
            sound = False
        if not sound:
            raise DamagedError(f"what is known of the audio {media_id[:12]} is damaged", media_id)
        self._known[media_id] = media
        return media

    def _meta(self, media_id: str) -> Path:
        return self.folder / f"{media_id}.json"

    def _decode(self, reader: SoundReader, media_id: str, rate: int, progress: Progress) -> Media:
        info = reader.info
        target = self.folder / f"{media_id}.f32"
        part = target.with_name(target.name + ".part")
        convert = info.rate != rate
        stream = soxr.ResampleStream(info.rate, rate, info.channels, "float64", "VHQ")
        frames = nonfinite = 0
        try:
            with closing(CheckedWriter(part, info.channels)) as out:
                done = False
                while not done:
                    block = reader.read(CHUNK)
                    done = len(block) < CHUNK
                    bad = ~np.isfinite(block)
                    nonfinite += int(bad.sum())
                    block[bad] = 0.0
                    sound = stream.resample_chunk(block, last=done) if convert else block
                    out.write(sound)
                    frames += len(sound)
                    progress(min(frames / max(info.frames * rate / info.rate, 1), 1.0))
                out.flush()
                os.fsync(out.descriptor)
            sums_path(part).replace(sums_path(target))
            part.replace(target)
        except OSError as error:
            part.unlink(missing_ok=True)
            sums_path(part).unlink(missing_ok=True)
            raise FileError(f"{info.name} was not kept: {(error.strerror or '').lower()}") from None
        except FileError:
            part.unlink(missing_ok=True)
            sums_path(part).unlink(missing_ok=True)
            raise
        return Media(
            media_id,
            info.name,
            rate,
            info.rate,
            info.channels,
            frames,
            f"{info.format} {info.subtype}",
            nonfinite,
        )

    def sound(self, media_id: str) -> CheckedSound:
        """Return the decoded sound.

        Raises:
            FileError: it is not here. DamagedError: it cannot be what was written.
        """
        found = self._sounds.get(media_id)
        if found is None:
            media = self.media(media_id)
            path = self.folder / f"{media_id}.f32"
            if not sums_path(path).exists():
                _make_sums(path, media)
            found = CheckedSound(path, media.channels, media_id)
            if len(found.rows) != media.frames:
                raise DamagedError(f"the decoded file of {media.name} is damaged", media_id)
            self._sounds[media_id] = found
        return found

    def source(
        self, damaged: Callable[[str], None] | None = None
    ) -> Callable[[str, int, int], Sound]:
        """Return the reader that the engine asks for frames; zeros outside the file.

        What is damaged is repaired on the way, which may raise FileError; or, where nobody can
        wait for that, `damaged` is told once and there is silence until it is forgotten.
        """
        silent: dict[str, int] = {}

        def read(media_id: str, start: int, frames: int) -> Sound:
            try:
                return _frames(self.sound(media_id), start, frames)
            except FileError:
                if damaged is None:
                    self.repair(media_id)
                    return _frames(self.sound(media_id), start, frames)
            if media_id not in silent or self._repairs.get(media_id, 0) != silent[media_id]:
                silent[media_id] = self._repairs.get(media_id, 0)
                damaged(media_id)
            return np.zeros((frames, 1))

        return read

    def _make_peaks(self, media: Media) -> None:
        sound = CheckedSound(self.folder / f"{media.id}.f32", media.channels, media.id).rows
        columns = math.ceil(media.frames / PEAK_FRAMES[0])
        finest = np.empty((columns, 2, media.channels), np.float32)
        step = CHUNK // PEAK_FRAMES[0]
        for at in range(0, columns, step):
            piece = sound[at * PEAK_FRAMES[0] : (at + step) * PEAK_FRAMES[0]]
            finest[at : at + step] = extremes(piece, PEAK_FRAMES[0])
        for size in PEAK_FRAMES:
            level = coarser(finest, size // PEAK_FRAMES[0])
            _write_whole(self.folder / f"{media.id}.p{size}", level.tobytes())

    def peaks(self, media_id: str, size: int) -> NDArray[np.float32]:
        """Return the overview of a size in PEAK_FRAMES: (columns, min and max, channels)."""
        media = self.media(media_id)
        columns = math.ceil(media.frames / size)
        try:
            raw = np.fromfile(self.folder / f"{media_id}.p{size}", "<f4")
            return raw.reshape(columns, 2, media.channels)
        except (OSError, ValueError):
            raise DamagedError(f"the overview of {media.name} is damaged", media_id) from None


def coarser(peaks: NDArray[np.float32], factor: int) -> NDArray[np.float32]:
    """Return the overview with `factor` columns taken together."""
    if factor == 1:
        return peaks
    pad = -len(peaks) % factor
    if pad:
        peaks = np.concatenate([peaks, np.repeat(peaks[-1:], pad, axis=0)])
    pieces = peaks.reshape(-1, factor, 2, peaks.shape[2])
    return np.stack([pieces[:, :, 0].min(axis=1), pieces[:, :, 1].max(axis=1)], axis=1)


def _frames(sound: CheckedSound, start: int, frames: int) -> Sound:
    """Return frames [start, start + frames), zeros outside the sound."""
    rows = sound.rows
    low, high = max(start, 0), min(start + frames, len(rows))
    for k in range(low // BLOCK, -(-high // BLOCK)):
        sound.block(k)
    if high - low == frames:
        return rows[low:high].astype(np.float64)
    out = np.zeros((frames, rows.shape[1]))
    if high > low:
        out[low - start : high - start] = rows[low:high]
    return out


def _make_sums(path: Path, media: Media) -> None:
    """Take a file as it is that was decoded before there were checksums."""
    try:
        rows = np.fromfile(path, "<f4").reshape(-1, media.channels)
    except (OSError, ValueError):
        raise DamagedError(f"the decoded file of {media.name} is damaged", media.id) from None
    part = path.with_name(path.name + ".part")
    with closing(CheckedWriter(part, media.channels)) as out:
        out.write(rows)
    part.unlink()
    sums_path(part).replace(sums_path(path))


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _write_whole(path: Path, data: bytes) -> None:
    part = path.with_name(path.name + ".part")
    part.write_bytes(data)
    part.replace(path)
