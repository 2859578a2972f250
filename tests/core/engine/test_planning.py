"""A plan made from the one before is the plan that is made from nothing."""

import contextlib

import numpy as np
import pytest

from salt_anvil.core.edits import SetParams, apply_edits
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import CoreError
from salt_anvil.core.session import Session, checked
from tests.long import of
from tests.random_sessions import pick, random_edit, random_play_edit, random_session


@pytest.mark.parametrize("seed", range(of(6, 60)))
def test_what_no_edit_has_touched_is_taken_over_and_is_right(seed: int) -> None:
    """Whatever is edited, observed and heard louder; the length of the song changes too."""
    random = np.random.default_rng(seed)
    model = random_session(random)
    plan = make_plan(model)
    for _ in range(40):
        with contextlib.suppress(CoreError):
            edit = pick(random, [random_edit, random_play_edit])(random, model)
            edited, _ = apply_edits(model, [edit])
            name = pick(random, edited.strips).id
            heard = pick(random, [None, (name, 3.0)])
            observed = pick(random, [None, name])
            new = make_plan(edited, before=plan, observe=observed, audition=heard)
            assert new == make_plan(edited, observe=observed, audition=heard)
            model, plan = edited, new


def test_one_track_is_edited_and_the_others_are_taken_over() -> None:
    stage = {"kind": "compressor", "params": {}}
    tracks = [
        {"id": name, "name": name, "kind": "track", "frames": 9000, "channels": 2,
         "chain": [{"id": f"{name}1", **stage}]}
        for name in "abc"
    ]  # fmt: skip
    main = {"id": "main", "name": "Main", "kind": "main", "chain": [{"id": "m1", **stage}]}
    model = checked(Session, {"name": "Three", "strips": [*tracks, main]})
    plan = make_plan(model)
    edit = SetParams(type="set_params", stage="b1", params={"ratio": 7})
    new = make_plan(apply_edits(model, [edit])[0], before=plan)
    same = {s.strip.id for s in new.strips if s.graph is plan.strip(s.strip.id).graph}
    assert same == {"a", "c"}
