"""`python -m bench.tone`: how the tone family does what is asked of it, in figures."""

import statistics
import time
from typing import Any

import numpy as np
from tests.conftest import sine
from tests.core.dsp import test_oversample as pulses
from tests.core.processors import test_tone
from tests.core.processors.test_enhancer import enhanced, levels_db
from tests.core.processors.test_room import answer, decay_s
from tests.demo.test_demo import RATE, loudness, off, passage
from tests.routing import run_strip

from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.lab import LabOptions, measure
from salt_anvil.core.lab.device import Device
from salt_anvil.core.lab.measurements import pink
from salt_anvil.core.library import starting_points
from salt_anvil.core.processors import Context
from salt_anvil.core.recipe import read_recipe
from salt_anvil.demo import install, room

QUALITIES = ("plain", "good", "high", "best")


def _recipe(kind: str, **params: Any) -> Any:
    return read_recipe({"chain": [{"kind": kind, "params": params}]})


def _harmonics(kind: str, rate: int, hz: float, level_db: float, **params: Any) -> dict[str, float]:
    found = measure(_recipe(kind, **params), LabOptions(hz=hz, level_db=level_db), rate)
    return {f.label: f.value or 0.0 for f in found.figures if f.unit != "%"}


def _cost(rate: int, kind: str, **params: Any) -> float:
    """Seconds of stereo sound per second of one core."""
    device = Device(_recipe(kind, **params), rate)
    noise = pink(2 * rate, rate, -1)
    device.run(noise)
    times = []
    for _ in range(5):
        begin = time.perf_counter()
        device.run(noise)
        times.append(time.perf_counter() - begin)
    return 2 / statistics.median(times)


def fold_back() -> None:
    print("Hard clip, 5 kHz, +12 dB: what is not harmonic, 20 Hz to 20 kHz, dB; and its cost")
    for rate in (44100, 48000, 96000):
        row = []
        for quality in QUALITIES:
            settings = {"drive_db": 12, "shape": 1, "quality": quality}
            folded = _harmonics("clipper", rate, 5000, 0, **settings)["not harmonic"]
            row.append(f"{quality} {folded:.1f} ({_cost(rate, 'clipper', **settings):.0f}x)")
        print(f"  {rate}: " + ", ".join(row))


def filters() -> None:
    print("Oversampling filters at 48 kHz, on the way up, and down with the mean over a step")
    for quality in QUALITIES[1:]:
        factor = o.FACTORS[quality]
        hz, up = pulses.level_db(pulses.pulse_up(quality) / factor, factor * 48000)
        _, down = pulses.level_db(pulses.pulse_down(quality), factor * 48000)
        heard, stopped = hz <= 20000, hz >= 28000
        mean = 20 * np.log10(np.sinc(hz / (factor * 48000)))
        print(
            f"  {quality}: ripple to 20 kHz {np.abs(up[heard]).max():.5f} and"
            f" {np.abs((down + mean)[heard]).max():.5f} dB, from 28 kHz {up[stopped].max():.0f}"
            f" and {down[stopped].max():.0f} dB"
        )


def bends() -> None:
    print("Saturator, 1 kHz at -12 dBFS, 12 dB of drive: even and odd, dB")
    for name, balance in (("all even", 0), ("half", 0.5), ("all odd", 1)):
        reported = _harmonics("saturator", 48000, 1000, -12, drive_db=12, harmonics=balance)
        print(f"  {name}: even {reported['even']:.1f}, odd {reported['odd']:.1f}")
    print("Compressor's colour at ratio 1, -12 dBFS: even and odd, dB")
    for colour in (0.1, 0.5, 1):
        for name, balance in (("even", 0), ("odd", 1)):
            reported = _harmonics(
                "compressor", 48000, 1000, -12, ratio=1, colour=colour, colour_balance=balance
            )
            print(f"  {colour:g} {name}: even {reported['even']:.1f}, odd {reported['odd']:.1f}")
    print("Enhancer, 60 Hz at 0 and -40 dBFS, amount 0 dB: orders 1 to 7 against the sine, dB")
    for order in ("even", "odd", "both"):
        for drive_db in (0, 6):
            for level_db in (0, -40):
                sound = sine(60, 2, level_db=level_db, channels=1)
                out = enhanced(sound, order=order, drive_db=drive_db, amount_db=0)
                row = ", ".join(f"{max(v - level_db, -120):.1f}" for v in levels_db(out, 60)[1:8])
                print(f"  {order}, drive {drive_db} dB, {level_db} dBFS: {row}")


def tone() -> None:
    print("Tone against scipy's response of the Cookbook's coefficients, 15 Hz up, dB")
    from scipy import signal

    for kind in ("bell", "notch", "low-shelf", "high-shelf"):
        worst = 0.0
        for hz in (100, 300, 3000, 15000):
            for q in (0.3, 0.71, 8):
                for gain_db in (-24, 6, 24):
                    unit = test_tone.tone({"type": kind, "hz": hz, "q": q, "gain_db": gain_db})
                    at, found = test_tone.pulse_response(unit, 48000)
                    b = test_tone.cookbook(kind, hz, 48000, q, gain_db)
                    wanted = np.abs(signal.freqz(b[:3], b[3:], at, fs=48000)[1])
                    heard = (at > 15) & (wanted > 1e-2)
                    apart = 20 * np.log10(np.abs(found[heard, 0]) / wanted[heard])
                    worst = max(worst, float(np.abs(apart).max()))
        print(f"  {kind}: {worst:.6f}")
    print("Linear phase against minimum, magnitude apart from 20 Hz to 20 kHz, dB")
    for band in (
        {"type": "low-cut", "hz": 22, "slope": "24"},
        {"type": "bell", "hz": 265, "gain_db": -3, "q": 1},
        {"type": "bell", "hz": 60, "gain_db": 6, "q": 4},
        {"type": "bell", "hz": 30, "gain_db": 6, "q": 3},
    ):
        at, plain = test_tone.pulse_response(test_tone.tone(band), 48000)
        _, linear = test_tone.pulse_response(test_tone.tone(band, phase="linear"), 48000)
        heard = (at > 20) & (at < 20000)
        apart = 20 * np.log10(np.abs(linear[heard, 0]) / np.abs(plain[heard, 0]))
        print(f"  {band}: {np.abs(apart).max():.4f}")


def space() -> None:
    noise = np.random.default_rng(1).standard_normal((48000, 2)) * 0.2
    worst = 0.0
    for params in ({"width": 2}, {"spread": 1}, {"mono_below_hz": 200, "width": 1.5}):
        unit = Unit(_recipe("width", **params).chain[0], Context(48000, 2))
        worst = max(worst, np.abs((unit.process(noise, 0).out - noise).sum(axis=1)).max())
    print(f"Width, mono sum moved by at most {20 * np.log10(worst + 1e-30):.0f} dB")
    print("Room, time of 60 dB at 1 kHz (Schroeder), s")
    for wanted in (0.2, 0.4, 1.5):
        out = answer(seconds=3, decay_s=wanted, damp_hz=20000, low_cut_hz=20)
        print(f"  {wanted:g}: {decay_s(out, 48000, 1000):.3f}")


def small_loudspeaker() -> None:
    """The low fiddle over bars 11 to 16, as it is and through the recipe."""
    band = {n: passage(room.record(n), 11, 16) for n in room.RECORDINGS}
    session = install.session_model({n: (n, s.shape[1], len(s)) for n, s in band.items()})
    shelf = next(r for r in starting_points("tone") if r.name == "Kitchen shelf")
    plain = off(off(session, "low-fiddle-carry"), "low-fiddle-bands")
    print("Low fiddle: loudness, and through a small loudspeaker (12 dB per octave below 200 Hz)")
    for name, one in (
        ("bare", plain),
        ("low band only", off(session, "low-fiddle-carry")),
        ("whole recipe", session),
    ):
        out = run_strip(one, "low-fiddle", band)
        device = Unit(shelf.chain[0], Context(RATE, out.shape[1]))
        small = loudness(device.process(out, 0).out)
        print(f"  {name}: {loudness(out):.2f} LUFS, carried {small:.2f} LUFS")


if __name__ == "__main__":
    for part in (fold_back, filters, bends, tone, space, small_loudspeaker):
        part()
