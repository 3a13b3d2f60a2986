"""What everybody sees of a song: plain frozen values, read in one go."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from functools import cached_property
from typing import Any

from sqlalchemy import Boolean, func, literal_column, not_, select
from sqlalchemy.orm import Session, selectinload

from mivlo.core.graph import Plan, Strip, StripKind, compile
from mivlo.core.kept import Range
from mivlo.core.moves import Aftercare, Entry, FixedMove, Phase, Treatment
from mivlo.core.phase import linear_rings_before_s
from mivlo.core.roles import Role
from mivlo.description import ENTRY_FIELDS, entry_document, read_aftercare, read_entry
from mivlo.services.errors import NotFound
from mivlo.services.song.log import next_redo, next_undo, rows
from mivlo.services.song.pairs import Pair, pairs_of
from mivlo.store.models import FindingRow, MoveRow, Song, StripRow

DECODING = 1
"""Version of how a recording becomes samples; raised whenever the same file would give others."""


@dataclass(frozen=True, slots=True)
class PlaceMarked:
    """A marker: seconds, and what it is called."""

    at_s: float
    label: str = ""


@dataclass(frozen=True, slots=True)
class Recording:
    """The file that a track plays.

    starts_at_s : when it begins in the song; `frames` counts the silence in front of it. reference_s : when it began as
    the file says, from midnight. markers : from its own beginning.
    """

    file_name: str
    audio_sha256: str
    source_rate: int
    source_frames: int
    channels: int
    frames: int
    starts_at_s: float
    notice: str
    reference_s: float | None = None
    markers: tuple[PlaceMarked, ...] = ()

    @property
    def name(self) -> str:
        """Names its samples at the song's rate."""
        return f"{self.audio_sha256}:{DECODING}:{self.starts_at_s!r}"


_SILENCE = Recording("", "", 0, 0, 2, 0, 0.0, "")


@dataclass(frozen=True, slots=True)
class StripState:
    """A strip: its place in the song, its treatment, and of a track its recording.

    A group or the mix is as long as the song.
    """

    id: int
    kind: StripKind
    parent_id: int | None
    name: str
    role: Role
    fader_db: float
    pan: float
    mute: bool
    solo: bool
    revision: int
    treatment: Treatment
    recording: Recording = _SILENCE
    turned: bool = False
    importance: int | None = None
    kept: tuple[Range, ...] = ()
    open_findings: int = 0
    decided_findings: int = 0

    @property
    def file_name(self) -> str:
        return self.recording.file_name

    @property
    def audio_sha256(self) -> str:
        return self.recording.audio_sha256

    @property
    def source_rate(self) -> int:
        return self.recording.source_rate

    @property
    def source_frames(self) -> int:
        return self.recording.source_frames

    @property
    def channels(self) -> int:
        return self.recording.channels

    @property
    def frames(self) -> int:
        return self.recording.frames

    @property
    def notice(self) -> str:
        return self.recording.notice

    @property
    def starts_at_s(self) -> float:
        return self.recording.starts_at_s

    @property
    def reference_s(self) -> float | None:
        return self.recording.reference_s

    @property
    def markers(self) -> tuple[PlaceMarked, ...]:
        """Its recording's markers, in the song's time."""
        return tuple(replace(m, at_s=m.at_s + self.starts_at_s) for m in self.recording.markers)

    @property
    def entries(self) -> tuple[Entry, ...]:
        return self.treatment.entries

    @property
    def phase(self) -> Phase:
        return self.treatment.phase

    @property
    def amounts(self) -> dict[str, float]:
        return dict(self.treatment.amounts)

    @property
    def aftercare(self) -> Aftercare:
        return self.treatment.aftercare

    @property
    def rings_before_ms(self) -> float:
        """How long it rings before a hit; only with linear phase."""
        if self.phase is not Phase.LINEAR:
            return 0.0
        static = tuple(e.move for e in self.entries if isinstance(e.move, FixedMove) and e.enabled and not e.stretches)
        return round(1e3 * linear_rings_before_s(static, 48_000.0), 1)

    @property
    def moves(self) -> list[dict[str, Any]]:
        """Its moves as documents, with their width in octaves beside."""
        return [
            {**entry_document(entry), **({"octaves": entry.move.octaves} if hasattr(entry.move, "octaves") else {})}
            for entry in self.entries
        ]

    def strip(self) -> Strip:
        """As the core renders it."""
        track = self.kind is StripKind.TRACK
        return Strip(
            id=self.id,
            kind=self.kind,
            name=self.name,
            parent=self.parent_id,
            treatment=self.treatment,
            fader_db=self.fader_db,
            pan=self.pan,
            mute=self.mute,
            solo=self.solo,
            channels=1 if track and self.channels == 1 else 2,
            source=f"{self.recording.name}{':turned' if self.turned else ''}" if track else "",
        )


@dataclass(frozen=True, slots=True)
class Decision:
    """Which of two tracks keeps a range: the covered one, the one by which it is covered, or both share it."""

    covered: int
    by: int
    from_hz: float
    to_hz: float
    way: str


@dataclass(frozen=True, slots=True)
class PassageOrder:
    """Tracks by importance between two times, the most important one first; what is not named goes by role."""

    from_s: float
    to_s: float
    track_ids: tuple[int, ...]


@dataclass(frozen=True)
class SongState:
    """A song. `strips` holds all, `tracks` those with a recording, both in order."""

    id: int
    name: str
    sample_rate: int
    revision: int
    outline: int
    passage_from_s: float | None
    passage_to_s: float | None
    look_in_passage: bool
    playback_db_spl: float
    decisions: tuple[Decision, ...]
    orders: tuple[PassageOrder, ...]
    strips: tuple[StripState, ...]
    undo_label: str | None = None
    redo_label: str | None = None

    @cached_property
    def tracks(self) -> tuple[StripState, ...]:
        return tuple(strip for strip in self.strips if strip.kind is StripKind.TRACK)

    @cached_property
    def pairs(self) -> list[Pair]:
        """Tracks that look like the left and the right of one."""
        return pairs_of(self.tracks)

    @property
    def frames(self) -> int:
        """Frames of the longest track."""
        return max((track.frames for track in self.tracks), default=0)

    @cached_property
    def arrives(self) -> dict[int, str]:
        """Of groups and the mix, by their id: a name of the sound that reaches their moves."""
        return {s.id: self.plan.arriving(s.id) for s in self.strips if s.kind is not StripKind.TRACK}

    @property
    def duration_s(self) -> float:
        return self.frames / self.sample_rate

    def exported(self, *, aftercare: bool = True, reverb: bool = False) -> SongState:
        """The song without what a file shall not have; see `Treatment.exported`."""
        strips = (
            replace(strip, treatment=strip.treatment.exported(aftercare=aftercare, reverb=reverb))
            for strip in self.strips
        )
        return replace(self, strips=tuple(strips))

    @cached_property
    def plan(self) -> Plan:
        """The song as the core renders it."""
        return compile([strip.strip() for strip in self.strips], sample_rate=self.sample_rate)

    def strip(self, strip_id: int) -> StripState:
        for strip in self.strips:
            if strip.id == strip_id:
                return strip
        raise NotFound("track", strip_id)

    def with_strip(self, changed: StripState) -> SongState:
        """The song with another state of one strip."""
        return replace(self, strips=tuple(changed if strip.id == changed.id else strip for strip in self.strips))

    def track(self, track_id: int) -> StripState:
        strip = self.strip(track_id)
        if strip.kind is not StripKind.TRACK:
            raise NotFound("track", track_id)
        return strip


def entry_of(row: MoveRow) -> Entry:
    """A row as the core's entry."""
    own = {name: getattr(row, name) for name in ENTRY_FIELDS}
    return read_entry({**own, **row.parameters}, entry_id=row.id)


def treatment_of(row: StripRow) -> Treatment:
    """What is done to a strip."""
    return Treatment(
        entries=tuple(entry_of(move) for move in row.moves if not move.deleted),
        amounts=row.amounts,
        phase=Phase(row.phase),
        aftercare=read_aftercare(row.aftercare),
    )


def _recording_of(row: StripRow) -> Recording:
    """What a track plays; groups and the mix play nothing of their own."""
    known = next((r for r in row.recordings if not r.deleted), None)
    if known is None:
        return _SILENCE
    values = {f.name: getattr(known, f.name) for f in fields(Recording)}
    return Recording(**{**values, "markers": tuple(PlaceMarked(**m) for m in known.markers)})


def _strip_state(row: StripRow, counts: tuple[int, int]) -> StripState:
    return StripState(
        id=row.id,
        kind=StripKind(row.kind),
        parent_id=row.parent_id,
        name=row.name,
        role=Role(row.role),
        fader_db=row.fader_db,
        pan=row.pan,
        mute=row.mute,
        solo=row.solo,
        revision=row.revision,
        treatment=treatment_of(row),
        recording=_recording_of(row),
        turned=row.turned,
        importance=row.importance,
        kept=tuple((low, high) for low, high in row.kept),
        open_findings=counts[0],
        decided_findings=counts[1],
    )


SPARED = literal_column(
    """EXISTS (SELECT 1 FROM strips AS own, jsonb_array_elements(own.kept) AS range WHERE own.id = findings.strip_id
    AND findings.frequency_hz BETWEEN (range ->> 0)::float AND (range ->> 1)::float)""",
    Boolean,
)
"""Whether a finding lies in a range of its strip that must stay."""


def _counts(session: Session, strip_ids: Sequence[int]) -> dict[int, tuple[int, int]]:
    """Per strip: findings that are open, and that were decided. An own tone is nothing that has to be decided."""
    is_fault = FindingRow.kind != "own tone"  # its Kind would load all that findings need
    query = (
        select(
            FindingRow.strip_id,
            func.count().filter(FindingRow.state == "open", FindingRow.present, is_fault, not_(SPARED)),
            func.count().filter(FindingRow.state != "open"),
        )
        .where(FindingRow.strip_id.in_(strip_ids))
        .group_by(FindingRow.strip_id)
    )
    return {strip: (int(left), int(done)) for strip, left, done in session.execute(query)}


def read_song(session: Session, song_id: int, page: str = "") -> SongState:
    """The whole state of a song; NotFound if there is none. `page` is whose undo and redo are named."""
    query = (
        select(Song)
        .where(Song.id == song_id, Song.deleted.is_(False))
        .options(
            selectinload(Song.strips).selectinload(StripRow.moves),
            selectinload(Song.strips).selectinload(StripRow.recordings),
        )
        .execution_options(populate_existing=True)
    )
    row = session.scalars(query).first()
    if row is None:
        raise NotFound("song", song_id)
    shown = [strip for strip in row.strips if not strip.deleted]
    counts = _counts(session, [strip.id for strip in shown])
    log = rows(session, song_id)
    undo, redo = next_undo(log, page), next_redo(log, page)
    here = {strip.id for strip in shown}
    strips = [_strip_state(strip, counts.get(strip.id, (0, 0))) for strip in shown]
    silence = replace(_SILENCE, frames=max((strip.frames for strip in strips), default=0))
    strips = [s if s.kind is StripKind.TRACK else replace(s, recording=silence) for s in strips]
    return SongState(
        id=row.id,
        name=row.name,
        sample_rate=row.sample_rate,
        revision=row.revision,
        outline=row.outline,
        passage_from_s=row.passage_from_s,
        passage_to_s=row.passage_to_s,
        look_in_passage=row.look_in_passage,
        playback_db_spl=row.playback_db_spl,
        decisions=tuple(Decision(**d) for d in row.decisions if {d["covered"], d["by"]} <= here),
        orders=tuple(
            PassageOrder(o["from_s"], o["to_s"], tuple(i for i in o["track_ids"] if i in here)) for o in row.orders
        ),
        strips=tuple(_rerouted(strip, here) for strip in strips),
        undo_label=undo.label if undo else None,
        redo_label=redo.label if redo else None,
    )


def _rerouted(strip: StripState, here: set[int]) -> StripState:
    """What was routed into a group that is gone runs into the mix."""
    if strip.parent_id is None or strip.parent_id in here:
        return strip
    return replace(strip, parent_id=None)
