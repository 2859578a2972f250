"""The curve: points, monotone cubic, and equality with compressor, expander and gate."""

from typing import Any

import numpy as np
import pytest
from scipy.interpolate import PchipInterpolator

from salt_anvil.core.dsp.transfer_curve import tabulate
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import Context
from tests.conftest import constant, noise
from tests.core.processors.test_contract import run, stage

RATE = 48000


def passed(kind: str, sound: np.ndarray, **params: Any) -> np.ndarray:
    return run(Unit(stage(kind, params), Context(RATE, sound.shape[1])), sound)[0]


def settled_db(level: float, points: list[tuple[float, float]], **params: Any) -> float:
    settings = {"points": points, "attack_ms": 1, "release_ms": 5} | params
    out = passed("curve", constant(level, RATE // 2, 1), **settings)
    return float(20 * np.log10(abs(out[-1, 0])))


POINTS = [(-70.0, -95.0), (-45.3, -45.0), (-20.0, -28.0), (-6.0, -16.0), (0.0, -15.5)]


@pytest.mark.parametrize("level", np.arange(-90, 5, 4.7))
def test_straight_lines_between_the_points_and_beyond(level: float) -> None:
    x, y = np.array(POINTS).T
    expected = np.interp(level, x, y)
    if level < x[0]:
        expected = y[0] + (level - x[0]) * 50 / 24.7
    if level > 0:
        expected = y[-1] + level * 0.5 / 6
    assert settled_db(level, POINTS) == pytest.approx(expected, abs=0.01)


@pytest.mark.parametrize("level", np.arange(-69, 0, 5.3))
def test_smooth_is_the_monotone_cubic_of_scipy(level: float) -> None:
    x, y = np.array(POINTS).T
    expected = float(PchipInterpolator(x, y)(level))
    assert settled_db(level, POINTS, smooth=True) == pytest.approx(expected, abs=0.01)


def test_any_points_give_the_table_of_scipy() -> None:
    chance = np.random.default_rng(11)
    for _ in range(300):
        count = chance.integers(3, 12)
        x = np.round(np.sort(chance.choice(np.arange(-99, 19, 0.5), count, replace=False)), 1)
        y = np.round(chance.uniform(-99, 10, count), 1)
        y[1:][chance.random(count - 1) < 0.2] = y[0]  # level pieces, and turns in them
        levels, out = tabulate(tuple(zip(x.tolist(), y.tolist(), strict=True)), True)
        cubic = PchipInterpolator(x, y)
        low, high = cubic.derivative()(x[[0, -1]])
        expected = cubic(np.clip(levels, x[0], x[-1]))
        expected += low * np.minimum(levels - x[0], 0) + high * np.maximum(levels - x[-1], 0)
        expected = levels + np.clip(expected - levels, -100, 100)
        assert np.abs(out - expected).max() < 1e-9


def test_smooth_never_overshoots() -> None:
    generator = np.random.default_rng(5)
    for _ in range(50):
        x = np.round(np.sort(generator.choice(np.arange(-99, 19, 0.5), 9, replace=False)), 1)
        y = np.round(generator.uniform(-90, 10, 9), 1)
        levels, out = tabulate(tuple(zip(x.tolist(), y.tolist(), strict=True)), True)
        for a, b, low, high in zip(x, x[1:], y, y[1:], strict=False):
            between = out[(levels >= a) & (levels <= b)]
            inside = np.abs(between - levels[(levels >= a) & (levels <= b)]) < 99.99
            assert (between[inside] >= min(low, high) - 1e-9).all()
            assert (between[inside] <= max(low, high) + 1e-9).all()


def test_equals_the_compressor_where_its_curve_is_drawn_moving_too() -> None:
    """Hard knee, 4:1 above -24 dB; noise whose level steps up and down."""
    sound = noise(48000) * np.repeat([0.1, 1.5, 0.3, 0.02], 12000)[:, None]
    times = {"attack_ms": 7, "release_ms": 90}
    drawn = passed("curve", sound, points=[(-80, -80), (-24, -24), (0, -18)], **times)
    real = passed("compressor", sound, threshold_db=-24, ratio=4, knee_db=0, **times)
    assert np.abs(drawn - real).max() < 1e-9


def test_equals_the_expander_where_its_curve_is_drawn_moving_too() -> None:
    """3:1 below -30 dB, at most 24 dB; the first second lets both come from where they begin."""
    levels = np.repeat([0.1, 0.5, 0.01, 0.3, 0.002], 24000)
    sound = noise(len(levels)) * levels[:, None]
    times = {"attack_ms": 7, "release_ms": 90}
    points = [(-100, -100 - 24), (-42, -66), (-30, -30), (0, 0)]
    points[0] = (-76.0, -100.0)
    drawn = passed("curve", sound, points=points, **times)
    real = passed(
        "expander", sound, threshold_db=-30, ratio=3, range_db=24, knee_db=0, hold_ms=0, **times
    )
    assert np.abs(drawn[48000:] - real[48000:]).max() < 1e-6


@pytest.mark.parametrize("level", [-60.0, -45.0, -40.5, -39.5, -30.0, -3.0])
def test_equals_the_settled_gate_where_its_curve_is_drawn(level: float) -> None:
    """A gate without hysteresis: a step of its depth within a tenth of a dB."""
    depth = 40.0
    points = [(-60, -60 - depth), (-40.1, -40.1 - depth), (-40, -40), (0, 0)]
    sound = constant(level, RATE, 1)
    real = passed("gate", sound, threshold_db=-40, hysteresis_db=0, depth_db=depth, release_ms=20)
    expected = float(20 * np.log10(abs(real[-1, 0])))
    assert settled_db(level, points) == pytest.approx(expected, abs=0.02)


@pytest.mark.parametrize(
    ("points", "words"),
    [([(-20, -20)], "2 to 16"), ([(-20, -20), (-20, -10)], "increase"), ([(-20, 0), (-30, 0)],
     "increase"), ([(-200, 0), (0, 0)], "-100 to 20"), ([(i, i) for i in range(17)], "2 to 16"),
     ([(float("nan"), 0), (0, 0)], "points")],
)  # fmt: skip
def test_points_that_are_no_curve_are_refused_in_a_sentence(points: Any, words: str) -> None:
    with pytest.raises(SettingError, match=words):
        stage("curve", {"points": points})


def test_a_moved_point_acts_at_once_and_never_louder_than_both_curves() -> None:
    """Up from an expander's curve to none: without going along, the release adds up to 50 dB."""
    sound = noise(48000, level=0.2)
    unit = Unit(
        stage(
            "curve", {"points": [(-100, -100), (-60, -100), (-50, -50), (0, 0)], "release_ms": 2000}
        ),
        Context(RATE, 2),
    )
    first, _ = run(unit, sound[:24576])
    unit.change(
        stage("curve", {"points": [(-100, -100), (0, 0)], "release_ms": 2000}), unit.context
    )
    second, _ = run(unit, sound[24576:], start=24576)
    gain = np.abs(np.concatenate([first, second])).max() / np.abs(sound).max()
    assert gain < 1.05
    late = np.abs(second[2048:]).std() / np.abs(sound[26624:]).std()
    assert late == pytest.approx(1, abs=0.05)
