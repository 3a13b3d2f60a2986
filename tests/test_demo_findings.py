"""What is found of the troubles that were planted in the demo song, by its truth file."""

from __future__ import annotations

import numpy as np
import pytest

from mivlo.core import cents_between
from mivlo.core.findings import Finding, Kind, Search, find
from mivlo.core.moves import DynamicMove, StaticMove
from mivlo.core.roles import Role
from mivlo.core.units import Floats, q_to_octaves
from mivlo.demo import song

RATE = song.SAMPLE_RATE
Made = tuple[dict[str, Floats], list[song.Trouble]]
ROLES = {
    "Narrator": "voice",
    "Trumpet": "brass",
    "Cello": "strings",
    "Marimba": "mallets",
    "Harmonium": "keys",
    "Cajón": "percussion",
}


def _found(made: Made, track: str) -> list[Finding]:
    return find(made[0][track], sample_rate=RATE, role=ROLES.get(track))


def _of(findings: list[Finding], kind: Kind) -> Finding:
    return next(f for f in findings if f.kind == kind)


def _planted(made: Made, track: str, kind: str) -> list[song.Trouble]:
    return [t for t in made[1] if (t.track, t.kind) == (track, kind)]


def _hit(times: list[float], spans: tuple[tuple[float, float], ...], within_s: float) -> float:
    """Share of the planted times that lie in a span, or so near."""
    return float(np.mean([any(a - within_s <= t <= b + within_s for a, b in spans) for t in times]))


def test_the_rings_of_the_cajons_shell_are_found_to_10_cents_and_as_narrow_as_they_are(made: Made) -> None:
    search = Search(made[0]["Cajón"], sample_rate=RATE, role=Role(ROLES["Cajón"]))
    found = search.findings()
    # the lower one rings so long that it is told as a tone of the shell's own
    rings = [f for f in [*found, *search.own_tones(found)] if f.kind in (Kind.RING, Kind.OWN_TONE)]
    for planted in _planted(made, "Cajón", "ring"):
        assert planted.frequency_hz is not None
        assert planted.q is not None
        nearest = min(rings, key=lambda f: abs(cents_between(planted.frequency_hz or 0.0, f.frequency_hz)))
        assert abs(cents_between(planted.frequency_hz, nearest.frequency_hz)) < 10
        assert 0.6 < nearest.bandwidth_oct / q_to_octaves(planted.q) < 1.7
    # between strokes the others are louder than the shell: that hides nothing of what the strokes say
    surest = max((f for f in found if f.kind is Kind.RING), key=lambda f: f.confidence)
    assert surest.confidence > 0.5
    assert isinstance(surest.move, StaticMove)
    assert surest.move.gain_db < -6.0


def test_with_the_song_at_hand_both_rings_of_the_cajon_are_told_and_cut_and_nothing_else(made: Made) -> None:
    """Between its strokes the others are louder than the shell: whose a moment is, their tracks say."""
    others = [x for name, x in made[0].items() if name not in ("Cajón", "Room pair")]
    search = Search(made[0]["Cajón"], sample_rate=RATE, role=Role.PERCUSSION, others=others)
    found = search.findings()
    rings = [f for f in found if f.kind is Kind.RING]
    planted = _planted(made, "Cajón", "ring")
    assert len(rings) == len(planted) == 2
    for trouble in planted:
        assert trouble.frequency_hz is not None
        ring = min(rings, key=lambda f: abs(cents_between(trouble.frequency_hz or 0.0, f.frequency_hz)))
        assert abs(cents_between(trouble.frequency_hz, ring.frequency_hz)) < 10
        assert ring.confidence > 0.5
        assert isinstance(ring.move, StaticMove)
        assert ring.move.gain_db < -6.0
        assert "over the others" in ring.says
    assert max(f.confidence for f in rings) > 0.9
    # where something surely is a trouble, the boxiness is told as well, though nobody is sure of it
    (boxy,) = _planted(made, "Cajón", "boxy")
    assert boxy.frequency_hz is not None
    assert boxy.q is not None
    assert abs(np.log2(_of(found, Kind.BOX).frequency_hz / boxy.frequency_hz)) < q_to_octaves(boxy.q) / 2.0


def test_the_rings_of_the_room_pair_are_told_by_what_the_others_play(made: Made) -> None:
    """They lie among the partials of everybody's notes: from the pair alone neither is told."""
    pair, others = made[0]["Room pair"], [x for name, x in made[0].items() if name != "Room pair"]
    found = Search(pair, sample_rate=RATE, role=Role.ROOM, others=others).findings()
    rings = [f for f in found if f.kind is Kind.RING]
    for planted in _planted(made, "Room pair", "ring"):
        assert planted.frequency_hz is not None
        ring = min(rings, key=lambda f: abs(cents_between(planted.frequency_hz or 0.0, f.frequency_hz)))
        assert abs(cents_between(planted.frequency_hz, ring.frequency_hz)) < 25
        assert ring.confidence > 0.5
        assert ring.share_of_time > 0.6
        assert isinstance(ring.move, StaticMove)
        assert ring.move.gain_db < -2.0
    assert len(rings) == 2


@pytest.mark.parametrize(
    ("kind", "share", "cents"), [(Kind.WHISTLE, 1.0, 20), (Kind.PLOSIVE, 1.0, 400), (Kind.SIBILANCE, 0.8, 500)]
)
def test_the_narrators_moments_are_found_with_their_times(made: Made, kind: Kind, share: float, cents: float) -> None:
    finding = _of(_found(made, "Narrator"), kind)
    planted = _planted(made, "Narrator", str(kind))[0]
    assert planted.frequency_hz is not None
    assert _hit(planted.times_s, finding.moments, 0.12) >= share
    assert abs(cents_between(planted.frequency_hz, finding.frequency_hz)) < cents
    assert finding.threshold_db is not None
    if kind is Kind.WHISTLE:  # at one place on a few words: a deep cut there takes nothing from the rest
        assert finding.stretches == finding.moments
        assert isinstance(finding.move, StaticMove)
        assert finding.move.gain_db < -6.0
    else:
        assert isinstance(finding.move, DynamicMove)
        assert finding.move.threshold_db == finding.threshold_db


def test_the_trumpet_is_harsh_on_loud_notes(made: Made) -> None:
    finding = _of(_found(made, "Trumpet"), Kind.HARSH)
    planted = _planted(made, "Trumpet", "harsh")[0]
    assert planted.frequency_hz is not None
    assert abs(np.log2(finding.frequency_hz / planted.frequency_hz)) < 1 / 4
    assert finding.slope > 0.5
    assert finding.threshold_db is not None
    assert isinstance(finding.move, DynamicMove)
    assert -60 < finding.move.threshold_db < 0
    assert finding.share_of_time < 0.6


def test_the_cellos_wolf_note_is_found_where_it_beats(made: Made) -> None:
    finding = next(f for f in _found(made, "Cello") if f.moments)
    planted = _planted(made, "Cello", "wolf")[0]
    assert planted.frequency_hz is not None
    assert abs(cents_between(planted.frequency_hz, finding.frequency_hz)) < 25
    assert _hit([t + 0.5 for t in planted.times_s], finding.moments, 0.1) == 1.0
    assert len(finding.moments) == len(planted.times_s)
    assert "wolf note" in finding.says


LOWEST_PLAYED_HZ = {"Upright bass": 41.2, "Cajón": 80.0, "Cello": 110.0}
"""E1 of the bass, the board of the cajón and the lowest note in the score of the cello; the others play higher."""


@pytest.mark.parametrize("track", song.TRACKS)
def test_the_trams_rumble_is_found_in_every_track_and_cut_below_what_is_played(made: Made, track: str) -> None:
    finding = _of(_found(made, track), Kind.RUMBLE)
    assert 22 <= finding.frequency_hz <= 62
    assert finding.move.frequency_hz <= min(80.0, LOWEST_PLAYED_HZ.get(track, 80.0))
    assert finding.confidence > 0.6


def test_the_shakers_which_nobody_touched_have_nothing_sure_but_the_tram(made: Made) -> None:
    assert [f for f in _found(made, "Shakers") if f.confidence > 0.6 and f.kind is not Kind.RUMBLE] == []
