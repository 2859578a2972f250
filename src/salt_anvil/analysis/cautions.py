"""Cautions that need more than the two sides of a place: what its stages tell, other strips."""

import numpy as np

from salt_anvil.analysis.cache import StripCache
from salt_anvil.core.audio import BLOCK, GRID, most_of_channels
from salt_anvil.core.engine.fader import gains_trajectory
from salt_anvil.core.engine.graph import INPUT, Buffer
from salt_anvil.core.engine.plan import Plan, StripPlan
from salt_anvil.core.measure.bending import distortion
from salt_anvil.core.measure.cautions import (
    Caution,
    distortion_caution,
    opened_too_often,
    raised_by_bus,
    silent_caution,
)
from salt_anvil.core.measure.hits import count_hits
from salt_anvil.core.measure.reduction import stages_inside
from salt_anvil.core.measure.spans import Span
from salt_anvil.core.measure.wiring import wiring_cautions
from salt_anvil.core.processors import processor
from salt_anvil.core.session import Split, Stage, elements


class Watch:
    """Looks for what to watch out for in one strip of a plan, as far as it is analysed."""

    def __init__(
        self, plan: Plan, item: StripPlan, fingerprints: dict[str, str], cache: StripCache
    ) -> None:
        self._plan, self._item = plan, item
        self._fingerprints, self._cache = fingerprints, cache

    def cautions(self, at: str, passage: Span, *, percussive: bool) -> list[Caution]:
        """Return the cautions of a place over a passage. percussive: what comes in is hits."""
        found = [*wiring_cautions(self._item, self._plan.frames), *self._silent(at, passage)]
        for stage in stages_inside(self._item.strip.chain, at):
            if processor(stage.kind).bends:
                found += self._bent(stage, passage)
            if stage.kind == "gate" and percussive:
                found += self._chattering(stage, passage)
        if at == "chain":
            found += self._parallel(passage)
        return found

    def _done(self, item: StripPlan, passage: Span) -> bool:
        done = self._cache.done(self._fingerprints[item.strip.id])
        return done >= min(passage.end, self._plan.frames)

    def _bent(self, stage: Stage, passage: Span) -> list[Caution]:
        sums = self._cache.bends(self._fingerprints[self._item.strip.id], stage.id)
        inside = np.asarray(sums[passage.begin // BLOCK : -(-passage.end // BLOCK)], np.float64)
        title = processor(stage.kind).title
        found = distortion_caution(stage.id, title, distortion(inside), passage)
        return [c for c in found if c.rule not in stage.silenced_cautions]

    def _chattering(self, stage: Stage, passage: Span) -> list[Caution]:
        node = next(n for n in self._item.graph.nodes if n.name == stage.id)
        fingerprint = self._fingerprints[self._item.strip.id]
        cells = slice(passage.begin // GRID, -(-passage.end // GRID))
        levels, opened = (
            self._cache.cells(fingerprint, stage.id, name, node.context.channels)[cells]
            for name in ("level_db", "opened")
        )
        if not len(levels) or not self._done(self._item, passage):
            return []
        times = int(np.count_nonzero(most_of_channels(opened) > 0))
        hits = count_hits(most_of_channels(levels), self._plan.rate)
        found = opened_too_often(times, hits, passage)
        return [c for c in found if c.rule not in stage.silenced_cautions]

    def _parallel(self, passage: Span) -> list[Caution]:
        """Return a caution where several strips' copies, worked on together, add up too much."""
        item = self._item
        works = any(processor(s.kind).holds == "level" for s in item.stages if s.on)
        shared = len(item.feeds) > 1 and all(r.send is not None for r in item.feeds)
        if item.strip.kind != "bus" or not works or not shared or not item.output.heard:
            return []
        target = next((s for s in self._plan.strips if s.strip.id == item.output.to), None)
        if target is None or not (self._done(item, passage) and self._done(target, passage)):
            return []
        middle = (passage.begin + min(passage.end, self._plan.frames)) // 2 // GRID
        gain = float(gains_trajectory(item, item.output).at(middle).max())
        given = gain**2 * self._power(item, item.graph.output, passage)
        return raised_by_bus(target.strip.name, given, self._power(target, INPUT, passage), passage)

    def _power(self, item: StripPlan, point: Buffer, passage: Span) -> float:
        powers = self._cache.powers(self._fingerprints[item.strip.id], point)
        inside = powers[passage.begin // GRID : -(-passage.end // GRID)]
        return float(np.mean(inside, dtype=np.float64)) if len(inside) else 0.0

    def _silent(self, at: str, passage: Span) -> list[Caution]:
        """Return which bands of a split, or which key of a stage, carry nothing."""
        element = next((e for e in elements(self._item.strip.chain) if e.id == at), None)
        if element is None or not element.on:
            return []
        if isinstance(element, Split):
            bands = element.branches if element.by == "bands" else []
            return [
                c
                for b in bands
                for c in self._nothing(
                    self._item, b.id, 0, passage, f"band {b.id}", f"The band {b.name}"
                )
            ]
        source = next(
            (s for s in self._plan.strips if element.key.source == f"strip:{s.strip.id}"), None
        )
        if source is None:
            return []
        side, name = int(element.key.tap == "out"), f"The key, {source.strip.name},"
        return self._nothing(source, "chain", side, passage, "key", name)

    def _nothing(
        self, item: StripPlan, tap: str, side: int, passage: Span, rule: str, name: str
    ) -> list[Caution]:
        """Return a caution where a tap carries nothing, as soon as the passage is analysed."""
        if not self._done(item, passage):
            return []
        point = item.graph.taps[tap].wires[side].source
        rows = np.nan_to_num(self._cache.rows(self._fingerprints[item.strip.id], point))
        return silent_caution(rule, name, rows, self._plan.rate, passage)
