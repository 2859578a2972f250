"""The oversampling: its filters' responses by their pulses, its delay, a closed form of the rest.

passband and stopband · delay · half-band · what is not shaped · kernels without the compiler
"""

from collections.abc import Callable

import numpy as np
import pytest

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp import oversample as o
from tests.conftest import noise

RATE = 48000
FRAMES, AT, SIZE = 400, 100, 1 << 17
OVERSAMPLED = ["good", "high", "best"]
RATIOS = {"double": 2.0, "halve": 0.5, "unshape": 0.5, "delay": 1.0}


def only(values: Sound) -> Callable[[Sound, Sound, int], None]:
    """A bend that takes these values, whatever comes in."""

    def bend(lines: Sound, cut: Sound, factor: int) -> None:
        cut[:, 1 - lines.shape[1] :] = values

    return bend


def pulse_up(quality: str) -> np.ndarray:
    """What a pulse becomes at the higher rate, from that pulse on."""
    pulse = np.zeros((FRAMES, 1))
    pulse[AT] = 1
    return o.rise(pulse, o.tables(quality), o.kept(o.shaping_state(1)))[
        0, 1 + AT * o.FACTORS[quality] :
    ]


def pulse_down(quality: str) -> np.ndarray:
    """The filter on the way down at the higher rate, put together of its phases."""
    factor = o.FACTORS[quality]
    found = np.zeros((FRAMES - AT) * factor + factor)
    for phase in range(factor):
        values = np.zeros((1, FRAMES * factor))
        values[0, AT * factor + phase] = 1
        silence = np.zeros((FRAMES, 1))
        out = o.oversampled_difference(only(values), silence, quality, o.shaping_state(1))[AT:, 0]
        found[factor - phase :: factor][: len(out)] = out
    return found


def level_db(pulse: np.ndarray, rate: int) -> tuple[np.ndarray, np.ndarray]:
    hz = np.fft.rfftfreq(SIZE, 1 / rate)
    return hz, 20 * np.log10(np.maximum(np.abs(np.fft.rfft(pulse, SIZE)), 1e-12))


@pytest.mark.parametrize("quality", OVERSAMPLED)
def test_filters_pass_to_20_khz_and_stop_from_28(quality: str) -> None:
    """Design/03: 0.01 dB, -100 dB. The mean over a step is the filter's to make good."""
    factor = o.FACTORS[quality]
    hz, up = level_db(pulse_up(quality) / factor, factor * RATE)
    _, down = level_db(pulse_down(quality), factor * RATE)
    mean = 20 * np.log10(np.sinc(hz / (factor * RATE)))
    assert np.abs(up[hz <= 20000]).max() < 0.002
    assert np.abs((down + mean)[hz <= 20000]).max() < 0.002
    assert up[hz >= 28000].max() < -100
    assert down[hz >= 28000].max() < -100


@pytest.mark.parametrize("quality", OVERSAMPLED)
def test_delays_are_those_stated(quality: str) -> None:
    """By symmetry: about UP frames, and about DOWN less the half step of the mean."""
    factor = o.FACTORS[quality]
    for pulse, middle in (
        (pulse_up(quality), o.UP * factor),
        (pulse_down(quality)[factor:], o.DOWN * factor - 0.5),
    ):
        at = np.arange(len(pulse))
        assert (pulse**2 @ at) / (pulse**2).sum() == pytest.approx(middle, abs=1e-9)
        turned = pulse[: round(2 * middle) + 1]
        assert np.abs(turned - turned[::-1]).max() < 1e-15


@pytest.mark.parametrize("quality", list(o.FACTORS))
def test_values_at_the_frames_are_the_frames(quality: str) -> None:
    """A half-band leaves every second value as it was, to the bit."""
    sound = noise(500)
    lines = o.rise(sound, o.tables(quality), o.kept(o.shaping_state(2)))[:, 1:]
    assert (lines[:, :: o.FACTORS[quality]][:, o.UP :] == sound[: -o.UP].T).all()


@pytest.mark.parametrize("quality", OVERSAMPLED)
def test_values_between_lie_on_the_sine(quality: str) -> None:
    for hz in (100, 5000, 19000):
        sine = np.sin(2 * np.pi * hz * np.arange(500) / RATE)[:, None]
        lines = o.rise(sine, o.tables(quality), o.kept(o.shaping_state(1)))[0, 1:]
        at = np.arange(len(lines)) / o.FACTORS[quality] - o.UP
        wanted = np.sin(2 * np.pi * hz * at / RATE)
        assert np.abs(lines - wanted)[150 * o.FACTORS[quality] :].max() < 2e-4


@pytest.mark.parametrize("quality", list(o.FACTORS))
def test_a_block_without_shaping_leaves_the_same_state(quality: str) -> None:
    sound, nothing = noise(3 * 1024), only(np.zeros((2, 1)))
    states = [o.shaping_state(2) for _ in range(2)]
    for at in range(0, len(sound), 1024):
        block = sound[at : at + 1024]
        o.pass_by(block, o.tables(quality), o.kept(states[0]))
        o.oversampled_difference(nothing, block, quality, states[1])
    assert all((states[0][name] == states[1][name]).all() for name in states[0])
    assert states[0]["shaping_last"].all()
    assert o.idle(np.zeros((1, 2)), 5.0, o.kept(states[1]))
    assert not o.idle(np.zeros((1, 2)), 1e-3, o.kept(states[1]))


@pytest.mark.parametrize("quality", list(o.FACTORS))
def test_shaping_goes_on_behind_what_was_passed_by(quality: str) -> None:
    """The first block that is shaped knows what came before, also in a state that is cold."""

    def halved(lines: Sound, cut: Sound, factor: int) -> None:
        cut[:, 1 - lines.shape[1] :] = 0.5 * lines[:, 1:]

    sound, nothing = noise(2 * 1024), only(np.zeros((2, 1)))
    states = [o.shaping_state(2) for _ in range(2)]
    o.pass_by(sound[:1024], o.tables(quality), o.kept(states[0]))
    o.oversampled_difference(nothing, sound[:1024], quality, states[1])
    outs = [o.oversampled_difference(halved, sound[1024:], quality, state) for state in states]
    assert (outs[0] == outs[1]).all()


def test_no_value_between_exceeds_the_bound() -> None:
    """The worst sound for the middle between two frames has the signs of the weights."""
    for quality in OVERSAMPLED:
        factor = o.FACTORS[quality]
        rows = pulse_up(quality)[: (o.UP + 60) * factor].reshape(-1, factor).T
        worst = max(np.abs(row).sum() for row in rows)
        assert 0.9 * o.BOUND < worst * 1.05 <= o.BOUND + 1e-12


def test_another_quality_starts_clean() -> None:
    """What the stages of another quality kept is of another time."""
    state, sound = o.shaping_state(1), noise(2048, 1)
    loud = only(np.ones((1, 1)))
    o.oversampled_difference(loud, sound, "best", state)
    o.oversampled_difference(only(np.zeros((1, 1))), sound, "good", state)
    assert o.idle(sound, 10.0, o.kept(state))


@pytest.mark.parametrize("name", ["double", "halve", "unshape", "delay"])
def test_interpreted_kernels_are_the_same(name: str) -> None:
    stage = next(s for q in o.FACTORS for way in o.stages(q) for s in way if s.form == name)
    lines = noise(stage.past + 64, 1).T.copy()
    outs = [np.zeros((1, round(64 * RATIOS[name]))) for _ in range(2)]
    kernel = getattr(o, f"{name}_into")
    kernel(outs[0], lines, stage.past, stage.delay, stage.weights)
    kernel.py_func(outs[1], lines, stage.past, stage.delay, stage.weights)
    assert np.abs(outs[0] - outs[1]).max() < 1e-13
