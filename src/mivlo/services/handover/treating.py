"""A file and a treatment to a treated file: whole or not at all."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from mivlo.audio.decode import FileSamples, samples_at, shortfall, until_readable
from mivlo.audio.encode import CONTAINERS, Container, Depth, SoundWriter, depth_of
from mivlo.audio.marks import add_marks, read_marks
from mivlo.audio.whole import check_place, written_whole
from mivlo.core.errors import MivloError
from mivlo.core.graph import treated_blocks
from mivlo.core.graph.streams import Samples
from mivlo.core.moves import Treatment
from mivlo.services.handover.sheets import ReadSheet


@dataclass(frozen=True, slots=True)
class Treated:
    """What is to be said of a file that was written: a sentence where its source is damaged, and clipped samples."""

    missing: str
    clipped: int


def container_of(out: Path) -> Container:
    """What the name of an output asks for; MivloError where nothing can be written."""
    if out.suffix.lower() not in CONTAINERS:
        raise MivloError(f"Could not write {out.name}: its name must end in .wav or .flac.")
    check_place(out)
    return CONTAINERS[out.suffix.lower()]


def open_whole(source: Path, *, keep_readable: bool = False) -> FileSamples:
    """A recording to be treated; MivloError where it is damaged, unless what can be read is enough."""
    sound = FileSamples(source, keep_readable=True)
    if not keep_readable:
        _refuse_damaged(shortfall(sound.info, sound.info.frames))
    return sound


def _refuse_damaged(missing: str) -> None:
    if missing:
        raise MivloError(f"{missing} Nothing was written; --keep-readable treats what can be read.")


def treat_file(
    sound: FileSamples,
    treatment: Treatment,
    out: Path,
    *,
    keys: Mapping[int, Samples],
    depth: Depth | None = None,
    reverb: bool = False,
    keep_readable: bool = False,
) -> Treated:
    """Write a treated recording: same length, rate and channels, with what the file says of its beginning and markers.

    depth : as the recording's if left out.

    Raises
    ------
    MivloError : the name is no usable one, the output is the input, or the recording is damaged; nothing was written.
    """
    container = container_of(out)
    if out.exists() and out.samefile(sound.path):
        raise MivloError("The output would replace the input. Give another name with -o.")
    info = sound.info
    depth = depth or depth_of(info.subtype)
    with written_whole(out) as partial:
        with SoundWriter(partial, info.sample_rate, info.channels, depth, container, frames=info.frames) as writer:
            made = treated_blocks(sound, treatment.exported(reverb=reverb), sample_rate=info.sample_rate, keys=keys)
            for block in until_readable(made, sound):
                writer.write(block)
        missing = shortfall(info, sound.ends_at)
        if not keep_readable:
            _refuse_damaged(missing)
        add_marks(partial, read_marks(sound.path))
    return Treated(missing, writer.clipped)


def key_sounds(sheet: ReadSheet, files: Mapping[str, Path], sample_rate: int) -> dict[int, Samples]:
    """What the moves of a sheet listen to, at a rate, by the numbers that the sheet gives its names.

    Raises
    ------
    MivloError : a name has no file.
    """
    if missing := [name for name in sheet.keys.values() if name not in files]:
        raise MivloError(f"A move listens to {missing[0]!r}. Give its sound with --key {missing[0]!r}=FILE.")
    return {number: samples_at(files[name], sample_rate) for number, name in sheet.keys.items()}
