"""The leveller against its speeds, limits and floor: closed forms in dB and seconds."""

from typing import Any

import numpy as np
import pytest

from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.processors import Context
from tests.conftest import constant, sine
from tests.core.processors.test_contract import run, stage

RATE = 48000


def gain_db(sound: np.ndarray, **params: Any) -> np.ndarray:
    out, _ = run(Unit(stage("leveller", params), Context(RATE, sound.shape[1])), sound)
    return 20 * np.log10(np.abs(out[:, 0]) / np.abs(sound[:, 0]))


def test_it_arrives_at_the_target() -> None:
    """A sine's mean level is 3.01 dB under its peak."""
    sound = sine(997, 8.0, level_db=-30)
    out, _ = run(Unit(stage("leveller", {"target_db": -24}), Context(RATE, 2)), sound)
    level = 10 * np.log10(np.mean(out[-RATE:] ** 2))
    assert level == pytest.approx(-24, abs=0.05)


@pytest.mark.parametrize(("level", "speed"), [(-40, 3.0), (-5, -5.0)])
def test_it_walks_at_its_speed(level: float, speed: float) -> None:
    found = gain_db(
        constant(level, 4 * RATE),
        target_db=-20,
        rise_db_s=3,
        fall_db_s=5,
        mean_ms=50,
        max_gain_db=30,
        max_cut_db=30,
    )
    assert found[2 * RATE] - found[RATE] == pytest.approx(speed, abs=0.02)


def test_it_stays_within_its_limits() -> None:
    assert gain_db(constant(-45, 8 * RATE), rise_db_s=10, max_gain_db=7)[-1] == pytest.approx(7)
    assert gain_db(constant(-2, 8 * RATE), fall_db_s=10, max_cut_db=5)[-1] == pytest.approx(-5)


def test_it_rests_in_pauses() -> None:
    sound = np.concatenate([constant(-30, 6 * RATE), constant(-70, 6 * RATE)])
    found = gain_db(sound, target_db=-20, floor_db=-50, mean_ms=100, rise_db_s=5, max_gain_db=30)
    # The mean takes tau * ln(100) to fall by 20 dB to the floor; so long it still walks.
    assert found[-1] == found[7 * RATE]
    walked = 5 * 0.1 * np.log(100)
    assert found[-1] - found[6 * RATE - 1] == pytest.approx(walked, abs=0.05)


def test_both_channels_get_the_same_gain() -> None:
    sound = np.concatenate([constant(-30, 2 * RATE, 1), constant(-50, 2 * RATE, 1)], axis=1)
    out, _ = run(Unit(stage("leveller", {}), Context(RATE, 2)), sound)
    ratio = out / sound
    assert np.abs(ratio[:, 0] - ratio[:, 1]).max() < 1e-12
