"""`salt-anvil print`: a session of a data folder to files, without a server."""

from collections.abc import Callable
from pathlib import Path

from salt_anvil.core.errors import FileError, StoreError
from salt_anvil.core.session import Session
from salt_anvil.files.write import PrintFormat
from salt_anvil.jobs.print_worker import PrintOptions, print_name, run_print
from salt_anvil.store.database import Database
from salt_anvil.store.sessions import SessionStore


def print_session(
    data: Path,
    wanted: str,
    out: Path,
    *,
    strip: str | None = None,
    stems: bool = False,
    begin_s: float = 0.0,
    end_s: float | None = None,
    format: PrintFormat = "wav-32f",
    dither: bool = True,
    progress: Callable[[float], None] = lambda share: None,
) -> list[Path]:
    """Print a session, given by number or name, and return the files written.

    Raises:
        FileError, CoreError: it cannot be found, run or written.
    """
    model = find_session(data, wanted)
    out.mkdir(parents=True, exist_ok=True)
    begin = round(begin_s * model.rate)
    end = None if end_s is None else round(end_s * model.rate)
    if not 0 <= begin < (model.frames() if end is None else min(end, model.frames())):
        raise FileError(f"--from {begin_s:g} --to {end_s}: there is no sound between them")
    parts: list[tuple[str | None, str]] = [(strip, "chain")]
    if stems:
        parts += [(s.id, "fader") for s in model.strips if s.kind == "track"]
    written = []
    for index, (name, tap) in enumerate(parts):
        options = PrintOptions(
            strip=name, tap=tap, format=format, dither=dither, begin=begin, end=end
        )
        target = out / print_name(model, options)

        def show(share: float, done: int = index) -> None:
            progress((done + share) / len(parts))

        run_print(data, model.model_dump(), options, target, progress=show)
        written.append(target)
    return written


def find_session(data: Path, wanted: str) -> Session:
    """Return a session of a data folder, given by number or name.

    Raises:
        FileError: there is none, or no such folder.
    """
    path = data / "salt-anvil.db"
    if not path.is_file():
        raise FileError(f"{data} is not a data folder (no salt-anvil.db in it)")
    try:
        store = SessionStore(Database(path))
        rows = store.every()
    except StoreError as error:
        raise FileError(str(error)) from None
    for row in rows:
        if str(row.id) == wanted or row.name == wanted:
            return store.head(row.id).model
    known = ", ".join(f"{r.id} “{r.name}”" for r in rows) or "none"
    raise FileError(f"there is no session {wanted}; there are: {known}")
