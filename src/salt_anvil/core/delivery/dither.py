"""The one dither at the very end, as a function of seed and absolute frame."""

import numpy as np

from salt_anvil.core.audio import Sound

SEED = 0x5A17A4F1
_WORDS = 4
"""64-bit words that one step of the generator's counter yields."""


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


def quantised(
    sound: Sound, start: int, bits: int, *, dither: bool
) -> tuple[np.ndarray[tuple[int, int], np.dtype[np.int32]], int]:
    """Return sound as integers of the given width in int32, and how many samples were clipped.

    sound: (frames, channels), full scale 1.0. start: absolute frame of sound[0].
    """
    scale = float(1 << (bits - 1))
    levels = sound * scale
    if dither:
        levels = levels + tpdf(start, len(sound), sound.shape[1])
    levels = np.floor(levels + 0.5)
    over = int(((levels < -scale) | (levels > scale - 1)).sum())
    return np.clip(levels, -scale, scale - 1).astype(np.int32), over
