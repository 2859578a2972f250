"""What a tab is told of every block that it hears."""

from collections import deque
from copy import copy
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

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
from salt_anvil.core.measure.overview import extremes, peaks, raise_to_most
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

SPECTRUM_BLOCKS = 4
"""A spectrum is told every so many blocks."""


SILENT_METER = np.zeros(3, np.float32)


class MainMeter:
    """Loudness of the last 400 ms and true peak of what leaves the main bus."""

    def __init__(self, rate: int) -> None:
        self._meter = RowMeter(rate, 2)
        self._last: deque[Sound] = deque(maxlen=4)
        self.momentary, self.true_peak = SILENT, -120.0

    def clone(self) -> "MainMeter":
        """Return an independent one at the same place."""
        other = copy(self)
        other._meter, other._last = self._meter.clone(), self._last.copy()
        return other

    def feed(self, sound: Sound) -> None:
        """Take what is sent."""
        for row in self._meter.feed(sound):
            self._last.append(row)
            power = float(np.mean([r[K] for r in self._last]))
            self.momentary = max(OFFSET + power_to_db(power), SILENT)
            self.true_peak = max(self.true_peak, to_db(float(row[TRUE_PEAK])))


Pairs = list[tuple[float, float]]


def _extremes(sound: Sound) -> Pairs:
    """Return the least and the most of each cell, all channels together."""
    cells = extremes(sound, GRID)
    pairs = np.stack([least_of_channels(cells[:, 0]), most_of_channels(cells[:, 1])], axis=1)
    return [(low, high) for low, high in np.round(pairs.astype(np.float64), 5).tolist()]


def _peaks(sound: Sound) -> Pairs:
    """Return the peaks of left and right, block by block."""
    highest = np.round(peaks(sound, BLOCK).astype(np.float64), 5).tolist()
    return [(sides[0], sides[-1]) for sides in highest]


def _powers(sound: Sound) -> Sound:
    """Return the mean square of each cell, all channels together."""
    return np.asarray(np.square(sound).mean(axis=1).reshape(-1, GRID).mean(axis=1))


def _rounded(cells: Sound | None) -> list[float]:
    """Return the louder channel of each cell with two decimals."""
    return [] if cells is None else _told(most_of_channels(cells))


def _told(values: Sound, digits: int = 2) -> list[float]:
    """Return values for the page, rounded."""
    found: list[float] = np.round(values, digits).tolist()
    return found


class _StageLists:
    """What a stage tells of blocks computed in one go, as it is sent; fewer cells than there is
    sound where a checkpoint kept none."""

    def __init__(self, reported: dict[str, Sound]) -> None:
        self.reduction = _rounded(reported.get("reduction_db"))
        self._boost = _rounded(reported.get("boost_db"))
        self._touched = _rounded(reported.get("touched"))
        self._overshoot = _rounded(reported.get("overshoot_db"))
        self._attack = _rounded(reported.get("attack_share"))
        self._sustain = _rounded(reported.get("sustain_share"))
        self._level = _rounded(reported.get("level_db"))
        self._phase = [int(v) for v in _rounded(reported.get("phase"))]
        self._opened = _rounded(reported.get("opened"))
        self._moves = [_rounded(c) for n, c in reported.items() if n.startswith("move")]

    def meter(self, cells: slice) -> StageMeter:
        """Return what is told of some cells."""
        moves = [m[cells] for m in self._moves]
        return StageMeter.model_construct(
            reduction=self.reduction[cells],
            boost=self._boost[cells],
            touched=self._touched[cells],
            overshoot=self._overshoot[cells],
            attack=self._attack[cells],
            sustain=self._sustain[cells],
            moves=[max(m) for m in moves if m],
            level=self._level[cells],
            phase=self._phase[cells],
            opened=int(sum(self._opened[cells])),
        )


class _Watched:
    """What is told of the watched strip's blocks that were computed in one go."""

    def __init__(self, given: StripBlock, watched: str) -> None:
        self.given, self.watched = given, watched
        self.sides = given.taps.get(watched) or (given.out, given.out)
        self.before, self.after = (_extremes(side) for side in self.sides)
        self.stages = {name: _StageLists(told) for name, told in given.cells.items()}

    @cached_property
    def powers(self) -> tuple[Sound, Sound]:
        """The power of each cell on both sides."""
        before, after = self.sides
        return _powers(before), _powers(after)

    @cached_property
    def body(self) -> list[float]:
        """The level of each cell behind the place."""
        return _told(np.sqrt(self.powers[1]), 5)


class _StripMeters:
    """A strip's meters of blocks that were computed in one go: peaks, and the most taken away."""

    def __init__(self, given: StripBlock, faded: Sound, most: list[float]) -> None:
        self.given, self.faded = given, faded
        self.peaks, self.most = _peaks(faded), most


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


class Measured(NamedTuple):
    """What adds up from block to block."""

    main: MainMeter
    whole: WholeReduction


class Reporter:
    """Tells a tab what every block did: meters, spectra, what is taken away."""

    def __init__(self, rate: int) -> None:
        self.main = MainMeter(rate)
        self._spectra = (Spectrum(rate), Spectrum(rate))
        self._gains = np.zeros((0, 3))
        self._whole = WholeReduction()
        self._watched: _Watched | None = None
        self._meters: dict[str, _StripMeters] = {}

    def measured(self) -> Measured:
        """Return what has been measured so far, to go back to."""
        return Measured(self.main.clone(), copy(self._whole))

    def go_back(self, to: Measured) -> None:
        """Go on measuring from there. What a spectrum was shown is seen a little longer."""
        self.main, self._whole = to.main.clone(), copy(to.whole)

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
        watched = strip_of(self._at.plan, self._at.listen)
        off = {s.id for s in self._at.plan.strip(watched).stages if not s.on}
        given, k = block.strips.piece(watched)
        place = self._at.watched
        told = self._watched
        if told is None or told.given is not given or told.watched != place:
            told = self._watched = _Watched(given, place)
        cells, frames = slice(k * CELLS, (k + 1) * CELLS), slice(k * BLOCK, (k + 1) * BLOCK)
        before, after = told.sides
        sides = before[frames], after[frames]
        return BlockReport.model_construct(
            frame=(self._at.mixer.position - 1) * BLOCK,
            before=told.before[cells],
            after=told.after[cells],
            body=told.body[cells],
            taken=self._taken(told, cells),
            strips=self._strip_meters(block),
            stages={name: s.meter(cells) for name, s in told.stages.items() if name not in off},
            removed_gain=self._removed_gain(),
            spectrum=self._spectrum(sides),
            sides=self._sides(),
            correlation=round(correlation(sides[1]), 3),
            momentary=round(self.main.momentary, 1),
            true_peak=round(self.main.true_peak, 1),
        )

    def _taken(self, told: _Watched, cells: slice) -> list[float]:
        """Return what the watched place takes away, per cell (see core.measure.reduction)."""
        item = self._at.plan.strip(strip_of(self._at.plan, self._at.listen))
        held = inside(item.strip.chain, told.watched)
        if len(held) == 1 and isinstance(held[0], Stage):
            known = held[0].on and held[0].id in told.stages
            return told.stages[held[0].id].reduction[cells] if known else []

        def reported(stage: str) -> Sound:
            found = told.given.cells.get(stage, {}).get("reduction_db")
            if found is None or not len(found[cells]):
                return np.zeros(0)
            return most_of_channels(found[cells])

        before, after = (power[cells] for power in told.powers)
        most = together(held, reported, len(before))
        return _told(self._whole.feed(before, after, makeup_inside(held, item.context), most))

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
        if len(self._meters) > len(block.strips):  # some are no longer there
            self._meters = {}
        for name in block.strips:
            given, k = block.strips.piece(name)
            sound, at = block.faded.piece(name)
            meters = self._meters.get(name)
            if meters is None or meters.given is not given or meters.faded is not sound:
                meters = _StripMeters(given, sound, self._most_reduced(name, given))
                self._meters[name] = meters
            found[name] = (*meters.peaks[at], meters.most[k])
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
                raise_to_most(most, cells, CELLS)
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
