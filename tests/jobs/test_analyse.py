"""The background pass: cached equals fresh, order, leaving off and taking up, pictures, ledger."""

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.pictures import Viewer
from salt_anvil.analysis.strip_pass import Stopped, analyse
from salt_anvil.analysis.worker import Analysis, Request
from salt_anvil.core.audio import BLOCK, GRID
from salt_anvil.core.edits import AddStage, SetParams, SetStrip
from salt_anvil.core.engine.fingerprint import fingerprints_of
from salt_anvil.core.engine.mixer import Mixer, Source
from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.strip import CHECKPOINT
from salt_anvil.core.measure.rows import RowMeter
from salt_anvil.core.measure.spans import section_spans
from salt_anvil.core.processors import REGISTRY
from salt_anvil.core.session import Session
from salt_anvil.files.media import MediaFolder
from salt_anvil.store.database import Database
from salt_anvil.store.sessions import SessionStore
from tests.sessions import FRAMES, SOUNDS, small_session, source

CODE = "code"


def planned(session: Session) -> Plan:
    return make_plan(session, observe_all=True)


@pytest.fixture
def cache(tmp_path: Path) -> StripCache:
    return StripCache(tmp_path / "cache")


def filled(cache: StripCache, session: Session, first: str | None = None) -> list[str]:
    """Run the whole analysis; return the strips in the order in which they were finished."""
    order: list[str] = []

    def notify(strip: str, done: int, frames: int) -> bool:
        if done >= frames and (not order or order[-1] != strip):
            order.append(strip)
        return True

    analyse(session, CODE, source, cache, first, notify)
    return order


def test_cached_output_equals_fresh_to_the_bit(cache: StripCache) -> None:
    session = small_session()
    filled(cache, session)
    fingerprints = fingerprints_of(planned(session), CODE)
    mixer = Mixer(make_plan(session), source)
    blocks = [mixer.block() for _ in range(-(-FRAMES // BLOCK))]
    for strip in session.strips:
        fresh = np.concatenate([b.strips[strip.id].out for b in blocks])
        channels = fresh.shape[1]
        kept = cache.output(fingerprints[strip.id], channels).rows
        assert (kept[: len(fresh)] == fresh.astype(np.float32)).all(), strip.id


def test_stored_states_are_those_of_a_whole_run(cache: StripCache) -> None:
    session = small_session()
    filled(cache, session)
    fingerprints = fingerprints_of(planned(session), CODE)
    at, states = cache.states_before(fingerprints, 150)
    assert at == 2 * CHECKPOINT
    whole = Mixer(make_plan(session), source)
    for _ in range(140):
        block = whole.block()
    again = Mixer(make_plan(session), source)
    again.locate(at, states)
    for _ in range(140 - at):
        same = again.block()
    for name in block.faded:
        assert (block.faded[name] == same.faded[name]).all(), name
    assert cache.states_before(fingerprints, 63) == (0, {})


def test_the_strip_looked_at_and_what_it_needs_come_first(cache: StripCache) -> None:
    assert filled(cache, small_session(), first="bus") == ["a", "b", "bus", "c", "main"]


def test_only_what_changed_is_done_again(cache: StripCache) -> None:
    session = small_session()
    filled(cache, session)
    changed, _ = SetParams(stage="b1", params={"ratio": 9}).apply(session)
    worked: set[str] = set()

    def notify(strip: str, done: int, frames: int) -> bool:
        if done < frames:
            worked.add(strip)
        return True

    analyse(changed, CODE, source, cache, None, notify)
    assert worked == {"b", "bus", "main"}
    faded, _ = SetStrip(strip="c", field="fader_db", value=-9).apply(session)
    worked.clear()
    analyse(faded, CODE, source, cache, None, notify)
    assert worked == {"main"}


def test_left_off_and_taken_up(cache: StripCache) -> None:
    session = small_session()
    calls = 0

    def impatient(strip: str, done: int, frames: int) -> bool:
        nonlocal calls
        calls += 1
        return calls < 6

    with pytest.raises(Stopped):
        analyse(session, CODE, source, cache, None, impatient)
    fingerprints = fingerprints_of(planned(session), CODE)
    assert cache.complete(fingerprints["a"])
    assert not cache.complete(fingerprints["main"])
    assert filled(cache, session)[-1] == "main"
    assert cache.complete(fingerprints["main"])


class ScriptedPipe:
    """Asks for one session, and deletes it as soon as the first strip is begun."""

    def __init__(self, model: dict[str, Any]) -> None:
        self.asked: list[Request] = [(7, 1, model, None, [])]
        self.told: list[Any] = []

    def poll(self, _: float) -> bool:
        return bool(self.asked)

    def recv(self) -> Request:
        return self.asked.pop(0)

    def send(self, message: Any) -> None:
        if not self.told:
            self.asked.append((7, 0, None, None, []))
        self.told.append(message)


def test_a_deleted_session_is_not_gone_through(band_data: Path, tmp_path: Path) -> None:
    (tmp_path / "media").symlink_to(band_data / "media")
    session = SessionStore(Database(band_data / "salt-anvil.db")).head(1).model
    pipe = ScriptedPipe(session.model_dump())
    analysis = Analysis(pipe, tmp_path)
    analysis.turn()
    assert analysis.waiting and len(pipe.told) == 1
    analysis.turn()
    assert not analysis.waiting and len(pipe.told) == 1


def viewer(session: Session, cache: StripCache) -> Viewer:
    return Viewer(session, planned(session), CODE, cache)


def test_pictures_hold_the_extremes_of_their_columns(cache: StripCache, tmp_path: Path) -> None:
    session = small_session()
    filled(cache, session)
    picture = viewer(session, cache).picture(
        "a", "a1", 64 * GRID, 64 * GRID + 100 * 640, 100, MediaFolder(tmp_path / "media")
    )
    assert (picture.done, picture.detector) == (100, False)
    raw = SOUNDS["a"].astype(np.float32)
    for column in (0, 50, 99):
        piece = raw[64 * GRID + column * 640 : 64 * GRID + (column + 1) * 640]
        assert picture.before[column] == pytest.approx([piece.min(), piece.max()])
    fingerprints = fingerprints_of(planned(session), CODE)
    out = cache.output(fingerprints["a"], 2).rows
    piece = out[64 * GRID + 99 * 640 : 64 * GRID + 100 * 640]
    assert picture.after[99] == pytest.approx([piece.min(), piece.max()])
    cells = cache.cells(fingerprints["a"], "a1", "reduction_db", 2).max(axis=1)
    assert picture.reduction[10] == pytest.approx(cells[64 + 100 : 64 + 110].max())


class Recordings(MediaFolder):
    """The test's own sound, as the media folder would give it."""

    def source(self, **_: Any) -> Source:
        return source


def test_inside_a_chain_the_closest_zoom_shows_every_sample(
    cache: StripCache, tmp_path: Path
) -> None:
    """Between two stages, far from the start; against a whole run that keeps every tap."""
    session = small_session()
    filled(cache, session)
    begin, frames = 100_123, 700
    picture = viewer(session, cache).picture(
        "c", "c2", begin, begin + frames, frames, Recordings(tmp_path / "media")
    )
    mixer = Mixer(planned(session), source, tapped=True)
    taps = [mixer.block().strips["c"].taps["c2"] for _ in range(-(-(begin + frames) // 1024))]
    for drawn, side in ((picture.before, 0), (picture.after, 1)):
        sound = np.concatenate([t[side] for t in taps])[begin : begin + frames, 0]
        # Each column goes on to the sample that the next one begins with.
        pairs = np.stack([sound[:-1], sound[1:]])
        assert drawn[:-1, 0] == pytest.approx(pairs.min(axis=0), abs=1e-6)
        assert drawn[:-1, 1] == pytest.approx(pairs.max(axis=0), abs=1e-6)


@pytest.mark.parametrize(("stage", "expected"), [("a1", False), ("b1", True), ("c1", True)])
def test_the_detector_s_level_is_drawn_where_it_hears_something_else(
    cache: StripCache, tmp_path: Path, stage: str, expected: bool
) -> None:
    """b1 listens to the RMS, c1 to its own output; a1 to the very waveform."""
    session = small_session()
    filled(cache, session)
    picture = viewer(session, cache).picture(
        stage[0], stage, 0, FRAMES, 50, MediaFolder(tmp_path / "media")
    )
    assert picture.detector is expected
    assert len(picture.level) == 50
    assert -60 < picture.level.max() < 6


def test_pictures_of_what_is_not_analysed_are_empty(cache: StripCache, tmp_path: Path) -> None:
    session = small_session()
    for strip in ("main", "bus"):
        picture = viewer(session, cache).picture(
            strip, "chain", 0, FRAMES, 20, MediaFolder(tmp_path / "media")
        )
        assert picture.done == 0
    assert viewer(session, cache).ledger("main", "chain", 0, FRAMES) == (None, 0.0)
    assert viewer(session, cache).hits("a", "a1", FRAMES) == []


def test_the_ledger_of_a_chain_is_measured_on_its_sound(cache: StripCache) -> None:
    session = small_session(sections=[{"name": "One", "start_s": 0}, {"name": "Two", "start_s": 2}])
    filled(cache, session)
    found, done = viewer(session, cache).ledger("c", "chain", 0, FRAMES)
    assert done == 1.0
    assert found is not None
    fingerprints = fingerprints_of(planned(session), CODE)
    meter = RowMeter(48000, 1)
    rows = meter.feed(cache.output(fingerprints["c"], 1).rows[:FRAMES].astype(np.float64))
    from salt_anvil.core.measure.rows import figures

    assert found.after.integrated_lufs == pytest.approx(figures(rows).integrated_lufs, abs=0.05)
    assert [s.name for s in found.sections] == ["One", "Two"]
    assert [(s.begin, s.end) for s in section_spans(session)] == [(0, 96_000), (96_000, FRAMES)]


def test_what_the_next_stage_has_to_do_before_and_after_a_change(cache: StripCache) -> None:
    """Six decibels less into a bus: its compressor takes less, by what its own picture shows."""
    loud = small_session()
    quiet, _ = SetStrip(strip="a", field="fader_db", value=-18).apply(loud)
    for session in (loud, quiet):
        filled(cache, session)
    now, earlier = viewer(quiet, cache), viewer(loud, cache)
    (found,) = now.later("a", "a1", 0, FRAMES, earlier)
    assert (found.strip, found.stage) == ("Bus", "Compressor")
    assert found.before is not None
    assert found.now.median < found.before.median - 1
    reported = now.ledger("bus", "bus1", 0, FRAMES)[0]
    assert reported is not None
    assert found.now == reported.reduction
    # On the same strip first; nothing behind the last; unchanged, there is no before.
    (first,) = now.later("c", "c1", 0, FRAMES, earlier)
    assert (first.strip, first.before) == ("C", None)
    assert now.later("main", "main1", 0, FRAMES, earlier) == []
    assert len(now.later("b", "chain", 0, FRAMES, None)) == 1


def test_the_next_limiter_is_told_as_well(cache: StripCache) -> None:
    wall, _ = AddStage(place="main", index=1, kind="limiter").apply(small_session())
    filled(cache, wall)
    found = viewer(wall, cache).later("b", "b1", 0, FRAMES, None)
    assert [(f.strip, f.stage) for f in found] == [("Bus", "Compressor"), ("Main", "Limiter")]
    found = viewer(wall, cache).later("main", "main1", 0, FRAMES, None)
    assert [f.stage for f in found] == ["Limiter"]


def test_what_is_not_analysed_has_nothing_to_do_yet(cache: StripCache) -> None:
    assert viewer(small_session(), cache).later("a", "a1", 0, FRAMES, None) == []


def test_a_song_without_sections_has_a_ledger(cache: StripCache) -> None:
    session = small_session()
    filled(cache, session)
    found, _ = viewer(session, cache).ledger("a", "a1", 0, FRAMES)
    assert found is not None
    assert found.sections == []


def test_reduction_of_a_chain_is_the_change_of_level(cache: StripCache, tmp_path: Path) -> None:
    """Against input and output of the strip: RMS over 32 ms, at most what both stages can do."""
    session = small_session()
    filled(cache, session)
    pictures = {
        at: viewer(session, cache).picture("c", at, 0, FRAMES, 1, MediaFolder(tmp_path / "media"))
        for at in ("c1", "c2", "chain")
    }
    total = pictures["c1"].reduction + pictures["c2"].reduction
    assert 0 < pictures["chain"].reduction <= total
    fingerprint = fingerprints_of(planned(session), CODE)["c"]
    out = cache.output(fingerprint, 1).rows[:FRAMES, 0].astype(np.float64)
    trimmed = SOUNDS["c"][:, 0].astype(np.float32) * 10 ** (3 / 20)
    found = viewer(session, cache).taken("c", "chain")[:, 0]
    for cell in (500, 1500, 2400):
        frames = slice((cell - 23) * GRID, (cell + 1) * GRID)
        change = 10 * np.log10(np.square(trimmed[frames]).mean() / np.square(out[frames]).mean())
        most = sum(viewer(session, cache).taken("c", at)[cell, 0] for at in ("c1", "c2"))
        assert found[cell] == pytest.approx(min(change, most), abs=0.01)


@pytest.mark.parametrize("kind", sorted(REGISTRY))
def test_reduction_is_drawn_to_the_end_of_the_song(
    cache: StripCache, tmp_path: Path, kind: str
) -> None:
    """Whatever a kind reports is one row a cell, for every channel."""
    session, _ = AddStage(place="a", index=0, kind=kind).apply(small_session())
    filled(cache, session)
    fingerprints = fingerprints_of(planned(session), CODE)
    for path in cache.path(fingerprints["a"]).glob(f"cells-a-{kind}-*.f32"):
        cells = np.fromfile(path, "<f4").reshape(-1, 2)
        assert len(cells) >= FRAMES // GRID, path.name
