"""Marks for a gate over HTTP and in the command line."""

from pathlib import Path

import pytest

from salt_anvil.cli import main
from tests.server import Server


def with_gate(server: Server) -> str:
    edit = {"type": "add_stage", "place": "drum", "index": 0, "kind": "gate", "params": {}}
    state = server.api("POST", f"{server.path}/edits", {"base": server.base, "edits": [edit]})
    chain = next(s for s in state["model"]["strips"] if s["id"] == "drum")["chain"]
    return str(chain[0]["id"])


def test_hits_are_told_apart_or_it_is_said(
    server: Server, capsys: pytest.CaptureFixture[str]
) -> None:
    gate = with_gate(server)
    path = f"{server.path}/gatings"
    found = server.api("POST", path, {"stage": gate, "keep": [24_000], "refuse": []})
    assert -80 <= found["threshold_db"] <= 0
    assert found["problem"] is None or found["margin_db"] < 1
    # The same hit cannot be kept and refused.
    same = server.api("POST", path, {"stage": gate, "keep": [24_000], "refuse": [24_000]})
    assert "no range tells them apart" in same["problem"]
    words = ["gate", str(server.session), gate, "--keep", "0.5", "--data", str(server.data)]
    assert main(words) == (0 if found["problem"] is None else 1)
    assert "threshold" in capsys.readouterr().out or found["problem"]


@pytest.mark.parametrize(
    ("marks", "words"),
    [
        ({"stage": "drum-c", "keep": [0]}, "this is none"),
        ({"stage": "nobody", "keep": [0]}, "nobody"),
        ({"stage": "drum-c", "keep": []}, "keep"),
        ({"stage": "drum-c", "keep": [-1]}, "keep"),
    ],
)
def test_what_cannot_be_is_said(server: Server, marks: dict[str, object], words: str) -> None:
    answer = server.http.post(f"/api{server.path}/gatings", json=marks)
    assert answer.status_code in (400, 404, 422)
    assert words in answer.text


def test_marks_too_far_apart(server: Server) -> None:
    far = {"stage": with_gate(server), "keep": [0], "refuse": [1 << 30]}
    answer = server.http.post(f"/api{server.path}/gatings", json=far)
    assert "further apart than 120 s" in answer.text
    assert Path(server.data).is_dir()
