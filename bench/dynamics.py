"""`python -m bench.dynamics`: how the dynamics processors do what is asked of them, in figures.

True peak by our meter, by Fourier resampling (scipy) and by FFmpeg's ebur128 (PyAV).
"""

from typing import Any

import numpy as np
import soxr
from tests.conftest import noise, sine
from tests.core.processors import test_deesser, test_gate, test_transient
from tests.core.processors.test_limiter import (
    CHARACTERS,
    faded,
    fourier_peak_db,
    limited,
    own_peak_db,
    thd_n,
)
from tests.demo.test_demo import off
from tests.other_meters import ffmpeg_summary
from tests.routing import run_strip

from salt_anvil.demo import install, room


def ffmpeg_peak_db(sound: np.ndarray, rate: int) -> float:
    """Return the true peak by FFmpeg's meter."""
    padded = np.pad(np.repeat(sound, 2, axis=1), ((4800, 9600), (0, 0)))
    reported = ffmpeg_summary(padded, rate)
    return 20 * float(np.log10(max(v for k, v in reported.items() if "true_peaks_ch" in k)))


def sounds(rate: int) -> dict[str, list[np.ndarray]]:
    """Return what the limiter is tried on, by name."""
    at = np.arange(32768)
    clicks = []
    for offset in np.arange(16) / 16:
        x = at[:8192] - 3000 - offset
        shape = np.where(np.abs(x) < 200, 0.5 + 0.5 * np.cos(np.pi * x / 200), 0)
        clicks.append(2.8 * (np.sinc(0.9 * x) * shape)[:, None])
    sweep = 2 * np.pi * (0.001 * at + (0.45 - 0.001) * at**2 / 2 / len(at))
    burst = noise(rate // 2, 1, level=1.0)
    burst[: rate // 4] = 0
    return {
        "clicks at 16 offsets": clicks,
        "rate / 4 at 45 degrees": [faded(2 * np.sin(np.pi / 2 * at + np.pi / 4), rate)],
        "sines to 0.45": [
            faded(2 * np.sin(2 * np.pi * f * at), rate) for f in (0.01, 0.1, 0.2, 0.31, 0.4, 0.45)
        ],
        "sweep to 0.45": [faded(2 * np.sin(sweep), rate)],
        "white noise": [faded(noise(rate, 1, level=1.0)[:, 0], rate)],
        "square 997 Hz": [faded(2 * np.sign(np.sin(2 * np.pi * 997 * at / rate + 0.1)), rate)],
        "full-band burst": [burst],
    }


def limiter() -> None:
    """Print how far the true peak is over the ceiling of -1 dB, the worst of the characters."""
    print("limiter, dB over the ceiling: ours / Fourier / FFmpeg, look-ahead 0.5 and 5 ms")
    for rate in (44100, 48000, 96000):
        for name, waves in sounds(rate).items():
            row = []
            for ahead in (0.5, 5.0):
                outs = [
                    limited(w, rate, character=c, lookahead_ms=ahead, release_ms=30)
                    for w in waves
                    for c in CHARACTERS
                ]
                outs = [faded(o[:, 0], rate) for o in outs]
                row.append(max(own_peak_db(o) for o in outs) + 1)
                row.append(max(fourier_peak_db(o) for o in outs) + 1)
                row.append(max(ffmpeg_peak_db(o, rate) for o in outs) + 1)
            print(f"  {rate} {name:24} " + " ".join(f"{v:+.3f}" for v in row))
    print("limiter, THD+N in dB of a sine 6 dB over the ceiling, look-ahead 0.5, 1.5, 5, 10 ms")
    at = np.arange(96000) / 48000
    for hz in (100, 1000):
        wave = (0.8912509 * 2 * np.sin(2 * np.pi * hz * at))[:, None]
        for c in CHARACTERS:
            found = [
                thd_n(limited(wave, character=c, lookahead_ms=ms)[48000:, 0], hz, 48000)
                for ms in (0.5, 1.5, 5, 10)
            ]
            print(f"  {hz:5} Hz {c:10} " + " ".join(f"{max(v, -200):7.1f}" for v in found))


def demo_mix() -> None:
    """Print the same for the demo's Reel, its wall taken away, driven by 12 dB."""
    whole = {name: room.record(name) for name in room.RECORDINGS}
    reel = {name: sound[25 * 48000 : 45 * 48000] for name, sound in whole.items()}
    session = install.session_model({n: (n, s.shape[1], len(s)) for n, s in reel.items()})
    mix = run_strip(off(session, "main-wall"), "main", reel)
    print("limiter, the demo mix driven by 12 dB: ours / Fourier / FFmpeg")
    for rate in (44100, 48000, 96000):
        sound = mix if rate == 48000 else soxr.resample(mix, 48000, rate, quality="VHQ")
        for character in CHARACTERS:
            out = limited(sound[:, :1], rate, drive_db=12, character=character, lookahead_ms=0.5)
            out = faded(out[:, 0], rate)
            parts = [faded(out[a : a + 2 * rate, 0], rate) for a in range(0, len(out) - rate, rate)]
            found = [own_peak_db(out), max(map(fourier_peak_db, parts)), ffmpeg_peak_db(out, rate)]
            print(f"  {rate} {character:10} " + " ".join(f"{v + 1:+.3f}" for v in found))


def gate() -> None:
    """Print openings on a hovering level and what ticks at the edges."""
    for hysteresis in (0, 4):
        _, reported = test_gate.gated(
            test_gate.hovering(),
            threshold_db=-40,
            hysteresis_db=hysteresis,
            hold_ms=0,
            release_ms=5,
        )
        count = test_gate.openings(reported)
        print(f"gate, hovering, hysteresis {hysteresis} dB: {count} openings")
    tone = sine(300, 2.0) * np.linspace(0.5, 0.001, 96000)[:, None]
    for hold in (0, 1, 2):
        out, reported = test_gate.gated(
            tone, threshold_db=-30, hysteresis_db=0, release_ms=1, attack_ms=0.02, hold_ms=hold
        )
        above = 10 * np.log10(test_gate.energy_over_8k(out))
        count = test_gate.openings(reported)
        print(f"gate, hold {hold} ms: {count} openings, above 8 kHz {above:.1f} dB")


def others() -> None:
    """Print level independence, s against vowels, and what split leaves below its range."""
    loud = test_transient.gain_db(test_transient.hits(-10), attack_db=9, sustain_db=-9)
    worst = max(
        np.abs(
            test_transient.gain_db(test_transient.hits(level), attack_db=9, sustain_db=-9) - loud
        ).max()
        for level in (-20, -30, -40, -50)
    )
    print(f"transient, gain of the same hit from -10 to -50 dBFS: {worst:.5f} dB apart")
    sound, vowels, esses = test_deesser.words()
    settings: dict[str, Any] = {"ratio": 8}
    out, reduction = test_deesser.passed(sound, **settings)
    print(
        f"de-esser: s {20 * np.log10(out[esses].std() / sound[esses].std()):.2f} dB,"
        f" vowel at most {reduction[vowels].max():.3f} dB"
    )


if __name__ == "__main__":
    limiter()
    demo_mix()
    gate()
    others()
