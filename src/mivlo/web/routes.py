"""The HTTP interface. Plain functions run in worker threads, never on the event loop."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterator
from typing import Annotated, Any, BinaryIO
from urllib.parse import quote

import orjson
from fastapi import APIRouter, Header, Query, Request
from fastapi import Path as InPath
from fastapi.responses import FileResponse, HTMLResponse, JSONResponse, PlainTextResponse, Response, StreamingResponse
from sse_starlette import EventSourceResponse
from starlette.concurrency import run_in_threadpool

from mivlo.audio.decode import LARGEST_BYTES
from mivlo.audio.originals import Upload
from mivlo.core import spectra
from mivlo.core.errors import BadAudio
from mivlo.core.graph import StripKind
from mivlo.core.making.starts import STARTS
from mivlo.core.moves import Phase
from mivlo.description import read_entry
from mivlo.jobs import queue
from mivlo.jobs.running import look_again
from mivlo.services.backup import restoring, saving
from mivlo.services.errors import NotFound
from mivlo.services.findings import deciding
from mivlo.services.handover import exporting, filters, sheets
from mivlo.services.making import behind, freezing, learning, starting
from mivlo.services.making.alike import Spot, more_like
from mivlo.services.making.levels import Cuts, Levels, move_cuts, move_levels
from mivlo.services.pictures import views
from mivlo.services.recordings import files, importing, tidying
from mivlo.services.song import edits, log, moves, songs, strips
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.services.tasks import tasks
from mivlo.store.database import session
from mivlo.web import schemas as s
from mivlo.web.headers import DOCUMENT

api = APIRouter(prefix="/api")

Revision = Annotated[s.Revision | None, Query(description="refuse with 409 if the song is at another revision")]
StripRevision = Annotated[s.Revision | None, Query(description="refuse with 409 if the strip is at another revision")]
Id = Annotated[int, InPath(ge=1, le=s.LARGEST)]
Index = Annotated[int, InPath(ge=0, le=s.LARGEST)]
Page = Annotated[
    str,
    Header(
        alias="Mivlo-Page", max_length=64, description="who changes: undo takes back the last step of the same page"
    ),
]
Seconds = Annotated[float, Query(ge=0, le=1e6, allow_inf_nan=False)]
Time = Annotated[float | None, Query(ge=0, le=1e6, allow_inf_nan=False)]
MOST_BACKUP_BYTES = 64 * 1024**3
FOREVER = {"Cache-Control": "private, max-age=31536000, immutable"}


def _song(song_id: int) -> SongState:
    with session() as open_session:
        return read_song(open_session, song_id)


def _given(body: Any) -> dict[str, Any]:
    """The values that the client sent, without the revision."""
    return dict(
        body.model_dump(mode="json", exclude_unset=True, exclude={"revision", "strip_revision", "outline", "alone"})
    )


@api.get("/health", response_model=s.Health)
def health(request: Request) -> Any:
    return {"database": True, "workers": queue.live_workers(), "signed_in": request.app.state.sign_in is not None}


@api.get("/disk", response_model=s.DiskOut)
def disk() -> Any:
    """What is free, and what exports and caches take."""
    return tidying.disk_use()


@api.post("/disk/tidy", response_model=s.Freed)
def tidy(body: s.Tidy) -> Any:
    """Remove exports or caches; originals and songs are never touched."""
    return {"freed": tidying.tidy(exports=body.exports, caches=body.caches)}


# --- songs ------------------------------------------------------------------------------------------


@api.get("/songs", response_model=list[s.SongLine])
def list_songs() -> Any:
    with session() as open_session:
        rows = songs.list_songs(open_session)
    return [{"id": x.id, "name": x.name, "sample_rate": x.sample_rate, "tracks": n} for x, n in rows]


@api.post("/songs", response_model=s.SongOut, status_code=201)
def create_song(body: s.NewSong) -> Any:
    with session() as open_session:
        return read_song(open_session, songs.create_song(open_session, body.name, body.sample_rate).id)


@api.get("/songs/{song_id}", response_model=s.SongOut)
def get_song(song_id: Id, page: Page = "") -> Any:
    with session() as open_session:
        return read_song(open_session, song_id, page)


@api.patch("/songs/{song_id}", response_model=s.SongOut)
def change_song(song_id: Id, body: s.SongChange, page: Page = "") -> Any:
    with session() as open_session:
        songs.change_song_values(open_session, song_id, body.revision, _given(body), outline=body.outline, page=page)
        return read_song(open_session, song_id, page)


@api.delete("/songs/{song_id}", status_code=204)
def delete_song(song_id: Id, page: Page = "") -> None:
    with session() as open_session:
        songs.delete_song(open_session, song_id, page=page)


@api.post("/songs/{song_id}/undo", response_model=s.SongOut)
def undo(song_id: Id, page: Page = "") -> Any:
    with session() as open_session:
        edits.undo(open_session, song_id, page)
        return read_song(open_session, song_id, page)


@api.post("/songs/{song_id}/redo", response_model=s.SongOut)
def redo(song_id: Id, page: Page = "") -> Any:
    with session() as open_session:
        edits.redo(open_session, song_id, page)
        return read_song(open_session, song_id, page)


@api.get("/songs/{song_id}/history", response_model=list[s.EditOut])
def history(
    song_id: Id,
    most: Annotated[int, Query(ge=1, le=5000)] = 50,
    steps: Annotated[bool, Query(description="undo and redo as lines of their own, too")] = False,
) -> Any:
    """What was done to a song, newest first."""
    with session() as open_session:
        return log.history(open_session, song_id, most, steps=steps)


@api.post("/songs/{song_id}/history/{edit_id}/go", response_model=s.SongOut)
def go_to(song_id: Id, edit_id: Id, page: Page = "") -> Any:
    """Bring everything back (or on) to how it stood behind an edit, as one step."""
    with session() as open_session:
        edits.go_to(open_session, song_id, edit_id, page)
        return read_song(open_session, song_id, page)


@api.get("/songs/{song_id}/events")
async def events(song_id: Id, request: Request) -> EventSourceResponse:
    """Server-sent events: `song` with its revision, `task` with its values, `away` and `ready`: of the database."""

    request.app.state.hub.check_room()

    async def stream() -> AsyncIterator[dict[str, str]]:
        async with request.app.state.hub.subscribe(song_id) as waiting:
            yield {"event": "ready" if request.app.state.hub.database_is_here else "away", "data": "{}"}
            while True:
                event = await waiting.get()
                yield {"event": event["kind"], "data": orjson.dumps(event).decode()}

    return EventSourceResponse(stream(), ping=15)


# --- tracks -----------------------------------------------------------------------------------------


@api.post("/songs/{song_id}/files", response_model=s.TaskOut, status_code=202)
async def upload(song_id: Id, request: Request, name: Annotated[str, Query(max_length=300)], page: Page = "") -> Any:
    """Bring a file in: its bytes as the body, streamed to disk. The answer is the task that reads it."""
    await run_in_threadpool(_song, song_id)
    incoming = await receive(request, name, LARGEST_BYTES)
    try:
        return await run_in_threadpool(_finish_upload, song_id, name, incoming, page)
    except BaseException:
        incoming.drop()
        raise


def _finish_upload(song_id: int, name: str, incoming: Upload, page: str) -> s.TaskOut:
    digest = files.originals().keep(incoming, name)
    task = importing.request_import(song_id, name, digest, page=page)
    return s.TaskOut.model_validate(task)


@api.patch("/songs/{song_id}/tracks/{track_id}", response_model=s.SongOut)
def change_track(song_id: Id, track_id: Id, body: s.TrackChange, page: Page = "") -> Any:
    with session() as open_session:
        strips.change_strip(
            open_session, song_id, track_id, body.revision, _given(body), strip_revision=body.strip_revision,
            page=page,
        )  # fmt: skip
        return read_song(open_session, song_id, page)


@api.post("/songs/{song_id}/tracks/{track_id}/compressors", response_model=s.SongOut, status_code=201)
def add_compressor(song_id: Id, track_id: Id, strip_revision: StripRevision = None, page: Page = "") -> Any:
    """A compressor behind the moves, with the threshold at which it takes 3 dB of the passage."""
    behind.add_compressor(song_id, track_id, strip_revision=strip_revision, page=page)
    with session() as open_session:
        return read_song(open_session, song_id, page)


@api.post("/songs/{song_id}/tracks/{track_id}/output", response_model=s.SongOut)
def match_output(song_id: Id, track_id: Id, strip_revision: StripRevision = None, page: Page = "") -> Any:
    """Write the output gain that makes a strip as loud behind everything as it is untreated."""
    behind.match_output(song_id, track_id, strip_revision=strip_revision, page=page)
    with session() as open_session:
        return read_song(open_session, song_id, page)


@api.delete("/songs/{song_id}/tracks/{track_id}", response_model=s.SongOut)
def delete_track(
    song_id: Id, track_id: Id, revision: Revision = None, strip_revision: StripRevision = None, page: Page = ""
) -> Any:
    with session() as open_session:
        strips.delete_strip(open_session, song_id, track_id, revision, strip_revision=strip_revision, page=page)
        return read_song(open_session, song_id, page)


@api.put("/songs/{song_id}/order", response_model=s.SongOut)
def reorder(song_id: Id, body: s.TrackOrder, page: Page = "") -> Any:
    with session() as open_session:
        songs.reorder_tracks(open_session, song_id, body.order, body.revision, outline=body.outline, page=page)
        return read_song(open_session, song_id, page)


# --- moves ------------------------------------------------------------------------------------------


@api.post("/songs/{song_id}/tracks/{track_id}/moves", response_model=s.SongOut, status_code=201)
def add_move(song_id: Id, track_id: Id, body: s.NewMove, page: Page = "") -> Any:
    with session() as open_session:
        moves.add_move(
            open_session, song_id, track_id, read_entry(_given(body)), body.revision,
            strip_revision=body.strip_revision, page=page,
        )  # fmt: skip
        return read_song(open_session, song_id, page)


@api.patch("/songs/{song_id}/moves/{move_id}", response_model=s.SongOut)
def change_move(song_id: Id, move_id: Id, body: s.MoveChange, page: Page = "") -> Any:
    with session() as open_session:
        moves.change_move(
            open_session, song_id, move_id, body.revision, _given(body), alone=body.alone,
            strip_revision=body.strip_revision, page=page,
        )  # fmt: skip
        return read_song(open_session, song_id, page)


@api.delete("/songs/{song_id}/moves/{move_id}", response_model=s.SongOut)
def delete_move(
    song_id: Id, move_id: Id, revision: Revision = None, strip_revision: StripRevision = None, page: Page = ""
) -> Any:
    with session() as open_session:
        moves.delete_move(open_session, song_id, move_id, revision, strip_revision=strip_revision, page=page)
        return read_song(open_session, song_id, page)


# --- moves that listen ------------------------------------------------------------------------------


@api.get("/starts", response_model=list[s.StartOut])
def starts() -> Any:
    """Ready starts for moves that listen, each with a sentence when to use it."""
    return list(STARTS.values())


@api.post("/songs/{song_id}/tracks/{track_id}/starts", response_model=s.SongOut, status_code=201)
def add_start(song_id: Id, track_id: Id, body: s.NewStart, page: Page = "") -> Any:
    """Add the moves of a ready start, with thresholds that fit the passage."""
    with session() as open_session:
        starting.start(
            open_session, song_id, track_id, body.name, frequency_hz=body.frequency_hz, q=body.q, key=body.key,
            strip_revision=body.strip_revision, page=page,
        )  # fmt: skip
        return read_song(open_session, song_id, page)


@api.get("/songs/{song_id}/moves/{move_id}/levels", response_model=Levels)
def levels(song_id: Id, move_id: Id, from_s: Time = None, to_s: Time = None) -> Any:
    """The level that a dynamic move reads over the passage, and the gain that it moved by."""
    with session() as open_session:
        return move_levels(open_session, song_id, move_id, from_s, to_s)


@api.post("/songs/{song_id}/tracks/{track_id}/learn", response_model=s.LearnedOut, status_code=201)
def learn(song_id: Id, track_id: Id, body: s.LearnIn, page: Page = "") -> Any:
    """Cut what stays in a track while the other tracks play: ordinary moves, linked."""
    made = learning.learn_moves(
        song_id, track_id, body.from_hz, body.to_hz, strip_revision=body.strip_revision, page=page
    )
    with session() as open_session:
        return {"song": read_song(open_session, song_id, page), "says": made.says}


@api.get("/songs/{song_id}/moves/{move_id}/cuts", response_model=Cuts)
def cuts(song_id: Id, move_id: Id, from_s: Time = None, to_s: Time = None) -> Any:
    """What an adaptive move takes away over the passage, by time and frequency."""
    with session() as open_session:
        return move_cuts(open_session, song_id, move_id, from_s, to_s)


@api.post("/songs/{song_id}/moves/{move_id}/freeze", response_model=s.TaskOut, status_code=202)
def freeze(song_id: Id, move_id: Id, page: Page = "") -> Any:
    """Put a few ordinary moves in the place of an adaptive one: those that do most of what it does in the passage."""
    return freezing.request_freezing(song_id, move_id, page)


@api.post("/songs/{song_id}/tracks/{track_id}/alike", response_model=list[s.AlikeOut])
def alike(song_id: Id, track_id: Id, body: s.SpotIn) -> Any:
    """All moments that are like a spot of a track: a range of frequencies at a time."""
    spot = Spot(body.from_hz, body.to_hz, body.from_s, body.to_s)
    with session() as open_session:
        return more_like(open_session, song_id, track_id, spot, everywhere=body.everywhere)


# --- findings ---------------------------------------------------------------------------------------


@api.get("/songs/{song_id}/tracks/{track_id}/findings", response_model=s.FindingsOut)
def track_findings(song_id: Id, track_id: Id) -> Any:
    """What stands out in a track, what was decided, and the evidence along the frequency axis."""
    with session() as open_session:
        return deciding.track_findings(open_session, song_id, track_id)


@api.get("/songs/{song_id}/repeats", response_model=list[s.RepeatOut])
def repeats(song_id: Id) -> Any:
    """What stands out at the same place in several tracks."""
    with session() as open_session:
        return deciding.repeats(open_session, song_id)


@api.post("/songs/{song_id}/look", status_code=202)
def look(song_id: Id) -> dict[str, int]:
    """Have all tracks looked at whose findings are out of date; how many."""
    return {"tracks": look_again(song_id)}


@api.post("/songs/{song_id}/findings/{finding_id}/accept", response_model=s.SongOut)
def accept_finding(song_id: Id, finding_id: Id, body: s.Acceptance, page: Page = "") -> Any:
    """Make the proposed move, or the one in the body in its place."""
    entry = read_entry(_given(body.move)) if body.move else None
    with session() as open_session:
        deciding.accept(open_session, song_id, finding_id, body.revision, entry, page=page)
        return read_song(open_session, song_id, page)


@api.post("/songs/{song_id}/findings/{finding_id}/reject", response_model=s.SongOut)
def reject_finding(song_id: Id, finding_id: Id, body: s.Decision, page: Page = "") -> Any:
    with session() as open_session:
        deciding.reject(open_session, song_id, finding_id, body.revision, page=page)
        return read_song(open_session, song_id, page)


@api.post("/songs/{song_id}/findings/{finding_id}/reopen", response_model=s.SongOut)
def reopen_finding(song_id: Id, finding_id: Id, body: s.Decision, page: Page = "") -> Any:
    with session() as open_session:
        deciding.reopen(open_session, song_id, finding_id, body.revision, page=page)
        return read_song(open_session, song_id, page)


# --- what is drawn ----------------------------------------------------------------------------------


def _strip(song_id: int, strip_id: int) -> tuple[SongState, StripState]:
    song = _song(song_id)
    return song, song.strip(strip_id)


def _track(song_id: int, track_id: int) -> tuple[SongState, StripState]:
    song = _song(song_id)
    return song, song.track(track_id)


@api.get("/songs/{song_id}/tracks/{track_id}/waveform", response_class=Response)
def waveform(song_id: Id, track_id: Id, points: int = 1000) -> Response:
    """Pairs of signed bytes: lowest and highest sample of `points` stretches of the song."""
    data = views.waveform(*_strip(song_id, track_id), points)
    return Response(data, media_type="application/octet-stream")


@api.get("/songs/{song_id}/tracks/{track_id}/profile", response_model=s.ProfileOut)
def profile(
    song_id: Id,
    track_id: Id,
    from_s: Seconds = 0.0,
    to_s: Seconds = 0.0,
    bands_per_octave: Annotated[float, Query(ge=1, le=48, allow_inf_nan=False)] = 12,
) -> Any:
    """Long-term levels of a passage (the whole track if it is empty): untreated, treated, behind the aftercare."""
    found = views.profile(*_strip(song_id, track_id), from_s, to_s, bands_per_octave)
    return {
        "grid_hz": spectra.log_grid().round(3).tolist(),
        "untreated_db": found.untreated_db.round(2).tolist(),
        "treated_db": found.treated_db.round(2).tolist(),
        "behind_db": None if found.behind_db is None else found.behind_db.round(2).tolist(),
        "comes_back": [s.BackOut(frequency_hz=hz, db=db) for hz, db in found.comes_back],
    }


@api.get("/songs/{song_id}/tracks/{track_id}/analysis", response_model=s.AnalysisOut)
def analysis(song_id: Id, track_id: Id) -> Any:
    song, track = _track(song_id, track_id)
    return files.recordings().analysis(track.recording, song.sample_rate)


@api.get("/songs/{song_id}/tracks/{track_id}/map", response_model=s.MapInfo)
def map_info(song_id: Id, track_id: Id) -> Any:
    song, strip = _strip(song_id, track_id)
    columns, levels = views.map_extent_of(song, strip)
    return {
        "rows": spectra.MAP_ROWS,
        "lowest_hz": spectra.MAP_LOWEST_HZ,
        "rows_per_octave": spectra.MAP_ROWS_PER_OCTAVE,
        "tile_columns": spectra.MAP_TILE_COLUMNS,
        "floor_db": spectra.MAP_FLOOR_DB,
        "step_db": spectra.MAP_STEP_DB,
        "column_s": spectra.map_hop(song.sample_rate) / song.sample_rate,
        "columns": columns,
        "levels": levels,
    }


@api.get("/songs/{song_id}/tracks/{track_id}/map/{level}/{tile}", response_class=Response)
def map_tile(
    song_id: Id,
    track_id: Id,
    level: Index,
    tile: Index,
    treated: bool = False,
    of: Annotated[str, Query(max_length=200, description="names the recording: with it the answer stays true")] = "",
) -> Response:
    """Columns of the time map, lowest row first, a byte each."""
    song, strip = _strip(song_id, track_id)
    data = views.map_tile(song, strip, level, tile, treated)
    headers = FOREVER if of and strip.kind is StripKind.TRACK and not treated else {}
    return Response(data, media_type="application/octet-stream", headers=headers)


# --- tasks and hand-over ----------------------------------------------------------------------------


@api.get("/songs/{song_id}/tasks", response_model=list[s.TaskOut])
def list_tasks(song_id: Id) -> Any:
    with session() as open_session:
        return tasks.list_tasks(open_session, song_id)


@api.get("/tasks/{task_id}", response_model=s.TaskOut)
def get_task(task_id: Id) -> Any:
    with session() as open_session:
        return tasks.get_task(open_session, task_id)


@api.post("/tasks/{task_id}/cancel", status_code=204)
def cancel_task(task_id: Id) -> None:
    with session() as open_session:
        tasks.cancel_task(open_session, task_id)


@api.post("/songs/{song_id}/exports", response_model=s.TaskOut, status_code=202)
def export(song_id: Id, body: s.NewExport) -> Any:
    options = exporting.ExportOptions(
        tuple(body.track_ids), body.depth, body.container, body.original_rate, body.aftercare, body.reverb
    )
    task = exporting.request_export(song_id, options)
    return task


@api.post("/songs/{song_id}/backups", response_model=s.TaskOut, status_code=202)
def back_up(song_id: Id) -> Any:
    """A backup of a song as a file to be fetched: originals, decisions, history."""
    return saving.request_backup(song_id)


@api.post("/restore", response_model=s.Restored, status_code=201)
async def restore(request: Request, name: Annotated[str, Query(max_length=300)] = "the backup") -> Any:
    """Bring the songs of a backup back as new songs: its bytes as the body, streamed to disk."""
    incoming = await receive(request, name, MOST_BACKUP_BYTES)
    try:
        await run_in_threadpool(incoming.close)
        return {"song_ids": await run_in_threadpool(restoring.restore, incoming.path, name)}
    finally:
        incoming.drop()


async def receive(request: Request, name: str, most: int) -> Upload:
    """The body of a request in a file of ours; dropped again where it can't be had whole."""
    stated = request.headers.get("content-length", "")
    expected = min(int(stated), most) if stated.isascii() and stated.isdigit() else 0
    incoming = await run_in_threadpool(files.originals().upload, name, expected)
    try:
        async for chunk in request.stream():
            if incoming.size + len(chunk) > most:
                larger = f"it is larger than {most // 1024**3} GB"
                raise BadAudio(f"Could not read {name}: {larger}. Split it, or export it as FLAC.")
            await run_in_threadpool(incoming.write, chunk)
    except BaseException:
        incoming.drop()
        raise
    return incoming


@api.get("/tasks/{task_id}/files/{name}", response_class=FileResponse)
def exported_file(task_id: Id, name: str) -> Response:
    with session() as open_session:
        names = tasks.get_task(open_session, task_id).result.get("files", [])
    kept, store = exporting.exported_name(task_id, name), files.store()
    if name not in names or not store.exists(kept):
        raise NotFound("exported file", name)
    if (path := store.here(kept)) is not None:
        return FileResponse(path, filename=name)
    headers = {"Content-Disposition": f"attachment; filename*=utf-8''{quote(name)}"}
    return StreamingResponse(_pieces(store.open(kept)), media_type="application/octet-stream", headers=headers)


def _pieces(file: BinaryIO) -> Iterator[bytes]:
    with file:
        while data := file.read(1 << 20):
            yield data


@api.get("/songs/{song_id}/sheet.json", responses={200: {"model": sheets.SongSheet}})
def song_sheet(song_id: Id) -> JSONResponse:
    return JSONResponse(sheets.sheet_document(sheets.song_sheet(_song(song_id))))


@api.get("/songs/{song_id}/tracks/{track_id}/sheet.json", responses={200: {"model": sheets.Sheet | sheets.Sheet2}})
def track_sheet(song_id: Id, track_id: Id) -> JSONResponse:
    song = _song(song_id)
    strip = song.strip(track_id)
    return JSONResponse(sheets.sheet_document(sheets.strip_sheet(song, strip)))


@api.get("/songs/{song_id}/tracks/{track_id}/impulse.wav", response_class=Response)
def impulse(song_id: Id, track_id: Id, phase: Phase = Phase.MINIMUM) -> Response:
    """The impulse response of a strip's static moves, of minimum or linear phase."""
    song = _song(song_id)
    made = filters.impulse_wav(song.strip(track_id), song.sample_rate, phase)
    return Response(made, media_type="audio/wav")


@api.get("/songs/{song_id}/tracks/{track_id}/sections.csv", response_class=PlainTextResponse)
def sections(song_id: Id, track_id: Id) -> Response:
    """The second-order sections of a strip's static moves."""
    song = _song(song_id)
    made = filters.sections_csv(song.strip(track_id), song.sample_rate)
    return Response(made, media_type="text/csv; charset=utf-8")


@api.get("/songs/{song_id}/sheet.csv", response_class=PlainTextResponse)
def sheet_csv(song_id: Id) -> Response:
    return Response(sheets.sheet_csv(_song(song_id)), media_type="text/csv; charset=utf-8")


@api.get("/songs/{song_id}/sheet.html", response_class=HTMLResponse)
def sheet_page(song_id: Id) -> HTMLResponse:
    return HTMLResponse(sheets.sheet_page(_song(song_id)), headers={"Content-Security-Policy": DOCUMENT})


@api.get("/sheet-schema.json")
def sheet_schema() -> dict[str, Any]:
    return sheets.sheet_schema()
