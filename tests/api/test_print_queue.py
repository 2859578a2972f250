"""The queue of prints over HTTP: order, what each tells, what differs, stems."""

import hashlib
import os
import signal

from salt_anvil.core.engine_version import ENGINE
from tests.api.processes import ask_print, children, finished_print
from tests.server import Server


def asked(server: Server, **options: object) -> int:
    return server.api("POST", f"{server.path}/prints", {"end": 48_000, **options})["id"]


def states(server: Server) -> dict[int, dict]:
    return {row["id"]: row for row in server.api("GET", f"{server.path}/prints")}


def test_what_waits_is_put_in_order(server: Server) -> None:
    """While the process that prints stands still, so that all but the first wait for certain."""
    ask_print(server, end=1_024)
    printing = children(server.process.pid)["salt-prints"]
    os.kill(printing, signal.SIGSTOP)
    try:
        first = asked(server, end=None)
        others = [asked(server, format=f"wav-{bits}") for bits in ("16", "24", "32f")]
        rows = states(server)
        assert [rows[n]["state"] for n in others] == ["waiting"] * 3
        server.api("POST", f"/prints/{others[2]}/sooner")
        server.api("POST", f"/prints/{others[0]}/later")
        rows = states(server)
        ordered = sorted(others, key=lambda n: rows[n]["place"])
        assert ordered == [others[2], others[0], others[1]]
        server.api("DELETE", f"/prints/{others[1]}")
    finally:
        os.kill(printing, signal.SIGCONT)
    assert finished_print(server, others[1])["state"] == "cancelled"
    assert finished_print(server, first)["state"] == "done"
    assert finished_print(server, others[0])["state"] == "done"
    answer = server.http.post(f"/api/prints/{first}/sooner")
    assert answer.status_code == 404
    assert "does not wait any more" in answer.json()["error"]


def test_a_finished_print_tells_what_it_measures_and_what_differs(server: Server) -> None:
    one = ask_print(server, format="bwf-16", end=48_000, title="One")
    report = one["report"]
    body = server.http.get(f"/api/prints/{one['id']}/file").content
    assert report["sha256"] == hashlib.sha256(body).hexdigest()
    assert report["frames"] == 48_000
    revision = server.api("GET", server.path)["revision"]
    edit = {"type": "set_strip", "strip": "fiddle", "field": "fader_db", "value": -9}
    server.api("POST", f"{server.path}/edits", {"base": revision, "edits": [edit]})
    two = ask_print(server, format="bwf-16", end=48_000)
    said = server.api("GET", f"/prints/{two['id']}/differences")
    assert any("fader" in words.lower() for words in said)
    assert said[-1].endswith(("louder", "quieter"))
    assert report["engine"] == ENGINE
    server.api("POST", f"{server.path}/undo")


def test_stems_are_asked_for_together(server: Server) -> None:
    words = server.api("GET", f"{server.path}/stems")
    assert "add up" in words["groups"]
    wanted = {"set": "groups", "options": {"format": "flac-16", "end": 48_000}}
    items = server.api("POST", f"{server.path}/stems", wanted)
    rows = [finished_print(server, item["id"]) for item in items]
    assert [r["state"] for r in rows] == ["done"] * len(items)
    assert "sum of the stems" in rows[-1]["file"]
    for body, said in (
        ({"format": "wav-20"}, "no format of a print"),
        ({"isrc": "x"}, "isrc"),
        ({"only": "kazoo"}, "kazoo"),
        ({"strip": "kazoo"}, "kazoo"),
    ):
        answer = server.http.post(f"/api{server.path}/prints", json=body)
        if answer.status_code == 200:
            row = finished_print(server, answer.json()["id"])
            assert row["state"] == "failed"
            assert said in row["message"]
        else:
            assert said in answer.json()["error"]
