"""The cases of EBU Tech 3341 and Tech 3342 that are mono or stereo tones, by three meters.

`python -m bench.meters`: ours, FFmpeg's ebur128 (through PyAV) and pyloudnorm, beside what each
case asks for. The cases are typed from memory of the tables; those of broadcast programme and of
five channels (6 to 8; 3342: 5 and 6) are not here.
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import pyloudnorm
from numpy.typing import NDArray
from tests.other_meters import ffmpeg_summary

from salt_anvil.core.delivery.overs import DeliveryMeter
from salt_anvil.core.measure.rows import Figures

RATE = 48000
Tones = list[tuple[float, float]]
"""Level in dBFS (-200: silence) and seconds."""


@dataclass(frozen=True)
class Case:
    """A sound, the figure that is asked for, its value and how far off it may be."""

    name: str
    sound: NDArray[np.float64]
    figure: str
    target: float
    below: float
    above: float


def tones(parts: Tones, hz: float = 1000.0) -> NDArray[np.float64]:
    """Return stereo sines one after the other."""
    made = [
        10 ** (level / 20) * np.sin(2 * np.pi * hz * np.arange(round(s * RATE)) / RATE)
        for level, s in parts
    ]
    return np.repeat(np.concatenate(made)[:, None], 2, axis=1)


def cases() -> Iterator[Case]:
    """Return the cases in their order."""
    whole: list[tuple[str, Tones]] = [
        ("3341-1", [(-23, 20)]),
        ("3341-2", [(-33, 20)]),
        ("3341-3", [(-36, 10), (-23, 60), (-36, 10)]),
        ("3341-4", [(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)]),
        ("3341-5", [(-26, 20), (-20, 20.1), (-26, 20)]),
    ]
    for name, parts in whole:
        target = -33.0 if name == "3341-2" else -23.0
        yield Case(name, tones(parts), "I", target, 0.1, 0.1)
    yield Case("3341-9", tones([(-20, 1.34), (-30, 1.66)] * 5), "S", -23, 0.1, 0.1)
    for place in (0, 7, 13, 19):
        sound = tones([(-200, place * 0.15), (-23, 3), (-200, 1)])
        yield Case(f"3341-10.{place + 1}", sound, "S", -23, 0.1, 0.1)
    yield Case("3341-12", tones([(-20, 0.18), (-30, 0.22)] * 25), "M", -23, 0.1, 0.1)
    for place in (0, 7, 13, 19):
        sound = tones([(-200, place * 0.02), (-23, 0.4), (-200, 1)])
        yield Case(f"3341-13.{place + 1}", sound, "M", -23, 0.1, 0.1)
    peaks = [
        (4, 0, 0.5, -6),
        (4, 45, 0.5, -6),
        (6, 60, 0.5, -6),
        (8, 67.5, 0.5, -6),
        (4, 45, 1.41, 3),
    ]
    for number, (fraction, degrees, gain, target) in enumerate(peaks, 15):
        at = np.arange(RATE)
        fade = np.minimum(1, np.minimum(at, at[::-1]) / 4800)
        wave = gain * np.sin(2 * np.pi * at / fraction + np.radians(degrees)) * fade
        yield Case(f"3341-{number}", np.repeat(wave[:, None], 2, axis=1), "TP", target, 0.4, 0.2)
    ranges: list[tuple[Tones, float]] = [
        ([(-20, 20), (-30, 20)], 10),
        ([(-20, 20), (-15, 20)], 5),
        ([(-40, 20), (-20, 20)], 20),
        ([(-50, 20), (-35, 20), (-20, 20), (-35, 20), (-50, 20)], 15),
    ]
    for number, (parts, target) in enumerate(ranges, 1):
        yield Case(f"3342-{number}", tones(parts), "LRA", target, 1, 1)


def ours(sound: NDArray[np.float64], figure: str) -> float | None:
    """Return a figure by our meter."""
    meter = DeliveryMeter(RATE, 2)
    meter.feed(sound)
    found: Figures = meter.result().figures
    return {
        "I": found.integrated_lufs, "S": found.short_term_max_lufs, "M": found.momentary_max_lufs,
        "TP": found.true_peak_dbtp, "LRA": found.loudness_range_lu,
    }[figure]  # fmt: skip


def ffmpeg(sound: NDArray[np.float64], figure: str) -> float | None:
    """Return a figure by FFmpeg's ebur128."""
    found = ffmpeg_summary(sound, RATE)
    if figure == "TP":
        return 20 * float(np.log10(max(found["true_peaks_ch0"], found["true_peaks_ch1"])))
    return found[figure]


def by_pyloudnorm(sound: NDArray[np.float64], figure: str) -> float | None:
    """Return a figure by pyloudnorm; it has the integrated loudness and the range."""
    meter = pyloudnorm.Meter(RATE)
    if figure == "I":
        return float(meter.integrated_loudness(sound))
    if figure == "LRA" and hasattr(meter, "loudness_range"):
        return float(meter.loudness_range(sound))
    return None


def main() -> None:
    """Print the table; what is outside of what the case allows is marked."""
    head = f"{'case':10} {'figure':6} {'target':>7} {'allowed':>11}"
    print(f"{head} {'ours':>8} {'FFmpeg':>8} pyloudnorm")
    for case in cases():
        cells = []
        for meter in (ours, ffmpeg, by_pyloudnorm):
            got = meter(case.sound, case.figure)
            if got is None:
                cells.append(f"{'-':>8}")
                continue
            off = got - case.target
            cells.append(f"{got:8.2f}" + ("!" if not -case.below <= off <= case.above else ""))
        allowed = f"-{case.below}/+{case.above}"
        print(f"{case.name:10} {case.figure:6} {case.target:7.1f} {allowed:>11} {' '.join(cells)}")


if __name__ == "__main__":
    main()
