"""Automation and levers: every control's value as a function of time."""

import math
from bisect import bisect_right
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import GRID
from salt_anvil.core.dsp.automation_ramp import Trajectory
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import Params, processor
from salt_anvil.core.processors.base import Control
from salt_anvil.core.processors.within import control_within
from salt_anvil.core.session import (
    Automation,
    Branch,
    Lever,
    Move,
    Point,
    Split,
    Stage,
    Strip,
    owners_controls,
)
from salt_anvil.core.session_index import SessionIndex

Floats = NDArray[np.float64]
STEP_S = 0.005
"""Time that a step takes, which has arrived at its point."""


@dataclass(frozen=True)
class Scale:
    """How a control's values lie: range, geometric or not, words for a choice, in order."""

    label: str
    low: float
    high: float
    unit: str = ""
    log: bool = False
    glides: bool = True
    words: tuple[Any, ...] = ()

    def kept(self, value: float) -> float:
        """Return the value within the range."""
        return min(max(value, self.low), self.high)

    def named(self, value: float) -> Any:
        """Return what the control is set to at a value: a number, or a choice's word."""
        return self.words[round(self.kept(value))] if self.words else self.kept(value)

    def between(self, a: float, b: float, share: float) -> float:
        """Return the value a share of the way from a to b."""
        if self.log and a > 0 and b > 0:
            return float(a * (b / a) ** share)
        return a + (b - a) * share


@dataclass(frozen=True)
class Lane:
    """One control over time: break points, through a lever's move if there is one."""

    scale: Scale
    points: tuple[Point, ...]
    move: tuple[Scale, Move] | None = None

    def at(self, seconds: float) -> float:
        """Return the value at a time; before the first point and after the last it stands."""
        value = self.scale.kept(self._along(seconds))
        return value if self.move is None else moved(*self.move, value)

    def _along(self, seconds: float) -> float:
        points = self.points
        low, high = 0, len(points)
        while low < high:
            middle = (low + high) // 2
            if points[middle].at_s <= seconds:
                low = middle + 1
            else:
                high = middle
        if low == 0:
            return points[0].value
        here = points[low - 1]
        if low == len(points):
            return here.value
        there = points[low]
        begin = here.at_s
        if here.shape == "stepped":
            if not self.scale_in_force.glides:
                return here.value
            begin = max(begin, there.at_s - STEP_S)
        share = max(seconds - begin, 0.0) / (there.at_s - begin)
        if here.shape != "straight":
            share = 0.5 - 0.5 * math.cos(math.pi * share)
        value = self.scale.between(here.value, there.value, share)
        behind = low + 1
        if behind == len(points) or points[behind].at_s > there.at_s:
            return value
        # Two points at one time are a step, too.
        while behind + 1 < len(points) and points[behind + 1].at_s == there.at_s:
            behind += 1
        left = min((there.at_s - seconds) / STEP_S, 1.0)
        if not self.scale_in_force.glides or left >= 1.0:
            return value
        return self.scale.between(value, points[behind].value, 0.5 + 0.5 * math.cos(math.pi * left))

    def stands(self, begin_s: float, end_s: float) -> bool:
        """Say whether the value is known to be the same all along between two times."""
        points = self.points
        low = bisect_right(points, begin_s, key=_when)
        high = bisect_right(points, end_s + STEP_S, key=_when)
        if high == len(points) or (high and points[high - 1].shape == "stepped"):
            high -= 1  # what follows, if anything does, is not on the way yet
        value = points[max(low - 1, 0)].value
        return all(p.value == value for p in points[low : high + 1])

    @property
    def scale_in_force(self) -> Scale:
        """The scale of the control that is moved."""
        return self.scale if self.move is None else self.move[0]

    def named_at(self, seconds: float) -> Any:
        """Return what the control is set to at a time: a number, or a choice's word."""
        return self.scale_in_force.named(self.at(seconds))

    def words(self) -> list[Any]:
        """Return what the control can be set to on the way: words, or the two extremes."""
        scale = self.scale_in_force
        values = [p.value for p in self.points]
        if self.move is not None:
            values = [moved(*self.move, v) for v in (0.0, 1.0)]
        low, high = min(values), max(values)
        if not scale.words:
            return [scale.kept(low), scale.kept(high)]
        first, last = round(scale.kept(low)), round(scale.kept(high))
        return list(scale.words[first : last + 1])

    def facts(self) -> Any:
        """Return everything that the values depend on, as plain data."""
        points = [[p.at_s, p.value, p.shape] for p in self.points]
        return [points, self.move[1].model_dump() if self.move else None]


def _when(point: Point) -> float:
    return point.at_s


Lanes = Mapping[str, Lane]
Values = Mapping[str, float]
NONE: Lanes = {}


def widest(stage: Stage, lanes: Lanes) -> Params:
    """Return the parameters with all that glides by itself at its greatest."""
    most = {
        name: max(lane.words())
        for name, lane in lanes.items()
        if name in type(stage.params).model_fields and lane.scale_in_force.glides
    }
    # What lies within lists makes no stage late.
    return stage.params.model_copy(update=most) if most else stage.params


def own_lanes(stage: Stage, lanes: Lanes) -> Lanes:
    """Return the lanes of a stage's parameters."""
    known = type(stage.params).model_fields
    return {name: lane for name, lane in lanes.items() if name.partition(".")[0] in known}


def latency_of(stage: Stage, lanes: Lanes, rate: int) -> int:
    """Return the frames by which a stage is late, wherever its lanes take it."""
    return processor(stage.kind).latency(widest(stage, lanes), rate)


def moved(scale: Scale, move: Move, lever: float) -> float:
    """Return what a lever at 0 to 1 sets a control to.

    curve bends the way: 0 straight, 1 most of it near the top, -1 near the bottom.
    """
    return scale.kept(scale.between(move.low, move.high, lever ** (4.0**move.curve)))


def scale_of(owner: object, control: str) -> Scale:
    """Return how a control of a strip, stage, split, branch or lever lies.

    Raises:
        SettingError: there is no such control, or it cannot move.
    """
    found = _declared(owner, control)
    if isinstance(owner, Stage) and found is not None:
        reason = processor(owner.kind).stands(owner.params, control)
        if reason is not None:
            raise SettingError(f"{owner.id}: {reason}")
    if found is None or found.type in ("points", "bands"):
        name = getattr(owner, "id", "?")
        raise SettingError(f"{name} has no control “{control}” that can move")
    return _scale(getattr(owner, "id", "?"), found)


def _declared(owner: object, control: str) -> Control | None:
    """Return the declaration of an owner's control."""
    own = owners_controls()
    if isinstance(owner, Strip):
        to = control.removeprefix("send:")
        if control != to:
            return own["send"]["gain_db"] if any(s.to == to for s in owner.sends) else None
        return own["strip"].get(control)
    if isinstance(owner, Branch):
        return own["branch"].get(control)
    if isinstance(owner, Split):
        return _crossover(owner, control) if "crossovers" in control else own["split"].get(control)
    if isinstance(owner, Stage):
        controls = processor(owner.kind).describe().controls
        return own["stage"].get(control) or control_within(controls, owner.params, control)
    return own["lever"].get(control)


def _crossover(split: Split, control: str) -> Control | None:
    """Return the declaration of one crossover, `crossovers_hz.0`."""
    first, _, number = control.partition(".")
    if not number.isdigit() or int(number) >= len(split.crossovers_hz):
        return None
    if split.phase == "linear":
        raise SettingError(f"{split.id}: with linear phase the crossovers stand still")
    found = owners_controls()["split"][first]
    label = f"{found.label} {int(number) + 1}"
    return found.model_copy(update={"name": control, "label": label})


def lever_scale() -> Scale:
    """Return how a lever's value lies."""
    return _scale("lever", owners_controls()["lever"]["value"])


def _scale(owner: str, control: Control) -> Scale:
    if control.change == "structural":
        raise SettingError(
            f"{owner}: {control.label.lower()} changes the wiring and cannot be automated"
        )
    glides = control.change == "glide" and control.type == "number"
    if control.type == "number" and control.low is not None and control.high is not None:
        return Scale(
            control.label, control.low, control.high, control.unit, control.scale == "log", glides
        )
    words: tuple[Any, ...] = tuple(control.choices) or (False, True)
    return Scale(control.label, 0, len(words) - 1, glides=False, words=words)


def lanes_of(index: SessionIndex) -> dict[str, dict[str, Lane]]:
    """Return every moving control: owner to control to lane. Levers at rest are constant lanes.

    Raises:
        SettingError: an owner or control is not there or cannot move, or two things move it.
    """
    session = index.session
    if not session.automation and not session.levers:
        return {}
    found: dict[str, dict[str, Lane]] = {}
    driven: dict[str, tuple[Point, ...]] = {
        lever.id: (Point(at_s=0, value=lever.value),) for lever in session.levers
    }
    for item in session.automation:
        points = tuple(item.points)
        if item.owner in index.levers and item.control == "value":
            driven[item.owner] = points
            continue
        owner = index.owner(item.owner)
        if owner is None:
            raise SettingError(f"automation of “{item.owner}”: there is no such strip or stage")
        if _is_away(owner, item.control):
            continue
        _add(found, item, Lane(scale_of(owner, item.control), points))
    for lever in session.levers:
        for move in lever.moves:
            owner = index.owner(move.owner)
            if owner is None or isinstance(owner, Lever):
                raise SettingError(f"lever {lever.name}: there is no “{move.owner}” to move")
            if _is_away(owner, move.control):
                continue
            scale = scale_of(owner, move.control)
            for end in (move.low, move.high):
                if not scale.low <= end <= scale.high:
                    raise SettingError(
                        f"lever {lever.name}: {scale.label.lower()} {end:g} is out of range"
                        f" ({scale.low:g} to {scale.high:g})"
                    )
            _add(found, move, Lane(lever_scale(), driven[lever.id], (scale, move)))
    return found


def _is_away(owner: object, control: str) -> bool:
    """Say whether a control is of a list's item that there is not now, as in other settings."""
    name, _, rest = control.partition(".")
    number = rest.partition(".")[0]
    if isinstance(owner, Split):
        items: Any = getattr(owner, name, None)
    else:
        items = getattr(owner.params, name, None) if isinstance(owner, Stage) else None
    return isinstance(items, list | tuple) and number.isdigit() and int(number) >= len(items)


def _add(found: dict[str, dict[str, Lane]], item: Automation | Move, lane: Lane) -> None:
    lanes = found.setdefault(item.owner, {})
    if item.control in lanes:
        raise SettingError(
            f"{item.control} of {item.owner} is moved twice; one automation or one lever moves"
            " a control"
        )
    lanes[item.control] = lane


def following(lanes: Lanes, rate: int, vector: Callable[[Values], Vector]) -> Trajectory:
    """Return controls that depend on some lanes, as a function of the grid point.

    vector: gives the controls at the lanes' values, by name; asked again only when one has moved.
    """
    last: list[tuple[tuple[float, ...], Vector]] = []

    def at(point: int) -> Vector:
        seconds = point * GRID / rate
        values = tuple(lane.at(seconds) for lane in lanes.values())
        if not last or last[0][0] != values:
            last[:] = [(values, vector(dict(zip(lanes, values, strict=True))))]
        return last[0][1]

    def stands(first: int, count: int) -> bool:
        begin, end = (k * GRID / rate for k in (first, first + count - 1))
        return all(lane.stands(begin, end) for lane in lanes.values())

    if _still(lanes):
        return Trajectory.standing(at(0))
    return Trajectory(at, stands=stands)


def _still(lanes: Lanes) -> bool:
    """Say whether none of the lanes ever moves."""
    return all(len({p.value for p in lane.points}) == 1 for lane in lanes.values())
