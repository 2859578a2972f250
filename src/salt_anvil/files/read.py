"""Audio files in: WAV, FLAC, AIFF, OGG, MP3, read through libsndfile, mono or stereo."""

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType

import numpy as np
import soundfile

from salt_anvil.core.audio import Sound
from salt_anvil.core.errors import FileError

FORMATS = {"WAV", "WAVEX", "RF64", "FLAC", "AIFF", "OGG", "MP3", "MPEG"}
RATES = (8000, 384000)


@dataclass(frozen=True)
class AudioInfo:
    """What a file holds: rate in Hz, channels, frames, container and sample format."""

    name: str
    rate: int
    channels: int
    frames: int
    format: str
    subtype: str


class SoundReader:
    """An audio file read block by block, as float64 (frames, channels)."""

    def __init__(self, path: Path, name: str | None = None) -> None:
        """Open a file; name is what to call it in messages.

        Raises:
            FileError: it is missing, empty, truncated, no audio, or has too many channels.
        """
        self.name = name or path.name
        if not path.is_file():
            raise FileError(f"{self.name}: there is no such file")
        if path.stat().st_size == 0:
            raise FileError(f"{self.name} is empty (0 bytes)")
        try:
            self._file = soundfile.SoundFile(path)
        except (soundfile.LibsndfileError, OSError):
            raise FileError(
                f"{self.name} is not audio that can be read; WAV, FLAC, AIFF, OGG and MP3 can"
            ) from None
        self.info = AudioInfo(
            self.name,
            self._file.samplerate,
            self._file.channels,
            self._file.frames,
            self._file.format,
            self._file.subtype,
        )
        try:
            self._check(path)
        except FileError:
            self._file.close()
            raise
        self._read = 0

    def _check(self, path: Path) -> None:
        info = self.info
        if info.format not in FORMATS:
            raise FileError(f"{self.name}: {info.format} files cannot be used")
        if info.channels > 2:
            raise FileError(
                f"{self.name} has {info.channels} channels; mono and stereo files can be used"
            )
        if info.frames == 0:
            raise FileError(f"{self.name} holds no sound (0 frames)")
        if not RATES[0] <= info.rate <= RATES[1]:
            raise FileError(
                f"{self.name} has {info.rate} frames a second; {RATES[0]} to {RATES[1]} can be used"
            )
        missing = _missing_bytes(path)
        if missing:
            raise FileError(f"{self.name} is truncated: {missing} bytes of sound are missing")

    def read(self, frames: int) -> Sound:
        """Return the next frames, fewer at the end.

        Raises:
            FileError: the file ends before its stated length, or is damaged.
        """
        try:
            # Of a float file as it stands: the library takes twice as long to widen it.
            kind = "float32" if self.info.subtype == "FLOAT" else "float64"
            read = self._file.read(frames, dtype=kind, always_2d=True)
            block: Sound = read.astype(np.float64, copy=False)
        except soundfile.LibsndfileError:
            raise FileError(f"{self.name} is damaged after {self._seconds()} s") from None
        self._read += len(block)
        stated = self.info.frames
        if len(block) < frames and self._read < stated and self.info.format != "MP3":
            raise FileError(
                f"{self.name} is truncated: it ends after {self._seconds()} s"
                f" of {stated / self.info.rate:.2f} s"
            )
        return block

    def _seconds(self) -> str:
        return f"{self._read / self.info.rate:.2f}"

    def __enter__(self) -> "SoundReader":
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        at: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        """Let the file go."""
        self._file.close()


def read_whole(path: Path) -> tuple[Sound, AudioInfo]:
    """Return a short file's whole sound.

    Raises:
        FileError: it cannot be read.
    """
    with SoundReader(path) as reader:
        blocks = []
        while len(block := reader.read(65536)):
            blocks.append(block)
        return np.concatenate(blocks), reader.info


def markers(path: Path) -> list[tuple[int, str]]:
    """Return the cue points of a WAV file: frame and label, in order; none where there are none.

    Source: the `cue ` and `LIST adtl` chunks of RIFF (Multimedia Programming Interface and Data
    Specifications 1.0, 1991; from memory).
    """
    points: dict[int, int] = {}
    labels: dict[int, str] = {}
    for name, data in _chunks(path, (b"cue ", b"LIST")):
        if name == b"cue ":
            for at in range(4, len(data) - 23, 24):
                number, _, _, _, _, frame = struct.unpack_from("<II4sIII", data, at)
                points[number] = frame
        elif data[:4] == b"adtl":
            labels |= _labels(data[4:])
    found = [(frame, labels.get(number, "")) for number, frame in points.items()]
    return sorted(found)


def _labels(data: bytes) -> dict[int, str]:
    found, at = {}, 0
    while at + 12 <= len(data):
        kind, length, number = struct.unpack_from("<4sII", data, at)
        if kind == b"labl":
            text = data[at + 12 : at + 8 + length].split(b"\0")[0].decode("utf-8", "replace")
            found[number] = "".join(c for c in text if c.isprintable()).strip()[:80]
        at += 8 + length + length % 2
    return found


CHUNK_LIMIT = 1 << 20
"""A list of markers is never larger than this; what claims to be is passed over."""


def _chunks(path: Path, wanted: tuple[bytes, ...]) -> Iterator[tuple[bytes, bytes]]:
    """Give the wanted chunks of a RIFF file."""
    with path.open("rb") as file:
        if file.read(4) not in (b"RIFF", b"RF64"):
            return
        file.seek(12)
        while len(head := file.read(8)) == 8:
            name, length = head[:4], struct.unpack("<I", head[4:])[0]
            if name in wanted and length <= CHUNK_LIMIT:
                yield name, file.read(length)
                file.seek(length % 2, 1)
            else:
                file.seek(length + length % 2, 1)


def _missing_bytes(path: Path) -> int:
    """Return how many bytes of a RIFF file's data chunk are not there; libsndfile is silent."""
    size = path.stat().st_size
    with path.open("rb") as file:
        if file.read(4) != b"RIFF":
            return 0
        file.seek(12)
        while len(head := file.read(8)) == 8:
            name, length = head[:4], struct.unpack("<I", head[4:])[0]
            if name == b"data":
                unknown = length in (0, 0xFFFFFFFF)
                return 0 if unknown else max(0, file.tell() + length - size)
            file.seek(length + length % 2, 1)
    return 0
