"""Handing over: treated stems, groups and the mix, alone or zipped. The same renderer as the one that is heard."""

from __future__ import annotations

import json
import re
import shutil
import uuid
import zipfile
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter

from mivlo.audio.cache import MissingRecording, silent_frames
from mivlo.audio.decode import FileSamples, until_readable
from mivlo.audio.encode import BYTES, Container, Depth, SoundWriter
from mivlo.audio.marks import NO_MARKS, Marks, add_marks, marks_in
from mivlo.audio.room import check_room
from mivlo.config import settings
from mivlo.core.errors import InvalidValue
from mivlo.core.graph import Plan, StripKind, Tap, compile, render
from mivlo.core.graph.streams import Delayed, Samples
from mivlo.services.handover.sheets import sheet_document, song_sheet
from mivlo.services.recordings.files import recordings, store
from mivlo.services.recordings.importing import as_heard, song_sources
from mivlo.services.recordings.treated import known_treated
from mivlo.services.song.moves import moves_counted, words_of
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.services.tasks.tasks import TaskProgress, create_task, get_task
from mivlo.store.database import session
from mivlo.store.models import TaskRow


@dataclass(frozen=True, slots=True)
class ExportOptions:
    """What to write: which strips, how deep, in which container, at which rate, with what behind the moves."""

    track_ids: tuple[int, ...]
    depth: Depth
    container: Container
    original_rate: bool
    aftercare: bool = True
    reverb: bool = False


@dataclass(frozen=True)
class _Order:
    """What an export was asked for: its options, and the song as it was then."""

    options: ExportOptions
    song: SongState


_orders: TypeAdapter[_Order] = TypeAdapter(_Order)


def request_export(song_id: int, options: ExportOptions) -> TaskRow:
    """A task that renders strips as they are now, whatever is changed until it runs."""
    with session() as open_session:
        song = read_song(open_session, song_id)
        strips = [song.strip(strip_id) for strip_id in options.track_ids]
        if not strips:
            raise InvalidValue("track_ids", [], "choose at least one track to export")
        _check_room(song, options)
        label = strips[0].name if len(strips) == 1 else f"{len(strips)} tracks"
        payload = _orders.dump_python(_Order(options, song), mode="json")
        return create_task(open_session, song_id, "export", label, payload)


def run_export(task_id: int) -> dict[str, Any]:
    """Do the task; run twice, also at once, no run harms the other. Returns the names of the files and notices."""
    with session() as open_session:
        order = _orders.validate_python(get_task(open_session, task_id).payload)
    _check_room(order.song, order.options)
    folder = settings().data_dir / "exports" / f"{task_id}.{uuid.uuid4().hex}.part"
    folder.mkdir(parents=True)
    try:
        result = _write_all(folder, order, TaskProgress(task_id))
        for file in folder.iterdir():  # where another run of the same task was first, its files are the same
            store().put(exported_name(task_id, file.name), file)
    finally:
        shutil.rmtree(folder, ignore_errors=True)  # our own, under a name that nobody else knows
    return result


def _check_room(song: SongState, options: ExportOptions) -> None:
    """DiskFull where there is no room for all files; a zip needs room for the largest twice."""
    sizes = []
    for strip_id in options.track_ids:
        strip = song.strip(strip_id)
        track = strip.kind is StripKind.TRACK
        frames = strip.frames if track else song.frames
        if track and options.original_rate:
            frames = strip.source_frames + silent_frames(strip.starts_at_s, strip.source_rate)
        sizes.append(frames * (strip.channels if track else 2) * BYTES[options.depth])
    needed = sum(sizes) + (max(sizes, default=0) if len(sizes) > 1 else 0)
    what = "the export" if len(sizes) > 1 else f"the export of {song.strip(options.track_ids[0]).name}"
    check_room(settings().data_dir / "exports", needed, what, keep_free=settings().keep_free_bytes)


def exported_name(task_id: int, file_name: str) -> str:
    """Under which name the store has a file that an export made."""
    return f"exports/{task_id}/{file_name}"


@dataclass(frozen=True, slots=True)
class _Sounds:
    """What is rendered from: a plan, the recordings at its rate, treated sounds that are known, the length.

    file : where the strip's recording is read from its file, that, which lies behind `silence` frames.
    """

    plan: Plan
    sources: dict[int, Samples]
    treated: dict[int, Samples]
    frames: int
    file: FileSamples | None = None
    silence: int = 0


def _write_all(folder: Path, order: _Order, progress: TaskProgress) -> dict[str, Any]:
    names, notices = [], []
    options = order.options
    song = order.song.exported(aftercare=options.aftercare, reverb=options.reverb)
    sources = song_sources(song)
    of_song = _Sounds(song.plan, sources, known_treated(song, sources), song.frames)
    for i, strip_id in enumerate(options.track_ids):
        strip = song.strip(strip_id)
        name = _file_name(song, strip, options.container)
        sounds = _sounds_for(strip, of_song, song, options)
        clipped = _write(folder / name, sounds, strip, options, progress.part(i, len(options.track_ids)))
        if options.container is Container.WAV:
            try:
                add_marks(folder / name, _marks_of(strip, sounds.plan.sample_rate))
            except MissingRecording:  # it sounds from its working copy
                notices.append(
                    f"{strip.name}: its recording is missing in the store; a time reference and markers that it had "
                    "are not in the export."
                )
        names.append(name)
        if clipped:
            notices.append(
                f"{strip.name}: {clipped} samples were above full scale and were clipped. "
                "Lower it or export 32 bit float."
            )
    notices += _not_carried(order.song, options.track_ids)
    if len(names) > 1:
        names = [_zip(folder, names, order.song)]
    return {"files": names, "notices": notices}


def _not_carried(song: SongState, strip_ids: tuple[int, ...]) -> list[str]:
    """What groups and the mix do that the stems of what runs into them don't have: a sentence each, moves by name."""
    above: dict[int, list[str]] = {}
    for strip_id in strip_ids:
        for group in song.plan.above(strip_id):
            above.setdefault(group, []).append(song.strip(strip_id).name)
    said = []
    for strip in song.strips:
        on = [words_of(entry) for entry in strip.entries if entry.enabled]
        if strip.id in above and on:
            count = moves_counted(len(on))
            said.append(f"{strip.name} has {count} ({', '.join(on)}) that {_listed(above[strip.id])}.")
    return said


_MOST_NAMED = 3


def _listed(names: list[str]) -> str:
    if len(names) == 1:
        return f"the stem of {names[0]} doesn't carry"
    more = len(names) - _MOST_NAMED
    return f"the stems of {', '.join(names[:_MOST_NAMED])}{f' and {more} more' if more > 0 else ''} don't carry"


def _file_name(song: SongState, strip: StripState, container: Container) -> str:
    """Tracks carry their number; a group and the mix carry none."""
    clean = re.sub(r"[^\w\-. ]+", "", strip.name).strip().replace(" ", "_") or "track"
    number = f"{song.tracks.index(strip) + 1:02d}_" if strip.kind is StripKind.TRACK else f"{strip.kind}{strip.id}_"
    return f"{number}{clean}.{container.value}"


def write_in_place(path: Path, song: SongState, track_id: int, depth: Depth, container: Container) -> int:
    """Render a track into a file that can stand in its recording's place: same rate, same beginning, same marks.

    song : without what a file shall not have. Returns how many samples were clipped.
    """
    options = ExportOptions((track_id,), depth, container, original_rate=True)
    track = song.strip(track_id)
    sources = song_sources(song, skip_missing=True)
    sounds = _sounds_for(track, _Sounds(song.plan, sources, known_treated(song, sources), song.frames), song, options)
    silence = silent_frames(track.starts_at_s, sounds.plan.sample_rate)
    clipped = _write(path, sounds, track, options, lambda share: None, start=silence)
    if container is Container.WAV:
        add_marks(path, _marks_of(track, sounds.plan.sample_rate, silence=0))
    return clipped


def _write(
    path: Path,
    sounds: _Sounds,
    strip: StripState,
    options: ExportOptions,
    progress: Callable[[float], None],
    *,
    start: int = 0,
) -> int:
    """Render one strip into a file, from frame `start` of the song; how many samples were clipped.

    A group or the mix has the song's length.
    """
    frames = sounds.frames
    channels = strip.channels if strip.kind is StripKind.TRACK else 2
    with SoundWriter(
        path, sounds.plan.sample_rate, channels, options.depth, options.container, frames=frames - start
    ) as writer:
        done = 0
        made = render(sounds.plan, sounds.sources, (strip.id, Tap.BEHIND), start, frames, treated=sounds.treated)
        for block in until_readable(made, sounds.file, sounds.silence - start):
            writer.write(block)
            done += len(block)
            progress(done / max(frames - start, 1))
    return writer.clipped


def _marks_of(strip: StripState, sample_rate: int, *, silence: int | None = None) -> Marks:
    """What the file of a track's recording says of its beginning, and its markers, at the rate of the export.

    silence : frames in front of it in the export; as in the song unless given.
    """
    if strip.kind is not StripKind.TRACK or not strip.audio_sha256:
        return NO_MARKS
    with recordings().open_original(strip.recording) as file:
        marks = marks_in(file).at_rate(strip.source_rate, sample_rate)
    return marks.behind_silence(silent_frames(strip.starts_at_s, sample_rate) if silence is None else silence)


def _sounds_for(strip: StripState, of_song: _Sounds, song: SongState, options: ExportOptions) -> _Sounds:
    """The song's sounds, or those at the rate of one track's recording, which is read from its original."""
    if strip.kind is not StripKind.TRACK:
        return of_song
    if not options.original_rate or strip.source_rate == song.sample_rate:
        return replace(of_song, frames=strip.frames)
    plan = compile([s.strip() for s in song.strips], sample_rate=strip.source_rate)
    recording = FileSamples(recordings().original(strip.recording), strip.file_name, keep_readable=True)
    # what it listens to is heard at its rate; no treated sound is kept at that rate
    keys = plan.recordings_of(strip.id) - {strip.id}
    steering = {
        i: as_heard(song.strip(i), recordings().samples(song.strip(i).recording, strip.source_rate)) for i in keys
    }
    silence = silent_frames(strip.starts_at_s, strip.source_rate)
    sources = {**steering, strip.id: as_heard(strip, Delayed(recording, silence))}
    return _Sounds(plan, sources, {}, silence + recording.info.frames, recording, silence)


def _zip(folder: Path, names: list[str], song: SongState) -> str:
    """All files and the sheet in one archive (stored: sound hardly shrinks)."""
    clean = re.sub(r"[^\w\-]+", "_", song.name).strip("_") or "song"
    archive = f"{clean}.zip"
    with zipfile.ZipFile(folder / archive, "w", zipfile.ZIP_STORED) as out:
        for name in names:
            out.write(folder / name, name)
            (folder / name).unlink()
        out.writestr("sheet.json", json.dumps(sheet_document(song_sheet(song)), indent=2, ensure_ascii=False))
    return archive
