"""`salt-anvil serve`."""

import socket
import sys
from pathlib import Path

import uvicorn

from salt_anvil.api.app import create_app
from salt_anvil.api.guard import allowed_hosts
from salt_anvil.api.hub import Hub
from salt_anvil.api.preparation import Preparation
from salt_anvil.core.errors import FileError
from salt_anvil.demo.install import NAME


def serve(data: Path, host: str, port: int, *, demo: bool) -> int:
    """Serve until interrupted. demo: the demo session is made first if it is not there.

    Raises:
        FileError, StoreError: the port is taken, or the data folder cannot be used.
    """
    listener = listening(host, port)
    # Sound goes through the loop's thread: it must not wait long for threads that compute pictures.
    sys.setswitchinterval(0.0005)
    port = listener.getsockname()[1]
    hub = Hub(data)
    there = any(s.name == NAME for s in hub.sessions.every())
    preparation = Preparation(data, demo=demo and not there)
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


def listening(host: str, port: int) -> socket.socket:
    """Return a socket that listens there; 0: at any port that is free.

    Raises:
        FileError: the port is taken, or cannot be had.
    """
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    # Said to be TCP: else asyncio lets the kernel hold back what is sent for 40 ms (Nagle).
    listener = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((host, port))
        listener.listen(128)
    except OSError as error:
        reason = "is in use" if error.errno == 98 else f"cannot be had ({error.strerror})"
        raise FileError(f"port {port} on {host} {reason}; choose another with --port") from None
    return listener
