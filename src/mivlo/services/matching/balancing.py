"""Balance and rungs of sound files and of strips."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pydantic import BaseModel

from mivlo.audio.decode import inspect, read_blocks
from mivlo.core.balance import COUNT, Balance, Spectrum, balance
from mivlo.core.errors import InvalidValue
from mivlo.core.fitting import moves_db
from mivlo.core.graph import Tap
from mivlo.core.moves import Entry, Treatment, auditory_bands
from mivlo.core.units import Floats
from mivlo.description import plain_document
from mivlo.services.handover.sheets import make_sheet, sheet_document
from mivlo.services.making.hearing import sound_of, span_of
from mivlo.services.matching.references import spectrum_of as spectrum_of_reference
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.store.database import session


def spectrum_of(path: Path) -> Spectrum:
    """The long-term spectrum of a file.

    Raises
    ------
    BadAudio : it can't be used, or is silent.
    """
    info = inspect(path)
    return Spectrum.of(read_blocks(path), sample_rate=info.sample_rate, channels=info.channels)


def rungs_document(path: Path, count: int) -> dict[str, Any]:
    """The JSON document of `mivlo rungs`."""
    return {
        "rungs": [
            {
                "from_hz": round(r.band.from_hz, 2), "centre_hz": round(r.band.centre_hz, 2),
                "to_hz": round(r.band.to_hz, 2), "level_db": round(r.level_db, 2), "share": round(r.share, 6),
            }
            for r in spectrum_of(path).rungs(count)
        ]
    }  # fmt: skip


def balance_files(
    path: Path, towards: Path, *, strength: float, only_cuts: bool, most: int
) -> tuple[Balance, dict[str, Any], dict[str, Any]]:
    """What brings a file towards another: the balance, its sheet, and the JSON document of `mivlo balance`."""
    made = balance(spectrum_of(path), spectrum_of(towards), strength=strength, only_cuts=only_cuts, most=most)
    sheet = sheet_document(make_sheet(Treatment.of(made.fit.moves)))
    return made, sheet, {"before_db": made.before_db, "after_db": made.after_db, "moves": sheet["moves"]}


class BalanceDocument(BaseModel):
    """A balance for the page: the moves, the curve that was asked, and rungs at equal loudness."""

    before_db: float
    after_db: float
    at_hz: list[float]
    wanted_db: list[float]
    fitted_db: list[float]
    rung_hz: list[float]
    own_db: list[float]
    other_db: list[float]
    behind_db: list[float]
    weights: list[float]
    moves: list[dict[str, Any]]

    @classmethod
    def of(cls, made: Balance) -> BalanceDocument:
        return cls(
            before_db=made.before_db,
            after_db=made.after_db,
            at_hz=_rounded(made.at_hz),
            wanted_db=_rounded(made.wanted_db),
            fitted_db=_rounded(moves_db(made.fit.moves, made.at_hz)),
            rung_hz=[round(band.centre_hz, 1) for band in auditory_bands(COUNT)],
            own_db=_rounded(made.own_db),
            other_db=_rounded(made.other_db),
            behind_db=_rounded(made.behind_db),
            weights=_rounded(made.weights),
            moves=[plain_document(Entry(move=move)) for move in made.fit.moves],
        )


def _rounded(values: Floats) -> list[float]:
    return [round(float(v), 2) for v in values]


def balance_strips(
    song_id: int,
    strip_id: int,
    towards: int | None,
    *,
    reference: str | None = None,
    strength: float,
    only_cuts: bool,
    limit_db: float,
    smooth_oct: float,
    most: int,
    from_s: float | None = None,
    to_s: float | None = None,
) -> Balance:
    """What would bring a strip's balance over the passage towards another's, or its own from `from_s` to `to_s`.

    reference : instead of a strip, the id of a reference file, all of which counts.
    What the strip has so far counts: it is measured behind its moves.

    Raises
    ------
    BadAudio : one of the two is silent there, or they have no range in common.
    """
    with session() as open_session:
        song = read_song(open_session, song_id)
    own = song.strip(strip_id)
    if (towards is None) == (reference is None):
        raise InvalidValue("towards", towards, "name a track or a reference file, one of the two")
    if towards == strip_id and (from_s is None or to_s is None):
        raise InvalidValue("from_s", from_s, "give another stretch of the same track, or another track")
    if reference is not None:
        other = spectrum_of_reference(reference)
    else:
        assert towards is not None
        other = _heard(song, song.strip(towards), span_of(song, from_s, to_s))
    return balance(
        _heard(song, own, span_of(song)), other,
        strength=strength, only_cuts=only_cuts, limit_db=limit_db, smooth_oct=smooth_oct, most=most,
    )  # fmt: skip


def _heard(song: SongState, strip: StripState, span: tuple[int, int]) -> Spectrum:
    sound = sound_of(song, song.plan, (strip.id, Tap.TREATED), *span)
    return Spectrum.of([sound], sample_rate=song.sample_rate, channels=sound.shape[1])
