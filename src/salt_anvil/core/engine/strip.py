"""A strip in operation: trim, chain, and an output that always stands on the timeline."""

import math
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.dsp.gate import BLOCK, GRID, Sound
from salt_anvil.core.dsp.ramp import Glide
from salt_anvil.core.dsp.state import State
from salt_anvil.core.engine.fifo import Fifo
from salt_anvil.core.engine.plan import StripPlan
from salt_anvil.core.engine.unit import Unit, per_frame

CELLS = BLOCK // GRID
HISTORY = 16
"""Blocks of input kept, over which a newly wired chain is rolled before it is heard."""

Reader = Callable[[int], Sound]
"""Gives input block number j, frames [1024 j, 1024 j + 1024) of the timeline."""


@dataclass
class StripBlock:
    """A strip's frames [1024 k, 1024 k + 1024) of the timeline, after the chain.

    taps: for every stage, and for "chain", the sound before it (in step) and after it, if asked
    for. cells: what the stages report for these frames.
    """

    out: Sound
    taps: dict[str, tuple[Sound, Sound]] = field(default_factory=dict)
    cells: dict[str, dict[str, Sound]] = field(default_factory=dict)


class StripRunner:
    """Runs one strip block by block; reads its input ahead by the chain's latency.

    tapped: also give the sound before and after every stage and the whole chain.
    """

    def __init__(self, plan: StripPlan, read: Reader, *, tapped: bool = False) -> None:
        self.plan, self._read, self._tapped = plan, read, tapped
        self.units = [Unit(stage, plan.context) for stage in plan.stages]
        self._trim = Glide(np.array([_trim_gain(plan)]))
        self._history: deque[Sound] = deque(maxlen=HISTORY)
        self.locate(0)

    def locate(self, block: int) -> None:
        """Stand before a block with the queues empty; states stay as they are."""
        self.next_in = self.next_out = block
        channels = self.plan.context.channels
        self._out = Fifo(block * BLOCK, channels)
        names = [*(s.id for s in self.plan.stages), "chain"] if self._tapped else []
        self._taps = {name: Fifo(block * BLOCK, 2 * channels) for name in names}
        self._cells: dict[tuple[str, str], Fifo] = {}
        self._waiting: Fifo | None = None

    def block(self) -> StripBlock:
        """Return the next output block and move on."""
        end = (self.next_out + 1) * BLOCK
        while self._out.end < end:
            self._advance()
        out = self._out.take(BLOCK).astype(np.float32).astype(np.float64)
        result = StripBlock(out)
        for name, fifo in self._taps.items():
            both = fifo.take(BLOCK)
            half = both.shape[1] // 2
            result.taps[name] = (both[:, :half], both[:, half:])
        for (stage, name), fifo in self._cells.items():
            result.cells.setdefault(stage, {})[name] = fifo.take(CELLS)
        self.next_out += 1
        return result

    def _advance(self) -> None:
        sound = self._read(self.next_in)
        self._history.append(sound)
        self._through(sound)

    def _through(self, sound: Sound) -> None:
        start = self.next_in * BLOCK
        sound = self._trimmed(sound, start)
        entered, late = sound, 0
        inputs: dict[str, tuple[int, Sound, Sound]] = {}
        for unit in self.units:
            passed = unit.process(sound, start - late)
            late += unit.latency
            name = unit.stage.id
            if name in self._taps:
                inputs[name] = (start - late, passed.dry, passed.out)
            for key, rows in passed.report.cells.items():
                self._queue_cells(name, key, passed.report.first, rows)
            sound = passed.out
        self._out.put(start - late, sound)
        for name, (at, dry, out) in inputs.items():
            self._taps[name].put(at, np.concatenate([dry, out], axis=1))
        if "chain" in self._taps:
            self._tap_chain(start, late, entered, sound)
        self.next_in += 1

    def _tap_chain(self, start: int, late: int, entered: Sound, sound: Sound) -> None:
        """Queue the whole chain's two sides; the side before it waits for the side after."""
        if self._waiting is None:
            self._waiting = Fifo(start - late, entered.shape[1])
            self._waiting.put(start - late, np.zeros((late, entered.shape[1])))
        self._waiting.put(start, entered)
        before = self._waiting.take(BLOCK)
        self._taps["chain"].put(start - late, np.concatenate([before, sound], axis=1))

    def _queue_cells(self, stage: str, name: str, first: int, rows: Sound) -> None:
        fifo = self._cells.get((stage, name))
        if fifo is None:
            fifo = Fifo(self.next_out * CELLS, rows.shape[1])
            self._cells[stage, name] = fifo
        fifo.put(first, rows)

    def _trimmed(self, sound: Sound, start: int) -> Sound:
        if not self._trim.moving and self._trim.value[0] == 1.0:
            return sound
        return sound * per_frame(self._trim.over(start, len(sound)), start, len(sound))

    def fits(self, plan: StripPlan) -> bool:
        """Say whether a changed plan needs no new runner."""
        return len(plan.stages) == len(self.units) and all(
            unit.stage.id == stage.id and unit.fits(stage, plan.context)
            for unit, stage in zip(self.units, plan.stages, strict=True)
        )

    def change(self, plan: StripPlan) -> None:
        """Move to other settings of the same wiring without a click."""
        for unit, stage in zip(self.units, plan.stages, strict=True):
            unit.change(stage, plan.context)
        self._trim.to(np.array([_trim_gain(plan)]))
        self.plan = plan

    def rewired(self, plan: StripPlan) -> "StripRunner":
        """Return a runner of another wiring that stands where this one stands, warm.

        Stages that stay go on from a copy of their state; the whole chain is rolled over the
        last blocks of input, so that no delay line and no detector starts empty.
        """
        other = StripRunner(plan, self._read, tapped=self._tapped)
        mine = {unit.stage.id: unit for unit in self.units}
        for index, stage in enumerate(plan.stages):
            old = mine.get(stage.id)
            if old is not None and old.fits(stage, plan.context):
                other.units[index] = old.clone()
                other.units[index].change(stage, plan.context)
        other._trim = self._trim.clone()
        other._trim.to(np.array([_trim_gain(plan)]))
        past = list(self._history)
        other.locate(self.next_in - len(past))
        for sound in past:
            other._history.append(sound)
            other._through(sound)
        other._drop_before(self.next_out)
        return other

    def _drop_before(self, block: int) -> None:
        self._out.drop_to(block * BLOCK)
        for fifo in self._taps.values():
            fifo.drop_to(block * BLOCK)
        for fifo in self._cells.values():
            fifo.drop_to(block * CELLS)
        self.next_out = block

    def clone(self, read: Reader) -> "StripRunner":
        """Return an independent runner at the same place with another input."""
        other = StripRunner(self.plan, read, tapped=self._tapped)
        other.units = [unit.clone() for unit in self.units]
        other._trim = self._trim.clone()
        other.next_in, other.next_out = self.next_in, self.next_out
        other._out = self._out.clone()
        other._taps = {name: fifo.clone() for name, fifo in self._taps.items()}
        other._waiting = self._waiting.clone() if self._waiting else None
        return other

    def checkpoint(self) -> State:
        """Return everything needed to go on with the next output block.

        Queued taps and reports are not kept: roll over more than the latency to fill them.
        """
        state = State(
            position=np.array([self.next_in, self.next_out], np.float64),
            out=self._out.rows.copy(),
        )
        for unit in self.units:
            state.nest(f"{unit.stage.id}/", unit.state())
        return state

    def restore(self, state: State) -> None:
        """Go on from a checkpoint of a strip with the same settings."""
        next_in, next_out = (int(v) for v in state["position"])
        self.locate(next_out)
        self.next_in = next_in
        self._out.rows = state["out"].copy()
        for unit in self.units:
            unit.restore(state.nested(f"{unit.stage.id}/"))
        self._trim = Glide(self._trim.target)
        self._history.clear()


def _trim_gain(plan: StripPlan) -> float:
    return to_gain(plan.strip.trim_db) * (-1.0 if plan.strip.invert else 1.0)


class Fader:
    """What follows the chain: fader, pan or balance, mute; two channels out."""

    def __init__(self, plan: StripPlan) -> None:
        self._glide = Glide(fader_gains(plan))

    def change(self, plan: StripPlan) -> None:
        """Glide to another fader, pan or mute."""
        self._glide.to(fader_gains(plan))

    def settle(self) -> None:
        """Stand at the target, as after a jump."""
        self._glide = Glide(self._glide.target)

    def apply(self, sound: Sound, start: int) -> Sound:
        """Return the block with the gains on it, shape (frames, 2)."""
        ramp = self._glide.over(start, len(sound))
        stereo = sound if sound.shape[1] == 2 else np.repeat(sound, 2, axis=1)
        if not self._glide.moving and not ramp.step.any():
            gains = ramp.value[0]
            return stereo if gains[0] == 1.0 == gains[1] else stereo * gains
        at = np.arange(len(sound)) + start % GRID
        k = at // GRID
        return np.asarray(stereo * (ramp.value[k] + ramp.step[k] * (at % GRID)[:, None]))


def fader_gains(plan: StripPlan) -> Sound:
    """Return the gains of left and right.

    A mono strip is panned at equal power (centre -3.01 dB, common definition: cos and sin); a
    stereo one is balanced: 0 dB at the centre, the far side falls along a cosine.
    """
    strip = plan.strip
    gain = to_gain(strip.fader_db) if strip.fader_db > -90 and plan.heard else 0.0
    pan = strip.pan
    if plan.context.channels == 1:
        angle = (pan + 1) * math.pi / 4
        return gain * np.array([math.cos(angle), math.sin(angle)])
    left = math.cos(max(pan, 0.0) * math.pi / 2)
    right = math.cos(max(-pan, 0.0) * math.pi / 2)
    return gain * np.array([left, right])
