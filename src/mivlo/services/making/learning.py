"""Learned cuts: what stays in a track while the others play, as ordinary linked moves."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from mivlo.core.errors import MivloError
from mivlo.core.graph import StripKind, Tap, TreatedSound
from mivlo.core.graph.streams import Samples
from mivlo.core.learning import LEAST_LIKENESS, LEAST_S, Learned, learn
from mivlo.core.moves import Entry, Shape, StaticMove
from mivlo.core.units import Floats
from mivlo.services.making.hearing import reaching, span_of
from mivlo.services.recordings.importing import song_sources
from mivlo.services.song.edits import change_song
from mivlo.services.song.log import Change
from mivlo.services.song.moves import insert_move
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.services.song.strips import locked_strip
from mivlo.store.database import session

LINK = "learned"
LEAD_S = 2.0
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
        entries = [Entry(move=move, links=(LINK,), note="stays while the others play") for move in learned.moves]
        made = [insert_move(open_session, owner, entry).id for entry in entries]
        change_song(
            open_session,
            row,
            f"{strip.name}: learn what stays",
            [Change("move", i, {"deleted": False}) for i in made],
            [Change("move", i, {"deleted": True}) for i in made],
            page=page,
        )
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
    sources = song_sources(song, skip_missing=True)
    played = [_of(song, other.id, sources, lead, last) for other in others if other.id in sources]
    return learn(
        sound, played, sample_rate=rate, from_hz=from_hz, to_hz=to_hz, lead_s=(first - lead) / rate
    )  # fmt: skip


def _of(song: SongState, strip_id: int, sources: Mapping[int, Samples], first: int, last: int) -> Floats:
    return TreatedSound(song.plan, sources, (strip_id, Tap.UNTREATED), song.frames)[first:last]
