"""Servers begun as copies of one process that has imported all and loaded the kernels: most of what
a start costs. What a start itself is like is tested with `python -m salt_anvil`."""

import importlib.util
import json
import os
import select
import signal
import socket
import subprocess
import sys
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import IO

_LONGEST = 1 << 20
# Seeks take the time they need, so that what is heard is exact from the first frame. Who gives way
# to all others stands still while other tests run: it does so a little.
PATIENT = {"SALT_ANVIL_START_S": "60", "SALT_ANVIL_NICE": "4"}


class Copy:
    """A command in a copy of the process, with what is needed here of `subprocess.Popen`."""

    def __init__(self, words: list[str], environment: dict[str, str], log: Path) -> None:
        """log: what is written to standard error is appended to it."""
        reading, writing = os.pipe()
        told = json.dumps([words, environment, str(log)]).encode()
        zygote, _ = _zygote()
        socket.send_fds(zygote, [told], [writing])
        os.close(writing)
        self.stdout: IO[str] = os.fdopen(reading, encoding="utf-8")
        self.pid = int(zygote.recv(_LONGEST))
        try:
            self._ended: int | None = os.pidfd_open(self.pid)
        except ProcessLookupError:
            self._ended = None

    def _signal(self, number: int) -> None:
        if self._ended is not None:
            with suppress(ProcessLookupError):
                signal.pidfd_send_signal(self._ended, number)

    def kill(self) -> None:
        self._signal(signal.SIGKILL)

    def terminate(self) -> None:
        self._signal(signal.SIGTERM)

    def wait(self, timeout: float) -> None:
        if self._ended is None:
            return
        if not select.select([self._ended], [], [], timeout)[0]:
            raise TimeoutError(f"process {self.pid} did not end")
        os.close(self._ended)
        self._ended = None


@cache
def _zygote() -> tuple[socket.socket, subprocess.Popen[bytes]]:
    """Return the way to the process that is copied, and that process, which ends with this one."""
    here, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    process = subprocess.Popen(
        [sys.executable, "-m", "tests.zygote", str(there.fileno())],
        pass_fds=[there.fileno()],
        cwd=Path(__file__).parents[1],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env=os.environ | PATIENT,
        start_new_session=True,
    )
    there.close()
    return here, process


def _serve_copies(asked: socket.socket) -> None:
    import salt_anvil.api.template  # noqa: F401 - to have it in memory
    from salt_anvil.api import serve  # noqa: F401

    # Nobody waits for the copies here.
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    while True:
        told, files, _, _ = socket.recv_fds(asked, _LONGEST, 1)
        if not told:  # the tests are over, or were killed: what they left running ends too
            os.killpg(0, signal.SIGTERM)
            return
        pid = os.fork()
        if not pid:
            asked.close()
            _become(*json.loads(told), files[0])
        os.close(files[0])
        asked.send(str(pid).encode())


def _become(words: list[str], environment: dict[str, str], log: str, out: int) -> None:
    """Be what the words would have begun."""
    from salt_anvil.cli import main

    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    os.dup2(out, 1)
    os.close(out)
    written = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_APPEND)
    os.dup2(written, 2)
    os.close(written)
    os.environ.clear()
    os.environ.update(environment)
    # Processes that are begun anew from here look for it.
    sys.modules["__main__"].__spec__ = importlib.util.find_spec("salt_anvil.__main__")
    code = 1
    try:
        code = main(words)
    finally:
        sys.stdout.flush()
        os._exit(code)


if __name__ == "__main__":
    _serve_copies(socket.socket(fileno=int(sys.argv[1])))
