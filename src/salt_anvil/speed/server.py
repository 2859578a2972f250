"""The second half of `salt-anvil speed`: starting, control to sound, memory against length."""

import contextlib
import os
import statistics
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from salt_anvil.core.session import Session, checked
from salt_anvil.files.media import MediaFolder
from salt_anvil.speed.client import ServerProcess, Tab
from salt_anvil.store.database import Database
from salt_anvil.store.sessions import SessionStore


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


def control_to_sound(server: ServerProcess) -> float:
    """Milliseconds from a sent control change to the frame that it is first heard in."""
    tab = Tab(server, 1)
    tab.say(type="listen", strip="s0", at="chain", alone=True)
    tab.say(type="play", frame=0)
    _, first, _ = tab.sound(4096)
    begin, received = time.perf_counter(), len(first)
    waits = []
    for turn in range(12):
        while (played := (time.perf_counter() - begin) * 48000) < received - 2048:
            tab.say(type="played", epoch=tab.epoch, frames=int(played))
            time.sleep(0.003)
        gain = -24 if turn % 2 == 0 else 0
        sent = (time.perf_counter() - begin) * 48000
        edit = {"type": "set_params", "stage": "c0", "params": {"makeup_db": gain}}
        tab.say(type="preview", edits=[edit])
        heard = None
        while heard is None:
            _, sound, _ = tab.sound(1024)
            ratio = np.abs(sound[:, 2]).mean() / np.abs(sound[:, 0]).mean()
            received += len(sound)
            low = ratio < 0.4
            if low == (gain == -24):
                heard = received - len(sound)
            pace = (received - 3840) / 48000 - (time.perf_counter() - begin)
            time.sleep(max(pace, 0))
        waits.append((heard - sent) / 48.0)
        pause = time.perf_counter()
        while time.perf_counter() - pause < 0.3:
            _, sound, _ = tab.sound(1024)
            received += len(sound)
            time.sleep(max((received - 3840) / 48000 - (time.perf_counter() - begin), 0))
    tab.close()
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
        server = ServerProcess(one)
        time.sleep(3)
        wait = control_to_sound(server)
        server.stop()
        return {
            "cold_start_s": cold,
            "warm_start_s": warm,
            "control_to_sound_ms": wait,
            "private_mb_8_strips_1_min": memory(one),
            "private_mb_8_strips_5_min": memory(five),
        }
