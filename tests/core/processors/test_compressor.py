"""The compressor against Giannoulis, Massberg and Reiss (2012), closed forms written out here.

Static curve · attack, release, hold · feed-back · link, most reduction, restore, tempo
"""

import math
from typing import Any

import numpy as np
import pytest
from scipy import signal

from salt_anvil.core.dsp import listening
from salt_anvil.core.dsp.oversample import LATENCY
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import Context, processor
from tests.conftest import constant, noise, rounded, sine
from tests.core.processors.test_contract import aligned, run, stage

RATE = 48000


def curve(x: float, threshold: float, ratio: float, knee: float) -> float:
    """The output level of the paper's eq. 4 (equation number from memory)."""
    slope = 0.0 if ratio >= 100 else 1 / ratio
    if 2 * (x - threshold) < -knee:
        return x
    if 2 * abs(x - threshold) <= knee and knee > 0:
        return x + (slope - 1) * (x - threshold + knee / 2) ** 2 / (2 * knee)
    return threshold + (x - threshold) * slope


def compress(sound: np.ndarray, rate: int = RATE, **params: Any) -> np.ndarray:
    unit = Unit(stage("compressor", params), Context(rate, sound.shape[1], 96))
    return aligned(unit, sound)[0]


def settled_db(sound: np.ndarray) -> float:
    """Peak level over the last tenth."""
    return 20 * math.log10(np.abs(sound[-len(sound) // 10 :]).max())


FAST = {"attack_ms": 1, "release_ms": 20}


@pytest.mark.parametrize("ratio", [1, 1.5, 4, 20, 100])
@pytest.mark.parametrize("knee", [0, 6, 24])
@pytest.mark.parametrize("topology", ["feed-forward", "feed-back"])
@pytest.mark.parametrize("ballistics", ["decoupled", "branching"])
def test_static_curve_with_dc(ratio: float, knee: float, topology: str, ballistics: str) -> None:
    for level in range(-60, 1, 3):
        out = compress(
            constant(level, RATE // 2, 1),
            ratio=ratio,
            knee_db=knee,
            threshold_db=-24,
            topology=topology,
            ballistics=ballistics,
            **FAST,
        )
        # 0.05 dB: design/03; the feed-back's infinite ratio is 1 : 10 000.
        assert settled_db(out) == pytest.approx(curve(level, -24, ratio, knee), abs=0.05)


@pytest.mark.parametrize("detector", ["peak", "rms"])
def test_static_curve_with_a_square(detector: str) -> None:
    """The peak detector hears how far it reaches between the samples; reference: scipy."""
    square = np.sign(sine(1000, 0.5, channels=1) + 1e-9)
    beyond = np.abs(signal.resample_poly(square[:4800], 32, 1, window=("kaiser", 6))[9600:-9600])
    further = 20 * math.log10(beyond.max()) if detector == "peak" else 0.0
    for level in range(-60, 1, 6):
        out = compress(
            square * 10 ** (level / 20), threshold_db=-30, ratio=3, detector=detector, **FAST
        )
        expected = level - (level + further - curve(level + further, -30, 3, 6))
        assert settled_db(out) == pytest.approx(expected, abs=0.05)


@pytest.mark.parametrize("detector", ["peak", "rms"])
def test_static_curve_with_a_sine(detector: str) -> None:
    """Decoupled peak holds the tops; RMS reads 3.01 dB lower (crest factor of a sine)."""
    shift = 10 * math.log10(2) if detector == "rms" else 0.0
    for level in range(-48, 1, 6):
        out = compress(
            sine(1000, 2.5, level_db=level, channels=1),
            threshold_db=-30,
            ratio=4,
            attack_ms=5,
            release_ms=800,
            detector=detector,
            rms_ms=100,
        )
        expected = level - ((level - shift) - curve(level - shift, -30, 4, 6))
        assert settled_db(out) == pytest.approx(expected, abs=0.05)


@pytest.mark.parametrize("topology", ["feed-forward", "feed-back"])
@pytest.mark.parametrize("attack", [0.05, 1, 10, 200])
@pytest.mark.parametrize("ballistics", ["decoupled", "branching"])
def test_attack_time(topology: str, attack: float, ballistics: str) -> None:
    """Reduction reaches 1 - 1/e of its final value, in dB, after the attack (eq. 7)."""
    frames = round(attack * 8 * 48) + 400
    sound = rounded(np.concatenate([constant(-40, 4096, 1), constant(-20, frames, 1)]))
    out = compress(
        sound,
        threshold_db=-30,
        ratio=4,
        knee_db=0,
        attack_ms=attack,
        topology=topology,
        ballistics=ballistics,
        release_ms=4000,
    )
    reduction = -20 * np.log10(np.abs(out / sound))[4096:, 0]
    wanted = 0.75 * np.maximum(20 * np.log10(sound[4090:, 0]) + 30, 0)
    pole = math.exp(-1 / (attack * 48))
    ideal = signal.lfilter([1 - pole], [1, -pole], wanted)[6:]
    reached, after = (int(np.argmax(c >= (1 - math.exp(-1)) * 7.5)) for c in (reduction, ideal))
    assert after == pytest.approx(attack * 48, abs=2)
    assert abs(reached - after) <= max(1, 0.05 * attack * 48)


@pytest.mark.parametrize("release", [5, 120, 1000])
@pytest.mark.parametrize("hold", [0, 40])
@pytest.mark.parametrize("topology", ["feed-forward", "feed-back"])
def test_release_and_hold(release: float, hold: float, topology: str) -> None:
    frames = round((release * 4 + hold) * 48)
    sound = rounded(np.concatenate([constant(-20, 24000, 1), constant(-40, frames, 1)]))
    out = compress(
        sound,
        threshold_db=-30,
        ratio=4,
        knee_db=0,
        attack_ms=1,
        release_ms=release,
        hold_ms=hold,
        ballistics="branching",
        topology=topology,
    )
    reduction = -20 * np.log10(np.abs(out / sound))[24000:, 0]
    fallen = int(np.argmax(reduction <= math.exp(-1) * reduction[0]))
    assert abs(fallen - (release + hold) * 48) <= max(2, 0.05 * release * 48)


def test_decoupled_release_outlasts_branching() -> None:
    """In the paper's fig. 6 the decoupled form releases later by about the attack."""
    sound = rounded(np.concatenate([constant(-20, 24000, 1), constant(-40, 24000, 1)]))
    falls = {}
    for ballistics in ("branching", "decoupled"):
        out = compress(sound, threshold_db=-30, attack_ms=20, release_ms=100, ballistics=ballistics)
        reduction = -20 * np.log10(np.abs(out / sound))[24000:, 0]
        falls[ballistics] = int(np.argmax(reduction <= math.exp(-1) * reduction[0])) / 48
    assert 10 < falls["decoupled"] - falls["branching"] < 30


def test_branching_against_a_plain_transcription() -> None:
    """Eq. 16 in plain Python on noise: the vectorised kernel does the same recursion.

    By RMS, whose level is of the samples alone; that of the peaks has a test of its own.
    """
    sound = noise(3000, 1)
    out = compress(
        sound,
        threshold_db=-30,
        ratio=4,
        knee_db=6,
        attack_ms=3,
        release_ms=60,
        ballistics="branching",
        detector="rms",
        rms_ms=2,
    )
    heard = 0.0
    share = -math.expm1(-1 / (0.002 * RATE))
    a, r = math.exp(-1 / (0.003 * RATE)), math.exp(-1 / (0.060 * RATE))
    reduction, expected = 0.0, []
    for x in sound[:, 0]:
        heard += share * (x * x - heard)
        level = 10 * math.log10(heard + 1e-30)
        wanted = level - curve(level, -30, 4, 6)
        pole = a if wanted > reduction else r
        reduction = pole * reduction + (1 - pole) * wanted
        expected.append(x * 10 ** (-reduction / 20))
    assert np.abs(out[:, 0] - expected).max() < 1e-10


def test_feed_back_output_obeys_its_own_loop() -> None:
    """On noise, each frame's reduction solves c = a c' + (1 - a) F(x - c) with F on the output."""
    sound = noise(2000, 1, seed=3)
    params = {"threshold_db": -30, "ratio": 4, "knee_db": 0, "attack_ms": 2, "release_ms": 50}
    rms = {"detector": "rms", "rms_ms": 1}
    out = compress(sound, topology="feed-back", ballistics="branching", **rms, **params)
    c = -20 * np.log10(np.abs(out / sound))[:, 0]
    p, b = math.exp(-1 / (0.002 * RATE)), math.exp(-1 / (0.050 * RATE))
    s = 0.75
    a = p / (1 - s + p * s)
    worst, power = 0.0, 0.0
    for n in range(len(c)):
        power -= math.expm1(-1 / (0.001 * RATE)) * (sound[n, 0] ** 2 - power)
        if n == 0:
            continue
        heard = 10 * math.log10(power) - c[n]
        wanted = max(heard + 30, 0.0) * 3  # ratio - 1 above the threshold
        open_loop = 0.75 * max(heard + c[n] + 30, 0.0)
        pole = b if open_loop < c[n - 1] else a if open_loop > 0 else p
        worst = max(worst, abs(c[n] - pole * c[n - 1] - (1 - pole) * wanted))
    assert worst < 1e-8


def test_automatic_release_tells_peaks_from_sustained() -> None:
    def fallen_after(loud_ms: int) -> float:
        loud = loud_ms * 48
        sound = rounded(np.concatenate([constant(-10, loud, 1), constant(-50, 96000, 1)]))
        out = compress(sound, threshold_db=-30, attack_ms=0.5, release_ms=80, release_mode="auto")
        reduction = -20 * np.log10(np.abs(out / sound))[loud:, 0]
        return int(np.argmax(reduction <= math.exp(-1) * reduction[0])) / 48

    assert fallen_after(10) < 130
    assert fallen_after(2000) > 400


def test_tempo_release_needs_a_tempo() -> None:
    item = stage("compressor", {"release_mode": "tempo", "release_note": "1/4"})
    compressor = processor("compressor")
    assert compressor.release_ms(item.params, Context(RATE, 1, 102)) == pytest.approx(588.235)  # type: ignore[attr-defined]
    with pytest.raises(SettingError, match="tempo"):
        Unit(item, Context(RATE, 1, None))


def test_feed_back_refuses_look_ahead() -> None:
    item = stage("compressor", {"topology": "feed-back", "lookahead_ms": 1})
    with pytest.raises(SettingError, match="look ahead"):
        Unit(item, Context(RATE, 1))


def test_most_reduction_is_never_exceeded() -> None:
    sound = noise(48000, 2, level=0.5)
    unit = Unit(stage("compressor", {"threshold_db": -50, "max_reduction_db": 7}), Context(RATE, 2))
    _, cells = run(unit, sound)
    assert 6.9 < cells["reduction_db"].max() <= 7.0


def test_link() -> None:
    sound = constant(-10, 48000) * [1.0, 0.01]
    linked = compress(sound, threshold_db=-30, link=1)
    apart = compress(sound, threshold_db=-30, link=0)
    ratio = np.abs(linked[-1] / sound[-1])
    assert ratio[0] == pytest.approx(ratio[1], rel=1e-12)
    assert apart[-1, 1] == sound[-1, 1]
    assert apart[-1, 0] == pytest.approx(linked[-1, 0])


def test_link_between_equal_lanes_can_be_let_go() -> None:
    """Fully linked lanes are computed once; unlinking in play must find both lanes' state."""
    sound = noise(20480, 2, level=0.4, seed=5)
    whole = Unit(stage("compressor", {"threshold_db": -30, "link": 0.999999}), Context(RATE, 2))
    unit = Unit(stage("compressor", {"threshold_db": -30, "link": 1}), Context(RATE, 2))
    a, _ = run(whole, sound)
    b, _ = run(unit, sound)
    assert np.abs(a - b).max() < 1e-5


def test_mid_side_leaves_a_quiet_side_alone() -> None:
    middle, side = constant(-6, 24000, 1)[:, 0], 0.001 * noise(24000, 1)[:, 0]
    sound = np.stack([middle + side, middle - side], axis=1)
    out = compress(sound, threshold_db=-30, stereo="mid-side", link=0)
    # What a middle that begins at once rings between the samples is as long as the taps.
    assert np.abs((out[:, 0] - out[:, 1]) / 2 - side)[16:].max() < 1e-12


def test_restore_gives_the_hit_back_and_leaves_the_tail() -> None:
    sound = np.concatenate([constant(-50, 4800, 1), constant(-6, 24000, 1)])
    plain, back = (
        compress(sound, threshold_db=-30, attack_ms=0.1, restore=r, release_ms=100) for r in (0, 1)
    )
    early = slice(4800 + 96, 4800 + 480)
    assert np.abs(back[early]).mean() > 2 * np.abs(plain[early]).mean()
    assert back[-1, 0] == pytest.approx(plain[-1, 0], rel=1e-3)


def test_look_ahead_catches_the_first_edge() -> None:
    sound = rounded(np.concatenate([constant(-60, 4800, 1), constant(0, 9600, 1)]))
    late = compress(sound, threshold_db=-20, ratio=100, knee_db=0, attack_ms=1)
    early = compress(sound, threshold_db=-20, ratio=100, knee_db=0, attack_ms=1, lookahead_ms=10)
    assert np.abs(late).max() > 0.75
    assert np.abs(early).max() < 10 ** (-19.5 / 20)


def test_reduction_is_reported_in_the_input_s_time() -> None:
    sound = np.concatenate([constant(-60, 6400, 1), constant(0, 6400, 1)])
    unit = Unit(
        stage("compressor", {"threshold_db": -20, "attack_ms": 0.05, "lookahead_ms": 4}),
        Context(RATE, 1),
    )
    report = unit.process(sound[:64], 0).report
    _, cells = run(unit, sound[64:], start=64)
    rows = cells["reduction_db"][:, 0]
    begins = int(np.argmax(rows > 0.1)) + report.first + len(report.cells["reduction_db"])
    # Look-ahead 4 ms: the reduction is there 3 cells (192 frames) before the step at cell 100.
    assert begins in (96, 97, 98)


def test_automatic_makeup_and_make_up() -> None:
    sound = constant(-60, 4800, 1)
    out = compress(sound, threshold_db=-20, ratio=100, knee_db=0, auto_makeup=True, makeup_db=3)
    assert settled_db(out) == pytest.approx(-60 + 10 + 3, abs=1e-6)


def test_report_of_the_detector_level_for_pictures() -> None:
    unit = Unit(
        stage("compressor", {"detector": "rms", "rms_ms": 20}), Context(RATE, 1, None, True)
    )
    _, cells = run(unit, sine(1000, 1, channels=1, level_db=-6))
    assert cells["level_db"][-10:].mean() == pytest.approx(-9.01, abs=0.1)


def test_picture_is_the_curve() -> None:
    item = processor("compressor")
    params = stage("compressor", {"threshold_db": -24, "ratio": 3, "makeup_db": 2}).params
    for x, y in item.drawing(params, Context(RATE, 2)).curve:
        assert y == pytest.approx(curve(x, -24, 3, 6) + 2, abs=1e-9)


@pytest.mark.parametrize("name", ["detector", "topology"])
def test_kernels_without_the_compiler(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """The same arithmetic as plain Python: no compiled code hides an error of the source."""
    from salt_anvil.core.dsp import decibel, dynamics

    params = {"threshold_db": -30, "link": 0.3, "restore": 0.2, "release_mode": "auto"}
    params |= {"detector": "rms"} if name == "detector" else {"topology": "feed-back"}
    sound = noise(200, 2)
    compiled = compress(sound, **params)
    for module, names in (
        (decibel, ("log2_into", "exp2_into")),
        (
            dynamics,
            (
                "log2_into",
                "exp2_into",
                "curve_reduction",
                "_solve",
                "heard_into",
                "scale_of",
                "_link",
                "_curve_into",
                "_smooth",
                "_smooth_back",
                "_restore",
                "reduce_into",
                "linked_levels",
                "equal_lanes",
                "stand_alike",
                "_even",
                "gain_into",
                "cell_maxima",
            ),
        ),
    ):
        for kernel in names:
            plain = getattr(getattr(module, kernel), "py_func", None)
            if plain is not None:
                monkeypatch.setattr(module, kernel, plain)
    assert np.abs(compress(sound, **params) - compiled).max() < 1e-12


def coloured(sound: np.ndarray, **params: Any) -> np.ndarray:
    settings = {"ratio": 1, "colour": 1} | params
    return run(Unit(stage("compressor", settings), Context(48000, sound.shape[1])), sound)[0]


@pytest.mark.parametrize(("balance", "louder", "softer"), [(0, 2, 3), (1, 3, 2)])
def test_colour_adds_even_or_odd_harmonics(balance: float, louder: int, softer: int) -> None:
    out = coloured(sine(1000, 1, level_db=-12, channels=1), colour_balance=balance)
    found = np.abs(np.fft.rfft(out[24000:, 0])) / 12000
    assert 20 * np.log10(found[louder * 500] / found[softer * 500]) > 30
    assert 20 * np.log10(found[louder * 500] / found[500]) > -30  # "much" is heard


def test_colour_is_a_share_of_the_bend() -> None:
    sound = sine(1000, 0.3, level_db=-12, channels=1)
    late = LATENCY + listening.LATENCY
    clean = np.concatenate([np.zeros((late, 1)), sound[:-late]])
    full, half = (coloured(sound, colour=c) - clean for c in (1, 0.5))
    assert np.abs(full - 2 * half).max() < 1e-12
    wait = listening.LATENCY
    assert (coloured(sound, colour=0)[wait:] == sound[:-wait]).all()


def test_colour_is_as_late_as_the_oversampling_and_none_is_not() -> None:
    for params, late in (
        ({}, 0),
        ({"colour": 0.2}, LATENCY),
        ({"colour": 0.2, "lookahead_ms": 1}, 48 + LATENCY),
    ):
        unit = Unit(stage("compressor", params), Context(48000, 2))
        assert unit.latency == late + listening.LATENCY
