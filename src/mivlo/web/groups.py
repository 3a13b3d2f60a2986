"""The HTTP interface of groups and the mix: making groups, routing, treating a group in place of its tracks."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter

from mivlo.services.findings import deciding, looking
from mivlo.services.making import gathering
from mivlo.services.song import strips
from mivlo.services.song.state import read_song
from mivlo.store.database import session
from mivlo.web import schemas as s
from mivlo.web.routes import Id, Page

groups_api = APIRouter(prefix="/api/songs/{song_id}")


@groups_api.post("/groups", response_model=s.SongOut, status_code=201)
def add_group(song_id: Id, body: s.NewGroup, page: Page = "") -> Any:
    """A new group, with tracks or groups in it if they are named: as one step."""
    with session() as open_session:
        strips.add_group(open_session, song_id, body.name, body.strip_ids, page=page)
        return read_song(open_session, song_id, page)


@groups_api.put("/strips/{strip_id}/parent", response_model=s.SongOut)
def route(song_id: Id, strip_id: Id, body: s.Routing, page: Page = "") -> Any:
    """Route a track or a group into a group or, with null, into the mix; in front of another strip if one is named."""
    with session() as open_session:
        strips.route(
            open_session, song_id, strip_id, body.parent_id, before_id=body.before_id, outline=body.outline, page=page
        )
        return read_song(open_session, song_id, page)


@groups_api.post("/tracks/{track_id}/look", response_model=s.FindingsOut, status_code=202)
def look_at(song_id: Id, track_id: Id) -> Any:
    """Have one strip looked at if its findings are out of date: a group or the mix is by nothing else."""
    with session() as open_session:
        looking.request_stale(open_session, song_id, track_id)
    with session() as open_session:
        return deciding.track_findings(open_session, song_id, track_id)


@groups_api.post("/strips/{strip_id}/gathering", response_model=s.GatheringOut)
def plan_gathering(song_id: Id, strip_id: Id, body: s.GatheringIn) -> Any:
    """What treating a group in place of its tracks, or its tracks in its place, would be: nothing is changed."""
    planned = gathering.plan_gathering(song_id, strip_id, body.direction, body.move_ids)
    lines = [{"strip_id": x.strip_id, "move": s.unsaved(x.entry), "of": x.of, "says": x.says} for x in planned.lines]
    return {"lines": lines, "stays": planned.stays, "difference": planned.difference}


@groups_api.post("/strips/{strip_id}/gather", response_model=s.SongOut, status_code=201)
def gather(song_id: Id, strip_id: Id, body: s.GatheringIn, page: Page = "") -> Any:
    """Treat a group in place of its tracks, or its tracks in its place, as one step."""
    gathering.gather(song_id, strip_id, body.direction, body.move_ids, outline=body.outline, page=page)
    with session() as open_session:
        return read_song(open_session, song_id, page)
