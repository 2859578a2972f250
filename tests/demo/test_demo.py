"""The demo band: same bytes each time, musical order, and the faults it is there for.

Levels are our own choices (demo/score.py, demo/room.py), measured here in the finished recordings.
"""

import hashlib
from io import BytesIO
from typing import Any

import numpy as np
import pytest
import soundfile
from scipy import signal

from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.library import starting_points
from salt_anvil.core.measure.rows import RowMeter, figures
from salt_anvil.core.processors import Context
from salt_anvil.core.resonances.scan import scan
from salt_anvil.core.session import Session, checked
from salt_anvil.core.session_index import SessionIndex
from salt_anvil.demo import install, room, score, sounds
from tests.routing import run_strip

RATE = sounds.RATE


def passage(sound: np.ndarray, first_bar: int, last_bar: int) -> np.ndarray:
    step = round(score.BAR * RATE)
    return sound[(first_bar - 1) * step : last_bar * step]


def loudness(sound: np.ndarray) -> float:
    meter = RowMeter(RATE, sound.shape[1])
    return figures(np.concatenate([meter.feed(sound), meter.flush()])).integrated_lufs


def level_db(sound: np.ndarray) -> float:
    return float(20 * np.log10(np.sqrt(np.mean(sound**2)) + 1e-12))


def test_nine_recordings_of_a_minute(recordings: dict[str, np.ndarray]) -> None:
    assert len(recordings) == 9
    for name, sound in recordings.items():
        assert len(sound) == 60 * RATE, name
        assert 0.1 < np.abs(sound).max() <= 0.98, name
        assert np.isfinite(sound).all()


def test_the_same_bytes_every_time(recordings: dict[str, np.ndarray]) -> None:
    def digest(sound: np.ndarray) -> str:
        return hashlib.sha256(np.ascontiguousarray(sound).tobytes()).hexdigest()

    stored = BytesIO()
    soundfile.write(stored, room.record("foot-stomps"), RATE, format="WAV", subtype="PCM_24")
    stored.seek(0)
    again = soundfile.read(stored, always_2d=True)[0]
    assert digest(again) == digest(recordings["foot-stomps"])


def test_sections_stand_on_bars_at_96() -> None:
    assert pytest.approx(2.5) == score.BAR
    assert [name for name, _ in score.SECTIONS] == [
        "Gangway",
        "Verse",
        "Reel",
        "Slack tide",
        "Reel two",
    ]
    assert score.section(10) == "Verse"
    assert score.section(11) == "Reel"


def test_the_stray_slap(recordings: dict[str, np.ndarray]) -> None:
    drum = recordings["box-drum"][:, 0]
    high = signal.sosfilt(signal.butter(4, 400, "highpass", fs=RATE, output="sos"), drum)

    def slap(bar: int, step: int) -> float:
        at = round(((bar - 1) * score.BAR + step * score.BEAT / 4) * RATE)
        return float(20 * np.log10(np.abs(high[at - 1000 : at + 4000]).max()))

    others = [slap(bar, 12) for bar in range(11, 17) if bar != 13]
    assert slap(13, 12) - np.median(others) == pytest.approx(8, abs=2)


def test_a_quiet_verse_and_a_loud_reel(recordings: dict[str, np.ndarray]) -> None:
    mix = sum(np.repeat(s, 2, axis=1) if s.shape[1] == 1 else s for s in recordings.values())
    assert 2.5 < loudness(passage(mix, 11, 16)) - loudness(passage(mix, 5, 10)) < 8


def test_hard_s_sounds(recordings: dict[str, np.ndarray]) -> None:
    """Somewhere in the sung lines, the top octave is as strong as the vowels."""
    voice = passage(recordings["lead-voice"], 11, 16)[:, 0]
    top = signal.sosfilt(signal.butter(4, 5000, "highpass", fs=RATE, output="sos"), voice)
    frames = RATE // 50
    count = len(voice) // frames
    highs = [level_db(top[i * frames : (i + 1) * frames]) for i in range(count)]
    whole = [level_db(voice[i * frames : (i + 1) * frames]) for i in range(count)]
    assert max(highs) > np.percentile(whole, 60) - 4


def test_bleed_hum_and_noise(recordings: dict[str, np.ndarray]) -> None:
    assert room.dry("box-drum")[: 2 * RATE].max() == 0
    leak = recordings["announcement"][round(52 * RATE) : round(56 * RATE), 0]
    assert -60 < level_db(leak) < -30
    spectrum = np.abs(
        np.fft.rfft(recordings["announcement"][: RATE // 2, 0] * np.hanning(RATE // 2))
    )
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
def reel(recordings: dict[str, np.ndarray]) -> tuple[Session, dict[str, np.ndarray]]:
    """The session over bars 12 to 14 alone, in which the stray slap is."""
    sounds_ = {name: passage(sound, 12, 14) for name, sound in recordings.items()}
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
        for bar in range(12, 15):
            at = round(((bar - 12) * score.BAR + 3 * score.BEAT) * RATE)
            slaps.append(20 * np.log10(np.abs(high[at - 1000 : at + 4000]).max()))
        over.append(slaps.pop(1) - np.median(slaps))
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
    peaks = [
        np.abs(signal.resample(mix[a : a + 96000], 8 * 96000)).max()
        for a in range(0, len(mix) - 96000, 96000)
    ]
    wall = SessionIndex(session).element("main-wall")[1]
    ceiling = wall.params.ceiling_db
    # Pieces have edges; test_limiter has exact figures.
    assert 20 * np.log10(max(peaks)) < ceiling + 0.3
    assert np.abs(mix).max() <= 10 ** (ceiling / 20)


def band_db(sound: np.ndarray, low: float, high: float) -> float:
    """Level in dB of a range, channels averaged in power."""
    hz, power = signal.welch(sound, RATE, nperseg=16384, axis=0)
    return float(10 * np.log10(power[(hz >= low) & (hz < high)].mean(axis=1).sum() + 1e-20))


def sides(sound: np.ndarray) -> np.ndarray:
    return (sound[:, :1] - sound[:, 1:]) / 2


def test_the_mud_of_the_squeezebox_gives_way(reel: Any) -> None:
    before, after = without_and_with(reel, "squeezebox", "squeezebox-mud")
    change = [band_db(after, *span) - band_db(before, *span) for span in ((180, 390), (800, 4000))]
    assert change[0] < -2.5
    assert change[0] < change[1] - 2


def test_the_plate_of_the_squeezebox_is_tamed_and_a_scan_finds_it(reel: Any) -> None:
    before, after = without_and_with(reel, "squeezebox", "squeezebox-tamer")
    ring, beside = (
        band_db(after, *span) - band_db(before, *span) for span in ((2350, 2550), (3300, 5000))
    )
    assert ring < -4
    assert abs(beside) < 1
    found = scan(before, RATE).found
    assert any(abs(np.log2(r.hz / score.PLATE[0])) < 1 / 6 for r in found)


def test_the_hum_of_the_announcement_goes(recordings: dict[str, np.ndarray]) -> None:
    opening = {"announcement": passage(recordings["announcement"], 1, 4)}
    media = {n: (n, s.shape[1], len(opening["announcement"])) for n, s in recordings.items()}
    # Without the horn, whose folds of the s-sounds fall on the hum.
    session = off(install.session_model(media), "announcement-horn")
    only = {
        n: opening.get(n, np.zeros((len(opening["announcement"]), recordings[n].shape[1])))
        for n in recordings
    }
    before, after = without_and_with((session, only), "announcement", "announcement-hum")
    hum = [band_db(after, hz - 2, hz + 2) - band_db(before, hz - 2, hz + 2) for hz in (50, 100)]
    assert hum[0] < -20
    assert hum[1] < -5  # here the voice has its own lowest notes
    assert band_db(after, 200, 2000) - band_db(before, 200, 2000) > -1.5


def test_a_small_loudspeaker_carries_the_low_fiddle(reel: Any) -> None:
    """Below 77 Hz about 4 dB down and 4 back, then harmonics of 140 to 200 Hz: with and without.

    The loudspeaker is the starting point “Kitchen shelf”: 12 dB per octave below 200 Hz.
    """
    session, sounds_ = reel
    bare = off(off(session, "low-fiddle-carry"), "low-fiddle-bands")
    shelf = next(r for r in starting_points("tone") if r.name == "Kitchen shelf")

    def heard(sound: np.ndarray) -> float:
        device = Unit(shelf.chain[0], Context(RATE, sound.shape[1]))
        return loudness(device.process(sound, 0).out)

    low = run_strip(bare, "low-fiddle", sounds_), run_strip(session, "low-fiddle", sounds_)
    assert heard(low[1]) - heard(low[0]) > 2
    assert abs(loudness(low[1]) - loudness(low[0])) < 1.6


def test_the_clipper_takes_the_tips_of_the_percussion(reel: Any) -> None:
    before, after = without_and_with(reel, "percussion-bus", "percussion-tips")
    peaks = [20 * np.log10(np.abs(s).max()) for s in (before, after)]
    assert peaks[1] < peaks[0] - 3
    assert abs(loudness(after) - loudness(before)) < 0.3


def test_the_strings_stand_aside_and_their_lows_in_the_middle(reel: Any) -> None:
    before, after = without_and_with(reel, "strings-bus", "strings-aside")
    assert 1 < band_db(sides(after), 300, 10000) - band_db(sides(before), 300, 10000) < 3
    assert band_db(sides(after), 20, 70) < band_db(sides(before), 20, 70) - 12
    assert np.abs((after - before).sum(axis=1)).max() < 1e-6


def test_the_dirt_lifts_the_stomp_press(reel: Any) -> None:
    before, after = without_and_with(reel, "stomp-press", "stomp-press-dirt")
    crest = [20 * np.log10(np.abs(s).max()) - level_db(s) for s in (before, after)]
    assert crest[1] < crest[0] - 3


def test_the_horn_dulls_the_top_and_leaves_the_words(recordings: dict[str, np.ndarray]) -> None:
    """Few kept samples: a little of the s-sounds is gone, and the words are as loud."""
    takes = {name: passage(sound, 1, 5) for name, sound in recordings.items()}
    media = {name: (name, s.shape[1], len(s)) for name, s in takes.items()}
    before, after = without_and_with(
        (install.session_model(media), takes), "announcement", "announcement-horn"
    )
    assert abs(band_db(after, 60, 3000) - band_db(before, 60, 3000)) < 0.5
    assert -4 < band_db(after, 5000, 12000) - band_db(before, 5000, 12000) < -1.5


def test_the_main_bus_is_cleared(reel: Any) -> None:
    before, after = without_and_with(reel, "main", "main-clear")
    assert -2.5 < band_db(after, 200, 330) - band_db(before, 200, 330) < -0.8
    assert abs(band_db(after, 2000, 8000) - band_db(before, 2000, 8000)) < 0.7


def test_the_session_can_be_run_and_every_track_is_worked_on() -> None:
    names = [n.lower().replace(" ", "-") for n, *_ in install.TRACKS]
    session = install.session_model(dict.fromkeys(names, ("x", 2, RATE * 60)))
    plan = make_plan(session)
    assert len(plan.strips) == 14
    assert sum(bool(s.stages) for s in plan.strips) >= 10
    assert session.bpm == 96
