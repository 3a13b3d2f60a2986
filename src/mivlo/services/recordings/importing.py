"""Bringing a recording in: from an upload to a track with its analysis."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mivlo.audio.cache import MissingRecording, silent_frames
from mivlo.audio.decode import SoundInfo, inspect
from mivlo.audio.marks import Marks, read_marks
from mivlo.audio.working import Analysis
from mivlo.core.errors import InvalidValue
from mivlo.core.graph.streams import Samples, Turned
from mivlo.core.moves import Channels
from mivlo.services.recordings.files import recordings
from mivlo.services.recordings.placing import place_of_new
from mivlo.services.song.edits import added_row, lock_song
from mivlo.services.song.log import Change
from mivlo.services.song.moves import moves_counted
from mivlo.services.song.naming import guess_role, name_from_file
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.services.song.strips import MOST_STRIPS, strip_row
from mivlo.services.tasks.tasks import OPEN_STATES, TaskProgress, create_task, get_task
from mivlo.store.database import session
from mivlo.store.models import RecordingRow, Song, StripRow, TaskRow

MOST_MARKERS = 500
"""More markers of one file are kept in the file, but not shown."""


def song_sources(song: SongState, *, skip_missing: bool = False) -> dict[int, Samples]:
    """The working copies of a song's tracks, by strip; memory-mapped.

    skip_missing: leave out the tracks whose recording is gone: they are silent, the others sound.

    Raises
    ------
    MissingRecording : the store has lost one.
    """
    local = recordings()
    found: dict[int, Samples] = {}
    for track in song.tracks:
        if not track.audio_sha256:
            continue
        try:
            found[track.id] = as_heard(track, local.samples(track.recording, song.sample_rate))
        except MissingRecording:
            if not skip_missing:
                raise
    return found


def as_heard(track: StripState, samples: Samples) -> Samples:
    """A track's recording in the polarity in which the song has it."""
    return Turned(samples) if track.turned else samples


@dataclass(frozen=True, slots=True)
class BroughtIn:
    """A recording that is not a track's yet."""

    audio_sha256: str
    file_name: str
    starts_at_s: float = 0.0


@dataclass(frozen=True, slots=True)
class _InFile:
    """What a recording's file says of itself."""

    brought: BroughtIn
    info: SoundInfo
    marks: Marks

    @classmethod
    def of(cls, brought: BroughtIn) -> _InFile:
        original = recordings().original(brought)
        return cls(brought, inspect(original, brought.file_name), read_marks(original))

    @property
    def reference_s(self) -> float | None:
        """When it began, from midnight; None where the file says nothing."""
        reference = self.marks.time_reference
        return None if reference is None else reference / self.info.sample_rate

    @property
    def markers(self) -> list[dict[str, Any]]:
        """Its markers within the sound, in order of time, as the database keeps them."""
        rate = self.info.sample_rate
        inside = sorted((m.frame, m.label) for m in self.marks.markers if m.frame <= self.info.frames)
        return [{"at_s": frame / rate, "label": label[:100]} for frame, label in inside[:MOST_MARKERS]]

    def row(self, known: Analysis, *, was_at_s: float, starts_at_s: float, says: str) -> RecordingRow:
        """As a track plays it from `starts_at_s` on.

        known : of its working copy, which was made for `was_at_s`. says : told beside what its decoder told.
        """
        silence, before = (silent_frames(at, known.sample_rate) for at in (starts_at_s, was_at_s))
        return RecordingRow(
            file_name=self.brought.file_name,
            audio_sha256=self.brought.audio_sha256,
            source_rate=self.info.sample_rate,
            source_frames=self.info.frames,
            channels=known.channels,
            frames=silence + known.frames - before,
            starts_at_s=starts_at_s,
            reference_s=self.reference_s,
            markers=self.markers,
            notice=" ".join(text for text in (known.notice, says) if text),
            deleted=False,
        )


def request_import(song_id: int, file_name: str, digest: str, *, page: str = "") -> TaskRow:
    """A task that makes a track of an original that is already in the store."""
    with session() as open_session:
        lock_song(open_session, song_id)
        _check_room(open_session, song_id)
        # the place is fixed now: imports run side by side, and tracks shall come in the order of the files
        position = _next_position(open_session, song_id)
        payload = {"file_name": file_name, "sha256": digest, "position": position, "page": page}
        return create_task(open_session, song_id, "import", file_name, payload)


def _check_room(open_session: Session, song_id: int) -> None:
    """Refuse more strips than a song has, those counted that are still being read."""
    there = select(func.count()).where(StripRow.song_id == song_id, StripRow.deleted.is_(False))
    coming = select(func.count()).where(
        TaskRow.song_id == song_id, TaskRow.kind == "import", TaskRow.state.in_(OPEN_STATES)
    )
    if int(open_session.scalar(there) or 0) + int(open_session.scalar(coming) or 0) >= MOST_STRIPS:
        raise InvalidValue(
            "strips", MOST_STRIPS, "a song has no more tracks and groups; delete some, or begin another song"
        )


def _next_position(open_session: Session, song_id: int) -> int:
    """Behind all tracks and behind what is still being read."""
    last = open_session.scalar(select(func.max(StripRow.position)).where(StripRow.song_id == song_id))
    waiting = open_session.scalar(
        select(func.max(TaskRow.payload["position"].as_integer())).where(
            TaskRow.song_id == song_id, TaskRow.kind == "import", TaskRow.state.in_(OPEN_STATES)
        )
    )
    return 1 + max(-1 if last is None else last, -1 if waiting is None else waiting)


def request_replacement(song_id: int, track_id: int, file_name: str, digest: str) -> TaskRow:
    """A task that has a track play another recording, an original that is already in the store; its moves stay."""
    with session() as open_session:
        lock_song(open_session, song_id)
        strip_row(open_session, song_id, track_id)
        payload = {"file_name": file_name, "sha256": digest, "instead_in": track_id}
        return create_task(open_session, song_id, "import", file_name, payload)


def run_import(task_id: int) -> dict[str, Any]:
    """Do the task; can be run twice without harm. Returns the track's id and a notice, if any."""
    with session() as open_session:
        task = get_task(open_session, task_id)
        if "track_id" in task.result:  # a worker died after the track was made
            return task.result
        song_id, payload = task.song_id, task.payload
    file_name = payload["file_name"]
    name = name_from_file(file_name)
    recording = BroughtIn(payload["sha256"], file_name)
    if "instead_in" in payload:
        return _replace_recording(task_id, song_id, recording, payload["instead_in"])
    return add_track(
        task_id, song_id, recording, f"import {name}", name, position=payload["position"],
        page=payload.get("page", ""),
    )  # fmt: skip


def add_track(
    task_id: int,
    song_id: int,
    brought: BroughtIn,
    label: str,
    name: str,
    *,
    position: int,
    instead_of: Sequence[int] = (),
    page: str = "",
) -> dict[str, Any]:
    """Make a track of an original in the store, as one step; what a task that did this returns.

    instead_of : strips that the track takes the place of; its role, routing and levels are those of the first.
    """
    file = _InFile.of(brought)
    with session() as open_session:
        song = open_session.get_one(Song, song_id)
        rate = song.sample_rate
        expected = place_of_new(open_session, song, file.reference_s, without=instead_of)
    known = recordings().make(replace(brought, starts_at_s=expected.starts_at_s), rate, TaskProgress(task_id))
    with session() as open_session:
        song = lock_song(open_session, song_id)
        task = get_task(open_session, task_id)
        if "track_id" in task.result:  # a second worker did the same task at the same time and was first
            return task.result
        place = place_of_new(open_session, song, file.reference_s, without=instead_of)  # others may have come meanwhile
        recording = file.row(known, was_at_s=expected.starts_at_s, starts_at_s=place.starts_at_s, says=place.notice)
        track = StripRow(
            song_id=song_id,
            kind="track",
            name=name,
            role=str(guess_role(name)),
            position=position,
            recordings=[recording],
        )
        replaced = [strip_row(open_session, song_id, i) for i in instead_of]
        if replaced:
            for value in ("parent_id", "role", "fader_db", "mute", "solo", "turned"):
                setattr(track, value, getattr(replaced[0], value))
        also = [*place.changes, *(Change("strip", row.id, {"deleted": True}) for row in replaced)]
        added_row(open_session, song, label, "strip", track, also=also, page=page)
        result: dict[str, Any] = {"track_id": track.id, "notice": recording.notice}
        task.result = result
    return result


def _replace_recording(task_id: int, song_id: int, brought: BroughtIn, track_id: int) -> dict[str, Any]:
    """Put a recording in the place of the one that a track plays, as one step; what no longer fits is said."""
    file = _InFile.of(brought)
    with session() as open_session:
        rate = open_session.get_one(Song, song_id).sample_rate
        starts_at_s = read_song(open_session, song_id).track(track_id).starts_at_s
    known = recordings().make(replace(brought, starts_at_s=starts_at_s), rate, TaskProgress(task_id))
    with session() as open_session:
        song = lock_song(open_session, song_id)
        task = get_task(open_session, task_id)
        if "track_id" in task.result:
            return task.result
        track = read_song(open_session, song_id).track(track_id)
        row = strip_row(open_session, song_id, track_id)
        new = file.row(
            known, was_at_s=starts_at_s, starts_at_s=track.starts_at_s, says=_no_longer_fits(track, known.channels)
        )
        new.strip_id = track_id
        old = [Change("recording", r.id, {"deleted": True}) for r in row.recordings if not r.deleted]
        added_row(open_session, song, f"{row.name}: another take", "recording", new, also=old)
        task.result = {"track_id": track_id, "notice": new.notice}
        return dict(task.result)


def _no_longer_fits(track: StripState, channels: int) -> str:
    """What of a track's treatment says nothing of a recording with so many channels; empty if all does."""
    if channels == 2 or track.channels == channels:
        return ""
    gone = sum(entry.channels is Channels.SIDE for entry in track.entries)
    moved = sum(entry.channels not in (Channels.ALL, Channels.SIDE) for entry in track.entries)
    said = []
    if gone:
        said.append(f"{moves_counted(gone)} of the sides {'does' if gone == 1 else 'do'} nothing")
    if moved:
        said.append(
            f"{moves_counted(moved)} of left, right or middle alone {'acts' if moved == 1 else 'act'} on all of it"
        )
    return f"The new take is mono: {' and '.join(said)}." if said else ""
