"""The limiter: ceiling between the samples by meters of another construction, identity, distortion.

True peak by Fourier resampling (scipy, exact for band-limited sound) and by FFmpeg's ebur128;
limits from design/03. 2 x the ceiling is 6 dB over.
"""

from typing import Any

import numpy as np
import pytest
from scipy.signal import resample

from salt_anvil.core.dsp import lookahead_limiter as w
from salt_anvil.core.dsp.between import AFTER, EDGE
from salt_anvil.core.dsp.lookahead_limiter import maxima_into, mean_into
from salt_anvil.core.dsp.oversample import LATENCY
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.measure.truepeak import true_peak
from salt_anvil.core.processors import Context
from tests.conftest import RATES, noise
from tests.core.processors.test_contract import run, stage
from tests.hard_sounds import hard_sounds, polyphase_peak_db

SECOND = 240 + AFTER
"""Frames by which the second wall is later: 5 ms at 48 kHz, and what the meter needs."""
CHARACTERS = ["invisible", "quick", "heavy"]


def fourier_peak_db(sound: np.ndarray) -> float:
    """The peak of the band-limited function through the samples, 16 points a frame."""
    padded = np.pad(sound, ((2048, 2048 + -len(sound) % 4096), (0, 0)))
    return 20 * np.log10(np.abs(resample(padded, len(padded) * 16)).max())


def own_peak_db(sound: np.ndarray) -> float:
    return 20 * np.log10(true_peak(sound, np.zeros((EDGE, sound.shape[1]))))


def faded(wave: np.ndarray, rate: int) -> np.ndarray:
    n = rate // 50
    window = np.ones(len(wave))
    window[:n] = np.hanning(2 * n)[:n]
    window[-n:] = window[:n][::-1]
    return (wave * window)[:, None]


def limited(sound: np.ndarray, rate: int = 48000, **params: Any) -> np.ndarray:
    unit = Unit(stage("limiter", params), Context(rate, sound.shape[1]))
    return run(unit, sound)[0]


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("character", CHARACTERS)
@pytest.mark.parametrize("lookahead", [0.5, 5])
def test_band_limited_sound_stays_under_the_ceiling(
    rate: int, character: str, lookahead: float
) -> None:
    """Clicks at every sub-sample offset, a quarter of the rate at 45 degrees, sines, a sweep."""
    settings = {"character": character, "lookahead_ms": lookahead, "release_ms": 30}
    at = np.arange(16384)
    sounds = [faded(2 * np.sin(np.pi / 2 * at + np.pi / 4), rate)]
    sounds += [faded(2 * np.sin(2 * np.pi * f * at), rate) for f in (0.01, 0.1, 0.31, 0.43, 0.45)]
    phase = 2 * np.pi * (0.002 * at + (0.45 - 0.002) * at**2 / 2 / len(at))
    sounds.append(faded(2 * np.sin(phase), rate))
    for offset in np.arange(8) / 8:
        x = at[:8192] - 3000 - offset
        shape = np.where(np.abs(x) < 200, 0.5 + 0.5 * np.cos(np.pi * x / 200), 0)
        sounds.append(2.8 * (np.sinc(0.9 * x) * shape)[:, None])
    for sound in sounds:
        out = limited(sound, rate, **settings)
        assert fourier_peak_db(out) < -1 + 0.05
        assert np.abs(out).max() <= 10 ** (-1 / 20)


@pytest.mark.parametrize("character", CHARACTERS)
def test_full_band_sound_by_our_meter_and_by_others(character: str) -> None:
    """White noise, a square, a burst of noise out of silence: meters disagree among themselves."""
    rate = 48000
    burst = noise(rate // 2, 1, level=0.5)
    burst[: rate // 4] = 0
    square = np.sign(np.sin(2 * np.pi * 997 * np.arange(rate // 2) / rate + 0.1))[:, None] * 1.5
    for sound in (noise(rate // 2, 1, level=0.5), square, burst):
        out = limited(sound, drive_db=6, character=character)
        assert own_peak_db(out) < -1 + 0.05
        assert fourier_peak_db(faded(out[:, 0], rate)) < -1 + 1.0
        assert np.abs(out).max() <= 10 ** (-1 / 20)


@pytest.mark.parametrize("character", CHARACTERS)
@pytest.mark.parametrize(("name", "sound"), hard_sounds().items())
def test_hard_sounds_by_a_meter_of_256_taps(name: str, sound: np.ndarray, character: str) -> None:
    """At most 0.05 dB over, at every look-ahead; by one wall up to 2.2 dB over at 0.5 ms, where
    what lies near half the rate lets samples 100 frames away decide about a point."""
    silence = np.zeros((3000, 1))
    around = np.concatenate([silence, sound, silence])
    for rate, ahead in ((44100, 0.5), (44100, 5.0), (96000, 1.5), (48000, 20.0)):
        settings = {"drive_db": 6, "character": character, "lookahead_ms": ahead}
        assert polyphase_peak_db(limited(around, rate, **settings)) < -1 + 0.05
        # One wall suffices for all but two of them.
        if name not in ("signs of a sinc", "sweep to 0.499"):
            one = limited(around, rate, **settings, second_wall="off")
            assert polyphase_peak_db(one) < -1 + 0.1


def test_the_second_wall_is_idle_where_the_first_suffices() -> None:
    """To the bit what one wall leaves, later; without true peak there is none."""
    sound = noise(48000, level=0.3)
    settings = {"drive_db": 9, "lookahead_ms": 5}
    one, two = (limited(sound, **settings, second_wall=s) for s in ("auto", "on"))
    assert (two[SECOND:] == one[:-SECOND]).all()
    plain = limited(sound, **settings, true_peak=False)
    assert plain.shape == one.shape
    assert Unit(stage("limiter", {"true_peak": False}), Context(48000, 2)).latency == 240 + AFTER


@pytest.mark.parametrize("ceiling", [-24.0, -7.3, -1.0, 0.0])
def test_samples_never_pass_without_true_peak_either(ceiling: float) -> None:
    for character in CHARACTERS:
        out = limited(
            noise(30000),
            true_peak=False,
            character=character,
            ceiling_db=ceiling,
            drive_db=18,
            release_ms=5,
        )
        top = 10 ** (ceiling / 20)
        assert 0.99 * top < np.abs(out).max() <= top


def test_link_half_and_independent_stay_under_the_ceiling_too() -> None:
    loud = noise(30000) * [1.0, 0.05]
    for link, quiet_reduced in ((0, False), (0.5, True), (1, True)):
        out = limited(loud, drive_db=12, link=link, lookahead_ms=1)
        assert np.abs(out).max() <= 10 ** (-1 / 20)
        gain = out[2000:, 1].std() / (loud[2000:, 1].std() * 10 ** (12 / 20))
        assert (gain < 0.9) == quiet_reduced


@pytest.mark.parametrize("character", CHARACTERS)
@pytest.mark.parametrize("mode", ["fixed", "adaptive"])
def test_below_the_target_it_is_the_delayed_input_to_the_bit(character: str, mode: str) -> None:
    """Also behind a peak, once look-ahead and 40 releases have passed (design/03)."""
    rate, release, ahead = 48000, 5.0, 2.0
    sound = noise(60000, level=0.05)
    sound[20000:20010] = 3.0
    settings = {"character": character, "release_mode": mode, "release_ms": release,
                "lookahead_ms": ahead}  # fmt: skip
    out = limited(sound, rate, **settings)
    late = round(ahead * rate / 1000) + AFTER + SECOND
    same = (out[late:] == sound[: len(sound) - late]).all(axis=1)
    assert same[: 20000 - late - 2 * AFTER].all()
    assert not same[19995:20010].any()
    assert same[20010 + round((ahead + 40 * release) * rate / 1000) :].all()


def test_the_gain_is_there_before_the_peak_and_stands_over_it() -> None:
    """A lone sample 12 dB over, of a constant: what is around it shows the gain."""
    sound = np.full((8000, 1), 1e-3)
    sound[4000] = 4.0
    out = limited(sound, true_peak=False, ceiling_db=0, lookahead_ms=5)
    late = 240 + AFTER
    gain = out[late:, 0] / sound[:-late, 0]
    assert gain[4000] == pytest.approx(0.25, abs=1e-6)
    assert np.allclose(gain[3992:4009], 0.25, atol=1e-6)
    assert (np.diff(gain[3700:4000]) <= 1e-12).all()
    assert gain[4000 - 241] == 1.0


def test_release_reaches_63_percent_after_its_time() -> None:
    """After a long reduction of 12.04 dB; hold (8 ms) and look-ahead are known lengths."""
    rate, release = 48000, 100.0
    sound = np.concatenate([np.full((rate, 1), 2.0), np.full((rate, 1), 0.01)])
    for character, hold in (("quick", 0.0), ("invisible", 8.0)):
        out = limited(
            sound,
            rate,
            true_peak=False,
            ceiling_db=-6.0206,
            character=character,
            release_ms=release,
        )
        late = 240 + AFTER
        reduction = -20 * np.log10(out[late:, 0] / sound[: len(sound) - late, 0])
        behind = reduction[rate:]
        first = int(np.argmax(behind < 12.04 / np.e))
        assert first / rate * 1000 == pytest.approx(release + hold, abs=0.05 * release)


def test_adaptive_lets_go_of_an_isolated_peak_sooner() -> None:
    sound = np.full((48000, 1), 0.01)
    sound[10000:10020] = 4.0
    long = sound.copy()
    long[10000:34000] = 4.0
    took = {}
    for mode in ("fixed", "adaptive"):
        for name, wave, end in (("short", sound, 10020), ("long", long, 34000)):
            out = limited(wave, release_mode=mode, character="quick", release_ms=100)
            gain = out[2 * SECOND :, 0] / wave[: -2 * SECOND, 0]
            took[mode, name] = int(np.argmax(gain[end:] > 0.9))
    assert took["adaptive", "short"] < 0.4 * took["fixed", "short"]
    assert took["adaptive", "long"] > 0.8 * took["fixed", "long"]


def test_heavy_keeps_a_body_while_quick_peaks_return_at_once() -> None:
    """Behind a long push the heavy character returns slowly, behind a click fast."""
    click, push = np.full((48000, 1), 0.01), np.full((48000, 1), 0.01)
    click[10000:10010] = 4.0
    push[10000:20000] = 4.0
    left = {}
    for name, wave, end in (("click", click, 10010), ("push", push, 20000)):
        out = limited(wave, character="heavy", release_ms=200)
        gain = out[SECOND:, 0] / wave[:-SECOND, 0]
        left[name] = -20 * np.log10(gain[end + 9600])  # one release later
    assert left["click"] < 0.5 * left["push"]
    assert left["push"] > 3


def test_the_heavy_body_lets_go_sooner_of_what_did_not_last() -> None:
    """Adaptive, behind half a release of push and behind ten."""
    left = {}
    for long in (2400, 48000):
        push = np.full((96000, 1), 0.01)
        push[10000 : 10000 + long] = 4.0
        for mode in ("fixed", "adaptive"):
            out = limited(push, character="heavy", release_ms=100, release_mode=mode)
            gain = out[256:, 0] / push[:-256, 0]
            left[mode, long] = -20 * np.log10(gain[10000 + long + 4800])  # one release later
    assert left["adaptive", 2400] < 0.8 * left["fixed", 2400]
    assert left["adaptive", 48000] > 0.8 * left["fixed", 48000]


def thd_n(wave: np.ndarray, hz: float, rate: int) -> float:
    """THD+N in dB: what is left of whole periods without their fundamental, against it."""
    spectrum = np.abs(np.fft.rfft(wave)) ** 2
    at = round(hz * len(wave) / rate)
    rest = np.delete(spectrum[1:], at - 1).sum()
    return float(10 * np.log10(max(rest / spectrum[at], 1e-30)))


@pytest.mark.parametrize(
    ("character", "hz", "most"),
    [("invisible", 100, -90), ("invisible", 1000, -90), ("heavy", 1000, -60), ("quick", 1000, -60),
     ("heavy", 100, -35), ("quick", 100, -35)],
)  # fmt: skip
def test_distortion_of_a_sine_six_db_over(character: str, hz: float, most: float) -> None:
    """Invisible holds its gain over the half periods; figures of the others as they are built."""
    at = np.arange(96000) / 48000
    out = limited(0.8912509 * 2 * np.sin(2 * np.pi * hz * at)[:, None], character=character)
    assert thd_n(out[48000:, 0], hz, 48000) < most


@pytest.mark.parametrize("rate", [44100, 96000])
@pytest.mark.parametrize("character", CHARACTERS)
@pytest.mark.parametrize("release", [10, 60])
def test_low_notes_are_held_from_peak_to_peak(release: float, character: str, rate: int) -> None:
    """THD+N of a steady note 6 dB over, by least squares; let go of between its peaks, 40 Hz would
    have 0.5 to 6 % (measured without)."""
    at = np.arange(2 * rate) / rate
    for hz in (20, 28, 40, 60, 100):
        sound = 0.8912509 * 2 * np.sin(2 * np.pi * hz * at)[:, None]
        out = limited(sound, rate, character=character, release_ms=release)
        assert thd_n(out[rate:, 0], hz, rate) < 20 * np.log10(0.005), hz
    free = limited(sound, rate, character="quick", release_ms=10, hold_lows=False)
    assert thd_n(free[rate:, 0], 100, rate) > 20 * np.log10(0.01)


def test_what_has_no_period_is_let_go_of_as_without() -> None:
    """Hits at uneven distances, and faster than 20 Hz ones that come once."""
    sound = np.full((48000, 1), 0.01)
    for at in (3000, 4000, 6200, 7000, 9500, 20000, 20700):
        sound[at : at + 20] = 2.0
    held, free = (
        limited(sound, character="quick", release_ms=5, hold_lows=h) for h in (True, False)
    )
    assert (held == free).all()


def test_round_bends_before_the_wall_and_trim_comes_behind() -> None:
    at = np.arange(24000) / 48000
    sound = (1.2 * np.sin(2 * np.pi * 500 * at))[:, None]
    walls = limited(sound, ceiling_db=-1)
    bent = limited(sound, ceiling_db=-1, round=1)
    settled = slice(12000, 12096)
    # A parabola from half the ceiling to the ceiling, which it never reaches here.
    top, knee = 10 ** (-1 / 20), 0.5 * 10 ** (-1 / 20)
    assert np.abs(bent[settled]).max() == pytest.approx(
        1.2 - (1.2 - knee) ** 2 / (2 * top), rel=2e-3
    )
    assert np.abs(walls[settled]).max() == pytest.approx(top * 10 ** (-0.03 / 20), rel=1e-3)
    trimmed = limited(sound, ceiling_db=-1, trim_db=-3)
    assert np.allclose(trimmed, walls * 10 ** (-3 / 20), atol=1e-9)


def test_windows_against_plain_loops() -> None:
    values = np.random.default_rng(3).integers(0, 1000, 400).astype(float)
    for window in (1, 2, 7, 64, 301):
        count = len(values) - window + 1
        top, mean = np.empty(count), np.empty(count)
        maxima_into(top, values, window)
        mean_into(mean, values, window)
        pieces = np.lib.stride_tricks.sliding_window_view(values, window)
        assert (top == pieces.max(axis=1)).all()
        assert (mean == np.ceil(pieces.sum(axis=1) / window)).all()


def test_round_folds_little_back() -> None:
    """A 5 kHz sine, 6 dB over: what is not harmonic against the sine, as for the clipper."""
    sound = (2 * np.sin(2 * np.pi * 5000 * np.arange(96000) / 48000))[:, None]
    out = limited(sound, ceiling_db=-1, round=1, lookahead_ms=5)[36000:84000, 0]
    power = np.abs(np.fft.rfft(out)) ** 2
    others = np.ones(len(power), bool)
    others[::5000] = False
    others[20001:] = False
    assert 10 * np.log10(power[others].sum() / power[5000]) < -70


def test_round_is_as_late_as_the_oversampling_and_none_is_not() -> None:
    late = [Unit(stage("limiter", {"round": r}), Context(48000, 1)).latency for r in (0, 0.5)]
    assert late[1] - late[0] == LATENCY


@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("link", [0.0, 0.6, 1.0])
def test_needs_under_a_target_that_stands_are_those_under_one_that_hardly_moves(
    channels: int, link: float
) -> None:
    """All channels in one line, or each by itself; against the plain formula too."""
    rng = np.random.default_rng(4)
    # Cells with nothing over the target, and with some.
    loud = np.repeat(rng.random(50) < 0.5, 64)[:3111, None]
    peaks = np.abs(rng.standard_normal((3111, channels))) * np.where(loud, 0.8, 0.05)
    value = np.zeros((51, w.CONTROLS))
    value[:, w.TARGET], value[:, w.LINK] = -1.03, link
    moving = np.zeros_like(value)
    moving[:, w.TARGET] = 1e-300
    found = []
    for step in (np.zeros_like(value), moving):
        needs = np.empty_like(peaks)
        count = w.needs_into(needs, peaks, np.empty((0, 2)), 37, value, step)
        found.append((count, needs))
    (count, needs), (other_count, others) = found
    assert (count, needs.tolist()) == (other_count, others.tolist())
    over = np.maximum(20 * np.log10(peaks + 1e-15) + 1.03, 0.0)
    wanted = over + link * (over.max(axis=1, keepdims=True) - over)
    assert count == np.count_nonzero(over)
    np.testing.assert_allclose(needs * w.UNIT, wanted, atol=1e-8)
