"""Carves in a song: proposed with what they promise and what they do, accepted as ordinary moves, switched together."""

from __future__ import annotations

from collections.abc import Collection, Sequence, Set
from dataclasses import dataclass, field, replace

import numpy as np
from sqlalchemy.orm import Session

from mivlo.core.auditory import BAND_HZ
from mivlo.core.clashes import GROUP_GIVES_DB, TRACK_GIVES_DB, Carve, Carving, Clash, Limits, free, loss_of, survey
from mivlo.core.errors import InvalidValue, MivloError
from mivlo.core.graph import StripKind
from mivlo.core.loudness import gated_loudness
from mivlo.core.moves import Entry, Phase, Treatment
from mivlo.services.clashes.files import listening_to
from mivlo.services.clashes.heard import HeardSong, comparing
from mivlo.services.clashes.surveying import LEAST_LOST
from mivlo.services.making.hearing import span_of
from mivlo.services.song.edits import change_song, lock_song
from mivlo.services.song.log import Change
from mivlo.services.song.moves import add_moves, check_entry
from mivlo.services.song.rights import Way
from mivlo.services.song.state import read_song
from mivlo.services.song.strips import strip_row
from mivlo.store.database import session

WORTH_IN_A_SONG, LEAST_IN_A_SONG, MOST_LU_IN_A_SONG = 0.015, 0.0005, 2.0
"""Where many tracks cover one, a cut on one of them frees less; what it costs is said beside."""
MOST_STEPS = 8
"""So many moves are tried to say what more would buy."""
LINK = "carve"
"""All carves of a song share it: they are switched together."""


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
    folded: Collection[int] = (),
    from_s: float | None = None,
    to_s: float | None = None,
) -> Proposal:
    """All carves that free a track, solved together within limits; `untouched` are tracks that are left alone.

    folded : groups that stand for their tracks; a carve on one is at most GROUP_GIVES_DB deep.

    Raises
    ------
    MivloError : it does not sound there, or nothing is worth a cut.
    """
    with session() as open_session:
        song = read_song(open_session, song_id)
    with comparing:
        heard = HeardSong.of(song, *span_of(song, from_s, to_s), folded=folded)
        return _freed(heard, track_id, limits, untouched)


def _freed(heard: HeardSong, track_id: int, limits: Limits, untouched: Sequence[int]) -> Proposal:
    keeper = heard.number(track_id)
    if keeper is None:
        raise MivloError("This track does not sound here. Choose a passage in which it plays.")
    numbers = frozenset(n for n in map(heard.number, untouched) if n is not None)
    clashes = survey(heard.scene, least=LEAST_LOST).clashes
    groups = frozenset(n for n, i in enumerate(heard.tracks) if _is_group(heard, i))
    kept = {n: heard.song.strip(i).kept for n, i in enumerate(heard.tracks)}
    allowed = replace(
        limits, untouched=numbers, groups=groups, kept=kept, worth_sones=WORTH_IN_A_SONG, most_lu=MOST_LU_IN_A_SONG
    )
    carves = free(
        heard.scene, keeper, clashes, lambda: heard.key(track_id), sample_rate=heard.song.sample_rate,
        limits=replace(allowed, most_moves=MOST_STEPS), worth=LEAST_LOST,
        halves=lambda number: heard.halves(heard.tracks[number]),
    )  # fmt: skip
    if not carves:
        raise MivloError("Nothing within the limits frees more than it takes. A fader, or another part, helps more.")
    gains, losses = (np.cumsum([getattr(c.effect, n) for c in carves]) for n in ("gained_sones", "lost_sones"))
    steps = [(round(float(a), 4), round(float(b), 4)) for a, b in zip(gains, losses, strict=True)]
    return replace(_measured(heard, carves[: limits.most_moves], {track_id}), steps=steps)


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
    folded: Collection[int] = (),
    from_s: float | None = None,
    to_s: float | None = None,
) -> Proposal:
    """The smallest carve for a range of two tracks, over the passage or between two times.

    keyed : whether it acts only while the other one sounds; None: whatever is worth more. folded : groups that stand
    for their tracks; a carve on one is at most GROUP_GIVES_DB deep.

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
        heard = HeardSong.of(song, *span_of(song, from_s, to_s), folded=folded)
        return _proposed(heard, covered, by, (from_hz, to_hz), way, most_db, keyed)


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
    found = [_carve(heard, keep, on, range_hz, deep, keyed) for keep, on in pairs]
    carves = [carve for carve in found if carve is not None]
    if not carves:
        raise MivloError("No cut within the limit frees more than it takes. A fader, or another part, would help more.")
    made = _measured(heard, carves, {keep for keep, _ in pairs}, f", {range_hz[0]:.0f} to {range_hz[1]:.0f} Hz")
    if made.gained <= 0.0 and way is not Way.SHARE:  # who shares wants it all the same; what it does is said
        raise MivloError("Measured on the rendered sound nothing is gained: what one gives up, the other does not get.")
    return made


def _carve(
    heard: HeardSong, keep: int, on: int, range_hz: tuple[float, float], most_db: float, keyed: bool | None
) -> Carve | None:
    keeper, giver = heard.number(keep), heard.number(on)
    if keeper is None or giver is None:
        raise MivloError("One of the two does not sound here. Choose a passage in which both play.")
    if _is_group(heard, on):
        most_db = min(most_db, GROUP_GIVES_DB)
    first, last = (int(x) for x in BAND_HZ.searchsorted(range_hz))
    clash = Clash(
        keeper, giver, first, max(first, last - 1), *range_hz,
        lost=0.0, hidden=0.0, weight=0.0, share_of_time=0.0, moments=(),
    )  # fmt: skip
    kept = heard.song.strip(on).kept
    carving = Carving(
        heard.scene, keeper, giver, lambda: heard.key(keep), sample_rate=heard.song.sample_rate, kept=kept,
        halves=lambda: heard.halves(on),
    )  # fmt: skip
    return carving.best(
        clash, most_db=most_db, most_lu=MOST_LU_IN_A_SONG, keyed=keyed is not False, static=keyed is not True,
        worth_sones=WORTH_IN_A_SONG, least_gain=LEAST_IN_A_SONG,
    )  # fmt: skip


def _is_group(heard: HeardSong, strip_id: int) -> bool:
    return heard.song.strip(strip_id).kind is StripKind.GROUP


def _entry(heard: HeardSong, carve: Carve, where: str) -> Entry:
    keep = heard.tracks[carve.keep]
    note = f"clash: makes room for {heard.song.strip(keep).name}{where}"
    return Entry(move=listening_to(carve.move, keep), channels=carve.channels, links=(LINK,), note=note)


def _measured(heard: HeardSong, carves: Sequence[Carve], keepers: Set[int], where: str = "") -> Proposal:
    """What carves do when they are rendered; `where` goes into their notes."""
    after = heard
    lost_lu = lost_sones = 0.0
    entries = [(heard.tracks[carve.on], _entry(heard, carve, where)) for carve in carves]
    giving = dict.fromkeys(on for on, _ in entries)
    for on, entry in entries:
        own = after.song.strip(on).treatment
        after = after.with_treatment(on, replace(own, entries=(*own.entries, replace(entry, id=_free_id(own)))))
    for on in giving:
        before_lu, after_lu = (gated_loudness(x.sound(on), sample_rate=heard.song.sample_rate) for x in (heard, after))
        lost_lu += before_lu - after_lu
    kept = {}
    gained = 0.0
    for track in {*keepers, *giving}:
        number = heard.tracks.index(track)
        before, then = loss_of(heard.scene, number)[0], loss_of(after.scene, number)[0]
        kept[track] = (round(before.kept_share, 4), round(then.kept_share, 4))
        if track in keepers:
            gained += then.among_all - before.among_all
        if track in giving:
            lost_sones += before.loudness - then.loudness
    return Proposal(
        entries=entries,
        kept=kept,
        gained=round(gained, 4),
        promised=round(sum(carve.effect.gained_sones for carve in carves), 4),
        lost_sones=round(lost_sones, 4),
        lost_lu=round(lost_lu, 3),
    )


def _free_id(treatment: Treatment) -> int:
    return max((e.id for e in treatment.entries), default=0) + 1


def accept(
    session: Session,
    song_id: int,
    entries: Sequence[tuple[int, Entry]],
    label: str,
    page: str = "",
    *,
    linear: Collection[int] = (),
) -> None:
    """Carves become moves of their tracks, all in one step; some of them are treated in linear phase from then on.

    Raises
    ------
    InvalidValue : there are none, or one does not fit its track.
    """
    if not entries:
        raise InvalidValue("entries", 0, "give at least one move")
    song = lock_song(session, song_id)
    state = read_song(session, song_id)
    for strip_id, entry in entries:
        check_entry(state, state.strip(strip_id), entry)
    turned = [s for s in state.strips if s.id in linear and s.phase is not Phase.LINEAR]
    forward = [Change("strip", s.id, {"phase": str(Phase.LINEAR)}) for s in turned]
    backward = [Change("strip", s.id, {"phase": str(s.phase)}) for s in turned]
    rows = [(strip_row(session, song_id, i), entry) for i, entry in entries]
    add_moves(session, song, rows, label, also=lambda ids: (forward, backward), page=page)


def switch_all(session: Session, song_id: int, on: bool, page: str = "") -> None:
    """Switch all moves of a song that were accepted as carves on or off, in one step."""
    song = lock_song(session, song_id)
    carves = [e for strip in read_song(session, song_id).strips for e in strip.entries if LINK in e.links]
    changes = [Change("move", e.id, {"enabled": on}) for e in carves if e.enabled is not on]
    if changes:
        change_song(session, song, f"all carves {'on' if on else 'off'}", changes, page=page)
