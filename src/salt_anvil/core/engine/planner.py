"""From a session to what is to be run: validated, in dependency order, latencies known."""

from collections import defaultdict
from dataclasses import replace
from typing import Literal

from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.engine.automation import lanes_of
from salt_anvil.core.engine.content_digests import with_digest
from salt_anvil.core.engine.graph import Graph, compile_chain
from salt_anvil.core.engine.plan import AllLanes, JoinMeasurements, Plan, Route, StripPlan
from salt_anvil.core.engine.routing import check_join, check_routes, exports_of, in_order, routes_of
from salt_anvil.core.errors import RoutingError
from salt_anvil.core.processors import Context
from salt_anvil.core.session import Session
from salt_anvil.core.session_index import SessionIndex

Audition = tuple[str, float]


def nothing_measured(digest: str) -> JoinMeasurement | None:
    """Know of no measurement."""
    return None


def make_plan(
    session: Session,
    *,
    observe: str | None = None,
    observe_all: bool = False,
    measured: JoinMeasurements = nothing_measured,
    audition: Audition | None = None,
    before: Plan | None = None,
) -> Plan:
    """Return the plan of a session.

    observe: a strip whose stages also report what only pictures need; observe_all: every one.
    audition: a strip and by how many dB it is heard louder, for comparing.
    before: a plan of the session as it was; what no edit has touched is taken from it.

    Raises:
        RoutingError: an output, send or key leads nowhere or in a circle.
        SettingError: a stage's values do not go together, or automation leads nowhere.
    """
    if not session.strips:
        raise RoutingError(f"“{session.name}” has no strips yet")
    index = SessionIndex(session)
    for strip in session.strips:
        check_routes(strip, index.strips)
    lanes = lanes_of(index)
    routes = routes_of(session)
    graphs: dict[str, Graph] = {}
    contexts: dict[str, Context] = {}
    owned: dict[str, AllLanes] = {}
    known = {} if before is None else {s.strip.id: s for s in before.strips if _stands_alone(s)}
    as_long = before and (before.rate, before.frames) == (session.rate, index.frames)
    for strip in session.strips:
        channels: Literal[1, 2] = strip.channels if strip.kind == "track" else 2
        contexts[strip.id] = Context(
            session.rate, channels, session.bpm, observe_all or strip.id == observe
        )
        own = owned[strip.id] = {o: ls for o, ls in lanes.items() if o in index.within(strip.id)}
        old = known.get(strip.id)
        if old and (old.strip is strip and old.context == contexts[strip.id] and old.lanes == own):
            graphs[strip.id] = old.graph
            continue
        known.pop(strip.id, None)
        graphs[strip.id] = compile_chain(strip, contexts[strip.id], index.strip_of_source, lanes)
    exports = exports_of(graphs)
    entering: defaultdict[str, list[Route]] = defaultdict(list)
    leaving: defaultdict[str, list[Route]] = defaultdict(list)
    for route in routes:
        entering[route.to].append(route)
        leaving[route.strip].append(route)
    plans: dict[str, StripPlan] = {}
    for strip in in_order(index, routes, graphs):
        feeds, ways = tuple(entering[strip.id]), tuple(leaving[strip.id])
        check_join(strip, feeds)
        plan = StripPlan(
            strip,
            graphs[strip.id],
            feeds,
            ways,
            any(r.heard for r in ways) or strip.kind == "main",
            contexts[strip.id],
            owned[strip.id],
            exports.get(strip.id, ()),
            audition_db=audition[1] if audition and audition[0] == strip.id else 0.0,
        )
        if as_long and strip.id in known:
            plans[strip.id] = replace(plan, content_digest=known[strip.id].content_digest)
            continue
        plans[strip.id] = with_digest(plan, plans, index, lanes, measured)
    return Plan(tuple(plans.values()), session.main().id, session.rate, index.frames)


def _stands_alone(plan: StripPlan) -> bool:
    """Say whether nothing but a strip itself, and how long and fast the session is, decides what
    comes out of its chain."""
    return plan.strip.kind == "track" and not plan.graph.outside and not plan.joins
