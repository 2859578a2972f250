"""Sessions with splits, keys, sends and automation: printed, processed and looked at."""

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.cached_strips import CachedStrips
from salt_anvil.analysis.pictures import Viewer
from salt_anvil.analysis.strip_pass import analyse, join_measurements, measure_missing_joins
from salt_anvil.cli import main
from salt_anvil.core import edits as e
from salt_anvil.core.audio import GRID
from salt_anvil.core.engine.fingerprint import fingerprints_of
from salt_anvil.core.engine.graph import Point
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.measure.rows import RowMeter, figures
from salt_anvil.core.recipe import recipe_of
from salt_anvil.core.session import Session, checked
from salt_anvil.files.media import MediaFolder
from salt_anvil.jobs.render import print_to_file
from tests.conftest import noise
from tests.routing import held_plan, reader
from tests.sessions import compressor

RATE, FRAMES = 48000, 70_000
SOUNDS = {
    "voice": noise(FRAMES, 1, seed=1) * np.repeat([0.0, 1.0, 0.2, 0.9], FRAMES // 4)[:, None],
    "band": noise(FRAMES, 2, seed=2),
}
SOUNDS = {n: s.astype(np.float32).astype(np.float64) for n, s in SOUNDS.items()}


def session() -> Session:
    """The band ducks under the voice, is split into bands, and blended with a crushed copy."""
    chain = [
        compressor("duck", ratio=6, lookahead_ms=4) | {"key": {"source": "strip:voice"}},
        {"id": "bands", "kind": "split", "by": "bands", "crossovers_hz": [200, 2000], "branches": [
            {"id": "low", "name": "low", "chain": [compressor("low-c", ratio=3)]},
            {"id": "mid", "name": "mid"},
            {"id": "high", "name": "high", "gain_db": -2, "chain": [compressor("high-c")]}]},
        {"id": "blend", "kind": "split", "by": "copies", "branches": [
            {"id": "dry", "name": "dry"},
            {"id": "wet", "name": "wet", "chain": [compressor("wet-c", ratio=20)]}],
         "join": {"law": "steady", "position": 0.4}},
    ]  # fmt: skip
    strips = [
        {"id": "voice", "name": "Voice", "kind": "track", "audio": "voice", "channels": 1,
         "frames": FRAMES, "sends": [{"to": "room", "gain_db": -6}]},
        {"id": "band", "name": "Band", "kind": "track", "audio": "band", "channels": 2,
         "frames": FRAMES, "chain": chain},
        {"id": "room", "name": "Room", "kind": "bus", "fader_db": -9,
         "chain": [compressor("room-c") | {"key": {"source": "stage:duck", "tap": "in"}}]},
        {"id": "main", "name": "Main", "kind": "main"},
    ]  # fmt: skip
    moves = [{"owner": "blend", "control": "position",
              "points": [{"at_s": 0, "value": 0.2}, {"at_s": 1.2, "value": 0.9}]}]  # fmt: skip
    sections = [{"name": "One", "start_s": 0}, {"name": "Two", "start_s": 0.7}]
    return checked(
        Session,
        {
            "name": "Routed",
            "rate": RATE,
            "strips": strips,
            "sections": sections,
            "automation": moves,
        },
    )


@pytest.fixture(scope="module")
def cache(tmp_path_factory: pytest.TempPathFactory) -> StripCache:
    found = StripCache(tmp_path_factory.mktemp("routed") / "cache")
    analyse(session(), "code", reader(SOUNDS), found, None, lambda *a: True)
    return found


def printed(path: Path, **more: object) -> np.ndarray:
    plan = held_plan(session(), SOUNDS)
    print_to_file(plan, reader(SOUNDS), path, "wav-32f", **more)  # type: ignore[arg-type]
    return soundfile.read(path, dtype="float32", always_2d=True)[0]


def test_a_print_from_the_cache_is_the_print(cache: StripCache, tmp_path: Path) -> None:
    plan = make_plan(session(), measured=join_measurements(cache, "code"))
    frozen = CachedStrips(cache, "code")(plan)
    assert set(frozen) == {"voice", "band", "room", "main"}
    fresh = printed(tmp_path / "a.wav")
    assert (printed(tmp_path / "b.wav", frozen=frozen) == fresh).all()
    frozen.pop("room")
    assert (printed(tmp_path / "c.wav", frozen=frozen) == fresh).all()
    region = printed(tmp_path / "d.wav", frozen=frozen, begin=30_001, end=44_000)
    assert (region == fresh[30_001:44_000]).all()


def test_holding_again_measures_nothing(cache: StripCache) -> None:
    assert not measure_missing_joins(session(), "code", reader(SOUNDS), cache, lambda *a: True)
    moved, _ = e.SetSplit(split="blend", position=0.9).apply(session())
    assert make_plan(moved, measured=join_measurements(cache, "code")).missing() == []
    other, _ = e.SetParams(stage="wet-c", params={"ratio": 2}).apply(session())
    assert len(make_plan(other, measured=join_measurements(cache, "code")).missing()) == 1


def test_a_strip_is_what_its_recipe_makes_of_its_file(tmp_path: Path) -> None:
    """The chain as a recipe, the voice as a key file: the command line gives the strip's print."""
    still, _ = e.SetLane(owner="blend", control="position").apply(session())
    plan = held_plan(still, SOUNDS)
    path = tmp_path / "strip.wav"
    print_to_file(plan, reader(SOUNDS), path, "wav-32f", strip="band")
    recipe = recipe_of(still, "band")
    (tmp_path / "r.json").write_text(json.dumps(recipe.model_dump(mode="json")))
    for name, sound in SOUNDS.items():
        soundfile.write(tmp_path / f"{name}.wav", sound, RATE, subtype="FLOAT")
    out = tmp_path / "out.wav"
    arguments = ["process", str(tmp_path / "band.wav"), str(out), "--width", "32f",
                 "--recipe", str(tmp_path / "r.json")]  # fmt: skip
    assert main([*arguments, "--key", f"Voice={tmp_path / 'voice.wav'}"]) == 0
    assert (soundfile.read(out)[0] == soundfile.read(path)[0]).all()


def viewer(cache: StripCache, model: Session | None = None) -> Viewer:
    model = model or session()
    plan = make_plan(model, observe_all=True, measured=join_measurements(cache, "code"))
    return Viewer(model, plan, "code", cache)


def picture(cache: StripCache, at: str, tmp_path: Path, columns: int = 7):
    media = MediaFolder(tmp_path / "media")
    return viewer(cache).picture("band", at, 0, 64 * GRID * columns, columns, media)


def test_branches_and_splits_are_drawn(cache: StripCache, tmp_path: Path) -> None:
    low, bands = picture(cache, "low", tmp_path), picture(cache, "bands", tmp_path)
    assert low.done == bands.done == 7
    # The low band of noise is far smaller than the whole.
    assert np.abs(low.before).max() < 0.5 * np.abs(bands.before).max()
    high = picture(cache, "high", tmp_path)
    # As a whole, level in against level out: never more than the band that is reduced most.
    most = np.maximum(low.reduction, high.reduction)
    assert (bands.reduction <= most + 1e-6).all()
    assert bands.reduction.max() > 1
    assert picture(cache, "dry", tmp_path).reduction.max() == 0


def test_a_stage_that_is_off_takes_nothing_away(cache: StripCache, tmp_path: Path) -> None:
    model, _ = e.SetStage(stage="low-c", on=False).apply(session())
    analyse(model, "code", reader(SOUNDS), cache, None, lambda *a: True)
    media = MediaFolder(tmp_path / "media")
    found = viewer(cache, model).picture("band", "low", 0, FRAMES, 5, media)
    assert found.reduction.max() == 0


def test_the_ledger_of_a_branch_is_measured_on_it(cache: StripCache) -> None:
    found, done = viewer(cache).ledger("band", "wet", 0, FRAMES)
    assert done == 1
    assert found is not None
    assert found.reduction.most > 3
    dry, _ = viewer(cache).ledger("band", "dry", 0, FRAMES)
    assert dry is not None
    assert dry.before.integrated_lufs == dry.after.integrated_lufs
    split, _ = viewer(cache).ledger("band", "blend", 0, FRAMES)
    assert split is not None
    assert split.before.integrated_lufs == pytest.approx(dry.before.integrated_lufs, abs=1e-9)


def test_a_strip_s_meters_are_those_of_its_sound(cache: StripCache) -> None:
    plan = make_plan(session(), measured=join_measurements(cache, "code"))
    frozen = CachedStrips(cache, "code")(plan)["band"]
    for k in (0, 20, 60):
        block = frozen.blocks(k, 1)
        assert frozen.meters[k][:2] == pytest.approx(np.abs(block).max(axis=0), rel=1e-6)
    assert (frozen.blocks(plan.blocks + 5, 2) == 0).all()
    last = plan.blocks - 2
    each = [frozen.blocks(k, 1) for k in range(last, last + 5)]
    assert np.array_equal(frozen.blocks(last, 5), np.concatenate(each))


def test_points_that_others_listen_to_are_kept(cache: StripCache) -> None:
    plan = make_plan(session(), measured=join_measurements(cache, "code"))
    assert plan.strip("band").exports == (Point("stage:duck", "in"),)
    frozen = CachedStrips(cache, "code")(plan)["band"]
    expected = SOUNDS["band"][20 * 1024 : 21 * 1024]
    assert (frozen.points(Point("stage:duck", "in"), 20, 1) == expected).all()


def test_lanes_are_told_over_the_song(cache: StripCache) -> None:
    (lane,) = viewer(cache).lanes(11)
    assert (lane.owner, lane.control, lane.lever) == ("blend", "position", False)
    seconds = np.linspace(0, FRAMES / RATE, 11)
    expected = np.interp(seconds, [0, 1.2], [0.2, 0.9])
    assert lane.values == pytest.approx(expected, abs=1e-4)


def test_loudness_of_a_measured_branch_matches_another_run(cache: StripCache) -> None:
    """The chain's figures in the ledger against a meter on the print of the strip."""
    found, _ = viewer(cache).ledger("band", "chain", 0, FRAMES)
    plan = make_plan(session(), measured=join_measurements(cache, "code"))
    out = cache.output(fingerprints_of(plan, "code")["band"], 2).rows[:FRAMES]
    meter = RowMeter(RATE, 2)
    rows = np.concatenate([meter.feed(out.astype(np.float64)), meter.flush()])
    assert found is not None
    assert found.after.integrated_lufs == pytest.approx(figures(rows).integrated_lufs, abs=0.02)
