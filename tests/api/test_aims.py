"""Aims over HTTP: every step is told, they can be stopped, and nothing is changed by them."""

import os
import signal
from typing import Any

import pytest

from tests.api.processes import children
from tests.server import Server

WISH = {"stage": "drum-c", "control": "threshold_db", "begin": 0, "end": 192_000,
        "wish": {"what": "reduction", "wanted": 4, "percentile": 95}}  # fmt: skip


def test_every_step_is_told_and_the_last_is_the_answer(server: Server) -> None:
    tab = server.tab()
    number = server.api("POST", f"{server.path}/aims", WISH)["number"]
    steps = [tab.wait("aimed")]
    while not steps[-1]["done"]:
        steps.append(tab.wait("aimed"))
    assert {s["number"] for s in steps} == {number}
    last = steps[-1]
    assert last["problem"] is None
    assert last["got"] == pytest.approx(4, abs=0.05)
    assert (last["value"], last["got"]) in [(s["value"], s["got"]) for s in steps[:-1]]
    assert server.api("GET", server.path)["revision"] == server.base
    # What it found is what the ledger says of it.
    edit = {"type": "set_params", "stage": "drum-c", "params": {"threshold_db": last["value"]}}
    server.api("POST", f"{server.path}/edits", {"base": server.base, "edits": [edit]})
    path = f"{server.path}/strips/drum/ledger?at=drum-c&begin=0&end=192000"
    while (answer := server.api("GET", path))["done"] < 1:
        tab.wait("analysed")
    assert answer["ledger"]["reduction"]["p95"] == pytest.approx(4, abs=0.1)
    tab.close()


def test_stopped_and_refused(server: Server) -> None:
    tab = server.tab()
    number = server.api("POST", f"{server.path}/aims", WISH | {"end": 576_000})["number"]
    server.api("DELETE", f"/aims/{number}")
    while not (event := tab.wait("aimed"))["done"]:
        pass
    assert event["problem"] == "stopped"
    tab.close()
    for change, words in (
        ({"stage": "nobody"}, "nobody"),
        ({"control": "lookahead_ms"}, "nothing to aim with"),
        ({"begin": 5, "end": 0}, "end"),
        ({"wish": {"what": "luck", "wanted": 1}}, "what"),
    ):
        wrong: dict[str, Any] = WISH | change
        refused = server.http.post(f"/api{server.path}/aims", json=wrong)
        assert 400 <= refused.status_code < 500
        assert words in refused.json()["error"]
    assert server.http.delete("/api/aims/999999").status_code == 404


def test_a_killed_process_is_said_and_the_next_aim_works(server: Server) -> None:
    tab = server.tab()
    server.api("POST", f"{server.path}/aims", WISH | {"end": 576_000})
    assert not tab.wait("aimed")["done"]
    os.kill(children(server.process.pid)["salt-aims"], signal.SIGKILL)
    while not (event := tab.wait("aimed"))["done"]:
        pass
    assert event["problem"] == "the process that aims ended; try again"
    server.api("POST", f"{server.path}/aims", WISH)
    while not (event := tab.wait("aimed"))["done"]:
        pass
    assert event["problem"] is None
    tab.close()
