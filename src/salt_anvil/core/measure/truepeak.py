"""True peak: the greatest magnitude of the sound between its samples."""

import numpy as np

from salt_anvil.core.audio import Sound, Values
from salt_anvil.core.dsp.between import pieces_into


def interpolated_peaks(whole: Sound, size: int, floors: Values) -> Values:
    """Return the true peak (linear) of each piece of `size` frames, at least its floor.

    whole: (EDGE + pieces * size, channels); the first piece begins at whole[between.BEFORE].
    """
    peaks = np.array(floors, np.float64)
    pieces_into(peaks, whole, size)
    return peaks


def true_peak(sound: Sound, past: Sound) -> float:
    """Return the true peak (linear) of sound, whose last EDGE frames before it are past.

    What is looked at begins between.AFTER frames before the sound, and ends so long before its end.
    """
    if not len(sound):
        return 0.0
    floor = np.array([np.abs(sound).max()])
    return float(interpolated_peaks(np.concatenate([past, sound]), len(sound), floor)[0])
