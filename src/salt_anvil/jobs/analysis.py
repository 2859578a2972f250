"""The analysis process: one plan at a time, the newest wins."""

import os
import signal
import time
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from salt_anvil._kernel_cache import sources_digest
from salt_anvil.core.engine.plan import make_plan
from salt_anvil.core.errors import CoreError
from salt_anvil.core.session import Session, checked
from salt_anvil.files.cache import StripCache
from salt_anvil.files.errors import FileError
from salt_anvil.files.media import MediaFolder
from salt_anvil.jobs.analyse import Stopped, analyse

TELL_S = 0.25
"""How often progress is told."""


def run_analysis(pipe: Connection, data: Path, parent: int) -> None:
    """Analyse what is asked for until the parent is gone. The target of the process.

    In: (session id, model, strip to begin with). Out: (session id, strip, done, frames).
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    os.nice(19)
    source = MediaFolder(data / "media").source()
    cache = StripCache(data / "cache")
    code = sources_digest()
    wish: tuple[int, Any, str | None] | None = None
    while os.getppid() == parent:
        try:
            if wish is None:
                if not pipe.poll(0.5):
                    continue
                wish = _newest(pipe)
            session_id, model, first = wish
            wish = None

            told = 0.0

            def tell(strip: str, done: int, frames: int, of: int = session_id) -> bool:
                nonlocal told
                if done >= frames or time.monotonic() - told > TELL_S:
                    told = time.monotonic()
                    pipe.send((of, strip, done, frames))
                return not pipe.poll(0)

            try:
                session = checked(Session, model)
                plan = make_plan(session, observe_all=True)
                analyse(plan, code, source, cache, first, tell)
            except Stopped:
                wish = _newest(pipe)
            except (CoreError, FileError, OSError):
                continue  # the tab has been told by the engine, which runs the same plan
        except (EOFError, BrokenPipeError, ConnectionResetError):
            return


def _newest(pipe: Connection) -> tuple[int, Any, str | None]:
    """Return the last wish waiting; the earlier ones are stale."""
    wish = pipe.recv()
    while pipe.poll(0):
        wish = pipe.recv()
    return wish  # type: ignore[no-any-return]
