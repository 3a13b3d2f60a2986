"""The application: interface, events, listening sessions, and the page itself."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

from fastapi import FastAPI
from fastapi.responses import FileResponse, PlainTextResponse, Response
from fastapi.staticfiles import StaticFiles
from starlette.concurrency import run_in_threadpool

from mivlo import __version__
from mivlo.config import settings
from mivlo.jobs.running import look_again
from mivlo.live.warming import warm_up
from mivlo.services.recordings.treated import maker
from mivlo.web import errors, live, signing_in
from mivlo.web.bounds import Bounds
from mivlo.web.changes import NamedChanges
from mivlo.web.clashes import clashes_api
from mivlo.web.doors import Doors, served_names
from mivlo.web.events import Hub
from mivlo.web.groups import groups_api
from mivlo.web.habits import habits_api, recipes_api
from mivlo.web.headers import SafeHeaders
from mivlo.web.placing import placing_api
from mivlo.web.problems import problem
from mivlo.web.routes import api
from mivlo.web.signing_in import SignedIn, SignIn
from mivlo.web.watching import watching_api


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
    password = settings().password.get_secret_value()
    app.state.sign_in = SignIn(password, settings().data_dir / "session-key") if password else None
    # the last one added sees a request first
    app.add_middleware(NamedChanges)
    app.add_middleware(Bounds)
    if app.state.sign_in is not None:
        app.add_middleware(SignedIn, sign_in=app.state.sign_in)
    app.add_middleware(Doors, names=served_names(settings().host, settings().names))
    app.add_middleware(SafeHeaders)
    errors.install(app)
    app.include_router(api)
    app.include_router(clashes_api)
    app.include_router(groups_api)
    app.include_router(habits_api)
    app.include_router(recipes_api)
    app.include_router(placing_api)
    app.include_router(watching_api)
    app.include_router(live.router)
    app.include_router(signing_in.router)

    page = settings().page_dir
    if (page / "assets").is_dir():
        app.mount("/assets", StaticFiles(directory=page / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def show_page(path: str) -> Response:
        """The page for every address that is not one of the interface."""
        if path.startswith("api/"):
            return problem(404, "There is nothing at this address.")
        index = page / "index.html"
        if not index.is_file():
            return PlainTextResponse("The page is not built yet. Run `make setup`.", 503)
        return FileResponse(_within(page, path) or index, headers={"Cache-Control": "no-cache"})

    return app


def _within(folder: Path, path: str) -> Path | None:
    """A file of a folder; None for whatever else an address may name."""
    try:
        file = (folder / path).resolve()
        return file if file.is_file() and file.is_relative_to(folder.resolve()) else None
    except (OSError, ValueError):  # too long, or no name at all
        return None
