"""The store: undo and redo, names, migrations that fail, one server, kill -9."""

import os
import signal
import sqlite3
import subprocess
import sys
import textwrap
import time
from pathlib import Path

import pytest

from salt_anvil.core.edits import SetParams, SetStrip
from salt_anvil.core.errors import StoreError
from salt_anvil.store import database
from salt_anvil.store.database import Database, FolderLock
from salt_anvil.store.prints import PrintStore
from salt_anvil.store.sessions import SessionStore
from tests.sessions import small_session


@pytest.fixture
def store(tmp_path: Path) -> SessionStore:
    return SessionStore(Database(tmp_path / "x.db"))


def test_undo_and_redo_survive_a_restart(store: SessionStore, tmp_path: Path) -> None:
    at = store.add(small_session())
    for ratio in (2, 3, 5):
        model, words = SetParams(stage="a1", params={"ratio": ratio}).apply(at.model)
        at = store.append(at.session_id, at.id, model, words)
    again = SessionStore(Database(tmp_path / "x.db"))
    assert again.undo(1).undo == "A: compressor: ratio 3 : 1"
    back = again.undo(1)
    assert back.model.strip("a").chain[0].params.ratio == 2  # type: ignore[union-attr]
    assert back.redo == "A: compressor: ratio 3 : 1"
    again.undo(1)
    assert again.undo(1).undo is None
    for _ in range(5):
        last = again.redo(1)
    assert last.model == at.model
    assert last.redo is None


def test_a_new_gesture_after_undo_leads_redo_elsewhere(store: SessionStore) -> None:
    at = store.add(small_session())
    one = store.append(
        1, at.id, SetStrip(strip="a", field="mute", value=True).apply(at.model)[0], "one"
    )
    store.undo(1)
    store.append(1, at.id, at.model, "two")
    store.undo(1)
    assert store.redo(1).words == "two"
    assert store.back_to(1, one.id).model.strip("a").mute


def test_named_revisions(store: SessionStore) -> None:
    at = store.add(small_session())
    store.name(1, at.id, "before lunch")
    store.append(1, at.id, at.model, "something")
    rows = store.revisions(1, limit=1)
    assert [r.name for r in rows] == [None, "before lunch"]
    assert store.back_to(1, at.id).words == "Back to “before lunch”"
    with pytest.raises(StoreError, match="no revision 99"):
        store.name(1, 99, "x")


def test_two_tabs_do_not_overwrite_each_other(store: SessionStore) -> None:
    at = store.add(small_session())
    store.append(1, at.id, at.model, "first tab")
    with pytest.raises(StoreError, match="changed in another tab"):
        store.append(1, at.id, at.model, "second tab")


def test_sessions_are_listed_and_removed(store: SessionStore) -> None:
    store.add(small_session())
    assert [(r.name, r.strips) for r in store.every()] == [("Small", 5)]
    store.remove(1)
    assert store.every() == []
    with pytest.raises(StoreError, match="no session 1"):
        store.head(1)


def test_a_failing_migration_leaves_the_old_state(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "x.db"
    Database(path)
    known = len(database.MIGRATIONS)
    bad = ("bad", ["CREATE TABLE extra (a)", "CREATE TABLE extra (a)"])
    monkeypatch.setattr(database, "MIGRATIONS", [*database.MIGRATIONS, bad])
    with pytest.raises(StoreError, match="extra"):
        Database(path)
    connection = sqlite3.connect(path)
    assert connection.execute("SELECT max(number) FROM migrations").fetchone()[0] == known
    tables = connection.execute("SELECT name FROM sqlite_master WHERE name = 'extra'").fetchall()
    connection.close()
    assert tables == []
    good = ("good", ["CREATE TABLE extra (a)"])
    monkeypatch.setattr(database, "MIGRATIONS", [*database.MIGRATIONS[:-1], good])
    Database(path)
    Database(path)


def test_a_newer_folder_is_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    Database(tmp_path / "x.db")
    monkeypatch.setattr(database, "MIGRATIONS", database.MIGRATIONS[:1])
    with pytest.raises(StoreError, match="newer version"):
        Database(tmp_path / "x.db")


def test_one_server_a_folder(tmp_path: Path) -> None:
    lock = FolderLock(tmp_path)
    with pytest.raises(StoreError, match="another server is using"):
        FolderLock(tmp_path)
    lock.release()
    FolderLock(tmp_path).release()


def test_prints_of_a_dead_server_are_taken_over(tmp_path: Path) -> None:
    base = Database(tmp_path / "x.db")
    SessionStore(base).add(small_session())
    old = PrintStore(base, epoch=1)
    first, second = (old.add(1, small_session(), {"format": "wav-24"}) for _ in range(2))
    old.update(first, "running", 0.5)
    old.update(second, "done", 1.0, "file.wav")
    new = PrintStore(base, epoch=2)
    assert new.take_over() == [first]
    assert new.get(first).progress == 0
    assert new.take_over() == []
    new.cancel(first)
    new.update(first, "running", 0.9)
    assert new.get(first).state == "cancelled"


WRITER = """
    import sys
    from salt_anvil.core.edits import SetParams
    from salt_anvil.store.database import Database
    from salt_anvil.store.sessions import SessionStore
    store = SessionStore(Database(sys.argv[1]))
    at = store.head(1)
    for ratio in range(1, 90):
        model, words = SetParams(stage="a1", params={"ratio": ratio}).apply(at.model)
        at = store.append(1, at.id, model, words)
        print(at.id, flush=True)
"""


def test_what_is_confirmed_survives_kill_9(tmp_path: Path) -> None:
    path = tmp_path / "x.db"
    SessionStore(Database(path)).add(small_session())
    process = subprocess.Popen(
        [sys.executable, "-c", textwrap.dedent(WRITER), str(path)],
        stdout=subprocess.PIPE,
        text=True,
    )
    assert process.stdout is not None
    confirmed = [int(process.stdout.readline()) for _ in range(5)]
    time.sleep(0.02)
    os.kill(process.pid, signal.SIGKILL)
    confirmed += [int(line) for line in process.stdout.read().split()]
    process.stdout.close()
    process.wait()
    store = SessionStore(Database(path))
    head = store.head(1)
    assert head.id >= confirmed[-1]
    assert {r.id for r in store.revisions(1)} >= set(confirmed)
    assert head.model.strip("a").chain[0].params.ratio == head.id - 1  # type: ignore[union-attr]
