"""Our errors as problem details (RFC 9457)."""

from __future__ import annotations

from http import HTTPStatus

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from sqlalchemy.exc import OperationalError

from mivlo.core.errors import MivloError
from mivlo.services.errors import ChangedSince, NotFound, NothingToUndo, NotReady, StaleRevision

_STATUS: dict[type[MivloError], int] = {
    NotFound: 404,
    StaleRevision: 409,
    NothingToUndo: 409,
    ChangedSince: 409,
    NotReady: 503,
}


def problem(status: int, detail: str) -> JSONResponse:
    body = {"type": "about:blank", "title": HTTPStatus(status).phrase, "status": status, "detail": detail}
    return JSONResponse(body, status, media_type="application/problem+json")


def install(app: FastAPI) -> None:
    """Translate errors at the border; nothing fails silently."""

    @app.exception_handler(MivloError)
    async def refused(request: Request, error: MivloError) -> JSONResponse:
        return problem(_STATUS.get(type(error), 400), str(error))

    @app.exception_handler(RequestValidationError)
    async def invalid(request: Request, error: RequestValidationError) -> JSONResponse:
        parts = [
            f"{'.'.join(str(part) for part in item['loc'][1:]) or 'body'}: {item['msg'].lower()}"
            for item in error.errors()
        ]
        return problem(422, "The request could not be used. " + "; ".join(parts) + ".")

    @app.exception_handler(OperationalError)
    async def no_database(request: Request, error: OperationalError) -> JSONResponse:
        return problem(503, "The database is not reachable. Run `mivlo doctor` to see what to do.")
