"""Proofs of files and sessions: what is measured is what other tools measure, and the ceiling
that is proposed leaves none when the ways are gone by others."""

import json
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pyloudnorm
import pytest
import soundfile
from scipy import signal

from salt_anvil.core.delivery.proof import Proof, verdict
from salt_anvil.core.delivery.targets import Target
from salt_anvil.core.delivery.ways import way_of
from salt_anvil.core.edits import AddStage, SetStrip, apply_edits
from salt_anvil.core.errors import FileError, SettingError
from salt_anvil.core.session import Session, Stage
from salt_anvil.files import codecs
from salt_anvil.files.codecs import encode, pieces
from salt_anvil.jobs.print_command import find_session
from salt_anvil.jobs.print_worker import Cancelled
from salt_anvil.jobs.proof import (
    FileSubject,
    ProofRequest,
    Prover,
    SessionSubject,
    heard_file,
    last_limiter,
    limited,
    taken_by,
)
from tests.commands import command
from tests.conftest import sine

ANY = Target(name="Any")
LENGTH_S = 2
"""Of what is proved."""


def dense(rate: int = 48000, seed: int = 2) -> np.ndarray:
    """Loud material with many peaks at one height, as a mix pressed against a wall."""
    rng = np.random.default_rng(seed)
    sos = signal.butter(2, [60, 12000], "band", fs=rate, output="sos")
    sound = signal.sosfilt(sos, rng.standard_normal((LENGTH_S * rate, 2)), axis=0)
    sound *= (0.4 + np.abs(np.sin(np.arange(len(sound)) / rate * 5)))[:, None]
    return np.tanh(2.5 * sound / np.abs(sound).max()) * 0.9


def proved(path: Path, folder: Path, **wanted: object) -> Proof:
    request = ProofRequest(**{"target": ANY, **wanted})  # type: ignore[arg-type]
    with ThreadPoolExecutor(2) as pool:
        return Prover(folder / "proof", pool).prove(FileSubject(path), request)


@pytest.fixture
def loud(tmp_path: Path) -> Path:
    path = tmp_path / "loud.wav"
    soundfile.write(path, dense(), 48000, subtype="FLOAT")
    return path


def longest_peak_db(sound: np.ndarray) -> float:
    """True peak by Fourier interpolation of the whole: no filter in common with ours."""
    fine = max(np.abs(signal.resample(sound[:, c], 16 * len(sound))).max() for c in (0, 1))
    return 20 * float(np.log10(fine))


def test_a_file_as_it_stands(loud: Path, tmp_path: Path) -> None:
    found = proved(loud, tmp_path, ways=[], ceiling=False)
    sound = soundfile.read(loud)[0]
    reference = pyloudnorm.Meter(48000).integrated_loudness(sound)
    assert found.figures.integrated_lufs == pytest.approx(reference, abs=0.1)
    assert found.as_it_stands.true_peak_dbtp == pytest.approx(longest_peak_db(sound), abs=0.15)
    assert found.what == "loud.wav"
    assert len(found.overview) == 480
    assert max(found.overview) == pytest.approx(np.abs(sound).max(), abs=1e-3)
    assert [f.title for f in found.findings] == ["Fade cut off"]


def test_each_way_against_another_decoder(loud: Path, tmp_path: Path) -> None:
    ways = [way_of(n) for n in ("44100:16", "mp3:128", "opus:96")]
    found = proved(loud, tmp_path, ways=ways, ceiling=False)
    assert [w.name for w in found.ways] == ["44100:16", "mp3:128", "opus:96"]
    for way, result in zip(ways, found.ways, strict=True):
        back = soundfile.read(heard_file(tmp_path / "proof", result.name))[0]
        assert len(back) == result.frames == LENGTH_S * result.rate
        assert result.true_peak_dbtp == pytest.approx(longest_peak_db(back), abs=0.15)
        if way.codec:
            coded = tmp_path / f"again.{way.codec}"
            encode(way, pieces(loud), 48000, 2, coded, lambda done: None)
            other = soundfile.read(coded)[0][: len(back)]
            # libsndfile's decoders: mpg123, and libopus, which cuts at full scale there.
            if way.codec == "mp3":
                peak = longest_peak_db(other)
                assert peak == pytest.approx(result.true_peak_dbtp, abs=0.2)
            else:
                near = np.abs(back) < 0.98
                assert np.abs(back - other)[near].max() < 2e-3
        assert result.overs
        assert all(o.peak_dbtp > 0 for o in result.overs)
        at = max(result.overs, key=lambda o: o.peak_dbtp)
        around = back[max(at.frame - 64, 0) : at.frame + result.rate // 100 + 64]
        near = 20 * np.log10(np.abs(signal.resample(around, 16 * len(around))).max())
        assert near == pytest.approx(at.peak_dbtp, abs=0.5)


@pytest.mark.parametrize("seed", [2, 3])
def test_the_ceiling_proposed_leaves_none_when_others_look(
    seed: int, loud: Path, tmp_path: Path
) -> None:
    soundfile.write(loud, dense(seed=seed), 48000, subtype="FLOAT")
    ways = [way_of(n) for n in ("44100:24", "mp3:128", "opus:96")]
    found = proved(loud, tmp_path, ways=ways)
    ceiling = found.ceiling
    assert ceiling is not None
    assert ceiling.found_db is not None
    assert not any(w.overs for w in ceiling.verified)
    assert "leaves no overs" in verdict(found).text
    # By hand: our limiter at that ceiling, coded, decoded by libsndfile.
    wall = tmp_path / "wall.wav"
    (tmp_path / "by-hand").mkdir()
    limited(loud, wall, tmp_path / "by-hand", {"ceiling_db": ceiling.found_db}, 1.0)
    coded = tmp_path / "coded.mp3"
    encode(way_of("mp3:128"), pieces(wall), 48000, 2, coded, lambda done: None)
    assert longest_peak_db(soundfile.read(coded)[0]) < 0.1
    # It is not lower than it has to be: 0.1 dB more leaves some.
    limited(loud, wall, tmp_path / "by-hand", {"ceiling_db": ceiling.found_db + 0.1}, 1.0)
    with ThreadPoolExecutor(1) as pool:
        request = ProofRequest(ways=ways, target=ANY, ceiling=False)
        higher = Prover(tmp_path / "higher", pool).prove(FileSubject(wall), request)
    worst = max(w.true_peak_dbtp or -99 for w in [higher.as_it_stands, *higher.ways])
    assert worst > 0


def test_a_session_is_proved_after_its_fader_and_the_ceiling_goes_to_its_limiter(
    band_data: Path, tmp_path: Path
) -> None:
    session = find_session(band_data, "1")
    main = next(s for s in session.strips if s.kind == "main")
    edits = [
        SetStrip(strip=main.id, field="fader_db", value=-1.5),
        AddStage(
            place=main.id, index=len(main.chain), kind="limiter",
            params={"drive_db": 24, "ceiling_db": 0},
        ),
    ]  # fmt: skip
    pressed = apply_edits(session, edits)[0]
    found = of_session(band_data, pressed, tmp_path, ways=[way_of("mp3:128")], limit_dbtp=-1.5)
    ceiling = found.ceiling
    assert found.what == "Main mix"
    assert found.as_it_stands.true_peak_dbtp == pytest.approx(-1.5, abs=0.1)
    assert ceiling is not None
    assert ceiling.stage == "Limiter, Main bus"
    assert ceiling.now_db == 0
    assert ceiling.found_db is not None
    assert ceiling.found_db < 0
    assert not any(w.overs for w in ceiling.verified)
    # "Use it" is what was verified.
    wall = last_limiter(pressed.strip(main.id))
    assert isinstance(wall, Stage)
    used = apply_edits(pressed, [edit_of(pressed, main.id, ceiling.found_db)])[0]
    again = of_session(
        band_data, used, tmp_path, ways=[way_of("mp3:128")], limit_dbtp=-1.5, ceiling=False
    )
    assert again.as_it_stands.true_peak_dbtp == ceiling.verified[0].true_peak_dbtp
    assert again.ways[0].true_peak_dbtp == ceiling.verified[1].true_peak_dbtp
    assert verdict(again).ready


def edit_of(session: Session, strip: str, ceiling_db: float):  # type: ignore[no-untyped-def]
    from salt_anvil.jobs.proof import ceiling_edit

    return ceiling_edit(session.strip(strip), last_limiter(session.strip(strip)), ceiling_db)


def of_session(data: Path, session: Session, folder: Path, **wanted: object) -> Proof:
    main = next(s.id for s in session.strips if s.kind == "main")
    end = 4 * session.rate
    subject = SessionSubject(data, session.model_dump(), main, 0, end)
    request = ProofRequest(**{"target": ANY, "end": end, **wanted})  # type: ignore[arg-type]
    with ThreadPoolExecutor(2) as pool:
        return Prover(folder / "proof", pool).prove(subject, request)


def test_without_a_limiter_one_is_put_at_the_end(band_data: Path, tmp_path: Path) -> None:
    session = find_session(band_data, "1")
    main = next(s.id for s in session.strips if s.kind == "main")
    edits = [
        SetStrip(strip=main, field="trim_db", value=18),
        SetStrip(strip=main, field="fader_db", value=2),
    ]
    louder = apply_edits(session, edits)[0]
    found = of_session(band_data, louder, tmp_path, ways=[], limit_dbtp=0)
    assert found.as_it_stands.overs
    assert found.ceiling is not None
    assert found.ceiling.stage is None
    assert found.ceiling.found_db is not None
    # It lies in front of the fader, which is 2 dB up.
    assert found.ceiling.found_db == pytest.approx(-2, abs=0.15)
    last = apply_edits(session, [SetStrip(strip=main, field="fader_db", value=12), edits[0]])[0]
    found = of_session(band_data, last, tmp_path, ways=[], limit_dbtp=-6)
    assert found.ceiling is not None
    assert found.ceiling.found_db is None
    assert found.ceiling.problem is not None
    assert found.ceiling.problem.startswith("Even -12 dB leaves")


def test_a_way_that_cannot_be_gone_says_why_and_the_others_are_gone(
    loud: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setitem(codecs.ENCODERS, "mp3", ("no-such-encoder", "mp3", "fltp"))
    found = proved(loud, tmp_path, ways=[way_of("mp3:128"), way_of("44100")], ceiling=False)
    failed, gone = found.ways
    assert failed.error is not None
    assert failed.error.startswith("MP3 could not be made")
    assert gone.error is None
    assert gone.overs
    assert not verdict(found).ready


def test_it_stops_in_the_middle_and_leaves_off(loud: Path, tmp_path: Path) -> None:
    with ThreadPoolExecutor(2) as pool:
        prover = Prover(tmp_path / "proof", pool, lambda told: told.proof and prover.stop())
        with pytest.raises(Cancelled):
            prover.prove(FileSubject(loud), ProofRequest(target=ANY))


def test_what_a_coder_took_is_what_came_back_less_what_went(loud: Path, tmp_path: Path) -> None:
    proved(loud, tmp_path, ways=[way_of("mp3:128"), way_of("44100")], ceiling=False)
    folder = tmp_path / "proof"
    taken = soundfile.read(taken_by(folder, way_of("mp3:128")))[0]
    back = soundfile.read(heard_file(folder, "mp3:128"))[0]
    assert np.abs(taken - (back - soundfile.read(loud)[0])).max() < 1e-6
    assert np.abs(soundfile.read(taken_by(folder, way_of("44100")))[0]).max() < 1e-6
    with pytest.raises(FileError, match="was not gone"):
        taken_by(folder, way_of("aac:256"))


@pytest.mark.parametrize("frames", [1, 100, 4799])
def test_very_short_files(frames: int, tmp_path: Path) -> None:
    path = tmp_path / "short.wav"
    soundfile.write(path, sine(400, 1)[:frames], 44100)
    found = proved(path, tmp_path, ways=[way_of(n) for n in ("48000:16", "mp3:128", "opus:64")])
    assert [w.error for w in found.ways] == [None] * 3
    assert found.as_it_stands.frames == frames


def test_an_empty_passage_is_refused(band_data: Path, tmp_path: Path) -> None:
    session = find_session(band_data, "1")
    subject = SessionSubject(band_data, session.model_dump(), "main", 10**9, 10**9 + 5)
    with ThreadPoolExecutor(1) as pool, pytest.raises(SettingError, match="no sound"):
        Prover(tmp_path / "proof", pool).prove(subject, ProofRequest())


# The command line -----------------------------------------------------------------------------


def test_the_command_tells_the_same_and_ends_by_what_it_found(
    loud: Path, tmp_path: Path, band_data: Path
) -> None:
    said = command("proof", loud, "--codec", "mp3:128", "--rate", "44100:16", "--ceiling", "--json")
    assert said.returncode == 1, said.stderr
    told = json.loads(said.stdout)
    assert (told["format"], told["version"], told["ready"]) == ("salt-anvil/proof", 1, False)
    mine = proved(loud, tmp_path, ways=[way_of("44100:16"), way_of("mp3:128")])
    assert [w["true_peak_dbtp"] for w in told["ways"]] == [w.true_peak_dbtp for w in mine.ways]
    quiet = tmp_path / "quiet.wav"
    soundfile.write(quiet, 0.25 * dense(), 48000, subtype="FLOAT")
    said = command("proof", quiet, "--codec", "opus:96", "--target", "only no overs")
    assert said.returncode == 0, said.stdout
    assert said.stdout.startswith("Ready.")
    for words, reason in (
        ((loud, "--codec", "mp3:129"), "is made with"),
        ((loud, "--target", "none"), "there is no target"),
        ((loud, "--section", "Reel"), "a file is proved whole"),
        ((tmp_path / "missing.wav", "--data", band_data), "there is no session"),
        (("1", "--data", band_data, "--strip", "kazoo"), "there is no strip kazoo"),
        ((loud, "--limit", "99"), "at most 6 is allowed"),
    ):
        said = command("proof", *words)
        assert (said.returncode, said.stdout) == (2, "")
        assert reason in said.stderr
