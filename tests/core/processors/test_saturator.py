"""The saturator: its harmonics by the Fourier series, its make-up by the loudness meter."""

from itertools import pairwise
from typing import Any

import numpy as np
import pytest
from scipy import signal
from scipy.integrate import quad

from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.dsp.waveshaper import _bend_rows, bend
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.measure.rows import RowMeter, figures
from salt_anvil.core.processors import Context
from salt_anvil.core.processors.bands import response_db
from salt_anvil.core.processors.parts import bent, offset_state
from tests.conftest import noise, sine
from tests.core.processors.test_contract import run, stage

RATE = 48000


def saturated(sound: np.ndarray, **params: Any) -> np.ndarray:
    unit = Unit(stage("saturator", params), Context(RATE, sound.shape[1]))
    padded = np.concatenate([sound, np.zeros((o.LATENCY, sound.shape[1]))])
    return run(unit, padded)[0][o.LATENCY :]


def harmonics_db(out: np.ndarray, hz: int) -> list[float]:
    """Levels in dBFS of the first eight, of half a second."""
    found = np.abs(np.fft.rfft(out[RATE : 3 * RATE // 2, 0])) / (RATE / 4)
    return [float(20 * np.log10(max(found[n * hz // 2], 1e-12))) for n in range(1, 9)]


def f(x: float, harmonics: float, asymmetry: float) -> float:
    """The curve written down once more."""
    odd = x / np.hypot(1, x)
    if asymmetry:
        slope = (1 + asymmetry**2) ** -1.5
        odd = (
            (x + asymmetry) / np.hypot(1, x + asymmetry) - asymmetry / np.hypot(1, asymmetry)
        ) / slope
    even = x - 0.5 * (np.hypot(1, x) - 1)
    return float(harmonics * odd + (1 - harmonics) * even)


@pytest.mark.parametrize("quality", ["plain", "good", "high", "best"])
@pytest.mark.parametrize(
    ("harmonics", "asymmetry"), [(0, 0), (1, 0), (0.5, 0), (1, 0.4), (0.3, -0.6)]
)
def test_harmonics_are_those_of_the_fourier_series(
    quality: str, harmonics: float, asymmetry: float
) -> None:
    """1 kHz at -12 dBFS, 18 dB of drive; up to the sixth, where they are above -90 dBFS."""
    drive, level = 10 ** (18 / 20), 10 ** (-12 / 20)
    out = saturated(
        sine(1000, 1.6, level_db=-12, channels=1),
        drive_db=18,
        harmonics=harmonics,
        asymmetry=asymmetry,
        quality=quality,
    )
    levels = harmonics_db(out, 1000)

    def partial_at(t: float, n: int) -> float:
        bent = f(drive * level * np.cos(t), harmonics, asymmetry)
        return float(bent / drive * np.cos(n * t))

    for n in range(1, 7):
        # Symmetrical about a quarter of the period: cosines, phases fall away.
        part = quad(partial_at, 0, np.pi, (n,), limit=200)[0] * 2 / np.pi
        exact = 20 * np.log10(max(abs(part), 1e-12))
        if exact > -90:
            assert levels[n - 1] == pytest.approx(exact, abs=0.05), n


def test_all_even_and_all_odd() -> None:
    """Design/03: -12 dBFS, 1 kHz: the second at least 30 dB above the third, and the reverse."""
    tone = sine(1000, 1.6, level_db=-12, channels=1)
    even = harmonics_db(saturated(tone, harmonics=0, drive_db=6), 1000)
    odd = harmonics_db(saturated(tone, harmonics=1, drive_db=6), 1000)
    assert even[1] > even[2] + 30
    assert odd[2] > odd[1] + 30


@pytest.mark.parametrize("odd", [0.0, 0.5, 1.0])
@pytest.mark.parametrize("lean", [-0.7, 0.0, 0.4])
def test_what_is_taken_is_the_mean_over_each_step(odd: float, lean: float) -> None:
    """By scipy's quadrature; steps from nothing to wide ones, of values as float32 has them."""
    table = o.tables("good")
    room, n = o.room_for(table), 3
    values = np.array([-4, -0.5, -0.5, -0.5 + 6e-8, 0.2, 1, 6, -6, 5.9, 6, 9, 9.1, 12, -0.1, 0,
                       0.3, 0.6, 16, 15.9, -16, -15, 0, 0, 2.0, 2.5], np.float32)  # fmt: skip
    o.raised(room, table, -1, n)[0] = values[0]
    for p in range(8):
        o.raised(room, table, p, n)[:] = values[1 + p :: 8]
    lines, work = tuple(np.empty((7, n), np.float32)), tuple(np.empty((5, n)))
    _bend_rows(room, table, n, np.full(n, odd), np.full(n, lean), np.empty(n), lines, work)
    found = np.array([o.taken(room, table, p, n) for p in range(8)]).T.ravel()
    for a, b, mean in zip(values.tolist(), values[1:].tolist(), found, strict=False):
        if abs(b - a) < 1e-6:
            exact = bend(0.5 * (a + b), odd, lean)
        else:
            exact = quad(bend, a, b, args=(odd, lean), limit=200, epsabs=1e-12)[0] / (b - a)
        # Four units of the last place of what comes in.
        assert mean == pytest.approx(exact, abs=2**-22 * max(abs(a), abs(b), 1e-2)), (a, b)


@pytest.mark.parametrize("strip", ["box-drum", "fiddle", "lead-voice"])
def test_loudness_makeup_holds_the_loudness(strip: str, recordings: dict) -> None:
    """Within 0.5 LU over the Reel, where without it several are lost or won."""
    sound = recordings[strip][25 * RATE : 40 * RATE]

    def loudness(of: np.ndarray) -> float:
        meter = RowMeter(RATE, of.shape[1])
        return figures(np.concatenate([meter.feed(of), meter.flush()])).integrated_lufs

    settings = {"drive_db": 24, "harmonics": 1}
    with_it = saturated(sound, makeup="loudness", **settings)
    without = saturated(sound, **settings)
    assert abs(loudness(without) - loudness(sound)) > 1
    assert loudness(with_it) == pytest.approx(loudness(sound), abs=0.5)


def test_quiet_sound_passes_and_lean_is_drive_that_is_taken_back() -> None:
    quiet = noise(8000, level=1e-4)
    assert np.abs(saturated(quiet, drive_db=0, harmonics=1) - quiet).max() < 1e-9
    loud = noise(8000, level=0.2)
    leaning = saturated(loud, drive_db=3, lean_db=6)
    assert np.abs(leaning - saturated(loud, drive_db=9)).max() < 1e-12


def test_no_offset_is_let_out() -> None:
    out = saturated(sine(200, 4, level_db=-6, channels=1), harmonics=0, drive_db=12)
    assert abs(out[2 * RATE : 3 * RATE].mean()) < 1e-5


@pytest.mark.parametrize("params", [
    {"drive_db": 24, "harmonics": 0}, {"drive_db": 12, "harmonics": 1, "asymmetry": 0.5},
    {"drive_db": 24, "harmonics": 1, "asymmetry": 1},
])  # fmt: skip
def test_a_tone_begins_and_ends_without_a_thump(params: dict[str, Any]) -> None:
    """Below 120 Hz under -32 dBFS, where what an even bend adds alone would be -18 to -21."""
    at = np.arange(RATE) / RATE
    swell = np.clip(np.minimum(at - 0.3, 0.7 - at) / 0.004, 0, 1)
    tone = 0.5 * np.sin(2 * np.pi * 1000 * at) * (0.5 - 0.5 * np.cos(np.pi * swell))
    low = signal.butter(6, 120, fs=RATE, output="sos")
    out = saturated(tone[:, None], **params)[:, 0]
    assert 20 * np.log10(np.abs(signal.sosfilt(low, out)).max()) < -32
    bare = tone * to_gain(params["drive_db"])
    evens = bare - (np.array([x - bend(x, 0.0, 0.0) for x in bare]))
    thump = signal.sosfilt(low, evens / to_gain(params["drive_db"]))
    assert params["harmonics"] == 1 or 20 * np.log10(np.abs(thump).max()) > -18


def test_mid_side_bends_the_middle_alone_where_there_is_no_side() -> None:
    middle = sine(500, 0.5, level_db=-6, channels=1)
    out = saturated(np.repeat(middle, 2, axis=1), stereo="mid-side", harmonics=1, drive_db=12)
    mono = saturated(middle, harmonics=1, drive_db=12)
    assert np.abs(out - mono).max() < 1e-12


EMPHASIS = [{"type": "low-shelf", "hz": 300, "gain_db": 9}]


def test_emphasis_undone_leaves_quiet_sound_as_it_was() -> None:
    """What is not bent passes bit for bit; what is bent decides alone."""
    quiet = 1e-4 * noise(20000)
    for undo in (True, False):
        out = saturated(quiet, emphasis=EMPHASIS, undo_emphasis=undo, drive_db=-12, harmonics=1)
        apart = 20 * np.log10(np.abs(out - quiet).max() / np.abs(quiet).max())
        assert apart < -100 if undo else apart > -20


@pytest.mark.parametrize("hz", [100, 2500])
def test_emphasis_decides_what_is_bent(hz: int) -> None:
    """A weak third harmonic grows with the cube of what goes in, less what is taken back there."""
    settings = {"drive_db": -12, "harmonics": 1}
    sound = sine(hz, 1.6, level_db=-18, channels=1)
    plain = harmonics_db(saturated(sound, **settings), hz)
    leaning = harmonics_db(saturated(sound, emphasis=EMPHASIS, **settings), hz)
    shelf = stage("tone", {"bands": EMPHASIS}).params.bands[0]
    here, there = response_db(shelf, np.array([hz, 3 * hz]), RATE)
    assert leaning[2] - plain[2] == pytest.approx(3 * here - there, abs=0.3)


def test_undone_emphasis_is_flat_beside_the_harmonics() -> None:
    for hz in (60, 1000):
        sound = sine(hz, 1.6, level_db=-30, channels=1)
        out = saturated(sound, emphasis=EMPHASIS, drive_db=0, harmonics=1)
        assert harmonics_db(out, hz)[0] == pytest.approx(-30, abs=0.05)


def test_emphasis_without_undoing_is_its_tone() -> None:
    sound = sine(60, 1.6, level_db=-50, channels=1)
    out = saturated(sound, emphasis=EMPHASIS, undo_emphasis=False, drive_db=0, harmonics=1)
    assert harmonics_db(out, 60)[0] == pytest.approx(-50 + 9, abs=0.2)


def test_a_balance_that_leaves_odd_is_the_same_in_one_call_and_in_two() -> None:
    sound, still = 0.5 * noise(2048, 1), np.zeros(33)
    odd = np.concatenate([np.ones(17), np.linspace(1, 0, 16)])
    steps = np.append(np.diff(odd), 0) / 64

    def whole_or_parts(*cuts: int) -> np.ndarray:
        state = o.shaping_state(1)
        state.nest("offset_", offset_state(1))
        found = []
        for begin, end in pairwise((0, *cuts, 2048)):
            cells = slice(begin // 64, end // 64)
            ways = (odd[cells], steps[cells]), (still[cells], still[cells])
            found.append(bent(sound[begin:end], begin, *ways, RATE, "good", state))
        return np.concatenate(found)

    assert (whole_or_parts(1024) == whole_or_parts()).all()
