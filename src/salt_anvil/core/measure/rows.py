"""A meter that keeps one row of figures per 100 ms, from which any passage can be told."""

from copy import copy
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound, Values, as_block, without_nonfinite
from salt_anvil.core.compiled import measuring
from salt_anvil.core.dsp import biquad
from salt_anvil.core.dsp.between import EDGE
from salt_anvil.core.dsp.k_weighting import k_weighting
from salt_anvil.core.dsp.maxima import extremes_of
from salt_anvil.core.measure import loudness
from salt_anvil.core.measure.truepeak import interpolated_peaks

RANGES_HZ = (150.0, 800.0, 5000.0)
"""Corners of the four ranges of energy: lows, low middle, high middle, highs."""
K, POWER_L, POWER_R, CROSS, PEAK, TRUE_PEAK, SUM, SHARE, RANGE = range(9)
FINE = RANGE + len(RANGES_HZ) + 1
A_ROW = 10
"""Powers in every row from which the loudest moment is found, wherever it begins."""
COLUMNS = FINE + A_ROW

Rows = NDArray[np.float64]
PIECE = 16384
"""Frames that are measured at a time: what is made of them stays in a processor's cache."""


def hop(rate: int) -> int:
    """Return the frames of one row."""
    return round(rate / 10)


@measuring
def _sum_up(sound: Sound, sections: Sound, state: Sound, hop: int, rows: Rows) -> None:
    """Fill what is a sum or a maximum over each row of finite sound.

    sections, state: the K-weighting's, as `biquad.filter_into` takes them.
    """
    channels = sound.shape[1]
    weighted = np.empty((hop, channels))
    for row in range(len(rows)):
        here = sound[row * hop : (row + 1) * hop]
        left2, right2, cross, total = _products(here.reshape(here.size), channels)
        # Row by row, so that it is still in the cache.
        biquad.filter_into(weighted, here, sections, state)
        line, k = weighted.reshape(weighted.size), 0.0
        for tenth in range(A_ROW):
            first, last = tenth * hop // A_ROW, (tenth + 1) * hop // A_ROW
            values = line[first * channels : last * channels]
            part = 0.0
            for i in range(len(values)):
                part += values[i] * values[i]
            rows[row, FINE + tenth] = part / max(last - first, 1)
            k += part
        rows[row, K] = k / hop
        rows[row, POWER_L], rows[row, POWER_R] = left2 / hop, right2 / hop
        rows[row, CROSS], rows[row, SUM] = cross / hop, total / (2 * hop)
        high, low, other_high, other_low = extremes_of(here.reshape(here.size), channels)
        rows[row, PEAK] = max(max(high, -low), max(other_high, -other_low))


@measuring
def _products(values: Values, channels: int) -> tuple[float, float, float, float]:
    """Return the sums of squares of the left and of the right, of their products and of both."""
    left2 = right2 = cross = total = 0.0
    if channels == 1:
        for i in range(len(values)):
            left2 += values[i] * values[i]
            total += 2 * values[i]
        return left2, left2, left2, total
    for i in range(len(values) // 2):
        a, b = values[2 * i], values[2 * i + 1]
        left2 += a * a
        right2 += b * b
        cross += a * b
        total += a + b
    return left2, right2, cross, total


@measuring
def _shares_into(shares: Sound, spectrum: Sound, edges: NDArray[np.int64]) -> None:
    """Fill shares (rows, ranges) with what lies in each range of the energy but the offset's.

    spectrum: (rows, bins, real and imaginary parts of the channels); edges: first bins.
    """
    rows, ranges = shares.shape
    for row in range(rows):
        total = 1e-300
        for k in range(ranges):
            first = max(edges[k], 1)
            last = edges[k + 1] if k + 1 < ranges else spectrum.shape[1]
            part = spectrum[row, first:last].ravel()
            energy = 0.0
            for i in range(len(part)):
                energy += part[i] * part[i]
            shares[row, k] = energy
            total += energy
        for k in range(ranges):
            shares[row, k] /= total


class RowMeter:
    """Takes blocks of any length; gives finished rows (COLUMNS figures each).

    Columns: K-weighted power (channels summed), mean square left and right, mean product of both,
    sample peak, true peak, offset (mean), the share of 100 ms that the row is long, power in each
    of the four ranges, K-weighted power of every tenth of the row. A row is given when a frame
    behind it is there: the last one may be shorter. What is between the samples is told
    between.AFTER frames late (3 ms at 44.1 kHz), in the last row all that is left.
    """

    def __init__(self, rate: int, channels: int, *, true_peak: bool = True) -> None:
        """true_peak: look between the samples too; without, that column is 0."""
        self._hop, self._rate = hop(rate), rate
        self._between = true_peak
        self._sections = k_weighting(rate)
        self._state = np.zeros((2, channels, 2))
        self._held = np.zeros((EDGE, channels))
        """What waits for its row to be whole, behind the frames before it."""
        bins = np.fft.rfftfreq(self._hop, 1 / rate)
        self._edges = np.concatenate([[0], np.searchsorted(bins, RANGES_HZ)])
        self.bad = 0

    def clone(self) -> "RowMeter":
        """Return an independent one at the same place."""
        other = copy(self)
        other._state = self._state.copy()
        return other

    def feed(self, sound: Sound) -> Rows:
        """Return the rows that end inside this block."""
        block, bad = without_nonfinite(as_block(sound))
        self.bad += bad
        pieces = [self._fed(block[at : at + PIECE]) for at in range(0, len(block), PIECE)]
        return np.concatenate(pieces) if pieces else np.empty((0, COLUMNS))

    def _fed(self, block: Sound) -> Rows:
        whole = np.concatenate([self._held, block])
        end = max(len(whole) - EDGE - 1, 0) // self._hop * self._hop
        self._held = whole[end:].copy() if end else whole
        return self._rows(whole[: EDGE + end], self._hop) if end else np.empty((0, COLUMNS))

    def flush(self) -> Rows:
        """Return the last row, if there is any sound; its powers are over its own length."""
        whole, frames = self._held, len(self._held) - EDGE
        self._held = np.zeros((EDGE, whole.shape[1]))
        return self._rows(whole, frames, EDGE) if frames else np.empty((0, COLUMNS))

    def _rows(self, whole: Sound, hop: int, more: int = 0) -> Rows:
        """Return rows of `hop` frames of what stands behind the first EDGE frames; of the last row
        so much `more` is told between the samples, which is silent."""
        sound, channels = whole[EDGE:], whole.shape[1]
        rows = np.zeros((len(sound) // hop, COLUMNS))
        _sum_up(sound, self._sections, self._state, hop, rows)
        rows[:, SHARE] = hop / self._hop
        if self._between:
            if more:
                whole = np.concatenate([whole, np.zeros((more, channels))])
            rows[:, TRUE_PEAK] = interpolated_peaks(whole, hop + more, rows[:, PEAK])
        pieces = sound.reshape(-1, hop, channels)
        rows[:, RANGE:FINE] = self._ranges(pieces, (rows[:, POWER_L] + rows[:, POWER_R]) / 2)
        return rows

    def _ranges(self, pieces: Sound, power: Sound) -> Sound:
        spectrum = np.ascontiguousarray(np.fft.rfft(pieces, self._hop, axis=1))
        shares = np.empty((len(pieces), len(RANGES_HZ) + 1))
        _shares_into(
            shares, spectrum.view(np.float64).reshape(*spectrum.shape[:2], -1), self._edges
        )
        return shares * power[:, None]


SILENT_POWER = 1e-12


@dataclass(frozen=True)
class Figures:
    """What a passage measures, by the terms of EBU R 128 and BS.1770; None where it is not
    defined, as any level of silence.

    ranges_db: mean power in four ranges of frequency. right_to_left_db: difference in power.
    correlation: of left and right, -1 to 1 (1: mono). sides_to_middle_db: power of half the
    difference against that of half the sum; None: mono.
    """

    integrated_lufs: float | None
    short_term_max_lufs: float | None
    momentary_max_lufs: float | None
    loudness_range_lu: float | None
    true_peak_dbtp: float | None
    sample_peak_dbfs: float | None
    rms_dbfs: float | None
    crest_db: float | None
    peak_to_loudness_db: float | None
    ranges_db: list[float | None]
    right_to_left_db: float | None
    correlation: float | None
    sides_to_middle_db: float | None
    dc_offset: float


def figures(rows: Rows) -> Figures:
    """Return the figures of a passage given as rows.

    Means are weighted by the rows' lengths; for loudness, a row that is not whole is not used
    (BS.1770-4, annex 1: an incomplete gating block at the end is left out).
    """
    if len(rows) == 0:
        rows = np.zeros((1, COLUMNS))
    share = rows[:, SHARE]
    means = share @ rows / max(float(share.sum()), 1e-12)
    left, right = float(means[POWER_L]), float(means[POWER_R])
    power, cross = (left + right) / 2, float(means[CROSS])
    peak = float(rows[:, PEAK].max())
    whole = share == 1.0
    weighted, fine = rows[whole, K], rows[whole, FINE:].ravel()
    integrated = _sounding(loudness.integrated(weighted))
    true_peak = _power_db(float(rows[:, TRUE_PEAK].max()) ** 2)
    return Figures(
        integrated_lufs=integrated,
        short_term_max_lufs=_most(loudness.short_term(fine, A_ROW)),
        momentary_max_lufs=_most(loudness.momentary(fine, A_ROW)),
        loudness_range_lu=loudness.loudness_range(weighted),
        true_peak_dbtp=true_peak,
        sample_peak_dbfs=_power_db(peak * peak),
        rms_dbfs=_power_db(power),
        crest_db=difference(_power_db(peak * peak), _power_db(power)),
        peak_to_loudness_db=difference(true_peak, integrated),
        ranges_db=[_power_db(float(r)) for r in means[RANGE:FINE]],
        right_to_left_db=difference(_power_db(right), _power_db(left)),
        correlation=_correlation(left, right, cross),
        sides_to_middle_db=difference(_power_db(power - cross), _power_db(power + cross)),
        dc_offset=float(means[SUM]),
    )


def difference(a: float | None, b: float | None) -> float | None:
    """Return a less b; None where one of them is not defined."""
    return None if a is None or b is None else a - b


def _correlation(left: float, right: float, cross: float) -> float | None:
    if min(left, right) <= SILENT_POWER:
        return None
    return float(np.clip(cross / np.sqrt(left * right), -1.0, 1.0))


def _sounding(lufs: float) -> float | None:
    return lufs if lufs > loudness.SILENT else None


def _most(values: Rows) -> float | None:
    return _sounding(float(values.max())) if len(values) else None


def _power_db(value: float) -> float | None:
    """Return a mean square or a squared peak in dB; what is under -120 dB is silence."""
    return 10 * float(np.log10(value)) if value > SILENT_POWER else None
