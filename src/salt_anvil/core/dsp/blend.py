"""Laws that join two signals: gains from a position, and what a steady join must know."""

import hashlib
import math
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp.gating import counts, gated

Law = Literal["sum", "linear", "equal-power", "steady"]

MATCH_LIMIT = 10 ** (24 / 20)
GAIN_LIMIT = 10 ** (6 / 20)
STRETCH = 27
"""Blocks in 3 s."""
TIMES = 3
"""Rounds in which a gain is found: the gates move with what they let through."""


@dataclass(frozen=True)
class JoinMeasurement:
    """Two signals measured over a passage, so that any mixture of them can be gated as it is heard.

    blocks: per block of 400 ms (every 100 ms; BS.1770-4) the K-weighted powers of both and their
    mean product, channels summed, as float32. A power of 0 stands for nothing heard.
    """

    blocks: bytes

    @classmethod
    def of(cls, blocks: Sound) -> "JoinMeasurement":
        """Return that of the blocks, (blocks, 3)."""
        return cls(np.ascontiguousarray(blocks, "<f4").tobytes())

    @classmethod
    def even(cls, a: float, b: float, both: float) -> "JoinMeasurement":
        """Return that of two signals that are alike all the time."""
        return cls.of(np.array([[a, b, both]]))

    @cached_property
    def rows(self) -> Sound:
        """The blocks as numbers, (3, blocks)."""
        return np.frombuffer(self.blocks, "<f4").reshape(-1, 3).T.astype(np.float64)

    @cached_property
    def digest(self) -> str:
        """What tells it from others."""
        return hashlib.sha256(self.blocks).hexdigest()[:32]

    @cached_property
    def a(self) -> float:
        """Power of the first signal alone."""
        return gated(self.rows[0])

    @cached_property
    def b(self) -> float:
        """Power of the second signal alone."""
        return gated(self.rows[1])

    @cached_property
    def alike(self) -> float:
        """Correlation of the two where the first is heard, -1 to 1."""
        a, b, both = self.rows[:, counts(self.rows[0])].sum(axis=1)
        return float(both / math.sqrt(a * b)) if a > 0 and b > 0 else 0.0

    def figures(self) -> dict[str, float]:
        """Return what a report tells: both powers, and how alike the two are."""
        return {"a": self.a, "b": self.b, "alike": self.alike}

    def each(self, a: float, b: float) -> Sound:
        """Return the power of every block of a mixture by two gains."""
        one, other, both = self.rows
        return np.asarray(a * a * one + b * b * other + 2 * a * b * both)

    def power(self, a: float, b: float) -> float:
        """Return the power of a mixture by two gains, by its own gates."""
        return gated(self.each(a, b))

    def scaled(self, a: float, b: float) -> "JoinMeasurement":
        """Return the same with gains on the two signals."""
        if a == b == 1.0:
            return self
        return JoinMeasurement.of((self.rows * [[a * a], [b * b], [a * b]]).T)


def match(blend: JoinMeasurement) -> float:
    """Return k, the gain that makes the second as loud as the first, within 24 dB."""
    k = math.sqrt(blend.a / blend.b)
    return min(max(k, 1 / MATCH_LIMIT), MATCH_LIMIT)


def kept_db(measured: JoinMeasurement, mix: float, most_db: float) -> float:
    """Return the gain in dB of the changed sound with which the mix of it is as loud as the input.

    measured: the input and the changed sound. With g the gain and m the mix, in the blocks that
    count, m^2 g^2 b + 2 m (1 - m) g both + (1 - m)^2 a = a. 0 where nothing is heard, or nothing is
    changed; at most most_db, up or down.
    """
    if min(measured.a, measured.b) <= 0.0 or mix <= 0.0:
        return 0.0
    gain, dry = math.sqrt(measured.a / measured.b), 1 - mix
    for _ in range(2 * TIMES):
        heard = counts(measured.each(dry, mix * gain))
        if not heard.any():
            break
        a, b, both = measured.rows[:, heard].mean(axis=1)
        rest = measured.a - dry * dry * a
        root = (dry * both) ** 2 + b * rest
        if b <= 0.0 or root < 0.0:
            break
        gain = max((math.sqrt(root) - dry * both) / (mix * b), 1e-6)
    return min(max(20 * math.log10(gain), -most_db), most_db)


def gains(law: Law, x: float, blend: JoinMeasurement | None = None) -> tuple[float, float]:
    """Return the gains of the first and the second signal at position x, 0 to 1.

    steady: y = sqrt(Pa / P(x)) ((1 - x) a + x k b) with k = sqrt(Pa / Pb), P(x) being the power of
    (1 - x) a + x k b by its own gates, so that y is as loud as the first at every position; without
    a measurement it is linear.
    """
    if law == "sum":
        return 1.0, 1.0
    if law == "equal-power":
        return math.cos(x * math.pi / 2), math.sin(x * math.pi / 2)
    if law == "linear" or blend is None or min(blend.a, blend.b) <= 0:
        return 1.0 - x, x
    k = match(blend)
    power = blend.power(1.0 - x, x * k)
    gain = min(math.sqrt(blend.a / max(power, 1e-30)), GAIN_LIMIT)
    return gain * (1.0 - x), gain * x * k


def wander(blend: JoinMeasurement, x: float) -> tuple[float, int]:
    """Return by how many dB the steady blend at x is louder or quieter for 3 s than if the two
    were as much alike there as in the mean, at the most, and the block at which it is: one gain
    holds the level of the whole, not that of a stretch in which they cancel, or add up."""
    count = min(STRETCH, blend.rows.shape[1])
    a, b, both = (np.convolve(p, np.ones(count) / count, "valid") for p in blend.rows)
    heard = counts(a) & (b > 0.0)
    if not heard.any() or blend.b <= 0.0:
        return 0.0, 0
    one, other = gains("steady", x, blend)
    alone, cross = one * one * a + other * other * b, 2.0 * one * other
    found = np.maximum(alone + cross * both, 1e-13)
    meant = np.maximum(alone + cross * blend.alike * np.sqrt(np.maximum(a * b, 0.0)), 1e-13)
    apart = np.where(heard, 10 * np.log10(found / meant), 0.0)
    at = int(np.abs(apart).argmax())
    return float(apart[at]), at


def opposed(blend: JoinMeasurement) -> bool:
    """Say whether the two cancel so much that the steady law stops at its 6 dB on the way."""
    if blend.alike >= 0:
        return False
    k = match(blend)
    return any(
        blend.a > GAIN_LIMIT**2 * blend.power(1 - step / 20, step / 20 * k) for step in range(1, 20)
    )
