"""Proofs over HTTP: asked for, stopped, looked at, heard; ways out, targets, a service."""

import contextlib
from typing import Annotated

from fastapi import APIRouter, Query, Request
from fastapi.responses import FileResponse
from starlette.concurrency import run_in_threadpool

from salt_anvil.api import models as m
from salt_anvil.api.hub import Hub
from salt_anvil.api.routes import Number, TheHub, upload
from salt_anvil.core.delivery.proof import verdict
from salt_anvil.core.delivery.service import Service, played
from salt_anvil.core.delivery.targets import SHIPPED, Target
from salt_anvil.core.delivery.ways import CODERS, USUAL, WAY_RATES
from salt_anvil.core.errors import FileError, MissingRowError
from salt_anvil.files.read import SoundReader
from salt_anvil.jobs.proof import ProofRequest

router = APIRouter(prefix="/api")
FileName = Annotated[str, Query(min_length=1, max_length=200)]


@router.get("/delivery")
def get_delivery(hub: TheHub) -> m.Delivery:
    """Return the ways out that there are, and the targets: ours, then the user's own."""
    coders = [
        m.CoderItem(codec=codec, title=c.title, kbps=list(c.kbps), rates=list(c.rates))
        for codec, c in CODERS.items()
    ]
    return m.Delivery(
        coders=coders,
        rates=list(WAY_RATES),
        usual=list(USUAL),
        ours=list(SHIPPED),
        own=hub.targets.every(),
    )


@router.put("/targets")
def keep_target(target: Target, hub: TheHub) -> m.Delivery:
    """Keep a target of the user's own; one of the same name is replaced."""
    hub.targets.keep(target)
    return get_delivery(hub)


@router.delete("/targets/{name}")
def remove_target(name: str, hub: TheHub) -> m.Delivery:
    """Delete a target of the user's own."""
    if not hub.targets.remove(name):
        raise MissingRowError(f"there is no target “{name}” of yours")
    return get_delivery(hub)


@router.get("/sessions/{session_id}/proof")
def get_proof(session_id: Number, hub: TheHub) -> m.ProofState:
    """Return the newest proof of a session, as far as it is."""
    return _state(session_id, hub)


@router.post("/sessions/{session_id}/proof")
def ask_proof(session_id: Number, wanted: ProofRequest, hub: TheHub) -> m.ProofState:
    """Begin a proof of the session as it stands; one under way is left off."""
    hub.proofs.ask(hub.sessions.head(session_id), wanted)
    return _state(session_id, hub)


@router.delete("/sessions/{session_id}/proof")
def stop_proof(session_id: Number, hub: TheHub) -> m.ProofState:
    """Stop the proof under way."""
    hub.proofs.cancel(session_id)
    return _state(session_id, hub)


def _state(session_id: int, hub: Hub) -> m.ProofState:
    head = hub.sessions.head(session_id)
    kept = hub.proofs.newest(session_id)
    if kept is None:
        return m.ProofState(state="none")
    found = verdict(kept.proof) if kept.proof is not None and kept.state == "done" else None
    return m.ProofState(
        number=kept.number,
        state=kept.state,
        words=kept.words,
        shares=kept.shares,
        current=kept.request.file is not None or kept.revision == head.id,
        request=kept.request,
        proof=kept.proof,
        verdict=None if found is None else m.VerdictItem(**vars(found)),
    )


@router.get("/sessions/{session_id}/proof/audio/{name}")
def hear_way(session_id: Number, name: str, hub: TheHub, taken: bool = False) -> FileResponse:
    """Return what came back from a way, or what its coder took away, as a file to be played."""
    return FileResponse(hub.proofs.sound(session_id, name, taken), media_type="audio/wav")


@router.post("/sessions/{session_id}/proof/played")
def get_played(session_id: Number, service: Service, hub: TheHub) -> m.PlayedAnswer:
    """Return what a service that turns everything to a loudness would do to what was proved."""
    kept = hub.proofs.newest(session_id)
    if kept is None or kept.proof is None:
        raise FileError("nothing was proved yet")
    found = played(service, kept.proof.figures)
    return m.PlayedAnswer(**vars(found))


@router.put("/sessions/{session_id}/proof/file")
async def bring_to_prove(
    session_id: Number, name: FileName, request: Request, hub: TheHub
) -> m.BroughtToProve:
    """Take the file in the body, only to be proved."""
    await run_in_threadpool(hub.sessions.head, session_id)
    target = hub.proofs.brought(session_id, name)
    part = target.with_name(f"{target.name}.upload")
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        with part.open("wb") as file:
            await upload(request, file, name)
        with await run_in_threadpool(SoundReader, part, target.name):
            part.replace(target)
    finally:
        with contextlib.suppress(OSError):
            part.unlink(missing_ok=True)
    return m.BroughtToProve(file=target.name)
