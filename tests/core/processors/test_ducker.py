"""The ducker's envelope against its closed form: depth, times, retrigger, look-ahead."""

from typing import Any

import numpy as np
import pytest

from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.processors import Context
from tests.conftest import constant
from tests.core.processors.test_contract import run, stage

RATE = 48000


def hits(levels: list[float], apart_s: float = 0.5) -> np.ndarray:
    """A click of 2 ms at every level in dB, one after another."""
    out = np.zeros((round(RATE * apart_s) * len(levels), 1))
    for index, level in enumerate(levels):
        at = round(RATE * apart_s) * index + 1000
        out[at : at + 96] = 10 ** (level / 20)
    return out


def taken(key: np.ndarray, **params: Any) -> np.ndarray:
    """Reduction in dB per frame, measured on the output."""
    sound = constant(-6, len(key), 1)
    unit = Unit(stage("ducker", params), Context(RATE, 1))
    out = [
        unit.process(sound[a : a + 1024], a, key[a : a + 1024]).out
        for a in range(0, len(key), 1024)
    ]
    late = unit.latency
    whole = np.concatenate(out)[:, 0]
    return -20 * np.log10(whole[late:] / sound[0, 0])


def test_the_depth_does_not_depend_on_the_hit() -> None:
    found = taken(hits([-20, -10, 0]), threshold_db=-24, depth_db=12).reshape(3, -1)
    for one in found:
        assert one.max() == pytest.approx(12, abs=1e-6)
        assert np.abs(one - found[0]).max() < 1e-6


@pytest.mark.parametrize("shape", ["straight", "curved"])
def test_the_envelope_is_its_formula(shape: str) -> None:
    found = taken(hits([-6]), depth_db=18, attack_ms=10, hold_ms=40, decay_ms=200, shape=shape)
    at = 1000
    for ms, expected in ((5, 9.0), (10, 18.0), (30, 18.0), (50, 18.0), (150, 9.0), (251, 0.0)):
        if shape == "curved" and ms == 150:
            expected = 18 * 0.25
        # A frame or two for the edges between the parts.
        assert found[at + round(ms * 48)] == pytest.approx(expected, abs=0.05), ms


def test_softer_than_the_threshold_is_no_hit_and_a_tone_is_one() -> None:
    assert taken(hits([-30]), threshold_db=-24).max() == 0
    _, cells = run(
        Unit(stage("ducker", {"threshold_db": -24}), Context(RATE, 2)), constant(-6, RATE)
    )
    assert cells["opened"].max(axis=1).sum() == 1


def test_retrigger_counts_no_flams() -> None:
    key = hits([-6]) + np.roll(hits([-6]), 1500, axis=0)
    sound = np.repeat(key, 2, axis=1)
    for retrigger, count in ((60, 1), (10, 2)):
        unit = Unit(stage("ducker", {"retrigger_ms": retrigger}), Context(RATE, 2))
        assert run(unit, sound)[1]["opened"].max(axis=1).sum() == count


def test_look_ahead_is_down_before_the_hit() -> None:
    key = hits([-6])
    found = taken(key, attack_ms=5, lookahead_ms=5, depth_db=12)
    assert found[1000] == pytest.approx(12, abs=0.1)
    assert found[1000 - 5 * 48 - 2] == pytest.approx(0, abs=0.01)
