"""Ways out gone: rate, width and coder by real converters, encoders and decoders.

soxr converts; FFmpeg's libraries (through PyAV) code and decode MP3 (LAME), AAC and Opus (libopus);
libsndfile codes and decodes Vorbis.
"""

from collections.abc import Callable, Iterator
from fractions import Fraction
from pathlib import Path
from typing import cast

import numpy as np
import soundfile
import soxr

from salt_anvil.core.audio import Sound
from salt_anvil.core.delivery.dither import Dither, Quantiser
from salt_anvil.core.delivery.ways import CODERS, Way
from salt_anvil.core.errors import FileError

PIECE = 65_536
ENCODERS = {"mp3": ("libmp3lame", "mp3", "fltp"), "aac": ("aac", "mp4", "fltp"),
            "opus": ("libopus", "ogg", "flt")}  # fmt: skip
"""FFmpeg's encoder, the container, and the samples that the encoder takes."""
ENDINGS = {"mp3": "mp3", "aac": "m4a", "opus": "opus", "vorbis": "ogg"}
VORBIS_QUALITY = {64: 0.0, 80: 0.1, 96: 0.2, 128: 0.4, 160: 0.5, 192: 0.6, 256: 0.8, 320: 0.9}
"""Nominal kbit/s of stereo at 44.1 kHz by quality (the format's own table, from memory)."""
GoOn = Callable[[int], None]
"""Told how many frames are done; may raise to stop."""


def pieces(path: Path) -> Iterator[Sound]:
    """Give a file's sound piece by piece, float64."""
    with soundfile.SoundFile(path) as file:
        while len(block := file.read(PIECE, dtype="float64", always_2d=True)):
            yield block


def converted(way: Way, sound: Iterator[Sound], rate: int, channels: int) -> Iterator[Sound]:
    """Give sound at the way's rate and width, full scale 1.0, still as float64."""
    out_rate = way.rate_at(rate)
    if way.bits and way.dither == "before":
        sound = _rounded(sound, way.bits, channels, "tpdf")
    if out_rate != rate:
        sound = _resampled(sound, rate, out_rate, channels)
    if way.bits:
        sound = _rounded(sound, way.bits, channels, "tpdf" if way.dither == "last" else "none")
    return sound


def _rounded(sound: Iterator[Sound], bits: int, channels: int, dither: Dither) -> Iterator[Sound]:
    quantiser = Quantiser(bits, channels, dither=dither)
    for block in sound:
        yield quantiser.levels(block) / float(1 << (bits - 1))


def _resampled(sound: Iterator[Sound], rate: int, out: int, channels: int) -> Iterator[Sound]:
    stream = soxr.ResampleStream(rate, out, channels, dtype="float64", quality="VHQ")
    for block in sound:
        yield stream.resample_chunk(np.ascontiguousarray(block))
    yield stream.resample_chunk(np.zeros((0, channels)), last=True)


def encode(
    way: Way, sound: Iterator[Sound], rate: int, channels: int, path: Path, go_on: GoOn
) -> None:
    """Write sound (at the way's rate) with the way's coder; go_on counts its frames.

    Raises:
        FileError: the coder refused it.
    """
    assert way.codec and way.kbps
    kbps = min(way.kbps, CODERS[way.codec].most_a_channel * channels)
    try:
        if way.codec == "vorbis":
            _encode_vorbis(sound, rate, channels, path, VORBIS_QUALITY[way.kbps], go_on)
        else:
            _encode_av(way.codec, kbps, sound, rate, channels, path, go_on)
    except (ValueError, OSError, soundfile.LibsndfileError) as error:
        raise FileError(f"{CODERS[way.codec].title} could not be made: {error}") from None


def _encode_vorbis(
    sound: Iterator[Sound], rate: int, channels: int, path: Path, quality: float, go_on: GoOn
) -> None:
    # libsndfile counts the other way round.
    with soundfile.SoundFile(
        path, "w", rate, channels, "VORBIS", format="OGG", compression_level=1.0 - quality
    ) as file:
        done = 0
        for block in sound:
            # Its encoder keeps a whole write on the stack: short ones.
            for at in range(0, len(block), 4096):
                file.write(block[at : at + 4096].astype(np.float32))
            done += len(block)
            go_on(done)


def _encode_av(
    codec: str,
    kbps: int,
    sound: Iterator[Sound],
    rate: int,
    channels: int,
    path: Path,
    go_on: GoOn,
) -> None:
    import av  # heavy, and only wanted here

    name, container, samples = ENCODERS[codec]
    layout = "mono" if channels == 1 else "stereo"
    with av.open(str(path), "w", format=container) as file:
        stream = cast("av.AudioStream", file.add_stream(name, rate=rate))
        stream.bit_rate = kbps * 1000
        stream.layout, stream.format = layout, samples
        done = 0
        for block in sound:
            if not len(block):
                continue
            data = block.astype(np.float32)
            shaped = data.T if samples.endswith("p") else data.reshape(1, -1)
            frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(shaped), samples, layout)
            frame.sample_rate, frame.time_base = rate, Fraction(1, rate)
            frame.pts = done
            for packet in stream.encode(frame):
                file.mux(packet)
            done += len(block)
            go_on(done)
        for packet in stream.encode(None):
            file.mux(packet)


def _decode_av(path: Path, channels: int) -> Iterator[Sound]:
    import av

    with av.open(str(path)) as file:
        for frame in file.decode(audio=0):
            data = frame.to_ndarray()
            shaped = data.T if frame.format.is_planar else data.reshape(-1, channels)
            yield np.asarray(shaped, np.float64)


def _gathered(sound: Iterator[Sound]) -> Iterator[Sound]:
    """Give short blocks as longer ones, float64: what comes after costs by the block."""
    waiting: list[Sound] = []
    count = 0
    for block in sound:
        waiting.append(block)
        count += len(block)
        if count >= PIECE:
            yield np.concatenate(waiting)
            waiting, count = [], 0
    if waiting:
        yield np.concatenate(waiting)


def about(path: Path) -> tuple[int, int]:
    """Return rate and channels of a coded file.

    Raises:
        FileError: it cannot be read.
    """
    import av

    try:
        with av.open(str(path)) as file:
            stream = file.streams.audio[0]
            return int(stream.rate or 0), int(stream.channels)
    except (ValueError, OSError, IndexError) as error:
        raise FileError(f"{path.name} cannot be read: {error}") from None


def decode(codec: str, path: Path, channels: int) -> Iterator[Sound]:
    """Give what a coded file decodes to, float64; the coder's delay is taken out by the container.

    Raises:
        FileError: it cannot be decoded.
    """
    try:
        if codec == "vorbis":
            yield from pieces(path)
            return
        yield from _gathered(_decode_av(path, channels))
    except (ValueError, OSError, soundfile.LibsndfileError) as error:
        raise FileError(f"{path.name} cannot be decoded: {error}") from None
