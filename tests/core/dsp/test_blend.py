"""Laws of the join, against their closed forms."""

import math

import numpy as np
import pytest

from salt_anvil.core.dsp.blend import (
    GAIN_LIMIT,
    MATCH_LIMIT,
    JoinMeasurement,
    gains,
    kept_db,
    match,
    opposed,
    wander,
)

even = JoinMeasurement.even
TRAVEL = np.linspace(0, 1, 21)


@pytest.mark.parametrize(
    "blend",
    [
        even(1, 1, 1),
        even(1, 1, 0),
        even(1, 0.01, 0.05),
        even(0.02, 1, 0),
        even(1, 1, -0.4),
    ],
)
def test_steady_keeps_the_first_signal_s_power(blend: JoinMeasurement) -> None:
    for x in TRAVEL:
        found = blend.power(*gains("steady", float(x), blend))
        assert found == pytest.approx(blend.a, rel=1e-9)


def test_steady_leaves_identical_branches_alone() -> None:
    for x in TRAVEL:
        assert sum(gains("steady", float(x), even(0.3, 0.3, 0.3))) == pytest.approx(1)


def test_steady_stays_within_its_limits() -> None:
    assert match(even(1, 1e-6, 0)) == pytest.approx(MATCH_LIMIT)
    against = even(1, 1, -0.99)
    assert opposed(against)
    assert not opposed(even(1, 1, 0))
    assert not opposed(even(1, 1e-6, 0))
    a, b = gains("steady", 0.5, against)
    assert a == pytest.approx(0.5 * GAIN_LIMIT)
    assert b == pytest.approx(0.5 * GAIN_LIMIT)


@pytest.mark.parametrize("blend", [None, even(0, 0, 0), even(1, 0, 0)])
def test_without_a_measurement_steady_is_linear(blend: JoinMeasurement | None) -> None:
    assert gains("steady", 0.3, blend) == gains("linear", 0.3) == pytest.approx((0.7, 0.3))


def test_equal_power_and_sum() -> None:
    for x in TRAVEL:
        a, b = gains("equal-power", float(x))
        assert a * a + b * b == pytest.approx(1)
    assert gains("equal-power", 0.5)[0] == pytest.approx(math.sqrt(0.5))
    assert gains("sum", 0.2) == (1, 1)


def test_own_gains_scale_the_measurement() -> None:
    assert even(1, 2, 0.5).scaled(2, 3) == even(4, 18, 3)


def test_what_cancels_wholly_gives_no_gain_that_is_no_number() -> None:
    """Opposed and as loud: whatever the gain, nothing is left at half of each."""
    against = JoinMeasurement.of(np.tile([[1.0, 1.0, -1.0]], (20, 1)))
    for mix in (0.1, 0.5, 0.9, 1.0):
        assert np.isfinite(kept_db(against, mix, 24.0))
    # Differences of running sums may lie under 0.
    below = JoinMeasurement.of(np.tile([[1.0, -1e-9, 0.0]], (20, 1)))
    assert wander(below, 0.5) == (0.0, 0)
    mixed = np.tile([[1.0, 1.0, 0.5]], (60, 1))
    mixed[:30, 1:] = -1e-9
    assert np.isfinite(wander(JoinMeasurement.of(mixed), 0.5)[0])
