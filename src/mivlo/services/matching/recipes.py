"""Recipes: treatments kept for later, one sheet a file, in a folder for each role.

A person can put the folder under version control, add files to it and take some away: what is there is what is listed.
The sentence when to use one is the note of its first move.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from importlib.resources import files
from pathlib import Path

from mivlo.audio.whole import write_json
from mivlo.config import settings
from mivlo.core.errors import InvalidValue, MivloError
from mivlo.core.moves import Entry, Treatment
from mivlo.core.retuning import can_be_retuned, retune
from mivlo.core.roles import Role
from mivlo.services.errors import NotFound
from mivlo.services.handover.sheets import ReadSheet, make_sheet, names_of, parse_sheet, sheet_document
from mivlo.services.matching.looks import look_at_strip
from mivlo.services.song.moves import words_of
from mivlo.services.song.state import SongState, read_song
from mivlo.services.song.treating import put_in
from mivlo.store.database import session

MOST_RECIPES = 1_000
LONGEST_NAME = 80


@dataclass(frozen=True, slots=True)
class Recipe:
    """A sheet of the folder. `own`: kept here, not one of those that ship."""

    id: str
    name: str
    role: Role
    says: str
    moves: int
    own: bool
    treatment: Treatment
    keys: Mapping[int, str]


def folder() -> Path:
    """Where a person's own recipes are."""
    return settings().data_dir / "recipes"


def _shipped() -> Path:
    return Path(str(files("mivlo").joinpath("recipes")))


def recipes(role: Role | None = None) -> list[Recipe]:
    """All that can be read, those of a role if one is given; own ones first."""
    found = [*_read_all(folder(), own=True), *_read_all(_shipped(), own=False)]
    return [r for r in found if role is None or r.role is role]


def _read_all(place: Path, *, own: bool) -> Iterator[Recipe]:
    if not place.is_dir():
        return
    for path in sorted(place.glob("*/*.json"))[:MOST_RECIPES]:
        if path.parent.name not in list(Role):
            continue
        try:
            sheet = parse_sheet(path.read_text("utf-8-sig"), path.name)
        except (MivloError, OSError, UnicodeDecodeError):
            continue  # somebody else's file
        yield _recipe(path, sheet, own=own)


def _recipe(path: Path, sheet: ReadSheet, *, own: bool) -> Recipe:
    entries = sheet.treatment.entries
    says = next((entry.note for entry in entries if entry.note), "")
    number = f"{'own' if own else 'shipped'}/{path.parent.name}/{path.stem}"
    return Recipe(number, path.stem, Role(path.parent.name), says, len(entries), own, sheet.treatment, sheet.keys)


def recipe(recipe_id: str) -> Recipe:
    """One of the list; NotFound if there is none."""
    found = next((r for r in recipes() if r.id == recipe_id), None)
    if found is None:
        raise NotFound("recipe", recipe_id)
    return found


def keep(song_id: int, strip_id: int, name: str, says: str) -> Recipe:
    """Keep a strip's treatment under a name, for its role.

    Raises
    ------
    InvalidValue : the name can't be that of a file, is taken, or there is nothing to keep.
    """
    clean = re.sub(r"\s+", " ", name).strip()
    if not clean or len(clean) > LONGEST_NAME or re.search(r"[/\\:*?\"<>|\x00-\x1f]", clean) or clean.startswith("."):
        raise InvalidValue("name", name, f"write up to {LONGEST_NAME} letters and digits, as for a file")
    with session() as open_session:
        song = read_song(open_session, song_id)
    strip = song.strip(strip_id)
    if not strip.entries:
        raise InvalidValue("moves", 0, "there are no moves to keep")
    first, *rest = strip.entries
    noted = replace(strip.treatment, entries=(replace(first, note=says.strip()[:300] or first.note), *rest))
    place = folder() / str(strip.role) / f"{clean}.json"
    if place.exists():
        raise InvalidValue("name", clean, "there is a recipe of this name; choose another one")
    place.parent.mkdir(parents=True, exist_ok=True)
    write_json(place, sheet_document(make_sheet(noted, names=names_of(song))))
    return recipe(f"own/{strip.role}/{clean}")


def forget(recipe_id: str) -> None:
    """Take one of a person's own out of the folder."""
    found = recipe(recipe_id)
    if not found.own:
        raise InvalidValue("recipe", found.name, "it ships with the application and stays")
    (folder() / str(found.role) / f"{found.name}.json").unlink(missing_ok=True)


def use(
    song_id: int, strip_id: int, recipe_id: str, *, refit: bool, strip_revision: int | None = None, page: str = ""
) -> list[str]:
    """Put a recipe on a strip as one step, its narrow cuts moved to where they ring here; what was left out is said."""
    found = recipe(recipe_id)
    sheet = ReadSheet(found.treatment, found.keys, ())
    return put_sheet(
        song_id, strip_id, sheet, f"recipe {found.name}", refit=refit, strip_revision=strip_revision, page=page
    )


def put_sheet(
    song_id: int,
    strip_id: int,
    sheet: ReadSheet,
    label: str,
    *,
    refit: bool = False,
    strip_revision: int | None = None,
    page: str = "",
) -> list[str]:
    """Put a sheet's treatment behind the moves of a strip as one step; what was left out is said.

    Raises
    ------
    InvalidValue : a move listens to a strip that the song does not have.
    """
    with session() as open_session:
        song = read_song(open_session, song_id)
    strip = song.strip(strip_id)
    entries = [_here(song, entry, sheet.keys) for entry in sheet.treatment.entries]
    said: list[str] = []
    if refit and any(can_be_retuned(e.move) for e in entries):
        look = look_at_strip(song, strip)
        kept = []
        for entry in entries:
            made = retune(entry.move, look)
            if made.move is None:
                said.append(f"{words_of(entry)}: {made.left_out}")
            else:
                kept.append(replace(entry, move=made.move))
        entries = kept
    treatment = replace(sheet.treatment, entries=tuple(replace(e, id=n) for n, e in enumerate(entries)))
    known = strip.revision if strip_revision is None else strip_revision
    with session() as open_session:
        put_in(open_session, song_id, strip_id, treatment, f"{strip.name}: {label}", strip_revision=known, page=page)
    return said


def _here(song: SongState, entry: Entry, keys: Mapping[int, str]) -> Entry:
    """An entry of a sheet with what it listens to among the strips of a song."""
    if not entry.move.listens_to:
        return entry
    name = keys.get(entry.move.listens_to[0], "")
    strips = {known: strip_id for strip_id, known in names_of(song).items()}
    if name not in strips:
        raise InvalidValue("key.source", name, "the song has no track of this name; rename one, or leave the move out")
    key = replace(entry.move.key, source=strips[name])  # type: ignore[union-attr]
    return replace(entry, move=replace(entry.move, key=key))  # type: ignore[arg-type]
