"""Gains that make several things equally loud: the louder is easily mistaken for the better."""

from collections.abc import Sequence

from salt_anvil.core.measure.rows import Figures

QUIETEST_LUFS = -60.0
"""What is quieter is no measure for the others."""
HIGHEST_DBTP = -1.0
"""Nothing that is heard alone at the same loudness peaks above this (EBU R 128)."""


def equal_loudness(
    measured: Sequence[Figures | None], *, peaks: bool = True
) -> tuple[list[float | None], float]:
    """Return the gain of each in dB, and by how much all went down further for their peaks.

    All come down to the quietest; nothing is turned up. None: it is not measured, or silent.
    peaks: no true peak passes HIGHEST_DBTP in doing so.
    """
    levels = [f.integrated_lufs if f else None for f in measured]
    levels = [x if x is not None and x > QUIETEST_LUFS else None for x in levels]
    quietest = min((x for x in levels if x is not None), default=0.0)
    gains = [None if x is None else quietest - x for x in levels]
    highest = [
        f.true_peak_dbtp + gain
        for f, gain in zip(measured, gains, strict=True)
        if f and gain is not None and f.true_peak_dbtp is not None
    ]
    lowered = min(0.0, HIGHEST_DBTP - max(highest, default=HIGHEST_DBTP)) if peaks else 0.0
    return [None if gain is None else gain + lowered for gain in gains], lowered
