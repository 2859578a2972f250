"""Lab against closed forms: what it reads off devices whose behaviour is known.

harmonics · sweep · steps · curve · response · difference · comparison · CSV and SVG
"""

import csv
import io
import math
import re
from typing import Any
from xml.etree import ElementTree

import numpy as np
import pyloudnorm
import pytest
from scipy import signal

from salt_anvil.core.errors import SettingError
from salt_anvil.core.lab import LabOptions, Result, Side, measure
from salt_anvil.core.lab.device import Device, other_setting
from salt_anvil.core.lab.drawing import log_ticks, png, svg, ticks
from salt_anvil.core.lab.measurements import LEVELS, MEASUREMENTS, pink
from salt_anvil.core.lab.result import Plot
from salt_anvil.core.recipe import Recipe, read_recipe, recipe_of
from salt_anvil.core.session import Session, checked
from tests.hard_sounds import filtered_up


def recipe(*chain: dict[str, Any]) -> Recipe:
    return read_recipe({"chain": list(chain)})


def one(kind: str, **params: Any) -> Recipe:
    return recipe({"kind": kind, "params": params})


def found(what: Recipe, measurement: str, rate: int = 48000, **options: Any) -> Result:
    return measure(Side(what), LabOptions(measurement=measurement, **options), rate)


def both(first: Side, second: Side, measurement: str, rate: int = 48000, **options: Any) -> Result:
    return measure(first, LabOptions(measurement=measurement, **options), rate, second)


def plot(result: Result, title: str) -> Plot:
    return next(p for p in result.plots if p.title == title)


def figures(result: Result) -> dict[str, float | None]:
    return {f"{f.label}, {f.unit}": f.value for f in result.figures}


@pytest.mark.parametrize("drive_db", [6, 12])
def test_harmonics_of_a_hard_clipper_are_the_fourier_series(drive_db: float) -> None:
    """A sine of amplitude g clipped at 1, with sin a = 1 / g: closed form, odd orders only."""
    result = found(
        one("clipper", drive_db=drive_db, shape=1, quality="best"), "harmonics", level_db=0, hz=100
    )
    g = 10 ** (drive_db / 20)
    a = math.asin(1 / g)
    exact = {1: (2 * g / math.pi) * (a + math.sin(a) * math.cos(a))}
    for n in (3, 5, 7, 9):
        exact[n] = (4 / (math.pi * n)) * (
            math.cos(n * a)
            + g
            * n
            * (math.sin((n - 1) * a) / (2 * (n - 1)) - math.sin((n + 1) * a) / (2 * (n + 1)))
        )
    bars = result.plots[0].traces[0].y
    for n in (3, 5, 7, 9):
        assert bars[n - 1] == pytest.approx(20 * math.log10(abs(exact[n] / exact[1])), abs=0.05)
        assert bars[n] < -100
    reported = figures(result)
    assert reported["gain, dB"] == pytest.approx(20 * math.log10(exact[1]), abs=0.01)
    assert reported["THD, %"] == pytest.approx(10 ** (reported["THD, dB"] / 20) * 100, rel=1e-3)
    assert reported["even, dB"] < -100 < -30 < reported["odd, dB"]


def test_a_clean_chain_has_no_harmonics() -> None:
    reported = figures(found(one("trim", gain_db=-3), "harmonics"))
    assert reported["gain, dB"] == pytest.approx(-3, abs=0.001)
    assert reported["THD, dB"] < -140
    assert reported["not harmonic, 1001 Hz, dB"] < -140


@pytest.mark.parametrize("hz", [1000, 3000, 12000])
def test_what_folds_onto_harmonics_is_told_by_the_sine_beside(hz: float) -> None:
    """At 48 kHz all that a divisor of the rate folds back falls on its own harmonics."""
    what = one("clipper", drive_db=12, shape=1, quality="plain")
    reported = [figures(found(what, "harmonics", level_db=0, hz=h)) for h in (hz, hz + 1)]
    beside = reported[0][f"not harmonic, {hz + 1:g} Hz, dB"]
    assert beside is not None
    assert beside == reported[1]["not harmonic, dB"]
    assert -60 < beside < -5


def test_a_sweep_tells_no_frequency_that_hides_its_folds() -> None:
    result = found(one("clipper", drive_db=12, shape=1, quality="plain"), "sweep", level_db=0)
    line = result.plots[1]
    assert all(48000 % hz for hz in map(int, line.x))
    assert min(line.traces[0].y) > -80


def test_the_sweep_shows_less_fold_back_with_more_quality() -> None:
    reported = [
        figures(found(one("clipper", drive_db=12, shape=1, quality=q), "sweep", level_db=0))
        for q in ("plain", "high")
    ]
    # The figures for single sines are those of the clipper's own tests.
    assert reported[0]["folded back, 5 kHz, dB"] == pytest.approx(-20, abs=1.5)
    assert reported[1]["folded back, 5 kHz, dB"] < -100


def test_the_sweep_is_a_rising_line() -> None:
    plot = found(one("trim"), "sweep").plots[0]
    levels = np.array(plot.levels)
    highest = levels.argmax(axis=0) * plot.high / (len(levels) - 1)
    assert np.abs(highest - np.array(plot.x)).max() < 0.3  # kHz; a row is 0.15


@pytest.mark.parametrize("hz", [0, 1000])
def test_steps_read_attack_and_release(hz: float) -> None:
    """From 10 dB below to 10 dB above; branching, so that each time is its own."""
    what = one(
        "compressor",
        threshold_db=-18,
        knee_db=0,
        attack_ms=50,
        release_ms=150,
        ballistics="branching",
        detector="rms" if hz else "peak",
        rms_ms=1,
    )
    reported = figures(found(what, "steps", level_db=-8, from_db=-28, hz=hz))
    assert reported["attack to 63 %, ms"] == pytest.approx(50, rel=0.06)
    assert reported["release to 63 %, ms"] == pytest.approx(150, rel=0.06)
    reduction = 7.5 if hz == 0 else 0.75 * (10 - 3.01)  # a sine's mean square is 3.01 dB lower
    assert reported["gain when louder, dB"] == pytest.approx(-reduction, abs=0.1)


def test_look_ahead_does_not_shorten_the_attack() -> None:
    what = one(
        "compressor",
        threshold_db=-18,
        attack_ms=20,
        release_ms=150,
        lookahead_ms=8,
        ballistics="branching",
    )
    result = found(what, "steps", level_db=-8, from_db=-28, hz=0)
    reported = figures(result)
    assert reported["attack to 63 %, ms"] == pytest.approx(20, rel=0.05)
    assert reported["release to 63 %, ms"] == pytest.approx(150, rel=0.05)
    # The mark stands where that is, 8 ms ahead, and says how long it took.
    place, words = result.plots[0].marks[0]
    assert words == f"63 % after {reported['attack to 63 %, ms']:.3g} ms"
    assert place == pytest.approx(20 - 8, abs=1.5)


def test_where_nothing_moves_there_are_no_times() -> None:
    reported = figures(found(one("trim"), "steps", hz=0))
    assert reported["attack to 63 %, ms"] is None


def test_a_blocked_constant_is_replaced() -> None:
    result = found(one("trim", dc_block=True), "steps", hz=0)
    assert "a constant does not pass" in result.words


@pytest.mark.parametrize("knee_db", [0, 12])
def test_the_measured_curve_is_the_drawn_one(knee_db: float) -> None:
    result = found(one("compressor", ratio=4, knee_db=knee_db, makeup_db=3), "curve", hz=0)
    assert figures(result)["measured from drawn, at most, dB"] < 0.05
    measured = result.plots[0].traces[0].y
    assert measured[0] == pytest.approx(-57, abs=0.01)
    assert measured[-1] == pytest.approx(-18 + 18 / 4 + 3, abs=0.05)
    assert result.plots[0].x == LEVELS.tolist()


def test_a_chain_draws_no_curve_of_its_own() -> None:
    result = found(recipe({"kind": "trim"}, {"kind": "compressor"}), "curve", hz=0)
    assert len(result.plots[0].traces) == 1


def test_the_response_is_scipys() -> None:
    """Of trim's DC block, whose coefficients are known: level, phase, delay."""
    result = found(one("trim", dc_block=True), "response")
    pole = np.exp(-2 * np.pi * 5 / 48000)
    block = [0.5 * (1 + pole), -0.5 * (1 + pole)], [1, -pole]
    level, phase, delay = (np.array(p.traces[0].y) for p in result.plots)
    at = np.array(result.plots[0].x)
    wanted = signal.freqz(*block, at, fs=48000)[1]
    assert np.abs(level - 20 * np.log10(np.abs(wanted))).max() < 0.02
    apart = np.angle(np.exp(1j * (np.radians(phase) - np.angle(wanted))))
    assert np.abs(apart).max() < 0.01
    bent = np.angle(signal.freqz(*block, [39, 41], fs=48000)[1])
    exact = -(bent[1] - bent[0]) / (2 * np.pi * 2) * 1000
    assert np.interp(40, at, delay) == pytest.approx(exact, abs=0.02)


def test_the_response_of_tone_is_the_analogue_one() -> None:
    bands = [{"type": "high-cut", "hz": 2000, "slope": "24"}]
    level = found(one("tone", bands=bands), "response").plots[0]
    at = np.array(level.x)
    wanted = 20 * np.log10(np.abs(signal.freqs(*signal.butter(4, 2000, analog=True), at)[1]))
    heard = (wanted > -60) & (at <= 20000)
    assert np.abs(np.array(level.traces[0].y) - wanted)[heard].max() < 0.15


def test_latency_is_told_and_taken_out() -> None:
    result = found(one("compressor", ratio=1, lookahead_ms=5), "response")
    # That of the detector, 7 frames, too.
    assert figures(result)["latency, ms"] == pytest.approx(5 + 7 / 48, abs=0.001)
    assert np.abs(np.array(result.plots[1].traces[0].y)).max() < 0.01


def test_difference_of_a_setting_and_itself_is_nothing() -> None:
    what = one("compressor")
    same = both(Side(what, "A"), Side(what, "B"), "difference")
    assert figures(same)["difference, dB"] == -160
    half = both(Side(one("trim", gain_db=-6.0206)), Side(one("trim")), "difference")
    assert figures(half)["difference, dB"] == pytest.approx(0, abs=0.01)
    assert figures(half)["louder by, dB"] == pytest.approx(-6.02, abs=0.01)


def test_the_noise_is_pink() -> None:
    noise = pink(1 << 18, 48000, -12)
    assert np.abs(noise).max() == pytest.approx(10 ** (-12 / 20))
    hz, power = signal.welch(noise, 48000, nperseg=16384)
    octaves = [power[(hz >= f) & (hz < 2 * f)].sum() for f in (100, 200, 400, 800, 1600, 3200)]
    assert np.ptp(10 * np.log10(octaves)) < 0.8


def test_two_settings_stand_beside_each_other() -> None:
    result = both(
        Side(one("trim", gain_db=-1), "A"), Side(one("trim", gain_db=2), "B"), "response", 44100
    )
    assert result.rate == 44100
    assert [t.name for t in result.plots[0].traces] == ["level, A", "level, B"]
    reported = figures(result)
    assert (reported["level at 1 kHz, A, dB"], reported["level at 1 kHz, B, dB"]) == (-1, 2)


@pytest.mark.parametrize("measurement", MEASUREMENTS)
def test_every_measurement_can_stand_beside_off(measurement: str) -> None:
    result = both(Side(one("compressor"), "on"), Side(recipe(), "off"), measurement, hz=50)
    assert "<svg" in svg(result)
    assert len(result.csv().splitlines()) > 10


def test_the_hard_cases_of_what_changes_nothing() -> None:
    reported = figures(found(one("trim"), "hard-cases", level_db=-6))
    assert reported["wobble of 12 kHz, dB"] < 0.001
    assert reported["beside 5 kHz, dB"] < -140
    assert reported["THD+N of 40 Hz, %"] < 1e-4
    assert reported["begins, below 120 Hz, dBFS"] < -60
    assert reported["before a hit, dB"] == -160
    assert reported["louder on pink noise, LU"] == pytest.approx(0, abs=0.01)
    signs = 0.501187 * np.where(np.random.default_rng(5).random(48000) < 0.5, -1.0, 1.0)
    long = filtered_up(16 * signal.firwin(16 * 512 + 1, 1 / 16), signs[:38300, None], 16)
    peak = 20 * math.log10(np.abs(long[: 16 * 38256]).max())
    assert reported["random signs, peak, dBTP"] == pytest.approx(peak, abs=0.1)
    assert "echo density, " not in reported


def test_the_hard_cases_tell_good_from_ordinary() -> None:
    """Each against one that is known to be worse, or by a figure that is set."""

    def of(kind: str, **params: Any) -> dict[str, float | None]:
        return figures(found(one(kind, **params), "hard-cases", level_db=-6))

    quick = {"ceiling_db": -12, "release_ms": 10, "character": "quick"}
    held, let_go = (of("limiter", **quick, hold_lows=h) for h in (True, False))
    assert held["THD+N of 40 Hz, %"] < 0.05 < 0.5 < let_go["THD+N of 40 Hz, %"]
    assert held["random signs, peak, dBTP"] < -11.9
    assert held["late, ms"] == pytest.approx(2 * (5 + 132 / 48), abs=0.01)
    plain, best = (of("clipper", drive_db=12, shape=1, quality=q) for q in ("plain", "best"))
    assert best["beside 5 kHz, dB"] < plain["beside 5 kHz, dB"] - 40
    band = {"type": "bell", "hz": 80, "q": 4, "gain_db": 12}
    early = [of("tone", bands=[band], phase=p)["before a hit, dB"] for p in
             ("minimum", "intermediate", "linear")]  # fmt: skip
    assert early[0] < early[1] - 60 < early[2] - 65
    room = figures(found(recipe({"kind": "room", "params": {"decay_s": 1.2, "damp_hz": 20000}}),
                         "hard-cases"))  # fmt: skip
    assert room["echo density, "] > 0.9
    assert room["decay by 60 dB, s"] == pytest.approx(1.2, rel=0.1)
    assert 4 < room["tail, scatter, dB"] < 1.5 * 5.57
    hits = [of("transient", attack_db=12, keep_peaks=k)["first hit, peak, dB"] for k in (1, 0)]
    assert hits[0] == pytest.approx(0, abs=0.05)
    assert hits[1] > 3
    squeezed = {"threshold_db": -26, "ratio": 100, "knee_db": 0, "attack_ms": 1}
    linked = of("compressor", **squeezed)
    parts = of("compressor", **squeezed, link_by="parts", link_hits=0)
    for figures_ in (linked, parts):
        assert figures_["right, by what lasts left, dB"] == pytest.approx(20, abs=0.7)
    assert linked["right, by a hit left, dB"] > 18 > 3 > parts["right, by a hit left, dB"]
    assert of("trim", gain_db=4)["louder on pink noise, LU"] == pytest.approx(4, abs=0.01)


def test_a_rooms_decay_is_told_by_octaves() -> None:
    room = {"kind": "room", "params": {"decay_s": 1.2, "damp_hz": 20000}}
    octaves = plot(found(recipe(room), "hard-cases"), "Decay by octaves")
    assert octaves.x == [125, 250, 500, 1000, 2000, 4000, 8000]
    assert octaves.traces[0].y == pytest.approx([1.2] * 7, rel=0.1)
    damped = {"kind": "room", "params": {"decay_s": 1.2, "damp_hz": 2000}}
    shorter = plot(found(recipe(damped), "hard-cases"), "Decay by octaves").traces[0].y
    assert shorter[-1] < 0.6 * shorter[1]


def test_a_control_that_jumps_is_heard_for_what_it_does() -> None:
    """0 to -60 dB on 200 Hz: smooth. What a bend makes all along is not the jump's."""
    smooth = found(one("trim"), "hard-cases", level_db=0)
    assert figures(smooth)["jump, above 4 kHz, dBFS"] < -90
    assert plot(smooth, "A control jumps: above 4 kHz").traces[0].name == "Trim, gain"
    with pytest.MonkeyPatch.context() as patch:
        # At once from one frame to the next, at a top of the tone.
        cut = round(0.60125 * 48000)
        patch.setattr(Device, "run", lambda _, tone: tone * (np.arange(len(tone)) < cut))
        clicks = figures(found(one("trim"), "hard-cases", level_db=0))
    assert clicks["jump, above 4 kHz, dBFS"] > -20
    bent = figures(found(one("clipper", drive_db=24, shape=1), "hard-cases", level_db=0))
    assert bent["jump, above 4 kHz, dBFS"] > -40
    assert bent["jump, over the rest, dB"] < 3
    assert "jump, over the rest, dB" not in figures(found(recipe(), "hard-cases"))


LOW = {"kind": "tone", "params": {"bands": [{"type": "high-cut", "hz": 150}]}}


def split(law: str) -> Recipe:
    return recipe({
        "kind": "split", "by": "copies", "join": {"law": law},
        "branches": [{"name": "As it is"}, {"name": "Low", "chain": [LOW]}],
    })  # fmt: skip


def test_a_steady_join_is_shown_on_its_way() -> None:
    """Level; a linear one is as loud as pyloudnorm finds the two, mixed by hand, to be."""
    steady, linear = (
        plot(found(split(law), "hard-cases"), "A join on its way") for law in ("steady", "linear")
    )
    assert np.ptp(steady.traces[0].y) < 0.1
    noise = pink(4 * 48000, 48000, -12)
    low = Device(recipe(LOW), 48000).run(noise)
    meter = pyloudnorm.Meter(48000)
    mixed = [
        meter.integrated_loudness(((1 - x / 100) * noise + x / 100 * low)[: round(3.6 * 48000)])
        for x in linear.x
    ]
    assert linear.traces[0].y == pytest.approx([m - mixed[0] for m in mixed], abs=0.05)
    assert np.ptp(mixed) > 3
    assert "join, most apart, LU" not in figures(found(split("sum"), "hard-cases"))


def test_kept_loudness_is_that_of_the_song_or_of_the_noise() -> None:
    what = one("compressor", threshold_db=-40, ratio=10, auto_makeup=True)
    alone = found(what, "hard-cases")
    assert figures(alone)["louder on pink noise, LU"] == pytest.approx(0, abs=0.05)
    assert alone.words.endswith("kept as over pink noise")
    # A song that is 30 dB quieter is hardly reduced: little is given back.
    song = Device(what, 48000)
    assert song.listen(pink(4 * 48000, 48000, -42))
    known = Side(what, measured=song.measured)
    heard = measure(known, LabOptions(measurement="hard-cases"), 48000)
    assert figures(heard)["louder on pink noise, LU"] < -5
    assert heard.words.endswith("kept as over the song")


@pytest.mark.parametrize("bits", [16, 24])
def test_what_is_rounded_as_a_print_has_a_prints_noise(bits: int) -> None:
    """TPDF: a quarter of a step squared (Lipshitz et al. 1992), whatever the sound is."""
    tone = 0.3 * np.sin(np.arange(20480) / 7)
    rounded = Device(one("trim"), 48000, "left", printed=f"{bits} bit").run(tone)
    exact = Device(one("trim"), 48000, "left").run(tone)
    assert np.std(rounded - exact) * 2**bits == pytest.approx(1, rel=0.02)
    assert np.all(rounded * 2 ** (bits - 1) % 1 == 0)


def test_shaped_noise_is_more_where_it_is_not_heard() -> None:
    plain, shaped = (
        found(one("trim"), "harmonics", printed=p, level_db=-60)
        for p in ("16 bit", "16 bit shaped")
    )
    noise = [figures(f)["THD+N, 20 Hz to 20 kHz, dB"] for f in (plain, shaped)]
    assert noise[1] > noise[0] + 3
    assert plain.words.endswith("rounded to 16 bit")


def test_other_rates_are_measured_at_those_rates() -> None:
    what = one("clipper", drive_db=12, shape=1, quality="good")
    folded = [
        figures(found(what, "harmonics", level_db=0, hz=5000, rate=rate))["not harmonic, dB"]
        for rate in (48000, 96000)
    ]
    assert folded[1] < folded[0] - 10


def test_sides_are_measured_on_the_sides() -> None:
    what = one("width", width=2)
    gains = [figures(found(what, "harmonics", channel=c))["gain, dB"] for c in ("both", "sides")]
    assert gains == [pytest.approx(0, abs=1e-3), pytest.approx(6.02, abs=0.01)]


def test_what_listens_elsewhere_hears_its_own_input() -> None:
    chain = {"kind": "compressor", "params": {"knee_db": 0}, "key": {"source": "input:Voice"}}
    reported = figures(found(recipe(chain), "curve", hz=0))
    assert reported["gain at 0 dBFS, dB"] == pytest.approx(-13.5, abs=0.05)


def session() -> Session:
    stage = {"id": "c", "kind": "trim", "params": {"gain_db": -1}, "slots": {"B": {"gain_db": 5}}}
    strips = [
        {"id": "t", "name": "T", "kind": "track", "channels": 2, "frames": 9, "audio": "a",
         "chain": [stage]},
        {"id": "main", "name": "Main", "kind": "main"},
    ]  # fmt: skip
    return checked(Session, {"name": "S", "rate": 48000, "strips": strips})


def test_settings_of_a_stage_can_be_set_beside_it() -> None:
    name, other = other_setting(session(), "c", "B")
    assert name == "A"
    heard = found(recipe_of(other, "c"), "harmonics")
    assert figures(heard)["gain, dB"] == pytest.approx(5, abs=0.001)


@pytest.mark.parametrize(
    ("place", "against", "words"),
    [("c", "A", "at A already"), ("c", "C", "no setting C"), ("t", "B", "no setting B")],
)  # fmt: skip
def test_what_is_not_there_is_said(place: str, against: str, words: str) -> None:
    with pytest.raises(SettingError, match=words):
        other_setting(session(), place, against)


def test_a_frequency_out_of_reach_is_refused() -> None:
    with pytest.raises(SettingError, match="hz is 0"):
        found(one("trim"), "harmonics", hz=0)


@pytest.mark.parametrize("measurement", MEASUREMENTS)
def test_everything_can_be_exported(measurement: str) -> None:
    result = found(one("compressor"), measurement)
    rows = list(csv.reader(io.StringIO(result.csv())))
    assert rows[0] == [result.words]
    for figure in result.figures:
        assert any(row[:1] == [figure.label] for row in rows)
    for plot in result.plots:
        at = rows.index([plot.title])
        count = len(plot.levels) if plot.kind == "image" else len(plot.x)
        table = rows[at + 2 : at + 2 + count]
        assert all(len(row) == len(rows[at + 1]) for row in table)
        for row in table:
            [float(cell) for cell in row]
    picture = svg(result)
    root = ElementTree.fromstring(picture)
    texts = [t.text for t in root.iter("{http://www.w3.org/2000/svg}text")]
    assert all(any(t and t.startswith(p.title) for t in texts) for p in result.plots)
    assert not re.search(r"[' ](nan|inf)\b", picture)


def test_names_in_a_picture_are_escaped() -> None:
    result = both(Side(one("trim"), "<b>"), Side(one("trim"), "&"), "response")
    assert "level, <b>" in [t.text for t in ElementTree.fromstring(svg(result)).iter()]


def test_ticks_are_round() -> None:
    assert ticks(-20, 4, 6) == [-20, -15, -10, -5, 0]
    assert ticks(0, 1, 6) == pytest.approx([0, 0.2, 0.4, 0.6, 0.8, 1])
    assert log_ticks(20, 20000) == [20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000]


def test_the_image_is_a_png() -> None:
    data = png([[0, 128], [255, 3]])
    assert data[:8] == b"\x89PNG\r\n\x1a\n"
    import av

    with av.open(io.BytesIO(data)) as container:
        frame = next(container.decode(video=0)).to_ndarray(format="gray")
    assert frame.tolist() == [[0, 128], [255, 3]]


def test_a_device_is_in_step() -> None:
    noise = np.random.default_rng(3).standard_normal(5000) * 0.1
    device = Device(one("deesser", ratio=1), 48000)
    assert device.latency == 128
    assert np.abs(device.run(noise) - noise).max() < 1e-7  # the engine's output is float32
