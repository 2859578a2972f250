"""Prints as they are delivered: stems that add up, fades, rates, coders, names, reports."""

import hashlib
import json
from pathlib import Path
from typing import Any

import mutagen
import numpy as np
import pytest
import soundfile
import soxr
from scipy import signal

from salt_anvil.core.edits import (
    AddSection,
    AddStage,
    AddStrip,
    SetSend,
    SetStrip,
    apply_edits,
)
from salt_anvil.core.errors import SettingError
from salt_anvil.core.session import Session, checked
from salt_anvil.files.read import markers
from salt_anvil.jobs.print_command import find_session
from salt_anvil.jobs.print_sets import stems, words_of
from salt_anvil.jobs.print_worker import PrintOptions, print_name, report_of, run_print, variant
from tests.commands import Done, command

SECONDS = 3


@pytest.fixture(scope="module")
def band(band_data: Path) -> Session:
    """The band with a parallel bus, a send to it, and compressors on every bus."""
    session = find_session(band_data, "1")
    bus = next(s.id for s in session.strips if s.kind == "bus")
    main = next(s.id for s in session.strips if s.kind == "main")
    session = apply_edits(session, [AddStrip(strip={"name": "Press", "kind": "bus"})])[0]
    press = next(s.id for s in session.strips if s.name == "Press")
    edits = [
        SetSend(strip="drum", to=press, gain_db=0),
        SetStrip(strip="fiddle", field="pan", value=0.4),
        SetStrip(strip=press, field="fader_db", value=-6),
        *(
            AddStage(place=p, index=0, kind="compressor", params={"threshold_db": -40, "ratio": 8})
            for p in (bus, press, main, "voice")
        ),
        AddSection(start_s=0, name="One"),
        AddSection(start_s=1.5, name="Two / three"),
    ]
    return apply_edits(session, edits)[0]


def printed(data: Path, session: Session, folder: Path, **wanted: Any) -> tuple[np.ndarray, Path]:
    options = checked(PrintOptions, {"format": "wav-32f", "end": SECONDS * 48000, **wanted})
    target = folder / print_name(session, options)
    run_print(data, session.model_dump(), options, target)
    if target.suffix == ".m4a":
        return np.zeros(0), target
    return soundfile.read(target, always_2d=True)[0], target


@pytest.mark.parametrize("which", ["groups", "tracks"])
def test_stems_add_up_to_what_is_printed_beside_them(
    which: str, band_data: Path, band: Session, tmp_path: Path
) -> None:
    like = PrintOptions(format="wav-32f", end=SECONDS * 48000)
    asked = stems(band, which, like)  # type: ignore[arg-type]
    assert len(asked) >= 3
    sounds = []
    for options in asked:
        target = tmp_path / print_name(band, options)
        run_print(band_data, band.model_dump(), options, target)
        sounds.append(soundfile.read(target)[0])
    *parts, whole = sounds
    assert np.abs(whole).max() > 0.01
    assert all(np.abs(p).max() > 1e-4 for p in parts)
    # Floats of 32 bits round each stem by up to 2^-25 of full scale.
    assert 20 * np.log10(np.abs(sum(parts) - whole).max()) < -140
    mix, _ = printed(band_data, band, tmp_path)
    assert np.abs(mix - whole).max() > 0.01  # the compressors of the main bus are not in it
    assert "Compressor on Main bus" in words_of(band, which)  # type: ignore[arg-type]


def test_without_anything_bent_stems_add_up_to_the_mix(band_data: Path) -> None:
    session = variant(find_session(band_data, "1"), PrintOptions(dry="buses"))
    assert words_of(session, "groups").endswith("They add up to the mix.")
    others = [s.id for s in session.strips if s.kind != "main"]
    muted = [SetStrip(strip=s, field="mute", value=True) for s in others]
    with pytest.raises(SettingError, match="no strip to print"):
        stems(apply_edits(session, muted)[0], "groups", PrintOptions())


def test_fades_are_drawn_before_the_dither(band_data: Path, band: Session, tmp_path: Path) -> None:
    plain, _ = printed(band_data, band, tmp_path, name="plain")
    faded, _ = printed(band_data, band, tmp_path, name="faded", fade_in_s=0.5, fade_out_s=1)
    where = np.arange(SECONDS * 48000) + 0.5
    up = np.sin(np.pi / 2 * np.clip(where / 24_000, 0, 1))
    down = np.sin(np.pi / 2 * np.clip((SECONDS * 48000 - where) / 48_000, 0, 1))
    assert np.abs(faded - plain * (up * down)[:, None]).max() < 1e-6
    tail, _ = printed(
        band_data, band, tmp_path, name="16", fade_out_s=1, format="wav-16", dither="tpdf"
    )
    # The last frames are dither alone: it goes on to the end.
    assert 0 < np.abs(tail[-40:] * 32768).max() <= 2


@pytest.mark.parametrize("rate", [44100, 96000])
def test_another_rate_is_made_before_the_dither(
    rate: int, band_data: Path, band: Session, tmp_path: Path
) -> None:
    plain, _ = printed(band_data, band, tmp_path, name="plain")
    other, target = printed(band_data, band, tmp_path, name="other", rate=rate)
    wanted = soxr.resample(plain, 48000, rate, "VHQ")
    assert soundfile.info(target).samplerate == rate
    assert abs(len(other) - len(wanted)) <= 1
    count = min(len(other), len(wanted))
    assert np.abs(other[:count] - wanted[:count]).max() < 1e-5
    narrow, target = printed(band_data, band, tmp_path, name="narrow", rate=rate, format="flac-16")
    assert soundfile.info(target).subtype == "PCM_16"
    noise = (narrow[:count] - wanted[:count]) * 32768
    assert np.square(noise).mean() == pytest.approx(0.25, rel=0.05)
    cues = {w: f for f, w in markers(target.with_name("other.wav"))}
    assert cues["Two / three"] == round(1.5 * rate)


@pytest.mark.parametrize("format", ["mp3-192", "aac-256", "opus-128", "vorbis-192"])
def test_listening_copies(format: str, band_data: Path, band: Session, tmp_path: Path) -> None:
    mix, _ = printed(band_data, band, tmp_path)
    sound, target = printed(
        band_data, band, tmp_path, name="copy", format=format, title="A title", artist="Nobody"
    )
    tags = mutagen.File(target)
    title = {"mp3": "TIT2", "aac": "\xa9nam"}.get(format.split("-")[0], "title")
    assert str(tags[title][0] if format[0] != "m" else tags[title]) == "A title"
    told = json.loads(report_of(target).read_text())
    assert told["frames"] >= SECONDS * 48000
    assert told["integrated_lufs"] is not None
    if len(sound):
        likeness = signal.correlate(sound[: len(mix), 0], mix[:, 0], method="fft")
        assert abs(int(np.argmax(likeness)) - len(mix) + 1) <= 1
    assert not list(tmp_path.glob("*.part"))


def test_the_report_beside_a_print(band_data: Path, band: Session, tmp_path: Path) -> None:
    _, target = printed(band_data, band, tmp_path, format="bwf-24", isrc="ZZAB12600001")
    told = json.loads(report_of(target).read_text())
    assert told["sha256"] == hashlib.sha256(target.read_bytes()).hexdigest()
    assert told["program"].startswith("Salt Anvil ")
    assert told["options"]["format"] == "bwf-24"
    assert told["overs"] == 0
    assert (told["rate"], told["channels"], told["frames"]) == (48000, 2, SECONDS * 48000)
    printed(band_data, band, tmp_path, format="bwf-24", isrc="ZZAB12600001")
    assert json.loads(report_of(target).read_text()) == told


@pytest.mark.parametrize(
    ("name", "part", "wanted"),
    [
        ("{session} - {part}", "", "Band - Main mix.wav"),
        ("{part}_{rate}_{format}", "", "Main mix_48k_wav-24.wav"),
        ('a/b\\c:*?"<>|{part}', "", "a_b_c_______Main mix.wav"),
        ("...", "", "print.wav"),
        ("ö" * 199, "", "ö" * 60 + ".wav"),
        ("x", "Ünïcode 🎻", "x.wav"),
    ],
)
def test_file_names(name: str, part: str, wanted: str, band: Session) -> None:
    options = PrintOptions(name=name, part=part, format="wav-24")
    assert print_name(band.model_copy(update={"name": "Band"}), options) == wanted


def test_what_is_no_print_is_refused() -> None:
    for fields, words in (
        ({"format": "wav-20"}, "no format of a print"),
        ({"format": "mp3-129"}, "no format of a print"),
        ({"name": "{nothing}"}, "a name is made of words"),
        ({"name": "{session.__class__}"}, "a name is made of words"),
        ({"name": "{"}, "a name is made of words"),
        ({"isrc": "nonsense"}, "isrc"),
        ({"rate": 22050}, "rate"),
        ({"fade_in_s": -1}, "fade_in_s"),
    ):
        with pytest.raises(SettingError, match=words):
            checked(PrintOptions, fields)
    assert PrintOptions(dither=True).dither == "tpdf"  # type: ignore[arg-type]
    assert PrintOptions(dither=False).dither == "none"  # type: ignore[arg-type]


def test_the_command_prints_sections_stems_and_copies(band_data: Path, tmp_path: Path) -> None:
    def printed(*words: object) -> Done:
        return command("print", "1", "--data", band_data, "--out", tmp_path, *words)

    said = printed("--stems", "groups", "--format", "flac-16", "--to", "2")
    assert said.returncode == 0, said.stderr
    files = [Path(p) for p in said.stdout.split("\n") if p]
    assert files[-1].name == "Band - sum of the stems.flac"
    parts = [soundfile.read(p)[0] for p in files]
    # Each of these has its own dither; they add up within it.
    assert np.abs(sum(parts[:-1]) - parts[-1]).max() * 32768 < 2 * len(parts)
    again = printed("--stems", "groups", "--format", "flac-16", "--to", "2")
    assert again.returncode == 2
    assert "is there already; say --over" in again.stderr
    copy = printed("--codec", "mp3:128", "--to", "2", "--name", "copy {part}", "--proof")
    assert copy.returncode in (0, 1), copy.stderr
    assert (tmp_path / "copy Main mix.mp3").is_file()
    assert "as it stands" in copy.stdout
    assert "there is no section Bridge" in printed("--section", "Bridge").stderr
    assert "no format of a print" in printed("--format", "wav-20").stderr
