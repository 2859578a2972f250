"""The guard without a server: which Host and Origin pass, what is too large."""

import asyncio
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest

from salt_anvil.api.guard import BODY_LIMIT, Guard, allowed_hosts

HOSTS = allowed_hosts("127.0.0.1", 8787)


def ask(headers: dict[str, str], kind: str = "http", path: str = "/api/sessions") -> list[Any]:
    """Return what the guard sends, or ["passed"] if the application was reached."""
    sent: list[Any] = []

    async def app(scope: Any, receive: Any, send: Any) -> None:
        await receive()
        sent.append("passed")

    async def receive() -> dict[str, str]:
        return {"type": "http.request" if kind == "http" else "websocket.connect"}

    async def send(message: Any) -> None:
        sent.append(message)

    scope = {
        "type": kind, "method": "PUT", "path": path,
        "headers": [(k.lower().encode(), v.encode()) for k, v in headers.items()],
    }  # fmt: skip
    # In a thread of its own: what drives the browser keeps a loop running in this one.
    with ThreadPoolExecutor(1) as pool:
        pool.submit(asyncio.run, Guard(app, HOSTS)(scope, receive, send)).result()
    return sent


@pytest.mark.parametrize("host", ["127.0.0.1:8787", "localhost:8787", "[::1]:8787"])
@pytest.mark.parametrize("kind", ["http", "websocket"])
def test_own_pages_pass(host: str, kind: str) -> None:
    assert ask({"Host": host, "Origin": f"http://{host}"}, kind) == ["passed"]
    assert ask({"Host": host}, kind) == ["passed"]


@pytest.mark.parametrize(
    "headers",
    [
        {},
        {"Host": "salt.example:8787"},
        {"Host": "127.0.0.1"},
        {"Host": "127.0.0.1:8787", "Origin": "http://salt.example"},
        {"Host": "127.0.0.1:8787", "Origin": "http://127.0.0.1:9999"},
        {"Host": "127.0.0.1:8787", "Origin": "null"},
    ],
)
def test_others_are_turned_away(headers: dict[str, str]) -> None:
    assert ask(headers)[0]["status"] == 403
    assert ask(headers, "websocket")[0]["code"] == 1008


@pytest.mark.parametrize(
    ("length", "path", "passes"),
    [
        (str(BODY_LIMIT), "/api/sessions", True),
        (str(BODY_LIMIT + 1), "/api/sessions", False),
        (str(BODY_LIMIT + 1), "/api/sessions/1/audio", True),
    ],
)
def test_size_limits(length: str, path: str, passes: bool) -> None:
    sent = ask({"Host": HOSTS[0], "Content-Length": length}, path=path)
    assert (sent == ["passed"]) is passes
    if not passes:
        assert sent[0]["status"] == 413


def test_hosts_of_an_open_address() -> None:
    assert "[::]:9000" in allowed_hosts("::", 9000)
    assert "studio:80" in allowed_hosts("studio", 80)
    assert "studio" in allowed_hosts("studio", 80)
