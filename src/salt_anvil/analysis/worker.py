"""The analysis process: one plan at a time, the newest first, the newest of each session."""

import logging
import time
from contextlib import suppress
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.strip_pass import Stopped, analyse
from salt_anvil.core.errors import SaltAnvilError
from salt_anvil.core.session import Session, checked
from salt_anvil.files.media import MediaFolder
from salt_anvil.kernels.cache import sources_digest
from salt_anvil.kernels.parent import give_way

logger = logging.getLogger(__name__)
TELL_S = 0.25
"""How often progress is told."""
JOINS_MEASURED = "joins measured"
"""Told as the strip when steady joins were measured: plans made before are out of date."""
SETTINGS_MEASURED = "settings measured"
"""Told as the strip when other settings of a strip were gone through."""
Request = tuple[int, int, Any, str | None, list[Any]]
"""A session's number, its revision and model (None: it is deleted, nothing more is wished), the
strip to begin with, and models in which that strip has another setting."""


def run_analysis(pipe: Connection, data: Path) -> None:
    """Analyse what is asked for until the server is gone. The target of the process.

    In: a Request. Out: (session id, revision, strip, done, frames).
    """
    give_way(19)
    analysis = Analysis(pipe, data)
    while True:
        try:
            analysis.turn()
        except (EOFError, BrokenPipeError, ConnectionResetError):
            return


class Analysis:
    """Carries wishes out; leaves off when a newer one comes, and takes it up again later."""

    def __init__(self, pipe: Connection, data: Path) -> None:
        self._pipe = pipe
        self._source = MediaFolder(data / "media").source()
        self._cache = StripCache(data / "cache")
        self._code = sources_digest()
        self._reported = 0.0
        self.waiting: dict[int, Request] = {}

    def turn(self) -> None:
        """Take what has come in, then carry out the newest wish."""
        while self._pipe.poll(0 if self.waiting else 0.5):
            wanted = self._pipe.recv()
            self.waiting.pop(wanted[0], None)
            if wanted[2] is not None:
                self.waiting[wanted[0]] = wanted
        if self.waiting:
            session_id, wanted = self.waiting.popitem()
            if not self._carry_out(wanted):
                self.waiting = {session_id: wanted, **self.waiting}

    def _measure_setting(self, model: Any, strip: str | None) -> None:
        """Go through the one strip that has another setting, and what it needs.

        Raises:
            Stopped: something newer is asked for.
        """

        def notify(strip: str, done: int, frames: int) -> bool:
            return not self._pipe.poll(0)

        with suppress(SaltAnvilError, OSError):  # the page is told when it asks
            session = checked(Session, model)
            analyse(session, self._code, self._source, self._cache, strip, notify, alone=True)

    def _carry_out(self, wanted: Request) -> bool:
        """Return False if it was left off for another."""
        session_id, revision, model, first, others = wanted

        def tell(strip: str, done: int = 1, frames: int = 1) -> None:
            self._pipe.send((session_id, revision, strip, done, frames))

        def notify(strip: str, done: int, frames: int) -> bool:
            if strip and (done >= frames or time.monotonic() - self._reported > TELL_S):
                self._reported = time.monotonic()
                tell(strip, done, frames)
            return not self._pipe.poll(0)

        try:
            session = checked(Session, model)
            # What is set side by side comes before all that nobody looks at.
            for other in others:
                self._measure_setting(other, first)
                tell(SETTINGS_MEASURED)
            analyse(
                session,
                self._code,
                self._source,
                self._cache,
                first,
                notify,
                measured=lambda: tell(JOINS_MEASURED),
            )
        except Stopped:
            return False
        except BrokenPipeError:
            raise
        except (SaltAnvilError, OSError):
            pass  # the engine runs the same plan and tells the tab
        except Exception:
            logger.exception("a session could not be analysed")
        return True
