"""A real server process on a data folder, with its HTTP side."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import httpx

from salt_anvil.client import ServerProcess, Tab

__all__ = ["Server", "Tab", "serving"]


class Server(ServerProcess):
    """`salt-anvil serve` as users start it."""

    def __init__(self, data: Path, **environment: str) -> None:
        # Seeks take the time they need, so that what is heard is exact from the first frame.
        super().__init__(data, {**os.environ, "SALT_ANVIL_START_S": "60", **environment})
        self.http = httpx.Client(base_url=self.url, timeout=60)

    def api(self, method: str, path: str, body: Any = None, **more: Any) -> Any:
        answer = self.http.request(method, f"/api{path}", json=body, **more)
        answer.raise_for_status()
        return answer.json()

    def stop(self, kill: bool = False) -> None:
        self.http.close()
        super().stop(kill)


@contextmanager
def serving(data: Path) -> Iterator[Server]:
    server = Server(data)
    try:
        yield server
    finally:
        server.stop()
