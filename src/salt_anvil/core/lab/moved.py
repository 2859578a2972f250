"""What is heard of a control that jumps, and of a join on its way from one side to the other."""

import math
from collections.abc import Iterator

import numpy as np

from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.engine.automation import scale_of
from salt_anvil.core.errors import SettingError
from salt_anvil.core.lab.device import Device
from salt_anvil.core.lab.result import FLOOR_DB, Figure, Plot, Trace, db
from salt_anvil.core.measure.rows import RowMeter, figures
from salt_anvil.core.processors import processor
from salt_anvil.core.session import Automation, Element, Point, Split, Stage, elements

LOW_HZ, CLICK_HZ = 200.0, 4000.0
JUMP_S, AROUND_S, LENGTH_S = 0.6, 0.05, 1.1
STEP_S = 0.001
POSITIONS = (0.0, 0.125, 0.25, 0.375, 0.5, 0.625, 0.75, 0.875, 1.0)


def _jumps(chain: list[Element]) -> Iterator[tuple[str, Automation]]:
    """Yield what every level of a chain is called, and its jump to its further end."""
    for stage in elements(chain):
        if not isinstance(stage, Stage):
            continue
        for control in processor(stage.kind).describe().controls:
            now = getattr(stage.params, control.name)
            if control.unit != "dB" or control.type != "number" or now is None:
                continue
            try:
                scale = scale_of(stage, control.name)
            except SettingError:  # it stands
                continue
            far = scale.low if now - scale.low > scale.high - now else scale.high
            points = [
                Point(at_s=0, value=now, shape="stepped"),
                Point(at_s=JUMP_S, value=far, shape="stepped"),
            ]
            name = f"{processor(stage.kind).title}, {control.label.lower()}"
            yield name, Automation(owner=stage.id, control=control.name, points=points)


def jumped(device: Device, level_db: float) -> tuple[list[Figure], list[Plot]]:
    """Return what clicks most above 4 kHz when a level of the chain jumps under a low tone.

    What the settings before and behind the jump make of the tone by themselves does not count.
    """
    from scipy import signal  # takes a second to import

    rate = device.rate
    tone = to_gain(level_db) * np.sin(2 * np.pi * LOW_HZ * np.arange(round(LENGTH_S * rate)) / rate)
    high = signal.butter(8, CLICK_HZ, "highpass", fs=rate, output="sos")
    first, last = (round((JUMP_S + s * AROUND_S) * rate) for s in (-1, 1))
    worst: tuple[float, float, str, Vector] | None = None
    for name, jump in _jumps(device.recipe.chain):
        heard = np.abs(signal.sosfilt(high, device.changed(automation=[jump]).run(tone)))
        about = slice(2 * first - last, last + last - first)
        rest = max(heard[about.start : first].max(), heard[last : about.stop].max())
        most = float(heard[first:last].max())
        clicks = float(db(most) - db(rest)), float(db(most))
        if worst is None or clicks > worst[:2]:
            worst = *clicks, name, heard[first:last]
    if worst is None:
        return [], []
    over, most_db, name, heard = worst
    step = max(round(STEP_S * rate), 1)
    tops = [float(db(heard[i : i + step].max())) for i in range(0, len(heard) - step, step)]
    x = [round(1000 * (i * step / rate - AROUND_S), 2) for i in range(len(tops))]
    trace = Trace(name, [round(v, 2) for v in tops])
    plot = Plot(
        "A control jumps: above 4 kHz", "ms", "dBFS", x, FLOOR_DB, 0, [trace], marks=[(0, name)]
    )
    return [
        Figure("jump, above 4 kHz", round(most_db, 1), "dBFS"),
        Figure("jump, over the rest", round(max(over, 0.0), 1), "dB"),
    ], [plot]


def loudness(sound: Vector, rate: int) -> float | None:
    """Return the gated loudness of a line in LUFS (BS.1770-4), without what looks ahead at an end.

    None where it is silent.
    """
    meter = RowMeter(rate, 1)
    kept = np.ascontiguousarray(sound[: len(sound) - round(0.4 * rate), None])
    found = figures(np.concatenate([meter.feed(kept), meter.flush()])).integrated_lufs
    return found if found is not None and math.isfinite(found) else None


def louder(device: Device, noise: Vector) -> Figure:
    """By how much pink noise has become louder."""
    before, after = loudness(noise, device.rate), loudness(device.run(noise), device.rate)
    lu = None if before is None or after is None else round(after - before, 2)
    return Figure("louder on pink noise", lu, "LU")


def travelled(device: Device, noise: Vector) -> tuple[list[Figure], list[Plot]]:
    """Return how loud pink noise is along the travel of every join of two."""
    chain = device.recipe.chain
    traces = []
    for split in elements(chain):
        if not isinstance(split, Split) or split.join.law == "sum":
            continue
        moving = Device(device.recipe, device.rate, device.channel)
        moving.listen(noise)
        found = [
            loudness(moving.changed(_placed(chain, split.id, p)).run(noise), device.rate)
            for p in POSITIONS
        ]
        if any(v is None for v in found):
            continue
        levels = [v or 0.0 for v in found]
        traces.append(Trace(split.id, [round(v - levels[0], 3) for v in levels]))
    if not traces:
        return [], []
    spread = max(max(t.y) - min(t.y) for t in traces)
    edge = max(math.ceil(max(abs(v) for t in traces for v in t.y) + 0.5), 1)
    x = [100 * p for p in POSITIONS]
    plot = Plot("A join on its way", "%", "LU", x, -edge, edge, traces)
    return [Figure("join, most apart", round(spread, 2), "LU")], [plot]


def _placed(chain: list[Element], name: str, position: float) -> list[Element]:
    """Return a chain with a split's join somewhere else."""
    out: list[Element] = []
    for element in chain:
        if isinstance(element, Split):
            parts = [
                b.model_copy(update={"chain": _placed(b.chain, name, position)})
                for b in element.branches
            ]
            element = element.model_copy(update={"branches": parts})
            if element.id == name:
                join = element.join.model_copy(update={"position": position})
                element = element.model_copy(update={"join": join})
        out.append(element)
    return out
