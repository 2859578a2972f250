"""A strip's chain as a flat list of nodes in dependency order, every input lined up."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from itertools import islice, product
from typing import Literal, NamedTuple

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp.crossover import linear_half
from salt_anvil.core.engine.automation import NONE, Lanes, latency_of, own_lanes
from salt_anvil.core.errors import RoutingError, SettingError
from salt_anvil.core.processors import Context, processor
from salt_anvil.core.processors.within import with_values
from salt_anvil.core.session import Element, Split, Stage, Strip

Role = Literal["stage", "split", "join"]


class Buffer(NamedTuple):
    """A sound inside a chain: what an element gives, a branch or the dry sound that a split opens
    into, what comes in, or what comes from a place in another strip."""

    of: str
    part: int | Literal["out", "dry", "in", "key"] = "out"

    def __str__(self) -> str:
        return self.of if self.part == "out" else f"{self.of}#{self.part}"


class Point(NamedTuple):
    """A place that can be a key: "strip:ID", "stage:ID" or "branch:ID", before or behind it."""

    source: str
    tap: Literal["in", "out"]

    def __str__(self) -> str:
        return f"{self.source}/{self.tap}"


Sounds = dict[Buffer, Sound]
INPUT = Buffer("", "in")


@dataclass(frozen=True)
class Wire:
    """A buffer, delayed by so many frames."""

    source: Buffer
    delay: int = 0


@dataclass(frozen=True)
class Node:
    """One step: a stage, the opening of a split, or its join.

    inputs: stage: sound (and key); split: sound; join: branches, the phase-true dry sound, the
    plain one. at: how late the lined-up inputs are; late: how late the outputs are.
    """

    role: Role
    element: Element
    inputs: tuple[Wire, ...]
    outputs: tuple[Buffer, ...]
    context: Context
    at: int = 0
    late: int = 0

    @property
    def name(self) -> str:
        """The element's id, with the role where a split has two nodes."""
        return self.element.id if self.role == "stage" else f"{self.element.id}#{self.role}"


@dataclass(frozen=True)
class Tap:
    """A place to listen: the sound before it and after it, in step; or one sound alone."""

    wires: tuple[Wire, ...]
    late: int


@dataclass(frozen=True)
class Outside:
    """A signal of another strip that a stage listens to: "strip:ID", "stage:ID" or "branch:ID"."""

    strip: str
    source: str
    tap: Literal["in", "out"]

    @property
    def point(self) -> Point:
        """The place."""
        return Point(self.source, self.tap)

    @property
    def buffer(self) -> Buffer:
        """The buffer that it arrives in."""
        return Buffer(str(self.point), "key")


@dataclass(frozen=True)
class Graph:
    """A chain ready to run. late: frames by which its output is late."""

    nodes: tuple[Node, ...]
    output: Buffer
    late: int
    outside: tuple[Outside, ...]
    taps: Mapping[str, Tap]
    points: Mapping[Point, tuple[Buffer, int]] = field(default_factory=dict)
    """Every place that can be a key, with its buffer and how late it is."""
    channels: Mapping[Buffer, int] = field(default_factory=dict)
    """How many channels each buffer of the chain has."""


Locate = Callable[[str], str | None]
"""Gives the strip of every stage ("stage:ID") and branch ("branch:ID") of the session."""


def compile_chain(
    strip: Strip, context: Context, where: Locate, lanes: Mapping[str, Lanes]
) -> Graph:
    """Return a strip's chain as a graph; lanes: what moves by itself, by stage.

    Raises:
        RoutingError: a key leads nowhere, or in a circle. SettingError: values do not fit.
    """
    builder = _Builder(strip, where, context.channels, lanes)
    output = builder.chain(strip.chain, INPUT, context)
    return builder.finish(output)


class _Builder:
    """Collects nodes with named buffers, then orders them and lines them up."""

    def __init__(
        self, strip: Strip, where: Locate, channels: int, lanes: Mapping[str, Lanes]
    ) -> None:
        self.strip, self.where, self.channels, self.lanes = strip, where, channels, lanes
        self.nodes: list[Node] = []
        self.outside: dict[Point, Outside] = {}
        self.keys: dict[str, Point] = {}
        self.points = {Point(f"strip:{strip.id}", "in"): INPUT}
        self.taps: dict[str, tuple[Buffer, Buffer]] = {}

    def chain(self, elements: list[Element], source: Buffer, context: Context) -> Buffer:
        for element in elements:
            if isinstance(element, Split):
                source = self.split(element, source, context)
            else:
                source = self.stage(element, source, context)
        return source

    def stage(self, stage: Stage, source: Buffer, context: Context) -> Buffer:
        for form in _forms(stage, self.lanes.get(stage.id, NONE)):
            _check(form, context)
        key = self.key_of(stage)
        if key is not None:
            self.keys[stage.id] = key
        node = Node("stage", stage, (Wire(source),), (Buffer(stage.id),), context)
        return self.ends(node, source)

    def ends(self, node: Node, source: Buffer) -> Buffer:
        """Append the node that an element ends with, and name the places around the element."""
        self.nodes.append(node)
        out, name = Buffer(node.element.id), f"stage:{node.element.id}"
        self.points |= {Point(name, "in"): source, Point(name, "out"): out}
        self.taps[node.element.id] = (source, out)
        return out

    def split(self, split: Split, source: Buffer, context: Context) -> Buffer:
        if _narrow(split) and context.channels == 1:
            what = "middle and sides" if split.by == "mid-side" else "left and right"
            raise RoutingError(f"split {split.id} on {self.strip.name}: mono sound has no {what}")
        inner = replace(context, channels=1) if _narrow(split) else context
        opened = tuple(Buffer(split.id, i) for i in range(len(split.branches)))
        dry = Buffer(split.id, "dry")
        self.nodes.append(Node("split", split, (Wire(source),), (*opened, dry), context))
        ends = []
        for branch, start in zip(split.branches, opened, strict=True):
            end = self.chain(branch.chain, start, inner)
            name = f"branch:{branch.id}"
            self.points |= {Point(name, "in"): start, Point(name, "out"): end}
            self.taps[branch.id] = (start, end)
            ends.append(Wire(end))
        inputs = (*ends, Wire(dry), Wire(source))
        return self.ends(Node("join", split, inputs, (Buffer(split.id),), context), source)

    def key_of(self, stage: Stage) -> Point | None:
        """Return the place that a stage listens to, None for its own input."""
        source, tap = stage.key.source, stage.key.tap
        if source == "own":
            return None
        kind = source.partition(":")[0]
        words = f"stage {stage.id}: its key {source}"
        if kind == "input":
            raise RoutingError(f"{words} is not bound to anything yet")
        owner = self.where(source)
        if owner is None:
            raise RoutingError(f"{words} is not there")
        if owner != self.strip.id:
            outside = Outside(owner, source, tap)
            self.outside[outside.point] = outside
            return outside.point
        if kind == "strip" and tap == "out":
            raise RoutingError(
                f"stage {stage.id} and {self.strip.name} form a loop: the strip's"
                " output is its own key"
            )
        return Point(source, tap)

    def finish(self, output: Buffer) -> Graph:
        nodes = [self.keyed(node) for node in self.nodes]
        late = {INPUT: 0} | {o.buffer: 0 for o in self.outside.values()}
        done: list[Node] = []
        for node in _ordered(nodes):
            at = max(late[w.source] for w in node.inputs)
            wires = tuple(Wire(w.source, at - late[w.source]) for w in node.inputs)
            after = at + self.latency(node)
            late |= dict.fromkeys(node.outputs, after)
            done.append(replace(node, inputs=wires, at=at, late=after))
        taps = {
            name: Tap((Wire(a, late[b] - late[a]), Wire(b)), late[b])
            for name, (a, b) in self.taps.items()
        }
        taps["chain"] = Tap((Wire(INPUT, late[output]), Wire(output)), late[output])
        points = {name: (buffer, late[buffer]) for name, buffer in self.points.items()}
        points[Point(f"strip:{self.strip.id}", "out")] = (output, late[output])
        channels = {INPUT: self.channels} | {
            name: 1
            if node.role == "split" and _narrow(node.element) and name.part != "dry"
            else node.context.channels
            for node in done
            for name in node.outputs
        }
        return Graph(
            tuple(done), output, late[output], tuple(self.outside.values()), taps, points, channels
        )

    def latency(self, node: Node) -> int:
        if node.role == "stage" and isinstance(node.element, Stage):
            lanes = self.lanes.get(node.element.id, NONE)
            return latency_of(node.element, lanes, node.context.rate)
        if node.role == "split" and _linear(node.element):
            assert isinstance(node.element, Split)
            split = node.element
            return linear_half(split.crossovers_hz, split.slope, node.context.rate)
        return 0

    def keyed(self, node: Node) -> Node:
        """Return the node with what it listens to."""
        key = self.keys.get(node.element.id)
        if key is None:
            return node
        outside = self.outside.get(key)
        heard = self.points[key] if outside is None else outside.buffer
        return replace(node, inputs=(*node.inputs, Wire(heard)))


def _ordered(nodes: list[Node]) -> list[Node]:
    """Return the nodes so that each follows all that it reads from."""
    by_output = {name: node for node in nodes for name in node.outputs}
    done: list[Node] = []
    placed: set[str] = set()

    def place(node: Node, way: list[Node]) -> None:
        if node.name in placed:
            return
        if node in way:
            circle = [*way[way.index(node) :], node]
            words = " needs ".join(n.element.id for n in circle)
            raise RoutingError(f"the keys form a loop: {words}")
        for wire in node.inputs:
            before = by_output.get(wire.source)
            if before is not None:
                place(before, [*way, node])
        placed.add(node.name)
        done.append(node)

    for node in nodes:
        place(node, [])
    return done


def _linear(element: Element) -> bool:
    return isinstance(element, Split) and element.by == "bands" and element.phase == "linear"


def _narrow(element: Element) -> bool:
    """Say whether a split's branches are mono."""
    return isinstance(element, Split) and element.by in ("mid-side", "left-right")


def _forms(stage: Stage, lanes: Lanes) -> list[Stage]:
    """Return a stage in every setting that its stepped lanes can bring it into."""
    names = [n for n, lane in own_lanes(stage, lanes).items() if not lane.scale_in_force.glides]
    combinations = product(*(lanes[n].words() for n in names))
    return [
        stage.model_copy(
            update={"params": with_values(stage.params, dict(zip(names, values, strict=True)))}
        )
        for values in islice(combinations, 200)
    ]


def _check(stage: Stage, context: Context) -> None:
    item = processor(stage.kind)
    try:
        item.controls(stage.params, context)
    except SettingError as error:
        raise SettingError(f"stage {stage.id}: {error}") from None
    if stage.key.source == "own":
        return
    if not item.has_sidechain:
        raise RoutingError(f"stage {stage.id}: {item.title.lower()} does not listen to a key")
    try:
        item.check_outside_key(stage.params)
    except SettingError as error:
        raise SettingError(f"stage {stage.id}: {error}") from None
