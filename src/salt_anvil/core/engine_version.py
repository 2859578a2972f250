"""The engine's number: it rises when the same session sounds different, and says what does."""

from typing import NamedTuple

from salt_anvil.core.session import Session, Stage, elements


class Change(NamedTuple):
    """What sounds different since an engine; kinds: of the stages that do, empty: anything."""

    since: int
    kinds: tuple[str, ...]
    words: str


BEFORE = 1
"""The engine of all that does not say one."""
CHANGES = (
    Change(2, ("saturator", "clipper", "enhancer"), "bends are level and fold less back"),
    Change(2, ("tone", "saturator"), "bands follow their analogue prototypes to 20 kHz"),
    Change(2, ("limiter",), "“heavy” heeds the release mode"),
    Change(2, ("transient",), "“keep peaks” holds the first hit, too"),
    Change(3, ("limiter", "clipper"), "true peaks are held by 256 taps"),
    Change(3, ("limiter",), "low notes are held from peak to peak"),
    Change(3, ("split",), "crossovers follow the analogue pair to 20 kHz"),
    Change(3, ("tone",), "linear phase is as long as its bands ask for"),
    Change(3, ("room",), "denser, with an even decay"),
    Change(3, ("compressor", "saturator"), "kept loudness is measured over the song"),
    Change(3, ("automation",), "without corners; a step takes 5 ms"),
    Change(4, ("compressor", "expander", "gate", "curve"), "peaks between the samples count, too"),
    Change(4, ("tone",), "bands that move by level have no ripple on low notes"),
    Change(4, ("limiter", "clipper"), "a second wall holds what a fast gain raises"),
    Change(4, ("saturator", "compressor"), "no thump where a note begins in an even bend"),
    Change(4, ("split",), "steady joins are gated as they are heard"),
)
ENGINE = max(change.since for change in CHANGES)


def changes_since(older: int, newer: int, session: Session) -> list[str]:
    """Return in words what of a session sounds different between two engines."""
    here = {"automation"} if session.automation or session.levers else set()
    for strip in session.strips:
        here |= {e.kind if isinstance(e, Stage) else "split" for e in elements(strip.chain)}
    found = []
    for change in CHANGES:
        if older < change.since <= newer and here.intersection(change.kinds):
            named = ", ".join(kind for kind in change.kinds if kind in here)
            found.append(f"engine {change.since}: {named}: {change.words}")
    return found
