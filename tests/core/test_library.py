"""The library of recipes: ours are whole, and what stands can be kept and put down anywhere."""

from typing import Any

import numpy as np
import pytest

from salt_anvil.core import edits as e
from salt_anvil.core.audio import BLOCK
from salt_anvil.core.edits.recipes import recipe_from
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import SettingError
from salt_anvil.core.library import extent_of, our_recipes, said_chain
from salt_anvil.core.processors import REGISTRY
from salt_anvil.core.recipe import Recipe, inputs_of, recipe_session
from salt_anvil.core.session import Extent, Session, Stage, elements
from tests.conftest import noise
from tests.sessions import small_session

RATE = 48000


def sounds(audio: str, begin: int, frames: int) -> np.ndarray:
    """The same noise for every audio of a session, half loud and half quiet."""
    sound = noise(RATE + BLOCK, 2, seed=len(audio)) * 0.3
    sound[: RATE // 2] *= 0.05
    return sound[begin : begin + frames]


def in_time(recipe: Recipe) -> Recipe:
    """With the tempo that some of them need."""
    return recipe.model_copy(update={"bpm": 96.0})


def done(session: Session, *all_edits: Any) -> Session:
    return e.apply_edits(session, list(all_edits))[0]


def test_ours_are_many_named_tagged_and_said() -> None:
    ours = our_recipes()
    assert len(ours) >= 40
    assert len({r.name for r in ours}) == len(ours)
    for recipe in ours:
        assert recipe.tags, recipe.name
        assert 20 < len(recipe.note) < 200, recipe.name
        assert recipe.note.endswith("."), recipe.name
    whole = [r for r in ours if extent_of(r) != "stage"]
    assert len(whole) >= 15
    assert {extent_of(r) for r in whole} == {"split", "chain"}
    kinds = {s.kind for r in ours for s in elements(r.chain) if isinstance(s, Stage)}
    assert kinds == set(REGISTRY), "every processor is in one of them"


@pytest.mark.parametrize("recipe", our_recipes(), ids=lambda r: r.name)
def test_ours_can_be_put_down_and_planned(recipe: Recipe) -> None:
    session = recipe_session(in_time(recipe), RATE, 2, RATE, dict.fromkeys(inputs_of(recipe), 2))
    plan = make_plan(session)
    assert plan.strip("in").latency >= 0
    inputs = dict.fromkeys(inputs_of(recipe), "strip:b")
    put = e.ApplyRecipe(
        extent=Extent(kind="chain", owner="c"), recipe=recipe.model_dump(), inputs=inputs
    )
    used = done(small_session(bpm=96.0), put)
    assert said_chain(used.strips[2].chain) == said_chain(recipe.chain)


@pytest.mark.parametrize("kind", ["element", "stretch", "chain", "strip"])
def test_what_stands_is_kept_and_put_down_elsewhere(kind: str) -> None:
    """A recipe of each kind of extent, from one strip to another, is what it was."""
    session = done(
        small_session(),
        e.SetStage(stage="c2", key={"source": "strip:a"}),
        e.SetStrip(strip="c", field="fader_db", value=-7.0),
        e.SetStrip(strip="c", field="invert", value=True),
    )
    owner = "c2" if kind == "element" else "c"
    extent = Extent(kind=kind, owner=owner, after="c1" if kind == "stretch" else None)
    recipe = recipe_from(session, extent, "Kept", "When it fits.", ["voice", "own tag"])
    assert inputs_of(recipe) == ["A"]
    place = Extent(kind="strip" if kind == "strip" else "chain", owner="b")
    put = e.ApplyRecipe(extent=place, recipe=recipe.model_dump(), inputs={"A": "strip:bus"})
    used = done(session, put).strips[1]
    wanted = {"element": ["c2"], "stretch": ["c2"]}.get(kind, ["c1", "c2"])
    stages = {s.id: s for s in elements(session.strips[2].chain)}
    for new, old in zip(used.chain, [stages[name] for name in wanted], strict=True):
        assert isinstance(new, Stage)
        assert isinstance(old, Stage)
        assert (new.kind, new.params, new.on, new.mix) == (old.kind, old.params, old.on, old.mix)
    assert used.chain[-1].key.source == "strip:bus"
    levels = (used.fader_db, used.invert, used.pan)
    assert levels == ((-7.0, True, 0.0) if kind == "strip" else (-4.0, False, 0.0))
    assert (used.name, used.audio, used.output) == ("B", "b", "bus")


def test_a_place_between_two_stages_is_a_stretch_without_anything() -> None:
    session = small_session()
    trim = {"format": "salt-anvil/recipe", "version": 1, "name": "T", "chain": [{"kind": "trim"}]}
    between = Extent(kind="stretch", owner="c", after="c1", before="c2")
    used, words = e.apply_edits(session, [e.ApplyRecipe(extent=between, recipe=trim)])
    assert [s.kind for s in used.strips[2].chain] == ["compressor", "trim", "compressor"]
    assert words == "C: recipe “T”"
    used, words = e.apply_edits(
        session, [e.ApplyRecipe(extent=Extent(kind="element", owner="c1"), recipe=trim)]
    )
    assert [s.kind for s in used.strips[2].chain] == ["trim", "compressor"]
    assert words == "C: compressor: recipe “T” instead"


def test_nothing_cannot_be_kept() -> None:
    bare = done(small_session(), *[e.RemoveStage(stage=n) for n in ("c1", "c2")])
    with pytest.raises(SettingError, match="nothing here"):
        recipe_from(bare, Extent(kind="chain", owner="c"), "N", "", [])
    for wrong in ({"name": ""}, {"tags": ["a,b"]}, {"tags": ["x"] * 13}, {"note": "x" * 401}):
        fields: dict[str, Any] = {"name": "N", "note": "", "tags": []} | wrong
        with pytest.raises(SettingError):
            recipe_from(small_session(), Extent(kind="chain", owner="c"), **fields)


def test_a_recipe_tried_is_computed_like_one_kept() -> None:
    """Every one of ours runs, and what it gives is finite and not silent."""
    for recipe in our_recipes()[:19]:
        session = recipe_session(
            in_time(recipe), RATE, 2, RATE, dict.fromkeys(inputs_of(recipe), 2)
        )
        mixer = Mixer(make_plan(session), sounds)
        sound = np.concatenate(
            [mixer.block(("in",)).strips["in"].out for _ in range(0, RATE, BLOCK)]
        )
        assert np.isfinite(sound).all(), recipe.name
        assert np.abs(sound).max() > 1e-3, recipe.name
