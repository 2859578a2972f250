"""From what a scan found to the places of a tamer; what was set by hand before is kept."""

import math
from typing import NamedTuple

from salt_anvil.core.processors.tamer import MOST, Place
from salt_anvil.core.resonances.scan import SAME_OCTAVES, Resonance

DEPTH_SHARE = 0.7
"""Of what stands over, so much is taken at most, until a hand sets it."""
CHANGED_DB = 1.0


class Merged(NamedTuple):
    """The places after a scan, and in words what is new, gone, louder or softer."""

    places: tuple[Place, ...]
    words: str
    new: tuple[float, ...]


def place_of(found: Resonance) -> Place:
    """Return the place of a resonance, with the depth to begin with."""
    depth = round(2 * DEPTH_SHARE * found.over_db) / 2
    return Place(
        hz=round(found.hz),
        width_oct=round(min(max(found.width_oct, 0.03), 1.5), 3),
        over_db=round(min(found.over_db, 20.0), 1),
        depth_db=min(depth, 18.0),
        time_share=round(found.share, 3),
    )


def merged(before: tuple[Place, ...], found: tuple[Resonance, ...]) -> Merged:
    """Put what was found in the place of what was there.

    A place that is found again keeps its switch, width and depth, and gets what was measured.
    """
    left = list(before)
    places: list[Place] = []
    new: list[float] = []
    said: list[str] = []
    for resonance in found:
        fresh = place_of(resonance)
        old = min(left, key=lambda p: abs(math.log2(p.hz / resonance.hz)), default=None)
        if old is None or abs(math.log2(old.hz / resonance.hz)) > SAME_OCTAVES:
            places.append(fresh)
            new.append(fresh.hz)
            if before:
                said.append(f"{_hertz(fresh.hz)} is new")
            continue
        left.remove(old)
        change = fresh.over_db - old.over_db
        if abs(change) >= CHANGED_DB:
            how = "rose" if change > 0 else "fell"
            said.append(f"{_hertz(fresh.hz)} {how} by {abs(change):.1f} dB")
        kept = {"on": old.on, "width_oct": old.width_oct, "depth_db": old.depth_db}
        places.append(fresh.model_copy(update=kept))
    said += [f"{_hertz(place.hz)} is gone" for place in left]
    ordered = tuple(sorted(places, key=lambda p: p.hz))[:MOST]
    words = ""
    if before:
        words = f"Since the scan before: {', '.join(said) or 'nothing changed'}."
    return Merged(ordered, words, tuple(new))


def _hertz(hz: float) -> str:
    return f"{hz:,.0f} Hz".replace(",", " ")
