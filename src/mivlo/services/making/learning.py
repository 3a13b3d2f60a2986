"""Learned cuts: what stays in a track while the others play, as ordinary linked moves."""

from __future__ import annotations

from dataclasses import dataclass

from mivlo.core.errors import MivloError
from mivlo.core.graph import StripKind, Tap
from mivlo.core.learning import LEAST_LIKENESS, LEAST_S, Learned, learn
from mivlo.core.moves import Entry, Shape, StaticMove
from mivlo.services.making.hearing import reaching, sound_of, span_of
from mivlo.services.song.moves import add_moves
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.services.song.strips import locked_strip
from mivlo.store.database import session

LINK = "learned"
LEAD_S = 2.0
"""So much before a passage is listened to as well: it still sounds in it."""
_ANY = StaticMove(Shape.BELL, 1_000.0)


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
    learned = _learned(song, strip, from_hz, to_hz)
    like = f"it goes with what they play by {100 * learned.likeness:.0f} %"
    if learned.likeness < LEAST_LIKENESS:
        raise MivloError(
            f"{strip.name} plays something of its own ({like}), so the notes can't be told from what stays. "
            "This is for rooms, ambience and what else hears the other tracks; sweep, or look for findings here."
        )
    if not learned.moves:
        raise MivloError(f"Nothing narrow stays in {strip.name} beyond what the others play ({like}).")
    known = strip.revision if strip_revision is None else strip_revision
    with session() as open_session:
        row, owner = locked_strip(open_session, song_id, strip_id, None, known)
        entries = [
            (owner, Entry(move=move, links=(LINK,), note="stays while the others play")) for move in learned.moves
        ]
        made = add_moves(open_session, row, entries, f"{strip.name}: learn what stays", page=page)
    places = " and ".join(f"{move.frequency_hz:.0f} Hz" for move in learned.moves)
    return Made(made, f"{places} stay in {strip.name} whatever is played ({like}).")


def _learned(song: SongState, strip: StripState, from_hz: float, to_hz: float) -> Learned:
    rate = song.sample_rate
    first, last = span_of(song)
    lead = max(0, first - round(LEAD_S * rate))
    if last - first < LEAST_S * rate:
        raise MivloError(f"Mark a passage of at least {LEAST_S:g} s to learn from.")
    inside = {strip.id, *song.plan.below(strip.id)}
    others = [s for s in song.strips if s.kind is StripKind.TRACK and s.id not in inside]
    if not others:
        raise MivloError("What stays is told from what the other tracks play, and there are none.")
    sound = reaching(song, strip, Entry(id=0, move=_ANY), lead, last)
    played = [sound_of(song, song.plan, (other.id, Tap.UNTREATED), lead, last) for other in others]
    lead_s = (first - lead) / rate
    return learn(sound, played, sample_rate=rate, from_hz=from_hz, to_hz=to_hz, lead_s=lead_s)
