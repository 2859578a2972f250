"""A session put together as one file over HTTP, by the command line, and opened elsewhere."""

import io
import json
import zipfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tests.api.processes import ask_print
from tests.commands import command
from tests.server import Server


def digest(server: Server, session: int) -> str:
    """Return the sum of a print of another session than the test's."""
    kept, server.session = server.session, session
    found = ask_print(server, format="wav-24", end=4 * 48_000)["report"]["sha256"]
    server.session = kept
    return str(found)


def test_what_is_opened_prints_the_same_bytes(server: Server) -> None:
    before = digest(server, server.session)
    made = server.api("POST", f"{server.path}/bundle?prints=true")
    answer = server.http.get(f"/api{server.path}/bundle")
    assert len(answer.content) == made["bytes"]
    assert 'filename="Band.zip"' in answer.headers["content-disposition"]
    with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
        assert sum(n.startswith("prints/") for n in archive.namelist()) == 2
    opened = server.api("PUT", "/bundles?name=x.zip", content=answer.content)
    assert opened["model"]["name"] == "Band"
    assert opened["undo"] is None
    assert digest(server, opened["id"]) == before
    server.api("POST", f"/sessions/{opened['id']}/bundle")
    assert (server.data / "bundles" / f"{opened['id']}.zip").is_file()
    server.api("DELETE", f"/sessions/{opened['id']}")
    assert not (server.data / "bundles" / f"{opened['id']}.zip").exists()


def test_what_is_no_bundle_makes_no_session(server: Server) -> None:
    sessions = server.api("GET", "/sessions")
    for content in (b"", b"nonsense", b"PK\x05\x06" + bytes(18)):
        answer = server.http.put("/api/bundles?name=x.zip", content=content)
        assert answer.status_code == 422
        assert "x.zip" in answer.json()["error"]
    assert server.api("GET", "/sessions") == sessions
    assert not list(server.data.glob("**/*.upload*"))
    assert server.http.get(f"/api{server.path}/bundle").status_code == 422


def test_several_ask_at_once(server: Server) -> None:
    def made(_: int) -> bytes:
        server.api("POST", f"{server.path}/bundle")
        return server.http.get(f"/api{server.path}/bundle").content

    with ThreadPoolExecutor(4) as pool:
        found = list(pool.map(made, range(4)))
    assert len(set(found)) == 1


def test_from_one_data_folder_into_another(band_data: Path, tmp_path: Path) -> None:
    bundle, other = tmp_path / "band.zip", tmp_path / "new folder" / "data"
    assert command("bundle", "Band", bundle, "--data", band_data).returncode == 0
    refused = command("bundle", "Band", bundle, "--data", band_data)
    assert refused.returncode == 2
    assert "--over" in refused.stderr
    assert command("bundle", "Band", bundle, "--data", band_data, "--over").returncode == 0
    opened = command("open", bundle, "--data", other)
    assert opened.stdout == "1 Band\n"
    files = []
    for data in (band_data, other):
        out = tmp_path / f"out{len(files)}"
        done = command(
            "print", "Band", "--data", data, "--out", out, "--to", 4, "--format", "wav-24"
        )
        assert done.returncode == 0, done.stderr
        files.append(Path(done.stdout.strip()).read_bytes())
    assert files[0] == files[1]
    # Its chains are recipes that the command line takes.
    with zipfile.ZipFile(bundle) as archive:
        archive.extractall(tmp_path / "out")
    (recipe,) = (tmp_path / "out" / "recipes").glob("*Fiddle.json")
    assert json.loads(recipe.read_text())["format"] == "salt-anvil/recipe"
    (sound,) = (tmp_path / "out" / "media").glob("*Fiddle.*")
    done = command("process", sound, tmp_path / "f.wav", "--recipe", recipe)
    assert done.returncode == 0, done.stderr
    for arguments, words in (
        (("open", tmp_path / "none.zip", "--data", other), "there is no file"),
        (("open", recipe, "--data", other), "is no bundle"),
        (("bundle", "Band", tmp_path / "a" / "b.zip", "--data", band_data), "there is no folder"),
        (("bundle", "Nobody", tmp_path / "b.zip", "--data", band_data), "no session Nobody"),
    ):
        done = command(*arguments)
        assert done.returncode == 2
        assert words in done.stderr
        assert len(done.stderr.strip().splitlines()) == 1
