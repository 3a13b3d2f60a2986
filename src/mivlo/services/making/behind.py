"""What stands behind the moves, fitted to the passage: a compressor's threshold, the output gain."""

from __future__ import annotations

from dataclasses import replace

from mivlo.core.errors import InvalidValue
from mivlo.core.graph import Tap
from mivlo.core.loudness import level_match_lu
from mivlo.core.making.thresholds import compressor_taking
from mivlo.core.moves import Aftercare, Compressor, Entry, Place
from mivlo.core.moves.aftercare import MOST_COMPRESSORS
from mivlo.core.moves.bounds import GREATEST_GAIN_DB
from mivlo.core.units import Floats
from mivlo.description import aftercare_document
from mivlo.services.making.hearing import sound_of, span_of
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.services.song.strips import change_strip
from mivlo.store.database import session

USUAL_TAKE_DB = 3.0
"""Common practice, no source."""
_START_DB = -24.0


def add_compressor(song_id: int, strip_id: int, *, strip_revision: int | None = None, page: str = "") -> None:
    """A compressor behind those that are there, with the threshold at which it takes 3 dB of the passage."""
    with session() as open_session:
        song = read_song(open_session, song_id)
    strip = song.strip(strip_id)
    care = strip.treatment.aftercare
    if len(care.compressors) >= MOST_COMPRESSORS:
        raise InvalidValue("compressors", len(care.compressors), f"a strip has at most {MOST_COMPRESSORS}")
    before = tuple(e for e in strip.treatment.entries if e.place is Place.BEFORE)
    sound = _behind(song, strip, Aftercare(compressors=care.compressors), before)
    fitted = compressor_taking(Compressor(threshold_db=_START_DB), sound, USUAL_TAKE_DB, sample_rate=song.sample_rate)
    _save(song, strip, replace(care, compressors=(*care.compressors, fitted)), strip_revision, page)


def match_output(song_id: int, strip_id: int, *, strip_revision: int | None = None, page: str = "") -> None:
    """Write the output gain that makes the strip as loud behind everything as it is untreated, over the passage."""
    with session() as open_session:
        song = read_song(open_session, song_id)
    strip = song.strip(strip_id)
    care = strip.treatment.aftercare
    after = _behind(song, strip, replace(care, output_db=0.0, reverb=None), strip.treatment.entries)
    before = sound_of(song, song.plan, (strip.id, Tap.UNTREATED), *span_of(song))
    gain = round(level_match_lu(before, after, sample_rate=song.sample_rate), 1)
    gain = max(-GREATEST_GAIN_DB, min(GREATEST_GAIN_DB, gain))
    _save(song, strip, replace(care, output_db=gain), strip_revision, page)


def _behind(song: SongState, strip: StripState, care: Aftercare, entries: tuple[Entry, ...]) -> Floats:
    """The passage behind these moves and this aftercare."""
    plan = song.plan.with_treatments({strip.id: replace(strip.treatment, entries=entries, aftercare=care)})
    return sound_of(song, plan, (strip.id, Tap.BEHIND), *span_of(song))


def _save(song: SongState, strip: StripState, care: Aftercare, strip_revision: int | None, page: str) -> None:
    """Refused where the strip was changed meanwhile: what was measured is of another sound then."""
    known = strip.revision if strip_revision is None else strip_revision
    values = {"aftercare": aftercare_document(care)}
    with session() as open_session:
        change_strip(open_session, song.id, strip.id, None, values, strip_revision=known, page=page)
