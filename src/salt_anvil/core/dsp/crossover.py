"""Division into bands: Linkwitz-Riley with phase compensation, or linear phase.

Linkwitz, "Active Crossover Networks for Noncoincident Drivers", J. Audio Eng. Soc. 24(1), 1976:
each side is a Butterworth filter applied twice, -6.02 dB at the corner, in phase; both sides
add up to an all-pass.
"""

import math
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import BLOCK, Sound, by_blocks
from salt_anvil.core.dsp import biquad
from salt_anvil.core.state import State

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


def minimum_phase(corners: list[float], slope: int, rate: int) -> Bands:
    """Return the sections of a tree of pairs, lowest band first.

    steps[i] is what the remainder passes on its way up; paths[i] what band i takes from it,
    with the all-passes of all higher corners, so that the bands add up to one all-pass.
    """
    qs = BUTTERWORTH[slope]
    passes = [np.array([biquad.all_pass(hz, rate, q) for q in qs]) for hz in corners]
    paths, steps = [], []
    for index, hz in enumerate(corners):
        low = np.array([biquad.low_pass(hz, rate, q) for q in qs for _ in range(2)])
        high = np.array([biquad.high_pass(hz, rate, q) for q in qs for _ in range(2)])
        paths.append(np.concatenate([low, *passes[index + 1 :]]))
        steps.append(high)
    return Bands(tuple(paths), tuple(steps), np.concatenate(passes))


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
