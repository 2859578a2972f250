"""Aims over real runs: a closed form, the passage alone, the cache's states, the command line."""

import json
from pathlib import Path

import numpy as np
import pyloudnorm
import pytest
import soundfile

from salt_anvil.cli import main
from salt_anvil.core.aim import Aim, Wish
from salt_anvil.core.audio import BLOCK
from salt_anvil.core.edits import SetParams, SetStage, apply_edits
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.session import Session, checked
from salt_anvil.jobs.aim import Passage, run_aim
from salt_anvil.jobs.print_worker import Cancelled
from salt_anvil.jobs.stretch import Means
from tests.conftest import noise, sine

RATE = 48000


def one_strip(kind: str, **params: object) -> Session:
    stage = {"id": "s", "kind": kind, "params": params}
    strips = [
        {"id": "in", "name": "In", "kind": "track", "audio": "in", "channels": 2,
         "frames": 4 * RATE, "chain": [stage]},
        {"id": "main", "name": "Main", "kind": "main"},
    ]  # fmt: skip
    return checked(Session, {"name": "S", "rate": RATE, "strips": strips})


def source(sound: np.ndarray):  # type: ignore[no-untyped-def]
    padded = np.concatenate([sound, np.zeros((2 * RATE, 2))])
    return lambda: lambda audio, begin, frames: padded[begin : begin + frames]


def aimed(session: Session, sound: np.ndarray, control: str, **wish: object):  # type: ignore[no-untyped-def]
    aim = Aim(stage="s", control=control, wish=checked(Wish, wish), begin=2 * RATE, end=4 * RATE)
    return Passage(session, aim, Means(source(sound))).find()


def test_the_threshold_of_a_compressor_by_its_curve() -> None:
    """Hard knee, 4:1, a steady sine at -10 dBFS: 6 dB less is a threshold of -18 dBFS."""
    session = one_strip("compressor", ratio=4, knee_db=0, attack_ms=1, release_ms=4000)
    found = aimed(session, sine(997, 4, level_db=-10), "threshold_db",
                  what="reduction", wanted=6)  # fmt: skip
    assert found.problem is None
    assert found.got == pytest.approx(6, abs=0.05)
    assert found.value == pytest.approx(-18, abs=0.1)


def test_the_ceiling_of_a_clipper_by_its_definition() -> None:
    """A hard clipper's peaks are its ceiling: 6 dB under -4 dBFS is -10."""
    session = one_strip("clipper", shape=1, quality="plain")
    found = aimed(session, sine(997, 4, level_db=-4), "ceiling_db", what="down", wanted=6)
    assert found.value == pytest.approx(-10, abs=0.1)


def test_loudness_and_true_peak_by_another_meter() -> None:
    sound = noise(4 * RATE, 2, seed=3) * 0.05
    found = aimed(one_strip("trim"), sound, "gain_db", what="loudness", wanted=-20)
    louder = sound[2 * RATE :] * 10 ** (found.value / 20)
    assert pyloudnorm.Meter(RATE).integrated_loudness(louder) == pytest.approx(-20, abs=0.1)
    found = aimed(one_strip("trim"), sine(997, 4, level_db=-30), "gain_db",
                  what="true_peak", wanted=-3)  # fmt: skip
    assert (found.value, found.problem) == (24.0, "the whole range gives −90.0 to −6.0")


def hits_over_noise() -> np.ndarray:
    at = np.arange(4 * RATE) / RATE
    hits = 0.6 * np.sin(2 * np.pi * 200 * at) * np.exp(-40 * (at % 0.5))
    return noise(4 * RATE, 2, seed=4) * 0.1 + hits[:, None]


@pytest.mark.parametrize("mix", [1.0, 0.7])
def test_peaks_lower_and_the_loudness_kept(mix: float) -> None:
    """The sound that results, by another meter: as loud, its peaks 4 dB lower."""
    session = one_strip("compressor", ratio=6, knee_db=0, attack_ms=0.1, release_ms=60)
    session = apply_edits(session, [SetStage(stage="s", mix=mix)])[0]
    sound = hits_over_noise()
    found = aimed(session, sound, "threshold_db", what="down", wanted=4, kept=True)
    assert found.problem is None
    assert found.makeup_db is not None
    assert found.makeup_db > 0.5
    params = {"threshold_db": found.value, "makeup_db": found.makeup_db}
    changed = apply_edits(session, [SetParams(stage="s", params=params)])[0]
    mixer = Mixer(make_plan(changed), source(sound)())
    blocks = range(4 * RATE // BLOCK)
    out = np.concatenate([mixer.block(("in",)).strips["in"].out for _ in blocks])
    before, after = sound[2 * RATE : len(out)], out[2 * RATE :]
    meter = pyloudnorm.Meter(RATE)
    loud = [meter.integrated_loudness(x) for x in (before, after)]
    assert loud[1] == pytest.approx(loud[0], abs=0.1)
    down = 20 * np.log10(np.abs(before).max() / np.abs(after).max())
    assert down == pytest.approx(4, abs=0.1)


def test_where_the_loudness_cannot_be_kept_it_is_said() -> None:
    with pytest.raises(Exception, match="no make-up"):
        aimed(one_strip("limiter"), sine(997, 4), "drive_db", what="down", wanted=3, kept=True)
    with pytest.raises(Exception, match="aim with another control"):
        aimed(one_strip("compressor"), sine(997, 4), "makeup_db",
              what="down", wanted=3, kept=True)  # fmt: skip
    crushed = one_strip("compressor", ratio=100, knee_db=0, attack_ms=0.1, makeup_db=-24)
    found = aimed(crushed, hits_over_noise(), "threshold_db", what="down", wanted=12, kept=True)
    assert found.problem is not None
    assert found.makeup_db is None


def test_only_the_passage_counts() -> None:
    """Loud before it, quiet in it: the threshold follows what is in it."""
    sound = sine(997, 4, level_db=-30)
    sound[:RATE] *= 20
    session = one_strip("compressor", ratio=4, knee_db=0, attack_ms=1, release_ms=20)
    found = aimed(session, sound, "threshold_db", what="reduction", wanted=6)
    assert found.value == pytest.approx(-38, abs=0.2)


def test_silence_and_empty_passages_are_said() -> None:
    session = one_strip("trim")
    found = aimed(session, np.zeros((4 * RATE, 2)), "gain_db", what="loudness", wanted=-20)
    assert found.problem == "there is nothing to be heard here"
    aim = Aim(stage="s", control="gain_db", wish=Wish(what="loudness", wanted=-20),
              begin=10 * RATE, end=11 * RATE)  # fmt: skip
    with pytest.raises(Exception, match="no sound in this passage"):
        Passage(session, aim, Means(source(np.zeros((4 * RATE, 2)))))
    with pytest.raises(Exception, match="tells no reduction"):
        aimed(session, sine(997, 4), "gain_db", what="reduction", wanted=4)


def test_in_a_session_of_a_folder(band_data: Path, capsys: pytest.CaptureFixture[str]) -> None:
    arguments = ["aim", "Band", "drum-c", "threshold_db", "--data", str(band_data)]
    assert main([*arguments, "--reduction", "4", "--json"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert found["got"] == pytest.approx(4, abs=0.05)
    assert main([*arguments, "--reduction", "4", "--section", "Loud"]) == 0
    assert "threshold_db" in capsys.readouterr().out
    assert main([*arguments, "--loudness", "40"]) == 1
    assert "the whole range gives" in capsys.readouterr().out
    for wrong, words in (
        (["--section", "Nowhere", "--reduction", "4"], "there are: Quiet, Loud"),
        (["--from", "999", "--reduction", "4"], "no sound in this passage"),
        (["--reduction", "nan"], "wanted"),
    ):
        assert main([*arguments, *wrong]) == 2
        assert words in capsys.readouterr().err


def test_it_can_be_stopped(band_data: Path) -> None:
    from salt_anvil.jobs.print_command import find_session

    tries = []

    def step(value: float, got: float | None) -> None:
        tries.append(value)
        if len(tries) == 2:
            raise Cancelled

    aim = Aim(stage="drum-c", control="threshold_db",
              wish=Wish(what="reduction", wanted=4), end=RATE)  # fmt: skip
    with pytest.raises(Cancelled):
        run_aim(band_data, find_session(band_data, "Band").model_dump(), aim, step)
    assert len(tries) == 2


def test_of_a_recipe_with_a_file(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    soundfile.write(tmp_path / "in.wav", sine(997, 2, level_db=-10), RATE, subtype="FLOAT")
    (tmp_path / "r.json").write_text(json.dumps({
        "format": "salt-anvil/recipe", "version": 1, "name": "r",
        "chain": [{"id": "c", "kind": "compressor",
                   "params": {"ratio": 4, "knee_db": 0, "release_ms": 4000}}]}))  # fmt: skip
    arguments = ["aim", str(tmp_path / "in.wav"), "c", "threshold_db",
                 "--recipe", str(tmp_path / "r.json")]  # fmt: skip
    assert main([*arguments, "--reduction", "6", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["value"] == pytest.approx(-18, abs=0.15)
    assert main([*arguments[:2], "d", *arguments[3:], "--reduction", "6"]) == 2


def test_the_command_keeps_the_loudness(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    soundfile.write(tmp_path / "in.wav", hits_over_noise(), RATE, subtype="FLOAT")
    params = {"ratio": 6, "knee_db": 0, "attack_ms": 0.1, "release_ms": 60}
    chain = [{"id": "c", "kind": "compressor", "params": params}]
    recipe = {"format": "salt-anvil/recipe", "version": 1, "name": "r", "chain": chain}
    (tmp_path / "r.json").write_text(json.dumps(recipe))
    arguments = ["aim", str(tmp_path / "in.wav"), "c", "threshold_db",
                 "--recipe", str(tmp_path / "r.json"), "--keep-loudness"]  # fmt: skip
    assert main([*arguments, "--down", "3"]) == 0
    assert " and make-up " in capsys.readouterr().out
    assert main([*arguments, "--down", "3", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["makeup_db"] > 0.5
    assert main([*arguments, "--reduction", "3"]) == 2
    assert "where the peaks shall be lower" in capsys.readouterr().err
