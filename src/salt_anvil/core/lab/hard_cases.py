"""What tells good processing from ordinary: high and low notes, beginnings, peaks, rings, loudness.

Sine tones, bursts and noise of our own, each as hard as it gets for one kind of fault.
"""

import math

import numpy as np

from salt_anvil.core.dsp.between import AFTER, BEFORE, pieces_into
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.lab.device import Device
from salt_anvil.core.lab.moved import jumped, louder, travelled
from salt_anvil.core.lab.result import FLOOR_DB, Figure, Plot, Result, Trace, db

LOWS = (25.0, 30.0, 40.0, 50.0, 60.0, 80.0, 100.0, 140.0, 200.0)
HIGH_HZ, FAST_HZ, BEGINS_HZ, THUMP_HZ = 11987.3, 5003.9, 1000.0, 120.0
OCTAVES = (125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0)
SETTLE_S, READ_S, SPARE_S = 1.0, 1.0, 0.5
FLOOR = to_gain(FLOOR_DB)
BELOW_DB = 24.0
"""So far under what is on the left lies the right, of whose fall is told."""
HIT_MS = (-60.0, 120.0)
WINDOW_MS, DENSE_MS = 20.0, (40.0, 100.0)
SHORT_S = 0.25
"""A tail that falls by 60 dB in less is gone before its level is read."""
HIT_HZ = 220.0
TAIL = 1e-4
"""Share of a hit's energy that has to lie behind 40 ms to be called a tail."""
NOISE_OUTSIDE = math.erfc(1 / math.sqrt(2))
"""Share of noise that lies more than its deviation from 0."""


def _settled(device: Device, hz: float, level_db: float) -> tuple[Vector, Vector]:
    """Return a second of a sine, and what comes out of it."""
    rate = device.rate
    at = np.arange(round((SETTLE_S + READ_S + SPARE_S) * rate)) / rate
    tone = to_gain(level_db) * np.sin(2 * np.pi * hz * at)
    read = slice(round(SETTLE_S * rate), round((SETTLE_S + READ_S) * rate))
    return tone[read], device.run(tone)[read]


def _envelope(line: Vector, hz: float, rate: int) -> Vector:
    """Return the height of what lies within 2 kHz of a frequency, the ends left out."""
    window = np.hanning(len(line) + 2)[1:-1]
    lines = np.fft.fft(line * window)
    at = np.fft.fftfreq(len(line), 1 / rate)
    lines[(at < hz - 2000) | (at > hz + 2000)] = 0
    middle = slice(len(line) // 4, -len(line) // 4)
    return np.asarray((2 * np.abs(np.fft.ifft(lines)) / window)[middle])


def _high(device: Device, level_db: float) -> tuple[Figure, Plot]:
    """How steadily a high tone is turned up or down."""
    rate = device.rate
    tone, out = _settled(device, HIGH_HZ, level_db)
    gain = db(_envelope(out, HIGH_HZ, rate)) - db(_envelope(tone, HIGH_HZ, rate))
    shown = gain[: round(0.02 * rate)]
    low = math.floor(float(shown.min()) - 0.5)
    plot = Plot(
        "Gain on 12 kHz", "ms", "dB", [round(1000 * i / rate, 3) for i in range(len(shown))],
        low, max(math.ceil(float(shown.max()) + 0.5), low + 2),
        [Trace("gain", [round(float(v), 4) for v in shown])],
    )  # fmt: skip
    # What moves slowly all along, as a leveller does, is no wobble.
    trend = np.polyval(np.polyfit(np.arange(len(gain)), gain, 1), np.arange(len(gain)))
    return Figure("wobble of 12 kHz", round(float(np.ptp(gain - trend)), 3), "dB"), plot


def _beside(device: Device, level_db: float) -> Figure:
    """What lies beside a tone and is no harmonic of it."""
    rate = device.rate
    _, out = _settled(device, FAST_HZ, level_db)
    lines = np.abs(np.fft.rfft(out * np.kaiser(len(out), 20)))
    at = np.fft.rfftfreq(len(out), 1 / rate)
    harmonic = np.abs(at - FAST_HZ * np.round(at / FAST_HZ)) < 60
    carrier = lines[np.abs(at - FAST_HZ) < 30].max()
    beside = lines[~harmonic & (at > 60) & (at < 20000)].max()
    return Figure("beside 5 kHz", round(float(db(beside / max(carrier, FLOOR))), 1), "dB")


def _low_notes(device: Device, level_db: float) -> tuple[list[Figure], Plot]:
    """What is not the note, rising or falling evenly, in percent of it (THD+N, least squares)."""
    found = []
    for hz in LOWS:
        _, out = _settled(device, hz, level_db)
        turn = 2 * np.pi * hz * np.arange(len(out)) / device.rate
        along = np.linspace(-1, 1, len(out))
        waves = [np.sin(turn), np.cos(turn)]
        basis = np.stack([*waves, np.ones(len(out)), *(along * w for w in waves)], axis=1)
        parts, *_ = np.linalg.lstsq(basis, out, rcond=None)
        note = max(float(np.hypot(parts[0], parts[1])) / math.sqrt(2), FLOOR)
        found.append(100 * float((out - basis @ parts).std()) / note)
    plot = Plot(
        "Low notes: what is not the note", "Hz", "dB", list(LOWS), -170, 0,
        [Trace("THD+N", [round(float(db(v / 100)), 2) for v in found])], log=True,
    )  # fmt: skip
    named = dict(zip(LOWS, found, strict=True))
    return [Figure(f"THD+N of {hz:g} Hz", round(named[hz], 4), "%") for hz in (40.0, 60.0)], plot


def _begins(device: Device, level_db: float) -> tuple[Figure, Plot]:
    """What is heard below 120 Hz when a tone of 1 kHz begins in 4 ms."""
    from scipy import signal  # takes a second to import

    rate = device.rate
    at: Vector = np.arange(rate) / rate - 0.3
    swell = 0.5 - 0.5 * np.cos(np.pi * np.clip(at / 0.004, 0, 1))
    out = device.run(to_gain(level_db) * np.sin(2 * np.pi * BEGINS_HZ * at) * swell)
    low = signal.sosfilt(signal.butter(6, THUMP_HZ, fs=rate, output="sos"), out)
    low = low[: -round(0.2 * rate)]
    starts = range(round(0.28 * rate), round(0.42 * rate), max(rate // 1000, 1))
    tops = [float(db(np.abs(low[i : i + rate // 500]).max())) for i in starts]
    x = [round(1000 * float(at[i]), 2) for i in starts]
    plot = Plot(
        "A tone begins: below 120 Hz", "ms", "dBFS", x,
        -120, 0, [Trace("level", [round(v, 2) for v in tops])],
    )  # fmt: skip
    return Figure("begins, below 120 Hz", round(float(db(np.abs(low).max())), 1), "dBFS"), plot


def _peaks(device: Device, level_db: float) -> Figure:
    """The true peak of signs at random, whose own is far over their level."""
    signs = np.where(np.random.default_rng(5).random(device.rate) < 0.5, -1.0, 1.0)
    out = device.run(to_gain(level_db) * signs)[: -round(0.2 * device.rate)]
    whole = np.concatenate([np.zeros(BEFORE), out, np.zeros(AFTER)])[:, None]
    most = np.zeros(1)
    pieces_into(most, np.ascontiguousarray(whole), len(out))
    return Figure("random signs, peak", round(float(db(most[0])), 2), "dBTP")


def _hit(device: Device, level_db: float) -> tuple[list[Figure], list[Plot]]:
    """What is heard before a hit and behind it; of a tail, how dense and how long it is."""
    rate = device.rate
    pulse = np.zeros(round(3.5 * rate))
    at = round(1.5 * rate)
    pulse[at] = to_gain(level_db)
    out = device.run(pulse)
    early = float(np.square(out[: at - round(0.001 * rate)]).sum())
    whole = max(float(np.square(out).sum()), FLOOR**2)
    figures = [Figure("before a hit", round(10 * math.log10(max(early / whole, 1e-16)), 1), "dB")]
    plots = []
    behind = out[at + round(DENSE_MS[0] * rate / 1000) :]
    if float(np.square(behind).sum()) > TAIL * whole:
        figures += [
            Figure("echo density", round(_density(out[at:], rate), 2), ""),
            Figure("decay by 60 dB", _decay_s(out[at:], rate), "s"),
            Figure("tail, scatter", _scatter_db(out[at:], rate), "dB"),
        ]
        plots = _decays(out[at:], rate)
    first, last = (at + round(ms * rate / 1000) for ms in HIT_MS)
    step = max((last - first) // 600, 1)
    tops = [
        float(db(np.abs(out[i : i + step]).max() / to_gain(level_db)))
        for i in range(first, last, step)
    ]
    x = [round(1000 * (i - at) / rate, 2) for i in range(first, last, step)]
    plot = Plot("A hit", "ms", "dB", x, -120, 6, [Trace("level", [round(v, 2) for v in tops])])
    return figures, [plot, *plots]


def _first_hit(device: Device, level_db: float) -> Figure:
    """How much higher the first hit after a silence is than it came in."""
    rate = device.rate
    at = np.arange(rate) / rate - 0.3
    swell = np.clip(at / 0.002, 0, 1) * np.exp(-np.maximum(at, 0) / 0.06)
    hit = swell * np.sin(2 * np.pi * HIT_HZ * at)
    hit *= to_gain(level_db) / np.abs(hit).max()
    most = np.abs(device.run(hit)[: -round(0.2 * rate)]).max()
    return Figure("first hit, peak", round(float(db(most) - level_db), 2), "dB")


def _scatter_db(tail: Vector, rate: int) -> float | None:
    """Return how a tail's level scatters over frequency: 5.6 dB is diffuse (Schroeder 1954)."""
    from scipy import signal

    decay = _decay_s(tail, rate)
    begin, frames = round(0.05 * rate), round(0.6 * rate)
    if decay is None or decay < SHORT_S:
        return None
    part = tail[begin : begin + frames] * 10 ** (3 * np.arange(frames) / rate / decay)
    hz = np.fft.rfftfreq(frames, 1 / rate)
    level = db(np.fft.rfft(part * np.hanning(frames)))[(hz > 100) & (hz < 10000)]
    return round(float((level - signal.savgol_filter(level, 201, 2)).std()), 2)


def _decays(tail: Vector, rate: int) -> list[Plot]:
    """Return how long a tail takes to fall by 60 dB in each octave (IEC 61260-1's middles)."""
    from scipy import signal

    middles = [hz for hz in OCTAVES if hz * math.sqrt(2) < 0.48 * rate]
    found = []
    for hz in middles:
        edges = (hz / math.sqrt(2), hz * math.sqrt(2))
        octave = signal.butter(4, edges, "bandpass", fs=rate, output="sos")
        found.append(_decay_s(signal.sosfilt(octave, tail), rate))
    if any(v is None for v in found):
        return []
    seconds = [v or 0.0 for v in found]
    top = math.ceil(1.2 * max(seconds) * 2) / 2
    return [
        Plot("Decay by octaves", "Hz", "s", middles, 0, top, [Trace("60 dB", seconds)], log=True)
    ]


def _other_side(device: Device, level_db: float) -> list[Figure]:
    """By how much a quiet right falls under a hit on the left, and under what lasts there."""
    rate = device.rate
    at = np.arange(round(1.5 * rate)) / rate
    quiet = to_gain(level_db - BELOW_DB) * np.sin(2 * np.pi * BEGINS_HZ * at)
    turn = round(rate / BEGINS_HZ)
    found = []
    for name, seconds in (("a hit", 0.012), ("what lasts", 0.6)):
        inside = np.clip(np.minimum(at - 0.5, 0.5 + seconds - at) / 0.001, 0, 1)
        loud = to_gain(level_db) * np.sin(2 * np.pi * 3 * BEGINS_HZ * at) * inside
        out = device.run_both(np.stack([loud, quiet], axis=1))[: round(1.2 * rate), 1]
        tops = np.abs(out[: len(out) // turn * turn]).reshape(-1, turn).max(axis=1)
        before, least = tops[round(0.4 * rate) // turn], tops[round(0.45 * rate) // turn :].min()
        fall = float(db(before) - db(least)) if before > FLOOR else None
        found.append(
            Figure(f"right, by {name} left", None if fall is None else round(fall, 2), "dB")
        )
    return found


def _density(tail: Vector, rate: int) -> float:
    """Return the echo density from 40 to 100 ms (Abel and Huang 2006): 1 is noise."""
    size = round(WINDOW_MS * rate / 1000)
    first, last = (round(ms * rate / 1000) for ms in DENSE_MS)
    shares = []
    for begin in range(first, last - size + 1, size):
        part = tail[begin : begin + size]
        shares.append(float((np.abs(part) > part.std()).mean()) / NOISE_OUTSIDE)
    return sum(shares) / len(shares)


def _decay_s(tail: Vector, rate: int) -> float | None:
    """Return the time of a decay by 60 dB, from 5 to 25 dB down (Schroeder 1965; ISO 3382)."""
    left = np.cumsum(np.square(tail[::-1]))[::-1]
    level = 10 * np.log10(np.maximum(left / max(float(left[0]), 1e-30), 1e-16))
    late = level[round(DENSE_MS[0] * rate / 1000) :] - level[round(DENSE_MS[0] * rate / 1000)]
    begin, end = int(np.argmax(late <= -5)), int(np.argmax(late <= -25))
    return round(3 * (end - begin) / rate, 2) if end > begin else None


def hard_cases(device: Device, level_db: float, noise: Vector) -> Result:
    """Return what each of the hard cases comes to. noise: pink, a few seconds at the level."""
    high, gain = _high(device, level_db)
    low, notes = _low_notes(device, level_db)
    begins, thump = _begins(device, level_db)
    hit, rings = _hit(device, level_db)
    jump, jumps = jumped(device, level_db)
    travel, travels = travelled(device, noise)
    late = Figure("late", round(1000 * device.latency / device.rate, 3), "ms")
    figures = [
        high, _beside(device, level_db), *low, begins, _peaks(device, level_db),
        _first_hit(device, level_db), *hit, *jump, *_other_side(device, level_db),
        louder(device, noise), *travel, late,
    ]  # fmt: skip
    words = f"tones, signs, a hit and pink noise, peaks at {level_db:g} dBFS"
    return Result(
        "hard-cases", words, device.rate, figures, [gain, notes, thump, *rings, *jumps, *travels]
    )
