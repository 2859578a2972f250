"""The gate against what its controls promise: openings, times, edges, ticks, look-ahead.

Figures in dB of its own depth and times are closed forms; that 1 to 2 ms of hold take the ticks
away is common practice, no source.
"""

import math
from typing import Any

import numpy as np
import pytest

from salt_anvil.core.dsp import noise_gate as g
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.processors import Context
from tests.conftest import constant, noise, rounded, sine
from tests.core.processors.test_contract import aligned, run, stage

RATE = 48000


def gated(sound: np.ndarray, **params: Any):
    return aligned(Unit(stage("gate", params), Context(RATE, sound.shape[1], observe=True)), sound)


def openings(cells: dict[str, np.ndarray]) -> int:
    return int(cells["opened"].max(axis=1).sum())


def hovering(seconds: float = 4.0) -> np.ndarray:
    """A tone whose level wanders 1.5 dB around -40 dBFS, as a fading note does."""
    wander = np.random.default_rng(5).standard_normal(round(seconds * 50))
    smooth = np.repeat(np.convolve(wander, np.ones(5) / 5, "same"), RATE // 50)
    level = -40 + 1.5 * smooth / np.abs(smooth).max()
    return sine(440, seconds)[: len(level)] * 10 ** (level / 20)[:, None]


def test_hysteresis_ends_the_chatter() -> None:
    sound = hovering()
    counts = [
        openings(gated(sound, threshold_db=-40, hysteresis_db=h, hold_ms=0, release_ms=5)[1])
        for h in (0, 4)
    ]
    assert counts[0] > 8
    assert counts[1] == 1


def test_it_opens_and_closes_at_its_two_levels() -> None:
    for level, first, expected in (
        (-39.9, -60, True),
        (-40.1, -60, False),
        (-43.9, -20, True),
        (-44.1, -20, False),
    ):
        sound = rounded(np.concatenate([constant(first, RATE // 2), constant(level, RATE)]))
        out, _ = gated(sound, threshold_db=-40, hysteresis_db=4, hold_ms=0, release_ms=10)
        assert bool(out[-1, 0] == sound[-1, 0]) == expected, level


def test_attack_and_release_reach_63_percent_in_their_time() -> None:
    sound = rounded(
        np.concatenate([constant(-80, RATE // 4), constant(-10, RATE // 2), np.zeros((RATE, 2))])
    )
    _, cells = gated(sound, threshold_db=-40, attack_ms=20, hold_ms=0, release_ms=200, depth_db=60)
    unit = Unit(
        stage("gate", {"threshold_db": -40, "attack_ms": 20, "depth_db": 60}), Context(RATE, 2)
    )
    opened = np.concatenate(
        [unit.process(sound[a : a + 1024], a).out for a in range(0, RATE, 1024)]
    )
    gain = opened[RATE // 4 : RATE // 2, 0] / sound[RATE // 4 : RATE // 2, 0]
    reached = int(np.argmax(gain >= 1 - math.exp(-1)))
    assert reached == pytest.approx(0.020 * RATE, rel=0.02)
    taken = cells["reduction_db"].max(axis=1)
    # The detector needs its own time to fall from -10 to -44 dBFS before anything closes.
    falls = 3.0 * math.log(10 ** (34 / 20)) / 1000 * RATE / 64
    begin = (RATE // 4 + RATE // 2) / 64 + falls
    share = int(np.argmax(taken[round(begin) :] >= (1 - math.exp(-1)) * 60))
    assert share * 64 / RATE == pytest.approx(0.200, rel=0.03)


def test_hold_and_depth() -> None:
    sound = np.concatenate([constant(-10, 4800), np.zeros((RATE, 2))])
    _, cells = gated(sound, threshold_db=-40, hold_ms=300, release_ms=5, depth_db=36)
    taken, phase = cells["reduction_db"].max(axis=1), cells["phase"].max(axis=1)
    assert taken[-1] == pytest.approx(36, abs=0.01)
    held = (phase == g.HOLDING).sum() * 64 / RATE
    assert held == pytest.approx(0.3, rel=0.02)
    assert {g.OPEN, g.HOLDING, g.CLOSING, g.CLOSED} <= set(phase)


def energy_over_8k(sound: np.ndarray) -> float:
    spectrum = np.abs(np.fft.rfft(sound[:, 0] * np.hanning(len(sound)))) ** 2
    return float(spectrum[round(8000 / RATE * len(sound)) :].sum())


def test_two_milliseconds_of_hold_take_the_ticks_away() -> None:
    """A fading tone, half period 1.7 ms: without hold it opens and closes within its waves."""
    tone = sine(300, 2.0) * np.linspace(0.5, 0.001, 2 * RATE)[:, None]
    settings = {"threshold_db": -30, "hysteresis_db": 0, "release_ms": 1, "attack_ms": 0.02}
    ticking, a = gated(tone, hold_ms=0, **settings)
    quiet, b = gated(tone, hold_ms=2, **settings)
    assert openings(a) > 2 * openings(b)
    assert energy_over_8k(ticking) > 2 * energy_over_8k(quiet)


def test_look_ahead_keeps_the_first_edge() -> None:
    sound = np.zeros((RATE, 1))
    sound[20000:22000] = noise(2000, 1, level=0.2)
    kept = []
    for ahead in (0, 5):
        unit = Unit(
            stage("gate", {"threshold_db": -40, "attack_ms": 1, "lookahead_ms": ahead}),
            Context(RATE, 1),
        )
        out, _ = run(unit, sound)
        edge = out[20000 + unit.latency : 20024 + unit.latency]
        kept.append(float(np.square(edge).sum() / np.square(sound[20000:20024]).sum()))
    assert kept[0] < 0.1
    assert kept[1] > 0.9


def test_the_key_filter_chooses_what_opens_it() -> None:
    """Bleed below 200 Hz, louder than the hits, does not open a gate that listens above 1 kHz."""
    bleed = sine(100, 1.0, level_db=-12)
    params = {"threshold_db": -30}
    unit = Unit(stage("gate", params, key={"low_hz": 1000}), Context(RATE, 2, observe=True))
    out, cells = run(unit, bleed)
    assert openings(cells) == 0
    assert np.abs(out).max() < 1e-4


def test_a_linked_gate_keeps_the_image() -> None:
    sound = np.concatenate([constant(-20, RATE // 2, 1), constant(-50, RATE // 2, 1)], axis=1)
    linked, _ = gated(sound, threshold_db=-40)
    alone, _ = gated(sound, threshold_db=-40, link=0)
    assert linked[-1, 1] == sound[-1, 1]
    assert abs(alone[-1, 1]) < 1e-3 * abs(sound[-1, 1]) + 1e-6


def _sample_by_sample(key: np.ndarray, v: np.ndarray, links: np.ndarray) -> np.ndarray:
    """The gate as its words say it, one frame after another; links: the link of every frame."""
    left, gain, phase, count = [0.0, 0.0], [v[g.FLOOR]] * 2, [g.CLOSED] * 2, [0.0, 0.0]
    out = np.empty_like(key)
    for i, frame in enumerate(np.abs(key)):
        for c in range(2):
            left[c] = max(frame[c], left[c] + v[g.FALL] * (frame[c] - left[c]))
        for c in range(2):
            level = left[c] + links[i] * (max(left) - left[c])
            over, still = level >= v[g.OPEN_AT], level >= v[g.CLOSE_AT]
            full = g.OPEN if gain[c] >= 1 else g.OPENING
            if over and phase[c] < g.OPENING:
                phase[c] = g.OPENING if phase[c] < g.HOLDING else full
            if still and phase[c] == g.HOLDING:
                phase[c] = full
            if over or (still and phase[c] >= g.HOLDING):
                count[c] = v[g.HOLD]
            elif phase[c] >= g.HOLDING and count[c] > 0:
                count[c] -= 1
                phase[c] = g.HOLDING if gain[c] >= 1 else phase[c]
            elif phase[c] >= g.HOLDING:
                phase[c] = g.CLOSING
            if phase[c] >= g.HOLDING:
                gain[c] += v[g.ATTACK] * (1 - gain[c])
                if gain[c] > 1 - g.NEAR:
                    gain[c], phase[c] = 1.0, g.OPEN if phase[c] == g.OPENING else phase[c]
            else:
                gain[c] -= v[g.RELEASE] * gain[c]
                if phase[c] == g.CLOSED or gain[c] <= v[g.FLOOR]:
                    gain[c], phase[c] = v[g.FLOOR], g.CLOSED
            out[i, c] = gain[c]
    return out


@pytest.mark.parametrize("told", [False, True])
def test_the_kernel_is_the_gate_sample_by_sample_also_where_the_link_begins_and_ends(
    told: bool,
) -> None:
    """Linked all along, both channels are found once: from where they stand alike on."""
    chance = np.random.default_rng(7)
    cells = 160
    heights = chance.choice([0.0, 0.04, 0.3], (cells, 2), p=(0.9, 0.05, 0.05))
    bursts = np.repeat(heights, 64, axis=0)
    key = bursts * chance.uniform(-1, 1, bursts.shape)
    v = np.zeros(g.CONTROLS)
    v[g.OPEN_AT], v[g.CLOSE_AT], v[g.FLOOR] = 0.1, 0.03, 0.01
    v[g.ATTACK], v[g.RELEASE], v[g.HOLD], v[g.FALL] = 0.05, 0.02, 40, 0.02
    value = np.repeat(v[None], cells, axis=0)
    value[:, g.LINK] = np.repeat([0.0, 1.0, 0.5, 1.0, 1.0], cells // 5)
    gain, state = np.empty_like(key), np.zeros((g.STATES, 2))
    state[g.GAIN] = v[g.FLOOR]
    others = [np.empty((len(key) if told else 0, 2)) for _ in range(3)]
    g.gate_into(gain, *others, key, 0, value, np.zeros_like(value), state)
    expected = _sample_by_sample(key, v, np.repeat(value[:, g.LINK], 64))
    assert np.abs(gain - expected).max() < 1e-12
    assert (np.ptp(gain[-64 * cells // 5 :]) > 0.9) and (np.diff(gain, axis=1) == 0).any()
    if told:
        assert (np.diff(others[0][-64:], axis=1) == 0).all()
        assert set(np.unique(others[1])) == {0, 1, 2, 3, 4}
