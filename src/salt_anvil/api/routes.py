"""The routes: each validates, calls, answers."""

import tempfile
from functools import partial
from pathlib import Path
from typing import IO, Annotated

from fastapi import APIRouter, Depends, Query, Request, Response
from fastapi.responses import FileResponse
from pydantic import Field
from starlette.concurrency import run_in_threadpool

from salt_anvil.analysis.comparison import Comparison
from salt_anvil.analysis.pictures import LaneView
from salt_anvil.api import models as m
from salt_anvil.api.hub import Hub, new_session
from salt_anvil.api.preparation import make_demo
from salt_anvil.core.aim import Aim, span_of
from salt_anvil.core.differences import session_differences
from salt_anvil.core.engine_version import ENGINE, changes_since
from salt_anvil.core.errors import FileError, NotReadyError
from salt_anvil.core.guessing import MOST_ROUNDS, worth_reaching
from salt_anvil.core.lab import Side, measure
from salt_anvil.core.lab.device import other_setting
from salt_anvil.core.lab.drawing import minus, page_plots, svg
from salt_anvil.core.library import starting_points
from salt_anvil.core.measure.rows import Figures
from salt_anvil.core.measure.separation import Separation
from salt_anvil.core.measure.split_curves import SplitDrawing
from salt_anvil.core.processors import Context, catalogue, processor
from salt_anvil.core.recipe import recipe_of
from salt_anvil.core.session import Stage, checked, owners_controls
from salt_anvil.demo.install import NAME
from salt_anvil.files.read import markers
from salt_anvil.jobs.scan import ScanAnswer
from salt_anvil.live.messages import Frame
from salt_anvil.store.sessions import Revision

router = APIRouter(prefix="/api")


Number = Annotated[int, Field(ge=1, le=(1 << 63) - 1)]
"""A row of the database."""


def get_hub(request: Request) -> Hub:
    """Return the hub of this server."""
    hub: Hub = request.app.state.hub
    if not hub.ready:
        raise NotReadyError("Salt Anvil is still getting ready; its page shows how far it is")
    return hub


TheHub = Annotated[Hub, Depends(get_hub)]


def _state(revision: Revision, hub: Hub) -> m.SessionState:
    model = revision.model
    return m.SessionState(
        id=revision.session_id,
        revision=revision.id,
        words=revision.words,
        undo=revision.undo,
        redo=revision.redo,
        frames=model.frames(),
        latency=hub.latency(revision),
        model=model,
        titles={k.kind: k.title for k in catalogue()},
    )


def _reported(revision: Revision, hub: Hub) -> Response:
    """Return a session's state; written once, not validated and converted a second time."""
    return Response(_state(revision, hub).model_dump_json(), media_type="application/json")


@router.get("/readiness")
def readiness(request: Request) -> m.Readiness:
    """Return whether the server is ready, and how far what a first start makes is."""
    state = request.app.state
    parts = [
        m.Making(**{k: v for k, v in vars(p).items() if k != "make"})
        for p in state.preparation.parts
    ]
    return m.Readiness(ready=state.hub.ready, parts=parts)


@router.get("/catalogue")
def get_catalogue() -> m.Catalogue:
    """Return every processor with its parameters and starting points, and the controls of
    everything else."""
    kinds = catalogue()
    points = {k.kind: _starting_points(k.kind) for k in kinds}
    return m.Catalogue(kinds=kinds, controls=owners_controls(), starting_points=points)


def _starting_points(kind: str) -> list[m.StartingPoint]:
    found = []
    for recipe in starting_points(kind):
        stage = recipe.chain[0]
        assert isinstance(stage, Stage)
        params = stage.params.model_dump()
        found.append(m.StartingPoint(name=recipe.name, note=recipe.note, params=params))
    return found


@router.post("/drawing")
def draw(wanted: m.DrawingRequest) -> m.DrawingAnswer:
    """Return what to draw for settings."""
    stage = checked(Stage, {"id": "x", "kind": wanted.kind, "params": wanted.params})
    context = Context(wanted.rate, 2, wanted.bpm)
    return m.DrawingAnswer(drawing=processor(wanted.kind).drawing(stage.params, context))


@router.get("/sessions")
def list_sessions(hub: TheHub) -> list[m.SessionItem]:
    """Return all sessions, the last touched first."""
    return [m.SessionItem(**vars(row)) for row in hub.sessions.every()]


@router.post("/sessions", response_model=m.SessionState)
def make_session(wanted: m.NewSession, hub: TheHub) -> Response:
    """Make an empty session."""
    return _reported(hub.sessions.add(new_session(wanted.name, wanted.bpm)), hub)


@router.post("/demo", response_model=m.SessionState)
def open_demo(hub: TheHub) -> Response:
    """Return the demo session, made first if it is not there."""
    if not any(r.name == NAME for r in hub.sessions.every()):
        make_demo(hub.data)
    row = next(r for r in hub.sessions.every() if r.name == NAME)
    return _reported(hub.sessions.head(row.id), hub)


@router.get("/sessions/{session_id}", response_model=m.SessionState)
def get_session(session_id: Number, hub: TheHub) -> Response:
    """Return a session as it stands."""
    return _reported(hub.sessions.head(session_id), hub)


@router.delete("/sessions/{session_id}")
def remove_session(session_id: Number, hub: TheHub) -> None:
    """Delete a session; its audio stays in the media folder."""
    hub.remove(session_id)


@router.post("/sessions/{session_id}/edits", response_model=m.SessionState)
def edit_session(session_id: Number, wanted: m.Edits, hub: TheHub) -> Response:
    """Store a finished gesture."""
    return _reported(hub.edit(session_id, wanted.base, wanted.edits), hub)


@router.post("/sessions/{session_id}/undo", response_model=m.SessionState)
def undo(session_id: Number, hub: TheHub) -> Response:
    """Go one revision back."""
    return _reported(hub.move(session_id, hub.sessions.undo), hub)


@router.post("/sessions/{session_id}/redo", response_model=m.SessionState)
def redo(session_id: Number, hub: TheHub) -> Response:
    """Go one revision forward."""
    return _reported(hub.move(session_id, hub.sessions.redo), hub)


@router.get("/sessions/{session_id}/revisions")
def list_revisions(session_id: Number, hub: TheHub) -> list[m.RevisionItem]:
    """Return the newest revisions and the named ones."""
    return [m.RevisionItem(**vars(row)) for row in hub.sessions.revisions(session_id)]


@router.put("/sessions/{session_id}/revisions/{revision_id}/name")
def name_revision(
    session_id: Number, revision_id: Number, wanted: m.RevisionName, hub: TheHub
) -> None:
    """Name a revision."""
    hub.sessions.name(session_id, revision_id, wanted.name or None)


@router.get("/sessions/{session_id}/revisions/{revision_id}/differences")
def compare_with_revision(session_id: Number, revision_id: Number, hub: TheHub) -> list[str]:
    """Return in words in what the session differs now from one of its revisions."""
    then = hub.sessions.revision(session_id, revision_id)
    words = session_differences(hub.sessions.head(session_id).model, then.model)
    return words + changes_since(then.engine, ENGINE, then.model)


@router.post("/sessions/{session_id}/compare")
def compare(session_id: Number, wanted: m.CompareRequest, hub: TheHub) -> Comparison:
    """Return the settings of an extent side by side, measured where they are listened to."""
    return hub.compare(session_id, wanted)


@router.post("/sessions/{session_id}/aims")
def begin_aim(session_id: Number, aim: Aim, hub: TheHub) -> m.AimStarted:
    """Look for the value of a control that gives what is wanted; tabs are told every step."""
    model = hub.sessions.head(session_id).model
    span_of(model, aim)
    return m.AimStarted(number=hub.aims.ask(session_id, model, aim))


@router.post("/sessions/{session_id}/scans")
async def scan(session_id: Number, wanted: m.ScanRequest, hub: TheHub) -> ScanAnswer:
    """Look for what rings in what comes into a stage; nothing is changed."""
    model = await run_in_threadpool(lambda: hub.sessions.head(session_id).model)
    return await hub.aims.scan(session_id, model, wanted.stage, wanted.begin, wanted.end)


@router.delete("/sessions/{session_id}/scans")
def stop_scans(session_id: Number, hub: TheHub) -> None:
    """Stop what is being scanned of a session."""
    hub.aims.stop_scans(session_id)


@router.post("/sessions/{session_id}/gatings")
async def gating(session_id: Number, marks: m.GateMarks, hub: TheHub) -> Separation:
    """Find what tells the marked hits apart for a gate; nothing is changed."""
    model = await run_in_threadpool(lambda: hub.sessions.head(session_id).model)
    return await hub.aims.gating(model, marks.stage, marks.keep, marks.refuse)


@router.delete("/aims/{number}")
def stop_aim(number: Number, hub: TheHub) -> None:
    """Stop an aim."""
    hub.aims.cancel(number)


@router.get("/guessing")
def guessing(
    rounds: Annotated[int, Query(ge=1, le=MOST_ROUNDS)],
    choices: Annotated[int, Query(ge=2, le=5)] = 2,
) -> list[tuple[int, float]]:
    """Return the scores of a blind test that guessing seldom reaches, and how likely each is."""
    return worth_reaching(rounds, choices)


@router.post("/sessions/{session_id}/revisions/{revision_id}/back", response_model=m.SessionState)
def back_to(session_id: Number, revision_id: Number, hub: TheHub) -> Response:
    """Go back to a revision, as a new one."""
    step = partial(hub.sessions.back_to, revision_id=revision_id)
    return _reported(hub.move(session_id, step), hub)


async def upload(request: Request, file: IO[bytes], name: str) -> None:
    """Write the body of a request into a file.

    Raises:
        FileError: the disk is full.
    """
    try:
        async for chunk in request.stream():
            await run_in_threadpool(file.write, chunk)
        file.flush()
    except OSError as error:
        raise FileError(f"{name} was not kept: {(error.strerror or '').lower()}") from None


@router.put("/sessions/{session_id}/references", response_model=m.SessionState)
async def bring_reference(
    session_id: Number,
    name: Annotated[str, Query(min_length=1, max_length=200)],
    request: Request,
    hub: TheHub,
) -> Response:
    """Take the file in the body in, only to be compared with."""
    with tempfile.NamedTemporaryFile(dir=hub.data, suffix=".upload") as file:
        await upload(request, file, name)
        revision = await run_in_threadpool(
            hub.bring_reference, session_id, Path(file.name), Path(name).name
        )
    return await run_in_threadpool(_reported, revision, hub)


@router.get("/sessions/{session_id}/references/{name}")
def measure_reference(session_id: Number, name: str, hub: TheHub) -> Figures:
    """Return what a reference measures from end to end."""
    return hub.reference(session_id, name)[1]


@router.get("/sessions/{session_id}/references/{name}/audio")
def hear_reference(session_id: Number, name: str, hub: TheHub) -> FileResponse:
    """Return a reference as a file that the page plays."""
    return FileResponse(hub.reference(session_id, name)[0], media_type="audio/wav")


@router.post("/sessions/{session_id}/bundle")
def make_bundle(session_id: Number, hub: TheHub, prints: bool = False) -> m.BundleAnswer:
    """Put a session together as one file, to be fetched."""
    path = hub.bundle(session_id, prints)
    return m.BundleAnswer(bytes=path.stat().st_size)


@router.get("/sessions/{session_id}/bundle")
def get_bundle(session_id: Number, hub: TheHub) -> FileResponse:
    """Return what was put together."""
    path = hub.bundles / f"{session_id}.zip"
    name = hub.sessions.head(session_id).model.name
    if not path.is_file():
        raise FileError(f"no bundle of “{name}” was put together yet")
    return FileResponse(path, filename=f"{name}.zip", media_type="application/zip")


@router.put("/bundles", response_model=m.SessionState)
async def open_bundle(
    name: Annotated[str, Query(min_length=1, max_length=200)], request: Request, hub: TheHub
) -> Response:
    """Take the bundle in the body in as a new session."""
    with tempfile.NamedTemporaryFile(dir=hub.data, suffix=".upload") as file:
        await upload(request, file, name)
        plain = Path(name).name
        revision = await run_in_threadpool(hub.open_bundle, Path(file.name), plain)
    return await run_in_threadpool(_reported, revision, hub)


@router.put("/sessions/{session_id}/audio")
async def bring_in(
    session_id: Number,
    name: Annotated[str, Query(min_length=1, max_length=200)],
    request: Request,
    hub: TheHub,
) -> m.BroughtInAnswer:
    """Take the file in the body into the session as a new track."""
    with tempfile.NamedTemporaryFile(dir=hub.data, suffix=".upload") as file:
        await upload(request, file, name)
        revision, media = await run_in_threadpool(
            hub.bring_in, session_id, Path(file.name), Path(name).name
        )
        cues = await run_in_threadpool(markers, Path(file.name))
    said = []
    if media.source_rate != media.rate:
        said.append(f"converted from {media.source_rate} to {media.rate} Hz")
    if media.nonfinite:
        said.append(f"{media.nonfinite} samples were not numbers and are silent")
    words = f"{media.name}: {', '.join(said)}" if said else None
    found = [m.Marker(name=text, at_s=frame / media.source_rate) for frame, text in cues]
    state = await run_in_threadpool(_state, revision, hub)
    return m.BroughtInAnswer(state=state, said=words, markers=found)


@router.get("/sessions/{session_id}/strips/{strip}/picture")
def get_picture(
    session_id: Number,
    strip: str,
    begin: Frame,
    end: Frame,
    columns: Annotated[int, Query(ge=1, le=4000)],
    hub: TheHub,
    at: str = "chain",
) -> Response:
    """Return the time strip's columns, packed (see analysis.pictures.Picture.to_bytes)."""
    _, viewer = hub.viewer(session_id)
    picture = viewer.picture(strip, at, begin, max(end, begin + 1), columns, hub.media)
    return Response(picture.to_bytes(), media_type="application/octet-stream")


@router.get("/sessions/{session_id}/strips/{strip}/hits")
def get_hits(session_id: Number, strip: str, at: str, before: Frame, hub: TheHub) -> list[m.Hit]:
    """Return a stage's last hits before a frame."""
    _, viewer = hub.viewer(session_id)
    return [m.Hit(frame=f, reduction=cells) for f, cells in viewer.hits(strip, at, before)]


ReportName = Annotated[str, Field(pattern="^[a-z_]{1,40}$")]


@router.get("/sessions/{session_id}/strips/{strip}/reports")
def get_reports(
    session_id: Number,
    strip: str,
    at: str,
    hub: TheHub,
    name: Annotated[list[ReportName], Query(min_length=1, max_length=8)],
    columns: Annotated[int, Query(ge=1, le=4000)],
) -> dict[str, list[float]]:
    """Return what a stage told over the whole song, by name (level_db, attack_share, ...)."""
    _, viewer = hub.viewer(session_id)
    return viewer.reports(strip, at, name, columns)


@router.get("/sessions/{session_id}/strips/{strip}/ledger")
def get_ledger(
    session_id: Number,
    strip: str,
    hub: TheHub,
    at: str = "chain",
    begin: Frame = 0,
    end: Frame | None = None,
) -> m.LedgerAnswer:
    """Return the ledger of a passage."""
    revision, viewer = hub.viewer(session_id)
    frames = revision.model.frames()
    end = max(end or frames, begin + 1)
    found, done = viewer.ledger(strip, at, begin, end)
    later = viewer.later(strip, at, begin, end, hub.earlier_viewer(session_id))
    return m.LedgerAnswer(ledger=found, later=later, done=done)


@router.get("/sessions/{session_id}/strips/{strip}/openings")
def get_openings(session_id: Number, strip: str, at: str, hub: TheHub) -> m.Openings:
    """Return where a gate opened."""
    _, viewer = hub.viewer(session_id)
    return m.Openings(frames=viewer.openings(strip, at))


@router.post("/sessions/{session_id}/strips/{strip}/threshold")
def find_threshold(
    session_id: Number, strip: str, at: str, openings: m.Openings, hub: TheHub
) -> m.ThresholdAnswer:
    """Return the threshold at which a gate opens where it opened, by what it hears now."""
    _, viewer = hub.viewer(session_id)
    found, done = viewer.threshold(strip, at, openings.frames)
    return m.ThresholdAnswer(threshold_db=found, done=done)


@router.get("/sessions/{session_id}/splits/{name}")
def get_split(session_id: Number, name: str, hub: TheHub) -> SplitDrawing:
    """Return what to draw for a split, or for the join of a bus."""
    _, viewer = hub.viewer(session_id)
    return viewer.split(name)


@router.get("/sessions/{session_id}/lanes")
def get_lanes(
    session_id: Number, hub: TheHub, columns: Annotated[int, Query(ge=2, le=4000)] = 1000
) -> list[LaneView]:
    """Return every moving control over the song."""
    _, viewer = hub.viewer(session_id)
    return viewer.lanes(columns)


@router.post("/sessions/{session_id}/lab")
def measure_in_lab(session_id: Number, wanted: m.LabRequest, hub: TheHub) -> m.LabAnswer:
    """Measure what a chain, branch, split or stage does to a known signal."""
    session = hub.sessions.head(session_id).model
    recipe = recipe_of(session, wanted.place)
    against, name = None, "on"
    if wanted.against == "off":
        against = Side(recipe.model_copy(update={"chain": []}), "off")
    elif wanted.against:
        name, other = other_setting(session, wanted.place, wanted.against)
        there = recipe_of(other, wanted.place)
        against = Side(there, wanted.against, hub.measured_joins(other))
    side = Side(recipe, name, hub.measured_joins(session))
    found = measure(side, wanted.options, session.rate, against)
    return m.LabAnswer(
        words=minus(found.words),
        rate=found.rate,
        csv=found.csv(),
        svg=svg(found),
        figures=[m.LabFigure(**vars(f)) for f in found.figures],
        plots=page_plots(found),
    )
