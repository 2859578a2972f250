"""What a first start has to make: the compiled kernels and the demo, beside each other.

Each is made in a process of its own, which gives back what the making takes.
"""

import multiprocessing
import threading
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess
from pathlib import Path

from salt_anvil.api.processes import become
from salt_anvil.core.errors import SaltAnvilError, StoreError
from salt_anvil.demo.install import install_demo
from salt_anvil.kernels import cache as kernel_cache
from salt_anvil.kernels.compile import compile_and_note

_CONTEXT = multiprocessing.get_context("spawn")
Progress = Callable[[float], None]
Make = Callable[[Path, Progress], object]


@dataclass
class Part:
    """One thing that is made. share: 0 to 1; problem: why it could not be made."""

    name: str
    make: Make
    share: float = 0.0
    problem: str | None = None


def _kernels(data: Path, progress: Progress) -> None:
    compile_and_note(progress)


def _make(pipe: Connection, make: Make, data: Path) -> None:
    become("making")
    try:
        make(data, pipe.send)
        pipe.send(1.0)
    except SaltAnvilError as error:
        pipe.send(str(error))


class Preparation:
    """What is missing in a data folder and on this machine, and how far its making is."""

    def __init__(self, data: Path, *, demo: bool) -> None:
        """demo: the demo session is wanted, and not there."""
        self._data = data
        self._running: list[BaseProcess] = []
        self.parts: list[Part] = []
        if not kernel_cache.is_compiled():
            self.parts.append(Part("The sound engine is compiled for this machine", _kernels))
        if demo:
            self.parts.append(Part("The demo band is recorded", install_demo))

    def run(self) -> None:
        """Make everything; return when it is there, or has failed."""
        threads = [threading.Thread(target=self._run, args=(part,)) for part in self.parts]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()

    def stop(self) -> None:
        """Leave off what is being made; the next start makes it."""
        for process in self._running:
            process.kill()

    def _run(self, part: Part) -> None:
        ours, theirs = _CONTEXT.Pipe(duplex=False)
        arguments = (theirs, part.make, self._data)
        process = _CONTEXT.Process(target=_make, args=arguments)
        process.start()
        self._running.append(process)
        theirs.close()
        try:
            while part.share < 1:
                reported = ours.recv()
                if isinstance(reported, str):
                    part.problem = reported
                    break
                part.share = reported
        except EOFError:
            part.problem = f"{part.name.lower()}: it ended before it was done"
        process.join()


def make_demo(data: Path) -> None:
    """Make the demo session in a process of its own.

    Raises:
        StoreError: it could not be made.
    """
    preparation = Preparation(data, demo=True)
    preparation.parts = preparation.parts[-1:]
    preparation.run()
    problem = preparation.parts[0].problem
    if problem is not None:
        raise StoreError(problem)
