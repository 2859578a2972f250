"""The third part of `salt-anvil speed`: what a large session costs against a small one."""

import contextlib
import json
import os
import statistics
import tempfile
import time
import urllib.request
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from salt_anvil.core.session import Session, checked
from salt_anvil.files.media import MediaFolder
from salt_anvil.speed.client import ServerProcess, Tab
from salt_anvil.speed.server import Ear, control_to_sound, private_megabytes, turned
from salt_anvil.store.database import Database
from salt_anvil.store.sessions import SessionStore

SECONDS, RATE, ROUNDS, PLAYED_S = 40, 48000, 5, 8
SMALL, LARGE, BUSY = 8, 48, 64
BUSY_S = 4.0
TICKS = os.sysconf("SC_CLK_TCK")


def _chain(index: int, busy: bool) -> list[dict[str, Any]]:
    """Return a compressor, or a busy track's four stages."""
    compressor = {"id": f"c{index}", "kind": "compressor", "params": {"threshold_db": -12}}
    if not busy:
        return [compressor]
    cut = {"type": "low-cut", "hz": 60}
    bell = {"type": "bell", "hz": 400, "gain_db": -3}
    return [
        {"id": f"g{index}", "kind": "gate", "params": {"threshold_db": -50}},
        {"id": f"t{index}", "kind": "tone", "params": {"bands": [cut, bell]}},
        compressor,
        {"id": f"e{index}", "kind": "deesser"},
    ]


def folder_of(where: Path, strips: int, *, busy: bool = False) -> Path:
    """A session of mono tracks of noise, eight to a bus, with a compressor each.

    busy: with four stages each.
    """
    media = MediaFolder(where / "media")
    items: list[dict[str, Any]] = []
    for index in range(strips):
        path = where / "noise.wav"
        sound = np.random.default_rng(index).standard_normal((SECONDS * RATE, 1)) * 0.05
        soundfile.write(path, sound, RATE, subtype="PCM_16")
        kept = media.bring_in(path, f"{index}.wav", RATE)
        items.append(
            {
                "id": f"s{index}",
                "name": f"S{index}",
                "kind": "track",
                "audio": kept.id,
                "channels": 1,
                "frames": kept.frames,
                "output": f"b{index // 8}",
                "chain": _chain(index, busy),
            }
        )
    for index in range(strips // 8):
        items.append(
            {
                "id": f"b{index}",
                "name": f"B{index}",
                "kind": "bus",
                "chain": [{"id": f"bc{index}", "kind": "compressor"}],
            }
        )
    items.append({"id": "main", "name": "Main", "kind": "main"})
    SessionStore(Database(where / "salt-anvil.db")).add(
        checked(Session, {"name": "Size", "strips": items})
    )
    return where


def _ask(server: ServerProcess, path: str, body: object = None) -> Any:
    data = None if body is None else json.dumps(body).encode()
    headers = {"Content-Type": "application/json", "Origin": server.url}
    wanted = urllib.request.Request(f"{server.url}/api{path}", data, headers)
    with urllib.request.urlopen(wanted) as answer:
        return json.loads(answer.read())


def _until_known(server: ServerProcess, tab: Tab, strip: str) -> None:
    while _ask(server, f"/sessions/1/strips/{strip}/ledger")["done"] < 1:
        # What the tab is told has to be taken, or the line is given up.
        with contextlib.suppress(TimeoutError):
            tab.socket.recv(timeout=0.02)


def _processor_seconds(server: ServerProcess) -> float:
    """Return the processor time so far of the server and all that it has started."""
    total = 0
    for entry in Path("/proc").iterdir():
        if not entry.name.isdigit():
            continue
        try:
            fields = (entry / "stat").read_text().rsplit(")", 1)[1].split()
        except OSError:
            continue
        if server.process.pid in (int(entry.name), int(fields[1])):
            total += int(fields[11]) + int(fields[12])
    return total / TICKS


def _played(tab: Tab, seconds: float) -> None:
    """Take sound at the pace at which it would be heard."""
    begin, got = time.perf_counter(), 0
    while time.perf_counter() - begin < seconds:
        _, sound, _ = tab.sound(1024)
        got += len(sound)
        time.sleep(max(got / RATE - (time.perf_counter() - begin), 0))


def cost(data: Path) -> dict[str, float]:
    """Return load in play, seconds from an edit to sound and ledgers, memory."""
    server = ServerProcess(data)
    tab = Tab(server, 1)
    tab.say(type="listen", strip="s0", at="c0", alone=False)
    _until_known(server, tab, "main")
    tab.say(type="play", frame=0)
    _played(tab, 3)
    before = _processor_seconds(server)
    _played(tab, PLAYED_S)
    load = (_processor_seconds(server) - before) / PLAYED_S
    tab.say(type="stop")
    stored, ledgers, mains = [], [], []
    revision = _ask(server, "/sessions/1")["revision"]
    for turn in range(ROUNDS):
        edit = {"type": "set_params", "stage": "c0", "params": {"ratio": 5 + turn}}
        begin = time.perf_counter()
        state = _ask(server, "/sessions/1/edits", {"base": revision, "edits": [edit]})
        revision = state["revision"]
        stored.append(time.perf_counter() - begin)
        _until_known(server, tab, "s0")
        ledgers.append(time.perf_counter() - begin)
        _until_known(server, tab, "main")
        mains.append(time.perf_counter() - begin)
    memory = private_megabytes(server.process.pid)
    sound = control_to_sound(server)
    tab.close()
    server.stop()
    return {
        "load_percent": 100 * load,
        "edit_stored_ms": 1000 * statistics.median(stored),
        "edit_to_sound_ms": sound,
        "edit_to_ledger_s": statistics.median(ledgers),
        "edit_to_main_ledger_s": statistics.median(mains),
        "private_mb": memory,
    }


def busy_play(data: Path) -> dict[str, float]:
    """Return what is missed, in ms, while a strip is edited in a session of which nothing is
    computed yet; and the time from a control to the ear."""
    server = ServerProcess(data)
    ear = Ear(server)
    until = time.monotonic() + BUSY_S
    while time.monotonic() < until:
        ear.listen()
    settling = ear.missed
    heard = turned(ear)
    found = {
        "missed_at_first_ms": settling / RATE * 1000,
        "missed_ms": (ear.missed - settling) / RATE * 1000,
        "control_to_sound_ms": heard,
        "ahead_ms": ear.ahead_ms,
    }
    ear.tab.close()
    server.stop()
    return found


def measure_size() -> dict[str, dict[str, float]]:
    """Return the cost of a small and of a large session, and their ratios; and how one plays that
    is busy everywhere."""
    with tempfile.TemporaryDirectory() as name:
        found = {"busy": busy_play(folder_of(Path(name), BUSY, busy=True))}
    with tempfile.TemporaryDirectory() as name:
        for strips in (SMALL, LARGE):
            place = Path(name) / str(strips)
            place.mkdir()
            found[str(strips)] = cost(folder_of(place, strips))
    small, large = found[str(SMALL)], found[str(LARGE)]
    found["ratio"] = {key: large[key] / small[key] for key in small}
    return found
