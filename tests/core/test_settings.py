"""Settings A to D of a stage, a split, a stretch, a chain, a strip; and what differs, in words."""

import numpy as np
import pytest

from salt_anvil.core import edits as e
from salt_anvil.core.differences import session_differences, setting_differences
from salt_anvil.core.edits.settings import setting_in_force, settings_of, stand_in
from salt_anvil.core.errors import MissingError, SaltAnvilError, SettingError
from salt_anvil.core.session import Extent, Session, checked
from tests.random_sessions import random_edit, random_extent, random_session

CHAIN = [
    {"id": "tone", "kind": "tone"},
    {"id": "press", "kind": "compressor", "params": {"ratio": 4, "knee_db": 6}},
    {"id": "wall", "kind": "limiter", "params": {"ceiling_db": -1}},
]


def session() -> Session:
    track = {"kind": "track", "channels": 2, "frames": 96000, "audio": "a"}
    strips = [
        track | {"id": "drum", "name": "Drum", "chain": CHAIN},
        track | {"id": "other", "name": "Other"},
        {"id": "room", "name": "Room", "kind": "bus"},
        {"id": "main", "name": "Main", "kind": "main"},
    ]  # fmt: skip
    return checked(Session, {"name": "S", "strips": strips})


def ids(now: Session, strip: str = "drum") -> list[str]:
    return [x.id for x in now.strip(strip).chain]


def done(now: Session, *edits: e.Edit) -> Session:
    return e.apply_edits(now, list(edits))[0]


def of(kind: str, owner: str, **more: str) -> Extent:
    return Extent(kind=kind, owner=owner, **more)


def words(now: Session, extent: Extent, slot: str) -> list[str]:
    """What a held setting differs in from the one in force."""
    held = settings_of(now, extent).held[slot]
    return setting_differences(held, setting_in_force(now, extent), now)


def test_a_stage_has_four_settings() -> None:
    press = of("element", "press")
    now = done(session(), e.ChooseSettings(extent=press, slot="B"))
    now = done(now, e.SetParams(stage="press", params={"ratio": 8, "knee_db": 0}))
    assert words(now, press, "A") == [
        "compressor: ratio 4 : 1 instead of 8 : 1, knee 6 dB instead of 0 dB"
    ]
    back, said = e.ChooseSettings(extent=press, slot="A").apply(now)
    assert back.strip("drum").chain[1].params.ratio == 4
    assert said == "Drum: compressor: settings A"
    assert done(back, e.ChooseSettings(extent=press, slot="B")).strips == now.strips


def test_a_stretch_may_hold_other_stages_and_none() -> None:
    stretch = of("stretch", "drum", after="tone", before="wall")
    now = done(session(), e.ChooseSettings(extent=stretch, slot="B"))
    now = done(now, e.AddStage(place="drum", index=1, kind="clipper"))
    assert ids(now) == ["tone", "drum-clipper", "press", "wall"]
    assert words(now, stretch, "A") == ["no clipper"]
    now = done(now, e.ChooseSettings(extent=stretch, slot="C"), e.RemoveStage(stage="press"))
    now = done(now, e.RemoveStage(stage="drum-clipper"))
    assert ids(now) == ["tone", "wall"]
    now = done(now, e.ChooseSettings(extent=stretch, slot="A"))
    assert now.strips == session().strips
    assert words(now, stretch, "B")[0].startswith("clipper first")


def test_a_stretch_keeps_its_place_when_neighbours_go() -> None:
    stretch = of("stretch", "drum", after="tone", before="wall")
    now = done(session(), e.ChooseSettings(extent=stretch, slot="B"))
    now = done(now, e.AddStage(place="drum", index=0, kind="trim"), e.RemoveStage(stage="tone"))
    found = now.settings[0].extent
    assert (found.after, found.before) == ("drum-trim", "wall")
    now = done(now, e.RemoveStage(stage="wall"))
    assert now.settings[0].extent.before is None
    assert [x.id for x in stand_in(now, now.settings[0].extent)[1]] == ["press"]


def test_a_strip_keeps_levels_and_sends_but_not_its_name_and_ways() -> None:
    drum = of("strip", "drum")
    now = done(session(), e.ChooseSettings(extent=drum, slot="B"))
    now = done(
        now,
        e.SetStrip(strip="drum", field="fader_db", value=-6.0),
        e.SetStrip(strip="drum", field="name", value="Kit"),
        e.SetSend(strip="drum", to="room", gain_db=-3.0),
        e.RemoveStage(stage="tone"),
    )
    assert words(now, drum, "A") == [
        "fader 0 dB instead of −6 dB", "no send to Room", "tone first",
    ]  # fmt: skip
    back = done(now, e.ChooseSettings(extent=drum, slot="A")).strip("drum")
    assert (back.name, back.fader_db, back.sends) == ("Kit", 0.0, [])
    # A send to a bus that is gone is left out.
    gone = done(now, e.ChooseSettings(extent=drum, slot="A"), e.RemoveStrip(strip="room"))
    assert done(gone, e.ChooseSettings(extent=drum, slot="B")).strip("drum").sends == []


def test_what_moves_a_setting_is_kept_with_it() -> None:
    chain = of("chain", "drum")
    lane = e.SetLane(owner="press", control="threshold_db", points=[{"at_s": 0, "value": -9}])
    now = done(session(), lane, e.AddLever(name="More"))
    moves = [{"owner": "press", "control": "ratio", "low": 2, "high": 8}]
    now = done(now, e.SetLever(lever=now.levers[0].id, moves=moves))
    bare = done(now, e.ChooseSettings(extent=chain, slot="B"), e.RemoveStage(stage="press"))
    assert bare.automation == [] and bare.levers[0].moves == []
    assert "compressor threshold moves" in words(bare, chain, "A")
    back = done(bare, e.ChooseSettings(extent=chain, slot="A"))
    assert (back.automation, back.levers) == (now.automation, now.levers)


def test_copying_names_and_clearing() -> None:
    press = of("element", "press")
    now = done(session(), e.CopySettings(extent=press, source="A", target="C"))
    now = done(now, e.SetParams(stage="press", params={"ratio": 2}))
    now = done(now, e.CopySettings(extent=press, source="C", target="A"))
    assert now.strips == session().strips
    now = done(now, e.NameSettings(extent=press, slot="C", name=" softer "))
    assert settings_of(now, press).names == {"C": "softer"}
    now = done(now, e.ClearSettings(extent=press, slot="C"))
    assert now.settings == []
    for refused in (
        e.ClearSettings(extent=press, slot="A"),
        e.CopySettings(extent=press, source="D", target="A"),
        e.NameSettings(extent=press, slot="D", name="x"),
    ):
        with pytest.raises(SettingError):
            refused.apply(now)
    with pytest.raises(MissingError):
        e.ChooseSettings(extent=of("element", "nothing"), slot="B").apply(now)


def test_a_stage_that_was_moved_elsewhere_comes_back_under_another_id() -> None:
    chain = of("chain", "drum")
    now = done(session(), e.ChooseSettings(extent=chain, slot="B"))
    now = done(now, e.MoveStage(stage="press", place="other", index=0))
    now = done(now, e.ChooseSettings(extent=chain, slot="A"))
    assert [x.kind for x in now.strip("drum").chain] == ["tone", "compressor", "limiter"]
    assert ids(now, "other") == ["press"]


def test_settings_go_with_their_stage_and_strip() -> None:
    now = done(session(), e.ChooseSettings(extent=of("element", "press"), slot="B"))
    assert done(now, e.RemoveStage(stage="press")).settings == []
    assert done(now, e.RemoveStrip(strip="drum")).settings == []
    # Where another setting still holds the stage, its own settings are kept.
    now = done(now, e.ChooseSettings(extent=of("chain", "drum"), slot="B"))
    assert len(done(now, e.RemoveStage(stage="press")).settings) == 2


def test_sessions_of_before_keep_their_slots() -> None:
    stage = {"id": "t", "kind": "trim", "params": {"gain_db": 5}, "slot": "B",
             "slots": {"A": {"gain_db": -1}, "B": {"gain_db": 5}}}  # fmt: skip
    data = session().model_dump(exclude={"settings"})
    data["strips"][1]["chain"] = [stage]
    now = checked(Session, data)
    assert now.settings[0].chosen == "B"
    back = done(now, e.ChooseSettings(extent=of("element", "t"), slot="A"))
    assert back.strip("other").chain[0].params.gain_db == -1
    assert checked(Session, now.model_dump()) == now


@pytest.mark.parametrize("seed", range(40))
def test_whatever_is_done_in_b_leaves_a_as_it_was(seed: int) -> None:
    random = np.random.default_rng(seed)
    now = random_session(random)
    extent = checked(Extent, random_extent(random, now))
    before = setting_in_force(now, extent)
    tried = done(now, e.ChooseSettings(extent=extent, slot="B"))
    assert tried.strips == now.strips
    for _ in range(4):
        try:
            tried = done(tried, random_edit(random, tried))
        except SaltAnvilError:
            continue
    kept = next((s for s in tried.settings if "A" in s.held and s.chosen == "B"), None)
    if kept is None or kept.extent != extent:
        return  # the place itself is gone, or was chosen otherwise
    assert kept.held["A"] == before
    back = setting_in_force(done(tried, e.ChooseSettings(extent=extent, slot="A")), extent)
    assert [x.kind for x in back.chain] == [x.kind for x in before.chain]
    assert setting_differences(before, before, now) == []


def test_what_differs_between_two_states_of_a_session() -> None:
    first = session()
    now = done(
        first,
        e.SetStage(stage="press", mix=0.35),
        e.SetStage(stage="wall", on=False),
        e.SetStage(stage="press", key={"source": "strip:other", "low_hz": 90}),
        e.MoveStage(stage="wall", place="drum", index=0),
        e.AddSplit(by="bands", place="other"),
        e.SetStrip(strip="other", field="mute", value=True),
        e.AddSection(name="Verse", start_s=0.5),
        e.SetSession(bpm=96),
    )
    assert session_differences(now, first) == [
        "96 instead of no tempo bpm",
        "other sections",
        "Drum: limiter first instead",
        "Drum: limiter: off",
        "Drum: compressor: key Other instead of own, key from 90 Hz to open instead of open to"
        " open, mix 35 % instead of 100 %",
        "Other: muted",
        "Other: 3 bands first",
    ]
    assert session_differences(first, first) == []
