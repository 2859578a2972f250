"""What is drawn for a processor's settings: one model a kind; those that look alike share parts."""

from pydantic import BaseModel, ConfigDict

Line = list[tuple[float, float]]


class Drawing(BaseModel):
    """Nothing to draw; the base of all others."""

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)


class LevelCurve(Drawing):
    """Level in against level out in dB; bare: without make-up."""

    curve: Line
    bare: Line


class Shaper(Drawing):
    """Amplitude in against amplitude out."""

    shaper: Line


class Responses(Drawing):
    """Responses in dB at frequencies in Hz: each band's, and what those of a channel come to.

    late_ms: latency that linear phase costs; near: what they come to is what they should.
    """

    hz: list[float]
    each: list[list[float]]
    totals: dict[str, list[float]]
    late_ms: float | None = None
    near: bool = True


class Harmonics(Drawing):
    """Levels in dB of the fundamental and its harmonics, at a peak of shown_db."""

    harmonics_db: list[float]
    shown_db: float
