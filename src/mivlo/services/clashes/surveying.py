"""Who covers whom in a song, over its passage."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Collection, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any, Literal

import numpy as np
from pydantic import TypeAdapter

from mivlo.core.auditory import BAND_HZ, COMPONENTS
from mivlo.core.auditory.components import FRAME_S
from mivlo.core.clashes import Clash, by_importance, right_of_way, survey
from mivlo.core.clashes.way import LOWS_BELOW_HZ
from mivlo.core.errors import MivloError
from mivlo.core.roles import Role
from mivlo.core.units import power_to_db
from mivlo.services.clashes.heard import MOST_TRACKS, HeardSong, audible_tracks, comparing
from mivlo.services.making.hearing import span_of
from mivlo.services.song.edits import lock_song
from mivlo.services.song.rights import Way, decision_on, order_in, rank_of, role_of
from mivlo.services.song.state import SongState, read_song
from mivlo.services.tasks.tasks import TaskProgress, create_task, get_task, open_tasks
from mivlo.store.database import session, tell
from mivlo.store.models import SurveyRow, TaskRow

PHRASE_S = 6.0
"""How long a phrase is looped to hear a clash by."""


@dataclass(frozen=True, slots=True)
class HeardTrack:
    """A track among the others: sones, and per auditory band what it has alone and what is kept among all.

    level_db : its mean level in each band in dB SPL at the ear, as the model takes it; -120 where there is nothing.
    """

    track_id: int
    loudness: float
    in_mix: float
    kept: float
    alone: list[float]
    kept_bands: list[float]
    level_db: list[float]


@dataclass(frozen=True, slots=True)
class SongClash:
    """A clash between two tracks of a song; see `mivlo.core.clashes.Clash`.

    phrase : the stretch in s that is looped to hear it. proposed, why : which one the order or their roles let keep the
    place, and the reason. keeps : which one keeps it, as somebody decided or else as proposed; None : it is shared.
    """

    covered: int
    by: int
    from_hz: float
    to_hz: float
    lost: float
    hidden: float
    share_of_time: float
    moments: list[tuple[float, float]]
    phrase: tuple[float, float]
    proposed: int
    why: str
    keeps: int | None


@dataclass(frozen=True, slots=True)
class SongClashes:
    """All against all between two times.

    level_db_spl : where the mix is taken to be heard; mix_lufs : its gated loudness, which stands for that. order : the
    tracks by importance; order_of : whose it is, the passage's own, the song's, or by role.
    """

    from_s: float
    to_s: float
    level_db_spl: float
    mix_lufs: float
    hz: list[float]
    tracks: list[HeardTrack]
    order: list[int]
    clashes: list[SongClash]
    order_of: Literal["passage", "song", "role"] = "role"


_known_survey: TypeAdapter[SongClashes] = TypeAdapter(SongClashes)
METHOD = 4
"""Raised when the same song would be judged otherwise."""
LEAST_IMPORTANT = 4
LEAST_LOST = 0.01
"""In a song many tracks share what one loses."""


def song_clashes(
    song_id: int,
    from_s: float | None = None,
    to_s: float | None = None,
    *,
    folded: Collection[int] = (),
    only: Collection[int] = (),
) -> SongClashes:
    """Over the passage, or between two times; at most a minute from the start.

    folded : groups that stand for their tracks. only : strips that are compared with each other alone; none: all.
    """
    with session() as open_session:
        song = read_song(open_session, song_id)
    with comparing:
        return _decided(_surveyed(song, *span_of(song, from_s, to_s), folded=folded, only=only), song)


def _decided(found: SongClashes, song: SongState) -> SongClashes:
    """With what was decided in place of what is proposed."""
    clashes = []
    for clash in found.clashes:
        decision = decision_on(song, clash.covered, clash.by, (clash.from_hz, clash.to_hz))
        if decision is not None:
            # who covers whom may be told the other way round than it was when it was decided
            keeps = None if decision.way == Way.SHARE else getattr(decision, decision.way)
            clash = replace(clash, keeps=keeps)
        clashes.append(clash)
    return replace(found, clashes=clashes)


def _surveyed(
    song: SongState,
    first: int,
    last: int,
    progress: Callable[[float], None] = lambda share: None,
    *,
    folded: Collection[int] = (),
    only: Collection[int] = (),
) -> SongClashes:
    heard = HeardSong.of(song, first, last, lambda share: progress(0.6 * share), folded=folded, only=only)
    surveyed = survey(heard.scene, least=LEAST_LOST, progress=lambda share: progress(0.6 + 0.4 * share))
    start_s, end_s = first / song.sample_rate, last / song.sample_rate
    level = power_to_db(heard.scene.excitation.max(axis=1).mean(axis=1, dtype=np.float64), floor_db=-120.0)
    tracks = [
        HeardTrack(
            track_id=heard.tracks[loss.strip],
            loudness=round(loss.loudness, 3),
            in_mix=round(loss.among_all, 3),
            kept=round(loss.kept_share, 4),
            alone=np.round(loss.alone, 4).tolist(),
            kept_bands=np.round(loss.kept, 4).tolist(),
            level_db=np.round(level[loss.strip], 1).tolist(),
        )
        for loss in surveyed.losses
    ]
    roles = [role_of(song, i) for i in heard.tracks]
    low = BAND_HZ < LOWS_BELOW_HZ
    lows = [float(x.alone[low].sum() / max(1e-9, x.loudness)) for x in surveyed.losses]
    stretch = None if (first, last) == (0, song.frames) else (start_s, end_s)
    ranks = [rank_of(song, i, stretch) for i in heard.tracks]
    own = order_in(song, stretch) is not None
    minded = ranked(surveyed.clashes, roles, ranks)
    return SongClashes(
        from_s=start_s,
        to_s=end_s,
        level_db_spl=song.playback_db_spl,
        mix_lufs=round(heard.mix_lufs, 1),
        hz=np.round(BAND_HZ, 1).tolist(),
        tracks=tracks,
        order=[heard.tracks[i] for i in by_importance(roles, ranks)],
        clashes=[
            _song_clash(heard, c, right_of_way(roles, c.covered, c.by, c.from_hz, c.to_hz, lows, ranks), start_s, end_s)
            for c in minded
        ],
        order_of="passage" if own else "song" if any(r is not None for r in ranks) else "role",
    )


# --- the whole song: long work --------------------------------------------------------------------

LARGEST_SCENE = 600_000_000
"""Bytes of spectra that a survey may take."""


@dataclass(frozen=True, slots=True)
class WholeSong:
    """The last survey of a whole song, if there is one. fresh : whether it is of the song as it is."""

    fresh: bool
    clashes: SongClashes | None


def survey_key(song: SongState) -> str:
    """Names all that a survey of a song depends on."""
    plan = song.exported().plan
    tracks = [song.track(i) for i in audible_tracks(song)]
    facts = [METHOD, plan.sound(plan.mix), song.playback_db_spl, [(t.id, str(t.role), t.importance) for t in tracks]]
    return hashlib.sha256(json.dumps(facts, default=str).encode()).hexdigest()


def whole_song(song_id: int) -> WholeSong:
    """What is known of the whole song."""
    with session() as open_session:
        song = read_song(open_session, song_id)
        row = open_session.get(SurveyRow, song_id)
        if row is None:
            return WholeSong(False, None)
        return WholeSong(row.key == survey_key(song), _decided(_known_survey.validate_python(row.document), song))


def request_survey(song_id: int) -> TaskRow:
    """A task that looks at the whole song; the one that is under way already, if there is one.

    Raises
    ------
    MivloError : it is too long for so many tracks.
    """
    with session() as open_session:
        lock_song(open_session, song_id)
        song = read_song(open_session, song_id)
        count = min(MOST_TRACKS, len(audible_tracks(song)))
        seconds = LARGEST_SCENE / max(1, count) / (2 * COMPONENTS * 4 / FRAME_S)
        if song.duration_s > seconds:
            raise MivloError(
                f"With {count} tracks at most {seconds / 60:.0f} minutes can be looked at. Mark a passage."
            )
        under_way = open_tasks(open_session, song_id, "survey")
        return under_way[0] if under_way else create_task(open_session, song_id, "survey", "who covers whom", {})


def run_survey(task_id: int) -> dict[str, Any]:
    """Do the task and keep what was found. Can be run twice without harm."""
    with session() as open_session:
        song = read_song(open_session, get_task(open_session, task_id).song_id)
    key = survey_key(song)
    found = _surveyed(song, 0, song.frames, TaskProgress(task_id))
    with session() as open_session:
        open_session.merge(SurveyRow(song_id=song.id, key=key, document=asdict(found)))
        tell(open_session, song.id, "survey")
    return {"clashes": len(found.clashes)}


def ranked(clashes: Sequence[Clash], roles: Sequence[Role], ranks: Sequence[int | None]) -> list[Clash]:
    """What hides most first, where it counts half as much with every place in the order of importance.

    Whose sound is covered counts more in a song than how much it is one event: that comes in by its third root.
    Rooms are left out on both sides: they hold what the others play, and hide it and are hidden by it all the time.
    """
    order = by_importance(roles, ranks)
    weights = [0.5 ** min(order.index(i), LEAST_IMPORTANT) for i in range(len(roles))]
    apart = [c for c in clashes if Role.ROOM not in (roles[c.covered], roles[c.by])]

    def counts(c: Clash) -> float:
        return weights[c.covered] * float(np.cbrt(c.hidden * c.hidden * c.weight))

    return sorted(apart, key=counts, reverse=True)


def _song_clash(heard: HeardSong, clash: Clash, way: tuple[int, str], start_s: float, end_s: float) -> SongClash:
    keeper, why = way
    moments = [(round(start_s + a, 2), round(start_s + b, 2)) for a, b in clash.moments]
    return SongClash(
        covered=heard.tracks[clash.covered],
        by=heard.tracks[clash.by],
        from_hz=round(clash.from_hz, 1),
        to_hz=round(clash.to_hz, 1),
        lost=round(clash.lost, 4),
        hidden=round(clash.hidden, 4),
        share_of_time=round(clash.share_of_time, 4),
        moments=moments,
        phrase=_phrase(moments[0], start_s, end_s),
        proposed=heard.tracks[keeper],
        why=why,
        keeps=heard.tracks[keeper],
    )


def _phrase(moment: tuple[float, float], start_s: float, end_s: float) -> tuple[float, float]:
    """Some seconds around a moment, inside what was looked at if that is long enough."""
    length = min(PHRASE_S, end_s - start_s)
    begin = 0.5 * (moment[0] + moment[1]) - length / 2.0
    begin = min(max(begin, start_s), end_s - length)
    return round(begin, 2), round(begin + length, 2)
