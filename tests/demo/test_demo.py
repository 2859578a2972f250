"""The demo band: same bytes each time, musical order, and the faults it is there for.

Levels are our own choices (demo/score.py, demo/room.py), measured here in the finished recordings.
"""

import hashlib
from typing import Any

import numpy as np
import pytest
from scipy import signal

from salt_anvil.core.engine.plan import make_plan
from salt_anvil.core.measure.rows import RowMeter, figures
from salt_anvil.core.session import Session, checked
from salt_anvil.demo import install, room, score, sounds
from tests.routing import run_strip

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


def off(session: Session, stage: str) -> Session:
    data = session.model_dump()

    def walk(chain: list[dict[str, Any]]) -> None:
        for element in chain:
            element["on"] = element["on"] and element["id"] != stage
            for branch in element.get("branches", []):
                walk(branch["chain"])

    for strip in data["strips"]:
        walk(strip["chain"])
    return checked(Session, data)


@pytest.fixture(scope="module")
def reel(band: dict[str, np.ndarray]) -> tuple[Session, dict[str, np.ndarray]]:
    """The session over bars 11 to 16 alone."""
    sounds_ = {name: passage(sound, 11, 16) for name, sound in band.items()}
    media = {name: (name, s.shape[1], len(s)) for name, s in sounds_.items()}
    return install.session_model(media), sounds_


def without_and_with(
    reel: tuple[Session, dict[str, np.ndarray]], strip: str, stage: str
) -> tuple[np.ndarray, np.ndarray]:
    session, sounds_ = reel
    return tuple(run_strip(s, strip, sounds_) for s in (off(session, stage), session))  # type: ignore[return-value]


def filtered(sound: np.ndarray, hz: float, kind: str) -> np.ndarray:
    sections = signal.butter(4, hz, kind, fs=RATE, output="sos")
    return np.asarray(signal.sosfilt(sections, sound, axis=0))


def windows(sound: np.ndarray) -> np.ndarray:
    """Levels in dB of 20 ms each."""
    count = len(sound) // 960
    return np.array([level_db(sound[i * 960 : (i + 1) * 960, 0]) for i in range(count)])


def test_the_limiter_takes_the_stray_slap_down_to_the_others(reel: Any) -> None:
    over = []
    for sound in without_and_with(reel, "box-drum", "box-drum-peaks"):
        high = filtered(sound, 400, "highpass")
        slaps = []
        for bar in range(11, 17):
            at = round(((bar - 11) * score.BAR + 3 * score.BEAT) * RATE)
            slaps.append(20 * np.log10(np.abs(high[at - 1000 : at + 4000]).max()))
        over.append(slaps.pop(2) - np.median(slaps))
    assert over[0] > 5
    assert over[1] < over[0] - 3


def test_the_transient_shaper_shortens_the_boom_and_keeps_the_knock(reel: Any) -> None:
    sounds_ = without_and_with(reel, "foot-stomps", "foot-stomps-boom")
    starts = [round(beat * score.BEAT * RATE) for beat in range(24)]

    def change(begin: float, end: float, hz: float, kind: str) -> float:
        parts = [filtered(s, hz, kind) for s in sounds_]
        low, high = round(begin * RATE), round(end * RATE)
        levels = [level_db(np.concatenate([p[a + low : a + high] for a in starts])) for p in parts]
        return levels[1] - levels[0]

    assert change(0.15, 0.4, 110, "lowpass") < -2.5
    assert -0.2 < change(0, 0.1, 800, "highpass") < 1.5


def test_the_deesser_takes_the_s_and_leaves_the_vowels(reel: Any) -> None:
    before, after = without_and_with(reel, "lead-voice", "lead-voice-ess")
    top, whole = windows(filtered(before, 5000, "highpass")), windows(before)
    change, sung = windows(after) - whole, whole > -45
    assert np.median(change[sung & (top > whole - 3)]) < -4
    assert np.abs(change[sung & (top < whole - 20)]).max() < 0.1


def test_the_expander_sinks_what_is_between_the_strokes(reel: Any) -> None:
    before, after = (windows(s) for s in without_and_with(reel, "shaker", "shaker-bleed"))
    loud = before > np.quantile(before, 0.8)
    assert abs(np.median((after - before)[loud])) < 0.3
    assert np.quantile(before, 0.05) - np.quantile(after, 0.05) > 3


def test_the_wall_of_the_main_bus_holds(reel: Any) -> None:
    session, sounds_ = reel
    mix = run_strip(session, "main", sounds_)
    peaks = [np.abs(signal.resample(mix[a : a + 96000], 8 * 96000)).max()
             for a in range(0, len(mix) - 96000, 96000)]  # fmt: skip
    assert 20 * np.log10(max(peaks)) < -1 + 0.3  # pieces have edges; test_limiter has exact figures
    assert np.abs(mix).max() <= 10 ** (-1 / 20)


def test_the_session_can_be_run_and_every_track_is_worked_on() -> None:
    names = [n.lower().replace(" ", "-") for n, *_ in install.TRACKS]
    session = install.session_model(dict.fromkeys(names, ("x", 2, RATE * 60)))
    plan = make_plan(session)
    assert len(plan.strips) == 14
    assert sum(bool(s.stages) for s in plan.strips) >= 10
    assert session.bpm == 96
