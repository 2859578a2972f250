"""The kernels' logarithm and exponential against numpy's; compiled and not."""

import numpy as np
import pytest

from salt_anvil.core.dsp import decibel


@pytest.mark.parametrize("compiled", [True, False])
def test_log2_against_numpy(compiled: bool) -> None:
    kernel = decibel.log2_into if compiled else decibel.log2_into.py_func
    values = 10 ** np.linspace(-15, 3, 64)
    work, scratch = values.copy(), np.empty(64)
    kernel(work, scratch, 64, decibel.DB_PER_OCTAVE)
    # 1e-10 dB is what the design asks of the polynomial.
    assert np.abs(work - 20 * np.log10(values)).max() < 1e-10


@pytest.mark.parametrize("compiled", [True, False])
def test_exp2_against_numpy(compiled: bool) -> None:
    kernel = decibel.exp2_into if compiled else decibel.exp2_into.py_func
    octaves = np.linspace(-20, 8, 64)
    work, scratch = octaves.copy(), np.empty(64, np.int64)
    kernel(work, scratch, 64)
    # 1e-11 relative is 1e-10 dB.
    assert np.abs(work / 2**octaves - 1).max() < 1e-11


def test_exp2_of_zero_is_exactly_one() -> None:
    work = np.zeros(4)
    decibel.exp2_into(work, np.empty(4, np.int64), 4)
    assert (work == 1.0).all()


def test_levels_of_known_amplitudes() -> None:
    assert decibel.to_db(1.0) == 0.0
    assert decibel.to_db(0.5) == pytest.approx(-6.0206, abs=1e-4)
    assert decibel.to_gain(-20.0) == pytest.approx(0.1)
    assert decibel.to_db(0.0) == pytest.approx(decibel.SILENCE_DB)
    assert decibel.power_to_db(0.5) == pytest.approx(-3.0103, abs=1e-4)
