"""The sheet: a list of moves that can be entered in any equalizer, as JSON, CSV or a printed page."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields, replace
from functools import lru_cache
from pathlib import Path
from typing import Annotated, Any, Literal

import jinja2
from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError, create_model

from mivlo.core.errors import InvalidValue, MivloError
from mivlo.core.graph import StripKind
from mivlo.core.moves import (
    NO_AFTERCARE,
    SELF,
    Aftercare,
    Channels,
    DynamicMove,
    Entry,
    FixedMove,
    Key,
    Move,
    Phase,
    Shape,
    StaticMove,
    Treatment,
    key_band,
)
from mivlo.core.moves.entry import Name
from mivlo.core.moves.treatment import Amount
from mivlo.core.units import hz_to_note
from mivlo.description import (
    ENTRY_FIELDS,
    STRICT,
    flat_model,
    flat_union,
    key_document,
    model_field,
    move_document,
    plain_aftercare,
    plain_document,
    read_aftercare,
    read_plain,
    sentence,
)
from mivlo.services.handover.words import acting_words, treatment_words, when_words
from mivlo.services.song.state import SongState, StripState

_NOBODY: Mapping[int, str] = {}


_key_fields: dict[str, Any] = {f.name: model_field(Key, f) for f in fields(Key)}
_key_fields["source"] = (Annotated[str, Field(max_length=300)], SELF)
SheetKey: Any = create_model(
    "SheetKey", __config__=STRICT, __doc__='What a move listens to: "self", or a strip by its name.', **_key_fields
)


class _SheetMove(BaseModel):
    """What a move of a sheet has beside its values."""

    model_config = STRICT

    id: Annotated[str, Field(max_length=60)] | None = None
    track: Annotated[str, Field(max_length=300)] | None = None


SheetMove1 = flat_model("SheetMove", StaticMove, nullable=True, own=("enabled",), doc="A move of a sheet of version 1.")
SheetMove2: Any = flat_union(
    "SheetMove", base=_SheetMove, nullable=True, own_types={Key: SheetKey}, doc="A move of a sheet of version 2."
)


class Sheet(BaseModel):
    """The moves of one track."""

    model_config = ConfigDict(extra="forbid")

    format: Literal["mivlo-sheet"]
    version: Literal[1]
    track: str | None = None
    moves: list[SheetMove1]  # type: ignore[valid-type]


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
    amounts: dict[Name, Amount] | None = None
    aftercare: Aftercare | None = None  # type: ignore[assignment]
    moves: list[SheetMove2]


class SheetStrip(BaseModel):
    """A strip of a song and its sheet; `turned` (its polarity) and `starts_at_s` stand where they say something."""

    model_config = ConfigDict(extra="forbid")

    name: str
    kind: StripKind
    parent: str | None = None
    fader_db: float
    pan: float
    mute: bool
    turned: bool = False
    starts_at_s: float = 0.0
    sheet: Sheet2


class SongSheet(BaseModel):
    """All strips of a song with their sheets."""

    format: Literal["mivlo-song-sheet"] = "mivlo-song-sheet"
    version: Literal[2] = 2
    song: str
    sample_rate: int
    strips: list[SheetStrip]


@lru_cache
def sheet_schema() -> dict[str, Any]:
    """The JSON Schema of a sheet, of either version."""
    either: TypeAdapter[Any] = TypeAdapter(Annotated[Sheet | Sheet2, Field(discriminator="version")])
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **either.json_schema()}


_VERSION_1 = frozenset(SheetMove1.model_fields)


@dataclass(frozen=True, slots=True)
class ReadSheet:
    """A sheet: the treatment, the names of what it listens to by the ids that stand for them in it, its moves' ids."""

    treatment: Treatment
    keys: Mapping[int, str]
    ids: tuple[str | None, ...]


def parse_sheet(text: str, name: str = "the sheet") -> ReadSheet:
    """The treatment of a sheet in JSON. MivloError names the key that is unknown or impossible."""
    try:
        return _parse(text, name)
    except RecursionError as error:
        raise MivloError(f"Could not use {name}: it is nested too deeply.") from error


def read_sheet(path: Path) -> ReadSheet:
    """The treatment of a sheet in a file, with a byte order mark or without; MivloError says why there is none."""
    if path.stat().st_size > LARGEST_SHEET:
        raise MivloError(f"Could not use {path.name}: a sheet has at most {LARGEST_SHEET / 1e6:.0f} MB.")
    try:
        return parse_sheet(path.read_bytes().decode("utf-8-sig"), path.name)
    except UnicodeDecodeError as error:
        raise MivloError(f"Could not read {path.name}: it is not JSON but something binary.") from error


LARGEST_SHEET = 10_000_000


def check_channels(treatment: Treatment, channels: int) -> None:
    """MivloError where a mono sound shall have one side of it treated."""
    for number, entry in enumerate(treatment.entries):
        if channels == 1 and entry.channels is not Channels.ALL:
            raise MivloError(
                f"moves.{number}.channels is {str(entry.channels)!r}, but the recording is mono. Set it to 'all'."
            )


def _parse(text: str, name: str) -> ReadSheet:
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
    names: dict[str, int] = {}
    ids: set[str] = set()
    entries = []
    for i, values in enumerate(sheet.moves):
        try:
            entries.append(_read_move(values, i, names, ids))
        except InvalidValue as error:
            raise MivloError(f"Could not use {name}: moves.{i}.{error}") from error
    try:
        treatment = Treatment(
            entries=tuple(entries),
            amounts=sheet.amounts or {},
            phase=sheet.phase or Phase.MINIMUM,
            aftercare=_aftercare(sheet.aftercare or {}, name),
        )
    except InvalidValue as error:
        raise MivloError(f"Could not use {name}: {error}") from error
    own_ids = tuple(values.get("id") for values in sheet.moves)
    return ReadSheet(treatment, {number: key for key, number in names.items()}, own_ids)


def _aftercare(values: dict[str, Any], name: str) -> Aftercare:
    try:
        return read_aftercare(values)
    except InvalidValue as error:
        raise MivloError(f"Could not use {name}: aftercare.{error}") from error


FIRST_KEY = 1000
"""Ids from here on stand for the strips that a sheet names."""


def _read_move(values: dict[str, Any], number: int, names: dict[str, int], ids: set[str]) -> Entry:
    """A move of a sheet; the strips that it names get numbers."""
    values = dict(values)
    own_id, track = values.pop("id", None), values.pop("track", None)
    for key, value in (("id", own_id), ("track", track)):
        if value is not None and not isinstance(value, str):
            raise InvalidValue(key, value, "it must be a text")
    if own_id is not None and own_id in ids:
        raise InvalidValue("id", own_id, "another move has it; each needs one of its own")
    ids.add(own_id or "")

    def number_of(source: Any) -> int:
        if not isinstance(source, str):
            raise InvalidValue("key.source", source, 'it must be "self" or the name of a strip')
        return names.setdefault(source, FIRST_KEY + len(names))

    return read_plain(key_document(values, number_of), entry_id=number)


def _only_version_1(sheet: _Envelope, name: str) -> None:
    """Version 1 has moves and nothing else."""
    for key in _Envelope.model_fields.keys() - Sheet.model_fields.keys():
        if getattr(sheet, key) is not None:
            raise MivloError(f"Could not use {name}: {key} is not a known key; it needs version 2.")
    for i, values in enumerate(sheet.moves):
        for key in values:
            if key not in _VERSION_1:
                raise MivloError(f"Could not use {name}: moves.{i}.{key} is not a known key; it may need version 2.")
        if (mode := values.get("mode")) not in (None, "static"):
            raise MivloError(f"Could not use {name}: moves.{i}.mode is {mode!r}, but version 1 has only static moves.")


def make_sheet(treatment: Treatment, track: str | None = None, *, names: Mapping[int, str] = _NOBODY) -> Sheet2 | Sheet:
    """The sheet of one strip; of version 1 if that can say all of it. `names` are those of the strips."""
    moves = [plain_document(entry) for entry in treatment.entries]
    if _plain(treatment) and all(_VERSION_1.issuperset(move) for move in moves):
        return Sheet(format="mivlo-sheet", version=1, track=track, moves=moves)
    return make_sheet_2(treatment, track, names=names)


def _plain(treatment: Treatment) -> bool:
    """Whether there is nothing but moves."""
    return replace(treatment, entries=()) == Treatment()


def make_sheet_2(treatment: Treatment, track: str | None, *, names: Mapping[int, str]) -> Sheet2:
    """The sheet of one strip, of version 2."""

    def named(source: Any) -> str:
        return names.get(source, "a deleted strip")

    moves = [{"id": str(entry.id), **key_document(plain_document(entry), named)} for entry in treatment.entries]
    more: dict[str, Any] = {
        "amounts": dict(treatment.amounts) or None,
        "phase": None if treatment.phase is Phase.MINIMUM else treatment.phase,
        "aftercare": None if treatment.aftercare == NO_AFTERCARE else plain_aftercare(treatment.aftercare),
    }
    given = {key: value for key, value in more.items() if value is not None}
    return Sheet2(format="mivlo-sheet", version=2, track=track, moves=moves, **given)


def sheet_document(sheet: BaseModel) -> dict[str, Any]:
    """A sheet as it is written: without what goes without saying."""
    return sheet.model_dump(mode="json", exclude_none=True, exclude_unset=True)


def names_of(song: SongState) -> dict[int, str]:
    """What the strips of a song are called in sheets: each by a name of its own, "self" by none."""
    names: dict[int, str] = {}
    for strip in song.strips:
        name, number = strip.name, 1
        while name in names.values() or name == SELF:
            number += 1
            name = f"{strip.name} ({number})"
        names[strip.id] = name
    return names


def strip_sheet(song: SongState, strip: StripState) -> Sheet2 | Sheet:
    """The sheet of a strip of a song."""
    names = names_of(song)
    return make_sheet(strip.treatment, names[strip.id], names=names)


def _of_recording(strip: StripState) -> dict[str, Any]:
    """What is done to a recording before anything else; what goes without saying is not said."""
    said: dict[str, Any] = {"turned": True} if strip.turned else {}
    return {**said, "starts_at_s": round(strip.starts_at_s, 6)} if strip.starts_at_s else said


def song_sheet(song: SongState) -> SongSheet:
    """All strips of a song with their sheets."""
    names = names_of(song)
    strips = [
        SheetStrip(
            name=names[strip.id],
            kind=strip.kind,
            parent=None if strip.parent_id is None else names[strip.parent_id],
            fader_db=strip.fader_db,
            pan=strip.pan,
            mute=strip.mute,
            **_of_recording(strip),
            sheet=make_sheet_2(strip.treatment, names[strip.id], names=names),
        )
        for strip in song.strips
    ]
    return SongSheet(format="mivlo-song-sheet", version=2, song=song.name, sample_rate=song.sample_rate, strips=strips)


# --- tables -----------------------------------------------------------------------------------------


def _cells(entry: Entry, names: Mapping[int, str]) -> dict[str, Any]:
    """An entry as the cells of a table: every value, and beside frequency and Q what they are in other words."""
    move = entry.move
    beside = {"frequency_hz": ("note", str(hz_to_note(move.frequency_hz))), "q": ("octaves", _width(move))}
    plain = plain_document(entry)
    out: dict[str, Any] = {}
    for name, value in move_document(move).items():
        if name in ("mode", "key", "weights", "gains_db"):
            continue
        out[name] = "" if name in move.absent else _cell(value)
        if name in beside:
            other, said = beside[name]
            out[other] = said
    if not hasattr(move, "shape"):
        out["shape"] = move.mode
    if isinstance(move, StaticMove) and move.shape.has_slope and move.slope_db_per_octave == 6:
        out["q"] = ""
    out["mode"] = move.mode
    out["acts_so"] = acting_words(move, names)
    out["when"] = when_words(entry)
    out["enabled"] = "yes" if entry.enabled else "no"
    for name in ENTRY_FIELDS:
        if name in plain and name not in ("enabled", "note"):
            value = plain[name]
            out[name] = value if isinstance(value, str | float) else json.dumps(value)
    out |= _key_cells(move, names)
    if entry.note:
        out["remark"] = entry.note
    return out


def _key_cells(move: Move, names: Mapping[int, str]) -> dict[str, Any]:
    """What a move listens to: whom, and of a dynamic one which band."""
    if isinstance(move, FixedMove):
        return {}
    whom = ", ".join(names.get(source, "a track that is gone") for source in move.listens_to) or "itself"
    if not isinstance(move, DynamicMove):
        return {"key": whom}
    shape, frequency_hz, q = key_band(move)
    named = {str(Shape.LOW_SHELF): "low", str(Shape.HIGH_SHELF): "high"}.get(str(shape), str(shape))
    cells: dict[str, Any] = {"key": whom, "key_shape": named, "key_hz": round(frequency_hz, 2)}
    return cells | ({"key_q": round(q, 3)} if named == "band" else {})


def _width(move: Move) -> Any:
    if isinstance(move, StaticMove | DynamicMove) and not (isinstance(move, StaticMove) and move.shape.has_slope):
        return round(move.octaves, 3)
    return ""


def _cell(value: Any) -> Any:
    return round(value, 3) if isinstance(value, float) else value


_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def _harmless(value: Any) -> Any:
    """A text that no spreadsheet takes for a formula; numbers stay numbers."""
    return f"'{value}" if isinstance(value, str) and value.startswith(_FORMULA) else value


def _rows(song: SongState) -> list[dict[str, Any]]:
    """A row a move, with amounts applied, in the order in which they are listed."""
    names = names_of(song)
    return [
        {
            "track": strip.name,
            "number": number,
            **_cells(replace(entry, move=entry.move.scaled(strip.treatment.amount_of(entry))), names),
        }
        for strip in song.strips
        for number, entry in enumerate(strip.entries, 1)
    ]


def _remarks(song: SongState) -> dict[str, list[str]]:
    """What strips have beside their moves, in words."""
    return {s.name: words for s in song.strips if (words := [*_track_words(s), *treatment_words(s.treatment)])}


def _track_words(strip: StripState) -> list[str]:
    """What is done to a recording before anything else, in words."""
    said = ["its polarity is turned"] if strip.turned else []
    return said + ([f"it begins at {strip.starts_at_s:.3f} s"] if strip.starts_at_s else [])


def sheet_csv(song: SongState) -> str:
    """All moves of a song as comma-separated values with a header line."""
    rows = _rows(song)
    rows += [{"track": name, "remark": text} for name, lines in _remarks(song).items() for text in lines]
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
    remarks = _remarks(song)
    for name in remarks:
        by_track.setdefault(name, [])
    return environment.get_template("sheet.html").render(song=song, by_track=by_track, remarks=remarks)
