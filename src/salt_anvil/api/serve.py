"""`salt-anvil serve`."""

import socket
import sys

import uvicorn

from salt_anvil.api.app import create_app
from salt_anvil.api.guard import allowed_hosts
from salt_anvil.api.hub import Hub
from salt_anvil.api.preparation import Preparation
from salt_anvil.demo.install import NAME
from salt_anvil.store.database import FolderLock


def serve(held: FolderLock, host: str, listener: socket.socket, *, demo: bool) -> int:
    """Serve a data folder until interrupted. demo: the demo session is made first if it is not
    there.

    Raises:
        StoreError: the data folder cannot be used.
    """
    # Sound goes through the loop's thread: it must not wait long for threads that compute pictures.
    sys.setswitchinterval(0.0005)
    port = listener.getsockname()[1]
    hub = Hub(held)
    there = any(s.name == NAME for s in hub.sessions.every())
    preparation = Preparation(held.folder, demo=demo and not there)
    app = create_app(hub, allowed_hosts(host, port), preparation)
    config = uvicorn.Config(
        app,
        log_level="warning",
        ws="websockets-sansio",
        ws_max_size=1 << 20,
        timeout_graceful_shutdown=2,
        # Sound does not get smaller, and compressing it takes time that play has not.
        ws_per_message_deflate=False,
    )
    shown = f"[{host}]" if ":" in host else host
    print(f"Salt Anvil is at http://{shown}:{port}", flush=True)
    for part in preparation.parts:
        print(f"{part.name}; the page shows how far it is.", flush=True)
    uvicorn.Server(config).run(sockets=[listener])
    return 0
