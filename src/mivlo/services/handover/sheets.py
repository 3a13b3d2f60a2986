"""The sheet: a list of moves that can be entered in any equalizer, as JSON, CSV or a printed page."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

import jinja2
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from mivlo.core.errors import InvalidValue, MivloError
from mivlo.core.moves import Entry, Move, Phase, Treatment
from mivlo.core.units import hz_to_note
from mivlo.description import (
    SheetMove,
    aftercare_document,
    flat_union,
    move_document,
    plain_document,
    read_aftercare,
    read_plain,
    sentence,
)
from mivlo.services.song.state import SongState, StripState

FullMove: Any = flat_union("SheetEntry", nullable=True, doc="A move of a sheet of version 2.")


class Sheet(BaseModel):
    """The moves of one track."""

    model_config = ConfigDict(extra="forbid")

    format: Literal["mivlo-sheet"]
    version: Literal[1]
    track: str | None = None
    moves: list[SheetMove]


class _Envelope(BaseModel):
    """A sheet whose moves are not looked at yet."""

    model_config = ConfigDict(extra="forbid")

    format: Literal["mivlo-sheet"]
    version: Literal[1, 2]
    track: str | None = None
    phase: Phase | None = None
    amounts: dict[str, float] | None = None
    aftercare: dict[str, Any] | None = None
    moves: list[dict[str, Any]]


class Sheet2(_Envelope):
    """The treatment of one strip."""

    version: Literal[2]
    moves: list[FullMove]


class SongSheet(BaseModel):
    """The sheets of all strips of a song that have moves."""

    format: Literal["mivlo-song-sheet"] = "mivlo-song-sheet"
    version: Literal[1] = 1
    song: str
    sample_rate: int
    tracks: list[Sheet | Sheet2] = Field(description="of version 2 where a track has what version 1 does not know")


def sheet_schema() -> dict[str, Any]:
    """The JSON Schema of a sheet."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Sheet.model_json_schema()}


_VERSION_1 = frozenset(SheetMove.model_fields)


def parse_sheet(text: str, name: str = "the sheet") -> Treatment:
    """The treatment of a sheet in JSON. MivloError names the key that is unknown or impossible."""
    try:
        return _parse(text, name)
    except RecursionError as error:
        raise MivloError(f"Could not use {name}: it is nested too deeply.") from error


def read_sheet(path: Path) -> Treatment:
    """The treatment of a sheet in a file, with a byte order mark or without; MivloError says why there is none."""
    if path.stat().st_size > LARGEST_SHEET:
        raise MivloError(f"Could not use {path.name}: a sheet has at most {LARGEST_SHEET / 1e6:.0f} MB.")
    try:
        return parse_sheet(path.read_bytes().decode("utf-8-sig"), path.name)
    except UnicodeDecodeError as error:
        raise MivloError(f"Could not read {path.name}: it is not JSON but something binary.") from error


LARGEST_SHEET = 10_000_000


def _parse(text: str, name: str) -> Treatment:
    try:
        sheet = _Envelope.model_validate(json.loads(text))
    except json.JSONDecodeError as error:
        raise MivloError(f"Could not read {name}: it is not JSON (line {error.lineno}: {error.msg}).") from error
    except ValidationError as error:  # before ValueError, which it is as well
        raise MivloError(f"Could not use {name}: {sentence(error, whole='the sheet')}.") from error
    except ValueError as error:
        raise MivloError(f"Could not read {name}: it holds a number that is too long.") from error
    if sheet.version == 1:
        _only_version_1(sheet, name)
    entries = []
    for i, values in enumerate(sheet.moves):
        try:
            entries.append(read_plain(values, entry_id=i))
        except InvalidValue as error:
            raise MivloError(f"Could not use {name}: moves.{i}.{error}") from error
    try:
        return Treatment(
            entries=tuple(entries),
            amounts=sheet.amounts or {},
            phase=sheet.phase or Phase.MINIMUM,
            aftercare=read_aftercare(sheet.aftercare or {}),
        )
    except InvalidValue as error:
        raise MivloError(f"Could not use {name}: {error}") from error


def _only_version_1(sheet: _Envelope, name: str) -> None:
    """Version 1 has moves and nothing else."""
    for key in _Envelope.model_fields.keys() - Sheet.model_fields.keys():
        if getattr(sheet, key) is not None:
            raise MivloError(f"Could not use {name}: {key} is not a known key; it needs version 2.")
    for i, values in enumerate(sheet.moves):
        for key in values:
            if key not in _VERSION_1:
                raise MivloError(f"Could not use {name}: moves.{i}.{key} is not a known key.")


def make_sheet(treatment: Treatment, track: str | None = None) -> Sheet | Sheet2:
    """The sheet of one strip; of version 1 if that can say all of it."""
    moves = [plain_document(entry) for entry in treatment.entries]
    more: dict[str, Any] = {
        "amounts": dict(treatment.amounts) or None,
        "phase": None if treatment.phase is Phase.MINIMUM else treatment.phase,
        "aftercare": aftercare_document(treatment.aftercare),
    }
    if treatment.aftercare == Treatment().aftercare:
        more["aftercare"] = None
    if not any(more.values()) and all(_VERSION_1.issuperset(move) for move in moves):
        return Sheet(format="mivlo-sheet", version=1, track=track, moves=moves)
    return Sheet2(format="mivlo-sheet", version=2, track=track, moves=moves, **more)


def sheet_document(sheet: BaseModel) -> dict[str, Any]:
    """A sheet as it is written: without what goes without saying."""
    return sheet.model_dump(mode="json", exclude_none=True, exclude_unset=True)


def _untouched(strip: StripState) -> bool:
    return strip.treatment == Treatment()


def song_sheet(song: SongState) -> SongSheet:
    """The sheets of all strips that have moves."""
    sheets = [make_sheet(strip.treatment, strip.name) for strip in song.strips if not _untouched(strip)]
    return SongSheet(
        format="mivlo-song-sheet", version=1, song=song.name, sample_rate=song.sample_rate, tracks=sheets
    )


# --- tables -----------------------------------------------------------------------------------------


def _cells(entry: Entry) -> dict[str, Any]:
    """An entry as the cells of a table: every value, and beside frequency and Q what they are in other words."""
    move = entry.move
    beside = {"frequency_hz": ("note", str(hz_to_note(move.frequency_hz))), "q": ("octaves", _width(move))}
    out: dict[str, Any] = {}
    for name, value in move_document(move).items():
        if name == "mode":
            continue
        out[name] = "" if name in move.absent else _cell(value)
        if name in beside:
            other, said = beside[name]
            out[other] = said
    if move.shape.has_slope and move.slope_db_per_octave == 6:
        out["q"] = ""
    out["enabled"] = "yes" if entry.enabled else "no"
    for name, value in plain_document(entry).items():
        if name not in out and name != "mode":
            out[name if name != "note" else "remark"] = value if isinstance(value, str) else json.dumps(value)
    if entry.note:
        out["remark"] = entry.note
    return out


def _width(move: Move) -> Any:
    return "" if move.shape.has_slope else round(move.octaves, 3)


def _cell(value: Any) -> Any:
    return round(value, 3) if isinstance(value, float) else value


_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def _harmless(value: Any) -> Any:
    """A text that no spreadsheet takes for a formula; numbers stay numbers."""
    return f"'{value}" if isinstance(value, str) and value.startswith(_FORMULA) else value


def _rows(song: SongState) -> list[dict[str, Any]]:
    return [
        {"track": strip.name, "number": number, **_cells(entry)}
        for strip in song.strips
        for number, entry in enumerate(strip.entries, 1)
    ]


def sheet_csv(song: SongState) -> str:
    """All moves of a song as comma-separated values with a header line."""
    rows = _rows(song)
    columns: Sequence[str] = list(dict.fromkeys(name for row in rows for name in row))
    out = io.StringIO()
    writer = csv.DictWriter(out, columns or ["track", "number"], lineterminator="\n", restval="")
    writer.writeheader()
    writer.writerows({name: _harmless(value) for name, value in row.items()} for row in rows)
    return out.getvalue()


def sheet_page(song: SongState) -> str:
    """All moves of a song as a page for printing."""
    folder = Path(__file__).parent / "templates"
    environment = jinja2.Environment(loader=jinja2.FileSystemLoader(folder), autoescape=True)
    by_track: dict[str, list[dict[str, Any]]] = {}
    for row in _rows(song):
        by_track.setdefault(row["track"], []).append(row)
    return environment.get_template("sheet.html").render(song=song, by_track=by_track)
