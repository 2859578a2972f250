"""The room: its decay by backward integration (Schroeder 1965; ISO 3382), density, damping."""

import math
from typing import Any

import numpy as np
import pytest
from scipy import linalg, signal

from salt_anvil.core.dsp import feedback_delay_network as r
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.processors import Context, processor
from tests.conftest import RATES, noise
from tests.core.processors.test_contract import run, stage


def answer(rate: int = 48000, seconds: float = 2, **params: Any) -> np.ndarray:
    pulse = np.zeros((round(rate * seconds), 2))
    pulse[0] = 1
    return run(Unit(stage("room", params), Context(rate, 2)), pulse)[0]


def decay_s(sound: np.ndarray, rate: int, hz: float) -> float:
    """Time of 60 dB from the slope between -5 and -35 dB, in one octave."""
    octave = signal.butter(3, [hz / 1.414, hz * 1.414], "band", fs=rate, output="sos")
    energy = (signal.sosfilt(octave, sound, axis=0) ** 2).sum(axis=1)
    left = np.cumsum(energy[::-1])[::-1]
    level = 10 * np.log10(left / left[0] + 1e-20)
    return float(2 * (np.argmax(level < -35) - np.argmax(level < -5)) / rate)


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("wanted", [0.25, 0.6, 1.2])
def test_it_decays_in_the_time_that_is_set(wanted: float, rate: int) -> None:
    out = answer(rate, 2.5, decay_s=wanted, damp_hz=20000, low_cut_hz=20)
    assert decay_s(out, rate, 1000) == pytest.approx(wanted, rel=0.1)


@pytest.mark.parametrize("size", [0.5, 2])
def test_its_decay_does_not_hang_on_its_size(size: float) -> None:
    assert decay_s(answer(size=size, decay_s=0.6, damp_hz=20000), 48000, 1000) == pytest.approx(
        0.6, rel=0.12
    )


def test_damping_takes_the_top_first() -> None:
    out = answer(decay_s=1, damp_hz=2000)
    assert decay_s(out, 48000, 6000) < 0.5 * decay_s(out, 48000, 500)


SIZES = [0.3, 0.6, 1.0, 1.5, 2.0]
OPEN = {"damp_hz": 20000, "low_cut_hz": 20}


def echo_density(sound: np.ndarray, rate: int, second: float) -> float:
    """Abel and Huang, AES 121st Convention, 2006: the share of what lies beyond one deviation in
    20 ms, against that of Gaussian noise; the mean of both sides and of three windows."""
    half, found = rate // 100, []
    window = np.hanning(2 * half + 1)
    window /= window.sum()
    for middle in (second, second + 0.01, second + 0.02):
        at = round(middle * rate)
        for side in sound[at - half : at + half + 1].T:
            deviation = math.sqrt(float(window @ side**2))
            found.append(float(window @ (np.abs(side) > deviation)) / math.erfc(1 / math.sqrt(2)))
    return float(np.mean(found))


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("size", SIZES)
def test_it_is_dense_from_forty_milliseconds_on(size: float, rate: int) -> None:
    """At least 0.9 of what noise would be, which itself varies by 0.05 from window to window."""
    for decay in (0.25, 0.6):
        out = answer(rate, 0.4, decay_s=decay, size=size, **OPEN)
        for second in np.arange(0.04, 0.16, 0.01):
            assert echo_density(out, rate, float(second)) > 0.9, (decay, second)


@pytest.mark.parametrize("rate", [44100, 48000])
@pytest.mark.parametrize("size", SIZES)
def test_undamped_it_decays_alike_in_every_octave(size: float, rate: int) -> None:
    out = answer(rate, 2.5, decay_s=0.8, size=size, **OPEN)
    for hz in (125, 250, 500, 1000, 2000, 4000, 8000):
        assert decay_s(out, rate, hz) == pytest.approx(0.8, rel=0.1), hz


@pytest.mark.parametrize("size", SIZES)
def test_no_modes_stand_out(size: float) -> None:
    """The level over frequency scatters by at most 1.5 times 5.57 dB, what diffuse sound does
    (Schroeder 1954: exponentially distributed power); noise in its place shows the measure."""
    rate, frames = 48000, 28800
    decayed = 10 ** (3 * np.arange(frames) / rate / 0.6)
    out = answer(rate, 1, decay_s=0.6, size=size, **OPEN)[2400 : 2400 + frames, 0] * decayed

    def scatter_db(sound: np.ndarray) -> float:
        hz = np.fft.rfftfreq(frames, 1 / rate)
        level = 20 * np.log10(np.abs(np.fft.rfft(sound * np.hanning(frames))) + 1e-12)
        level = level[(hz > 100) & (hz < 10000)]
        return float((level - signal.savgol_filter(level, 201, 2)).std())

    assert scatter_db(noise(frames, 1)[:, 0]) == pytest.approx(5.57, rel=0.05)
    assert scatter_db(out) < 1.5 * 5.57


def test_sides_differ_and_lows_stay_out() -> None:
    out = answer(low_cut_hz=500)
    assert abs(np.corrcoef(out[2400:24000].T)[0, 1]) < 0.2
    low, mid = (np.abs(np.fft.rfft(out[:, 0]))[hz * 2] for hz in (60, 1000))
    assert 20 * np.log10(low / mid) < -20


def test_predelay_comes_first() -> None:
    plain, late = answer(predelay_ms=0), answer(predelay_ms=25)
    assert np.abs(late[1200:] - plain[:-1200]).max() < 1e-15
    assert not late[:1200].any()


def test_the_mix_of_matrices_keeps_energy() -> None:
    """Against scipy's Hadamard matrix."""
    rows = noise(64, 2).T.copy().repeat(4, axis=0)
    rows *= np.arange(1, 9)[:, None]
    wanted = linalg.hadamard(8) @ rows / math.sqrt(8)
    mixed = rows.copy()
    r._mix(mixed, 64)
    mixed *= r.EVEN
    assert (mixed**2).sum() == pytest.approx((rows**2).sum())
    assert np.abs(mixed - wanted).max() < 1e-12


def plainly(sound: np.ndarray, rate: int, size: float, decay_s: float, pole: float) -> np.ndarray:
    """The network frame by frame in float64, without rings, cells or Walsh's fast form."""
    every = r.lengths(size, rate).astype(int).reshape(-1, r.LINES)
    gains = 10 ** (-60 * every / (decay_s * rate) / 20)
    mix = linalg.hadamard(r.LINES) / math.sqrt(r.LINES)
    rows = sound[:, np.arange(r.LINES) % 2].T
    for length, gain in zip(every[:-1], gains[:-1], strict=True):
        late = np.zeros_like(rows)
        for line, row, n in zip(late, rows, length, strict=True):
            line[n:] = row[:-n]
        rows = r.SIGNS[:, None] * (mix @ (gain[:, None] * late))
    poles = np.tanh(np.arctanh(pole) * every[-1] / every[-1].mean())
    lines, back, last = np.zeros((r.LINES, len(sound))), np.zeros_like(rows), np.zeros(r.LINES)
    for t in range(len(sound)):
        came = [line[t - n] if t >= n else 0.0 for line, n in zip(lines, every[-1], strict=True)]
        last = back[:, t] = gains[-1] * came + poles * (last - gains[-1] * came)
        lines[:, t] = mix @ last + rows[:, t]
    both = rows + back
    sides = [both[0] + both[2] - both[4] - both[6], both[1] - both[3] + both[5] - both[7]]
    return r.LEVEL * np.array(sides).T


@pytest.mark.parametrize("rate", [44100, 96000])
@pytest.mark.parametrize("pole", [0.0, 0.6])
def test_float32_is_135_decibels_below_what_float64_makes(rate: int, pole: float) -> None:
    sound = noise(6000, 2)
    wanted = plainly(sound, rate, 0.9, 0.5, pole)
    item = processor("room")
    context = Context(rate, 2)
    params = stage("room", {"size": 0.9, "decay_s": 0.5}).params
    vector = item.controls(params, context)[: r.CONTROLS]
    vector[r.DAMP] = 1 - pole
    value, out = np.repeat(vector[None], 6000 // 64 + 2, axis=0), np.empty_like(sound)
    state = item.prepare(params, context)
    memory = (state[name] for name in ("stages", "lines", "damped", "at"))
    r.room_into(out, sound, 0, value, np.zeros_like(value), *memory)
    error = np.sqrt(((out - wanted) ** 2).mean() / (wanted**2).mean())
    assert 20 * np.log10(error) < -135


def test_a_long_silence_ends_in_silence() -> None:
    out = answer(seconds=20, decay_s=0.3)
    assert np.abs(out[-100:]).max() < 1e-18


@pytest.mark.parametrize("rate", [44100, 96000])
def test_its_picture_falls_by_sixty_decibels_in_the_decay(rate: int) -> None:
    settings = {"decay_s": 0.8, "damp_hz": 20000, "low_cut_hz": 20, "predelay_ms": 50}
    drawn = processor("room").drawing(stage("room", settings).params, Context(rate, 1))
    at = np.linspace(0, drawn.seconds, len(drawn.answer_db), endpoint=False)
    level = np.array(drawn.answer_db)
    assert (level[at < 0.04] < -100).all()
    late = (at > 0.4) & (at < 0.8)  # once what the walls swallow above 20 kHz has gone
    fall = np.polyfit(at[late], level[late], 1)[0]
    assert fall == pytest.approx(-60 / 0.8, rel=0.15)
