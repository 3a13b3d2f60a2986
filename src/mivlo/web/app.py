"""The application: interface, events, listening sessions, and the page itself."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from fastapi import FastAPI
from fastapi.responses import FileResponse, PlainTextResponse, Response
from fastapi.staticfiles import StaticFiles
from starlette.concurrency import run_in_threadpool

from mivlo import __version__
from mivlo.config import settings
from mivlo.jobs.running import look_again
from mivlo.live.warming import warm_up
from mivlo.services.recordings.treated import maker
from mivlo.web import errors, live
from mivlo.web.doors import Doors, served_names
from mivlo.web.events import Hub
from mivlo.web.routes import api

_POLICY = (
    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; "
    "connect-src 'self' ws: wss:; worker-src 'self' blob:; font-src 'self' data:"
)


@asynccontextmanager
async def _lifespan(app: FastAPI) -> AsyncIterator[None]:
    await run_in_threadpool(warm_up)
    app.state.hub = Hub(look_again)
    app.state.hub.start()
    yield
    maker.stop()
    await app.state.hub.stop()


def make_app() -> FastAPI:
    """The whole web application."""
    app = FastAPI(title="Mivlo", version=__version__, lifespan=_lifespan, docs_url=None, redoc_url=None)
    app.add_middleware(Doors, names=served_names(settings().host, settings().names))
    errors.install(app)
    app.include_router(api)
    app.include_router(live.router)

    page = settings().page_dir
    if (page / "assets").is_dir():
        app.mount("/assets", StaticFiles(directory=page / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def show_page(path: str) -> Response:
        """The page for every address that is not one of the interface."""
        if path.startswith("api/"):
            return errors.problem(404, "There is nothing at this address.")
        index = page / "index.html"
        if not index.is_file():
            return PlainTextResponse("The page is not built yet. Run `make setup`.", 503)
        file = (page / path).resolve()
        known = file.is_file() and file.is_relative_to(page.resolve())
        return FileResponse(
            file if known else index,
            headers={"Content-Security-Policy": _POLICY, "Cache-Control": "no-cache"},
        )

    return app
