"""The helper processes of the server: forked from a template, talked to over a pipe, replaced.

The template has imported everything and loaded the compiled kernels, so that a helper is there at
once, and shares the memory of both with the others.
"""

import contextlib
import ctypes
import gc
import logging
import multiprocessing
import os
import queue
import signal
import threading
import time
from collections import deque
from collections.abc import Callable
from multiprocessing import forkserver, resource_tracker, util
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, Protocol

from salt_anvil.kernels.parent import end_with_parent

logger = logging.getLogger(__name__)
CONTEXT = multiprocessing.get_context("forkserver")
"""Where helper processes come from."""

Target = Callable[[Connection, Path], None]
START_S = 60.0
"""So long a process may take to begin: it imports, and may have to load kernels."""
GUARD_S = 0.25
ENDS, WITHIN_S = 3, 60.0
"""A process that ends so often within so long is not started again by itself."""


# Of prctl(2).
_DIES_WITH_PARENT, _NAME = 1, 15


def begin_template(*, forked: bool = False) -> None:
    """Begin the process that helpers are forked from; it gets ready beside what the caller does.

    forked: as a copy of this process, which has one thread and has imported what helpers need:
    half the time and memory of importing it again.
    """
    CONTEXT.set_forkserver_preload(["salt_anvil.api.template"])
    if not forked:
        forkserver.ensure_running()
        return
    resource_tracker.ensure_running()
    gc.collect()
    gc.freeze()  # what is there already stays shared
    started = util.spawnv_passfds
    util.spawnv_passfds = _forked  # type: ignore[assignment]
    try:
        forkserver.ensure_running()
    finally:
        util.spawnv_passfds = started


def _forked(_: Any, words: list[Any], kept: list[int]) -> int:
    """Do in a copy of this process what a new interpreter would be told to, with these files."""
    pid = os.fork()
    if pid:
        return pid
    try:
        _set(_NAME, b"salt-template")
        for file in [int(entry.name) for entry in Path("/dev/fd").iterdir()]:
            if file > 2 and file not in kept:
                with contextlib.suppress(OSError):  # that of the listing
                    os.close(file)
        exec(words[-1], {})
    except SystemExit:
        pass
    except BaseException:
        logger.exception("the template ended")
    finally:
        os._exit(0)


def become(name: str) -> None:
    """Take a name, and end with the server, however that goes; even while standing still."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _set(_NAME, f"salt-{name}".encode())
    _set(_DIES_WITH_PARENT, signal.SIGKILL)
    end_with_parent()


def _set(what: int, value: int | bytes) -> None:
    with contextlib.suppress(AttributeError, OSError):
        ctypes.CDLL(None).prctl(what, value)


def _begin(name: str, target: Target, pipe: Connection, data: Path) -> None:
    become(name)
    target(pipe, data)


STILL_S, BREATH_S = 3.0, 0.3
"""A process that has to stand still goes on for a little after so long; each time for twice as
long, up to as long as it stands still: where play never keeps up, that does not help it."""


class Later(Protocol):
    """Something that is done later, as an event loop has it."""

    def cancel(self) -> None:
        """Do not do it."""


class Standstill:
    """Lets a process stand still while others need the processor, but not for good.

    Where they always need it, what it does would never be done otherwise. pause: lets the process
    stand still or go on. later: does something after so many seconds, in the same thread.
    """

    def __init__(
        self, pause: Callable[[bool], None], later: Callable[[float, Callable[[], None]], Later]
    ) -> None:
        self._pause, self._later = pause, later
        self._next: Later | None = None
        self._breath = BREATH_S

    def needed(self, needed: bool) -> None:
        """Stand still from now on, or go on."""
        if self._next is not None:
            self._next.cancel()
            self._next = None
        self._breath = BREATH_S
        if needed:
            self._stand()
        else:
            self._pause(False)

    def _stand(self) -> None:
        self._pause(True)
        self._next = self._later(STILL_S, self._breathe)

    def _breathe(self) -> None:
        self._pause(False)
        self._next = self._later(self._breath, self._stand)
        self._breath = min(2 * self._breath, STILL_S)


class WorkerProcess:
    """One process; what it sends goes to `take`, its end and return to `restarted`.

    Sending never blocks the caller. alive_s: it has to send something at least so often. The
    callbacks are called from a thread; what they raise is logged and ends nothing.
    """

    def __init__(
        self,
        name: str,
        target: Target,
        data: Path,
        take: Callable[[Any], None],
        restarted: Callable[[str], None],
        given_up: Callable[[str], None] = lambda why: None,
        *,
        alive_s: float | None = None,
    ) -> None:
        self._name, self._target, self._data = name, target, data
        self._take, self._restarted, self._given_up = take, restarted, given_up
        self._alive_s = alive_s
        self._out: queue.SimpleQueue[Any] = queue.SimpleQueue()
        self._closing = False
        self._paused = False
        self._wake = threading.Event()
        self._ends: deque[float] = deque(maxlen=ENDS)
        self.resting = False
        self._count = 0
        self._start()
        threading.Thread(target=self._read, name=f"{name} in", daemon=True).start()
        threading.Thread(target=self._write, name=f"{name} out", daemon=True).start()
        if alive_s is not None:
            threading.Thread(target=self._guard, name=f"{name} guard", daemon=True).start()

    @property
    def pid(self) -> int | None:
        """The process's number."""
        return self._process.pid

    def _start(self) -> None:
        self._pipe, theirs = CONTEXT.Pipe()
        arguments = (self._name, self._target, theirs, self._data)
        self._process = CONTEXT.Process(target=_begin, args=arguments, daemon=True)
        self._process.start()
        theirs.close()
        self._heard = False
        self._why = "it ended"

    def send(self, message: Any) -> None:
        """Queue a message for the process."""
        self._out.put(message)

    def pause(self, paused: bool) -> None:
        """Let the process stand still, or go on."""
        if paused != self._paused and not self._closing:
            self._paused = paused
            self._signal(signal.SIGSTOP if paused else signal.SIGCONT)

    def _signal(self, number: int) -> None:
        with contextlib.suppress(ProcessLookupError, TypeError):
            os.kill(self._process.pid or 0, number) if self._process.pid else None

    def wake(self) -> None:
        """Start a process again that had been given up."""
        self._wake.set()

    def close(self) -> None:
        """End the process."""
        self._closing = True
        self._wake.set()
        self._signal(signal.SIGCONT)
        self._process.terminate()
        self._process.join(5)
        if self._process.is_alive():
            self._process.kill()
        self._out.put(None)

    def _read(self) -> None:
        while not self._closing:
            try:
                self._read_one()
            except (EOFError, OSError):
                if self._closing:
                    return
                self._replace()
            except Exception:
                logger.exception("a message of the %s process could not be taken", self._name)

    def _read_one(self) -> None:
        message = self._pipe.recv()
        self._heard = True
        self._count += 1
        if message == ("alive",):
            return
        if isinstance(message, tuple) and message[0] == "dying":
            self._why = message[1]
            return
        self._take(message)

    def _guard(self) -> None:
        """End a process that says nothing, which may be in the middle of a message.

        Its own turns are counted, not the clock: everything may have stood still.
        """
        seen, quiet = 0, 0.0
        while not self._closing:
            time.sleep(GUARD_S)
            quiet = quiet + GUARD_S if self._count == seen and not self.resting else 0.0
            seen = self._count
            if quiet > ((self._alive_s or START_S) if self._heard else START_S):
                quiet = 0.0
                self._why = "it gave no sign of life"
                self._process.kill()

    def _replace(self) -> None:
        self._process.join(1)
        self._wake.wait(0.2)  # A server that is ended takes its helpers with it.
        if self._closing:
            return
        now, why = time.monotonic(), self._why
        self._ends.append(now)
        tired = len(self._ends) == ENDS and now - self._ends[0] < WITHIN_S
        logger.warning(
            "the %s process: %s; %s",
            self._name,
            why,
            "not started again" if tired else "started again",
        )
        if tired:
            self._rest(why)
            if self._closing:
                return
        elif len(self._ends) > 1:
            time.sleep(0.5)
        self._start()
        self._paused = False
        try:
            self._restarted(why)
        except Exception:
            logger.exception("the %s process was not told how things stand", self._name)

    def _rest(self, why: str) -> None:
        self._wake.clear()
        self.resting = True
        try:
            self._given_up(why)
        except Exception:
            logger.exception("nobody was told that the %s process rests", self._name)
        self._wake.wait()
        self.resting = False
        self._ends.clear()

    def _write(self) -> None:
        while (message := self._out.get()) is not None:
            try:
                self._pipe.send(message)
            except OSError:
                continue  # the process is gone; `restarted` says everything anew
