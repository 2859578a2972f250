"""The demo band: same bytes each time, musical order, and the faults it is there for.

Levels are our own choices (demo/score.py, demo/room.py), measured here in the finished recordings.
"""

import hashlib

import numpy as np
import pytest
from scipy import signal

from salt_anvil.core.engine.plan import make_plan
from salt_anvil.core.measure.rows import RowMeter, figures
from salt_anvil.demo import install, room, score, sounds

RATE = sounds.RATE


@pytest.fixture(scope="module")
def band() -> dict[str, np.ndarray]:
    return room.recordings()


def passage(sound: np.ndarray, first_bar: int, last_bar: int) -> np.ndarray:
    step = round(score.BAR * RATE)
    return sound[(first_bar - 1) * step : last_bar * step]


def loudness(sound: np.ndarray) -> float:
    meter = RowMeter(RATE, sound.shape[1])
    return figures(np.concatenate([meter.feed(sound), meter.flush()])).loudness


def level_db(sound: np.ndarray) -> float:
    return float(20 * np.log10(np.sqrt(np.mean(sound**2)) + 1e-12))


def test_nine_recordings_of_a_minute(band: dict[str, np.ndarray]) -> None:
    assert len(band) == 9
    for name, sound in band.items():
        assert len(sound) == 60 * RATE, name
        assert 0.1 < np.abs(sound).max() <= 0.98, name
        assert np.isfinite(sound).all()


def test_the_same_bytes_every_time(band: dict[str, np.ndarray]) -> None:
    def digest(sound: np.ndarray) -> str:
        return hashlib.sha256(np.ascontiguousarray(sound).tobytes()).hexdigest()

    room.dry.cache_clear()
    room.impulse.cache_clear()
    sounds._click.cache_clear()
    assert digest(room.microphone("foot-stomps")[:, None]) == digest(band["foot-stomps"])


def test_sections_stand_on_bars_at_96() -> None:
    assert pytest.approx(2.5) == score.BAR
    assert [name for name, _ in score.SECTIONS] == [
        "Gangway", "Verse", "Reel", "Slack tide", "Reel two",
    ]  # fmt: skip
    assert score.section(10) == "Verse"
    assert score.section(11) == "Reel"


def test_the_stray_slap(band: dict[str, np.ndarray]) -> None:
    drum = band["box-drum"][:, 0]
    high = signal.sosfilt(signal.butter(4, 400, "highpass", fs=RATE, output="sos"), drum)

    def slap(bar: int, step: int) -> float:
        at = round(((bar - 1) * score.BAR + step * score.BEAT / 4) * RATE)
        return float(20 * np.log10(np.abs(high[at - 1000 : at + 4000]).max()))

    others = [slap(bar, 12) for bar in range(11, 17) if bar != 13]
    assert slap(13, 12) - np.median(others) == pytest.approx(8, abs=2)


def test_a_quiet_verse_and_a_loud_reel(band: dict[str, np.ndarray]) -> None:
    mix = sum(np.repeat(s, 2, axis=1) if s.shape[1] == 1 else s for s in band.values())
    assert 2.5 < loudness(passage(mix, 11, 16)) - loudness(passage(mix, 5, 10)) < 8


def test_hard_s_sounds(band: dict[str, np.ndarray]) -> None:
    """Somewhere in the sung lines, the top octave is as strong as the vowels."""
    voice = passage(band["lead-voice"], 11, 16)[:, 0]
    top = signal.sosfilt(signal.butter(4, 5000, "highpass", fs=RATE, output="sos"), voice)
    frames = RATE // 50
    count = len(voice) // frames
    highs = [level_db(top[i * frames : (i + 1) * frames]) for i in range(count)]
    whole = [level_db(voice[i * frames : (i + 1) * frames]) for i in range(count)]
    assert max(highs) > np.percentile(whole, 60) - 4


def test_bleed_hum_and_noise(band: dict[str, np.ndarray]) -> None:
    assert room.dry("box-drum")[: 2 * RATE].max() == 0
    leak = band["announcement"][round(52 * RATE) : round(56 * RATE), 0]
    assert -60 < level_db(leak) < -30
    spectrum = np.abs(np.fft.rfft(band["announcement"][: RATE // 2, 0] * np.hanning(RATE // 2)))
    assert spectrum[25] > 4 * np.median(spectrum[20:60])


def test_the_session_can_be_run_and_every_track_is_worked_on() -> None:
    names = [n.lower().replace(" ", "-") for n, *_ in install.TRACKS]
    session = install.session_model(dict.fromkeys(names, ("x", 2, RATE * 60)))
    plan = make_plan(session)
    assert len(plan.strips) == 14
    assert sum(bool(s.stages) for s in plan.strips) >= 10
    assert session.bpm == 96
