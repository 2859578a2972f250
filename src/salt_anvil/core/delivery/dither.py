"""The one dither at the very end, as a function of seed and absolute frame."""

import hashlib
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound, Values
from salt_anvil.core.compiled import inlined
from salt_anvil.core.dsp.noise_shaping import WEIGHTED, shaped

SEED = 0x5A17A4F1
_WORDS = 4
"""64-bit words that one step of the generator's counter yields."""
Dither = Literal["tpdf", "shaped", "none"]
Levels = np.ndarray[tuple[int, int], np.dtype[np.int32]]
Integers = NDArray[np.int32]


def seed_of(output: str) -> int:
    """Return the seed of an output by its name, the mix's for none.

    Files that are added up again need noises that have nothing in common: with one seed for all,
    the noise of eight adds up to 18 dB instead of 9.
    """
    return int.from_bytes(hashlib.sha256(output.encode()).digest()[:4]) if output else SEED


def tpdf(start: int, frames: int, channels: int, *, seed: int = SEED) -> Sound:
    """Return triangular noise of 2 LSB peak to peak, in LSB, for frames from `start` on.

    Two uniform numbers a sample, from a counter-based generator placed by the absolute frame, so
    that any region of a print equals that region of the whole. Lipshitz, Wannamaker and
    Vanderkooy, J. Audio Eng. Soc. 40(5), 1992.
    """
    first = start * channels * 2
    bits = np.random.Philox(key=seed)
    bits.advance(first // _WORDS)
    skip = first % _WORDS
    uniform = np.random.Generator(bits).random(skip + frames * channels * 2)[skip:]
    pairs = uniform.reshape(frames, channels, 2)
    return np.asarray(pairs[..., 0] - pairs[..., 1])


class Quantiser:
    """Rounds sound to integers block by block, at most once in its life.

    With TPDF any region equals that region of the whole. Shaped noise remembers what was rounded
    before: it begins anew at the first frame of each file.
    """

    def __init__(
        self,
        bits: int,
        channels: int,
        *,
        dither: Dither = "tpdf",
        seed: int = SEED,
        start: int = 0,
    ) -> None:
        """start: absolute frame of what comes first."""
        self._bits, self._dither, self._seed, self._at = bits, dither, seed, start
        self._errors = np.zeros((len(WEIGHTED), channels))
        self.clipped = 0

    def levels(self, sound: Sound) -> Levels:
        """Return a block, full scale 1.0, as integers of the width in int32."""
        scale = float(1 << (self._bits - 1))
        levels = np.asarray(sound * scale)
        frames, channels = levels.shape
        noise = None
        if self._dither != "none":
            noise = tpdf(self._at, frames, channels, seed=self._seed)
        self._at += frames
        if self._dither == "shaped" and noise is not None:
            levels = np.ascontiguousarray(levels)
            self.clipped += int(shaped(levels, noise, WEIGHTED, self._errors, -scale, scale - 1))
            return levels.astype(np.int32)
        out: Levels = np.empty((frames, channels), np.int32)
        given = np.zeros(0) if noise is None else noise.ravel()
        self.clipped += _round_into(out.ravel(), levels.ravel(), given, scale)
        return out


@inlined
def _round_into(out: Integers, levels: Values, noise: Values, scale: float) -> int:
    """Fill out with levels, with noise if there is any, rounded; return how many did not fit."""
    clipped = 0
    for i in range(len(levels)):
        level = levels[i]
        if len(noise):
            level += noise[i]
        level = np.floor(level + 0.5)
        if level < -scale or level > scale - 1:
            clipped += 1
            level = min(max(level, -scale), scale - 1)
        out[i] = np.int32(level)
    return clipped
