"""A split in operation: the division at its opening, the laws at its join."""

from itertools import pairwise
from typing import Any

import numpy as np

from salt_anvil.core.audio import RAMP, Sound
from salt_anvil.core.dsp import blend, crossover
from salt_anvil.core.dsp.automation_ramp import AutomationRamp, Trajectory
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.dsp.control_ramp import Ramp, Vector
from salt_anvil.core.dsp.crossfade import crossfaded
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.engine.automation import NONE, Lane, Lanes, Values, following
from salt_anvil.core.engine.graph import Node
from salt_anvil.core.engine.unit import mix_trajectory, step_cuts
from salt_anvil.core.processors import Context
from salt_anvil.core.session import Join, Split
from salt_anvil.core.state import State

AllLanes = dict[str, dict[str, Any]]
APART = 1.02
"""What a crossover that moves keeps at least from the one below, as a ratio."""


class Division:
    """Divides a block into branches, and gives the dry sound with the same phase.

    Moved crossovers run the old filters beside the new ones and cross-fade over RAMP frames. Those
    that move by themselves are looked up at every RAMP frames of the timeline.
    """

    def __init__(self, split: Split, context: Context, lanes: Lanes = NONE) -> None:
        self.split, self.context = split, context
        self._lanes = _crossover_lanes(lanes)
        self._position = -RAMP
        self._corners = self._corners_at(self._position)
        self._bands = self._designed(self._corners)
        self._state = self._cold()
        self._old: tuple[list[float], Any, State] | None = None
        self._next: tuple[Split, Lanes] | None = None
        self._fade_left = 0

    def _corners_at(self, frame: int) -> list[float]:
        """Return the crossovers as they are from a multiple of RAMP on, in increasing order."""
        corners = list(self.split.crossovers_hz)
        if not self._lanes:
            return corners
        for index, lane in self._lanes.items():
            corners[index] = lane.at(frame / self.context.rate)
        for index in range(1, len(corners)):
            corners[index] = max(corners[index], corners[index - 1] * APART)
        return corners

    def _designed(self, corners: list[float]) -> Any:
        if self.split.by != "bands":
            return None
        design = crossover.linear_phase if self.split.phase == "linear" else crossover.minimum_phase
        return design(corners, self.split.slope, self.context.rate)

    def _cold(self) -> State:
        if self._bands is None:
            return State()
        if isinstance(self._bands, crossover.LinearBands):
            return crossover.linear_state(self._bands, self.context.channels)
        return crossover.minimum_state(self._bands, self.context.channels)

    def clone(self) -> "Division":
        """Return an independent division at the same place."""
        other = object.__new__(Division)
        other.__dict__.update(self.__dict__)
        other._state = self._state.clone()
        if self._old is not None:
            other._old = (*self._old[:2], self._old[2].clone())
        return other

    def fits(self, split: Split, context: Context) -> bool:
        """Say whether the change to this split needs no new division."""
        mine = self.split
        if (split.by, split.slope, split.phase, len(split.branches)) != (
            mine.by,
            mine.slope,
            mine.phase,
            len(mine.branches),
        ):
            return False
        same = (context.rate, context.channels) == (self.context.rate, self.context.channels)
        if split.by != "bands" or split.phase != "linear":
            return same
        half = crossover.linear_half(split.crossovers_hz, split.slope, context.rate)
        return same and half == self._bands.half

    def change(self, split: Split, lanes: Lanes = NONE) -> None:
        """Move to other crossovers without a click."""
        if self._old is not None:
            self._next = (split, lanes)
            return
        self.split, self._lanes = split, _crossover_lanes(lanes)
        self._move_to(self._corners_at(self._position // RAMP * RAMP))

    def _move_to(self, corners: list[float]) -> None:
        if corners == self._corners:
            return
        self._old, self._fade_left = (self._corners, self._bands, self._state), RAMP
        self._corners, self._bands = corners, self._designed(corners)
        # The filters' memories are of the same order: a warm start.
        self._state = self._state.clone()

    def run(self, block: Sound, start: int) -> list[Sound]:
        """Return the branches' sounds, then the dry one. start: timeline frame of block[0]."""
        split = self.split
        if split.by == "copies":
            return [*([block] * len(split.branches)), block]
        if split.by == "left-right":
            return [block[:, :1].copy(), block[:, 1:].copy(), block]
        if split.by == "mid-side":
            left, right = block[:, :1], block[:, 1:]
            return [0.5 * (left + right), 0.5 * (left - right), block]
        if not self._lanes:
            return self._piece(block, start)
        cuts = step_cuts(start, len(block))
        pieces = [self._piece(block[a:b], start + a) for a, b in pairwise(cuts)]
        return (
            pieces[0]
            if len(pieces) == 1
            else [np.concatenate(parts) for parts in zip(*pieces, strict=True)]
        )

    def _piece(self, block: Sound, start: int) -> list[Sound]:
        if self._lanes and start % RAMP == 0 and self._old is None:
            self._move_to(self._corners_at(start))
        self._position = start + len(block)
        new = _divided(block, self._bands, self._state)
        if self._old is None:
            return new
        return self._crossed(new, _divided(block, *self._old[1:]), len(block))

    def _crossed(self, new: list[Sound], old: list[Sound], frames: int) -> list[Sound]:
        done = RAMP - self._fade_left
        self._fade_left -= frames
        if self._fade_left <= 0:
            self._old, self._fade_left = None, 0
            if self._next is not None:
                waiting, self._next = self._next, None
                self.change(*waiting)
        return [crossfaded(a, b, done) for a, b in zip(new, old, strict=True)]

    def state(self) -> State:
        """Return what the filters remember.

        A change by hand in progress is not kept; what the split's own lanes have set off is.
        """
        whole = self._state.clone()
        if self._lanes:
            whole["step"] = np.array([self._position, self._fade_left], np.float64)
            whole["corners"] = np.array(self._corners)
            if self._old is not None:
                whole["before"] = np.array(self._old[0])
                whole.nest("old.", self._old[2].clone())
        return whole

    def restore(self, state: State) -> None:
        """Go on from a stored state."""
        self._old, self._next, self._fade_left = None, None, 0
        own = ("step", "corners", "before")
        self._state = State(
            {n: a.copy() for n, a in state.items() if n not in own and not n.startswith("old.")}
        )
        if "step" not in state:
            return
        self._position, self._fade_left = (int(v) for v in state["step"])
        self._corners = state["corners"].tolist()
        self._bands = self._designed(self._corners)
        if "before" in state:
            before = state["before"].tolist()
            self._old = (before, self._designed(before), state.nested("old.").clone())


def _crossover_lanes(lanes: Lanes) -> dict[int, Lane]:
    found = {}
    for name, lane in lanes.items():
        first, _, number = name.partition(".")
        if first == "crossovers_hz":
            found[int(number)] = lane
    return found


def _divided(block: Sound, bands: Any, state: State) -> list[Sound]:
    if isinstance(bands, crossover.LinearBands):
        past = np.concatenate([state["past"], block])
        found = crossover.divide_linear(block, bands, state)
        return [*found, past[bands.half : bands.half + len(block)]]
    found, dry = crossover.divide(block, bands, state)
    return [*found, dry]


class Joining:
    """Puts branches together again: gains, law, mix against the phase-true dry sound, on."""

    def __init__(
        self,
        split: Split,
        context: Context,
        lanes: AllLanes,
        measured: JoinMeasurement | None,
    ) -> None:
        self.split, self.context, self._measured = split, context, measured
        self._gains = AutomationRamp(self._branch_trajectory(lanes))
        self._mix = AutomationRamp(self._mix_trajectory(lanes))

    def _branch_trajectory(self, lanes: AllLanes) -> Trajectory:
        return branch_trajectory(self.split, self.context.rate, lanes, self._measured)

    def _mix_trajectory(self, lanes: AllLanes) -> Trajectory:
        """Two controls: the mix, and the switch between the plain dry sound and all of it."""
        split, rate = self.split, self.context.rate
        open_ = split.model_copy(update={"on": True})
        share = mix_trajectory(open_, lanes.get(split.id, NONE), rate)
        on = np.array([1.0 if split.on else 0.0])

        def at(point: int) -> Vector:
            return np.concatenate([share.at(point), on])

        return Trajectory(at, share.still, share.stands)

    def clone(self) -> "Joining":
        """Return an independent join at the same place."""
        other = object.__new__(Joining)
        other.__dict__.update(self.__dict__)
        other._gains, other._mix = self._gains.clone(), self._mix.clone()
        return other

    def fits(self, split: Split, context: Context) -> bool:
        """Say whether the change needs no new join."""
        mine = (self.split.by, len(self.split.branches), self.context.channels)
        return (split.by, len(split.branches), context.channels) == mine

    def change(self, split: Split, lanes: AllLanes, measured: JoinMeasurement | None) -> None:
        """Glide to other gains."""
        self.split, self._measured = split, measured
        self._gains.to(self._branch_trajectory(lanes))
        self._mix.to(self._mix_trajectory(lanes))

    def run(self, branches: list[Sound], dry: Sound, plain: Sound, start: int) -> Sound:
        """Return the joined block; all sounds are in step."""
        frames = len(plain)
        gains = self._gains.over(start, frames)
        parts = [_times(b, gains, start, i) for i, b in enumerate(branches)]
        if self.split.by == "left-right":
            wet = np.concatenate(parts, axis=1)
        elif self.split.by == "mid-side":
            middle, side = parts
            wet = np.concatenate([middle + side, middle - side], axis=1)
        else:
            wet = parts[0]
            for part in parts[1:]:
                wet = wet + part
        mix = self._mix.over(start, frames)
        return _between(_between(wet, dry, mix, start, 0), plain, mix, start, 1)

    def settle(self) -> None:
        """Stand at the settings, as after a jump."""
        self._gains.settle()
        self._mix.settle()


def branch_trajectory(
    split: Split, rate: int, lanes: AllLanes, measured: JoinMeasurement | None
) -> Trajectory:
    """Return the branches' gains as a function of the grid point, the join's law included."""
    solo = any(b.solo for b in split.branches)
    open_ = [b.on and (b.solo or not solo) for b in split.branches]
    joined = "join"  # a branch's lane goes by the branch's place
    moving: dict[str, Lane] = {}
    if (lane := lanes.get(split.id, NONE).get("position")) is not None:
        moving[joined] = lane
    for place, branch in enumerate(split.branches):
        if (lane := lanes.get(branch.id, NONE).get("gain_db")) is not None:
            moving[str(place)] = lane

    def gains(now: Values) -> Sound:
        each = [to_gain(now.get(str(i), b.gain_db)) for i, b in enumerate(split.branches)]
        position = now.get(joined, split.join.position)
        both = law_gains(split.join, position, each, measured)
        return np.array([g if heard else 0.0 for g, heard in zip(both, open_, strict=True)])

    return following(moving, rate, gains)


def law_gains(
    join: Join, position: float, each: list[float], measured: JoinMeasurement | None
) -> list[float]:
    """Return the gains of the branches with the law applied on top of their own gains."""
    if join.law == "sum":
        return each
    blended = measured.scaled(*each) if measured is not None else None
    first, second = blend.gains(join.law, position, blended)
    return [first * each[0], second * each[1]]


def _times(sound: Sound, ramp: Ramp, start: int, column: int) -> Sound:
    gain = ramp.level(column)
    if gain is None:
        return sound * ramp.frames(column, start, len(sound))
    return sound if gain == 1.0 else sound * gain


def _between(wet: Sound, dry: Sound, ramp: Ramp, start: int, column: int) -> Sound:
    level = ramp.level(column)
    if level in (0.0, 1.0):
        return wet if level == 1.0 else dry
    share = ramp.frames(column, start, len(wet))
    return share * wet + (1.0 - share) * dry


def of_node(node: Node) -> Split:
    """Return the split of a node."""
    assert isinstance(node.element, Split)
    return node.element
