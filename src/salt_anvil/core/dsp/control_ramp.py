"""Controls over time: values on the 64-frame grid of the timeline, straight lines in between."""

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import GRID, RAMP, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp.grid import grid_cells

Vector = NDArray[np.float64]


@inlined
def along_into(out: Vector, value: Vector, step: Vector, start: int) -> None:
    """Fill out (frames,) with a control from timeline frame `start` on.

    value, step: per grid point, from the one at or before the start.
    """
    for at, n, k, offset in grid_cells(start, len(out)):
        out_here = out[at : at + n]
        for i in range(n):
            out_here[i] = value[k] + step[k] * (offset + i)


@kernel
def _bend_onto(out: Vector, square: Vector, cube: Vector, start: int) -> None:
    """Add what a gain without corners has beside its straight lines; square, cube: its bends."""
    for at, n, k, offset in grid_cells(start, len(out)):
        out_here = out[at : at + n]
        for i in range(n):
            u = (offset + i) / GRID
            out_here[i] += u * (u - 1.0) * (square[k] + (u + 1.0) * cube[k])


@dataclass(frozen=True)
class Ramp:
    """Control values of one block: `value[k] + step[k] * frames` since grid point k.

    value, step: (points, controls); point 0 is the grid point at or before the block's start.
    still: known to stand at value[0] all along. bends: (2, points, controls), what a gain that has
    no corners adds to the straight lines: bends[0] (u^2 - u) + bends[1] (u^3 - u), u in cells.
    """

    value: Vector
    step: Vector
    still: bool = False
    bends: Vector | None = None
    _columns: dict[int, tuple[Vector, Vector]] = field(default_factory=dict, compare=False)
    _levels: dict[int, float | None] = field(default_factory=dict, compare=False)
    reach: int = field(init=False, compare=False)
    """Frames that its points are enough for, wherever on the grid they begin."""

    def __post_init__(self) -> None:
        object.__setattr__(self, "reach", GRID * (len(self.value) - 1) + 1)

    def column(self, index: int) -> tuple[Vector, Vector]:
        """Return one control's values and steps as kernels take them."""
        found = self._columns.get(index)
        if found is None:
            found = self.value[:, index].copy(), self.step[:, index].copy()
            self._columns[index] = found
        return found

    def level(self, index: int) -> float | None:
        """Return what one control stands at all along, None where it moves."""
        if index not in self._levels:
            value, step = self.column(index)
            moves = not self.still and (step.any() or (value != value[0]).any() or self.bent(index))
            self._levels[index] = None if moves else float(value[0])
        return self._levels[index]

    def frames(self, index: int, start: int, count: int) -> Sound:
        """Return one control for every frame from a timeline frame on, (count, 1).

        One value for all, (1, 1), where it is known to stand.
        """
        if self.still:
            return self.value[:1, index : index + 1]
        values = np.empty((count, 1))
        along_into(values[:, 0], *self.column(index), start)
        if self.bent(index):
            assert self.bends is not None
            square, cube = self.bends[:, :, index].copy()
            _bend_onto(values[:, 0], square, cube, start)
        return values

    def negative(self) -> "Ramp":
        """Return what undoes gains in dB."""
        bends = None if self.bends is None else -self.bends
        return Ramp(-self.value, -self.step, self.still, bends)

    def bent(self, index: int) -> bool:
        """Say whether one control's lines are bent."""
        return self.bends is not None and bool(self.bends[:, :, index].any())


def lag_state(lag: int, controls: int) -> Sound:
    """Return what `lagging` keeps, cold: values, steps and bends, (4, points, controls)."""
    return np.full((4, -(-lag // GRID), controls), np.nan)


def lagging(ramp: Ramp, lag: int, start: int, frames: int, kept: Sound) -> tuple[Ramp, int]:
    """Return the ramp as it was `lag` frames before a block [start, start + frames), and the frame
    that this is.

    kept: of `lag_state`, moved on; cold, the controls stood where the block begins.
    """
    points = kept.shape[1]
    wanted = max(points, (start + frames - 1) // GRID - start // GRID + 1)
    if ramp.still and len(ramp.value) > wanted and _stood(ramp, kept):
        return ramp, start - lag
    cold = np.isnan(kept[0])
    if cold.any():
        kept[0] = np.where(cold, ramp.value[0], kept[0])
        kept[1:] = np.where(cold, 0.0, kept[1:])
    # Of a ramp that stands one point says all.
    count = 1 if ramp.still else len(ramp.value)
    parts = [ramp.value[:count], ramp.step[:count]]
    if ramp.bends is not None:
        parts += [*ramp.bends[:, :count]]
    elif kept[2:].any():
        parts += [np.zeros_like(parts[0])] * 2
    whole = np.empty((len(parts), points + max(count, wanted), kept.shape[2]))
    whole[:, :points] = kept[: len(parts)]
    for line, part in zip(whole, parts, strict=True):
        line[points : points + count] = part
        line[points + count :] = part[-1]
    moved = (start + frames) // GRID - start // GRID
    kept[: len(parts)] = whole[:, moved : moved + points]
    kept[len(parts) :] = 0.0
    first = points + (start - lag) // GRID - start // GRID
    value, step, *bent = whole[:, first:]
    return Ramp(value, step, bends=np.array(bent) if np.any(bent) else None), start - lag


def _stood(ramp: Ramp, kept: Sound) -> bool:
    """Say whether all that is kept is what a ramp stands at."""
    return ramp.bends is None and not kept[1:].any() and bool((kept[0] == ramp.value[0]).all())


class ControlRamp:
    """Carries a vector of controls from where it stands to a target, over RAMP frames.

    A glide starts at the next grid point and is a straight line per sample, so that a moved
    control makes no click. The vector is in the domain of the kernel (dB, coefficients).
    """

    def __init__(self, vector: Vector) -> None:
        self.value = vector.astype(np.float64)
        self.target = self.value
        self.step = np.zeros_like(self.value)
        self.left = 0
        self.moving = False
        self._still = self._standing()

    def _standing(self) -> Ramp:
        value = np.repeat(self.value[None, :], 1 + RAMP // GRID, axis=0)
        return Ramp(value, np.zeros_like(value), still=True)

    def clone(self) -> "ControlRamp":
        """Return an independent glide at the same place."""
        other = ControlRamp(self.value)
        other.target, other.step = self.target, self.step
        other.left, other.moving = self.left, self.moving
        return other

    def to(self, vector: Vector) -> None:
        """Set a new target; a glide in progress bends towards it."""
        if not np.array_equal(vector, self.target):
            self.target = vector.astype(np.float64)
            self.left = RAMP // GRID
            self.moving = True

    def over(self, start: int, frames: int) -> Ramp:
        """Return the ramp of the frames [start, start + frames) and move on."""
        first = start // GRID
        points = (start + frames - 1) // GRID - first + 1
        if not self.moving and points <= len(self._still.value):
            return self._still
        value = np.empty((points, len(self.value)))
        step = np.empty_like(value)
        for k in range(points):
            if (first + k) * GRID >= start:
                self._enter_segment()
            value[k], step[k] = self.value, self.step
        return Ramp(value, step)

    def _enter_segment(self) -> None:
        if not self.moving:
            return
        self.value = self.value + self.step * GRID
        if self.left > 0:
            self.step = (self.target - self.value) / (self.left * GRID)
            self.left -= 1
            return
        self.value, self.step = self.target, np.zeros_like(self.target)
        self.moving = False
        self._still = self._standing()
