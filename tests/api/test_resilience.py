"""Nothing that is done beside play, and nothing that breaks, stops sound or loses work."""

import os
import shutil
import signal
import threading
from pathlib import Path

import numpy as np
import pytest
import soundfile

from tests.api.processes import analysed, ask_print, children, finished_print, until
from tests.conftest import noise
from tests.long import of
from tests.server import Server, Tab, serving


def engine_pid(server: Server) -> int:
    return children(server.process.pid)["salt-engine"]


# The engine ------------------------------------------------------------------------------------


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGSTOP])
def test_an_engine_that_is_gone_plays_on_where_it_was_heard(
    own_server: Server, printed: np.ndarray, how: signal.Signals
) -> None:
    """Ended, or without a sign of life: another one takes over, with the loop and the place."""
    server = own_server
    tab = server.tab()
    tab.say(type="listen", strip="drum", at="chain", alone=False)
    tab.say(type="loop", begin=100_000, end=300_000)
    tab.say(type="play", frame=150_000)
    tab.sound(20_000)
    pid = engine_pid(server)
    os.kill(pid, how)
    assert "started again" in tab.wait("refused")["text"]
    tab.forget_sound()
    places, sound, _ = tab.sound(20_000)
    assert 150_000 <= places[0] <= 180_000
    assert (sound[:, 2:] == printed[places[0] : places[0] + len(sound)]).all()
    assert next(e for e in reversed(tab.events) if e["type"] == "transport")["loop"] == [
        100_000,
        300_000,
    ]
    tab.close()


def test_what_an_engine_refused_is_not_asked_of_the_next(own_server: Server) -> None:
    server = own_server
    tab = server.tab()
    edit = {"type": "set_params", "stage": "drum-c", "params": {"makeup_db": 400}}
    tab.say(type="preview", edits=[edit])
    assert "makeup_db" in tab.wait("refused")["text"]
    os.kill(engine_pid(server), signal.SIGKILL)
    assert "started again" in tab.wait("refused")["text"]
    before = len(tab.events)
    tab.say(type="play", frame=0)
    tab.sound(20_000)
    assert [e["text"] for e in tab.events[before:] if e["type"] == "refused"] == []
    tab.close()


def test_an_engine_that_always_fails_rests_and_says_so(band_data: Path, tmp_path: Path) -> None:
    shutil.copytree(band_data, tmp_path / "data")
    with serving(tmp_path / "data", SALT_ANVIL_ENGINE_MB="1") as server:
        tab = server.tab(wait=False)
        said = [tab.wait("refused")["text"]]
        while "rests" not in said[-1]:
            said.append(tab.wait("refused")["text"])
        assert "MB of memory" in said[-1]
        assert len(said) <= 4
        # The rest of the program goes on, and Play tries again.
        assert server.api("GET", server.path)["revision"] == server.base
        tab.say(type="play", frame=0)
        assert tab.wait("refused")["text"]
        tab.close()


def test_a_crowd_does_not_disturb_a_quiet_tab(server: Server, printed: np.ndarray) -> None:
    quiet = server.tab()
    quiet.say(type="play", frame=0)
    stop = threading.Event()

    def crowd() -> None:
        while not stop.is_set():
            tab = server.tab()
            for index in range(40):
                tab.say(type="seek", frame=(index * 7919) % 500_000)
                tab.say(type="loop", begin=index * 1000, end=index * 1000 + 40_000)
                tab.say(type="play", frame=index * 5000)
                edit = {"type": "set_params", "stage": "drum-c", "params": {"ratio": 1 + index}}
                tab.say(type="preview", edits=[edit])
            tab.socket.socket.close()

    def edit() -> None:
        number = 0
        while not stop.is_set():
            number += 1
            base = server.api("GET", server.path)["revision"]
            wanted = {"type": "set_strip", "strip": "voice", "field": "name", "value": f"V{number}"}
            server.http.post(f"/api{server.path}/edits", json={"base": base, "edits": [wanted]})

    others = [threading.Thread(target=crowd), threading.Thread(target=edit)]
    for one in others:
        one.start()
    places, sound, _ = quiet.sound(240_000)
    stop.set()
    for one in others:
        one.join()
    assert places == [*range(0, places[-1] + 1, 1024)]
    assert (sound[:, 2:] == printed[: len(sound)]).all()
    quiet.close()


def test_another_session_in_a_tab_that_has_played(server: Server) -> None:
    """Every player of a tab begins above the epochs that the tab has heard."""
    first = server.api("GET", server.path)["model"]["strips"][0]["audio"]
    other = server.api("POST", "/sessions", {"name": "Other"})
    wav = next(p for p in (server.data / "media").glob("*.wav") if first.startswith(p.stem))
    server.api("PUT", f"/sessions/{other['id']}/audio?name=x.wav", content=wav.read_bytes())
    tab = server.tab()
    epochs = []
    for session in (server.session, other["id"], server.session):
        tab.say(type="open", session=session)
        # What is on its way of the session before is left unheard, however much that is.
        tab.play(0)
        tab.say(type="seek", frame=4800)
        _, sound, _ = tab.sound(9600)
        assert np.abs(sound).max() > 0
        epochs.append(tab.epoch)
        tab.say(type="stop")
        while tab.wait("transport")["playing"]:
            pass
    assert epochs == sorted(set(epochs))
    # A track that is added while a tab has the session open plays as well.
    server.api("PUT", f"/sessions/{other['id']}/audio?name=y.wav", content=wav.read_bytes())
    tab.say(type="open", session=other["id"])
    tab.play(0)
    tab.sound(4800)
    tab.close()


# Work ------------------------------------------------------------------------------------------


def test_concurrent_writers_keep_what_the_others_did(server: Server, tmp_path: Path) -> None:
    """Files coming in at once, one of them twice, beside edits: all tracks and edits are there."""
    number = server.api("POST", "/sessions", {"name": "Busy"})["id"]
    files = []
    for index, rate in enumerate((48000, 44100, 48000)):
        path = tmp_path / f"take {index}.wav"
        soundfile.write(path, noise(20 * rate, 2, seed=index), rate)
        files.append(path.read_bytes())
    files.append(files[0])
    answers: list[int] = []
    named: list[str] = []

    def bring(index: int) -> None:
        path = f"/api/sessions/{number}/audio?name=take{index}.wav"
        answers.append(server.http.put(path, content=files[index]).status_code)

    def edit() -> None:
        for index in range(12):
            base = server.api("GET", f"/sessions/{number}")["revision"]
            wanted = {"base": base, "edits": [{"type": "add_lever", "name": f"L{index}"}]}
            answer = server.http.post(f"/api/sessions/{number}/edits", json=wanted)
            if answer.status_code == 200:
                named.append(f"L{index}")
            else:
                assert answer.status_code == 409

    threads = [threading.Thread(target=bring, args=(i,)) for i in range(4)]
    threads.append(threading.Thread(target=edit))
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert answers == [200] * 4
    model = server.api("GET", f"/sessions/{number}")["model"]
    assert sorted(s["name"] for s in model["strips"] if s["kind"] == "track") == [
        "take0",
        "take1",
        "take2",
        "take3",
    ]
    assert [lever["name"] for lever in model["levers"]] == named
    lengths = {s["frames"] for s in model["strips"] if s["kind"] == "track"}
    assert lengths == {20 * model["rate"]}
    assert not list(server.data.glob("*.upload"))


def test_prints_outlive_their_worker(server: Server) -> None:
    first = ask_print(server)
    expected = (server.data / "prints" / first["file"]).read_bytes()
    numbers = [server.api("POST", f"{server.path}/prints", {})["id"] for _ in range(3)]
    until(lambda: list((server.data / "prints").glob("*.part")))
    os.kill(children(server.process.pid)["salt-prints"], signal.SIGKILL)
    for number in numbers:
        row = finished_print(server, number)
        assert row["state"] == "done", row
        assert (server.data / "prints" / row["file"]).read_bytes() == expected


def test_a_print_killed_anywhere_ends_in_the_same_bytes(band_data: Path, tmp_path: Path) -> None:
    """The worker, or the whole server, is ended as soon as a print is so far."""
    data = tmp_path / "data"
    shutil.copytree(band_data, data)
    formats = ("wav-32f", "wav-24", "flac-16", "aiff-24", "mp3-128")
    server = Server(data)
    expected = {name: ask_print(server, format=name)["report"]["sha256"] for name in formats}
    rng = np.random.default_rng(3)
    for turn in range(of(2, 20)):
        name, share = formats[turn % len(formats)], rng.uniform(0.01, 0.95)
        number = server.api("POST", f"{server.path}/prints", {"format": name})["id"]

        def far(server: Server = server, number: int = number, share: float = share) -> bool:
            row = next(p for p in server.api("GET", f"{server.path}/prints") if p["id"] == number)
            return row["state"] == "done" or row["progress"] >= share

        until(far)
        if turn % 2:
            server.stop(kill=True)
            server = Server(data)
        elif (worker := children(server.process.pid).get("salt-prints")) is not None:
            os.kill(worker, signal.SIGKILL)
        row = finished_print(server, number)
        assert row["state"] == "done", row
        assert row["report"]["sha256"] == expected[name], (turn, name, share)
    server.stop()


def test_leftovers_are_cleared_at_the_start(band_data: Path, tmp_path: Path) -> None:
    data = tmp_path / "data"
    shutil.copytree(band_data, data)
    (data / "prints").mkdir()
    (data / "references").mkdir()
    (data / "bundles").mkdir()
    left = [data / "prints" / "a.wav.part", data / "prints" / "7.progress", data / "x.upload",
            data / "media" / "y.f32.part", data / "references" / "old.wav",
            data / "bundles" / "1.zip.part"]  # fmt: skip
    for path in left:
        path.write_bytes(b"half")
    with serving(data):
        assert not [p for p in left if p.exists()]


def test_a_deleted_session_takes_nothing_with_it(own_server: Server, printed: np.ndarray) -> None:
    server = own_server
    other = server.api("POST", "/sessions", {"name": "Short-lived"})["id"]
    on_it, tab = server.tab(other), server.tab()
    server.api("DELETE", f"/sessions/{other}")
    assert on_it.wait("removed")["session"] == other
    os.kill(engine_pid(server), signal.SIGKILL)
    assert "started again" in tab.wait("refused")["text"]
    tab.forget_sound()
    tab.say(type="play", frame=0)
    _, sound, _ = tab.sound(9600)
    assert (sound[:, 2:] == printed[: len(sound)]).all()
    for one in (on_it, tab):
        one.close()


# Damage ----------------------------------------------------------------------------------------


def overwrite(path: Path, at: int, data: bytes) -> None:
    with path.open("r+b") as file:
        file.seek(at)
        file.write(data)


LOUD = np.full(4096, 3.4e38, "<f4").tobytes()


def settled_sound(tab: Tab, frame: int, printed: np.ndarray) -> None:
    """Play from a place until it is what it was: nothing loud or endless on the way."""

    def right() -> bool:
        tab.say(type="play", frame=frame)
        tab.forget_sound()
        _, sound, _ = tab.sound(9600)
        assert np.isfinite(sound).all()
        assert np.abs(sound).max() <= 1000
        return bool((sound[:, 2:] == printed[frame : frame + len(sound)]).all())

    until(right)


@pytest.mark.parametrize("how", ["noise", "cut", "odd", "gone", "empty", "meta", "sums"])
def test_a_damaged_decoded_file_is_decoded_again(
    server: Server, printed: np.ndarray, how: str
) -> None:
    audio = server.api("GET", server.path)["model"]["strips"][1]["audio"]
    path = server.data / "media" / f"{audio}.f32"
    if how == "noise":
        overwrite(path, 200_000 * 8, LOUD)
    elif how in ("cut", "odd"):
        with path.open("r+b") as file:
            file.truncate(190_000 * 8 + (3 if how == "odd" else 0))
    elif how == "gone":
        path.unlink()
    elif how == "empty":
        path.write_bytes(b"")
    elif how == "meta":
        path.with_suffix(".json").write_text('{"half": ')
    else:
        overwrite(path.with_name(path.name + ".sums"), 800, b"\xff" * 64)
    tab = server.tab()
    settled_sound(tab, 200_000, printed)
    row = ask_print(server, format="wav-32f")
    found = soundfile.read(server.data / "prints" / row["file"], dtype="float32")[0]
    assert (found == printed).all()
    tab.close()


@pytest.mark.parametrize("how", ["noise", "cut", "meta", "states"])
def test_a_damaged_cache_is_computed_again(server: Server, printed: np.ndarray, how: str) -> None:
    tab = server.tab()
    analysed(tab)
    for path in (server.data / "cache").glob("*/out.f32"):
        if how == "noise":
            overwrite(path, 100_000 * 4, LOUD)
        elif how == "cut":
            with path.open("r+b") as file:
                file.truncate(path.stat().st_size // 2 + 1)
        elif how == "meta":
            path.with_name("meta.json").write_text('{"channels": "many"}')
        else:
            for state in path.parent.glob("state-*.bin"):
                overwrite(state, 60, b"\x7f" * 40)
    settled_sound(tab, 110_000, printed)
    row = ask_print(server, format="wav-32f")
    found = soundfile.read(server.data / "prints" / row["file"], dtype="float32")[0]
    assert (found == printed).all()
    tab.close()


def test_a_damaged_original_is_named_and_repaired_by_bringing_it_in(
    own_server: Server, printed: np.ndarray
) -> None:
    server = own_server
    state = server.api("GET", server.path)
    audio = state["model"]["strips"][1]["audio"]
    original = next((server.data / "media").glob(f"{audio.rpartition('-')[0]}.wav"))
    good = original.read_bytes()
    overwrite(original, 5000, b"\x11" * 999)
    overwrite(server.data / "media" / f"{audio}.f32", 200_000 * 8, LOUD)
    tab = server.tab()
    tab.say(type="play", frame=200_000)
    said = tab.wait("refused")["text"]
    assert said.startswith("Fiddle: the recording fiddle.wav is damaged")
    row = ask_print(server)
    assert row["state"] == "failed"
    assert "damaged" in row["message"]
    other = server.api("POST", "/sessions", {"name": "For the file"})["id"]
    server.api("PUT", f"/sessions/{other}/audio?name=fiddle.wav", content=good)
    assert original.read_bytes() == good
    settled_sound(tab, 200_000, printed)
    tab.close()
