"""Parameters that several processors have, declared once."""

from typing import Any, Literal

from salt_anvil.core.processors.base import choice, number

QUARTERS = (0, 0.25, 0.5, 0.75, 1)
EACH = "1: the louder channel decides for both; 0: each for itself."
Quality = Literal["plain", "good", "high", "best"]
Stereo = Literal["left-right", "mid-side"]
Detector = Literal["peak", "rms"]
LinkBy = Literal["whole", "parts"]


def detector() -> Any:
    """Declare what a detector listens to."""
    return choice("peak", label="Detector", doc="Listens to peaks or to the root mean square.")


def rms_time() -> Any:
    """Declare the time over which a detector takes the mean square."""
    return number(
        10,
        1,
        300,
        label="RMS time",
        unit="ms",
        scale="log",
        marks=(1, 10, 100, 300),
        when={"detector": ["rms"]},
        doc="Time constant of the mean square.",
    )


def share(default: float, *, label: str, doc: str) -> Any:
    """Declare a share from 0 to 1."""
    return number(default, 0, 1, label=label, unit="", step=0.01, marks=QUARTERS, doc=doc)


def link(doc: str = EACH) -> Any:
    """Declare how much the channels go together."""
    return share(1, label="Link", doc=doc)


PARTS = {"link_by": ["parts"]}


def link_by() -> Any:
    """Declare whether the channels go together in all, or in parts that are set."""
    return choice(
        "whole",
        label="Link by",
        doc="The channels go together in the whole sound, or in parts: what lasts, hits, a range.",
    )


def link_hits() -> Any:
    """Declare how much the channels go together in what does not last."""
    return number(
        0,
        0,
        1,
        label="Link of hits",
        unit="",
        step=0.01,
        marks=QUARTERS,
        when=PARTS,
        doc="How much the channels go together in what lasts under 60 ms; link is for the rest.",
    )


def link_edge(end: str) -> Any:
    """Declare an end of the range of what the channels go together in."""
    return number(
        None,
        20,
        20000,
        label=f"Link {'from' if end == 'low' else 'to'}",
        unit="Hz",
        scale="log",
        step=1,
        change="switch",
        marks=(20, 200, 2000, 20000),
        when=PARTS,
        doc=f"{'Low' if end == 'low' else 'High'} end of what one channel hears of the other; open:"
        " all of it.",
    )


def lookahead(doc: str, when: dict[str, list[str]] | None = None) -> Any:
    """Declare a look-ahead of 0 to 20 ms; none by itself."""
    return number(
        0,
        0,
        20,
        label="Look-ahead",
        unit="ms",
        step=0.1,
        change="structural",
        marks=(0, 5, 10, 15, 20),
        when=when,
        doc=doc,
    )


def given_back(most_db: float, when: dict[str, list[str]] | None = None) -> Any:
    """Declare the gain that keeps the loudness; left open, it is measured over the whole song."""
    return number(
        None,
        -most_db,
        most_db,
        label="Given back",
        unit="dB",
        scale="db",
        marks=(-most_db, 0, most_db),
        when=when,
        doc="The gain that keeps the loudness; open: measured.",
    )


def knee() -> Any:
    """Declare the width of a bend around a threshold."""
    return number(
        6,
        0,
        24,
        label="Knee",
        unit="dB",
        marks=(0, 6, 12, 18, 24),
        doc="Width of the bend around the threshold.",
    )


def makeup(label: str, doc: str) -> Any:
    """Declare a gain of -24 to 24 dB behind what is done."""
    return number(
        0, -24, 24, label=label, unit="dB", scale="db", marks=(-24, -12, 0, 12, 24), doc=doc
    )


def quality(default: Quality) -> Any:
    """Declare how much is done against fold-back."""
    return choice(
        default,
        label="Quality",
        doc="Against fold-back: at the rate itself, or at 8, 16 or 32 times the rate.",
    )


def stereo(doc: str = "Works on left and right, or on middle and sides.") -> Any:
    """Declare whether it works on left and right, or on middle and sides."""
    return choice("left-right", label="Stereo", doc=doc)
