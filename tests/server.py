"""A real server process on a data folder, and a tab that talks to it."""

import json
import re
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

import httpx
import numpy as np
from websockets.sync.client import ClientConnection, connect

from salt_anvil.live.messages import HEADER


class Server:
    """`salt-anvil serve` as users start it."""

    def __init__(self, data: Path) -> None:
        self.data = data
        command = [sys.executable, "-m", "salt_anvil", "serve", "--data", str(data), "--port", "0"]
        self.process = subprocess.Popen(
            command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
        )
        assert self.process.stdout is not None
        line = self.process.stdout.readline()
        found = re.search(r"http://[\d.]+:(\d+)", line)
        assert found, line
        self.url, self.port = found.group(0), int(found.group(1))
        self.http = httpx.Client(base_url=self.url, timeout=60)

    def api(self, method: str, path: str, body: Any = None, **more: Any) -> Any:
        answer = self.http.request(method, f"/api{path}", json=body, **more)
        answer.raise_for_status()
        return answer.json()

    def stop(self, kill: bool = False) -> None:
        self.http.close()
        self.process.kill() if kill else self.process.terminate()
        self.process.wait(20)
        assert self.process.stdout is not None
        self.process.stdout.close()


@contextmanager
def serving(data: Path) -> Iterator[Server]:
    server = Server(data)
    try:
        yield server
    finally:
        server.stop()


class Tab:
    """A WebSocket that plays as fast as the sound comes."""

    def __init__(self, server: Server, session: int) -> None:
        self._open = ExitStack()
        address = f"ws://127.0.0.1:{server.port}/api/live"
        origin: Any = server.url
        self.socket: ClientConnection = self._open.enter_context(
            connect(address, origin=origin, max_size=None, close_timeout=1)
        )
        self.epoch, self.taken = -1, 0
        self.events: list[dict[str, Any]] = []
        self.say(type="open", session=session)
        self.wait("transport")

    def say(self, **message: Any) -> None:
        self.socket.send(json.dumps(message))

    def wait(self, kind: str, seconds: float = 20) -> dict[str, Any]:
        """Return the next event of a kind."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            message = self.socket.recv(timeout=max(end - time.monotonic(), 0.01))
            if isinstance(message, str):
                event = json.loads(message)
                self.events.append(event)
                if event["type"] == kind:
                    return event
        raise TimeoutError(kind)

    def sound(self, frames: int, seconds: float = 30) -> tuple[list[int], np.ndarray, list[dict]]:
        """Return the first frame of each piece, the sound (frames, 4), and the reports."""
        places, parts, reports, got = [], [], [], 0
        end = time.monotonic() + seconds
        while got < frames:
            message = self.socket.recv(timeout=max(end - time.monotonic(), 0.01))
            if isinstance(message, str):
                self.events.append(json.loads(message))
                continue
            epoch, _, frame, count, _, _, _ = HEADER.unpack(message[: HEADER.size])
            if epoch != self.epoch:
                self.epoch, self.taken = epoch, 0
                places, parts, reports, got = [], [], [], 0
            self.taken += count
            self.say(type="played", epoch=epoch, frames=self.taken)
            body = message[HEADER.size : HEADER.size + count * 16]
            parts.append(np.frombuffer(body, "<f4").reshape(-1, 4))
            reports.append(json.loads(message[HEADER.size + count * 16 :]))
            places.append(int(frame))
            got += count
        return places, np.concatenate(parts), reports

    def close(self) -> None:
        self._open.close()
