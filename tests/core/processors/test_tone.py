"""tone against the W3C Audio EQ Cookbook, Butterworth and what its movement promises.

responses of every type · Butterworth cuts · channels · movement by level · linear phase · moves
"""

import math
from typing import Any

import numpy as np
import pytest
from scipy import signal

from salt_anvil.core.dsp import equaliser as toning
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import Context, processor
from tests.conftest import RATES, noise, sine
from tests.core.processors.test_contract import run, stage

SIZE = 1 << 16


def tone(*bands: dict[str, Any], rate: int = 48000, channels: int = 1, **more: Any) -> Unit:
    return Unit(stage("tone", {"bands": list(bands), **more}), Context(rate, channels))


def pulse_response(unit: Unit, rate: int) -> tuple[np.ndarray, np.ndarray]:
    pulse = np.zeros((SIZE, unit.context.channels))
    pulse[0] = 1
    out, _ = run(unit, pulse)
    return np.fft.rfftfreq(SIZE, 1 / rate), np.fft.rfft(out, axis=0)


def cookbook(kind: str, hz: float, rate: int, q: float, gain_db: float) -> np.ndarray:
    """Coefficients as the W3C note prints them: b0, b1, b2, a0, a1, a2."""
    w, a = 2 * math.pi * hz / rate, 10 ** (gain_db / 40)
    c, alpha = math.cos(w), math.sin(w) / (2 * q)
    root = 2 * math.sqrt(a) * alpha
    rows = {
        "bell": [1 + alpha * a, -2 * c, 1 - alpha * a, 1 + alpha / a, -2 * c, 1 - alpha / a],
        "notch": [1, -2 * c, 1, 1 + alpha, -2 * c, 1 - alpha],
        "low-shelf": [
            a * ((a + 1) - (a - 1) * c + root), 2 * a * ((a - 1) - (a + 1) * c),
            a * ((a + 1) - (a - 1) * c - root), (a + 1) + (a - 1) * c + root,
            -2 * ((a - 1) + (a + 1) * c), (a + 1) + (a - 1) * c - root,
        ],
        "high-shelf": [
            a * ((a + 1) + (a - 1) * c + root), -2 * a * ((a - 1) + (a + 1) * c),
            a * ((a + 1) + (a - 1) * c - root), (a + 1) - (a - 1) * c + root,
            2 * ((a - 1) - (a + 1) * c), (a + 1) - (a - 1) * c - root,
        ],
    }  # fmt: skip
    return np.array(rows[kind])


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("kind", ["bell", "notch", "low-shelf", "high-shelf"])
@pytest.mark.parametrize(("hz", "q", "gain_db"), [(60, 0.71, 6), (1000, 4, -12), (9000, 0.4, 24)])
def test_responses_are_those_of_the_cookbook(
    kind: str, hz: float, q: float, gain_db: float, rate: int
) -> None:
    unit = tone({"type": kind, "hz": hz, "q": q, "gain_db": gain_db}, rate=rate)
    at, found = pulse_response(unit, rate)
    b = cookbook(kind, hz, rate, q, gain_db)
    wanted = signal.freqz(b[:3], b[3:], at, fs=rate)[1]
    heard = (at > 15) & (np.abs(wanted) > 1e-3)
    ratio = found[heard, 0] / wanted[heard]
    # In magnitude and phase; design/03 asks for 0.01 dB (1e-3).
    assert np.abs(ratio - 1).max() < 1e-4


@pytest.mark.parametrize("slope", ["6", "12", "18", "24", "30", "36", "42", "48"])
@pytest.mark.parametrize(("kind", "side"), [("low-cut", "high"), ("high-cut", "low")])
def test_cuts_are_butterworth_cascades(kind: str, side: str, slope: str) -> None:
    at, found = pulse_response(tone({"type": kind, "hz": 700, "slope": slope}), 48000)
    sections = signal.butter(int(slope) // 6, 700, side, fs=48000, output="sos")
    wanted = signal.sosfreqz(sections, at, fs=48000)[1]
    heard = np.abs(wanted) > 1e-4
    assert np.abs(found[heard, 0] / wanted[heard] - 1).max() < 1e-4
    corner = np.argmin(np.abs(at - 700))
    assert 20 * np.log10(abs(found[corner, 0])) == pytest.approx(-3.01, abs=0.03)


def test_what_is_drawn_is_what_sounds() -> None:
    bands = [
        {"type": "low-cut", "hz": 80, "slope": "30"},
        {"type": "bell", "hz": 300, "gain_db": -5, "q": 2},
        {"type": "high-shelf", "hz": 5000, "gain_db": 4, "on": False},
    ]
    at, found = pulse_response(tone(*bands), 48000)
    item, params = processor("tone"), stage("tone", {"bands": bands}).params
    drawn = item.drawing(params, Context(48000, 1))
    measured = np.interp(drawn.hz, at, 20 * np.log10(np.abs(found[:, 0]) + 1e-12))
    assert np.abs(measured - drawn.totals["both"]).max() < 0.1  # bins lie 0.7 Hz apart
    assert drawn.each[2] == [0] * len(drawn.hz)


@pytest.mark.parametrize("phase", ["minimum", "linear"])
def test_channels_are_worked_on_alone(phase: str) -> None:
    sound = noise(60000)
    middle, sides = sound.mean(axis=1), (sound[:, 0] - sound[:, 1]) / 2
    late = tone(phase=phase).latency
    kept = {
        "mid": lambda out: (out[late:, 0] - out[late:, 1]) / 2 - sides[: len(sound) - late],
        "side": lambda out: out[late:].mean(axis=1) - middle[: len(sound) - late],
        "left": lambda out: out[late:, 1] - sound[: len(sound) - late, 1],
        "right": lambda out: out[late:, 0] - sound[: len(sound) - late, 0],
    }
    for channel, rest in kept.items():
        band = {"type": "bell", "gain_db": 9, "channel": channel}
        out, _ = run(tone(band, channels=2, phase=phase), sound)
        assert np.abs(rest(out)).max() < 1e-12
        assert np.abs(out[late:] - sound[: len(sound) - late]).max() > 0.01


def test_a_band_moves_a_decibel_for_each_over_its_threshold() -> None:
    # A tone in the middle of the range: its mean square is 3.01 dB under its peak.
    for level_db, move_db, wanted in [
        (-20, -12, -6.99),
        (-9, -12, -12),
        (-40, -12, 0),
        (-20, 4, 4),
    ]:
        unit = tone({"type": "bell", "hz": 1000, "q": 1, "move_db": move_db, "threshold_db": -30,
                     "attack_ms": 5, "release_ms": 20})  # fmt: skip
        sound = sine(1000, 0.5, level_db=level_db, channels=1)
        out, reported = run(unit, sound)
        gain = 20 * np.log10(out[-4800:].std() / sound[-4800:].std())
        assert gain == pytest.approx(wanted, abs=0.1)  # 2 kHz ripple of the mean square
        name = "reduction_db" if move_db < 0 else "boost_db"
        assert reported[name][-20:].max() == pytest.approx(abs(wanted), abs=0.1)


@pytest.mark.parametrize("kind", ["low-shelf", "high-shelf"])
def test_shelves_hear_their_own_side(kind: str) -> None:
    low, high = sine(100, 0.5, level_db=-12, channels=1), sine(8000, 0.5, level_db=-12, channels=1)
    moved = []
    for sound in (low, high):
        band = {"type": kind, "hz": 900, "move_db": -9, "threshold_db": -40}
        moved.append(run(tone(band), sound)[1]["reduction_db"].max())
    assert sorted(moved, reverse=kind == "low-shelf") == moved
    assert max(moved) == pytest.approx(9, abs=0.01)
    assert min(moved) < 0.01


def test_attack_takes_its_time() -> None:
    """From rest to 63 % of the movement in attack_ms, beside the mean square's own 5 ms."""
    unit = tone({"type": "bell", "hz": 2000, "q": 0.5, "move_db": -10, "threshold_db": -60,
                 "attack_ms": 100, "release_ms": 1000})  # fmt: skip
    _, reported = run(unit, sine(2000, 1, level_db=-6, channels=1))
    reached = np.argmax(reported["reduction_db"][:, 0] >= 10 * (1 - math.exp(-1))) * 64 / 48
    assert reached == pytest.approx(100, abs=6)


def test_another_key_moves_a_band() -> None:
    unit = tone({"type": "bell", "hz": 1000, "move_db": -9, "threshold_db": -40})
    quiet, loud = 1e-3 * noise(4096, 1), sine(1000, 0.2, level_db=-6, channels=1)
    alone = unit.process(quiet, 0).report.cells["reduction_db"].max()
    keyed = unit.process(quiet, 4096, key=loud[:4096]).report.cells["reduction_db"].max()
    assert alone < 0.5 < 8 < keyed


@pytest.mark.parametrize("rate", RATES)
def test_linear_phase_is_symmetrical_with_the_same_magnitude(rate: int) -> None:
    bands = [
        {"type": "bell", "hz": 250, "gain_db": -6, "q": 1},
        {"type": "low-cut", "hz": 30, "slope": "24"},
        {"type": "high-shelf", "hz": 7000, "gain_db": 5},
    ]
    linear = tone(*bands, rate=rate, phase="linear")
    pulse = np.zeros((SIZE, 1))
    pulse[0] = 1
    out, _ = run(linear, pulse)
    late = linear.latency
    assert late == round(0.16 * rate)
    assert np.abs(out[: 2 * late + 1, 0] - out[2 * late :: -1, 0]).max() < 1e-12
    at, found = np.fft.rfftfreq(SIZE, 1 / rate), np.abs(np.fft.rfft(out[:, 0]))
    wanted = np.abs(pulse_response(tone(*bands, rate=rate), rate)[1][:, 0])
    heard = (at > 20) & (at < 20000)
    apart = 20 * np.log10(found[heard] / wanted[heard])
    assert np.abs(apart).max() < 0.05  # the low cut rings longer than the filter


def test_linear_phase_without_bands_is_a_delay() -> None:
    sound = noise(30000)
    unit = tone(phase="linear", channels=2)
    out, _ = run(unit, sound)
    assert (out[unit.latency :] == sound[: len(sound) - unit.latency]).all()


def test_a_band_added_and_taken_away_makes_no_click() -> None:
    sound = sine(200, 0.6, level_db=-12, channels=1)
    one = {"type": "low-shelf", "hz": 150, "gain_db": 6}
    two = {"type": "low-cut", "hz": 120, "slope": "24"}
    unit = tone(one)
    out = []
    for at in range(0, 27648, 1024):
        if at == 9216:
            unit.change(stage("tone", {"bands": [two, one]}), unit.context)
        if at == 18432:
            unit.change(stage("tone", {"bands": [one]}), unit.context)
        out.append(unit.process(sound[at : at + 1024], at).out)
    whole = np.concatenate(out)[:, 0]
    window = np.hanning(1024)
    loudest = max(
        np.abs(np.fft.rfft(whole[s : s + 1024] * window))[128:].max() / 512
        for s in range(2048, len(whole) - 1024, 256)
    )
    assert 20 * np.log10(loudest) < -86
    # What stays goes on undisturbed: the shelf alone again gives what it gave.
    assert np.abs(whole[7200:8400] - whole[26400:27600]).max() < 1e-6


@pytest.mark.parametrize(
    ("bands", "words"),
    [([{"type": "bell"}] * 13, "12"), ([{"hz": 5}], "hz"), ([{"colour": 1}], "colour"),
     ([{"type": "wide"}], "type")],
)  # fmt: skip
def test_bad_bands_are_refused(bands: list[dict[str, Any]], words: str) -> None:
    with pytest.raises(SettingError, match=words):
        stage("tone", {"bands": bands})


def test_interpreted_kernel_is_the_same() -> None:
    sound = noise(300)
    unit = tone(
        {"type": "bell", "gain_db": 4, "move_db": -6, "threshold_db": -50},
        {"type": "low-cut", "slope": "18", "channel": "mid"},
        channels=2,
    )
    compiled = unit.process(sound, 0).out
    again = tone(
        {"type": "bell", "gain_db": 4, "move_db": -6, "threshold_db": -50},
        {"type": "low-cut", "slope": "18", "channel": "mid"},
        channels=2,
    )
    ramp = again._glide.over(0, 300)
    out, moves = np.empty_like(sound), np.zeros((2, 300))
    from salt_anvil.core.processors.bands import shapes

    bands = stage("tone", {"bands": [b.model_dump() for b in again.stage.params.bands]}).params
    toning.tone_into.py_func(
        out,
        moves,
        sound,
        sound,
        0,
        ramp.value,
        ramp.step,
        shapes(bands.bands),
        toning.DAMPINGS,
        -math.expm1(-1 / (0.005 * 48000)),
        again._state["memory"],
        again._state["ears"],
        again._state["rows"],
    )
    assert np.abs(out - compiled).max() < 1e-12
