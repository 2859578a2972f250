"""A gate set by marks: it opens on the hits to keep and on no other, heard through the engine."""

import numpy as np
import pytest

from salt_anvil.core.edits import SetParams, SetStage, apply_edits
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import SettingError
from salt_anvil.core.session import Session, checked
from salt_anvil.jobs.gating import by_marks
from salt_anvil.jobs.stretch import Means
from tests.routing import reader

RATE, SECONDS = 48000, 8
KEEP, REFUSE = (1.0, 3.0, 5.0), (2.0, 4.0, 6.0)


def hits(kept_db: float, refused_db: float) -> np.ndarray:
    """Low booms to keep, bright clicks to refuse, over a floor of -70 dBFS."""
    t = np.arange(RATE // 4) / RATE
    fall = np.exp(-t / 0.05)
    boom = np.sin(2 * np.pi * 80 * t) * fall
    noise = np.random.default_rng(3).standard_normal(len(t))
    click = np.diff(noise, prepend=0.0) * fall / 4
    out = np.random.default_rng(4).standard_normal(SECONDS * RATE) * 10 ** (-70 / 20)
    for times, hit, level in ((KEEP, boom, kept_db), (REFUSE, click, refused_db)):
        for second in times:
            at = round(second * RATE)
            out[at : at + len(t)] += 10 ** (level / 20) * hit
    return out[:, None]


def session(**key: object) -> Session:
    gate = {"id": "g", "kind": "gate", "params": {}, "key": key}
    strips = [
        {"id": "in", "name": "In", "kind": "track", "audio": "in", "channels": 1,
         "frames": SECONDS * RATE, "chain": [gate]},
        {"id": "main", "name": "Main", "kind": "main"},
    ]  # fmt: skip
    return checked(Session, {"name": "S", "rate": RATE, "strips": strips})


def frames(seconds: tuple[float, ...], beside: float = 0.0) -> list[int]:
    return [round((s + beside) * RATE) for s in seconds]


@pytest.mark.parametrize("beside", [0.0, -0.08, 0.1])
@pytest.mark.parametrize(("kept", "refused"), [(-12, -30), (-20, -8)])
def test_it_opens_on_the_marked_hits_alone(kept: float, refused: float, beside: float) -> None:
    sound = {"in": hits(kept, refused)}
    before = session()
    found = by_marks(
        before, "g", frames(KEEP, beside), frames(REFUSE), Means(lambda: reader(sound))
    )
    assert found.problem is None
    # What is louder has to be told apart by its range.
    assert (found.high_hz is None) == (kept > refused)
    after = apply_edits(before, [
        SetStage(stage="g", key={"low_hz": found.low_hz, "high_hz": found.high_hz}),
        SetParams(stage="g", params={
            "threshold_db": found.threshold_db, "hysteresis_db": found.hysteresis_db}),
    ])[0]  # fmt: skip
    mixer = Mixer(make_plan(after, observe_all=True), reader(sound), tapped=True)
    blocks = [mixer.block(("in",)).strips["in"] for _ in range(SECONDS * RATE // 1024)]
    opened = np.concatenate([b.cells["g"]["opened"].max(axis=1) for b in blocks])
    times = np.flatnonzero(opened) * 64 / RATE
    assert np.round(times).tolist() == list(KEEP)


def test_a_gate_that_hears_another_strip_is_set_by_what_it_hears() -> None:
    """A steady tone, opened by the hits of a neighbour, whose range is narrowed already."""
    hold = np.sin(2 * np.pi * 300 * np.arange(SECONDS * RATE) / RATE)[:, None]
    sound = {"in": hits(-20, -8), "tone": hold * 0.1}
    key = {"source": "strip:in", "low_hz": 4000}
    gate = {"id": "g", "kind": "gate", "params": {"release_ms": 20, "hold_ms": 10}, "key": key}
    model = session().model_dump()
    model["strips"][0]["chain"] = []
    model["strips"].insert(1, {"id": "tone", "name": "Tone", "kind": "track", "audio": "tone",
                               "channels": 1,
                               "frames": SECONDS * RATE, "chain": [gate]})  # fmt: skip
    before = checked(Session, model)
    found = by_marks(before, "g", frames(KEEP), frames(REFUSE), Means(lambda: reader(sound)))
    assert found.problem is None
    assert found.high_hz is not None
    after = apply_edits(before, [
        SetStage(stage="g", key={
            "source": "strip:in", "low_hz": found.low_hz, "high_hz": found.high_hz}),
        SetParams(stage="g", params={
            "threshold_db": found.threshold_db, "hysteresis_db": found.hysteresis_db}),
    ])[0]  # fmt: skip
    mixer = Mixer(make_plan(after), reader(sound))
    blocks = [mixer.block(("tone",)).strips["tone"] for _ in range(SECONDS * RATE // 1024)]
    out = np.abs(np.concatenate([b.out for b in blocks])).max(axis=1)
    # Open shortly after each boom, shut a while before the next hit and at each click.
    assert [bool(out[round((s + 0.02) * RATE) :][:480].max() > 0.09) for s in KEEP] == [True] * 3
    assert max(out[round((s + 0.02) * RATE) :][:480].max() for s in REFUSE) < 0.01


@pytest.mark.parametrize(
    ("key", "marks", "words"),
    [
        ({}, ([], [0]), "at least one"),
        ({}, ([0], [121 * RATE]), "further apart"),
        ({}, ([20 * RATE], []), "no sound"),
    ],
)
def test_what_cannot_be_is_said(
    key: dict[str, object], marks: tuple[list[int], list[int]], words: str
) -> None:
    means = Means(lambda: reader({"in": hits(-12, -30)}))
    with pytest.raises(SettingError, match=words):
        by_marks(session(**key), "g", *marks, means)
