"""Scans over HTTP: what is found before a stage, what cannot be, and that nothing changes."""

import os
import signal
import threading
import time

import httpx
import pytest

from tests.api.processes import children
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


WISH = {"stage": "drum-c", "begin": 0, "end": 576_000}


def scan_that_stands_still(server: Server) -> tuple[int, threading.Thread, list[httpx.Response]]:
    """Begin a scan while its process is stopped: the process, who waits for it, the answers."""
    server.api("POST", f"{server.path}/scans", WISH)
    helper = children(server.process.pid)["salt-aims"]
    os.kill(helper, signal.SIGSTOP)
    answers: list[httpx.Response] = []
    url = f"/api{server.path}/scans"
    asking = threading.Thread(target=lambda: answers.append(server.http.post(url, json=WISH)))
    asking.start()
    while not list((server.data / "aims").glob("scan-*")):
        time.sleep(0.01)
    return helper, asking, answers


def test_a_killed_process_is_said_and_the_next_scan_works(server: Server) -> None:
    """The helper is stopped, so that the scan is under way for certain, and then killed."""
    helper, asking, answers = scan_that_stands_still(server)
    os.kill(helper, signal.SIGKILL)
    asking.join()
    assert answers[0].status_code >= 400
    assert "the process that measures ended; try again" in answers[0].text
    assert server.api("POST", f"{server.path}/scans", WISH)["seconds"] == 12


def test_a_scan_is_stopped(server: Server) -> None:
    """Stopped while its process stands still, it gives up as soon as that goes on."""
    helper, asking, answers = scan_that_stands_still(server)
    server.api("DELETE", f"{server.path}/scans")
    os.kill(helper, signal.SIGCONT)
    asking.join()
    assert answers[0].status_code >= 400
    assert "the scan was stopped" in answers[0].text
    assert not list((server.data / "aims").glob("scan-*"))
    assert server.api("POST", f"{server.path}/scans", WISH)["seconds"] == 12


def test_two_tabs_scan_one_after_the_other(server: Server) -> None:
    wish = {"stage": "drum-c", "begin": 0, "end": 576_000}
    found: list[object] = []

    def ask() -> None:
        answer = httpx.post(f"{server.url}/api{server.path}/scans", json=wish, timeout=120)
        found.append(answer.json()["level_db"])

    tabs = [threading.Thread(target=ask) for _ in range(2)]
    for tab in tabs:
        tab.start()
    for tab in tabs:
        tab.join()
    assert found[0] == found[1]
