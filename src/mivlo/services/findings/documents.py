"""Findings as documents: what the command line prints, what is stored, what goes to the page."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import BaseModel, TypeAdapter, model_serializer

from mivlo.audio.decode import FileSamples, shortfall
from mivlo.core.errors import BadAudio
from mivlo.core.findings import Evidence, Finding, Kind, Search
from mivlo.core.findings.finding import rank_of
from mivlo.core.findings.heard import SHORTEST_S
from mivlo.core.findings.search import LEAST_CONFIDENCE, MOST
from mivlo.core.moves import Entry
from mivlo.core.roles import Role
from mivlo.core.units import hz_to_note
from mivlo.description import STRICT, flat_union, plain_document, read_plain
from mivlo.services.song.naming import guess_role, name_from_file


class EvidenceDocument(BaseModel):
    """What is drawn for a finding; see `mivlo.core.findings.Evidence`."""

    grid_hz: list[float]
    level_db: list[float]
    expected_db: list[float]
    times_s: list[float]
    excess_db: list[float]
    track_db: list[float]
    spot_db: list[float]
    decay_ms: list[float]
    decay_db: list[float]
    own_ring_ms: float

    @classmethod
    def of(cls, evidence: Evidence) -> EvidenceDocument:
        return cls(**{name: getattr(evidence, name) for name in cls.model_fields})


class _Proposed(BaseModel):
    """Where a move always acts, nothing is said of when: so a sheet of version 1 can hold it."""

    model_config = STRICT

    @model_serializer(mode="wrap")
    def _short(self, write: Any) -> dict[str, Any]:
        out: dict[str, Any] = write(self)
        if not out.get("stretches"):
            for name in ("stretches", "fade_ms"):
                out.pop(name, None)
        return out


ProposedMove: Any = flat_union(
    "ProposedMove",
    base=_Proposed,
    nullable=True,
    own=("enabled", "stretches", "fade_ms"),
    doc="A move as a sheet holds it; null where it says nothing of its own.",
)
_proposed: TypeAdapter[Any] = TypeAdapter(ProposedMove)


def proposed_move(entry: Entry) -> Any:
    """A proposed move as in a sheet; what its shape does not have is null."""
    return _proposed.validate_python(plain_document(entry))


class FindingDocument(BaseModel):
    """One finding; units are in the names. `move` is as in a sheet."""

    kind: Kind
    frequency_hz: float
    note: str
    cents: float
    bandwidth_oct: float
    excess_db: float
    confidence: float
    share_of_time: float
    moments: list[list[float]]
    similar: float | None
    worst_s: float
    loop_s: list[float] = []  # of a look by an older method nothing is known
    ring_ms: float | None
    own_ring_ms: float
    slope_db_per_db: float
    harmonic: str
    threshold_db: float | None
    after_db: float | None = None
    takes_db: float
    says: str
    move: ProposedMove
    tail: ProposedMove | None = None  # of a tone of its own: a cut of what rings on alone
    evidence: EvidenceDocument | None = None

    @property
    def rank(self) -> float:
        """As `Finding.rank`, of what stands in the document."""
        return rank_of(self.kind, self.confidence, self.excess_db)

    def entry(self) -> Entry:
        """The proposed move as an entry of a treatment."""
        return read_plain(self.move.model_dump(mode="json"))

    @classmethod
    def of(cls, f: Finding, *, evidence: bool) -> FindingDocument:
        return cls(
            kind=f.kind,
            **_named(f.frequency_hz),
            bandwidth_oct=round(f.bandwidth_oct, 4),
            excess_db=round(f.excess_db, 2),
            confidence=f.confidence,
            share_of_time=f.share_of_time,
            moments=[list(span) for span in f.moments],
            similar=f.similar,
            worst_s=f.worst_s,
            loop_s=list(f.loop_s),
            ring_ms=f.ring_ms,
            own_ring_ms=f.own_ring_ms,
            slope_db_per_db=f.slope,
            harmonic=f.harmonic,
            threshold_db=f.threshold_db,
            after_db=f.after_db,
            takes_db=f.takes_db,
            says=f.says,
            move=proposed_move(f.entry),
            tail=None if f.tail is None else proposed_move(Entry(move=f.tail)),
            evidence=EvidenceDocument.of(f.evidence) if evidence else None,
        )


@dataclass(frozen=True, slots=True)
class Found:
    """What stands out in a file; fundamental_hz : of something struck, where it is one."""

    findings: list[Finding]
    own_tones: list[Finding]
    fundamental_hz: float | None


def search_file(
    path: Path,
    *,
    from_s: float = 0.0,
    to_s: float | None = None,
    role: Role | None = None,
    most: int = MOST,
    least_confidence: float = LEAST_CONFIDENCE,
    keep_readable: bool = False,
    beside: Sequence[Path] = (),
) -> tuple[FileSamples, Found]:
    """What stands out in a file. Without a role it is guessed from the name.

    keep_readable : of a damaged file, look at what can be read. beside : the tracks of its song, from the same
    beginning: they tell what rings in a room, and which moments of any other are its own.

    Raises
    ------
    BadAudio : a file can't be used, or there is no sound between `from_s` and `to_s`.
    """
    sound = FileSamples(path, keep_readable=keep_readable)
    rate, frames = sound.info.sample_rate, sound.info.frames
    start = int(from_s * rate)
    stop = frames if to_s is None else min(frames, int(to_s * rate))
    if stop <= start:
        raise BadAudio(f"There is no sound between --from and --to: {path.name} lasts {sound.info.duration_s:.2f} s.")
    known = role or guess_role(name_from_file(path.name))
    if stop - start < SHORTEST_S * rate:  # nothing can be said of so little
        return sound, Found([], [], None)
    others = _playing([p for p in beside if p != path], sound)
    search = Search(sound, sample_rate=rate, start=start, stop=stop, role=known, others=others)
    findings = search.findings(most=most, least_confidence=least_confidence)
    return sound, Found(findings, search.own_tones(findings), search.fundamental_hz())


def _playing(paths: Sequence[Path], track: FileSamples) -> list[FileSamples]:
    """Those of the other tracks of its song that are no rooms, by their names."""
    sounds = [FileSamples(p, keep_readable=True) for p in paths if guess_role(name_from_file(p.name)) is not Role.ROOM]
    for sound in sounds:
        if sound.info.sample_rate != track.info.sample_rate:
            raise BadAudio(
                f"The tracks of a song are compared at one sample rate, but {sound.path.name} has "
                f"{sound.info.sample_rate} Hz and {track.path.name} {track.info.sample_rate} Hz. Export them alike, or "
                "leave out --song."
            )
    return sounds


def file_document(
    path: Path,
    *,
    from_s: float,
    to_s: float | None,
    role: Role | None,
    most: int,
    evidence: bool,
    beside: Sequence[Path] = (),
) -> dict[str, Any]:
    """The JSON document of `mivlo find`."""
    sound, found = search_file(path, from_s=from_s, to_s=to_s, role=role, most=most, keep_readable=True, beside=beside)
    hidden = set() if evidence else {"evidence"}

    def written(findings: list[Finding]) -> list[dict[str, Any]]:
        return [FindingDocument.of(f, evidence=evidence).model_dump(mode="json", exclude=hidden) for f in findings]

    faults, tones = written(found.findings), written(found.own_tones)
    for fault in faults:
        fault.pop("tail")
    for tone in tones:  # a proposal that is not made unless it is asked for
        tone["offer"], tone["offer_tail"] = tone.pop("move"), tone.pop("tail")
    return {
        "file": str(path),
        "sample_rate": sound.info.sample_rate,
        "duration_s": round(sound.info.duration_s, 6),
        "notice": shortfall(sound.info, sound.ends_at),
        "findings": faults,
        "own_tones": tones,
        "fundamental": None if found.fundamental_hz is None else _named(found.fundamental_hz),
    }


def _named(frequency_hz: float) -> dict[str, Any]:
    note = hz_to_note(frequency_hz)
    return {
        "frequency_hz": round(frequency_hz, 3),
        "note": f"{note.name}{note.octave}",
        "cents": round(note.cents, 1),
    }
