"""How sound goes from strip to strip: ways out, mutes and solos, dependency order."""

from salt_anvil.core.engine.graph import Graph, Point
from salt_anvil.core.engine.plan import OUTSIDE, Plan, Route, StripPlan
from salt_anvil.core.errors import RoutingError
from salt_anvil.core.session import (
    Send,
    Session,
    Strip,
)
from salt_anvil.core.session_index import SessionIndex


def check_routes(strip: Strip, by_id: dict[str, Strip]) -> None:
    """Raise RoutingError where an output or send of a strip leads nowhere, or to a track."""
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


def routes_of(session: Session) -> list[Route]:
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


def exports_of(graphs: dict[str, Graph]) -> dict[str, tuple[Point, ...]]:
    """Return the points inside each strip's chain that others listen to."""
    found: dict[str, set[Point]] = {}
    for graph in graphs.values():
        for outside in graph.outside:
            if not outside.source.startswith("strip:"):
                found.setdefault(outside.strip, set()).add(outside.point)
    return {strip: tuple(sorted(points)) for strip, points in found.items()}


def check_join(strip: Strip, feeds: tuple[Route, ...]) -> None:
    """Raise RoutingError where a bus has not the two inputs that its join needs."""
    if strip.join.law != "sum" and (strip.kind == "track" or len(feeds) != 2):
        raise RoutingError(
            f"{strip.name}: the join {strip.join.law} takes a bus with exactly 2 inputs;"
            f" it has {len(feeds)}"
        )


def in_order(index: SessionIndex, routes: list[Route], graphs: dict[str, Graph]) -> list[Strip]:
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


def downstream(plan: Plan, strip: str) -> list[StripPlan]:
    """Return the strips that the given one feeds, directly or not, in order."""
    reached = {strip}
    found = []
    for item in plan.strips:
        if reached & {r.strip for r in item.feeds}:
            reached.add(item.strip.id)
            found.append(item)
    return found


def dependents(plan: Plan, strip: str) -> set[str]:
    """Return the strips whose sound follows from the given one's, by ways or by keys."""
    reached = {strip}
    for item in plan.strips:
        keys = {o.strip for o in item.graph.outside}
        if reached & ({r.strip for r in item.feeds} | keys):
            reached.add(item.strip.id)
    return reached - {strip}
