"""The search, against ways whose answer is known."""

import math

import pytest

from salt_anvil.core.delivery.ceiling import LOWEST_DB, Outcome, find_ceiling


def way(adds: float, limit: float = 0.0):  # type: ignore[no-untyped-def]
    """A way that adds so many dB to the ceiling."""

    def outcome(ceiling: float) -> Outcome:
        excess = ceiling + adds - limit
        return Outcome(math.ceil(max(excess, 0) * 20), excess)

    return outcome


@pytest.mark.parametrize("adds", [0.05, 0.31, 1.3, 2.39, 5.0, 9.94])
@pytest.mark.parametrize("start", [-0.1, -1.0, 0.4])
def test_the_highest_clear_ceiling(adds: float, start: float) -> None:
    ways = {"a": way(adds), "b": way(adds / 2)}

    def measure(ceiling: float) -> dict[str, Outcome]:
        return {n: w(ceiling) for n, w in ways.items()}

    found = find_ceiling(measure, start, measure(start))
    expected = min(start, math.floor(-adds * 10 + 1e-9) / 10)
    assert found.found_db is not None
    assert found.found_db == pytest.approx(expected, abs=0.051)
    assert max(o.excess_db for o in found.tries[found.found_db].values()) <= 0
    assert len(found.tries) <= 5


def test_a_way_that_answers_unevenly_ends_on_a_ceiling_that_was_tried_and_clear() -> None:
    def measure(ceiling: float) -> dict[str, Outcome]:
        excess = ceiling + 1.0 + 0.4 * math.sin(31 * ceiling)
        return {"a": Outcome(int(excess > 0), excess)}

    found = find_ceiling(measure, -0.1, measure(-0.1))
    assert found.found_db is not None
    assert found.tries[found.found_db]["a"].excess_db <= 0
    assert -1.5 < found.found_db < -0.5


def test_clear_from_the_start_and_never_clear() -> None:
    assert find_ceiling(lambda c: {}, -1, {"a": Outcome(0, -0.2)}).found_db == -1
    # What does not follow the ceiling at all, as a coder that adds a peak of its own.
    found = find_ceiling(lambda c: {"a": Outcome(3, 0.5)}, -1, {"a": Outcome(3, 0.5)})
    assert found.found_db is None
    assert min(found.tries) >= LOWEST_DB
