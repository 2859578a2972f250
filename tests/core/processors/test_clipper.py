"""The clipper: Fourier series, fold-back, identity, and the filters of the oversampling.

Fold-back limits from design/03; the series of a clipped sine by numerical integration (scipy).
"""

from typing import Any

import numpy as np
import pytest
from scipy import signal
from scipy.integrate import quad

from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp.clip import _cut_rows, taken
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.measure.rows import RowMeter, figures
from salt_anvil.core.processors import Context
from salt_anvil.core.processors.clipper import Clipper
from tests.conftest import RATES, noise, sine
from tests.core.processors.test_contract import run, stage
from tests.hard_sounds import filtered_up, hard_sounds, polyphase_peak_db

RATE = 48000


def clipped(sound: np.ndarray, rate: int = RATE, **params: Any) -> np.ndarray:
    """Output with the latency taken out."""
    made = stage("clipper", params)
    late = Clipper().latency(made.params, rate)
    padded = np.concatenate([sound, np.zeros((late, sound.shape[1]))])
    return run(Unit(made, Context(rate, sound.shape[1])), padded)[0][late:]


def inharmonic_db(rate: int, quality: str, hz: float = 5000, **params: Any) -> float:
    """All that is no harmonic, 20 Hz to 20 kHz, against the fundamental, of a second."""
    at = np.arange(2 * rate) / rate
    settings = {"drive_db": 12, "shape": 1, "quality": quality, **params}
    out = clipped(np.sin(2 * np.pi * hz * at)[:, None], rate, **settings)[
        rate // 2 : rate // 2 + rate, 0
    ]
    power = np.abs(np.fft.rfft(out * np.kaiser(rate, 20))) ** 2
    found = np.fft.rfftfreq(rate, 1 / rate)
    near = np.abs(found / hz - np.round(found / hz)) * hz <= 12
    rest = power[(found >= 20) & (found <= 20000) & ~near].sum()
    return float(10 * np.log10(rest / power[np.abs(found - hz) <= 12].sum()))


@pytest.mark.parametrize(
    ("rate", "quality", "most"),
    [(48000, "high", -98), (48000, "best", -105), (44100, "best", -105), (48000, "good", -75),
     (96000, "good", -80), (96000, "best", -120)],
)  # fmt: skip
def test_fold_back_of_a_hard_clipped_sine(rate: int, quality: str, most: float) -> None:
    assert inharmonic_db(rate, quality, 4997) < most
    assert inharmonic_db(rate, quality, 5000) < most


def f(x: float, ceiling: float, shape: float) -> float:
    """The curve written down once more: line, parabola through its corner, flat."""
    width = 2 * ceiling * (1 - shape)
    size = abs(x)
    a, b = ceiling - width / 2, ceiling + width / 2
    y = size if size <= a else ceiling if size >= b else size - (size - a) ** 2 / (2 * width)
    return float(np.copysign(y, x))


@pytest.mark.parametrize("shape", [0.0, 0.5, 1.0])
@pytest.mark.parametrize("quality", ["plain", "good", "high", "best"])
def test_harmonics_are_those_of_the_fourier_series(shape: float, quality: str) -> None:
    """A sine of 250 Hz, 6 dB over -6 dB; only odd harmonics, up to the ninth within 0.05 dB."""
    ceiling = 10 ** (-6 / 20)
    out = clipped(sine(250, 1, channels=1), ceiling_db=-6, shape=shape, quality=quality)
    found = np.abs(np.fft.rfft(out[RATE // 4 : 3 * RATE // 4, 0])) / (RATE / 4)

    def partial_at(t: float, n: int) -> float:
        return float(f(np.sin(t), ceiling, shape) * np.sin(n * t))

    for n in range(1, 10):
        exact = quad(partial_at, 0, 2 * np.pi, (n,), limit=400)[0] / np.pi
        level = found[n * 125]
        if abs(exact) > 1e-4:
            assert 20 * np.log10(level / abs(exact)) == pytest.approx(0, abs=0.05), n
        elif n % 2 == 0:
            assert level < 1e-6


@pytest.mark.parametrize("soft", [0.0, 0.3, 1.0])
def test_what_is_cut_off_is_the_mean_over_each_step(soft: float) -> None:
    """By scipy's quadrature; steps from nothing to right across, of values as float32 has them."""
    table = o.tables("good")
    room, n, share = o.room_for(table), 2, np.empty(2)
    values = np.array([-4, -0.5, -0.5, -0.5 + 6e-8, 0.2, 0.7, 6, -6, 5.9, 5.9, 0.45, 0.4501, 0.6,
                       0.5, 0.3, -3, 0.1], np.float32)  # fmt: skip
    o.raised(room, table, -1, n)[0] = values[0]
    for p in range(8):
        o.raised(room, table, p, n)[:] = values[1 + p :: 8]
    work = tuple(np.empty((4, n), np.float32))
    _cut_rows(room, table, n, np.full(n, 0.5), np.full(n, soft), share, work)
    found = np.array([o.taken(room, table, p, n) for p in range(8)]).T.ravel()
    for a, b, mean in zip(values.tolist(), values[1:].tolist(), found, strict=False):
        bends = [x for x in (-0.5 - soft / 2, soft / 2 - 0.5, 0.5 - soft / 2, 0.5 + soft / 2)
                 if min(a, b) < x < max(a, b)]  # fmt: skip
        cut = (0.5, soft)
        whole = quad(taken, a, b, cut, points=bends or None, epsabs=1e-12)[0] if a != b else 0.0
        exact = whole / (b - a) if abs(b - a) > 1e-6 else taken(b, *cut)
        assert mean == pytest.approx(exact, abs=2**-22 * max(abs(a), abs(b))), (a, b)
    assert share == pytest.approx([taken(6, 0.5, soft) / 6, taken(5.9, 0.5, soft) / 5.9])


@pytest.mark.parametrize("quality", ["plain", "good", "high", "best"])
@pytest.mark.parametrize("rate", RATES)
def test_what_is_not_clipped_passes_bit_for_bit(quality: str, rate: int) -> None:
    sound = noise(8000, level=0.02)
    sound[4000] = 3.0
    out = clipped(sound, rate, ceiling_db=-6, shape=0.9, quality=quality)
    touched = (out != sound).any(axis=1)
    assert touched[4000]
    assert not touched[: 4000 - o.LATENCY].any()
    assert not touched[4000 + o.LATENCY :].any()


def test_the_ceiling_holds_exactly_at_plain() -> None:
    sound = sine(3000, 0.5, level_db=6)
    overs = {}
    for quality in ("plain", "high"):
        out = clipped(sound, ceiling_db=-6, shape=1, quality=quality)
        overs[quality] = 20 * np.log10(np.abs(out).max()) + 6
    assert overs["plain"] == pytest.approx(0, abs=1e-9)
    assert 0.5 < overs["high"] < 4


def true_peak_db(sound: np.ndarray) -> float:
    """At 16 times the rate, by scipy's 511 taps a frame."""
    taps = 16 * signal.firwin(16 * 511 + 1, 1 / 16, window=("kaiser", 12))
    return float(20 * np.log10(np.abs(filtered_up(taps, sound, 16)).max()))


@pytest.mark.parametrize("rate", [44100, 48000])
@pytest.mark.parametrize("quality", ["good", "high", "best"])
def test_hold_holds_the_true_peak(quality: str, rate: int) -> None:
    at = np.arange(rate) / rate
    heard = signal.firwin(511, 8000, fs=rate)
    music = signal.lfilter(heard, 1, noise(rate, 1, level=0.5), axis=0)
    music *= np.exp(-9 * (at % 0.25))[:, None]
    ends = np.minimum(1, np.minimum(at, at[::-1]) / 0.01)[:, None]
    sounds = [np.sin(2 * np.pi * hz * at)[:, None] for hz in (60, 997, 3000, 7001)] + [music]
    for sound in [ends * sound for sound in sounds]:
        out = clipped(
            sound, rate, drive_db=12, ceiling_db=-6, shape=1, quality=quality, hold_ceiling=True
        )
        assert -6.5 < true_peak_db(out) < -5.9


@pytest.mark.parametrize(("name", "sound"), hard_sounds().items())
def test_hold_holds_hard_sounds_too(name: str, sound: np.ndarray) -> None:
    """By a meter of 256 taps, at most 0.05 dB over."""
    silence = np.zeros((2000, 1))
    for rate in (44100, 48000):
        out = clipped(
            np.concatenate([silence, sound, silence]),
            rate,
            drive_db=12,
            ceiling_db=-6,
            hold_ceiling=True,
        )
        assert polyphase_peak_db(out) < -6 + 0.05, name


@pytest.mark.parametrize("hz", [1000, 4997])
def test_hold_folds_nothing_back(hz: float) -> None:
    for quality, most in (("high", -90), ("best", -95)):
        assert inharmonic_db(RATE, quality, hz, hold_ceiling=True) < most


def test_the_overshoot_the_depth_and_the_share_are_told() -> None:
    wave = sine(997, 0.5, channels=1)
    unit = Unit(
        stage("clipper", {"ceiling_db": -6, "shape": 1, "quality": "plain"}), Context(RATE, 1)
    )
    _, reported = run(unit, wave)
    settled = slice(100, 300)
    assert reported["reduction_db"][settled].max() == pytest.approx(6, abs=0.02)
    # A sine is over half of its height for two thirds of the time.
    share = 1 - 2 * np.arcsin(10 ** (-6 / 20)) / np.pi
    assert reported["touched"][settled].mean() == pytest.approx(share, abs=0.01)
    assert reported["overshoot_db"].max() == pytest.approx(0, abs=1e-9)


@pytest.mark.parametrize("outside", ["kept", "removed"])
def test_range_and_outside(outside: str) -> None:
    """Flat when nothing clips; what is outside is kept, or taken away."""
    for hz in (50, 200, 1000, 4000, 19000):
        tone = sine(hz, 1, level_db=-40, channels=1)
        out = clipped(tone, range_low_hz=200, outside=outside, shape=1)
        spectra = [
            np.abs(np.fft.rfft(x[RATE // 4 : 3 * RATE // 4, 0]))[hz // 2] for x in (out, tone)
        ]
        change = 20 * np.log10(spectra[0] / spectra[1])
        if outside == "kept" or hz >= 4000:
            assert change == pytest.approx(0, abs=0.01)
        elif hz == 50:
            assert change < -20


def test_low_notes_outside_the_range_do_not_clip_what_is_inside() -> None:
    low, high = sine(60, 1, level_db=-6, channels=1), sine(3000, 1, level_db=-20, channels=1)
    out = clipped(low + high, ceiling_db=-12, shape=1, range_low_hz=1000)
    middle = slice(RATE // 4, 3 * RATE // 4)
    assert np.abs(out - low - high)[middle].max() < 2e-3
    plain = clipped(low + high, ceiling_db=-12, shape=1)
    assert np.abs(plain - low - high)[middle].max() > 0.2


@pytest.mark.parametrize(("stereo", "spared"), [("mid", 1), ("side", 0)])
def test_middle_or_sides_alone(stereo: str, spared: int) -> None:
    sound = noise(8000, level=0.5)
    out = clipped(sound, ceiling_db=-12, stereo=stereo)
    halves = [np.stack([(x[:, 0] + x[:, 1]) / 2, (x[:, 0] - x[:, 1]) / 2], 1) for x in (out, sound)]
    assert np.abs(halves[0] - halves[1])[:, spared].max() < 1e-12
    assert np.abs(halves[0] - halves[1])[:, 1 - spared].max() > 0.1


def test_offset_is_taken_away_first() -> None:
    sound = np.full((4 * RATE, 1), 0.3)
    assert np.abs(clipped(sound, dc_block=True)[-RATE:]).max() < 1e-4


def test_six_db_of_peak_off_the_box_drum_for_half_a_lu(recordings: dict) -> None:
    drum = recordings["box-drum"][25 * RATE : 40 * RATE]
    peak = 20 * np.log10(np.abs(drum).max())

    def loudness(sound: np.ndarray) -> float:
        meter = RowMeter(RATE, 1)
        return figures(np.concatenate([meter.feed(sound), meter.flush()])).integrated_lufs

    out = clipped(drum, ceiling_db=float(peak - 6), shape=0.8, hold_ceiling=True)
    assert 20 * np.log10(np.abs(out).max()) == pytest.approx(peak - 6, abs=0.2)
    assert loudness(drum) - loudness(out) < 0.5
