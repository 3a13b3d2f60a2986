"""The HTTP interface of what comes after bringing files in: when they begin, and two sides made one track."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter

from mivlo.services.recordings import pairing, placing
from mivlo.services.song.state import read_song
from mivlo.store.database import session
from mivlo.web import schemas as s
from mivlo.web.routes import Id, Page

placing_api = APIRouter(prefix="/api/songs/{song_id}")


@placing_api.post("/placing", response_model=s.SongOut)
def place(song_id: Id, body: s.PlacingIn, page: Page = "") -> Any:
    """Have all tracks begin as the time references of their files say, or all at zero: one step."""
    with session() as open_session:
        placing.place_recordings(open_session, song_id, body.by, page=page)
        return read_song(open_session, song_id, page)


@placing_api.post("/pairs", response_model=s.TaskOut, status_code=202)
def pair(song_id: Id, body: s.PairIn, page: Page = "") -> Any:
    """Make one stereo track of a left and a right one. The answer is the task that does it."""
    return pairing.request_pairing(song_id, body.left_id, body.right_id, page=page)
