"""How far sound is computed ahead of the ear: little at rest, more as soon as it comes late."""

import math
import time
from collections.abc import Callable

CHOICES_MS = (40, 80, 160, 320, 640)
"""What can be chosen by hand instead."""
LEAST_MS = 60.0
START_MS = 240.0
"""A page and an engine that have just begun have more to do than later."""
MOST_MS = 1000.0
GROWTH, SHRINKING = 1.5, 0.8
QUIET_S, MOST_QUIET_S = 5.0, 60.0
"""So long without lateness, and the time ahead shrinks a step; twice as long after each one."""
GROW_EVERY_S = 0.25
LATE_SHARE = 0.35
"""What is left of the time ahead when sound counts as late."""
BELIEF = 0.15
"""How much of the difference to what was known is believed each time."""
EMPTY_MS = 15.0
FILL_S = 1.0
"""So long the time ahead may take to fill before play counts as behind."""
CALM_S = 3.0
"""So long after the last lateness play still counts as behind."""


class Pace:
    """Remembers how long so many blocks take that are computed in one go."""

    def __init__(self) -> None:
        self._usual: dict[int, float] = {}
        self._slow: dict[int, float] = {}

    def note(self, count: int, ms: float) -> None:
        """Take how long so many blocks took, in milliseconds."""
        known = self._usual.get(count, ms)
        self._usual[count] = usual = known + BELIEF * (ms - known)
        # What was slow is believed at once, and forgotten by and by.
        known = self._slow.get(count, ms)
        self._slow[count] = max(ms, known + BELIEF * (usual - known))

    def usual_ms(self, count: int) -> float:
        """Return how long so many take on the average; infinite where nothing is known."""
        return _expected(self._usual, count)

    def slow_ms(self, count: int) -> float:
        """Return how long so many may take, by what was slow of late."""
        return _expected(self._slow, count)

    def most(self, within_ms: float, limit: int) -> int:
        """Return how many blocks, from 1 to a limit, are surely ready within so long."""
        for count in range(limit, 1, -1):
            if self.slow_ms(count) <= within_ms:
                return count
        return 1


def _expected(known: dict[int, float], count: int) -> float:
    """Return how long so many take: more in one go take no longer each."""
    return min((ms * max(count / n, 1.0) for n, ms in known.items()), default=math.inf)


class TimeAhead:
    """Watches how much sound is ready and decides how much there should be."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._automatic = START_MS
        self._quiet = QUIET_S
        self.chosen: int | None = None
        self._filled = False
        self._begun = self._shrunk = clock()
        self._grown = self._begun - GROW_EVERY_S
        self._late = -CALM_S

    @property
    def ms(self) -> float:
        """What is aimed at, in milliseconds."""
        return self._automatic if self.chosen is None else float(self.chosen)

    @property
    def behind(self) -> bool:
        """Whether play is late, or was a moment ago: everything else has to wait."""
        now = self._clock()
        filling = not self._filled and now - self._begun > FILL_S
        return filling or now - self._late < CALM_S

    def begin(self) -> None:
        """Start anew, as after a jump: nothing is ready, and that is not late."""
        self._filled = False
        self._begun = self._clock()

    def note(self, ready_ms: float, at_once_ms: float = 0.0) -> None:
        """Take how much sound is ready while it plays, and how much more is made in one go."""
        now = self._clock()
        if ready_ms + at_once_ms >= self.ms:
            self._filled = True
        if ready_ms < (LATE_SHARE * self.ms if self._filled else EMPTY_MS):
            if self._filled or now - self._begun > GROW_EVERY_S:
                self._note_late(now)
        elif self._filled and now - max(self._late, self._shrunk, self._begun) > self._quiet:
            self._automatic = max(LEAST_MS, SHRINKING * self._automatic)
            self._shrunk = now

    def strained(self) -> None:
        """Note that sound is hardly computed as fast as it is heard: with more time ahead, more of
        it is computed in one go, which is faster."""
        self._grow(self._clock())

    def missed(self) -> None:
        """Note that the ear has missed something."""
        self._note_late(self._clock())

    def _note_late(self, now: float) -> None:
        self._late = now
        self._grow(now)

    def _grow(self, now: float) -> None:
        if now - self._grown < GROW_EVERY_S:
            return
        self._grown = now
        self._filled = False
        self._begun = now
        self._automatic = min(MOST_MS, GROWTH * self._automatic)
        self._quiet = min(MOST_QUIET_S, 2 * self._quiet)
