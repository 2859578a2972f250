"""Proving: a mix measured, every way out gone, and the ceiling that leaves no overs found.

One conductor gives the heavy pieces to a pool of processes and tells how far they are.
"""

import contextlib
import shutil
import time
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Executor, Future, wait
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from pydantic import Field

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.cached_strips import CachedStrips
from salt_anvil.analysis.strip_pass import join_measurements, measure_missing_joins, mended
from salt_anvil.core.audio import BLOCK, Sound
from salt_anvil.core.delivery.ceiling import LOWEST_DB, Outcome, find_ceiling
from salt_anvil.core.delivery.inspection import (
    LOOKED_FOR,
    ClipMeter,
    Finding,
    Inspection,
    Inspector,
    clipped_source,
    findings,
)
from salt_anvil.core.delivery.overs import Delivered, DeliveryMeter
from salt_anvil.core.delivery.proof import (
    CeilingPoint,
    CeilingResult,
    Proof,
    SectionResult,
    WayResult,
)
from salt_anvil.core.delivery.targets import FORGIVEN, SHIPPED, Target, judged
from salt_anvil.core.delivery.ways import USUAL, Way
from salt_anvil.core.edits import AddStage, Edit, SetParams, apply_edits
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import FileError, SaltAnvilError, SettingError
from salt_anvil.core.measure.rows import TRUE_PEAK, Figures, RowMeter, Rows, difference, figures
from salt_anvil.core.measure.spans import section_spans
from salt_anvil.core.processors import processor
from salt_anvil.core.recipe import Recipe
from salt_anvil.core.session import Id, Model, Session, Stage, Strip, checked
from salt_anvil.files.codecs import ENDINGS, converted, decode, encode, pieces
from salt_anvil.files.media import MediaFolder
from salt_anvil.files.read import SoundReader
from salt_anvil.files.sequence import Sequences
from salt_anvil.files.write import SoundWriter
from salt_anvil.jobs.print_worker import Cancelled
from salt_anvil.jobs.process_file import file_session
from salt_anvil.jobs.render import blocks
from salt_anvil.kernels.cache import sources_digest

COLUMNS = 480
"""Of the overview."""
SLOWNESS = {"mp3": 5, "aac": 4, "opus": 1, "vorbis": 1}
"""Seconds that a coder takes a minute of sound, about, on one core."""
MIX, BEFORE = "mix.wav", "before.wav"
STOP = "stop"
"""A file in the folder; while it is there, everything that runs leaves off."""
POLL_S = 0.1
MOST_SEARCHES = 3
SURE_DB = 0.25
"""What is expected to stay so far under is not tried, only verified."""


class ProofRequest(Model):
    """What to prove. strip: None for the main mix; file: one that was brought for this, instead.

    limit_dbtp: what lies above it is an over. ceiling: whether to look for one that leaves none.
    """

    strip: Id | None = None
    file: str | None = Field(None, max_length=200)
    begin: int = Field(0, ge=0, lt=1 << 40)
    end: int | None = Field(None, ge=0, lt=1 << 40)
    ways: list[Way] = Field(list(USUAL), max_length=16)
    target: Target = SHIPPED[0]
    limit_dbtp: float = Field(0.0, ge=-6, le=6)
    ceiling: bool = True


class Told(NamedTuple):
    """How far a proof is: what is measured by now, and the share of each way under way."""

    proof: Proof | None
    words: str
    shares: dict[str, float]


@dataclass(frozen=True)
class Measured:
    """A written mix. mono: both channels in one; None: it is mono already."""

    rate: int
    whole: Delivered
    seen: Inspection
    mono: Figures | None
    overview: list[float]


# In the processes ---------------------------------------------------------------------------


def measure(path: Path, folder: Path) -> Measured:
    """Return what a written mix measures. Raises Cancelled."""
    with SoundReader(path) as reader:
        info = reader.info
        meter = DeliveryMeter(info.rate, info.channels)
        # Mono is heard from two loudspeakers as well.
        both = RowMeter(info.rate, 2, true_peak=False)
        inspector = Inspector(info.rate, info.channels)
        folded: list[Rows] = []
        column = max(-(-info.frames // COLUMNS), 1)
        overview = np.zeros(-(-info.frames // column))
        at = 0
        while len(block := reader.read(65536)):
            _go_on(folder)
            meter.feed(block)
            inspector.feed(block)
            folded.append(both.feed(block.mean(axis=1, keepdims=True).repeat(2, axis=1)))
            where = (at + np.arange(len(block))) // column
            np.maximum.at(overview, where, np.abs(block).max(axis=1))
            at += len(block)
        folded.append(both.flush())
    mono = figures(np.concatenate(folded)) if info.channels == 2 else None
    columns = [round(float(v), 4) for v in overview]
    return Measured(info.rate, meter.result(), inspector.result(), mono, columns)


def go_way(path: Path, way: Way, limit_dbtp: float, folder: Path, keep: bool) -> WayResult:
    """Send a written mix a way out and return what comes back. Raises Cancelled.

    keep: leave what comes back as a float WAV of the way's name in the folder, to be heard.
    """
    share = folder / f"{way.name}.share".replace(":", "-")
    coded = folder / f"{way.name}-{path.stem}.{ENDINGS.get(way.codec or '', 'wav')}".replace(
        ":", "-"
    )
    with SoundReader(path) as reader:
        info = reader.info
    rate = way.rate_at(info.rate)
    frames = round(info.frames * rate / info.rate)

    def go_on(done: int) -> None:
        _go_on(folder)
        share.write_text(f"{done / max(frames, 1):.3f}")

    try:
        sound = converted(way, pieces(path), info.rate, info.channels)
        if way.codec:
            encode(way, sound, rate, info.channels, coded, go_on)
            sound = decode(way.codec, coded, info.channels)
        return _heard(
            way, sound, rate, info.channels, frames, limit_dbtp,
            heard_file(folder, way.name) if keep else None, go_on,
        )  # fmt: skip
    except SaltAnvilError as error:
        return WayResult(way=way, name=way.name, words=way.words, error=str(error))
    finally:
        coded.unlink(missing_ok=True)
        share.unlink(missing_ok=True)


def heard_file(folder: Path, name: str) -> Path:
    """Return where what comes back from a way is kept."""
    return folder / f"heard-{name}.wav".replace(":", "-")


def _heard(
    way: Way,
    sound: Iterator[Sound],
    rate: int,
    channels: int,
    frames: int,
    limit_dbtp: float,
    target: Path | None,
    go_on: Callable[[int], None],
) -> WayResult:
    """Measure what comes back, as long as what went out; what a coder puts behind it is cut."""
    meter = DeliveryMeter(rate, channels)
    with contextlib.ExitStack() as stack:
        writer = None
        if target is not None:
            writer = stack.enter_context(_float_file(target, rate, channels, frames))
        left = frames
        for block in sound:
            taken = block[:left]
            left -= len(taken)
            go_on(frames - left)
            meter.feed(taken)
            if writer is not None:
                writer.write(taken)
    return _result(way, rate, meter.result(), limit_dbtp)


def _result(way: Way, rate: int, found: Delivered, limit_dbtp: float) -> WayResult:
    return WayResult(
        way=way,
        name=way.name,
        words=way.words,
        rate=rate,
        frames=found.frames,
        sample_peak_dbfs=found.figures.sample_peak_dbfs,
        true_peak_dbtp=found.figures.true_peak_dbtp,
        integrated_lufs=found.figures.integrated_lufs,
        overs=found.overs(limit_dbtp),
    )


def taken_by(folder: Path, way: Way) -> Path:
    """Return a file of what a coder took away: what came back less what went in.

    Raises:
        FileError: the way was not gone.
    """
    back = heard_file(folder, way.name)
    target = heard_file(folder, f"{way.name}-taken")
    if target.is_file():
        return target
    if not back.is_file() or not (folder / MIX).is_file():
        raise FileError(f"{way.words} was not gone")
    with SoundReader(folder / MIX) as reader:
        info = reader.info
    going = converted(way, pieces(folder / MIX), info.rate, info.channels)
    with SoundReader(back) as reader:
        heard = reader.info
        waiting = np.zeros((0, info.channels))
        with SoundWriter(
            target, "wav-32f", rate=heard.rate, channels=heard.channels, frames=heard.frames
        ) as writer:
            while len(block := reader.read(65536)):
                while len(waiting) < len(block):
                    more = next(going, None)
                    if more is None:
                        more = np.zeros((len(block) - len(waiting), info.channels))
                    waiting = np.concatenate([waiting, more])
                writer.write(block - waiting[: len(block)])
                waiting = waiting[len(block) :]
    return target


def clipped_sources(data: Path, sources: list[tuple[str, str]], folder: Path) -> list[Finding]:
    """Return which recordings hold runs of samples at full scale; sources: names and media."""
    media = MediaFolder(data / "media")
    found = []
    for name, audio in sources:
        about, read = media.media(audio), media.source()
        meter = ClipMeter(about.channels)
        for at in range(0, about.frames, 1 << 18):
            _go_on(folder)
            meter.feed(read(audio, at, min(1 << 18, about.frames - at)))
        warning = clipped_source(name, meter)
        if warning is not None:
            found.append(warning)
    return found


def _go_on(folder: Path) -> None:
    if (folder / STOP).exists():
        raise Cancelled


# What is proved ------------------------------------------------------------------------------


def last_limiter(strip: Strip) -> Stage | None:
    """Return the limiter that a strip's chain ends in, if it does."""
    on = [e for e in strip.chain if not (isinstance(e, Stage) and not e.on)]
    last = on[-1] if on else None
    return last if isinstance(last, Stage) and last.kind == "limiter" else None


def ceiling_edit(strip: Strip, stage: Stage | None, ceiling_db: float) -> Edit:
    """Return the edit that sets the limiter a strip ends in, or puts one behind its chain."""
    value = {"ceiling_db": ceiling_db}
    if stage is None:
        return AddStage(place=strip.id, index=len(strip.chain), kind="limiter", params=value)
    return SetParams(stage=stage.id, params=value, words=f"ceiling {ceiling_db:.1f} dB, as proved")


class SessionSubject(NamedTuple):
    """A strip of a session of a data folder, after its fader. Can be sent to a process."""

    data: Path
    model: Any
    strip: str
    begin: int
    end: int | None

    def write(self, folder: Path, path: Path, ceiling_db: float | None = None) -> bool:
        """Write the mix as it stands or with a ceiling; return whether BEFORE was written too.

        Raises:
            CoreError, FileError: it cannot be done. Cancelled.
        """
        session, cache = checked(Session, self.model), StripCache(self.data / "cache")
        strip = session.strip(self.strip)
        stage = last_limiter(strip)
        if ceiling_db is not None:
            session = apply_edits(session, [ceiling_edit(strip, stage, ceiling_db)])[0]
        wanted = stage.id if stage is not None and ceiling_db is None else None
        return mended(cache, lambda: self._write(session, cache, folder, path, wanted))

    def _write(
        self, session: Session, cache: StripCache, folder: Path, path: Path, tap: str | None
    ) -> bool:
        code, source = sources_digest(), MediaFolder(self.data / "media").source()

        def patient(strip: str, done: int, frames: int) -> bool:
            _go_on(folder)
            return True

        measure_missing_joins(session, code, source, cache, patient)
        plan = make_plan(session, observe_all=True, measured=join_measurements(cache, code))
        end = plan.frames if self.end is None else min(self.end, plan.frames)
        if self.begin >= end:
            raise SettingError("there is no sound in this passage")
        frozen = CachedStrips(cache, code)(plan)
        if tap is not None:
            frozen.pop(self.strip, None)
        alone = tap is not None and _level_behind(session, self.strip) is not None
        rolling = blocks(
            plan, source, self.begin, end, strip=self.strip, frozen=frozen, tapped=alone
        )
        frames = end - self.begin
        with contextlib.ExitStack() as stack:
            mix = stack.enter_context(_float_file(path, plan.rate, 2, frames))
            before = None
            done = 0
            for low, high, block in rolling:
                _go_on(folder)
                mix.write(np.ascontiguousarray(block.faded[self.strip][low:high]))
                if alone and tap is not None:
                    sound = block.strips[self.strip].taps[tap][0][low:high]
                    if before is None:
                        before = stack.enter_context(
                            _float_file(folder / BEFORE, plan.rate, sound.shape[1], frames)
                        )
                    before.write(np.ascontiguousarray(sound))
                done += high - low
                (folder / "mix.share").write_text(f"{done / frames:.3f}")
        (folder / "mix.share").unlink(missing_ok=True)
        return alone


def _float_file(path: Path, rate: int, channels: int, frames: int) -> SoundWriter:
    return SoundWriter(path, "wav-32f", rate=rate, channels=channels, frames=frames)


def _level_behind(session: Session, name: str) -> float | None:
    """Return the gain behind a strip's chain, None where it is more than one steady number."""
    strip = session.strip(name)
    moved = {(a.owner, a.control) for a in session.automation}
    moved |= {(m.owner, m.control) for lever in session.levers for m in lever.moves}
    limiter = last_limiter(strip)
    owners = {strip.id} | ({limiter.id} if limiter else set())
    if any(owner in owners for owner, _ in moved) or strip.pan != 0 or strip.mute:
        return None
    if limiter is None or limiter.mix < 1 or limiter.key.source != "own":
        return None
    return float(10 ** (strip.fader_db / 20))


class FileSubject(NamedTuple):
    """A file, proved as it is; a ceiling is that of a limiter put behind it."""

    path: Path

    def write(self, folder: Path, path: Path, ceiling_db: float | None = None) -> bool:
        """Write the file as it is, or through a limiter with a ceiling; BEFORE is itself.

        Raises:
            FileError: it cannot be read. Cancelled.
        """
        if ceiling_db is not None:
            limited(self.path, path, folder, {"ceiling_db": ceiling_db}, 1.0)
            return True
        with SoundReader(self.path) as reader:
            info = reader.info
            with (
                _float_file(path, info.rate, info.channels, info.frames) as mix,
                _float_file(folder / BEFORE, info.rate, info.channels, info.frames) as before,
            ):
                while len(block := reader.read(65536)):
                    _go_on(folder)
                    mix.write(block)
                    before.write(block)
        return True


def limited(source: Path, target: Path, folder: Path, params: dict[str, Any], level: float) -> None:
    """Write a file through a limiter with these parameters, and a gain behind it."""
    stage = checked(Stage, {"id": "wall", "kind": "limiter", "params": params})
    paths, session = file_session(source, Recipe(chain=[stage]), {})
    with SoundReader(source) as reader:
        info = reader.info
    with contextlib.closing(Sequences(paths, info.rate)) as sources:
        mixer = Mixer(make_plan(session), sources, told=False)
        mixer.foresee(mixer.plan.blocks)
        with _float_file(target, info.rate, info.channels, info.frames) as writer:
            for at in range(0, info.frames, BLOCK):
                _go_on(folder)
                out = mixer.block(("in",)).strips["in"].out[: info.frames - at]
                writer.write(np.ascontiguousarray(out) * level)


# The conductor -------------------------------------------------------------------------------


class Prover:
    """Proves one subject with a pool of processes; tells what is known each time more is."""

    def __init__(
        self,
        folder: Path,
        pool: Executor,
        tell: Callable[[Told], None] = lambda told: None,
    ) -> None:
        """Work in a folder, which is emptied first."""
        shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir(parents=True)
        self._folder, self._pool, self._tell = folder, pool, tell
        self._proof: Proof | None = None
        self._began = time.monotonic()

    def stop(self) -> None:
        """Let everything leave off."""
        (self._folder / STOP).touch()

    def prove(self, subject: SessionSubject | FileSubject, wanted: ProofRequest) -> Proof:
        """Return the proof.

        Raises:
            CoreError, FileError: it cannot be done. Cancelled: it was stopped.
        """
        self._say("writing the mix", {})
        alone = self._one(subject.write, self._folder, self._folder / MIX)
        self._say("measuring", {})
        measuring = self._pool.submit(measure, self._folder / MIX, self._folder)
        going = self._sent(self._folder / MIX, wanted.ways, wanted, keep=True)
        found = self._awaited(measuring)
        self._proof = _first(subject, wanted, found)
        if isinstance(subject, SessionSubject):
            sources = _sources_of(checked(Session, subject.model), subject.strip)
            clips = self._one(clipped_sources, subject.data, sources, self._folder)
            self._proof = self._proof.model_copy(
                update={"findings": [*self._proof.findings, *clips]}
            )
        self._say("going the ways out", {})
        results = self._back(going, wanted.ways, show=True)
        self._proof = self._proof.model_copy(update={"ways": list(results.values())})
        every = [self._proof.as_it_stands, *results.values()]
        if wanted.ceiling and any(_outcome(r, wanted).excess_db > 0 for r in every):
            try:
                ceiling = self._ceiling(subject, wanted, alone)
            finally:
                (self._folder / "try.wav").unlink(missing_ok=True)
            self._proof = self._proof.model_copy(update={"ceiling": ceiling})
        seconds = time.monotonic() - self._began
        self._proof = self._proof.model_copy(update={"seconds": round(seconds, 1)})
        (self._folder / BEFORE).unlink(missing_ok=True)
        return self._proof

    def _one(self, job: Callable[..., Any], *arguments: Any) -> Any:
        return self._awaited(self._pool.submit(job, *arguments))

    def _awaited(self, future: "Future[Any]") -> Any:
        while wait([future], POLL_S).not_done:
            self._say(None, _shares(self._folder))
        return future.result()

    def _say(self, words: str | None, shares: dict[str, float]) -> None:
        if words is not None:
            self._words = words
        self._tell(Told(self._proof, self._words, shares))

    def _go(self, path: Path, ways: list[Way], wanted: ProofRequest) -> dict[str, WayResult]:
        """Go ways beside each other, and keep no sound."""
        return self._back(self._sent(path, ways, wanted, keep=False), ways)

    def _sent(
        self, path: Path, ways: list[Way], wanted: ProofRequest, *, keep: bool
    ) -> dict[str, "Future[WayResult]"]:
        """Begin to go ways, those that take longest first, so that no core is left over."""
        longest = sorted(ways, key=lambda way: -SLOWNESS.get(way.codec or "", 0))
        return {
            way.name: self._pool.submit(go_way, path, way, wanted.limit_dbtp, self._folder, keep)
            for way in longest
        }

    def _back(
        self, asked: dict[str, "Future[WayResult]"], ways: list[Way], *, show: bool = False
    ) -> dict[str, WayResult]:
        """Wait for ways; show: tell each as it comes."""
        done: dict[str, WayResult] = {}
        while len(done) < len(asked):
            wait([f for n, f in asked.items() if n not in done], POLL_S, "FIRST_COMPLETED")
            for name, future in asked.items():
                if name not in done and future.done():
                    done[name] = _compared(future.result(), self._proof)
                    if show and self._proof is not None:
                        known = [done[w.name] for w in ways if w.name in done]
                        self._proof = self._proof.model_copy(update={"ways": known})
            self._say(None, _shares(self._folder))
        return {way.name: done[way.name] for way in ways}

    def _ceiling(
        self, subject: SessionSubject | FileSubject, wanted: ProofRequest, alone: bool
    ) -> CeilingResult:
        """Find the ceiling, then write the mix with it and go every way again."""
        proof = self._proof
        assert proof is not None
        now, stage, params, level = _wall(subject, proof)
        ways = [Way(), *wanted.ways]
        tries: dict[float, Mapping[str, Outcome]] = {}

        def tried(ceiling_db: float) -> dict[str, Outcome]:
            self._say(f"trying a ceiling of {ceiling_db:.1f} dB", {})
            path = self._folder / "try.wav"
            if alone and level is not None:
                at = {**params, "ceiling_db": ceiling_db}
                self._one(limited, self._folder / BEFORE, path, self._folder, at, level)
            else:
                self._one(subject.write, self._folder, path, ceiling_db)
            asked = [w for w in ways if _expected(tries, w.name, ceiling_db) > -SURE_DB]
            found = self._go(path, asked, wanted)
            tries[ceiling_db] = {n: _outcome(r, wanted) for n, r in found.items()}
            return dict(tries[ceiling_db])

        stands = proof.as_it_stands
        last = [stands, *proof.ways]
        start = now
        for _ in range(MOST_SEARCHES):
            tries[start] = {w.name: _outcome(w, wanted) for w in last if w.error is None}
            search = find_ceiling(tried, start, tries[start])
            if search.found_db is None:
                break
            last = self._verified(subject, wanted, search.found_db)
            # What was only expected to be clear may not be: then on from here.
            start = search.found_db
            if all(_outcome(w, wanted).excess_db <= 0 for w in last if w.error is None):
                return CeilingResult(
                    now_db=now,
                    found_db=start,
                    stage=stage,
                    verified=last,
                    loudness_lu=difference(last[0].integrated_lufs, stands.integrated_lufs),
                    points=_points(tries),
                )
        problem = _hopeless(tries, proof)
        return CeilingResult(
            now_db=now, found_db=None, stage=stage, problem=problem, points=_points(tries)
        )

    def _verified(
        self, subject: SessionSubject | FileSubject, wanted: ProofRequest, ceiling_db: float
    ) -> list[WayResult]:
        """Write the mix anew with a ceiling and go every way; the mix as it stands comes first."""
        self._say(f"verifying {ceiling_db:.1f} dB", {})
        path = self._folder / "verified.wav"
        try:
            self._one(subject.write, self._folder, path, ceiling_db)
            return list(self._go(path, [Way(), *wanted.ways], wanted).values())
        finally:
            path.unlink(missing_ok=True)


def _shares(folder: Path) -> dict[str, float]:
    found = {}
    for path in folder.glob("*.share"):
        with contextlib.suppress(OSError, ValueError):
            found[path.stem] = float(path.read_text())
    return found


def _compared(result: WayResult, proof: Proof | None) -> WayResult:
    mix = proof.figures.integrated_lufs if proof else None
    return result.model_copy(update={"loudness_lu": difference(result.integrated_lufs, mix)})


def _outcome(result: WayResult, wanted: ProofRequest) -> Outcome:
    """Return how far a way is over; the mix itself also has to keep the target's true peak."""
    if result.true_peak_dbtp is None:
        return Outcome(0, -np.inf)
    limit = wanted.limit_dbtp
    if result.name == Way().name and wanted.target.true_peak is not None:
        limit = min(limit, wanted.target.true_peak + FORGIVEN)
    return Outcome(len(result.overs), result.true_peak_dbtp - limit)


def _expected(tries: Mapping[float, Mapping[str, Outcome]], name: str, ceiling_db: float) -> float:
    """Return how far a way will be over, by the nearest ceiling that was tried with it."""
    known = [(c, t[name].excess_db) for c, t in tries.items() if name in t]
    nearest = min(known, key=lambda k: abs(k[0] - ceiling_db), default=None)
    return np.inf if nearest is None else nearest[1] + ceiling_db - nearest[0]


def _first(subject: SessionSubject | FileSubject, wanted: ProofRequest, found: Measured) -> Proof:
    if isinstance(subject, SessionSubject):
        session = checked(Session, subject.model)
        strip = session.strip(subject.strip)
        what = "Main mix" if strip.kind == "main" else strip.name
        sections = _sections_of(session, subject.begin, found.whole.frames)
    else:
        what, sections = subject.path.name, []
    stands = _result(Way(), found.rate, found.whole, wanted.limit_dbtp)
    measured = found.whole.figures
    return Proof(
        what=what,
        rate=found.rate,
        begin=wanted.begin,
        end=wanted.begin + found.whole.frames,
        limit_dbtp=wanted.limit_dbtp,
        figures=measured,
        as_it_stands=stands.model_copy(update={"loudness_lu": 0.0}),
        target=wanted.target,
        lines=judged(wanted.target, measured),
        sections=[_section(found, *s) for s in sections],
        findings=findings(found.seen, measured, found.mono),
        looked_for=list(LOOKED_FOR),
        overview=found.overview,
    )


def _sections_of(session: Session, start: int, frames: int) -> list[tuple[str, int, int]]:
    """Return name, begin and end (in frames of the passage) of the sections that reach into it."""
    spans = [
        (span.name, max(span.begin - start, 0), min(span.end - start, frames))
        for span in section_spans(session)
    ]
    return [span for span in spans if span[2] > span[1]]


def _section(found: Measured, name: str, begin: int, end: int) -> SectionResult:
    hop = round(found.rate / 10)
    first = begin // hop
    rows = found.whole.rows[first : max(-(-end // hop), first + 1)]
    figured = figures(rows)
    peak = float(rows[:, TRUE_PEAK].max(initial=0.0))
    return SectionResult(
        name=name,
        begin=begin,
        end=end,
        integrated_lufs=figured.integrated_lufs,
        true_peak_dbtp=20 * float(np.log10(peak)) if peak > 1e-6 else None,
    )


def _sources_of(session: Session, strip: str) -> list[tuple[str, str]]:
    wanted = session.strip(strip)
    strips = session.strips if wanted.kind == "main" else [wanted]
    return [(s.name, s.audio) for s in strips if s.audio and not s.mute]


def _wall(
    subject: SessionSubject | FileSubject, proof: Proof
) -> tuple[float, str | None, dict[str, Any], float | None]:
    """Return the ceiling now, the limiter in words, its parameters, the gain behind it."""
    peak = proof.as_it_stands.true_peak_dbtp or 0.0
    if isinstance(subject, FileSubject):
        return round(peak, 1), None, {}, 1.0
    session = checked(Session, subject.model)
    strip = session.strip(subject.strip)
    stage = last_limiter(strip)
    if stage is None:
        return round(min(peak, 0.0), 1), None, {}, None
    params = stage.params.model_dump()
    words = f"{processor(stage.kind).title}, {strip.name}"
    return params["ceiling_db"], words, params, _level_behind(session, subject.strip)


def _points(tries: Mapping[float, Mapping[str, Outcome]]) -> list[CeilingPoint]:
    return [
        CeilingPoint(ceiling_db=c, overs={n: o.overs for n, o in outcomes.items()})
        for c, outcomes in sorted(tries.items(), reverse=True)
    ]


def _hopeless(tries: dict[float, Mapping[str, Outcome]], proof: Proof) -> str:
    lowest = min(tries)
    if not any(o.overs for o in tries[lowest].values()):
        return f"Even {lowest:.0f} dB leaves the mix over the target's true peak."
    words = {w.name: w.words for w in proof.ways} | {"as-it-stands": "the mix"}
    left = ", ".join(
        f"{o.overs} over{'s' if o.overs != 1 else ''} in {words.get(n, n)}"
        for n, o in tries[lowest].items()
        if o.overs
    )
    if lowest > LOWEST_DB:
        return f"No ceiling was found; {lowest:.1f} dB still leaves {left}."
    return f"Even {lowest:.0f} dB leaves {left}."
