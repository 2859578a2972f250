"""Controls that follow a function of time, and still glide when a hand moves something."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from salt_anvil.core.audio import GRID, RAMP
from salt_anvil.core.dsp.control_ramp import ControlRamp, Ramp, Vector
from salt_anvil.core.state import State


def _never(first: int, count: int) -> bool:
    return False


@dataclass(frozen=True)
class Trajectory:
    """A vector of controls as a function of the grid point: point k is timeline frame 64 k.

    still: it is the same at every point. stands: says of so many points from one on that they are
    known to be all the same.
    """

    at: Callable[[int], Vector]
    still: bool = False
    stands: Callable[[int, int], bool] = _never

    @classmethod
    def standing(cls, vector: Vector) -> "Trajectory":
        """Return one that stands at a vector."""
        return cls(lambda point: vector, still=True)


def _rounded(trajectory: Trajectory, point: int) -> Vector:
    """Return the value at a grid point of the spline through a trajectory."""
    here = trajectory.at(point)
    if trajectory.still:
        return here
    return np.asarray((trajectory.at(point - 1) + 4 * here + trajectory.at(point + 1)) / 6)


def _spline(along: Vector) -> tuple[Vector, Vector]:
    """Return the grid values of a cubic B-spline of these points and its bends (see `Ramp`).

    along: (n + 3, controls), from the point before the first to two behind the last cell. Values:
    (n + 1, controls); straight lines stay what they are, corners and jumps become smooth to the
    second derivative over two cells on both sides.
    """
    before, here, next_, last = along[:-3], along[1:-2], along[2:-1], along[3:]
    values = (along[:-2] + 4 * along[1:-1] + along[2:]) / 6
    return values, np.array([(before - 2 * here + next_) / 2,
                             (last - 3 * next_ + 3 * here - before) / 6])  # fmt: skip


class AutomationRamp:
    """Carries a vector along a trajectory, whose corners it rounds, in lines from grid point to
    grid point.

    A change of the trajectory in play is bridged over RAMP frames; at rest nothing is remembered,
    so that any place can be gone to.
    """

    def __init__(self, trajectory: Trajectory) -> None:
        self._trajectory = trajectory
        self._offset: ControlRamp | None = None
        self._ramp: Ramp | None = None
        """What stands for good, once it has been asked for; no change by hand is under way."""
        self._resting: tuple[Vector, Ramp] | None = None
        self._next = 0

    @property
    def moving(self) -> bool:
        """Whether a change by hand is still being bridged."""
        return self._offset is not None and self._offset.moving

    def target(self, point: int) -> Vector:
        """Return where the trajectory is at a grid point."""
        return _rounded(self._trajectory, point)

    def clone(self) -> "AutomationRamp":
        """Return an independent ramp at the same place."""
        other = AutomationRamp(self._trajectory)
        other._offset = self._offset.clone() if self._offset else None
        other._next = self._next
        return other

    def settle(self) -> None:
        """Stand on the trajectory, as after a jump."""
        self._offset = None

    def state(self) -> State:
        """Return a change in progress, to be stored."""
        state = State(next=np.array([float(self._next)]))
        if self._offset is not None:
            glide = self._offset
            state["offset"] = np.array([glide.value, glide.step])
            state["left"] = np.array([float(glide.left), float(glide.moving)])
        return state

    def restore(self, state: State) -> None:
        """Go on with a stored change in progress."""
        self._next, self._offset, self._ramp = int(state["next"][0]), None, None
        if "offset" in state:
            value, step = state["offset"]
            glide = ControlRamp(np.array(value))
            glide.target, glide.step = np.zeros_like(value), np.array(step)
            glide.left, glide.moving = int(state["left"][0]), bool(state["left"][1])
            self._offset = glide

    def to(self, trajectory: Trajectory) -> None:
        """Follow another trajectory, from where it stands."""
        segment, inside = divmod(self._next, GRID)
        ends = [segment, segment + 1] if inside else [segment]
        held = self._offset
        gap = np.array([_rounded(self._trajectory, k) - _rounded(trajectory, k) for k in ends])
        if held is not None:
            reached = held.value + held.step * GRID
            gap = gap + (np.array([held.value, reached]) if inside else reached)
        self._trajectory = trajectory
        self._ramp = self._offset = None
        if gap.any():
            self._offset = ControlRamp(gap[0])
            if inside:
                # The segment in hand goes on as it was until the next grid point.
                self._offset.step = (gap[1] - gap[0]) / GRID
            self._offset.to(np.zeros_like(gap[0]))

    def over(self, start: int, frames: int) -> Ramp:
        """Return the ramp of the frames [start, start + frames) and move on."""
        self._next = start + frames
        standing = self._ramp
        if standing is not None and frames <= standing.reach:
            return standing
        first = start // GRID
        points = (start + frames - 1) // GRID - first + 1
        if self._offset is None and self._trajectory.still:
            return self._standing(first, points)
        offset = self._offset.over(start, frames) if self._offset is not None else None
        at_rest = self._offset is not None and not self._offset.moving
        if offset is not None and at_rest and not offset.step.any() and not offset.value.any():
            self._offset = offset = None
        if offset is None and self._trajectory.still:
            return self._standing(first, points)
        along = self._along(first, points)
        if offset is None:
            return along
        value, step = along.value[:points], along.step[:points]
        bends = None if along.bends is None else along.bends[:, :points]
        return Ramp(value + offset.value[:points], step + offset.step[:points], bends=bends)

    def _along(self, first: int, points: int) -> Ramp:
        """Return the trajectory's own ramp over so many points or more."""
        if self._trajectory.stands(first - 1, points + 3):
            return self._at_rest(self._trajectory.at(first), points)
        along = [self._trajectory.at(first + k) for k in range(-1, points + 2)]
        values, bends = _spline(np.array(along))
        step = np.diff(values, axis=0) / GRID
        return Ramp(values[:-1], step, bends=bends if bends.any() else None)

    def _at_rest(self, vector: Vector, points: int) -> Ramp:
        """Return what the spline makes of points that are all the same, to the bit."""
        if self._resting is not None:
            of, known = self._resting
            if of is vector and len(known.value) >= points:
                return known
        values, bends = _spline(np.array([vector] * 4))
        value = np.repeat(values[:1], points, axis=0)
        bent = np.repeat(bends, points, axis=1) if bends.any() else None
        ramp = Ramp(value, np.zeros_like(value), bends=bent)
        self._resting = (vector, ramp)
        return ramp

    def _standing(self, first: int, points: int) -> Ramp:
        vector = np.asarray(self._trajectory.at(first), np.float64)
        # One more, so that they are enough for as many frames wherever those begin.
        value = np.repeat(vector[None, :], max(points, RAMP // GRID) + 1, axis=0)
        self._ramp = Ramp(value, np.zeros_like(value), still=True)
        return self._ramp
