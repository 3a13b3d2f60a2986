"""Sets of moves made at once: harmonics that move together, and ordinary moves in the place of rungs."""

from __future__ import annotations

import numpy as np
from sqlalchemy.orm import Session

from mivlo.core.errors import InvalidValue
from mivlo.core.fitting import fit_moves
from mivlo.core.making.harmonics import harmonics, set_name
from mivlo.core.moves import Entry, RungsMove, treatment_db
from mivlo.core.moves.members import Spacing
from mivlo.core.spectra import log_grid
from mivlo.services.song.edits import change_song
from mivlo.services.song.log import Change
from mivlo.services.song.moves import add_moves, check_entry, insert_move
from mivlo.services.song.state import read_song
from mivlo.services.song.strips import locked_strip
from mivlo.services.song.treating import beside_moves


def add_set(
    session: Session,
    song_id: int,
    strip_id: int,
    frequency_hz: float,
    count: int,
    spacing: Spacing,
    *,
    gain_db: float,
    q: float,
    taper_db: float = 0.0,
    strip_revision: int | None = None,
    page: str = "",
) -> list[int]:
    """Bells at a frequency's octaves or multiples, which move together, as one step; their ids."""
    song, row = locked_strip(session, song_id, strip_id, None, strip_revision)
    state = read_song(session, song_id)
    moves = harmonics(
        frequency_hz, count, spacing, gain_db=gain_db, q=q, taper_db=taper_db, highest_hz=0.49 * state.sample_rate
    )
    if not moves:
        raise InvalidValue("frequency_hz", frequency_hz, "no member of the set lies in the range of this song")
    taken = {name for strip in state.strips for entry in strip.entries for name in entry.links}
    name, number = set_name(frequency_hz, len(moves), spacing), 1
    link = name
    while link in taken:
        number += 1
        link = f"{name} ({number})"
    entries = [Entry(move=move, links=(link,)) for move in moves]
    for entry in entries:
        check_entry(state, state.strip(strip_id), entry)
    return add_moves(session, song, [(row, e) for e in entries], f"{row.name}: {link}", page=page)


def fit_rungs(
    session: Session,
    song_id: int,
    strip_id: int,
    move_id: int,
    *,
    most: int,
    strip_revision: int | None = None,
    page: str = "",
) -> str:
    """Put the ordinary moves that follow rungs best in their place, as one step; a sentence how well they do.

    What the rungs do to all frequencies alike becomes the strip's output gain.

    Raises
    ------
    InvalidValue : the move is none of rungs.
    """
    song, row = locked_strip(session, song_id, strip_id, None, strip_revision)
    strip = read_song(session, song_id).strip(strip_id)
    entry = next((e for e in strip.entries if e.id == move_id), None)
    if entry is None or not isinstance(entry.move, RungsMove):
        raise InvalidValue("move_id", move_id, "the track has no such rungs any more")
    at_hz = log_grid()
    curve = treatment_db([entry.move], at_hz, sample_rate=192_000)
    fit = fit_moves(curve, at_hz, most=most, free_level=True)
    made = [
        insert_move(session, row, Entry(move=m, enabled=entry.enabled, channels=entry.channels)).id for m in fit.moves
    ]
    forward = [*(Change("move", i, {"deleted": False}) for i in made), Change("move", move_id, {"deleted": True})]
    backward = [*(Change("move", i, {"deleted": True}) for i in made), Change("move", move_id, {"deleted": False})]
    care = strip.aftercare
    level = round(float(np.clip(care.output_db + fit.level_db, -24.0, 24.0)), 2)
    if abs(fit.level_db) >= 0.1:
        before = beside_moves(strip.treatment)["aftercare"]
        forward.append(Change("strip", strip_id, {"aftercare": {**before, "output_db": level}}))
        backward.append(Change("strip", strip_id, {"aftercare": before}))
    change_song(session, song, f"{row.name}: moves in place of rungs", forward, backward, page=page)
    count = "1 move follows" if len(made) == 1 else f"{len(made)} moves follow"
    gain = f"; {fit.level_db:+.1f} dB of it are the output gain now" if abs(fit.level_db) >= 0.1 else ""
    return f"{count} the rungs within {fit.after_db:.1f} dB RMS ({fit.before_db:.1f} without){gain}."
