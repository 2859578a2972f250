"""One stage in operation: key filter, processor, dry path, on and mix, and changes in play."""

from dataclasses import dataclass

import numpy as np

from salt_anvil.core.dsp import biquad
from salt_anvil.core.dsp.delay import delayed
from salt_anvil.core.dsp.gate import GRID, RAMP, Sound, as_block, without_nonfinite
from salt_anvil.core.dsp.ramp import Glide, Ramp
from salt_anvil.core.dsp.state import State
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import Context, Report, processor
from salt_anvil.core.processors.base import changes
from salt_anvil.core.session import Key, Stage


@dataclass(frozen=True)
class Passed:
    """What a unit gives for a block: the sound, the dry sound in step with it, the report."""

    out: Sound
    dry: Sound
    report: Report


class Unit:
    """A stage with its state; processes blocks of any length, one after another.

    A moved control glides. A switched one, or another key filter, runs the old state beside the
    new one and cross-fades over RAMP frames. A structural one needs a new unit (see `fits`).
    """

    def __init__(self, stage: Stage, context: Context) -> None:
        self.processor = processor(stage.kind)
        self.stage, self.context = stage, context
        self.latency = self.processor.latency(stage.params, context.rate)
        vector = self._vector(stage)
        self._glide = Glide(vector)
        self._mix = Glide(np.array([_share(stage)]))
        self._state = self.processor.prepare(stage.params, context)
        self._past = np.zeros((self.latency, context.channels))
        self._filter = _key_sections(stage.key, context.rate)
        self._filtered = np.zeros((len(self._filter), context.channels, 2))
        self._old: Unit | None = None
        self._fade_left = 0
        self.nonfinite = 0

    def _vector(self, stage: Stage) -> Sound:
        try:
            return self.processor.controls(stage.params, self.context)
        except SettingError as error:
            raise SettingError(f"stage {stage.id}: {error}") from None

    def clone(self) -> "Unit":
        """Return an independent unit at the same place."""
        other = object.__new__(Unit)
        other.__dict__.update(self.__dict__)
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

    def change(self, stage: Stage, context: Context) -> None:
        """Move to other settings without a click."""
        names = changes(type(stage.params), "switch")
        old = self.stage.params
        switched = any(getattr(stage.params, n) != getattr(old, n) for n in names)
        if switched or stage.key != self.stage.key:
            previous = self.clone()
            previous._old = None
            self._old, self._fade_left = previous, RAMP
        self.context = context
        self._glide.to(self._vector(stage))
        self._mix.to(np.array([_share(stage)]))
        if stage.key != self.stage.key:
            self._filter = _key_sections(stage.key, context.rate)
            self._filtered = np.zeros((len(self._filter), context.channels, 2))
        self.stage = stage

    def process(self, sound: Sound, start: int, key: Sound | None = None) -> Passed:
        """Return the block processed; key is another signal to listen to, or its own input.

        start: timeline frame of sound[0]; blocks must follow one another.
        """
        block, bad = without_nonfinite(as_block(sound))
        self.nonfinite += bad
        dry = delayed(block, self._past)
        wet, report = self._wet(block, block if key is None else key, start)
        if self._old is not None:
            wet = self._cross(wet, block, key, start)
        return Passed(self._mixed(wet, dry, start), dry, report)

    def _wet(self, block: Sound, key: Sound, start: int) -> tuple[Sound, Report]:
        heard = key
        if len(self._filter):
            heard = np.empty_like(key)
            biquad.filter_into(heard, key, self._filter, self._filtered)
        ramp = self._glide.over(start, len(block))
        return self.processor.process(
            block, heard, self.stage.params, self.context, ramp, self._state, start
        )

    def _cross(self, wet: Sound, block: Sound, key: Sound | None, start: int) -> Sound:
        assert self._old is not None
        old, _ = self._old._wet(block, block if key is None else key, start)
        done = RAMP - self._fade_left
        share = np.minimum((done + 1 + np.arange(len(block))) / RAMP, 1.0)[:, None]
        self._fade_left -= len(block)
        if self._fade_left <= 0:
            self._old, self._fade_left = None, 0
        return share * wet + (1.0 - share) * old

    def _mixed(self, wet: Sound, dry: Sound, start: int) -> Sound:
        still = not self._mix.moving
        ramp = self._mix.over(start, len(wet))
        if still and ramp.value[0, 0] == 1.0:
            return wet
        if still and ramp.value[0, 0] == 0.0:
            return dry
        share = per_frame(ramp, start, len(wet))
        return share * wet + (1.0 - share) * dry

    def state(self) -> State:
        """Return everything that the unit remembers, to be stored.

        A glide or a cross-fade in progress is not kept: a restored unit stands at its settings.
        """
        whole = State(past=self._past, filtered=self._filtered)
        whole.nest("in.", self._state)
        return whole.clone()

    def restore(self, state: State) -> None:
        """Go on from a stored state."""
        inner = State(state).nested("in.").clone()
        self._past, self._filtered = state["past"].copy(), state["filtered"].copy()
        self._state, self._old = inner, None
        self._glide, self._mix = Glide(self._glide.target), Glide(self._mix.target)


def per_frame(ramp: Ramp, start: int, frames: int) -> Sound:
    """Return the first control of a ramp for every frame, shape (frames, 1)."""
    at = np.arange(frames) + start % GRID
    k = at // GRID
    return np.asarray(ramp.value[k, 0] + ramp.step[k, 0] * (at % GRID))[:, None]


def _share(stage: Stage) -> float:
    return stage.mix if stage.on else 0.0


def _key_sections(key: Key, rate: int) -> Sound:
    """Return the key filter: Butterworth, 12 dB per octave on each side."""
    sections = []
    if key.low_hz is not None:
        sections.append(biquad.high_pass(key.low_hz, rate))
    if key.high_hz is not None:
        sections.append(biquad.low_pass(key.high_hz, rate))
    return np.array(sections).reshape(-1, 5)
