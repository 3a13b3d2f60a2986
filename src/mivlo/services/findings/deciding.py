"""Use cases on findings: reading them, accepting, rejecting, taking that back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from sqlalchemy import not_, or_, select
from sqlalchemy.orm import Session

from mivlo.core.findings.ensemble import Beside
from mivlo.core.moves import Entry
from mivlo.services.errors import NotFound
from mivlo.services.findings.comparing import comparison_of
from mivlo.services.findings.documents import FindingDocument
from mivlo.services.findings.looking import analysis_key, looking
from mivlo.services.findings.weighing import weigh
from mivlo.services.song.edits import change_song, lock_song
from mivlo.services.song.log import Change
from mivlo.services.song.moves import add_moves, check_entry
from mivlo.services.song.state import SPARED, read_song
from mivlo.store.models import FindingRow, LookRow, MoveRow, StripRow

SAME_ACROSS_OCT = 1.0 / 36.0
_REPEATING = ("ring", "hum", "rumble")


@dataclass(frozen=True, slots=True)
class FindingState:
    """A finding as the page sees it.

    in_tracks : how many tracks of the song have it at the same place. song_says : what was decided of its like in
    others and what these sound like there; the document's confidence has it in.
    """

    id: int
    track_id: int
    state: str
    move_id: int | None
    left_db: float | None
    in_tracks: int
    song_says: str
    document: FindingDocument


@dataclass(frozen=True, slots=True)
class TrackFindings:
    """All findings of a track, what was looked at, and the evidence along the whole axis."""

    fresh: bool
    looking: float | None
    from_s: float
    to_s: float
    treated: bool
    along: dict[str, list[float]] | None
    findings: list[FindingState]


@dataclass(frozen=True, slots=True)
class Repeat:
    """The same thing in several tracks."""

    kind: str
    frequency_hz: float
    track_ids: list[int]


def _rows(session: Session, track_ids: Sequence[int]) -> list[FindingRow]:
    shown = or_(FindingRow.state != "open", not_(SPARED))  # what must stay is not told of as trouble
    query = select(FindingRow).where(FindingRow.strip_id.in_(track_ids), shown)
    query = query.order_by(FindingRow.rank.desc(), FindingRow.id)
    return [row for row in session.scalars(query) if row.present or row.state != "open"]


def _place(row: FindingRow) -> float:
    # rumble is broad and measured coarsely: one place for all of it
    return 0.0 if row.kind == "rumble" else float(np.log2(row.frequency_hz))


def _groups(rows: Sequence[FindingRow]) -> list[list[FindingRow]]:
    """Rows of one kind at one place: neighbours on the axis that are no more than SAME_ACROSS_OCT apart."""
    out: list[list[FindingRow]] = []
    for kind in _REPEATING:
        last = -1e9
        for row in sorted((r for r in rows if r.kind == kind), key=_place):
            if _place(row) - last > SAME_ACROSS_OCT:
                out.append([])
            out[-1].append(row)
            last = _place(row)
    return out


def repeats(session: Session, song_id: int) -> list[Repeat]:
    """What stands out at the same place in two tracks or more, the most widespread first."""
    song = read_song(session, song_id)
    groups = _groups(_rows(session, [t.id for t in song.tracks]))
    found = [
        Repeat(g[0].kind, float(np.median([r.frequency_hz for r in g])), sorted({r.strip_id for r in g}))
        for g in groups
    ]
    return sorted((r for r in found if len(r.track_ids) > 1), key=lambda r: -len(r.track_ids))


def track_findings(session: Session, song_id: int, track_id: int) -> TrackFindings:
    """What stands out in a strip, most certain and most disturbing first."""
    song = read_song(session, song_id)
    track = song.strip(track_id)
    rows = _rows(session, [t.id for t in song.tracks])
    alike = {row.id: group for group in _groups(rows) for row in group}
    beside = comparison_of(session, song_id)
    names = {t.id: t.name for t in song.tracks}
    states = [_state(row, alike.get(row.id, [row]), beside.get(row.id), names) for row in _rows(session, [track_id])]
    known = session.get(LookRow, track_id)
    return TrackFindings(
        fresh=known is not None and known.key == analysis_key(song, track),
        looking=looking(session, song_id).get(track_id),
        from_s=known.from_s if known else 0.0,
        to_s=known.to_s if known else 0.0,
        treated=known.treated if known else False,
        along=(known.along or None) if known else None,
        findings=sorted(states, key=lambda f: -f.document.rank),
    )


def _state(
    row: FindingRow, alike: Sequence[FindingRow], beside: Beside | None, names: Mapping[int, str]
) -> FindingState:
    """alike : it and what is at the same place in other tracks. beside : what these, by their ids, sound like there."""
    document = FindingDocument.model_validate(row.document)
    says = ""
    if row.state == "open":
        others = [r.state for r in alike if r.strip_id != row.strip_id]
        weighed = weigh(document.confidence, others, beside, names)
        document, says = document.model_copy(update={"confidence": weighed.confidence}), weighed.says
    spread = len({r.strip_id for r in alike})
    return FindingState(row.id, row.strip_id, row.state, row.move_id, row.left_db, spread, says, document)


def _row(session: Session, song_id: int, finding_id: int) -> tuple[FindingRow, StripRow]:
    row = session.get(FindingRow, finding_id)
    strip = session.get(StripRow, row.strip_id) if row is not None else None
    if row is None or strip is None or strip.song_id != song_id or strip.deleted:
        raise NotFound("finding", finding_id)
    return row, strip


def _label(verb: str, strip: StripRow, row: FindingRow) -> str:
    return f"{strip.name}: {verb} {row.kind} {row.frequency_hz:.0f} Hz"


def accept(
    session: Session,
    song_id: int,
    finding_id: int,
    revision: int | None,
    entry: Entry | None = None,
    *,
    page: str = "",
) -> int:
    """Make the proposed move (or `entry`, adjusted) and link it to its finding, as one step; the move's id.

    One that is accepted already keeps the move that it has. Undoing gives back what was decided before.
    """
    song = lock_song(session, song_id, revision)
    row, strip = _row(session, song_id, finding_id)
    if row.move_id is not None and not session.get_one(MoveRow, row.move_id).deleted:
        return row.move_id
    before = _decide(row, row.state, row.move_id)
    wanted = entry or FindingDocument.model_validate(row.document).entry()
    state = read_song(session, song_id)
    check_entry(state, state.strip(strip.id), wanted)
    (made,) = add_moves(
        session, song, [(strip, wanted)], _label("accept", strip, row),
        also=lambda ids: ([_decide(row, "accepted", ids[0])], [before]), page=page,
    )  # fmt: skip
    return made


def reject(session: Session, song_id: int, finding_id: int, revision: int | None, *, page: str = "") -> None:
    """Not a problem: it stays away, also after a new look."""
    _set_state(session, song_id, finding_id, revision, "rejected", "not a problem:", page)


def reopen(session: Session, song_id: int, finding_id: int, revision: int | None, *, page: str = "") -> None:
    """Take back what was decided; a move that was made for it goes."""
    _set_state(session, song_id, finding_id, revision, "open", "open again:", page)


def _decide(row: FindingRow, state: str, move_id: int | None) -> Change:
    return Change("finding", row.id, {"state": state, "move_id": move_id})


def _set_state(
    session: Session, song_id: int, finding_id: int, revision: int | None, state: str, verb: str, page: str
) -> None:
    song = lock_song(session, song_id, revision)
    row, strip = _row(session, song_id, finding_id)
    if row.state == state:
        return
    changes: list[Change] = [_decide(row, state, None)]
    if row.move_id is not None and not session.get_one(MoveRow, row.move_id).deleted:
        changes.append(Change("move", row.move_id, {"deleted": True}))
    change_song(session, song, _label(verb, strip, row), changes, page=page)
