"""Delivery targets of the user's own."""

import json
import time

from salt_anvil.core.delivery.targets import SHIPPED, Target
from salt_anvil.core.errors import SettingError
from salt_anvil.core.session import checked
from salt_anvil.store.database import Database


class TargetStore:
    """Targets in the database, by name."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def every(self) -> list[Target]:
        """Return the user's targets in the order of their names."""
        with self._database.reading() as db:
            rows = db.execute("SELECT body FROM targets ORDER BY name").fetchall()
        return [checked(Target, json.loads(row["body"])) for row in rows]

    def keep(self, target: Target) -> None:
        """Store a target; one of the same name is replaced.

        Raises:
            SettingError: one that ships has this name.
        """
        if any(target.name.casefold() == t.name.casefold() for t in SHIPPED):
            raise SettingError(f"“{target.name}” comes with the program; give yours another name")
        with self._database.writing() as db:
            db.execute(
                "INSERT INTO targets (name, body, created_at) VALUES (?, ?, ?)"
                " ON CONFLICT (name) DO UPDATE SET body = excluded.body",
                (target.name, target.model_dump_json(), time.time()),
            )

    def remove(self, name: str) -> bool:
        """Delete a target; return whether there was one."""
        with self._database.writing() as db:
            return db.execute("DELETE FROM targets WHERE name = ?", (name,)).rowcount > 0
