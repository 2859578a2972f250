"""trim: levels, polarity, delay in frames, and the DC block against its closed form."""

import math

import numpy as np
import pytest

from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.processors import Context, processor
from salt_anvil.core.processors.trim import DC_CORNER_HZ
from tests.conftest import RATES, constant, noise, sine
from tests.core.processors.test_contract import run, stage


def trimmed(sound: np.ndarray, rate: int = 48000, **params: object) -> np.ndarray:
    return run(Unit(stage("trim", dict(params)), Context(rate, sound.shape[1])), sound)[0]


@pytest.mark.parametrize("gain", [-60, -6.0206, 0, 12, 24])
def test_gain(gain: float) -> None:
    sound = noise(3000)
    assert np.allclose(trimmed(sound, gain_db=gain), sound * 10 ** (gain / 20), rtol=1e-12)


def test_polarity() -> None:
    sound = noise(2000, 1)
    assert (trimmed(sound, invert=True) == -sound).all()


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("ms", [0, 10, 70, 100])
def test_delay_is_the_user_s_and_no_latency(rate: int, ms: float) -> None:
    item = stage("trim", {"delay_ms": ms})
    assert processor("trim").latency(item.params, rate) == 0
    sound = noise(rate // 4, 2)
    wait = round(ms * rate / 1000)
    out = trimmed(sound, rate, delay_ms=ms)
    assert (out[:wait] == 0).all()
    assert (out[wait:] == sound[: len(sound) - wait]).all()


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("ms", [0.01, 0.02, 0.05, 0.33, 7.31, 99.99])
def test_a_fraction_of_a_frame_delays_all_frequencies_alike(rate: int, ms: float) -> None:
    """By the spectrum of a pulse: the level to 18 kHz, the delay at 1 kHz and, of six frames and
    more, at 10 kHz."""
    pulse = np.zeros((16384, 1))
    pulse[0] = 1
    padded = np.concatenate([pulse, np.zeros((round(0.1 * rate), 1))])
    out = trimmed(padded, rate, delay_ms=ms)[:, 0]
    found, hz = np.fft.rfft(out), np.fft.rfftfreq(len(out), 1 / rate)
    assert np.abs(20 * np.log10(np.abs(found[hz <= 18000]))).max() < 1e-6
    wait = ms * rate / 1000
    for at, most in ((1000, 0.01), (10000, 0.01 if wait >= 6 else None)):
        k = np.argmin(np.abs(hz - at))
        apart = np.angle(found[k] * np.exp(2j * np.pi * hz[k] * wait / rate))
        if most is not None:
            assert abs(apart / (2 * np.pi * hz[k] / rate)) < most, at


def test_a_hundredth_of_a_millisecond_is_not_nothing() -> None:
    sound = noise(2000, 1)
    assert np.abs(trimmed(sound, delay_ms=0.01) - sound).max() > 0.01


def test_dc_is_taken_away() -> None:
    out = trimmed(constant(-12, 96000, 1), dc_block=True)
    # First order: e to the -2 pi f t is left after t seconds.
    expected = 10 ** (-12 / 20) * math.exp(-2 * math.pi * DC_CORNER_HZ * 0.1)
    assert out[4800, 0] == pytest.approx(expected, rel=0.01)
    assert abs(out[-1, 0]) < 1e-9


@pytest.mark.parametrize("hz", [5.0, 20.0, 1000.0])
def test_dc_block_is_a_first_order_high_pass(hz: float) -> None:
    """|H| of one pole and one zero: f / sqrt(f**2 + fc**2)."""
    out = trimmed(sine(hz, 4, channels=1), dc_block=True)[96000:]
    power = np.mean(out**2) / 0.5
    expected = hz**2 / (hz**2 + DC_CORNER_HZ**2)
    assert power == pytest.approx(expected, rel=0.02)


def test_makeup_undone_when_listening_to_what_is_removed() -> None:
    item = stage("trim", {"gain_db": -4.5})
    assert processor("trim").makeup_db(item.params, Context(48000, 2)) == -4.5
