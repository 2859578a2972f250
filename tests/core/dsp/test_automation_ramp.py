"""Controls on a trajectory: exact at grid points, straight in between, bridged when it changes.

What there is to check against are the trajectory itself and straight lines.
"""

import numpy as np
import pytest

from salt_anvil.core.audio import GRID, RAMP
from salt_anvil.core.dsp.automation_ramp import AutomationRamp, Trajectory, _never
from salt_anvil.core.state import State


def straight(slope: float, start: float = 0.0) -> Trajectory:
    return Trajectory(lambda point: np.array([start + slope * point, -slope * point]))


def still(value: float) -> Trajectory:
    return Trajectory.standing(np.array([value, 2 * value]))


def samples(ramp: AutomationRamp, start: int, frames: int, column: int = 0) -> np.ndarray:
    """Every frame's value of one control."""
    found = ramp.over(start, frames)
    at = np.arange(frames) + start % GRID
    return found.value[at // GRID, column] + found.step[at // GRID, column] * (at % GRID)


def test_a_still_trajectory_stands() -> None:
    ramp = AutomationRamp(still(3.0))
    assert (samples(ramp, 0, 5000) == 3).all()
    assert (samples(ramp, 5000, 77, 1) == 6).all()
    assert not ramp.moving


@pytest.mark.parametrize("start", [0, 37, -500, 123_456])
@pytest.mark.parametrize("frames", [1, 64, 1000, 1024])
def test_a_straight_trajectory_is_a_straight_line(start: int, frames: int) -> None:
    found = samples(AutomationRamp(straight(0.5)), start, frames)
    expected = 0.5 * (np.arange(frames) + start) / GRID
    assert found == pytest.approx(expected, abs=1e-9)


def test_any_place_can_be_gone_to() -> None:
    """Nothing is remembered at rest: the same block, whether walked to or jumped to."""
    wave = Trajectory(lambda point: np.array([np.sin(point / 7)]))
    walked, jumped = AutomationRamp(wave), AutomationRamp(wave)
    for at in range(0, 10240, 1024):
        last = walked.over(at, 1024)
    same = jumped.over(9216, 1024)
    assert (last.value == same.value).all()
    assert (last.step == same.step).all()


@pytest.mark.parametrize("value", [0.0, 0.1, -7.3, 1e-9, 12345.678])
@pytest.mark.parametrize("moving", [False, True])
def test_where_it_is_known_to_stand_it_is_the_same_to_the_bit(value: float, moving: bool) -> None:
    """It stands up to point 40 and from 80 on; asked in blocks of several lengths."""

    def at(point: int) -> np.ndarray:
        return np.array([value + max(min(point, 80) - 40, 0) / 3, value])

    def stands(first: int, count: int) -> bool:
        return first + count - 1 <= 40 or first >= 80

    known, told = AutomationRamp(Trajectory(at)), AutomationRamp(Trajectory(at, stands=stands))
    if moving:
        for ramp in (known, told):
            ramp.over(0, GRID)
            ramp.to(Trajectory(lambda p: at(p) + 1, stands=stands if ramp is told else _never))
    start = GRID
    for frames in (64, 1024, 100, 3000, 64, 4096, 128):
        one, other = known.over(start, frames), told.over(start, frames)
        points = len(one.value)
        assert (one.value == other.value[:points]).all()
        assert (one.step == other.step[:points]).all()
        bends = [np.zeros((2, points, 2)) if r.bends is None else r.bends for r in (one, other)]
        assert (bends[0] == bends[1][:, :points]).all()
        start += frames


@pytest.mark.parametrize("start", [1024, 1000])
def test_a_change_is_bridged_within_one_ramp(start: int) -> None:
    ramp = AutomationRamp(still(1.0))
    before = samples(ramp, 0, start)
    ramp.to(still(5.0))
    assert ramp.moving
    after = samples(ramp, start, 4096)
    whole = np.concatenate([before, after])
    assert np.abs(np.diff(whole)).max() <= 4.0 / RAMP * 1.001
    first = -(-start // GRID) * GRID
    assert (whole[first + RAMP + GRID :] == 5).all()
    assert not ramp.moving


def test_a_change_in_the_middle_of_a_change_does_not_jump() -> None:
    ramp = AutomationRamp(still(0.0))
    parts, at = [], 0
    for target, frames in ((8.0, 333), (-3.0, 500), (2.0, 190), (9.0, 3000)):
        ramp.to(still(target))
        parts.append(samples(ramp, at, frames))
        at += frames
    whole = np.concatenate(parts)
    assert np.abs(np.diff(whole)).max() < 12 / RAMP
    assert whole[-1] == 9


def test_from_a_standing_control_onto_a_moving_one() -> None:
    ramp = AutomationRamp(still(1.0))
    samples(ramp, 0, 2048)
    ramp.to(straight(0.1))
    found = samples(ramp, 2048, 4096)
    own = 0.1 * (np.arange(4096) + 2048) / GRID
    assert found[0] == pytest.approx(1.0, abs=0.01)
    assert found[RAMP + 2 * GRID :] == pytest.approx(own[RAMP + 2 * GRID :], abs=1e-12)


def test_a_change_in_progress_survives_storage() -> None:
    ramp = AutomationRamp(still(0.0))
    ramp.to(still(4.0))
    samples(ramp, 0, 300)
    stored = State.from_bytes(ramp.state().to_bytes())
    other = AutomationRamp(still(4.0))
    other.restore(stored)
    assert (samples(other, 300, 2000) == samples(ramp, 300, 2000)).all()


def test_a_clone_goes_its_own_way() -> None:
    ramp = AutomationRamp(still(0.0))
    ramp.to(still(4.0))
    samples(ramp, 0, 128)
    other = ramp.clone()
    other.to(still(-4.0))
    assert samples(ramp, 128, 3000)[-1] == 4
    assert samples(other, 128, 3000)[-1] == -4


def test_settling_is_a_jump() -> None:
    ramp = AutomationRamp(still(0.0))
    ramp.to(still(4.0))
    ramp.settle()
    assert (samples(ramp, 0, 100) == 4).all()
    assert (ramp.target(5) == [4, 8]).all()
