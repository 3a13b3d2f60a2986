"""Carves in a song: proposed with what they promise and what they do, accepted as ordinary moves, switched together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum

import numpy as np
from sqlalchemy.orm import Session

from mivlo.core.auditory import BAND_HZ
from mivlo.core.clashes import TRACK_GIVES_DB, Carve, Carving, Clash, Effect, Limits, free, loss_of, survey
from mivlo.core.errors import InvalidValue, MivloError
from mivlo.core.loudness import gated_loudness
from mivlo.core.moves import Entry, Treatment
from mivlo.services.clashes.files import listening_to
from mivlo.services.clashes.heard import HeardSong, comparing
from mivlo.services.clashes.surveying import LEAST_LOST
from mivlo.services.making.hearing import span_of
from mivlo.services.song.edits import change_song, lock_song
from mivlo.services.song.log import Change
from mivlo.services.song.moves import check_entry, insert_move
from mivlo.services.song.state import SongState, read_song
from mivlo.services.song.strips import strip_row
from mivlo.store.database import session

WORTH_IN_A_SONG, LEAST_IN_A_SONG, MOST_LU_IN_A_SONG = 0.015, 0.0005, 2.0
"""Where many tracks cover one, a cut on one of them frees less; what it costs is said beside."""
MOST_STEPS = 8
"""So many moves are tried to say what more would buy."""
LINK = "carve"
"""All carves of a song share it: they are switched together."""


class Way(StrEnum):
    """Which of two tracks keeps a range."""

    COVERED = "covered"
    BY = "by"
    SHARE = "share"


@dataclass(frozen=True, slots=True)
class Proposal:
    """Carves for one clash, in each track that gives way, and what they do on the rendered sound.

    entries : by the track. kept : of each track what is left of it among all, before and after. gained, promised :
    sones that those regain that keep their place, measured and predicted. lost_sones, lost_lu : what the others give
    up. steps : of freeing a track, what one move, two, ... would gain and take, predicted: also those beyond the limit.
    """

    entries: list[tuple[int, Entry]]
    kept: dict[int, tuple[float, float]]
    gained: float
    promised: float
    lost_sones: float
    lost_lu: float
    steps: list[tuple[float, float]] = field(default_factory=list)


def free_track(
    song_id: int,
    track_id: int,
    limits: Limits,
    *,
    untouched: Sequence[int] = (),
    from_s: float | None = None,
    to_s: float | None = None,
) -> Proposal:
    """All carves that free a track, solved together within limits; `untouched` are tracks that are left alone.

    Raises
    ------
    MivloError : it does not sound there, or nothing is worth a cut.
    """
    with session() as open_session:
        song = read_song(open_session, song_id)
    with comparing:
        return _freed(HeardSong.of(song, *span_of(song, from_s, to_s)), track_id, limits, untouched)


def _freed(heard: HeardSong, track_id: int, limits: Limits, untouched: Sequence[int]) -> Proposal:
    keeper = heard.number(track_id)
    if keeper is None:
        raise MivloError("This track does not sound here. Choose a passage in which it plays.")
    numbers = frozenset(n for n in map(heard.number, untouched) if n is not None)
    clashes = survey(heard.scene, least=LEAST_LOST).clashes
    allowed = replace(limits, untouched=numbers, worth_sones=WORTH_IN_A_SONG, most_lu=MOST_LU_IN_A_SONG)
    carves = free(
        heard.scene, keeper, clashes, lambda: heard.key(track_id), sample_rate=heard.song.sample_rate,
        limits=replace(allowed, most_moves=MOST_STEPS), worth=LEAST_LOST,
    )  # fmt: skip
    if not carves:
        raise MivloError("Nothing within the limits frees more than it takes. A fader, or another part, helps more.")
    made = [(heard.tracks[c.on], _entry(heard, c, track_id, ""), c.effect) for c in carves[: limits.most_moves]]
    gains, losses = (np.cumsum([getattr(c.effect, n) for c in carves]) for n in ("gained_sones", "lost_sones"))
    steps = [(round(float(a), 4), round(float(b), 4)) for a, b in zip(gains, losses, strict=True)]
    return replace(_measured(heard, made, [track_id]), steps=steps)


def propose(
    song_id: int,
    covered: int,
    by: int,
    from_hz: float,
    to_hz: float,
    *,
    way: Way = Way.COVERED,
    most_db: float = TRACK_GIVES_DB,
    keyed: bool | None = None,
    from_s: float | None = None,
    to_s: float | None = None,
) -> Proposal:
    """The smallest carve for a range of two tracks, over the passage or between two times.

    keyed : whether it acts only while the other one sounds; None: whatever is worth more.

    Raises
    ------
    MivloError : one of the tracks does not sound there, or no carve is worth what it takes.
    """
    if covered == by:
        raise InvalidValue("by", by, "a track can't clash with itself")
    if to_hz <= from_hz:
        raise InvalidValue("to_hz", to_hz, f"it must lie above from_hz, which is {from_hz:g}")
    with session() as open_session:
        song = read_song(open_session, song_id)
    with comparing:
        return _proposed(
            HeardSong.of(song, *span_of(song, from_s, to_s)), covered, by, (from_hz, to_hz), way, most_db, keyed
        )


def _proposed(
    heard: HeardSong,
    covered: int,
    by: int,
    range_hz: tuple[float, float],
    way: Way,
    most_db: float,
    keyed: bool | None,
) -> Proposal:
    pairs = {Way.COVERED: [(covered, by)], Way.BY: [(by, covered)], Way.SHARE: [(covered, by), (by, covered)]}[way]
    deep = most_db / len(pairs)
    found = [(on, *_carve(heard, keep, on, range_hz, deep, keyed)) for keep, on in pairs]
    carves = [(on, entry, effect) for on, entry, effect in found if entry is not None and effect is not None]
    if not carves:
        raise MivloError("No cut within the limit frees more than it takes. A fader, or another part, would help more.")
    return _measured(heard, carves, [keep for keep, _ in pairs])


def _carve(
    heard: HeardSong, keep: int, on: int, range_hz: tuple[float, float], most_db: float, keyed: bool | None
) -> tuple[Entry | None, Effect | None]:
    keeper, giver = heard.number(keep), heard.number(on)
    if keeper is None or giver is None:
        raise MivloError("One of the two does not sound here. Choose a passage in which both play.")
    first, last = (int(x) for x in BAND_HZ.searchsorted(range_hz))
    clash = Clash(keeper, giver, first, max(first, last - 1), *range_hz, 0.0, 0.0, 0.0, ())
    carving = Carving(heard.scene, keeper, giver, lambda: heard.key(keep), sample_rate=heard.song.sample_rate)
    carve = carving.best(
        clash, most_db=most_db, most_lu=MOST_LU_IN_A_SONG, keyed=keyed is not False, static=keyed is not True,
        worth_sones=WORTH_IN_A_SONG, least_gain=LEAST_IN_A_SONG,
    )  # fmt: skip
    if carve is None:
        return None, None
    return _entry(heard, carve, keep, f", {range_hz[0]:.0f} to {range_hz[1]:.0f} Hz"), carve.effect


def _entry(heard: HeardSong, carve: Carve, keep: int, where: str) -> Entry:
    note = f"clash: makes room for {heard.song.strip(keep).name}{where}"
    return Entry(move=listening_to(carve.move, keep), links=(LINK,), note=note)


def _measured(heard: HeardSong, carves: Sequence[tuple[int, Entry, Effect]], keepers: Sequence[int]) -> Proposal:
    """What carves do when they are rendered."""
    after = heard
    lost_lu = lost_sones = 0.0
    for on, entry, _ in carves:
        own = after.song.strip(on).treatment
        after = after.with_treatment(on, replace(own, entries=(*own.entries, replace(entry, id=_free_id(own)))))
    for on in dict.fromkeys(on for on, _, _ in carves):
        before_lu, after_lu = (gated_loudness(x.sound(on), sample_rate=heard.song.sample_rate) for x in (heard, after))
        lost_lu += before_lu - after_lu
    kept = {}
    gained = 0.0
    for track in {*keepers, *(on for on, _, _ in carves)}:
        number = heard.tracks.index(track)
        before, then = loss_of(heard.scene, number)[0], loss_of(after.scene, number)[0]
        kept[track] = (round(before.kept_share, 4), round(then.kept_share, 4))
        if track in keepers:
            gained += then.among_all - before.among_all
        if track in {on for on, _, _ in carves}:
            lost_sones += before.loudness - then.loudness
    return Proposal(
        entries=[(on, entry) for on, entry, _ in carves],
        kept=kept,
        gained=round(gained, 4),
        promised=round(sum(effect.gained_sones for _, _, effect in carves), 4),
        lost_sones=round(lost_sones, 4),
        lost_lu=round(lost_lu, 3),
    )


def _free_id(treatment: Treatment) -> int:
    return max((e.id for e in treatment.entries), default=0) + 1


def accept(session: Session, song_id: int, entries: Sequence[tuple[int, Entry]], label: str, page: str = "") -> None:
    """Carves become moves of their tracks, all in one step.

    Raises
    ------
    InvalidValue : there are none, or one does not fit its track.
    """
    if not entries:
        raise InvalidValue("entries", 0, "give at least one move")
    song = lock_song(session, song_id)
    state = read_song(session, song_id)
    made = []
    for strip_id, entry in entries:
        check_entry(state, state.strip(strip_id), entry)
        made.append(insert_move(session, strip_row(session, song_id, strip_id), entry).id)
    forward = [Change("move", i, {"deleted": False}) for i in made]
    backward = [Change("move", i, {"deleted": True}) for i in made]
    change_song(session, song, label, forward, backward, page=page)


def switch_all(session: Session, song_id: int, on: bool, page: str = "") -> int:
    """Switch all carves of a song on or off, in one step; how many there are."""
    song = lock_song(session, song_id)
    carves = carves_of(read_song(session, song_id))
    changes = [Change("move", e.id, {"enabled": on}) for e in carves if e.enabled is not on]
    if changes:
        change_song(session, song, f"all carves {'on' if on else 'off'}", changes, page=page)
    return len(carves)


def carves_of(song: SongState) -> list[Entry]:
    """All moves of a song that were accepted as carves."""
    return [e for strip in song.strips for e in strip.entries if LINK in e.links]
