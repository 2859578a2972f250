"""Middle and sides, exact: M = (L + R) / 2, S = (L - R) / 2 and back."""

import numpy as np

from salt_anvil.core.audio import Sound
from salt_anvil.core.compiled import kernel
from salt_anvil.core.dsp.control_ramp import Vector


def to_mid_side(sound: Sound) -> Sound:
    """Return (frames, 2) as middle and side."""
    out = np.empty_like(sound)
    _to_mid_side(out, sound)
    return out


@kernel
def _to_mid_side(out: Sound, sound: Sound) -> None:
    for i in range(len(sound)):
        left, right = sound[i, 0], sound[i, 1]
        out[i, 0] = 0.5 * (left + right)
        out[i, 1] = 0.5 * (left - right)


def from_mid_side(sound: Sound) -> Sound:
    """Return (frames, 2) of middle and side as left and right."""
    out = np.empty_like(sound)
    _from_mid_side(out, sound)
    return out


@kernel
def _from_mid_side(out: Sound, sound: Sound) -> None:
    for i in range(len(sound)):
        middle, side = sound[i, 0], sound[i, 1]
        out[i, 0] = middle + side
        out[i, 1] = middle - side


def doubled(sound: Sound) -> Sound:
    """Return one channel, (frames, 1), as two that are alike."""
    out = np.empty((len(sound), 2))
    _double(out, sound[:, 0])
    return out


@kernel
def _double(out: Sound, line: Vector) -> None:
    for i in range(len(line)):
        out[i, 0] = out[i, 1] = line[i]


def placed(sound: Sound, left: float, right: float) -> Sound:
    """Return one or two channels as two, each with its gain."""
    out = np.empty((len(sound), 2))
    _place(out, sound, left, right)
    return out


@kernel
def _place(out: Sound, sound: Sound, left: float, right: float) -> None:
    last = sound.shape[1] - 1
    for i in range(len(sound)):
        out[i, 0] = left * sound[i, 0]
        out[i, 1] = right * sound[i, last]


def placed_along(sound: Sound, left: Sound, right: Sound) -> Sound:
    """Return one or two channels as two, with a gain for every frame of each, (frames, 1)."""
    out = np.empty((len(sound), 2))
    _place_along(out, sound, left, right)
    return out


@kernel
def _place_along(out: Sound, sound: Sound, left: Sound, right: Sound) -> None:
    last = sound.shape[1] - 1
    for i in range(len(sound)):
        out[i, 0] = left[i, 0] * sound[i, 0]
        out[i, 1] = right[i, 0] * sound[i, last]
