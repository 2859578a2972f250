"""Marks: they change with everything that changes the sound, and with nothing else."""

from typing import Any

import pytest

from salt_anvil.core import edits as e
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.session import Session
from tests.jobs.test_routing_prints import session

MEASURED = JoinMeasurement.even(1.0, 0.5, 0.3)


def digests(model: Session, measured: JoinMeasurement | None = MEASURED) -> dict[str, str]:
    return make_plan(model, measured=lambda digest: measured).digests


# The room listens to a point of the band, whose digest stands for all of its points.
BAND = {"band", "room", "main"}


def changed_by(*edits: Any) -> set[str]:
    before, after = digests(session()), digests(e.apply_edits(session(), list(edits))[0])
    return {n for n in before if before[n] != after.get(n)}


@pytest.mark.parametrize(
    ("edit", "expected"),
    [
        # A key changes what listens to it, and what that feeds.
        (e.SetStrip(strip="voice", field="trim_db", value=3), {"voice", "band", "room", "main"}),
        # A fader stands behind the chain and the keys.
        (e.SetStrip(strip="voice", field="fader_db", value=-3), {"room", "main"}),
        (e.SetStrip(strip="voice", field="name", value="Singer"), set()),
        (e.SetStrip(strip="band", field="pan", value=0.5), {"main"}),
        (e.SetSend(strip="voice", to="room", gain_db=-20), {"room", "main"}),
        (e.SetSend(strip="voice", to="room", on=False), {"room", "main"}),
        (e.SetParams(stage="low-c", params={"ratio": 9}), BAND),
        (e.SetParams(stage="duck", params={"ratio": 9}), BAND),
        (e.SetStage(stage="duck", silenced_cautions=["crest"]), set()),
        (e.SetSplit(split="bands", crossovers_hz=[180, 2000]), BAND),
        (e.SetBranch(branch="mid", solo=True), BAND),
        (e.SetBranch(branch="mid", name="middle"), set()),
        (e.SetLane(owner="blend", control="position"), BAND),
        (e.SetStrip(strip="room", field="mute", value=True), {"main"}),
        (e.SetStrip(strip="band", field="solo", value=True), {"room", "main"}),
    ],
)  # fmt: skip
def test_digests_follow_the_sound(edit: Any, expected: set[str]) -> None:
    assert changed_by(edit) == expected


def test_a_measurement_is_part_of_the_sound() -> None:
    one, other = digests(session()), digests(session(), JoinMeasurement.even(1.0, 0.2, 0.1))
    assert one["band"] != other["band"]
    assert one["voice"] == other["voice"]


def test_joins_are_looked_up_by_what_they_depend_on() -> None:
    def digest(model: Session) -> str:
        return make_plan(model).strip("band").joins[0].digest

    first = digest(session())
    for edit in (
        e.SetSplit(split="blend", position=0.9),
        e.SetSplit(split="blend", mix=0.2),
        e.SetBranch(branch="wet", gain_db=-3),
        e.SetStrip(strip="band", field="fader_db", value=-9),
    ):
        assert digest(edit.apply(session())[0]) == first
    for edit in (
        e.SetParams(stage="wet-c", params={"ratio": 2}),
        e.SetParams(stage="duck", params={"ratio": 2}),
        e.SetStrip(strip="voice", field="trim_db", value=1),
        e.SetBranch(branch="low", gain_db=1),
    ):
        assert digest(edit.apply(session())[0]) != first


def test_a_join_behind_an_unmeasured_one_waits() -> None:
    model, _ = e.AddSplit(by="copies", around=["blend"]).apply(session())
    joins = make_plan(model).strip("band").joins
    assert [(j.ready, j.measured) for j in joins] == [(True, None), (False, None)]
    ready = make_plan(model, measured=lambda d: MEASURED).strip("band").joins
    assert all(j.ready and j.measured == MEASURED for j in ready)
    assert len(make_plan(model).missing()) == 2
