"""The search for the highest ceiling that leaves no overs on any way out."""

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

STEP_DB = 0.1
LOWEST_DB = -12.0
MOST_TRIES = 14


@dataclass(frozen=True)
class Outcome:
    """What a ceiling gives on one way: how many overs, and how far the worst one goes, in dB.

    excess_db is below zero where there are none.
    """

    overs: int
    excess_db: float


@dataclass
class Ceiling:
    """The ceiling found in dB, None if even the lowest leaves overs; and every try."""

    found_db: float | None
    tries: dict[float, Mapping[str, Outcome]] = field(default_factory=dict)


def find_ceiling(
    measure: Callable[[float], Mapping[str, Outcome]],
    start_db: float,
    before: Mapping[str, Outcome],
) -> Ceiling:
    """Return the highest ceiling, to 0.1 dB, that was measured and left none.

    measure: gives the outcome of each way with a ceiling in dB. before: that of start_db. Coders
    answer a lower ceiling unevenly, so what is returned was tried itself, not computed.
    """
    result = Ceiling(None, {start_db: before})
    over_at, clear_at = start_db, None
    at = start_db
    worst = _worst(before)
    if worst <= 0:
        return Ceiling(start_db, result.tries)
    while clear_at is None and len(result.tries) < MOST_TRIES:
        at = _grid(min(at - STEP_DB, at - worst))
        if at < LOWEST_DB:
            if LOWEST_DB in result.tries:
                return result
            at = LOWEST_DB
        result.tries[at] = measure(at)
        worst = _worst(result.tries[at])
        if worst > 0:
            over_at = min(over_at, at)
            if at <= LOWEST_DB:
                return result
        else:
            clear_at = at
    while clear_at is not None and over_at - clear_at > 1.5 * STEP_DB:
        if len(result.tries) >= MOST_TRIES:
            break
        # What is left between the worst peak and the limit is nearly what can be given back.
        spare = -_worst(result.tries[clear_at])
        at = _grid(min(max(clear_at + spare, clear_at + STEP_DB), over_at - STEP_DB))
        if at in result.tries:
            at = _grid((clear_at + over_at) / 2)
            if at in result.tries:
                break
        result.tries[at] = measure(at)
        if _worst(result.tries[at]) > 0:
            over_at = at
        else:
            clear_at = at
    result.found_db = clear_at
    return result


def _worst(outcomes: Mapping[str, Outcome]) -> float:
    return max((o.excess_db for o in outcomes.values()), default=-math.inf)


def _grid(value: float) -> float:
    return round(math.floor(value / STEP_DB + 1e-6) * STEP_DB, 1)
