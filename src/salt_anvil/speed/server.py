"""The second half of `salt-anvil speed`: starting, control to sound, memory against length."""

import contextlib
import json
import math
import os
import statistics
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from salt_anvil.core.audio import Sound
from salt_anvil.core.session import Session, checked
from salt_anvil.files.media import MediaFolder
from salt_anvil.live.ahead import LEAST_MS
from salt_anvil.speed.client import ServerProcess, Tab, heard_in
from salt_anvil.store.database import Database
from salt_anvil.store.sessions import SessionStore

REST_S = 120.0
"""So long a measurement waits for play to be at rest."""


def data_folder(where: Path, minutes: float, strips: int = 8) -> Path:
    """A session of `strips` stereo tracks of noise with a compressor each."""
    folder = MediaFolder(where / "media")
    frames = round(minutes * 60 * 48000)
    items = []
    for index in range(strips):
        path = where / "noise.wav"
        generator = np.random.default_rng(index)
        with soundfile.SoundFile(path, "w", 48000, 2, "PCM_16") as file:
            for _ in range(frames // 48000):
                file.write(generator.standard_normal((48000, 2)) * 0.1)
        media = folder.bring_in(path, f"{index}.wav", 48000)
        items.append(
            {
                "id": f"s{index}",
                "name": f"S{index}",
                "kind": "track",
                "audio": media.id,
                "channels": 2,
                "frames": media.frames,
                "chain": [{"id": f"c{index}", "kind": "compressor"}],
            }
        )
        path.unlink()
    items.append({"id": "main", "name": "Main", "kind": "main"})
    SessionStore(Database(where / "salt-anvil.db")).add(
        checked(Session, {"name": "Bench", "strips": items})
    )
    return where


def start_time(data: Path, cache: Path) -> float:
    """Return the seconds from the command until all is ready, with kernels kept in `cache`."""
    environment = dict(os.environ, SALT_ANVIL_CACHE=str(cache))
    environment.pop("NUMBA_CACHE_DIR", None)
    begin = time.perf_counter()
    server = ServerProcess(data, environment)
    took = time.perf_counter() - begin
    server.stop()
    return took


class Ear:
    """A tab that uses sound up as fast as it sounds, as the page's worklet does."""

    def __init__(self, server: ServerProcess) -> None:
        self.tab = Tab(server, 1)
        self.tab.say(type="listen", strip="s0", at="chain", alone=True)
        self.tab.say(type="play", frame=0)
        self._begin = 0.0
        self._epoch = -1
        self.received = self.missed = 0
        self.ahead_ms = math.inf

    def play(self) -> int:
        """Use up what is due, and return how many frames have been heard; what is not there yet is
        counted as missed, and heard later."""
        if not self._begin:
            return 0
        wanted = int((time.perf_counter() - self._begin) * 48000)
        late = max(wanted - self.received, 0)
        self.missed += late
        self._begin += late / 48000
        return wanted - late

    def listen(self) -> tuple[int, Sound] | None:
        """Wait a little; return what has come, and how many frames lie before it."""
        try:
            message = self.tab.socket.recv(timeout=0.004)
        except TimeoutError:
            message = None
        if self._begin:
            self.tab.say(type="played", epoch=self._epoch, frames=self.play())
        if message is None:
            return None
        if isinstance(message, str):
            event = json.loads(message)
            if event["type"] == "ahead":
                self.ahead_ms = event["ms"]
            return None
        pieces = heard_in(message)
        self._epoch = pieces[-1].epoch
        mine = [p for p in pieces if p.epoch == self._epoch]
        sound = np.concatenate([p.sound for p in mine])
        before = self.received - mine[0].again
        self.received = max(self.received, before + len(sound))
        if self._begin:  # what comes once more may have been heard as it was
            before = max(before, min(self.play(), self.received))
        if not self._begin and self.received > min(4096, 24 * self.ahead_ms):
            self._begin = time.perf_counter()
        return before, sound


def control_to_sound(server: ServerProcess) -> float:
    """Milliseconds from a sent control change to its being heard, at rest; median of twelve.

    At rest: the time ahead has shrunk to its least.
    """
    ear = Ear(server)
    deadline = time.monotonic() + REST_S
    while ear.ahead_ms > LEAST_MS and time.monotonic() < deadline:
        ear.listen()
    found = turned(ear)
    ear.tab.close()
    return found


def turned(ear: Ear) -> float:
    """Return the milliseconds from a sent control change to its being heard; median of twelve."""
    waits = []
    for turn in range(12):
        gain = -24 if turn % 2 == 0 else 0
        edit = {"type": "set_params", "stage": "c0", "params": {"makeup_db": gain}}
        ear.tab.say(type="preview", edits=[edit])
        sent = ear.play()
        heard = None
        while heard is None:
            piece = ear.listen()
            if piece is not None:
                before, sound = piece
                entered, came_out = np.abs(sound[:, 0]).mean(), np.abs(sound[:, 2]).mean()
                # Silence tells nothing.
                told = entered > 0 and (came_out < 0.4 * entered) == (gain == -24)
                heard = before if told else None
        waits.append((heard - sent) / 48.0)
        rest = time.monotonic() + 0.4
        while time.monotonic() < rest:
            ear.listen()
    return statistics.median(waits)


def private_megabytes(pid: int) -> float:
    """Return the private (anonymous) memory of a process and all below it.

    Pages of mapped files (decoded sound, cache) are the system's to drop and to read again; what
    processes share with the one that they were forked from is counted once.
    """
    parents: dict[int, int] = {}
    for entry in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            stat = (entry / "stat").read_text()
            parents[int(entry.name)] = int(stat.rsplit(")", 1)[1].split()[1])
    total = 0
    for item in {pid, *(p for p in parents if _is_below(p, pid, parents))}:
        try:
            lines = Path(f"/proc/{item}/smaps_rollup").read_text().splitlines()
        except OSError:
            continue
        total += sum(int(x.split()[1]) for x in lines if x.startswith("Pss_Anon:"))
    return total / 1024


def _is_below(pid: int, top: int, parents: dict[int, int]) -> bool:
    while pid in parents:
        pid = parents[pid]
        if pid == top:
            return True
    return False


def memory(data: Path) -> float:
    """Most private memory while a session is analysed and played."""
    server = ServerProcess(data)
    most = 0.0
    tab = Tab(server, 1)
    tab.say(type="loop", begin=0, end=1 << 40)
    tab.say(type="play", frame=0)
    while True:
        tab.sound(48000)
        most = max(most, private_megabytes(server.process.pid))
        done = [e for e in tab.events if e["type"] == "analysed" and e["strip"] == "main"]
        if done and done[-1]["done"] == done[-1]["frames"]:
            break
    tab.close()
    server.stop()
    return most


def measure_server() -> dict[str, Any]:
    """Return seconds of starting, ms from control to sound, MB of private memory."""
    with tempfile.TemporaryDirectory() as name:
        base = Path(name)
        for part in ("one", "five", "cache"):
            (base / part).mkdir()
        one, five = data_folder(base / "one", 1), data_folder(base / "five", 5)
        cold = start_time(one, base / "cache")
        warm = statistics.median(start_time(one, base / "cache") for _ in range(5))
        server = ServerProcess(five)
        wait = control_to_sound(server)
        server.stop()
        return {
            "cold_start_s": cold,
            "warm_start_s": warm,
            "control_to_sound_ms": wait,
            "private_mb_8_strips_1_min": memory(one),
            "private_mb_8_strips_5_min": memory(five),
        }
