"""The mix as it would be without one strip's chain, or one place of it."""

import numpy as np

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.dsp.automation_ramp import AutomationRamp, Trajectory
from salt_anvil.core.engine.fader import BusJoin, Fader, group_sum
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.pieces import one
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
        self._recent: dict[tuple[str, str, int], Sound] = {}
        self._outs: dict[tuple[str, int], Sound] = {}
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
            self._outs |= {(name, j): block.out for j, block in mixer.ahead(name)}
        for item in (mixer.plan.strip(strip), *reached):
            for route in item.routes:
                self._faders[item.strip.id, route.name] = Fader(item, route)

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
        for key in [key for key in self._recent if key[2] < k]:
            del self._recent[key]
        for out in [out for out in self._outs if out[1] < k]:
            del self._outs[out]
        return self._faded(self._mixer.plan.strip(self._mixer.plan.main).output, k)

    def _reader(self, name: str) -> Reader:
        def read(j: int, count: int) -> Sound:
            item = self._mixer.plan.strip(name)
            join = self._joins[name].join
            return one([join(self._inputs(item, i), i * BLOCK) for i in range(j, j + count)])

        return read

    def _inputs(self, item: StripPlan, j: int) -> list[Sound]:
        feeds = item.feeds
        if len(feeds) <= GROUP:
            return [self._faded(r, j) for r in feeds]
        return [
            group_sum([self._faded(r, j) for r in feeds[i : i + GROUP]])
            for i in range(0, len(feeds), GROUP)
        ]

    def _faded(self, route: Route, k: int) -> Sound:
        name = route.strip
        if name != self._strip and name not in self._runners:
            return self._mixer.faded(route, k)
        key = (name, route.name, k)
        if key not in self._recent:
            self._recent[key] = self._faders[key[:2]].apply(self._out(name, k), k * BLOCK)
        return self._recent[key]

    def _out(self, name: str, k: int) -> Sound:
        while (name, k) not in self._outs:
            if name == self._strip:
                self._outs[name, k] = self._untreated(k)
                break
            at = self._runners[name].next_out
            if at > k:
                raise AssertionError(f"{name}: block {k} is wanted, and {at} comes next")
            self._runners[name].until = self._mixer.runner(name).until
            self._outs[name, at] = self._runners[name].block().out
        return self._outs[name, k]

    def _untreated(self, k: int) -> Sound:
        given = self._mixer.give(self._strip, k)
        # What was computed before anybody listened there has only what comes out.
        before = given.taps.get(self._watched, (given.out,))[0]
        start = k * BLOCK
        return before * self._gain.over(start, BLOCK).frames(0, start, BLOCK)


def _constant(value: float) -> Trajectory:
    return Trajectory.standing(np.array([value]))
