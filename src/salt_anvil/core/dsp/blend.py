"""Laws that join two signals: gains from a position, and what a steady join must know."""

import math
from dataclasses import dataclass
from typing import Literal

Law = Literal["sum", "linear", "equal-power", "steady"]

MATCH_LIMIT = 10 ** (24 / 20)
GAIN_LIMIT = 10 ** (6 / 20)


@dataclass(frozen=True)
class JoinMeasurement:
    """Two signals measured over a passage: K-weighted mean powers and their mean product.

    Channels are summed, and only blocks count in which the first passes the gates of BS.1770;
    power of 0 stands for nothing heard.
    """

    a: float
    b: float
    both: float

    def scaled(self, a: float, b: float) -> "JoinMeasurement":
        """Return the same with gains on the two signals."""
        return JoinMeasurement(self.a * a * a, self.b * b * b, self.both * a * b)


def match(blend: JoinMeasurement) -> float:
    """Return k, the gain that makes the second as loud as the first, within 24 dB."""
    k = math.sqrt(blend.a / blend.b)
    return min(max(k, 1 / MATCH_LIMIT), MATCH_LIMIT)


def kept_db(measured: JoinMeasurement, mix: float, most_db: float) -> float:
    """Return the gain in dB of the changed sound with which the mix of it is as loud as the input.

    measured: the input and the changed sound, and their mean product. With g the gain and m the
    mix, m^2 g^2 b + 2 m (1 - m) g both + (1 - m)^2 a = a. 0 where nothing is heard, or nothing is
    changed; at most most_db, up or down.
    """
    a, b = measured.a, measured.b
    if a <= 0.0 or b <= 0.0 or a == b or mix <= 0.0:
        return 0.0
    both = measured.both * (1 - mix)
    root = both * both + mix * (2 - mix) * a * b
    gain = (math.sqrt(root) - both) / (mix * b)
    return min(max(20 * math.log10(gain), -most_db), most_db)


def gains(law: Law, x: float, blend: JoinMeasurement | None = None) -> tuple[float, float]:
    """Return the gains of the first and the second signal at position x, 0 to 1.

    steady: y = sqrt(Pa / P(x)) ((1 - x) a + x k b) with k = sqrt(Pa / Pb) and
    P(x) = (1 - x)**2 Pa + x**2 k**2 Pb + 2 x (1 - x) k Cab, so that y is as loud as the first
    at every position; without a measurement it is linear.
    """
    if law == "sum":
        return 1.0, 1.0
    if law == "equal-power":
        return math.cos(x * math.pi / 2), math.sin(x * math.pi / 2)
    if law == "linear" or blend is None or min(blend.a, blend.b) <= 0:
        return 1.0 - x, x
    k = match(blend)
    power = (1 - x) ** 2 * blend.a + x * x * k * k * blend.b + 2 * x * (1 - x) * k * blend.both
    gain = min(math.sqrt(blend.a / max(power, 1e-30)), GAIN_LIMIT)
    return gain * (1.0 - x), gain * x * k


def opposed(blend: JoinMeasurement) -> bool:
    """Say whether the two cancel so much that the steady law stops at its 6 dB on the way."""
    if blend.both >= 0:
        return False
    k = match(blend)
    for step in range(1, 20):
        x = step / 20
        power = (1 - x) ** 2 * blend.a + x * x * k * k * blend.b + 2 * x * (1 - x) * k * blend.both
        if blend.a > GAIN_LIMIT**2 * max(power, 0.0):
            return True
    return False
