"""What the level detectors hear, by closed forms of tones, scipy's interpolation and spectra.

A tone's level is its amplitude wherever it is sampled; its gain is steady, so that nothing lies
beside it. The bars: wobble under 0.1 dB at 12 kHz, what is folded under -70 dBc.
"""

from typing import Any

import numpy as np
import pytest
from scipy import signal

from salt_anvil.core.dsp import listening
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.processors import Context
from tests.conftest import noise, sine
from tests.core.processors.test_contract import aligned, run, stage


def peaks(key: np.ndarray, rate: int, parts: tuple[int, ...] = ()) -> np.ndarray:
    memory, found, at = listening.memory(rate, key.shape[1]), [], 0
    for part in (*parts, len(key) - sum(parts)):
        found.append(listening.heard(key[at : at + part], True, memory))
        at += part
    return np.concatenate(found)


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("hz", [997.0, 4999.0, 11025.0, 12000.0, 15013.0, 16000.0])
def test_a_tone_has_its_level_wherever_it_is_sampled(hz: float, rate: int) -> None:
    for phase in (0.0, 0.3, 0.785, 1.2):
        at = np.arange(rate // 8) / rate
        heard = peaks(0.3 * np.sin(2 * np.pi * hz * at + phase)[:, None], rate)
        # As long as half a period takes it may be lower, and for 0.125 ms a top stands.
        half = max(round(rate / hz / 2) + 1, 1)
        tops = np.lib.stride_tricks.sliding_window_view(heard[400:, 0], half).max(axis=1)
        level = 20 * np.log10(tops / 0.3)
        assert np.abs(level).max() < 0.1


def test_it_hears_what_scipy_finds_between_the_samples() -> None:
    sound = signal.sosfiltfilt(
        signal.butter(8, 16000, fs=48000, output="sos"), noise(9600, 1)[:, 0]
    )
    between = np.abs(signal.resample_poly(sound, 8, 1, window=signal.firwin(4097, 1 / 8)))
    # A frame's points are those behind the frame before it, and itself.
    each = np.array([between[8 * n - 7 : 8 * n + 1].max() for n in range(600, 9000)])
    stands = listening.stands(48000)
    wanted = np.lib.stride_tricks.sliding_window_view(each, stands).max(axis=1)
    begin = 600 + stands - 1 + listening.LATENCY
    heard = peaks(sound[:, None], 48000)[begin : begin + len(wanted), 0]
    assert np.abs(20 * np.log10(heard / wanted)).max() < 0.05


def test_any_lengths_of_calls_hear_the_same() -> None:
    sound = noise(3000)
    assert (peaks(sound, 48000) == peaks(sound, 48000, (1, 5, 63, 64, 65, 700, 2))).all()


@pytest.mark.parametrize(
    "more",
    [
        {},
        {"link": 0.0},
        {"link": 0.5},
        {"topology": "feed-back", "ballistics": "branching"},
        {"link_by": "parts", "link": 0.0, "link_hits": 1.0},
    ],
)
def test_what_asks_for_nothing_is_not_looked_at_closely(
    more: dict[str, Any], music: np.ndarray
) -> None:
    """To the bit the same reduction where the level is watched, block by block too; and of a side
    that is quiet but linked in part."""
    params = {"threshold_db": -24, "ratio": 4, "attack_ms": 0.5, "release_ms": 80} | more
    sides = music * [1.0, 0.05]
    watched, cells = run(Unit(stage("compressor", params), Context(48000, 2, observe=True)), sides)
    for parts in (None, [700, 1, 95299]):
        out, told = run(Unit(stage("compressor", params), Context(48000, 2)), sides, parts)
        assert (out == watched).all()
        assert (cells["reduction_db"] == told["reduction_db"]).all()


def test_what_is_quiet_may_be_told_lower(music: np.ndarray) -> None:
    close = listening.heard(music, True, listening.memory(48000, 2))
    far = listening.heard(music, True, listening.memory(48000, 2), 10 ** (-27 / 20))
    loud = close > 10 ** (-27 / 20)
    assert (far[loud] == close[loud]).all()
    assert (far <= close).all()
    assert (far < close).any()


def test_silence_nonsense_and_what_is_too_small() -> None:
    key = np.zeros((400, 1))
    key[100:200], key[250:] = 1e-35, 1e35
    heard = peaks(key, 48000)
    assert not heard[:250].any()
    assert np.isfinite(heard).all()


@pytest.mark.parametrize("rate", [44100, 48000])
@pytest.mark.parametrize("kind", ["compressor", "expander", "curve"])
def test_a_high_tone_is_turned_down_steadily(kind: str, rate: int) -> None:
    """12 kHz, by the fastest times there are: read within 0.1 dB, and no wobble."""
    times = {"attack_ms": 0.05, "release_ms": 5}
    params = {
        "compressor": {"threshold_db": -26, "ratio": 10, "knee_db": 0},
        "expander": {
            "threshold_db": -26,
            "ratio": 2,
            "direction": "up",
            "hold_ms": 0,
            "knee_db": 0,
        },
        "curve": {"points": ((-60, -60), (-26, -26), (0, -23.4))},
    }[kind] | times
    unit = Unit(stage(kind, params), Context(rate, 1))
    tone = sine(12000 + 1 / 3, 0.5, rate, level_db=-6, channels=1)
    out, _ = aligned(unit, tone)
    loud = np.abs(tone[:, 0]) > 0.25
    gain = 20 * np.log10(np.abs(out[loud, 0] / tone[loud, 0]))[4000:-100]
    assert np.ptp(gain) < 0.1
    wanted = {"compressor": -18, "expander": 20, "curve": -18}[kind]
    assert np.median(gain) == pytest.approx(wanted, abs=0.1)


@pytest.mark.parametrize("rate", [44100, 48000])
@pytest.mark.parametrize("hz", [4003.9, 5003.9, 9001.0])
@pytest.mark.parametrize("topology", ["feed-forward", "feed-back"])
def test_a_fast_attack_folds_nothing_back(topology: str, hz: float, rate: int) -> None:
    params = {"threshold_db": -26, "ratio": 10, "attack_ms": 0.05, "release_ms": 5}
    unit = Unit(stage("compressor", params | {"topology": topology}), Context(rate, 1))
    out, _ = aligned(unit, sine(hz, 1.0, rate, level_db=-6, channels=1))
    kept = out[rate // 4 : -rate // 4, 0]
    spectrum = np.abs(np.fft.rfft(kept * np.kaiser(len(kept), 20)))
    at = np.fft.rfftfreq(len(kept), 1 / rate)
    carrier = spectrum[np.abs(at - hz) < 30].max()
    beside = spectrum[(np.abs(at - hz) > 60) & (at > 60)].max()
    assert 20 * np.log10(beside / carrier) < -70


def test_the_gate_opens_at_a_high_tone_s_level() -> None:
    """A quarter of the rate, sampled 3 dB under its tops: it is the tops that count."""
    at = np.arange(24000)
    for level, opens in ((-29.9, True), (-30.1, False)):
        rises = np.minimum(np.minimum(at, 23999 - at) / 4800, 1.0)
        tone = 10 ** (level / 20) * rises * np.sin(np.pi / 2 * at + np.pi / 4)
        unit = Unit(stage("gate", {"threshold_db": -30}), Context(48000, 1, observe=True))
        assert bool(aligned(unit, tone[:, None])[1]["opened"].any()) == opens
