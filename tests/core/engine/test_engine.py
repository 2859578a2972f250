"""The engine: order, alignment, reuse of states, regions, changes in play, solo and mute."""

import numpy as np
import pytest

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.dsp.summing import tree_sum
from salt_anvil.core.edits import SetParams, SetStage, SetStrip
from salt_anvil.core.engine.bypass_mix import BypassMix
from salt_anvil.core.engine.fader import bus_sum, gains_trajectory
from salt_anvil.core.engine.fifo import Cells, Rope
from salt_anvil.core.engine.fingerprint import fingerprints_of
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.strip import AT_ONCE, CHECKPOINT
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.errors import CoreError, RoutingError
from salt_anvil.core.processors import Context
from salt_anvil.core.session import Session, checked
from salt_anvil.core.state import State
from salt_anvil.jobs.render import blocks
from tests.conftest import noise, sine
from tests.core.processors.test_contract import run, stage
from tests.sessions import FRAMES, SOUNDS, small_session, source


def whole_mix(session: Session, strip: str = "main") -> np.ndarray:
    mixer = Mixer(make_plan(session), source)
    out = [mixer.block().faded[strip] for _ in range(-(-FRAMES // BLOCK))]
    return np.concatenate(out)[:FRAMES]


def gains(plan: Plan, strip: str) -> np.ndarray:
    item = plan.strip(strip)
    return gains_trajectory(item, item.routes[0]).at(0)


@pytest.fixture(scope="module")
def mixed() -> np.ndarray:
    return whole_mix(small_session())


def test_every_strip_stands_on_the_timeline() -> None:
    """With every curve at 1 : 1, look-ahead anywhere moves nothing: strips null with the source."""
    session = small_session()
    for strip in session.strips:
        for item in strip.chain:
            session, _ = SetParams(stage=item.id, params={"ratio": 1}).apply(session)
    mixer = Mixer(make_plan(session), source)
    found: dict[str, list[np.ndarray]] = {s.id: [] for s in session.strips}
    for _ in range(20):
        for name, block in mixer.block().strips.items():
            found[name].append(block.out)
    count = 20 * BLOCK
    a, b, c = (np.concatenate(found[n]) for n in "abc")
    assert (a == SOUNDS["a"][:count].astype(np.float32)).all()
    assert (b == SOUNDS["b"][:count].astype(np.float32)).all()
    # -120 dB: the trim of 3 dB is a float32 product here and a float64 one there.
    assert np.abs(c - SOUNDS["c"][:count] * 10 ** (3 / 20)).max() < 1e-6
    main = np.concatenate(found["main"])
    left_b = b[:, 0] * 10 ** (-4 / 20) * np.cos(np.pi / 4)
    left_c = c[:, 0] * np.cos(np.pi / 4)
    left_a = a[:, 0] * np.cos(0.3 * np.pi / 2)
    assert np.abs(main[:, 0] - left_a - left_b - left_c).max() < 1e-6


def test_pan_is_equal_power_and_balance_is_whole_at_the_centre() -> None:
    session = small_session()
    plan = make_plan(session)
    mono = gains(plan, "c")
    assert mono == pytest.approx([10 ** (-3.0103 / 20)] * 2, abs=1e-5)
    centred, _ = SetStrip(strip="a", field="pan", value=0.0).apply(session)
    assert (gains(make_plan(centred), "a") == 1.0).all()
    for pan in np.linspace(-1, 1, 9):
        moved, _ = SetStrip(strip="c", field="pan", value=float(pan)).apply(session)
        assert (gains(make_plan(moved), "c") ** 2).sum() == pytest.approx(1.0)


def test_the_same_again(mixed: np.ndarray) -> None:
    assert (whole_mix(small_session()) == mixed).all()


@pytest.mark.parametrize(("begin", "end"), [(0, 5000), (70_001, 90_000), (131_072, 160_000)])
def test_a_region_equals_the_whole(mixed: np.ndarray, begin: int, end: int) -> None:
    plan = make_plan(small_session())
    kept: dict[int, dict[str, State]] = {}
    mixer = Mixer(plan, source)
    mixer.keep = lambda name, block, state: kept.setdefault(block, {}).update({name: state})
    for _ in range(140):
        mixer.block()

    def states(block: int) -> tuple[int, dict[str, State]]:
        at = block // CHECKPOINT * CHECKPOINT
        stored = {n: State.from_bytes(s.to_bytes()) for n, s in kept.get(at, {}).items()}
        return (at, stored) if at else (0, {})

    for give in (states, lambda block: (0, {})):
        parts = [
            b.faded["main"][low:high]
            for low, high, b in blocks(plan, source, begin, end, states=give)
        ]
        assert (np.concatenate(parts) == mixed[begin:end]).all()


def test_cold_start_in_the_middle_differs(mixed: np.ndarray) -> None:
    """What checkpoints are for: without them the same block comes out otherwise."""
    mixer = Mixer(make_plan(small_session()), source)
    mixer.locate(100, {})
    cold = mixer.block().faded["main"]
    assert np.abs(cold - mixed[100 * BLOCK : 101 * BLOCK]).max() > 0.01


def test_loop_of_outputs_is_spelled_out() -> None:
    session = small_session()
    model = session.model_dump()
    model["strips"].append({"id": "x", "name": "Loop", "kind": "bus", "output": "bus"})
    model["strips"][3]["output"] = "x"
    with pytest.raises(RoutingError, match=r"Bus feeds Loop feeds Bus|Loop feeds Bus feeds Loop"):
        make_plan(checked(Session, model))


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"sends": [{"to": "b"}]}, "its send B is a track"),
        ({"sends": [{"to": "bus"}, {"to": "bus"}]}, "two sends go to the same bus"),
        ({"output": "nowhere"}, "“nowhere” does not exist"),
        ({"output": "b"}, "B is a track, not a bus"),
        ({"channels": 1, "chain": [{"id": "s", "kind": "split", "by": "mid-side",
          "branches": [{"id": "p", "name": "p"}, {"id": "q", "name": "q"}]}]},
         "split s on A: mono sound has no middle and sides"),
        ({"chain": [{"id": "k", "kind": "compressor", "key": {"source": "strip:x"}}]},
         "stage k: its key strip:x is not there"),
        ({"chain": [{"id": "k", "kind": "compressor", "key": {"source": "input:voice"}}]},
         "its key input:voice is not bound"),
        ({"chain": [{"id": "k", "kind": "trim", "key": {"source": "strip:b"}}]},
         "stage k: trim does not listen"),
        ({"join": {"law": "linear"}}, "takes a bus with exactly 2 inputs"),
    ],
)  # fmt: skip
def test_what_cannot_be_run_is_refused_in_words(change: dict, words: str) -> None:
    model = small_session().model_dump()
    model["strips"][0].update(change)
    with pytest.raises(CoreError, match=words):
        make_plan(checked(Session, model))


def test_mute_and_solo() -> None:
    session = small_session()
    soloed, _ = SetStrip(strip="b", field="solo", value=True).apply(session)
    heard = {s.strip.id for s in make_plan(soloed).strips if s.heard}
    assert heard == {"b", "bus", "main"}
    bus, _ = SetStrip(strip="bus", field="solo", value=True).apply(session)
    assert {s.strip.id for s in make_plan(bus).strips if s.heard} == {"a", "b", "bus", "main"}
    muted, _ = SetStrip(strip="bus", field="mute", value=True).apply(session)
    for name in ("a", "b"):
        muted, _ = SetStrip(strip=name, field="mute", value=True).apply(muted)
    alone = whole_mix(muted)
    c, _ = SetStrip(strip="c", field="solo", value=True).apply(session)
    assert (whole_mix(c) == alone).all()


def test_fingerprints_follow_what_matters() -> None:
    session = small_session()
    before = fingerprints_of(make_plan(session), "code")
    faded, _ = SetStrip(strip="a", field="fader_db", value=-9).apply(session)
    after = fingerprints_of(make_plan(faded), "code")
    changed = {n for n in before if before[n] != after[n]}
    # A fader stands behind the chain: the strip's own sound stays, what it feeds does not.
    assert changed == {"bus", "main"}
    set_, _ = SetParams(stage="b1", params={"ratio": 9}).apply(session)
    after = fingerprints_of(make_plan(set_), "code")
    assert {n for n in before if before[n] != after[n]} == {"b", "bus", "main"}
    assert not set(before.values()) & set(fingerprints_of(make_plan(session), "other").values())


def test_shadow_is_the_mix_without_the_chain() -> None:
    """At a linear mix, the shadow equals the mix of the same session with the stage off."""
    session = small_session()
    for name in ("bus1", "main1"):
        session, _ = SetStage(stage=name, on=False).apply(session)
    off, _ = SetStage(stage="a1", on=False).apply(session)
    expected = whole_mix(off)[: 30 * BLOCK]
    mixer = Mixer(make_plan(session), source, tapped=True)
    shadow = BypassMix(mixer, "a", "a1")
    heard = []
    for k in range(30):
        mixer.block()
        heard.append(shadow.block(k))
    assert np.abs(np.concatenate(heard) - expected).max() < 1e-6


@pytest.mark.parametrize("strip", ["a", "c", "bus"])
def test_the_shadow_is_the_same_however_many_blocks_are_computed_in_one_go(strip: str) -> None:
    """Though its level and a stage behind it are changed between two goes."""
    heard = []
    for together in (1, 5):
        session = small_session()
        mixer = Mixer(make_plan(session), source, tapped=True)
        shadow, found = BypassMix(mixer, strip, "chain"), []
        for k in range(40):
            if k == 20:
                shadow.level(0.5)
                session, _ = SetParams(stage="main1", params={"threshold_db": -45}).apply(session)
                plan = make_plan(session, before=mixer.plan)
                mixer.change(plan)
                shadow.change(plan)
            if k % together == 0:
                mixer.foresee(k + together)
            mixer.block()
            found.append(shadow.block(k))
        heard.append(np.concatenate(found))
    assert (heard[0] == heard[1]).all()
    assert np.abs(heard[0]).max() > 0.01


def test_no_more_than_a_piece_is_computed_ahead_however_long_all_is_wanted() -> None:
    """A song is written without being held in memory."""
    read = {}

    def counted(audio: str, start: int, frames: int) -> Sound:
        read[audio] = start + frames
        return np.full((frames, 2 if audio == "a" else 1), 0.1)

    strips = [
        s.model_copy(update={"frames": s.frames and 500 * BLOCK}) for s in small_session().strips
    ]
    mixer = Mixer(make_plan(small_session(strips=strips)), counted)
    mixer.foresee(500)
    for k in range(200):
        mixer.block()
        # The bus and the main strip read ahead by their latency, and each in whole pieces.
        assert max(read.values()) < (k + 4 * AT_ONCE) * BLOCK
    assert len(read) == 3


def test_the_level_of_the_shadow_is_reached_and_kept() -> None:
    heard = []
    for level in (1.0, 0.5):
        mixer = Mixer(make_plan(small_session()), source, tapped=True)
        shadow, found = BypassMix(mixer, "main", "chain"), []
        for k in range(40):
            if k == 20:
                shadow.level(level)
            mixer.block()
            found.append(shadow.block(k))
        heard.append(np.concatenate(found))
    assert (heard[0][: 20 * BLOCK] == heard[1][: 20 * BLOCK]).all()
    assert np.allclose(heard[0][30 * BLOCK :] * 0.5, heard[1][30 * BLOCK :])
    assert np.abs(heard[0][30 * BLOCK :]).max() > 0.01


def test_taps_give_both_sides_in_step() -> None:
    mixer = Mixer(make_plan(small_session()), source, tapped=True)
    before, after = [], []
    for _ in range(10):
        block = mixer.block().strips["c"]
        before.append(block.taps["chain"][0])
        after.append(block.taps["chain"][1])
        assert (block.taps["c2"][1].astype(np.float32) == block.out.astype(np.float32)).all()
    entered = SOUNDS["c"][: 10 * BLOCK].astype(np.float32) * 10 ** (3 / 20)
    assert np.abs(np.concatenate(before) - entered).max() < 1e-6


def energy_over(sound: np.ndarray, hz: float) -> float:
    """Greatest component above hz of any 1024 frames, relative to full scale."""
    window = np.hanning(1024)[:, None]
    most = 0.0
    for at in range(0, len(sound) - 1024, 256):
        spectrum = np.abs(np.fft.rfft(sound[at : at + 1024] * window, axis=0)) / 256
        most = max(most, float(spectrum[round(hz / 48000 * 1024) :].max()))
    return most


@pytest.mark.parametrize("change", [{"lookahead_ms": 12.5}, {"ratio": 20}, {"detector": "rms"}])
def test_changes_in_play_do_not_click(change: dict, monkeypatch: pytest.MonkeyPatch) -> None:
    """A 200 Hz tone through a chain that is changed in play: above 6 kHz not -86 dBFS."""
    tone = sine(200, FRAMES / 48000, level_db=-12)
    monkeypatch.setitem(SOUNDS, "a", tone)
    session = small_session()
    for name in ("b", "c"):
        session, _ = SetStrip(strip=name, field="mute", value=True).apply(session)
    for name in ("bus1", "main1"):
        session, _ = SetStage(stage=name, on=False).apply(session)
    mixer = Mixer(make_plan(session), source)
    out = [mixer.block().faded["main"] for _ in range(30)]
    changed, _ = SetParams(stage="a1", params=change).apply(session)
    mixer.change(make_plan(changed))
    out += [mixer.block().faded["main"] for _ in range(30)]
    assert energy_over(np.concatenate(out)[8 * BLOCK :], 6000) < 10 ** (-86 / 20)


def test_look_ahead_changed_in_play_shifts_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    session = small_session()
    for strip in session.strips:
        for item in strip.chain:
            session, _ = SetParams(stage=item.id, params={"ratio": 1}).apply(session)
    expected = whole_mix(session)
    mixer = Mixer(make_plan(session), source)
    out = [mixer.block().faded["main"] for _ in range(20)]
    for ms in (19.0, 0.0, 5.0):
        session, _ = SetParams(stage="a1", params={"lookahead_ms": ms}).apply(session)
        mixer.change(make_plan(session))
        out += [mixer.block().faded["main"] for _ in range(20)]
    assert np.abs(np.concatenate(out) - expected[: 80 * BLOCK]).max() < 1e-6


def test_added_and_removed_strips_in_play() -> None:
    session = small_session()
    mixer = Mixer(make_plan(session), source)
    mixer.block()
    model = session.model_dump()
    model["strips"] = [s for s in model["strips"] if s["id"] != "b"]
    mixer.change(make_plan(checked(Session, model)))
    mixer.block()
    mixer.change(make_plan(session))
    assert np.isfinite(mixer.block().faded["main"]).all()


def test_key_filter_decides_but_is_not_heard() -> None:
    """A loud 60 Hz tone does not open a compressor that listens above 1 kHz."""
    sound = sine(60, 0.5, level_db=-3)
    deaf = Unit(stage("compressor", {"threshold_db": -30}, key={"low_hz": 1000}), Context(48000, 2))
    out, cells = run(deaf, sound)
    assert cells["reduction_db"][20:].max() < 0.01
    assert (out[2000:] == sound[2000 - deaf.latency : -deaf.latency]).all()


def test_one_nan_does_not_stay() -> None:
    sound = noise(4096)
    sound[100] = np.nan
    unit = Unit(stage("compressor"), Context(48000, 2))
    out, _ = run(unit, sound)
    assert np.isfinite(out).all()
    assert unit.nonfinite == 2


def test_tree_sum_is_the_sum() -> None:
    parts = [noise(BLOCK, seed=i) for i in range(11)]
    for count in range(1, 12):
        pairs = parts[:count]
        while len(pairs) > 1:
            pairs = [sum(pairs[i : i + 2][1:], pairs[i]) for i in range(0, len(pairs), 2)]
        assert (tree_sum(parts[:count]) == pairs[0]).all()
        assert np.allclose(pairs[0], np.sum(parts[:count], axis=0), atol=1e-13)
    assert (bus_sum([], 3 * BLOCK) == np.zeros((3 * BLOCK, 2))).all()


def test_a_rope_fills_gaps_and_drops_what_is_past() -> None:
    rope = Rope(10, 1)
    rope.put(4, np.arange(4.0, 14)[:, None])
    rope.put(16, np.array([[16.0]]))
    twin = rope.clone()
    assert rope.take(7)[:, 0].tolist() == [10, 11, 12, 13, 0, 0, 16]
    assert (len(rope.rows), rope.position, rope.end) == (0, 17, 17)
    assert twin.take(2)[:, 0].tolist() == [10, 11]
    assert twin.rows[:, 0].tolist() == [12, 13, 0, 0, 16]
    twin.drop_to(16)
    assert twin.rows[:, 0].tolist() == [16]
    twin.drop_to(30)
    assert (twin.position, twin.end, twin.take(5).shape) == (30, 30, (0, 1))


def test_cells_go_on_under_their_names_when_a_stage_tells_of_more() -> None:
    cells, rows = Cells(0), np.arange(8.0).reshape(4, 2)
    cells.put(-1, {"a": rows})
    assert (cells.take(1)["a"] == rows[1:2]).all()
    cells.put(3, {"b": rows[:, :1], "a": rows})
    found = cells.take(6)
    assert (found["a"] == np.concatenate([rows[2:], rows])).all()
    assert (found["b"] == np.concatenate([np.zeros((2, 1)), rows[:, :1]])).all()
