"""Marks for a gate over HTTP and in the command line; the jobs' tests prove what they find."""

import pytest

from salt_anvil.cli import main
from tests.server import Server


def with_gate(server: Server) -> str:
    edit = {"type": "add_stage", "place": "drum", "index": 0, "kind": "gate", "params": {}}
    state = server.api("POST", f"{server.path}/edits", {"base": server.base, "edits": [edit]})
    chain = next(s for s in state["model"]["strips"] if s["id"] == "drum")["chain"]
    return str(chain[0]["id"])


def test_http_and_command_line_say_the_same(
    server: Server, capsys: pytest.CaptureFixture[str]
) -> None:
    """The drum of the session swells: its tops are to be kept, what lies between is not."""
    gate = with_gate(server)
    top, low = round(30000 * 3.1416 / 2), round(30000 * 3.1416)
    marks = {"stage": gate, "keep": [top], "refuse": [low]}
    found = server.api("POST", f"{server.path}/gatings", marks)
    assert found["problem"] is None
    assert found["margin_db"] > 6
    words = ["gate", str(server.session), gate, "--data", str(server.data)]
    words += ["--keep", str(top / 48000), "--refuse", str(low / 48000)]
    assert main(words) == 0
    assert f"threshold {found['threshold_db']:g} dB" in capsys.readouterr().out
    # The same hit cannot be kept and refused.
    same = server.api("POST", f"{server.path}/gatings", marks | {"refuse": [top]})
    assert "no range tells them apart" in same["problem"]
    assert main([*words[:-1], str(top / 48000)]) == 1


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
