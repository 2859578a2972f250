"""The enhancer: each order alone by Chebyshev's identity, at every level; what stays of the source.

harmonics by order · level independence · drive · source kept or taken · rising tones
"""

from typing import Any

import numpy as np
import pytest

from salt_anvil.core.dsp import harmonic_generator as e
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import Context
from tests.conftest import noise, sine
from tests.core.processors.test_contract import run, stage

RATE = 48000


def enhanced(sound: np.ndarray, rate: int = RATE, **params: Any) -> np.ndarray:
    return run(Unit(stage("enhancer", params), Context(rate, sound.shape[1])), sound)[0]


def levels_db(out: np.ndarray, hz: int) -> np.ndarray:
    """Levels in dBFS of 0 Hz and the first nine harmonics over the second second."""
    found = np.abs(np.fft.rfft(out[RATE : 2 * RATE, 0])) / (RATE / 2)
    return 20 * np.log10(np.maximum(found[: 10 * hz : hz], 1e-9))


@pytest.mark.parametrize("quality", ["plain", "good", "high", "best"])
@pytest.mark.parametrize("level_db", [0, -40])
@pytest.mark.parametrize(("order", "wanted"), [("even", [2]), ("odd", [3]), ("both", [2, 3])])
def test_a_sine_gets_the_one_harmonic(
    order: str, wanted: list[int], level_db: float, quality: str
) -> None:
    """T_n(cos a) = cos(n a); 60 Hz is the middle of 40 to 90 Hz."""
    out = enhanced(
        sine(60, 2, level_db=level_db, channels=1),
        order=order,
        drive_db=0,
        amount_db=-12,
        quality=quality,
    )
    found = levels_db(out, 60) - level_db
    assert found[1] == pytest.approx(0, abs=0.01)
    for n in range(2, 10):
        if n in wanted:
            # The filters that clean what was made take a little from 120 Hz.
            assert found[n] == pytest.approx(-12, abs=0.2)
        else:
            assert found[n] < -100
    assert found[0] < -100  # no offset


def test_drive_brings_the_higher_ones_along() -> None:
    """At 6.02 dB each stands at half of the one two below it."""
    out = enhanced(sine(60, 2, level_db=-12, channels=1), drive_db=6.0206, amount_db=0)
    found = levels_db(out, 60) + 12
    assert found[2:8] == pytest.approx([0, 0, -6, -6, -12, -12], abs=0.25)


def test_the_polynomial_is_chebyshevs() -> None:
    angle = np.linspace(0, np.pi, 41)
    for order, n in (("even", 2), ("odd", 3)):
        powers = e.polynomial(order, 0.0)
        value = np.polynomial.Polynomial(powers)(np.cos(angle))
        assert np.abs(value - np.cos(n * angle)).max() < 1e-12


def test_nothing_comes_of_what_lies_beside_the_range() -> None:
    high = sine(3000, 2, level_db=-6, channels=1)
    out = enhanced(high, low_hz=40, high_hz=90, amount_db=0)
    late = o.LATENCY
    assert np.abs(out[RATE:] - high[RATE - late : -late]).max() < 1e-5


def test_without_its_source_only_the_harmonics_stay() -> None:
    low, mid = sine(60, 2, level_db=-12, channels=1), sine(1000, 2, level_db=-12, channels=1)
    found = levels_db(enhanced(low, keep_source=False, drive_db=0, order="even"), 60)
    assert found[2] == pytest.approx(-24, abs=0.2)
    assert found[1] < -12 - 9  # Linkwitz-Riley, corners just over an octave apart
    out = enhanced(mid, keep_source=False)
    level = 20 * np.log10(np.abs(np.fft.rfft(out[RATE:, 0]))[1000] / (RATE / 2))
    assert level == pytest.approx(-12, abs=0.05)


def test_a_rising_tone_makes_no_fizz() -> None:
    """A 60 Hz tone that fades in over 100 ms: up to the seventh harmonic, next to nothing above."""
    sound = sine(60, 1, level_db=-6, channels=1)
    sound *= np.minimum(np.arange(len(sound)) / 4800, 1)[:, None]
    made = enhanced(sound, amount_db=0, drive_db=12)[:, 0]
    made[o.LATENCY :] -= sound[: -o.LATENCY, 0]
    window = np.hanning(4096)
    above = [
        np.abs(np.fft.rfft(made[s : s + 4096] * window))[256:].max() / 2048
        for s in range(0, 9600, 512)
    ]
    assert 20 * np.log10(max(above)) < -70


def test_a_range_upside_down_is_refused() -> None:
    with pytest.raises(SettingError, match="low_hz is 200 and high_hz 90"):
        Unit(stage("enhancer", {"low_hz": 200, "high_hz": 90}), Context(RATE, 2))


def test_silence_stays_silent() -> None:
    assert not enhanced(np.zeros((4096, 2)), amount_db=12).any()


@pytest.mark.parametrize("rate", [44100, 192000])
def test_interpreted_kernels_are_the_same(rate: int) -> None:
    sound = 0.3 * noise(300, 1)
    heights = [np.empty_like(sound) for _ in range(2)]
    settings = (0, 12, 0.999, 0.01, 4.0, 1e5)
    for kernel, out in zip((e.envelope_into, e.envelope_into.py_func), heights, strict=True):
        kernel(out, sound, *settings, np.zeros((e.CELLS, 1)), np.zeros((8, 1)))
    assert np.abs(heights[0] - heights[1]).max() < 1e-12
    table, made = o.tables("good"), []
    for kernel in (e._shape_rows, e._shape_rows.py_func):
        room = np.resize(sound[:, 0], len(o.room_for(table))).astype(np.float32)
        powers = np.repeat(e.polynomial("both", 0.5)[:, None], 64, axis=1)
        for moving in (0.0, 0.01):
            moved = powers + moving * np.arange(64)
            kernel(room, table, 64, np.linspace(0.2, 1, 65), moved, moving == 0.0)
            made.append(np.array([o.taken(room, table, p, 64) for p in range(8)]))
    # What is found in float64 is kept in float32: the last place of it.
    assert np.abs(made[0] - made[2]).max() < 2**-23
    assert np.abs(made[1] - made[3]).max() < 2**-23
