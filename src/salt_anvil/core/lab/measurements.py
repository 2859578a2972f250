"""The measurements of Lab. Each takes a device and options and gives a result."""

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from itertools import pairwise
from typing import Any, Literal

import numpy as np
from pydantic import Field

from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.errors import SettingError
from salt_anvil.core.lab.device import Channel, Device, Measured, Printed
from salt_anvil.core.lab.hard_cases import hard_cases
from salt_anvil.core.lab.result import FLOOR_DB, Figure, Plot, Result, Trace, beside, db
from salt_anvil.core.processors import Context, processor
from salt_anvil.core.processors.drawing import LevelCurve, Line
from salt_anvil.core.recipe import Recipe
from salt_anvil.core.session import SAMPLE_RATES, Model, Stage

SETTLE_S = 2.0
EDGE = 9
"""Frames in which a step goes from one height to the other."""
TAIL_S = 0.4
"""Signals go on so long behind what is read: processors look ahead, into an end as well."""
HARMONICS = 10
AUDIBLE = (20.0, 20000.0)
"""Band of the figures, as AES17 has it (from memory)."""
Name = Literal["harmonics", "sweep", "steps", "curve", "response", "difference", "hard-cases"]


class LabOptions(Model):
    """What is measured, with which signal. rate: None is the session's."""

    measurement: Name = "harmonics"
    rate: int | None = Field(None, ge=SAMPLE_RATES[0], le=SAMPLE_RATES[1])
    level_db: float = Field(-12, ge=-90, le=12)
    """Peak of the signal, dBFS; of the louder part of a step; of the noise of `difference`."""
    from_db: float = Field(-40, ge=-90, le=12)
    """Peak before and after a step."""
    hz: float = Field(1000, ge=0, le=20000)
    """Of the sine; for steps and curve 0 is a constant (DC)."""
    channel: Channel = "both"
    printed: Printed = "float"
    """What the sound is rounded to at its end, as a print would be."""


def _list(values: Any, digits: int = 4) -> list[float]:
    return [round(float(v), digits) for v in values]


def _tone(hz: float, seconds: float, rate: int, level_db: float, phase: float = 0.0) -> Vector:
    at = np.arange(round(seconds * rate))
    return np.asarray(to_gain(level_db) * np.cos(2 * np.pi * hz * at / rate + phase))


class _Lines:
    """The spectrum of a settled sine: one line a hertz, one second."""

    def __init__(self, device: Device, hz: int, level_db: float) -> None:
        rate = device.rate
        first = round(SETTLE_S * rate)
        tone = _tone(hz, SETTLE_S + 1 + TAIL_S, rate, level_db, -np.pi / 2)
        out = device.run(tone)[first : first + rate]
        self.power = np.square(np.abs(np.fft.rfft(out)) * (2 / rate)) / 2
        self.power[0] = float(out.mean()) ** 2
        low, high = AUDIBLE[0], min(AUDIBLE[1], rate / 2)
        bins = np.arange(len(self.power))
        self.heard = (bins >= low) & (bins <= high)
        self.orders = np.arange(hz, len(self.power), hz)
        self.base = max(float(self.power[hz]), 1e-30)

    def relative_db(self, power: float) -> float:
        """Return a power against the fundamental's."""
        return max(10 * math.log10(max(power / self.base, 1e-30)), FLOOR_DB)

    def folded(self) -> float:
        """Return the power that is not harmonic, 20 Hz to 20 kHz."""
        harmonic = np.zeros(len(self.power), bool)
        harmonic[self.orders] = True
        return float(self.power[self.heard & ~harmonic].sum())


def _notifying(hz: int, rate: int) -> int:
    """Return a frequency from hz on whose folded harmonics do not fall on its harmonics."""
    return next(h for h in range(hz, hz + rate) if rate % h)


def harmonics(device: Device, options: LabOptions) -> Result:
    """Return the harmonics of a sine, THD, THD+N (AES17) and what is folded back."""
    hz = round(options.hz)
    if not 10 <= hz <= device.rate / 2.2:
        raise SettingError(f"hz is {options.hz:g}; allowed for harmonics: 10 to half the rate")
    lines = _Lines(device, hz, options.level_db)
    parts = lines.power[lines.orders]
    inside = parts[1:][lines.orders[1:] <= AUDIBLE[1]]
    even, odd = float(parts[1::2].sum()), float(parts[2::2].sum())
    total = float(lines.power[lines.heard].sum()) - lines.base
    level = 10 * math.log10(2 * lines.base)
    shown = [lines.relative_db(float(p)) for p in parts[:HARMONICS]]
    shown += [FLOOR_DB] * (HARMONICS - len(shown))
    thd = math.sqrt(float(inside.sum()) / lines.base)
    figures = [
        Figure("gain", round(level - options.level_db, 3), "dB"),
        Figure("THD", round(100 * thd, 5), "%"),
        Figure("THD", round(lines.relative_db(float(inside.sum())), 2), "dB"),
        Figure("THD+N, 20 Hz to 20 kHz", round(lines.relative_db(max(total, 0.0)), 2), "dB"),
        Figure("even", round(lines.relative_db(even), 2), "dB"),
        Figure("odd", round(lines.relative_db(odd), 2), "dB"),
        _not_harmonic(device, lines, hz, options.level_db),
        Figure("offset", round(10 * math.log10(max(float(lines.power[0]), 1e-30)), 1), "dBFS"),
    ]
    bars = Plot(
        "Harmonics",
        "order",
        "dB",
        [float(n) for n in range(1, HARMONICS + 1)],
        -140,
        0,
        [Trace("level", _list(shown))],
        "bars",
    )
    return Result(
        "harmonics", f"{hz} Hz at {options.level_db:g} dBFS", device.rate, figures, [bars]
    )


def _not_harmonic(device: Device, lines: _Lines, hz: int, level_db: float) -> Figure:
    """Return what is folded back, of a sine beside this one where it could not be told apart."""
    telling, label = _notifying(hz, device.rate), "not harmonic"
    if telling != hz:
        lines, label = _Lines(device, telling, level_db), f"not harmonic, {telling} Hz"
    return Figure(label, round(lines.relative_db(lines.folded()), 2), "dB")


SWEEP_S, COLUMNS, ROWS = 8.0, 240, 160


def sweep(device: Device, options: LabOptions) -> Result:
    """Return the spectrogram of a straight rising sweep, and what single sines fold back."""
    rate = device.rate
    top = 0.45 * rate
    at = np.arange(round(SWEEP_S * rate)) / rate
    rising = to_gain(options.level_db) * np.sin(np.pi * (top / SWEEP_S) * at * at)
    out = device.run(rising)
    size = 2048 * max(round(rate / 48000), 1)
    hop = (len(out) - size) // (COLUMNS - 1)
    window = np.kaiser(size, 15.0)
    frames = np.stack([out[k * hop : k * hop + size] for k in range(COLUMNS)])
    level = np.abs(np.fft.rfft(frames * window, axis=1)) / (window.sum() / 2)
    edges = np.linspace(0, level.shape[1], ROWS + 1).astype(int)
    rows = np.array([level[:, a:b].max(axis=1) for a, b in pairwise(edges)])
    grey = np.clip((db(rows) + 120) * 255 / 120, 0, 255).astype(int)
    times = (np.arange(COLUMNS) * hop + size / 2) / rate
    shades = Plot(
        "Rising sweep",
        "sweep, kHz",
        "kHz",
        _list(top / SWEEP_S * times / 1000),
        0.0,
        rate / 2000,
        kind="image",
        levels=grey.tolist(),
    )
    steps_hz = [5000.0, *np.geomspace(1000, min(16000, 0.4 * rate), 16)]
    tones = np.unique([_notifying(round(hz), rate) for hz in steps_hz])
    found = [_Lines(device, int(hz), options.level_db) for hz in tones]
    folded = [lines.relative_db(lines.folded()) for lines in found]
    worst = int(np.argmax(folded))
    figures = [
        Figure("folded back, at most", round(folded[worst], 2), "dB"),
        Figure("at", float(tones[worst]), "Hz"),
        Figure("folded back, 5 kHz", round(_at(tones, folded, 5000), 2), "dB"),
    ]
    folds = Plot(
        "Not harmonic, 20 Hz to 20 kHz",
        "Hz",
        "dB",
        _list(tones),
        -140,
        0,
        [Trace("against the sine", _list(folded))],
        log=True,
    )
    words = f"0 to {top / 1000:g} kHz at {options.level_db:g} dBFS"
    return Result("sweep", words, rate, figures, [shades, folds])


def _at(hz: Any, levels: list[float], where: float) -> float:
    return float(np.interp(math.log(where), np.log(hz), levels))


BEFORE_S, HIGH_S, AFTER_S = 1.0, 2.0, 4.0
AHEAD_S, SHOWN_S = 0.03, 0.003
"""What is looked at before an edge (more than any look-ahead), and what is drawn of it."""
SHARES = (1 - math.exp(-1), 0.9)


def _gain(device: Device, heights: Vector, hz: float) -> Vector:
    """Return the gain in dB, a value a frame, under a signal of these heights.

    hz 0: a constant. Otherwise two runs, a quarter of a period apart, make the envelope.
    """
    count = len(heights)
    held = np.concatenate([heights, np.full(round(TAIL_S * device.rate), heights[-1])])
    # A bare step reaches beyond itself between the samples, which a detector hears.
    edge = np.hanning(EDGE + 2)[1:-1] / np.hanning(EDGE + 2).sum()
    held = np.convolve(np.pad(held, EDGE // 2, "edge"), edge, "valid")
    heights = held[:count]
    turn = 2 * np.pi * hz * np.arange(len(held)) / device.rate
    out = device.run(held * np.cos(turn))[:count]
    if hz == 0:
        return np.asarray(db(out / heights))
    other = device.run(held * np.sin(turn))[:count]
    return np.asarray(db(np.sqrt(out**2 + other**2) / heights))


def _passes(device: Device) -> bool:
    """Say whether a constant comes through."""
    still = device.run(np.full(device.rate, to_gain(-60)))
    return bool(abs(still[-1]) > to_gain(-66))


def _signal_hz(device: Device, options: LabOptions) -> tuple[float, str]:
    """Return the frequency to use: where a constant is blocked, 1 kHz stands in for it."""
    if options.hz > 0:
        return options.hz, f"{options.hz:g} Hz"
    if _passes(device):
        return 0.0, "a constant"
    return 1000.0, "1000 Hz (a constant does not pass)"


def _times(gain: Vector, edge: int, rate: int) -> tuple[float, float | None, float | None]:
    """Return where in ms a course begins, and when it has made 63 and 90 % of its way in dB.

    edge: where the signal changes; with look-ahead time counts from where the gain moves first.
    """
    start, end = gain[0], gain[-1]
    if abs(end - start) < 0.05:
        return 0.0, None, None
    way = (gain - start) / (end - start)
    begin = min(edge, int(np.argmax(np.abs(way) > 0.005)))
    short, long = (float((np.argmax(way >= s) - begin) * 1000 / rate) for s in SHARES)
    return (begin - edge) * 1000 / rate, short, long


def steps(device: Device, options: LabOptions) -> Result:
    """Return the gain after a step up and one down, and the times to 63 % of the way."""
    rate = device.rate
    hz, words = _signal_hz(device, options)
    counts = [round(s * rate) for s in (BEFORE_S, HIGH_S, AFTER_S)]
    heights = np.repeat(
        [to_gain(options.from_db), to_gain(options.level_db), to_gain(options.from_db)], counts
    )
    gain = _gain(device, heights, hz)
    up, down = counts[0], counts[0] + counts[1]
    ahead = round(AHEAD_S * rate)
    rises, falls = gain[up - ahead : down - ahead], gain[down - ahead :]
    times = [("attack", *_times(rises, ahead, rate)), ("release", *_times(falls, ahead, rate))]
    figures = [
        Figure("gain before", round(float(gain[up - round(0.05 * rate)]), 2), "dB"),
        Figure("gain when louder", round(float(gain[down - ahead - 1]), 2), "dB"),
        Figure("least gain", round(float(gain.min()), 2), "dB"),
    ]
    plots = []
    for (name, begin, short, long), part in zip(times, (rises, falls), strict=True):
        figures += [
            Figure(f"{name} to 63 %", None if short is None else round(short, 2), "ms"),
            Figure(f"{name} to 90 %", None if long is None else round(long, 2), "ms"),
        ]
        first = ahead - round(SHOWN_S * rate)
        end = min(ahead + max(3 * (long or 5.0), 10.0) * rate / 1000, len(part) - 1)
        at = np.unique(np.linspace(first, end, 300).astype(int))
        low = min(math.floor((float(gain.min()) - 1) / 6) * 6, -6)
        high = max(math.ceil((float(gain.max()) + 1) / 6) * 6, 0)
        marks = [] if short is None else [(begin + short, f"63 % after {short:.3g} ms")]
        drawn = [Trace("gain", _list(part[at]))]
        plots.append(
            Plot(
                f"After the step {'up' if name == 'attack' else 'down'}",
                "ms",
                "dB",
                _list((at - ahead) * 1000 / rate),
                low,
                high,
                drawn,
                marks=marks,
            )
        )
    said = f"{words}, from {options.from_db:g} to {options.level_db:g} dBFS and back"
    return Result("steps", said, rate, figures, plots)


LEVELS = np.arange(-60.0, 0.1, 2.0)
HELD_S = 0.7


def curve(device: Device, options: LabOptions) -> Result:
    """Return level in against level out, rising, and how far it is from what is drawn."""
    rate = device.rate
    hz, words = _signal_hz(device, options)
    heights = np.repeat(10 ** (LEVELS / 20), round(HELD_S * rate))
    gain = _gain(device, heights, hz)
    tail = round(0.05 * rate)
    rows = gain.reshape(len(LEVELS), -1)[:, -tail:]
    out = LEVELS + rows.mean(axis=1)
    traces = [Trace("measured", _list(out))]
    drawn = _drawn(device)
    figures = [Figure("gain at -60 dBFS", round(float(out[0] + 60), 2), "dB"),
               Figure("gain at 0 dBFS", round(float(out[-1]), 2), "dB")]  # fmt: skip
    if drawn is not None:
        expected = np.interp(LEVELS, *np.array(drawn).T)
        traces.append(Trace("drawn", _list(expected), drawn=True))
        apart = float(np.abs(out - expected)[expected > -80].max())
        figures.append(Figure("measured from drawn, at most", round(apart, 3), "dB"))
    plot = Plot("Level in against level out", "dBFS in", "dBFS out", _list(LEVELS), -80, 12, traces)
    return Result("curve", f"{words}, rising", rate, figures, [plot])


def _drawn(device: Device) -> Line | None:
    """Return the static curve that a single stage draws of itself."""
    chain = device.recipe.chain
    if len(chain) != 1 or not isinstance(chain[0], Stage):
        return None
    stage = chain[0]
    context = Context(device.rate, 2, device.recipe.bpm)
    found = processor(stage.kind).drawing(stage.params, context)
    if isinstance(found, LevelCurve) and stage.on and stage.mix == 1:
        return found.curve
    return None


def response(device: Device, options: LabOptions) -> Result:
    """Return magnitude, phase and group delay of a short pulse, the latency taken out."""
    rate = device.rate
    size = 1 << (round(1.4 * rate) - 1).bit_length()
    first = rate // 2
    pulse = np.zeros(size + first)
    pulse[first] = to_gain(options.level_db)
    spectrum = np.fft.rfft(device.run(pulse)[first:]) / pulse[first]
    hz = np.fft.rfftfreq(size, 1 / rate)
    turned = np.unwrap(np.angle(spectrum))
    delay = -np.gradient(turned, 2 * np.pi * hz) * 1000
    at = np.geomspace(20, 0.45 * rate, 300)
    level = np.interp(at, hz, db(spectrum))
    phase = np.interp(at, hz, turned)
    phase -= 2 * np.pi * np.round(phase[np.argmin(np.abs(at - 1000))] / (2 * np.pi))
    late = np.interp(at, hz, delay)
    loud = level > level.max() - 60
    figures = [
        Figure("level at 1 kHz", round(_at(at, list(level), 1000), 3), "dB"),
        Figure("highest", round(float(level.max()), 3), "dB"),
        Figure("lowest, 20 Hz to 20 kHz", round(float(level[at <= 20000].min()), 2), "dB"),
        Figure("latency", round(device.latency * 1000 / rate, 3), "ms"),
    ]
    limits = [
        _around(level[loud], 6, 3), _around(np.degrees(phase[loud]), 90, 10),
        _around(late[loud], 1, 0.05),
    ]  # fmt: skip
    plots = [
        Plot(title, "Hz", unit, _list(at, 2), low, high, [Trace(name, _list(values))], log=True)
        for (title, unit, name, values), (low, high) in zip(
            [
                ("Magnitude", "dB", "level", level),
                ("Phase", "degrees", "phase", np.degrees(phase)),
                ("Group delay", "ms", "delay", late),
            ],
            limits,
            strict=True,
        )
    ]
    return Result("response", f"a pulse of {options.level_db:g} dBFS", rate, figures, plots)


def _around(values: Vector, step: float, spare: float) -> tuple[float, float]:
    """Return limits in whole steps with something to spare."""
    low, high = float(values.min()) - spare, float(values.max()) + spare
    return min(math.floor(low / step) * step, -step), max(math.ceil(high / step) * step, step)


NOISE_S = 4.0


def pink(frames: int, rate: int, level_db: float) -> Vector:
    """Return noise that falls by 3 dB per octave from 20 Hz on, the same every time."""
    white = np.fft.rfft(np.random.default_rng(7).standard_normal(frames))
    hz = np.fft.rfftfreq(frames, 1 / rate)
    shaped = np.fft.irfft(white / np.sqrt(np.maximum(hz, 20.0)), frames)
    return np.asarray(shaped * (to_gain(level_db) / np.abs(shaped).max()))


def difference(device: Device, options: LabOptions, other: Device | None = None) -> Result:
    """Return what another setting makes of pink noise that this one does not.

    Without another setting it is set against the noise itself: what the chain changes.
    """
    from scipy import signal  # takes a second to import

    rate = device.rate
    noise = pink(round(NOISE_S * rate), rate, options.level_db)
    out = device.run(noise)
    against = noise if other is None else other.run(noise)
    read = slice(len(noise) // 4, len(noise) - round(TAIL_S * rate))
    out, against = out[read], against[read]
    hz, mine = signal.welch(out, rate, nperseg=8192)
    _, theirs = signal.welch(against, rate, nperseg=8192)
    _, apart = signal.welch(out - against, rate, nperseg=8192)
    at = np.geomspace(20, min(20000, 0.45 * rate), 120)
    bands = [_per_octave(hz, power, at) for power in (mine, theirs, apart)]
    spread = float(np.square(out - against).mean())
    whole = float(np.square(out).mean()) + 1e-30
    reference = float(np.square(against).mean()) + 1e-30
    null = max(10 * math.log10(spread / whole + 1e-30), FLOOR_DB)
    figures = [
        Figure("difference", round(null, 2), "dB"),
        Figure("louder by", round(10 * math.log10(whole / reference), 3), "dB"),
    ]
    names = ("this setting", "the other" if other else "the noise", "difference")
    traces = [Trace(n, _list(b), drawn=n == names[1]) for n, b in zip(names, bands, strict=True)]
    top = math.ceil(max(float(b.max()) for b in bands[:2]) / 6) * 6
    plot = Plot(
        "Per third of an octave", "Hz", "dB", _list(at, 2), top - 120, top, traces, log=True
    )
    return Result(
        "difference", f"pink noise, peaks at {options.level_db:g} dBFS", rate, figures, [plot]
    )


def _per_octave(hz: Vector, density: Vector, at: Vector) -> Vector:
    whole = np.concatenate([[0.0], np.cumsum(density) * (hz[1] - hz[0])])
    edges = np.concatenate([hz - (hz[1] - hz[0]) / 2, [hz[-1] + (hz[1] - hz[0]) / 2]])
    low, high = (np.interp(at * 2 ** (s / 6), edges, whole) for s in (-1, 1))
    return np.asarray(10 * np.log10(np.maximum(high - low, 1e-16)))


def _hard_cases(device: Device, options: LabOptions) -> Result:
    noise = pink(round(NOISE_S * device.rate), device.rate, options.level_db)
    return hard_cases(device, options.level_db, noise)


@dataclass(frozen=True)
class Side:
    """A setting, its name beside another, and what is known of its loudness over a song."""

    recipe: Recipe
    name: str = ""
    measured: Measured = field(default_factory=dict)


MEASUREMENTS: dict[str, Callable[[Device, LabOptions], Result]] = {
    "harmonics": harmonics,
    "sweep": sweep,
    "steps": steps,
    "curve": curve,
    "response": response,
    "difference": difference,
    "hard-cases": _hard_cases,
}


def measure(
    side: Side,
    options: LabOptions,
    rate: int,
    against: Side | None = None,
) -> Result:
    """Measure a setting. Loudness that is kept and is not known is measured over pink noise.

    rate: where the options leave it open. against: another one, which is measured beside it, or
    of `difference` taken away.

    Raises:
        CoreError: the chain cannot be run at this rate, or the options do not go together.
    """
    sides = [side] if against is None else [side, against]
    devices, kept = [], set()
    for one in sides:
        device = Device(
            one.recipe, options.rate or rate, options.channel,
            printed=options.printed, measured=one.measured,
        )  # fmt: skip
        fresh = device.listen(pink(round(NOISE_S * device.rate), device.rate, options.level_db))
        if fresh:
            kept.add("pink noise")
        if device.measured.keys() - fresh:
            kept.add("the song")
        devices.append(device)
    find = MEASUREMENTS[options.measurement]
    if against is None:
        found = find(devices[0], options)
    elif options.measurement == "difference":
        found = difference(devices[0], options, devices[1])
    else:
        first, second = (find(device, options) for device in devices)
        found = beside(first, second, side.name, against.name)
    words = found.words
    if kept:
        words += f"; loudness kept as over {' and '.join(sorted(kept))}"
    if options.printed != "float":
        words += f"; rounded to {options.printed}"
    return replace(found, words=words)
