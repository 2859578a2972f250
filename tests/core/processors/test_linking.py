"""What one channel's sound does to the other: by how long it lasts, and by where it lies.

A hit 14 dB over the threshold on the left pumps a quiet right by as much where both are linked; the
figures are closed forms of ratio and level. That 60 ms part hits from what lasts is common
practice, no source.
"""

from typing import Any

import numpy as np
import pytest

from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import Context
from tests.conftest import noise, sine
from tests.core.processors.test_contract import aligned, run, stage

RATE = 48000
SETTINGS: dict[str, dict[str, Any]] = {
    "compressor": {"threshold_db": -20, "ratio": 100, "knee_db": 0, "attack_ms": 1},
    "limiter": {"ceiling_db": -20, "lookahead_ms": 1, "character": "quick"},
}


def right_falls_by(kind: str, hz: float, ms: float, **params: Any) -> float:
    """Return by how many dB the right, 14 dB under the threshold, falls while the left is over."""
    left = np.zeros((RATE, 1))
    loud = sine(hz, ms / 1000, RATE, level_db=-6, channels=1)
    left[24000 : 24000 + len(loud)] = loud * np.hanning(len(loud))[:, None] ** 0.2
    right = sine(1000, 1.0, RATE, level_db=-34, channels=1)
    by = {"link_by": "parts"} if params else {}
    settings = SETTINGS[kind] | {"release_ms": 60} | by | params
    unit = Unit(stage(kind, settings), Context(RATE, 2))
    out, _ = aligned(unit, np.concatenate([left, right], axis=1))
    return float(-20 * np.log10(_envelope(out[:, 1]).min() / 10 ** (-34 / 20)))


def _envelope(line: np.ndarray) -> np.ndarray:
    """The tops of a 1 kHz tone over each of its periods."""
    whole = len(line) // 48 * 48
    return np.abs(line[:whole]).reshape(-1, 48).max(axis=1)[20:-20]


@pytest.mark.parametrize("kind", SETTINGS)
def test_hits_may_leave_the_other_side_alone(kind: str) -> None:
    hit = {"hz": 3000.0, "ms": 12.0}
    assert right_falls_by(kind, **hit) == pytest.approx(14, abs=0.5)
    assert right_falls_by(kind, **hit, link_hits=0.0) < 1.0
    half = right_falls_by(kind, **hit, link_hits=0.5)
    assert 1 < half < 10
    # What lasts takes the other side along, so that the image stands.
    lasting = {"hz": 3000.0, "ms": 400.0}
    assert right_falls_by(kind, **lasting, link_hits=0.0) == pytest.approx(14, abs=0.7)
    assert right_falls_by(kind, **lasting, link_hits=0.0, link=0.0) < 0.1


@pytest.mark.parametrize("kind", SETTINGS)
def test_only_a_range_may_be_heard_on_the_other_side(kind: str) -> None:
    lows = {"link_high_hz": 150.0, "link_hits": 1.0}
    assert right_falls_by(kind, 60.0, 200.0, **lows) == pytest.approx(14, abs=1.2)
    assert right_falls_by(kind, 3000.0, 200.0, **lows) < 0.3
    highs = {"link_low_hz": 1000.0, "link_hits": 1.0}
    assert right_falls_by(kind, 60.0, 200.0, **highs) < 0.3
    assert right_falls_by(kind, 6000.0, 200.0, **highs) == pytest.approx(14, abs=1.2)
    with pytest.raises(SettingError, match="low end"):
        right_falls_by(kind, 60.0, 20.0, link_low_hz=500.0, link_high_hz=100.0)


@pytest.mark.parametrize("kind", SETTINGS)
@pytest.mark.parametrize("link", [0.0, 0.4, 1.0])
def test_alike_in_hits_and_the_rest_is_the_plain_link(kind: str, link: float) -> None:
    """By its own way it comes to the same as where the levels are compared."""
    sound = noise(RATE, level=0.2, seed=4) * [1.0, 0.3]
    plain, alike = (
        run(Unit(stage(kind, SETTINGS[kind] | {"link": link} | more), Context(RATE, 2)), sound)[0]
        for more in ({}, {"link_by": "parts", "link_hits": link})
    )
    assert np.abs(plain - alike).max() < 1e-12


def test_the_ceiling_holds_whatever_is_linked() -> None:
    sound = noise(RATE, level=0.5, seed=9) * [1.0, 0.5]
    params = {"ceiling_db": -6, "link": 0.7, "link_by": "parts", "link_hits": 0.1,
              "link_high_hz": 300, "drive_db": 6}  # fmt: skip
    out, _ = run(Unit(stage("limiter", params), Context(RATE, 2)), sound)
    assert np.abs(out).max() <= 10 ** (-6 / 20)
