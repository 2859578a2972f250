"""Settings side by side over HTTP: measured by themselves, in words, at the same loudness."""

import os
import signal
import sqlite3
from typing import Any

import numpy as np
import pyloudnorm
import pytest
import soundfile

from tests.api.processes import analysed, children
from tests.commands import command
from tests.server import Server

CHAIN = {"kind": "chain", "owner": "drum"}
FRAMES = 576_000


def edit(server: Server, *edits: dict[str, Any]) -> dict[str, Any]:
    server.base = server.api("GET", server.path)["revision"]
    body = {"base": server.base, "edits": list(edits)}
    return dict(server.api("POST", f"{server.path}/edits", body))


def compared(server: Server, **more: Any) -> dict[str, Any]:
    """The comparison once all of it is measured."""
    wish = {"extent": CHAIN, "at": "chain", "in_mix": False, "end": FRAMES, **more}
    tab = server.tab()
    while (answer := server.api("POST", f"{server.path}/compare", wish))["done"] < 1:
        tab.wait("compared", "analysed")
    tab.close()
    return dict(answer)


def test_every_setting_is_measured_and_matched(server: Server) -> None:
    """Each setting's loudness is that of its print; all play at the level of the quietest."""
    edit(
        server,
        {"type": "choose_settings", "extent": CHAIN, "slot": "B"},
        {"type": "set_params", "stage": "drum-c", "params": {"threshold_db": -50, "makeup_db": 20}},
        {"type": "name_settings", "extent": CHAIN, "slot": "B", "name": "flat"},
    )
    found = compared(server)
    assert (found["chosen"], [r["slot"] for r in found["rows"]]) == ("B", ["in", "A", "B"])
    rows = {r["slot"]: r for r in found["rows"]}
    assert "threshold −50 dB instead of" in rows["B"]["words"][0]
    for letter in "BA":
        edit(server, {"type": "choose_settings", "extent": CHAIN, "slot": letter})
        out = server.data / f"only-{letter}"
        done = command(
            "print", str(server.session), "--data", server.data, "--strip", "drum", "--out", out
        )
        assert done.returncode == 0, done.stderr
        sound, rate = soundfile.read(next(out.glob("*.wav")), dtype="float32", always_2d=True)
        loudness = pyloudnorm.Meter(rate).integrated_loudness(sound)
        assert rows[letter]["figures"]["integrated_lufs"] == pytest.approx(loudness, abs=0.1)
    plays = [r["figures"]["integrated_lufs"] + r["plays_db"] for r in found["rows"]]
    assert np.ptp(plays) < 1e-6
    assert max(r["plays_db"] for r in found["rows"]) <= 0
    peaks = [r["figures"]["true_peak_dbtp"] + r["plays_db"] for r in found["rows"]]
    assert max(peaks) <= -1 + 1e-6
    # Held settings are not computed again when they come to stand.
    assert compared(server)["chosen"] == "A"


def test_what_cannot_be_heard_is_said(server: Server) -> None:
    """A setting that lost its key is a row with a reason; the others are measured all the same."""
    empty = [{"type": "choose_settings", "extent": CHAIN, "slot": "B"}]
    edit(server, *empty, {"type": "remove_stage", "stage": "drum-c"})
    answer = compared(server)
    assert answer["rows"][2]["words"] == ["no compressor"]
    assert answer["rows"][2]["figures"] == answer["rows"][0]["figures"]
    gone = {"extent": {"kind": "element", "owner": "drum-c"}, "end": FRAMES}
    refused = server.http.post(f"/api{server.path}/compare", json=gone)
    assert refused.status_code == 404
    assert "drum-c" in refused.json()["error"]


def test_the_present_against_a_revision_in_words(server: Server) -> None:
    first = server.api("GET", server.path)["revision"]
    edit(server, {"type": "set_params", "stage": "drum-c", "params": {"ratio": 8}})
    path = f"{server.path}/revisions/{first}/differences"
    words = server.api("GET", path)
    assert len(words) == 1
    assert "ratio 8:1 instead of" in words[0].replace(" : ", ":")
    assert server.http.get(f"/api{server.path}/revisions/999999/differences").status_code == 404
    # As if it had been made long ago.
    with sqlite3.connect(server.data / "salt-anvil.db") as db:
        db.execute("UPDATE revisions SET engine = 2 WHERE id = ?", (first,))
    words = server.api("GET", path)
    assert any(w.startswith("engine 3: compressor: ") for w in words[1:])


def test_the_present_against_a_revision_by_ear(server: Server) -> None:
    """Measured at one loudness, and what is heard of a revision is what it sounds like."""
    first = server.api("GET", server.path)["revision"]
    chain = {"type": "set_strip", "strip": "main", "field": "fader_db", "value": -9}
    loud = {"type": "set_params", "stage": "main-c", "params": {"makeup_db": 6}}
    edit(server, chain, loud)
    main = {"kind": "strip", "owner": "main"}
    found = compared(server, extent=main, revision=first)
    assert [r["slot"] for r in found["rows"]] == ["in", "stands", "tried"]
    now, then = found["rows"][1:]
    gap = now["figures"]["integrated_lufs"] - then["figures"]["integrated_lufs"]
    assert gap == pytest.approx(6, abs=0.01)
    assert now["plays_db"] - then["plays_db"] == pytest.approx(-gap, abs=1e-6)

    tab = server.tab()

    def heard(**message: Any) -> float:
        tab.say(type="hear_revision", **message)
        tab.play(96_000)
        _, sound, _ = tab.sound(48_000)
        power = float(np.square(sound[:48_000, 2:]).mean())
        tab.say(type="stop")
        return power

    changed = heard(revision=None)
    # The main fader is 9 dB lower now, its compressor 6 dB louder.
    assert 10 * np.log10(heard(revision=first) / changed) == pytest.approx(3, abs=0.01)
    assert heard(revision=None) == pytest.approx(changed, rel=1e-6)
    tab.say(type="hear_revision", revision=999_999)
    assert "no revision" in tab.wait("refused")["text"]
    tab.close()
    both = {"extent": main, "end": FRAMES, "revision": first, "tried": {
        "type": "apply_recipe", "extent": CHAIN, "inputs": {},
        "recipe": {"format": "salt-anvil/recipe", "version": 1, "name": "r", "chain": []},
    }}  # fmt: skip
    assert server.http.post(f"/api{server.path}/compare", json=both).status_code == 422


@pytest.mark.parametrize("what", ["measured", "engine ended"])
@pytest.mark.parametrize("tried", [False, True])
def test_what_is_heard_instead_goes_on(own_server: Server, what: str, tried: bool) -> None:
    """An earlier revision, or what is tried: when what stands is measured meanwhile, and by a new
    engine; until something is changed."""
    server, tab = own_server, own_server.tab()
    first = server.api("GET", server.path)["revision"]

    def power() -> float:
        tab.play(96_000)
        _, sound, _ = tab.sound(48_000)
        tab.say(type="stop")
        return float(np.square(sound[:48_000, 2:]).mean())

    analysed(tab)
    then = power()
    model = server.api("GET", server.path)["model"]
    params = {e["id"]: e["params"] for s in model["strips"] for e in s["chain"] if "params" in e}
    keeps = {"auto_makeup": True} if what == "measured" else {}
    tab.events.clear()
    edit(
        server,
        {"type": "set_params", "stage": "drum-c", "params": {"threshold_db": -40, **keeps}},
        {"type": "set_params", "stage": "main-c", "params": {"makeup_db": 6}},
    )
    if tried:
        as_before = [
            {"type": "set_params", "stage": "drum-c", "params": params["drum-c"]},
            {"type": "set_params", "stage": "main-c", "params": params["main-c"]},
        ]
        tab.say(type="preview", edits=as_before)
    else:
        tab.say(type="hear_revision", revision=first)
    analysed(tab)
    if what == "engine ended":
        os.kill(children(server.process.pid)["salt-engine"], signal.SIGKILL)
        assert "started again" in tab.wait("refused")["text"]
        tab.forget_sound()
    assert power() == pytest.approx(then, rel=1e-6)
    edit(server, {"type": "set_params", "stage": "main-c", "params": {"makeup_db": 12}})
    assert 10 * np.log10(power() / then) > 6
    tab.close()


def test_guessing_over_http(server: Server) -> None:
    table = dict(server.api("GET", "/guessing?rounds=12"))
    assert table[10] == pytest.approx(79 / 4096)
