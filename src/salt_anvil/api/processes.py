"""The helper processes of the server: each is spawned, talked to over a pipe, and replaced."""

import logging
import multiprocessing
import os
import queue
import threading
from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

logger = logging.getLogger(__name__)
_SPAWN = multiprocessing.get_context("spawn")

Target = Callable[[Connection, Path, int], None]


class Helper:
    """One process; what it sends goes to `take`, its end and return to `restarted`.

    Sending never blocks the caller. `take` and `restarted` are called from a thread.
    """

    def __init__(
        self, name: str, target: Target, data: Path, take: Callable[[Any], None],
        restarted: Callable[[], None] = lambda: None,
    ) -> None:  # fmt: skip
        self._name, self._target, self._data = name, target, data
        self._take, self._restarted = take, restarted
        self._out: queue.SimpleQueue[Any] = queue.SimpleQueue()
        self._closing = False
        self._start()
        threading.Thread(target=self._read, name=f"{name} in", daemon=True).start()
        threading.Thread(target=self._write, name=f"{name} out", daemon=True).start()

    @property
    def pid(self) -> int | None:
        """The process's number."""
        return self._process.pid

    def _start(self) -> None:
        self._pipe, theirs = _SPAWN.Pipe()
        self._process = _SPAWN.Process(
            target=self._target, args=(theirs, self._data, os.getpid()), name=self._name,
            daemon=True,
        )  # fmt: skip
        self._process.start()
        theirs.close()

    def send(self, message: Any) -> None:
        """Queue a message for the process."""
        self._out.put(message)

    def close(self) -> None:
        """End the process."""
        self._closing = True
        self._process.terminate()
        self._process.join(5)
        self._out.put(None)

    def _read(self) -> None:
        while not self._closing:
            try:
                self._take(self._pipe.recv())
            except (EOFError, OSError):
                if self._closing:
                    return
                logger.warning("the %s process ended and is started again", self._name)
                self._process.join(1)
                self._start()
                self._restarted()

    def _write(self) -> None:
        while (message := self._out.get()) is not None:
            try:
                self._pipe.send(message)
            except (BrokenPipeError, OSError):
                continue  # the process is gone; `restarted` says everything anew
