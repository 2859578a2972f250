"""`python bench/kernels.py`: what every kernel costs a frame of a channel, and what bounds it.

One call takes 1,024 frames. A chain is what one frame has to wait for of the one before, in
operations of four cycles each (a sum, a product, or both in one); the shortest of them says how
fast a recursion can be. Where nothing waits, additions and products of vectors count.
"""

import time
from collections.abc import Callable
from functools import partial
from typing import Any, NamedTuple

import numpy as np

from salt_anvil.core.audio import BLOCK
from salt_anvil.core.dsp import biquad, clip, decibel, dynamics, listening, waveshaper
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp.control_ramp import ControlRamp
from salt_anvil.core.dsp.delay import no_wait
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.measure.truepeak import true_peak
from salt_anvil.core.processors import Context, processor
from salt_anvil.core.processors.compressor import Compressor, CompressorParams, _flags
from salt_anvil.core.session import Stage

ROUNDS, CALLS = 25, 20
RATE = 48000


class Case(NamedTuple):
    """A kernel's call over BLOCK frames of so many channels, and what bounds it."""

    name: str
    bound: str
    call: Callable[[], object]
    channels: int = 1


def per_frame(case: Case) -> float:
    """Return the least nanoseconds a frame of a channel: what others take is not counted."""
    case.call()
    times = []
    for _ in range(ROUNDS):
        start = time.perf_counter()
        for _ in range(CALLS):
            case.call()
        times.append((time.perf_counter() - start) / CALLS)
    return min(times) / BLOCK / case.channels * 1e9


def _sound(channels: int) -> Any:
    t = np.arange(BLOCK) / RATE
    waves = sum(a * np.sin(2 * np.pi * hz * t) for a, hz in ((0.3, 200), (0.2, 900), (0.05, 5000)))
    return np.repeat(np.asarray(waves)[:, None], channels, axis=1)


def _detectors() -> list[Case]:
    found, context, item = [], Context(RATE, 2), Compressor()
    sound, out, unheard = _sound(2), np.empty((BLOCK, 2)), np.empty((0, 2))
    memory = listening.memory(RATE, 2)
    for name, least, bound in (
        ("peaks between samples", 0.0, "products: 112 a frame, in float32"),
        ("peaks, all too low", 5.0, "loads, stores and a maximum"),
    ):
        call = partial(
            listening._peaks_into,
            out,
            memory["line"],
            sound,
            memory["tops"],
            listening._WEIGHTS,
            least,
        )
        found.append(Case(name, bound, call, 2))
    for name, bound, params in (
        ("feed-forward", "chain of 2, and a logarithm", CompressorParams()),
        ("not linked", "the same for each channel", CompressorParams(link=0)),
        ("rms", "chain of 2, twice, and a logarithm", CompressorParams(detector="rms")),
        (
            "feed-back",
            "an equation a frame, with a root",
            CompressorParams(topology="feed-back"),
        ),
    ):
        ramp = ControlRamp(item.controls(params, context)).over(0, BLOCK)
        state, flags = item.prepare(params, context)["detector"], _flags(params)
        call = partial(
            dynamics.reduce_into,
            out,
            unheard,
            sound,
            unheard,
            0,
            ramp.value,
            ramp.step,
            flags,
            state,
        )
        found.append(Case(f"reduction, {name}", bound, call, 2))
    makeup, reduction = np.zeros(17), np.abs(sound)
    gain = partial(dynamics.gain_into, out, sound, reduction, 0, makeup, makeup, no_wait(sound))
    return [*found, Case("gain in dB", "products: a power of 2 is 12", gain, 2)]


def _filters() -> list[Case]:
    found = []
    for channels in (1, 2):
        sound, out = _sound(channels), np.empty((BLOCK, channels))
        for count in (1, 2, 4):
            sections = np.array([biquad.low_pass(1000, RATE)] * count)
            state = np.zeros((count, channels, 2))
            call = partial(biquad.filter_into, out, sound, sections, state)
            name = f"{count} x 12 dB filter, {'one channel' if channels == 1 else 'two'}"
            bound = "chain of 2" if count * channels < 4 else "products: 9 a section, 2 a vector"
            found.append(Case(name, bound, call, channels))
    return found


def _shapers() -> list[Case]:
    found, sound = [], _sound(1)
    one, zero = np.ones(17), np.zeros(17)
    for quality in ("good", "high"):
        given = o.given(quality, o.shaping_state(1))
        factor = o.FACTORS[quality]
        for name, share, bound in (
            ("odd", 1.0, "a root and a division a value, and filters"),
            ("odd and even", 0.8, "a root, a division, a series of 10, and filters"),
        ):
            odd = share * one
            call = partial(waveshaper.bend_block, sound, 0, odd, zero, zero, zero, *given)
            found.append(Case(f"bend, {name}, {factor} x", bound, call))
        cut = partial(clip.cut_block, sound, 0, 0.3 * one, zero, 0.5 * one, *given)
        found.append(Case(f"clip, {factor} x", "a division a value, and filters", cut))
    return found


def _others() -> list[Case]:
    given, line, scratch = np.abs(_sound(1)[:, 0]) + 0.5, np.empty(BLOCK), np.empty(BLOCK)
    past, sound, whole = np.zeros((31, 2)), _sound(2), np.empty(BLOCK, np.int64)

    def logarithm() -> None:
        line[:] = given
        decibel.log2_into(line, scratch, BLOCK, 1.0)

    def power() -> None:
        line[:] = given
        decibel.exp2_into(line, whole, BLOCK)

    found = [
        Case("logarithm", "products: 10 and a division", logarithm),
        Case("power of 2", "products: 12", power),
        Case("true peak", "products, where it can be greatest", lambda: true_peak(sound, past), 2),
    ]
    for kind, bound in (
        ("room", "loads and stores of 32 delays"),
        ("transient", "chains one after another"),
    ):
        item = processor(kind)
        unit = Unit(Stage(id="x", kind=kind, params=item.Params()), Context(RATE, 2))
        call = partial(unit.process, sound, 0, clean=True)
        found.append(Case(f"{kind}, the whole stage", bound, call, 2))
    return found


def main() -> None:
    """Measure and print a table."""
    print("| kernel | ns a frame and channel | times real time | bound by |\n|---|---|---|---|")
    for case in [*_detectors(), *_filters(), *_shapers(), *_others()]:
        ns = per_frame(case)
        print(f"| {case.name} | {ns:.2f} | {1e9 / RATE / ns / case.channels:,.0f} | {case.bound} |")


if __name__ == "__main__":
    main()
