"""`salt-anvil bundle` and `salt-anvil open`: a session out of a data folder, and into another."""

from collections.abc import Callable
from pathlib import Path

from salt_anvil.core.errors import FileError
from salt_anvil.files.bundle import read_bundle, write_bundle
from salt_anvil.files.media import MediaFolder
from salt_anvil.files.places import make_folder
from salt_anvil.jobs.print_command import find_revision, open_store
from salt_anvil.jobs.print_worker import report_of
from salt_anvil.store.database import Database
from salt_anvil.store.prints import PrintStore
from salt_anvil.store.sessions import Revision, SessionStore

Progress = Callable[[float], None]


def bundle_session(
    data: Path,
    wanted: str,
    target: Path,
    *,
    prints: bool = False,
    over: bool = False,
    progress: Progress = lambda share: None,
) -> None:
    """Write a session, given by number or name, as a bundle.

    Raises:
        FileError, StoreError: it cannot be found or written.
    """
    if target.exists() and not over:
        raise FileError(f"{target} is there already; say --over to write over it")
    if not target.parent.is_dir():
        raise FileError(f"{target} cannot be written: there is no folder {target.parent}")
    database = open_store(data)
    revision = find_revision(database, wanted)
    files = printed(PrintStore(database, 0), data, revision.session_id) if prints else []
    write_bundle(target, revision.model, MediaFolder(data / "media"), files, progress)


def printed(store: PrintStore, data: Path, session_id: int) -> list[Path]:
    """Return the files that were printed from a session and are still there, with their reports."""
    rows = [r for r in reversed(store.every(session_id)) if r.state == "done" and r.file]
    files = [data / "prints" / str(row.file) for row in rows]
    found = [path for file in files for path in (file, report_of(file)) if path.is_file()]
    return list(dict.fromkeys(found))


def open_bundle(path: Path, data: Path, progress: Progress = lambda share: None) -> Revision:
    """Take a bundle into a data folder, which is made if it is not there, as a new session.

    Raises:
        FileError, StoreError: it cannot be read or kept.
    """
    if not path.is_file():
        raise FileError(f"there is no file {path}")
    make_folder(data)
    session = read_bundle(path, path.name, MediaFolder(data / "media"), progress)
    return SessionStore(Database(data / "salt-anvil.db")).add(session, "Opened from a bundle")
