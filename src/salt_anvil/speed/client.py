"""A server process and a tab that plays, for measurements and tests."""

import json
import re
import subprocess
import sys
import time
import urllib.request
from collections import deque
from contextlib import ExitStack
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from websockets.sync.client import ClientConnection, connect

from salt_anvil.core.audio import Sound
from salt_anvil.live.messages import HEADER

PATIENCE_S = 300.0
"""How long anything is waited for: a busy machine is slow, and only what is stuck fails."""


class Heard(NamedTuple):
    """A piece of what a tab is sent: sound (frames, 4) from a frame of the song on, and the report
    as JSON. again: it begins so many frames before the end of what was sent, in its place."""

    epoch: int
    again: int
    frame: int
    rate: int
    sound: Sound
    report: bytes


def heard_in(message: bytes) -> list[Heard]:
    """Return the pieces of a message, as messages.HEADER says."""
    found, at = [], 0
    while at < len(message):
        epoch, again, frame, count, told, rate, _ = HEADER.unpack_from(message, at)
        begin = at + HEADER.size
        end = begin + 16 * count
        sound = np.frombuffer(message[begin:end], "<f4").reshape(-1, 4)
        at = end + told
        found.append(Heard(epoch, again, int(frame), rate, sound, message[end:at]))
    return found


class Unheard(deque[Heard]):
    """Pieces that are still to be heard."""

    def put(self, pieces: list[Heard]) -> None:
        """Append what came, or put it in the place of what it was, as far as that is here."""
        for piece in pieces:
            after = self._taken(piece.epoch, piece.again)
            late = piece.again - sum(len(h.sound) for h in after)
            if late < len(piece.sound):
                rest = piece.sound[late:]
                self.append(piece._replace(again=0, frame=piece.frame + late, sound=rest))
            over = len(piece.sound) - late
            for held in after:
                passed = min(max(over, 0), len(held.sound))
                over -= passed
                if passed < len(held.sound):
                    kept = held.sound[passed:]
                    self.append(held._replace(frame=held.frame + passed, sound=kept))

    def _taken(self, epoch: int, frames: int) -> list[Heard]:
        """Take so many of the last frames out, as far as they are here."""
        taken: list[Heard] = []
        while frames and self and self[-1].epoch == epoch:
            last = self.pop()
            kept = max(len(last.sound) - frames, 0)
            frames -= len(last.sound) - kept
            taken.insert(0, last._replace(frame=last.frame + kept, sound=last.sound[kept:]))
            if kept:
                self.append(last._replace(sound=last.sound[:kept]))
        return taken


class ServerProcess:
    """`salt-anvil serve` on a free port, as users start it."""

    def __init__(
        self, data: Path, environment: dict[str, str] | None = None, *, ready: bool = True
    ) -> None:
        """ready: wait until it answers everything, not only says how far it is."""
        self.data = data
        words = ["serve", "--data", str(data), "--port", "0"]
        self.process = self._begun(words, environment)
        line = self.process.stdout.readline()
        found = re.search(r"http://[\d.]+:(\d+)", line)
        if found is None:
            raise RuntimeError(f"the server did not start: {line!r}")
        self.url, self.port = found.group(0), int(found.group(1))
        deadline = time.monotonic() + PATIENCE_S
        while ready and not self._is_ready():
            if time.monotonic() > deadline:
                raise TimeoutError("the server did not get ready")
            time.sleep(0.05)

    def _begun(
        self, words: list[str], environment: dict[str, str] | None, log: Any = subprocess.DEVNULL
    ) -> Any:
        """Begin a command of the program; log: a file for what it says beside."""
        return subprocess.Popen(
            [sys.executable, "-m", "salt_anvil", *words],
            stdout=subprocess.PIPE,
            stderr=log,
            text=True,
            env=environment,
        )

    def _is_ready(self) -> bool:
        with urllib.request.urlopen(f"{self.url}/api/readiness") as answer:
            return bool(json.load(answer)["ready"])

    def stop(self, kill: bool = False) -> None:
        """End the process."""
        self.process.kill() if kill else self.process.terminate()
        self.process.wait(PATIENCE_S)
        self.process.stdout.close()


class Tab:
    """A WebSocket that plays as fast as the sound comes."""

    def __init__(self, server: ServerProcess, session: int, *, wait: bool = True) -> None:
        self._open = ExitStack()
        address = f"ws://127.0.0.1:{server.port}/api/live"
        origin: Any = server.url
        self.socket: ClientConnection = self._open.enter_context(
            # What waits unread while something else is measured is no broken line.
            connect(address, origin=origin, max_size=None, close_timeout=1, ping_interval=None)
        )
        self.epoch, self.taken = -1, 0
        self.events: list[dict[str, Any]] = []
        self._unheard = Unheard()
        self.say(type="open", session=session)
        if wait:
            self.wait("transport")

    def say(self, **message: Any) -> None:
        """Send a command."""
        self.socket.send(json.dumps(message))

    def wait(self, *kinds: str, seconds: float = PATIENCE_S) -> dict[str, Any]:
        """Return the next event of one of these kinds; sound that comes is kept for `sound`."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            message = self.socket.recv(timeout=max(end - time.monotonic(), 0.01))
            if isinstance(message, bytes):
                self._unheard.put(heard_in(message))
                continue
            event: dict[str, Any] = json.loads(message)
            self.events.append(event)
            if event["type"] in kinds:
                return event
        raise TimeoutError(" or ".join(kinds))

    def play(self, frame: int) -> None:
        """Play from a frame; what was still on its way of before is left unheard."""
        self.say(type="play", frame=frame)
        told = self.wait("transport")
        while not told["playing"] or told["epoch"] == self.epoch:
            told = self.wait("transport")
        while self._unheard and self._unheard[0].epoch != told["epoch"]:
            self._unheard.popleft()

    def sound(
        self, frames: int, seconds: float = PATIENCE_S, *, paced: bool = False
    ) -> tuple[list[int], Sound, list[dict[str, Any]]]:
        """Return the first frame of each piece, the sound (frames, 4), and the reports.

        paced: use it up no faster than it sounds, as a page does.
        """
        places: list[int] = []
        parts: list[Sound] = []
        reports: list[dict[str, Any]] = []
        got = 0
        end = time.monotonic() + seconds
        while got < frames:
            if not self._unheard:
                message = self.socket.recv(timeout=max(end - time.monotonic(), 0.01))
                if isinstance(message, str):
                    self.events.append(json.loads(message))
                else:
                    self._unheard.put(heard_in(message))
                continue
            heard = self._unheard.popleft()
            count = len(heard.sound)
            if heard.epoch != self.epoch:
                self.epoch, self.taken = heard.epoch, 0
                places, parts, reports, got = [], [], [], 0
            self.taken += count
            if paced:
                time.sleep(count / heard.rate)
            self.say(type="played", epoch=heard.epoch, frames=self.taken)
            parts.append(heard.sound)
            reports.append(json.loads(heard.report))
            places.append(heard.frame)
            got += count
        return places, np.concatenate(parts), reports

    def forget_sound(self) -> None:
        """Leave what has come so far unheard; a new engine counts from the beginning."""
        self._unheard.clear()
        self.epoch = -1

    def close(self) -> None:
        """Close the tab."""
        self._open.close()
