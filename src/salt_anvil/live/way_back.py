"""Places between the ear and what was sent last, to which play goes back for a change.

With much time ahead a change would be heard late, where the sound that is ready ends. So sound is
computed once more from near the ear on, for the strip listened to and for what follows from it; all
others are as they were.
"""

import time
from typing import NamedTuple

from salt_anvil.core.engine.bypass_mix import BypassMix
from salt_anvil.core.engine.mixer import Mark
from salt_anvil.core.engine.plan import Plan, StripPlan
from salt_anvil.live.reports import Measured

DEEP_MS = 120.0
"""With more time ahead than this, going back is worth remembering places for."""
NEAR_MS, SHARE_NEAR = 80.0, 0.1
"""So far ahead of the ear it goes back at least, or such a share of the time ahead: what is
computed anew has to get there first."""
FIRST_AGAIN = 2
"""Blocks that are computed in one go where the ear is that near."""
SHARE_BACK = 0.15
"""Going back takes no more than so much of the time."""


class Waypoint(NamedTuple):
    """Where play stood before a block: frames sent, the song's frame, and all that goes on."""

    sent: int
    frame: int
    mark: Mark
    shadow: BypassMix | None
    measured: Measured


class WayBack:
    """The places, in order; and how long ago play went back last."""

    def __init__(self) -> None:
        self.places: list[Waypoint] = []
        self.late = False
        """A change waits for going back: it was only made where the sound that is ready ends."""
        self._went = self._took_ms = 0.0
        self._until = 0

    def clear(self) -> None:
        """Go back no more to what was before."""
        self.places.clear()
        self.late = False
        self._until = 0

    def let_go(self, played: int) -> None:
        """Forget what lies behind the ear."""
        while len(self.places) > 1 and self.places[1].sent <= played:
            self.places.pop(0)

    def at(self, sent: int) -> Waypoint | None:
        """Return the place where so much has been sent, if it is one."""
        last = self.places[-1] if self.places else None
        return last if last is not None and last.sent >= sent else None

    def nearest(self, played: int, ahead_ms: float, rate: int) -> Waypoint | None:
        """Return the first place that is far enough ahead of the ear."""
        near = played + max(NEAR_MS, SHARE_NEAR * ahead_ms) * rate / 1000
        return next((place for place in self.places if place.sent >= near), None)

    def catching_up(self, sent: int) -> bool:
        """Say whether less has been sent than before play went back."""
        return sent < self._until

    def took(self, ms: float) -> None:
        """Note how long something took that came once more."""
        self._took_ms += ms

    @property
    def free(self) -> bool:
        """Whether going back now leaves time for what else there is to do."""
        return 1000 * SHARE_BACK * (time.monotonic() - self._went) >= self._took_ms

    def go(self, to: Waypoint, sent: int) -> None:
        """Note that play goes back to a place, when so much had been sent."""
        self._went, self._took_ms, self._until = time.monotonic(), 0.0, sent
        del self.places[self.places.index(to) + 1 :]


def glides(old: Plan, new: Plan, names: set[str]) -> bool:
    """Say whether a change leaves the wiring, and all strips but these, as they are."""
    if (old.rate, old.frames) != (new.rate, new.frames) or not same_wiring(old, new):
        return False
    touched = {s.strip.id for s in new.strips if not _gives_like(old.strip(s.strip.id), s)}
    return touched <= names


def goes_on_like(old: Plan, new: Plan) -> bool:
    """Say whether all strips, which are the same, give what they gave."""
    return all(
        s.strip.id in old.digests and _gives_like(old.strip(s.strip.id), s) for s in new.strips
    )


def _gives_like(old: StripPlan, new: StripPlan) -> bool:
    """Say whether a strip gives, on all its ways, what it gave."""
    return new.runs_like(old) and new.routes == old.routes


def same_wiring(a: Plan, b: Plan) -> bool:
    """Say whether runners of one plan can go on in the other."""

    def wiring(plan: Plan) -> list[object]:
        return [
            (
                s.strip.id,
                [(r.strip, r.name) for r in s.feeds],
                s.graph.outside,
                [(n.name, n.inputs, n.late) for n in s.graph.nodes],
            )
            for s in plan.strips
        ]

    return wiring(a) == wiring(b)
