"""Aims: one after the other in a process of their own; every step is told to the tabs."""

import asyncio
import contextlib
import itertools
import logging
from collections.abc import Callable, Coroutine
from concurrent.futures import BrokenExecutor, Executor, ProcessPoolExecutor
from pathlib import Path
from typing import Any, TypeVar

from salt_anvil.api.processes import CONTEXT, become
from salt_anvil.core.aim import Aim, Aimed
from salt_anvil.core.errors import MissingRowError, NotReadyError, SaltAnvilError
from salt_anvil.core.measure.separation import Separation
from salt_anvil.core.session import Session
from salt_anvil.jobs.aim import aim_with_flag
from salt_anvil.jobs.gating import run_gating
from salt_anvil.jobs.print_worker import Cancelled
from salt_anvil.jobs.scan import ScanAnswer, run_scan
from salt_anvil.live.messages import AimStep, Event

logger = logging.getLogger(__name__)
POLL_S = 0.1
T = TypeVar("T")
Spawn = Callable[[Coroutine[Any, Any, None]], None]
Notify = Callable[[int, Event], None]


class Aims:
    """What is aimed, and the process that does it."""

    def __init__(self, data: Path, notify: Notify) -> None:
        self._data, self._notify = data, notify
        self._folder = data / "aims"
        self._folder.mkdir(exist_ok=True)
        for left in self._folder.iterdir():
            left.unlink(missing_ok=True)
        self._numbers = itertools.count(1)
        self._pool: Executor | None = None

    async def start(self, spawn: Spawn) -> None:
        """Get ready; the process itself begins with the first aim."""
        self._loop, self._spawn = asyncio.get_running_loop(), spawn

    def stop(self) -> None:
        """End the process."""
        for flag in self._folder.iterdir():
            flag.unlink(missing_ok=True)
        if self._pool is not None:
            self._pool.shutdown(wait=False, cancel_futures=True)

    def ask(self, session_id: int, model: Session, aim: Aim) -> int:
        """Begin an aim and return its number."""
        number = next(self._numbers)
        self._flag(number).touch()
        dumped = model.model_dump()
        self._loop.call_soon_threadsafe(
            lambda: self._spawn(self._run(session_id, number, dumped, aim))
        )
        return number

    async def scan(
        self, session_id: int, model: Session, stage: str, begin: int, end: int
    ) -> ScanAnswer:
        """Return what rings in what comes into a stage; waits behind an aim under way.

        Raises:
            CoreError: it cannot be scanned. NotReadyError: it was stopped.
        """
        flag = self._folder / f"scan-{session_id}-{next(self._numbers)}"
        flag.touch()
        try:
            return await self._done(run_scan, model, stage, begin, end, flag)
        except Cancelled:
            raise NotReadyError("the scan was stopped; nothing was changed") from None
        finally:
            flag.unlink(missing_ok=True)

    def stop_scans(self, session_id: int) -> None:
        """Stop every scan of a session."""
        for flag in self._folder.glob(f"scan-{session_id}-*"):
            flag.unlink(missing_ok=True)

    async def gating(
        self, model: Session, stage: str, keep: list[int], refuse: list[int]
    ) -> Separation:
        """Return what tells the marked hits apart for a gate; waits behind an aim under way.

        Raises:
            CoreError: it cannot be told.
        """
        return await self._done(run_gating, model, stage, keep, refuse)

    async def _done(self, job: Callable[..., T], model: Session, *what: Any) -> T:
        dumped = model.model_dump()
        try:
            return await self._loop.run_in_executor(self._process(), job, self._data, dumped, *what)
        except BrokenExecutor:
            self._forget()
            raise NotReadyError("the process that measures ended; try again") from None

    def _process(self) -> Executor:
        if self._pool is None:
            self._pool = ProcessPoolExecutor(1, CONTEXT, initializer=become, initargs=("aims",))
        return self._pool

    def _forget(self) -> None:
        """Let go of a process that ended, and not of one that was begun meanwhile."""
        if getattr(self._pool, "_broken", False):
            self._pool = None

    def cancel(self, number: int) -> None:
        """Stop an aim.

        Raises:
            MissingRowError: there is none with this number under way.
        """
        try:
            self._flag(number).unlink()
        except FileNotFoundError:
            raise MissingRowError(f"there is no aim {number} under way") from None

    def _flag(self, number: int) -> Path:
        return self._folder / str(number)

    async def _run(self, session_id: int, number: int, model: Any, aim: Aim) -> None:
        flag = self._flag(number)
        future = self._loop.run_in_executor(
            self._process(), aim_with_flag, self._data, model, aim, flag
        )
        told = 0
        while not future.done():
            await asyncio.wait([future], timeout=POLL_S)
            with contextlib.suppress(FileNotFoundError, ValueError):
                steps = [line.split() for line in flag.read_text().splitlines()]
                for value, got in steps[told:]:
                    measured = None if got == "none" else float(got)
                    self._tell(session_id, number, float(value), measured)
                told = len(steps)
        flag.unlink(missing_ok=True)
        self._finish(session_id, number, future)

    def _tell(self, session_id: int, number: int, value: float, got: float | None) -> None:
        step = AimStep(session=session_id, number=number, value=value, got=got)
        self._notify(session_id, step)

    def _finish(self, session_id: int, number: int, future: "asyncio.Future[Aimed]") -> None:
        error = future.exception()
        last = AimStep(session=session_id, number=number, value=0, got=None, done=True)
        if error is None:
            found = future.result()
            names = ("value", "got", "problem", "makeup_db")
            change = {name: getattr(found, name) for name in names}
        elif isinstance(error, Cancelled):
            change = {"problem": "stopped"}
        elif isinstance(error, BrokenExecutor):
            self._forget()
            change = {"problem": "the process that aims ended; try again"}
        else:
            if not isinstance(error, SaltAnvilError):
                logger.error("an aim failed", exc_info=error)
            change = {"problem": str(error)}
        self._notify(session_id, last.model_copy(update=change))
