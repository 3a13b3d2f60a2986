"""What moves that listen did over a passage: levels that a dynamic one read, cuts that an adaptive one made."""

from __future__ import annotations

import base64
from dataclasses import dataclass

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from mivlo.core.errors import InvalidValue
from mivlo.core.making.standing_out import picture_of
from mivlo.core.making.thresholds import Trace, at_moments, at_share, rise_ms
from mivlo.core.moves import AdaptiveMove, DynamicMove, Entry
from mivlo.services.errors import NotFound
from mivlo.services.making.hearing import LEAD_S, key_of, reaching, span_of, traced
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.store.models import FindingRow

USUAL_SHARE = 0.15
POINTS = 480


COLUMNS, ROWS = 480, 96
STEP_DB = 0.15
"""Of a byte of `Cuts.cuts`."""


@dataclass(frozen=True, slots=True)
class Cuts:
    """What an adaptive move did over the passage, to be drawn.

    times_s, hz : of the columns and rows. cuts : base64 of a byte for each, column after column, lowest row first: the
    deepest cut there in steps of STEP_DB. mean_db, deepest_db : over the passage, at each hz.
    """

    times_s: list[float]
    hz: list[float]
    step_db: float
    cuts: str
    mean_db: list[float]
    deepest_db: list[float]


@dataclass(frozen=True, slots=True)
class Levels:
    """What is drawn to set a threshold by.

    suggested_db : the threshold that makes it act for as long as `suggested_for` says. acts : share of the time over
    the present threshold. rise_ms : of the key's band, on top of the attack. most_db : the largest gain it moved by.
    """

    times_s: list[float]
    level_db: list[float]
    gain_db: list[float]
    suggested_db: float
    suggested_for: str
    acts: float
    rise_ms: float
    most_db: float


def find_move(song: SongState, move_id: int) -> tuple[StripState, Entry]:
    """A move of a song and its strip."""
    for strip in song.strips:
        for entry in strip.entries:
            if entry.id == move_id:
                return strip, entry
    raise NotFound("move", move_id)


def move_levels(
    session: Session, song_id: int, move_id: int, from_s: float | None = None, to_s: float | None = None
) -> Levels:
    """Levels of a dynamic move over the passage, or between two times.

    Raises
    ------
    InvalidValue : the move reads no level.
    """
    song = read_song(session, song_id)
    strip, entry = find_move(song, move_id)
    if not isinstance(entry.move, DynamicMove):
        raise InvalidValue("mode", entry.move.mode, "only a dynamic move reads a level")
    row = session.scalars(select(FindingRow).where(FindingRow.move_id == move_id)).first()
    document = row.document if row is not None else {}
    session.rollback()  # what follows takes a while and needs no connection
    seen = traced(song, strip, entry, *span_of(song, from_s, to_s))
    suggested, words = _suggested(entry, seen, document)
    drawn = seen.thinned(POINTS)
    return Levels(
        times_s=[round(t, 3) for t in drawn.times_s.tolist()],
        level_db=[round(v, 1) for v in drawn.level_db.tolist()],
        gain_db=[round(v, 2) for v in drawn.gain_db.tolist()],
        suggested_db=suggested.threshold_db,
        suggested_for=words,
        acts=round(_acting(entry.move, seen), 4),
        rise_ms=round(rise_ms(entry.move), 2),
        most_db=round(max(seen.gain_db.tolist(), key=abs, default=0.0), 1),
    )


def move_cuts(
    session: Session, song_id: int, move_id: int, from_s: float | None = None, to_s: float | None = None
) -> Cuts:
    """What an adaptive move does over the passage, or between two times.

    Raises
    ------
    InvalidValue : the move is not adaptive.
    """
    song = read_song(session, song_id)
    strip, entry = find_move(song, move_id)
    if not isinstance(entry.move, AdaptiveMove):
        raise InvalidValue("mode", entry.move.mode, "only an adaptive move follows what stands out")
    session.rollback()  # what follows takes a while and needs no connection
    first, last = span_of(song, from_s, to_s)
    rate, lead = song.sample_rate, max(0, first - round(LEAD_S * song.sample_rate))
    sound, key = reaching(song, strip, entry, lead, last), key_of(song, entry.move, lead, last)
    whole = picture_of(sound, entry, key, sample_rate=rate, start_s=lead / rate)
    seen = whole.since(first / rate)
    times, hz, cut_db = seen.thinned(COLUMNS, ROWS)
    cuts = np.rint(np.clip(-cut_db / STEP_DB, 0.0, 255.0)).astype(np.uint8)
    return Cuts(
        times_s=[round(t, 3) for t in times.tolist()],
        hz=[round(f, 2) for f in hz.tolist()],
        step_db=STEP_DB,
        cuts=base64.b64encode(cuts.tobytes()).decode(),
        mean_db=[round(v, 2) for v in np.interp(np.log(hz), np.log(seen.hz), seen.mean_db()).tolist()],
        deepest_db=[round(v, 2) for v in cut_db.min(axis=0, initial=0.0).tolist()],
    )


def _acting(move: DynamicMove, seen: Trace) -> float:
    over = seen.share(move.threshold_db)
    return over if move.acts == "above" else 1.0 - over


def _suggested(entry: Entry, seen: Trace, document: dict[str, object]) -> tuple[DynamicMove, str]:
    """The move with the threshold that suits what it is for, and what that is."""
    move = entry.move
    assert isinstance(move, DynamicMove)
    moments = document.get("moments")
    share = document.get("share_of_time")
    if isinstance(moments, list) and moments:
        return at_moments(move, seen, [(a, b) for a, b in moments]), f"the {len(moments)} moments of its finding"
    if isinstance(share, float):
        return at_share(move, seen, share, of_sounding=True), f"{100 * share:.0f} % of the time, as its finding"
    if entry.stretches:
        return at_moments(move, seen, entry.stretches), f"its {len(entry.stretches)} stretches"
    return at_share(move, seen, USUAL_SHARE, of_sounding=True), f"{100 * USUAL_SHARE:.0f} % of the sounding time"
