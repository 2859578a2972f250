"""Strip by strip through the song: sound, pictures, figures, checkpoints into the cache."""

import os
from collections.abc import Callable
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from typing import BinaryIO, TypeVar

import numpy as np
from numpy.typing import NDArray

from salt_anvil.analysis.cache import Meta, StripCache
from salt_anvil.analysis.cached_strips import CachedStrips, point_file
from salt_anvil.core.audio import BLOCK, GRID, Sound, most_of_channels
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.engine.fingerprint import fingerprint_of
from salt_anvil.core.engine.graph import Buffer
from salt_anvil.core.engine.mixer import Mixer, Source
from salt_anvil.core.engine.plan import JoinMeasurements, Plan, StripPlan
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.strip import CHECKPOINT, StripBlock
from salt_anvil.core.errors import DamagedError
from salt_anvil.core.measure.bending import rest_and_whole
from salt_anvil.core.measure.joins import measure_joins
from salt_anvil.core.measure.overview import extremes, mean_squares
from salt_anvil.core.measure.rows import RowMeter
from salt_anvil.core.processors import processor
from salt_anvil.core.session import Session
from salt_anvil.files.checked import CheckedWriter

Notify = Callable[[str, int, int], bool]
"""Told strip, frames done and frames; returns False to stop."""


class Stopped(Exception):
    """The analysis was told to stop."""


def analyse(
    session: Session,
    code: str,
    source: Source,
    cache: StripCache,
    first: str | None,
    notify: Notify,
    measured: Callable[[], None] = lambda: None,
    *,
    alone: bool = False,
) -> None:
    """Fill the cache for every strip of a session, `first` and what it needs before the others.

    measured: called when steady joins were measured, before the strips' turn. alone: nothing
    but `first` and what it needs.

    Raises:
        Stopped: `tell` said so; what was complete stays.
    """
    mended(cache, lambda: _analyse(session, code, source, cache, first, notify, measured, alone))


T = TypeVar("T")
MENDS = 64
"""So many damaged entries are dropped in one go before something else must be wrong."""


def mended(cache: StripCache, work: Callable[[], T]) -> T:
    """Do work that reads the cache; what it finds damaged is dropped, and it begins again."""
    for _ in range(MENDS):
        try:
            return work()
        except DamagedError as error:
            cache.drop(error.where)
    return work()


def _analyse(
    session: Session,
    code: str,
    source: Source,
    cache: StripCache,
    first: str | None,
    notify: Notify,
    measured: Callable[[], None],
    alone: bool,
) -> None:
    freezer = CachedStrips(cache, code)
    if measure_missing_joins(session, code, source, cache, notify):
        measured()
    plan = make_plan(session, observe_all=True, measured=join_measurements(cache, code))
    used, grown = set(), False
    for item in _needed_by(plan, first) if alone else _order(plan, first):
        fingerprint = fingerprint_of(item.content_digest, code)
        mine = {fingerprint, *(fingerprint_of(g, code) for g in item.groups)}
        used |= mine
        for name in mine:
            cache.touch(name)
        if not cache.complete(fingerprint, item.exports):
            grown = True
            _StripAnalysis(plan, item, code, source, cache, freezer).run(notify)
        if not notify(item.strip.id, plan.frames, plan.frames):
            raise Stopped
    if grown:
        cache.trim(used)


def join_measurements(cache: StripCache, code: str) -> JoinMeasurements:
    """Return what knows the measurements of steady joins that the cache holds."""
    return lambda digest: cache.join_measurement(fingerprint_of(digest, code))


def measure_missing_joins(
    session: Session, code: str, source: Source, cache: StripCache, notify: Notify
) -> bool:
    """Measure the steady joins that are not measured yet; return whether there were any."""
    any_measured = False

    def store(digest: str, found: JoinMeasurement) -> None:
        nonlocal any_measured
        any_measured = True
        cache.keep_join_measurement(fingerprint_of(digest, code), found)

    def patience() -> None:
        if not notify("", 0, 1):
            raise Stopped

    freezer = CachedStrips(cache, code)
    measure_joins(
        session,
        lambda: source,
        join_measurements(cache, code),
        store,
        freeze=freezer,
        notify=patience,
    )
    return any_measured


def _order(plan: Plan, first: str | None) -> list[StripPlan]:
    """Return the strips in order, those that `first` needs in front."""
    needed = _needed_by(plan, first)
    return needed + [s for s in plan.strips if s not in needed]


def _needed_by(plan: Plan, first: str | None) -> list[StripPlan]:
    """Return a strip and all that it needs, in order."""
    needed: set[str] = set()

    def need(name: str) -> None:
        if name in needed:
            return
        needed.add(name)
        item = plan.strip(name)
        for other in [*(r.strip for r in item.feeds), *(o.strip for o in item.graph.outside)]:
            need(other)

    if first is not None and first in plan.digests:
        need(first)
    return [s for s in plan.strips if s.strip.id in needed]


class _StripAnalysis:
    """One strip's pass; writes its files as it goes, so that the front can draw them."""

    def __init__(
        self,
        plan: Plan,
        item: StripPlan,
        code: str,
        source: Source,
        cache: StripCache,
        freezer: CachedStrips,
    ) -> None:
        self._plan, self._item, self._cache, self._code = plan, item, cache, code
        self._fingerprint = fingerprint_of(item.content_digest, code)
        self._name = item.strip.id
        frozen = freezer(plan)
        frozen.pop(self._name, None)
        self._points = points_of(item)
        taps = frozenset(tap for tap, _ in self._points.values())
        self._mixer = Mixer(
            plan, source, watched={self._name: taps}, frozen=frozen, groups=freezer.group
        )
        self._meters = {
            point: RowMeter(plan.rate, item.graph.channels[point]) for point in self._points
        }
        self._files: dict[str, BinaryIO] = {}
        self._sounds_out: dict[str, CheckedWriter] = {}
        self._groups: dict[str, CheckedWriter] = {}

    def run(self, notify: Notify) -> None:
        """Go through the whole song."""
        frames = self._plan.frames
        exports = [str(point) for point in self._item.exports]
        self._cache.begin(self._fingerprint, Meta(self._item.context.channels, frames, exports))
        blocks = -(-frames // BLOCK)
        self._mixer.keep_group = self._keep_group
        self._mixer.foresee(self._plan.blocks)
        try:
            # What is computed is measured and written while the next is computed.
            with ThreadPoolExecutor(os.cpu_count() or 1) as beside:
                pending: list[Future[None]] = []
                for first in range(0, blocks, CHECKPOINT):
                    state = self._mixer.runner(self._name).checkpoint()
                    count = min(CHECKPOINT, blocks - first)
                    block = self._mixer.chunk(self._name, count)
                    self._end(pending, first * BLOCK, frames)
                    pending = self._begin(beside, block, first * BLOCK, frames)
                    keep = self._cache.keep_state
                    pending.append(beside.submit(keep, self._fingerprint, first, state))
                    if not notify(self._name, first * BLOCK, frames):
                        raise Stopped
                self._end(pending, frames, frames)
            if blocks < self._plan.blocks:
                self._sounds(self._mixer.chunk(self._name, self._plan.blocks - blocks))
            for point, meter in self._meters.items():
                self._write(f"rows-{point}.f64", meter.flush(), "<f8")
            for sound in self._sounds_out.values():
                sound.close()
            for file in self._files.values():
                file.flush()
            self._cache.set_done(self._fingerprint, frames)
            for digest, group in self._groups.items():
                group.close()
                self._cache.set_done(fingerprint_of(digest, self._code), frames)
        finally:
            for file in self._files.values():
                file.close()
            for sound in (*self._sounds_out.values(), *self._groups.values()):
                sound.close()

    def _keep_group(self, digest: str, j: int, sound: Sound) -> None:
        if digest not in self._item.groups:
            return
        fingerprint = fingerprint_of(digest, self._code)
        if digest not in self._groups:
            self._cache.begin(fingerprint, Meta(2, self._plan.frames, []))
            self._groups[digest] = CheckedWriter(self._cache.path(fingerprint, "out.f32"), 2)
        self._groups[digest].write(sound)

    def _begin(
        self, beside: Executor, block: StripBlock, at: int, frames: int
    ) -> list[Future[None]]:
        """Begin to measure and write what several blocks from frame `at` on give, of a song of so
        many frames: each place of the chain by itself."""
        places = [beside.submit(self._place, p, block, frames - at) for p in self._points]
        return [*places, beside.submit(self._rest, block)]

    def _end(self, pending: list[Future[None]], done: int, frames: int) -> None:
        """Wait until what was begun is done, before frame `done` of the song."""
        for part in pending:
            part.result()
        if pending:
            for file in self._files.values():
                file.flush()
            self._cache.set_done(self._fingerprint, min(done, frames - 1))

    def _place(self, point: Buffer, block: StripBlock, left: int) -> None:
        """Measure and write one place of the chain; left: frames to the end of the song."""
        tap, side = self._points[point]
        sound = np.ascontiguousarray(block.taps[tap][side])
        self._write(f"peaks-{point}.f32", extremes(sound, GRID), "<f4")
        self._write(f"power-{point}.f32", mean_squares(sound, GRID), "<f4")
        rows = self._meters[point].feed(sound[:left])
        self._write(f"rows-{point}.f64", rows, "<f8")

    def _rest(self, block: StripBlock) -> None:
        """Write what stages report, and what comes out."""
        count = len(block.out) // BLOCK
        for stage in self._item.stages:
            if processor(stage.kind).bends:
                sums = rest_and_whole(*block.taps[stage.id])
                self._write(f"bends-{stage.id}.f32", sums, "<f4")
        most = np.zeros(count)
        on = {s.id for s in self._item.stages if s.on}
        for told, reported in block.cells.items():
            for name, cells in reported.items():
                self._write(f"cells-{told}-{name}.f32", cells, "<f4")
                if name == "reduction_db" and told in on:
                    highest = extremes(cells, len(cells) // count)[:, 1]
                    most = np.maximum(most, most_of_channels(highest))
        self._sounds(block)
        peaks = np.abs(extremes(block.out, BLOCK)).max(axis=1)
        self._write("meters.f32", np.column_stack([peaks[:, 0], peaks[:, -1], most]), "<f4")

    def _sounds(self, block: StripBlock) -> None:
        """Write what other strips read, also behind the end of the song."""
        self._write_sound("out.f32", block.out)
        for name in self._item.exports:
            self._write_sound(f"{point_file(name)}.f32", block.points[name])

    def _write_sound(self, name: str, sound: Sound) -> None:
        if name not in self._sounds_out:
            path = self._cache.path(self._fingerprint, name)
            self._sounds_out[name] = CheckedWriter(path, sound.shape[1])
        self._sounds_out[name].write(sound)

    def _write(self, name: str, rows: NDArray[np.floating], kind: str) -> None:
        if name not in self._files:
            self._files[name] = self._cache.path(self._fingerprint, name).open("wb")
        self._files[name].write(rows.astype(kind).tobytes())


def points_of(item: StripPlan) -> dict[Buffer, tuple[str, int]]:
    """Return the places of a chain that are drawn and measured: buffer to tap and its side."""
    found: dict[Buffer, tuple[str, int]] = {}
    for name, tap in item.graph.taps.items():
        for side, wire in enumerate(tap.wires):
            found.setdefault(wire.source, (name, side))
    return found
