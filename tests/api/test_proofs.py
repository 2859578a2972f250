"""Proofs over HTTP: asked for, stopped, replaced, heard; targets; a file that is only proved."""

import io

import numpy as np
import soundfile

from tests.api.processes import until
from tests.conftest import noise
from tests.server import Server

QUICK = {"ways": [{"rate": 44100, "bits": 16}, {"codec": "mp3", "kbps": 128}], "end": 96_000}


def path_of(server: Server) -> str:
    return f"{server.path}/proof"


def finished(server: Server) -> dict:
    def ended() -> dict | None:
        state = server.api("GET", path_of(server))
        return state if state["state"] not in ("waiting", "running") else None

    return until(ended)


def refused(server: Server, method: str, path: str, body: object = None) -> tuple[int, str]:
    answer = server.http.request(method, f"/api{path}", json=body)
    return answer.status_code, answer.json()["error"]


def test_a_proof_is_asked_for_told_heard_and_goes_stale(server: Server) -> None:
    tab = server.tab()
    asked = server.api("POST", path_of(server), QUICK)
    assert asked["state"] in ("waiting", "running")
    state = finished(server)
    assert (state["state"], state["current"]) == ("done", True)
    assert [w["name"] for w in state["proof"]["ways"]] == ["44100:16", "mp3:128"]
    assert state["verdict"]["title"]
    while tab.wait("proving")["state"] != "done":
        pass
    heard = server.http.get(f"/api{path_of(server)}/audio/mp3:128")
    sound, rate = soundfile.read(io.BytesIO(heard.content))
    assert (rate, len(sound)) == (48000, 96_000)
    taken = server.http.get(f"/api{path_of(server)}/audio/mp3:128", params={"taken": True})
    mix = server.http.get(f"/api{path_of(server)}/audio/as-it-stands")
    parts = [soundfile.read(io.BytesIO(a.content))[0] for a in (taken, mix)]
    assert np.abs(parts[0] + parts[1] - sound).max() < 1e-5
    said = refused(server, "GET", f"{path_of(server)}/audio/..%2Fdb")
    assert said[0] in (404, 422)
    played = server.api("POST", f"{path_of(server)}/played", {"loudness": -20})
    lufs = state["proof"]["figures"]["integrated_lufs"]
    assert abs(played["gain_db"] - (-20 - lufs)) < 1e-9
    revision = server.api("GET", server.path)["revision"]
    edit = {"base": revision, "edits": [{"type": "set_session", "bpm": 93}]}
    server.api("POST", f"{server.path}/edits", edit)
    assert server.api("GET", path_of(server))["current"] is False
    server.api("POST", f"{server.path}/undo")
    assert server.api("GET", path_of(server))["current"] is True
    tab.close()


def test_one_is_stopped_and_another_takes_its_place(server: Server) -> None:
    server.api("POST", path_of(server), {"ways": [{"codec": "mp3", "kbps": 128}]})
    again = server.api("POST", path_of(server), QUICK)
    state = finished(server)
    assert (state["number"], state["state"]) == (again["number"], "done")
    server.api("POST", path_of(server), {"ways": [{"codec": "mp3", "kbps": 128}]})
    assert server.api("DELETE", path_of(server))["state"] == "stopped"
    assert refused(server, "DELETE", path_of(server))[0] == 404
    # It can be proved again at once.
    server.api("POST", path_of(server), QUICK)
    assert finished(server)["state"] == "done"


def test_what_cannot_be_proved_is_said(server: Server) -> None:
    for wanted, said in (
        ({"begin": 10**9, "end": 10**9 + 5}, "no sound in this passage"),
        ({"strip": "kazoo"}, "kazoo"),
        ({"ways": [{"codec": "mp3", "kbps": 3}]}, "is made with"),
        ({"ways": [{"codec": "mp3"}]}, "given together"),
        ({"file": "nothing.wav"}, "is not here any more"),
        ({"limit_dbtp": 7}, "limit_dbtp"),
    ):
        code, words = refused(server, "POST", path_of(server), wanted)
        assert code in (400, 404, 409, 422)
        assert said in words


def test_a_file_is_brought_only_to_be_proved(server: Server) -> None:
    before = server.api("GET", server.path)
    body = io.BytesIO()
    # More than what any other request may carry.
    soundfile.write(body, noise(30 * 48000, 2, level=0.2), 48000, "FLOAT", format="WAV")
    assert len(body.getvalue()) > 9 << 20
    put = f"/api{path_of(server)}/file"
    answer = server.http.put(put, params={"name": "../else.wav"}, content=body.getvalue())
    assert answer.json() == {"file": "else.wav"}
    server.api("POST", path_of(server), {"file": "else.wav", "ways": [], "ceiling": False})
    state = finished(server)
    assert state["state"] == "done", state["words"]
    assert state["proof"]["what"] == "else.wav"
    assert state["proof"]["end"] == 30 * 48000
    assert server.api("GET", server.path) == before
    long = server.http.put(put, params={"name": "ö" * 190 + ".wav"}, content=body.getvalue())
    assert long.json()["file"].endswith("ö.wav")
    for name in ("..", ".", " "):
        assert server.http.put(put, params={"name": name}, content=b"x").status_code == 422
    bad = server.http.put(put, params={"name": "bad.wav"}, content=b"RIFFnothing")
    assert bad.status_code == 422
    assert "bad.wav is not audio" in bad.json()["error"]


def test_targets_of_ones_own(server: Server) -> None:
    ours = server.api("GET", "/delivery")
    assert [c["title"] for c in ours["coders"]] == ["MP3", "AAC", "Opus", "Vorbis"]
    assert any("R 128" in t["name"] for t in ours["ours"])
    target = {"name": "Our podcast", "loudness": -18, "true_peak": -2}
    assert [t["name"] for t in server.api("PUT", "/targets", target)["own"]] == ["Our podcast"]
    changed = server.api("PUT", "/targets", target | {"loudness": -17})
    assert [t["loudness"] for t in changed["own"]] == [-17]
    code, said = refused(server, "PUT", "/targets", {"name": ours["ours"][0]["name"]})
    assert code == 422
    assert "comes with the program" in said
    assert refused(server, "PUT", "/targets", {"name": "x", "loudness": 3})[0] == 422
    assert server.api("DELETE", "/targets/Our podcast")["own"] == []
    assert refused(server, "DELETE", "/targets/Our podcast")[0] == 404


def test_a_killed_process_is_said_and_the_next_proof_works(own_server: Server) -> None:
    import os
    import signal

    from tests.api.processes import children

    server = own_server
    many = [{"codec": "mp3", "kbps": kbps} for kbps in (96, 128, 160, 192, 256, 320)]
    server.api("POST", path_of(server), {"ways": many})
    pid = until(lambda: children(server.process.pid).get("salt-proofs"))
    os.kill(pid, signal.SIGKILL)
    state = finished(server)
    assert state["state"] == "failed"
    assert "prove it again" in state["words"]
    server.api("POST", path_of(server), QUICK)
    assert finished(server)["state"] == "done"
    # What belongs to a deleted session goes with it.
    folder = server.data / "proofs" / str(server.session)
    assert folder.is_dir()
    server.api("DELETE", server.path)
    until(lambda: not folder.exists())
