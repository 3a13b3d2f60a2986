"""Handing over: treated stems, alone or zipped. The same chain as the one that is heard."""

from __future__ import annotations

import re
import shutil
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from mivlo.audio.decode import inspect, read_blocks
from mivlo.audio.encode import Container, Depth, SoundWriter
from mivlo.audio.library import Library
from mivlo.core.chain import Chain
from mivlo.core.errors import InvalidValue
from mivlo.core.moves import Move
from mivlo.core.spectra import Singles
from mivlo.services.importing import library
from mivlo.services.sheets import song_sheet
from mivlo.services.state import SongState, TrackState, read_song
from mivlo.services.tasks import TaskProgress, create_task, get_task
from mivlo.store.database import session
from mivlo.store.models import TaskRow

BLOCK_FRAMES = 65_536


@dataclass(frozen=True, slots=True)
class ExportOptions:
    """What to write: which tracks, how deep, in which container, at which rate."""

    track_ids: tuple[int, ...]
    depth: Depth
    container: Container
    original_rate: bool

    @classmethod
    def from_payload(cls, payload: dict[str, Any]) -> ExportOptions:
        return cls(
            tuple(payload["track_ids"]),
            Depth(payload["depth"]),
            Container(payload["container"]),
            bool(payload["original_rate"]),
        )


def request_export(song_id: int, options: ExportOptions) -> TaskRow:
    """A task that renders the tracks; their moves are taken as they are now."""
    with session() as open_session:
        song = read_song(open_session, song_id)
        tracks = [song.track(track_id) for track_id in options.track_ids]
        if not tracks:
            raise InvalidValue("track_ids", [], "choose at least one track to export")
        label = tracks[0].name if len(tracks) == 1 else f"{len(tracks)} tracks"
        payload = {
            "track_ids": list(options.track_ids),
            "depth": str(options.depth),
            "container": str(options.container),
            "original_rate": options.original_rate,
            "revision": song.revision,
        }
        return create_task(open_session, song_id, "export", label, payload)


def treat_stream(
    blocks: Iterator[Singles],
    moves: list[Move],
    sample_rate: int,
    channels: int,
    writer: SoundWriter,
    total: int,
    progress: Callable[[float], None],
) -> int:
    """Run blocks through a chain into a file; the number of frames."""
    chain = Chain(sample_rate, channels, moves)
    done = 0
    for x in blocks:
        writer.write(chain.process(x))
        done += len(x)
        progress(done / max(total, 1))
    return done


def _file_name(index: int, track: TrackState, container: Container) -> str:
    clean = re.sub(r"[^\w\-. ]+", "", track.name).strip().replace(" ", "_") or "track"
    return f"{index:02d}_{clean}.{container.value}"


def _source(files: Library, song: SongState, track: TrackState, original: bool) -> tuple[int, Iterator[Singles]]:
    if original and track.source_rate != song.sample_rate:
        path = files.original(track.audio_sha256, Path(track.file_name).suffix)
        inspect(path, track.file_name)
        return track.source_rate, read_blocks(path, track.file_name)
    x = files.samples(track.audio_sha256, song.sample_rate)
    return song.sample_rate, (x[i : i + BLOCK_FRAMES] for i in range(0, len(x), BLOCK_FRAMES))


def run_export(task_id: int) -> dict[str, Any]:
    """Do the task; run twice, it starts afresh. Returns the names of the files and notices."""
    with session() as open_session:
        task = get_task(open_session, task_id)
        options = ExportOptions.from_payload(task.payload)
        song = read_song(open_session, task.song_id)
    files, progress = library(), TaskProgress(task_id)
    folder = files.exports(task_id)
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    names, notices = [], []
    for i, track_id in enumerate(options.track_ids):
        track = song.track(track_id)
        position = [t.id for t in song.tracks].index(track_id) + 1
        name = _file_name(position, track, options.container)
        rate, blocks = _source(files, song, track, options.original_rate)
        moves = [move.move() for move in track.moves]
        with SoundWriter(folder / name, rate, track.channels, options.depth, options.container) as writer:
            treat_stream(
                blocks,
                moves,
                rate,
                track.channels,
                writer,
                track.frames,
                progress.part(i, len(options.track_ids)),
            )
        names.append(name)
        if writer.clipped:
            notices.append(
                f"{track.name}: {writer.clipped} samples were above full scale and were clipped. "
                "Lower it or export 32 bit float."
            )
    if len(names) > 1:
        names = [_zip(folder, names, song)]
    return {"files": names, "notices": notices}


def _zip(folder: Path, names: list[str], song: SongState) -> str:
    """All files and the sheet in one archive (stored: sound hardly shrinks)."""
    clean = re.sub(r"[^\w\-]+", "_", song.name).strip("_") or "song"
    archive = f"{clean}.zip"
    with zipfile.ZipFile(folder / archive, "w", zipfile.ZIP_STORED) as out:
        for name in names:
            out.write(folder / name, name)
            (folder / name).unlink()
        out.writestr("sheet.json", song_sheet(song).model_dump_json(indent=2, exclude_none=True))
    return archive
