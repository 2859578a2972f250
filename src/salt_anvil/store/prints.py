"""Prints as rows: what was asked for, how far it is, where the file is."""

import json
import time
from dataclasses import dataclass
from typing import Any

from salt_anvil.core.errors import MissingRowError
from salt_anvil.core.session import Session
from salt_anvil.store.database import Database
from salt_anvil.store.sessions import pack, unpack


@dataclass(frozen=True)
class PrintRow:
    """One print. state: waiting, running, done, failed or cancelled."""

    id: int
    session_id: int
    options: dict[str, Any]
    state: str
    progress: float
    file: str | None
    message: str | None
    created_at: float


class PrintStore:
    """Prints in the database. `epoch` tells this server's rows from a dead one's."""

    def __init__(self, database: Database, epoch: int) -> None:
        self._database, self._epoch = database, epoch

    def add(self, session_id: int, model: Session, options: dict[str, Any]) -> int:
        """Store a wish to print."""
        with self._database.writing() as db:
            cursor = db.execute(
                "INSERT INTO prints (session_id, model, options, state, epoch, created_at)"
                " VALUES (?, ?, ?, 'waiting', ?, ?)",
                (session_id, pack(model), json.dumps(options), self._epoch, time.time()),
            )
            return int(cursor.lastrowid or 0)

    def model(self, print_id: int) -> Session:
        """Return the session as it was when the print was asked for."""
        with self._database.reading() as db:
            row = db.execute("SELECT model FROM prints WHERE id = ?", (print_id,)).fetchone()
        if row is None:
            raise MissingRowError(f"there is no print {print_id}")
        return unpack(row["model"])

    def get(self, print_id: int) -> PrintRow:
        """Return one print."""
        with self._database.reading() as db:
            row = db.execute("SELECT * FROM prints WHERE id = ?", (print_id,)).fetchone()
        if row is None:
            raise MissingRowError(f"there is no print {print_id}")
        return _row(row)

    def every(self, session_id: int) -> list[PrintRow]:
        """Return a session's prints, newest first."""
        with self._database.reading() as db:
            rows = db.execute(
                "SELECT * FROM prints WHERE session_id = ? ORDER BY id DESC", (session_id,)
            ).fetchall()
        return [_row(row) for row in rows]

    def update(
        self,
        print_id: int,
        state: str,
        progress: float,
        file: str | None = None,
        message: str | None = None,
    ) -> None:
        """Store how far a print is; a cancelled one stays cancelled."""
        with self._database.writing() as db:
            db.execute(
                "UPDATE prints SET state = ?, progress = ?, file = coalesce(?, file), message = ?"
                " WHERE id = ? AND state != 'cancelled'",
                (state, progress, file, message, print_id),
            )

    def cancel(self, print_id: int) -> None:
        """Mark a print that is not finished as cancelled."""
        with self._database.writing() as db:
            db.execute(
                "UPDATE prints SET state = 'cancelled' WHERE id = ?"
                " AND state IN ('waiting', 'running')",
                (print_id,),
            )

    def take_over(self) -> list[int]:
        """Return the unfinished prints of a dead server, now this one's, to start again from 0."""
        with self._database.writing() as db:
            rows = db.execute(
                "SELECT id FROM prints WHERE state IN ('waiting', 'running') AND epoch != ?",
                (self._epoch,),
            ).fetchall()
            for row in rows:
                db.execute(
                    "UPDATE prints SET epoch = ?, state = 'waiting', progress = 0 WHERE id = ?",
                    (self._epoch, row["id"]),
                )
        return [int(row["id"]) for row in rows]


def _row(row: Any) -> PrintRow:
    return PrintRow(
        row["id"],
        row["session_id"],
        json.loads(row["options"]),
        row["state"],
        row["progress"],
        row["file"],
        row["message"],
        row["created_at"],
    )
