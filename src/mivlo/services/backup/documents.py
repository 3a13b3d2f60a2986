"""What a backup holds: originals as they came, and JSON whose schema lies beside it.

mivlo-backup.json            what is in it: songs and originals, each with its SHA-256
schema.json                  JSON Schema of the other two kinds of documents
songs/NUMBER.json            a song: all rows of its tables, with its whole history
originals/SHA256.ENDING      recordings as they were brought in
README.txt                   these words
"""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, create_model
from sqlalchemy.dialects.postgresql import JSONB

from mivlo.store.models import (
    Base,
    Edit,
    FindingRow,
    LinkMemberRow,
    LinkRow,
    MoveRow,
    RecordingRow,
    SnapshotRow,
    Song,
    StripRow,
)

MANIFEST, SCHEMA, README = "mivlo-backup.json", "schema.json", "README.txt"
TABLES: tuple[type[Base], ...] = (
    Song, StripRow, RecordingRow, MoveRow, LinkRow, LinkMemberRow, SnapshotRow, FindingRow, Edit,
)  # fmt: skip
"""In the order in which they need each other. What was looked for can be looked for again; it is left out."""

_STRICT = ConfigDict(extra="forbid")


class KeptOriginal(BaseModel):
    """A recording in the archive, or one that the store had lost when the backup was made."""

    model_config = _STRICT

    sha256: str = Field(pattern=r"^[0-9a-f]{64}$")
    file_name: str = Field(max_length=1000)
    bytes: int = Field(ge=0)
    missing: bool = False


class KeptSong(BaseModel):
    """A song in the archive."""

    model_config = _STRICT

    name: str = Field(max_length=1000)
    document: str = Field(pattern=r"^songs/[0-9]+\.json$")
    sha256: str = Field(pattern=r"^[0-9a-f]{64}$")


class Manifest(BaseModel):
    """What is in the archive."""

    model_config = _STRICT

    format: Literal["mivlo-backup"] = "mivlo-backup"
    version: Literal[1] = 1
    made_at: datetime
    made_by: str = Field(max_length=100)
    songs: list[KeptSong] = Field(max_length=100_000)
    originals: list[KeptOriginal] = Field(max_length=1_000_000)


def _field(column: Any) -> tuple[Any, Any]:
    """A column as the field of a model. One that a later version adds has a default: older backups lack it."""
    kind: Any = Any if isinstance(column.type, JSONB) else column.type.python_type
    if column.nullable:
        kind = kind | None
    may_be_left_out = column.nullable or column.default is not None or column.server_default is not None
    return kind, Field(None) if may_be_left_out and not column.primary_key else Field(...)


def _row_model(table: type[Base]) -> type[BaseModel]:
    fields: Any = {column.name: _field(column) for column in table.__table__.columns}
    config = ConfigDict(extra="forbid", protected_namespaces=(), ser_json_inf_nan="constants")
    return create_model(f"{table.__name__.removesuffix('Row')}Row", __config__=config, **fields)


ROWS: dict[str, type[BaseModel]] = {table.__tablename__: _row_model(table) for table in TABLES}
"""Models of rows, by table, made of the tables themselves."""

_fields: dict[str, Any] = {
    "format": (Literal["mivlo-backup-song"], "mivlo-backup-song"),
    "version": (Literal[1], 1),
    **{name: (list[model], Field(default_factory=list)) for name, model in ROWS.items()},  # type: ignore[valid-type]
}
SongDocument: Any = create_model("SongDocument", __config__=_STRICT, **_fields)
"""All rows that belong to a song. Ids are its own; where it is restored they become others."""


def schema() -> dict[str, Any]:
    """The JSON Schema of both kinds of documents."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$defs": {"manifest": Manifest.model_json_schema(), "song": SongDocument.model_json_schema()},
    }
