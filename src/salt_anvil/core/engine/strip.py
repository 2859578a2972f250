"""A strip in operation: trim, chain, and an output that always stands on the timeline."""

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from salt_anvil.core.audio import BLOCK, GRID, Sound, as_block, rounded, without_nonfinite
from salt_anvil.core.dsp.automation_ramp import AutomationRamp, Trajectory
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.dsp.delay import delayed
from salt_anvil.core.dsp.stereo import doubled
from salt_anvil.core.engine.automation import Lanes, Values, following
from salt_anvil.core.engine.fifo import Cells, Rope
from salt_anvil.core.engine.graph import INPUT, Node, Outside, Point, Sounds, Wire
from salt_anvil.core.engine.pieces import blocks_of
from salt_anvil.core.engine.plan import StripPlan
from salt_anvil.core.engine.splits import Division, Joining, of_node
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.session import Stage, Strip
from salt_anvil.core.state import State

CELLS = BLOCK // GRID
ROLL = 16
"""Blocks of past input over which a newly wired chain is rolled before it is heard, at least."""
HISTORY = 64
"""Blocks of past input that are kept for that."""
AT_ONCE = 64
"""Blocks that are computed in one go, at most, where it is known that they will be asked for."""
CHECKPOINT = 64
"""Blocks between two checkpoints of a strip (65,536 frames)."""

Reader = Callable[[int, int], Sound]
"""Gives so many input blocks from number j on, which begins at frame 1024 j of the timeline."""
Taps = frozenset[str] | None
"""Places of a chain whose sound is given before and after; None for every one."""
NO_TAPS: frozenset[str] = frozenset()
KeyReader = Callable[[Outside, int, int], Sound]
"""Gives so many blocks from number j on of a signal that the strip listens to."""


def no_keys(outside: Outside, j: int, count: int) -> Sound:
    """Give silence for a key that nobody provides."""
    return np.zeros((count * BLOCK, 1))


@dataclass
class StripBlock:
    """A strip's frames [1024 k, 1024 k + 1024) of the timeline, after the chain.

    taps: for every stage, split and branch, and for "chain", the sound before it (in step) and
    after it; for "key:STAGE" what that stage hears, twice; all if asked for. points: what other
    strips listen to. cells: what the stages report for these frames.
    """

    out: Sound
    taps: dict[str, tuple[Sound, Sound]] = field(default_factory=dict)
    points: dict[Point, Sound] = field(default_factory=dict)
    cells: dict[str, dict[str, Sound]] = field(default_factory=dict)

    def part(self, first: int, count: int) -> "StripBlock":
        """Return some of several blocks."""
        if count * BLOCK == len(self.out):
            return self
        frames = slice(first * BLOCK, (first + count) * BLOCK)
        cells = slice(first * CELLS, (first + count) * CELLS)
        return StripBlock(
            self.out[frames],
            {name: (a[frames], b[frames]) for name, (a, b) in self.taps.items()},
            {name: sound[frames] for name, sound in self.points.items()},
            {s: {n: c[cells] for n, c in told.items()} for s, told in self.cells.items()},
        )


class _Step:
    """One node in operation, with the delays that line its inputs up."""

    def __init__(self, node: Node, plan: StripPlan) -> None:
        self.node = node
        self.past = [_Past(w) for w in node.inputs]
        self.unit: Unit | None = None
        self.division: Division | None = None
        self.joining: Joining | None = None
        element = node.element
        if isinstance(element, Stage):
            self.unit = Unit(element, node.context, plan.own(element.id))
        elif node.role == "split":
            self.division = Division(element, node.context, plan.own(element.id))
        else:
            self.joining = Joining(element, node.context, plan.lanes, plan.measurement(element.id))

    def clone(self) -> "_Step":
        other = object.__new__(_Step)
        other.node = self.node
        other.past = [p.clone() for p in self.past]
        other.unit = self.unit.clone() if self.unit else None
        other.division = self.division.clone() if self.division else None
        other.joining = self.joining.clone() if self.joining else None
        return other

    def alike(self, node: Node) -> bool:
        """Say whether this step can do another node's work, apart from the delays before it."""
        mine, other = self.node.element, node.element
        if self.node.name != node.name:
            return False
        if isinstance(other, Stage):
            if self.unit is None or self.unit.latency != node.late - node.at:
                return False
            return self.unit.fits(other, node.context)
        if isinstance(mine, Stage):
            return False
        part = self.division or self.joining
        return part is not None and part.fits(other, node.context)

    def fits(self, node: Node) -> bool:
        """Say whether this step can go on as another node."""
        return self.node.inputs == node.inputs and self.alike(node)

    def change(self, node: Node, plan: StripPlan) -> None:
        self.node = node
        element = node.element
        if self.unit is not None and isinstance(element, Stage):
            self.unit.change(element, node.context, plan.own(element.id))
        elif self.division is not None:
            self.division.change(of_node(node), plan.own(element.id))
        elif self.joining is not None:
            split = of_node(node)
            self.joining.change(split, plan.lanes, plan.measurement(split.id))

    def run(self, sounds: Sounds, start: int) -> dict[str, Sound] | None:
        """Read the inputs, write the outputs; return a stage's report, in cells."""
        node, at = self.node, start - self.node.at
        if self.unit is not None:
            sound, *keys = self.past
            key = None
            if keys:
                key = _fitted(keys[0].through(sounds), node.context.channels)
            passed = self.unit.process(sound.through(sounds), at, key, clean=True)
            sounds[node.outputs[0]] = passed.out
            self.first = passed.report.first
            return passed.report.cells
        inputs = [p.through(sounds) for p in self.past]
        if self.division is not None:
            found = self.division.run(inputs[0], at)
            sounds.update(zip(node.outputs, found, strict=True))
        elif self.joining is not None:
            *branches, dry, plain = inputs
            sounds[node.outputs[0]] = self.joining.run(branches, dry, plain, at)
        return None

    first = 0

    def state(self) -> State:
        whole = State()
        for index, past in enumerate(self.past):
            if past.rows is not None:
                whole[f"wait{index}"] = past.rows.copy()
        for part in (self.unit, self.division):
            if part is not None:
                whole.nest("unit.", part.state())
        return whole

    def restore(self, state: State) -> None:
        for index, past in enumerate(self.past):
            past.rows = state[f"wait{index}"].copy() if f"wait{index}" in state else None
        for part in (self.unit, self.division):
            if part is not None:
                part.restore(state.nested("unit."))
        if self.joining is not None:
            self.joining.settle()


class _Past:
    """A wire with what is on its way through it."""

    def __init__(self, wire: Wire) -> None:
        self.wire = wire
        self.rows: Sound | None = None

    def clone(self) -> "_Past":
        other = _Past(self.wire)
        other.rows = None if self.rows is None else self.rows.copy()
        return other

    def through(self, sounds: Sounds) -> Sound:
        sound = sounds[self.wire.source]
        if self.wire.delay == 0:
            return sound
        if self.rows is None:
            self.rows = np.zeros((self.wire.delay, sound.shape[1]))
        elif self.rows.shape[1] != sound.shape[1]:
            # What is listened to has another number of channels since it was wired otherwise.
            self.rows = _fitted(self.rows, sound.shape[1])
        return delayed(sound, self.rows)


def _fitted(key: Sound, channels: int) -> Sound:
    """Return a key with as many channels as the stage: both get a mono one, or the mean."""
    if key.shape[1] == channels:
        return key
    if channels == 1:
        return np.asarray(key.mean(axis=1, keepdims=True))
    return doubled(key)


class StripRunner:
    """Runs one strip block by block; reads its input ahead by the chain's latency.

    taps: the places of the chain whose sound before and after is given as well. told: whether
    anybody looks at what the stages report.
    """

    def __init__(
        self,
        plan: StripPlan,
        read: Reader,
        read_key: KeyReader = no_keys,
        *,
        taps: Taps = NO_TAPS,
        told: bool = True,
    ) -> None:
        self.plan, self._read, self._read_key, self._taps = plan, read, read_key, taps
        self._steps = [_Step(node, plan) for node in plan.graph.nodes]
        self._told = told
        self._tell()
        self._trim = AutomationRamp(trim_trajectory(plan))
        self._history: deque[Sounds] = deque()
        """Past input, in pieces as it was read."""
        self._kept = 0
        """Frames of it."""
        self.nonfinite = 0
        self.until = 0
        """Blocks before this one are sure to be asked for: they are computed AT_ONCE at a time."""
        self.locate(0)

    @property
    def units(self) -> list[Unit]:
        """The stages in operation."""
        return [step.unit for step in self._steps if step.unit is not None]

    def _tell(self) -> None:
        for unit in self.units:
            unit.tell(self._told)

    def locate(self, block: int) -> None:
        """Stand before a block with the queues empty; states stay as they are."""
        self.next_in = self.next_out = block
        graph = self.plan.graph
        channels = self.plan.context.channels
        self._out = Rope(block * BLOCK, channels)
        self._queues: dict[str, tuple[Rope, Rope]] = {}
        self._points: dict[Point, Rope] = {}
        self._tap_past = {
            name: [_Past(w) for w in t.wires] for name, t in graph.taps.items() if self._taken(name)
        }
        self._find_listeners()
        self._cells: dict[str, Cells] = {}

    def _taken(self, name: str) -> bool:
        return self._taps is None or name in self._taps

    def _find_listeners(self) -> None:
        """Find the stages of which it is given what they hear."""
        self._listeners = [
            (f"key:{step.node.name}", step)
            for step in self._steps
            if step.unit is not None and self._taken(f"key:{step.node.name}")
        ]

    def watch(self, taps: Taps) -> None:
        """Give the sound at other places from now on, without a gap and without a trace.

        What is on its way already is computed once more beside it, from the last input.
        """
        known = self._taps
        self._taps = taps
        self._find_listeners()
        for name in [n for n in self._queues if not self._taken(n)]:
            del self._queues[name]
        self._tap_past = {n: past for n, past in self._tap_past.items() if self._taken(n)}
        if known is None or (taps is not None and taps <= known):
            return
        ghost = self.rewired(self.plan)
        for name, past in ghost._tap_past.items():
            self._tap_past.setdefault(name, past)
        for name, sides in ghost._queues.items():
            self._queues.setdefault(name, sides)

    def block(self) -> StripBlock:
        """Return the next output block and move on."""
        return self.take(1)

    def take(self, count: int) -> StripBlock:
        """Return the next output blocks as one and move on."""
        end = self.next_out + count
        while self._out.end < end * BLOCK:
            self._advance(self._reads_next(self._out.end, end) - self.next_in)
        result = StripBlock(rounded(*self._out.take_parts(count * BLOCK)))
        for name, (before, after) in self._queues.items():
            result.taps[name] = (before.take(count * BLOCK), after.take(count * BLOCK))
        for point, rope in self._points.items():
            result.points[point] = rounded(*rope.take_parts(count * BLOCK))
        for stage, cells in self._cells.items():
            result.cells[stage] = cells.take(count * CELLS)
        self.next_out = end
        return result

    def reads(self, block: int) -> int:
        """Return before which input block it reads to give everything before an output block."""
        return -(-(block * BLOCK + self.plan.graph.late) // BLOCK)

    def will_read(self, block: int) -> int:
        """Return before which input block it will have read when it is asked for all before an
        output block: some are computed with the last of them."""
        end, reads = self._out.end, self.next_in
        while end < block * BLOCK:
            reads = self._reads_next(end, block)
            end = reads * BLOCK - self.plan.graph.late
        return reads

    def _reads_next(self, done: int, end: int) -> int:
        """Return up to where it reads next: it has given `done` frames, and blocks before `end` are
        asked for."""
        at = done // BLOCK
        return self.reads(max(min(at + AT_ONCE, max(self.until, end)), at + 1))

    def _advance(self, count: int) -> None:
        """Read so many blocks, and take them through the chain in one go."""
        given = self._entered(self.next_in, count)
        self._remember(given)
        self._through(given)

    def _remember(self, given: Sounds) -> None:
        """Keep what was read, and HISTORY blocks with it at least, if there were so many."""
        self._history.append(given)
        self._kept += len(given[INPUT])
        while self._kept - len(self._history[0][INPUT]) >= HISTORY * BLOCK:
            self._kept -= len(self._history.popleft()[INPUT])

    def _entered(self, j: int, count: int) -> Sounds:
        entered, bad = without_nonfinite(as_block(self._read(j, count)))
        self.nonfinite += bad
        sounds = {INPUT: entered}
        for outside in self.plan.graph.outside:
            key = as_block(self._read_key(outside, j, count))
            if len(key) != len(entered):  # kernels would read on behind it
                raise AssertionError(f"{len(key)} frames of a key for {len(entered)} of sound")
            sounds[outside.buffer] = without_nonfinite(key)[0]
        return sounds

    def _through(self, given: Sounds) -> None:
        start = self.next_in * BLOCK
        entered = given[INPUT]
        sounds = given | {INPUT: self._trimmed(entered, start)}
        graph = self.plan.graph
        for step in self._steps:
            cells = step.run(sounds, start)
            if cells:
                queue = self._cells.get(step.node.name)
                if queue is None:
                    queue = self._cells[step.node.name] = Cells(self.next_out * CELLS)
                queue.put(step.first, cells)
        self._out.put(start - graph.late, sounds[graph.output])
        for name in self.plan.exports:
            buffer, late = graph.points[name]
            if name not in self._points:
                self._points[name] = Rope(self.next_out * BLOCK, sounds[buffer].shape[1])
            self._points[name].put(start - late, sounds[buffer])
        self._tap(sounds, start)
        self.next_in += len(entered) // BLOCK

    def _tap(self, sounds: Sounds, start: int) -> None:
        taps = self.plan.graph.taps
        for name, past in self._tap_past.items():
            before, after = (p.through(sounds) for p in past)
            self._put(name, start - taps[name].late, before, after)
        for name, step in self._listeners:
            if step.unit is not None and step.unit.heard is not None:
                heard = step.unit.heard
                self._put(name, start - step.node.at, heard, heard)

    def _put(self, name: str, at: int, before: Sound, after: Sound) -> None:
        """Append the sound on both sides of a place."""
        if name not in self._queues:
            self._queues[name] = (
                Rope(self.next_out * BLOCK, before.shape[1]),
                Rope(self.next_out * BLOCK, after.shape[1]),
            )
        for rope, sound in zip(self._queues[name], (before, after), strict=True):
            rope.put(at, sound)

    def _trimmed(self, sound: Sound, start: int) -> Sound:
        return trimmed(sound, self._trim, start)

    def fits(self, plan: StripPlan) -> bool:
        """Say whether a changed plan needs no new runner."""
        graph = plan.graph
        if graph is self.plan.graph:
            return plan.exports == self.plan.exports
        return (
            len(graph.nodes) == len(self._steps)
            and graph.outside == self.plan.graph.outside
            and plan.exports == self.plan.exports
            and all(step.fits(node) for step, node in zip(self._steps, graph.nodes, strict=True))
        )

    def change(self, plan: StripPlan) -> None:
        """Move to other settings of the same wiring without a click."""
        same, self.plan = plan.runs_like(self.plan), plan
        if same:
            return
        for step, node in zip(self._steps, plan.graph.nodes, strict=True):
            step.change(node, plan)
        self._trim.to(trim_trajectory(plan))

    def rewired(self, plan: StripPlan) -> "StripRunner":
        """Return a runner of another wiring that stands where this one stands, warm.

        Stages that stay go on from a copy of their state; the whole chain is rolled over the
        last blocks of input, so that no delay line and no detector starts empty.
        """
        other = StripRunner(plan, self._read, self._read_key, taps=self._taps, told=self._told)
        mine = {step.node.name: step for step in self._steps}
        for index, node in enumerate(plan.graph.nodes):
            old = mine.get(node.name)
            if old is not None and old.alike(node):
                fresh = other._steps[index]
                other._steps[index] = old.clone()
                other._steps[index].past = fresh.past
                other._steps[index].change(node, plan)
        other._trim = self._trim.clone()
        other._trim.to(trim_trajectory(plan))
        longest = -(-3 * plan.latency // BLOCK)
        past = [block for piece in self._history for block in _by_block(piece)]
        past = past[-max(ROLL, longest) :]
        begin = self.next_in - len(past)
        other.locate(min(begin, self.next_out))
        other.next_in = begin
        for sounds in past:
            kept = {INPUT: sounds[INPUT]}
            for outside in plan.graph.outside:
                silent = np.zeros((BLOCK, 1))
                kept[outside.buffer] = sounds.get(outside.buffer, silent)
            other._remember(kept)
            other._through(kept)
        # Just behind a jump little of the past is known: what would have come of it is silent.
        graph = plan.graph
        other._out.put(self.next_in * BLOCK - graph.late, np.zeros((0, plan.context.channels)))
        other._drop_before(self.next_out)
        return other

    def _drop_before(self, block: int) -> None:
        self._out.drop_to(block * BLOCK)
        queued = (rope for sides in self._queues.values() for rope in sides)
        for rope in (*queued, *self._points.values()):
            rope.drop_to(block * BLOCK)
        for cells in self._cells.values():
            cells.drop_to(block * CELLS)
        self.next_out = block

    def clone(self, read: Reader, read_key: KeyReader, *, tapped: bool = True) -> "StripRunner":
        """Return an independent runner at the same place with another input, with or without
        its taps and reports."""
        other = StripRunner(self.plan, read, read_key, taps=self._taps if tapped else NO_TAPS)
        other._steps = [step.clone() for step in self._steps]
        other._find_listeners()
        other._told = self._told and tapped
        other._tell()
        other._trim = self._trim.clone()
        other.next_in, other.next_out = self.next_in, self.next_out
        other._out = self._out.clone()
        other._history, other._kept = self._history.copy(), self._kept
        other._queues = {
            n: (before.clone(), after.clone())
            for n, (before, after) in self._queues.items()
            if other._taken(n)
        }
        other._points = {n: rope.clone() for n, rope in self._points.items()}
        if other._told:
            other._cells = {n: cells.clone() for n, cells in self._cells.items()}
        other._tap_past = {
            n: [p.clone() for p in past] for n, past in self._tap_past.items() if other._taken(n)
        }
        return other

    def checkpoint(self) -> State:
        """Return everything needed to go on with the next output block.

        Queued taps and reports are not kept: roll over more than the latency to fill them.
        """
        state = State(
            position=np.array([self.next_in, self.next_out], np.float64),
            out=self._out.rows.copy(),
        )
        for name in self.plan.exports:
            if name in self._points:
                state[f"point:{name}"] = self._points[name].rows.copy()
        for step in self._steps:
            state.nest(f"{step.node.name}/", step.state())
        return state

    def restore(self, state: State) -> None:
        """Go on from a checkpoint of a strip with the same settings."""
        next_in, next_out = (int(v) for v in state["position"])
        self.locate(next_out)
        self.next_in = next_in
        self._out.rows = state["out"].copy()
        for name in self.plan.exports:
            if f"point:{name}" in state:
                rows = state[f"point:{name}"].copy()
                self._points[name] = Rope(next_out * BLOCK, rows.shape[1])
                self._points[name].rows = rows
        for step in self._steps:
            step.restore(state.nested(f"{step.node.name}/"))
        self._trim.settle()
        self._history.clear()
        self._kept = 0


def _by_block(piece: Sounds) -> list[Sounds]:
    """Return what was read in one go, block by block."""
    count = len(piece[INPUT]) // BLOCK
    return [{name: blocks_of(sound, i, 1) for name, sound in piece.items()} for i in range(count)]


def trimmed(sound: Sound, trim: AutomationRamp, start: int) -> Sound:
    """Return a block with the strip's trim on it."""
    ramp = trim.over(start, len(sound))
    if ramp.level(0) == 1.0:
        return sound
    return sound * ramp.frames(0, start, len(sound))


def trim_trajectory(plan: StripPlan) -> Trajectory:
    """Return the trim, polarity included, as a function of the grid point."""
    return trim_of(plan.strip, plan.own(plan.strip.id), plan.context.rate)


def trim_of(strip: Strip, lanes: Lanes, rate: int) -> Trajectory:
    """Return a strip's trim, polarity included, as a function of the grid point."""
    sign = -1.0 if strip.invert else 1.0

    def gain(now: Values) -> Sound:
        return np.array([sign * to_gain(now.get("trim_db", strip.trim_db))])

    return following({n: lane for n, lane in lanes.items() if n == "trim_db"}, rate, gain)
