"""A stand-in for services that turn everything to one loudness: common practice, no source."""

from dataclasses import dataclass

from pydantic import Field

from salt_anvil.core.measure.rows import Figures
from salt_anvil.core.session import Model

CEILING_DBTP = -1.0
"""What its limiter, and the room that it leaves when it turns up without one, keep to."""


class Service(Model):
    """What it turns to, whether it turns up as well, and whether it limits when it does."""

    loudness: float = Field(-14.0, ge=-40, le=0)
    up: bool = True
    limits: bool = True


@dataclass(frozen=True)
class Played:
    """How it plays a mix: the gain in dB; what its limiter takes at most, in dB; the true peak."""

    gain_db: float
    limited_db: float
    true_peak_dbtp: float | None


def played(service: Service, mix: Figures) -> Played:
    """Return what a service would do to a mix; one without loudness is left as it is."""
    if mix.integrated_lufs is None or mix.true_peak_dbtp is None:
        return Played(0.0, 0.0, mix.true_peak_dbtp)
    gain = service.loudness - mix.integrated_lufs
    if gain > 0 and not service.up:
        gain = 0.0
    if gain > 0 and not service.limits:
        gain = min(gain, max(CEILING_DBTP - mix.true_peak_dbtp, 0.0))
    peak = mix.true_peak_dbtp + gain
    over = max(peak - CEILING_DBTP, 0.0) if gain > 0 and service.limits else 0.0
    return Played(gain, over, peak - over)
