"""Treatments as documents: what a sheet, a request, a message and a column of the database hold.

Everything here is made from the types of `mivlo.core.moves`. A document of an entry is flat: the fields of its move
stand beside its own. A new field of a move is written there and nowhere else.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import MISSING, Field, fields
from functools import lru_cache
from typing import Annotated, Any, Union, get_type_hints

from pydantic import BaseModel, ConfigDict, Discriminator, Tag, TypeAdapter, ValidationError, create_model
from pydantic.fields import FieldInfo

from mivlo.core.errors import InvalidValue, MissingKey, UnknownKey, short
from mivlo.core.moves import SELF, Aftercare, Entry, mode_of, move_kinds
from mivlo.core.moves.bounds import bound_words
from mivlo.core.moves.kinds import MoveKind

STRICT = ConfigDict(extra="forbid", allow_inf_nan=False)
Document = dict[str, Any]


def _own(kind: Any, *without: str) -> list[Field[Any]]:
    return [f for f in fields(kind) if f.name not in without]


ENTRY_FIELDS = tuple(f.name for f in _own(Entry, "id", "move"))
"""What an entry has beside its move."""


def move_fields(kind: type[Any]) -> tuple[str, ...]:
    """The fields of a kind of move."""
    return tuple(f.name for f in fields(kind))


@lru_cache
def kind_of(mode: str) -> type[Any]:
    """The kind of move with this mode; InvalidValue if there is none."""
    known = {mode_of(kind): kind for kind in move_kinds()}
    if mode not in known:
        raise InvalidValue("mode", mode, f"it must be one of {', '.join(known)}")
    return known[mode]


@lru_cache
def _adapter(kind: Any) -> TypeAdapter[Any]:
    return TypeAdapter(kind)


def sentence(error: ValidationError, *, whole: str = "document") -> str:
    """What is wrong with a document, naming each key."""
    parts = []
    for problem in error.errors():
        place = ".".join(str(part) for part in problem["loc"] if part not in _MODES) or whole
        said = problem["msg"].removeprefix("Value error, ").rstrip(".")
        if problem["type"] in _UNKNOWN:
            parts.append(f"{place} is not a known key")
        elif problem["type"] == "missing":
            parts.append(f"{place} is missing")
        elif problem["type"] == "value_error":
            parts.append(said)
        else:
            parts.append(f"{place} is {short(problem['input'], 60)}: {said.lower()}")
    return "; ".join(parts)


_MODES = frozenset(mode_of(kind) for kind in move_kinds())


def _read(kind: Any, values: Document) -> Any:
    try:
        return _adapter(kind).validate_python(values)
    except ValidationError as error:
        problem = error.errors()[0]
        if problem["type"] == "value_error" and isinstance(problem["ctx"]["error"], InvalidValue):
            raise problem["ctx"]["error"] from error
        name = ".".join(str(part) for part in problem["loc"])
        if problem["type"] == "missing":
            raise MissingKey(name) from error
        if problem["type"] in _UNKNOWN:
            raise UnknownKey(name, problem["input"]) from error
        words = bound_words(kind, name) if problem["type"] in _OUT_OF_BOUNDS else None
        raise InvalidValue(name, problem["input"], words or _as_clause(problem["msg"])) from error


_UNKNOWN = ("extra_forbidden", "unexpected_keyword_argument")
_OUT_OF_BOUNDS = ("greater_than_equal", "less_than_equal", "finite_number", "literal_error")


def out_of_bounds(problem: Any) -> str | None:
    """Our sentence where a value of a move or an entry is out of its bounds; None where something else is wrong."""
    if problem["type"] not in _OUT_OF_BOUNDS:
        return None
    name = str(problem["loc"][-1])
    kinds: tuple[type[Any], ...] = (Entry, *move_kinds())
    words = next((w for kind in kinds if (w := bound_words(kind, name))), None)
    return None if words is None else str(InvalidValue(name, problem["input"], words))


def _as_clause(message: str) -> str:
    """Pydantic's "Input should be a valid number" as the second half of our sentence."""
    return message.replace("Input should", "it should", 1).rstrip(".")


# --- documents <-> values -------------------------------------------------------------------------


def entry_document(entry: Entry) -> Document:
    """All of an entry, flat."""
    return {"id": entry.id, **entry_parts(entry)[0], **move_document(entry.move)}


def move_document(move: MoveKind) -> Document:
    """All of a move."""
    return dict(_adapter(type(move)).dump_python(move, mode="json"))


def entry_parts(entry: Entry) -> tuple[Document, Document]:
    """What an entry has beside its move, and its move."""
    known = _adapter(Entry).dump_python(entry, mode="json", include=set(ENTRY_FIELDS))
    return known, move_document(entry.move)


def read_move(values: Document) -> Any:
    """A move of its document; InvalidValue names what can't be."""
    mode = values.get("mode", "static")
    if not isinstance(mode, str):
        raise InvalidValue("mode", mode, "it should be a word")
    return _read(kind_of(mode), values)


def read_entry(values: Document, *, entry_id: int | None = None) -> Entry:
    """An entry of its flat document; keys that are left out are as the types say. InvalidValue: what can't be."""
    own = {key: value for key, value in values.items() if key in ENTRY_FIELDS}
    move = read_move({k: v for k, v in values.items() if k not in ENTRY_FIELDS and k != "id"})
    number = values.get("id", 0) if entry_id is None else entry_id
    return _read(Entry, {**own, "id": number, "move": move})  # type: ignore[no-any-return]


def changed_entry(entry: Entry, changes: Document) -> Entry:
    """An entry with some values of its document changed, and all checked."""
    before = entry_document(entry)
    if "mode" in changes and changes["mode"] != before["mode"]:  # another kind: only what both have is kept
        kept = {*ENTRY_FIELDS, "id", *move_fields(kind_of(changes["mode"]))}
        before = {key: value for key, value in before.items() if key in kept}
    return read_entry({**before, **changes}, entry_id=entry.id)


def aftercare_document(aftercare: Aftercare) -> Document:
    """What comes behind the moves."""
    return dict(_adapter(Aftercare).dump_python(aftercare, mode="json"))


def plain_aftercare(aftercare: Aftercare) -> Document:
    """What comes behind the moves, as a person writes it: without what is off."""
    whole = aftercare_document(aftercare)
    return {key: value for key, value in whole.items() if value not in (None, [], 0.0)}


def read_aftercare(values: Document) -> Aftercare:
    """What comes behind the moves, of its document."""
    return _read(Aftercare, values)  # type: ignore[no-any-return]


def plain_document(entry: Entry) -> Document:
    """An entry as a person writes it: without what goes without saying or what its shape does not have."""
    move = move_document(entry.move)
    out = {name: _said(move[name]) for name in move if name not in (*entry.move.absent, *entry.move.implied)}
    own = entry_parts(entry)[0]
    for field in _own(Entry, "id", "move"):
        if field.name == "enabled" or getattr(entry, field.name) != field.default:
            out[field.name] = own[field.name]
    return out


def _said(value: Any) -> Any:
    """A value without what is None in it."""
    return {k: v for k, v in value.items() if v is not None} if isinstance(value, dict) else value


def read_plain(values: Document, *, entry_id: int = 0) -> Entry:
    """An entry of what a person or another program wrote: what does not belong to its shape is refused.

    Keys with null are as if they were left out.
    """
    given = {key: value for key, value in values.items() if value is not None}
    entry = read_entry(given, entry_id=entry_id)
    move = entry.move
    words = str(getattr(move, "shape", move.mode)).replace("_", " ")
    for name in move.needed:
        if name not in given:
            raise InvalidValue(name, None, f"a {words} needs it")
    for name in move.absent:
        if name in given:
            raise InvalidValue(name, given[name], f"a {words} has none; leave it out")
    return entry


# --- models for the edge: made, not written ---------------------------------------------------------

_NO_TYPES: Mapping[Any, Any] = {}


def _hint(kind: Any, name: str, own_types: Mapping[Any, Any]) -> Any:
    hint = get_type_hints(kind, include_extras=True)[name]
    return own_types.get(hint, hint)


def model_field(
    kind: Any,
    field: Field[Any],
    *,
    optional: bool = False,
    nullable: bool = False,
    own_types: Mapping[Any, Any] = _NO_TYPES,
) -> tuple[Any, FieldInfo]:
    """A field of a dataclass as one of a model; optional, nullable and own_types as in `flat_model`."""
    hint = _hint(kind, field.name, own_types)
    if field.default is not MISSING:
        default = field.default
    elif field.default_factory is not MISSING:
        default = field.default_factory()
    else:
        default = ...
    if optional or (nullable and default is not ... and field.name != "mode"):
        return hint | None, FieldInfo(default=None)
    if hint in own_types.values():
        default = hint()
    return hint, FieldInfo(default=default)


def flat_model(
    name: str,
    kind: type[Any],
    *,
    base: type[BaseModel] | None = None,
    optional: bool = False,
    nullable: bool = False,
    own: tuple[str, ...] = ENTRY_FIELDS,
    own_types: Mapping[Any, Any] = _NO_TYPES,
    doc: str = "",
) -> type[BaseModel]:
    """A model of flat documents of one kind of move.

    optional : every key may be left out (a change). nullable : keys that have a default may be null (a sheet).
    own : what it has of an entry beside its move. own_types : what stands in place of a type of the core.
    """
    parts: dict[str, Any] = {
        f.name: model_field(kind, f, optional=optional, nullable=nullable, own_types=own_types) for f in fields(kind)
    }
    for field in _own(Entry, "id", "move"):
        if field.name in own:
            parts[field.name] = model_field(Entry, field, optional=optional, nullable=False)
    if base is not None:
        return create_model(name, __base__=base, __doc__=doc, **parts)
    return create_model(name, __config__=STRICT, __doc__=doc, **parts)


def _mode_in(values: Any) -> Any:
    """The mode of a document, or of a model of one; static where nothing is said."""
    return values.get("mode", "static") if isinstance(values, dict) else getattr(values, "mode", "static")


def flat_union(name: str, **how: Any) -> Any:
    """Any kind of move as a flat document, told apart by `mode`, which is static where it is left out."""
    models = [
        Annotated[flat_model(f"{mode_of(kind).title()}{name}", kind, **how), Tag(mode_of(kind))]
        for kind in move_kinds()
    ]
    told = Discriminator(
        _mode_in, custom_error_type="mode", custom_error_message=f"mode must be one of {', '.join(sorted(_MODES))}"
    )
    return Annotated[Union[tuple(models)], told]  # noqa: UP007  (made at run time)


def changes_model(name: str, *, base: type[BaseModel], doc: str) -> type[BaseModel]:
    """A model of new values of a move of any kind: every key may be left out."""
    parts: dict[str, Any] = {}
    owners = [(kind, f) for kind in move_kinds() for f in fields(kind)]
    for kind, field in [*owners, *((Entry, f) for f in _own(Entry, "id", "move"))]:
        hint = get_type_hints(kind, include_extras=True)[field.name]
        known = parts.get(field.name)
        parts[field.name] = hint if known is None or known == hint else known | hint
    made: dict[str, Any] = {key: (hint | None, FieldInfo(default=None)) for key, hint in parts.items()}
    return create_model(name, __base__=base, __doc__=doc, **made)


def key_document(values: Document, change: Callable[[Any], Any]) -> Document:
    """A document of a move with the strip that it listens to written in another way; "self" stays."""
    key = values.get("key")
    if not isinstance(key, dict) or key.get("source", SELF) == SELF:
        return values
    return {**values, "key": {**key, "source": change(key["source"])}}
