"""The whole session in operation: strips, ways between them, keys, bus sums, main output."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.dsp.automation_ramp import AutomationRamp
from salt_anvil.core.dsp.crossfade import crossfaded
from salt_anvil.core.engine.cached import CachedStrip, GroupSums
from salt_anvil.core.engine.fader import BusJoin, Fader, group_sum
from salt_anvil.core.engine.graph import Outside
from salt_anvil.core.engine.plan import GROUP, Plan, Route, StripPlan
from salt_anvil.core.engine.strip import (
    CHECKPOINT,
    NO_TAPS,
    StripBlock,
    StripRunner,
    Taps,
    trim_of,
    trimmed,
)
from salt_anvil.core.state import State

Source = Callable[[str, int, int], Sound]
"""Gives frames [start, start + count) of the audio with this id, zeros outside it."""


@dataclass
class MixBlock:
    """Block k of everything: what each strip gave after its chain and after its fader."""

    strips: dict[str, StripBlock] = field(default_factory=dict)
    faded: dict[str, Sound] = field(default_factory=dict)


class Mixer:
    """Runs a plan; any strip can be asked for any block in rising order.

    frozen: strips that are read, not run; groups: kept sums of groups that hold only such.
    tapped: give the sound before and after every place; otherwise only of what is watched, to
    begin with of these places of these strips.
    """

    def __init__(
        self,
        plan: Plan,
        source: Source,
        *,
        tapped: bool = False,
        watched: Mapping[str, Taps] | None = None,
        frozen: Mapping[str, CachedStrip] | None = None,
        groups: GroupSums = lambda digest: None,
    ) -> None:
        self._source, self._tapped = source, tapped
        self.plan = plan
        self._frozen = dict(frozen or {})
        self._groups = groups
        self._watched: dict[str, Taps] = dict(watched or {})
        self._runners: dict[str, StripRunner] = {}
        self._faders: dict[tuple[str, str], Fader] = {}
        self._joins: dict[str, BusJoin] = {}
        self._inputs: dict[str, AutomationRamp] = {}
        self._fading: dict[str, tuple[int, Sound]] = {}
        self._leaving: dict[str, tuple[int, Sound]] = {}
        self._entered: dict[str, tuple[int, Sound]] = {}
        self._recent: dict[tuple[str, int], StripBlock] = {}
        self._routed: dict[tuple[str, str, int], Sound] = {}
        self._sums: dict[str, Callable[[int], Sound] | None] = {}
        self.position = self._until = 0
        self.keep: Callable[[str, int, State], None] | None = None
        self.keep_group: Callable[[str, int, Sound], None] | None = None
        for item in plan.strips:
            self._add(item)

    def _add(self, item: StripPlan) -> None:
        name = item.strip.id
        if name not in self._frozen:
            self._runners[name] = self._made(item, self.position)
        self._joins[name] = BusJoin(item)
        self._add_faders(item)

    def _add_faders(self, item: StripPlan) -> None:
        name = item.strip.id
        for route in item.routes:
            key = (name, route.name)
            if key not in self._faders:
                self._faders[key] = Fader(item, route)
            else:
                self._faders[key].change(item, route)

    def _made(self, item: StripPlan, block: int) -> StripRunner:
        name = item.strip.id
        runner = StripRunner(item, self.reader(name), self._read_key, taps=self._taps(name))
        runner.locate(block)
        runner.until = self._until
        return runner

    def _taps(self, name: str) -> Taps:
        return None if self._tapped else self._watched.get(name, NO_TAPS)

    def watch(self, name: str, place: str) -> None:
        """Give the sound before and after one place of a strip, and of no other."""
        before = self._watched
        self._watched = {name: frozenset((place,))}
        for strip in {*before, name} & self._runners.keys():
            if before.get(strip) != self._watched.get(strip):
                self._runners[strip].watch(self._taps(strip))

    def reader(self, name: str) -> Callable[[int], Sound]:
        """Return what gives a strip's input blocks."""

        def read(j: int) -> Sound:
            item = self.plan.strip(name)
            if item.strip.kind == "track":
                return self._recorded(name, j)
            known = self._entered.get(name)
            if known is not None and known[0] == j:
                return known[1]
            sound = self._joins[name].join(self._bus_inputs(item, j), j * BLOCK)
            return self._with_leaving(name, j, sound)

        return read

    def _with_leaving(self, name: str, j: int, sound: Sound) -> Sound:
        """Return a bus's input, cross-faded from what it was before a change of ways in play."""
        at, old = self._leaving.pop(name, (j, None))
        if old is None or at != j:
            return sound
        return crossfaded(sound, old)

    def _recorded(self, name: str, j: int) -> Sound:
        item = self.plan.strip(name)
        shape = (BLOCK, item.context.channels)
        if item.strip.audio is not None:
            sound = self._source(item.strip.audio, j * BLOCK, BLOCK)
            # What cannot be read at the moment is silent, in whatever shape.
            if sound.shape == shape:
                return sound
        return np.zeros(shape)

    def _bus_inputs(self, item: StripPlan, j: int) -> list[Sound]:
        """Return what is summed into a bus: its inputs, or the sums of groups of them."""
        feeds = item.feeds
        if len(feeds) <= GROUP:
            return [self.faded(r, j) for r in feeds]
        sums = []
        for index, digest in enumerate(item.groups):
            routes = feeds[index * GROUP : (index + 1) * GROUP]
            kept = self._kept_group(digest, routes)
            if kept is not None:
                sums.append(kept(j))
                continue
            sums.append(group_sum([self.faded(r, j) for r in routes]))
            if self.keep_group is not None:
                self.keep_group(digest, j, sums[-1])
        return sums

    def _kept_group(self, digest: str, routes: tuple[Route, ...]) -> Callable[[int], Sound] | None:
        if digest not in self._sums:
            alone = all(r.strip in self._frozen for r in routes)
            self._sums[digest] = self._groups(digest) if alone else None
        return self._sums[digest]

    def faded(self, route: Route, j: int) -> Sound:
        """Return block j of what a strip gives on one of its ways out."""
        key = (route.strip, route.name, j)
        if key not in self._routed:
            out = self.give(route.strip, j).out
            self._routed[key] = self._faders[route.strip, route.name].apply(out, j * BLOCK)
        return self._routed[key]

    def _read_key(self, outside: Outside, j: int) -> Sound:
        name = outside.strip
        if outside.source != f"strip:{name}":
            point = f"{outside.source}/{outside.tap}"
            if name in self._frozen and j < self.plan.blocks:
                return self._frozen[name].point(point, j)
            found = self.give(name, j).points.get(point)
            # Computed ahead, before anybody listened there.
            return self._quiet(name, point) if found is None else found
        if outside.tap == "out":
            return self.give(name, j).out
        strip = self.plan.strip(name).strip
        if name not in self._inputs:
            trim = trim_of(strip, self.plan.strip(name).own(name), self.plan.rate)
            self._inputs[name] = AutomationRamp(trim)
        entered = self._recorded(name, j) if strip.kind == "track" else self._bus_input(name, j)
        return trimmed(entered, self._inputs[name], j * BLOCK)

    def _bus_input(self, name: str, j: int) -> Sound:
        item = self.plan.strip(name)
        gains = BusJoin(item)
        return gains.join(self._bus_inputs(item, j), j * BLOCK)

    def block(self, names: tuple[str, ...] | None = None) -> MixBlock:
        """Return the next block of the named strips (all that run, by default) and move on."""
        k = self.position
        result = MixBlock()
        self._drop_before(k)
        for item in self.plan.strips:
            name = item.strip.id
            wanted = name not in self._frozen if names is None else name in names
            if wanted:
                result.strips[name] = self.give(name, k)
                result.faded[name] = self.faded(item.output, k)
        self.position = k + 1
        return result

    def chunk(self, name: str, count: int) -> StripBlock:
        """Return the next blocks of a running strip as one and move on; nobody listens to it."""
        self._drop_before(self.position)
        block = self._runners[name].take(count)
        self.position += count
        return block

    def _drop_before(self, k: int) -> None:
        """Drop what lies before block k."""
        for key in [key for key in self._recent if key[1] < k]:
            del self._recent[key]
        for way in [way for way in self._routed if way[2] < k]:
            del self._routed[way]

    def give(self, name: str, k: int) -> StripBlock:
        """Return block k of a strip, computing up to it if it has not been."""
        if k >= self.plan.blocks:
            return self._silence(self.plan.strip(name))
        while (name, k) not in self._recent:
            if name in self._frozen:
                self._recent[name, k] = self._crossed(name, k, self._frozen[name].block(k))
                break
            runner = self._runners[name]
            at = runner.next_out
            if at > k:
                raise AssertionError(f"{name}: block {k} is wanted, and {at} comes next")
            if self.keep is not None and at % CHECKPOINT == 0:
                self.keep(name, at, runner.checkpoint())
            block = runner.block()
            if name in self._fading:
                block = replace(block, out=self._crossed(name, at, block.out).out)
            self._recent[name, at] = block
        return self._recent[name, k]

    def _quiet(self, name: str, point: str) -> Sound:
        graph = self.plan.strip(name).graph
        return np.zeros((BLOCK, graph.channels[graph.points[point][0]]))

    def _silence(self, item: StripPlan) -> StripBlock:
        channels = item.graph.channels
        taps = {}
        watched = self._taps(item.strip.id)
        for name, tap in item.graph.taps.items():
            if watched is None or name in watched:
                before, after = (np.zeros((BLOCK, channels[w.source])) for w in tap.wires)
                taps[name] = (before, after)
        points = {name: self._quiet(item.strip.id, name) for name in item.exports}
        return StripBlock(np.zeros((BLOCK, item.context.channels)), taps, points)

    def _crossed(self, name: str, k: int, out: Sound) -> StripBlock:
        """Return a block's sound, cross-faded from what was to come before a change of wiring."""
        at, old = self._fading.pop(name, (k, None))
        return StripBlock(out if old is None or at != k else crossfaded(out, old))

    def change(self, plan: Plan) -> None:
        """Move to another plan of the same rate in play: glide, or cross-fade new wiring.

        Strips that are frozen must sound the same in both.
        """
        rewired = self._leave(plan)
        self.plan = plan
        self._sums.clear()
        self._inputs.clear()
        for item in plan.strips:
            name = item.strip.id
            runner = self._runners.get(name)
            if name in self._frozen:
                self._joins[name].change(item)
                self._add_faders(item)
                continue
            if runner is None or runner.plan.context.channels != item.context.channels:
                self._add(item)
                continue
            self._add_faders(item)
            self._joins[name].change(item)
            if name in rewired:
                self._runners[name] = rewired[name]
            else:
                runner.change(item)
        for name in ({*self._runners, *self._frozen}) - set(plan.digests):
            for kept in (self._runners, self._frozen, self._fading, self._leaving):
                kept.pop(name, None)

    def _leave(self, plan: Plan) -> dict[str, StripRunner]:
        """Compute once more what is about to be wired otherwise, while its wiring still stands:
        a bus's input, a strip's output. Return the strips' new runners.

        The last strip first: what it asks for moves those before it on.
        """
        rewired: dict[str, StripRunner] = {}
        for item in reversed(self.plan.strips):
            name = item.strip.id
            runner = self._runners.get(name)
            if name not in plan.digests or runner is None:
                continue
            new = plan.strip(name)
            if runner.plan.context.channels != new.context.channels:
                continue
            old_routes, routes = ([(r.strip, r.name) for r in p.feeds] for p in (item, new))
            j, at = runner.next_in, runner.next_out
            entered = None
            if item.strip.kind != "track" and old_routes != routes:
                sounds = self._bus_inputs(item, j)
                entered = self._joins[name].join(sounds, j * BLOCK)
                self._leaving[name] = (j, entered)
            if runner.fits(new):
                continue
            rewired[name] = runner.rewired(new)
            if entered is not None:
                self._entered[name] = (j, entered)
            self._fading[name] = (at, runner.block().out)
            if entered is not None:
                self._leaving[name] = (j, entered)
        self._entered.clear()
        return rewired

    def thaw(self, name: str, other: "Mixer") -> None:
        """Go on running a frozen strip as it runs in a mixer that stands at the same block."""
        del self._frozen[name]
        self._runners[name] = other.runner(name).clone(self.reader(name), self._read_key)
        # What was read ahead has no taps; what the other one computed ahead has.
        for key in [key for key in self._recent if key[0] == name]:
            del self._recent[key]
        self._recent |= {(name, j): block for j, block in other.ahead(name)}
        self._sums.clear()

    def freeze(self, name: str, frozen: CachedStrip) -> None:
        """Read a strip from now on instead of running it."""
        runner = self._runners.pop(name)
        self._fading[name] = (runner.next_out, runner.block().out)
        self._frozen[name] = frozen
        self._sums.clear()

    def gains(self, item: StripPlan) -> Sound:
        """Return the gains of left and right on a strip's main way out, as they stand."""
        return self._faders[item.strip.id, item.output.name].gains(self.position * BLOCK)

    @property
    def frozen(self) -> Mapping[str, CachedStrip]:
        """The strips that are read."""
        return self._frozen

    def locate(self, block: int, states: dict[str, State]) -> None:
        """Jump to a block; a strip without a stored state starts cold there."""
        self._forget(block)
        for fader in self._faders.values():
            fader.settle()
        for name, join in self._joins.items():
            join.settle()
            if name in self._frozen:
                continue
            self._runners[name] = self._made(self.plan.strip(name), block)
            if name in states:
                self._runners[name].restore(states[name])

    def skip_to(self, block: int) -> None:
        """Go on from another block with the states as they are: warm, but not that place's own."""
        self._forget(block)
        self.foresee(block)
        for runner in self._runners.values():
            runner.locate(block)

    def _forget(self, block: int) -> None:
        self.position = block
        self._recent.clear()
        self._routed.clear()
        self._fading.clear()
        self._leaving.clear()

    def foresee(self, block: int) -> None:
        """Know that every block before this one will be asked for: it is faster, and the same."""
        self._until = block
        last = self.plan.blocks
        wanted = dict.fromkeys(self.plan.digests, min(block, last))
        # Those who read come behind those whom they read, and read ahead by their latency.
        for item in reversed(self.plan.strips):
            runner = self._runners.get(item.strip.id)
            if runner is None:
                continue
            runner.until = wanted[item.strip.id]
            reach = min(runner.reads(runner.until), last)
            for name in {r.strip for r in item.feeds} | {o.strip for o in item.graph.outside}:
                wanted[name] = max(wanted[name], reach)

    @property
    def until(self) -> int:
        """The block before which everything is known to be asked for."""
        return self._until

    def runner(self, name: str) -> StripRunner:
        """Return the runner of a strip that is not frozen."""
        return self._runners[name]

    def ahead(self, name: str) -> list[tuple[int, StripBlock]]:
        """Return the blocks of a strip that were computed already and are still to be given."""
        return [(j, b) for (n, j), b in self._recent.items() if n == name and j >= self.position]

    def read_key(self, outside: Outside, j: int) -> Sound:
        """Return block j of a signal that some stage listens to."""
        return self._read_key(outside, j)
