"""Strip by strip through the song: sound, pictures, figures, checkpoints into the cache."""

from collections.abc import Callable
from typing import BinaryIO

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.dsp.gate import BLOCK, GRID, Sound
from salt_anvil.core.engine.fingerprint import fingerprints
from salt_anvil.core.engine.mixer import CHECKPOINT, Source, tree_sum
from salt_anvil.core.engine.plan import Plan, StripPlan
from salt_anvil.core.engine.strip import Fader, StripBlock, StripRunner
from salt_anvil.core.measure.rows import RowMeter
from salt_anvil.files.cache import Meta, StripCache
from salt_anvil.files.media import extremes

Tell = Callable[[str, int, int], bool]
"""Told strip, frames done and frames; returns False to stop."""


class Stopped(Exception):
    """The analysis was told to stop."""


def analyse(
    plan: Plan, code: str, source: Source, cache: StripCache, first: str | None, tell: Tell
) -> None:
    """Fill the cache for every strip of a plan, `first` and what it needs before the others.

    plan: made with observe for every strip whose pictures are wanted.

    Raises:
        Stopped: `tell` said so; what was complete stays.
    """
    marks = fingerprints(plan, code)
    for item in _order(plan, first):
        mark = marks[item.strip.id]
        if not cache.complete(mark):
            _StripAnalysis(plan, item, marks, source, cache).run(tell)
        cache.touch(mark)
        if not tell(item.strip.id, plan.frames, plan.frames):
            raise Stopped
    cache.trim(set(marks.values()))


def _order(plan: Plan, first: str | None) -> list[StripPlan]:
    """Return the strips in order, those that `first` needs in front."""
    needed: set[str] = set()

    def need(name: str) -> None:
        needed.add(name)
        for feed in plan.strip(name).feeds:
            need(feed)

    if first is not None and any(s.strip.id == first for s in plan.strips):
        need(first)
    return [s for s in plan.strips if s.strip.id in needed] + [
        s for s in plan.strips if s.strip.id not in needed
    ]


class _StripAnalysis:
    """One strip's pass; writes its files as it goes, so that the front can draw them."""

    def __init__(
        self, plan: Plan, item: StripPlan, marks: dict[str, str], source: Source, cache: StripCache
    ) -> None:
        self._plan, self._item, self._cache, self._source = plan, item, cache, source
        self._mark = marks[item.strip.id]
        self._marks = marks
        self._channels = item.context.channels
        self._stages = [s.id for s in item.stages]
        self._meters = [RowMeter(plan.rate, self._channels) for _ in range(len(self._stages) + 1)]
        self._files: dict[str, BinaryIO] = {}
        self._faders = {f: Fader(plan.strip(f)) for f in item.feeds}
        self._inputs = {
            f: cache.output(marks[f], plan.strip(f).context.channels) for f in item.feeds
        }

    def run(self, tell: Tell) -> None:
        """Go through the whole song."""
        frames = self._plan.frames
        meta = Meta(self._channels, frames, self._stages)
        self._cache.begin(self._mark, meta)
        runner = StripRunner(self._item, self._read, tapped=True)
        blocks = -(-frames // BLOCK)
        try:
            for first in range(0, blocks, CHECKPOINT):
                self._cache.keep_state(self._mark, first, runner.checkpoint())
                count = min(CHECKPOINT, blocks - first)
                self._chunk([runner.block() for _ in range(count)], frames - first * BLOCK)
                self._flush(min((first + count) * BLOCK, frames - 1))
                if not tell(self._item.strip.id, (first + count) * BLOCK, frames):
                    raise Stopped
            for point, meter in enumerate(self._meters):
                self._write(f"rows-{point}.f64", meter.flush(), "<f8")
            self._flush(frames)
        finally:
            for file in self._files.values():
                file.close()

    def _read(self, j: int) -> Sound:
        item = self._item
        if item.strip.kind == "track":
            if item.strip.audio is None:
                return np.zeros((BLOCK, self._channels))
            return self._source(item.strip.audio, j * BLOCK, BLOCK)
        return tree_sum([self._fed(f, j) for f in item.feeds])

    def _fed(self, feed: str, j: int) -> Sound:
        held = self._inputs[feed]
        sound = np.zeros((BLOCK, held.shape[1]))
        piece = held[j * BLOCK : (j + 1) * BLOCK]
        sound[: len(piece)] = piece
        return self._faders[feed].apply(sound, j * BLOCK)

    def _chunk(self, blocks: list[StripBlock], left: int) -> None:
        points = [[b.taps["chain"][0] for b in blocks]]
        points += [[b.taps[s][1] for b in blocks] for s in self._stages]
        for point, sounds in enumerate(points):
            sound = np.concatenate(sounds)
            self._write(f"peaks-{point}.f32", extremes(sound, GRID), "<f4")
            self._write(f"rows-{point}.f64", self._meters[point].feed(sound[:left]), "<f8")
        for index, stage in enumerate(self._stages):
            for name in blocks[0].cells.get(stage, {}):
                cells = np.concatenate([b.cells[stage][name] for b in blocks])
                self._write(f"cells-{index}-{name}.f32", cells, "<f4")
        self._write("out.f32", np.concatenate([b.out for b in blocks]), "<f4")

    def _write(self, name: str, rows: NDArray[np.floating], kind: str) -> None:
        if name not in self._files:
            self._files[name] = self._cache.path(self._mark, name).open("wb")
        self._files[name].write(rows.astype(kind).tobytes())

    def _flush(self, done: int) -> None:
        for file in self._files.values():
            file.flush()
        self._cache.set_done(self._mark, done)
