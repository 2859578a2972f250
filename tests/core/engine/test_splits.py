"""Splits and joins through the engine: flat, null, aligned, blended; what design/03 states.

Outputs are float32 (-150 dB), so nulls are measured against that.
"""

from typing import Any

import numpy as np
import pyloudnorm
import pytest

from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.edits import rebuilt
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.splits import Division, Joining
from salt_anvil.core.errors import CoreError, RoutingError
from salt_anvil.core.measure.wiring import wiring_cautions
from salt_anvil.core.processors import Context
from salt_anvil.core.recipe import read_recipe, recipe_session
from salt_anvil.core.session import Split, checked
from tests.conftest import noise, sine
from tests.core.engine.test_engine import energy_over
from tests.core.engine.test_keys import session_of
from tests.long import of
from tests.routing import RATE, bands, held_plan, reader, split, stage, through

even = JoinMeasurement.even

EMPTY: list[dict[str, Any]] = []


def pulse(frames: int = RATE) -> np.ndarray:
    out = np.zeros((frames, 2))
    out[2000] = 0.5
    return out


def decibels(sound: np.ndarray) -> np.ndarray:
    hz = np.fft.rfftfreq(len(sound), 1 / RATE)
    level = np.abs(np.fft.rfft(sound[:, 0])) / 0.5
    return 20 * np.log10(level[(hz >= 20) & (hz <= 20000)])


@pytest.mark.parametrize("mix", [0, 0.25, 0.5, 0.75, 1])
@pytest.mark.parametrize("slope", [24, 48])
@pytest.mark.parametrize("count", [2, 3, 4, 5])
def test_empty_bands_are_flat_at_every_mix(count: int, slope: int, mix: float) -> None:
    out = through([bands(*[EMPTY] * count, slope=slope, mix=mix)], pulse())
    assert np.abs(decibels(out)).max() < 0.01


@pytest.mark.parametrize("mix", [0, 0.25, 0.5, 0.75, 1])
def test_empty_linear_bands_are_the_input(mix: float) -> None:
    sound = noise(60_000)
    out = through([bands(EMPTY, EMPTY, EMPTY, phase="linear", mix=mix)], sound)
    assert np.abs(out - sound.astype(np.float32)).max() < 1e-7


@pytest.mark.parametrize("by", ["mid-side", "left-right"])
def test_empty_mid_side_is_the_input(by: str) -> None:
    """float64 rounding of (L + R) / 2 + (L - R) / 2 is below 1e-15; float32 hides it all."""
    sound = noise(20_000).astype(np.float32).astype(np.float64)
    assert (through([split(by, EMPTY, EMPTY)], sound) == sound).all()


@pytest.mark.parametrize("kind", ["bands", "linear", "mid-side", "copies"])
def test_a_split_that_is_off_is_the_delayed_input_to_the_bit(kind: str) -> None:
    sound = noise(20_000).astype(np.float32).astype(np.float64)
    loud = [stage("trim", gain_db=12)]
    item = {
        "bands": bands(loud, loud, on=False),
        "linear": bands(loud, loud, on=False, phase="linear"),
        "mid-side": split("mid-side", loud, loud, on=False),
        "copies": split("copies", loud, loud, on=False),
    }[kind]
    assert (through([item], sound) == sound).all()


def test_two_copies_are_6_02_db_louder() -> None:
    sound = noise(20_000, level=0.1)
    out = through([split("copies", EMPTY, EMPTY)], sound)
    assert 20 * np.log10(np.abs(out[5000] / sound[5000])) == pytest.approx(6.0206, abs=1e-4)


ALIGNED: dict[str, list[dict[str, Any]]] = {
    "look-ahead": [stage(ratio=1, lookahead_ms=13.7)],
    "linear phase": [bands(EMPTY, EMPTY, EMPTY, phase="linear")],
    "both, nested": [
        split("copies", [stage(ratio=1, lookahead_ms=3)],
              [bands(EMPTY, [stage(ratio=1, lookahead_ms=7)], phase="linear")],
              join={"law": "linear", "position": 0.5}),
    ],
}  # fmt: skip


@pytest.mark.parametrize("wet", ALIGNED)
@pytest.mark.parametrize("law", ["linear", "steady"])
def test_a_dry_branch_nulls_against_one_with_latency(wet: str, law: str) -> None:
    sound = noise(60_000)
    out = through([split("copies", EMPTY, ALIGNED[wet], join={"law": law, "position": 0.5})], sound)
    assert np.abs(out - sound).max() < 1e-6


def test_opposed_branches_cancel() -> None:
    """-120 dB and more of null between a plain and a turned copy, at other latencies."""
    turned = [stage("trim", invert=True), stage(ratio=1, lookahead_ms=9)]
    out = through([split("copies", EMPTY, turned)], noise(30_000))
    assert np.abs(out).max() < 1e-6


def test_branches_have_gain_switch_and_solo() -> None:
    sound = noise(8192, level=0.1)

    def parts(**second: Any) -> np.ndarray:
        item = split("copies", EMPTY, [stage("trim", gain_db=6)])
        item["branches"][1] |= second
        return through([item], sound)

    six = 10 ** (6 / 20)
    assert np.abs(parts(gain_db=-6) - sound * 2).max() < 1e-6
    assert np.abs(parts(on=False) - sound).max() < 1e-6
    assert np.abs(parts(solo=True) - sound * six).max() < 1e-6


def test_a_band_can_be_heard_alone() -> None:
    item = bands(EMPTY, EMPTY, EMPTY)
    item["branches"][0]["solo"] = True
    low = through([item], sine(50, 0.5)) + 0
    high = through([item], sine(5000, 0.5))
    assert np.abs(low[12000:]).max() == pytest.approx(1, abs=0.02)
    assert np.abs(high[12000:]).max() < 1e-4


def loudness(sound: np.ndarray) -> float:
    """Integrated loudness by another meter."""
    return float(pyloudnorm.Meter(RATE).integrated_loudness(sound))


CRUSH = stage(threshold_db=-24, ratio=8, attack_ms=0.1, release_ms=50)
LOW = stage("tone", bands=[{"type": "high-cut", "hz": 150, "slope": "24"}])
PAIRS = {
    "identical": (EMPTY, EMPTY),
    "correlated": (EMPTY, [CRUSH]),
    "uncorrelated": ([stage("trim")], [stage("trim", delay_ms=60)]),
    "level-mismatched": (EMPTY, [CRUSH, stage("trim", gain_db=-9)]),
    "low": (EMPTY, [LOW]),
    # What is quiet falls behind the gates in one and stands in the other.
    "gated": (EMPTY, [stage("expander", threshold_db=-18, ratio=8, range_db=40)]),
    # A tone that comes and goes is turned round, the noise is not.
    "changing": (EMPTY, [stage("tone", bands=[{"type": "notch", "hz": 1000, "q": 0.3}])]),
}


def changing() -> np.ndarray:
    """Loud and quiet noise, bass notes, and a tone that is there half of the time."""
    at = np.arange(9 * RATE)
    swell = 0.02 + np.abs(np.sin(at / RATE * 0.7)) ** 3
    low = np.sin(2 * np.pi * 70 * at / RATE) * ((at // (2 * RATE)) % 2)
    tone = np.sin(2 * np.pi * 1000 * at / RATE) * (at > 5 * RATE)
    return noise(9 * RATE, level=0.1) * swell[:, None] + (0.2 * low + 0.2 * tone)[:, None]


@pytest.mark.parametrize("kind", PAIRS)
def test_a_steady_join_keeps_the_loudness(kind: str) -> None:
    """0.05 LU where the design asks for 0.3, by the gates of each mixture; meter: pyloudnorm."""
    a, b = PAIRS[kind]
    sound, found = changing(), []
    for x in np.linspace(0, 1, of(5, 11)):
        item = split("copies", a, b, join={"law": "steady", "position": x})
        found.append(loudness(through([item], sound)))
    assert max(found) - min(found) < 0.05


def test_a_steady_join_of_nothing_is_measured() -> None:
    """A session before its first recording: there is a join, and a bus to hear it, but no sound."""
    chain = [split("copies", EMPTY, [stage()], join={"law": "steady"}) | {"id": "s"}]
    main = {"id": "main", "name": "Main", "kind": "main", "chain": chain}
    plan = held_plan(session_of([main]), {})
    assert plan.frames == 0
    assert not plan.missing()


def test_a_steady_join_says_where_it_is_not_steady() -> None:
    """Of ten seconds the second is turned round for three: what is steady over all sinks there."""
    blocks = np.tile([[1.0, 1.0, 0.9]], (97, 1))
    blocks[40:70, 2] = -0.2
    chain = [split("copies", EMPTY, [stage()], join={"law": "steady"}) | {"id": "s"}]
    session = recipe_session(read_recipe({"chain": chain}), RATE, 2, 10 * RATE, {})
    plan = make_plan(session, measured=lambda digest: JoinMeasurement.of(blocks))
    (found,) = wiring_cautions(plan.strip("in"), 10 * RATE)
    assert found.rule == "wander s"
    # Half of each, as they are there against as they are in the mean.
    alike = (67 * 0.9 - 30 * 0.2) / 97
    assert found.value == pytest.approx(10 * np.log10((1 - 0.2) / (1 + alike)), abs=0.02)
    assert 40 <= found.begin / RATE * 10 <= 45
    # What is squeezed is louder where it is quiet: that is what it is for.
    quiet = np.tile([[1.0, 1.0, 0.9]], (97, 1))
    quiet[40:70] *= [[0.04, 0.25, 0.1]]
    for steady in (np.tile([[1.0, 1.0, 0.4]], (97, 1)), quiet):
        same = JoinMeasurement.of(steady)
        plan = make_plan(session, measured=lambda digest, same=same: same)
        assert wiring_cautions(plan.strip("in"), 10 * RATE) == []


def test_a_nested_steady_join_is_measured_after_the_inner_one() -> None:
    sound = noise(4 * RATE, level=0.1)
    inner = split(
        "copies", EMPTY, [stage("trim", gain_db=-15)], join={"law": "steady", "position": 1}
    )
    outer = split(
        "copies", EMPTY, [inner, stage("trim", gain_db=9)], join={"law": "steady", "position": 1}
    )
    assert loudness(through([outer], sound)) == pytest.approx(loudness(sound), abs=0.05)


def test_silence_leaves_a_steady_join_linear() -> None:
    out = through([split("copies", EMPTY, EMPTY, join={"law": "steady"})], np.zeros((RATE, 2)))
    assert (out == 0).all()


@pytest.mark.parametrize(
    ("item", "words"),
    [
        (bands(EMPTY, EMPTY) | {"crossovers_hz": []}, "2 bands with 0 crossovers"),
        (bands(EMPTY, EMPTY, EMPTY) | {"crossovers_hz": [900, 300]}, "must increase"),
        (split("copies", EMPTY, EMPTY, EMPTY, join={"law": "steady"}), "takes 2 branches"),
        (split("mid-side", EMPTY, EMPTY, join={"law": "steady"}), "branches that are added"),
        (split("copies", EMPTY), "at least 2|branches"),
    ],
)
def test_what_makes_no_sense_is_refused(item: dict[str, Any], words: str) -> None:
    with pytest.raises(CoreError, match=words):
        through([item], noise(2048))


def test_mono_has_no_sides() -> None:
    with pytest.raises(RoutingError, match="mono sound has no middle and sides"):
        through([split("mid-side", EMPTY, EMPTY)], noise(2048, 1))
    nested = split("left-right", [split("mid-side", EMPTY, EMPTY)], EMPTY)
    with pytest.raises(RoutingError, match="mono sound"):
        through([nested], noise(2048))


def test_nested_splits_on_mono_branches() -> None:
    sound = noise(20_000)
    inner = bands(EMPTY, EMPTY, phase="linear")
    out = through([split("mid-side", [inner], [stage(ratio=1, lookahead_ms=2)])], sound)
    assert np.abs(out - sound).max() < 1e-6


def test_mid_side_nulls_in_double_precision() -> None:
    """Before float32 comes into it: (L + R) / 2 + (L - R) / 2 is L within 1e-15."""
    item = checked(
        Split,
        {
            "id": "s",
            "kind": "split",
            "by": "mid-side",
            "branches": [{"id": "m", "name": "mid"}, {"id": "d", "name": "sides"}],
        },
    )
    context = Context(48000, 2)
    sound = noise(1024)
    middle, side, dry = Division(item, context).run(sound, 0)
    back = Joining(item, context, {}, None).run([middle, side], dry, sound, 0)
    assert np.abs(back - sound).max() < 1e-15
    assert np.abs(middle[:, 0] - sound.mean(axis=1)).max() < 1e-15


def test_moved_crossovers_and_gains_make_no_click() -> None:
    """A 200 Hz tone while corners, gains, mix and switches are changed in play."""
    tone = sine(200, 3.2, level_db=-12)
    chain = [bands([], [stage(threshold_db=-30)], []) | {"id": "s"}]
    steps: list[dict[str, Any]] = [
        {"crossovers_hz": [300, 1000]}, {"crossovers_hz": [150, 5000]}, {"mix": 0.3},
        {"on": False}, {"on": True}, {"slope": 48}, {"phase": "linear"},
        {"crossovers_hz": [250, 900]},
    ]  # fmt: skip
    session = recipe_session(read_recipe({"chain": chain}), 48000, 2, len(tone), {})
    mixer = Mixer(make_plan(session), reader({"in": tone}))
    out = []
    for step in [{}, *steps]:
        strip = session.strips[0]
        changed = checked(Split, strip.chain[0].model_dump() | step)
        strip = strip.model_copy(update={"chain": [changed]})
        session = rebuilt(session, strips=[strip, *session.strips[1:]])
        mixer.change(make_plan(session))
        out += [mixer.block(("in",)).strips["in"].out for _ in range(14)]
    # The tone stands at -12 dBFS; other filters may ring a little, 64 dB below it.
    assert energy_over(np.concatenate(out)[8 * 1024 :], 6000) < 10 ** (-76 / 20)


@pytest.mark.parametrize(
    ("measured", "rule"),
    [
        (even(1.0, 1.0, -0.99), "opposed"), (even(0.0, 0.0, 0.0), "silent"),
        (even(1.0, 1e-6, 0.0), "match"), (even(1.0, 0.5, 0.2), None),
        (None, None),
    ],
)  # fmt: skip
def test_a_steady_join_warns(measured: JoinMeasurement | None, rule: str | None) -> None:
    chain = [split("copies", EMPTY, [stage()], join={"law": "steady"}) | {"id": "s"}]
    session = recipe_session(read_recipe({"chain": chain}), 48000, 2, 4096, {})
    plan = make_plan(session, measured=lambda digest: measured)
    found = wiring_cautions(plan.strip("in"), 4096)
    assert [c.rule for c in found] == ([f"{rule} s"] if rule else [])
    assert all(c.words.endswith(".") for c in found)
