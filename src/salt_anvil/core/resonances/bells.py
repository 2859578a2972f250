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


def _moved(hz: Wave, q: float) -> Wave:
    """Return the mean power of a bell that swings around 1 Hz."""
    swing = MOVES_OCTAVES / 2 * np.sin(np.linspace(-1, 1, 9) * 1.4)
    powers = [10 ** (bell_db(hz, 2**s, q, SHAPE_DB) / 10) for s in swing]
    return np.asarray(10 * np.log10(np.mean(powers, axis=0)))


@lru_cache(maxsize=1)
def dictionary() -> Dictionary:
    """Return all bells that are tried, those of one middle beside each other."""
    n = len(GRID_HZ)
    # In octaves a bell is the same wherever its middle is.
    around = 2.0 ** (np.arange(1 - n, n) / PER_OCTAVE)
    lines = [bell_db(around, 1.0, q, SHAPE_DB) for q in SHARPNESS]
    lines += [_moved(around, q) for q in MOVING_SHARPNESS]
    every = np.array(lines) / SHAPE_DB
    shapes = [every[:, n - 1 - point : 2 * n - 1 - point] for point in range(n)]
    return Dictionary(
        np.repeat(np.arange(n), len(lines)),
        np.tile(SHARPNESS + MOVING_SHARPNESS, n),
        np.tile([0.0] * len(SHARPNESS) + [MOVES_OCTAVES] * len(MOVING_SHARPNESS), n),
        np.concatenate(shapes),
    )


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
    allowed = np.flatnonzero(where[every.points] & (moving | (every.octaves == 0.0)))
    points = every.points[allowed]
    shapes = every.shapes[allowed] * weight
    energy = np.square(shapes).sum(axis=1)
    course, target = _course() * weight[:, None], level_db * weight

    def certainty(chosen: list[int], among: slice) -> Wave:
        q, _ = np.linalg.qr(np.column_stack([course, shapes[chosen].T]))
        left = target - q @ (q.T @ target)
        own = energy[among] - np.square(shapes[among] @ q).sum(axis=1)
        good = own > OWN_SHARE * energy[among]
        return np.where(good, (shapes[among] @ left) / np.sqrt(np.maximum(own, 1e-12)), 0.0)

    chosen: list[int] = []
    everywhere = slice(0, len(points))
    while len(chosen) < MOST and len(points):
        found = certainty(chosen, everywhere)
        best, dip = int(np.argmax(found)), int(np.argmin(found))
        if found[best] < max(least_sigmas, -DIPS * found[dip]):
            best = dip
        if abs(found[best]) < least_sigmas:
            break
        chosen.append(best)
        for place, index in enumerate(chosen):
            reach = points[index] + np.array([0, 1]) + np.array([-1, 1]) * (PER_OCTAVE // 4)
            first, end = (int(i) for i in np.searchsorted(points, reach))
            again = certainty([c for c in chosen if c != index], slice(first, end))
            sign = np.sign(again[index - first]) or 1.0
            chosen[place] = first + int(np.argmax(again * sign))
    design = np.column_stack([course, shapes[chosen].T])
    gains = np.linalg.lstsq(design, target, rcond=None)[0]
    spread = np.sqrt(np.diag(np.linalg.pinv(design.T @ design)))
    n = course.shape[1]
    bells = tuple(
        Bell(
            float(GRID_HZ[every.points[c]]), float(every.q[c]), float(every.octaves[c]),
            float(gains[n + i]), float(gains[n + i] / spread[n + i]), c,
        )
        for i, c in enumerate(allowed[chosen].tolist())
    )  # fmt: skip
    smooth = _course() @ gains[:n]
    explained = smooth + sum((b.shape for b in bells), np.zeros(len(GRID_HZ)))
    return Fit(bells, smooth, level_db - explained)
