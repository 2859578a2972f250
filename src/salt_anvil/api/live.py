"""The WebSocket: text in both directions, sound to the tab."""

import asyncio
import contextlib
import logging

from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from pydantic import ValidationError
from starlette.concurrency import run_in_threadpool

from salt_anvil.api.hub import Hub
from salt_anvil.api.tabs import Tab
from salt_anvil.core.errors import SaltAnvilError
from salt_anvil.core.session import plain_words
from salt_anvil.live.messages import COMMAND, HearRevision, Open, Surface

router = APIRouter()
logger = logging.getLogger(__name__)


@router.websocket("/api/live")
async def live(socket: WebSocket) -> None:
    """Serve one tab until it goes."""
    hub: Hub = socket.app.state.hub
    await socket.accept()
    if not hub.ready:
        await socket.close(1013)
        return
    tab = hub.open_tab()
    sender = asyncio.create_task(_send(socket, tab))
    try:
        while True:
            message = await socket.receive()
            if message["type"] == "websocket.disconnect":
                break
            text = message.get("text")
            if text is None:
                hub.refuse(tab, "only text is understood here")
            else:
                await _take(hub, tab, text)
    except (WebSocketDisconnect, RuntimeError):
        pass
    finally:
        hub.close_tab(tab)
        sender.cancel()


async def _take(hub: Hub, tab: Tab, text: str) -> None:
    try:
        command = COMMAND.validate_json(text)
        if isinstance(command, Open):
            await run_in_threadpool(hub.open, tab, command.session)
        elif isinstance(command, Surface):
            await run_in_threadpool(hub.surface, tab, command)
        elif isinstance(command, HearRevision):
            await run_in_threadpool(hub.hear_revision, tab, command.revision)
        else:
            await hub.command(tab, text, command)
    except ValidationError as error:
        hub.refuse(tab, plain_words(error))
    except SaltAnvilError as error:
        hub.refuse(tab, str(error))
    except Exception:
        logger.exception("a message could not be taken")
        hub.refuse(tab, "the server could not do that; nothing was changed")


async def _send(socket: WebSocket, tab: Tab) -> None:
    with contextlib.suppress(WebSocketDisconnect, RuntimeError):
        while (message := await tab.queue.get()) is not None:
            if isinstance(message, bytes):
                await socket.send_bytes(message)
            else:
                await socket.send_text(message)
        await socket.close(1013)
