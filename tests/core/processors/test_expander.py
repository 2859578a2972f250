"""The expander against its formula and its times.

Static curve: below the threshold, y = T + ratio * (x - T) down to the range, with a parabola in
the knee (the compressor's knee of Giannoulis, Massberg and Reiss 2012, mirrored).
"""

import math
from typing import Any

import numpy as np
import pytest

from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.processors import Context
from tests.conftest import constant, rounded, sine
from tests.core.processors.test_contract import aligned, run, stage

RATE = 48000


def settled_db(level: float, **params: Any) -> float:
    """Output level in dB of a constant input of a level in dB, after everything has settled."""
    settings = {"attack_ms": 1, "release_ms": 5, "hold_ms": 0} | params
    unit = Unit(stage("expander", settings), Context(RATE, 1))
    out, _ = run(unit, constant(level, RATE // 2, 1))
    return float(20 * np.log10(abs(out[-1, 0])))


def formula(x: float, t: float, ratio: float, knee: float, most: float, up: bool) -> float:
    beyond = x - t if up else t - x
    if beyond <= -knee / 2:
        change = 0.0
    elif beyond < knee / 2:
        change = (ratio - 1) * (beyond + knee / 2) ** 2 / (2 * knee)
    else:
        change = (ratio - 1) * beyond
    change = min(change, most)
    return x + change if up else x - change


@pytest.mark.parametrize("direction", ["down", "up"])
@pytest.mark.parametrize("knee", [0, 6, 18])
@pytest.mark.parametrize("ratio", [1, 1.5, 2, 8, 20])
def test_static_curve(ratio: float, knee: float, direction: str) -> None:
    for level in range(-60, 1, 6):
        found = settled_db(
            level, threshold_db=-30, ratio=ratio, knee_db=knee, range_db=20, direction=direction
        )
        expected = formula(level, -30, ratio, knee, 20, direction == "up")
        assert found == pytest.approx(expected, abs=0.05), level


@pytest.mark.parametrize("detector", ["peak", "rms"])
def test_a_sine_below_the_threshold_falls_by_the_ratio(detector: str) -> None:
    """RMS reads a sine 3.01 dB lower than its peak."""
    sound = sine(1000, 2.0, level_db=-40, channels=1)
    params = {"threshold_db": -30, "ratio": 2, "knee_db": 0, "detector": detector, "rms_ms": 50}
    unit = Unit(stage("expander", params), Context(RATE, 1))
    out, _ = run(unit, sound)
    level = 20 * np.log10(np.abs(out[-4800:]).max())
    assert level == pytest.approx(-50 if detector == "peak" else -53.01, abs=0.1)


def test_attack_release_and_hold() -> None:
    """From -50 to -10 dBFS and back; 20 dB of change; times are to 63 % of the way in dB."""
    sound = rounded(
        np.concatenate([constant(-50, RATE, 1), constant(-10, RATE, 1), constant(-50, RATE, 1)])
    )
    params = {"threshold_db": -30, "ratio": 2, "knee_db": 0, "range_db": 20, "attack_ms": 30,
              "release_ms": 100, "hold_ms": 80}  # fmt: skip
    unit = Unit(stage("expander", params), Context(RATE, 1, observe=True))
    out, cells = aligned(unit, sound)
    change = 20 * np.log10(np.abs(out[:, 0]) / sound[:, 0])
    assert change[RATE - 1] == pytest.approx(-20, abs=0.05)
    share = 20 * math.exp(-1)
    opened = int(np.argmax(change[RATE : 2 * RATE] >= -share))
    assert opened == pytest.approx(0.030 * RATE, rel=0.05)
    closed = int(np.argmax(change[2 * RATE :] <= -20 + share))
    # Hold first, then the release, behind it the attack's own lag.
    assert closed == pytest.approx((0.080 + 0.100 + 0.030) * RATE, rel=0.12)
    assert cells["reduction_db"].max() == pytest.approx(20, abs=0.1)


def test_up_tells_what_it_gives() -> None:
    params = {"threshold_db": -30, "ratio": 2, "direction": "up", "range_db": 9}
    _, cells = run(Unit(stage("expander", params), Context(RATE, 2)), constant(-10, RATE // 2))
    assert cells["boost_db"].max() == pytest.approx(9, abs=0.01)
    assert cells["reduction_db"].max() == 0
