"""Our errors as problem details (RFC 9457)."""

from __future__ import annotations

from http import HTTPStatus
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from sqlalchemy.exc import OperationalError
from starlette.concurrency import run_in_threadpool

from mivlo.core.errors import MivloError
from mivlo.description import out_of_bounds
from mivlo.services.errors import ChangedSince, NotFound, NothingToUndo, NotReady, StaleRevision
from mivlo.services.song.state import read_song
from mivlo.store.database import session
from mivlo.web.schemas import SongOut

_STATUS: dict[type[MivloError], int] = {
    NotFound: 404,
    NothingToUndo: 409,
    ChangedSince: 409,
    NotReady: 503,
}


def problem(status: int, detail: str, **more: Any) -> JSONResponse:
    body = {"type": "about:blank", "title": HTTPStatus(status).phrase, "status": status, "detail": detail, **more}
    return JSONResponse(body, status, media_type="application/problem+json")


def _with_state(error: StaleRevision) -> JSONResponse:
    try:
        with session() as open_session:
            song = SongOut.model_validate(read_song(open_session, error.song_id))
    except NotFound:  # deleted meanwhile
        return problem(409, str(error))
    return problem(409, str(error), song=song.model_dump(mode="json"))


def install(app: FastAPI) -> None:
    """Translate errors at the border; nothing fails silently."""

    @app.exception_handler(StaleRevision)
    async def stale(request: Request, error: StaleRevision) -> JSONResponse:
        """With the present state beside, so that the page need not ask for it."""
        return await run_in_threadpool(_with_state, error)

    @app.exception_handler(MivloError)
    async def refused(request: Request, error: MivloError) -> JSONResponse:
        return problem(_STATUS.get(type(error), 400), str(error))

    @app.exception_handler(RequestValidationError)
    async def invalid(request: Request, error: RequestValidationError) -> JSONResponse:
        bounds = [out_of_bounds(item) for item in error.errors()]
        if all(bounds):
            return problem(400, " ".join(str(said) for said in bounds))
        parts = [
            f"{'.'.join(str(part) for part in item['loc'][1:]) or 'body'}: {item['msg'].lower()}"
            for item in error.errors()
        ]
        return problem(422, "The request could not be used. " + "; ".join(parts) + ".")

    @app.exception_handler(OperationalError)
    async def no_database(request: Request, error: OperationalError) -> JSONResponse:
        return problem(503, "The database is not reachable. Run `mivlo doctor` to see what to do.")
