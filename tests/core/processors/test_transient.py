"""The transient shaper: level independence, attack and sustain apart, ranges, peaks.

The hits are exponentially decaying tones; common practice, no source for the figures asked for.
"""

from typing import Any

import numpy as np
import pytest

from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import Context
from tests.conftest import sine
from tests.core.processors.test_contract import run, stage

RATE = 48000


def hits(level_db: float = -10, hz: float = 200, count: int = 3, decay_s: float = 0.08) -> Any:
    at = np.arange(RATE // 2) / RATE
    wave = np.minimum(at / 0.001, 1) * np.exp(-at / decay_s) * np.sin(2 * np.pi * hz * at)
    return 10 ** (level_db / 20) * np.tile(wave, count)[:, None]


def shaped(sound: np.ndarray, **params: Any) -> np.ndarray:
    return run(Unit(stage("transient", params), Context(RATE, sound.shape[1])), sound)[0]


def gain_db(sound: np.ndarray, **params: Any) -> np.ndarray:
    """The gain per 64-frame cell, from the report."""
    unit = Unit(stage("transient", params), Context(RATE, sound.shape[1]))
    _, reported = run(unit, sound)
    return reported["boost_db"][:, 0] - reported["reduction_db"][:, 0]


@pytest.mark.parametrize("params", [{"attack_db": 9, "sustain_db": -9}, {"attack_db": -24},
                                    {"sustain_db": 12, "sustain_low_hz": 120}])  # fmt: skip
def test_the_same_hit_gets_the_same_gain_from_minus_10_to_minus_50_dbfs(params: Any) -> None:
    loud = gain_db(hits(-10), **params)
    assert np.abs(loud).max() > 6
    for level in (-20, -30, -40, -50):
        assert np.abs(gain_db(hits(level), **params) - loud).max() < 0.1


def energies(sound: np.ndarray) -> tuple[float, float]:
    """Level in dB of the first 10 ms of each hit behind the first, and of 150 to 450 ms."""
    pieces = sound.reshape(-1, RATE // 2)[1:]
    first, later = pieces[:, : RATE // 100], pieces[:, int(0.15 * RATE) : int(0.45 * RATE)]
    return tuple(float(10 * np.log10((p**2).mean())) for p in (first, later))  # type: ignore[return-value]


@pytest.mark.parametrize("amount", [-12, 6, 12])
def test_attack_changes_the_beginning_alone(amount: float) -> None:
    before, after = energies(hits()), energies(shaped(hits(), attack_db=amount))
    assert after[0] - before[0] == pytest.approx(amount, abs=abs(amount) * 0.35)
    assert after[1] - before[1] == pytest.approx(0, abs=0.1)


@pytest.mark.parametrize("amount", [-12, 6, 12])
def test_sustain_changes_what_follows_alone(amount: float) -> None:
    before, after = energies(hits()), energies(shaped(hits(), sustain_db=amount))
    assert after[1] - before[1] == pytest.approx(amount, abs=abs(amount) * 0.35)
    assert after[0] - before[0] == pytest.approx(0, abs=0.12 * abs(amount))


def test_longer_attack_length_reaches_further() -> None:
    short, long = (gain_db(hits(), attack_db=12, attack_ms=ms) for ms in (5, 80))
    cells = slice(3 * 125, 3 * 125 + 375)
    assert (long[cells] > 6).sum() > 2 * (short[cells] > 6).sum()


@pytest.mark.parametrize("hz", [45, 100, 1000, 9000])
def test_a_steady_tone_has_neither_attack_nor_sustain(hz: float) -> None:
    sound = sine(hz, 2, level_db=-20, channels=1)
    out = shaped(sound, attack_db=24, sustain_db=-24)
    assert np.abs(out[RATE:] - sound[RATE:]).max() < 10 ** (-20 / 20) * 0.002


def test_silence_stays_silent_and_nothing_is_left_of_nothing() -> None:
    out = shaped(np.zeros((4096, 2)), attack_db=24, sustain_db=24, keep_peaks=True)
    assert (out == 0).all()


def test_a_range_that_only_decides_changes_everything_one_that_acts_only_itself() -> None:
    """Low hits under a steady 5 kHz tone; the range is 400 Hz and below."""
    tone = 0.05 * np.sin(2 * np.pi * 5000 * np.arange(3 * RATE // 2) / RATE)[:, None]
    sound = hits(-10, 80) + tone
    left = {}
    for acts in ("detector", "signal"):
        out = shaped(sound, attack_db=12, attack_high_hz=400, range_acts=acts)
        spectra = [
            np.abs(np.fft.rfft(x[RATE // 2 : RATE // 2 + 960, 0] * np.hanning(960)))
            for x in (out, sound)
        ]
        left[acts] = {
            hz: 20 * np.log10(spectra[0][hz // 50] / spectra[1][hz // 50]) for hz in (100, 5000)
        }
    assert left["detector"][5000] > 6
    assert left["signal"][5000] == pytest.approx(0, abs=0.5)
    assert left["detector"][100] > 6 < left["signal"][100] + 3


def test_keep_peaks_leaves_the_peaks_where_they_were() -> None:
    sound = hits(-10, count=12)
    for amount in (9, -9):
        peaks = []
        for keep in (False, True):
            out = shaped(sound, attack_db=amount, keep_peaks=keep)
            peaks.append(20 * np.log10(np.abs(out[-RATE:]).max() / np.abs(sound[-RATE:]).max()))
        assert abs(peaks[0]) > 3
        assert peaks[1] == pytest.approx(0, abs=0.3)


@pytest.mark.parametrize("rate", [44100, 96000])
@pytest.mark.parametrize("amount", [12, -9])
def test_the_first_hit_keeps_its_peak_too(amount: float, rate: int) -> None:
    """Of every hit, the first one included, the highest sample is as high as it was."""
    at = np.arange(rate // 2) / rate
    one = np.minimum(at / 0.002, 1) * np.exp(-at / 0.06) * np.sin(2 * np.pi * 220 * at)
    sound = np.concatenate([np.zeros(rate // 4), *[0.3 * one] * 4])[:, None]
    unit = Unit(stage("transient", {"attack_db": amount, "keep_peaks": True}), Context(rate, 1))
    out, _ = run(unit, sound)
    out = np.concatenate([out, np.zeros((len(sound) - len(out), 1))])
    late = round(0.008 * rate)
    for begin in range(rate // 4, len(sound) - len(one) + 1, len(one)):
        here = np.abs(sound[begin : begin + len(one) // 2]).max()
        there = np.abs(out[begin + late : begin + late + len(one) // 2]).max()
        assert 20 * np.log10(there / here) == pytest.approx(0, abs=0.1), begin


def test_link_one_moves_both_channels_alike_and_zero_each_alone() -> None:
    sound = np.concatenate([hits(), np.full((3 * RATE // 2, 1), 0.01)], axis=1)
    for link, alike in ((1, True), (0, False)):
        unit = Unit(stage("transient", {"attack_db": 12, "link": link}), Context(RATE, 2))
        _, reported = run(unit, sound)
        settled = reported["boost_db"][400:]
        assert (np.abs(settled[:, 0] - settled[:, 1]).max() < 1e-6) == alike


def test_another_signal_as_key_decides() -> None:
    key, sound = hits(), np.full((3 * RATE // 2, 1), 0.1)
    unit = Unit(stage("transient", {"attack_db": 12}), Context(RATE, 1))
    out = np.concatenate(
        [
            unit.process(sound[a : a + 1024], a, key[a : a + 1024]).out
            for a in range(0, len(sound), 1024)
        ]
    )
    assert out[RATE // 2 : RATE // 2 + 960].max() > 0.3
    assert out[RATE - 1000] == pytest.approx(0.1, rel=0.03)


def test_a_range_upside_down_is_refused() -> None:
    with pytest.raises(SettingError, match="attack_low_hz is 900 and attack_high_hz 300"):
        Unit(stage("transient", {"attack_low_hz": 900, "attack_high_hz": 300}), Context(RATE, 1))
