"""Delivery targets: what a mix is measured against, and whether it is on target."""

from dataclasses import dataclass

from pydantic import Field

from salt_anvil.core.measure.rows import Figures
from salt_anvil.core.session import Model, Name


class Target(Model):
    """What is wanted of a mix; None is no limit.

    Loudness in LUFS with what it may miss it by in LU, true peak in dBTP, range in LU, the
    least peak-to-loudness in LU, the most of short-term and momentary loudness in LUFS.
    """

    name: Name
    note: str = Field("", max_length=400)
    loudness: float | None = Field(None, ge=-70, le=0)
    tolerance: float = Field(0.5, ge=0, le=10)
    true_peak: float | None = Field(None, ge=-20, le=6)
    least_range: float | None = Field(None, ge=0, le=40)
    most_range: float | None = Field(None, ge=0, le=40)
    least_peak_to_loudness: float | None = Field(None, ge=0, le=40)
    most_short_term: float | None = Field(None, ge=-70, le=6)
    most_momentary: float | None = Field(None, ge=-70, le=6)


SHIPPED = (
    Target(
        name="Online, loud",
        note="For song by song, where loud is wanted and nothing may go over after coding."
        " Common practice, no standard.",
        loudness=-12, tolerance=1, true_peak=-1, least_peak_to_loudness=9,
    ),
    Target(
        name="Online, turned to -14",
        note="Where the service turns everything to about -14 LUFS anyway. Common practice, no"
        " standard; -14 also stands in AES TD1008 (2021) as a service's own target for music,"
        " from memory.",
        loudness=-14, tolerance=1, true_peak=-1,
    ),
    Target(
        name="Broadcast, EBU R 128",
        note="EBU R 128 (2020): -23 LUFS, 0.5 LU either way for what is not live, -1 dBTP.",
        loudness=-23, tolerance=0.5, true_peak=-1,
    ),
    Target(
        name="Broadcast, short items",
        note="EBU R 128 s1 (2020), for up to 30 s: -23 LUFS and at most -18 LUFS short-term.",
        loudness=-23, tolerance=0.5, true_peak=-1, most_short_term=-18,
    ),
    Target(
        name="Spoken word online",
        note="Common practice for stereo; no standard.",
        loudness=-16, tolerance=1, true_peak=-1, most_range=10,
    ),
    Target(
        name="For a mastering room",
        note="Room left for whoever goes on with it. Common practice, no standard.",
        true_peak=-3, least_peak_to_loudness=11,
    ),
    Target(
        name="Only no overs",
        note="Any loudness; nothing over full scale between the samples.",
        true_peak=0,
    ),
)  # fmt: skip


@dataclass(frozen=True)
class TargetLine:
    """One figure against its target. wanted: in words; kept: None where there is no limit."""

    label: str
    unit: str
    measured: float | None
    wanted: str
    kept: bool | None


def judged(target: Target, found: Figures) -> list[TargetLine]:
    """Return each figure that can have a limit, beside it; 0.05 is forgiven, as it is shown."""
    t = target
    loud = None if t.loudness is None else (t.loudness - t.tolerance, t.loudness + t.tolerance)
    ranged = (t.least_range, t.most_range)
    words = "" if t.loudness is None else f"{_figure(t.loudness)} ± {t.tolerance:.1f}"
    most = _most
    return [
        _line("Loudness", "LUFS", found.integrated_lufs, words, loud or (None, None)),
        _line("True peak", "dBTP", found.true_peak_dbtp, *most(t.true_peak)),
        _line("Range", "LU", found.loudness_range_lu, _between(*ranged), ranged),
        _line(
            "Peak to loudness", "LU", found.peak_to_loudness_db,
            "" if t.least_peak_to_loudness is None else f"{t.least_peak_to_loudness:g} or more",
            (t.least_peak_to_loudness, None),
        ),
        _line("Short-term, most", "LUFS", found.short_term_max_lufs, *most(t.most_short_term)),
        _line("Momentary, most", "LUFS", found.momentary_max_lufs, *most(t.most_momentary)),
    ]  # fmt: skip


Limits = tuple[float | None, float | None]
FORGIVEN = 0.05


def _line(label: str, unit: str, measured: float | None, wanted: str, limits: Limits) -> TargetLine:
    low, high = limits
    if low is None and high is None:
        return TargetLine(label, unit, measured, "", None)
    inside = measured is not None and (
        (low is None or measured >= low - FORGIVEN)
        and (high is None or measured <= high + FORGIVEN)
    )
    # Silence is under every peak that is allowed.
    kept = inside or (measured is None and low is None)
    return TargetLine(label, unit, measured, wanted, kept)


def _most(limit: float | None) -> tuple[str, Limits]:
    return ("", (None, None)) if limit is None else (f"{_figure(limit)} at most", (None, limit))


def _between(low: float | None, high: float | None) -> str:
    if low is None:
        return "" if high is None else f"{high:g} at most"
    return f"{low:g} or more" if high is None else f"{low:g} to {high:g}"


def _figure(value: float) -> str:
    return f"{value:.1f}".replace("-", "−")
