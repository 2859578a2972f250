"""Controls on a course: exact at grid points, straight in between, bridged when it changes.

What there is to check against are the course itself and straight lines.
"""

import numpy as np
import pytest

from salt_anvil.core.audio import GRID, RAMP
from salt_anvil.core.dsp.automation_ramp import Motion
from salt_anvil.core.state import State


def straight(slope: float, start: float = 0.0):
    return lambda point: np.array([start + slope * point, -slope * point])


def still(value: float):
    vector = np.array([value, 2 * value])
    return lambda point: vector


def samples(motion: Motion, start: int, frames: int, column: int = 0) -> np.ndarray:
    """Every frame's value of one control."""
    ramp = motion.over(start, frames)
    at = np.arange(frames) + start % GRID
    return ramp.value[at // GRID, column] + ramp.step[at // GRID, column] * (at % GRID)


def test_a_still_course_stands() -> None:
    motion = Motion(still(3.0), True)
    assert (samples(motion, 0, 5000) == 3).all()
    assert (samples(motion, 5000, 77, 1) == 6).all()
    assert not motion.moving


@pytest.mark.parametrize("start", [0, 37, -500, 123_456])
@pytest.mark.parametrize("frames", [1, 64, 1000, 1024])
def test_a_straight_course_is_a_straight_line(start: int, frames: int) -> None:
    found = samples(Motion(straight(0.5), False), start, frames)
    expected = 0.5 * (np.arange(frames) + start) / GRID
    assert found == pytest.approx(expected, abs=1e-9)


def test_any_place_can_be_gone_to() -> None:
    """Nothing is remembered at rest: the same block, whether walked to or jumped to."""
    course = lambda point: np.array([np.sin(point / 7)])  # noqa: E731
    walked, jumped = Motion(course, False), Motion(course, False)
    for at in range(0, 10240, 1024):
        last = walked.over(at, 1024)
    same = jumped.over(9216, 1024)
    assert (last.value == same.value).all()
    assert (last.step == same.step).all()


@pytest.mark.parametrize("start", [1024, 1000])
def test_a_change_is_bridged_within_one_ramp(start: int) -> None:
    motion = Motion(still(1.0), True)
    before = samples(motion, 0, start)
    motion.to(still(5.0), True)
    assert motion.moving
    after = samples(motion, start, 4096)
    whole = np.concatenate([before, after])
    assert np.abs(np.diff(whole)).max() <= 4.0 / RAMP * 1.001
    first = -(-start // GRID) * GRID
    assert (whole[first + RAMP + GRID :] == 5).all()
    assert not motion.moving


def test_a_change_in_the_middle_of_a_change_does_not_jump() -> None:
    motion = Motion(still(0.0), True)
    parts, at = [], 0
    for target, frames in ((8.0, 333), (-3.0, 500), (2.0, 190), (9.0, 3000)):
        motion.to(still(target), True)
        parts.append(samples(motion, at, frames))
        at += frames
    whole = np.concatenate(parts)
    assert np.abs(np.diff(whole)).max() < 12 / RAMP
    assert whole[-1] == 9


def test_from_a_standing_control_onto_a_moving_one() -> None:
    motion = Motion(still(1.0), True)
    samples(motion, 0, 2048)
    motion.to(straight(0.1), False)
    found = samples(motion, 2048, 4096)
    own = 0.1 * (np.arange(4096) + 2048) / GRID
    assert found[0] == pytest.approx(1.0, abs=0.01)
    assert found[RAMP + 2 * GRID :] == pytest.approx(own[RAMP + 2 * GRID :], abs=1e-12)


def test_a_change_in_progress_survives_storage() -> None:
    motion = Motion(still(0.0), True)
    motion.to(still(4.0), True)
    samples(motion, 0, 300)
    stored = State.from_bytes(motion.state().to_bytes())
    other = Motion(still(4.0), True)
    other.restore(stored)
    assert (samples(other, 300, 2000) == samples(motion, 300, 2000)).all()


def test_a_clone_goes_its_own_way() -> None:
    motion = Motion(still(0.0), True)
    motion.to(still(4.0), True)
    samples(motion, 0, 128)
    other = motion.clone()
    other.to(still(-4.0), True)
    assert samples(motion, 128, 3000)[-1] == 4
    assert samples(other, 128, 3000)[-1] == -4


def test_settling_is_a_jump() -> None:
    motion = Motion(still(0.0), True)
    motion.to(still(4.0), True)
    motion.settle()
    assert (samples(motion, 0, 100) == 4).all()
    assert (motion.target(5) == [4, 8]).all()
