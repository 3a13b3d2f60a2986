"""Refusals as problem details (RFC 9457)."""

from __future__ import annotations

import json
from http import HTTPStatus
from typing import Any

from fastapi.responses import JSONResponse


class ProblemResponse(JSONResponse):
    media_type = "application/problem+json"

    def render(self, content: Any) -> bytes:
        """Whatever was sent to us may stand in it, also what is no text."""
        return json.dumps(content, ensure_ascii=False, allow_nan=False).encode("utf-8", "replace")


def problem(status: int, detail: str, *, headers: dict[str, str] | None = None, **more: Any) -> ProblemResponse:
    """An answer that says in a sentence why not."""
    body = {"type": "about:blank", "title": HTTPStatus(status).phrase, "status": status, "detail": detail, **more}
    return ProblemResponse(body, status, headers=headers)
