"""References over HTTP: brought in, measured, played as a file, let go, undone."""

import io
from pathlib import Path

import numpy as np
import pytest
import soundfile

from salt_anvil.api.app import schema
from salt_anvil.api.guard import UPLOADS
from tests.conftest import sine
from tests.server import Server


def brought(server: Server, tmp_path: Path, name: str, rate: int, sound: np.ndarray) -> dict:  # type: ignore[type-arg]
    soundfile.write(tmp_path / name, sound, rate, subtype="FLOAT")
    path = f"{server.path}/references?name={name}"
    state = server.api("PUT", path, content=(tmp_path / name).read_bytes())
    return dict(state)


def test_a_reference_is_measured_and_played_and_in_nobody_s_mix(
    server: Server, tmp_path: Path
) -> None:
    before = server.api("GET", server.path)["model"]["strips"]
    sound = sine(997, 4, level_db=-12, rate=44100)
    state = brought(server, tmp_path, "other.wav", 44100, sound)
    assert state["model"]["strips"] == before
    found = state["model"]["references"]
    assert [(r["name"], r["id"], r["channels"]) for r in found] == [("other", "other", 2)]
    path = f"{server.path}/references/other"
    figures = server.api("GET", path)
    # BS.1770: 997 Hz in both channels at -12 dBFS reads -12 LUFS.
    assert figures["integrated_lufs"] == pytest.approx(-12, abs=0.05)
    assert figures["correlation"] == pytest.approx(1)
    heard = server.http.get(f"/api{path}/audio")
    played, rate = soundfile.read(io.BytesIO(heard.content))
    assert (rate, len(played)) == (48000, found[0]["frames"])
    assert np.abs(played).max() == pytest.approx(10 ** (-12 / 20), rel=1e-3)
    (written,) = (server.data / "references").glob("*.wav")
    written.unlink()  # somebody tidied up: it is written again
    assert server.http.get(f"/api{path}/audio").content == heard.content
    part = server.http.get(f"/api{path}/audio", headers={"range": "bytes=0-99"})
    assert (part.status_code, len(part.content)) == (206, 100)
    again = brought(server, tmp_path, "other.wav", 44100, sound)["model"]["references"]
    assert [r["id"] for r in again] == ["other", "other-2"]
    edit = {"type": "remove_reference", "reference": "other"}
    base = server.api("GET", server.path)["revision"]
    server.api("POST", f"{server.path}/edits", {"base": base, "edits": [edit]})
    assert server.http.get(f"/api{path}").status_code == 404
    server.api("POST", f"{server.path}/undo")
    assert server.api("GET", path) == figures


def test_what_is_no_sound_changes_nothing(server: Server) -> None:
    for content in (b"", b"nonsense"):
        path = f"/api{server.path}/references?name=x.wav"
        assert server.http.put(path, content=content).status_code == 422
    assert server.api("GET", server.path)["model"]["references"] == []
    assert not list(server.data.glob("*.upload"))


def test_every_place_where_a_file_is_put_takes_large_ones() -> None:
    """What has a body that the schema does not describe is a file; the rest is small."""
    puts = {
        path: item["put"]
        for path, item in schema()["paths"].items()  # type: ignore[attr-defined]
        if "put" in item
    }
    files = [path for path, put in puts.items() if "requestBody" not in put]
    assert len(files) >= 3
    assert all(path.endswith(UPLOADS) for path in files)
