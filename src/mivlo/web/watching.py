"""The HTTP interface of folders that a song watches."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter

from mivlo.services.handover import song_watch
from mivlo.store.database import session
from mivlo.web import schemas as s
from mivlo.web.routes import Id

watching_api = APIRouter(prefix="/api/songs/{song_id}")


@watching_api.get("/watch", response_model=s.WatchOut)
def get_watch(song_id: Id) -> Any:
    """What the song watches, and what was said last."""
    with session() as open_session:
        return song_watch.watch_of(open_session, song_id)


@watching_api.put("/watch", response_model=s.WatchOut)
def begin_watching(song_id: Id, body: s.WatchIn) -> Any:
    """Take in stems that appear or change in a folder, and keep treated ones up to date in another."""
    with session() as open_session:
        song_watch.begin_watching(open_session, song_id, body.source, body.out)
        return song_watch.watch_of(open_session, song_id)


@watching_api.delete("/watch", response_model=s.WatchOut)
def end_watching(song_id: Id) -> Any:
    """Watch nothing any more; files and tracks stay."""
    with session() as open_session:
        song_watch.end_watching(open_session, song_id)
        return song_watch.watch_of(open_session, song_id)
