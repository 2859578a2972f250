"""What is to be run: strips, the ways between them, and what is known of them."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

from salt_anvil.core.audio import BLOCK
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.engine.automation import NONE, Lane, Lanes
from salt_anvil.core.engine.graph import Graph, Node, Point
from salt_anvil.core.errors import MissingError
from salt_anvil.core.processors import Context, processor
from salt_anvil.core.session import (
    Send,
    Stage,
    Strip,
    elements,
)

GROUP = 8
"""Inputs of a bus that are summed on their own, so that this sum can be kept."""

TAIL = 48
"""Blocks behind the end of the song that still sound; after them everything is silent."""

AllLanes = dict[str, dict[str, Lane]]

JoinMeasurements = Callable[[str], JoinMeasurement | None]
"""Gives what was measured for a steady join, by the digest of all that it depends on."""


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
    """What has to be measured first: its digest, and its measurement.

    name: of the split, the bus ("bus:ID") that is joined steadily, or the stage whose loudness
    before and after is compared.
    """

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
    exports: tuple[Point, ...]
    """Points inside the chain that other strips listen to, as "source/tap"."""
    joins: tuple[SteadyJoin, ...] = ()
    content_digest: str = ""
    audition_db: float = 0.0
    """Change of level behind the chain, for comparing at the same loudness; never printed."""
    groups: tuple[str, ...] = ()
    """Digests of the sums of a bus's groups of inputs, where it has more than one group."""

    @property
    def latency(self) -> int:
        """Frames by which the chain is late, made good by reading ahead."""
        return self.graph.late

    @cached_property
    def stages(self) -> tuple[Stage, ...]:
        """The processors of the chain, nested ones too, in the order of the chain."""
        return tuple(e for e in elements(self.strip.chain) if isinstance(e, Stage))

    @cached_property
    def output(self) -> Route:
        """The way out that is no send."""
        return next(r for r in self.routes if r.send is None)

    @cached_property
    def sources(self) -> frozenset[str]:
        """The strips that this one reads: what feeds it, and what its stages listen to."""
        return frozenset((*(r.strip for r in self.feeds), *(o.strip for o in self.graph.outside)))

    def own(self, owner: str) -> Lanes:
        """Return the lanes of a stage, split or branch of this strip, or of the strip."""
        return self.lanes.get(owner, NONE)

    def runs_like(self, other: "StripPlan") -> bool:
        """Say whether everything moves here as it does in another plan of the same strip."""
        if (self.strip, self.graph, self.context) != (other.strip, other.graph, other.context):
            return False
        if (self.lanes, self.audition_db) != (other.lanes, other.audition_db):
            return False
        return {j.name: j.measured for j in self.joins} == {j.name: j.measured for j in other.joins}

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

    @cached_property
    def _by_id(self) -> dict[str, StripPlan]:
        return {s.strip.id: s for s in self.strips}

    def strip(self, strip_id: str) -> StripPlan:
        """Return one strip's plan.

        Raises:
            MissingError: there is none.
        """
        try:
            return self._by_id[strip_id]
        except KeyError:
            raise MissingError(f"there is no strip “{strip_id}” here any more") from None

    @cached_property
    def blocks(self) -> int:
        """How many blocks can hold sound: the song's and those of its tail."""
        return -(-self.frames // BLOCK) + TAIL

    @cached_property
    def digests(self) -> dict[str, str]:
        """Every strip's content digest."""
        return {s.strip.id: s.content_digest for s in self.strips}

    def missing(self) -> list[SteadyJoin]:
        """Return the steady joins that are not measured."""
        return [j for s in self.strips for j in s.joins if j.measured is None]


def for_measuring(plan: Plan, strip: str, stage_id: str) -> Plan:
    """Return the plan with a stage as it is while its own loudness is measured."""
    item = plan.strip(strip)

    def at_rest(node: Node) -> Node:
        stage = node.element
        if not isinstance(stage, Stage) or stage.id != stage_id:
            return node
        params = processor(stage.kind).settled(stage.params, None, 1.0)
        # What it makes is measured, not what is mixed with it.
        whole = {"params": params, "mix": 1.0}
        return replace(node, element=stage.model_copy(update=whole))

    graph = replace(item.graph, nodes=tuple(at_rest(n) for n in item.graph.nodes))
    strips = tuple(replace(s, graph=graph) if s is item else s for s in plan.strips)
    return Plan(strips, plan.main, plan.rate, plan.frames)


def roll_blocks(plan: Plan) -> int:
    """Return the blocks to run after a restored state before every queue is full again."""
    return 1 + math.ceil(max(s.latency for s in plan.strips) / BLOCK)
