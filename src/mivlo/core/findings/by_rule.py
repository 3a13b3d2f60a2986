"""What rules find, beside the networks: hum, rumble, moments, loud notes, a wolf, the rings of a room."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from mivlo.core.findings.confidence import BY_RULE
from mivlo.core.findings.decays import measure_decay
from mivlo.core.findings.evidence import SpotTrace
from mivlo.core.findings.finding import Finding, Kind, is_one_of
from mivlo.core.findings.frames import Sound
from mivlo.core.findings.heard import Heard
from mivlo.core.findings.hum import Hum
from mivlo.core.findings.kinds import broad_kind
from mivlo.core.findings.loudness_bound import LoudTrouble, find_loud_trouble
from mivlo.core.findings.moments import Moments, find_plosives, find_sibilance, find_whistles, voice_frames
from mivlo.core.findings.room_rings import RoomRing, find_room_rings
from mivlo.core.findings.rumble import Rumble, find_rumble
from mivlo.core.findings.squeaks import find_squeaks
from mivlo.core.findings.wolf import find_wolf
from mivlo.core.making.starts import StartName, started
from mivlo.core.making.thresholds import RESTS, at_moments, at_share
from mivlo.core.moves import DynamicMove, Move, Shape, StaticMove
from mivlo.core.roles import Role
from mivlo.core.units import octaves_to_q

LEAST_RUMBLE_CONFIDENCE = 0.45
LEAST_ROOM_CONFIDENCE = 0.2
_LISTENED_S = 40.0
"""So much of a room and of all that play into it is listened to, where the room is loudest."""
_GENTLY = 0.4
"""Part of the lowest that is played at which what is doubtful below it is cut."""
_SURE_RUMBLE = 0.7
LOUD_TROUBLE_ROLES = frozenset({Role.VOICE, Role.BRASS, Role.WINDS, Role.STRINGS, Role.GUITAR})
"""What can be driven into harshness while it sounds; what is struck or plucked brightens with each stroke."""
SQUEAK_ROLES = frozenset({Role.GUITAR, Role.BASS, Role.STRINGS, Role.BRASS, Role.WINDS})
"""What squeaks; strokes of drums, mallets and keys, and cymbals, are short and bright by nature."""
_WOLF_OCT = 0.12
_DEEPEST_DB = 6.0
"""Of a move that acts only when something is loud."""
_SIBILANCE_RESTS = 0.99
"""Share of the rest of the time in which a cut of sibilants rests: a voice has many that are as they should be."""
_DEEPEST_MOMENT_DB = 12.0
"""Of a cut that acts at marked moments only: what it takes there it takes nowhere else."""


def with_rules(heard: Heard, spots: Sequence[Finding], hum: Hum | None, others: Sequence[Sound] = ()) -> list[Finding]:
    """What the networks found with all that the rules find, who change some of it.

    hum : where it was found. others : of a room, what the other tracks play.
    """
    found = list(spots)
    if hum is not None:
        found.append(_hum(heard, hum))
    if heard.role in LOUD_TROUBLE_ROLES:
        trouble = find_loud_trouble(heard.view)
        if trouble is not None:
            _add_loud(heard, found, trouble)
    found += _moments(heard)
    if heard.role is Role.STRINGS:
        _add_wolf(heard, found)
    if heard.role is Role.ROOM:
        _add_room_rings(heard, found, others)
    rumble = find_rumble(heard.view, heard.role)
    if rumble is not None and rumble.confidence >= LEAST_RUMBLE_CONFIDENCE:
        found.append(_rumble(heard, rumble))
    return found


def _add_loud(heard: Heard, found: list[Finding], trouble: LoudTrouble) -> None:
    """A range that hurts on loud notes; a finding that is there already is told to grow with the level."""
    for i, other in enumerate(found):
        wide = max(other.bandwidth_oct, trouble.octaves) / 2.0
        if abs(np.log2(other.frequency_hz / trouble.frequency_hz)) < wide and other.bandwidth_oct >= 0.3:
            static = other.move
            assert isinstance(static, StaticMove)
            move = _over(heard, static.frequency_hz, static.q, max(static.gain_db, -_DEEPEST_DB), trouble.share)
            found[i] = replace(
                other, slope=round(trouble.slope, 2), threshold_db=move.threshold_db, move=move,
                takes_db=round(_takes_while(heard, move, other, trouble.share), 2),
            )  # fmt: skip
            return
    depth = min(trouble.more_db, _DEEPEST_DB)
    move = _over(heard, trouble.frequency_hz, octaves_to_q(trouble.octaves), -depth, trouble.share)
    kind = broad_kind(trouble.frequency_hz, heard.role)
    finding = Finding(
        kind, trouble.frequency_hz, trouble.octaves, round(trouble.more_db, 1), BY_RULE["loud notes"], move,
        threshold_db=move.threshold_db,
    )  # fmt: skip
    whole = heard.told(finding, None, broad=True)
    found.append(replace(whole, slope=round(trouble.slope, 2), share_of_time=round(trouble.share, 3)))


def _over(heard: Heard, frequency_hz: float, q: float, range_db: float, share: float) -> DynamicMove:
    """A bell that acts over the level that is reached in this share of the time."""
    (start,) = started(StartName.LOUD_NOTES, frequency_hz=frequency_hz, q=q)
    assert isinstance(start, DynamicMove)
    move = replace(start, range_db=range_db)
    return at_share(move, heard.traced(move), share, of_sounding=True)


def _takes_while(heard: Heard, move: DynamicMove, finding: Finding, share: float) -> float:
    """What a move takes from the rest that acts in a share of the time, as a change of level in dB."""
    full = heard.takes(move, finding.frequency_hz, finding.bandwidth_oct)
    return float(10.0 * np.log10(1.0 - share + share * 10.0 ** (full / 10.0)))


def _moments(heard: Heard) -> list[Finding]:
    place = (heard.sound, heard.start, heard.stop)
    found: list[tuple[Kind, Moments | None]] = []
    if heard.role is Role.VOICE:
        frames = voice_frames(*place, sample_rate=heard.sample_rate)
        found += [
            (Kind.SIBILANCE, find_sibilance(frames)),
            (Kind.PLOSIVE, find_plosives(frames)),
            (Kind.WHISTLE, find_whistles(frames)),
        ]
    elif heard.role in SQUEAK_ROLES:
        found.append((Kind.WHISTLE, find_squeaks(*place, sample_rate=heard.sample_rate)))
    return [_moment(heard, kind, m) for kind, m in found if m is not None and m.frequency_hz < heard.highest_hz]


def _moment(heard: Heard, kind: Kind, m: Moments) -> Finding:
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
        move = at_moments(start, heard.traced(start), m.spans_s, rests=rests)
        # a pop is like no other sound of a voice; its other sibilants are as loud as some of those that hurt
        stretches = m.spans_s if kind is Kind.SIBILANCE else ()
    confidence = BY_RULE[kind.value if heard.role is Role.VOICE else "squeak"]
    finding = Finding(
        kind, m.frequency_hz, m.octaves, round(m.excess_db, 1), confidence, move,
        threshold_db=getattr(move, "threshold_db", round(m.level_db, 1)), stretches=stretches,
        says="" if heard.role is Role.VOICE else "Squeaks or shrill notes.",
    )  # fmt: skip
    return _at_moments(heard, finding, m.spans_s, m.similar)


def _at_moments(heard: Heard, finding: Finding, spans_s: tuple[tuple[float, float], ...], similar: float) -> Finding:
    """The finding with its evidence and times."""
    share = sum(b - a for a, b in spans_s) / heard.seconds
    whole = heard.told(finding, None, broad=True)
    return replace(
        whole,
        moments=spans_s,
        similar=round(similar, 2),
        worst_s=max(spans_s, key=lambda span: span[1] - span[0])[0],
        share_of_time=round(share, 4),
        takes_db=round(whole.takes_db * share, 2) if finding.stretches else whole.takes_db,
        slope=0.0,
    )


def _add_wolf(heard: Heard, found: list[Finding]) -> None:
    """A note that beats; what else was said of its place is said by this."""
    wolf = find_wolf(heard.spectrum)
    if wolf is None:
        return
    found[:] = [f for f in found if abs(np.log2(f.frequency_hz / wolf.frequency_hz)) > _WOLF_OCT]
    move = StaticMove(Shape.BELL, wolf.frequency_hz, q=octaves_to_q(_WOLF_OCT), gain_db=-min(wolf.over_db, _DEEPEST_DB))
    spans = tuple((heard.view.time_of(a), heard.view.time_of(b)) for a, b in wolf.spans_s)
    finding = Finding(
        Kind.RING, wolf.frequency_hz, _WOLF_OCT, round(wolf.over_db, 1), BY_RULE["wolf"], move,
        threshold_db=round(wolf.level_db, 1), stretches=spans,
        says=f"A wolf note: it beats {wolf.beats_hz:.1f} times a second.",
    )  # fmt: skip
    found.append(_at_moments(heard, finding, spans, wolf.similar))


def _add_room_rings(heard: Heard, found: list[Finding], others: Sequence[Sound]) -> None:
    """What stays in a room whatever is played; where the networks are surer of a ring, it stays their finding."""
    start, stop = heard.loudest(_LISTENED_S)
    for ring in find_room_rings(heard.sound, others, sample_rate=heard.sample_rate, start=start, stop=stop):
        if ring.confidence < LEAST_ROOM_CONFIDENCE or ring.frequency_hz > heard.highest_hz:
            continue
        same = [f for f in found if f.kind is Kind.RING and is_one_of(f.frequency_hz, [ring.frequency_hz])]
        surer = max(same, key=lambda f: f.confidence, default=None)
        if surer is not None and surer.confidence > ring.confidence:
            told = replace(surer, says=_of_room(ring))
        else:
            told = _room_ring(heard, ring)
        found[:] = [*(f for f in found if f not in same), told]


def _room_ring(heard: Heard, ring: RoomRing) -> Finding:
    place = ring.place
    finding = Finding(
        Kind.RING, ring.frequency_hz, ring.octaves, round(place.over_db, 1), round(ring.confidence, 3), ring.cut,
        says=_of_room(ring),
    )  # fmt: skip
    level = np.interp(place.times_s, heard.view.times_s[-1], heard.view.track_db)
    seen = SpotTrace(place.times_s, place.here_db, place.expected_db, level)
    decay = measure_decay(heard.spectrum, ring.frequency_hz, ring.octaves)
    return replace(heard.told(finding, decay, broad=False, seen=seen), slope=0.0)


def _of_room(ring: RoomRing) -> str:
    return f"It stands {ring.place.over_db:.0f} dB over what the other tracks play into this room, whatever they play."


def _hum(heard: Heard, hum: Hum) -> Finding:
    frequency, over = max(hum.lines, key=lambda line: line[1])
    octaves = 0.06
    confidence = hum.confidence
    move = StaticMove(Shape.BELL, frequency, q=octaves_to_q(octaves), gain_db=-min(over, 12.0))
    finding = Finding(
        Kind.HUM, frequency, octaves, round(over, 1), round(confidence, 3), move,
        harmonic=f"{round(frequency / hum.mains_hz)} × {hum.mains_hz:.0f} Hz mains",
    )  # fmt: skip
    whole = heard.told(finding, None, broad=False)
    return replace(whole, harmonic=finding.harmonic, share_of_time=1.0, slope=0.0)


def _rumble(heard: Heard, rumble: Rumble) -> Finding:
    confidence = rumble.confidence
    # what is doubtful is cut where it does no harm if it was the low end of a stroke
    cut_hz = rumble.cut_hz if confidence >= _SURE_RUMBLE else min(rumble.cut_hz, _GENTLY * rumble.plays_from_hz)
    move = StaticMove(Shape.LOW_CUT, cut_hz, slope_db_per_octave=24)
    finding = Finding(
        Kind.RUMBLE, rumble.frequency_hz, 1.0, round(rumble.over_db, 1), round(confidence, 3), move,
        says=f"Nothing is played below {rumble.plays_from_hz:.0f} Hz.",
    )  # fmt: skip
    return replace(heard.told(finding, None, broad=True), slope=0.0, share_of_time=1.0)
