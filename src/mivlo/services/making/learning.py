"""Learned cuts: what stays in a track while the others play, as ordinary linked moves."""

from __future__ import annotations

from dataclasses import dataclass

from mivlo.core.errors import MivloError
from mivlo.core.graph import StripKind, Tap
from mivlo.core.learning import LEAST_LIKENESS, LEAST_S, learn, learn_of_mix
from mivlo.core.moves import Entry, Shape, StaticMove
from mivlo.services.making.hearing import reaching, sound_of, span_of
from mivlo.services.song.moves import add_moves
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.services.song.strips import locked_strip
from mivlo.store.database import session

LINK = "learned"
LEAD_S = 2.0
"""So much before a passage is listened to as well: it still sounds in it."""
MIX_S = 20.0
"""So much of a mix is listened to: all its tracks are."""
LEAST_TRACKS = 3
"""A room, and two that play: of two tracks neither is known to be the room."""
_ANY = Entry(id=0, move=StaticMove(Shape.BELL, 1_000.0))


@dataclass(frozen=True, slots=True)
class Made:
    """The moves that were made, and what is said of them."""

    move_ids: list[int]
    says: str


def learn_moves(
    song_id: int, strip_id: int, from_hz: float, to_hz: float, *, strip_revision: int | None = None, page: str = ""
) -> Made:
    """Learn from the passage (its first minute) and add what was learned as one step.

    Raises
    ------
    MivloError : there is nothing to learn from, or nothing to learn.
    """
    with session() as open_session:
        song = read_song(open_session, song_id)
    strip = song.strip(strip_id)
    inside = {strip.id, *song.plan.below(strip.id)}
    others = [s for s in song.strips if s.kind is StripKind.TRACK and s.id not in inside]
    if others:
        moves, like, note = *_beside(song, strip, others, from_hz, to_hz), "stays while the others play"
    else:
        moves, like, note = *_within(song, strip, from_hz, to_hz), "stays whatever is played"
    known = strip.revision if strip_revision is None else strip_revision
    with session() as open_session:
        row, owner = locked_strip(open_session, song_id, strip_id, None, known)
        entries = [(owner, Entry(move=move, links=(LINK,), note=note)) for move in moves]
        made = add_moves(open_session, row, entries, f"{strip.name}: learn what stays", page=page)
    places = " and ".join(f"{move.frequency_hz:.0f} Hz" for move in moves)
    return Made(made, f"{places} stay in {strip.name} whatever is played ({like}).")


def _beside(
    song: SongState, strip: StripState, others: list[StripState], from_hz: float, to_hz: float
) -> tuple[tuple[StaticMove, ...], str]:
    """What stays in a strip while the others play, and how far it goes with them, in words."""
    lead, last, lead_s = _heard(song, span_of(song))
    sound = reaching(song, strip, _ANY, lead, last)
    played = [sound_of(song, song.plan, (other.id, Tap.UNTREATED), lead, last) for other in others]
    learned = learn(sound, played, sample_rate=song.sample_rate, from_hz=from_hz, to_hz=to_hz, lead_s=lead_s)
    like = f"it goes with what they play by {100 * learned.likeness:.0f} %"
    if learned.likeness < LEAST_LIKENESS:
        raise MivloError(
            f"{strip.name} plays something of its own ({like}), so the notes can't be told from what stays. "
            "This is for rooms, ambience and what else hears the other tracks; sweep, or look for findings here."
        )
    if not learned.moves:
        raise MivloError(f"Nothing narrow stays in {strip.name} beyond what the others play ({like}).")
    return learned.moves, like


def _within(song: SongState, strip: StripState, from_hz: float, to_hz: float) -> tuple[tuple[StaticMove, ...], str]:
    """What stays in a strip that holds all tracks: what rings in its rooms and is to be heard in it."""
    audible = song.plan.audible(solos=False)
    below = set(song.plan.below(strip.id))
    tracks = [s for s in song.strips if s.kind is StripKind.TRACK and s.id in below and s.id in audible]
    if len(tracks) < LEAST_TRACKS:
        raise MivloError("What stays is told from what the other tracks play, and there are none.")
    first, last = span_of(song)
    lead, last, lead_s = _heard(song, (first, min(last, first + round(MIX_S * song.sample_rate))))
    mix = reaching(song, strip, _ANY, lead, last)
    heard = [sound_of(song, song.plan, (track.id, Tap.PLACED), lead, last) for track in tracks]
    learned = learn_of_mix(mix, heard, sample_rate=song.sample_rate, from_hz=from_hz, to_hz=to_hz, lead_s=lead_s)
    closest = max(range(len(tracks)), key=lambda i: learned.likenesses[i])
    like = f"{tracks[closest].name} goes with what the others play by {100 * learned.likenesses[closest]:.0f} %"
    if not learned.rooms:
        raise MivloError(
            f"No track in {strip.name} is a room that rings ({like}, which is the most), so what stays can't be told "
            "from the notes. Sweep, or look for findings here."
        )
    rooms = " and ".join(tracks[i].name for i in learned.rooms)
    if not learned.moves:
        raise MivloError(
            f"{rooms} rings, but what rings does not stand out of {strip.name}; the others cover it. Learn in {rooms}."
        )
    return learned.moves, f"heard in {rooms}"


def _heard(song: SongState, span: tuple[int, int]) -> tuple[int, int, float]:
    """From and to which frames is listened, and how many seconds of that are the lead."""
    first, last = span
    if last - first < LEAST_S * song.sample_rate:
        raise MivloError(f"Mark a passage of at least {LEAST_S:g} s to learn from.")
    lead = max(0, first - round(LEAD_S * song.sample_rate))
    return lead, last, (first - lead) / song.sample_rate
