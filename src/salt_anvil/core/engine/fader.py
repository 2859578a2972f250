"""What follows a chain on each way out: fader, pan or balance, send, mute; and bus sums."""

import math
from copy import copy

import numpy as np

from salt_anvil.core.audio import BLOCK, GRID, Sound, as_block, rounded
from salt_anvil.core.dsp import blend
from salt_anvil.core.dsp.automation_ramp import AutomationRamp, Trajectory
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.dsp.stereo import placed, placed_along
from salt_anvil.core.dsp.summing import tree_sum
from salt_anvil.core.engine.automation import Values, following
from salt_anvil.core.engine.plan import GROUP, Route, StripPlan


class Fader:
    """One way out of a strip; two channels out."""

    def __init__(self, plan: StripPlan, route: Route) -> None:
        self._ramp = AutomationRamp(gains_trajectory(plan, route))

    def clone(self) -> "Fader":
        """Return an independent one at the same place."""
        other = copy(self)
        other._ramp = self._ramp.clone()
        return other

    def change(self, plan: StripPlan, route: Route) -> None:
        """Glide to another fader, pan, send or mute."""
        self._ramp.to(gains_trajectory(plan, route))

    def settle(self) -> None:
        """Stand at the target, as after a jump."""
        self._ramp.settle()

    def gains(self, frame: int) -> Sound:
        """Return the gains of left and right at a frame, changes by hand apart."""
        return self._ramp.target(frame // GRID)

    def apply(self, sound: Sound, start: int) -> Sound:
        """Return the block with the gains on it, shape (frames, 2)."""
        ramp = self._ramp.over(start, len(sound))
        left, right = ramp.level(0), ramp.level(1)
        if left is None or right is None:
            gains = (ramp.frames(side, start, len(sound)) for side in range(2))
            return placed_along(as_block(sound), *gains)
        unity = sound.shape[1] == 2 and left == 1.0 == right
        return sound if unity else placed(as_block(sound), left, right)


def gains_trajectory(plan: StripPlan, route: Route) -> Trajectory:
    """Return the gains of left and right as a function of the grid point.

    A mono strip is panned at equal
    power (centre -3.01 dB, common definition: cos and sin); a stereo one is balanced: 0 dB at
    the centre, the far side falls along a cosine.
    """
    strip, lanes = plan.strip, plan.own(plan.strip.id)
    send, heard = route.send, route.heard
    audition = to_gain(plan.audition_db)

    def gains(now: Values) -> Sound:
        level = now.get("fader_db", strip.fader_db)
        gain = to_gain(level) * audition if level > -90 else 0.0
        if send is not None:
            extra = to_gain(now.get(route.name, send.gain_db))
            gain = extra * audition if send.pre_fader else gain * extra
        pan = now.get("pan", strip.pan)
        return (gain if heard else 0.0) * pan_gains(pan, plan.context.channels)

    moving = {n: lane for n, lane in lanes.items() if n in ("fader_db", "pan", route.name)}
    return following(moving, plan.context.rate, gains)


def pan_gains(pan: float, channels: int) -> Sound:
    """Return the gains of left and right at a pan of -1 to 1."""
    if channels == 1:
        angle = (pan + 1) * math.pi / 4
        return np.array([math.cos(angle), math.sin(angle)])
    left = math.cos(max(pan, 0.0) * math.pi / 2)
    right = math.cos(max(-pan, 0.0) * math.pi / 2)
    return np.array([left, right])


class BusJoin:
    """How a bus puts its inputs together: their sum, or a law between exactly two."""

    def __init__(self, plan: StripPlan) -> None:
        self._law = plan.strip.join.law
        self._ramp = AutomationRamp(_bus_trajectory(plan))

    def clone(self) -> "BusJoin":
        """Return an independent one at the same place."""
        other = copy(self)
        other._ramp = self._ramp.clone()
        return other

    def change(self, plan: StripPlan) -> None:
        """Glide to another position or law."""
        self._law = plan.strip.join.law
        self._ramp.to(_bus_trajectory(plan))

    def settle(self) -> None:
        """Stand at the target, as after a jump."""
        self._ramp.settle()

    def join(self, sounds: list[Sound], start: int, frames: int = BLOCK) -> Sound:
        """Return so much of the bus's input."""
        if self._law == "sum" and not self._ramp.moving:
            self._ramp.over(start, frames)
            return bus_sum(sounds, frames)
        ramp = self._ramp.over(start, frames)
        if len(sounds) != 2:
            return bus_sum(sounds, frames)
        first, second = (ramp.frames(i, start, frames) for i in range(2))
        return sounds[0] * first + sounds[1] * second


def _bus_trajectory(plan: StripPlan) -> Trajectory:
    join = plan.strip.join
    measured = plan.measurement(f"bus:{plan.strip.id}")

    def gains(now: Values) -> Sound:
        return np.array(blend.gains(join.law, now.get("position", join.position), measured))

    moving = {n: lane for n, lane in plan.own(plan.strip.id).items() if n == "position"}
    return following(moving, plan.context.rate, gains)


def bus_sum(sounds: list[Sound], frames: int) -> Sound:
    """Return the sum of stereo sounds: groups of GROUP, each rounded to float32, then these."""
    if not sounds:
        return np.zeros((frames, 2))
    if len(sounds) <= GROUP:
        return tree_sum(sounds)
    groups = [group_sum(sounds[i : i + GROUP]) for i in range(0, len(sounds), GROUP)]
    return tree_sum(groups)


def group_sum(sounds: list[Sound]) -> Sound:
    """Return the sum of one group as it is after being stored as float32."""
    return rounded(tree_sum(sounds))
