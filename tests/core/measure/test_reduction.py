"""One definition of reduction for chains and splits, against levels computed by hand."""

from typing import Any

import numpy as np
import pytest

from salt_anvil.core.measure.reduction import (
    WINDOW,
    WholeReduction,
    inside,
    makeup_inside,
    stages_inside,
    together,
)
from salt_anvil.core.processors import Context
from salt_anvil.core.session import Strip, checked

CONTEXT = Context(48000, 2, 96)


def strip() -> Strip:
    def compressor(name: str, **params: float) -> dict[str, Any]:
        return {"id": name, "kind": "compressor", "params": params}

    bands = [
        {"id": f"band{i}", "name": str(i), "chain": [compressor(f"b{i}", makeup_db=6.0 * i)]}
        for i in range(4)
    ]
    split = {"id": "bands", "kind": "split", "by": "bands", "crossovers_hz": [100, 500, 4000],
             "branches": bands}  # fmt: skip
    chain = [compressor("first", makeup_db=3), split, compressor("off") | {"on": False}]
    return checked(Strip, {"id": "s", "name": "S", "kind": "track", "chain": chain})


def reported(name: str) -> np.ndarray:
    return np.full(100, {"first": 4.0, "b0": 12.0, "b1": 19.0, "b2": 1.5, "b3": 1.0}.get(name, 0.0))


def test_in_a_row_they_add_up_and_side_by_side_the_most_counts() -> None:
    """Four bands that take 12, 19, 1.5 and 1 dB never take 33.5 dB."""
    chain = strip().chain
    assert together(inside(chain, "bands"), reported, 100).max() == 19.0
    assert together(chain, reported, 100).max() == 23.0
    assert together(inside(chain, "band0"), reported, 100).max() == 12.0
    assert together(inside(chain, "first"), reported, 100).max() == 4.0


def test_what_stands_at_a_place() -> None:
    chain = strip().chain
    assert [e.id for e in inside(chain, "chain")] == ["first", "bands", "off"]
    assert [s.id for s in stages_inside(chain, "bands")] == ["b0", "b1", "b2", "b3"]
    assert [s.id for s in stages_inside(chain, "off")] == []
    # One after the other gains add up; branches by their mean power.
    mean = 10 * np.log10(np.mean(10 ** (np.array([0, 6, 12, 18]) / 10)))
    assert makeup_inside(chain, CONTEXT) == pytest.approx(3 + mean)


@pytest.mark.parametrize(("gain_db", "makeup", "taken"), [(-9.0, 0.0, 9.0), (-5.0, 4.0, 9.0)])
def test_it_is_the_difference_of_the_levels_with_the_make_up_apart(
    gain_db: float, makeup: float, taken: float
) -> None:
    power = np.full(200, 0.01)
    found = WholeReduction().feed(power, power * 10 ** (gain_db / 10), makeup, np.full(200, 30.0))
    assert found[WINDOW:] == pytest.approx(taken)


def test_what_does_not_reduce_takes_nothing() -> None:
    power = np.full(200, 0.01)
    low_cut = WholeReduction().feed(power, power * 0.1, 0.0, np.zeros(200))
    louder = WholeReduction().feed(power, power * 4, 0.0, np.full(200, 6.0))
    silent = WholeReduction().feed(power * 0, power * 0, 0.0, np.full(200, 6.0))
    assert not low_cut.any()
    assert not louder.any()
    assert not silent.any()


def test_in_pieces_it_is_the_same() -> None:
    random = np.random.default_rng(1)
    before, after = random.uniform(0, 0.1, (2, 500))
    most = random.uniform(0, 20, 500)
    whole = WholeReduction().feed(before, after, 2.0, most)
    meter, parts, at = WholeReduction(), [], 0
    for size in (1, 16, 3, 100, 380):
        piece = slice(at, at + size)
        parts.append(meter.feed(before[piece], after[piece], 2.0, most[piece]))
        at += size
    assert np.concatenate(parts) == pytest.approx(whole, abs=1e-9)
