"""Scans over HTTP: what is found before a stage, what cannot be, and that nothing changes."""

import pytest

from tests.server import Server


def test_what_comes_into_a_stage_of_the_demo(server: Server) -> None:
    wish = {"stage": "drum-c", "begin": 0, "end": 576_000}
    found = server.api("POST", f"{server.path}/scans", wish)
    assert len(found["hz"]) == len(found["level_db"]) == len(found["around_db"])
    assert found["seconds"] == 12
    assert found["words"]
    assert len(found["places"]) == len(found["found"])
    assert server.api("GET", server.path)["revision"] == server.base


@pytest.mark.parametrize(
    ("wish", "words"),
    [
        ({"stage": "nobody", "end": 576_000}, "nobody"),
        ({"stage": "drum-c", "end": 48_000}, "needs 3 s"),
        ({"stage": "drum-c", "begin": 1 << 39, "end": 1 << 39}, "no sound"),
        ({"stage": "drum-c"}, "end"),
    ],
)
def test_what_cannot_be_scanned_is_said(
    server: Server, wish: dict[str, object], words: str
) -> None:
    answer = server.http.post(f"/api{server.path}/scans", json=wish)
    assert answer.status_code in (400, 404, 409, 422)
    assert words in answer.text
