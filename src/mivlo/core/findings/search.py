"""The search: look once, read the network, ask the rules, fit the smallest cuts, gather the evidence."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cached_property

import numpy as np

from mivlo.core.errors import BadAudio
from mivlo.core.findings.along import Along, measure_along
from mivlo.core.findings.closer import LEVELS, closer_contours, closer_grid, rows_of
from mivlo.core.findings.closer_reading import read_closer
from mivlo.core.findings.confidence import BY_RULE, opinion_on
from mivlo.core.findings.contours import all_contours
from mivlo.core.findings.cuts import (
    Spot,
    as_cut,
    bell_db,
    between,
    deepest_for,
    fit_together,
    seen_twice,
    spots_of,
)
from mivlo.core.findings.decays import Decay, WholeSpectrum, measure_decay, own_ring_ms
from mivlo.core.findings.evidence import Evidence, SpotTrace, harmonic_of, is_steady_note, trace
from mivlo.core.findings.finding import Finding, Kind
from mivlo.core.findings.frames import POINTS_PER_OCTAVE, Sound, finding_grid, look
from mivlo.core.findings.hum import Hum, find_hum
from mivlo.core.findings.kinds import BROAD_OCT, broad_kind
from mivlo.core.findings.loops import BEFORE_S, LONGEST_S, LOOP_S, loop_around
from mivlo.core.findings.loudness_bound import LoudTrouble, find_loud_trouble
from mivlo.core.findings.moments import Moments, find_plosives, find_sibilance, find_whistles, voice_frames
from mivlo.core.findings.network import Model, Reading, read_contours, shipped_model
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
from mivlo.core.findings.rumble import Rumble, find_rumble
from mivlo.core.findings.squeaks import find_squeaks
from mivlo.core.findings.tails import tail_cut
from mivlo.core.findings.witnesses import broad_witnesses, narrow_witnesses, of_track, with_crowd
from mivlo.core.findings.wolf import find_wolf
from mivlo.core.making.starts import StartName, started
from mivlo.core.making.thresholds import RESTS, Trace, at_moments, at_share
from mivlo.core.making.thresholds import trace as trace_level
from mivlo.core.moves import DynamicMove, Move, Shape, StaticMove, treatment_db
from mivlo.core.roles import Role
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats, octaves_to_q, q_to_octaves

Progress = Callable[[float], None]

MOST = 12
LEAST_CONFIDENCE, LEAST_BROAD_CONFIDENCE = 0.1, 0.19
LEAST_RUMBLE_CONFIDENCE = 0.45
_GENTLY = 0.4
"""Part of the lowest that is played at which what is doubtful below it is cut."""
_SURE = 0.54
"""Of a ring on something struck: one that is less sure and lies on a tone of its own is that tone."""
_SURE_RUMBLE = 0.7
LEAST_TONE_SHARE = 0.75
"""Share of the sounding time in which a tone of something that plays notes has to stand out to be its own."""
SAME_OCT = 1.0 / 36.0
"""What is nearer is one and the same."""
_BY_RULE = frozenset({Kind.HUM, Kind.RUMBLE})
TRIED_SHARE = 0.5
"""With all of the height a hole is left, whatever was there; with half of it, what is left tells more."""
LEAST_BROAD_SHARE = 0.15
"""What is broad and stands over its surroundings for less of the time than this is none: its evidence is against it."""
LOUD_TROUBLE_ROLES = frozenset({Role.VOICE, Role.BRASS, Role.WINDS, Role.STRINGS, Role.GUITAR})
"""What can be driven into harshness while it sounds; what is struck or plucked brightens with each stroke."""
SQUEAK_ROLES = frozenset({Role.GUITAR, Role.BASS, Role.STRINGS, Role.BRASS, Role.WINDS})
"""What squeaks; strokes of drums, mallets and keys, and cymbals, are short and bright by nature."""
LEAST_DEPTH_DB = 0.4
_LEAST_CLOSER = 0.13
"""What is less likely is hardly cut, and not looked at more closely."""
_OFF_CENTS = 30.0
"""How far a spot is off on the grid of the search, or a little more."""
_WOLF_OCT = 0.12
_SHORTEST_S = 0.05
_DRAWN = 240
_DEEPEST_DB = 6.0
"""Of a move that acts only when something is loud."""
_SIBILANCE_RESTS = 0.99
"""Share of the rest of the time in which a cut of sibilants rests: a voice has many that are as they should be."""
_TAIL_FROM_S = 30.0
"""So much of a track says how its strokes and tails differ."""
_DEEPEST_MOMENT_DB = 12.0
"""Of a cut that acts at marked moments only: what it takes there it takes nowhere else."""


class Search:
    """One look at a sound, from which findings and evidence are taken.

    Parameters
    ----------
    sound : (n, channels), read a stretch at a time; what is longer than 150 s is sampled evenly.
    sample_rate : Hz.
    start, stop : frames between which it is looked at.
    role : what the track is: what is usual there, and which moments are looked for.
    progress : told the share done, 0 to 1.
    model : the networks that judge; those that ship, unless the benchmark asks some that never heard the sound.

    Raises
    ------
    BadAudio : nothing, or less than 50 ms, to look at.

    `highest_hz` is up to where anything is found.
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
        model: Model | None = None,
    ) -> None:
        end = sound.shape[0] if stop is None else min(stop, sound.shape[0])
        if end - start < _SHORTEST_S * sample_rate:
            raise BadAudio("There is too little sound to say anything; choose at least 0.05 s.")
        self._sound, self._start, self._stop = sound, start, end
        self._role = None if role is None else Role(role)
        self.highest_hz = 0.45 * sample_rate
        self.sample_rate = sample_rate
        self.view = look(sound, start, end, sample_rate=sample_rate, progress=lambda share: progress(0.6 * share))
        self.contours = all_contours(self.view.levels, self.view.parts)
        self.silent = bool(np.max(self.contours[0]) < -100.0)
        self._model = model or shipped_model()
        self.reading: Reading = self._read(self.contours, self.closer)
        progress(0.75)
        self._spectrum: WholeSpectrum | None = None

    @property
    def spectrum(self) -> WholeSpectrum:
        """The whole sound's transform, made when it is first asked for."""
        if self._spectrum is None:
            self._spectrum = WholeSpectrum(self.view.mono, sample_rate=self.sample_rate, breaks=self.view.breaks[1:])
        return self._spectrum

    @cached_property
    def closer(self) -> Singles:
        """The contours of a closer look."""
        return closer_contours(self.view.mono, sample_rate=self.sample_rate)

    @cached_property
    def closer_rows(self) -> Singles:
        """The same as the networks of places read it."""
        return rows_of(self.closer)

    def along(self) -> Along:
        """The evidence at every frequency, for what is under a pointer."""
        return measure_along(self.contours, self.reading, self.spectrum, self.highest_hz)

    def findings(self, *, most: int = MOST, least_confidence: float = LEAST_CONFIDENCE) -> list[Finding]:
        """What stands out, most certain and most disturbing first."""
        if self.silent:
            return []
        hum = find_hum(self.view)
        found = [f for f in self._spots(hum) if not self._is_own(f)]
        if hum is not None:
            found.append(self._hum(hum))
        if self._role in LOUD_TROUBLE_ROLES:
            trouble = find_loud_trouble(self.view)
            if trouble is not None:
                self._add_loud(found, trouble)
        found += self._moments()
        if self._role is Role.STRINGS:
            self._add_wolf(found)
        rumble = find_rumble(self.view, self._role)
        if rumble is not None and rumble.confidence >= LEAST_RUMBLE_CONFIDENCE:
            found.append(self._rumble(rumble))
        kept = sorted((f for f in found if f.confidence >= least_confidence), key=lambda f: -f.rank)
        return [replace(f, loop_s=self._loop(f)) for f in self._told_after(kept[:most])]

    def _told_after(self, found: Sequence[Finding]) -> list[Finding]:
        """The findings of the networks with what is left of them once all static moves that are proposed are made."""
        moves = [f.move for f in found if isinstance(f.move, StaticMove) and not f.stretches]
        if not moves:
            return list(found)
        after = self.after(moves)
        left = after.boost_db + after.hump_db
        grid = finding_grid()
        out = []
        for f in found:
            by_rule = f.stretches or f.moments or f.kind in _BY_RULE or not isinstance(f.move, StaticMove)
            near = np.abs(np.log2(grid / f.frequency_hz)) <= 1.5 / POINTS_PER_OCTAVE
            out.append(f if by_rule else replace(f, after_db=round(float(np.max(left[near])), 1)))
        return out

    def _is_own(self, finding: Finding) -> bool:
        """Whether what looks like a ring is the fundamental of something struck, or, in doubt, a tone of its own."""
        if finding.kind is not Kind.RING:
            return False
        lines = self._own_lines if finding.confidence < _SURE and self._role in STRUCK else []
        own = [line.frequency_hz for line in lines if line.decay is None or line.ring_q >= SURELY_A_LINE_Q]
        base = self.fundamental_hz()
        return _is_one_of(finding.frequency_hz, own if base is None else [*own, base])

    def own_tones(self, beside: Sequence[Finding] = ()) -> list[Finding]:
        """Tones of the instrument or the room that stand still; no faults, each with the cut that fits it.

        beside : what was found; where one of these rings is, nothing is told twice.
        """
        if self.silent:
            return []
        out = []
        rings = [f.frequency_hz for f in beside if f.kind is Kind.RING]
        for line in self._own_lines:
            if _is_one_of(line.frequency_hz, rings):
                continue
            cut = offered_cut(line, self._role)
            confidence = round(float(np.clip(line.peak_share, 0.5, 0.95)), 3)
            octaves = q_to_octaves(cut.q)
            finding = Finding(Kind.OWN_TONE, line.frequency_hz, octaves, round(line.over_db, 1), confidence, cut)
            whole = self._with_evidence(finding, line.decay, broad=False)
            if self._role not in STRUCK and whole.share_of_time < LEAST_TONE_SHARE:
                continue  # a note that is often played
            told = relation_of(line, self._fundamental) or whole.harmonic
            whole = replace(whole, harmonic=told, says=why_own(line), slope=0.0, tail=self._tail(line, cut))
            out.append(replace(whole, loop_s=self._loop(whole)))
        return out

    def _tail(self, line: Line, cut: StaticMove) -> DynamicMove | None:
        """Of something struck that rings on: a cut of its tail alone."""
        if self._role not in STRUCK or line.decay is None:
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
        return fundamental_of(self._lines, self._role)

    def _loop(self, finding: Finding) -> tuple[float, float]:
        """The passage in which it is listened to."""
        rate = self.sample_rate
        at, until = max(finding.moments, key=lambda span: span[1] - span[0], default=(finding.worst_s, 0.0))
        first = max(self._start, round((at - BEFORE_S) * rate))
        last = min(self._stop, max(first + round(2.0 * LONGEST_S * rate), round((until + LONGEST_S) * rate)))
        first = max(self._start, min(first, last - round(LOOP_S * rate)))
        mono = np.mean(np.asarray(self._sound[first:last], dtype=np.float32), axis=1)
        ring = 0.0 if finding.ring_ms is None else finding.ring_ms / 1000.0
        a, b = loop_around(mono, sample_rate=rate, at_s=at - first / rate, until_s=until - first / rate, ring_s=ring)
        return round(first / rate + a, 3), round(first / rate + b, 3)

    # --- rings and broad trouble ------------------------------------------------------------------

    def spots(self, leave_out_hz: Sequence[float] = ()) -> list[Spot]:
        """Boosts that seem to be there, fitted together; not those at the frequencies `leave_out_hz`."""
        spots = [s for s in spots_of(self.reading) if s.frequency_hz < self.highest_hz]
        spots = [s for s in spots if not _is_one_of(s.frequency_hz, leave_out_hz)]
        fitted = fit_together(spots, self.reading.boost_db + self.reading.hump_db)
        return [b if b.broad else between(a, b) for a, b in zip(spots, fitted, strict=True)]

    def after(self, moves: Sequence[StaticMove]) -> Reading:
        """What the networks read once these moves are made: their response laid over every frame, then read anew.

        Exact for what rings shorter than a window; nothing is rendered. Over the closer look it is laid as a whole.
        """
        if not moves:
            return self.reading
        response = treatment_db(moves, finding_grid(), sample_rate=self.sample_rate).astype(np.float32)
        parts = self.view.parts
        levels = [level + response[part.reach] for level, part in zip(self.view.levels, parts, strict=True)]
        closer = self.closer.copy()
        closer[list(LEVELS)] += treatment_db(moves, closer_grid(), sample_rate=self.sample_rate).astype(np.float32)
        return self._read(all_contours(levels, parts), closer)

    def _read(self, contours: Singles, closer: Singles) -> Reading:
        """What the networks say of contours and of those of a closer look, in the mean."""
        beside = read_closer(closer, self._model.closer, role=self._role)
        return read_contours(contours, self._model, role=self._role, beside=beside)

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
        heard = [{**track, **self._witnesses(s, decay, tried)} for s, decay in zip(spots, decays, strict=True)]
        return list(zip(self._refined(spots, halves, tried), decays, with_crowd(heard), strict=True))

    def _witnesses(self, spot: Spot, decay: Decay | None, tried: Reading) -> dict[str, float]:
        seen = trace(self.view, spot.frequency_hz, spot.octaves, broad=spot.broad)
        if spot.broad:
            return broad_witnesses(spot, self.reading, tried, self.contours, seen)
        return narrow_witnesses(spot, self.reading, tried, self.spectrum, decay, seen, self.highest_hz)

    def _finding(self, spot: Spot, decay: Decay | None, heard: dict[str, float]) -> Finding | None:
        opinion = opinion_on(broad=spot.broad)
        confidence = round(opinion.confidence(heard), 3)
        if confidence < (LEAST_BROAD_CONFIDENCE if spot.broad else LEAST_CONFIDENCE) or spot.gain_db < LEAST_DEPTH_DB:
            return None
        # what is doubtful is told of with a cut that does no harm, to be tried deeper by whoever hears it
        share = max(opinion.share(confidence), LEAST_DEPTH_DB / spot.gain_db)
        cut = as_cut(spot, share, deepest_db=deepest_for(confidence, broad=spot.broad))
        if not spot.broad and is_steady_note(self.view.levels[-1], spot.frequency_hz):
            return None
        if not spot.broad:
            centre = self._centre(spot, decay, closely=confidence >= _LEAST_CLOSER)
            spot, cut = replace(spot, frequency_hz=centre), replace(cut, frequency_hz=centre)
        broad = spot.broad or spot.octaves >= BROAD_OCT
        kind = broad_kind(spot.frequency_hz, self._role) if broad else Kind.RING
        found = Finding(kind, spot.frequency_hz, spot.octaves, spot.gain_db, confidence, cut)
        told = self._with_evidence(found, decay, broad=broad, envelope=broad)
        return None if broad and told.share_of_time < LEAST_BROAD_SHARE else told

    def _centre(self, spot: Spot, decay: Decay | None, *, closely: bool) -> float:
        """Where a narrow spot stands: more exactly than the grid where its decays agree or it is looked at closely."""
        hz = decay.frequency_hz if decay is not None and _steady(decay, spot) else spot.frequency_hz
        if not closely:
            return hz
        return find_place(
            self.closer_rows, octaves=spot.octaves, gain_db=spot.gain_db, hz=hz, near_cents=_OFF_CENTS
        ).frequency_hz

    def _with_evidence(self, finding: Finding, decay: Decay | None, *, broad: bool, envelope: bool = False) -> Finding:
        f, octaves = finding.frequency_hz, finding.bandwidth_oct
        seen = trace(self.view, f, octaves, broad=envelope)
        slope, together = seen.slope()
        own = own_ring_ms(f, octaves)
        return replace(
            finding,
            share_of_time=round(seen.share_of_time, 3),
            worst_s=round(_worst(seen), 3),
            ring_ms=None if decay is None else round(1000.0 * decay.ring_s, 1),
            own_ring_ms=round(own, 1),
            slope=round(slope, 3) if abs(together) > 0.3 else 0.0,
            harmonic="" if broad else harmonic_of(self.view.levels[-1], f),
            takes_db=round(self._takes(finding.move, f, octaves), 2),
            evidence=self._evidence(finding, seen, decay, own),
        )

    def _takes(self, move: Move, frequency_hz: float, octaves: float) -> float:
        """Change of level in dB of all that lies outside of the spot, while a move acts."""
        if isinstance(move, DynamicMove):
            move = move.at_gain(move.gain_db + move.range_db)
        assert isinstance(move, StaticMove)
        grid = finding_grid()
        power = 10.0 ** (self.contours[0].astype(np.float64) / 10.0) * grid  # per bin to per octave
        outside = np.abs(np.log2(grid / frequency_hz)) > octaves / 2.0
        left = power[outside] * 10.0 ** (treatment_db([move], grid[outside], sample_rate=self.sample_rate) / 10.0)
        return float(10.0 * np.log10(np.sum(left) / max(float(np.sum(power[outside])), 1e-30)))

    def _evidence(self, finding: Finding, seen: SpotTrace, decay: Decay | None, own: float) -> Evidence:
        grid = finding_grid()
        reach = max(0.75, 2.0 * finding.bandwidth_oct)
        near = np.flatnonzero(np.abs(np.log2(grid / finding.frequency_hz)) <= reach)
        level = self.contours[0][near].astype(np.float64)
        bell = bell_db(
            np.log2(grid[near]), float(np.log2(finding.frequency_hz)), finding.bandwidth_oct, finding.excess_db
        )
        drawn = np.unique(np.linspace(0, len(seen.times_s) - 1, min(_DRAWN, len(seen.times_s))).astype(int))
        return Evidence(
            grid_hz=_rounded(grid[near], 1),
            level_db=_rounded(level, 1),
            expected_db=_rounded(level - bell, 1),
            times_s=_rounded(seen.times_s[drawn], 2),
            excess_db=_rounded(seen.excess_db[drawn], 1),
            track_db=_rounded(seen.track_db[drawn], 1),
            spot_db=_rounded(seen.spot_db[drawn], 1),
            decay_ms=decay.times_ms if decay else (),
            decay_db=decay.db if decay else (),
            own_ring_ms=round(own, 1),
        )

    # --- what the rules find ----------------------------------------------------------------------

    def _add_loud(self, found: list[Finding], trouble: LoudTrouble) -> None:
        """A range that hurts on loud notes; a finding that is there already is told to grow with the level."""
        for i, other in enumerate(found):
            wide = max(other.bandwidth_oct, trouble.octaves) / 2.0
            if abs(np.log2(other.frequency_hz / trouble.frequency_hz)) < wide and other.bandwidth_oct >= 0.3:
                static = other.move
                assert isinstance(static, StaticMove)
                move = self._over(static.frequency_hz, static.q, max(static.gain_db, -_DEEPEST_DB), trouble.share)
                found[i] = replace(
                    other, slope=round(trouble.slope, 2), threshold_db=move.threshold_db, move=move,
                    takes_db=round(self._takes_while(move, other, trouble.share), 2),
                )  # fmt: skip
                return
        depth = min(trouble.more_db, _DEEPEST_DB)
        move = self._over(trouble.frequency_hz, octaves_to_q(trouble.octaves), -depth, trouble.share)
        kind = broad_kind(trouble.frequency_hz, self._role)
        finding = Finding(
            kind, trouble.frequency_hz, trouble.octaves, round(trouble.more_db, 1), BY_RULE["loud notes"], move,
            threshold_db=move.threshold_db,
        )  # fmt: skip
        whole = self._with_evidence(finding, None, broad=True)
        found.append(replace(whole, slope=round(trouble.slope, 2), share_of_time=round(trouble.share, 3)))

    def _over(self, frequency_hz: float, q: float, range_db: float, share: float) -> DynamicMove:
        """A bell that acts over the level that is reached in this share of the time."""
        (start,) = started(StartName.LOUD_NOTES, frequency_hz=frequency_hz, q=q)
        assert isinstance(start, DynamicMove)
        move = replace(start, range_db=range_db)
        return at_share(move, self._traced(move), share, of_sounding=True)

    def _traced(self, move: DynamicMove) -> Trace:
        """What a move would read."""
        return trace_level(
            move, self.view.mono[:, None], sample_rate=self.sample_rate, start_s=self._start / self.sample_rate
        )

    def _takes_while(self, move: DynamicMove, finding: Finding, share: float) -> float:
        """What a move takes from the rest that acts in a share of the time, as a change of level in dB."""
        full = self._takes(move, finding.frequency_hz, finding.bandwidth_oct)
        return float(10.0 * np.log10(1.0 - share + share * 10.0 ** (full / 10.0)))

    def _moments(self) -> list[Finding]:
        place = (self._sound, self._start, self._stop)
        found: list[tuple[Kind, Moments | None]] = []
        if self._role is Role.VOICE:
            frames = voice_frames(*place, sample_rate=self.sample_rate)
            found += [
                (Kind.SIBILANCE, find_sibilance(frames)),
                (Kind.PLOSIVE, find_plosives(frames)),
                (Kind.WHISTLE, find_whistles(frames)),
            ]
        elif self._role in SQUEAK_ROLES:
            found.append((Kind.WHISTLE, find_squeaks(*place, sample_rate=self.sample_rate)))
        return [self._moment(kind, m) for kind, m in found if m is not None and m.frequency_hz < self.highest_hz]

    def _moment(self, kind: Kind, m: Moments) -> Finding:
        move: Move = StaticMove(
            Shape.BELL, m.frequency_hz, q=octaves_to_q(m.octaves), gain_db=-min(m.excess_db, _DEEPEST_MOMENT_DB)
        )
        stretches: tuple[tuple[float, float], ...] = m.spans_s
        if kind in (Kind.PLOSIVE, Kind.SIBILANCE):  # how much each needs differs
            start = started(StartName.PLOSIVES if kind is Kind.PLOSIVE else StartName.SIBILANCE)[0]
            assert isinstance(start, DynamicMove)
            if kind is Kind.SIBILANCE:
                start = replace(start, frequency_hz=m.frequency_hz)
            rests = _SIBILANCE_RESTS if kind is Kind.SIBILANCE else RESTS
            move = at_moments(start, self._traced(start), m.spans_s, rests=rests)
            # a pop is like no other sound of a voice; its other sibilants are as loud as some of those that hurt
            stretches = m.spans_s if kind is Kind.SIBILANCE else ()
        confidence = BY_RULE[kind.value if self._role is Role.VOICE else "squeak"]
        finding = Finding(
            kind, m.frequency_hz, m.octaves, round(m.excess_db, 1), confidence, move,
            threshold_db=getattr(move, "threshold_db", round(m.level_db, 1)), stretches=stretches,
            says="" if self._role is Role.VOICE else "Squeaks or shrill notes.",
        )  # fmt: skip
        return self._at_moments(finding, m.spans_s, m.similar)

    def _at_moments(self, finding: Finding, spans_s: tuple[tuple[float, float], ...], similar: float) -> Finding:
        """The finding with its evidence and times."""
        share = sum(b - a for a, b in spans_s) / self._seconds
        whole = self._with_evidence(finding, None, broad=True)
        return replace(
            whole,
            moments=spans_s,
            similar=round(similar, 2),
            worst_s=max(spans_s, key=lambda span: span[1] - span[0])[0],
            share_of_time=round(share, 4),
            takes_db=round(whole.takes_db * share, 2) if finding.stretches else whole.takes_db,
            slope=0.0,
        )

    @property
    def _seconds(self) -> float:
        return max((self._stop - self._start) / self.sample_rate, 1e-9)

    def _add_wolf(self, found: list[Finding]) -> None:
        """A note that beats; what else was said of its place is said by this."""
        wolf = find_wolf(self.spectrum)
        if wolf is None:
            return
        found[:] = [f for f in found if abs(np.log2(f.frequency_hz / wolf.frequency_hz)) > _WOLF_OCT]
        move = StaticMove(
            Shape.BELL, wolf.frequency_hz, q=octaves_to_q(_WOLF_OCT), gain_db=-min(wolf.over_db, _DEEPEST_DB)
        )
        spans = tuple((self.view.time_of(a), self.view.time_of(b)) for a, b in wolf.spans_s)
        finding = Finding(
            Kind.RING, wolf.frequency_hz, _WOLF_OCT, round(wolf.over_db, 1), BY_RULE["wolf"], move,
            threshold_db=round(wolf.level_db, 1), stretches=spans,
            says=f"A wolf note: it beats {wolf.beats_hz:.1f} times a second.",
        )  # fmt: skip
        found.append(self._at_moments(finding, spans, wolf.similar))

    def _hum(self, hum: Hum) -> Finding:
        frequency, over = max(hum.lines, key=lambda line: line[1])
        octaves = 0.06
        confidence = hum.confidence
        move = StaticMove(Shape.BELL, frequency, q=octaves_to_q(octaves), gain_db=-min(over, 12.0))
        finding = Finding(
            Kind.HUM, frequency, octaves, round(over, 1), round(confidence, 3), move,
            harmonic=f"{round(frequency / hum.mains_hz)} × {hum.mains_hz:.0f} Hz mains",
        )  # fmt: skip
        whole = self._with_evidence(finding, None, broad=False)
        return replace(whole, harmonic=finding.harmonic, share_of_time=1.0, slope=0.0)

    def _rumble(self, rumble: Rumble) -> Finding:
        confidence = rumble.confidence
        # what is doubtful is cut where it does no harm if it was the low end of a stroke
        cut_hz = rumble.cut_hz if confidence >= _SURE_RUMBLE else min(rumble.cut_hz, _GENTLY * rumble.plays_from_hz)
        move = StaticMove(Shape.LOW_CUT, cut_hz, slope_db_per_octave=24)
        finding = Finding(
            Kind.RUMBLE, rumble.frequency_hz, 1.0, round(rumble.over_db, 1), round(confidence, 3), move,
            says=f"Nothing is played below {rumble.plays_from_hz:.0f} Hz.",
        )  # fmt: skip
        return replace(self._with_evidence(finding, None, broad=True), slope=0.0, share_of_time=1.0)


def _is_one_of(hz: float, places_hz: Sequence[float]) -> bool:
    return any(abs(np.log2(hz / place)) < SAME_OCT for place in places_hz)


def _steady(decay: Decay, spot: Spot) -> bool:
    """Whether the decays agree on a frequency well within the spot: then it is more exact than the grid's."""
    if decay.frequency_hz <= 0.0 or decay.spread_cents > 6.0:
        return False
    apart = abs(1200.0 * np.log2(decay.frequency_hz / spot.frequency_hz))
    return bool(apart < min(30.0, 400.0 * spot.octaves))


def _worst(seen: SpotTrace) -> float:
    """Where it stands out most while the track is loud enough to be heard."""
    heard = seen.track_db > np.quantile(seen.track_db, 0.4)
    excess = np.where(heard, np.minimum(seen.excess_db, 40.0) + 0.3 * (seen.spot_db - np.max(seen.spot_db)), -np.inf)
    return float(seen.times_s[int(np.argmax(excess))])


def _rounded(values: Floats, digits: int) -> tuple[float, ...]:
    return tuple(np.round(np.asarray(values, dtype=np.float64), digits).tolist())


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
    if samples.shape[0] < _SHORTEST_S * sample_rate:
        return []
    return Search(samples, sample_rate=sample_rate, role=role).findings(most=most, least_confidence=least_confidence)
