"""What a tab is told of every block that it hears."""

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import TypeVar

import numpy as np

from salt_anvil.core.audio import (
    BLOCK,
    GRID,
    Sound,
    least_of_channels,
    most_of_channels,
)
from salt_anvil.core.dsp.decibel import power_to_db, to_db, to_gain
from salt_anvil.core.dsp.gating import OFFSET
from salt_anvil.core.engine.mixer import MixBlock, Mixer
from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.engine.strip import CELLS, StripBlock
from salt_anvil.core.measure.loudness import SILENT
from salt_anvil.core.measure.overview import extremes
from salt_anvil.core.measure.reduction import (
    WholeReduction,
    inside,
    makeup_inside,
    together,
)
from salt_anvil.core.measure.rows import TRUE_PEAK, K, RowMeter
from salt_anvil.core.measure.spectrum import Spectrum, correlation
from salt_anvil.core.processors import processor
from salt_anvil.core.session import Stage
from salt_anvil.live.listening import strip_of, watched_place
from salt_anvil.live.messages import BlockReport, Listen, StageMeter

T = TypeVar("T")
V = TypeVar("V")
SPECTRUM_BLOCKS = 4
"""A spectrum is told every so many blocks."""


SILENT_METER = np.zeros(3, np.float32)


class MainMeter:
    """Loudness of the last 400 ms and true peak of what leaves the main bus."""

    def __init__(self, rate: int) -> None:
        self._meter = RowMeter(rate, 2)
        self._last: deque[Sound] = deque(maxlen=4)
        self.momentary, self.true_peak = SILENT, -120.0

    def feed(self, sound: Sound) -> None:
        """Take what is sent."""
        for row in self._meter.feed(sound):
            self._last.append(row)
            power = float(np.mean([r[K] for r in self._last]))
            self.momentary = max(OFFSET + power_to_db(power), SILENT)
            self.true_peak = max(self.true_peak, to_db(float(row[TRUE_PEAK])))


def _extremes(sound: Sound) -> Sound:
    cells = extremes(sound, GRID)
    pairs = np.stack([least_of_channels(cells[:, 0]), most_of_channels(cells[:, 1])], axis=1)
    return np.asarray(np.round(pairs.astype(np.float64), 5))


def _metered(known: dict[str, tuple[T, V]], name: str, piece: T, meter: Callable[[T], V]) -> V:
    """Return what a meter tells of blocks that were computed in one go, found once for all."""
    before = known.get(name)
    if before is None or before[0] is not piece:
        before = known[name] = piece, meter(piece)
    return before[1]


def _peaks(sound: Sound) -> list[tuple[float, float]]:
    """Return the peaks of left and right, block by block."""
    highest = np.abs(extremes(sound, BLOCK)).max(axis=1).astype(np.float64)
    return [(sides[0], sides[-1]) for sides in np.round(highest, 5).tolist()]


def _body(sound: Sound) -> list[float]:
    """Return the level of each cell, all channels together."""
    power = np.square(sound).mean(axis=1).reshape(-1, GRID).mean(axis=1)
    return _told(np.sqrt(power), 5)


def _rounded(cells: Sound | None) -> list[float]:
    """Return the louder channel of each cell with two decimals."""
    return [] if cells is None else _told(most_of_channels(cells))


def _told(values: Sound, digits: int = 2) -> list[float]:
    """Return values for the page, rounded."""
    found: list[float] = np.round(values, digits).tolist()
    return found


@dataclass(frozen=True)
class Place:
    """What is told of: a plan, its mixer, and where the tab listens."""

    plan: Plan
    mixer: Mixer
    listen: Listen

    @property
    def watched(self) -> str:
        """The place listened to."""
        return watched_place(self.plan, self.listen)


class Reporter:
    """Tells a tab what every block did: meters, spectra, what is taken away."""

    def __init__(self, rate: int) -> None:
        self.main = MainMeter(rate)
        self._spectra = (Spectrum(rate), Spectrum(rate))
        self._gains = np.zeros((0, 3))
        self._whole = WholeReduction()
        self._most: dict[str, tuple[StripBlock, list[float]]] = {}
        self._peaks: dict[str, tuple[Sound, list[tuple[float, float]]]] = {}

    def listen_elsewhere(self) -> None:
        """What was taken away at another place does not count here."""
        self._whole = WholeReduction()

    def jump(self, rate: int) -> None:
        """Measure what leaves the main bus anew."""
        self.main = MainMeter(rate)

    def report(self, at: Place, block: MixBlock) -> BlockReport:
        """Return what a block did, which the mixer must just have given."""
        self._at = at
        return self._report(block)

    def _report(self, block: MixBlock) -> BlockReport:
        stages = {}
        strips = self._strip_meters(block)
        watched = strip_of(self._at.plan, self._at.listen)
        off = {s.id for s in self._at.plan.strip(watched).stages if not s.on}
        given = block.strips[watched]
        for stage, reported in given.cells.items():
            if stage in off:
                continue
            reduction, level = reported.get("reduction_db"), reported.get("level_db")
            stages[stage] = StageMeter.model_construct(
                reduction=_rounded(reduction),
                boost=_rounded(reported.get("boost_db")),
                touched=_rounded(reported.get("touched")),
                overshoot=_rounded(reported.get("overshoot_db")),
                attack=_rounded(reported.get("attack_share")),
                sustain=_rounded(reported.get("sustain_share")),
                moves=[
                    max(_rounded(c)) for n, c in reported.items() if n.startswith("move") and len(c)
                ],
                level=_rounded(level),
                phase=[int(v) for v in _rounded(reported.get("phase"))],
                opened=int(sum(_rounded(reported.get("opened")))),
            )
        taps = given.taps.get(self._at.watched)
        sides = taps if taps else (given.out,) * 2
        before, after = ([(float(a), float(b)) for a, b in _extremes(side)] for side in sides)
        return BlockReport.model_construct(
            frame=(self._at.mixer.position - 1) * BLOCK,
            before=before,
            after=after,
            body=_body(sides[1]),
            taken=self._taken(given, sides),
            strips=strips,
            stages=stages,
            removed_gain=self._removed_gain(),
            spectrum=self._spectrum(sides),
            sides=self._sides(),
            correlation=round(correlation(sides[1]), 3),
            momentary=round(self.main.momentary, 1),
            true_peak=round(self.main.true_peak, 1),
        )

    def _taken(self, given: StripBlock, sides: tuple[Sound, ...]) -> list[float]:
        """Return what the watched place takes away, per cell (see core.measure.reduction)."""
        item = self._at.plan.strip(strip_of(self._at.plan, self._at.listen))
        cells = given.cells
        held = inside(item.strip.chain, self._at.watched)

        def reported(stage: str) -> Sound:
            found = cells.get(stage, {}).get("reduction_db")
            return np.zeros(0) if found is None or not len(found) else most_of_channels(found)

        if len(held) == 1 and isinstance(held[0], Stage):
            own = reported(held[0].id) if held[0].on else np.zeros(0)
            return _told(own)
        powers = [np.square(s).mean(axis=1).reshape(-1, GRID).mean(axis=1) for s in sides]
        most = together(held, reported, len(powers[0]))
        taken = self._whole.feed(powers[0], powers[1], makeup_inside(held, item.context), most)
        return _told(taken)

    def _spectrum(self, sides: tuple[Sound, ...]) -> tuple[list[float], list[float]] | None:
        """Return the spectra of both sides, every SPECTRUM_BLOCKS."""
        for meter, side in zip(self._spectra, sides, strict=True):
            meter.feed(side)
        if self._at.mixer.position % SPECTRUM_BLOCKS:
            return None
        before, after = (np.round(m.levels(), 1).tolist() for m in self._spectra)
        return before, after

    def _sides(self) -> tuple[list[float], list[float]] | None:
        item = self._at.plan.strip(strip_of(self._at.plan, self._at.listen))
        # Only where a picture of middle and sides can be looked at.
        seen = any("sides" in processor(s.kind).pictures for s in item.stages)
        if not seen or self._at.mixer.position % SPECTRUM_BLOCKS:
            return None
        before, after = (np.round(m.side_levels(), 1).tolist() for m in self._spectra)
        return before, after

    def _strip_meters(self, block: MixBlock) -> dict[str, tuple[float, float, float]]:
        found = {}
        if len(self._most) > len(block.strips):  # some are no longer there
            self._most, self._peaks = {}, {}
        for name in block.strips:
            given, k = block.strips.piece(name)
            sound, at = block.faded.piece(name)
            most = _metered(self._most, name, given, partial(self._most_reduced, name))
            peaks = _metered(self._peaks, name, sound, _peaks)
            found[name] = (*peaks[at], most[k])
        return found | self._read_meters(self._at.mixer.position - 1)

    def _most_reduced(self, name: str, given: StripBlock) -> list[float]:
        """Return the most that any stage takes away, block by block."""
        count = len(given.out) // BLOCK
        most = np.zeros(count)
        off = {s.id for s in self._at.plan.strip(name).stages if not s.on}
        for stage, reported in given.cells.items():
            cells = reported.get("reduction_db")
            if stage not in off and cells is not None:
                # Checkpoints do not keep reports: there may be fewer of them than of the sound.
                whole = np.zeros((count * CELLS, cells.shape[1]))
                whole[: len(cells)] = cells
                most = np.maximum(most, whole.reshape(count, -1).max(axis=1))
        return _told(most)

    def _read_meters(self, k: int) -> dict[str, tuple[float, float, float]]:
        """Return the meters of the strips that are read; their gains are looked up now and then."""
        frozen = self._at.mixer.frozen
        if not frozen:
            return {}
        names = list(frozen)
        if k % 8 == 0 or len(self._gains) != len(names):
            gains = [self._at.mixer.gains(self._at.plan.strip(n)) for n in names]
            self._gains = np.column_stack([np.array(gains), np.ones(len(names))])
        rows = [f.meters[k] if k < len(f.meters) else SILENT_METER for f in frozen.values()]
        values = np.round(np.array(rows) * self._gains, 4).tolist()
        return dict(zip(names, map(tuple, values), strict=True))

    def _removed_gain(self) -> float:
        """Return the gain that undoes the make-up of what is listened to."""
        if self._at.listen.strip is None:
            return 1.0
        item = self._at.plan.strip(strip_of(self._at.plan, self._at.listen))
        held = inside(item.strip.chain, self._at.watched)
        return float(to_gain(-makeup_inside(held, item.context)))
