"""Constructed beds for what looks for resonances, and resonances put into them.

All are made here from seeds: noise, drums, something like speech, melodies, chords, steady tones.
A bell is the peaking filter of the W3C Audio EQ Cookbook, through scipy, not through our code.
"""

from collections.abc import Callable
from functools import partial
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.signal import lfilter, sosfilt

Wave = NDArray[np.float64]
RATE = 48000


class Note(NamedTuple):
    """One note of a bed: from and to in seconds, its fundamental in Hz."""

    start: float
    end: float
    hz: float


class Bed(NamedTuple):
    """A sound of one channel, and the notes in it that could excite a resonance."""

    sound: Wave
    notes: tuple[Note, ...] = ()


class Ring(NamedTuple):
    """A resonance put in: a bell that stands, or moves by `octaves` around hz in `period_s`."""

    hz: float
    q: float
    gain_db: float
    octaves: float = 0.0
    period_s: float = 6.0


def pink(seed: int, seconds: float = 10.0) -> Bed:
    """Return noise with the same power in every octave from 20 Hz on."""
    n = int(seconds * RATE)
    spectrum = np.fft.rfft(np.random.default_rng(seed).standard_normal(n))
    hz = np.fft.rfftfreq(n, 1 / RATE)
    sound = np.fft.irfft(spectrum / np.sqrt(np.maximum(hz, 20.0)), n)
    return Bed(0.1 * sound / sound.std())


def drums(seed: int, seconds: float = 10.0) -> Bed:
    """Return a pattern of swept booms, noisy slaps and short hisses, with no mode that stands."""
    rng = np.random.default_rng(seed)
    n = int(seconds * RATE)
    out = np.zeros(n + RATE)
    step = 60 / rng.uniform(90, 130) / 4
    for index in range(int(seconds / step)):
        at = int((index * step + rng.normal(0, 0.003) + 0.01) * RATE)
        parts = []
        if index % 8 in (0, 5) or rng.random() < 0.1:
            t = np.arange(int(0.3 * RATE)) / RATE
            hz = 45 + 110 * np.exp(-t / 0.03)
            boom = np.sin(2 * np.pi * np.cumsum(hz) / RATE) * np.exp(-t / 0.09)
            click = rng.standard_normal(len(t)) * np.exp(-t / 0.004) * 0.4
            parts.append(0.6 * boom + click)
        if index % 8 == 4 or rng.random() < 0.08:
            t = np.arange(int(0.5 * RATE)) / RATE
            shot = pink(int(rng.integers(1 << 30)), 0.5).sound[: len(t)] * 4
            parts.append(shot * np.exp(-t / rng.uniform(0.07, 0.12)))
        if index % 2 == 0 or rng.random() < 0.4:
            t = np.arange(int(0.15 * RATE)) / RATE
            hiss = np.diff(rng.standard_normal(len(t)), prepend=0.0)
            parts.append(0.15 * hiss * np.exp(-t / rng.uniform(0.015, 0.05)))
        for part in parts:
            out[at : at + len(part)] += part[: len(out) - at] * rng.uniform(0.7, 1.0)
    floor = pink(seed + 7, seconds).sound * 0.02
    return Bed(0.5 * out[:n] + floor[:n])


def _tone(hz: Wave, tilt: float, rng: np.random.Generator, uneven_db: float) -> Wave:
    """Return partials at whole multiples of hz(t), falling by `tilt` dB an octave."""
    partials = []
    for k in range(1, min(80, int(14000 / hz.max())) + 1):
        height = 10 ** ((tilt * np.log2(k) + rng.normal(0, uneven_db)) / 20)
        partials.append(height * np.exp(1j * rng.uniform(0, 6.28)))
    # The sum of powers of what turns, from the highest on (Horner).
    turning, out = np.exp(2j * np.pi * np.cumsum(hz) / RATE), np.zeros(len(hz), complex)
    for weight in reversed(partials):
        out += weight
        out *= turning
    return out.imag


def _swell(n: int, attack_s: float, release_s: float) -> Wave:
    t = np.arange(n) / RATE
    return np.minimum(1, t / attack_s) * np.minimum(1, (n / RATE - t) / release_s)


def melody(seed: int, seconds: float = 10.0, vibrato: float = 0.0, names: int | None = None) -> Bed:
    """Return one line of notes of a scale over two octaves, 2 to 5 a second.

    vibrato: depth in semitones. names: how many different notes there are, or all.
    """
    rng = np.random.default_rng(seed)
    scale = np.array([0, 2, 4, 5, 7, 9, 11, 12, 14, 16, 17, 19, 21, 23, 24])
    if names is not None:
        scale = rng.choice(scale, names, replace=False)
    base, tilt = rng.uniform(130, 300), rng.uniform(-9, -5)
    out, notes, at = np.zeros(int((seconds + 1) * RATE)), [], 0.05
    while at < seconds - 0.3:
        long = float(rng.choice([0.2, 0.3, 0.45]))
        hz = base * 2 ** (float(rng.choice(scale)) / 12)
        t = np.arange(int((long + 0.05) * RATE)) / RATE
        wobble = vibrato / 12 * np.sin(2 * np.pi * 5.5 * t + rng.uniform(0, 6))
        tone = _tone(hz * 2**wobble, tilt, rng, 1.5) * _swell(len(t), 0.015, 0.04)
        begin = int(at * RATE)
        out[begin : begin + len(t)] += tone * rng.uniform(0.5, 1.0)
        notes.append(Note(at, at + long, hz))
        at += long
    floor = np.random.default_rng(seed + 1).standard_normal(int(seconds * RATE)) * 1e-4
    return Bed(0.15 * out[: int(seconds * RATE)] + floor, tuple(notes))


CHORDS = ((0, 4, 7), (0, 3, 7, 12), (0, 5, 9), (0, 4, 7, 11))
"""Semitones over a root."""


def chords(seed: int, seconds: float = 10.0, vibrato: float = 0.0, held: int = 4) -> Bed:
    """Return `held` chords of three or four notes, one after another."""
    rng = np.random.default_rng(seed)
    n = int(seconds * RATE)
    out, notes = np.zeros(n), []
    base, tilt = rng.uniform(110, 220), rng.uniform(-9, -5)
    for index in range(held):
        begin, end = n * index // held, n * (index + 1) // held
        t = np.arange(end - begin) / RATE
        root = float(rng.integers(0, 12))
        for step in CHORDS[index % len(CHORDS)]:
            hz = base * 2 ** ((root + float(step)) / 12)
            rate = rng.uniform(4.5, 6.5)
            wobble = vibrato / 12 * np.sin(2 * np.pi * rate * t + rng.uniform(0, 6))
            out[begin:end] += _tone(hz * 2**wobble, tilt, rng, 1.0) * _swell(len(t), 0.05, 0.1)
            notes.append(Note(begin / RATE, end / RATE, hz))
    return Bed(0.08 * out + rng.standard_normal(n) * 1e-4, tuple(notes))


def tones(seed: int, seconds: float = 10.0) -> Bed:
    """Return one to three steady sounds with partials, from the beginning to the end."""
    rng = np.random.default_rng(seed)
    n = int(seconds * RATE)
    out, notes = np.zeros(n), []
    for _ in range(int(rng.integers(1, 4))):
        hz = rng.uniform(90, 900)
        out += _tone(np.full(n, hz), rng.uniform(-12, -4), rng, 2.0)
        notes.append(Note(0, seconds, hz))
    return Bed(0.1 * out + rng.standard_normal(n) * 1e-4, tuple(notes))


FORMANTS_HZ = ((250, 850), (850, 2400), (1900, 3800))
"""Between which the first three formants lie; within the usual spread, made up."""


def speech(seed: int, seconds: float = 10.0) -> Bed:
    """Return syllables: pulses of a gliding pitch through moving formants, hisses, pauses."""
    rng = np.random.default_rng(seed)
    n = int(seconds * RATE)
    out, notes = np.zeros(n + RATE), []
    middle, size, at = rng.uniform(95, 210), rng.uniform(0.9, 1.15), 0.05
    while at < seconds - 0.4:
        if rng.random() < 0.12:
            at += rng.uniform(0.15, 0.35)
        if rng.random() < 0.45:
            t = np.arange(int(rng.uniform(0.05, 0.12) * RATE))
            hiss = rng.standard_normal(len(t))
            low = rng.uniform(1500, 4500) / (RATE / 2)
            hiss = lfilter([1, -1], [1, -np.exp(-np.pi * low)], hiss) * _swell(len(t), 0.02, 0.02)
            begin = int(at * RATE)
            out[begin : begin + len(t)] += 0.05 * hiss
            at += len(t) / RATE
        long = rng.uniform(0.12, 0.28)
        m = int(long * RATE)
        u = np.linspace(0, 1, m)
        from_hz, to_hz = middle * 2 ** (rng.normal(0, 0.2, 2))
        hz = from_hz * (to_hz / from_hz) ** u
        voice = _tone(hz, -9, rng, 1.0) * _swell(m, 0.03, 0.05)
        here, there = (_vowel(rng) * size for _ in range(2))
        for f0, f1, width in zip(here, there, (70, 100, 140), strict=True):
            voice = _moving(voice, f0 * (f1 / f0) ** u, partial(_resonator, width=width))
        begin = int(at * RATE)
        out[begin : begin + m] += voice * rng.uniform(0.5, 1.0)
        for a in range(0, m, m // 4 or 1):
            notes.append(Note(at + a / RATE, at + a / RATE + long / 4, float(hz[min(a, m - 1)])))
        at += long
    sound = out[:n] / np.abs(out[:n]).max() * 0.5
    return Bed(sound + rng.standard_normal(n) * 3e-4, tuple(notes))


def _vowel(rng: np.random.Generator) -> Wave:
    return np.array([low * (high / low) ** rng.random() for low, high in FORMANTS_HZ])


def mix(seed: int, seconds: float = 10.0) -> Bed:
    """Return all of them at once: a dense mix."""
    parts = [drums(seed, seconds), melody(seed + 1, seconds), chords(seed + 2, seconds, 0.3)]
    return Bed(np.sum([p.sound for p in parts], axis=0), tuple(n for p in parts for n in p.notes))


def _resonator(hz: float, width: float) -> Wave:
    """Return b and a of a formant: a bell of 18 dB on the whole, as wide as it is said."""
    return bell(hz, hz / width / 2, 18.0)


def bell(hz: float, q: float, gain_db: float) -> Wave:
    """Return the section (6) of a peaking filter (W3C Audio EQ Cookbook)."""
    a = 10 ** (gain_db / 40)
    w = 2 * np.pi * hz / RATE
    alpha = np.sin(w) / (2 * q)
    b = np.array([1 + alpha * a, -2 * np.cos(w), 1 - alpha * a])
    under = np.array([1 + alpha / a, -2 * np.cos(w), 1 - alpha / a])
    return np.asarray(np.concatenate([b, under]) / under[0])


def _moving(sound: Wave, hz: Wave, section: Callable[[float], Wave], step: int = 96) -> Wave:
    """Return the sound through a section that is set anew every `step` frames."""
    out, state = np.empty_like(sound), np.zeros(2)
    for at in range(0, len(sound), step):
        numbers, part = section(float(hz[at])), sound[at : at + step]
        out[at : at + step], state = lfilter(numbers[:3], numbers[3:], part, zi=state)
    return out


def ringing(sound: Wave, rings: list[Ring]) -> Wave:
    """Return the sound with resonances put in."""
    t = np.arange(len(sound)) / RATE
    for ring in rings:
        if ring.octaves:
            hz = ring.hz * 2 ** (ring.octaves / 2 * np.sin(2 * np.pi * t / ring.period_s))
            sound = _moving(sound, hz, partial(bell, q=ring.q, gain_db=ring.gain_db))
        else:
            sound = sosfilt(bell(ring.hz, ring.q, ring.gain_db)[None], sound)
    return sound


def rings(seed: int, *, moving: bool = False) -> list[Ring]:
    """Return one to three resonances at least half an octave apart, as in the trial."""
    rng = np.random.default_rng(seed)
    found: list[Ring] = []
    wanted = int(rng.integers(1, 4))
    while len(found) < wanted:
        hz = 100 * 100 ** rng.random()
        q = float(2 * 15 ** rng.random())
        if moving:
            q = min(q, hz / 12)
            if q < 2:
                continue
        if all(abs(np.log2(hz / r.hz)) > 0.67 for r in found):
            gain = float(rng.uniform(6, 15))
            found.append(Ring(hz, q, gain, 1 / 3 if moving else 0.0, float(rng.uniform(4, 9))))
    return found


def excited(ring: Ring, notes: tuple[Note, ...]) -> int:
    """Return how many different notes (a semitone apart) have a partial inside its half width."""
    half = 1 / (2 * ring.q)
    names = set()
    for note in notes:
        k = max(1, round(ring.hz / note.hz))
        if abs(k * note.hz / ring.hz - 1) < half:
            names.add(round(12 * np.log2(note.hz)))
    return len(names)
