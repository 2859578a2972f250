"""The mix as it would be without one strip's chain, or one place of it."""

from collections import defaultdict
from copy import copy

import numpy as np

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.dsp.automation_ramp import AutomationRamp, Trajectory
from salt_anvil.core.engine.fader import BusJoin, Fader, group_sum
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.pieces import Pieces, blocks_of, one
from salt_anvil.core.engine.plan import GROUP, Plan, Route, StripPlan
from salt_anvil.core.engine.routing import downstream
from salt_anvil.core.engine.strip import Reader, StripRunner


class BypassMix:
    """The same mix as it would be without one strip's chain, or one place of it.

    Everything that the strip feeds runs a second time, with the tap before the watched place
    in its stead; keys and the rest are shared with the mixer.
    """

    def __init__(self, mixer: Mixer, strip: str, watched: str) -> None:
        self._mixer, self._strip, self._watched = mixer, strip, watched
        self._gain = AutomationRamp(_constant(1.0))
        self._outs: defaultdict[str, Pieces[Sound]] = defaultdict(Pieces)
        self._routed: defaultdict[tuple[str, str], Pieces[Sound]] = defaultdict(Pieces)
        self._runners: dict[str, StripRunner] = {}
        self._faders: dict[tuple[str, str], Fader] = {}
        self._joins: dict[str, BusJoin] = {}
        reached = downstream(mixer.plan, strip)
        for item in reached:
            name = item.strip.id
            self._runners[name] = mixer.runner(name).clone(
                self._reader(name), mixer.read_key, tapped=False
            )
            self._joins[name] = BusJoin(item)
            # What the mixer has computed ahead is behind its runner already.
            for j, block in mixer.ahead(name):
                self._outs[name].put(j, 1, block.out)
        for item in (mixer.plan.strip(strip), *reached):
            for route in item.routes:
                self._faders[item.strip.id, route.name] = Fader(item, route)

    def clone(self) -> "BypassMix":
        """Return an independent one at the same place, beside the same mixer."""
        other = copy(self)
        other._gain = self._gain.clone()
        other._outs = defaultdict(Pieces, {n: p.copy() for n, p in self._outs.items()})
        other._routed = defaultdict(Pieces, {w: p.copy() for w, p in self._routed.items()})
        other._runners = {
            name: runner.clone(other._reader(name), self._mixer.read_key, tapped=False)
            for name, runner in self._runners.items()
        }
        other._faders = {way: fader.clone() for way, fader in self._faders.items()}
        other._joins = {name: join.clone() for name, join in self._joins.items()}
        return other

    def change(self, plan: Plan) -> None:
        """Follow the mixer to another plan of the same wiring."""
        for name, runner in self._runners.items():
            runner.change(plan.strip(name))
            self._joins[name].change(plan.strip(name))
        for name, way in self._faders:
            item = plan.strip(name)
            route = next(r for r in item.routes if r.name == way)
            self._faders[name, way].change(item, route)

    def level(self, gain: float) -> None:
        """Set the gain of the untreated strip, for comparing at the same loudness."""
        self._gain.to(_constant(gain))

    def block(self, k: int) -> Sound:
        """Return the main output's block k, which the mixer must just have given."""
        for kept in (*self._outs.values(), *self._routed.values()):
            kept.drop_before(k)
        main = self._mixer.plan.main
        output = self._mixer.plan.strip(main).output
        sound, at, _ = self._faded(output, k, self._mixer.sure(main, k))[0]
        return blocks_of(sound, at, 1)

    def _reader(self, name: str) -> Reader:
        def read(j: int, count: int) -> Sound:
            item = self._mixer.plan.strip(name)
            return self._joins[name].join(self._inputs(item, j, count), j * BLOCK, count * BLOCK)

        return read

    def _inputs(self, item: StripPlan, j: int, count: int) -> list[Sound]:
        feeds = item.feeds
        sounds = [one([blocks_of(*part) for part in self._faded(r, j, count)]) for r in feeds]
        if len(feeds) <= GROUP:
            return sounds
        return [group_sum(sounds[i : i + GROUP]) for i in range(0, len(feeds), GROUP)]

    def _faded(self, route: Route, j: int, count: int) -> list[tuple[Sound, int, int]]:
        """Return what holds blocks of what is given on a way out, computing up to them."""
        name = route.strip
        if name != self._strip and name not in self._runners:
            return [(self._mixer.faded(route, j, count), 0, count)]
        kept = self._routed[name, route.name]
        first = kept.reach(j)
        if first < j + count:
            missing = j + count - first
            sound = self._out(name, first, missing)
            kept.put(first, missing, self._faders[name, route.name].apply(sound, first * BLOCK))
        return kept.cover(j, count)

    def _out(self, name: str, j: int, count: int) -> Sound:
        """Return blocks of what a strip gives here, computing up to them."""
        kept = self._outs[name]
        while (first := kept.reach(j)) < j + count:
            missing = j + count - first
            if name == self._strip:
                kept.put(first, missing, self._untreated(first, missing))
                continue
            runner = self._runners[name]
            at = runner.next_out
            if at > first:
                raise AssertionError(f"{name}: block {first} is wanted, and {at} comes next")
            runner.until = self._mixer.runner(name).until
            kept.put(at, first + missing - at, runner.take(first + missing - at).out)
        return one([blocks_of(*part) for part in kept.cover(j, count)])

    def _untreated(self, j: int, count: int) -> Sound:
        found = []
        for block, at, n in self._mixer.given(self._strip, j, count):
            # What was computed before anybody listened there has only what comes out.
            before = block.taps.get(self._watched, (block.out,))[0]
            found.append(blocks_of(before, at, n))
        start, frames = j * BLOCK, count * BLOCK
        return one(found) * self._gain.over(start, frames).frames(0, start, frames)


def _constant(value: float) -> Trajectory:
    return Trajectory.standing(np.array([value]))
