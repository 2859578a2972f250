"""From a session to what is to be run: validated, in dependency order, latencies known."""

import hashlib
import json
import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from salt_anvil.core.audio import BLOCK
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.engine.automation import NONE, Lane, Lanes, lanes_of
from salt_anvil.core.engine.graph import Graph, Node, Outside, compile_chain
from salt_anvil.core.errors import MissingError, RoutingError
from salt_anvil.core.processors import Context
from salt_anvil.core.session import (
    Send,
    Session,
    Split,
    Stage,
    Strip,
    branches,
    elements,
)
from salt_anvil.core.session_index import SessionIndex

GROUP = 8
"""Inputs of a bus that are summed on their own, so that this sum can be kept."""

TAIL = 48
"""Blocks behind the end of the song that still sound; after them everything is silent."""

AllLanes = dict[str, dict[str, Lane]]

JoinMeasurements = Callable[[str], JoinMeasurement | None]
"""Gives what was measured for a steady join, by the digest of all that it depends on."""


def nothing_measured(digest: str) -> JoinMeasurement | None:
    """Know of no measurement."""
    return None


OUTSIDE = ""
"""Where the main bus leads."""


@dataclass(frozen=True)
class Route:
    """A way from a strip to another, or out of the program: its output, or a send.

    to: a strip, or OUTSIDE. heard: not closed by a mute or by somebody's solo.
    """

    strip: str
    to: str
    send: Send | None
    heard: bool

    @property
    def name(self) -> str:
        """What tells the routes of one strip apart."""
        return "output" if self.send is None else f"send:{self.to}"


@dataclass(frozen=True)
class SteadyJoin:
    """A steady join of a split, or of a bus ("bus:ID"): its digest, and its measurement."""

    name: str
    digest: str
    measured: JoinMeasurement | None
    ready: bool
    """Whether everything that it depends on is measured already."""


@dataclass(frozen=True)
class StripPlan:
    """One strip ready to run.

    feeds: the routes summed into a bus, in session order. routes: the ways out of it.
    content_digest: of everything that its sound after the chain depends on; equal ones, equal bits.
    """

    strip: Strip
    graph: Graph
    feeds: tuple[Route, ...]
    routes: tuple[Route, ...]
    heard: bool
    context: Context
    lanes: AllLanes
    exports: tuple[str, ...]
    """Points inside the chain that other strips listen to, as "source/tap"."""
    joins: tuple[SteadyJoin, ...] = ()
    content_digest: str = ""
    groups: tuple[str, ...] = ()
    """Digests of the sums of a bus's groups of inputs, where it has more than one group."""

    @property
    def latency(self) -> int:
        """Frames by which the chain is late, made good by reading ahead."""
        return self.graph.late

    @property
    def stages(self) -> tuple[Stage, ...]:
        """The processors of the chain, nested ones too, in the order of the chain."""
        return tuple(e for e in elements(self.strip.chain) if isinstance(e, Stage))

    @property
    def output(self) -> Route:
        """The way out that is no send."""
        return next(r for r in self.routes if r.send is None)

    def own(self, owner: str) -> Lanes:
        """Return the lanes of a stage, split or branch of this strip, or of the strip."""
        return self.lanes.get(owner, NONE)

    def measurement(self, name: str) -> JoinMeasurement | None:
        """Return the measurement of a steady join."""
        return next((j.measured for j in self.joins if j.name == name), None)


@dataclass(frozen=True)
class Plan:
    """All strips of a session; a strip stands behind everything that it depends on."""

    strips: tuple[StripPlan, ...]
    main: str
    rate: int
    frames: int
    _by_id: dict[str, StripPlan] = field(default_factory=dict, compare=False, repr=False)

    def strip(self, strip_id: str) -> StripPlan:
        """Return one strip's plan.

        Raises:
            MissingError: there is none.
        """
        if not self._by_id:
            self._by_id.update({s.strip.id: s for s in self.strips})
        try:
            return self._by_id[strip_id]
        except KeyError:
            raise MissingError(f"there is no strip “{strip_id}” here any more") from None

    @property
    def blocks(self) -> int:
        """How many blocks can hold sound: the song's and those of its tail."""
        return -(-self.frames // BLOCK) + TAIL

    @property
    def digests(self) -> dict[str, str]:
        """Every strip's content digest."""
        return {s.strip.id: s.content_digest for s in self.strips}

    def missing(self) -> list[SteadyJoin]:
        """Return the steady joins that are not measured."""
        return [j for s in self.strips for j in s.joins if j.measured is None]


def make_plan(
    session: Session,
    *,
    observe: str | None = None,
    observe_all: bool = False,
    measured: JoinMeasurements = nothing_measured,
) -> Plan:
    """Return the plan of a session.

    observe: a strip whose stages also report what only pictures need; observe_all: every one.

    Raises:
        RoutingError: an output, send or key leads nowhere or in a circle.
        SettingError: a stage's values do not go together, or automation leads nowhere.
    """
    if not session.strips:
        raise RoutingError(f"“{session.name}” has no strips yet")
    index = SessionIndex(session)
    for strip in session.strips:
        _check_routes(strip, index.strips)
    lanes = lanes_of(index)
    routes = _routes(session)
    graphs: dict[str, Graph] = {}
    contexts: dict[str, Context] = {}
    for strip in session.strips:
        channels: Literal[1, 2] = strip.channels if strip.kind == "track" else 2
        contexts[strip.id] = Context(
            session.rate, channels, session.bpm, observe_all or strip.id == observe
        )
        graphs[strip.id] = compile_chain(strip, contexts[strip.id], index.strip_of_source, lanes)
    exports = _exports(graphs)
    plans: dict[str, StripPlan] = {}
    for strip in _in_order(index, routes, graphs):
        feeds = tuple(r for r in routes if r.to == strip.id)
        _check_join(strip, feeds)
        mine = index.within(strip.id)
        plan = StripPlan(
            strip,
            graphs[strip.id],
            feeds,
            tuple(r for r in routes if r.strip == strip.id),
            any(r.heard for r in routes if r.strip == strip.id) or strip.kind == "main",
            contexts[strip.id],
            {o: ls for o, ls in lanes.items() if o in mine},
            exports.get(strip.id, ()),
        )
        plans[strip.id] = _with_digest(plan, plans, index, lanes, measured)
    return Plan(tuple(plans.values()), session.main().id, session.rate, session.frames())


# Ways ------------------------------------------------------------------------------------------


def _check_routes(strip: Strip, by_id: dict[str, Strip]) -> None:
    routes = [("output", strip.output), *(("send", s.to) for s in strip.sends)]
    if strip.kind == "main":
        if strip.sends:
            raise RoutingError(f"{strip.name}: the main bus sends nowhere")
        return
    for what, to in routes:
        if to is None:
            continue
        target = by_id.get(to)
        if target is None:
            raise RoutingError(f"{strip.name}: its {what} “{to}” does not exist")
        if target.kind == "track":
            raise RoutingError(f"{strip.name}: its {what} {target.name} is a track, not a bus")
    sends = [s.to for s in strip.sends]
    if len(set(sends)) < len(sends):
        raise RoutingError(f"{strip.name}: two sends go to the same bus")


def _output(strip: Strip, session: Session) -> str | None:
    if strip.kind == "main":
        return None
    return strip.output or session.main().id


def _routes(session: Session) -> list[Route]:
    """Return every way between strips in session order, with what mutes and solos leave of it.

    With solos on, a way is open when it carries what a soloed strip gave, or leads to one.
    """
    routes: list[tuple[Strip, str, Send | None]] = []
    for strip in session.strips:
        to = _output(strip, session)
        if to is not None:
            routes.append((strip, to, None))
        routes += [(strip, send.to, send) for send in strip.sends if send.on]
    onward: dict[str, set[str]] = {}
    for strip, to, _ in routes:
        onward.setdefault(strip.id, set()).add(to)
    soloed = {s.id for s in session.strips if s.solo}
    carried = _reach(soloed, onward)
    backward: dict[str, set[str]] = {}
    for strip, to, _ in routes:
        backward.setdefault(to, set()).add(strip.id)
    leading = _reach(soloed, backward)
    main = session.main()
    found = [
        Route(
            strip.id,
            to,
            send,
            not strip.mute and (not soloed or strip.id in carried or to in leading),
        )
        for strip, to, send in routes
    ]
    return [*found, Route(main.id, OUTSIDE, None, not main.mute)]


def _reach(start: set[str], onward: dict[str, set[str]]) -> set[str]:
    found, waiting = set(start), list(start)
    while waiting:
        for to in onward.get(waiting.pop(), ()):
            if to not in found:
                found.add(to)
                waiting.append(to)
    return found


def _exports(graphs: dict[str, Graph]) -> dict[str, tuple[str, ...]]:
    """Return the points inside each strip's chain that others listen to."""
    found: dict[str, set[str]] = {}
    for graph in graphs.values():
        for outside in graph.outside:
            if not outside.source.startswith("strip:"):
                found.setdefault(outside.strip, set()).add(f"{outside.source}/{outside.tap}")
    return {strip: tuple(sorted(points)) for strip, points in found.items()}


def _check_join(strip: Strip, feeds: tuple[Route, ...]) -> None:
    if strip.join.law != "sum" and (strip.kind == "track" or len(feeds) != 2):
        raise RoutingError(
            f"{strip.name}: the join {strip.join.law} takes a bus with exactly 2 inputs;"
            f" it has {len(feeds)}"
        )


def _in_order(index: SessionIndex, routes: list[Route], graphs: dict[str, Graph]) -> list[Strip]:
    """Return the strips so that each follows all that feed it and all that it listens to."""
    by_id = index.strips
    needs: dict[str, list[tuple[str, str]]] = {name: [] for name in by_id}
    for route in routes:
        if route.to != OUTSIDE:
            needs[route.to].append((route.strip, "feeds"))
    for name, graph in graphs.items():
        for outside in graph.outside:
            # What comes into a track depends on nothing else.
            if not (
                outside.tap == "in"
                and outside.source == f"strip:{outside.strip}"
                and by_id[outside.strip].kind == "track"
            ):
                needs[name].append((outside.strip, "keys"))
    done: list[Strip] = []
    placed: set[str] = set()

    def place(name: str, way: list[tuple[str, str]]) -> None:
        if name in placed:
            return
        names = [n for n, _ in way]
        if name in names:
            circle = [*way[names.index(name) :], (name, "")]
            words = by_id[name].name
            for (after, verb), (_, _) in zip(reversed(circle[:-1]), circle, strict=False):
                words += f" {verb} {by_id[after].name}"
            raise RoutingError(f"the ways form a loop: {words}")
        for other, verb in needs[name]:
            place(other, [*way, (name, verb)])
        placed.add(name)
        done.append(by_id[name])

    for name in by_id:
        place(name, [])
    return done


# Marks: what a strip's sound depends on, as one digest -------------------------------------------


def _digest(facts: Any) -> str:
    return hashlib.sha256(json.dumps(facts, sort_keys=True).encode()).hexdigest()[:32]


def _with_digest(
    plan: StripPlan,
    done: dict[str, StripPlan],
    index: SessionIndex,
    lanes: AllLanes,
    measured: JoinMeasurements,
) -> StripPlan:
    """Return the plan with its steady joins looked up, in order, and its digest."""
    strip, graph, session = plan.strip, plan.graph, index.session
    inputs: list[Any] = [session.rate, session.frames(), plan.context.channels]
    inputs.append([strip.audio, strip.frames] if strip.kind == "track" else None)
    inputs += [_route_facts(r, done) for r in plan.feeds]
    joins: list[SteadyJoin] = []
    groups: list[str] = []
    if len(plan.feeds) > GROUP:
        fed = [_route_facts(r, done) for r in plan.feeds]
        frame = ["group", session.rate, session.frames()]
        groups = [_digest([*frame, fed[i : i + GROUP]]) for i in range(0, len(fed), GROUP)]
    if strip.join.law == "steady":
        ready = all(_settled(done[r.strip]) for r in plan.feeds)
        joins.append(_looked_up(f"bus:{strip.id}", _digest(["bus", inputs]), ready, measured))
    if strip.kind != "track":
        join = [strip.join.law, strip.join.position, _lane_facts(plan.own(strip.id), "position")]
        inputs.append([join, [j.measured and vars(j.measured) for j in joins]])
    trim = [strip.trim_db, strip.invert, _lane_facts(plan.own(strip.id), "trim_db")]
    facts: dict[str, Any] = {"in": _digest([inputs, trim])}
    settled: dict[str, bool] = {"in": all(j.measured is not None for j in joins)}
    for outside in graph.outside:
        facts[outside.buffer] = _outside_facts(outside, done, index, lanes)
        settled[outside.buffer] = outside.strip not in done or _settled(done[outside.strip])
    for node in graph.nodes:
        before = [[facts[w.source], w.delay] for w in node.inputs]
        ready = all(settled[w.source] for w in node.inputs)
        own = _node_facts(node, plan)
        if node.role == "join" and _is_steady(node):
            name = node.element.id
            found = _looked_up(name, _digest([name, before[:2]]), ready, measured)
            joins.append(found)
            own.append(found.measured and vars(found.measured))
            ready = ready and found.measured is not None
        sounding = _digest([own, before])
        for number, name in enumerate(node.outputs):
            facts[name] = [sounding, number]
            settled[name] = ready
    names = [n.outputs for n in graph.nodes] + [b.id for b in branches(strip.chain)]
    whole = [facts[graph.output], graph.late, [facts[n.outputs[0]] for n in graph.nodes], names]
    return replace(plan, joins=tuple(joins), content_digest=_digest(whole), groups=tuple(groups))


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
    return [plan.content_digest, strip.pan, strip.fader_db, send, route.heard, lanes]


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
        return [element.by, element.crossovers_hz, element.slope, element.phase]
    each = [
        [b.on, b.solo, b.gain_db, _lane_facts(plan.own(b.id), "gain_db")] for b in element.branches
    ]
    return [element.on, element.mix, element.join.law, element.join.position, each, lanes]


def roll_blocks(plan: Plan) -> int:
    """Return the blocks to run after a restored state before every queue is full again."""
    return 1 + math.ceil(max(s.latency for s in plan.strips) / BLOCK)
