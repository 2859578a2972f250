"""A recipe: a saved chain that can be used anywhere; the open file is described in the docs."""

from typing import Any, Literal

from pydantic import Field

from salt_anvil.core.engine.plan import Plan, StripPlan, make_plan
from salt_anvil.core.session import Element, Model, Name, Session, Strip, checked

FORMAT = "salt-anvil/recipe"


class Recipe(Model):
    """Version 1 of the recipe file."""

    format: Literal["salt-anvil/recipe"] = "salt-anvil/recipe"
    version: Literal[1] = 1
    name: Name = "Recipe"
    note: str = Field("", max_length=400)
    bpm: float | None = Field(None, ge=20, le=300)
    chain: list[Element]


def read_recipe(data: Any) -> Recipe:
    """Return the recipe in decoded JSON; stages and branches without an id are given one.

    Raises:
        SettingError: it is not a recipe, or a field, kind or value is refused.
    """
    if isinstance(data, dict) and isinstance(data.get("chain"), list):
        data = {**data, "chain": _with_ids(data["chain"], "s")}
    return checked(Recipe, data)


def _with_ids(chain: list[Any], prefix: str) -> list[Any]:
    named: list[Any] = []
    for index, element in enumerate(chain, 1):
        if not isinstance(element, dict):
            named.append(element)
            continue
        own = {"id": f"{prefix}{index}", **element}
        if isinstance(own.get("branches"), list):
            own["branches"] = [
                _branch(b, f"{own['id']}.{i}") for i, b in enumerate(own["branches"], 1)
            ]
        named.append(own)
    return named


def _branch(data: Any, name: str) -> Any:
    if not isinstance(data, dict) or not isinstance(data.get("chain", []), list):
        return data
    return {"id": name, **data, "chain": _with_ids(data.get("chain", []), f"{name}.")}


def plan_recipe(recipe: Recipe, rate: int, channels: Literal[1, 2], frames: int) -> StripPlan:
    """Return the plan of one strip with the recipe's chain.

    Raises:
        CoreError: the chain cannot be run.
    """
    track = Strip(
        id="in", name=recipe.name, kind="track", channels=channels, frames=frames,
        chain=recipe.chain, audio="in",
    )  # fmt: skip
    main = Strip(id="main", name="Main bus", kind="main")
    plan: Plan = make_plan(
        Session(name=recipe.name, rate=rate, bpm=recipe.bpm, strips=[track, main])
    )
    return plan.strip("in")
