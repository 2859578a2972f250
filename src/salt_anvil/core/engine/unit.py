"""One stage in operation: key filter, processor, dry path, on and mix, and changes in play."""

from itertools import pairwise
from typing import NamedTuple

import numpy as np

from salt_anvil.core.audio import RAMP, Sound, as_block, without_nonfinite
from salt_anvil.core.dsp import biquad
from salt_anvil.core.dsp.automation_ramp import AutomationRamp, Trajectory
from salt_anvil.core.dsp.control_ramp import Ramp, Vector
from salt_anvil.core.dsp.crossfade import crossfaded
from salt_anvil.core.dsp.delay import delayed, keep
from salt_anvil.core.engine.automation import (
    NONE,
    Lanes,
    Values,
    following,
    latency_of,
    own_lanes,
    widest,
)
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import Context, Report, processor
from salt_anvil.core.processors.base import Setup, Step, changes
from salt_anvil.core.processors.parts import range_sections
from salt_anvil.core.processors.within import value_within, with_values
from salt_anvil.core.session import Split, Stage
from salt_anvil.core.state import State


class Passed(NamedTuple):
    """What a unit gives for a block: the sound and the report."""

    out: Sound
    report: Report


def step_cuts(start: int, frames: int) -> list[int]:
    """Return where a block is cut: what does not glide changes at multiples of RAMP."""
    first = -(-start // RAMP) * RAMP - start
    return sorted({0, *range(first, frames, RAMP), frames})


class Unit:
    """A stage with its state; processes blocks of any length, one after another.

    A moved control glides. A switched one, or another key filter, runs the old state beside the
    new one and cross-fades over RAMP frames. A structural one needs a new unit (see `fits`).
    told: whether it is asked for a report. lanes: controls of this stage that move by themselves;
    what does not glide is looked up at every RAMP frames of the timeline.
    """

    def __init__(self, stage: Stage, context: Context, lanes: Lanes = NONE) -> None:
        self.processor = processor(stage.kind)
        self.context = context
        self._set(stage, lanes)
        self.latency = latency_of(stage, lanes, context.rate)
        self._check()
        self._glide = AutomationRamp(self._trajectory())
        self._mix = AutomationRamp(self._share())
        self._state = self.processor.prepare(widest(stage, lanes), context)
        self._past = np.zeros((self.latency, context.channels))
        self._filter = range_sections(stage.key.low_hz, stage.key.high_hz, context.rate)
        self._filtered = np.zeros((len(self._filter), context.channels, 2))
        self.heard: Sound | None = None
        self._told = True
        self._old: Unit | None = None
        self._next: tuple[Stage, Context, Lanes] | None = None
        self._fade_left = 0
        self.nonfinite = 0

    _step: Step | None = None
    """What processes blocks as long as the controls stand, and those controls."""
    _standing: Ramp | None = None

    def tell(self, told: bool) -> None:
        """Say whether the unit is asked for reports."""
        self._told, self._step = told, None

    def _set(self, stage: Stage, lanes: Lanes) -> None:
        """Take a stage as it is written down; `stage` is what is in force."""
        self._step = None
        self.written, self.lanes = stage, lanes
        names = own_lanes(stage, lanes)
        self._stepped = {n: lane for n, lane in names.items() if not lane.scale_in_force.glides}
        self._smooth = {n: lane for n, lane in names.items() if lane.scale_in_force.glides}
        self.stage = self._at_step(-RAMP) if self._stepped else stage

    def _at_step(self, frame: int) -> Stage:
        """Return the stage with what does not glide as it is from a multiple of RAMP on."""
        seconds = frame / self.context.rate
        values = {n: lane.named_at(seconds) for n, lane in self._stepped.items()}
        if all(value_within(self.written.params, n) == v for n, v in values.items()):
            return self.written
        params = with_values(self.written.params, values)
        return self.written.model_copy(update={"params": params})

    def _check(self) -> None:
        try:
            self.processor.controls(self.stage.params, self.context)
        except SettingError as error:
            raise SettingError(f"stage {self.stage.id}: {error}") from None

    def _trajectory(self) -> Trajectory:
        """Return the controls as a function of the grid point, and whether it stands still."""
        item, params, context = self.processor, self.stage.params, self.context

        def controls(now: Values) -> Vector:
            return item.controls(with_values(params, now) if now else params, context)

        return following(self._smooth, context.rate, controls)

    def _share(self) -> Trajectory:
        return mix_trajectory(self.stage, self.lanes, self.context.rate)

    def clone(self) -> "Unit":
        """Return an independent unit at the same place."""
        other = object.__new__(Unit)
        other.__dict__.update(self.__dict__)
        other._step = None
        other._glide, other._mix = self._glide.clone(), self._mix.clone()
        other._state, other._past = self._state.clone(), self._past.copy()
        other._filtered = self._filtered.copy()
        other._old = self._old.clone() if self._old else None
        return other

    def fits(self, stage: Stage, context: Context) -> bool:
        """Say whether the change to this stage needs no new unit."""
        same_sound = (context.rate, context.channels) == (self.context.rate, self.context.channels)
        if not same_sound or stage.kind != self.stage.kind:
            return False
        fixed = changes(type(stage.params), "structural")
        return all(getattr(stage.params, n) == getattr(self.stage.params, n) for n in fixed)

    def change(self, stage: Stage, context: Context, lanes: Lanes = NONE) -> None:
        """Move to other settings without a click.

        While a cross-fade is under way, the newest change waits for its end.
        """
        if self._old is not None:
            self._next = (stage, context, lanes)
            return
        before = self.stage
        previous = self.clone()
        self.context = context
        self._set(stage, lanes)
        if self._stepped:
            self.stage = self._at_step(self._position // RAMP * RAMP)
        self._cross_from(previous, before)

    def _cross_from(self, previous: "Unit", before: Stage) -> None:
        self._step = None
        new, old = self.stage.params, before.params
        rearranged = False
        if self.processor.switches(old, new):
            self._old, self._fade_left = previous, RAMP
            rearranged = self.processor.carry(old, new, self._state)
        elif (
            self.stage.key.low_hz != before.key.low_hz
            or self.stage.key.high_hz != before.key.high_hz
        ):
            self._old, self._fade_left = previous, RAMP
        if rearranged:
            self._glide = AutomationRamp(self._trajectory())
        else:
            self._glide.to(self._trajectory())
        self._mix.to(self._share())
        if self.stage.key != before.key:
            self._filter = range_sections(
                self.stage.key.low_hz, self.stage.key.high_hz, self.context.rate
            )
            self._filtered = np.zeros((len(self._filter), self.context.channels, 2))

    _position = 0

    def process(
        self, sound: Sound, start: int, key: Sound | None = None, *, clean: bool = False
    ) -> Passed:
        """Return the block processed; key is another signal to listen to, or its own input.

        start: timeline frame of sound[0]; blocks must follow one another. clean: the sound comes
        from within the engine, in the right form and finite.
        """
        block, bad = (sound, 0) if clean else without_nonfinite(as_block(sound))
        self.nonfinite += bad
        if not self._stepped:
            return self._piece(block, start, key)
        cuts, pieces = step_cuts(start, len(block)), []
        for begin, end in pairwise(cuts):
            part = None if key is None else key[begin:end]
            pieces.append(self._piece(block[begin:end], start + begin, part))
        return pieces[0] if len(pieces) == 1 else _joined(pieces)

    def _piece(self, block: Sound, start: int, key: Sound | None) -> Passed:
        if self._stepped and start % RAMP == 0:
            self._position, stage = start, self._at_step(start)
            if stage.params != self.stage.params:
                before, previous = self.stage, self.clone()
                self.stage = stage
                self._cross_from(previous, before)
        wet, report = self._wet(block, block if key is None else key, start)
        if self._old is not None:
            wet = self._cross(wet, block, key, start)
        self._position = start + len(block)
        return Passed(self._mixed(wet, block, start), report)

    def _wet(self, block: Sound, key: Sound, start: int) -> tuple[Sound, Report]:
        heard = key
        if len(self._filter):
            heard = np.empty_like(key)
            biquad.filter_into(heard, key, self._filter, self._filtered)
        self.heard = heard
        ramp = self._glide.over(start, len(block))
        step = self._step
        if step is None or ramp is not self._standing:
            setup = Setup(self.stage.params, self.context, ramp, self._state, self._told)
            step = self.processor.step(setup)
            self._step, self._standing = (step, ramp) if ramp.still else (None, None)
        return step(block, heard, start)

    def _cross(self, wet: Sound, block: Sound, key: Sound | None, start: int) -> Sound:
        assert self._old is not None
        old, _ = self._old._wet(block, block if key is None else key, start)
        # What comes out first went in before the change, and in part another way.
        latency = self.processor.latency(self.stage.params, self.context.rate)
        crossed = crossfaded(wet, old, RAMP - self._fade_left, min(latency, RAMP // 2))
        self._fade_left -= len(block)
        if self._fade_left <= 0:
            self._old, self._fade_left = None, 0
            if self._next is not None:
                waiting, self._next = self._next, None
                self._position = start + len(block)
                self.change(*waiting)
        return crossed

    def _mixed(self, wet: Sound, block: Sound, start: int) -> Sound:
        ramp = self._mix.over(start, len(wet))
        level = ramp.level(0)
        if level == 1.0:
            keep(block, self._past)
            return wet
        dry = delayed(block, self._past)
        if level == 0.0:
            return dry
        share = ramp.frames(0, start, len(wet))
        return share * wet + (1.0 - share) * dry

    def state(self) -> State:
        """Return everything that the unit remembers, to be stored.

        A change by hand in progress is not kept: a restored unit stands at its settings. What
        the stage's own lanes have set off is.
        """
        whole = State(past=self._past, filtered=self._filtered)
        whole.nest("in.", self._state)
        if self._stepped:
            whole["step"] = np.array([self._position, self._fade_left], np.float64)
            whole.nest("glide.", self._glide.state())
            if self._old is not None:
                whole.nest("old.", self._old.state())
        return whole.clone()

    def restore(self, state: State) -> None:
        """Go on from a stored state."""
        whole = State(state)
        self._old, self._next, self._fade_left = None, None, 0
        self._take_parts(whole)
        if "step" not in state:
            self._glide.settle()
            self._mix.settle()
            return
        self._position, self._fade_left = (int(v) for v in state["step"])
        last = (self._position - 1) // RAMP * RAMP
        self._stand_at(last, whole)
        if self._fade_left:
            self._old = self.clone()
            self._old._take_parts(whole.nested("old."))
            self._old._stand_at(last - RAMP, whole.nested("old."))

    def _take_parts(self, state: State) -> None:
        self._step = None
        self._past, self._filtered = state["past"].copy(), state["filtered"].copy()
        self._state = state.nested("in.").clone()

    def _stand_at(self, step: int, state: State) -> None:
        self._step = None
        self.stage = self._at_step(step)
        self._glide, self._mix = AutomationRamp(self._trajectory()), AutomationRamp(self._share())
        self._glide.restore(state.nested("glide."))


def _joined(pieces: list[Passed]) -> Passed:
    """Return the pieces of one block as one."""
    cells: dict[str, Sound] = {}
    for name in pieces[0].report.cells:
        cells[name] = np.concatenate([p.report.cells[name] for p in pieces])
    report = Report(pieces[0].report.first, cells)
    return Passed(np.concatenate([p.out for p in pieces]), report)


def mix_trajectory(element: Stage | Split, lanes: Lanes, rate: int) -> Trajectory:
    """Return the share of the processed sound as a function of the grid point."""
    if not element.on:
        return Trajectory.standing(np.zeros(1))
    moving = {n: lane for n, lane in lanes.items() if n == "mix"}
    return following(moving, rate, lambda now: np.array([now.get("mix", element.mix)]))
