"""Shared means of the tests: seeded sound, sines, steps."""

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path

# As `salt-anvil` has it (cli.main), and before numpy is there.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
import pytest
import soundfile
from numpy.typing import NDArray
from xdist.scheduler import LoadScopeScheduling
from xdist.workermanage import WorkerController

FIRST, LAST = ("browser",), ("processors", "live", "jobs", "demo", "api")
"""The first worker begins with the browser, the others from the end, where what takes longest
stands; in between is what is short, so that they end together."""
RATES = (44100, 48000, 96000, 192000)


class ByFile(LoadScopeScheduling):
    """Keeps a file's tests together; the first worker takes files from the front, the others
    from the end: one browser at a time, as long as there is something else to do. The browser's
    tests share a page, not what is in it: in the end nobody waits for a file of them."""

    def _split_scope(self, nodeid: str) -> str:
        return nodeid if nodeid.startswith("tests/browser/") else nodeid.partition("::")[0]

    def _assign_work_unit(self, node: WorkerController) -> None:
        if node is not self.nodes[0]:
            self.workqueue.move_to_end(next(reversed(self.workqueue)), last=False)
        super()._assign_work_unit(node)


def pytest_xdist_make_scheduler(config: pytest.Config, log: object) -> ByFile:
    return ByFile(config, log)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    order = {name: place + 1 for place, name in enumerate(LAST)} | dict.fromkeys(FIRST, -1)
    items.sort(key=lambda item: order.get(item.path.parent.name, 0))


def noise(frames: int, channels: int = 2, *, level: float = 0.2, seed: int = 1) -> NDArray:
    return np.random.default_rng(seed).standard_normal((frames, channels)) * level


def sine(
    hz: float, seconds: float, rate: int = 48000, *, level_db: float = 0.0, channels: int = 2
) -> NDArray:
    at = np.arange(round(seconds * rate)) / rate
    wave = 10 ** (level_db / 20) * np.sin(2 * np.pi * hz * at)
    return np.repeat(wave[:, None], channels, axis=1)


def constant(level_db: float, frames: int, channels: int = 2) -> NDArray:
    return np.full((frames, channels), 10 ** (level_db / 20))


def rounded(sound: NDArray, frames: int = 9) -> NDArray:
    """Return the sound with its steps as smooth edges around the same places.

    A bare step reaches 9 % further between the samples, before it and behind it.
    """
    window = np.hanning(frames + 2)[1:-1]
    whole = np.pad(sound, ((frames // 2, frames // 2), (0, 0)), "edge")
    lanes = [np.convolve(lane, window / window.sum(), "valid") for lane in whole.T]
    return np.stack(lanes, axis=1)


@pytest.fixture
def music() -> NDArray:
    """Two seconds of noise in bursts: attacks, tails, silence."""
    return _music().copy()


@cache
def _music() -> NDArray:
    sound = noise(96000, seed=7)
    at = np.arange(96000) / 48000
    return sound * (np.exp(-6 * (at % 0.5)) * (at % 1.0 < 0.9))[:, None]


@contextmanager
def made_once(factory: pytest.TempPathFactory, name: str) -> Iterator[tuple[Path, bool]]:
    """Give a place for what all workers share, and whether the caller has to make it there."""
    shared = factory.getbasetemp()
    if "PYTEST_XDIST_WORKER" in os.environ:
        shared = shared.parent
    with (shared / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        place = shared / name
        yield place, not place.exists()


@pytest.fixture(scope="session")
def installed_demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder with the demo, made by the first worker that needs it; treat as read-only."""
    from salt_anvil.demo.install import install_demo

    with made_once(tmp_path_factory, "demo") as (place, missing):
        if missing:
            making = place.with_name("demo-in-the-making")
            install_demo(making)
            making.rename(place)
    return place


@pytest.fixture(scope="session")
def recordings(installed_demo: Path) -> dict[str, NDArray]:
    """The demo's recordings, (frames, channels); treat as read-only."""
    from salt_anvil.files.media import MediaFolder
    from salt_anvil.store.database import Database
    from salt_anvil.store.sessions import SessionStore

    media = MediaFolder(installed_demo / "media")
    model = SessionStore(Database(installed_demo / "salt-anvil.db")).head(1).model
    tracks = {s.id: s.audio for s in model.strips if s.audio is not None}
    return {name: media.sound(audio).rows.astype(np.float64) for name, audio in tracks.items()}


@pytest.fixture(scope="session")
def band_data(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder with three tracks, a bus and the main bus, 12 s long; treat as read-only."""
    from salt_anvil.core.session import Session, checked
    from salt_anvil.files.media import MediaFolder
    from salt_anvil.store.database import Database
    from salt_anvil.store.sessions import SessionStore

    data = tmp_path_factory.mktemp("band")
    folder = MediaFolder(data / "media")
    strips = []
    frames = 12 * 48000
    swell = 0.2 + np.abs(np.sin(np.arange(frames) / 30000))[:, None] ** 8
    for index, (name, channels) in enumerate((("drum", 1), ("fiddle", 2), ("voice", 1))):
        sound = noise(frames, channels, level=0.15, seed=20 + index) * swell
        path = data / f"{name}.wav"
        soundfile.write(path, sound, 48000, subtype="FLOAT")
        media = folder.bring_in(path, path.name, 48000)
        params = {"threshold_db": -28, "release_ms": 700, "lookahead_ms": 3 * index, "makeup_db": 4}
        strips.append(
            {
                "id": name,
                "name": name.title(),
                "kind": "track",
                "audio": media.id,
                "channels": channels,
                "frames": frames,
                "output": "bus",
                "chain": [{"id": f"{name}-c", "kind": "compressor", "params": params}],
            }
        )
    main_chain = [{"id": "main-c", "kind": "compressor", "params": {"release_mode": "auto"}}]
    strips += [
        {"id": "bus", "name": "Bus", "kind": "bus"},
        {"id": "main", "name": "Main bus", "kind": "main", "chain": main_chain},
    ]
    sections = [{"name": "Quiet", "start_s": 0}, {"name": "Loud", "start_s": 6}]
    model = {"name": "Band", "bpm": 120, "sections": sections, "strips": strips}
    SessionStore(Database(data / "salt-anvil.db")).add(checked(Session, model))
    return data
