"""Filters of a phase that is chosen: as long as what they do asks for, and run in parts.

The taps are the inverse transform of a response, faded at the ends. Long filters are
convolved in parts of a block (uniformly partitioned overlap-save; Stockham 1966, from memory).
"""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.compiled import inlined
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.state import State

HALVES_MS = (40.0, 80.0, 160.0, 320.0, 640.0, 1280.0)
"""Latencies that there are."""
NEAR_DB, FLOOR = 0.1, 1e-5
"""How near to the wished amplitude the filter comes, or what it is off at most: -100 dB."""
LOW_HZ, HIGH_HZ = 10.0, 20000.0
"""Where it does."""
FADE = 4
"""The last part of each side that is faded, so that what is cut off leaves no edge."""

Response = Callable[[Vector], NDArray[np.complex128]]
"""Responses (filters, bins) at frequencies in Hz, as if the middle tap were no delay."""


class Long(NamedTuple):
    """Filters of 2 * half + 1 taps, (filters, 2 * half + 1).

    enough: their amplitudes come as near as they should.
    """

    half: int
    taps: Sound
    enough: bool


def of_length(response: Response, half: int, rate: int) -> Long:
    """Return the filters of this length."""
    size = 1 << (8 * half - 1).bit_length()
    hz = np.arange(size // 2 + 1, dtype=np.float64) * (rate / size)
    wished = response(hz)
    edge = half // FADE
    fade = np.ones(half + 1)
    fade[-edge:] = 0.5 + 0.5 * np.cos(np.pi * (np.arange(edge) + 1) / (edge + 1))
    whole = np.fft.irfft(wished, size, axis=1)
    whole[:, : half + 1] *= fade
    whole[:, -half:] *= fade[:0:-1]
    whole[:, half + 1 : -half] = 0.0
    reached = np.fft.rfft(whole, axis=1)
    heard = (hz >= LOW_HZ) & (hz <= HIGH_HZ)
    near = np.maximum((10 ** (NEAR_DB / 20) - 1) * np.abs(wished), FLOOR)
    enough = bool((np.abs(np.abs(reached) - np.abs(wished)) <= near)[:, heard].all())
    return Long(half, np.concatenate([whole[:, -half:], whole[:, : half + 1]], axis=1), enough)


def shortest(response: Response, rate: int) -> Long:
    """Return the shortest filters that are near enough, or the longest that there are."""
    found = None
    for ms in HALVES_MS:
        found = of_length(response, round(ms * rate / 1000), rate)
        if found.enough:
            return found
    assert found is not None
    return found


@inlined
def _sums(cosines: Vector, sines: Vector, taps: Vector, angles: Vector) -> None:
    """Fill both with the sums of taps[n] cos(n angle) and sin(n angle), after Clenshaw (1955)."""
    for i in range(len(angles)):
        twice = 2.0 * np.cos(angles[i])
        one = two = 0.0
        for n in range(len(taps) - 1, 0, -1):
            one, two = taps[n] + twice * one - two, one
        cosines[i], sines[i] = taps[0] + 0.5 * twice * one - two, one * np.sin(angles[i])


def reached(taps: Vector, hz: Vector, rate: int) -> Vector:
    """Return the amplitude that one filter has at frequencies in Hz."""
    half, angles = len(taps) // 2, 2 * np.pi * hz / rate
    sums = np.empty((2, 2, len(hz)))
    # From the middle to both sides, so that what is small is added first.
    _sums(sums[0, 0], sums[0, 1], np.ascontiguousarray(taps[half:]), angles)
    before = taps[half::-1].copy()
    before[0] = 0.0
    _sums(sums[1, 0], sums[1, 1], before, angles)
    return np.asarray(np.hypot(sums[0, 0] + sums[1, 0], sums[0, 1] - sums[1, 1]))


class Parts(NamedTuple):
    """Filters from channels to channels in parts of a block, as spectra.

    pairs: (output, input) of every filter that does anything; spectra: (pairs, parts, 2, bins),
    real and imaginary.
    """

    half: int
    pairs: tuple[tuple[int, int], ...]
    spectra: NDArray[np.float64]


_SIZE = 2 * BLOCK
_BINS = BLOCK + 1


def count(half: int) -> int:
    """Return the parts of a filter."""
    return -(-(2 * half + 1) // BLOCK)


def parts_of(filters: Sound, channels: int) -> Parts:
    """Return filters, (channels * channels, taps), output by output, in parts."""
    half = filters.shape[1] // 2
    pairs = [(i // channels, i % channels) for i in range(len(filters)) if filters[i].any()]
    spectra = np.zeros((len(pairs), count(half), 2, _BINS))
    for row, (o, i) in zip(spectra, pairs, strict=True):
        taps = np.zeros(len(row) * BLOCK)
        taps[: 2 * half + 1] = filters[o * channels + i]
        found = np.fft.rfft(taps.reshape(-1, BLOCK), _SIZE, axis=1)
        row[:, 0], row[:, 1] = found.real, found.imag
    return Parts(half, tuple(pairs), spectra)


def filter_state(half: int, channels: int) -> State:
    """Return the cold state of `filtered`: the past, and the spectra of its blocks, newest where
    `turn` says; below 0, they are not known."""
    return State(
        past=np.zeros((count(half) * BLOCK, channels)),
        spectra=np.zeros((channels, count(half), 2, _BINS)),
        turn=np.zeros(1),
    )


@inlined
def _add_product(real: Vector, imag: Vector, filter_: Sound, sound: Sound) -> None:
    """Add a product of spectra, each (2, bins)."""
    a, b, c, d = filter_[0], filter_[1], sound[0], sound[1]
    for i in range(len(real)):
        real[i] += a[i] * c[i] - b[i] * d[i]
    for i in range(len(imag)):
        imag[i] += a[i] * d[i] + b[i] * c[i]


@inlined
def _sum_up(total: Sound, filters: Sound, blocks: Sound, newest: int) -> None:
    """Add the products of a filter's parts with the blocks that lie as far back."""
    n = len(filters)
    for part in range(n):
        _add_product(total[0], total[1], filters[part], blocks[(newest - part) % n])


def filtered(block: Sound, parts: Parts, state: State) -> Sound:
    """Return a block through the filters, half their length late; the state moves on."""
    past = state["past"]
    whole = np.concatenate([past, block])
    out = np.zeros_like(block)
    for at in range(0, len(block), BLOCK):
        n = min(BLOCK, len(block) - at)
        if n < BLOCK:
            # The next blocks lie otherwise.
            state["turn"][0] = -1
            out[at:] = _at_once(whole[at:], n, parts)
            continue
        newest = _turned(whole[: len(past) + at + n], state)
        total = np.zeros((block.shape[1], 2, _BINS))
        for (o, i), spectra in zip(parts.pairs, parts.spectra, strict=True):
            _sum_up(total[o], spectra, state["spectra"][i], newest)
        found = np.fft.irfft(total[:, 0] + 1j * total[:, 1], _SIZE, axis=1)
        out[at : at + n] = found[:, BLOCK:].T
    past[:] = whole[len(block) :]
    return out


def _turned(whole: Sound, state: State) -> int:
    """Take the newest block's spectrum in, or those of all; return where the newest is."""
    spectra = state["spectra"]
    n = int(spectra.shape[1])
    newest = (int(state["turn"][0]) + 1) % n
    for back in range(1 if state["turn"][0] >= 0 else n):
        end = len(whole) - back * BLOCK
        found = np.fft.rfft(whole[end - _SIZE : end].T, _SIZE, axis=1)
        at = (newest - back) % n
        spectra[:, at, 0], spectra[:, at, 1] = found.real, found.imag
    state["turn"][0] = newest
    return newest


def _at_once(whole: Sound, n: int, parts: Parts) -> Sound:
    """Return the last n frames of a sound through the filters in one transform."""
    size = 1 << (len(whole) + BLOCK - 1).bit_length()
    out = np.zeros((whole.shape[1], n))
    for (o, i), spectra in zip(parts.pairs, parts.spectra, strict=True):
        taps = np.fft.irfft(spectra[:, 0] + 1j * spectra[:, 1], _SIZE, axis=1)[:, :BLOCK].ravel()
        product = np.fft.rfft(whole[:, i], size) * np.fft.rfft(taps, size)
        out[o] += np.fft.irfft(product, size)[len(whole) - n : len(whole)]
    return np.ascontiguousarray(out.T)
