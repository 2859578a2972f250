"""Bells over a smooth course: which of them explain a curve, one after another."""

from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.dsp.resonance_cut import bell_db
from salt_anvil.core.resonances.spectra import GRID_HZ, OCTAVES, PER_OCTAVE, Wave

SHARPNESS = tuple(float(q) for q in np.geomspace(1.8, 36, 10))
MOVING_SHARPNESS = (2.0, 3.0, 5.0, 9.0, 16.0, 30.0)
MOVES_OCTAVES = 1 / 3
"""How far the place of a bell wanders that is not taken to stand still."""
KNOTS_OCTAVES = 2.4
"""How far apart the knots of the smooth course are."""
SHAPE_DB = 10.0
"""Gain at which the shape of a bell is taken; shapes at other gains differ little."""
MOST = 16
DIPS = 0.5
"""Between two bells there is a dip: it has to be so much surer of a dip that it is one."""
OWN_SHARE = 0.06
"""Of a bell's energy, so much must not be explained by the course and the bells before it."""


class Bell(NamedTuple):
    """A bell that was found: middle, Q, octaves that it moves over, gain, certainty in sigmas."""

    hz: float
    q: float
    octaves: float
    gain_db: float
    sigmas: float
    entry: int

    @property
    def point(self) -> int:
        """The grid point of the middle."""
        return int(dictionary().points[self.entry])

    @property
    def shape(self) -> Wave:
        """The bell in dB on the grid."""
        return np.asarray(self.gain_db * dictionary().shapes[self.entry])


class Fit(NamedTuple):
    """Bells, the smooth course under them in dB, and what is left unexplained."""

    bells: tuple[Bell, ...]
    course: Wave
    left: Wave


class Dictionary(NamedTuple):
    """All bells that are tried: grid point of the middle, Q, octaves moved over, shape at 1 dB."""

    points: NDArray[np.int64]
    q: Wave
    octaves: Wave
    shapes: Wave


def _moved(middle: float, q: float) -> Wave:
    """Return the mean power of a bell that swings around its middle."""
    swing = MOVES_OCTAVES / 2 * np.sin(np.linspace(-1, 1, 9) * 1.4)
    powers = [10 ** (bell_db(GRID_HZ, middle * 2**s, q, SHAPE_DB) / 10) for s in swing]
    return np.asarray(10 * np.log10(np.mean(powers, axis=0)))


@lru_cache(maxsize=1)
def dictionary() -> Dictionary:
    """Return all bells that are tried."""
    points, qs, octaves, shapes = [], [], [], []
    for point, middle in enumerate(GRID_HZ):
        for q in SHARPNESS:
            points.append(point)
            qs.append(q)
            octaves.append(0.0)
            shapes.append(bell_db(GRID_HZ, middle, q, SHAPE_DB) / SHAPE_DB)
        for q in MOVING_SHARPNESS:
            points.append(point)
            qs.append(q)
            octaves.append(MOVES_OCTAVES)
            shapes.append(_moved(middle, q) / SHAPE_DB)
    return Dictionary(np.array(points), np.array(qs), np.array(octaves), np.array(shapes))


@lru_cache(maxsize=1)
def _course() -> Wave:
    low, high = OCTAVES[0], OCTAVES[-1]
    parts = max(2, round((high - low) / KNOTS_OCTAVES))
    knots = np.concatenate([[low] * 3, np.linspace(low, high, parts + 1), [high] * 3])
    inside = np.clip(OCTAVES, low, high - 1e-9)
    from scipy.interpolate import BSpline  # takes half a second to import

    return np.asarray(BSpline.design_matrix(inside, knots, 3).toarray())


def fit(
    level_db: Wave,
    sigma_db: Wave,
    where: NDArray[np.bool_],
    least_sigmas: float,
    *,
    moving: bool = True,
) -> Fit:
    """Explain a curve on the grid by a smooth course and as few bells, up or down, as it takes.

    sigma_db: how uncertain every point is. where: points that count. A bell is added as long as
    one is at least so many sigmas; after each, all are moved to where they fit best together.
    moving: whether bells that move are tried.
    """
    every = dictionary()
    weight = np.where(where, 1 / sigma_db, 1e-3) / np.sqrt(2)
    shapes = every.shapes * weight
    energy = np.square(shapes).sum(axis=1)
    course, target = _course() * weight[:, None], level_db * weight
    allowed = where[every.points] & (moving | (every.octaves == 0.0))

    def certainty(chosen: list[int], among: NDArray[np.int64]) -> Wave:
        q, _ = np.linalg.qr(np.column_stack([course, shapes[chosen].T]))
        left = target - q @ (q.T @ target)
        own = energy[among] - np.square(shapes[among] @ q).sum(axis=1)
        good = (own > OWN_SHARE * energy[among]) & allowed[among]
        return np.where(good, (shapes[among] @ left) / np.sqrt(np.maximum(own, 1e-12)), 0.0)

    chosen: list[int] = []
    everywhere = np.arange(len(every.points))
    while len(chosen) < MOST:
        found = certainty(chosen, everywhere)
        best, dip = int(np.argmax(found)), int(np.argmin(found))
        if found[best] < max(least_sigmas, -DIPS * found[dip]):
            best = dip
        if abs(found[best]) < least_sigmas:
            break
        chosen.append(best)
        for place, index in enumerate(chosen):
            near = np.flatnonzero(np.abs(every.points - every.points[index]) <= PER_OCTAVE // 4)
            again = certainty([c for c in chosen if c != index], near)
            sign = np.sign(again[np.flatnonzero(near == index)[0]]) or 1.0
            chosen[place] = int(near[np.argmax(again * sign)])
    design = np.column_stack([course, shapes[chosen].T])
    gains = np.linalg.lstsq(design, target, rcond=None)[0]
    spread = np.sqrt(np.diag(np.linalg.pinv(design.T @ design)))
    n = course.shape[1]
    bells = tuple(
        Bell(
            float(GRID_HZ[every.points[c]]), float(every.q[c]), float(every.octaves[c]),
            float(gains[n + i]), float(gains[n + i] / spread[n + i]), c,
        )
        for i, c in enumerate(chosen)
    )  # fmt: skip
    smooth = _course() @ gains[:n]
    explained = smooth + sum((b.shape for b in bells), np.zeros(len(GRID_HZ)))
    return Fit(bells, smooth, level_db - explained)
