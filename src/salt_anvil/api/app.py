"""The application: routes, WebSocket, the built pages."""

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from functools import partial
from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.staticfiles import StaticFiles

from salt_anvil.api import live, models, print_routes, proof_routes, recipe_routes, routes
from salt_anvil.api.guard import Guard
from salt_anvil.api.hub import Hub
from salt_anvil.api.preparation import Preparation
from salt_anvil.api.processes import begin_template
from salt_anvil.core.errors import (
    ConflictError,
    MissingError,
    MissingRowError,
    NotReadyError,
    SaltAnvilError,
)
from salt_anvil.core.session import fault_in_words

STATUS: dict[type[Exception], int] = {
    SaltAnvilError: 422,
    MissingError: 404, MissingRowError: 404, ConflictError: 409, NotReadyError: 503,
}  # fmt: skip
PAGES = Path(__file__).parent.parent / "web"


def create_app(hub: Hub, hosts: list[str], preparation: Preparation) -> FastAPI:
    """Return the application around a hub; hosts are the Host values that it answers."""

    async def begin() -> None:
        await run_in_threadpool(preparation.run)
        begin_template()
        await hub.start()

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        beginning = asyncio.create_task(begin())
        if not preparation.parts:
            await beginning
        yield
        preparation.stop()
        beginning.cancel()
        await hub.stop()

    app = FastAPI(title="Salt Anvil", lifespan=lifespan, docs_url=None, redoc_url=None)
    app.state.hub, app.state.preparation = hub, preparation
    app.include_router(routes.router)
    app.include_router(recipe_routes.router)
    app.include_router(print_routes.router)
    app.include_router(proof_routes.router)
    app.include_router(live.router)
    for kind, status in STATUS.items():
        app.add_exception_handler(kind, partial(_refused, status))
    app.add_exception_handler(RequestValidationError, _invalid)
    app.add_exception_handler(HTTPException, _nowhere)
    app.add_middleware(Guard, hosts=hosts)
    if PAGES.is_dir():
        app.mount("/", StaticFiles(directory=PAGES, html=True), name="pages")
    return app


async def _refused(status: int, request: Request, error: Exception) -> JSONResponse:
    return JSONResponse(models.Problem(error=str(error)).model_dump(), status)


async def _nowhere(request: Request, error: Exception) -> JSONResponse:
    assert isinstance(error, HTTPException)
    words = {
        404: "there is nothing at this address", 405: "that cannot be done at this address",
        413: "the request is too large",
    }  # fmt: skip
    said = words.get(error.status_code, str(error.detail))
    return JSONResponse(models.Problem(error=said).model_dump(), error.status_code)


async def _invalid(request: Request, error: Exception) -> JSONResponse:
    assert isinstance(error, RequestValidationError)
    fault = error.errors()[0]
    said = fault_in_words({**fault, "loc": tuple(fault["loc"][1:])})
    return JSONResponse(models.Problem(error=said).model_dump(), 422)


def schema() -> dict[str, object]:
    """Return the API's schema with the WebSocket's messages in it, for the page's types."""
    app = FastAPI(title="Salt Anvil")
    app.include_router(routes.router)
    app.include_router(recipe_routes.router)
    app.include_router(print_routes.router)
    app.include_router(proof_routes.router)

    @app.get("/live-messages")
    def messages() -> models.Live:  # pragma: no cover
        raise NotImplementedError

    return app.openapi()
