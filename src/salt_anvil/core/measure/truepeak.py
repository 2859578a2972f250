"""True peak: the greatest magnitude of the sound between its samples."""

import numpy as np
from numba import njit

from salt_anvil.core.audio import Sound, Values

PHASES = 8
TAPS = 32
"""Taps of each phase. BS.1770-4, annex 2, asks for 4 times at 48 kHz; 8 times under-reads a sine
at 0.45 of the rate by at most 0.14 dB."""
EDGE = TAPS - 1
"""Frames of the past that the interpolation needs."""


def _phases() -> Sound:
    """Return the windowed sinc (Kaiser, beta 7), one row a phase."""
    at = (np.arange(PHASES * TAPS) - (PHASES * TAPS - 1) / 2) / PHASES
    taps = np.sinc(at) * np.kaiser(PHASES * TAPS, 7.0)
    taps *= PHASES / taps.sum()
    return np.ascontiguousarray(taps.reshape(TAPS, PHASES).T[:, ::-1])


_FILTER = _phases()
BOUND = float(np.abs(_FILTER).sum(axis=1).max())
"""No interpolated value exceeds the samples around it by more than this factor."""


_STEP = 64
_HALF = TAPS // 2
# A phase and its mirror image are the sum and the difference of a row that is the same from both
# ends and one that changes its sign: half the multiplications, and the larger of both magnitudes
# is |even| + |odd|.
_EVEN = np.ascontiguousarray((_FILTER + _FILTER[:, ::-1])[: PHASES // 2, :_HALF] / 2)
_ODD = np.ascontiguousarray((_FILTER - _FILTER[:, ::-1])[: PHASES // 2, :_HALF] / 2)


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract", "nsz", "nnan"})
def _peaks(whole: Sound, size: int, even: Sound, odd: Sound, bound: float, peaks: Values) -> None:
    """Raise each piece's peak to the greatest interpolated magnitude in it.

    whole: EDGE frames of the past, then the pieces of `size` frames.
    """
    channels = whole.shape[1]
    pairs, half = even.shape
    taps = 2 * half
    line = np.zeros(_STEP + taps)
    sums, gaps = np.empty((half, _STEP)), np.empty((half, _STEP))
    a, b = np.empty(_STEP), np.empty(_STEP)
    most = np.empty(_STEP)
    for piece in range(len(peaks)):
        for channel in range(channels):
            for at in range(piece * size, (piece + 1) * size, _STEP):
                span = min(_STEP, (piece + 1) * size - at)
                peak = 0.0
                for i in range(span + taps - 1):
                    line[i] = whole[at + i, channel]
                    peak = max(peak, abs(line[i]))
                if peak * bound <= peaks[piece]:
                    continue
                for i in range(span + taps - 1, _STEP + taps):
                    line[i] = 0.0
                for t in range(half):
                    early, late = line[t : t + _STEP], line[taps - 1 - t : taps - 1 - t + _STEP]
                    plus, minus = sums[t], gaps[t]
                    for i in range(_STEP):
                        plus[i] = early[i] + late[i]
                        minus[i] = early[i] - late[i]
                most[:] = 0.0
                for p in range(pairs):
                    a[:] = 0.0
                    b[:] = 0.0
                    for t in range(0, half, 4):
                        e0, e1, e2, e3 = even[p, t], even[p, t + 1], even[p, t + 2], even[p, t + 3]
                        o0, o1, o2, o3 = odd[p, t], odd[p, t + 1], odd[p, t + 2], odd[p, t + 3]
                        s0, s1, s2, s3 = sums[t], sums[t + 1], sums[t + 2], sums[t + 3]
                        for i in range(_STEP):
                            a[i] += e0 * s0[i] + e1 * s1[i] + e2 * s2[i] + e3 * s3[i]
                        g0, g1, g2, g3 = gaps[t], gaps[t + 1], gaps[t + 2], gaps[t + 3]
                        for i in range(_STEP):
                            b[i] += o0 * g0[i] + o1 * g1[i] + o2 * g2[i] + o3 * g3[i]
                    for i in range(_STEP):
                        here = abs(a[i]) + abs(b[i])
                        most[i] = here if here > most[i] else most[i]
                for i in range(span):
                    peaks[piece] = max(peaks[piece], most[i])


def interpolated_peaks(whole: Sound, size: int, floors: Values) -> Values:
    """Return the true peak (linear) of each piece of `size` frames, at least its floor.

    whole: (EDGE + pieces · size, channels); the first EDGE frames are the past.
    """
    peaks = np.array(floors, np.float64)
    _peaks(whole, size, _EVEN, _ODD, BOUND, peaks)
    return peaks


def true_peak(sound: Sound, past: Sound) -> float:
    """Return the true peak (linear) of sound, whose last EDGE frames before it are past."""
    if not len(sound):
        return 0.0
    floor = np.array([np.abs(sound).max()])
    return float(interpolated_peaks(np.concatenate([past, sound]), len(sound), floor)[0])
