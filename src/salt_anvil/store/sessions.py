"""Sessions and their revisions: every finished gesture is a row; undo and redo move along them."""

import json
import sqlite3
import time
import zlib
from dataclasses import dataclass
from functools import lru_cache

from salt_anvil.core.engine_version import ENGINE
from salt_anvil.core.errors import ConflictError, MissingRowError
from salt_anvil.core.session import Session, checked
from salt_anvil.store.database import Database


@dataclass(frozen=True)
class SessionRow:
    """A session in the list."""

    id: int
    name: str
    touched_at: float
    seconds: float
    strips: int


@dataclass(frozen=True)
class Revision:
    """One state of a session. words: what was done; undo, redo: what would be undone, redone.

    engine: the number of the engine that it was made with, and heard.
    """

    session_id: int
    id: int
    model: Session
    words: str
    engine: int
    undo: str | None
    redo: str | None


@dataclass(frozen=True)
class RevisionRow:
    """A revision in the list."""

    id: int
    words: str
    name: str | None
    created_at: float
    current: bool


def pack(model: Session) -> bytes:
    """Return a session compressed."""
    return zlib.compress(model.model_dump_json().encode(), 6)


@lru_cache(maxsize=32)
def unpack(blob: bytes) -> Session:
    """Return the session in a blob; one that was asked for before is there at once."""
    return checked(Session, json.loads(zlib.decompress(blob)))


class SessionStore:
    """Sessions in the database."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def add(self, model: Session, words: str = "Session made") -> Revision:
        """Store a new session."""
        now = time.time()
        with self._database.writing() as db:
            session_id = _fresh_number(db)
            db.execute(
                "INSERT INTO sessions (id, name, created_at, touched_at) VALUES (?, ?, ?, ?)",
                (session_id, model.name, now, now),
            )
            _append(db, session_id, None, model, words)
            return _head(db, session_id)

    def every(self) -> list[SessionRow]:
        """Return all sessions, the last touched first."""
        with self._database.reading() as db:
            rows = db.execute(
                "SELECT s.id, s.name, s.touched_at, r.model FROM sessions s"
                " JOIN revisions r ON r.id = s.head ORDER BY s.touched_at DESC"
            ).fetchall()
        found = []
        for row in rows:
            model = unpack(row["model"])
            seconds = model.frames() / model.rate
            found.append(
                SessionRow(row["id"], row["name"], row["touched_at"], seconds, len(model.strips))
            )
        return found

    def head(self, session_id: int) -> Revision:
        """Return where a session stands.

        Raises:
            MissingRowError: there is no such session.
        """
        with self._database.reading() as db:
            return _head(db, session_id)

    def revision(self, session_id: int, revision_id: int) -> Revision:
        """Return a state of a session.

        Raises:
            MissingRowError: there is no such session or revision.
        """
        with self._database.reading() as db:
            _head_id(db, session_id)
            row = db.execute(
                "SELECT id FROM revisions WHERE id = ? AND session_id = ?",
                (revision_id, session_id),
            ).fetchone()
            if row is None:
                raise MissingRowError(f"there is no revision {revision_id}")
            return _revision(db, session_id, revision_id)

    def earlier(self, session_id: int) -> Revision | None:
        """Return the revision that this one was made from; None for the first."""
        with self._database.reading() as db:
            row = db.execute(
                "SELECT parent FROM revisions WHERE id = ?", (_head_id(db, session_id),)
            ).fetchone()
            return None if row["parent"] is None else _revision(db, session_id, row["parent"])

    def append(self, session_id: int, base: int, model: Session, words: str) -> Revision:
        """Store a finished gesture on top of revision `base`.

        Raises:
            ConflictError: somebody else has changed it since. StoreError: the disk is full.
        """
        with self._database.writing() as db:
            if _head_id(db, session_id) != base:
                raise ConflictError(
                    "the session was changed in another tab; this change was not kept"
                )
            _append(db, session_id, base, model, words)
            return _head(db, session_id)

    def undo(self, session_id: int) -> Revision:
        """Go one revision back; at the first one, stay."""
        with self._database.writing() as db:
            row = db.execute(
                "SELECT parent FROM revisions WHERE id = ?", (_head_id(db, session_id),)
            ).fetchone()
            if row["parent"] is not None:
                _move(db, session_id, row["parent"])
            return _head(db, session_id)

    def redo(self, session_id: int) -> Revision:
        """Go forward to the newest revision made on top of this one; if there is none, stay."""
        with self._database.writing() as db:
            child = _newest_child(db, session_id, _head_id(db, session_id))
            if child is not None:
                _move(db, session_id, child["id"])
            return _head(db, session_id)

    def revisions(self, session_id: int, limit: int = 200) -> list[RevisionRow]:
        """Return the newest revisions, newest first, and every named one."""
        with self._database.reading() as db:
            head = _head_id(db, session_id)
            rows = db.execute(
                "SELECT id, words, name, created_at FROM revisions WHERE session_id = ? AND"
                " (name IS NOT NULL OR id IN (SELECT id FROM revisions WHERE session_id = ?"
                " ORDER BY id DESC LIMIT ?)) ORDER BY id DESC",
                (session_id, session_id, limit),
            ).fetchall()
        return [RevisionRow(**dict(r), current=r["id"] == head) for r in rows]

    def name(self, session_id: int, revision_id: int, name: str | None) -> None:
        """Give a revision a name, or take it away."""
        with self._database.writing() as db:
            changed = db.execute(
                "UPDATE revisions SET name = ? WHERE id = ? AND session_id = ?",
                (name, revision_id, session_id),
            )
            if changed.rowcount == 0:
                raise MissingRowError(f"there is no revision {revision_id}")

    def back_to(self, session_id: int, revision_id: int) -> Revision:
        """Append the model of an older revision as a new one."""
        with self._database.writing() as db:
            row = db.execute(
                "SELECT model, words, name FROM revisions WHERE id = ? AND session_id = ?",
                (revision_id, session_id),
            ).fetchone()
            if row is None:
                raise MissingRowError(f"there is no revision {revision_id}")
            words = f"Back to “{row['name'] or row['words']}”"
            head = _head_id(db, session_id)
            _append(db, session_id, head, unpack(row["model"]), words)
            return _head(db, session_id)

    def remove(self, session_id: int) -> None:
        """Delete a session with its revisions and prints."""
        with self._database.writing() as db:
            db.execute("UPDATE sessions SET head = NULL WHERE id = ?", (session_id,))
            db.execute("UPDATE revisions SET parent = NULL WHERE session_id = ?", (session_id,))
            db.execute("DELETE FROM sessions WHERE id = ?", (session_id,))


def _append(
    db: sqlite3.Connection, session_id: int, parent: int | None, model: Session, words: str
) -> None:
    cursor = db.execute(
        "INSERT INTO revisions (session_id, parent, words, model, created_at, engine)"
        " VALUES (?, ?, ?, ?, ?, ?)",
        (session_id, parent, words, pack(model), time.time(), ENGINE),
    )
    db.execute("UPDATE sessions SET name = ? WHERE id = ?", (model.name, session_id))
    _move(db, session_id, int(cursor.lastrowid or 0))


def _move(db: sqlite3.Connection, session_id: int, revision_id: int) -> None:
    db.execute(
        "UPDATE sessions SET head = ?, touched_at = ? WHERE id = ?",
        (revision_id, time.time(), session_id),
    )


def _head_id(db: sqlite3.Connection, session_id: int) -> int:
    row = db.execute("SELECT head FROM sessions WHERE id = ?", (session_id,)).fetchone()
    if row is None or row["head"] is None:
        raise MissingRowError(f"there is no session {session_id}")
    return int(row["head"])


def _newest_child(db: sqlite3.Connection, session_id: int, parent: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute(
        "SELECT id, words FROM revisions WHERE session_id = ? AND parent = ?"
        " ORDER BY id DESC LIMIT 1",
        (session_id, parent),
    ).fetchone()
    return row


def _head(db: sqlite3.Connection, session_id: int) -> Revision:
    return _revision(db, session_id, _head_id(db, session_id))


def _fresh_number(db: sqlite3.Connection) -> int:
    """Return a number that no session ever had: what is late of a deleted one meets nobody.

    Every session has a revision, and numbers of revisions are never given twice.
    """
    row = db.execute(
        "SELECT max((SELECT coalesce(max(id), 0) FROM sessions),"
        " coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'revisions'), 0))"
    ).fetchone()
    return int(row[0]) + 1


def _revision(db: sqlite3.Connection, session_id: int, number: int) -> Revision:
    row = db.execute("SELECT * FROM revisions WHERE id = ?", (number,)).fetchone()
    child = _newest_child(db, session_id, number)
    return Revision(
        session_id=session_id,
        id=number,
        model=unpack(row["model"]),
        words=row["words"],
        undo=row["words"] if row["parent"] is not None else None,
        redo=child["words"] if child else None,
        engine=row["engine"],
    )
