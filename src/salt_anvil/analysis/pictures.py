"""What the front draws and lists, read from the cache: pictures of a passage, the ledger."""

import json
import math
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.cautions import Watch
from salt_anvil.analysis.exact import sounds_at
from salt_anvil.core.audio import GRID, least_of_channels, most_of_channels
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.engine.automation import Lane, lever_scale
from salt_anvil.core.engine.fingerprint import fingerprints_of
from salt_anvil.core.engine.graph import INPUT, Buffer
from salt_anvil.core.engine.plan import Plan, StripPlan
from salt_anvil.core.errors import MissingError
from salt_anvil.core.measure.hits import last_hits, matching_threshold
from salt_anvil.core.measure.later import Later, later
from salt_anvil.core.measure.ledger import Ledger, ledger, percussive
from salt_anvil.core.measure.reduction import (
    ReductionFigures,
    WholeReduction,
    inside,
    makeup_inside,
    reduction_figures,
    stages_inside,
    together,
)
from salt_anvil.core.measure.spans import Span, section_spans
from salt_anvil.core.measure.split_curves import SplitDrawing, bus_drawing, split_drawing
from salt_anvil.core.processors import processor
from salt_anvil.core.session import (
    Element,
    Key,
    Session,
    Split,
    Stage,
    elements,
)
from salt_anvil.files.media import PEAK_FRAMES, MediaFolder

NO_LEVEL = -300.0
"""Kinds that hold levels down; what is done to peaks before them shows in what they have to do."""
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Picture:
    """Columns over frames [begin, end): extremes before and after, the level after (body: RMS
    over 3 to 50 ms by zoom, as amplitude), reduction and detector level in dB.

    done: how many columns are known; the rest is not analysed yet. `before` is there at once for
    a track's own recording. detector: the stage listens to something else than this waveform, so
    its thresholds refer to `level`. makeup_db: steady gain that is not reduction.
    """

    begin: int
    end: int
    columns: int
    done: int
    before: Floats
    after: Floats
    body: Floats
    reduction: Floats
    level: Floats
    detector: bool
    makeup_db: float

    def to_bytes(self) -> bytes:
        """Return one line of JSON (the numbers, and how many floats each series has), then the
        series as little-endian float32: before, after, body, reduction, level."""
        series = (self.before, self.after, self.body, self.reduction, self.level)
        head = {
            "begin": self.begin, "end": self.end, "columns": self.columns, "done": self.done,
            "detector": self.detector, "makeup_db": self.makeup_db,
            "sizes": [s.size for s in series],
        }  # fmt: skip
        text = json.dumps(head).encode()
        text += b" " * (-(len(text) + 1) % 4) + b"\n"
        return text + b"".join(s.astype("<f4").tobytes() for s in series)


@dataclass(frozen=True)
class LaneView:
    """A moving control: its value at evenly spaced times, and whether a lever moves it."""

    owner: str
    control: str
    lever: bool
    values: list[float]


@lru_cache(maxsize=256)
def _sampled(lane: Lane, seconds: float, columns: int) -> list[float]:
    return [round(lane.at(float(t)), 4) for t in np.linspace(0, seconds, columns)]


class Viewer:
    """Reads the cache for one plan."""

    def __init__(self, session: Session, plan: Plan, code: str, cache: StripCache) -> None:
        self._session, self._plan, self._cache = session, plan, cache
        self._code, self._fingerprints = code, fingerprints_of(plan, code)
        self.latency = max(s.latency for s in plan.strips)

    def _points(self, item: StripPlan, at: str) -> tuple[Buffer, Buffer, list[Stage]]:
        """Return the places before and after, and the stages in between."""
        tap = item.graph.taps.get(at) or item.graph.taps["chain"]
        before, after = tap.wires
        # A stage that is off listens on, but takes nothing away.
        return before.source, after.source, stages_inside(item.strip.chain, at)

    def picture(
        self, strip: str, at: str, begin: int, end: int, columns: int, media: MediaFolder
    ) -> Picture:
        """Return the picture of a passage in so many columns."""
        item = self._plan.strip(strip)
        fingerprint = self._fingerprints[strip]
        first, last, stages = self._points(item, at)
        done = self._cache.done(fingerprint)
        edges = np.linspace(begin, end, columns + 1)
        known = int(np.searchsorted(edges[1:], done, side="right"))
        if done >= self._plan.frames:
            known = columns
        before, after = (
            _columns(
                self._cache.peaks(fingerprint, p, item.graph.channels[p]), edges[: known + 1], GRID
            )
            for p in (first, last)
        )
        if end - begin < columns * GRID:
            fine = self._fine(item, first, last, edges[: known + 1], media)
            if known == columns and any(f is None for f in fine):
                fine = self._exact(item, at, edges, media)
            before, after = (
                f if f is not None else c for f, c in zip(fine, (before, after), strict=True)
            )
        if known < columns and item.strip.audio and first == INPUT:
            size = max([s for s in PEAK_FRAMES if s <= max((end - begin) / columns, GRID)])
            before = _columns(media.peaks(item.strip.audio, size), edges, size)
        body = _body(self._cache.powers(fingerprint, last), edges[: known + 1], self._plan.rate)
        reduction = _most(self.taken(strip, at), edges[: known + 1], 0.0)
        level = np.full(0, NO_LEVEL)
        if len(stages) == 1 and at != "chain":
            cells = self._cells(item, stages[0].id, "level_db")
            level = _most(cells, edges[: known + 1], NO_LEVEL)
        return Picture(
            begin,
            end,
            columns,
            known,
            before,
            after,
            body,
            reduction,
            level,
            detector=self._detector(item, at),
            makeup_db=makeup_inside(inside(item.strip.chain, at), item.context),
        )

    def _fine(
        self, item: StripPlan, first: Buffer, last: Buffer, edges: Floats, media: MediaFolder
    ) -> tuple[Floats | None, Floats | None]:
        """Return both sides sample by sample where their sound is stored: in and out of a strip."""
        before = after = None
        trim = item.strip.trim_db if "trim_db" not in item.own(item.strip.id) else None
        if first == INPUT and item.strip.audio and trim is not None:
            sound = media.sound(item.strip.audio).rows
            before = _samples(sound, edges) * float(to_gain(trim))
            if item.strip.invert:
                before = -before[:, ::-1]
        fingerprint = self._fingerprints[item.strip.id]
        if last == item.graph.output and self._cache.complete(fingerprint):
            after = _samples(self._cache.output(fingerprint, item.context.channels).rows, edges)
        return before, after

    def _exact(
        self, item: StripPlan, at: str, edges: Floats, media: MediaFolder
    ) -> tuple[Floats | None, Floats | None]:
        """Return both sides of a place inside a chain sample by sample, as they are computed."""
        begin, end = int(edges[0]), math.ceil(edges[-1]) + 1
        place = (item.strip.id, at if at in item.graph.taps else "chain")
        found = sounds_at(self._plan, self._code, self._cache, media.source(), place, begin, end)
        if found is None:
            return None, None
        before, after = (_samples(side.astype(np.float32), edges - begin) for side in found)
        return before, after

    def _cells(self, item: StripPlan, stage: str, name: str) -> NDArray[np.float32]:
        node = next((n for n in item.graph.nodes if n.name == stage), None)
        if node is None:
            raise MissingError(f"there is no stage “{stage}” on {item.strip.name}")
        fingerprint = self._fingerprints[item.strip.id]
        return self._cache.cells(fingerprint, stage, name, node.context.channels)

    def reports(
        self, strip: str, at: str, names: list[str], columns: int
    ) -> dict[str, list[float]]:
        """Return what a stage told over the whole song, the most of each column, as far as known.

        Raises:
            MissingError: there is no such strip or stage.
        """
        item = self._plan.strip(strip)
        edges = np.linspace(0, self._plan.frames, columns + 1)
        done = self._cache.done(self._fingerprints[strip])
        known = int(np.searchsorted(edges[1:], done, side="right"))
        if done >= self._plan.frames:
            known = columns
        found = {name: self._cells(item, at, name) for name in names}
        return {
            name: _most(cells, edges[: known + 1], 0.0).tolist() if len(cells) else []
            for name, cells in found.items()
        }

    def taken(self, strip: str, at: str) -> Floats:
        """Return what a place takes away, (cells, 1) in dB (see core.measure.reduction)."""
        item = self._plan.strip(strip)
        fingerprint = self._fingerprints[strip]
        first, last, stages = self._points(item, at)

        def reported(stage: str) -> Floats:
            cells = self._cells(item, stage, "reduction_db")
            return np.asarray(most_of_channels(cells), np.float64)

        held = inside(item.strip.chain, at)
        if len(held) == 1 and isinstance(held[0], Stage):
            return (
                np.asarray(reported(held[0].id), np.float64)[:, None]
                if stages
                else np.zeros((0, 1))
            )
        before, after = (np.asarray(self._cache.powers(fingerprint, p)) for p in (first, last))
        count = min(len(before), len(after))
        most = together(held, reported, count)
        makeup = makeup_inside(held, item.context)
        power_in, power_out = (np.asarray(p[:count], np.float64) for p in (before, after))
        return WholeReduction().feed(power_in, power_out, makeup, most)[:, None]

    def strongest(self, strip: str, at: str, begin: int, end: int) -> tuple[str, float] | None:
        """Return which stage of a place takes most away in a passage, and how much."""
        item = self._plan.strip(strip)
        _, _, stages = self._points(item, at)
        found: tuple[str, float] | None = None
        for stage in stages:
            cells = self._cells(item, stage.id, "reduction_db")[begin // GRID : -(-end // GRID)]
            most = float(cells.max(initial=0.0))
            if most > (found[1] if found else 0.0):
                found = (processor(stage.kind).title, most)
        return found

    def _detector(self, item: StripPlan, at: str) -> bool:
        for stage in item.stages:
            if stage.id == at and processor(stage.kind).has_sidechain:
                filtered = stage.key != Key()
                return filtered or not processor(stage.kind).hears_waveform(stage.params)
        return False

    def hits(self, strip: str, at: str, before: int) -> list[tuple[int, list[float]]]:
        """Return a stage's last hits before a frame (see core.measure.hits)."""
        item = self._plan.strip(strip)
        _, _, stages = self._points(item, at)
        if len(stages) != 1:
            return []
        cells = self._cells(item, stages[0].id, "reduction_db")
        return last_hits(most_of_channels(cells), self._plan.rate, before) if len(cells) else []

    def openings(self, strip: str, at: str) -> list[int]:
        """Return the frames at which a gate opened, as far as the strip is analysed."""
        opened = self._cells(self._plan.strip(strip), at, "opened")
        return [int(cell) * GRID for cell in np.flatnonzero(most_of_channels(opened) > 0)]

    def threshold(self, strip: str, at: str, openings: list[int]) -> tuple[float | None, float]:
        """Return the threshold that keeps these openings, and the share that is analysed."""
        levels = self._cells(self._plan.strip(strip), at, "level_db")
        done = self._cache.done(self._fingerprints[strip]) / max(self._plan.frames, 1)
        if not len(levels):
            return None, 0.0
        return matching_threshold(levels, openings, self._plan.rate), done

    def ledger(self, strip: str, at: str, begin: int, end: int) -> tuple[Ledger | None, float]:
        """Return the ledger of a passage and the share of the strip that is analysed."""
        item = self._plan.strip(strip)
        fingerprint = self._fingerprints[strip]
        first, last, stages = self._points(item, at)
        before, after = (np.nan_to_num(self._cache.rows(fingerprint, p)) for p in (first, last))
        done = self._cache.done(fingerprint) / max(self._plan.frames, 1)
        rows = min(len(before), len(after))
        if rows == 0:
            return None, 0.0
        cells = self.taken(strip, at)
        hits = percussive(before[:rows])
        drums = hits and all(processor(s.kind).releases_between_hits for s in stages)
        found = ledger(
            before[:rows],
            after[:rows],
            cells,
            self._plan.rate,
            Span("", begin, end),
            section_spans(self._session),
            percussive=drums,
            alone=stages[0].kind if len(stages) == 1 else None,
            wall=item.strip.kind == "main" and _ends_in(item.strip.chain, at),
        )
        watch = Watch(self._plan, item, self._fingerprints, self._cache)
        more = watch.cautions(at, Span("", begin, end), percussive=hits)
        told = replace(
            found,
            cautions=[*more, *found.cautions],
            strongest=self.strongest(strip, at, begin, end),
            given_back_db=_given_back(item, stages[0]) if len(stages) == 1 else None,
        )
        return told, done

    def later(
        self, strip: str, at: str, begin: int, end: int, earlier: "Viewer | None"
    ) -> list[Later]:
        """Return what later stages have to do over a passage (see core.measure.later)."""

        def now(owner: str, stage: str) -> ReductionFigures | None:
            return self.held_back(owner, stage, begin, end)

        def before(owner: str, stage: str) -> ReductionFigures | None:
            if earlier is None or earlier.fingerprint(owner) == self._fingerprints[owner]:
                return None
            return earlier.held_back(owner, stage, begin, end)

        return later(self._plan, strip, at, now, before)

    def fingerprint(self, strip: str) -> str | None:
        """Return the fingerprint of a strip, None where there is no such strip."""
        return self._fingerprints.get(strip)

    def held_back(self, strip: str, stage: str, begin: int, end: int) -> ReductionFigures | None:
        """Return the reduction of a stage over a passage; None where that is not known in full."""
        item = next((s for s in self._plan.strips if s.strip.id == strip), None)
        if item is None or stage not in [s.id for s in item.stages]:
            return None
        if self._cache.done(self._fingerprints[strip]) < min(end, self._plan.frames):
            return None
        cells = self._cells(item, stage, "reduction_db")
        return reduction_figures(np.asarray(cells[begin // GRID : -(-end // GRID)], np.float64))

    def split(self, name: str) -> SplitDrawing:
        """Return what to draw for a split, or for a bus's join."""
        for item in self._plan.strips:
            if item.strip.id == name:
                return bus_drawing(item.strip, item.measurement(f"bus:{name}"))
            for element in elements(item.strip.chain):
                if element.id == name and isinstance(element, Split):
                    return split_drawing(element, self._plan.rate, item.measurement(name))
        raise MissingError(f"there is no split “{name}”")

    def lanes(self, columns: int) -> list[LaneView]:
        """Return every moving control over the song, sampled."""

        def seen(owner: str, control: str, lane: Lane) -> LaneView:
            values = _sampled(lane, self._plan.frames / self._plan.rate, columns)
            return LaneView(owner, control, lane.move is not None, values)

        found = []
        for item in self._plan.strips:
            for owner, lanes in item.lanes.items():
                found += [seen(owner, n, lane) for n, lane in lanes.items()]
        for lever in self._session.levers:
            for one in self._session.automation:
                if (one.owner, one.control) == (lever.id, "value"):
                    lane = Lane(lever_scale(), tuple(one.points))
                    found.append(seen(lever.id, "value", lane))
        return found


def _columns(
    peaks: NDArray[np.float32], edges: NDArray[np.float64], size: int
) -> NDArray[np.float64]:
    """Return (columns, 2): minimum and maximum over all channels between the edges."""
    count = len(edges) - 1
    if count < 1 or len(peaks) == 0:
        return np.zeros((max(count, 0), 2))
    low, high = least_of_channels(peaks[:, 0]), most_of_channels(peaks[:, 1])
    starts = np.minimum((edges[:-1] / size).astype(int), len(peaks) - 1)
    out = np.stack([np.minimum.reduceat(low, starts), np.maximum.reduceat(high, starts)], axis=1)
    # reduceat runs to the end for the last column
    end = max(starts[-1] + 1, min(int(np.ceil(edges[-1] / size)), len(peaks)))
    out[-1] = low[starts[-1] : end].min(), high[starts[-1] : end].max()
    return np.nan_to_num(out.astype(np.float64))


def _samples(sound: NDArray[np.float32], edges: Floats) -> Floats:
    """Return (columns, 2): minimum and maximum of the samples between the edges, one at least."""
    count = max(len(edges) - 1, 0)
    out = np.zeros((count, 2))
    starts = np.floor(edges).astype(int)
    for i in range(count):
        piece = sound[starts[i] : max(starts[i + 1], starts[i] + 1) + 1]
        if len(piece):
            out[i] = piece.min(), piece.max()
    return np.nan_to_num(out)


BODY_MS = (3.0, 50.0)
"""Least and most time over which the level is taken for the picture."""


def _body(powers: NDArray[np.float32], edges: Floats, rate: int) -> Floats:
    """Return the RMS around every column, over its own length within BODY_MS."""
    count = max(len(edges) - 1, 0)
    if count == 0 or len(powers) == 0:
        return np.zeros(count)
    least, most = (ms / 1000 * rate / GRID for ms in BODY_MS)
    middle = (edges[:-1] + edges[1:]) / 2 / GRID
    half = np.clip(np.diff(edges) / GRID, least, most) / 2
    total = np.concatenate([[0.0], np.cumsum(powers, dtype=np.float64)])
    low = np.clip(np.floor(middle - half), 0, len(powers) - 1).astype(int)
    high = np.clip(np.ceil(middle + half), low + 1, len(powers)).astype(int)
    return np.asarray(np.sqrt(np.maximum(total[high] - total[low], 0) / (high - low)))


def _most(
    cells: NDArray[np.floating], edges: NDArray[np.float64], empty: float
) -> NDArray[np.float64]:
    count = max(len(edges) - 1, 0)
    if count == 0 or len(cells) == 0:
        return np.full(count, empty)
    worst = most_of_channels(cells)
    starts = np.minimum((edges[:-1] / GRID).astype(int), len(worst) - 1)
    out = np.maximum.reduceat(worst, starts)
    end = max(starts[-1] + 1, min(int(np.ceil(edges[-1] / GRID)), len(worst)))
    out[-1] = worst[starts[-1] : end].max()
    return out.astype(np.float64)


def _given_back(item: StripPlan, stage: Stage) -> float | None:
    """Return the gain with which a stage keeps the loudness, where it is measured."""
    if item.measurement(stage.id) is None:
        return None
    planned = next(n.element for n in item.graph.nodes if n.element.id == stage.id)
    assert isinstance(planned, Stage)
    return float(planned.params.model_dump()["given_back_db"])


def _ends_in(chain: list[Element], at: str) -> bool:
    """Say whether a place is the limiter with which a chain ends."""
    last = next((e for e in reversed(chain) if e.on), None)
    return isinstance(last, Stage) and last.kind == "limiter" and last.id == at
