"""Weighted sums: against numpy, in pieces of any length, from any places."""

from typing import Any

import numpy as np
import pytest

from salt_anvil.core.compiled import kernel
from salt_anvil.core.dsp.fir import TOGETHER, TOGETHER_ALONE, run, sum_into, tops
from tests.conftest import noise


def summed(line: np.ndarray, weights: np.ndarray, places: np.ndarray | None = None) -> np.ndarray:
    """The sums alone; found together with those of the weights turned round, they are the same."""
    places = np.arange(len(weights)) if places is None else places
    line, weights = line.astype(np.float32), weights.astype(np.float32)
    count, both = len(line) - int(places.max()), np.stack([weights, weights[::-1]])
    found = []
    for to in ((0, 0), (count, 0)):
        room = np.concatenate([line, np.full(2 * count, np.float32(np.nan))])
        sum_into(room, len(line) + np.array(to), count, places, both, 0, len(weights))
        assert (room[: len(line)] == line).all()
        found.append(room[len(line) + to[0] :][:count])
    assert (found[0] == found[1]).all()
    return found[0]


@pytest.mark.parametrize("count", [1, 7, TOGETHER - 1, TOGETHER, TOGETHER_ALONE, 1024])
@pytest.mark.parametrize("taps", [1, 16, 48])
def test_sums_are_those_of_numpy(count: int, taps: int) -> None:
    weights, line = noise(taps, 1)[:, 0].copy(), noise(count + taps - 1, 1)[:, 0].copy()
    assert summed(line, weights) == pytest.approx(np.correlate(line, weights, "valid"), abs=1e-5)


def test_a_sum_is_the_same_to_the_bit_wherever_it_stands() -> None:
    weights, line = noise(48, 1)[:, 0].copy(), noise(1000, 1)[:, 0].copy()
    whole = summed(line, weights)
    for size in (1, 5, TOGETHER, TOGETHER_ALONE + 1, 333):
        pieces = [
            summed(line[at : at + min(size, len(whole) - at) + 47], weights)
            for at in range(0, len(whole), size)
        ]
        assert (np.concatenate(pieces) == whole).all()


def test_places_may_stand_anywhere() -> None:
    line, places = noise(700, 1)[:, 0].copy(), np.array([400, 3, 250, 3, 0])
    weights = np.array([0.5, -1.0, 2.0, 4.0, 0.25])
    wanted = sum(w * line[p : p + 300] for w, p in zip(weights, places, strict=True))
    assert summed(line, weights, places) == pytest.approx(wanted, abs=1e-5)


def test_some_of_the_weights_alone() -> None:
    room = np.concatenate([noise(100, 1)[:, 0], np.zeros(100)]).astype(np.float32)
    places, weights = np.arange(10), noise(10).T.astype(np.float32, order="C")
    sum_into(room, np.array([100, 150]), 50, places, weights, 3, 7)
    for row, begin in zip(weights, (100, 150), strict=True):
        wanted = np.correlate(room[3:56], row[3:7], "valid")
        assert room[begin : begin + 50] == pytest.approx(wanted, abs=1e-5)


_single, _double = run(3, 16, single=True), run(3, 8)
_tops = tops(3, 7, 16)


@kernel
def _single_into(room: np.ndarray, weights: np.ndarray, out: np.ndarray, to: int, at: int) -> None:
    _single(room, weights, out, to, at)


@kernel
def _double_into(room: np.ndarray, weights: np.ndarray, out: np.ndarray, to: int, at: int) -> None:
    _double(room, weights, out, to, at)


@kernel
def _tops_into(
    most: np.ndarray, to: int, line: np.ndarray, places: np.ndarray, at: int, weights: np.ndarray
) -> None:
    _tops(most, to, line, places, at, weights)


@pytest.mark.parametrize("taps", [32, 33, 100])
@pytest.mark.parametrize(
    ("run_into", "kind", "sums", "near"),
    [(_single_into, np.float32, 48, 1e-5), (_double_into, np.float64, 24, 1e-12)],
)
def test_a_run_of_sums_is_that_of_numpy(
    run_into: Any, kind: type, sums: int, near: float, taps: int
) -> None:
    """At the ends of the run a value is part of some of the sums only."""
    weights, line = noise(taps, 1)[:, 0].astype(kind), noise(160, 1)[:, 0].astype(kind)
    out = np.full(60, np.nan, kind)
    run_into(line, weights, out, 5, 9)
    wanted = np.correlate(line[9 : 9 + sums + taps - 1].astype(np.float64), weights, "valid")
    assert out[5 : 5 + sums] == pytest.approx(wanted, abs=near)
    assert np.isnan(out[:5]).all()
    assert np.isnan(out[5 + sums :]).all()


def test_the_greatest_of_several_sums() -> None:
    weights = noise(21, 1)[:, 0].reshape(3, 7).astype(np.float32)
    line, most = noise(40, 1)[:, 0].astype(np.float32), np.zeros(40, np.float32)
    most[20] = 50.0
    places = np.array([12, 0, 3, 3, 7, 18, 1])
    _tops_into(most, 11, line, places, 5, weights.ravel())
    values = line[5 + np.arange(16)[:, None] + places].astype(np.float64)
    rows = np.array([values @ w for w in weights])
    wanted = np.zeros(40)
    wanted[11:27] = np.abs(rows).max(axis=0)
    wanted[20] = 50.0
    assert most == pytest.approx(wanted, abs=1e-6)
