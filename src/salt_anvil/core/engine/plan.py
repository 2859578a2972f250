"""From a session to what is to be run: validated, in dependency order, latencies known."""

from dataclasses import dataclass

from salt_anvil.core.errors import RoutingError, SettingError
from salt_anvil.core.processors import Context, processor
from salt_anvil.core.session import Session, Split, Stage, Strip


@dataclass(frozen=True)
class StripPlan:
    """One strip ready to run.

    feeds: the strips summed into a bus, in session order. heard: not muted, by itself or by
    somebody's solo. latency: frames by which the chain is late, made good by reading ahead.
    """

    strip: Strip
    stages: tuple[Stage, ...]
    feeds: tuple[str, ...]
    heard: bool
    context: Context
    latency: int


@dataclass(frozen=True)
class Plan:
    """All strips of a session; a strip stands behind everything that it depends on."""

    strips: tuple[StripPlan, ...]
    main: str
    rate: int
    frames: int

    def strip(self, strip_id: str) -> StripPlan:
        """Return one strip's plan."""
        return next(s for s in self.strips if s.strip.id == strip_id)


def make_plan(session: Session, *, observe: str | None = None, observe_all: bool = False) -> Plan:
    """Return the plan of a session.

    observe: a strip whose stages also report what only pictures need; observe_all: every one.

    Raises:
        RoutingError: an output leads nowhere or in a circle, or the engine cannot run a part.
        SettingError: a stage's values do not go together.
    """
    if not session.strips:
        raise RoutingError(f"“{session.name}” has no strips yet")
    _refuse_what_is_not_there(session)
    by_id = {s.id: s for s in session.strips}
    for strip in session.strips:
        _check_output(strip, by_id)
    heard = _heard(session)
    plans = []
    for strip in _in_order(session, by_id):
        feeds = tuple(s.id for s in session.strips if _output(s, session) == strip.id)
        channels = strip.channels if strip.kind == "track" else 2
        context = Context(session.rate, channels, session.bpm, observe_all or strip.id == observe)
        stages = tuple(e for e in strip.chain if isinstance(e, Stage))
        for stage in stages:
            _check_stage(stage, context)
        latency = sum(processor(s.kind).latency(s.params, session.rate) for s in stages)
        plans.append(StripPlan(strip, stages, feeds, strip.id in heard, context, latency))
    return Plan(tuple(plans), session.main().id, session.rate, session.frames())


def _check_stage(stage: Stage, context: Context) -> None:
    try:
        processor(stage.kind).controls(stage.params, context)
    except SettingError as error:
        raise SettingError(f"stage {stage.id}: {error}") from None
    if stage.key.source != "own":
        raise RoutingError(
            f"stage {stage.id}: the key {stage.key.source} cannot be run yet; allowed: own"
        )


def _refuse_what_is_not_there(session: Session) -> None:
    for strip in session.strips:
        for element in strip.chain:
            if isinstance(element, Split):
                raise RoutingError(f"split {element.id} on {strip.name}: cannot be run yet")
        if strip.sends:
            raise RoutingError(f"{strip.name}: sends cannot be run yet")
    if session.levers:
        raise RoutingError(f"lever {session.levers[0].name}: levers cannot be run yet")
    if session.automation:
        owner = session.automation[0].owner
        raise RoutingError(f"automation of {owner}: cannot be run yet")


def _output(strip: Strip, session: Session) -> str | None:
    if strip.kind == "main":
        return None
    return strip.output or session.main().id


def _check_output(strip: Strip, by_id: dict[str, Strip]) -> None:
    if strip.kind == "main" or strip.output is None:
        return
    target = by_id.get(strip.output)
    if target is None:
        raise RoutingError(f"{strip.name}: its output “{strip.output}” does not exist")
    if target.kind == "track":
        raise RoutingError(f"{strip.name}: its output {target.name} is a track, not a bus")


def _in_order(session: Session, by_id: dict[str, Strip]) -> list[Strip]:
    """Return the strips so that each follows all that feed it."""
    done: list[Strip] = []
    placed: set[str] = set()

    def place(strip: Strip, way: list[Strip]) -> None:
        if strip.id in placed:
            return
        if strip in way:
            circle = [*way[way.index(strip) :], strip]
            words = " feeds ".join(s.name for s in reversed(circle))
            raise RoutingError(f"the outputs form a loop: {words}")
        for other in session.strips:
            if _output(other, session) == strip.id:
                place(other, [*way, strip])
        placed.add(strip.id)
        done.append(strip)

    for strip in session.strips:
        place(strip, [])
    return done


def _heard(session: Session) -> set[str]:
    """Return the strips that pass sound on: solo leaves what feeds and carries the soloed."""
    soloed = [s for s in session.strips if s.solo]
    passing = {s.id for s in session.strips if not s.mute}
    if not soloed:
        return passing
    by_id = {s.id: s for s in session.strips}
    kept: set[str] = set()
    for strip in session.strips:
        way, at = [strip.id], _output(strip, session)
        while at is not None and len(way) <= len(by_id):
            way.append(at)
            at = _output(by_id[at], session)
        if any(s.id in way for s in soloed):
            kept.update([strip.id])
            if strip.solo:
                kept.update(way)
    return {s for s in kept if not by_id[s].mute}
