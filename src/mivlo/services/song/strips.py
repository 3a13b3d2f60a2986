"""Use cases on strips: tracks, groups, the mix."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mivlo.core.errors import InvalidValue
from mivlo.core.kept import kept_ranges
from mivlo.core.moves import Phase
from mivlo.core.roles import Role
from mivlo.description import aftercare_document, read_aftercare
from mivlo.services.errors import NotFound
from mivlo.services.song.edits import change_song, check_strip, lock_song
from mivlo.services.song.log import Change, merged
from mivlo.services.song.songs import named
from mivlo.services.song.state import read_song, treatment_of
from mivlo.store.models import Song, StripRow

MOST_STRIPS = 500


def strip_row(session: Session, song_id: int, strip_id: int) -> StripRow:
    """A strip of a song that is not deleted; NotFound if there is none."""
    row = session.get(StripRow, strip_id)
    if row is None or row.song_id != song_id or row.deleted:
        raise NotFound("track", strip_id)
    return row


def locked_strip(
    session: Session, song_id: int, strip_id: int, revision: int | None, strip_revision: int | None
) -> tuple[Song, StripRow]:
    """A song, locked, and one of its strips, to be changed; StaleRevision if one is not at its revision."""
    song = lock_song(session, song_id, revision)
    row = strip_row(session, song_id, strip_id)
    check_strip(row, strip_revision)
    return song, row


def change_strip(
    session: Session,
    song_id: int,
    strip_id: int,
    revision: int | None,
    values: dict[str, Any],
    *,
    strip_revision: int | None = None,
    page: str = "",
) -> None:
    """Rename a strip, set its role, fader, pan, mute, solo or polarity, its phase, amounts and aftercare."""
    song, row = locked_strip(session, song_id, strip_id, revision, strip_revision)
    if "name" in values:
        values["name"] = named(values["name"])
    if "role" in values:
        values["role"] = str(Role(values["role"]))
    if row.kind == "mix" and ("name" in values or values.get("solo")):
        raise InvalidValue("mix", row.name, "it can't be renamed or soloed")
    if row.kind != "track" and values.get("turned"):
        raise InvalidValue("turned", row.name, "only a track's polarity can be turned; what runs into it is added up")
    if "kept" in values:
        values["kept"] = [list(one) for one in kept_ranges(values["kept"])]
    values = {**values, **_treated(row, values)}
    words = ", ".join(_SAID.get(key, key.removesuffix("_db")) for key in values)
    change_song(session, song, f"{row.name}: {words}", [Change("strip", strip_id, values)], page=page, gesture=True)


_SAID = {"turned": "polarity"}
_OF_TREATMENT = ("phase", "amounts", "aftercare")


def _treated(row: StripRow, values: dict[str, Any]) -> dict[str, Any]:
    """What a change says of a strip's treatment, checked, as the row holds it."""
    given = {key: values[key] for key in _OF_TREATMENT if key in values}
    if not given:
        return {}
    if "aftercare" in given:
        given["aftercare"] = read_aftercare(given["aftercare"])
    if "phase" in given:
        given["phase"] = Phase(given["phase"])
    after = replace(treatment_of(row), **given)
    known = {
        "phase": str(after.phase), "amounts": dict(after.amounts), "aftercare": aftercare_document(after.aftercare),
    }  # fmt: skip
    return {key: known[key] for key in given}


def delete_strip(
    session: Session,
    song_id: int,
    strip_id: int,
    revision: int | None,
    *,
    strip_revision: int | None = None,
    page: str = "",
) -> None:
    """Take a track or a group out of the song; undo brings it back. What a group held runs into the mix."""
    song, row = locked_strip(session, song_id, strip_id, revision, strip_revision)
    if row.kind == "mix":
        raise InvalidValue("mix", row.name, "every song has one; it can't be deleted")
    change_song(session, song, f"delete {row.name}", [Change("strip", strip_id, {"deleted": True})], page=page)


def add_group(session: Session, song_id: int, name: str, strip_ids: Sequence[int] = (), *, page: str = "") -> int:
    """A new group with strips in it, as one step; its id. It runs to where the first of them ran, else into the mix."""
    song = lock_song(session, song_id)
    inside = [_routed(session, song_id, i) for i in strip_ids]
    count, last = session.execute(
        select(func.count(), func.max(StripRow.position)).where(StripRow.song_id == song_id)
    ).one()
    if count >= MOST_STRIPS:
        raise InvalidValue("strips", count, f"a song has at most {MOST_STRIPS}")
    position, parent = (inside[0].position, inside[0].parent_id) if inside else ((last or 0) + 1, None)
    row = StripRow(
        song_id=song_id, kind="group", position=position, name=named(name), role=str(Role.OTHER), deleted=False,
        parent_id=parent,
    )  # fmt: skip
    session.add(row)
    session.flush()
    into = [Change("strip", i.id, {"parent_id": row.id}) for i in inside]
    back = [Change("strip", i.id, {"parent_id": i.parent_id}) for i in inside]
    shown, hidden = Change("strip", row.id, {"deleted": False}), Change("strip", row.id, {"deleted": True})
    change_song(session, song, f"add group {row.name}", [shown, *into], [*back, hidden], page=page)
    _ = read_song(session, song_id).plan  # refuses what does not fit together
    return row.id


def _routed(session: Session, song_id: int, strip_id: int) -> StripRow:
    """A strip that can be routed: a track or a group."""
    row = strip_row(session, song_id, strip_id)
    if row.kind == "mix":
        raise InvalidValue("mix", row.name, "it is routed nowhere")
    return row


def route(
    session: Session,
    song_id: int,
    strip_id: int,
    parent_id: int | None,
    *,
    before_id: int | None = None,
    outline: int | None = None,
    page: str = "",
) -> None:
    """Route a track or a group into a group, or (None) into the mix; in front of another strip, or behind all.

    Where it is routed to already it only gets another place.

    Raises
    ------
    CircularRouting : the group would end up inside itself.
    """
    song = lock_song(session, song_id, outline=outline)
    row = _routed(session, song_id, strip_id)
    parent = None if parent_id is None else strip_row(session, song_id, parent_id)
    into = None if parent is None or parent.kind == "mix" else parent.id
    state = read_song(session, song_id)
    _ = state.with_strip(replace(state.strip(strip_id), parent_id=into)).plan  # refuses what does not fit together
    label = f"{row.name} into {parent.name if parent and into else 'the mix'}"
    changes = [Change("strip", strip_id, {"parent_id": into})]
    changes += _placed(session, song_id, row, None if before_id is None else strip_row(session, song_id, before_id))
    if into == row.parent_id:
        label = "reorder the tracks"
    change_song(session, song, label, merged(changes), page=page)


def _placed(session: Session, song_id: int, row: StripRow, other: StripRow | None) -> list[Change]:
    """The places that strips must have for one to stand in front of another, or behind all."""
    query = select(StripRow).where(StripRow.song_id == song_id, StripRow.deleted.is_(False))
    order = [r for r in session.scalars(query.order_by(StripRow.position, StripRow.id)) if r.id != row.id]
    at = next((i for i, r in enumerate(order) if other is not None and r.id == other.id), len(order))
    order.insert(at, row)
    return [Change("strip", r.id, {"position": i}) for i, r in enumerate(order) if r.position != i]
