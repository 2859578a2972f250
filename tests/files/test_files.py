"""Files in and out: formats, conversion, refusals in one sentence, dither, atomic writing."""

import contextlib
import json
import os
import struct
import threading
from pathlib import Path

import numpy as np
import pytest
import soundfile
import soxr

from salt_anvil.analysis.cache import Meta, StripCache
from salt_anvil.core.delivery.dither import Quantiser, tpdf
from salt_anvil.core.dsp.listening import LATENCY
from salt_anvil.core.errors import FileError
from salt_anvil.files.checked import sums_path
from salt_anvil.files.media import PEAK_FRAMES, MediaFolder
from salt_anvil.files.read import SoundReader, markers, read_whole
from salt_anvil.files.write import SoundWriter, format_of
from salt_anvil.jobs.process_file import load_recipe, process_file
from tests.conftest import noise, sine

# libsndfile writes floats times 2**n - 1 and reads integers over 2**n: with the rounding that is
# up to 1.5 LSB. The last two are lossy.
FORMATS = [
    ("wav", "PCM_16", 1.5 * 2**-15), ("wav", "PCM_24", 1.5 * 2**-23), ("wav", "PCM_32", 1e-9),
    ("wav", "FLOAT", 1e-7), ("wav", "DOUBLE", 0),
    ("flac", "PCM_16", 1.5 * 2**-15), ("flac", "PCM_24", 1.5 * 2**-23),
    ("aiff", "PCM_16", 1.5 * 2**-15), ("ogg", "VORBIS", 0.2), ("mp3", "MPEG_LAYER_III", 0.5),
]  # fmt: skip


@pytest.mark.parametrize(("ending", "subtype", "error"), FORMATS)
@pytest.mark.parametrize("channels", [1, 2])
def test_formats_are_read(
    tmp_path: Path, ending: str, subtype: str, error: float, channels: int
) -> None:
    sound = sine(440, 1.0, level_db=-6, channels=channels)
    path = tmp_path / f"tone.{ending}"
    soundfile.write(path, sound, 48000, subtype=subtype)
    back, info = read_whole(path)
    assert (info.channels, info.rate) == (channels, 48000)
    if ending != "mp3":
        assert len(back) == len(sound)
        assert np.abs(back - sound).max() <= error
    else:
        assert np.sqrt(np.mean(back**2)) == pytest.approx(np.sqrt(np.mean(sound**2)), rel=0.05)


def bad_file(tmp_path: Path, kind: str) -> Path:
    path = tmp_path / f"{kind}.wav"
    good = tmp_path / "good.wav"
    soundfile.write(good, noise(48000), 48000)
    if kind == "empty":
        path.write_bytes(b"")
    elif kind == "text":
        path.write_text("this is not sound")
    elif kind == "truncated":
        path.write_bytes(good.read_bytes()[:100_000])
    elif kind == "no frames":
        soundfile.write(path, np.zeros((0, 2)), 48000)
    elif kind == "eight channels":
        soundfile.write(path, noise(1000, 8), 48000)
    elif kind == "cut flac":
        path = tmp_path / "cut.flac"
        soundfile.write(path, noise(48000), 48000)
        path.write_bytes(path.read_bytes()[:60_000])
    return path


BAD = [
    ("empty", r"is empty \(0 bytes\)"), ("text", "not audio that can be read"),
    ("truncated", "is truncated: 92044 bytes of sound are missing"),
    ("no frames", r"holds no sound \(0 frames\)"),
    ("eight channels", "has 8 channels; mono and stereo"),
    ("cut flac", "truncated|damaged"), ("missing", "there is no such file"),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "words"), BAD)
def test_bad_files_are_refused_in_one_sentence(tmp_path: Path, kind: str, words: str) -> None:
    folder = MediaFolder(tmp_path / "media")
    path = bad_file(tmp_path, kind)
    with pytest.raises(FileError, match=words) as reported:
        folder.bring_in(path, path.name, 48000) if path.exists() else SoundReader(path)
    assert "\n" not in str(reported.value)
    assert list((tmp_path / "media").iterdir()) == []


def test_a_wrong_ending_is_no_obstacle(tmp_path: Path) -> None:
    """What counts is what is in the file: FLAC named .wav is read as FLAC."""
    path = tmp_path / "really-flac.wav"
    soundfile.write(path, noise(1000), 48000, format="FLAC")
    assert SoundReader(path).info.format == "FLAC"


def test_brought_in_once_kept_for_ever(tmp_path: Path) -> None:
    folder = MediaFolder(tmp_path / "media")
    path = tmp_path / "take.wav"
    sound = noise(100_000, 1)
    soundfile.write(path, sound, 48000, subtype="FLOAT")
    reported: list[float] = []
    media = folder.bring_in(path, "take.wav", 48000, reported.append)
    again = folder.bring_in(path, "other name.wav", 48000)
    assert again.id == media.id
    assert reported[-1] == 1.0
    assert (folder.sound(media.id).rows == sound.astype(np.float32)).all()
    originals = [p for p in (tmp_path / "media").iterdir() if p.suffix == ".wav"]
    assert originals[0].read_bytes() == path.read_bytes()


def test_other_rates_are_converted_with_soxr(tmp_path: Path) -> None:
    folder = MediaFolder(tmp_path / "media")
    path = tmp_path / "take.wav"
    soundfile.write(path, sine(1000, 2, 44100, channels=1) * 0.5, 44100, subtype="DOUBLE")
    media = folder.bring_in(path, "take.wav", 48000)
    assert (media.source_rate, media.rate, media.frames) == (44100, 48000, 96000)
    tone = folder.sound(media.id).rows[4800:-4800, 0]
    expected = sine(1000, 2, 48000, channels=1)[4800:-4800, 0] * 0.5
    assert np.abs(tone - expected).max() < 1e-5
    whole = soxr.resample(read_whole(path)[0], 44100, 48000, "VHQ")
    assert np.abs(folder.sound(media.id).rows - whole).max() < 1e-6


def test_nan_carrying_files_are_cleaned_and_counted(tmp_path: Path) -> None:
    sound = noise(5000)
    sound[100, 1] = np.nan
    path = tmp_path / "nan.wav"
    soundfile.write(path, sound, 48000, subtype="FLOAT")
    folder = MediaFolder(tmp_path / "media")
    media = folder.bring_in(path, path.name, 48000)
    assert media.nonfinite == 1
    assert np.isfinite(folder.sound(media.id).rows).all()


def test_overviews_hold_the_extremes(tmp_path: Path) -> None:
    sound = noise(100_001, 2)
    path = tmp_path / "take.wav"
    soundfile.write(path, sound, 48000, subtype="FLOAT")
    folder = MediaFolder(tmp_path / "media")
    media = folder.bring_in(path, path.name, 48000)
    exact = sound.astype(np.float32)
    for size in PEAK_FRAMES:
        peaks = folder.peaks(media.id, size)
        assert len(peaks) == -(-100_001 // size)
        for column in (0, 1, len(peaks) - 1):
            piece = exact[column * size : (column + 1) * size]
            assert (peaks[column] == [piece.min(axis=0), piece.max(axis=0)]).all()


def test_source_gives_silence_outside_the_file(tmp_path: Path) -> None:
    path = tmp_path / "take.wav"
    soundfile.write(path, noise(1000, 1), 48000)
    folder = MediaFolder(tmp_path / "media")
    media = folder.bring_in(path, path.name, 48000)
    read = folder.source()
    assert (read(media.id, -100, 50) == 0).all()
    assert (read(media.id, 990, 100)[10:] == 0).all()


# Writing -----------------------------------------------------------------------------------------


@pytest.mark.parametrize("format", ["wav-16", "wav-24", "wav-32f", "flac-16", "flac-24"])
def test_written_files_are_what_they_say(tmp_path: Path, format: str) -> None:
    sound = noise(5000)
    path = tmp_path / f"out.{format.split('-')[0]}"
    with SoundWriter(path, format, rate=44100, channels=2, frames=5000, dither="none") as writer:  # type: ignore[arg-type]
        writer.write(sound[:3000])
        writer.write(sound[3000:])
    info = soundfile.info(path)
    assert (info.samplerate, info.channels, info.frames) == (44100, 2, 5000)
    step = {"16": 2**-15, "24": 2**-23, "32f": 2**-24}[format.split("-")[1]]
    back = soundfile.read(path, dtype="float64")[0]
    assert np.abs(back - sound).max() <= step / 2 * 1.001


@pytest.mark.parametrize("format", ["wav-16", "bwf-24", "flac-24", "wav-32f"])
def test_in_what_pieces_it_is_written_does_not_matter(tmp_path: Path, format: str) -> None:
    """Nor what becomes of a piece afterwards; the broadcast one tells its loudness as well."""
    sound, rng = noise(90_001), np.random.default_rng(4)
    ending = "flac" if format.startswith("flac") else "wav"
    whole, parts = tmp_path / f"whole.{ending}", tmp_path / f"parts.{ending}"
    about = {"rate": 48000, "channels": 2, "frames": len(sound)}
    with SoundWriter(whole, format, **about) as writer:  # type: ignore[arg-type]
        writer.write(sound)
    with SoundWriter(parts, format, **about) as writer:  # type: ignore[arg-type]
        at = 0
        while at < len(sound):
            piece = sound[at : at + int(rng.choice([1, 900, 33_000, 40_000]))].copy()
            writer.write(piece)
            piece[:] = 1.0
            at += len(piece)
    assert whole.read_bytes() == parts.read_bytes()


def riff_chunks(path: Path) -> list[tuple[bytes, bytes]]:
    """Read a RIFF file's chunks by hand; of the sound only how long it says to be."""
    found, data = [], path.read_bytes()
    at = 12
    while at < len(data):
        name, size = struct.unpack_from("<4sI", data, at)
        found.append((name, data[at + 8 : at + 8 + size]))
        at += 8 + size + size % 2
    return found


def test_a_float_file_does_not_tell_when_it_was_written(tmp_path: Path) -> None:
    path = tmp_path / "out.wav"
    with SoundWriter(path, "wav-32f", rate=48000, channels=2, frames=100) as writer:
        writer.write(noise(100))
    names = [name for name, _ in riff_chunks(path)]
    assert names == [b"fmt ", b"fact", b"data"]  # no peak chunk, which holds the time


def test_an_abandoned_file_leaves_nothing(tmp_path: Path) -> None:
    path = tmp_path / "out.wav"
    with (
        pytest.raises(RuntimeError),
        SoundWriter(path, "wav-24", rate=48000, channels=1, frames=10) as w,
    ):
        w.write(np.zeros((5, 1)))
        raise RuntimeError
    assert list(tmp_path.iterdir()) == []


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="needs /dev/full")
def test_a_full_disk_is_said_in_one_sentence(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    part = tmp_path / "out.wav.part"
    part.symlink_to("/dev/full")
    writer = None
    with pytest.raises(FileError, match=r"(was not written|cannot be written)"):
        writer = SoundWriter(tmp_path / "out.wav", "wav-24", rate=48000, channels=2, frames=10**6)
        for _ in range(200):
            writer.write(noise(4096))
    assert not (tmp_path / "out.wav").exists()


def test_a_folder_that_cannot_be_written_to(tmp_path: Path) -> None:
    with pytest.raises(FileError, match="there is no folder"):
        SoundWriter(tmp_path / "nowhere" / "x.wav", "wav-24", rate=48000, channels=1, frames=1)


@pytest.mark.parametrize(("name", "width"), [("x.mp3", None), ("x.flac", "32f"), ("x", None)])
def test_formats_that_cannot_be_written(name: str, width: str | None) -> None:
    with pytest.raises(FileError, match="cannot be written as"):
        format_of(Path(name), width)


# Dither: Lipshitz, Wannamaker, Vanderkooy 1992 -------------------------------------------------


def test_tpdf_error_power_and_independence() -> None:
    """Total error power of TPDF of 2 LSB: LSB squared / 4; mean 0, whatever the signal."""
    frames = 400_000
    for value in (0.0, 0.25, 0.5):
        level = np.full((frames, 1), value / 32768)
        codes = Quantiser(16, 1).levels(level)
        error = codes[:, 0] - value
        # 400 000 samples: standard errors of 0.0008 (mean) and 0.0006 (power).
        assert error.mean() == pytest.approx(0, abs=0.004)
        assert np.mean(error**2) == pytest.approx(0.25, abs=0.003)


def test_tpdf_is_a_function_of_the_frame() -> None:
    whole = tpdf(0, 10_000, 2)
    assert np.abs(whole).max() < 1
    for start in (1, 37, 1024, 9000):
        assert (tpdf(start, 500, 2) == whole[start : start + 500]).all()


def test_clipped_samples_are_counted() -> None:
    quantiser = Quantiser(16, 1, dither="none")
    codes = quantiser.levels(np.array([[1.5], [-1.5], [0.5]]))
    assert codes[:, 0].tolist() == [32767, -32768, 16384]
    assert quantiser.clipped == 2


# Process -----------------------------------------------------------------------------------------


def recipe_file(tmp_path: Path, *chain: dict) -> Path:
    path = tmp_path / "recipe.json"
    body = {"format": "salt-anvil/recipe", "version": 1, "name": "r", "bpm": None}
    path.write_text(json.dumps(body | {"chain": list(chain)}))
    return path


@pytest.mark.parametrize("frames", [1, 1023, 1024, 50_001])
@pytest.mark.parametrize("channels", [1, 2])
def test_length_rate_and_channels_stay_and_latency_goes(
    tmp_path: Path, frames: int, channels: int
) -> None:
    sound = noise(frames, channels)
    soundfile.write(tmp_path / "in.wav", sound, 44100, subtype="FLOAT")
    stage = {"kind": "compressor", "params": {"ratio": 1, "lookahead_ms": 11}}
    recipe = load_recipe(recipe_file(tmp_path, stage))
    report = process_file(tmp_path / "in.wav", tmp_path / "out.wav", recipe, "wav-32f")
    back, info = read_whole(tmp_path / "out.wav")
    assert (info.rate, info.channels, info.frames) == (44100, channels, frames)
    assert np.abs(back - sound.astype(np.float32)).max() < 1e-7
    assert report["latency"] == 485 + LATENCY


def test_report_tells_reduction(tmp_path: Path) -> None:
    soundfile.write(tmp_path / "in.wav", sine(1000, 4, level_db=-6), 48000, subtype="FLOAT")
    stage = {
        "id": "c",
        "kind": "compressor",
        "params": {"threshold_db": -26, "ratio": 2, "knee_db": 0},
    }
    recipe = load_recipe(recipe_file(tmp_path, stage))
    report = process_file(tmp_path / "in.wav", tmp_path / "out.wav", recipe, "wav-32f")
    # 20 dB over at 2 : 1 is 10 dB; the sine's tops droop by 0.05 dB between them.
    assert report["reduction"]["c"]["median"] == pytest.approx(10, abs=0.2)
    assert report["out"]["integrated_lufs"] - report["in"]["integrated_lufs"] == pytest.approx(
        -10, abs=0.3
    )


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "is not JSON"),
        ('{"a": 1}', "there is no such field|chain is missing"),
        ("[]", "Recipe|dictionary|object"),
    ],
)
def test_recipes_that_are_none(tmp_path: Path, text: str, words: str) -> None:
    path = tmp_path / "r.json"
    path.write_text(text)
    from salt_anvil.core.errors import SettingError

    with pytest.raises((FileError, SettingError), match=words):
        load_recipe(path)


def test_cache_limit_drops_what_was_used_longest_ago(tmp_path: Path) -> None:
    cache = StripCache(tmp_path / "cache", limit=2500)
    for index, name in enumerate(("old", "kept", "new")):
        cache.begin(name, Meta(1, 100, []))
        cache.path(name, "out.f32").write_bytes(bytes(1000))
        cache.touch(name)
        os.utime(cache.path(name, "used"), (index, index))
    cache.trim({"old"})
    assert cache.meta("old") is not None
    assert cache.meta("kept") is None
    assert cache.meta("new") is not None


def test_what_is_dropped_while_it_is_read_is_empty_or_missing(tmp_path: Path) -> None:
    """Analysis begins a strip anew while a page draws it: no moment of it is an error."""
    cache, ended = StripCache(tmp_path / "cache"), threading.Event()

    def anew() -> None:
        for _ in range(400):
            cache.begin("x", Meta(1, 100, []))
            cache.path("x", "cells-s-reduction_db.f32").write_bytes(bytes(400))
            cache.path("x", "out.f32").write_bytes(bytes(4))
            sums_path(cache.path("x", "out.f32")).write_bytes(bytes(8))
            cache.drop("x")
        ended.set()

    writer = threading.Thread(target=anew)
    writer.start()
    while not ended.is_set():
        assert len(cache.cells("x", "s", "reduction_db", 1)) in (0, 100)
        with contextlib.suppress(FileError):
            cache.output("x", 1)
        cache.meta("x")
        cache.done("x")
    writer.join()


def with_cues(path: Path, points: list[tuple[int, int, str]]) -> None:
    """Append `cue ` and `LIST adtl` chunks to a WAV file, byte by byte after the RIFF tables."""
    cue = struct.pack("<I", len(points))
    labels = b"adtl"
    for number, frame, text in points:
        cue += struct.pack("<II4sIII", number, frame, b"data", 0, 0, frame)
        body = struct.pack("<I", number) + text.encode() + b"\0"
        labels += struct.pack("<4sI", b"labl", len(body)) + body + b"\0" * (len(body) % 2)
    data = path.read_bytes()
    for name, chunk in ((b"cue ", cue), (b"LIST", labels)):
        data += name + struct.pack("<I", len(chunk)) + chunk + b"\0" * (len(chunk) % 2)
    path.write_bytes(data[:4] + struct.pack("<I", len(data) - 8) + data[8:])


def test_cue_markers_are_read_in_order(tmp_path: Path) -> None:
    path = tmp_path / "marked.wav"
    soundfile.write(path, noise(48_000, 1), 48_000)
    assert markers(path) == []
    with_cues(path, [(2, 24_000, "Reel"), (1, 0, "Verse"), (7, 30_000, "")])
    assert markers(path) == [(0, "Verse"), (24_000, "Reel"), (30_000, "")]
    # Another reader still takes the file for what it is.
    assert soundfile.info(path).frames == 48_000
    whole = path.read_bytes()
    for size in range(len(whole) - 120, len(whole)):
        path.write_bytes(whole[:size])
        assert len(markers(path)) <= 3
