"""One tab's playback: a mixer that runs ahead of what the tab has played."""

import math
import os
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from salt_anvil.core.audio import BLOCK, GRID, Sound, as_block
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.dsp.crossfade import crossfaded
from salt_anvil.core.dsp.decibel import power_to_db, to_db, to_gain
from salt_anvil.core.dsp.stereo import peaks
from salt_anvil.core.edits import Edit, apply_edits
from salt_anvil.core.engine.bypass_mix import BypassMix
from salt_anvil.core.engine.cached import CachedStrip
from salt_anvil.core.engine.mixer import MixBlock, Mixer, Source
from salt_anvil.core.engine.plan import Plan, roll_blocks
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.routing import dependents
from salt_anvil.core.engine.strip import AT_ONCE, CHECKPOINT
from salt_anvil.core.errors import CoreError
from salt_anvil.core.measure.loudness import OFFSET, SILENT
from salt_anvil.core.measure.reduction import (
    WholeReduction,
    inside,
    makeup_inside,
    together,
)
from salt_anvil.core.measure.rows import TRUE_PEAK, K, RowMeter
from salt_anvil.core.measure.spectrum import Spectrum, correlation
from salt_anvil.core.processors import processor
from salt_anvil.core.session import Session, Stage, branches
from salt_anvil.core.state import State
from salt_anvil.files.media import extremes
from salt_anvil.live.ahead import TimeAhead
from salt_anvil.live.messages import BlockReport, Listen, StageMeter, Transport

COLD_LIMIT_S = 12.0
"""Without a checkpoint, a seek rolls forward over at most this much."""
START_S = float(os.environ.get("SALT_ANVIL_START_S", "0.25"))
"""Nobody waits longer than this for the first sound: the exact state is handed over later."""
LOUDEST = 1000.0
"""Amplitude that nothing passes on its way out (+60 dBFS)."""

SPECTRUM_BLOCKS = 4
"""A spectrum is told every so many blocks."""

SILENT_METER = np.zeros(3, np.float32)

SHARE_AT_ONCE = 1 / 3
"""So much of the time ahead may be computed in one go."""

PATIENCE = 60
"""Turns after a change, or after missing checkpoints, before the loop's start is looked up."""


class RenderCache:
    """What is known of plans from before: measurements, checkpoints, whole strips.

    This one knows nothing; the engine process gives one that reads the cache.
    """

    def join_measurement(self, digest: str) -> JoinMeasurement | None:
        """Return the measurement of a steady join."""
        return None

    def states(self, plan: Plan, names: set[str], block: int) -> tuple[int, dict[str, State]]:
        """Return the last block at or before one for which all named strips have states."""
        return 0, {}

    def frozen(self, plan: Plan) -> dict[str, CachedStrip]:
        """Return the strips that can be read from end to end."""
        return {}

    def group(self, digest: str) -> Callable[[int], Sound] | None:
        """Return a kept sum of a bus's inputs."""
        return None


@dataclass(frozen=True)
class AudioChunk:
    """Consecutive frames to send."""

    epoch: int
    sequence: int
    frame: int
    sound: Sound
    report: BlockReport


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


def needed(plan: Plan, listen: Listen) -> set[str]:
    """Return the strips that must run: the one listened to and all that follows from it."""
    at = listen.strip if listen.strip in plan.digests else plan.main
    assert at is not None
    return {at, plan.main} | dependents(plan, at)


def _mixer(
    plan: Plan,
    source: Source,
    shelf: RenderCache,
    running: set[str],
    block: int,
    listen: Listen,
    only: bool = False,
) -> tuple[Mixer, bool]:
    """Return a mixer before a block or earlier, and whether in the state of the whole song.

    running: strips that must not be read. only: nothing but these will be asked for.
    """
    frozen = {n: f for n, f in shelf.frozen(plan).items() if n not in running}
    mixer = Mixer(plan, source, frozen=frozen, groups=shelf.group)
    mixer.watch(_strip(plan, listen), watched_place(plan, listen))
    names = running if only else set(plan.digests) - frozen.keys()
    at, stored = shelf.states(plan, names, block)
    exact = block - at <= round(COLD_LIMIT_S * plan.rate / BLOCK)
    if not exact:
        at, stored = block - CHECKPOINT, {}
    if at:
        mixer.locate(at, stored)
    return mixer, exact


class PlaybackRun:
    """A mixer, and its shadow where one is heard, on their way to a block."""

    def __init__(
        self, plan: Plan, source: Source, shelf: RenderCache, target: int, listen: Listen
    ) -> None:
        watched = watched_place(plan, listen)
        self.plan, self.target, self.listen = plan, target, listen
        begin = max(target - roll_blocks(plan), 0)
        running = needed(plan, listen)
        self.mixer, self.exact = _mixer(plan, source, shelf, running, begin, listen)
        self.shadow: BypassMix | None = None
        if listens_in_mix(plan, listen):
            assert listen.strip is not None
            self.shadow = BypassMix(self.mixer, listen.strip, watched)
        self.mixer.foresee(target)

    def roll(self) -> bool:
        """Run one block towards the target; return whether it is reached."""
        if self.mixer.position < self.target:
            k = self.mixer.position
            self.mixer.block()
            if self.shadow is not None:
                self.shadow.block(k)
        return self.mixer.position >= self.target

    def roll_for(self, seconds: float) -> bool:
        """Run towards the target for so long; return whether it is reached."""
        until = time.monotonic() + seconds
        while not self.roll():
            if time.monotonic() > until:
                return False
        return True

    def chase(self, target: int) -> None:
        """Go for another block, further on."""
        self.target = target
        self.mixer.foresee(target)


class StripRestart:
    """Frozen strips on their way to run again, beside the play of what they gave."""

    def __init__(
        self, mixer: Mixer, source: Source, shelf: RenderCache, names: set[str], listen: Listen
    ) -> None:
        block = mixer.position
        self.names, self.plan = names, mixer.plan
        begin = max(block - roll_blocks(mixer.plan), 0)
        self._own, _ = _mixer(mixer.plan, source, shelf, names, begin, listen, only=True)

    def roll(self, target: int) -> bool:
        """Run one block; return whether the target is reached."""
        if self._own.position < target:
            self._own.block(tuple(n for n in self.names if n not in self._own.frozen))
        return self._own.position == target

    def hand_over(self, mixer: Mixer) -> None:
        """Put the strips into a mixer that stands at the same block."""
        for name in self.names & mixer.frozen.keys():
            mixer.thaw(name, self._own)


def watched_place(plan: Plan, listen: Listen) -> str:
    """Return the place listened to: a tap of the strip's chain, or "chain"."""
    taps = plan.strip(_strip(plan, listen)).graph.taps
    known = listen.at.removeprefix("key:") in taps
    return listen.at if known else "chain"


def _strip(plan: Plan, listen: Listen) -> str:
    return listen.strip if listen.strip in plan.digests else plan.main


def listens_in_mix(plan: Plan, listen: Listen) -> bool:
    """Say whether the mix is heard, with and without the watched place."""
    if listen.strip is None or listen.strip not in plan.digests or listen.alone:
        return False
    at = watched_place(plan, listen)
    inner = {b.id for b in branches(plan.strip(listen.strip).strip.chain)}
    return not at.startswith("key:") and at not in inner


class Player:
    """Plays a session for one tab. Every jump starts a new epoch, higher than all before."""

    def __init__(
        self,
        session: Session,
        source: Source,
        shelf: RenderCache,
        *,
        epoch: int = 0,
        ahead: TimeAhead | None = None,
    ) -> None:
        self.ahead = ahead or TimeAhead()
        self.others_ms = math.inf
        """The least time ahead of the others who play: nobody may be kept waiting longer."""
        self._source, self._shelf = source, shelf
        self._confirmed = self._model = session
        self._listen = self._requested = Listen()
        self._before_gain = 1.0
        self.playing = False
        self.frame = 0
        self.loop: tuple[int, int] | None = None
        self.epoch = epoch
        self._sequence = self._sent = self._played = 0
        self._arriving: tuple[PlaybackRun, float] | None = None
        self._catching: PlaybackRun | None = None
        self._plan = make_plan(session, measured=shelf.join_measurement)
        self._meter = MainMeter(session.rate)
        self._mixer: Mixer | None = None
        self._shadow: BypassMix | None = None
        self._spectra = (Spectrum(session.rate), Spectrum(session.rate))
        self._ready: PlaybackRun | None = None
        self._thaw: StripRestart | None = None
        self._gains = np.zeros((0, 3))
        self._whole = WholeReduction()
        self._patience = self._cooling = 0

    @property
    def rate(self) -> int:
        """The session's rate in Hz."""
        return self._plan.rate

    def transport(self) -> Transport:
        """Return how play stands."""
        return Transport(
            playing=self.playing,
            frame=self.frame,
            loop=self.loop,
            epoch=self.epoch,
            waiting=None if self._arriving is None else "the strips are brought to this place",
        )

    # Commands ---------------------------------------------------------------------------------

    def play(self, frame: int | None) -> None:
        """Start from a frame, or from where it stands; inside the loop if there is one."""
        at = self.frame if frame is None else frame
        if self.loop is not None and not self.loop[0] <= at < self.loop[1]:
            at = self.loop[0]
        self._jump(at)
        self.playing = True

    def stop(self) -> None:
        """Stop where the tab has got to."""
        self.playing = False
        self.epoch += 1
        self._sequence = self._sent = self._played = 0

    def seek(self, frame: int) -> None:
        """Go to a frame, playing or not."""
        self._jump(frame)

    def set_loop(self, begin: int | None, end: int | None) -> None:
        """Loop [begin, end) from now on, or stop looping."""
        self.loop = None
        if begin is not None and begin >= self._plan.frames:
            return
        if begin is not None and end is not None and end - begin >= BLOCK:
            self.loop = (begin, min(end, self._plan.frames))
            if self.playing and not begin <= self.frame < end:
                self._jump(begin)

    def listen(self, where: Listen) -> None:
        """Listen elsewhere, without a gap."""
        before = self._listen
        self._requested = where
        try:
            self._take(self._model)
        except CoreError:
            self._requested = before
            raise

    def same_loudness(self, before_db: float) -> None:
        """Set the level of the untreated side inside the mix."""
        self._before_gain = to_gain(before_db)
        if self._shadow is not None:
            self._shadow.level(self._before_gain)

    def preview(self, edits: list[Edit]) -> None:
        """Hear edits that are not stored yet.

        Raises:
            CoreError: they cannot be done; nothing has changed.
        """
        model, _ = apply_edits(self._confirmed, edits)
        self._take(model)

    def confirm(self, session: Session) -> None:
        """Take the stored model.

        Raises:
            CoreError: it cannot be run; the old one goes on playing.
        """
        self._take(session)
        self._confirmed = session

    def played(self, epoch: int, frames: int) -> None:
        """Note what the tab has used up."""
        if epoch == self.epoch:
            self._played = frames

    # Sound ------------------------------------------------------------------------------------

    @property
    def ready_ms(self) -> float:
        """How much sound is on its way to the tab, or there, and not played yet."""
        return 1000 * (self._sent - self._played) / self._plan.rate

    @property
    def _block_ms(self) -> float:
        return 1000 * BLOCK / self._plan.rate

    @property
    def _together(self) -> int:
        """How many blocks are computed in one go: the more, the longer everybody can wait.

        As long as little is ready, few; unless play is behind, when only what is faster helps.
        """
        least = min(self.ahead.ms, self.others_ms) * SHARE_AT_ONCE
        if not self.ahead.behind:
            least = min(least, self.ready_ms)
        return min(max(int(least / self._block_ms), 1), AT_ONCE)

    def wants(self) -> bool:
        """Say whether what is computed in one go fits into the time ahead, or is under way."""
        if not self.playing or self._arriving is not None:
            return False
        if self._mixer is not None and self._mixer.position < self._mixer.until:
            return True
        return self.ready_ms + (self._together - 1) * self._block_ms < self.ahead.ms

    def watch_time(self) -> None:
        """Let the time ahead know how much of it there is."""
        if self.playing and self._arriving is None:
            self.ahead.note(self.ready_ms, (self._together - 1) * self._block_ms)

    def pieces(self) -> list[AudioChunk]:
        """Return the next block, in two pieces where the loop wraps inside it."""
        if self._arriving is not None:
            self.arrive()
        assert self._mixer is not None
        at_end = self.loop[1] if self.loop and self.frame < self.loop[1] else None
        k = self.frame // BLOCK
        offset = self.frame - k * BLOCK
        block, sound = self._next_block()
        count = BLOCK - offset
        if at_end is not None and self.frame + count >= at_end:
            count = at_end - self.frame
        self._meter.feed(block.faded[self._plan.main][offset : offset + count])
        piece = self._piece(sound[offset : offset + count], block)
        self.frame += count
        if at_end is not None and self.frame == at_end and self.loop:
            self._wrap(self.loop[0])
        elif self.frame >= self._plan.frames + self._plan.rate:
            self.playing = False
            self.frame = 0
        return [piece] if count else self.pieces()

    def _piece(self, sound: Sound, block: MixBlock) -> AudioChunk:
        if not np.abs(sound).max(initial=0.0) <= LOUDEST:
            sound = np.clip(np.nan_to_num(sound, nan=0.0), -LOUDEST, LOUDEST)
        piece = AudioChunk(self.epoch, self._sequence, self.frame, sound, self._report(block))
        self._sequence += 1
        self._sent += len(sound)
        return piece

    def _next_block(self) -> tuple[MixBlock, Sound]:
        assert self._mixer is not None
        if self._thaw is not None and self._thaw.roll(self._mixer.position):
            self._hand_over()
        if self._catching is not None and self._catching.mixer.position == self._mixer.position:
            return self._caught_up(self._catching)
        self._look_ahead()
        block, sound = self._heard()
        return block, sound

    def _look_ahead(self) -> None:
        """Compute several blocks in one go where there is room for them."""
        assert self._mixer is not None
        if self._mixer.position >= self._mixer.until:
            self._mixer.foresee(self._mixer.position + self._together)

    def _heard(self) -> tuple[MixBlock, Sound]:
        """Return the next block, and what is heard of it: before and after."""
        assert self._mixer is not None
        k = self._mixer.position
        block = self._mixer.block()
        listen, main = self._listen, block.faded[self._plan.main]
        if listen.strip is None or listen.strip not in block.strips:
            return block, np.concatenate([main, main], axis=1)
        if self._shadow is None:
            given = block.strips[listen.strip]
            # What was computed ahead of the wish to listen there has only what comes out.
            before, after = given.taps.get(self._watched()) or (given.out, given.out)
            return block, np.concatenate([_stereo(before), _stereo(after)], axis=1)
        return block, np.concatenate([self._shadow.block(k), main], axis=1)

    def _report(self, block: MixBlock) -> BlockReport:
        stages = {}
        strips = self._strip_meters(block)
        watched = _strip(self._plan, self._listen)
        off = {s.id for s in self._plan.strip(watched).stages if not s.on}
        for stage, reported in block.strips[watched].cells.items():
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
        taps = block.strips[watched].taps.get(self._watched())
        sides = taps if taps else (block.strips[watched].out,) * 2
        before, after = ([(float(a), float(b)) for a, b in _extremes(side)] for side in sides)
        assert self._mixer is not None
        return BlockReport.model_construct(
            frame=(self._mixer.position - 1) * BLOCK,
            before=before,
            after=after,
            body=_body(sides[1]),
            taken=self._taken(block, sides),
            strips=strips,
            stages=stages,
            removed_gain=self._removed_gain(),
            spectrum=self._spectrum(sides),
            sides=self._sides(),
            correlation=round(correlation(sides[1]), 3),
            momentary=round(self._meter.momentary, 1),
            true_peak=round(self._meter.true_peak, 1),
        )

    def _taken(self, block: MixBlock, sides: tuple[Sound, ...]) -> list[float]:
        """Return what the watched place takes away, per cell (see core.measure.reduction)."""
        item = self._plan.strip(_strip(self._plan, self._listen))
        cells = block.strips[item.strip.id].cells
        held = inside(item.strip.chain, self._watched())

        def reported(stage: str) -> Sound:
            found = cells.get(stage, {}).get("reduction_db")
            return np.zeros(0) if found is None or not len(found) else found.max(axis=1)

        if len(held) == 1 and isinstance(held[0], Stage):
            own = reported(held[0].id) if held[0].on else np.zeros(0)
            return [round(float(v), 2) for v in own]
        powers = [np.square(s).mean(axis=1).reshape(-1, GRID).mean(axis=1) for s in sides]
        most = together(held, reported, len(powers[0]))
        taken = self._whole.feed(powers[0], powers[1], makeup_inside(held, item.context), most)
        return [round(float(v), 2) for v in taken]

    def _spectrum(self, sides: tuple[Sound, ...]) -> tuple[list[float], list[float]] | None:
        """Return the spectra of both sides, every SPECTRUM_BLOCKS."""
        for meter, side in zip(self._spectra, sides, strict=True):
            meter.feed(side)
        assert self._mixer is not None
        if self._mixer.position % SPECTRUM_BLOCKS:
            return None
        before, after = (np.round(m.levels(), 1).tolist() for m in self._spectra)
        return before, after

    def _sides(self) -> tuple[list[float], list[float]] | None:
        assert self._mixer is not None
        item = self._plan.strip(_strip(self._plan, self._listen))
        # Only where a picture of middle and sides can be looked at.
        seen = any("sides" in processor(s.kind).pictures for s in item.stages)
        if not seen or self._mixer.position % SPECTRUM_BLOCKS:
            return None
        before, after = (np.round(m.side_levels(), 1).tolist() for m in self._spectra)
        return before, after

    def _strip_meters(self, block: MixBlock) -> dict[str, tuple[float, float, float]]:
        assert self._mixer is not None
        k = self._mixer.position - 1
        found = {}
        for name, item in block.strips.items():
            most = 0.0
            off = {s.id for s in self._plan.strip(name).stages if not s.on}
            for stage, reported in item.cells.items():
                if stage not in off and len(reported.get("reduction_db", ())):
                    most = max(most, float(reported["reduction_db"].max()))
            left, right = peaks(as_block(block.faded[name]))
            found[name] = (round(left, 5), round(right, 5), round(most, 2))
        return found | self._read_meters(k)

    def _read_meters(self, k: int) -> dict[str, tuple[float, float, float]]:
        """Return the meters of the strips that are read; their gains are looked up now and then."""
        assert self._mixer is not None
        frozen = self._mixer.frozen
        if not frozen:
            return {}
        names = list(frozen)
        if k % 8 == 0 or len(self._gains) != len(names):
            gains = [self._mixer.gains(self._plan.strip(n)) for n in names]
            self._gains = np.column_stack([np.array(gains), np.ones(len(names))])
        rows = [f.meters[k] if k < len(f.meters) else SILENT_METER for f in frozen.values()]
        values = np.round(np.array(rows) * self._gains, 4).tolist()
        return dict(zip(names, map(tuple, values), strict=True))

    def _removed_gain(self) -> float:
        """Return the gain that undoes the make-up of what is listened to."""
        if self._listen.strip is None:
            return 1.0
        item = self._plan.strip(_strip(self._plan, self._listen))
        held = inside(item.strip.chain, self._watched())
        return float(to_gain(-makeup_inside(held, item.context)))

    # Wiring -----------------------------------------------------------------------------------

    def _watched(self) -> str:
        return watched_place(self._plan, self._listen)

    def _planned(self, session: Session) -> Plan:
        return make_plan(
            session, observe=self._requested.strip, measured=self._shelf.join_measurement
        )

    def _take(self, session: Session) -> None:
        """Move play to a model and a place to listen, once all that must run does.

        Raises:
            CoreError: it cannot be run; nothing has changed.
        """
        plan = self._planned(session)
        self._catching = None
        if self._arriving is not None:
            _, until = self._arriving
            self._plan, self._listen = plan, self._requested
            self._arriving = (self._head(plan), until)
        if plan.rate != self._plan.rate:
            self._mixer = None
            self._spectra = (Spectrum(plan.rate), Spectrum(plan.rate))
        self._model = session
        self._patience = self._cooling = PATIENCE
        if self._mixer is None:
            self._plan, self._listen = plan, self._requested
            return
        frozen = self._mixer.frozen
        changed = {
            n for n in frozen if n in plan.digests and not frozen[n].stands_for(plan.strip(n))
        }
        missing = (needed(plan, self._requested) & frozen.keys()) | changed
        if not missing:
            self._thaw = None
            self._apply(plan)
        elif self._thaw is None or not missing <= self._thaw.names:
            self._thaw = StripRestart(
                self._mixer, self._source, self._shelf, missing, self._requested
            )

    def _apply(self, plan: Plan) -> None:
        assert self._mixer is not None
        wired = self._mixer.plan
        same_place = self._requested == self._listen
        if not same_place:
            self._whole = WholeReduction()
        self._plan, self._listen = plan, self._requested
        self._mixer.change(plan)
        self._mixer.watch(_strip(plan, self._listen), self._watched())
        if self._shadow is not None and same_place and _same_wiring(wired, plan):
            self._shadow.change(plan)
        else:
            self._make_shadow()

    def _hand_over(self) -> None:
        """Let thawed strips run in the mixer, and do what waited for them."""
        assert self._mixer is not None and self._thaw is not None
        self._thaw.hand_over(self._mixer)
        self._thaw = None
        self._take(self._model)

    def _cool(self) -> None:
        """Read strips again that nobody touches and that are known from end to end."""
        assert self._mixer is not None
        keep = needed(self._plan, self._listen)
        for name, frozen in self._shelf.frozen(self._plan).items():
            if name not in keep and name not in self._mixer.frozen:
                self._mixer.freeze(name, frozen)

    def _make_shadow(self) -> None:
        listen = self._listen
        self._shadow = None
        if self._mixer is not None and listens_in_mix(self._plan, listen):
            assert listen.strip is not None
            self._shadow = BypassMix(self._mixer, listen.strip, self._watched())
            self._shadow.level(self._before_gain)

    def _jump(self, frame: int) -> None:
        """Set out for a frame, to stand there in the state that the whole song would have."""
        self.epoch += 1
        self._sequence = self._sent = self._played = 0
        self._meter = MainMeter(self._plan.rate)
        plan = self._planned(self._model)
        self._plan, self._listen = plan, self._requested
        self.frame = min(max(frame, 0), plan.frames)
        self._mixer = self._shadow = self._thaw = self._catching = None
        self._arriving = (self._head(plan), time.monotonic() + START_S)
        self.ahead.begin()

    def _head(self, plan: Plan) -> PlaybackRun:
        return PlaybackRun(plan, self._source, self._shelf, self.frame // BLOCK, self._listen)

    @property
    def arriving(self) -> bool:
        """Whether it is on its way to a frame."""
        return self._arriving is not None

    def arrive(self, seconds: float = math.inf) -> bool:
        """Go on towards the frame for so long; return whether sound can be given.

        When nobody should wait any longer, it starts with the states as they are, and goes on
        to the exact ones beside play.
        """
        if self._arriving is None:
            return True
        head, until = self._arriving
        if not head.roll_for(seconds):
            if self.playing and time.monotonic() > until:
                self._start_early(head)
            return self._arriving is None
        head.mixer.foresee(0)  # From here on a hand may change what comes.
        self._take_over(head, self.frame)
        self.ahead.begin()
        return True

    def _start_early(self, head: PlaybackRun) -> None:
        block = self.frame // BLOCK
        running = needed(head.plan, head.listen)
        mixer, _ = _mixer(head.plan, self._source, self._shelf, running, 0, head.listen)
        mixer.locate(block, {})
        self._arriving = None
        self._mixer = mixer
        self._make_shadow()
        self._catching = head
        self.ahead.begin()

    def _caught_up(self, head: PlaybackRun) -> tuple[MixBlock, Sound]:
        """Go over to the exact states, cross-faded."""
        _, old = self._heard()
        head.mixer.foresee(0)
        self._take_over(head, self.frame)
        block, new = self._heard()
        return block, crossfaded(new, old)

    def _take_over(self, head: PlaybackRun, frame: int) -> None:
        self._plan, self._mixer, self._shadow = head.plan, head.mixer, head.shadow
        self._thaw = self._arriving = self._catching = None
        if self._shadow is not None:
            self._shadow.level(self._before_gain)
        self.frame = frame

    def _wrap(self, begin: int) -> None:
        """Go back to the loop's start without a gap: in that place's own state if it is ready."""
        assert self._mixer is not None
        ready = self._ready
        if ready is None or not self._still_right(ready, begin):
            ready = None
        self._ready, self._patience, self._catching = ready, 0, None
        if ready is not None and ready.roll():
            self._take_over(ready, begin)
            self._ready = None
        else:
            # What is under way goes on: it may be there the next time round.
            self._mixer.skip_to(begin // BLOCK)
            self._make_shadow()
            self.frame = begin

    def _still_right(self, head: PlaybackRun, begin: int) -> bool:
        return (
            head.plan == self._plan
            and head.target == begin // BLOCK
            and head.listen == self._listen
            and head.exact
        )

    def prepare(self) -> None:
        """Do what need not be done at once: thaw, freeze, bring a second head to a loop's start.

        A block a call; the head only while play itself is not behind.
        """
        if not self.playing or self._mixer is None:
            return
        if self._catching is not None:
            self._catching.chase(self._mixer.position)
            self._catching.roll()
            return
        if self._thaw is not None:
            if self._thaw.roll(self._mixer.position):
                self._hand_over()
            return
        self._cooling -= 1
        if self._cooling <= 0:
            self._cooling = PATIENCE
            self._cool()
        if self.loop is None or self.wants():
            return
        begin = self.loop[0]
        if self._ready is not None and self._still_right(self._ready, begin):
            self._ready.roll()
            return
        self._patience -= 1
        if self._patience > 0:
            return
        self._ready = PlaybackRun(
            self._plan, self._source, self._shelf, begin // BLOCK, self._listen
        )
        self._patience = PATIENCE


def _same_wiring(a: Plan, b: Plan) -> bool:
    """Say whether runners of one plan can go on in the other."""

    def wiring(plan: Plan) -> list[object]:
        return [
            (
                s.strip.id,
                [(r.strip, r.name) for r in s.feeds],
                s.graph.outside,
                [(n.name, n.inputs, n.late) for n in s.graph.nodes],
            )
            for s in plan.strips
        ]

    return wiring(a) == wiring(b)


def _stereo(sound: Sound) -> Sound:
    return sound if sound.shape[1] == 2 else np.repeat(sound, 2, axis=1)


def _extremes(sound: Sound) -> Sound:
    cells = extremes(sound, GRID)
    pairs = np.stack([cells[:, 0].min(axis=1), cells[:, 1].max(axis=1)], axis=1)
    return np.asarray(np.round(pairs.astype(np.float64), 5))


def _body(sound: Sound) -> list[float]:
    """Return the level of each cell, all channels together."""
    power = np.square(sound).mean(axis=1).reshape(-1, GRID).mean(axis=1)
    return [round(float(v), 5) for v in np.sqrt(power)]


def _rounded(cells: Sound | None) -> list[float]:
    """Return the louder channel of each cell with two decimals."""
    return [] if cells is None else [round(float(v), 2) for v in cells.max(axis=1)]
