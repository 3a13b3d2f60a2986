"""A watched folder: every stem in it is treated with its sheet, and again whenever one of the two changes.

What a treated file was made of is remembered beside the files, so that a new start does nothing twice.
"""

from __future__ import annotations

import hashlib
import json
import os
import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from mivlo.audio.decode import FileSamples
from mivlo.audio.encode import CONTAINERS
from mivlo.audio.whole import write_json
from mivlo.core.errors import MivloError
from mivlo.services.handover.sheets import ReadSheet, check_channels, read_sheet
from mivlo.services.handover.treating import key_sounds, open_whole, treat_file

SOUND_ENDINGS = (".wav", ".wave", ".flac", ".aif", ".aiff", ".ogg", ".mp3")
REST_S = 1.0
"""A file that was not changed for so long is complete."""
LOOK_S = 0.25
PATIENCE_S = 3.0
"""So long it is waited for files to rest before they are looked at for the first time."""
MEMORY = ".mivlo-watch.json"
_MAKING = 1
"""Counted up when the same files would be made otherwise."""

Say = Callable[[str], None]


@dataclass(frozen=True, slots=True)
class _Seen:
    """What a file is told by: when it was last changed, and its size."""

    changed_ns: int
    size: int

    @classmethod
    def of(cls, path: Path) -> _Seen | None:
        try:
            found = path.stat()
        except OSError:
            return None
        return cls(found.st_mtime_ns, found.st_size)


@dataclass(frozen=True, slots=True)
class _Job:
    """A stem and all that its treated file is made of."""

    stem: Path
    sheet: Path
    keys: Mapping[str, Path]
    seen: tuple[_Seen | None, ...]

    @property
    def files(self) -> tuple[Path, ...]:
        return (self.stem, self.sheet, *self.keys.values())

    @property
    def name(self) -> str:
        """The treated file's."""
        ending = self.stem.suffix if self.stem.suffix.lower() in CONTAINERS else ".wav"
        return self.stem.stem + ending

    @property
    def made_of(self) -> str:
        """A name for the state of all its files; sheets are told by what is in them."""
        facts = [_MAKING, hashlib.sha256(self.sheet.read_bytes()).hexdigest()]
        for path, seen in zip(self.files, self.seen, strict=True):
            if path != self.sheet and seen is not None:
                facts += [path.name, seen.changed_ns, seen.size]
        return hashlib.sha256(json.dumps(facts).encode()).hexdigest()

    def unchanged(self) -> bool:
        return tuple(map(_Seen.of, self.files)) == self.seen


@dataclass
class Watch:
    """Watches a folder.

    source, out : the folders; `out` is made. sheet : for stems without one of their own. say : told what was done or
    could not be, in a sentence.
    """

    source: Path
    out: Path
    sheet: Path | None
    say: Say
    _refused: dict[Path, tuple[tuple[_Seen | None, ...], str]] = field(default_factory=dict)
    _silent_of: set[Path] = field(default_factory=set)

    def prepare(self) -> None:
        """Look at all that is there before anything is written.

        Raises
        ------
        MivloError : a folder, a sheet or a stem that can't be used.
        """
        if not self.source.is_dir():
            raise MivloError(f"There is no folder {self.source}. Check the name.")
        if self.out.exists() and not self.out.is_dir():
            raise MivloError(f"{self.out} is a file. Give a folder with -o.")
        if self.out.exists() and self.out.samefile(self.source):
            raise MivloError("The output would replace the input. Give another folder with -o.")
        if self.sheet is not None:
            if not self.sheet.is_file():
                raise MivloError(f"There is no file {self.sheet}. Check the name.")
            read_sheet(self.sheet)
        patience = time.monotonic() + PATIENCE_S  # what is just being written is not judged
        while not all(self._rests(job) for job in self._jobs()) and time.monotonic() < patience:
            time.sleep(LOOK_S)
        taken: dict[str, Path] = {}
        for job in self._jobs():
            if other := taken.get(job.name):
                raise MivloError(
                    f"{other.name} and {job.stem.name} would both be written as {job.name}. Rename one of them."
                )
            taken[job.name] = job.stem
            if self._rests(job):
                self._open(job)
        self.out.mkdir(parents=True, exist_ok=True)

    def run(self, *, once: bool = False, ended: Callable[[], bool] = lambda: False) -> bool:
        """Treat what is there, and what changes, until `ended` says so; with `once` until nothing is left to do.

        Returns
        -------
        Whether all that was tried could be done.
        """
        while not ended():
            left = self._round()
            if once and not left:
                return not self._refused
            time.sleep(LOOK_S)
        return not self._refused

    def _round(self) -> bool:
        """Do what can be done now; whether something is still being changed."""
        known = self._remembered()
        waiting = False
        for job in self._jobs():
            if not self._rests(job):
                waiting = True
                continue
            if self._refused.get(job.stem, ((), ""))[0] == job.seen:
                continue
            try:
                name = job.made_of
                if known.get(job.name) == name and (self.out / job.name).is_file():
                    continue
                if not self._treat(job):
                    waiting = True
                    continue
            except (MivloError, OSError) as error:
                if not job.unchanged():  # it was being replaced while it was read
                    waiting = True
                    continue
                self._refused[job.stem] = (job.seen, str(error))
                self.say(f"{job.stem.name}: {error}")
                continue
            self._refused.pop(job.stem, None)
            known[job.name] = name
            self._remember(known)
        return waiting

    def _jobs(self) -> Iterator[_Job]:
        """All stems that have a sheet, by name."""
        stems = sorted(p for p in self.source.iterdir() if p.suffix.lower() in SOUND_ENDINGS and p.is_file())
        by_name = {stem.stem: stem for stem in stems}
        for stem in stems:
            own = stem.with_suffix(".json")
            sheet = own if own.is_file() else self.sheet
            if sheet is None:
                if stem not in self._silent_of:
                    self.say(f"{stem.name} has no sheet {own.name} and is left out; --sheet gives one for all.")
                self._silent_of.add(stem)
                continue
            self._silent_of.discard(stem)
            keys = self._keys(sheet, by_name)
            seen = tuple(map(_Seen.of, (stem, sheet, *keys.values())))
            yield _Job(stem, sheet, keys, seen)

    def _keys(self, sheet: Path, stems: Mapping[str, Path]) -> dict[str, Path]:
        """The stems that a sheet listens to, as far as it can be read and they are there."""
        try:
            names = read_sheet(sheet).keys.values()
        except (MivloError, OSError):
            return {}  # said when it is treated
        return {name: stems[name] for name in names if name in stems}

    def _rests(self, job: _Job) -> bool:
        """Whether none of its files was changed just now."""
        if any(seen is None for seen in job.seen):
            return False
        now = time.time()
        ages = (now - seen.changed_ns / 1e9 for seen in job.seen if seen is not None)
        return all(age >= REST_S or age < -REST_S for age in ages)  # a clock that goes wrong holds nothing up

    def _open(self, job: _Job) -> tuple[ReadSheet, FileSamples]:
        """Its sheet and its sound; MivloError where they can't be used."""
        sheet = read_sheet(job.sheet)
        sound = open_whole(job.stem)
        if gone := [name for name in sheet.keys.values() if name not in job.keys]:
            raise MivloError(f"{job.sheet.name} listens to {gone[0]!r}, but there is no such stem in {self.source}.")
        check_channels(sheet.treatment, sound.info.channels)
        return sheet, sound

    def _treat(self, job: _Job) -> bool:
        """Write its file; False if what it is made of was changed meanwhile: then nothing was written."""
        sheet, sound = self._open(job)
        keys = key_sounds(sheet, job.keys, sound.info.sample_rate)
        place = self.out / job.name
        fresh = place.with_name(f".{os.getpid()}.{place.name}")
        try:
            made = treat_file(sound, sheet.treatment, fresh, keys=keys)
            if not job.unchanged():
                return False
            fresh.replace(place)
        finally:
            fresh.unlink(missing_ok=True)
        more = f"; {made.clipped} samples were above full scale and were clipped" if made.clipped else ""
        self.say(f"{job.name} was written{more}.")
        return True

    def _remembered(self) -> dict[str, str]:
        try:
            found = json.loads((self.out / MEMORY).read_text())
        except (OSError, ValueError):
            return {}
        return found if isinstance(found, dict) else {}

    def _remember(self, known: Mapping[str, str]) -> None:
        write_json(self.out / MEMORY, known)
