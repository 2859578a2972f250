"""Controls that follow a function of time, and still glide when a hand moves something."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from salt_anvil.core.audio import GRID, RAMP
from salt_anvil.core.dsp.control_ramp import ControlRamp, Ramp, Vector
from salt_anvil.core.state import State


@dataclass(frozen=True)
class Trajectory:
    """A vector of controls as a function of the grid point: point k is timeline frame 64 k.

    still: it is the same at every point.
    """

    at: Callable[[int], Vector]
    still: bool = False

    @classmethod
    def standing(cls, vector: Vector) -> "Trajectory":
        """Return one that stands at a vector."""
        return cls(lambda point: vector, still=True)


class AutomationRamp:
    """Carries a vector along a trajectory: exact at every grid point, straight lines in between.

    A change of the trajectory in play is bridged over RAMP frames; at rest nothing is remembered,
    so that any place can be gone to.
    """

    def __init__(self, trajectory: Trajectory) -> None:
        self._trajectory = trajectory
        self._offset: ControlRamp | None = None
        self._ramp: Ramp | None = None
        self._next = 0

    @property
    def moving(self) -> bool:
        """Whether a change by hand is still being bridged."""
        return self._offset is not None and self._offset.moving

    def target(self, point: int) -> Vector:
        """Return where the trajectory is at a grid point."""
        return self._trajectory.at(point)

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
        self._next, self._offset = int(state["next"][0]), None
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
        gap = np.array([self._trajectory.at(k) - trajectory.at(k) for k in ends])
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
        first = start // GRID
        points = (start + frames - 1) // GRID - first + 1
        if self._offset is None and self._trajectory.still:
            standing = self._ramp
            if standing is not None and points <= len(standing.value):
                return standing
            return self._standing(first, points)
        offset = self._offset.over(start, frames) if self._offset is not None else None
        at_rest = self._offset is not None and not self._offset.moving
        if offset is not None and at_rest and not offset.step.any() and not offset.value.any():
            self._offset = offset = None
        if offset is None and self._trajectory.still:
            return self._standing(first, points)
        along = np.array([self._trajectory.at(first + k) for k in range(points + 1)])
        value, step = along[:-1], np.diff(along, axis=0) / GRID
        if offset is None:
            return Ramp(value, step)
        return Ramp(value + offset.value[:points], step + offset.step[:points])

    def _standing(self, first: int, points: int) -> Ramp:
        vector = np.asarray(self._trajectory.at(first), np.float64)
        value = np.repeat(vector[None, :], max(points, 1 + RAMP // GRID), axis=0)
        self._ramp = Ramp(value, np.zeros_like(value), still=True)
        return self._ramp
