"""Sounds that rise high between their samples, and a meter of another construction for them."""

import numpy as np
from scipy.signal import firwin, oaconvolve

from tests.conftest import noise

POINTS, TAPS = 16, 256
_POLYPHASE = POINTS * firwin(POINTS * TAPS + 1, 1 / POINTS, window=("kaiser", 5.0))


def filtered_up(taps: np.ndarray, sound: np.ndarray, points: int) -> np.ndarray:
    """What scipy's upfirdn gives for (frames, channels), by transforms: twenty times as fast."""
    phases = np.pad(taps, (0, -len(taps) % points)).reshape(-1, points)
    fine = oaconvolve(sound[:, None, :], phases[:, :, None], axes=0)
    return np.asarray(fine.reshape(-1, sound.shape[1]))


def fine_line(sound: np.ndarray) -> np.ndarray:
    """Return 16 points a frame by scipy, 256 taps each: point 0 is sample 0, silence around."""
    return filtered_up(_POLYPHASE, sound, POINTS)[POINTS * TAPS // 2 :]


def polyphase_peak_db(sound: np.ndarray) -> float:
    """True peak of (frames, channels), with what is before its beginning and behind its end."""
    fine = filtered_up(_POLYPHASE, sound, POINTS)
    return 20 * float(np.log10(np.abs(fine).max()))


def chirp(frames: int, low: float, high: float) -> np.ndarray:
    """A sweep between shares of the rate that begins and ends abruptly."""
    at = np.arange(frames)
    return np.asarray(0.9 * np.cos(2 * np.pi * (low * at + (high - low) * at**2 / 2 / frames)))


def hard_sounds(frames: int = 24000) -> dict[str, np.ndarray]:
    """Return the sounds by name, (frames, 1)."""
    burst = noise(frames, 1, level=1.0)[:, 0]
    burst[: frames // 2] = 0
    random = np.random.default_rng(9)
    square = np.sign(np.sin(2 * np.pi * 997 * np.arange(frames) / 48000 + 0.1))
    worst = np.sign(np.sinc(np.arange(frames) - frames // 2 + 0.5))
    sounds = {
        "burst of noise": burst / np.abs(burst).max(),
        "clipped noise": np.clip(2 * random.standard_normal(frames), -0.9, 0.9),
        "0.9 or -0.9 at random": random.choice([-0.9, 0.9], frames),
        "signs of a sinc": 0.9 * worst,
        "square": 0.9 * square,
        "sweep to 0.45": chirp(frames, 0.001, 0.45),
        "sweep to 0.499": chirp(frames, 0.3, 0.499),
        "sweep from 0.499": chirp(frames, 0.499, 0.2),
    }
    return {name: sound[:, None] for name, sound in sounds.items()}
