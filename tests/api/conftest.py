"""Servers: one for all tests that leave it as it was, each with a session of its own."""

import shutil
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
import soundfile

from salt_anvil.store.database import Database
from salt_anvil.store.sessions import SessionStore
from tests.commands import command
from tests.server import Server, serving


@pytest.fixture(scope="session")
def shared_server(band_data: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    data = tmp_path_factory.mktemp("shared") / "data"
    shutil.copytree(band_data, data)
    with serving(data) as running:
        yield running


@pytest.fixture
def server(shared_server: Server, band_data: Path) -> Server:
    """A server that others use too: nothing may be ended or left damaged in it."""
    band = SessionStore(Database(band_data / "salt-anvil.db")).head(1).model
    shared_server.begin(band)
    return shared_server


@pytest.fixture
def own_server(band_data: Path, tmp_path: Path) -> Iterator[Server]:
    """A server that the test may do anything to."""
    shutil.copytree(band_data, tmp_path / "data")
    with serving(tmp_path / "data") as running:
        yield running


@pytest.fixture(scope="session")
def printed(band_data: Path, tmp_path_factory: pytest.TempPathFactory) -> np.ndarray:
    """The main mix of the band, printed by the command line: float32, (frames, 2)."""
    out = tmp_path_factory.mktemp("printed")
    done = command("print", "Band", "--data", band_data, "--out", out)
    assert done.returncode == 0, done.stderr
    return soundfile.read(next(out.glob("*.wav")), dtype="float32")[0]
