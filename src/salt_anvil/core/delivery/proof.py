"""What a proof tells: figures of a mix, of every way out, and of what is to be done."""

from dataclasses import dataclass

from pydantic import Field

from salt_anvil.core.delivery.inspection import Finding
from salt_anvil.core.delivery.overs import Over
from salt_anvil.core.delivery.targets import Target, TargetLine
from salt_anvil.core.delivery.ways import Way
from salt_anvil.core.measure.rows import Figures, difference
from salt_anvil.core.session import Model


class WayResult(Model):
    """What a way out does. error: why it could not be gone, and then nothing else counts.

    frames: of the decoded sound at its rate. loudness_lu: its loudness against the mix's.
    """

    way: Way
    name: str
    words: str
    rate: int = 0
    frames: int = 0
    sample_peak_dbfs: float | None = None
    true_peak_dbtp: float | None = None
    integrated_lufs: float | None = None
    loudness_lu: float | None = None
    overs: list[Over] = Field(default_factory=list)
    error: str | None = None


class SectionResult(Model):
    """A part of the song: its loudness and its true peak."""

    name: str
    begin: int
    end: int
    integrated_lufs: float | None
    true_peak_dbtp: float | None


class CeilingPoint(Model):
    """One try of the search: overs by way's name."""

    ceiling_db: float
    overs: dict[str, int]


class CeilingResult(Model):
    """The ceiling that leaves no overs. found_db: None if none does, for the reason in `problem`.

    verified: every way gone again with it. loudness_lu: what it costs, 0 or less. points: every
    try, the highest ceiling first. stage: the limiter that it is meant for, in words; None: one
    is put behind the chain.
    """

    now_db: float
    found_db: float | None
    stage: str | None
    problem: str | None = None
    verified: list[WayResult] = Field(default_factory=list)
    loudness_lu: float | None = None
    points: list[CeilingPoint] = Field(default_factory=list)


class Proof(Model):
    """A proof of a mix over a passage, as far as it has come.

    overview: peak (linear) of each column of the passage. limit_dbtp: what is over lies above it.
    """

    what: str
    rate: int
    begin: int
    end: int
    limit_dbtp: float
    figures: Figures
    as_it_stands: WayResult
    target: Target
    lines: list[TargetLine]
    sections: list[SectionResult]
    findings: list[Finding]
    looked_for: list[str]
    overview: list[float]
    ways: list[WayResult] = Field(default_factory=list)
    ceiling: CeilingResult | None = None
    seconds: float = 0.0


@dataclass(frozen=True)
class Verdict:
    """The verdict in a few words, and the reason in a sentence or two."""

    ready: bool
    title: str
    text: str


def verdict(proof: Proof) -> Verdict:
    """Return what a proof comes to, the gravest first: overs, a way not gone, the target."""
    gone = [proof.as_it_stands, *(w for w in proof.ways if w.error is None)]
    over = [w for w in gone if w.overs]
    off = [line for line in proof.lines if line.kept is False]
    if over:
        title = f"Not ready: over on {len(over)} of {len(gone)} ways out."
        return Verdict(False, title, " ".join([_mix_words(off), _added(proof), _remedy(proof)]))
    if off:
        line = off[0]
        measured = "nothing" if line.measured is None else _signed(line.measured)
        title = f"Not on target: {line.label.lower()} {measured} {line.unit}."
        text = f"{proof.target.name} wants {line.wanted}. No overs anywhere."
        return Verdict(False, title, f"{text} {_remedy(proof)}".strip())
    failed = [w for w in proof.ways if w.error is not None]
    if failed:
        title = f"Not proved on {len(failed)} of {len(proof.ways)} ways out."
        return Verdict(False, title, failed[0].error or "")
    return Verdict(True, "Ready.", f"On target, and no overs on {_count(len(proof.ways))}.")


def _count(ways: int) -> str:
    return "the one way out" if ways == 1 else f"all {ways} ways out"


def _mix_words(off: list[TargetLine]) -> str:
    if not off:
        return "The mix itself is on target;"
    return f"The mix misses its target ({', '.join(line.label.lower() for line in off)});"


def _added(proof: Proof) -> str:
    added = [
        difference(w.true_peak_dbtp, proof.as_it_stands.true_peak_dbtp)
        for w in proof.ways
        if w.error is None
    ]
    most = max((a for a in added if a is not None), default=0.0)
    return f"the ways out add up to {max(most, 0):.1f} dB."


def _remedy(proof: Proof) -> str:
    found = proof.ceiling
    if found is None:
        return ""
    if found.found_db is None:
        return found.problem or ""
    words = f"A ceiling of {_signed(found.found_db)} dB leaves no overs on any way out"
    if any(line.label == "True peak" and line.kept is False for line in proof.lines):
        words += " and keeps the target's true peak"
    words += "; verified by going every way again."
    if found.loudness_lu is not None:
        words += f" The mix comes out {abs(found.loudness_lu):.1f} LU quieter."
    return words


def _signed(value: float) -> str:
    return f"{value:.1f}".replace("-", "−")
