"""Overs: the places where sound passes a level, between the samples too."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound, as_block, without_nonfinite
from salt_anvil.core.dsp.between import AFTER, BEFORE, EDGE
from salt_anvil.core.measure.rows import (
    PEAK,
    TRUE_PEAK,
    Figures,
    RowMeter,
    Rows,
    figures,
    hop,
)
from salt_anvil.core.measure.truepeak import interpolated_peaks

PIECES_A_SECOND = 100
Peaks = NDArray[np.float32]
APART_S, LONGEST_S = 0.1, 1.0
"""Overs nearer to each other than this are one place, but none is longer than that."""


@dataclass(frozen=True)
class Over:
    """A place: where its loudest piece begins, in frames, and its true peak in dBTP."""

    frame: int
    peak_dbtp: float


class PieceMeter:
    """Takes blocks of any length; keeps the true peak of every 10 ms (linear)."""

    def __init__(self, rate: int, channels: int) -> None:
        self.frames = max(round(rate / PIECES_A_SECOND), 1)
        self._held = np.zeros((BEFORE, channels))
        self._peaks: list[Peaks] = []

    def feed(self, sound: Sound) -> None:
        """Take a block; what is not finite is passed over."""
        block = without_nonfinite(as_block(sound))[0]
        self._held = np.concatenate([self._held, block])
        self._measure(max(len(self._held) - EDGE, 0) // self.frames, self.frames)

    def flush(self) -> Peaks:
        """Return the peaks of all pieces, the last with what still rings on after it."""
        self.feed(np.zeros((AFTER, self._held.shape[1])))
        size = len(self._held) - EDGE + BEFORE
        self._held = np.concatenate([self._held, np.zeros((BEFORE, self._held.shape[1]))])
        self._measure(1, size)
        return np.concatenate(self._peaks)

    def _measure(self, count: int, size: int) -> None:
        sound = self._held[BEFORE : BEFORE + count * size]
        floors = np.abs(sound).reshape(count, size * sound.shape[1]).max(axis=1)
        around = self._held[: EDGE + count * size]
        self._peaks.append(interpolated_peaks(around, size, floors).astype(np.float32))
        self._held = self._held[count * size :]


@dataclass(frozen=True)
class Delivered:
    """What a sound measures, from end to end. peaks: of every piece of so many frames."""

    frames: int
    figures: Figures
    rows: Rows
    peaks: Peaks
    piece: int

    def overs(self, limit_dbtp: float) -> list[Over]:
        """Return the places above a limit."""
        return places(self.peaks, self.piece, limit_dbtp)


class DeliveryMeter:
    """Takes blocks of any length; tells figures and peaks of the whole."""

    def __init__(self, rate: int, channels: int) -> None:
        self._meter = RowMeter(rate, channels, true_peak=False)
        self._pieces = PieceMeter(rate, channels)
        self._hop = hop(rate)
        self._rows: list[Rows] = []
        self._frames = 0

    def feed(self, sound: Sound) -> None:
        """Take a block."""
        self._rows.append(self._meter.feed(sound))
        self._pieces.feed(sound)
        self._frames += len(sound)

    def result(self) -> Delivered:
        """Return what was measured; nothing is taken any more."""
        rows = np.concatenate([*self._rows, self._meter.flush()])
        peaks = self._pieces.flush()
        # A piece that lies in two rows counts in both.
        begin = np.arange(len(rows)) * self._hop // self._pieces.frames
        end = -(-np.arange(1, len(rows) + 1) * self._hop // self._pieces.frames)
        for row in range(len(rows)):
            last = len(peaks) if row == len(rows) - 1 else end[row]
            rows[row, TRUE_PEAK] = peaks[begin[row] : last].max(initial=rows[row, PEAK])
        return Delivered(self._frames, figures(rows), rows, peaks, self._pieces.frames)


def places(peaks: Peaks, piece: int, limit_dbtp: float) -> list[Over]:
    """Return the places above a limit; peaks: linear, one a piece of so many frames."""
    over = np.flatnonzero(peaks > 10 ** (limit_dbtp / 20))
    if not len(over):
        return []
    gap, most = round(APART_S * PIECES_A_SECOND), round(LONGEST_S * PIECES_A_SECOND)
    starts = np.flatnonzero(np.diff(over, prepend=-gap - 1) > gap)
    found = []
    for run in np.split(over, starts[1:]):
        for part in np.split(
            run, np.searchsorted(run, np.arange(run[0] + most, run[-1] + 1, most))
        ):
            if len(part):
                loudest = int(part[np.argmax(peaks[part])])
                found.append(Over(loudest * piece, 20 * float(np.log10(peaks[loudest]))))
    return found
