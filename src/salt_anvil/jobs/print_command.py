"""`salt-anvil print`: a session of a data folder to files, without a server."""

import time
from collections.abc import Callable
from pathlib import Path

from salt_anvil.core.errors import FileError, StoreError
from salt_anvil.core.measure.spans import section_spans
from salt_anvil.core.session import Session
from salt_anvil.files.places import make_folder
from salt_anvil.jobs.print_sets import StemSet, stems
from salt_anvil.jobs.print_worker import PrintOptions, print_name, run_print
from salt_anvil.store.database import Database
from salt_anvil.store.sessions import Revision, SessionStore


def print_session(
    data: Path,
    wanted: str,
    out: Path,
    like: PrintOptions,
    *,
    tracks: bool = False,
    set_of: StemSet | None = None,
    section: str | None = None,
    every_section: bool = False,
    begin_s: float = 0.0,
    end_s: float | None = None,
    over: bool = False,
    progress: Callable[[float], None] = lambda share: None,
) -> list[Path]:
    """Print a session, given by number or name, and return the files written.

    tracks: every track after its fader too. set_of: stems that add up, instead. section: only
    this one; every_section: each to a file. Passages are in seconds.

    Raises:
        FileError, CoreError: it cannot be found, run or written.
    """
    model = find_session(data, wanted)
    make_folder(out)
    asked = [like]
    if set_of:
        asked = stems(model, set_of, like)
    elif tracks:
        asked += [
            like.model_copy(update={"strip": s.id, "tap": "fader"})
            for s in model.strips
            if s.kind == "track"
        ]
    spans = _passages(model, section, every_section, begin_s, end_s)
    prints = [
        one.model_copy(
            update={
                "begin": begin,
                "end": end,
                **({"name": f"{one.name} - {_plain(name)}"} if name else {}),
            }
        )
        for begin, end, name in spans
        for one in asked
    ]
    targets = [out / print_name(model, one) for one in prints]
    if len(set(targets)) < len(targets):
        targets = [out / print_name(model, one, number) for number, one in enumerate(prints, 1)]
    for target in targets:
        if target.exists() and not over:
            raise FileError(f"{target} is there already; say --over to write over it")
    for index, (one, target) in enumerate(zip(prints, targets, strict=True)):

        def show(share: float, done: int = index) -> None:
            progress((done + share) / len(prints))

        run_print(
            data, model.model_dump(), one, target, progress=show, made_at=float(int(time.time()))
        )
    return targets


def _plain(name: str) -> str:
    """Return a name that means nothing in a pattern."""
    return name.replace("{", "(").replace("}", ")")


def _passages(
    model: Session, section: str | None, every: bool, begin_s: float, end_s: float | None
) -> list[tuple[int, int | None, str]]:
    """Return first frame, frame after the last and name of what is printed.

    Raises:
        FileError: there is no such section, or no sound in it.
    """
    rate, frames = model.rate, model.frames()
    if every or section is not None:
        known = section_spans(model)
        found: list[tuple[int, int | None, str]] = [
            (s.begin, min(s.end, frames), s.name) for s in known if every or s.name == section
        ]
        if not found:
            names = ", ".join(s.name for s in known) or "none"
            raise FileError(f"there is no section {section or ''}; there are: {names}")
        return found
    begin = round(begin_s * rate)
    end = None if end_s is None else round(end_s * rate)
    if not 0 <= begin < (frames if end is None else min(end, frames)):
        raise FileError(f"--from {begin_s:g} --to {end_s}: there is no sound between them")
    return [(begin, end, "")]


def find_session(data: Path, wanted: str) -> Session:
    """Return a session of a data folder, given by number or name.

    Raises:
        FileError: there is none, or no such folder.
    """
    return find_revision(open_store(data), wanted).model


def open_store(data: Path) -> Database:
    """Return the database of a data folder that is there.

    Raises:
        FileError: there is none, or it cannot be used.
    """
    path = data / "salt-anvil.db"
    if not path.is_file():
        raise FileError(f"{data} is not a data folder (no salt-anvil.db in it)")
    try:
        return Database(path)
    except StoreError as error:
        raise FileError(str(error)) from None


def find_revision(database: Database, wanted: str) -> Revision:
    """Return where a session stands, given by number or name.

    Raises:
        FileError: there is none.
    """
    try:
        store = SessionStore(database)
        rows = store.every()
    except StoreError as error:
        raise FileError(str(error)) from None
    for row in rows:
        if str(row.id) == wanted or row.name == wanted:
            return store.head(row.id)
    known = ", ".join(f"{r.id} “{r.name}”" for r in rows) or "none"
    raise FileError(f"there is no session {wanted}; there are: {known}")
