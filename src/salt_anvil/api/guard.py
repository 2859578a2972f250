"""Who may talk to the server: only its own pages, with requests of bounded size."""

from collections.abc import Iterable
from urllib.parse import urlsplit

from starlette.datastructures import Headers
from starlette.middleware.body_limit import RequestBodyLimitMiddleware
from starlette.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

BODY_LIMIT = 8 << 20
UPLOAD_LIMIT = 8 << 30
UPLOADS = ("/audio", "/references", "/proof/file", "/bundles")
"""Where files are put."""
POLICY = (
    b"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:;"
    b" worker-src 'self' blob:"
)
LOCAL = ("127.0.0.1", "localhost", "[::1]")


class Guard:
    """ASGI middleware: 403 for another Host or Origin, 413 for too much, security headers."""

    def __init__(self, app: ASGIApp, hosts: Iterable[str]) -> None:
        self._app = app
        self._limited = RequestBodyLimitMiddleware(app, BODY_LIMIT)
        self._upload = RequestBodyLimitMiddleware(app, UPLOAD_LIMIT)
        self._hosts = set(hosts)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Pass what is allowed on."""
        if scope["type"] not in ("http", "websocket"):
            await self._app(scope, receive, send)
            return
        refusal = self._refusal(Headers(scope=scope))
        if refusal and scope["type"] == "websocket":
            await receive()
            await send({"type": "websocket.close", "code": 1008, "reason": refusal})
        elif refusal:
            await JSONResponse({"error": refusal}, 403)(scope, receive, send)
        elif scope["type"] == "websocket":
            await self._app(scope, receive, send)
        else:
            await self._http(scope, receive, send)

    def _refusal(self, headers: Headers) -> str | None:
        host = headers.get("host", "")
        if host not in self._hosts:
            return f"the name {host} is not this server's"
        origin = headers.get("origin")
        if origin is not None and _host_of(origin) not in self._hosts:
            return f"a page from {origin} may not talk to this server"
        return None

    async def _http(self, scope: Scope, receive: Receive, send: Send) -> None:
        upload = scope["method"] == "PUT" and scope["path"].endswith(UPLOADS)

        async def with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                message["headers"] = [
                    *message.get("headers", []),
                    (b"content-security-policy", POLICY),
                    (b"x-content-type-options", b"nosniff"),
                    (b"cross-origin-opener-policy", b"same-origin"),
                    (b"cross-origin-resource-policy", b"same-origin"),
                ]  # fmt: skip
            await send(message)

        app = self._upload if upload else self._limited
        # What says beforehand that it is too large is answered in a sentence; the rest is counted.
        length = Headers(scope=scope).get("content-length", "")
        if length.isdigit() and int(length) > app.max_body_size:
            await JSONResponse({"error": "the request is too large"}, 413)(scope, receive, send)
            return
        await app(scope, receive, with_headers)


def _host_of(origin: str) -> str:
    try:
        return urlsplit(origin).netloc
    except ValueError:
        return ""


def allowed_hosts(host: str, port: int) -> list[str]:
    """Return the Host values under which the server answers."""
    names = {*LOCAL, f"[{host}]" if ":" in host else host}
    return sorted({f"{name}:{port}" for name in names} | (names if port == 80 else set()))
