"""`python bench/kernels.py`: nanoseconds a frame of every kernel, to see what to tune."""

import time
from collections.abc import Callable

import numpy as np

from salt_anvil.core.audio import BLOCK
from salt_anvil.core.dsp import biquad, decibel, dynamics
from salt_anvil.core.dsp.control_ramp import ControlRamp
from salt_anvil.core.measure.truepeak import true_peak
from salt_anvil.core.processors import Context
from salt_anvil.core.processors.compressor import Compressor, CompressorParams, _flags

ROUNDS, CALLS = 9, 400


def per_frame(call: Callable[[], object], frames: int = BLOCK) -> float:
    """Return the median nanoseconds a frame."""
    call()
    times = []
    for _ in range(ROUNDS):
        start = time.perf_counter()
        for _ in range(CALLS):
            call()
        times.append((time.perf_counter() - start) / CALLS / frames * 1e9)
    return float(np.median(times))


def main() -> None:
    """Measure and print."""
    sound = np.random.default_rng(0).standard_normal((BLOCK, 2)) * 0.2
    out, unheard = np.empty_like(sound), np.empty((0, 2))
    item, context = Compressor(), Context(48000, 2)
    line, scratch, whole = np.abs(sound[:64, 0]), np.empty(64), np.empty(64, np.int64)
    logarithm = per_frame(lambda: decibel.log2_into(line + 1, scratch, 64, 1.0), 64)
    print(f"log2_into           {logarithm:6.2f}")
    print(f"exp2_into           {per_frame(lambda: decibel.exp2_into(line, whole, 64), 64):6.2f}")
    for name, params in (
        ("feed-forward", CompressorParams()),
        ("feed-back", CompressorParams(topology="feed-back")),
        ("rms", CompressorParams(detector="rms")),
    ):
        ramp = ControlRamp(item.controls(params, context)).over(0, BLOCK)
        state, flags = item.prepare(params, context)["detector"], _flags(params)
        call = lambda r=ramp, s=state, f=flags: dynamics.reduce_into(  # noqa: E731
            out, unheard, sound, unheard, 0, r.value, r.step, f, s
        )
        print(f"reduce_into {name:12}{per_frame(call):6.2f}")
    makeup = np.zeros(17)
    reduction = np.abs(sound)
    gain = per_frame(lambda: dynamics.gain_into(out, sound, reduction, 0, makeup, makeup))
    print(f"gain_into           {gain:6.2f}")
    sections, state = np.array([biquad.low_pass(1000, 48000)] * 2), np.zeros((2, 2, 2))
    filtered = per_frame(lambda: biquad.filter_into(out, sound, sections, state))
    print(f"filter_into, 2      {filtered:6.2f}")
    past = np.zeros((31, 2))
    print(f"true_peak, noise    {per_frame(lambda: true_peak(sound, past)):6.2f}")


if __name__ == "__main__":
    main()
