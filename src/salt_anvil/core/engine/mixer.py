"""The whole session in operation: strips, ways between them, keys, bus sums, main output."""

from collections import defaultdict
from collections.abc import Callable, Collection, Iterator, Mapping
from concurrent.futures import FIRST_COMPLETED, Executor, Future, wait
from dataclasses import replace
from threading import RLock
from typing import NamedTuple, TypeVar

import numpy as np

from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.dsp.automation_ramp import AutomationRamp
from salt_anvil.core.dsp.crossfade import crossfaded
from salt_anvil.core.engine.cached import Blocks, CachedStrip, GroupSums
from salt_anvil.core.engine.fader import BusJoin, Fader, group_sum
from salt_anvil.core.engine.graph import Outside, Point
from salt_anvil.core.engine.pieces import Piece, Pieces, blocks_of, one
from salt_anvil.core.engine.plan import GROUP, Plan, Route, StripPlan
from salt_anvil.core.engine.strip import (
    AT_ONCE,
    CHECKPOINT,
    NO_TAPS,
    Reader,
    StripBlock,
    StripRunner,
    Taps,
    trim_of,
    trimmed,
)
from salt_anvil.core.state import State

Source = Callable[[str, int, int], Sound]
"""Gives frames [start, start + count) of the audio with this id, zeros outside it."""


def never() -> bool:
    """Say no."""
    return False


T = TypeVar("T")
KEPT = 8
"""Blocks that have been given are dropped so many at a time."""


class Given(Mapping[str, T]):
    """A block of each strip, cut out of what was computed in one go when it is asked for."""

    def __init__(
        self, cut: Callable[[T, int, int], T], held: dict[str, Piece[T]], block: int
    ) -> None:
        self._cut, self._held, self._block = cut, held, block

    def __getitem__(self, name: str) -> T:
        return self._cut(*self.piece(name), 1)

    def __iter__(self) -> Iterator[str]:
        return iter(self._held)

    def __len__(self) -> int:
        return len(self._held)

    def piece(self, name: str) -> tuple[T, int]:
        """Return the blocks that were computed in one go, and which of them it is."""
        held = self._held[name]
        return held.item, self._block - held.first


class MixBlock(NamedTuple):
    """Block k of everything: what each strip gave after its chain and after its fader."""

    strips: Given[StripBlock]
    faded: Given[Sound]


class Mark(NamedTuple):
    """How some strips, and all who hear them, stood before a block: what can be gone back to."""

    position: int
    plan: Plan
    runners: dict[str, StripRunner]
    faders: dict[tuple[str, str], Fader]
    joins: dict[str, BusJoin]
    recent: dict[str, Pieces[StripBlock]]
    routed: dict[tuple[str, str], Pieces[Sound]]


class _Ready(NamedTuple):
    """What holds the next blocks of these strips, all before block `end`."""

    names: tuple[str, ...] | None
    strips: dict[str, Piece[StripBlock]]
    faded: dict[str, Piece[Sound]]
    end: int


class Mixer:
    """Runs a plan; any strip can be asked for any block in rising order.

    frozen: strips that are read, not run; groups: kept sums of groups that hold only such.
    tapped: give the sound before and after every place; otherwise only of what is watched, to
    begin with of these places of these strips. told: whether anybody looks at what stages report.
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
        told: bool = True,
    ) -> None:
        self._source, self._tapped, self._told = source, tapped, told
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
        self._recent: defaultdict[str, Pieces[StripBlock]] = defaultdict(Pieces)
        self._routed: defaultdict[tuple[str, str], Pieces[Sound]] = defaultdict(Pieces)
        self._locks: defaultdict[str, RLock] = defaultdict(RLock)
        """Two of those that are computed beside each other may ask for the same strip."""
        self._sums: dict[str, Blocks | None] = {}
        self._ready: _Ready | None = None
        self.position = self._until = self._near = self._dropped = 0
        self.held_from: int | None = None
        """The block from which on all is held that was computed; None: only what is to be given."""
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
        runner = StripRunner(
            item, self.reader(name), self._read_key, taps=self._taps(name), told=self._told
        )
        runner.locate(block)
        runner.until = self._near
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

    def reader(self, name: str) -> Reader:
        """Return what gives a strip's input blocks."""

        def read(j: int, count: int) -> Sound:
            item = self.plan.strip(name)
            if item.strip.kind == "track":
                return self._recorded(name, j, count)
            if count > 1 and (name in self._entered or name in self._leaving):
                # A change of ways is met at its own block.
                return one([read(i, 1) for i in range(j, j + count)])
            known = self._entered.get(name)
            if known is not None and known[0] == j:
                return known[1]
            inputs = self._bus_inputs(item, j, count)
            sound = self._joins[name].join(inputs, j * BLOCK, count * BLOCK)
            return self._with_leaving(name, j, sound)

        return read

    def _with_leaving(self, name: str, j: int, sound: Sound) -> Sound:
        """Return a bus's input, cross-faded from what it was before a change of ways in play."""
        at, old = self._leaving.pop(name, (j, None))
        if old is None or at != j:
            return sound
        return crossfaded(sound, old)

    def _recorded(self, name: str, j: int, count: int) -> Sound:
        item = self.plan.strip(name)
        shape = (count * BLOCK, item.context.channels)
        if item.strip.audio is not None:
            sound = self._source(item.strip.audio, j * BLOCK, count * BLOCK)
            # What cannot be read at the moment is silent, in whatever shape.
            if sound.shape == shape:
                return sound
        return np.zeros(shape)

    def _bus_inputs(self, item: StripPlan, j: int, count: int) -> list[Sound]:
        """Return what is summed into a bus: its inputs, or the sums of groups of them."""
        feeds = item.feeds
        if len(feeds) <= GROUP:
            return [self.faded(r, j, count) for r in feeds]
        sums = []
        for index, digest in enumerate(item.groups):
            routes = feeds[index * GROUP : (index + 1) * GROUP]
            kept = self._kept_group(digest, routes)
            if kept is not None:
                sums.append(kept(j, count))
                continue
            sums.append(group_sum([self.faded(r, j, count) for r in routes]))
            if self.keep_group is not None:
                for i in range(count):
                    self.keep_group(digest, j + i, blocks_of(sums[-1], i, 1))
        return sums

    def _kept_group(
        self, digest: str, routes: tuple[Route, ...]
    ) -> Callable[[int, int], Sound] | None:
        if digest not in self._sums:
            alone = all(r.strip in self._frozen for r in routes)
            self._sums[digest] = self._groups(digest) if alone else None
        return self._sums[digest]

    def faded(self, route: Route, j: int, count: int = 1) -> Sound:
        """Return blocks from j on of what a strip gives on one of its ways out."""
        return one([blocks_of(*part) for part in self._faded(route, j, count)])

    def _faded(self, route: Route, j: int, count: int) -> list[tuple[Sound, int, int]]:
        """Return what holds them, computing up to them."""
        kept = self._routed[route.strip, route.name]
        first = kept.reach(j)
        if first < j + count:
            missing = j + count - first
            sound = self._out(route.strip, first, missing)
            faded = self._faders[route.strip, route.name].apply(sound, first * BLOCK)
            kept.put(first, missing, faded)
            if missing == count:
                return [(faded, 0, count)]
        return kept.cover(j, count)

    def _out(self, name: str, j: int, count: int) -> Sound:
        """Return blocks of what a strip gives, computing up to them."""
        inside = min(count, max(self.plan.blocks - j, 0))
        found = [blocks_of(b.out, at, n) for b, at, n in self._covered(name, j, inside)]
        if inside < count:
            channels = self.plan.strip(name).context.channels
            found.append(np.zeros(((count - inside) * BLOCK, channels)))
        return one(found)

    def _read_key(self, outside: Outside, j: int, count: int) -> Sound:
        name = outside.strip
        if outside.source != f"strip:{name}":
            if name in self._frozen and j + count <= self.plan.blocks:
                return self._frozen[name].points(outside.point, j, count)
            return one([self._point(outside, i) for i in range(j, j + count)])
        if outside.tap == "out":
            return self._out(name, j, count)
        strip = self.plan.strip(name).strip
        with self._locks[name]:  # what comes in is faded and trimmed once for all who listen
            if name not in self._inputs:
                trim = trim_of(strip, self.plan.strip(name).own(name), self.plan.rate)
                self._inputs[name] = AutomationRamp(trim)
            track = strip.kind == "track"
            entered = self._recorded(name, j, count) if track else self._bus_input(name, j, count)
            return trimmed(entered, self._inputs[name], j * BLOCK)

    def _point(self, outside: Outside, j: int) -> Sound:
        """Return a block of a place inside a strip's chain."""
        name, point = outside.strip, outside.point
        if name in self._frozen and j < self.plan.blocks:
            return self._frozen[name].points(point, j, 1)
        found = self.give(name, j).points.get(point)
        # Computed ahead, before anybody listened there.
        return self._quiet(name, point) if found is None else found

    def _bus_input(self, name: str, j: int, count: int) -> Sound:
        item = self.plan.strip(name)
        gains = BusJoin(item)
        return gains.join(self._bus_inputs(item, j, count), j * BLOCK, count * BLOCK)

    def block(self, names: tuple[str, ...] | None = None) -> MixBlock:
        """Return the next block of the named strips (all that run, by default) and move on."""
        k, ready = self.position, self._ready
        if ready is None or names != ready.names:
            ready = self._ready = self._made_ready(_Ready(names, {}, {}, k), k)
        elif k >= ready.end:
            ready = self._ready = self._made_ready(ready, k)
        self.position = k + 1
        return MixBlock(Given(StripBlock.part, ready.strips, k), Given(blocks_of, ready.faded, k))

    def _made_ready(self, before: _Ready, k: int) -> _Ready:
        """Find what holds block k and those that follow, computing up to them, where what held
        those before it does not."""
        if k - self._dropped >= KEPT:
            self._drop_before(k)
        self._look_on(1)
        names, strips, faded = before.names, dict(before.strips), dict(before.faded)
        end = k + AT_ONCE
        for item in self.plan.strips:
            name = item.strip.id
            wanted = name not in self._frozen if names is None else name in names
            if not wanted:
                continue
            if name not in strips or min(strips[name].end, faded[name].end) <= k:
                count = self.sure(name, k)
                block, at, length = self.given(name, k, count)[0]
                strips[name] = Piece(k - at, k + length, block)
                sound, at, length = self._faded(item.output, k, count)[0]
                faded[name] = Piece(k - at, k + length, sound)
            end = min(end, strips[name].end, faded[name].end)
        return _Ready(names, strips, faded, end)

    def sure(self, name: str, k: int) -> int:
        """Return how many blocks from k on a strip is sure to be asked for next, one at least."""
        runner = self._runners.get(name)
        return max(runner.until - k, 1) if runner else 1

    def chunk(self, name: str, count: int) -> StripBlock:
        """Return the next blocks of a running strip as one and move on; nobody listens to it."""
        self._look_on(count)
        block = self._runners[name].take(count)
        self.pass_by(count)
        return block

    def pass_by(self, count: int) -> None:
        """Move on by so many blocks."""
        self._drop_before(self.position)
        self.position += count

    def _drop_before(self, k: int) -> None:
        """Drop what lies before block k, and is not held."""
        self._dropped = k
        if self.held_from is not None:
            k = min(k, self.held_from)
        for blocks in self._recent.values():
            blocks.drop_before(k)
        for sounds in self._routed.values():
            sounds.drop_before(k)

    def give(self, name: str, k: int) -> StripBlock:
        """Return block k of a strip, computing up to it if it has not been."""
        block, at, _ = self.given(name, k, 1)[0]
        return block.part(at, 1)

    def given(self, name: str, k: int, count: int) -> list[tuple[StripBlock, int, int]]:
        """Return what holds blocks of a strip, computing up to them: blocks computed in one go,
        the first of them that is meant, how many."""
        inside = min(count, max(self.plan.blocks - k, 0))
        found = self._covered(name, k, inside) if inside else []
        if inside < count:
            found += [(self._silence(self.plan.strip(name)), 0, 1)] * (count - inside)
        return found

    def _covered(self, name: str, k: int, count: int) -> list[tuple[StripBlock, int, int]]:
        """Return what holds blocks of a strip, computing up to them."""
        kept = self._recent[name]
        if kept.reach(k) >= k + count:
            return kept.cover(k, count)
        with self._locks[name]:
            while (first := kept.reach(k)) < k + count:
                missing = k + count - first
                if name in self._frozen:
                    self._read_frozen(name, first, missing)
                else:
                    self._run(name, first, missing)
            return kept.cover(k, count)

    def _read_frozen(self, name: str, first: int, count: int) -> None:
        out = self._frozen[name].blocks(first, count)
        if name in self._fading:
            out = self._crossed(name, first, count, out)
        self._recent[name].put(first, count, StripBlock(out))

    def _run(self, name: str, first: int, count: int) -> None:
        """Compute the next blocks of a strip, so many at most."""
        runner = self._runners[name]
        at = runner.next_out
        if at > first:
            raise AssertionError(f"{name}: block {first} is wanted, and {at} comes next")
        count += first - at
        if self.keep is not None:
            if at % CHECKPOINT == 0:
                self.keep(name, at, runner.checkpoint())
            count = min(count, CHECKPOINT - at % CHECKPOINT)
        block = runner.take(count)
        if name in self._fading:
            block = replace(block, out=self._crossed(name, at, count, block.out))
        self._recent[name].put(at, count, block)

    def _quiet(self, name: str, point: Point) -> Sound:
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

    def _crossed(self, name: str, k: int, count: int, out: Sound) -> Sound:
        """Return a sound, cross-faded from what was to come before a change of wiring."""
        at, old = self._fading.pop(name)
        if not k <= at < k + count:
            return out
        out = out.copy()
        place = slice((at - k) * BLOCK, (at - k + 1) * BLOCK)
        out[place] = crossfaded(out[place], old)
        return out

    def change(self, plan: Plan) -> None:
        """Move to another plan of the same rate in play: glide, or cross-fade new wiring.

        Strips that are frozen must sound the same in both.
        """
        self._ready = None
        self._wake()
        rewired, before = self._leave(plan), self.plan
        self.plan = plan
        self._sums.clear()
        self._inputs.clear()
        for item in plan.strips:
            name = item.strip.id
            runner = self._runners.get(name)
            frozen = name in self._frozen
            if not frozen and not (
                runner and runner.plan.context.channels == item.context.channels
            ):
                self._add(item)
                continue
            old = before.strip(name)
            if old.routes != item.routes or not item.runs_like(old):
                self._add_faders(item)
                self._joins[name].change(item)
            if name in rewired:
                self._runners[name] = rewired[name]
            elif runner and not frozen:
                runner.change(item)
        for name in ({*self._runners, *self._frozen}) - set(plan.digests):
            for kept in (self._runners, self._frozen, self._fading, self._leaving, self._recent):
                kept.pop(name, None)

    def _wake(self) -> None:
        """Bring those along that stood still while the song was over: it may be longer now."""
        for runner in self._runners.values():
            if runner.next_out < self.position:
                runner.locate(self.position)

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
                sounds = self._bus_inputs(item, j, 1)
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
        self._ready = None
        del self._frozen[name]
        self._runners[name] = other.runner(name).clone(self.reader(name), self._read_key)
        # What was read ahead has no taps; what the other one computed ahead has.
        self._recent[name] = Pieces()
        for j, block in other.ahead(name):
            self._recent[name].put(j, 1, block)
        self._sums.clear()

    def freeze(self, name: str, frozen: CachedStrip) -> None:
        """Read a strip from now on instead of running it."""
        self._ready = None
        runner = self._runners.pop(name)
        self._fading[name] = (runner.next_out, runner.block().out)
        self._frozen[name] = frozen
        self._sums.clear()

    @property
    def steady(self) -> bool:
        """Whether no change of ways or wiring is still being bridged."""
        return not (self._fading or self._leaving)

    def mark(self, names: Collection[str]) -> Mark:
        """Return what strips that run can go back to; whoever hears one of them is one of them."""
        return Mark(
            self.position,
            self.plan,
            {n: self._runners[n].clone(self.reader(n), self._read_key) for n in names},
            {way: fader.clone() for way, fader in self._faders.items() if way[0] in names},
            {n: self._joins[n].clone() for n in names},
            {n: self._recent[n].copy() for n in names},
            {way: sounds.copy() for way, sounds in self._routed.items() if way[0] in names},
        )

    def go_back(self, mark: Mark) -> None:
        """Stand where a mark was set, once more: nothing of its strips has been computed from
        there on. What all others have is held from there on, and has not changed."""
        self._ready = None
        self._inputs.clear()
        self.plan = mark.plan
        self.position = self._until = self._near = mark.position
        for name, runner in mark.runners.items():
            self._runners[name] = runner.clone(self.reader(name), self._read_key)
            self._joins[name] = mark.joins[name].clone()
            self._recent[name] = mark.recent[name].copy()
        for way, fader in mark.faders.items():
            self._faders[way] = fader.clone()
            self._routed[way] = mark.routed.get(way, Pieces()).copy()

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
        for runner in self._runners.values():
            runner.locate(block)
        self.foresee(block)

    def _forget(self, block: int) -> None:
        self.position, self._dropped, self._ready = block, block, None
        self._recent.clear()
        self._routed.clear()
        self._fading.clear()
        self._leaving.clear()

    def foresee(self, block: int) -> None:
        """Know that every block before this one will be asked for: it is faster, and the same."""
        self._until, self._near = block, self.position
        for runner in self._runners.values():
            runner.until = 0  # what was known before counts no more
        self._look_on(1)

    def _look_on(self, count: int) -> None:
        """Let the strips know what is sure to be asked for, AT_ONCE blocks ahead at most: those who
        read ahead then find in one piece what they read, and no checkpoint holds more than that."""
        if self._near >= min(self.position + count, self._until):
            return
        self._near = min(self.position + AT_ONCE, self._until)
        names = self.plan.digests
        for name, until in self._wanted(dict.fromkeys(names, self._near)).items():
            if name in self._runners:
                self._runners[name].until = until

    def _wanted(self, wanted: dict[str, int]) -> dict[str, int]:
        """Return before which block every strip is needed, if these are needed up to these."""
        last = self.plan.blocks
        found = {name: min(block, last) for name, block in wanted.items()}
        # Those who read come behind those whom they read, and read ahead by their latency.
        for item in reversed(self.plan.strips):
            name = item.strip.id
            if name not in found or name not in self._runners:
                continue
            reach = min(self._runners[name].will_read(found[name]), last)
            for other in item.sources:
                found[other] = max(found.get(other, 0), reach)
        return found

    def compute(
        self,
        block: int,
        pool: Executor | None,
        names: Collection[str] | None = None,
        *,
        then: int = 0,
        threads: int = 0,
        stop: Callable[[], bool] = never,
    ) -> bool:
        """Compute strips (all that run, by default), and what they need, up to a block; return
        False if it was told to stop before.

        pool: those that do not wait for one another are computed beside each other: the same bytes.
        then: a later block, up to which some are computed while one of so many threads would be
        idle. stop: asked after each strip.
        """
        asked = self._runners if names is None else names
        left: dict[tuple[int, str], int] = {}
        for turn, end in enumerate((block, then)):
            wanted = self._wanted(dict.fromkeys(asked, end)) if end else {}
            for item in self.plan.strips:
                name = item.strip.id
                runner = self._runners.get(name)
                if runner is not None and runner.next_out < wanted.get(name, 0):
                    left[turn, name] = wanted[name]
        if pool is None:
            for (_, name), until in left.items():
                at = self._runners[name].next_out
                if at < until:
                    self._covered(name, at, until - at)
                    if stop():
                        return False
            return True
        open_, going = set(left), dict[Future[object], tuple[int, str]]()
        behind: dict[tuple[int, str], set[tuple[int, str]]] = {}
        for turn, name in left:
            read = {(turn, source) for source in self.plan.strip(name).sources}
            behind[turn, name] = open_ & (read | {(0, name)} if turn else read)
        musts = sum(turn == 0 for turn, _ in left)
        stopped = False
        while (musts and not stopped) or going:
            stopped = stopped or stop()
            more = musts and not stopped
            for task in [t for t in left if open_.isdisjoint(behind[t])] if more else []:
                turn, name = task
                if turn == 0 or len(going) < threads:
                    at, until = self._runners[name].next_out, left.pop(task)
                    going[pool.submit(self._covered, name, at, until - at)] = task
            ended, _ = wait(going, return_when=FIRST_COMPLETED)
            for future in ended:
                task = going.pop(future)
                open_.discard(task)
                musts -= task[0] == 0
                future.result()
        return not stopped

    @property
    def under_way(self) -> bool:
        """Whether more blocks are known to be asked for: they are computed in one go."""
        return self.position < self._until

    @property
    def until(self) -> int:
        """The block before which everything is known to be asked for."""
        return self._until

    def runner(self, name: str) -> StripRunner:
        """Return the runner of a strip that is not frozen."""
        return self._runners[name]

    def ahead(self, name: str) -> list[tuple[int, StripBlock]]:
        """Return the blocks of a strip that were computed already and are still to be given."""
        return [
            (j, piece.item.part(j - piece.first, 1))
            for piece in self._recent[name]
            for j in range(max(piece.first, self.position), piece.end)
        ]

    def read_key(self, outside: Outside, j: int, count: int) -> Sound:
        """Return blocks from j on of a signal that some stage listens to."""
        return self._read_key(outside, j, count)
