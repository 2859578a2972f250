"""Buses, sends, joins of buses, solo; automation and levers."""

from typing import Any

import numpy as np
import pytest
from scipy import signal

from salt_anvil.core.audio import BLOCK
from salt_anvil.core.engine.automation import Lane, lanes_of, moved, scale_of
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.strip import CHECKPOINT
from salt_anvil.core.errors import CoreError, SettingError
from salt_anvil.core.session import Lever, Move, Point
from salt_anvil.core.session_index import SessionIndex
from tests.conftest import constant, noise
from tests.core.engine.test_engine import energy_over
from tests.core.engine.test_keys import session_of, track
from tests.routing import RATE, reader, run_strip, split, stage

FRAMES = RATE // 2
SOUNDS = {"a": constant(-12, FRAMES), "b": constant(-18, FRAMES), "c": constant(-24, FRAMES)}
MAIN = {"id": "main", "name": "Main", "kind": "main"}


def db(value: float) -> float:
    return float(20 * np.log10(abs(value)))


def main_level(strips: list[dict[str, Any]], **more: Any) -> float:
    out = run_strip(session_of([*strips, MAIN], **more), "main", SOUNDS, faded=True)
    return db(out[FRAMES // 2, 0])


def test_sends_before_and_after_the_fader() -> None:
    bus = {"id": "g", "name": "G", "kind": "bus", "fader_db": 0}
    for pre, expected in ((False, -12 - 10 - 3), (True, -12 - 3)):
        send = {"to": "g", "gain_db": -3, "pre_fader": pre}
        session = session_of([track("a", fader_db=-10, sends=[send]), bus, MAIN])
        out = run_strip(session, "g", SOUNDS)
        assert db(out[9000, 0]) == pytest.approx(expected, abs=1e-4)
    session = session_of([track("a", mute=True, sends=[{"to": "g", "pre_fader": True}]), bus, MAIN])
    assert (run_strip(session, "g", SOUNDS) == 0).all()


def test_a_send_and_an_output_to_the_same_bus_add_up() -> None:
    level = main_level([track("a", sends=[{"to": "main"}])])
    assert level == pytest.approx(-12 + 6.0206, abs=1e-3)


def heard(strips: list[dict[str, Any]]) -> set[str]:
    plan = make_plan(session_of([*strips, MAIN]))
    return {f"{r.strip}>{r.to}" for s in plan.strips for r in s.routes if r.heard and r.to}


def test_solo_keeps_what_feeds_and_what_carries() -> None:
    strips = [
        track("a", sends=[{"to": "room"}]), track("b", sends=[{"to": "room"}], output="g"),
        {"id": "g", "name": "G", "kind": "bus"}, {"id": "room", "name": "Room", "kind": "bus"},
    ]  # fmt: skip

    def solo(name: str) -> set[str]:
        return heard([dict(s, solo=s["id"] == name) for s in strips])

    assert heard(strips) == {"a>main", "a>room", "b>g", "b>room", "g>main", "room>main"}
    # A soloed track is heard with its room; a soloed room with all that feeds it, not more.
    assert solo("a") == {"a>main", "a>room", "room>main"}
    assert solo("room") == {"a>room", "b>room", "room>main"}
    assert solo("g") == {"b>g", "g>main"}


@pytest.mark.parametrize("law", ["linear", "equal-power", "steady"])
def test_a_bus_joins_two_tracks_by_a_law(law: str) -> None:
    # Steady noise: what is steady needs K-weighted power, which DC has none of.
    sounds = {"a": noise(4 * RATE, level=0.1), "b": noise(4 * RATE, level=0.02, seed=3)}
    powers = []
    for position in (0.0, 0.5, 1.0):
        strips = [dict(track(n), frames=4 * RATE, output="g") for n in "ab"]
        bus = {"id": "g", "name": "G", "kind": "bus", "join": {"law": law, "position": position}}
        out = run_strip(session_of([*strips, bus, MAIN]), "g", sounds)
        powers.append(10 * np.log10(np.mean(out**2)))
    a, b = (10 * np.log10(np.mean(sounds[n] ** 2)) for n in "ab")
    if law == "steady":
        assert max(powers) - min(powers) < 0.1
    else:
        assert powers[0] == pytest.approx(a, abs=0.01)
        assert powers[2] == pytest.approx(b, abs=0.01)


def test_more_than_a_group_of_inputs_is_their_sum() -> None:
    sounds = {f"t{i}": noise(FRAMES, level=0.02, seed=i) for i in range(19)}
    session = session_of([*(track(n) for n in sounds), MAIN])
    out = run_strip(session, "main", sounds)
    assert np.abs(out - sum(sounds.values())).max() < 1e-6


def test_ways_changed_in_play_do_not_click() -> None:
    """Outputs, sends, their places before the fader, joins: a tone stays a tone."""
    tone = np.repeat(np.sin(2 * np.pi * 200 / RATE * np.arange(4 * RATE))[:, None], 2, axis=1) / 4

    def made(**first: Any) -> Any:
        strips = [
            dict(track("a"), frames=4 * RATE) | first, dict(track("b"), frames=4 * RATE, mute=True),
            {"id": "g", "name": "G", "kind": "bus", "fader_db": -3},
            {"id": "h", "name": "H", "kind": "bus", "chain": [stage(ratio=1, lookahead_ms=5)]},
            MAIN,
        ]  # fmt: skip
        return make_plan(session_of(strips))

    mixer = Mixer(made(), reader({"a": tone, "b": tone}))
    out = []
    for first in (
        {"output": "g"},
        {"output": "g", "sends": [{"to": "h"}]},
        {"output": "h", "sends": [{"to": "g", "pre_fader": True}]},
        {"fader_db": -12},
        {"sends": [{"to": "main"}]},
        {},
    ):
        out += [mixer.block().faded["main"] for _ in range(12)]
        mixer.change(made(**first))
    out += [mixer.block().faded["main"] for _ in range(12)]
    assert energy_over(np.concatenate(out)[4 * BLOCK :], 6000) < 10 ** (-86 / 20)


def test_a_strip_taken_away_in_play_fades_out_of_its_bus() -> None:
    sounds = {"a": constant(-12, FRAMES), "b": constant(-18, FRAMES)}
    mixer = Mixer(make_plan(session_of([track("a"), track("b"), MAIN])), reader(sounds))
    before = [mixer.block().faded["main"] for _ in range(4)]
    mixer.change(make_plan(session_of([track("a"), MAIN])))
    after = [mixer.block().faded["main"] for _ in range(4)]
    assert np.abs(after[-1] - sounds["a"][:1024]).max() < 1e-6
    whole = np.concatenate([*before, *after])[:, 0]
    assert whole[2000] == pytest.approx(10 ** (-12 / 20) + 10 ** (-18 / 20), rel=1e-6)
    assert np.abs(np.diff(whole)).max() < 1.1 * 10 ** (-18 / 20) / BLOCK


def test_a_song_that_gets_longer_behind_its_end_goes_on() -> None:
    """Strips that stood still at the end, and strips that are new, stand at the same block."""
    short, long = (dict(track("a"), frames=n * BLOCK) for n in (4, 90))
    bus = {"id": "g", "name": "G", "kind": "bus", "chain": [stage(ratio=1, lookahead_ms=20)]}
    sounds = {"a": constant(-12, 4 * BLOCK), "b": constant(-18, 90 * BLOCK)}
    plan = make_plan(session_of([short, bus, MAIN]))
    mixer = Mixer(plan, reader(sounds))
    while mixer.position < plan.blocks + 5:
        mixer.block()
    added = dict(track("b"), frames=90 * BLOCK, output="g")
    mixer.change(make_plan(session_of([long, added, bus, MAIN])))
    after = [mixer.block().faded["main"] for _ in range(12)]
    assert db(after[-1][-1, 0]) == pytest.approx(-18, abs=0.1)


# Automation ------------------------------------------------------------------------------------


def points(*values: tuple[float, float] | tuple[float, float, str]) -> list[dict[str, Any]]:
    return [
        {"at_s": v[0], "value": v[1], **({"shape": v[2]} if len(v) > 2 else {})} for v in values
    ]


def lane(owner: str, control: str, *values: Any) -> dict[str, Any]:
    return {"owner": owner, "control": control, "points": points(*values)}


def test_segments_straight_curved_stepped() -> None:
    session = session_of([track("a"), MAIN])
    scale = scale_of(session.strip("a"), "fader_db")
    one = Lane(
        scale,
        tuple(
            Point(**p) for p in points((1, -20), (2, -10, "curved"), (3, 0, "stepped"), (4, -40))
        ),
    )
    assert [one.at(t) for t in (0, 1, 1.5, 2)] == pytest.approx([-20, -20, -15, -10])
    assert one.at(2.5) == pytest.approx(-5)
    assert one.at(2.25) == pytest.approx(-10 + 10 * (0.5 - 0.5 * np.cos(np.pi / 4)))
    assert [one.at(t) for t in (3, 3.994, 4, 99)] == pytest.approx([0, 0, -40, -40])
    assert one.at(3.9975) == pytest.approx(-20)  # a step takes 5 ms


def test_logarithmic_controls_move_geometrically() -> None:
    session = session_of([track("a", stage() | {"id": "c"}), MAIN])
    stage_ = session.strip("a").chain[0]
    one = Lane(scale_of(stage_, "attack_ms"), tuple(Point(**p) for p in points((0, 1), (2, 100))))
    assert one.at(1) == pytest.approx(10)


def test_an_automated_fader_follows_its_points_per_sample() -> None:
    out = run_strip(
        session_of([track("a"), MAIN], automation=[lane("a", "fader_db", (0.1, 0), (0.3, -20))]),
        "main",
        SOUNDS,
    )
    for t, level in ((0.05, 0), (0.1, 0), (0.2, -10), (0.25, -15), (0.4, -20)):
        # Corners are rounded over two grid cells: 100 dB/s, 1.3 ms, a sixth.
        near = 0.03 if t == 0.1 else 0.01
        assert db(out[round(t * RATE), 0]) == pytest.approx(-12 + level, abs=near)
    steps = np.abs(np.diff(out[:, 0]))
    assert steps.max() < 1.1 * 0.25 * np.log(10) * (20 / 20) / (0.2 * RATE)


quiet = stage("trim", gain_db=-60)


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize(
    ("owner", "control", "low", "chain"),
    [
        ("a", "fader_db", -60, []), ("a", "trim_db", -60, []), ("a", "send:g", -60, []),
        ("a", "pan", -1, []), ("t", "gain_db", -60, [stage("trim") | {"id": "t"}]),
        ("t", "mix", 0, [stage("trim", gain_db=-60) | {"id": "t"}]),
        ("c", "makeup_db", -24, [stage(threshold_db=0) | {"id": "c"}]),
        ("s", "mix", 0, [split("copies", [dict(quiet)], [dict(quiet)]) | {"id": "s"}]),
        ("s-0", "gain_db", -60, [split("copies", [], []) | {"id": "s"}]),
    ],
)  # fmt: skip
def test_a_step_makes_no_click(
    owner: str, control: str, low: float, chain: list[dict[str, Any]], rate: int
) -> None:
    """A full 200 Hz tone, to the control's low end and back: above 4 kHz at most -90 dBFS, by an
    eighth-order filter of scipy's."""
    frames = rate // 2
    tone = np.sin(2 * np.pi * 200 * np.arange(frames) / rate + 0.7)
    ends = [round(0.2 + 17 / rate, 6), 0.35]
    strips = [
        dict(track("a", *chain, sends=[{"to": "g"}], fader_db=0), frames=frames),
        {"id": "g", "name": "G", "kind": "bus", "fader_db": 0},
        MAIN,
    ]
    high = 1 if control == "mix" else 0
    moving = lane(owner, control, (0, high, "stepped"), (ends[0], low, "stepped"), (ends[1], high))
    session = session_of(strips, automation=[moving], rate=rate)
    sounds = {"a": np.stack([tone, tone], axis=1)}
    out = run_strip(session, "g" if control == "send:g" else "main", sounds, faded=True)
    above = signal.butter(8, 4000, "high", fs=rate, output="sos")
    # The right, which a pan to the left leaves.
    assert db(np.abs(signal.sosfilt(above, out[:, 1])[rate // 10 :]).max()) < -90
    levels = np.abs(out[rate // 10 : -(rate // 10), 1]).reshape(10, -1).max(axis=1)
    assert levels.min() < 0.6 * levels.max()


def test_automated_stages_equal_the_settings_they_pass() -> None:
    """Where a lane has stood still for long, the stage does what it would do at that setting."""
    loud = {"a": constant(-6, 2 * RATE)}
    ducked = stage(threshold_db=-30, ratio=4, release_ms=20) | {"id": "c"}
    strips = [dict(track("a", ducked), frames=2 * RATE), MAIN]
    moving = session_of(
        strips, automation=[lane("c", "threshold_db", (0, -30, "stepped"), (1, -18))]
    )
    out = run_strip(moving, "a", loud)
    for frame, threshold in ((RATE - 2000, -30), (2 * RATE - 2000, -18)):
        ducked["params"]["threshold_db"] = threshold
        still = run_strip(session_of(strips), "a", loud)
        assert out[frame, 0] == pytest.approx(still[-2000, 0], rel=1e-6)


@pytest.mark.parametrize(
    ("element", "control", "values"),
    [
        (stage("tone", bands=[{"type": "bell", "hz": 300}, {"gain_db": 3}]), "bands.0.gain_db",
         (-9.0, 6.0)),
        (stage("curve"), "points.1.out", (-40.0, -10.0)),
        (split("bands", [stage(threshold_db=-40)], [], crossovers_hz=[300.0]), "crossovers_hz.0",
         (300.0, 5000.0)),
    ],
)  # fmt: skip
def test_what_moves_within_a_list_comes_to_what_it_is_set_to(
    element: dict[str, Any], control: str, values: tuple[float, float]
) -> None:
    """Before the step and long after it, the sound is that of the setting itself."""
    sounds = {"a": 0.3 * noise(2 * RATE)}
    first, *rest = control.split(".")

    def with_(value: float) -> dict[str, Any]:
        one = dict(element) | {"id": "x"}
        if first == "crossovers_hz":
            return one | {first: [value]}
        items = [list(p) for p in ((-80, -80), (-24, -24), (0, -12))]
        if first == "bands":
            items = [dict(b) for b in one["params"]["bands"]]
            items[0][rest[1]] = value
        else:
            items[1][1] = value
        return one | {"params": dict(one["params"]) | {first: items}}

    def out(item: dict[str, Any], *lanes: dict[str, Any]) -> np.ndarray:
        strips = [dict(track("a", item), frames=2 * RATE), MAIN]
        return run_strip(session_of(strips, automation=list(lanes)), "a", sounds)

    moving = out(with_(values[0]), lane("x", control, (0, values[0], "stepped"), (1, values[1])))
    before, after = (out(with_(value)) for value in values)
    assert np.abs(moving[: RATE - 2000] - before[: RATE - 2000]).max() < 1e-9
    assert np.abs(moving[-RATE // 4 :] - after[-RATE // 4 :]).max() < 1e-4
    assert np.abs(before - after).max() > 0.05


def automated(**more: Any) -> Any:
    """A bit of everything that moves: mix, choice, delay, position, branch gain, pan, lever."""
    chain = [
        stage(threshold_db=-30, lookahead_ms=3) | {"id": "c"},
        stage("trim") | {"id": "t"},
        split("copies", [], [stage(threshold_db=-40, ratio=8)],
              join={"law": "linear", "position": 0.5}) | {"id": "s"},
        stage("tone", bands=[{"type": "bell", "hz": 300, "q": 2}]) | {"id": "e"},
        stage("curve") | {"id": "v"},
        split("bands", [], [stage(threshold_db=-30)], [], crossovers_hz=[150.0, 3000.0])
        | {"id": "x"},
    ]  # fmt: skip
    lanes = [
        lane("c", "mix", (0, 0), (1, 1), (2, 0.3)),
        lane("c", "detector", (0, 0, "stepped"), (0.8, 1, "stepped"), (1.31, 0)),
        lane("t", "delay_ms", (0, 0), (1.5, 4)),
        lane("s", "position", (0.2, 0.1), (2.5, 0.9, "curved"), (3, 0)),
        lane("s-1", "gain_db", (0, -12), (3, 6)),
        lane("e", "bands.0.hz", (0, 200), (3, 4000)),
        lane("e", "bands.0.gain_db", (0, 0), (1.5, 12), (3, -12)),
        lane("v", "points.2.out", (0, -12), (2, -24)),
        lane("x", "crossovers_hz.0", (0, 100), (3, 2000)),
        lane("a", "pan", (0, -1), (3, 1)),
        lane("a", "trim_db", (0, -6), (3, 3)),
        lane("lift", "value", (0, 0), (3, 1)),
    ]
    lever = {"id": "lift", "name": "Lift", "moves": [
        {"owner": "c", "control": "threshold_db", "low": -40, "high": -10, "curve": 0.5},
        {"owner": "main", "control": "fader_db", "low": -12, "high": 0}]}  # fmt: skip
    strips = [dict(track("a", *chain), frames=3 * RATE), MAIN]
    return session_of(strips, automation=lanes, levers=[lever], **more)


def test_a_region_of_an_automated_strip_equals_the_whole() -> None:
    """Also from checkpoints in the middle of cross-fades and ramps, to the bit."""
    session, sounds = automated(), {"a": noise(3 * RATE)}
    mixer = Mixer(make_plan(session), reader(sounds))
    kept: dict[int, dict[str, Any]] = {}
    mixer.keep = lambda n, b, s: kept.setdefault(b, {}).update(
        {n: type(s).from_bytes(s.to_bytes())}
    )
    whole = np.concatenate([mixer.block().faded["main"] for _ in range(140)])
    for at in (CHECKPOINT, 2 * CHECKPOINT):
        again = Mixer(make_plan(session), reader(sounds))
        again.locate(at, kept[at])
        part = np.concatenate([again.block().faded["main"] for _ in range(12)])
        assert (part == whole[at * BLOCK : (at + 12) * BLOCK]).all()


def test_automation_makes_no_clicks(monkeypatch: pytest.MonkeyPatch) -> None:
    tone = np.repeat(np.sin(2 * np.pi * 200 / RATE * np.arange(3 * RATE))[:, None], 2, axis=1) / 4
    mixer = Mixer(make_plan(automated()), reader({"a": tone}))
    out = np.concatenate([mixer.block().faded["main"] for _ in range(140)])
    assert energy_over(out[8 * BLOCK :], 6000) < 10 ** (-80 / 20)


def test_a_control_moved_by_hand_bends_into_its_lane() -> None:
    """A change of other settings in play glides, though the stage follows a lane."""
    session = automated()
    mixer = Mixer(make_plan(session), reader({"a": constant(-12, 3 * RATE)}))
    out = [mixer.block().faded["main"] for _ in range(40)]
    model = session.model_dump()
    model["strips"][0]["chain"][0]["params"]["makeup_db"] = 6.0
    model["strips"][0]["fader_db"] = -6.0
    mixer.change(make_plan(type(session).model_validate(model)))
    out += [mixer.block().faded["main"] for _ in range(20)]
    whole = np.concatenate(out)[20 * BLOCK :]
    assert np.abs(np.diff(whole, axis=0)).max() < 0.001


def test_levers_move_over_their_ranges() -> None:
    session = automated()
    scale = scale_of(session.strip("a").chain[0], "threshold_db")
    move = Move(owner="c", control="threshold_db", low=-40, high=-10)
    assert [moved(scale, move, v) for v in (0, 0.5, 1)] == [-40, -25, -10]
    bent = move.model_copy(update={"curve": 1.0})
    assert moved(scale, bent, 0.5) == pytest.approx(-40 + 30 * 0.5**4)
    lanes = lanes_of(SessionIndex(session))
    assert lanes["c"]["threshold_db"].at(3.0) == pytest.approx(-10)
    assert lanes["main"]["fader_db"].at(1.5) == pytest.approx(-6)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"automation": [lane("nobody", "fader_db", (0, 1))]}, "no such strip or stage"),
        ({"automation": [lane("a", "colour", (0, 1))]}, "no control “colour”"),
        ({"automation": [lane("c", "lookahead_ms", (0, 1))]}, "cannot be automated"),
        ({"automation": [lane("c", "release_mode", (0, 0), (1, 2))], "bpm": None},
         "needs a tempo: that of the session, or release_bpm"),
        ({"automation": [lane("a", "pan", (2, 1), (1, 1))]}, "points must follow"),
        ({"automation": [lane("a", "pan", (0, 1)), lane("a", "pan", (0, 0))]}, "moved twice"),
        ({"levers": [{"id": "l", "name": "L", "moves": [
            {"owner": "c", "control": "ratio", "low": 0.5, "high": 4}]}]}, "out of range"),
        ({"levers": [{"id": "l", "name": "L", "moves": [
            {"owner": "x", "control": "ratio", "low": 1, "high": 4}]}]}, "no “x” to move"),
    ],
)  # fmt: skip
def test_what_cannot_move_is_refused(change: dict[str, Any], words: str) -> None:
    with pytest.raises(CoreError, match=words):
        make_plan(session_of([track("a", stage() | {"id": "c"}), MAIN], **change))


def test_a_lever_has_one_control() -> None:
    assert scale_of(Lever(id="l", name="L"), "value").high == 1
    with pytest.raises(SettingError, match="no control"):
        scale_of(Lever(id="l", name="L"), "speed")
