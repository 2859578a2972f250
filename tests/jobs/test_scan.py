"""Scans over real runs: a file, a recipe that is run through, a session; held for `process`."""

import json
from pathlib import Path
from typing import Any

import numpy as np
import pyloudnorm
import pytest
import soundfile

from salt_anvil.cli import main
from salt_anvil.core.processors.tamer import Place
from salt_anvil.core.resonances.places import merged
from salt_anvil.core.resonances.scan import Resonance
from tests.core.resonances import beds
from tests.core.resonances.beds import RATE, Ring

RINGS = [Ring(400, 8, 12), Ring(2500, 10, 10)]


@pytest.fixture
def rung(tmp_path: Path) -> Path:
    path = tmp_path / "rung.wav"
    sound = beds.ringing(beds.drums(3).sound, RINGS)
    soundfile.write(path, np.stack([sound, sound], axis=1) * 0.3, RATE, subtype="FLOAT")
    return path


def run(*words: Any) -> int:
    return main([str(w) for w in words])


def near(hz: float, ring: Ring) -> bool:
    return abs(np.log2(hz / ring.hz)) < 1 / 6


def test_a_file_is_scanned_and_the_tamer_kept(
    rung: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    kept = tmp_path / "tamed.json"
    assert run("scan", rung, "--keep", kept, "--json") == 0
    found = json.loads(capsys.readouterr().out)
    assert all(any(near(p["hz"], ring) for p in found["found"]) for ring in RINGS)
    assert json.loads(kept.read_text())["chain"][0]["params"]["places"] == found["places"]
    assert run("scan", rung) == 0
    words = capsys.readouterr().out
    assert "box" in words
    assert "of the time" in words


def test_process_scans_first_holds_it_and_keeps_the_loudness(rung: Path, tmp_path: Path) -> None:
    recipe, out, report = (tmp_path / n for n in ("r.json", "out.wav", "report.json"))
    chain = [{"id": "t", "kind": "tamer", "params": {"amount": 1}}]
    recipe.write_text(json.dumps({"format": "salt-anvil/recipe", "version": 1, "chain": chain}))
    assert run("process", rung, out, "--recipe", recipe, "--report", report, "--width", "32f") == 0
    told = json.loads(report.read_text())
    assert len(told["scans"]["t"]["places"]) >= 2
    before, after = soundfile.read(rung)[0], soundfile.read(out)[0]
    meter = pyloudnorm.Meter(RATE)
    gained = meter.integrated_loudness(after) - meter.integrated_loudness(before)
    assert abs(gained) < 0.05
    clean = beds.drums(3).sound * 0.3
    for ring in RINGS:
        hz = np.fft.rfftfreq(len(clean), 1 / RATE)
        part = np.abs(np.log2(np.maximum(hz, 1) / ring.hz)) < 0.25 / ring.q
        powers = [np.square(np.abs(np.fft.rfft(s)))[part].sum() for s in
                  (before[:, 0], after[:, 0], clean)]  # fmt: skip
        over = 10 * np.log10(powers[0] / powers[2]), 10 * np.log10(powers[1] / powers[2])
        assert over[1] < over[0] - 4
    # The same again, to the bit: nothing of it depends on when it is done.
    assert run("process", rung, tmp_path / "again.wav", "--recipe", recipe, "--width", "32f") == 0
    assert np.array_equal(soundfile.read(tmp_path / "again.wav")[0], after)


@pytest.mark.parametrize(("frames", "words"), [(1, "needs 3 s"), (4 * RATE, "silent")])
def test_what_cannot_be_scanned_goes_through(tmp_path: Path, frames: int, words: str) -> None:
    source, recipe, out, report = (tmp_path / n for n in ("a.wav", "r.json", "b.wav", "c.json"))
    soundfile.write(source, np.zeros((frames, 1)), RATE, subtype="FLOAT")
    chain = [{"id": "t", "kind": "tamer"}]
    recipe.write_text(json.dumps({"format": "salt-anvil/recipe", "version": 1, "chain": chain}))
    assert run("process", source, out, "--recipe", recipe, "--report", report) == 0
    assert words in json.loads(report.read_text())["scans"]["t"]["words"]
    assert len(soundfile.read(out)[0]) == frames


def test_what_comes_into_a_stage_is_scanned_not_the_file(
    rung: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    recipe = tmp_path / "r.json"
    notch = {"type": "bell", "hz": 400, "q": 8, "gain_db": -12}
    chain = [
        {"id": "eq", "kind": "tone", "params": {"bands": [notch]}},
        {"id": "t", "kind": "tamer"},
    ]
    recipe.write_text(json.dumps({"format": "salt-anvil/recipe", "version": 1, "chain": chain}))
    assert run("scan", rung, "--recipe", recipe, "--json") == 0
    found = json.loads(capsys.readouterr().out)["found"]
    assert not any(near(p["hz"], RINGS[0]) for p in found)
    assert any(near(p["hz"], RINGS[1]) for p in found)


@pytest.mark.parametrize(
    ("words", "said"),
    [(("--to", 2), "needs 3 s"), (("--from", 50), "no sound"), (("nobody",), "nobody")],
)
def test_what_cannot_be_scanned_is_said(
    rung: Path, words: tuple[Any, ...], said: str, capsys: pytest.CaptureFixture[str]
) -> None:
    assert run("scan", rung, *words) == 2
    assert said in capsys.readouterr().err


def found(hz: float, over_db: float) -> Resonance:
    return Resonance(hz=hz, over_db=over_db, width_oct=0.2, share=0.5, octaves=0.0, region="")


def test_a_scan_again_says_what_changed_and_keeps_what_a_hand_set() -> None:
    before = (
        Place(hz=300, over_db=8, depth_db=3, width_oct=0.4, on=False),
        Place(hz=1000, over_db=6),
        Place(hz=4410, over_db=5),
    )
    after = merged(before, (found(310, 6.2), found(1010, 6.4), found(7000, 9)))
    assert [p.hz for p in after.places] == [310, 1010, 7000]
    assert (after.places[0].on, after.places[0].depth_db, after.places[0].width_oct) == (
        False, 3, 0.4,
    )  # fmt: skip
    assert after.places[0].over_db == 6.2
    assert after.new == (7000,)
    for words in ("7 000 Hz is new", "310 Hz fell by 1.8 dB", "4 410 Hz is gone"):
        assert words in after.words
    assert "1 010" not in after.words
    assert merged((), (found(500, 8),)).words == ""
    assert merged(before[1:2], (found(1000, 6.0),)).words.endswith("nothing changed.")
