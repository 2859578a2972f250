"""A quarter of a period apart at every frequency: by scipy's transfer functions."""

import numpy as np
import pytest
from scipy import signal

from salt_anvil.core.dsp import quadrature as q


@pytest.mark.parametrize("rate", [44100, 48000, 96000, 192000])
def test_the_two_are_a_quarter_apart(rate: int) -> None:
    hz = np.geomspace(q.LOWEST_HZ, rate / 2 - q.LOWEST_HZ, 2000)
    _, whole = signal.freqz([0, 1], [1], hz, fs=rate)
    chains = [np.ones(len(hz), complex), whole]
    for s, c in enumerate(q.all_passes(rate)):
        chains[s % 2] = chains[s % 2] * signal.freqz([c, 0, -1], [1, 0, -c], hz, fs=rate)[1]
    assert np.abs(np.abs(np.angle(chains[0] / chains[1], deg=True)) - 90).max() < 7.0


@pytest.mark.parametrize("hz", [30.0, 440.0, 9000.0])
def test_the_envelope_of_a_tone_is_level(hz: float) -> None:
    line = 0.7 * np.sin(2 * np.pi * hz / 48000 * np.arange(48000))
    one, other = np.empty_like(line), np.empty_like(line)
    memory, at = np.zeros((q.SECTIONS + 1, 4)), 0
    for n in (1, 700, 5, 47294):
        here = slice(at, at + n)
        q.quarters_into(one[here], other[here], line[here], q.all_passes(48000), memory)
        at += n
    assert np.hypot(one, other)[24000:] == pytest.approx(0.7, rel=0.07)
