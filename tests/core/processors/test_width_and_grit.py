"""width keeps the mono sum; grit does what its numbers say."""

from typing import Any

import numpy as np
import pytest

from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.processors import Context, processor
from tests.conftest import noise, sine
from tests.core.processors.test_contract import run, stage

RATE = 48000


def passed(kind: str, sound: np.ndarray, **params: Any) -> np.ndarray:
    return run(Unit(stage(kind, params), Context(RATE, sound.shape[1])), sound)[0]


WAYS = [{"width": 0}, {"width": 2}, {"spread": 1}, {"mono_below_hz": 150},
        {"width": 1.4, "spread": 0.5, "mono_below_hz": 90}]  # fmt: skip


@pytest.mark.parametrize("params", WAYS)
def test_the_mono_sum_stays(params: dict[str, Any]) -> None:
    sound = noise(RATE)
    out = passed("width", sound, **params)
    assert np.abs(out.sum(axis=1) - sound.sum(axis=1)).max() < 1e-14


def test_width_scales_the_sides() -> None:
    sound = noise(8000)
    side = (sound[:, 0] - sound[:, 1]) / 2
    for width in (0, 0.5, 2):
        out = passed("width", sound, width=width)
        assert np.abs((out[:, 0] - out[:, 1]) / 2 - width * side).max() < 1e-14


def test_mono_below_has_no_sides_there_and_all_of_them_above() -> None:
    """24 dB an octave, Butterworth: -3.01 dB at the corner."""
    for hz, expected in ((50, -24.1), (100, -3.01), (1000, 0)):
        tone = sine(hz, 1, channels=1)
        out = passed("width", np.concatenate([tone, -tone], axis=1), mono_below_hz=100)
        level = np.abs(out[RATE // 2 :, 0]).max()
        assert 20 * np.log10(level) == pytest.approx(expected, abs=0.15)


def test_spread_takes_left_and_right_of_a_mono_sound_apart() -> None:
    sound = np.repeat(noise(2 * RATE, 1), 2, axis=1)
    correlation = [
        float(np.corrcoef(passed("width", sound, spread=s)[RATE:].T)[0, 1]) for s in (0, 0.5, 1)
    ]
    assert correlation[0] == pytest.approx(1)
    assert correlation[0] > correlation[1] > correlation[2]
    assert correlation[2] < 0.5


def test_balance_turns_one_side_down() -> None:
    sound = noise(4000)
    out = passed("width", sound, balance=0.5)
    assert np.abs(out[:, 1] - sound[:, 1]).max() < 1e-14
    assert np.abs(out[:, 0] - 0.5 * sound[:, 0]).max() < 1e-14


def test_one_channel_passes_through_width() -> None:
    sound = noise(4000, 1)
    assert (passed("width", sound, width=0, spread=1) == sound).all()


@pytest.mark.parametrize("bits", [1, 4, 8, 16])
def test_bits_are_steps_of_that_size(bits: int) -> None:
    sound = np.clip(noise(8000, level=0.4), -0.99, 0.99)
    out = passed("grit", sound, bits=bits)
    step = 2.0 ** (1 - bits)
    assert np.abs(out / step - np.round(out / step)).max() < 1e-9
    assert np.abs(out - sound).max() <= step / 2 + 1e-12


def test_noise_of_the_steps_is_six_db_a_bit() -> None:
    """A full-scale sine: 6.02 n + 1.76 dB (handbook value)."""
    tone = sine(997, 1, channels=1)
    for bits in (6, 10, 14):
        error = passed("grit", tone, bits=bits) - tone
        ratio = 10 * np.log10((tone**2).mean() / (error**2).mean())
        assert ratio == pytest.approx(6.02 * bits + 1.76, abs=0.5)


def test_rate_keeps_so_many_samples_and_smooth_draws_lines() -> None:
    sound = noise(RATE, 1)
    held = passed("grit", sound, bits=24, rate_hz=4000)
    changes = np.flatnonzero(np.diff(held[:, 0]))
    assert len(changes) == pytest.approx(4000, abs=2)
    smooth = passed("grit", sound, bits=24, rate_hz=4000, smooth=1)
    assert np.abs(np.diff(smooth[:, 0])).max() < 0.2 * np.abs(np.diff(held[:, 0])).max()
    all_ = passed("grit", sound, bits=24)
    assert np.abs(all_ - sound).max() < 2**-23


def test_grits_picture_has_its_steps() -> None:
    """Three bits: steps of a quarter from -1.25 to 1.25 where 1.2 goes in; held for 1 ms."""
    drawn = processor("grit").drawing(
        stage("grit", {"bits": 3, "rate_hz": 1000}).params, Context(48000, 2)
    )
    levels = np.unique([y for _, y in drawn.shaper])
    assert levels == pytest.approx(np.arange(-5, 6) / 4)
    before, after = drawn.waves
    assert len(before) == len(after) == 480
    assert len(np.flatnonzero(np.diff(after))) <= 10
