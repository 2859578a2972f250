"""Which controls can move, over which range, and what they are set to on the way."""

from collections.abc import Mapping
from typing import Any

import numpy as np
import pytest

from salt_anvil.core.dsp.oversample import LATENCY
from salt_anvil.core.engine.automation import (
    Lane,
    Scale,
    following,
    lanes_of,
    latency_of,
    moved,
    scale_of,
)
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import REGISTRY, Context
from salt_anvil.core.processors.base import Control
from salt_anvil.core.processors.within import value_within, with_values
from salt_anvil.core.session import Move, Point, Session, Split, Stage, checked
from salt_anvil.core.session_index import SessionIndex
from tests.conftest import sine
from tests.core.engine.test_keys import session_of, track
from tests.routing import split, stage

MAIN = {"id": "main", "name": "Main", "kind": "main"}
KINDS = sorted(REGISTRY)


def session(**more: Any) -> Session:
    chain = [
        stage() | {"id": "c"}, stage("trim") | {"id": "t"},
        split("copies", [], [], join={"law": "linear"}) | {"id": "s"},
    ]  # fmt: skip
    strips = [track("a", *chain, sends=[{"to": "g"}]), {"id": "g", "name": "G", "kind": "bus"}]
    return session_of([*strips, MAIN], **more)


def points(*pairs: tuple[float, float]) -> tuple[Point, ...]:
    return tuple(Point(at_s=t, value=v) for t, v in pairs)


@pytest.mark.parametrize(
    ("owner", "control", "low", "high"),
    [
        ("a", "fader_db", -90, 12), ("a", "trim_db", -60, 24), ("a", "pan", -1, 1),
        ("a", "send:g", -60, 12), ("g", "position", 0, 1), ("c", "mix", 0, 1),
        ("c", "threshold_db", -60, 0), ("t", "delay_ms", 0, 100), ("s", "mix", 0, 1),
        ("s", "position", 0, 1), ("s-0", "gain_db", -60, 24),
    ],
)  # fmt: skip
def test_what_can_move(owner: str, control: str, low: float, high: float) -> None:
    scale = scale_of(SessionIndex(session()).owner(owner), control)
    assert (scale.low, scale.high) == (low, high)


@pytest.mark.parametrize(
    ("owner", "control"),
    [("a", "mute"), ("a", "send:main"), ("c", "lookahead_ms"), ("s", "slope"), ("s-0", "mix"),
     ("c", "fader_db")],
)  # fmt: skip
def test_what_cannot(owner: str, control: str) -> None:
    with pytest.raises(SettingError, match=r"no control|cannot be automated"):
        scale_of(SessionIndex(session()).owner(owner), control)


@pytest.mark.parametrize("kind", KINDS)
def test_every_control_of_every_kind_moves_or_says_why(kind: str) -> None:
    item = checked(Stage, {"id": "x", "kind": kind})
    for control in REGISTRY[kind].describe().controls:
        if control.change == "structural":
            with pytest.raises(SettingError, match="changes the wiring"):
                scale_of(item, control.name)
            continue
        if control.type in ("points", "bands"):
            with pytest.raises(SettingError, match="can move"):
                scale_of(item, control.name)
            _inner_controls_move(kind, control)
            continue
        scale = scale_of(item, control.name)
        assert scale.label == control.label
        assert scale.glides == (control.change == "glide" and control.type == "number")
        if control.type == "choice":
            assert [scale.named(i) for i in range(len(control.choices))] == control.choices
        if control.type == "switch":
            assert [scale.named(v) for v in (0, 1)] == [False, True]


def _inner_controls_move(kind: str, control: Control) -> None:
    """Each of a band's controls, and both levels of a point."""
    if control.type == "bands":
        item = checked(Stage, {"id": "x", "kind": kind, "params": {control.name: [{}, {}]}})
        fields = {f.name: f.change for f in control.fields}
    else:
        item, fields = checked(Stage, {"id": "x", "kind": kind}), {"in": "glide", "out": "glide"}
    last = len(getattr(item.params, control.name)) - 1
    for name, change in fields.items():
        scale = scale_of(item, f"{control.name}.{last}.{name}")
        assert str(last + 1) in scale.label
        assert scale.glides == (change == "glide" and not scale.words)
    for lost in (f"{control.name}.{last + 1}.{name}", f"{control.name}.0.nothing",
                 f"{control.name}.x.{name}", f"{control.name}.0"):  # fmt: skip
        with pytest.raises(SettingError, match="can move"):
            scale_of(item, lost)


def test_what_moves_within_a_list() -> None:
    """Points keep their order, and what is beyond the list's end is left alone."""
    params = checked(Stage, {"id": "x", "kind": "curve"}).params
    assert value_within(params, "points.1.in") == -24
    assert value_within(params, "points.1.out") == -24
    moved_ = with_values(params, {"points.1.in": 6, "points.0.out": -60, "points.7.out": 0})
    assert value_within(moved_, "points.1.in") == pytest.approx(-0.1)
    assert value_within(moved_, "points.0.out") == -60
    assert with_values(params, {"points.1.in": -90}).points[1][0] == pytest.approx(-79.9)
    tone = checked(Stage, {"id": "x", "kind": "tone", "params": {"bands": [{"hz": 100}, {}]}})
    both = with_values(tone.params, {"bands.1.hz": 50, "bands.0.q": 3, "bands.0.on": False})
    assert [(b.hz, b.q, b.on) for b in both.bands] == [(100, 3, False), (50, 0.71, True)]


def test_what_moves_an_item_that_is_not_there_waits_for_it() -> None:
    """As when other settings of a stage with fewer bands are chosen; a lever's moves, too."""
    tone = stage("tone", bands=[{}, {}]) | {"id": "e"}
    lanes = [
        {"owner": "e", "control": f"bands.{i}.hz", "points": [{"at_s": 0, "value": 500}]}
        for i in (1, 2)
    ]
    move = {"owner": "e", "control": "bands.3.q", "low": 1, "high": 2}
    lever = {"id": "l", "name": "L", "moves": [move]}
    model = session_of([track("a", tone), MAIN], automation=lanes, levers=[lever])
    assert list(lanes_of(SessionIndex(model))["e"]) == ["bands.1.hz"]
    make_plan(model)


def test_with_linear_phase_bands_and_crossovers_stand_still() -> None:
    params = {"bands": [{}], "phase": "linear"}
    with pytest.raises(SettingError, match="stand still"):
        scale_of(checked(Stage, {"id": "x", "kind": "tone", "params": params}), "bands.0.hz")
    by_bands = split("bands", [], [], crossovers_hz=[200.0]) | {"id": "s"}
    for phase, works in (("minimum", True), ("linear", False)):
        owner = session_of([track("a", by_bands | {"phase": phase}), MAIN]).strips[0].chain[0]
        if works:
            scale = scale_of(owner, "crossovers_hz.0")
            assert (scale.low, scale.high, scale.glides, scale.log) == (20, 20000, False, True)
            for lost in ("crossovers_hz.1", "crossovers_hz", "crossovers_hz.x"):
                with pytest.raises(SettingError, match="can move"):
                    scale_of(owner, lost)
        else:
            with pytest.raises(SettingError, match="stand still"):
                scale_of(owner, "crossovers_hz.0")


def test_values_stay_in_range_and_words_are_whole() -> None:
    scale = Scale("Level", -10, 10)
    lane = Lane(scale, points((0, -50), (1, 50)))
    assert [lane.at(t) for t in (0, 0.5, 1)] == [-10, 0, 10]
    words = Scale("Shape", 0, 2, glides=False, words=("a", "b", "c"))
    lane = Lane(words, points((0, 0), (1, 2)))
    assert [lane.named_at(t) for t in (0, 0.2, 0.3, 0.5, 0.8, 1)] == ["a", "a", "b", "b", "c", "c"]
    assert lane.words() == ["a", "b", "c"]


def test_two_points_at_one_time_are_a_step() -> None:
    lane = Lane(Scale("x", 0, 1), points((0, 0), (1, 0), (1, 1), (2, 1)))
    assert lane.at(0.995) == pytest.approx(0, abs=1e-9)
    assert lane.at(0.9975) == pytest.approx(0.5)
    assert lane.at(1.0) == 1
    chosen = Lane(Scale("x", 0, 1, glides=False), points((0, 0), (1, 0), (1, 1), (2, 1)))
    assert chosen.at(0.9999) == 0


def test_what_stands_is_worked_out_once_and_what_moves_where_it_does() -> None:
    scale = Scale("x", 0, 1)
    lanes = {"a": Lane(scale, points((0, 0.5))), "b": Lane(scale, points((1, 0), (2, 1)))}
    asked = []

    def vector(now: Mapping[str, float]) -> np.ndarray:
        asked.append(dict(now))
        return np.array([now["a"], now.get("b", -1)])

    standing = following({"a": lanes["a"]}, 6400, vector)
    assert standing.still
    assert [list(standing.at(k)) for k in (0, 1, 999)] == [[0.5, -1]] * 3
    assert asked == [{"a": 0.5}]
    moving = following(lanes, 6400, vector)
    assert not moving.still
    found = [moving.at(point)[1] for point in range(300)]
    assert found == pytest.approx(np.clip(np.arange(300) / 100 - 1, 0, 1))
    assert len(asked) == 1 + 1 + 100  # before it moves, while it does


@pytest.mark.parametrize("curve", [-1, -0.5, 0, 0.5, 1])
def test_a_lever_s_bend_keeps_its_ends_and_its_order(curve: float) -> None:
    scale = Scale("Hz", 20, 20000, log=True)
    move = Move(owner="x", control="y", low=100, high=10000, curve=curve)
    found = [moved(scale, move, v) for v in np.linspace(0, 1, 21)]
    assert found[0] == pytest.approx(100)
    assert found[-1] == pytest.approx(10000)
    assert found == sorted(found)
    middle = 100 * 100 ** (0.5 ** (4.0**curve))
    assert found[10] == pytest.approx(middle)


def test_a_lever_may_run_downwards() -> None:
    move = Move(owner="a", control="fader_db", low=0, high=-20)
    assert moved(Scale("x", -90, 12), move, 0.5) == -10


def test_lanes_of_a_session_hold_automation_and_levers() -> None:
    lever = {"id": "l", "name": "L", "value": 0.25, "moves": [
        {"owner": "a", "control": "fader_db", "low": -20, "high": 0},
        {"owner": "s-0", "control": "gain_db", "low": -12, "high": 12}]}  # fmt: skip
    automation = [{"owner": "c", "control": "ratio", "points": [{"at_s": 0, "value": 3}]}]
    found = lanes_of(SessionIndex(session(levers=[lever], automation=automation)))
    assert set(found) == {"a", "s-0", "c"}
    assert found["a"]["fader_db"].at(7) == -15
    assert found["s-0"]["gain_db"].at(0) == -6
    assert found["c"]["ratio"].at(100) == 3
    assert lanes_of(SessionIndex(session())) == {}


def test_where_a_lane_says_that_it_stands_it_does() -> None:
    """Random lanes with steps, jumps and plateaus, on a fine grid; and it says so where it can."""
    rng = np.random.default_rng(8)
    shapes = ("straight", "curved", "stepped")
    said = 0
    for turn in range(300):
        times = np.sort(rng.integers(0, 12, rng.integers(1, 7))) / 4
        points_ = tuple(
            Point(at_s=t, value=float(rng.choice([0.2, 0.2, 0.7])), shape=rng.choice(shapes))
            for t in times
        )
        lane = Lane(Scale("x", 0.1, 1, log=turn % 2 == 1, glides=turn % 5 != 0), points_)
        begin, end = np.sort(rng.uniform(-0.3, 3.3, 2))
        values = {lane.at(s) for s in np.linspace(begin, end, 400)}
        if lane.stands(begin, end):
            said += 1
            assert len(values) == 1, (points_, begin, end)
    assert said > 60
    stepped = Lane(Scale("x", 0, 1), (Point(at_s=0, value=0, shape="stepped"), *points((9, 1))))
    assert stepped.stands(1, 8)
    assert not stepped.stands(1, 8.996)
    assert stepped.stands(9, 1e9)


def test_an_automated_lever_carries_its_controls_along() -> None:
    lever = {"id": "l", "name": "L", "moves": [
        {"owner": "a", "control": "pan", "low": -1, "high": 1}]}  # fmt: skip
    ride = {"owner": "l", "control": "value",
            "points": [{"at_s": 0, "value": 0}, {"at_s": 2, "value": 1}]}  # fmt: skip
    lane = lanes_of(SessionIndex(session(levers=[lever], automation=[ride])))["a"]["pan"]
    assert [lane.at(t) for t in (0, 1, 2)] == [-1, 0, 1]
    assert lane.words() == [-1, 1]


def test_owners_are_everything_with_controls() -> None:
    index = SessionIndex(session())
    assert index.ids == {"a", "g", "main", "c", "t", "s", "s-0", "s-1"}
    assert isinstance(index.owner("s"), Split)


def test_facts_change_with_what_is_heard() -> None:
    scale = Scale("x", 0, 1)
    one = Lane(scale, points((0, 0), (1, 1)))
    assert one.facts() == Lane(scale, points((0, 0), (1, 1))).facts()
    assert one.facts() != Lane(scale, points((0, 0), (1, 0.9))).facts()
    curved = tuple(p.model_copy(update={"shape": "curved"}) for p in one.points)
    assert one.facts() != Lane(scale, curved).facts()


def test_what_a_lane_makes_late_is_late_all_along() -> None:
    """Colour that comes by itself: its delay is there before it is heard."""
    ride = {"owner": "c", "control": "colour",
            "points": [{"at_s": 0, "value": 0}, {"at_s": 1, "value": 1}]}  # fmt: skip
    moving = session(automation=[ride])
    item = checked(Stage, stage() | {"id": "c"})
    assert item.params.colour == 0
    lanes = lanes_of(SessionIndex(moving))["c"]
    assert latency_of(item, lanes, 48000) == latency_of(item, {}, 48000) + LATENCY
    plans = make_plan(moving).strip("a"), make_plan(session()).strip("a")
    assert plans[0].graph.late == plans[1].graph.late + LATENCY
    sound = sine(200, 1.2, level_db=-12)
    unit = Unit(item, Context(48000, 2), lanes)
    out = np.concatenate([unit.process(sound[i : i + 1024], i).out for i in range(0, 56320, 1024)])
    bent = [np.abs(np.fft.rfft(out[a : a + 4800, 0]))[60] for a in (4800, 48000)]
    assert bent[1] > 4 * bent[0]
