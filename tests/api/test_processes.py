"""A helper process that stands still is replaced, in the middle of a message too."""

import os
import struct
import threading
import time
from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

from salt_anvil.api.hub import Hub
from salt_anvil.api.processes import BREATH_S, STILL_S, Standstill, WorkerProcess


def half_a_message(pipe: Connection, data: Path) -> None:
    pipe.send("begun")
    os.write(pipe.fileno(), struct.pack("!i", 1000) + b"half")
    time.sleep(1000)


def test_standing_still_in_the_middle_of_a_message(tmp_path: Path) -> None:
    heard, again = threading.Semaphore(0), threading.Event()
    why: list[str] = []

    def restarted(reason: str) -> None:
        why.append(reason)
        again.set()

    helper = WorkerProcess(
        "halting",
        half_a_message,
        tmp_path,
        lambda message: heard.release(),
        restarted,
        alive_s=0.5,
    )
    try:
        heard.acquire()
        first = helper.pid
        again.wait()
        heard.acquire()
        assert helper.pid != first
        assert why[0] == "it gave no sign of life"
    finally:
        helper.close()


class Planned:
    """What is to be done later, by hand."""

    def __init__(self) -> None:
        self.seconds, self.work = 0.0, lambda: None

    def __call__(self, seconds: float, work: Callable[[], None]) -> "Planned":
        self.seconds, self.work = seconds, work
        return self

    def cancel(self) -> None:
        self.seconds, self.work = 0.0, lambda: None


def test_what_stands_still_goes_on_for_a_little_now_and_then() -> None:
    """A machine that never keeps up with play measures all the same."""
    later, said = Planned(), list[bool]()
    standstill = Standstill(said.append, later)
    loop = SimpleNamespace(call_soon_threadsafe=lambda work, *given: work(*given))
    hub = cast(Hub, SimpleNamespace(_loop=loop, _standstill=standstill))
    Hub._from_engine(hub, ("behind", True))
    assert (said, later.seconds) == ([True], STILL_S)
    for breath in (BREATH_S, 2 * BREATH_S, 4 * BREATH_S, 8 * BREATH_S, STILL_S, STILL_S):
        later.work()
        assert (said[-1], later.seconds) == (False, breath)
        later.work()
        assert (said[-1], later.seconds) == (True, STILL_S)
    Hub._from_engine(hub, ("behind", False))
    assert (said[-1], later.seconds) == (False, 0.0)
    # Play that has kept up since is helped at once again.
    Hub._from_engine(hub, ("behind", True))
    later.work()
    assert (said[-1], later.seconds) == (False, BREATH_S)


def test_the_analysis_hears_of_a_deleted_session() -> None:
    told: list[Any] = []
    hub = SimpleNamespace(
        _requested=(7, None), _analysis=SimpleNamespace(send=told.append), _tabs={}
    )
    Hub._removed(hub, 7)  # type: ignore[arg-type]
    assert told == [(7, 0, None, None, [])]
    assert hub._requested is None
