"""The user's own recipes."""

import json
import sqlite3
import time
from dataclasses import dataclass

from salt_anvil.core.errors import MissingRowError, SaltAnvilError, StoreError
from salt_anvil.core.recipe import Recipe, read_recipe
from salt_anvil.store.database import Database

MOST = 5000
"""So many recipes are kept."""


@dataclass(frozen=True)
class RecipeRow:
    """A recipe that is kept. problem: why it cannot be used, as when a newer version made it."""

    id: int
    name: str
    recipe: Recipe | None
    problem: str | None = None


class RecipeStore:
    """Recipes in the database."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def every(self) -> list[RecipeRow]:
        """Return all of them, the newest first."""
        with self._database.reading() as connection:
            rows = connection.execute(
                "SELECT id, name, body FROM recipes ORDER BY id DESC"
            ).fetchall()
        return [_row(row) for row in rows]

    def get(self, number: int) -> Recipe:
        """Return a recipe.

        Raises:
            MissingRowError: there is none with this number.
            StoreError: it cannot be used.
        """
        with self._database.reading() as connection:
            row = connection.execute(
                "SELECT id, name, body FROM recipes WHERE id = ?", (number,)
            ).fetchone()
        if row is None:
            raise MissingRowError(f"there is no recipe {number}")
        found = _row(row)
        if found.recipe is None:
            raise StoreError(f"“{found.name}” {found.problem}")
        return found.recipe

    def add(self, recipe: Recipe) -> int:
        """Keep a recipe and return its number.

        Raises:
            StoreError: there are too many.
        """
        body = recipe.model_dump_json()
        with self._database.writing() as connection:
            count = connection.execute("SELECT count(*) FROM recipes").fetchone()[0]
            if count >= MOST:
                raise StoreError(f"{MOST} recipes are kept already; delete some first")
            cursor = connection.execute(
                "INSERT INTO recipes (name, body, created_at) VALUES (?, ?, ?)",
                (recipe.name, body, time.time()),
            )
        return int(cursor.lastrowid or 0)

    def change(self, number: int, recipe: Recipe) -> None:
        """Store something else under a number.

        Raises:
            MissingRowError: there is none with this number.
        """
        with self._database.writing() as connection:
            found = connection.execute(
                "UPDATE recipes SET name = ?, body = ? WHERE id = ?",
                (recipe.name, recipe.model_dump_json(), number),
            )
            if found.rowcount == 0:
                raise MissingRowError(f"there is no recipe {number}")

    def remove(self, number: int) -> None:
        """Let a recipe go.

        Raises:
            MissingRowError: there is none with this number.
        """
        with self._database.writing() as connection:
            found = connection.execute("DELETE FROM recipes WHERE id = ?", (number,))
            if found.rowcount == 0:
                raise MissingRowError(f"there is no recipe {number}")


def _row(row: sqlite3.Row) -> RecipeRow:
    try:
        recipe = read_recipe(json.loads(row["body"]))
    except (SaltAnvilError, ValueError) as error:
        return RecipeRow(row["id"], row["name"], None, f"cannot be used: {error}")
    return RecipeRow(row["id"], row["name"], recipe)
