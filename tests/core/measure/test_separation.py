"""Marks for a gate: constructed levels, whose margins are known."""

import numpy as np
import pytest

from salt_anvil.core.measure.separation import RANGES, Range, separation

RATE, CELLS = 48000, 7500


def levels_with(peaks: dict[Range, tuple[float, float]]):  # type: ignore[no-untyped-def]
    """Hits to keep at 2 and 6 s, to refuse at 4 and 8 s, over a floor of -70 dB."""

    def levels(where: Range) -> np.ndarray:
        kept, refused = peaks.get(where, (-30.0, -30.0))
        out = np.full(CELLS, -70.0)
        for second, level in ((2, kept), (4, refused), (6, kept + 2), (8, refused - 3)):
            out[second * 750 : second * 750 + 40] = level
        return out

    return levels


KEEP, REFUSE = [2 * RATE + 3000, 6 * RATE], [4 * RATE, 8 * RATE - 2000]


def test_the_open_key_is_preferred_where_it_does() -> None:
    found = separation(levels_with({(None, None): (-20, -32), (None, 150): (-20, -34)}), KEEP,
                       REFUSE, RATE)  # fmt: skip
    assert (found.low_hz, found.high_hz, found.problem) == (None, None, None)
    assert found.margin_db == pytest.approx(12)
    assert -32 < found.threshold_db < -20
    assert found.hysteresis_db == 6


def test_a_range_that_tells_them_apart_is_found() -> None:
    found = separation(levels_with({(60, 250): (-22, -40)}), KEEP, REFUSE, RATE)
    assert (found.low_hz, found.high_hz) == (60, 250)
    assert found.margin_db == pytest.approx(18)
    assert -40 < found.threshold_db < -22


def test_what_cannot_be_told_apart_is_said() -> None:
    found = separation(levels_with(dict.fromkeys(RANGES, (-30, -29))), KEEP, REFUSE, RATE)
    assert found.problem is not None
    assert "-1.0 dB" in found.problem


def test_without_any_to_refuse_it_stands_over_the_floor() -> None:
    found = separation(levels_with({(None, None): (-20, -70)}), KEEP, [], RATE)
    assert found.problem is None
    assert found.threshold_db == -32
