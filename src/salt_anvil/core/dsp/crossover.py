"""Division into bands: Linkwitz-Riley with phase compensation, or linear phase.

Linkwitz, "Active Crossover Networks for Noncoincident Drivers", J. Audio Eng. Soc. 24(1), 1976:
each side is a Butterworth filter applied twice, -6.02 dB at the corner, in phase; both sides
add up to an all-pass. Both follow the analogue pair up to 20 kHz.
"""

import math
from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import lru_cache
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import BLOCK, Sound, by_blocks
from salt_anvil.core.dsp import biquad
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.equaliser import edge_of
from salt_anvil.core.state import State

ROUNDS = 150
"""In which the fit comes to the least of the worst; at 60 it is 0.01 dB off."""
BUTTERWORTH = {24: (math.sqrt(0.5),), 48: (0.541196100146197, 1.306562964876377)}
"""Slope of the pair in dB per octave to the Q of the sections of one Butterworth filter."""
# exp(-x) of the slowest pole is 1e-6 after so many periods of the corner.
_SETTLED = {24: 13.8 / (2 * math.pi * math.sin(math.pi / 4)),
            48: 13.8 / (2 * math.pi * math.sin(math.pi / 8))}  # fmt: skip


@dataclass(frozen=True)
class Bands:
    """Coefficients of one division. `paths`: sections of every band; `dry`: the all-pass."""

    paths: tuple[Sound, ...]
    steps: tuple[Sound, ...]
    dry: Sound


@lru_cache(maxsize=32)
def _droop(order: int, rate: int) -> Vector:
    """Return the polynomial of degree `order` in x = sin(w / 2)^2 that is (sin(w / 2) / (w / 2)) to
    the power 2 order, 1 at 0 Hz, as near as can be in dB (Lawson's way to the least of the worst).
    """
    w = np.linspace(0.02, edge_of(rate), 80)
    x = np.sin(w / 2) ** 2
    goal = (np.sin(w / 2) / (w / 2)) ** (2 * order)
    table = np.stack([x**power for power in range(1, order + 1)], axis=1) / goal[:, None]
    weight = np.ones(len(w))
    for _ in range(ROUNDS):
        root = np.sqrt(weight)
        found = np.linalg.lstsq(table * root[:, None], (1 - 1 / goal) * root, rcond=None)[0]
        off = np.abs(np.log(table @ found + 1 / goal))
        weight *= off / off.mean() + 0.02
        weight /= weight.mean()
    return np.concatenate([[1.0], found])


def _inside(x: complex) -> complex:
    """Return the root in z, inside the circle, of a root in x."""
    middle = 1 - 2 * x
    one = middle + 2 * np.sqrt(x * x - x + 0j)
    return complex(one if abs(one) < 1 else 1 / one)


@dataclass(frozen=True)
class _Pair:
    """Sections of both sides of a crossover, and of the all-pass that they add up to."""

    low: Sound
    high: Sound
    whole: Sound


@lru_cache(maxsize=256)
def _pair(hz: float, slope: int, rate: int) -> _Pair:
    """Return a Linkwitz-Riley pair that follows the analogue one up to 20 kHz.

    Of the analogue pair each side is 1 / (1 + u^2n) or u^2n / (1 + u^2n) of one all-pass, u in
    corners. Here u^2n is E x^n / S(x), with x = sin(w / 2)^2, E = (4 / corner^2)^n and S as in
    `_droop`: the sides are S / D and E x^n / D of the all-pass whose poles are those of D = S +
    E x^n, so they are in phase and add up to it exactly.
    """
    order = slope // 12
    corner = 2 * math.pi * min(hz, 0.49 * rate) / rate
    droop, steep = _droop(order, rate), (4 / corner**2) ** order
    denominator = droop.copy()
    denominator[order] += steep
    poles = [_inside(x) for x in np.roots(denominator[::-1])]
    dens = [(-2 * z.real, abs(z) ** 2) for z in _upper(poles)]
    real = sorted(z.real for z in poles if z.imag == 0)
    dens += [(-one - other, one * other) for one, other in zip(real[::2], real[1::2], strict=True)]
    nums = _palindromes(np.roots(droop[::-1]))
    # D(0) is 1: what the product of all |1 - pole|^2 has to be multiplied by.
    scale = 1 / math.prod((1 + a1 + a2) ** 2 for a1, a2 in dens)
    gain = (steep / 4**order / scale) ** (1 / order)
    low, high = [], []
    for num, (a1, a2) in zip(nums, dens * 2, strict=True):
        low.append([*(num * (1 + a1 + a2) / num.sum()), a1, a2])
        high.append([gain, -2 * gain, gain, a1, a2])
    whole = [[a2, a1, 1.0, a1, a2] for a1, a2 in dens]
    return _Pair(np.array(low), np.array(high), np.array(whole))


def _upper(roots: Iterable[complex]) -> list[complex]:
    """Return one of each pair of conjugate roots."""
    return [z for z in roots if z.imag > 0]


def _palindromes(roots: Iterable[complex]) -> list[Vector]:
    """Return second-order numerators whose product is the polynomial in x with these roots."""
    every = list(roots)
    found = [np.array([1.0, 4 * x.real - 2, 1.0]) for x in every if x.imag == 0]
    for z in _upper(_inside(x) for x in every if x.imag != 0):
        one = np.array([1.0, -2 * z.real, abs(z) ** 2])
        found += [one, one[::-1]]
    return found


def minimum_phase(corners: list[float], slope: int, rate: int) -> Bands:
    """Return the sections of a tree of pairs, lowest band first.

    steps[i] is what the remainder passes on its way up; paths[i] what band i takes from it,
    with the all-passes of all higher corners, so that the bands add up to one all-pass.
    """
    pairs = [_pair(hz, slope, rate) for hz in corners]
    passes = [pair.whole for pair in pairs]
    paths = [np.concatenate([pair.low, *passes[index + 1 :]]) for index, pair in enumerate(pairs)]
    return Bands(tuple(paths), tuple(p.high for p in pairs), np.concatenate(passes))


def minimum_state(bands: Bands, channels: int) -> State:
    """Return the cold state of a minimum-phase division."""
    state = State(dry=np.zeros((len(bands.dry), channels, 2)))
    for index, (path, step) in enumerate(zip(bands.paths, bands.steps, strict=True)):
        state[f"path{index}"] = np.zeros((len(path), channels, 2))
        state[f"step{index}"] = np.zeros((len(step), channels, 2))
    return state


def divide(block: Sound, bands: Bands, state: State) -> tuple[list[Sound], Sound]:
    """Return the bands of a block, lowest first, and the block through the all-pass alone."""
    found = []
    rest = block
    for index, (path, step) in enumerate(zip(bands.paths, bands.steps, strict=True)):
        band, higher = np.empty_like(block), np.empty_like(block)
        biquad.filter_into(band, rest, path, state[f"path{index}"])
        biquad.filter_into(higher, rest, step, state[f"step{index}"])
        found.append(band)
        rest = higher
    dry = np.empty_like(block)
    biquad.filter_into(dry, block, bands.dry, state["dry"])
    return [*found, rest], dry


@dataclass(frozen=True)
class LinearBands:
    """Symmetrical low passes, one a corner, as (corners, 2 * half + 1)."""

    half: int
    taps: NDArray[np.float64]
    _spectra: dict[int, NDArray[np.complex128]] = field(default_factory=dict, compare=False)

    def spectra(self, size: int) -> NDArray[np.complex128]:
        """Return the low passes' spectra for a transform of this size, (corners, bins)."""
        if size not in self._spectra:
            self._spectra[size] = np.fft.rfft(self.taps, size, axis=1)
        return self._spectra[size]


def linear_half(corners: list[float], slope: int, rate: int) -> int:
    """Return the latency of a linear-phase division in frames: a power of two."""
    frames = _SETTLED[slope] * rate / min(corners)
    return int(2 ** max(math.ceil(math.log2(frames)), 7))


def linear_phase(corners: list[float], slope: int, rate: int) -> LinearBands:
    """Return low passes with the magnitude of the Linkwitz-Riley pair, 1 / (1 + (f / fc)**n)."""
    half = linear_half(corners, slope, rate)
    size = 8 * half
    hz = np.fft.rfftfreq(size, 1 / rate)
    order = slope // 6
    # The last eighth is faded, so that what is cut off leaves no edge.
    fade = np.ones(half + 1)
    edge = max(half // 8, 1)
    fade[-edge:] = 0.5 + 0.5 * np.cos(np.pi * (np.arange(edge) + 1) / (edge + 1))
    rows = []
    for corner in corners:
        response = np.fft.irfft(1 / (1 + (hz / corner) ** order), size)[: half + 1] * fade
        whole = np.concatenate([response[:0:-1], response])
        rows.append(whole / whole.sum())
    return LinearBands(half, np.array(rows))


def linear_state(bands: LinearBands, channels: int) -> State:
    """Return the cold state of a linear-phase division."""
    return State(past=np.zeros((2 * bands.half, channels)))


def divide_linear(block: Sound, bands: LinearBands, state: State) -> list[Sound]:
    """Return the bands of a block, lowest first; they add up to the block, `half` frames late."""
    if len(block) > BLOCK:
        parts = [divide_linear(part, bands, state) for part in by_blocks(block)]
        return [np.concatenate(rows) for rows in zip(*parts, strict=True)]
    past = state["past"]
    whole = np.concatenate([past, block])
    size = 1 << (len(whole) - 1).bit_length()
    spectrum = np.fft.rfft(whole, size, axis=0)
    lows = []
    for response in bands.spectra(size):
        filtered = np.fft.irfft(spectrum * response[:, None], size, axis=0)
        lows.append(filtered[2 * bands.half : len(whole)])
    state["past"] = whole[len(block) :].copy()
    late = whole[bands.half : bands.half + len(block)]
    sides = [np.zeros_like(late), *lows, late]
    return [np.ascontiguousarray(b - a) for a, b in pairwise(sides)]
