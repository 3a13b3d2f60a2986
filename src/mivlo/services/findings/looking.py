"""Looking for findings: which tracks have to be looked at, doing it, and what becomes of older findings."""

from __future__ import annotations

import hashlib
import json
from dataclasses import replace
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from mivlo.audio.cache import MissingRecording
from mivlo.core.errors import BadAudio
from mivlo.core.findings import METHOD, Along, Finding, Search
from mivlo.core.findings.frames import Sound
from mivlo.core.findings.network import shipped_model
from mivlo.core.findings.own_moments import LEAST_S
from mivlo.core.findings.room_rings import LEAST_OTHERS
from mivlo.core.graph import StripKind, Tap
from mivlo.core.roles import Role
from mivlo.core.spectra import Singles
from mivlo.services.errors import NotFound
from mivlo.services.findings.documents import FindingDocument
from mivlo.services.recordings.files import recordings
from mivlo.services.recordings.treated import tapped
from mivlo.services.song.edits import lock_song
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.services.tasks.tasks import TaskProgress, create_task, get_task, open_tasks
from mivlo.store.database import session as open_session
from mivlo.store.database import tell
from mivlo.store.models import FindingRow, LookRow, StripRow

MOST_PLAYING = 32
"""As many tracks are listened to for what they leave in another."""


def looked_range(song: SongState, track: StripState) -> tuple[int, int]:
    """Frames between which a track is looked at: the passage if the song says so, else all of it."""
    if not song.look_in_passage or song.passage_from_s is None or song.passage_to_s is None:
        return 0, track.frames
    start = min(track.frames, int(song.passage_from_s * song.sample_rate))
    stop = min(track.frames, int(song.passage_to_s * song.sample_rate))
    return (start, stop) if stop > start else (0, track.frames)


def playing_beside(song: SongState, track: StripState) -> list[StripState]:
    """The tracks that a look at one hears as well; what is a room itself plays nothing.

    They tell what rings in a room, and which moments of any other track are its own.
    """
    start, stop = looked_range(song, track)
    too_short = track.role is not Role.ROOM and stop - start < LEAST_S * song.sample_rate
    if track.kind is not StripKind.TRACK or too_short:
        return []
    return [t for t in song.tracks if t.frames and t.id != track.id and t.role is not Role.ROOM][:MOST_PLAYING]


def told_by_others(song: SongState, track: StripState) -> bool:
    """Whether what rings in a track is told by what the others play: a room of two or more."""
    return track.role is Role.ROOM and len(playing_beside(song, track)) >= LEAST_OTHERS


def analysis_key(song: SongState, track: StripState) -> str:
    """Names all that the findings of a track depend on; another key means that they are out of date."""
    method = [METHOD, shipped_model().fingerprint]
    heard = song.exported()
    if track.turned:  # what stands out in a track does not depend on which way it pushes
        heard = heard.with_strip(replace(heard.strip(track.id), turned=False))
    beside = [(other.recording.audio_sha256, other.recording.starts_at_s) for other in playing_beside(song, track)]
    facts = [method, heard.plan.sound(track.id), track.role, looked_range(song, track), beside]
    return hashlib.sha256(json.dumps(facts, sort_keys=True, default=str).encode()).hexdigest()


def request_stale(session: Session, song_id: int, strip_id: int | None = None) -> list[int]:
    """Tasks for the tracks whose findings are out of date and that nobody looks at already; their ids.

    strip_id : for this strip alone. Groups and the mix change with every fader below them: they are looked at when
        somebody asks for them.

    A track that is changed while it is looked at is asked for again when that look is over.
    """
    lock_song(session, song_id)  # one at a time asks for looks: a track has at most one that is open
    song = read_song(session, song_id)
    strips = song.tracks if strip_id is None else (song.strip(strip_id),)
    ids = [strip.id for strip in strips]
    known = dict(session.execute(select(LookRow.strip_id, LookRow.key).where(LookRow.strip_id.in_(ids))).all())
    taken = looking(session, song_id)
    stale = [s for s in strips if s.frames and known.get(s.id) != analysis_key(song, s) and s.id not in taken]
    return [create_task(session, song_id, "analyse", s.name, {"track_id": s.id}).id for s in stale]


def run_analysis(task_id: int) -> dict[str, Any]:
    """Do the task: look at the track as it is now, and keep what was found. Can be run twice without harm."""
    with open_session() as session:
        task = get_task(session, task_id)
        song = read_song(session, task.song_id)
        try:
            track = song.strip(task.payload["track_id"])
        except NotFound:
            return {}  # deleted meanwhile
        known = session.get(LookRow, track.id)
        key = analysis_key(song, track)
        if known is not None and known.key == key:
            return {"track_id": track.id}
    start, stop = looked_range(song, track)
    song = song.exported()
    treated = not song.strip(track.id).treatment.changes_nothing
    if treated or track.kind is not StripKind.TRACK:
        sound: Sound = tapped(song, (track.id, Tap.BEHIND))
    else:
        sound = recordings().samples(track.recording, song.sample_rate)
    found, along = _look(sound, song, track, start, stop, TaskProgress(task_id))
    with open_session() as session:
        row = LookRow(
            strip_id=track.id, key=key, method=METHOD, from_s=start / song.sample_rate, to_s=stop / song.sample_rate,
            treated=treated, along=along,
        )  # fmt: skip
        session.get(StripRow, track.id, with_for_update=True)  # one at a time for a track
        if _overtaken(session, song.id, track.id, key):
            return {"track_id": track.id}
        session.merge(row)
        keep_findings(session, track.id, found)
        tell(session, song.id, "findings", track_id=track.id)
    return {"track_id": track.id}


def recorded(track: StripState, sample_rate: int) -> Singles:
    """A track's recording as it came; silence where the store has it no more: others can be told about without it."""
    try:
        return recordings().samples(track.recording, sample_rate)
    except MissingRecording:
        return np.zeros((0, 1), dtype=np.float32)


def _overtaken(session: Session, song_id: int, track_id: int, key: str) -> bool:
    """Whether a look that began later, at the track as it is now, was over sooner: an older one must not undo it."""
    known = session.get(LookRow, track_id)
    if known is None or known.key == key:
        return False
    song = read_song(session, song_id)
    track = next((strip for strip in song.strips if strip.id == track_id), None)
    return track is not None and known.key == analysis_key(song, track)


def _look(
    sound: Sound, song: SongState, track: StripState, start: int, stop: int, progress: TaskProgress
) -> tuple[list[Finding], dict[str, Any]]:
    try:
        search = Search(
            sound, sample_rate=song.sample_rate, start=start, stop=stop, role=track.role, progress=progress,
            others=[recorded(other, song.sample_rate) for other in playing_beside(song, track)],
        )  # fmt: skip
    except BadAudio:  # nothing can be said of so short a sound
        return [], {}
    found = search.findings()
    return [*found, *search.own_tones(found)], {} if search.silent else _along_document(search.along())


def _along_document(along: Along) -> dict[str, Any]:
    digits = {"hz": 2, "excess_db": 1, "share": 3, "fixed_db": 1, "ring_ms": 0}
    return {name: np.round(getattr(along, name), n).tolist() for name, n in digits.items()}


def _same(row: FindingRow, finding: Finding) -> bool:
    """Whether a finding means what an older one meant: the same sort of thing at the same place."""
    momentary = {"sibilance", "plosive", "whistle", "rumble", "hum"}
    if (row.kind in momentary or finding.kind in momentary) and row.kind != finding.kind:
        return False
    reach = max(1 / 24, 0.5 * min(row.bandwidth_oct, finding.bandwidth_oct))
    alike = 0.25 < finding.bandwidth_oct / row.bandwidth_oct < 4.0
    return alike and bool(abs(np.log2(finding.frequency_hz / row.frequency_hz)) <= reach)


def keep_findings(session: Session, track_id: int, found: list[Finding]) -> None:
    """Put what was found now beside what was known.

    What was decided is not offered again: an accepted one learns what is left of it, a rejected one stays away.
    Open ones get their new values or, if they are gone, are hidden.
    """
    query = select(FindingRow).where(FindingRow.strip_id == track_id)
    rows = list(session.scalars(query.order_by(FindingRow.id)))
    left = list(found)
    for row in sorted(rows, key=lambda r: r.state == "open"):  # decided ones take their match first
        match = next((f for f in left if _same(row, f)), None)
        if match is not None:
            left.remove(match)
        if row.state != "open":
            row.left_db = None if match is None else round(match.excess_db, 1)
            continue
        row.present = match is not None
        if match is not None:
            _fill(row, match)
    for finding in left:
        row = FindingRow(strip_id=track_id, state="open", present=True)
        _fill(row, finding)
        session.add(row)


def _fill(row: FindingRow, finding: Finding) -> None:
    row.kind, row.rank, row.left_db = str(finding.kind), finding.rank, None
    row.frequency_hz, row.bandwidth_oct = finding.frequency_hz, finding.bandwidth_oct
    row.document = FindingDocument.of(finding, evidence=True).model_dump(mode="json")


def looking(session: Session, song_id: int) -> dict[int, float]:
    """Tracks that are being looked at or wait for it, with the progress of each."""
    return {int(task.payload["track_id"]): task.progress for task in open_tasks(session, song_id, "analyse")}
