"""What files say of themselves, read back by others: FFmpeg's demuxers, mutagen, by hand."""

import struct
from pathlib import Path

import av
import mutagen
import numpy as np
import pyloudnorm
import pytest
import soundfile

from salt_anvil.files.labels import Labels
from salt_anvil.files.read import markers
from salt_anvil.files.wave_file import WaveFile
from salt_anvil.files.write import FORMATS, SoundWriter
from tests.conftest import noise
from tests.files.test_files import riff_chunks

LABELS = Labels(
    "Second evening", "Nobody Yet", "ZZ-AB1-26-00001", "made here",
    ((0, "One"), (48_000, "Zwei ö")),
    1_700_000_000.0,
)  # fmt: skip


def written(folder: Path, format: str, sound: np.ndarray, **more: object) -> Path:
    path = folder / f"x-{format}"
    with SoundWriter(
        path,
        format,
        rate=48000,
        channels=sound.shape[1],
        frames=len(sound),
        labels=LABELS,
        **more,  # type: ignore[arg-type]
    ) as writer:
        for at in range(0, len(sound), 9973):
            writer.write(sound[at : at + 9973])
    return path


@pytest.mark.parametrize("format", FORMATS)
@pytest.mark.parametrize("channels", [1, 2])
def test_the_sound_is_what_was_written_whatever_stands_beside_it(
    format: str, channels: int, tmp_path: Path
) -> None:
    sound = noise(100_001, channels, level=0.2, seed=4)  # an odd number of bytes in 24-bit mono
    path = written(tmp_path, format, sound, dither="none")
    step = {"16": 2**-15, "24": 2**-23, "32f": 2**-24}[format.split("-")[1]]
    back, rate = soundfile.read(path, always_2d=True)
    assert (rate, back.shape) == (48000, sound.shape)
    assert np.abs(back - sound).max() <= step / 2 * 1.001
    with av.open(str(path)) as file:  # and by FFmpeg
        stream = file.streams.audio[0]
        assert (stream.rate, stream.channels) == (48000, channels)
        assert sum(f.samples for f in file.decode(audio=0)) == len(sound)


@pytest.mark.parametrize("format", ["wav-16", "bwf-24", "wav-32f"])
def test_wav_chunks(format: str, tmp_path: Path) -> None:
    path = written(tmp_path, format, noise(96_001, 1, level=0.1))
    chunks = riff_chunks(path)
    assert struct.unpack("<I", path.read_bytes()[4:8])[0] == path.stat().st_size - 8
    names = [name for name, _ in chunks]
    assert names[-4:] == [b"cue ", b"LIST", b"LIST", b"axml"]
    assert names.index(b"fmt ") < names.index(b"data")
    assert b"ISRC:ZZ-AB1-26-00001" in dict(chunks)[b"axml"]
    assert markers(path) == [(0, "One"), (48_000, "Zwei ö")]
    with av.open(str(path)) as file:
        said = file.metadata
    assert (said["title"], said["artist"], said["comment"]) == (
        "Second evening", "Nobody Yet", "made here",
    )  # fmt: skip


def test_broadcast_fields(tmp_path: Path) -> None:
    """EBU Tech 3285 v2: the fields by their places, loudness in hundredths."""
    sound = noise(5 * 48000, 2, level=0.1, seed=9)
    path = written(tmp_path, "bwf-24", sound, start=96_000)
    chunks = riff_chunks(path)
    assert [n for n, _ in chunks][:3] == [b"fmt ", b"bext", b"data"]
    body = dict(chunks)[b"bext"]
    assert body[:256].rstrip(b"\0").decode() == "Nobody Yet - Second evening - made here"
    assert body[256:288].rstrip(b"\0") == b"Salt Anvil"
    assert body[288:320].rstrip(b"\0") == b"ZZ-AB1-26-00001"
    assert (body[320:330], body[330:338]) == (b"2023-11-14", b"22:13:20")
    assert struct.unpack("<QH", body[338:348]) == (96_000, 2)
    loudness, spread, peak, momentary, short = struct.unpack("<5h", body[412:422])
    reference = pyloudnorm.Meter(48000).integrated_loudness(sound)
    assert loudness / 100 == pytest.approx(reference, abs=0.06)
    assert peak / 100 == pytest.approx(20 * np.log10(np.abs(sound).max()), abs=1)
    assert abs(momentary - loudness) < 100
    assert abs(short - loudness) < 50
    assert 0 <= spread < 100
    history = body[602:].rstrip(b"\0").decode()
    assert history == "A=PCM,F=48000,W=24,M=stereo,T=Salt Anvil; TPDF dither\r\n"
    with av.open(str(path)) as file:
        assert file.metadata["encoded_by"] == "Salt Anvil"
        assert file.metadata["time_reference"] == "96000"


def test_silence_has_no_loudness_in_its_fields(tmp_path: Path) -> None:
    path = written(tmp_path, "bwf-16", np.zeros((48000, 2)), dither="none")
    assert struct.unpack("<5h", dict(riff_chunks(path))[b"bext"][412:422]) == (0x7FFF,) * 5


@pytest.mark.parametrize("format", ["flac-24", "aiff-16"])
def test_names_in_other_containers(format: str, tmp_path: Path) -> None:
    path = written(tmp_path, format, noise(96_000, 2, level=0.1))
    found = mutagen.File(path)
    if format == "flac-24":
        assert found["title"] == ["Second evening"]
        assert found["isrc"] == ["ZZ-AB1-26-00001"]
        assert found["CHAPTER001"] == ["00:00:01.000"]
        assert found["CHAPTER001NAME"] == ["Zwei ö"]
    else:
        assert found["TIT2"].text == ["Second evening"]
        assert found["TSRC"].text == ["ZZ-AB1-26-00001"]
        assert found["CHAP:c1"].start_time == 1000


def test_rf64_beyond_four_gibibytes(tmp_path: Path) -> None:
    """Sparse: what lies between is never written. Read by libsndfile, which knows RF64 itself."""
    frames, path = (1 << 30) + 1000, tmp_path / "large.wav"
    file = WaveFile(path, 48000, 2, 24, frames)
    beginning, end = np.full((1000, 2), 1 << 20, np.int32), np.full((1000, 2), -(1 << 21), np.int32)
    file.write(beginning)
    file._file.seek((frames - 2000) * 6, 1)
    file._frames += frames - 2000
    file.write(end)
    file.close()
    assert path.stat().st_size > 6 << 30
    with soundfile.SoundFile(path) as back:
        assert (back.format, back.frames) == ("RF64", frames)
        assert (back.read(1000) == 2**-3).all()
        back.seek(frames - 1000)
        assert (back.read(1000) == -(2**-2)).all()
    path.unlink()
