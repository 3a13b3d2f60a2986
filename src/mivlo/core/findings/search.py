"""The search: look once, read the network, ask the rules, fit the smallest cuts, gather the evidence."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from mivlo.core.findings.along import Along, measure_along
from mivlo.core.findings.by_rule import with_rules
from mivlo.core.findings.closer import (
    LEVELS,
    ON_FINDING_GRID,
    CloserView,
    closer_grid,
    look_closer,
    rows_of,
)
from mivlo.core.findings.closer_reading import read_closer
from mivlo.core.findings.confidence import opinion_on
from mivlo.core.findings.contours import LOUD_GATE_DB, all_contours, sounding_frames
from mivlo.core.findings.cuts import (
    Spot,
    as_cut,
    between,
    deepest_for,
    fit_together,
    seen_twice,
    spots_of,
)
from mivlo.core.findings.decays import Decay, measure_decay
from mivlo.core.findings.evidence import is_steady_note, trace
from mivlo.core.findings.finding import Finding, Kind, is_one_of
from mivlo.core.findings.frames import POINTS_PER_OCTAVE, Part, Sound, finding_grid
from mivlo.core.findings.heard import SHORTEST_S, Heard, Progress
from mivlo.core.findings.hum import Hum, find_hum
from mivlo.core.findings.kinds import BROAD_OCT, broad_kind
from mivlo.core.findings.network import Model, Reading, narrow_of, read_contours, shipped_model
from mivlo.core.findings.own_moments import OwnMoments, own_moments
from mivlo.core.findings.own_tones import (
    STRUCK,
    SURELY_A_LINE_Q,
    Line,
    fundamental_of,
    lines_of,
    offered_cut,
    own_tones,
)
from mivlo.core.findings.own_tones import relation as relation_of
from mivlo.core.findings.own_tones import why as why_own
from mivlo.core.findings.place import find_place
from mivlo.core.findings.tails import tail_cut
from mivlo.core.findings.witnesses import broad_witnesses, by_kind, narrow_witnesses, of_track, with_crowd
from mivlo.core.moves import DynamicMove, StaticMove, treatment_db
from mivlo.core.roles import Role
from mivlo.core.spectra import Singles
from mivlo.core.units import q_to_octaves

MOST = 12
LEAST_CONFIDENCE, LEAST_BROAD_CONFIDENCE = 0.07, 0.16
_SURE = 0.54
"""Of a ring on something struck: one that is less sure and lies on a tone of its own is that tone."""
LEAST_TONE_SHARE = 0.75
"""Share of the sounding time in which a tone of something that plays notes has to stand out to be its own."""
TRIED_SHARE = 0.5
"""With all of the height a hole is left, whatever was there; with half of it, what is left tells more."""
LEAST_BROAD_SHARE = 0.15
"""What is broad and stands over its surroundings for less of the time than this is none: its evidence is against it."""
LEAST_DEPTH_DB = 0.4
_OFF_CENTS = 30.0
"""How far a spot is off on the grid of the search, or a little more."""
LEAST_LOUD_S = 12.0
"""Where so much of a track is loud, most networks say what is narrow from that alone: of less the rests are needed."""
LEAST_OWN_S = 6.0
"""So much has to be a track's own, by what the others play, to be told from that alone."""
FEWEST_FRAMES = 8
"""Of any window, of which contours are taken."""
_TAIL_FROM_S = 30.0
"""So much of a track says how its strokes and tails differ."""

Contours = tuple[Singles, Singles]
"""Those of the usual look and of a closer one."""


@dataclass(frozen=True, slots=True)
class _Near:
    """The frames in which a track is nearest, of which most networks say what is narrow.

    Those of them that are loud. closer : contours of a closer look at them. own : the share of all frames that they
    are, where they were chosen by what the other tracks play.
    """

    levels: list[Singles]
    parts: tuple[Part, ...]
    closer: Singles
    own: float | None = None

    def contours(self) -> Contours:
        return all_contours(self.levels, self.parts, LOUD_GATE_DB), self.closer

    def lifted(self, fine_db: Singles) -> _Near:
        """The same with a response on `closer_grid` laid over it."""
        levels = _lifted_levels(self.levels, self.parts, fine_db)
        return replace(self, levels=levels, closer=_lifted(self.closer, fine_db))

    @property
    def says(self) -> str:
        """What a finding tells of that."""
        if self.own is None:
            return ""
        return f"Told by the {100.0 * self.own:.0f} % of its time in which this track is heard over the others."


def _lifted_levels(levels: Sequence[Singles], parts: Sequence[Part], fine_db: Singles) -> list[Singles]:
    """Levels of each part with a response on `closer_grid` laid over them."""
    response = fine_db[ON_FINDING_GRID]
    return [level + response[part.reach] for level, part in zip(levels, parts, strict=True)]


class Search(Heard):
    """One look at a sound, from which findings and evidence are taken.

    As `Heard`, and

    Parameters
    ----------
    others : what the other tracks of the song play, each (n, channels) from the same beginning. What rings in a room
        is told by them; of any other track, which moments are its own.
    model : the networks that judge and the second opinion on what they say; those that ship, unless the benchmark asks
        some that never heard the sound.

    `closer` are the contours of a closer look.
    """

    def __init__(
        self,
        sound: Sound,
        *,
        sample_rate: float,
        start: int = 0,
        stop: int | None = None,
        role: Role | None = None,
        progress: Progress = lambda share: None,
        others: Sequence[Sound] = (),
        model: Model | None = None,
    ) -> None:
        super().__init__(
            sound, sample_rate=sample_rate, start=start, stop=stop, role=role, progress=lambda s: progress(0.4 * s)
        )
        self._others = others
        self._model = model or shipped_model()
        self._moments = self._own_moments(lambda s: progress(0.4 + 0.2 * s))
        closer = look_closer(self.view.mono, sample_rate=self.sample_rate)
        self.closer = closer.contours()
        self._near = self._own_of(closer) or self._loud_of(closer)
        self.reading: Reading = self._read((self.contours, self.closer), self._near)
        progress(0.75)

    def _own_moments(self, progress: Progress) -> OwnMoments | None:
        """Which moments are the track's own, where others cover some of it."""
        if self.silent or self.role is Role.ROOM:
            return None
        return own_moments(
            self.sound, self._others, sample_rate=self.sample_rate, start=self.start, stop=self.stop, progress=progress
        )

    def _own_of(self, closer: CloserView) -> _Near | None:
        """What is heard while the track is heard itself, where that is enough."""
        if self._moments is None:
            return None
        own, view = self._moments.among, self.view
        levels = view.levels_at(own)
        near = closer.at(lambda times_s, window_s: own(view.times_of(times_s), window_s))
        if min(near.fewest, *map(len, levels)) < FEWEST_FRAMES:
            return None
        return self._nearest(levels, near, LEAST_OWN_S, by_others=True)

    def _loud_of(self, closer: CloserView) -> _Near | None:
        """What is loud, where that is enough."""
        return self._nearest(self.view.levels, closer, LEAST_LOUD_S, by_others=False)

    def _nearest(self, levels: list[Singles], closer: CloserView, least_s: float, *, by_others: bool) -> _Near | None:
        """The loud frames among some, if they last so long."""
        parts = self.view.parts
        frames = len(sounding_frames(levels[-1], LOUD_GATE_DB))
        if frames * parts[-1].hop < least_s * self.sample_rate:
            return None
        own = frames / len(self.view.levels[-1]) if by_others else None
        return _Near(levels, parts, closer.contours(LOUD_GATE_DB), own)

    @cached_property
    def closer_rows(self) -> Singles:
        """The contours of the closer look as the networks of places read them."""
        return rows_of(self.closer)

    def along(self) -> Along:
        """The evidence at every frequency, for what is under a pointer."""
        return measure_along(self.contours, self.reading, self.spectrum, self.highest_hz)

    def findings(self, *, most: int = MOST, least_confidence: float = LEAST_CONFIDENCE) -> list[Finding]:
        """What stands out, most certain and most disturbing first."""
        if self.silent:
            return []
        hum = find_hum(self.view)
        spots = [f for f in self._spots(hum) if not self._is_own(f)]
        found = with_rules(self, spots, hum, self._others)
        kept = sorted((f for f in found if f.confidence >= least_confidence), key=lambda f: -f.rank)
        return [replace(f, loop_s=self.loop(f)) for f in self._told_after(kept[:most], spots)]

    def _told_after(self, found: Sequence[Finding], spots: Sequence[Finding]) -> list[Finding]:
        """The findings; those of the networks with what is left of them once all static moves are made."""
        moves = [f.move for f in found if isinstance(f.move, StaticMove) and not f.stretches]
        if not moves:
            return list(found)
        after = self.after(moves)
        left = after.boost_db + after.hump_db
        grid = finding_grid()
        out = []
        for f in found:
            if any(f.move is spot.move for spot in spots):  # no rule has given it another
                near = np.abs(np.log2(grid / f.frequency_hz)) <= 1.5 / POINTS_PER_OCTAVE
                f = replace(f, after_db=round(float(np.max(left[near])), 1))
            out.append(f)
        return out

    def _is_own(self, finding: Finding) -> bool:
        """Whether what looks like a ring is the fundamental of something struck, or, in doubt, a tone of its own."""
        if finding.kind is not Kind.RING:
            return False
        lines = self._own_lines if finding.confidence < _SURE and self.role in STRUCK else []
        own = [line.frequency_hz for line in lines if line.decay is None or line.ring_q >= SURELY_A_LINE_Q]
        base = self.fundamental_hz()
        return is_one_of(finding.frequency_hz, own if base is None else [*own, base])

    def own_tones(self, beside: Sequence[Finding] = ()) -> list[Finding]:
        """Tones of the instrument or the room that stand still; no faults, each with the cut that fits it.

        beside : what was found; where one of these rings is, nothing is told twice.
        """
        if self.silent:
            return []
        out = []
        rings = [f.frequency_hz for f in beside if f.kind is Kind.RING]
        for line in self._own_lines:
            if is_one_of(line.frequency_hz, rings):
                continue
            cut = offered_cut(line, self.role)
            confidence = round(float(np.clip(line.peak_share, 0.5, 0.95)), 3)
            octaves = q_to_octaves(cut.q)
            finding = Finding(Kind.OWN_TONE, line.frequency_hz, octaves, round(line.over_db, 1), confidence, cut)
            whole = self.told(finding, line.decay, broad=False)
            if self.role not in STRUCK and whole.share_of_time < LEAST_TONE_SHARE:
                continue  # a note that is often played
            told = relation_of(line, self._fundamental) or whole.harmonic
            whole = replace(whole, harmonic=told, says=why_own(line), slope=0.0, tail=self._tail(line, cut))
            out.append(replace(whole, loop_s=self.loop(whole)))
        return out

    def _tail(self, line: Line, cut: StaticMove) -> DynamicMove | None:
        """Of something struck that rings on: a cut of its tail alone."""
        if self.role not in STRUCK or line.decay is None:
            return None
        return tail_cut(cut, self.view.mono[: round(_TAIL_FROM_S * self.sample_rate)], sample_rate=self.sample_rate)

    def fundamental_hz(self) -> float | None:
        """Of something struck, where it is one."""
        line = None if self.silent else self._fundamental
        return None if line is None else line.frequency_hz

    @cached_property
    def _lines(self) -> list[Line]:
        return lines_of(self.contours, self.spectrum, highest_hz=self.highest_hz)

    @cached_property
    def _own_lines(self) -> list[Line]:
        return own_tones(self._lines, self.spectrum, self._fundamental)

    @cached_property
    def _fundamental(self) -> Line | None:
        return fundamental_of(self._lines, self.role)

    # --- rings and broad trouble ------------------------------------------------------------------

    def spots(self, leave_out_hz: Sequence[float] = ()) -> list[Spot]:
        """Boosts that seem to be there, fitted together; not those at the frequencies `leave_out_hz`."""
        spots = [s for s in spots_of(self.reading) if s.frequency_hz < self.highest_hz]
        spots = [s for s in spots if not is_one_of(s.frequency_hz, leave_out_hz)]
        fitted = fit_together(spots, self.reading.boost_db + self.reading.hump_db)
        return [b if b.broad else between(a, b) for a, b in zip(spots, fitted, strict=True)]

    def after(self, moves: Sequence[StaticMove]) -> Reading:
        """What the networks read once these moves are made: their response laid over every frame, then read anew.

        Exact for what rings shorter than a window; nothing is rendered. Over the closer look it is laid as a whole.
        """
        if not moves:
            return self.reading
        fine = treatment_db(moves, closer_grid(), sample_rate=self.sample_rate).astype(np.float32)
        usual = all_contours(_lifted_levels(self.view.levels, self.view.parts, fine), self.view.parts)
        return self._read((usual, _lifted(self.closer, fine)), self._near and self._near.lifted(fine))

    def _read(self, usual: Contours, near: _Near | None) -> Reading:
        """What the networks say in the mean, of all that is no rest and, of what is narrow, of what is nearest."""
        beside = read_closer(usual[1], self._model.closer, role=self.role)
        if near is None:
            return read_contours(usual[0], self._model, role=self.role, beside=beside)
        contours, closer = near.contours()
        of_near = read_closer(closer, self._model.closer, role=self.role)
        beside = [narrow_of(one, other) for one, other in zip(of_near, beside, strict=True)]
        return read_contours(usual[0], self._model, role=self.role, near=contours, beside=beside)

    def _refined(self, spots: Sequence[Spot], halves: Sequence[StaticMove], tried: Reading) -> list[Spot]:
        """The spots; of broad ones what two looks say in the mean: at the whole, and at what half a cut leaves.

        One look alone says four fifths of how high they are. Of narrow ones the second knows no better.
        """
        if not any(spot.broad for spot in spots):
            return list(spots)
        taken_db = -treatment_db(halves, finding_grid(), sample_rate=self.sample_rate)
        first, left = (reading.boost_db + reading.hump_db for reading in (self.reading, tried))
        seen = [seen_twice(spot, tried, half) for spot, half in zip(spots, halves, strict=True)]
        anew = fit_together(seen, (first + left + taken_db) / 2.0)
        return [b if b.broad else a for a, b in zip(spots, anew, strict=True)]

    def _spots(self, hum: Hum | None) -> list[Finding]:
        every = self.weighed([f for f, _ in hum.lines] if hum else [])
        found = (self._finding(spot, decay, heard) for spot, decay, heard in every)
        return [f for f in found if f is not None]

    def _decays(self, spots: Sequence[Spot]) -> list[Decay | None]:
        """Of each spot how it rings; of broad ones nobody asks."""
        return [None if s.broad else measure_decay(self.spectrum, s.frequency_hz, s.octaves) for s in spots]

    def weighed(self, leave_out_hz: Sequence[float] = ()) -> list[tuple[Spot, Decay | None, dict[str, float]]]:
        """As `spots`, each with how it rings and what speaks for and against it.

        All are cut by half of their height and looked at again: what is real shrinks, what is not stays a line.
        """
        spots = self.spots(leave_out_hz)
        halves = [as_cut(s, TRIED_SHARE, deepest_db=deepest_for(1.0, broad=s.broad)) for s in spots]
        tried = self.after(halves)
        decays, track = self._decays(spots), of_track(self.contours)
        heard = [by_kind({**track, **self._witnesses(s, decay, tried)}) for s, decay in zip(spots, decays, strict=True)]
        return list(zip(self._refined(spots, halves, tried), decays, with_crowd(heard), strict=True))

    def _witnesses(self, spot: Spot, decay: Decay | None, tried: Reading) -> dict[str, float]:
        seen = trace(self.view, spot.frequency_hz, spot.octaves, broad=spot.broad)
        if spot.broad:
            return broad_witnesses(spot, self.reading, tried, self.contours, seen)
        return narrow_witnesses(spot, self.reading, tried, self.spectrum, decay, seen, self.highest_hz)

    def _finding(self, spot: Spot, decay: Decay | None, heard: dict[str, float]) -> Finding | None:
        opinion = opinion_on(broad=spot.broad, model=self._model)
        confidence = round(opinion.confidence(heard), 3)
        if confidence < (LEAST_BROAD_CONFIDENCE if spot.broad else LEAST_CONFIDENCE) or spot.gain_db < LEAST_DEPTH_DB:
            return None
        # what is doubtful is told of with a cut that does no harm, to be tried deeper by whoever hears it
        share = max(opinion.share(confidence), LEAST_DEPTH_DB / spot.gain_db)
        cut = as_cut(spot, share, deepest_db=deepest_for(confidence, broad=spot.broad))
        if self._moments is not None and self._moments.is_others(spot.frequency_hz, spot.octaves):
            return None  # it is their trouble, if it is any
        if not spot.broad and is_steady_note(self.view.levels[-1], spot.frequency_hz):
            return None
        if not spot.broad:
            centre = self._centre(spot, decay)
            spot, cut = replace(spot, frequency_hz=centre), replace(cut, frequency_hz=centre)
        broad = spot.broad or spot.octaves >= BROAD_OCT
        kind = broad_kind(spot.frequency_hz, self.role) if broad else Kind.RING
        says = "" if spot.broad or self._near is None else self._near.says
        found = Finding(kind, spot.frequency_hz, spot.octaves, spot.gain_db, confidence, cut, says=says)
        told = self.told(found, decay, broad=broad, envelope=broad)
        return None if broad and told.share_of_time < LEAST_BROAD_SHARE else told

    def _centre(self, spot: Spot, decay: Decay | None) -> float:
        """Where a narrow spot stands, more exactly than the grid: near where its decays agree, if they do."""
        hz = decay.frequency_hz if decay is not None and _steady(decay, spot) else spot.frequency_hz
        return find_place(
            self.closer_rows, octaves=spot.octaves, gain_db=spot.gain_db, hz=hz, near_cents=_OFF_CENTS
        ).frequency_hz


def _lifted(closer: Singles, response_db: Singles) -> Singles:
    """Contours of a closer look with a response laid over all of it."""
    out = closer.copy()
    out[list(LEVELS)] += response_db
    return out


def _steady(decay: Decay, spot: Spot) -> bool:
    """Whether the decays agree on a frequency well within the spot: then it is more exact than the grid's."""
    if decay.frequency_hz <= 0.0 or decay.spread_cents > 6.0:
        return False
    apart = abs(1200.0 * np.log2(decay.frequency_hz / spot.frequency_hz))
    return bool(apart < min(30.0, 400.0 * spot.octaves))


def find(
    samples: Sound,
    *,
    sample_rate: float,
    role: Role | None = None,
    most: int = MOST,
    least_confidence: float = LEAST_CONFIDENCE,
) -> list[Finding]:
    """What stands out in a recording (n, channels), most certain and most disturbing first.

    An empty one has no findings. `Search` gives more: a passage, evidence at any frequency, progress.
    """
    if samples.shape[0] < SHORTEST_S * sample_rate:
        return []
    return Search(samples, sample_rate=sample_rate, role=role).findings(most=most, least_confidence=least_confidence)
