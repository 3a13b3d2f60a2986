"""Right of way in a song: orders of importance, of the whole and of passages, and decisions on clashes over them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from enum import StrEnum

import numpy as np
from sqlalchemy.orm import Session

from mivlo.core.clashes.way import IMPORTANCE, by_importance
from mivlo.core.errors import InvalidValue
from mivlo.core.graph import StripKind
from mivlo.core.roles import Role
from mivlo.services.song.edits import change_song, lock_song
from mivlo.services.song.log import Change
from mivlo.services.song.state import Decision, PassageOrder, SongState, read_song
from mivlo.store.models import Song

Stretch = tuple[float, float]
"""From when to when, in s."""


class Way(StrEnum):
    """Which of two tracks keeps a range."""

    COVERED = "covered"
    BY = "by"
    SHARE = "share"


MOST_DECISIONS = 1000
MOST_ORDERS = 200
SAME_PASSAGE = 0.7
"""Stretches that share so much of what they cover together are one passage."""
SAME_PLACE = 0.3
"""Ranges of two clashes that overlap by such a share, in octaves, are one place."""


def set_importance(
    session: Session, song_id: int, order: Sequence[int], stretch: Stretch | None = None, *, page: str = ""
) -> None:
    """Put tracks into an order, the most important one first; those that are not named go by role.

    A group stands for its tracks, as they stand to each other. stretch : it counts for this passage alone, in place of
    the order of the whole song, which counts there again once the passage has none.
    """
    song = lock_song(session, song_id)
    state = read_song(session, song_id)
    if stretch is not None and not 0.0 <= stretch[0] < stretch[1]:
        raise InvalidValue("to_s", stretch[1], "a passage must end behind its start")
    tracks = {t.id: t for t in state.tracks}
    known = by_importance([t.role for t in state.tracks], [_rank(state, t.id, stretch) for t in state.tracks])
    standing = [state.tracks[n].id for n in known]
    if not set(order) <= {s.id for s in state.strips if s.kind is not StripKind.MIX}:
        raise InvalidValue("order", list(order), "it must name tracks or groups of the song, each once")
    order = [t for i in order for t in ([i] if i in tracks else [t for t in standing if t in state.plan.below(i)])]
    if len(set(order)) < len(order):
        raise InvalidValue("order", order, "it must name tracks or groups of the song, each once")
    if stretch is not None:
        _set_of_passage(session, song, state, order, stretch, page)
        return
    ranks = {track: order.index(track) if track in order else None for track in tracks}
    changes = [Change("strip", i, {"importance": r}) for i, r in ranks.items() if r != tracks[i].importance]
    if changes:
        change_song(session, song, "order of importance" if order else "importance by role", changes, page=page)


def _set_of_passage(
    session: Session, song: Song, state: SongState, order: list[int], stretch: Stretch, page: str
) -> None:
    made = [o for o in state.orders if not _is_passage(o, stretch)]
    if order:
        made.append(PassageOrder(*stretch, tuple(order)))
    if len(made) > MOST_ORDERS:
        raise InvalidValue("orders", len(made), f"a song has at most {MOST_ORDERS}")
    if made == list(state.orders):
        return
    label = "order of importance in a passage" if order else "importance in a passage as in the song"
    documents = [{**asdict(o), "track_ids": list(o.track_ids)} for o in made]
    change_song(session, song, label, [Change("song", state.id, {"orders": documents})], page=page)


def order_in(state: SongState, stretch: Stretch | None) -> PassageOrder | None:
    """The order by hand that a passage has of its own; None for the whole song."""
    if stretch is None or not state.orders:
        return None
    closest = max(state.orders, key=lambda o: _common((o.from_s, o.to_s), stretch))
    return closest if _is_passage(closest, stretch) else None


def _is_passage(order: PassageOrder, stretch: Stretch) -> bool:
    return _common((order.from_s, order.to_s), stretch) >= SAME_PASSAGE


def _common(one: tuple[float, float], other: tuple[float, float]) -> float:
    """What two stretches share, as a share of what they cover together."""
    (a, b), (c, d) = one, other
    return max(0.0, min(b, d) - max(a, c)) / max(1e-9, max(b, d) - min(a, c))


def _rank(state: SongState, track_id: int, stretch: Stretch | None) -> int | None:
    own = order_in(state, stretch)
    if own is None:
        return state.strip(track_id).importance
    return own.track_ids.index(track_id) if track_id in own.track_ids else None


def decide(
    session: Session,
    song_id: int,
    covered: int,
    by: int,
    range_hz: tuple[float, float],
    way: Way | None,
    *,
    page: str = "",
) -> None:
    """Say which of two strips keeps a range in place of what the order says; None: the order counts again."""
    song = lock_song(session, song_id)
    state = read_song(session, song_id)
    tracks = {s.id: s.name for s in state.strips if s.kind is not StripKind.MIX}
    from_hz, to_hz = range_hz
    for name, strip_id in (("covered", covered), ("by", by)):
        if strip_id not in tracks:
            raise InvalidValue(name, strip_id, "there is no such track in this song")
    if covered == by:
        raise InvalidValue("by", by, "a track can't clash with itself")
    if not from_hz < to_hz:
        raise InvalidValue("to_hz", to_hz, f"it must lie above from_hz, which is {from_hz:g}")
    made = [d for d in state.decisions if not _speaks_of(d, covered, by, range_hz)]
    if way is not None:
        made.append(Decision(covered, by, from_hz, to_hz, str(way)))
    if len(made) > MOST_DECISIONS:
        raise InvalidValue("decisions", len(made), f"a song has at most {MOST_DECISIONS}")
    if made == list(state.decisions):
        return
    label = f"right of way: {tracks[covered]} and {tracks[by]}"
    change_song(session, song, label, [Change("song", song_id, {"decisions": [asdict(d) for d in made]})], page=page)


def role_of(song: SongState, strip_id: int) -> Role:
    """The role of a track; of a group its own or, where it has none, that of its most important track."""
    strip = song.strip(strip_id)
    inside = [t.role for t in song.tracks if t.id in song.plan.below(strip_id)]
    if strip.role is not Role.OTHER or not inside:
        return strip.role
    return min(inside, key=IMPORTANCE.index)


def rank_of(song: SongState, strip_id: int, stretch: Stretch | None = None) -> int | None:
    """The place of a track in the order by hand, of a passage if it has its own; of a group that of its most
    important track.
    """
    around = {strip_id, *song.plan.below(strip_id)}
    ranks = (_rank(song, t.id, stretch) for t in song.tracks if t.id in around)
    return min((rank for rank in ranks if rank is not None), default=None)


def decision_on(state: SongState, covered: int, by: int, range_hz: tuple[float, float]) -> Decision | None:
    """What was decided on a clash, if anything was."""
    return next((d for d in state.decisions if _speaks_of(d, covered, by, range_hz)), None)


def _speaks_of(decision: Decision, covered: int, by: int, range_hz: tuple[float, float]) -> bool:
    """Whether a decision is on the same two tracks at the same place."""
    if {decision.covered, decision.by} != {covered, by}:
        return False
    return _overlap((decision.from_hz, decision.to_hz), range_hz) >= SAME_PLACE


def _overlap(one: tuple[float, float], other: tuple[float, float]) -> float:
    """What two ranges in Hz share, as a share of both together, in octaves."""
    (a, b), (c, d) = np.log2(one), np.log2(other)
    return float(_common((a, b), (c, d)))
