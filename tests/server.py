"""A real server process on a data folder, with its HTTP side."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import httpx

from salt_anvil.core.session import Session
from salt_anvil.speed.client import PATIENCE_S, ServerProcess, Tab
from salt_anvil.store.database import Database
from salt_anvil.store.sessions import SessionStore
from tests.zygote import PATIENT, Copy

__all__ = ["Server", "Tab", "serving"]


class Server(ServerProcess):
    """`salt-anvil serve`, and the session that a test works on.

    ready, and no environment of its own: a copy of what has been loaded already.
    """

    def __init__(self, data: Path, *, ready: bool = True, **environment: str) -> None:
        self._copied = ready and not environment
        self.log = data.with_name(f"{data.name}.log")
        """What it and its processes have to say."""
        super().__init__(data, {**os.environ, **PATIENT, **environment}, ready=ready)
        # Connections are let go before the server closes them, which it does after 5 s.
        limits = httpx.Limits(keepalive_expiry=1)
        self.http = httpx.Client(base_url=self.url, timeout=PATIENCE_S, limits=limits)
        self.session = self.base = 1

    def _begun(self, words: list[str], environment: dict[str, str] | None) -> Any:
        if self._copied:
            return Copy(words, environment or {}, self.log)
        with self.log.open("a") as log:
            return super()._begun(words, environment, log)

    @property
    def path(self) -> str:
        """The session's path in the API."""
        return f"/sessions/{self.session}"

    def begin(self, model: Session) -> None:
        """Work on a new session, as if nothing had happened before."""
        made = SessionStore(Database(self.data / "salt-anvil.db")).add(model)
        self.session, self.base = made.session_id, made.id

    def api(self, method: str, path: str, body: Any = None, **more: Any) -> Any:
        answer = self.http.request(method, f"/api{path}", json=body, **more)
        answer.raise_for_status()
        return answer.json()

    def tab(self, session: int | None = None, *, wait: bool = True) -> Tab:
        """Return a tab that works on the session, or on another."""
        return Tab(self, session or self.session, wait=wait)

    def stop(self, kill: bool = False) -> None:
        self.http.close()
        said = self.log.read_text()  # before it ends: what is cut off by that is no fault
        super().stop(kill)
        # Faults that are caught, and said to nobody but the log, are faults.
        assert "Traceback" not in said, said[-6000:]


@contextmanager
def serving(data: Path, *, ready: bool = True, **environment: str) -> Iterator[Server]:
    server = Server(data, ready=ready, **environment)
    try:
        yield server
    finally:
        server.stop()
