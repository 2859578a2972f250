"""The instruments: bodies, strings, reeds, a voice. Mono float64 at RATE, same bytes each time."""

from functools import cache

import numpy as np
from numpy.typing import NDArray
from scipy import signal

RATE = 48000
Wave = NDArray[np.float64]
Peaks = list[tuple[float, float, float]]
"""Resonances: Hz, gain, bandwidth in Hz."""


def noise(seconds: float, seed: int) -> Wave:
    """Return white noise of standard deviation 1."""
    return np.random.default_rng(seed).standard_normal(round(seconds * RATE))


@cache
def _butterworth(low: float | None, high: float | None, order: int) -> Wave:
    if low and high:
        sos = signal.butter(order, [low, high], "bandpass", fs=RATE, output="sos")
    elif low:
        sos = signal.butter(order, low, "highpass", fs=RATE, output="sos")
    else:
        sos = signal.butter(order, high or 20000.0, "lowpass", fs=RATE, output="sos")
    return np.asarray(sos)


def band(sound: Wave, low: float | None, high: float | None, order: int = 2) -> Wave:
    """Return the sound between two frequencies (Butterworth)."""
    return np.asarray(signal.sosfilt(_butterworth(low, high, order), sound))


@cache
def modes(
    seconds: float, partials: tuple[tuple[float, float, float], ...], bend: float = 0.0
) -> Wave:
    """Return a struck body: partials as (Hz, amplitude, decay in s); bend: pitch drop share."""
    t = np.arange(round(seconds * RATE)) / RATE
    out = np.zeros_like(t)
    for hz, amplitude, decay in partials:
        phase = 2 * np.pi * hz * (t + bend * 0.02 * (1 - np.exp(-t / 0.02)))
        out += amplitude * np.sin(phase) * np.exp(-t / decay)
    return out * np.minimum(t / 0.0008, 1)


@cache
def _click(seed: int, low: float, high: float, decay: float) -> Wave:
    t = np.arange(RATE // 4) / RATE
    return band(noise(0.25, seed), low, high) * np.exp(-t / decay)


def drum_boom(take: int) -> Wave:
    """The box drum struck at its middle: a long low mode (the boom) under a palm's thud."""
    tone = modes(0.9, ((63, 1.0, 0.26), (118, 0.45, 0.12), (187, 0.2, 0.07)), 0.9).copy()
    thud = _click(take % 5, 90, 900, 0.012)
    tone[: len(thud)] += 0.5 * thud
    return tone


def drum_slap(take: int) -> Wave:
    """The box drum struck at its edge: short board modes, and the wires behind the plate."""
    board = ((212, 0.5, 0.06), (431, 0.45, 0.035), (878, 0.3, 0.02), (1490, 0.2, 0.012))
    tone = modes(0.5, board).copy()
    wires = _click(10 + take % 5, 2300, 9000, 0.055)
    crack = _click(20 + take % 5, 900, 6000, 0.006)
    tone[: len(wires)] += 0.55 * wires + 0.8 * crack
    return tone


def stomp(take: int) -> Wave:
    """A boot on the boathouse planks."""
    planks = ((47, 1.0, 0.16), (78, 0.5, 0.1), (141, 0.3, 0.05), (263, 0.15, 0.03))
    tone = modes(0.6, planks, 0.4).copy()
    heel = _click(30 + take % 4, 300, 2500, 0.008)
    tone[: len(heel)] += 0.35 * heel
    return tone


def shake(take: int, strength: float) -> Wave:
    """One stroke of the shaker: the grains rise, then land."""
    t = np.arange(round(0.13 * RATE)) / RATE
    rise, land = 0.35 * np.exp(-(((t - 0.03) / 0.018) ** 2)), np.exp(-(((t - 0.062) / 0.009) ** 2))
    grains = band(noise(0.13, 50 + take % 7), 4200, 12500)
    return strength * grains * (rise + land)


def saw(hz: Wave) -> Wave:
    """Return a sawtooth of changing frequency, its jumps rounded over two frames (polyBLEP)."""
    step = hz / RATE
    phase = np.cumsum(step) % 1.0
    out = 2 * phase - 1
    start, end = phase < step, phase > 1 - step
    a = phase[start] / step[start]
    out[start] -= 2 * a - a * a - 1
    b = (phase[end] - 1) / step[end]
    out[end] -= b * b + 2 * b + 1
    return np.asarray(out)


def vibrato(hz: float, seconds: float, depth: float, rate: float, seed: int) -> Wave:
    """Return a frequency over time with a vibrato that sets in late, and a little drift."""
    t = np.arange(round(seconds * RATE)) / RATE
    onset = np.clip((t - 0.12) / 0.25, 0, 1)
    wander = np.cumsum(noise(seconds, seed)) / RATE**0.5
    wander -= np.linspace(0, wander[-1], len(wander))
    return np.asarray(hz * (1 + depth * onset * np.sin(2 * np.pi * rate * t) + 0.0007 * wander))


@cache
def _resonance(hz: float, width: float) -> tuple[Wave, Wave]:
    b, a = signal.iirpeak(hz, hz / width, fs=RATE)
    return b, a


def resonators(sound: Wave, peaks: Peaks) -> Wave:
    """Return the sum of two-pole resonances (Hz, gain, bandwidth in Hz) excited by the sound."""
    out = np.zeros_like(sound)
    for hz, gain, width in peaks:
        b, a = _resonance(hz, width)
        out += gain * signal.lfilter(b, a, sound)
    return out


FIDDLE_BODY: Peaks = [
    (282, 0.9, 40.0), (460, 1.0, 50.0), (560, 0.8, 60.0), (1010, 0.7, 160.0),
    (1700, 0.6, 350.0), (2600, 0.9, 700.0), (4100, 0.35, 1200.0),
]  # fmt: skip
LOW_BODY: Peaks = [
    (98, 1.3, 9.0), (186, 0.9, 40.0), (243, 0.8, 60.0), (420, 0.6, 90.0),
    (900, 0.35, 300.0), (1900, 0.2, 700.0),
]  # fmt: skip


def bowed(hz: float, seconds: float, seed: int, *, low: bool = False, bite: float = 0.5) -> Wave:
    """A bowed string in its body: scratch at the start, hair noise throughout."""
    line = vibrato(hz, seconds, 0.003 if low else 0.005, 5.1 if low else 5.7, seed)
    string = band(saw(line), None, 3200 if low else 8500, 1)
    hair = band(noise(seconds, seed + 1), 900, 7000) * (0.03 + 0.02 * string**2)
    t = np.arange(len(string)) / RATE
    scratch = band(noise(seconds, seed + 2), 700, 5200) * np.exp(-t / 0.018) * 0.5 * bite
    body = resonators(string + hair + scratch, LOW_BODY if low else FIDDLE_BODY)
    attack, release = (0.07 - 0.045 * bite), 0.06
    envelope = np.minimum(1, t / attack) * np.clip((seconds - t) / release, 0, 1)
    swell = 0.75 + 0.25 * np.sin(np.pi * np.clip(t / seconds, 0, 1)) ** 0.7
    return np.asarray(body * envelope * swell)


def plucked(hz: float, seconds: float, seed: int, bright: float = 0.5) -> Wave:
    """A plucked string: noise in a damped loop, in the low fiddle's body."""
    frames = round(seconds * RATE)
    period = RATE / hz - 0.5
    whole = int(period)
    part = period - whole
    burst = np.zeros(frames)
    burst[:whole] = band(noise(whole / RATE + 0.01, seed), 40, 1200 + 3000 * bright)[:whole]
    # y[n] = x[n] + g * (lowpass of y[n - period]); the fraction is a linear interpolation.
    loss = 0.996 - 0.00035 * hz / 10
    near, middle, far = (loss * share for share in (0.5 * (1 - part), 0.5, 0.5 * part))
    string = np.zeros(frames + whole + 2)  # two frames of silence, and a turn of the loop, before
    for start in range(0, frames, whole):
        now = slice(start + whole + 2, min(start + whole, frames) + whole + 2)
        ago = [string[now.start - back : now.stop - back] for back in (whole + 2, whole + 1, whole)]
        fed_back = far * ago[0] + middle * ago[1] + near * ago[2]
        string[now] = burst[start : start + whole] + fed_back[: frames - start]
    string = string[whole + 2 :]
    t = np.arange(frames) / RATE
    fade = np.clip((seconds - t) / 0.04, 0, 1)
    return (0.35 * string + 0.65 * resonators(string, LOW_BODY)) * fade


def reeds(hz: float, seconds: float, seed: int) -> Wave:
    """One key of the squeezebox: two reeds a few cents apart, in a wooden case."""
    t = np.arange(round(seconds * RATE)) / RATE
    out = np.zeros_like(t)
    for cents in (-5.0, 6.0):
        line = np.full(len(t), hz * 2 ** (cents / 1200))
        wave = saw(line)
        out += band(wave + 0.35 * np.sign(wave) * wave**2, None, 5200, 1)
    case = out * 0.25 + resonators(out, [(240, 0.9, 70.0), (330, 0.6, 90.0), (1150, 0.5, 300.0)])
    envelope = np.minimum(1, t / 0.035) * np.clip((seconds - t) / 0.05, 0, 1)
    breath = band(noise(seconds, seed), 400, 3000) * 0.01
    return np.asarray((case * 0.5 + breath) * envelope)


# Formants of five vowels (Hz, gain, bandwidth): common figures of phonetics, from memory.
VOWELS: dict[str, Peaks] = {
    "a": [(730, 1.0, 90.0), (1090, 0.6, 110.0), (2440, 0.25, 160.0), (3400, 0.12, 250.0)],
    "e": [(530, 1.0, 80.0), (1840, 0.45, 120.0), (2480, 0.3, 160.0), (3500, 0.14, 250.0)],
    "i": [(280, 1.0, 70.0), (2250, 0.32, 130.0), (2890, 0.28, 170.0), (3600, 0.14, 250.0)],
    "o": [(500, 1.0, 80.0), (900, 0.55, 100.0), (2410, 0.1, 160.0), (3300, 0.06, 250.0)],
    "u": [(320, 1.0, 75.0), (800, 0.35, 100.0), (2250, 0.07, 160.0), (3200, 0.05, 250.0)],
}


def glottis(line: Wave, seed: int, breath: float) -> Wave:
    """Return the flow's derivative of a voice: an open phase that ends abruptly, and breath."""
    phase = np.cumsum(line / RATE) % 1.0
    open_ = phase < 0.6
    x = phase / 0.6
    pulse = np.where(open_, (2 * x - 3 * x * x) * 1.6, 0.0)
    pulse = band(pulse, None, 5500, 1)
    air = band(noise(len(line) / RATE, seed), 1200, 9000) * (0.4 + 0.6 * open_)
    return np.asarray(pulse + breath * air)


def hiss(kind: str, seconds: float, seed: int) -> Wave:
    """Return an unvoiced consonant: s and sh are bands of noise, t and k short bursts."""
    t = np.arange(round(seconds * RATE)) / RATE
    shape = np.sin(np.pi * np.clip(t / seconds, 0, 1)) ** 0.6
    if kind == "s":
        return band(noise(seconds, seed), 5600, 9800, 3) * shape
    if kind == "sh":
        return band(noise(seconds, seed), 2400, 6000, 3) * shape * 0.9
    if kind == "f":
        return band(noise(seconds, seed), 1500, 9000, 1) * shape * 0.18
    return band(noise(seconds, seed), 1800, 7000) * np.exp(-t / 0.012) * 0.9
