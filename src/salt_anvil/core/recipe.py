"""A recipe: a saved chain that can be used anywhere; the open file is described in the docs."""

from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints

from salt_anvil.core.engine.plan import StripPlan
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.errors import MissingError
from salt_anvil.core.session import (
    Element,
    Model,
    Name,
    Session,
    Split,
    Stage,
    Strip,
    StripLevels,
    branches,
    checked,
    elements,
)
from salt_anvil.core.session_index import SessionIndex

FORMAT = "salt-anvil/recipe"
Tag = Annotated[str, StringConstraints(min_length=1, max_length=24, pattern=r"^[^,\x00-\x1f]+$")]


class Recipe(Model):
    """Version 1 of the recipe file. strip: the levels that belong to it, if it is of a strip."""

    format: Literal["salt-anvil/recipe"] = "salt-anvil/recipe"
    version: Literal[1] = 1
    name: Name = "Recipe"
    note: str = Field("", max_length=400)
    tags: list[Tag] = Field(default=[], max_length=12)
    bpm: float | None = Field(None, ge=20, le=300)
    strip: StripLevels | None = None
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


def inputs_of(recipe: Recipe) -> list[str]:
    """Return the names of the outside keys that a recipe wants, in order."""
    found: list[str] = []
    for element in elements(recipe.chain):
        if isinstance(element, Stage) and element.key.source.startswith("input:"):
            name = element.key.source.removeprefix("input:")
            if name not in found:
                found.append(name)
    return found


def bound(chain: list[Element], sources: dict[str, str]) -> list[Element]:
    """Return a chain with its named inputs bound: name to key source ("strip:ID")."""

    def one(element: Element) -> Element:
        if isinstance(element, Split):
            parts = [
                b.model_copy(update={"chain": bound(b.chain, sources)}) for b in element.branches
            ]
            return element.model_copy(update={"branches": parts})
        name = element.key.source.removeprefix("input:")
        if element.key.source.startswith("input:") and name in sources:
            key = element.key.model_copy(update={"source": sources[name]})
            return element.model_copy(update={"key": key})
        return element

    return [one(element) for element in chain]


def recipe_of(session: Session, place: str) -> Recipe:
    """Return the chain of a strip or branch, or one stage or split, as a recipe.

    Keys from outside the chain become named inputs, called after the strip that they come from.

    Raises:
        SettingError: there is no such place.
    """
    name, chain = _found(SessionIndex(session), place)
    return Recipe(name=name, bpm=session.bpm, chain=named_keys(session, chain))


def named_keys(session: Session, chain: list[Element]) -> list[Element]:
    """Return elements whose keys from outside are named inputs, called after their source."""
    index = SessionIndex(session)
    own = {f"stage:{e.id}" for e in elements(chain)}
    own |= {f"branch:{b.id}" for b in branches(chain)}

    def named(elements_: list[Element]) -> list[Element]:
        out: list[Element] = []
        for element in elements_:
            if isinstance(element, Split):
                parts = [b.model_copy(update={"chain": named(b.chain)}) for b in element.branches]
                element = element.model_copy(update={"branches": parts})
            elif element.key.source not in own and (name := _name_of(index, element.key.source)):
                key = element.key.model_copy(update={"source": f"input:{name}", "tap": "out"})
                element = element.model_copy(update={"key": key})
            out.append(element)
        return out

    return named(chain)


def _name_of(index: SessionIndex, source: str) -> str | None:
    """Return what a key's source is called: its branch, or its strip; None for the own input."""
    strip, name = index.strip_of_source(source), source.partition(":")[2]
    if strip is None:
        return None
    found = index.branches.get(name) if source.startswith("branch:") else index.strips[strip]
    return found.name if found else None


def _found(index: SessionIndex, place: str) -> tuple[str, list[Element]]:
    if place in index.elements:
        strip, element = index.element(place)
        return f"{strip.name}, {element.kind}", [element]
    if place not in index.strips and place not in index.branches:
        raise MissingError(f"there is no strip, branch or stage “{place}”")
    strip, branch = index.chain(place)
    if branch is None:
        return strip.name, strip.chain
    return f"{strip.name}, {branch.name}", branch.chain


def recipe_session(
    recipe: Recipe, rate: int, channels: Literal[1, 2], frames: int, keys: dict[str, int]
) -> Session:
    """Return a session with a strip "in" that has the recipe's chain.

    keys: the recipe's named inputs and how many channels each has; each becomes a muted track
    that plays the audio "key:NAME".
    """
    names = {name: f"key-{index}" for index, name in enumerate(keys)}
    sources = {name: f"strip:{strip}" for name, strip in names.items()}
    track = Strip(
        id="in",
        name=recipe.name,
        kind="track",
        channels=channels,
        frames=frames,
        chain=bound(recipe.chain, sources),
        audio="in",
    )
    others = [
        checked(
            Strip,
            {
                "id": names[name],
                "name": name,
                "kind": "track",
                "channels": count,
                "frames": frames,
                "audio": f"key:{name}",
                "mute": True,
            },
        )
        for name, count in keys.items()
    ]
    main = Strip(id="main", name="Main bus", kind="main")
    return Session(name=recipe.name, rate=rate, bpm=recipe.bpm, strips=[track, *others, main])


def plan_recipe(recipe: Recipe, rate: int, channels: Literal[1, 2], frames: int) -> StripPlan:
    """Return the plan of one strip with the recipe's chain, which listens to nothing else.

    Raises:
        CoreError: the chain cannot be run.
    """
    return make_plan(recipe_session(recipe, rate, channels, frames, {})).strip("in")
