"""The database: one file, plain SQL, migrations in order, one server a folder."""

import fcntl
import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TextIO

from salt_anvil.core.errors import StoreError

MIGRATIONS = [
    (
        "sessions and their revisions",
        [
            """CREATE TABLE sessions (
                id INTEGER PRIMARY KEY, name TEXT NOT NULL, head INTEGER,
                created_at REAL NOT NULL, touched_at REAL NOT NULL)""",
            """CREATE TABLE revisions (
                id INTEGER PRIMARY KEY AUTOINCREMENT,
                session_id INTEGER NOT NULL REFERENCES sessions(id) ON DELETE CASCADE,
                parent INTEGER REFERENCES revisions(id), words TEXT NOT NULL,
                name TEXT, model BLOB NOT NULL, created_at REAL NOT NULL)""",
            "CREATE INDEX revisions_by_parent ON revisions(session_id, parent)",
        ],
    ),
    (
        "prints",
        [
            """CREATE TABLE prints (
                id INTEGER PRIMARY KEY AUTOINCREMENT,
                session_id INTEGER NOT NULL REFERENCES sessions(id) ON DELETE CASCADE,
                model BLOB NOT NULL, options TEXT NOT NULL, state TEXT NOT NULL,
                progress REAL NOT NULL DEFAULT 0, file TEXT, message TEXT,
                epoch INTEGER NOT NULL, created_at REAL NOT NULL)""",
        ],
    ),
    (
        "recipes",
        [
            """CREATE TABLE recipes (
                id INTEGER PRIMARY KEY, name TEXT NOT NULL, body TEXT NOT NULL,
                created_at REAL NOT NULL)""",
        ],
    ),
    (
        "targets",
        [
            """CREATE TABLE targets (
                id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, body TEXT NOT NULL,
                created_at REAL NOT NULL)""",
        ],
    ),
    (
        "engines",
        ["ALTER TABLE revisions ADD COLUMN engine INTEGER NOT NULL DEFAULT 1"],
    ),
]


class Database:
    """Connections to one SQLite file; every write is its own immediate transaction."""

    def __init__(self, path: Path) -> None:
        """Open or make the file and bring it up to date.

        Raises:
            StoreError: the folder cannot be written, or a newer version made the file.
        """
        self.path = path
        try:
            with self._connected() as connection:
                _migrate(connection)
        except sqlite3.OperationalError as error:
            raise StoreError(f"{path} cannot be used: {error}") from None

    @contextmanager
    def _connected(self) -> Iterator[sqlite3.Connection]:
        connection = sqlite3.connect(self.path, timeout=10, isolation_level=None)
        try:
            connection.row_factory = sqlite3.Row
            connection.execute("PRAGMA journal_mode = WAL")
            connection.execute("PRAGMA synchronous = FULL")
            connection.execute("PRAGMA foreign_keys = ON")
            connection.execute("PRAGMA busy_timeout = 10000")
            yield connection
        finally:
            connection.close()

    @contextmanager
    def reading(self) -> Iterator[sqlite3.Connection]:
        """Give a connection for reading."""
        with self._connected() as connection:
            yield connection

    @contextmanager
    def writing(self) -> Iterator[sqlite3.Connection]:
        """Give a connection inside an immediate transaction; committed if nothing is raised.

        Raises:
            StoreError: the disk is full or cannot be written.
        """
        with self._connected() as connection:
            try:
                connection.execute("BEGIN IMMEDIATE")
                try:
                    yield connection
                except BaseException:
                    connection.execute("ROLLBACK")
                    raise
                connection.execute("COMMIT")
            except sqlite3.OperationalError as error:
                raise StoreError(f"nothing was stored: {error}") from None


def _migrate(connection: sqlite3.Connection) -> None:
    """Apply what is missing; each migration and its record are one transaction."""
    connection.execute(
        "CREATE TABLE IF NOT EXISTS migrations (number INTEGER PRIMARY KEY, words TEXT, at REAL)"
    )
    done = connection.execute("SELECT coalesce(max(number), 0) FROM migrations").fetchone()[0]
    if done > len(MIGRATIONS):
        raise StoreError(
            f"the data folder is of a newer version (its step {done}; {len(MIGRATIONS)} known)"
        )
    for number, (words, statements) in enumerate(MIGRATIONS[done:], done + 1):
        connection.execute("BEGIN IMMEDIATE")
        try:
            for statement in statements:
                connection.execute(statement)
            connection.execute(
                "INSERT INTO migrations VALUES (?, ?, ?)", (number, words, time.time())
            )
        except BaseException:
            connection.execute("ROLLBACK")
            raise
        connection.execute("COMMIT")


class FolderLock:
    """Holds a data folder for one server."""

    def __init__(self, folder: Path) -> None:
        """Take the folder.

        Raises:
            StoreError: it cannot be written to, or another server holds it.
        """
        self.folder = folder
        try:
            folder.mkdir(parents=True, exist_ok=True)
            self._file: TextIO = (folder / "lock").open("w")
        except OSError as error:
            reason = (error.strerror or "error").lower()
            raise StoreError(f"the data folder {folder} cannot be used: {reason}") from None
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            self._file.close()
            raise StoreError(f"another server is using the data folder {folder}") from None

    def release(self) -> None:
        """Let the folder go."""
        self._file.close()
