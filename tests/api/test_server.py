"""The server as a process: routes, guard, live sound, prints, crashes, bad starts.

The sound of the WebSocket is held against prints of the command line: the same core made both.
"""

import asyncio
import json
import os
import shutil
import signal
import socket
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import numpy as np
import pytest
import soundfile
import websockets
from websockets.sync.client import connect

from salt_anvil.api.port import listening
from salt_anvil.speed.client import PATIENCE_S, heard_in
from tests.api.processes import analysed, ask_print, children, finished_print, until
from tests.commands import command, command_process
from tests.conftest import noise
from tests.server import Server, serving

# Guard -------------------------------------------------------------------------------------------


def test_only_its_own_pages_may_talk(server: Server) -> None:
    for headers in ({"Origin": "http://elsewhere.example"}, {"Host": "elsewhere.example"}):
        answer = server.http.get("/api/sessions", headers=headers)
        assert answer.status_code == 403
        assert "elsewhere.example" in answer.json()["error"]
    with (
        pytest.raises(websockets.exceptions.InvalidStatus) as reported,
        connect(
            f"ws://127.0.0.1:{server.port}/api/live",
            origin="http://elsewhere.example",  # type: ignore[arg-type]
        ),
    ):
        pass
    assert reported.value.response.status_code == 403
    assert server.http.get("/api/sessions", headers={"Origin": server.url}).status_code == 200


def test_too_much_is_refused(server: Server) -> None:
    """What arrives counts, whether its length was said before or not."""
    for content in (b" " * (9 << 20), (b" " * (1 << 20) for _ in range(9))):
        answer = server.http.post("/api/sessions", content=content)
        assert answer.status_code == 413
        assert answer.json()["error"] == "the request is too large"


@pytest.mark.parametrize(
    ("act", "body", "words", "status"),
    [
        ("edits", {"edits": []}, "edits", 422),
        ("edits", {"edits": [
            {"type": "set_params", "stage": "drum-c", "params": {"ratio": 400}}]}, "1 to 100", 422),
        ("edits", {"edits": [
            {"type": "set_params", "stage": "drum-c",
             "params": {"topology": "feed-back", "lookahead_ms": 2}}]}, "cannot look ahead", 422),
        ("edits", {"base": 10**9, "edits": [
            {"type": "set_strip", "strip": "drum", "field": "mute", "value": True}]},
         "changed in another tab", 409),
        ("prints", {"format": "tape"}, "format", 422),
    ],
)  # fmt: skip
def test_refusals_are_one_sentence(
    server: Server, act: str, body: dict, words: str, status: int
) -> None:
    answer = server.http.post(f"/api{server.path}/{act}", json={"base": server.base, **body})
    assert answer.status_code == status
    assert words in answer.json()["error"]
    assert server.api("GET", server.path)["revision"] == server.base


def test_a_session_that_is_not_there(server: Server) -> None:
    answer = server.http.post("/api/sessions/999999/undo")
    assert answer.status_code == 404
    assert "there is no session 999999" in answer.json()["error"]


# Sessions ----------------------------------------------------------------------------------------


def test_edit_undo_redo_over_http(server: Server) -> None:
    edit = {"type": "set_params", "stage": "drum-c", "params": {"threshold_db": -33}}
    state = server.api("POST", f"{server.path}/edits", {"base": server.base, "edits": [edit]})
    assert state["undo"] == "Drum: compressor: threshold −33 dB"
    assert server.api("POST", f"{server.path}/undo")["redo"] == state["undo"]
    state = server.api("POST", f"{server.path}/redo")
    assert state["model"]["strips"][0]["chain"][0]["params"]["threshold_db"] == -33


def test_bringing_in_audio(server: Server, tmp_path: Path) -> None:
    state = server.api("POST", "/sessions", {"name": "New"})
    number = state["id"]
    path = tmp_path / "take one.wav"
    soundfile.write(path, noise(44100, 1), 44100)
    answer = server.api(
        "PUT", f"/sessions/{number}/audio?name=take%20one.wav", content=path.read_bytes()
    )
    # The first file sets the session's rate, so nothing is converted; the second is.
    assert answer["said"] is None
    assert answer["state"]["model"]["rate"] == 44100
    soundfile.write(path, noise(48000, 2), 48000)
    # The revision before this one has nothing to hear: no reason to refuse.
    first = answer["state"]["model"]["strips"][0]["id"]
    assert server.api("GET", f"/sessions/{number}/strips/{first}/ledger")["later"] == []
    answer = server.api("PUT", f"/sessions/{number}/audio?name=two.wav", content=path.read_bytes())
    assert answer["said"] == "two.wav: converted from 48000 to 44100 Hz"
    assert [s["frames"] for s in answer["state"]["model"]["strips"]] == [44100, 44100, 0]
    for content, words in ((b"", "is empty"), (b"nonsense", "not audio that can be read")):
        bad = server.http.put(f"/api/sessions/{number}/audio?name=x.wav", content=content)
        assert words in bad.json()["error"]
    assert len(server.api("GET", f"/sessions/{number}")["model"]["strips"]) == 3
    assert not list(server.data.glob("*.upload"))


def test_pictures_and_ledger_come_by_themselves(server: Server) -> None:
    tab = server.tab()
    analysed(tab)
    tab.close()
    answer = server.api("GET", f"{server.path}/strips/drum/ledger?at=drum-c")
    ledger = answer["ledger"]
    assert answer["done"] == 1.0
    assert ledger["after"]["crest_db"] < ledger["before"]["crest_db"] + 1
    assert [s["name"] for s in ledger["sections"]] == ["Quiet", "Loud"]
    assert ledger["reduction"]["most"] > 3
    assert [(x["strip"], x["stage"]) for x in answer["later"]] == [("Main bus", "Compressor")]
    raw = server.http.get(
        f"/api{server.path}/strips/drum/picture?at=drum-c&begin=0&end=576000&columns=100"
    ).content
    head, _, body = raw.partition(b"\n")
    reported = json.loads(head)
    assert reported["done"] == 100
    numbers = np.frombuffer(body, "<f4")
    before, after = numbers[:200].reshape(-1, 2), numbers[200:400].reshape(-1, 2)
    sound = soundfile.read(next((server.data / "media").glob("*.wav")), always_2d=True)[0]
    assert np.abs(before).max() <= np.abs(sound).max() + 1
    assert (after[:, 1] >= after[:, 0]).all()
    hits = server.api("GET", f"{server.path}/strips/drum/hits?at=drum-c&before=576000")
    assert 1 <= len(hits) <= 3
    path = f"{server.path}/strips/drum/reports?columns=50"
    reported = server.api("GET", f"{path}&at=drum-c&name=level_db&name=reduction_db&name=none")
    assert {name: len(values) for name, values in reported.items()} == {
        "level_db": 50,
        "reduction_db": 50,
        "none": 0,
    }
    assert max(reported["reduction_db"]) == pytest.approx(ledger["reduction"]["most"], abs=1e-3)
    for wrong, status in (("at=nobody&name=level_db", 404), ("at=drum-c&name=../x", 422)):
        assert server.http.get(f"/api{path}&{wrong}").status_code == status


# Live --------------------------------------------------------------------------------------------


def test_what_is_played_after_a_seek_is_what_is_printed(
    server: Server, printed: np.ndarray
) -> None:
    tab = server.tab()
    tab.say(type="listen", strip="drum", at="chain", alone=False)
    for frame in (301_234, 48_000):
        tab.play(frame)
        places, sound, _ = tab.sound(48_000)
        assert places[0] == frame
        assert (sound[:, 2:] == printed[frame : frame + len(sound)]).all()
        tab.say(type="stop")
    tab.close()


def test_loop_wraps_without_a_gap(server: Server, printed: np.ndarray) -> None:
    tab = server.tab()
    analysed(tab)
    begin, end = 200_003, 240_000
    tab.say(type="loop", begin=begin, end=end)
    tab.say(type="play", frame=end - 20_000)
    places, sound, _ = tab.sound(20_000, paced=True)
    assert places[0] == end - 20_000
    assert (sound[:20_000, 2:] == printed[end - 20_000 : end]).all()
    turn = end - begin
    wrapped = np.concatenate([sound[20_000:, 2:], tab.sound(turn, paced=True)[1][:, 2:]])
    # A turn whose start was not ready in time is warm; one that was is equal to the bit.
    while not (wrapped[:turn] == printed[begin:end]).all():
        more = tab.sound(turn, paced=True)[1][:, 2:]
        wrapped = np.concatenate([wrapped[turn:], more])
    tab.close()


def test_what_is_computed_in_one_go_is_one_message(server: Server, printed: np.ndarray) -> None:
    tab = server.tab()
    tab.say(type="set_ahead", ms=640)
    tab.say(type="play", frame=0)
    together, parts, taken = 0, [], 0
    while together < 2 or taken < 60 * 1024:
        message = tab.socket.recv(timeout=PATIENCE_S)
        if isinstance(message, bytes):
            blocks = heard_in(message)
            together = max(together, len(blocks))
            assert [b.frame for b in blocks] == [taken + 1024 * i for i in range(len(blocks))]
            parts += [b.sound for b in blocks]
            taken += 1024 * len(blocks)
            tab.say(type="played", epoch=blocks[-1].epoch, frames=taken)
    assert (np.concatenate(parts)[:, 2:] == printed[:taken]).all()
    tab.close()


def test_in_and_out_travel_together(server: Server) -> None:
    tab = server.tab()
    tab.say(type="listen", strip="fiddle", at="fiddle-c", alone=True)
    tab.say(type="play", frame=96_000)
    _, sound, reports = tab.sound(24_000)
    audio = server.api("GET", server.path)["model"]["strips"][1]["audio"]
    raw = np.fromfile(server.data / "media" / f"{audio}.f32", "<f4").reshape(-1, 2)
    assert (sound[:, :2] == raw[96_000 : 96_000 + len(sound)]).all()
    assert np.abs(sound[:, 2:] - sound[:, :2]).max() > 0.01
    assert max(max(r["stages"]["fiddle-c"]["reduction"]) for r in reports) > 1
    assert reports[0]["removed_gain"] == pytest.approx(10 ** (-4 / 20))
    tab.close()


def test_a_preview_is_heard_and_not_stored(server: Server) -> None:
    tab = server.tab()
    tab.say(type="listen", strip="drum", at="chain", alone=True)
    tab.say(type="play", frame=0)
    tab.sound(4096, paced=True)
    edit = {"type": "set_params", "stage": "drum-c", "params": {"makeup_db": -24}}
    tab.say(type="preview", edits=[edit])
    _, sound, _ = tab.sound(96_000, paced=True)
    late = sound[72_000:]
    assert np.abs(late[:, 2]).mean() < 0.2 * np.abs(late[:, 0]).mean()
    assert server.api("GET", server.path)["revision"] == server.base
    tab.say(type="preview", edits=[{**edit, "params": {"makeup_db": 400}}])
    assert "makeup_db" in tab.wait("refused")["text"]
    tab.close()


def test_a_control_surface_moves_a_lever(server: Server) -> None:
    """Heard at once by another tab, told to it, stored when the hand lets go."""
    moves = [{"owner": "drum", "control": "fader_db", "low": -60, "high": 0}]
    edits = [{"type": "add_lever", "name": "Lift"},
             {"type": "set_lever", "lever": "lever-lift", "value": 1, "moves": moves}]  # fmt: skip
    server.api("POST", f"{server.path}/edits", {"base": server.base, "edits": edits})
    tab, surface = server.tab(), server.tab()
    tab.say(type="play", frame=0)
    _, before, _ = tab.sound(24_000)
    surface.say(type="surface", part="fader", number=1, value=0.0, held=True)
    assert tab.wait("lever_moved")["value"] == 0
    _, after, _ = tab.sound(48_000)
    assert np.abs(after[-9600:, 2]).mean() < np.abs(before[-9600:, 2]).mean()
    assert server.api("GET", server.path)["model"]["levers"][0]["value"] == 1
    surface.say(type="surface", part="fader", number=1, value=0.25, held=False)
    tab.wait("changed")
    state = server.api("GET", server.path)
    assert state["model"]["levers"][0]["value"] == 0.25
    assert state["words"] == "Lever Lift 25 %"
    surface.say(type="surface", part="button", number=1)
    tab.wait("changed")
    assert server.api("GET", server.path)["model"]["levers"][0]["value"] == 0
    # The only lever is the first: other faders move nothing and disturb nobody.
    surface.say(type="surface", part="fader", number=8, value=0.5)
    for one in (tab, surface):
        one.close()


def test_splits_and_lanes_over_http(server: Server) -> None:
    edits = [
        {"type": "add_split", "by": "bands", "around": ["drum-c"], "bands": 3},
        {"type": "set_lane", "owner": "drum", "control": "fader_db",
         "points": [{"at_s": 0, "value": -10}, {"at_s": 1, "value": 0}]},
    ]  # fmt: skip
    server.api("POST", f"{server.path}/edits", {"base": server.base, "edits": edits})
    drawn = server.api("GET", f"{server.path}/splits/drum-split")
    at = int(np.abs(np.array(drawn["hz"]) - 200).argmin())
    # At their corner two bands meet at -6.02 dB; the grid of the picture is near it.
    assert drawn["bands"][0][at] == pytest.approx(drawn["bands"][1][at], abs=2.5)
    lane = server.api("GET", f"{server.path}/lanes?columns=101")[0]
    assert (lane["owner"], lane["control"]) == ("drum", "fader_db")
    controls = server.api("GET", "/catalogue")["controls"]
    assert (controls["strip"]["fader_db"]["label"], controls["send"]["gain_db"]["low"]) == (
        "Fader",
        -60,
    )
    assert lane["values"][0] == -10
    assert lane["values"][-1] == 0


def test_a_broken_tab_disturbs_nobody(server: Server, printed: np.ndarray) -> None:
    good, bad = server.tab(), server.tab()
    bad.say(type="play", frame=0)
    good.say(type="play", frame=100_000)
    bad.socket.send("this is not JSON")
    assert bad.wait("refused")["text"]
    bad.socket.socket.close()
    _, sound, _ = good.sound(96_000)
    assert (sound[:, 2:] == printed[100_000 : 100_000 + len(sound)]).all()
    good.close()


def test_a_killed_engine_comes_back(own_server: Server, printed: np.ndarray) -> None:
    server = own_server
    tab = server.tab()
    tab.say(type="play", frame=0)
    tab.sound(10_000)
    os.kill(children(server.process.pid)["salt-engine"], signal.SIGKILL)
    assert "started again" in tab.wait("refused")["text"]
    # It plays on by itself; a jump is heard as soon as it is its turn.
    tab.forget_sound()
    tab.say(type="play", frame=150_000)
    places, sound, _ = tab.sound(20_000)
    while places[0] != 150_000:
        tab.forget_sound()
        places, sound, _ = tab.sound(20_000)
    assert (sound[:, 2:] == printed[150_000 : 150_000 + len(sound)]).all()
    tab.close()


def test_helpers_end_with_the_server(own_server: Server) -> None:
    server = own_server
    ask_print(server)
    below = children(server.process.pid)
    assert below.keys() >= {"salt-engine", "salt-analysis", "salt-prints"}
    pids = list(below.values())
    os.kill(server.process.pid, signal.SIGKILL)
    until(lambda: not any(Path(f"/proc/{p}").exists() for p in pids))


# Prints ------------------------------------------------------------------------------------------


def test_page_print_command_print_and_process_are_equal_to_the_bit(
    server: Server, tmp_path: Path
) -> None:
    wanted = {"strip": "voice", "tap": "chain", "format": "wav-24"}
    row = ask_print(server, **wanted)
    page = server.http.get(f"/api/prints/{row['id']}/file").content
    out = tmp_path / "out"
    done = command_process(
        "print",
        server.session,
        "--data",
        server.data,
        "--out",
        out,
        "--strip",
        "voice",
        "--format",
        "wav-24",
    )
    assert done.returncode == 0, done.stderr
    assert Path(done.stdout.strip()).read_bytes() == page
    # Each output has a dither of its own: a file that is processed is another output.
    row = ask_print(server, **{**wanted, "format": "wav-32f", "cues": False})
    page = server.http.get(f"/api/prints/{row['id']}/file").content
    state = server.api("GET", server.path)
    chain = state["model"]["strips"][2]["chain"]
    recipe = tmp_path / "r.json"
    recipe.write_text(
        json.dumps(
            {"format": "salt-anvil/recipe", "version": 1, "name": "v", "bpm": 120, "chain": chain}
        )
    )
    original = next(
        p.with_suffix(".wav").with_name(p.name.split("-48000")[0] + ".wav")
        for p in (server.data / "media").glob("*.json")
        if "voice" in p.read_text()
    )
    done = command("process", original, tmp_path / "p.wav", "--recipe", recipe, "--width", "32f")
    assert done.returncode == 0, done.stderr
    assert (tmp_path / "p.wav").read_bytes() == page


def test_a_region_print_equals_the_region(server: Server, printed: np.ndarray) -> None:
    begin, end = 4 * 96_000 // 2, 5 * 96_000 // 2
    wanted = {"format": "wav-32f", "begin": begin, "end": end}
    row = ask_print(server, **wanted)
    path = server.data / "prints" / row["file"]
    assert (soundfile.read(path, dtype="float32")[0] == printed[begin:end]).all()


def test_prints_survive_a_killed_server(band_data: Path, tmp_path: Path) -> None:
    data = tmp_path / "data"
    shutil.copytree(band_data, data)
    server = Server(data)
    number = server.api("POST", f"{server.path}/prints", {"format": "wav-16"})["id"]
    server.stop(kill=True)
    with serving(data) as again:
        row = finished_print(again, number)
        assert row["state"] == "done"
        first = (data / "prints" / row["file"]).read_bytes()
        second = ask_print(again, format="wav-16")
        assert (data / "prints" / second["file"]).read_bytes() == first


def test_a_cancelled_print_leaves_nothing(server: Server) -> None:
    numbers = [server.api("POST", f"{server.path}/prints", {})["id"] for _ in range(3)]
    server.api("DELETE", f"/prints/{numbers[2]}")
    assert finished_print(server, numbers[2])["state"] == "cancelled"
    finished_print(server, numbers[1])
    ask_print(server)
    names = [p.name for p in (server.data / "prints").iterdir()]
    assert not any(f" {numbers[2]}.wav" in n for n in names), names
    assert not any(n.endswith(".part") for n in names)


# Starting ----------------------------------------------------------------------------------------


def test_a_port_in_use_is_said(tmp_path: Path) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        done = command_process("serve", "--data", tmp_path, "--port", port)
    assert done.returncode == 2
    assert done.stderr == (
        f"salt-anvil: port {port} on 127.0.0.1 is in use; choose another with --port\n"
    )


@pytest.mark.parametrize("host", ["127.0.0.1", "::1"])
def test_what_is_sent_goes_out_at_once(host: str) -> None:
    """The kernel does not wait for more of it (Nagle), which is 40 ms for every answer."""

    async def connected() -> int:
        told: asyncio.Queue[int] = asyncio.Queue()

        def accepted(_: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            itself = writer.get_extra_info("socket")
            told.put_nowait(itself.getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY))
            writer.close()

        listener = listening(host, 0)
        async with await asyncio.start_server(accepted, sock=listener):
            _, writer = await asyncio.open_connection(*listener.getsockname()[:2])
            at_once = await told.get()
            writer.close()
            await writer.wait_closed()
        return at_once

    # In a thread of its own: behind a test with a browser this one has a loop that runs.
    with ThreadPoolExecutor(1) as beside:
        assert beside.submit(asyncio.run, connected()).result() == 1


def test_a_second_server_on_the_same_data(server: Server) -> None:
    done = command_process("serve", "--data", server.data, "--port", 0)
    assert done.returncode == 2
    assert done.stderr.startswith("salt-anvil: another server is using the data folder")
    assert server.http.get("/api/sessions").status_code == 200


def test_a_data_folder_that_cannot_be_used(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("")
    done = command_process("serve", "--data", tmp_path / "file" / "data", "--port", 0)
    assert done.returncode == 2
    assert "cannot be used: not a directory" in done.stderr
    assert done.stderr.count("\n") == 1


def test_the_pages_are_served_with_their_headers(server: Server) -> None:
    answer = httpx.get(server.url)
    assert answer.status_code == 200
    assert "default-src 'self'" in answer.headers["content-security-policy"]
    assert "Salt Anvil" in answer.text


def test_lab_over_http(server: Server) -> None:
    wanted = {"place": "drum-c", "options": {"measurement": "curve", "hz": 0}}
    reported = server.api("POST", f"{server.path}/lab", wanted)
    labels = [f["label"] for f in reported["figures"]]
    assert "measured from drawn, at most" in labels
    assert reported["rate"] == 48000
    assert reported["plots"][0].startswith("<svg")
    assert "a constant, rising" in reported["csv"].splitlines()[0]
    beside = server.api("POST", f"{server.path}/lab", {**wanted, "against": "off"})
    assert len(beside["figures"]) > len(labels)
    for change, words in (({"place": "nobody"}, "nobody"), ({"against": "C"}, "no setting C")):
        answer = server.http.post(f"/api{server.path}/lab", json={**wanted, **change})
        assert answer.status_code in (404, 422)
        assert words in answer.json()["error"]


def test_lab_keeps_the_loudness_as_the_song_does(server: Server) -> None:
    """What keeps none says nothing of it."""
    wanted = {"place": "drum-c", "options": {"measurement": "response"}}
    lab = f"{server.path}/lab"
    assert "loudness" not in server.api("POST", lab, wanted)["words"]
    keep = {"type": "set_params", "stage": "drum-c", "params": {"auto_makeup": True}}
    server.api("POST", f"{server.path}/edits", {"base": server.base, "edits": [keep]})
    tab = server.tab()
    analysed(tab, "drum")
    assert server.api("POST", lab, wanted)["words"].endswith("kept as over the song")
    beside = server.api("POST", lab, {**wanted, "against": "off"})
    assert beside["words"].endswith("on beside off; loudness kept as over the song")
    tab.close()
