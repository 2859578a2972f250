"""Prints: asked for, run one after the other in a process of their own, told to the tabs."""

import asyncio
import contextlib
import json
import logging
import time
from collections.abc import Callable, Coroutine
from concurrent.futures import BrokenExecutor, Executor, ProcessPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

from starlette.concurrency import run_in_threadpool

from salt_anvil.api.processes import CONTEXT, become
from salt_anvil.core.differences import session_differences
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine_version import BEFORE, changes_since
from salt_anvil.core.errors import MissingRowError, StoreError
from salt_anvil.core.session import Session
from salt_anvil.files.part import part_of
from salt_anvil.jobs.print_worker import (
    Cancelled,
    PrintOptions,
    print_name,
    report_of,
    run_print,
    variant,
)
from salt_anvil.live.messages import (
    Event,
    Printed,
)
from salt_anvil.store.prints import PrintStore

logger = logging.getLogger(__name__)
TRIES = 4
Spawn = Callable[[Coroutine[Any, Any, None]], None]
"""Does something beside the loop's turns; on the loop."""
Notify = Callable[[int, Event], None]
"""Tells the tabs on a session."""


class Prints:
    """What is printed, and the process that does it."""

    def __init__(self, data: Path, store: PrintStore, notify: Notify) -> None:
        self.data, self.store, self._notify = data, store, notify
        self.folder = data / "prints"
        self.folder.mkdir(exist_ok=True)

    async def start(self, spawn: Spawn) -> None:
        """Start the process, and the prints that a dead server left."""
        self._loop = asyncio.get_running_loop()
        self._spawn = spawn
        self._pool: Executor = _new_pool()
        self._queue: list[int] = []
        self._working = False
        self._began: dict[int, float] = {}
        for number in await run_in_threadpool(self.store.take_over):
            self._start(number)

    def stop(self) -> None:
        """End the process."""
        self._pool.shutdown(wait=False, cancel_futures=True)

    def ask(self, session_id: int, model: Session, options: PrintOptions) -> int:
        """Store a request to print and start it; return its number.

        Raises:
            CoreError: the session cannot be run.
        """
        print_name(model, options)  # that there is such a strip
        make_plan(variant(model, options))
        number = self.store.add(session_id, model, options.model_dump())
        self._loop.call_soon_threadsafe(self._start, number)
        return number

    def _start(self, number: int) -> None:
        """Put a stored print behind the others; on the loop."""
        self._queue.append(number)
        if not self._working:
            self._working = True
            self._spawn(self._work())

    async def _work(self) -> None:
        try:
            while self._queue:
                number = self._queue.pop(0)
                try:
                    await self._print(number)
                except Exception as error:
                    # The others go on, whatever this one was.
                    logger.exception("a print failed")
                    await run_in_threadpool(self._keep, number, "failed", 0.0, None, str(error))
        finally:
            self._working = False

    def move(self, number: int, by: int) -> None:
        """Let a print that waits be done sooner (by -1) or later (by 1).

        Raises:
            MissingRowError: it does not wait.
        """
        row = self.store.get(number)
        if number not in self._queue:
            raise MissingRowError(f"print {number} does not wait any more")
        self._loop.call_soon_threadsafe(self._move, number, by, row.session_id)

    def _move(self, number: int, by: int, session_id: int) -> None:
        if number in self._queue:
            at = self._queue.index(number)
            self._queue.insert(max(at + by, 0), self._queue.pop(at))
            told = Printed(session=session_id, print=number, state="waiting", progress=0)
            self._notify(session_id, told)

    def place(self, number: int) -> int | None:
        """Return how many are before a print that waits."""
        with contextlib.suppress(ValueError):
            return self._queue.index(number)
        return None

    def left_s(self, number: int, progress: float) -> float | None:
        """Return how long a running print will still take, as it has gone so far."""
        began = self._began.get(number)
        if began is None or progress <= 0.01:
            return None
        return (time.monotonic() - began) * (1 - progress) / progress

    def report(self, file: str | None) -> dict[str, Any] | None:
        """Return what a finished file measures and how it was made."""
        if file is None:
            return None
        try:
            found: dict[str, Any] = json.loads(report_of(self.folder / file).read_text())
        except (OSError, ValueError):
            return None
        return found

    def differences(self, number: int) -> list[str]:
        """Return in words what is other than in the print before, of the same session."""
        row = self.store.get(number)
        before = [p for p in self.store.every(row.session_id) if p.id < number]
        done = next((p for p in before if p.state == "done"), None)
        if done is None:
            return ["There is no print before this one."]
        words = session_differences(self.store.model(number), self.store.model(done.id))
        found = [w for w in words if w]
        old, new = self.report(done.file), self.report(row.file)
        if old and new and None not in (old["integrated_lufs"], new["integrated_lufs"]):
            louder = new["integrated_lufs"] - old["integrated_lufs"]
            older, newer = (int(report.get("engine", BEFORE)) for report in (old, new))
            found += changes_since(older, newer, self.store.model(number))
            if abs(louder) >= 0.05:
                found.append(f"{abs(louder):.1f} LU {'louder' if louder > 0 else 'quieter'}")
        return found or ["Nothing differs in the session."]

    def cancel(self, number: int) -> None:
        """Stop a print; its unfinished file is removed by the worker."""
        self.store.cancel(number)
        self._loop.call_soon_threadsafe(self._drop, number)
        self._flag(number).unlink(missing_ok=True)
        self._report(number)

    def _drop(self, number: int) -> None:
        if number in self._queue:
            self._queue.remove(number)

    def _flag(self, number: int) -> Path:
        return self.folder / f"{number}.progress"

    def _report(self, number: int) -> None:
        row = self.store.get(number)
        self._notify(
            row.session_id,
            Printed(session=row.session_id, print=number, state=row.state, progress=row.progress),
        )

    def _keep(self, number: int, *values: Any) -> None:
        self.store.update(number, *values)
        with contextlib.suppress(StoreError):
            self._report(number)

    async def _print(self, number: int) -> None:
        """Print; a worker that dies is replaced, and the print begins again."""
        for _ in range(TRIES):
            try:
                await self._once(number)
                return
            except BrokenExecutor:
                self._pool_again()
        words = "the print process ended each time it was tried; nothing else is lost"
        await run_in_threadpool(self._keep, number, "failed", 0.0, None, words)

    def _pool_again(self) -> None:
        """Replace a pool whose worker is gone: once for all prints that waited for it."""
        if getattr(self._pool, "_broken", False):
            logger.warning("the print process ended and is started again")
            self._pool.shutdown(wait=False)
            self._pool = _new_pool()

    async def _once(self, number: int) -> None:
        try:
            row = await run_in_threadpool(self.store.get, number)
            model = await run_in_threadpool(self.store.model, number)
        except StoreError:
            return  # its session was deleted
        if row.state == "cancelled":
            return
        self._began[number] = time.monotonic()
        await run_in_threadpool(self._keep, number, "running", 0.0)
        options = PrintOptions.model_validate(row.options)
        target = self.folder / print_name(model, options, number)
        flag = self._flag(number)
        flag.write_text("0")
        future = self._loop.run_in_executor(
            self._pool,
            partial(run_print, made_at=row.created_at),
            self.data,
            model.model_dump(),
            options,
            target,
            flag,
        )
        reported = 0.0
        while not future.done():
            await asyncio.wait([future], timeout=0.2)
            with contextlib.suppress(FileNotFoundError, ValueError):
                share = float(flag.read_text() or 0)
                if not future.done() and share > reported:
                    reported = share
                    await run_in_threadpool(self._keep, number, "running", share)
        flag.unlink(missing_ok=True)
        self._began.pop(number, None)
        error = future.exception()
        if isinstance(error, BrokenExecutor):
            part_of(target).unlink(missing_ok=True)
            await run_in_threadpool(self._keep, number, "waiting", 0.0)
            raise error
        await run_in_threadpool(self._finish, number, future, target)

    def _finish(self, number: int, future: "asyncio.Future[int]", target: Path) -> None:
        error = future.exception()
        if error is None:
            clipped = future.result()
            words = f"{clipped} samples were over full scale and cut" if clipped else None
            self._keep(number, "done", 1.0, target.name, words)
        elif isinstance(error, Cancelled):
            self.store.cancel(number)
            with contextlib.suppress(StoreError):
                self._report(number)
        else:
            self._keep(number, "failed", 0.0, None, str(error))


def _new_pool() -> Executor:
    return ProcessPoolExecutor(1, CONTEXT, initializer=become, initargs=("prints",))
