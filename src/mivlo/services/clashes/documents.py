"""What the command line says of clashes, carves and floors of sound files."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from mivlo.audio.decode import FileSamples, inspect, resampled_blocks, samples_at
from mivlo.audio.encode import CONTAINERS
from mivlo.core.clashes import FILES_FULL_SCALE_DB, Carve, Clash, Limits, Loss, find_floors, low_end, same_sources
from mivlo.core.errors import MivloError
from mivlo.core.loudness import gated_loudness
from mivlo.core.moves import Entry, Treatment
from mivlo.core.parallel import in_parallel
from mivlo.core.units import Floats
from mivlo.description import key_document, plain_document
from mivlo.services.clashes.files import KEY_ID, FileScene, carved_blocks, treatments_of

HIGHEST_RATE = 96_000
"""Files are compared at the highest of their rates, up to here: nobody hears what lies above."""
MOST_CARVED = 6
"""Of the worst clashes of a list so many get a carve; searching one takes a while."""


@dataclass(frozen=True)
class Files:
    """Sound files that are compared, and the scene that they make."""

    paths: tuple[Path, ...]
    heard: FileScene

    @classmethod
    def read(cls, paths: Sequence[Path], *, spl: float | None = None) -> Files:
        """MivloError where two share a name, since names tell them apart, or where one is too long."""
        names = [path.stem for path in paths]
        if twice := [name for name in names if names.count(name) > 1]:
            raise MivloError(f"Two files are called {twice[0]}. Give each a name of its own: it stands for the track.")
        rate = min(HIGHEST_RATE, max(inspect(path).sample_rate for path in paths))
        sounds = [samples_at(path, rate) for path in paths]
        level = FILES_FULL_SCALE_DB if spl is None else spl
        return cls(tuple(paths), FileScene.of(sounds, sample_rate=rate, full_scale_db=level))

    def name(self, number: int) -> str:
        return self.paths[number].name

    def at_its_rate(self, number: int) -> FileSamples:
        """A file as it is, whatever the rate at which all are compared."""
        return FileSamples(self.paths[number])

    def written(self, number: int, *, changed: bool) -> str:
        """Under which name `mivlo carve` writes a file: its own, unless it is changed and of a kind only read."""
        path = self.paths[number]
        return f"{path.stem}.wav" if changed and path.suffix.lower() not in CONTAINERS else path.name

    def move(self, carve: Carve) -> dict[str, Any]:
        """A carve's move as a sheet of version 2 holds it."""
        document = plain_document(Entry(id=0, move=carve.move, channels=carve.channels))
        return key_document(document, lambda source: self.paths[int(source)].stem)

    def carve(self, carve: Carve | None) -> dict[str, Any] | None:
        if carve is None:
            return None
        key = self.name(carve.keep) if carve.move.listens_to else None
        return {"on": self.name(carve.on), "key": key, "move": self.move(carve)}


def _number(value: float, digits: int = 4) -> float:
    return round(float(value), digits)


def clash_document(files: Files) -> dict[str, Any]:
    """What `mivlo clash` prints."""
    surveyed = files.heard.survey()
    tracks = [
        {
            "file": files.name(loss.strip),
            "loudness_alone": _number(loss.loudness),
            "loudness_in_mix": _number(loss.among_all),
            "kept": _number(loss.kept_share),
        }
        for loss in surveyed.losses
    ]
    worst = surveyed.clashes[:MOST_CARVED]
    carves = dict(enumerate(in_parallel(lambda clash: files.heard.carve(clash, Limits()), worst)))
    clashes = [
        {"id": number + 1, **_clash_values(files, clash), "carve": files.carve(carves.get(number))}
        for number, clash in enumerate(surveyed.clashes)
    ]
    return {"tracks": tracks, "clashes": clashes}


def _clash_values(files: Files, clash: Clash) -> dict[str, Any]:
    return {
        "covered": files.name(clash.covered),
        "by": files.name(clash.by),
        "from_hz": _number(clash.from_hz, 1),
        "to_hz": _number(clash.to_hz, 1),
        "share_of_time": _number(clash.share_of_time),
        "lost": _number(clash.lost),
        "moments": [list(moment) for moment in clash.moments],
    }


@dataclass(frozen=True)
class CarvedFiles:
    """What frees one file: the others as they are then, with their sheets, and the document that says so."""

    rendered: dict[int, Floats]
    sheets: dict[int, dict[str, Any]]
    document: dict[str, Any]


def carve_files(files: Files, keep: int, limits: Limits) -> CarvedFiles:
    """Find the carves that free a file, render them at each file's own rate, and measure what they did."""
    before = files.heard.survey()
    carves = files.heard.free(keep, before.clashes, limits)
    rendered: dict[int, Floats] = {}
    sheets: dict[int, dict[str, Any]] = {}
    for on, treatment in treatments_of(carves).items():
        own = files.at_its_rate(on)
        rate = own.info.sample_rate
        keeper = samples_at(files.paths[keep], rate)
        rendered[on] = np.concatenate(list(carved_blocks(own, treatment, keeper, sample_rate=rate)))
        sheets[on] = _sheet(files, on, treatment, keep)
    after = _behind(files, rendered) if rendered else files.heard
    then = after.survey().losses if rendered else before.losses
    tracks = [_track(files, i, before.losses[i], then[i], rendered.get(i)) for i in range(len(files.paths))]
    gain = then[keep].kept_share - before.losses[keep].kept_share
    promised = sum(c.effect.gained_sones for c in carves) / max(before.losses[keep].loudness, 1e-9)
    document = {
        "keep": files.name(keep),
        "gained": _number(gain),
        "promised": _number(promised),
        "tracks": tracks,
        "carves": [{**(files.carve(c) or {}), "promised": _number(c.effect.gained_sones)} for c in carves],
    }
    return CarvedFiles(rendered, sheets, document)


def _behind(files: Files, rendered: dict[int, Floats]) -> FileScene:
    """The scene with what was rendered; resampled as the originals were."""
    heard = files.heard
    sounds = list(heard.sounds)
    for i, x in rendered.items():
        own = files.at_its_rate(i).info.sample_rate
        blocks = resampled_blocks(iter([x.astype(np.float32)]), own, heard.sample_rate, x.shape[1])
        sounds[i] = np.concatenate(list(blocks))
    return FileScene.of(sounds, sample_rate=heard.sample_rate, full_scale_db=heard.scene.full_scale_db)


def _sheet(files: Files, on: int, treatment: Treatment, keep: int) -> dict[str, Any]:
    from mivlo.services.handover.sheets import make_sheet_2, sheet_document  # loads what songs need: not for a clash

    return sheet_document(make_sheet_2(treatment, None, names={KEY_ID: files.paths[keep].stem}))


def _track(files: Files, number: int, before: Loss, after: Loss, rendered: Floats | None) -> dict[str, Any]:
    own = files.at_its_rate(number)
    rate = own.info.sample_rate
    loud = gated_loudness(own[:], sample_rate=rate)
    quieter = loud if rendered is None else gated_loudness(rendered, sample_rate=rate)
    return {
        "file": files.name(number),
        "kept": {"before": _number(before.kept_share), "after": _number(after.kept_share)},
        "lufs": {"before": _number(loud, 2), "after": _number(quieter, 2)},
        "loudness": {"before": _number(before.loudness), "after": _number(after.loudness)},
        "written": files.written(number, changed=rendered is not None),
        "sheet": None if rendered is None else f"{files.paths[number].stem}.json",
    }


def floor_document(files: Files, *, above_notes: bool = False) -> dict[str, Any]:
    """What `mivlo floor` prints."""
    rate = files.heard.sample_rate
    pairs = same_sources([low_end(x[:], sample_rate=rate) for x in files.heard.sounds])
    floors = find_floors(files.heard.scene, same_source=pairs, above_notes=above_notes)
    tracks = [
        {
            "file": files.name(i),
            "low_lufs": _number(floor.low_lufs, 2),
            "share": _number(floor.share),
            "corner_in_mix_hz": floor.corner_in_mix_hz,
            "corner_alone_hz": floor.corner_alone_hz,
            "slope_db_per_octave": floor.slope_db_per_octave,
            "left_alone": floor.left_alone,
        }
        for i, floor in enumerate(floors.tracks)
    ]
    sums = {"before": _number(floors.before_db, 2), "after": _number(floors.after_db, 2)}
    return {"tracks": tracks, "sum_db": sums}
