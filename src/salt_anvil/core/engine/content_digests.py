"""What a strip's sound depends on, as one digest; and what is measured first, looked up by it."""

import hashlib
import json
from dataclasses import replace
from typing import Any

from salt_anvil.core.engine.automation import NONE, Lanes
from salt_anvil.core.engine.graph import INPUT, Buffer, Node, Outside
from salt_anvil.core.engine.plan import (
    GROUP,
    AllLanes,
    JoinMeasurements,
    Route,
    SteadyJoin,
    StripPlan,
)
from salt_anvil.core.processors import processor
from salt_anvil.core.session import (
    Split,
    Stage,
    branches,
)
from salt_anvil.core.session_index import SessionIndex


def _digest(facts: Any) -> str:
    return hashlib.sha256(json.dumps(facts, sort_keys=True).encode()).hexdigest()[:32]


def with_digest(
    plan: StripPlan,
    done: dict[str, StripPlan],
    index: SessionIndex,
    lanes: AllLanes,
    measured: JoinMeasurements,
) -> StripPlan:
    """Return the plan with its steady joins looked up, in order, and its digest."""
    strip, graph, rate = plan.strip, plan.graph, index.session.rate
    inputs: list[Any] = [rate, index.frames, plan.context.channels]
    inputs.append([strip.audio, strip.frames] if strip.kind == "track" else None)
    inputs += [_route_facts(r, done) for r in plan.feeds]
    joins: list[SteadyJoin] = []
    groups: list[str] = []
    if len(plan.feeds) > GROUP:
        fed = [_route_facts(r, done) for r in plan.feeds]
        frame = ["group", rate, index.frames]
        groups = [_digest([*frame, fed[i : i + GROUP]]) for i in range(0, len(fed), GROUP)]
    if strip.join.law == "steady":
        ready = all(_settled(done[r.strip]) for r in plan.feeds)
        joins.append(_looked_up(f"bus:{strip.id}", _digest(["bus", inputs]), ready, measured))
    if strip.kind != "track":
        join = [strip.join.law, strip.join.position, _lane_facts(plan.own(strip.id), "position")]
        inputs.append([join, [j.measured and j.measured.digest for j in joins]])
    trim = [strip.trim_db, strip.invert, _lane_facts(plan.own(strip.id), "trim_db")]
    facts: dict[Buffer, Any] = {INPUT: _digest([inputs, trim])}
    settled = {INPUT: all(j.measured is not None for j in joins)}
    for outside in graph.outside:
        facts[outside.buffer] = _outside_facts(outside, done, index, lanes)
        settled[outside.buffer] = outside.strip not in done or _settled(done[outside.strip])
    nodes: list[Node] = []
    for planned in graph.nodes:
        node = planned
        before = [[facts[w.source], w.delay] for w in node.inputs]
        ready = all(settled[w.source] for w in node.inputs)
        own = _node_facts(node, plan)
        if isinstance(node.element, Stage) and node.element.on:
            stage = node.element
            item = processor(stage.kind)
            if item.measures_loudness(stage.params):
                found = _looked_up(stage.id, _digest(["loudness", own, before]), ready, measured)
                joins.append(found)
                if found.measured is not None:
                    settled_params = item.settled(stage.params, found.measured, stage.mix)
                    stage = stage.model_copy(update={"params": settled_params})
                    node = replace(node, element=stage)
                    own = _node_facts(node, plan)
                ready = ready and found.measured is not None
        nodes.append(node)
        if node.role == "join" and _is_steady(node):
            name = node.element.id
            found = _looked_up(name, _digest([name, before[:2]]), ready, measured)
            joins.append(found)
            own.append(found.measured and found.measured.digest)
            ready = ready and found.measured is not None
        sounding = _digest([own, before])
        for number, buffer in enumerate(node.outputs):
            facts[buffer] = [sounding, number]
            settled[buffer] = ready
    names = [n.outputs for n in graph.nodes] + [b.id for b in branches(strip.chain)]
    whole = [facts[graph.output], graph.late, [facts[n.outputs[0]] for n in graph.nodes], names]
    graph = replace(graph, nodes=tuple(nodes))
    digest = _digest(whole)
    return replace(
        plan, graph=graph, joins=tuple(joins), content_digest=digest, groups=tuple(groups)
    )


def _is_steady(node: Node) -> bool:
    return isinstance(node.element, Split) and node.element.join.law == "steady"


def _settled(plan: StripPlan) -> bool:
    return all(j.measured is not None for j in plan.joins)


def _looked_up(name: str, digest: str, ready: bool, measured: JoinMeasurements) -> SteadyJoin:
    return SteadyJoin(name, digest, measured(digest) if ready else None, ready)


def _route_facts(route: Route, done: dict[str, StripPlan]) -> Any:
    plan = done[route.strip]
    strip, own = plan.strip, plan.own(route.strip)
    names = ["pan", "fader_db", route.name]
    send = route.send and [route.send.gain_db, route.send.pre_fader]
    lanes = [_lane_facts(own, name) for name in names]
    audition = [plan.audition_db] if plan.audition_db else []
    return [plan.content_digest, strip.pan, strip.fader_db, send, route.heard, lanes, *audition]


def _outside_facts(
    outside: Outside, done: dict[str, StripPlan], index: SessionIndex, lanes: AllLanes
) -> Any:
    if outside.strip in done:
        return [done[outside.strip].content_digest, outside.buffer]
    track = index.strips[outside.strip]
    lane = _lane_facts(lanes.get(outside.strip, NONE), "trim_db")
    return [track.audio, track.frames, track.trim_db, track.invert, lane]


def _lane_facts(lanes: Lanes, name: str) -> Any:
    return lanes[name].facts() if name in lanes else None


def _node_facts(node: Node, plan: StripPlan) -> list[Any]:
    element = node.element
    lanes: dict[str, Any] = {n: lane.facts() for n, lane in plan.own(element.id).items()}
    if isinstance(element, Stage):
        key = element.key.model_dump()
        facts = [element.kind, element.on, element.mix, element.params.model_dump(), key]
        return [*facts, plan.context.bpm, lanes]
    if node.role == "split":
        corners = {n: facts for n, facts in lanes.items() if n.startswith("crossovers_hz.")}
        moving = [corners] if corners else []
        return [element.by, element.crossovers_hz, element.slope, element.phase, *moving]
    each = [
        [b.on, b.solo, b.gain_db, _lane_facts(plan.own(b.id), "gain_db")] for b in element.branches
    ]
    return [element.on, element.mix, element.join.law, element.join.position, each, lanes]
