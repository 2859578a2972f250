"""Prints over HTTP: asked for, put in order, stopped, told, fetched."""

from fastapi import APIRouter
from fastapi.responses import FileResponse

from salt_anvil.api import models as m
from salt_anvil.api.hub import Hub
from salt_anvil.api.routes import Number, TheHub
from salt_anvil.core.errors import FileError
from salt_anvil.jobs.print_sets import stems, words_of
from salt_anvil.jobs.print_worker import PrintOptions
from salt_anvil.store.prints import PrintRow

router = APIRouter(prefix="/api")


@router.get("/sessions/{session_id}/prints")
def list_prints(session_id: Number, hub: TheHub) -> list[m.PrintItem]:
    """Return the session's prints, newest first."""
    return [_item(row, hub) for row in hub.prints.store.every(session_id)]


@router.post("/sessions/{session_id}/prints")
def ask_print(session_id: Number, options: PrintOptions, hub: TheHub) -> m.PrintItem:
    """Start a print."""
    number = hub.prints.ask(session_id, hub.sessions.head(session_id).model, options)
    return _item(hub.prints.store.get(number), hub)


@router.get("/sessions/{session_id}/stems")
def get_stems(session_id: Number, hub: TheHub) -> m.StemsWords:
    """Return in words to what each set of stems adds up."""
    model = hub.sessions.head(session_id).model
    return m.StemsWords(groups=words_of(model, "groups"), tracks=words_of(model, "tracks"))


@router.post("/sessions/{session_id}/stems")
def ask_stems(session_id: Number, wanted: m.StemsRequest, hub: TheHub) -> list[m.PrintItem]:
    """Start the prints of a set of stems, and of their sum."""
    model = hub.sessions.head(session_id).model
    numbers = [
        hub.prints.ask(session_id, model, one) for one in stems(model, wanted.set, wanted.options)
    ]
    return [_item(hub.prints.store.get(number), hub) for number in numbers]


@router.post("/prints/{number}/sooner")
def print_sooner(number: Number, hub: TheHub) -> None:
    """Let a print that waits change places with the one before it."""
    hub.prints.move(number, -1)


@router.post("/prints/{number}/later")
def print_later(number: Number, hub: TheHub) -> None:
    """Let a print that waits change places with the one behind it."""
    hub.prints.move(number, 1)


@router.delete("/prints/{number}")
def cancel_print(number: Number, hub: TheHub) -> None:
    """Stop a print."""
    hub.prints.cancel(number)


@router.get("/prints/{number}/differences")
def get_differences(number: Number, hub: TheHub) -> list[str]:
    """Return in words what is other than in the print before."""
    return hub.prints.differences(number)


@router.get("/prints/{number}/file")
def get_print(number: Number, hub: TheHub) -> FileResponse:
    """Return a finished print."""
    row = hub.prints.store.get(number)
    if row.file is None or not (hub.prints.folder / row.file).is_file():
        raise FileError(f"print {number} has no file")
    return FileResponse(hub.prints.folder / row.file, filename=row.file)


def _item(row: PrintRow, hub: Hub) -> m.PrintItem:
    known = {k: v for k, v in vars(row).items() if k != "session_id"}
    running = row.state == "running"
    return m.PrintItem(
        **known,
        place=hub.prints.place(row.id),
        left_s=hub.prints.left_s(row.id, row.progress) if running else None,
        report=hub.prints.report(row.file) if row.state == "done" else None,
    )
