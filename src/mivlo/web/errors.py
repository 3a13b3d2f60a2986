"""Our errors as problem details (RFC 9457)."""

from __future__ import annotations

from http import HTTPStatus
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from sqlalchemy.exc import DataError, DBAPIError
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException

from mivlo.audio.room import DiskFull
from mivlo.core.errors import MivloError
from mivlo.description import out_of_bounds
from mivlo.jobs.running import INSIDE
from mivlo.services.errors import AlreadyMade, ChangedSince, NotFound, NothingToUndo, NotReady, StaleRevision
from mivlo.services.recordings.tidying import full_disk
from mivlo.services.song.state import read_song
from mivlo.store.database import session
from mivlo.store.outages import is_away
from mivlo.web.problems import problem
from mivlo.web.schemas import SongOut

_STATUS: dict[type[MivloError], int] = {
    NotFound: 404,
    NothingToUndo: 409,
    ChangedSince: 409,
    NotReady: 503,
}


_SAID = {
    400: "The request could not be read: it is not the JSON that this address takes.",
    404: "There is nothing at this address.",
    405: "This address does not take such a request.",
}
_NO_TEXT = "The request could not be used: it holds a text with signs that are none, or too large a number."


async def _if_full(error: Exception) -> JSONResponse | None:
    """The answer where a full disk is the reason."""
    said = await run_in_threadpool(full_disk, error)
    return problem(507, said) if said else None


def _state(song_id: int, page: str) -> dict[str, Any] | None:
    """The present state of a song; None where it was deleted meanwhile."""
    try:
        with session() as open_session:
            return SongOut.model_validate(read_song(open_session, song_id, page)).model_dump(mode="json")
    except NotFound:
        return None


def _with_state(error: StaleRevision, page: str) -> JSONResponse:
    song = _state(error.song_id, page)
    return problem(409, str(error)) if song is None else problem(409, str(error), song=song)


def install(app: FastAPI) -> None:
    """Translate errors at the border; nothing fails silently."""

    @app.exception_handler(StaleRevision)
    async def stale(request: Request, error: StaleRevision) -> JSONResponse:
        """With the present state beside, so that the page need not ask for it."""
        return await run_in_threadpool(_with_state, error, request.headers.get("mivlo-page", ""))

    @app.exception_handler(AlreadyMade)
    async def made(request: Request, error: AlreadyMade) -> JSONResponse:
        """As if it had been made now."""
        page = request.headers.get("mivlo-page", "")
        return JSONResponse(await run_in_threadpool(_state, error.song_id, page))

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

    @app.exception_handler(OSError)
    @app.exception_handler(DiskFull)
    async def not_written(request: Request, error: Exception) -> JSONResponse:
        if answer := await _if_full(error):
            return answer
        raise error

    @app.exception_handler(Exception)
    async def fault(request: Request, error: Exception) -> JSONResponse:
        """It is logged by whoever runs us."""
        return problem(500, INSIDE)

    @app.exception_handler(HTTPException)
    async def no(request: Request, error: HTTPException) -> JSONResponse:
        said = _SAID.get(error.status_code, f"{HTTPStatus(error.status_code).phrase}.")
        return problem(error.status_code, said, headers=dict(error.headers or {}))

    @app.exception_handler(UnicodeEncodeError)
    async def no_text(request: Request, error: UnicodeEncodeError) -> JSONResponse:
        return problem(422, _NO_TEXT)

    @app.exception_handler(DBAPIError)
    async def no_database(request: Request, error: DBAPIError) -> JSONResponse:
        if isinstance(error, DataError):
            return problem(422, _NO_TEXT)
        if answer := await _if_full(error):
            return answer
        if is_away(error):
            return problem(503, "The database is away. It is tried again by itself; `mivlo doctor` says more.")
        raise error
