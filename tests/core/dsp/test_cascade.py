"""Standing sections beside each other: what scipy gives, and the same however it is cut."""

import numpy as np
import pytest
from scipy import signal

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp import biquad
from salt_anvil.core.dsp.cascade import WEIGHTS, run_sections

FILTERS = [
    biquad.high_pass(20, 48000),
    biquad.low_pass(18000, 48000, 4.0),
    biquad.all_pass(300, 48000, 0.5),
    biquad.low_pass(90, 48000, 12.0),
    biquad.high_pass(5000, 48000),
]


def _noise(frames: int, channels: int) -> Sound:
    return np.random.default_rng(3).standard_normal((frames, channels))


def _by_state(section: Sound) -> Sound:
    """Return a section's weights from scipy's state space, whose order of states is ours."""
    a, b, c, d = signal.tf2ss(section[:3], np.concatenate([[1.0], section[3:]]))
    return np.array([*c[0], d[0, 0], *a[0], b[0, 0], *a[1], b[1, 0]])


@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("count", [1, 2, 3, 4, 5])
def test_a_cascade_is_that_of_scipy(count: int, channels: int) -> None:
    sound, sections = _noise(4000, channels), np.array(FILTERS[:count])
    out = np.empty_like(sound)
    biquad.filter_into(out, sound, sections, np.zeros((count, channels, 2)))
    whole = np.insert(sections, 3, 1.0, axis=1)
    np.testing.assert_allclose(out, signal.sosfilt(whole, sound, axis=0), rtol=0, atol=1e-11)


@pytest.mark.parametrize("channels", [1, 2])
def test_any_state_space_is_run_not_only_that_of_biquads(channels: int) -> None:
    sound, section = _noise(2000, channels), FILTERS[3]
    weights = _by_state(section)[None]
    out, states = sound.copy(), np.zeros(2 * channels)
    run_sections(out, 0, len(out), weights, states, np.zeros(1, np.int64), 1)
    expected = signal.lfilter(section[:3], [1.0, *section[3:]], sound, axis=0)
    np.testing.assert_allclose(out, expected, rtol=0, atol=1e-11)


@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("count", [2, 3, 4])
def test_two_at_once_are_one_after_the_other_to_the_bit(count: int, channels: int) -> None:
    weights = np.random.default_rng(5).uniform(-0.4, 0.4, (count, WEIGHTS))
    places = np.arange(count) * 2 * channels
    together, apart = _noise(333, channels), _noise(333, channels)
    states, others = np.zeros((2, count * 2 * channels))
    run_sections(together, 0, 333, weights, states, places, count)
    for s in range(count):
        run_sections(apart, 0, 333, weights[s:], others, places[s:], 1)
    assert np.array_equal(together, apart)
    assert np.array_equal(states, others)


@pytest.mark.parametrize("channels", [1, 2])
def test_however_it_is_cut(channels: int) -> None:
    sections = np.array(FILTERS)
    sound = _noise(1000, channels)
    whole, parts = np.empty_like(sound), np.empty_like(sound)
    biquad.filter_into(whole, sound, sections, np.zeros((len(sections), channels, 2)))
    state, at = np.zeros((len(sections), channels, 2)), 0
    for n in (0, 1, 2, 1, 60, 3, 900, 33):
        biquad.filter_into(parts[at : at + n], sound[at : at + n], sections, state)
        at += n
    assert at == len(sound)
    assert np.array_equal(whole, parts)


def test_nothing_is_touched_but_the_frames_that_are_named() -> None:
    sound = np.ones((64, 2))
    weights = np.full((1, WEIGHTS), 0.25)
    run_sections(sound, 10, 20, weights, np.zeros(4), np.zeros(1, np.int64), 1)
    assert (sound[:10] == 1).all()
    assert (sound[20:] == 1).all()
    assert (sound[10:20] != 1).all()
