"""Keys: who listens to whom, aligned to the sample; loops spelled out."""

from typing import Any

import numpy as np
import pytest

from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import CoreError, RoutingError
from salt_anvil.core.session import Session, checked
from tests.conftest import constant, noise, rounded
from tests.routing import RATE, bands, reader, run_strip, split, stage, through

FRAMES = RATE // 2


def burst(at: int, frames: int = FRAMES, channels: int = 2) -> np.ndarray:
    """Silence, then full level; loud enough for `ducking` from a frame on."""
    out = np.zeros((frames, channels))
    out[at + 6 :] = 0.9
    out = rounded(out, 17)
    assert (np.abs(out[:, 0]) > 10 ** (-30 / 20)).argmax() == at
    return out


def ducking(**key: Any) -> dict[str, Any]:
    return stage(threshold_db=-30, ratio=20, attack_ms=0.05, knee_db=0) | {"key": key}


def first_change(out: np.ndarray, sound: np.ndarray) -> int:
    """First frame that differs by more than 0.1 %."""
    return int(np.argmax(np.abs(out - sound).max(axis=1) > 1e-3 * np.abs(sound).max()))


def test_a_named_input_decides() -> None:
    sound = constant(-40, FRAMES)
    out = through([ducking(source="input:voice")], sound, {"voice": burst(9000)})
    assert (out[:9000] == sound[:9000].astype(np.float32)).all()
    assert first_change(out, sound) == 9000


@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("own", [1, 2])
def test_mono_and_stereo_keys(channels: int, own: int) -> None:
    sound = constant(-40, FRAMES, own)
    out = through([ducking(source="input:k")], sound, {"k": burst(9000, channels=channels)})
    assert first_change(out, sound) == 9000


@pytest.mark.parametrize(
    "before",
    [
        [],
        [stage(ratio=1, lookahead_ms=17)],
        [bands([], [], phase="linear")],
        [split("copies", [], [stage(ratio=1, lookahead_ms=3)], join={"law": "linear"})],
    ],
)
@pytest.mark.parametrize("behind", [[], [stage(ratio=1, lookahead_ms=11)]])
def test_reduction_starts_on_the_frame_of_the_key(before: list, behind: list) -> None:
    """A keying strip with latency, a keyed stage behind latency: always the same frame."""
    strips = [
        {"id": "k", "name": "K", "kind": "track", "audio": "k", "frames": FRAMES, "chain": before},
        {"id": "x", "name": "X", "kind": "track", "audio": "x", "frames": FRAMES,
         "chain": [*behind, ducking(source="strip:k")]},
        {"id": "main", "name": "Main", "kind": "main"},
    ]  # fmt: skip
    session = session_of(strips)
    sound = constant(-40, FRAMES)
    out = run_strip(session, "x", {"k": burst(9000), "x": sound})
    # A linear-phase band rings before the edge by a little: within its own length.
    slack = 900 if before and before[0].get("phase") == "linear" else 0
    assert abs(first_change(out, sound) - 9000) <= slack


def session_of(strips: list[dict[str, Any]], **more: Any) -> Session:
    """A session; stages without ids are numbered."""
    count = 0

    def named(chain: list[dict[str, Any]]) -> None:
        nonlocal count
        for item in chain:
            count += 1
            item.setdefault("id", f"e{count}")
            for index, branch in enumerate(item.get("branches", [])):
                branch.setdefault("id", f"{item['id']}-{index}")
                named(branch["chain"])

    copies = [dict(s, chain=[dict(e) for e in s.get("chain", [])]) for s in strips]
    for strip in copies:
        named(strip["chain"])
    return checked(Session, {"name": "Keys", "rate": RATE, "strips": copies} | more)


def test_key_filter_and_own_branch() -> None:
    """A key from a sibling branch, also one that is later than this one."""
    late = stage(ratio=1, lookahead_ms=10) | {"id": "late"}
    keyed = ducking(source="stage:late") | {"id": "keyed"}
    item = split("copies", [keyed], [late], join={"law": "linear", "position": 0})
    sound = np.maximum(constant(-40, FRAMES), burst(9000))
    out = through([item], sound)
    assert first_change(out, sound) == 9000
    by_branch = ducking(source="branch:s1.2", tap="in") | {"id": "keyed"}
    item = split("copies", [by_branch], [late], join={"law": "linear", "position": 0})
    assert first_change(through([item], sound), sound) == 9000


def test_a_stage_of_another_strip_is_a_key() -> None:
    strips = [
        {"id": "k", "name": "K", "kind": "track", "audio": "k", "frames": FRAMES, "chain": [
            {"id": "up", "kind": "trim", "params": {"gain_db": 24}},
            {"id": "down", "kind": "trim", "params": {"gain_db": -60}}]},
        {"id": "x", "name": "X", "kind": "track", "audio": "x", "frames": FRAMES,
         "chain": [ducking(source="stage:up", tap="out")]},
        {"id": "main", "name": "Main", "kind": "main"},
    ]  # fmt: skip
    quiet = burst(9000) * 0.01
    begins = int((quiet[:, 0] * 10 ** (24 / 20) > 10 ** (-30 / 20)).argmax())
    sound = constant(-40, FRAMES)
    out = run_strip(session_of(strips), "x", {"k": quiet, "x": sound})
    assert first_change(out, sound) == begins
    strips[1]["chain"] = [ducking(source="strip:k", tap="out")]
    out = run_strip(session_of(strips), "x", {"k": quiet, "x": sound})
    assert (out == sound.astype(np.float32)).all()
    strips[1]["chain"] = [ducking(source="strip:k", tap="in")]
    out = run_strip(session_of(strips), "x", {"k": burst(9000), "x": sound})
    assert first_change(out, sound) == 9000


def test_muted_and_faded_strips_still_feed_their_keys() -> None:
    strips = [
        {"id": "k", "name": "K", "kind": "track", "audio": "k", "frames": FRAMES, "mute": True,
         "fader_db": -90},
        {"id": "x", "name": "X", "kind": "track", "audio": "x", "frames": FRAMES, "solo": True,
         "chain": [ducking(source="strip:k")]},
        {"id": "main", "name": "Main", "kind": "main"},
    ]  # fmt: skip
    sound = constant(-40, FRAMES)
    out = run_strip(session_of(strips), "main", {"k": burst(9000), "x": sound}, faded=True)
    assert first_change(out, sound) == 9000


def track(name: str, *chain: dict[str, Any], **more: Any) -> dict[str, Any]:
    return {
        "id": name,
        "name": name.upper(),
        "kind": "track",
        "audio": name,
        "frames": FRAMES,
        "chain": list(chain),
    } | more


@pytest.mark.parametrize(
    ("strips", "words"),
    [
        ([track("a", ducking(source="strip:b")), track("b", ducking(source="strip:a"))],
         r"the ways form a loop: (A keys B keys A|B keys A keys B)"),
        ([track("a", output="g"),
          {"id": "g", "name": "G", "kind": "bus", "sends": [{"to": "h"}]},
          {"id": "h", "name": "H", "kind": "bus", "output": "g"}],
         r"G feeds H feeds G|H feeds G feeds H"),
        ([track("a", ducking(source="strip:g"), output="g"),
          {"id": "g", "name": "G", "kind": "bus"}],
         r"A feeds G keys A|G keys A feeds G"),
        ([track("a", ducking(source="strip:a"))], "the strip's output is its own key"),
        ([track("a", {**ducking(source="stage:two"), "id": "one"},
                {**ducking(source="stage:one"), "id": "two"})],
         "the keys form a loop: (one needs two needs one|two needs one needs two)"),
        ([track("a", {**ducking(source="strip:b"), "params": {"topology": "feed-back"}}),
          track("b")], "cannot take an outside key"),
    ],
)  # fmt: skip
def test_loops_are_spelled_out(strips: list, words: str) -> None:
    main = {"id": "main", "name": "Main", "kind": "main"}
    with pytest.raises(CoreError, match=words):
        make_plan(session_of([*strips, main]))


def test_what_comes_in_may_be_a_key_both_ways() -> None:
    """Two tracks that duck each other by their recordings form no loop."""
    strips = [
        track("a", ducking(source="strip:b", tap="in")),
        track("b", ducking(source="strip:a", tap="in")),
        {"id": "main", "name": "Main", "kind": "main"},
    ]
    sounds = {"a": noise(FRAMES), "b": noise(FRAMES, seed=2)}
    mixer = Mixer(make_plan(session_of(strips)), reader(sounds))
    assert np.isfinite(mixer.block().faded["main"]).all()


def test_listening_to_the_key_gives_the_filtered_key() -> None:
    session = session_of([track("a", ducking(low_hz=1000) | {"id": "d"}),
                          {"id": "main", "name": "Main", "kind": "main"}])  # fmt: skip
    sounds = {"a": constant(-6, FRAMES)}
    mixer = Mixer(make_plan(session), reader(sounds), tapped=True)
    blocks = [mixer.block().strips["a"].taps["key:d"][1] for _ in range(10)]
    assert np.abs(blocks[-1]).max() < 1e-6 < np.abs(blocks[0]).max()


def test_unbound_inputs_are_named() -> None:
    strips = [track("a", ducking(source="input:voice")),
              {"id": "main", "name": "Main", "kind": "main"}]  # fmt: skip
    with pytest.raises(RoutingError, match="input:voice is not bound"):
        make_plan(session_of(strips))
