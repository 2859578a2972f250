"""Recipes put down in a session."""

from typing import Any, Literal

from pydantic import Field

from salt_anvil.core.edits.base import (
    Chain,
    changed_at,
    fresh_copy,
    pruned,
    replaced,
    with_chain,
    with_strip,
)
from salt_anvil.core.edits.settings import said_extent, stand_in
from salt_anvil.core.errors import SettingError
from salt_anvil.core.recipe import Recipe, bound, inputs_of, named_keys, read_recipe
from salt_anvil.core.session import Extent, Model, Session, Strip, StripLevels
from salt_anvil.core.session_index import SessionIndex


class ApplyRecipe(Model):
    """Put a recipe's chain where an extent is; named inputs are bound to keys.

    A stretch with nothing in it is a place between two stages. A recipe of a whole strip brings
    its levels along where the extent is a strip.
    """

    type: Literal["apply_recipe"] = "apply_recipe"
    extent: Extent
    recipe: dict[str, Any]
    inputs: dict[str, str] = Field(default_factory=dict)

    def apply(self, session: Session) -> tuple[Session, str]:
        """Return the changed session and what was done."""
        recipe, extent = read_recipe(self.recipe), self.extent
        for name in inputs_of(recipe):
            if name not in self.inputs:
                raise SettingError(f"“{recipe.name}” listens to “{name}”; choose what that is")
        strip, old = stand_in(session, extent)
        words = f"{strip.name}: recipe “{recipe.name}”"
        if old:
            words = f"{said_extent(session, extent)}: recipe “{recipe.name}” instead"
        chain = fresh_copy(recipe.chain, strip.id, SessionIndex(session).ids)
        chain = bound(chain, self.inputs)
        gone = {e.id for e in old}

        def put(there: Chain) -> Chain:
            ids = [e.id for e in there]
            at = 0 if extent.after is None else ids.index(extent.after) + 1
            if extent.kind != "stretch":
                at = 0
            kept = [e for e in there if e.id not in gone]
            return [*kept[:at], *chain, *kept[at:]]

        if extent.kind == "element":
            done = with_chain(session, strip, replaced(strip.chain, extent.owner, lambda e: chain))
        else:
            done = changed_at(session, extent.owner, put)
        if extent.kind == "strip" and recipe.strip is not None:
            levelled = SessionIndex(done).strips[strip.id].model_copy(update=vars(recipe.strip))
            done = pruned(with_strip(done, levelled))
        return done, words


def recipe_from(session: Session, extent: Extent, name: str, note: str, tags: list[str]) -> Recipe:
    """Return what stands in an extent as a recipe; keys from outside become named inputs.

    Raises:
        MissingError: there is no such place.
        SettingError: there is nothing in it, or the name or a tag is refused.
    """
    strip, chain = stand_in(session, extent)
    if not chain and extent.kind != "strip":
        raise SettingError("there is nothing here to keep")
    return read_recipe(
        {
            "name": name,
            "note": note,
            "tags": tags,
            "bpm": session.bpm,
            "chain": [e.model_dump() for e in named_keys(session, chain)],
            "strip": _levels(strip) if extent.kind == "strip" else None,
        }
    )


def _levels(strip: Strip) -> dict[str, Any]:
    return {name: getattr(strip, name) for name in StripLevels.model_fields}
