"""A first start: the page is there while kernels and demo are made, and says how far they are."""

import os
import signal
from pathlib import Path

import httpx

from tests.api.processes import children, until
from tests.server import Server, serving


def test_a_first_start_says_how_far_it_is(tmp_path: Path) -> None:
    """With no kernels; ended in the middle, nothing is left running."""
    server = Server(tmp_path / "data", ready=False, NUMBA_CACHE_DIR=str(tmp_path / "k"))
    try:
        reported = server.api("GET", "/readiness")
        assert not reported["ready"]
        assert [p["name"] for p in reported["parts"]] == [
            "The sound engine is compiled for this machine"
        ]
        assert "Salt Anvil" in httpx.get(server.url).text
        answer = server.http.get("/api/sessions")
        assert answer.status_code == 503
        assert "getting ready" in answer.json()["error"]
        until(lambda: server.api("GET", "/readiness")["parts"][0]["share"] > 0)
        making = children(server.process.pid)["salt-making"]
    finally:
        server.stop()
    until(lambda: not Path(f"/proc/{making}").exists())


def test_what_cannot_be_made_is_said(tmp_path: Path) -> None:
    server = Server(tmp_path / "data", ready=False, NUMBA_CACHE_DIR=str(tmp_path / "k"))
    try:
        making = until(lambda: children(server.process.pid).get("salt-making"))
        os.kill(making, signal.SIGKILL)
        reported = until(
            lambda: (t := server.api("GET", "/readiness"))["parts"][0]["problem"] and t
        )
        assert "ended before it was done" in reported["parts"][0]["problem"]
        # The rest goes on: what is not compiled yet is compiled when it is needed.
        until(lambda: server.api("GET", "/readiness")["ready"])
        assert server.api("GET", "/sessions") == []
    finally:
        server.stop()


def test_a_second_start_is_ready_at_once(band_data: Path, tmp_path: Path) -> None:
    with serving(tmp_path / "data", ready=False) as server:
        assert server.api("GET", "/readiness") == {"ready": True, "parts": []}
