"""The flattened chain: order, delays that line everything up, points and channels."""

from typing import Any

import pytest

from salt_anvil.core.dsp.crossover import linear_half
from salt_anvil.core.dsp.listening import LATENCY as HEARD
from salt_anvil.core.engine.graph import INPUT, Buffer, Graph, Node, Point, compile_chain
from salt_anvil.core.errors import RoutingError
from salt_anvil.core.processors import Context
from salt_anvil.core.recipe import read_recipe
from salt_anvil.core.session import Strip, branches, elements
from tests.routing import bands, split, stage

RATE = 48000


def graph_of(chain: list[dict[str, Any]], channels: int = 2) -> Graph:
    recipe = read_recipe({"chain": chain})
    strip = Strip(id="x", name="X", kind="track", chain=recipe.chain)
    where = {"strip:x": "x", "strip:y": "y", "stage:far": "y"}
    where |= {f"stage:{e.id}": "x" for e in elements(recipe.chain)}
    where |= {f"branch:{b.id}": "x" for b in branches(recipe.chain)}
    return compile_chain(strip, Context(RATE, channels), where.get, {})


def late_of(graph: Graph) -> dict[str, int]:
    found = {INPUT: 0} | {o.buffer: 0 for o in graph.outside}
    for node in graph.nodes:
        found |= dict.fromkeys(node.outputs, node.late)
    return found


def holds(graph: Graph) -> None:
    """Every input arrives at the node's own time, and after what it reads from."""
    late = late_of(graph)
    done = {INPUT, *(o.buffer for o in graph.outside)}
    for node in graph.nodes:
        for wire in node.inputs:
            assert wire.source in done, (node.name, wire)
            assert wire.delay >= 0
            assert late[wire.source] + wire.delay == node.at, (node.name, wire)
        done |= set(node.outputs)
    assert late[graph.output] == graph.late
    for tap in graph.taps.values():
        for wire in tap.wires:
            assert late[wire.source] + wire.delay == tap.late


def ahead(ms: float, **more: Any) -> dict[str, Any]:
    return stage(ratio=1, lookahead_ms=ms) | more


CHAINS: dict[str, list[dict[str, Any]]] = {
    "empty": [],
    "one after the other": [ahead(2), ahead(5)],
    "parallel": [split("copies", [ahead(10)], [])],
    "nested": [split("copies", [bands([ahead(1)], [], [ahead(7)], phase="linear")], [ahead(3)]),
               ahead(4)],
    "middle": [split("mid-side", [bands([], [ahead(2)])], [])],
    "key from a later sibling": [
        split("copies", [stage() | {"key": {"source": "stage:late"}}], [ahead(9, id="late")])],
    "key from outside": [ahead(6), stage() | {"key": {"source": "strip:y"}}],
    "key from another strip's stage": [stage() | {"key": {"source": "stage:far", "tap": "in"}}],
}  # fmt: skip


@pytest.mark.parametrize("name", CHAINS)
def test_everything_is_lined_up(name: str) -> None:
    holds(graph_of(CHAINS[name]))


def test_latency_is_that_of_the_longest_way() -> None:
    assert graph_of(CHAINS["one after the other"]).late == 7 * 48 + 2 * HEARD
    assert graph_of(CHAINS["parallel"]).late == 480 + HEARD
    linear = linear_half([200.0, 2000.0], 24, RATE)
    assert graph_of(CHAINS["nested"]).late == linear + (7 + 4) * 48 + 2 * HEARD


def test_a_key_that_is_later_makes_the_listener_wait() -> None:
    graph = graph_of(CHAINS["key from a later sibling"])
    names = [n.name for n in graph.nodes]
    assert names.index("late") < names.index("s1.1.1")
    listener = next(n for n in graph.nodes if n.name == "s1.1.1")
    assert [w.delay for w in listener.inputs] == [9 * 48 + HEARD, 0]


def test_outside_keys_are_told_apart_by_what_they_are() -> None:
    graph = graph_of(CHAINS["key from another strip's stage"])
    (outside,) = graph.outside
    assert (outside.strip, outside.source, outside.tap) == ("y", "stage:far", "in")


def test_branches_of_mid_side_are_mono() -> None:
    graph = graph_of(CHAINS["middle"])
    assert graph.channels[Buffer("s1", 0)] == graph.channels[Buffer("s1", 1)] == 1
    assert graph.channels[Buffer("s1", "dry")] == graph.channels[Buffer("s1")] == 2
    assert graph.channels[INPUT] == 2


def test_points_name_what_can_be_listened_to() -> None:
    graph = graph_of([split("copies", [ahead(10, id="c")], [])])
    assert {str(point) for point in graph.points} == {
        "strip:x/in",
        "strip:x/out",
        "stage:c/in",
        "stage:c/out",
        "stage:s1/in",
        "stage:s1/out",
        "branch:s1.1/in",
        "branch:s1.1/out",
        "branch:s1.2/in",
        "branch:s1.2/out",
    }
    assert graph.points[Point("stage:c", "out")] == (Buffer("c"), 480 + HEARD)
    assert graph.points[Point("branch:s1.2", "out")][1] == 0


@pytest.mark.parametrize(
    ("chain", "words"),
    [
        ([stage() | {"id": "a", "key": {"source": "stage:a", "tap": "out"}}], "a needs a"),
        ([split("copies", [stage() | {"id": "a", "key": {"source": "branch:s1.1"}}], [])],
         "a needs a"),
        ([split("copies", [stage() | {"id": "a", "key": {"source": "stage:s1"}}], [])],
         "form a loop: a needs s1 needs a"),
        ([stage() | {"key": {"source": "strip:nobody"}}], "its key strip:nobody is not there"),
    ],
)  # fmt: skip
def test_keys_in_a_circle_are_spelled_out(chain: list[dict[str, Any]], words: str) -> None:
    with pytest.raises(RoutingError, match=words):
        graph_of(chain)


def test_a_stage_may_listen_to_what_comes_into_it() -> None:
    """Its own input by name is no loop."""
    node: Node = graph_of([stage() | {"id": "a", "key": {"source": "stage:a", "tap": "in"}}]).nodes[
        0
    ]
    assert [w.source for w in node.inputs] == [INPUT, INPUT]
