"""The whole session in operation: strips, faders, bus sums, main output."""

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from salt_anvil.core.dsp.gate import BLOCK, Sound
from salt_anvil.core.dsp.ramp import Glide
from salt_anvil.core.dsp.state import State
from salt_anvil.core.engine.plan import Plan, StripPlan
from salt_anvil.core.engine.strip import Fader, StripBlock, StripRunner
from salt_anvil.core.engine.unit import per_frame

CHECKPOINT = 64
"""Blocks between two checkpoints of a strip (65,536 frames)."""

Source = Callable[[str, int, int], Sound]
"""Gives frames [start, start + count) of the audio with this id, zeros outside it."""


@dataclass
class MixBlock:
    """Block k of everything: what each strip gave after its chain and after its fader."""

    strips: dict[str, StripBlock] = field(default_factory=dict)
    faded: dict[str, Sound] = field(default_factory=dict)


class Mixer:
    """Runs a plan; any strip can be asked for any block in rising order."""

    def __init__(self, plan: Plan, source: Source, *, tapped: bool = False) -> None:
        self._source = source
        self.plan, self._tapped = plan, tapped
        self._runners: dict[str, StripRunner] = {}
        self._faders: dict[str, Fader] = {}
        self._fading: dict[str, StripRunner] = {}
        self._recent: dict[tuple[str, int], tuple[StripBlock, Sound]] = {}
        self.position = 0
        self.keep: Callable[[str, int, State], None] | None = None
        for item in plan.strips:
            self._add(item)

    def _add(self, item: StripPlan) -> None:
        name = item.strip.id
        self._runners[name] = StripRunner(item, self._reader(name), tapped=self._tapped)
        self._runners[name].locate(self.position)
        self._faders[name] = Fader(item)

    def _reader(self, name: str) -> Callable[[int], Sound]:
        def read(j: int) -> Sound:
            item = self._runners[name].plan
            if item.strip.kind == "track":
                if item.strip.audio is None:
                    return np.zeros((BLOCK, item.context.channels))
                return self._source(item.strip.audio, j * BLOCK, BLOCK)
            return tree_sum([self.give(f, j)[1] for f in item.feeds])

        return read

    def block(self, names: tuple[str, ...] | None = None) -> MixBlock:
        """Return the next block of the named strips (all by default) and move on."""
        k = self.position
        result = MixBlock()
        for key in [key for key in self._recent if key[1] < k]:
            del self._recent[key]
        for item in self.plan.strips:
            name = item.strip.id
            if names is None or name in names:
                result.strips[name], result.faded[name] = self.give(name, k)
        self.position = k + 1
        return result

    def give(self, name: str, k: int) -> tuple[StripBlock, Sound]:
        """Return block k of a strip, computing up to it if it has not been."""
        runner = self._runners[name]
        while (name, k) not in self._recent:
            at = runner.next_out
            if self.keep is not None and at % CHECKPOINT == 0:
                self.keep(name, at, runner.checkpoint())
            block = runner.block()
            if name in self._fading:
                old = self._fading.pop(name).block()
                share = ((1 + np.arange(BLOCK)) / BLOCK)[:, None]
                block = replace(block, out=share * block.out + (1 - share) * old.out)
            self._recent[name, at] = (
                block, self._faders[name].apply(block.out, at * BLOCK),
            )  # fmt: skip
        return self._recent[name, k]

    def change(self, plan: Plan) -> None:
        """Move to another plan of the same rate in play: glide, or cross-fade new wiring."""
        self.plan = plan
        for item in plan.strips:
            name = item.strip.id
            runner = self._runners.get(name)
            if runner is None or runner.plan.context.channels != item.context.channels:
                self._add(item)
                continue
            self._faders[name].change(item)
            if runner.fits(item):
                runner.change(item)
            else:
                self._runners[name] = runner.rewired(item)
                self._fading[name] = runner
        for name in set(self._runners) - {s.strip.id for s in plan.strips}:
            del self._runners[name], self._faders[name]
            self._fading.pop(name, None)

    def locate(self, block: int, states: dict[str, State]) -> None:
        """Jump to a block; a strip without a stored state starts cold there."""
        self.position = block
        self._recent.clear()
        self._fading.clear()
        for item in self.plan.strips:
            name = item.strip.id
            self._faders[name].settle()
            if name in states:
                self._runners[name].restore(states[name])
            else:
                self._runners[name] = StripRunner(item, self._reader(name), tapped=self._tapped)
                self._runners[name].locate(block)

    def skip_to(self, block: int) -> None:
        """Go on from another block with the states as they are: warm, but not that place's own."""
        self.position = block
        self._recent.clear()
        self._fading.clear()
        for runner in self._runners.values():
            runner.locate(block)

    def runner(self, name: str) -> StripRunner:
        """Return the runner of a strip."""
        return self._runners[name]


class Shadow:
    """The same mix as it would be without one strip's chain, or one stage of it.

    Everything downstream of the strip runs a second time, fed with the tap before the watched
    place; the rest is shared with the mixer.
    """

    def __init__(self, mixer: Mixer, strip: str, watched: str) -> None:
        self._mixer, self._strip, self._watched = mixer, strip, watched
        self._fader = Fader(mixer.plan.strip(strip))
        self._gain = Glide(np.ones(1))
        self._recent: dict[tuple[str, int], Sound] = {}
        self._runners: dict[str, StripRunner] = {}
        self._faders: dict[str, Fader] = {}
        for item in _downstream(mixer.plan, strip):
            name = item.strip.id
            self._runners[name] = mixer.runner(name).clone(self._reader(item))
            self._faders[name] = Fader(item)

    def change(self, plan: Plan) -> None:
        """Follow the mixer to another plan of the same wiring."""
        self._fader.change(plan.strip(self._strip))
        for name, runner in self._runners.items():
            runner.change(plan.strip(name))
            self._faders[name].change(plan.strip(name))

    def level(self, gain: float) -> None:
        """Set the gain of the untreated strip, for comparing at the same loudness."""
        self._gain.to(np.array([gain]))

    def block(self, k: int) -> Sound:
        """Return the main output's block k, which the mixer must just have given."""
        for key in [key for key in self._recent if key[1] < k]:
            del self._recent[key]
        return self._give(self._mixer.plan.main, k)

    def _reader(self, item: StripPlan) -> Callable[[int], Sound]:
        def read(j: int) -> Sound:
            return tree_sum([self._give(f, j) for f in item.feeds])

        return read

    def _give(self, name: str, k: int) -> Sound:
        if name == self._strip:
            return self._untreated(k)
        if name not in self._runners:
            return self._mixer.give(name, k)[1]
        while (name, k) not in self._recent:
            at = self._runners[name].next_out
            out = self._runners[name].block().out
            self._recent[name, at] = self._faders[name].apply(out, at * BLOCK)
        return self._recent[name, k]

    def _untreated(self, k: int) -> Sound:
        if (self._strip, k) not in self._recent:
            before = self._mixer.give(self._strip, k)[0].taps[self._watched][0]
            start = k * BLOCK
            level = per_frame(self._gain.over(start, BLOCK), start, BLOCK)
            self._recent[self._strip, k] = self._fader.apply(before * level, start)
        return self._recent[self._strip, k]


def _downstream(plan: Plan, strip: str) -> list[StripPlan]:
    """Return the strips that the given one reaches, in order."""
    reached = {strip}
    found = []
    for item in plan.strips:
        if reached & set(item.feeds):
            reached.add(item.strip.id)
            found.append(item)
    return found


def tree_sum(sounds: list[Sound]) -> Sound:
    """Return the sum of stereo blocks, added pairwise in a fixed order."""
    if not sounds:
        return np.zeros((BLOCK, 2))
    while len(sounds) > 1:
        pairs = [a + b for a, b in zip(sounds[::2], sounds[1::2], strict=False)]
        sounds = pairs + sounds[len(pairs) * 2 :]
    return sounds[0]
