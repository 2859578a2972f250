"""Edits of routing: one gesture each, with words; what is lost is pruned."""

from typing import Any

import pytest

from salt_anvil.core import edits as e
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import CoreError, SettingError
from salt_anvil.core.measure.wiring import wiring_cautions
from salt_anvil.core.recipe import inputs_of, recipe_of
from salt_anvil.core.session import Session, Split, Stage, branches, elements
from tests.sessions import small_session


def done(session: Session, *edits: Any) -> Session:
    changed, _ = e.apply_edits(session, list(edits))
    make_plan(changed)
    return changed


def chain(session: Session, strip: str) -> list[Any]:
    return session.strip(strip).chain


def ids(items: list[Any]) -> list[str]:
    return [i.id for i in items]


def split_on(session: Session, strip: str = "c") -> Split:
    return next(x for x in elements(chain(session, strip)) if isinstance(x, Split))


def test_blend_this_puts_a_dry_branch_beside_it() -> None:
    session = done(small_session(), e.AddSplit(by="copies", around=["c1", "c2"]))
    split = split_on(session)
    assert [ids(b.chain) for b in split.branches] == [[], ["c1", "c2"]]
    assert (split.join.law, split.join.position) == ("steady", 0.5)
    back = done(session, e.RemoveSplit(split=split.id))
    assert ids(chain(back, "c")) == ["c1", "c2"]


def test_only_neighbours_can_be_split_together() -> None:
    session = done(small_session(), e.AddStage(place="c", index=1, kind="trim"))
    with pytest.raises(SettingError, match="side by side"):
        e.AddSplit(by="copies", around=["c1", "c2"]).apply(session)


def test_into_bands_copies_the_stage_to_each() -> None:
    session = done(small_session(), e.AddSplit(by="bands", around=["b1"], bands=4))
    split = split_on(session, "b")
    assert len(split.crossovers_hz) == 3
    stages = [b.chain[0] for b in split.branches]
    assert stages[-1].id == "b1"
    assert len({s.id for s in stages}) == 4
    assert {s.params.detector for s in stages} == {"rms"}


def test_copy_to_the_other_branches_replaces_the_first_of_its_kind() -> None:
    session = done(small_session(), e.AddSplit(by="bands", around=["b1"], bands=3))
    session = done(session, e.SetParams(stage="b1", params={"ratio": 9}))
    session = done(session, e.CopyToSiblings(stage="b1"))
    split = split_on(session, "b")
    assert [[s.params.ratio for s in b.chain] for b in split.branches] == [[9], [9], [9]]
    with pytest.raises(SettingError, match="stands on no branch"):
        e.CopyToSiblings(stage="a1").apply(session)


def test_copy_to_one_other_branch_leaves_the_rest() -> None:
    session = done(small_session(), e.AddSplit(by="bands", around=["b1"], bands=3))
    stages = [b.chain[0].id for b in split_on(session, "b").branches]
    session = done(session, e.SetParams(stage=stages[0], params={"ratio": 9}))
    last = split_on(session, "b").branches[2]
    changed, words = e.CopyToSiblings(stage=stages[0], to=last.id).apply(session)
    found = [b.chain[0].params.ratio for b in split_on(changed, "b").branches]
    assert found == [9, 4, 9]
    assert words == f"B: compressor copied to {last.name}"
    for wrong in (split_on(session, "b").branches[0].id, "nobody"):
        with pytest.raises(SettingError, match="no other branch"):
            e.CopyToSiblings(stage=stages[0], to=wrong).apply(session)


def test_bands_come_and_go_with_their_corners() -> None:
    session = done(small_session(), e.AddSplit(by="bands", place="a", bands=2))
    split = split_on(session, "a")
    session = done(session, e.AddBranch(split=split.id, hz=5000))
    split = split_on(session, "a")
    assert split.crossovers_hz == [200, 5000]
    middle = split.branches[1]
    session = done(session, e.RemoveBranch(branch=middle.id))
    split = split_on(session, "a")
    assert len(split.branches) == 2
    assert split.crossovers_hz == [5000]
    with pytest.raises(SettingError, match="needs two branches"):
        e.RemoveBranch(branch=split.branches[0].id).apply(session)


def test_stages_move_between_staves_and_keep_their_automation() -> None:
    session = done(small_session(), e.AddSplit(by="copies", place="c", index=2))
    wet = split_on(session).branches[1].id
    session = done(
        session, e.SetLane(owner="c1", control="ratio", points=[{"at_s": 0, "value": 3}])
    )
    session = done(session, e.MoveStage(stage="c1", place=wet, index=0))
    assert ids(split_on(session).branches[1].chain) == ["c1"]
    assert len(session.automation) == 1
    gone = done(session, e.RemoveStage(stage=split_on(session).id))
    assert gone.automation == []
    with pytest.raises(SettingError, match="into itself"):
        e.MoveStage(stage=split_on(session).id, place=wet, index=0).apply(session)


def test_a_removed_bus_takes_its_sends_along() -> None:
    session = done(
        small_session(),
        e.SetSend(strip="c", to="bus", gain_db=-9),
        e.SetLane(owner="c", control="send:bus", points=[{"at_s": 0, "value": -3}]),
        e.SetLane(owner="bus", control="fader_db", points=[{"at_s": 0, "value": -3}]),
    )
    assert session.strip("c").sends[0].gain_db == -9
    session = done(session, e.RemoveStrip(strip="bus"))
    assert session.strip("c").sends == []
    assert session.strip("a").output is None
    assert session.automation == []


def test_what_is_keyed_cannot_lose_its_key() -> None:
    session = done(small_session(), e.SetStage(stage="b1", key={"source": "stage:a1"}))
    changed, _ = e.RemoveStage(stage="a1").apply(session)
    with pytest.raises(CoreError, match="its key stage:a1 is not there"):
        make_plan(changed)


# Automation and levers -----------------------------------------------------------------------


def controls(session: Session) -> list[str]:
    """What is automated, and what the levers move."""
    moves = [m.control for lever in session.levers for m in lever.moves]
    return [a.control for a in session.automation] + moves


def test_what_moves_in_a_list_follows_its_item() -> None:
    """A band in front comes or goes, or the band itself; a crossover with its band."""
    bands = [{"hz": hz} for hz in (100, 1000, 5000)]
    session = done(
        small_session(),
        e.AddStage(place="a", index=0, kind="tone", params={"bands": bands}),
    )
    tone = chain(session, "a")[0].id
    point = [{"at_s": 0, "value": 3}]
    session = done(
        session,
        *(
            e.SetLane.model_validate(
                {"owner": tone, "control": f"bands.{i}.gain_db", "points": point}
            )
            for i in (0, 2)
        ),
        e.AddLever(name="Lift"),
    )
    move = {"owner": tone, "control": "bands.2.q", "low": 1, "high": 2}
    lift = session.levers[0].id
    session = done(session, e.SetLever.model_validate({"lever": lift, "moves": [move]}))

    def with_(kept: list[dict[str, Any]]) -> list[str]:
        return controls(done(session, e.SetParams(stage=tone, params={"bands": kept})))

    assert with_(bands[1:]) == ["bands.1.gain_db", "bands.1.q"]
    assert with_([bands[0], bands[2]]) == ["bands.0.gain_db", "bands.1.gain_db", "bands.1.q"]
    assert with_(bands[:2]) == ["bands.0.gain_db"]
    assert with_([{"hz": 50}, *bands]) == ["bands.1.gain_db", "bands.3.gain_db", "bands.3.q"]
    assert with_([*bands, {"hz": 9000}]) == controls(session)
    assert with_([]) == []
    added = done(small_session(), e.AddSplit.model_validate(
        {"place": "a", "index": 0, "by": "bands", "bands": 4}))  # fmt: skip
    split = chain(added, "a")[0]
    corner = {
        "owner": split.id,
        "control": "crossovers_hz.2",
        "points": [{"at_s": 0, "value": 9000}],
    }
    added = done(added, e.SetLane.model_validate(corner))
    fewer = done(added, e.RemoveBranch(branch=split.branches[0].id))
    assert controls(fewer) == ["crossovers_hz.1"]
    assert controls(done(added, e.RemoveBranch(branch=split.branches[3].id))) == []


def song() -> Session:
    return small_session(
        sections=[
            {"name": "One", "start_s": 0},
            {"name": "Two", "start_s": 1},
            {"name": "Three", "start_s": 2},
        ]
    )


def value(session: Session, owner: str, control: str, seconds: float) -> float:
    plan = make_plan(session)
    lanes = next(s.lanes for s in plan.strips if owner in s.lanes)
    return lanes[owner][control].at(seconds)


def test_one_value_for_one_section() -> None:
    session = done(song(), e.SetInSection(owner="a", control="fader_db", section="Two", value=-8))
    for t, expected in ((0, 0), (0.994, 0), (1, -8), (1.994, -8), (2, 0), (3, 0)):
        assert value(session, "a", "fader_db", t) == expected, t
    again = done(session, e.SetInSection(owner="a", control="fader_db", section="Three", value=3))
    for t, expected in ((0.5, 0), (1.5, -8), (2.5, 3)):
        assert value(again, "a", "fader_db", t) == expected, t


def test_what_a_hand_wrote_replaces_only_its_stretch() -> None:
    start = e.SetLane(
        owner="c2",
        control="threshold_db",
        points=[{"at_s": 0, "value": -30}, {"at_s": 3, "value": -30}],
    )
    hand = [{"at_s": 1.0, "value": -20}, {"at_s": 1.5, "value": -10}]
    session = done(song(), start, e.WriteLane(owner="c2", control="threshold_db", points=hand))
    for t, expected in ((0.5, -30), (1.0, -20), (1.25, -15), (1.5, -10), (1.6, -30), (2.9, -30)):
        assert value(session, "c2", "threshold_db", t) == pytest.approx(expected), t


def test_writing_on_what_stood_still_goes_back_to_it() -> None:
    hand = [{"at_s": 1.0, "value": -6}, {"at_s": 1.5, "value": -9}]
    session = done(song(), e.WriteLane(owner="b", control="fader_db", points=hand))
    assert value(session, "b", "fader_db", 0.5) == -4
    assert value(session, "b", "fader_db", 1.25) == pytest.approx(-7.5)
    assert value(session, "b", "fader_db", 2) == -4


def test_levers_come_change_and_go() -> None:
    session = done(small_session(), e.AddLever(name="Lift"))
    lever = session.levers[0]
    moves = [{"owner": "a", "control": "fader_db", "low": -20, "high": 0}]
    session = done(session, e.SetLever(lever=lever.id, moves=moves, value=0.5))
    assert value(session, "a", "fader_db", 0) == -10
    with pytest.raises(CoreError, match="moved twice"):
        done(session, e.SetLane(owner="a", control="fader_db", points=[{"at_s": 0, "value": 0}]))
    gone = done(session, e.RemoveLever(lever=lever.id))
    assert gone.levers == []
    with pytest.raises(SettingError, match="no lever"):
        e.SetLever(lever="x", value=1).apply(session)


@pytest.mark.parametrize(
    ("edit", "words"),
    [
        (e.SetLane(owner="a1", control="ratio", points=[{"at_s": 0, "value": 400}]),
         "out of range"),
        (e.SetInSection(owner="a", control="fader_db", section="Nine", value=0), "no section"),
        (e.SetSplit(split="a1", on=False), "is no split"),
        (e.SetBranch(branch="a", gain_db=0), "is no branch"),
        (e.AddStage(place="nowhere", index=0, kind="trim"), "no strip or branch"),
        (e.SetSend(strip="a", to="bus", gain_db=99), "at most 12"),
    ],
)  # fmt: skip
def test_edits_that_cannot_be_done(edit: Any, words: str) -> None:
    with pytest.raises(CoreError, match=words):
        edit.apply(song())


# Recipes ------------------------------------------------------------------------------------------


def test_a_chain_travels_as_a_recipe_with_named_inputs() -> None:
    session = done(
        small_session(),
        e.AddSplit(by="copies", around=["c1", "c2"]),
        e.SetStage(stage="c2", key={"source": "strip:b"}),
    )
    recipe = recipe_of(session, "c")
    assert inputs_of(recipe) == ["B"]
    data = recipe.model_dump(mode="json")
    at_end = {"kind": "stretch", "owner": "a", "after": "a1"}
    with pytest.raises(SettingError, match="listens to “B”"):
        e.ApplyRecipe(extent=at_end, recipe=data).apply(session)
    used = done(session, e.ApplyRecipe(extent=at_end, recipe=data, inputs={"B": "strip:b"}))
    copied = [x for x in elements(chain(used, "a")) if isinstance(x, Stage)]
    assert [s.kind for s in copied] == ["compressor"] * 3
    assert copied[2].key.source == "strip:b"
    names = [x.id for s in used.strips for x in elements(s.chain)]
    names += [b.id for s in used.strips for b in branches(s.chain)]
    assert len(names) == len(set(names))


def test_keys_within_a_recipe_follow_their_stages() -> None:
    session = done(small_session(), e.SetStage(stage="c2", key={"source": "stage:c1"}))
    recipe = recipe_of(session, "c").model_dump(mode="json")
    used = done(session, e.ApplyRecipe(extent={"kind": "chain", "owner": "b"}, recipe=recipe))
    first, second = chain(used, "b")
    assert second.key.source == f"stage:{first.id}"


# Cautions of the wiring ------------------------------------------------------------------------


def cautions(session: Session, strip: str = "c") -> list[str]:
    return [c.rule.split()[0] for c in wiring_cautions(make_plan(session).strip(strip), 1000)]


def test_copies_that_double_or_cancel_are_told() -> None:
    session = done(small_session(), e.AddSplit(by="copies", place="c"))
    split = split_on(session).id
    assert cautions(session) == []
    summed = done(session, e.SetSplit(split=split, law="sum"))
    assert cautions(summed) == ["doubled"]
    wet = split_on(summed).branches[1].id
    banded = done(summed, e.AddSplit(by="bands", place=wet, bands=3))
    assert cautions(banded) == ["phase"]
    inner = next(
        x for x in elements(chain(banded, "c")) if isinstance(x, Split) and x.by == "bands"
    )
    assert cautions(done(banded, e.SetSplit(split=inner.id, phase="linear"))) == []


def test_a_forgotten_solo_is_told() -> None:
    session = done(small_session(), e.AddSplit(by="bands", place="c", bands=3))
    band = split_on(session).branches[0].id
    assert cautions(done(session, e.SetBranch(branch=band, solo=True))) == ["solo"]
