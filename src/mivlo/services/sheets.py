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
from mivlo.core.moves import BUTTERWORTH_Q, Move, Shape, StaticMove
from mivlo.core.units import hz_to_note, q_to_octaves
from mivlo.services.state import SongState


class SheetMove(BaseModel):
    """One move of a sheet."""

    model_config = ConfigDict(extra="forbid")

    shape: Shape
    frequency_hz: float = Field(description="centre, or corner of a cut, in Hz")
    q: float | None = Field(None, description="quality as in the Audio EQ Cookbook's analogue prototypes")
    gain_db: float | None = Field(None, description="gain of a bell or a shelf in dB")
    slope_db_per_octave: int | None = Field(None, description="slope of a cut: 6, 12, 18, 24, 36 or 48")
    mode: Literal["static"] = "static"
    enabled: bool = True

    def move(self) -> Move:
        """As the core's move; refuses what does not belong to the shape."""
        if self.gain_db is not None and not self.shape.has_gain:
            raise InvalidValue("gain_db", self.gain_db, f"a {self.shape} has none; leave it out")
        if self.shape.has_gain and self.gain_db is None:
            raise InvalidValue("gain_db", None, f"a {self.shape} needs it")
        if self.slope_db_per_octave is not None and not self.shape.has_slope:
            raise InvalidValue(
                "slope_db_per_octave", self.slope_db_per_octave, f"a {self.shape} has none; leave it out"
            )
        return StaticMove(
            self.shape,
            self.frequency_hz,
            q=BUTTERWORTH_Q if self.q is None else self.q,
            gain_db=self.gain_db or 0.0,
            slope_db_per_octave=self.slope_db_per_octave or 12,
            enabled=self.enabled,
        )

    @classmethod
    def from_move(cls, move: Move) -> SheetMove:
        """Only what belongs to the shape."""
        plain_cut = move.shape.has_slope and move.is_butterworth
        return cls(
            shape=move.shape,
            frequency_hz=move.frequency_hz,
            q=None if plain_cut else move.q,
            gain_db=move.gain_db if move.shape.has_gain else None,
            slope_db_per_octave=move.slope_db_per_octave if move.shape.has_slope else None,
            enabled=move.enabled,
        )


class Sheet(BaseModel):
    """The moves of one track."""

    model_config = ConfigDict(extra="forbid")

    format: Literal["mivlo-sheet"]
    version: Literal[1]
    track: str | None = None
    moves: list[SheetMove]


class SongSheet(BaseModel):
    """The sheets of all tracks of a song."""

    format: Literal["mivlo-song-sheet"] = "mivlo-song-sheet"
    version: Literal[1] = 1
    song: str
    sample_rate: int
    tracks: list[Sheet]


def sheet_schema() -> dict[str, Any]:
    """The JSON Schema of a sheet."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Sheet.model_json_schema()}


def _sentence(error: ValidationError) -> str:
    parts = []
    for problem in error.errors():
        place = ".".join(str(part) for part in problem["loc"]) or "sheet"
        if problem["type"] == "extra_forbidden":
            parts.append(f"{place} is not a known key")
        elif problem["type"] == "missing":
            parts.append(f"{place} is missing")
        else:
            parts.append(f"{place} is {problem['input']!r}: {problem['msg'].lower()}")
    return "; ".join(parts)


def parse_sheet(text: str, name: str = "the sheet") -> list[Move]:
    """The moves of a sheet in JSON. MivloError names the key that is unknown or impossible."""
    try:
        sheet = Sheet.model_validate(json.loads(text))
    except json.JSONDecodeError as error:
        raise MivloError(f"Could not read {name}: it is not JSON (line {error.lineno}: {error.msg}).") from error
    except ValidationError as error:
        raise MivloError(f"Could not use {name}: {_sentence(error)}.") from error
    moves = []
    for i, move in enumerate(sheet.moves):
        try:
            moves.append(move.move())
        except InvalidValue as error:
            raise MivloError(f"Could not use {name}: moves.{i}.{error}") from error
    return moves


def make_sheet(moves: Sequence[Move], track: str | None = None) -> Sheet:
    """The sheet of one track."""
    return Sheet(format="mivlo-sheet", version=1, track=track, moves=[SheetMove.from_move(move) for move in moves])


def song_sheet(song: SongState) -> SongSheet:
    """The sheets of all tracks that have moves."""
    return SongSheet(
        song=song.name,
        sample_rate=song.sample_rate,
        tracks=[
            make_sheet([move.move() for move in track.moves], track.name) for track in song.tracks if track.moves
        ],
    )


_COLUMNS = (
    "track", "number", "shape", "frequency_hz", "note", "gain_db", "q", "octaves", "slope_db_per_octave",
    "enabled",
)  # fmt: skip


def _rows(song: SongState) -> list[dict[str, Any]]:
    rows = []
    for track in song.tracks:
        for number, state in enumerate(track.moves, 1):
            move = SheetMove.from_move(state.move())
            q = move.q if move.q is not None else BUTTERWORTH_Q
            has_q = not (state.shape.has_slope and state.slope_db_per_octave == 6)
            rows.append(
                {
                    "track": track.name,
                    "number": number,
                    "shape": str(state.shape),
                    "frequency_hz": round(state.frequency_hz, 2),
                    "note": str(hz_to_note(state.frequency_hz)),
                    "gain_db": "" if move.gain_db is None else round(move.gain_db, 2),
                    "q": round(q, 3) if has_q else "",
                    "octaves": "" if state.shape.has_slope else round(q_to_octaves(q), 3),
                    "slope_db_per_octave": move.slope_db_per_octave or "",
                    "enabled": "yes" if move.enabled else "no",
                }
            )
    return rows


def sheet_csv(song: SongState) -> str:
    """All moves of a song as comma-separated values with a header line."""
    out = io.StringIO()
    writer = csv.DictWriter(out, _COLUMNS, lineterminator="\n")
    writer.writeheader()
    writer.writerows(_rows(song))
    return out.getvalue()


def sheet_page(song: SongState) -> str:
    """All moves of a song as a page for printing."""
    folder = Path(__file__).parent / "templates"
    environment = jinja2.Environment(loader=jinja2.FileSystemLoader(folder), autoescape=True)
    by_track: dict[str, list[dict[str, Any]]] = {}
    for row in _rows(song):
        by_track.setdefault(row["track"], []).append(row)
    return environment.get_template("sheet.html").render(song=song, by_track=by_track)
