"""The library of recipes over HTTP: ours and the user's own."""

import json
from typing import Annotated

from fastapi import APIRouter, Path, Request
from starlette.concurrency import run_in_threadpool

from salt_anvil.api import models as m
from salt_anvil.api.hub import Hub
from salt_anvil.api.routes import Number, TheHub
from salt_anvil.core.edits.recipes import recipe_from
from salt_anvil.core.errors import SettingError
from salt_anvil.core.library import extent_of, our_recipes, said_chain
from salt_anvil.core.recipe import Recipe, inputs_of, read_recipe
from salt_anvil.core.session import checked
from salt_anvil.store.recipes import RecipeRow

router = APIRouter(prefix="/api")
Own = Annotated[int, Path(ge=1, lt=1 << 63)]


@router.get("/recipes")
def list_recipes(hub: TheHub) -> list[m.LibraryItem]:
    """Return the user's own recipes, the newest first, then ours."""
    ours = [_item(f"ours:{recipe.name}", recipe) for recipe in our_recipes()]
    return [_row(row) for row in hub.recipes.every()] + ours


@router.post(
    "/recipes",
    openapi_extra={"requestBody": {"content": {"application/json": {"schema": {}}}}},
)
async def bring_recipe(request: Request, hub: TheHub) -> m.LibraryItem:
    """Keep a recipe file; nothing is changed if something in it is refused."""
    text = await request.body()
    return await run_in_threadpool(_bring, text, hub)


def _bring(text: bytes, hub: Hub) -> m.LibraryItem:
    try:
        data = json.loads(text)
    except json.JSONDecodeError as error:
        raise SettingError(
            f"it is not JSON: line {error.lineno}, {error.msg[:1].lower()}{error.msg[1:]}"
        ) from None
    except (UnicodeDecodeError, RecursionError):
        raise SettingError("it is not JSON") from None
    if not isinstance(data, dict) or data.get("format") != "salt-anvil/recipe":
        raise SettingError('it is no recipe: its "format" is not "salt-anvil/recipe"')
    recipe = read_recipe(data)
    return _item(str(hub.recipes.add(recipe)), recipe)


@router.put("/recipes/{number}")
def change_recipe(number: Own, words: m.RecipeWords, hub: TheHub) -> m.LibraryItem:
    """Give one of the user's own recipes other words."""
    fields = hub.recipes.get(number).model_dump() | words.model_dump()
    recipe = checked(Recipe, fields)
    hub.recipes.change(number, recipe)
    return _item(str(number), recipe)


@router.delete("/recipes/{number}")
def remove_recipe(number: Own, hub: TheHub) -> None:
    """Let one of the user's own recipes go."""
    hub.recipes.remove(number)


@router.post("/sessions/{session_id}/recipes")
def keep_recipe(session_id: Number, wanted: m.KeepRecipeRequest, hub: TheHub) -> m.LibraryItem:
    """Keep what stands in an extent; keys from outside it become named inputs."""
    session = hub.sessions.head(session_id).model
    recipe = recipe_from(session, wanted.extent, wanted.name, wanted.note, wanted.tags)
    return _item(str(hub.recipes.add(recipe)), recipe)


def _row(row: RecipeRow) -> m.LibraryItem:
    if row.recipe is not None:
        return _item(str(row.id), row.recipe)
    return m.LibraryItem(
        id=str(row.id),
        ours=False,
        name=row.name,
        note="",
        tags=[],
        what="chain",
        words="",
        inputs=[],
        recipe={},
        problem=row.problem,
    )


def _item(number: str, recipe: Recipe) -> m.LibraryItem:
    return m.LibraryItem(
        id=number,
        ours=number.startswith("ours:"),
        name=recipe.name,
        note=recipe.note,
        tags=recipe.tags,
        what=extent_of(recipe),
        words=said_chain(recipe.chain),
        inputs=inputs_of(recipe),
        recipe=recipe.model_dump(mode="json"),
    )
