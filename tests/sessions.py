"""Small sessions for tests: strips of seeded noise, with compressors, buses and look-ahead."""

from typing import Any

import numpy as np

from salt_anvil.core.audio import Sound
from salt_anvil.core.session import Session, checked
from tests.conftest import noise

FRAMES = 160_000


def compressor(name: str, **params: Any) -> dict[str, Any]:
    return {"id": name, "kind": "compressor", "params": {"threshold_db": -30, **params}}


def small_session(**change: Any) -> Session:
    """Two tracks into a bus, a mono one straight to main; look-ahead in three places."""
    strips = [
        {"id": "a", "name": "A", "kind": "track", "audio": "a", "channels": 2, "frames": FRAMES,
         "output": "bus", "pan": 0.3,
         "chain": [compressor("a1", lookahead_ms=7.3, release_ms=900)]},
        {"id": "b", "name": "B", "kind": "track", "audio": "b", "channels": 1, "frames": FRAMES,
         "output": "bus", "fader_db": -4, "chain": [compressor("b1", detector="rms")]},
        {"id": "c", "name": "C", "kind": "track", "audio": "c", "channels": 1, "frames": FRAMES,
         "trim_db": 3, "chain": [compressor("c1", topology="feed-back"),
                                 compressor("c2", lookahead_ms=20, stereo="mid-side")]},
        {"id": "bus", "name": "Bus", "kind": "bus", "chain": [compressor("bus1", lookahead_ms=3)]},
        {"id": "main", "name": "Main", "kind": "main",
         "chain": [compressor("main1", release_mode="auto", release_ms=300)]},
    ]  # fmt: skip
    model = {"name": "Small", "rate": 48000, "bpm": 96, "strips": strips}
    return checked(Session, model | change)


SOUNDS = {
    "a": noise(FRAMES, 2, seed=11) * np.repeat([0.1, 1.0, 0.3, 0.8], FRAMES // 4)[:, None],
    "b": noise(FRAMES, 1, seed=12),
    "c": noise(FRAMES, 1, seed=13) * np.linspace(0.1, 1, FRAMES)[:, None],
}


def source(audio: str, start: int, frames: int) -> Sound:
    sound = SOUNDS[audio]
    out = np.zeros((frames, sound.shape[1]))
    low, high = max(start, 0), min(start + frames, len(sound))
    if high > low:
        out[low - start : high - start] = sound[low:high].astype(np.float32)
    return out
