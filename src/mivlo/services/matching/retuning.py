"""Moves of a sheet refitted to another recording: what the command line prints and writes."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from mivlo.audio.decode import FileSamples
from mivlo.core.findings.search import Search
from mivlo.core.retuning import Retuned, can_be_retuned, retune
from mivlo.services.handover.sheets import make_sheet, read_sheet, sheet_document
from mivlo.services.song.naming import guess_role, name_from_file


def look_at(path: Path) -> Search:
    """A look at a whole file.

    Raises
    ------
    BadAudio : it can't be used.
    """
    sound = FileSamples(path)
    return Search(sound, sample_rate=sound.info.sample_rate, role=guess_role(name_from_file(path.name)))


def retune_sheet(path: Path, to: Path, original: Path | None) -> tuple[dict[str, Any], dict[str, Any]]:
    """The sheet with its moves refitted to a file, and the JSON document of `mivlo retune`."""
    sheet = read_sheet(path)
    moves = sheet.treatment.entries
    looks = (look_at(to), None if original is None else look_at(original)) if moves else (None, None)
    made = [retune(e.move, looks[0], original=looks[1]) for e in moves] if looks[0] is not None else []
    kept = [
        (replace(e, move=r.move), i) for i, (e, r) in enumerate(zip(moves, made, strict=True)) if r.move is not None
    ]
    treatment = replace(sheet.treatment, entries=tuple(replace(e, id=n) for n, (e, _) in enumerate(kept)))
    document = sheet_document(make_sheet(treatment, names=sheet.keys))
    for written, (_, i) in zip(document["moves"], kept, strict=True):
        written.pop("id", None)
        if sheet.ids[i] is not None:
            written["id"] = sheet.ids[i]
    told = [
        _told(sheet.ids[i] or i + 1, e.move.frequency_hz, r) for i, (e, r) in enumerate(zip(moves, made, strict=True))
    ]
    return document, {"moves": told}


def _told(number: str | int, from_hz: float, made: Retuned) -> dict[str, Any]:
    move = made.move
    gain = None if move is None else getattr(move, "range_db", None) or getattr(move, "gain_db", None)
    return {
        "id": number,
        "from_hz": from_hz,
        "to_hz": None if move is None else move.frequency_hz,
        "gain_db": None if gain is None or move is None or (not can_be_retuned(move) and not gain) else gain,
        "left_out": made.left_out,
    }
