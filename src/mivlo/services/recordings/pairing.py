"""Left and right in two files, `X.L` and `X.R`: offered as one stereo track, and made one."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from mivlo.audio.decode import BLOCK_FRAMES, FileSamples, inspect
from mivlo.audio.encode import BYTES, Container, Depth, SoundWriter, depth_of
from mivlo.audio.marks import add_marks, read_marks
from mivlo.audio.room import check_room
from mivlo.config import settings
from mivlo.core.errors import InvalidValue
from mivlo.core.spectra import Singles
from mivlo.services.recordings.files import originals, recordings
from mivlo.services.recordings.importing import BroughtIn, add_track
from mivlo.services.song.naming import name_from_file, side_of
from mivlo.services.song.pairs import fit
from mivlo.services.song.state import StripState, read_song
from mivlo.services.tasks.tasks import create_task, get_task
from mivlo.store.database import session
from mivlo.store.models import TaskRow


def request_pairing(song_id: int, left_id: int, right_id: int, *, page: str = "") -> TaskRow:
    """A task that makes one stereo track of two mono ones; undone at once.

    Raises
    ------
    InvalidValue : they are no two mono tracks of the same length, rate and beginning, or have moves.
    """
    with session() as open_session:
        song = read_song(open_session, song_id)
        left, right = song.track(left_id), song.track(right_id)
        _check(left, right)
        named = side_of(left.file_name)
        name = name_from_file(named[0]) if named else left.name
        payload = {"pair": [left_id, right_id], "name": name, "page": page}
        return create_task(open_session, song_id, "pair", name, payload)


def _check(left: StripState, right: StripState) -> None:
    names = f"{left.name} and {right.name}"
    if left.id == right.id:
        raise InvalidValue("pair", left.name, "choose two tracks")
    if not (left.channels == right.channels == 1):
        raise InvalidValue("pair", names, "only two mono tracks can become a stereo track")
    if left.entries or right.entries:
        raise InvalidValue("pair", names, "one of them has moves already; take them out first")
    if not fit(left, right):
        raise InvalidValue("pair", names, "they differ in length, sample rate or beginning")


def run_pairing(task_id: int) -> dict[str, Any]:
    """Do the task; can be run twice without harm. Returns the track's id and a notice, if any."""
    with session() as open_session:
        task = get_task(open_session, task_id)
        if "track_id" in task.result:
            return task.result
        song_id, payload = task.song_id, task.payload
        song = read_song(open_session, song_id)
    left, right = (song.track(i) for i in payload["pair"])
    _check(left, right)
    brought = _joined(left, right, payload["name"])
    position = next(i for i, strip in enumerate(song.strips) if strip.id == left.id)
    return add_track(
        task_id, song_id, brought, f"{left.name} and {right.name}: one stereo track", payload["name"],
        position=position, instead_of=payload["pair"], page=payload["page"],
    )  # fmt: skip


def _joined(left: StripState, right: StripState, name: str) -> BroughtIn:
    """Both sides in one original: the same samples, and the marks of the left one."""
    sides = [recordings().original(side.recording) for side in (left, right)]
    kinds = [inspect(path, side.file_name).subtype for path, side in zip(sides, (left, right), strict=True)]
    floats = any(depth_of(kind) is Depth.FLOAT_32 for kind in kinds)
    depth = Depth.FLOAT_32 if floats else Depth.BITS_24  # which holds what 16 bits hold
    frames, folder = left.source_frames, settings().data_dir / "incoming"
    folder.mkdir(parents=True, exist_ok=True)
    needed = 2 * frames * BYTES[depth]
    check_room(folder, 2 * needed, f"joining {left.name} and {right.name}", keep_free=settings().keep_free_bytes)
    with tempfile.TemporaryDirectory(dir=folder) as own:
        file = Path(own) / "joined.wav"
        with SoundWriter(file, left.source_rate, 2, depth, Container.WAV, frames=frames) as writer:
            for block in _side_by_side(sides[0], sides[1], frames):
                writer.write(block)
        add_marks(file, read_marks(sides[0]))
        return BroughtIn(originals().keep_file(file), f"{name}.wav")


def _side_by_side(left: Path, right: Path, frames: int) -> Iterator[Singles]:
    """Blocks (n, 2) of two mono files; silence where one can't be read."""
    both = [FileSamples(path, keep_readable=True) for path in (left, right)]
    for start in range(0, frames, BLOCK_FRAMES):
        yield np.concatenate([side[start : min(start + BLOCK_FRAMES, frames)] for side in both], axis=1)
