"""Session model, edits, recipes: what is refused and in which words; what edits do."""

import pytest

from salt_anvil.core import edits as e
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors import catalogue
from salt_anvil.core.recipe import read_recipe
from salt_anvil.core.session import Session, checked, following
from tests.sessions import small_session


def refused(chain: list, words: str) -> None:
    with pytest.raises(SettingError, match=words):
        read_recipe({"format": "salt-anvil/recipe", "version": 1, "name": "x", "chain": chain})


@pytest.mark.parametrize(
    ("stage", "words"),
    [
        ({"kind": "compressor", "params": {"ratio": 200}}, r"ratio is 200.*1 to 100"),
        ({"kind": "compressor", "params": {"ratio": 0.5}}, r"ratio is 0\.5; at least 1"),
        ({"kind": "compressor", "params": {"rato": 2}}, "rato: there is no such field"),
        ({"kind": "compresser"}, "there is no processor “compresser”; there are .*compressor"),
        ({"kind": "compressor", "mixx": 1}, "mixx: there is no such field"),
        ({"kind": "compressor", "mix": 1.5}, "mix is 1.5; at most 1"),
        ({"kind": "compressor", "params": {"detector": "ear"}}, "'ear'; allowed: 'peak' or 'rms'"),
        ({"kind": "compressor", "params": {"attack_ms": float("nan")}}, "attack_ms"),
        ({"kind": "compressor", "key": {"low_hz": 900, "high_hz": 300}}, "900 must be below"),
        ({"kind": "compressor", "key": {"source": "moon"}}, "source"),
        ({"kind": "split", "by": "bands", "crossovers_hz": [200, 100],
          "branches": [{"name": "a"}, {"name": "b"}, {"name": "c"}]}, "must increase"),
        ({"kind": "split", "by": "mid-side", "join": {"law": "sum"},
          "branches": [{"name": "a"}] * 3}, "2 branches, not 3"),
        ({"kind": "split", "by": "copies", "join": {"law": "steady"},
          "branches": [{"name": "a"}] * 3}, "join steady takes 2"),
    ],
)  # fmt: skip
def test_recipes_are_refused_by_name_with_the_range(stage: dict, words: str) -> None:
    refused([stage], words)


def test_the_recipe_of_the_design_is_read() -> None:
    recipe = read_recipe(
        {"format": "salt-anvil/recipe", "version": 1, "name": "Boathouse snap", "bpm": 96,
         "chain": [
             {"id": "g", "kind": "compressor", "on": True, "mix": 1.0,
              "params": {"threshold_db": -38, "hold_ms": 2},
              "key": {"source": "own", "low_hz": 60, "high_hz": 2000}},
             {"id": "s", "kind": "split", "by": "bands", "crossovers_hz": [200, 2000],
              "slope": 24, "phase": "minimum", "join": {"law": "sum"},
              "branches": [{"id": "low", "name": "low", "on": True, "gain_db": 0, "chain": []},
                           {"name": "middle"}, {"name": "high"}]},
             {"id": "p", "kind": "split", "by": "copies",
              "branches": [{"name": "dry", "chain": []}, {"name": "wet", "chain": []}],
              "join": {"law": "steady", "position": 0.35}}]}
    )  # fmt: skip
    assert [s.id for s in recipe.chain] == ["g", "s", "p"]
    assert recipe.model_validate(recipe.model_dump()) == recipe


@pytest.mark.parametrize("version", [0, 2])
def test_other_versions_are_refused(version: int) -> None:
    with pytest.raises(SettingError, match="version"):
        read_recipe({"format": "salt-anvil/recipe", "version": version, "chain": []})


def test_a_session_survives_json() -> None:
    session = small_session()
    assert Session.model_validate_json(session.model_dump_json()) == session


def test_levers_automation_and_sends_are_in_the_model() -> None:
    model = small_session().model_dump() | {
        "levers": [
            {
                "id": "l",
                "name": "Push",
                "moves": [{"owner": "a1", "control": "ratio", "low": 2, "high": 8}],
            }
        ],
        "automation": [{"owner": "a", "control": "fader_db", "points": [{"at_s": 1, "value": -3}]}],
    }
    model["strips"][0]["sends"] = [{"to": "bus", "gain_db": -6, "pre_fader": True}]
    assert checked(Session, model).levers[0].moves[0].high == 8


@pytest.mark.parametrize(
    ("edit", "words", "check"),
    [
        (e.SetParams(stage="a1", params={"ratio": 8}), "A: compressor: ratio 8 : 1",
         lambda s: s.strip("a").chain[0].params.ratio == 8),
        (e.SetStrip(strip="a", field="mute", value=True), "A muted", lambda s: s.strip("a").mute),
        (e.SetStrip(strip="a", field="fader_db", value=-6), "A: fader −6",
         lambda s: s.strip("a").fader_db == -6),
        (e.SetStage(stage="c2", on=False), "C: compressor off",
         lambda s: not s.strip("c").chain[1].on),
        (e.AddStage(place="b", index=1, kind="trim"), "B: trim added",
         lambda s: s.strip("b").chain[1].kind == "trim"),
        (e.RemoveStage(stage="c1"), "C: compressor taken away",
         lambda s: [x.id for x in s.strip("c").chain] == ["c2"]),
        (e.MoveStage(stage="c2", place="c", index=0), "C: compressor moved",
         lambda s: [x.id for x in s.strip("c").chain] == ["c2", "c1"]),
        (e.MoveStage(stage="c2", place="b", index=0), "moved to B",
         lambda s: [x.id for x in s.strip("b").chain] == ["c2", "b1"]),
        (e.RemoveStrip(strip="bus"), "Bus taken away", lambda s: s.strip("a").output is None),
        (e.SetSession(bpm="none"), "No tempo", lambda s: s.bpm is None),
        (e.AddStrip(strip={"name": "Fiddle!", "kind": "track"}), "Fiddle! added",
         lambda s: s.strips[3].id == "fiddle"),
    ],
)  # fmt: skip
def test_edits(edit: object, words: str, check) -> None:
    session, said = e.apply_edits(small_session(), [edit])  # type: ignore[list-item]
    assert words in said
    assert check(session)


def test_edits_that_cannot_be_done_change_nothing() -> None:
    session = small_session()
    bad = e.SetParams(stage="a1", params={"ratio": 1000})
    with pytest.raises(SettingError, match="1 to 100"):
        e.apply_edits(session, [e.SetStrip(strip="a", field="mute", value=True), bad])
    assert not session.strip("a").mute
    with pytest.raises(SettingError, match="main bus cannot"):
        e.RemoveStrip(strip="main").apply(session)
    with pytest.raises(SettingError, match="no stage “zz”"):
        e.SetStage(stage="zz", on=True).apply(session)


def test_catalogue_tells_every_control() -> None:
    for kind in catalogue():
        for control in kind.controls:
            assert control.doc
            if control.type == "number":
                assert control.low is not None
                assert control.high is not None
                assert control.marks, control.name
                assert all(control.low <= m <= control.high for m in control.marks)


def test_what_follows_a_place_hears_it() -> None:
    """A branch's rest, then what stands behind its split; never the branch beside it."""
    inner = [{"id": name, "kind": "trim"} for name in ("a", "x1", "x2", "y1", "b")]
    branches = [{"id": "x", "name": "x", "chain": inner[1:3]},
                {"id": "y", "name": "y", "chain": inner[3:4]}]  # fmt: skip
    split = {"id": "s", "kind": "split", "by": "copies", "branches": branches}
    main = {"id": "main", "name": "M", "kind": "main", "chain": [inner[0], split, inner[4]]}
    chain = checked(Session, {"name": "S", "rate": 48000, "strips": [main]}).strips[0].chain
    wanted = {"a": ["s", "b"], "s": ["b"], "x": ["b"], "x1": ["x2", "b"], "y1": ["b"], "b": [],
              "chain": []}  # fmt: skip
    assert {place: [e.id for e in following(chain, place)] for place in wanted} == wanted
