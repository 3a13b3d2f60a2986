"""What speaks for and against a spot, beside how certain the networks are: a handful of numbers with a meaning.

A resonance of a given width rings no longer than that width says, whatever excites it; what rings on longer than it and
than its surroundings is a line: a note that is played, or the instrument's own tone. A line holds the power of its band
in a hertz or two. Networks that saw many instruments disagree where a sound is like none of them.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np
from scipy.special import expit, logit

from mivlo.core.findings.contours import contour_of
from mivlo.core.findings.cuts import LEAST_CENTRE, LEAST_HUMP_CENTRE, Spot
from mivlo.core.findings.decays import NARROWEST_OCT, Decay, WholeSpectrum, measure_decay, own_ring_ms
from mivlo.core.findings.evidence import SpotTrace
from mivlo.core.findings.frames import finding_grid
from mivlo.core.findings.network import Reading, in_the_mean
from mivlo.core.spectra import Singles, nearest_point
from mivlo.core.units import Floats

Witnesses = Mapping[str, float]
"""By name; NaN where there was nothing to be heard. What is not asked of a track of its kind is not there."""

KINDS = ("of_notes", "of_strokes")
"""Of tracks: notes, whose partials stand over what is between them, or strokes, noise and speech."""
NOTES_FROM_DB = 13.0
"""A track is one of notes where its partials stand so far over the valleys, in the middle."""
BY_KIND = ("line_share", "ring_over_width", "ring_over_neighbours", "ring_spread_cents", "with_surroundings")
"""What means one thing among notes and another among strokes: a line is a partial there and a drum's own tone here."""
NARROW = (
    "certainty", "closer_certainty", "disagreement", "height_db", "boost_db", "boost_disagreement_db", "left_certainty",
    "left_boost_db", "crowd", "surest_other", *(f"{name}_{kind}" for kind in KINDS for name in BY_KIND), "with_level",
    "strokes_db", "partials_db",
)  # fmt: skip
BROAD = (
    "certainty", "disagreement", "height_db", "boost_db", "boost_disagreement_db", "left_certainty", "left_boost_db",
    "crowd", "surest_other", "envelope_db", "valley_db", "octaves", "place_oct", "strokes_db", "partials_db",
)  # fmt: skip
MEANINGS = {
    "certainty": "how certain the networks are of a centre, as log-odds; of a narrow one those of the usual look",
    "closer_certainty": "of a narrow one, how certain those are that read the closer look",
    "disagreement": "how far they are all apart in that",
    "height_db": "height of the bell that was fitted",
    "boost_db": "boost that they expect at the place",
    "boost_disagreement_db": "how far they are apart in that",
    "left_certainty": "how certain they are of a centre there once all spots are cut by half of their height",
    "left_boost_db": "boost that they expect there then",
    "crowd": "sum of the certainties of all other spots of the track",
    "surest_other": "how certain the networks are, in the mean, of the surest of them",
    "line_share": "share of the band's power within 1.5 Hz: 1 is a line",
    "ring_over_width": "ring time over that of a filter of its width, in octaves of time",
    "ring_over_neighbours": "ring time over that of the bands beside it, or of its width where that is longer",
    "ring_spread_cents": "how far single decays lie from their middle",
    "with_surroundings": "correlation of its level with that of its surroundings, over time",
    "with_level": "correlation of how far it stands out with the level of the track, over time",
    "envelope_db": "level over the line between both sides",
    "valley_db": "how far what lies between the partials is lifted",
    "octaves": "width, as octaves over one",
    "place_oct": "place, as octaves over 800 Hz",
    "strokes_db": "of the whole track: how far the mean power of a band stands over its usual level",
    "partials_db": "of the whole track: how far partials stand over the valleys between them",
}
MEANINGS |= {
    f"{name}_{kind}": f"in a track {kind.replace('_', ' ')}: {MEANINGS[name]}" for kind in KINDS for name in BY_KIND
}
_NEAR_NARROW, _NEAR_BROAD = 2, 6
_BESIDE = (-2.2, -1.2, 1.2, 2.2)
_LINE_HZ = 1.5
_NONE = float(logit(min(LEAST_CENTRE, LEAST_HUMP_CENTRE)))
"""What is less certain is no spot."""
_HEARD_DB = 50.0
"""What lies further below the loudest band says nothing of the track."""


def of_networks(spot: Spot, reading: Reading, tried: Reading) -> dict[str, float]:
    """What the networks say, each by itself: their mean, how far they are apart, and what is left after a cut."""
    at = nearest_point(finding_grid(), spot.frequency_hz)
    near = _NEAR_BROAD if spot.broad else _NEAR_NARROW

    def centre(said: Reading) -> Floats:
        every = said.each_hump_centre if spot.broad else said.each_centre
        return np.asarray(np.max(every[:, max(0, at - near) : at + near + 1], axis=1))

    logits, left = centre(reading), centre(tried)
    boosts, left_db = ((said.each_hump_db if spot.broad else said.each_boost_db)[:, at] for said in (reading, tried))

    def of_all(values: Floats) -> float:
        return float(in_the_mean(values, reading.closer))

    apart, usual = not spot.broad and reading.closer > 0, len(logits) - reading.closer
    return {
        "certainty": float(np.mean(logits[:usual])) if apart else of_all(logits),
        "closer_certainty": float(np.mean(logits[usual:])) if apart else math.nan,
        "disagreement": _spread(logits),
        "height_db": spot.gain_db,
        "boost_db": of_all(boosts),
        "boost_disagreement_db": _spread(boosts),
        "left_certainty": of_all(left),
        "left_boost_db": of_all(left_db),
    }


def with_crowd(every: Sequence[dict[str, float]]) -> list[dict[str, float]]:
    """The witnesses of all spots of a track, each with how much else seems to stand out there.

    A track in which a great deal does has a colour of its own; one in which something surely is a trouble is more
    likely to have another.
    """
    shares = [float(expit(heard["certainty"])) for heard in every]
    certain = [_certainty(heard) for heard in every]
    return [
        {**heard, "crowd": sum(shares) - shares[i], "surest_other": max([*certain[:i], *certain[i + 1 :], _NONE])}
        for i, heard in enumerate(every)
    ]


def _certainty(heard: Witnesses) -> float:
    """Of all networks in the mean."""
    usual, closer = heard["certainty"], heard["closer_certainty"]
    return usual if math.isnan(closer) else float(in_the_mean(np.array([usual, closer]), 1))


def by_kind(heard: Witnesses) -> dict[str, float]:
    """What is heard of a spot, with BY_KIND under the name of the track's kind."""
    kind = KINDS[0] if heard["partials_db"] >= NOTES_FROM_DB else KINDS[1]
    return {f"{name}_{kind}" if name in BY_KIND else name: value for name, value in heard.items()}


def of_track(contours: Singles) -> dict[str, float]:
    """What the whole track is like, whatever spot is asked for: struck or steady, noise or notes."""
    power, usual, ridge, valley = (contour_of(contours, n) for n in ("mean_power", "quantile_0.5", "ridge", "valley"))
    heard = power > np.max(power) - _HEARD_DB
    return {
        "strokes_db": float(np.median((power - usual)[heard])),
        "partials_db": float(np.median((ridge - valley)[heard])),
    }


def narrow_witnesses(
    spot: Spot,
    reading: Reading,
    tried: Reading,
    spectrum: WholeSpectrum,
    decay: Decay | None,
    seen: SpotTrace,
    highest_hz: float,
) -> dict[str, float]:
    """All of NARROW but the crowd and what is said of the track; `decay` and `seen` are the spot's own."""
    own = own_ring_ms(spot.frequency_hz, spot.octaves)
    ring = math.nan if decay is None else 1000.0 * decay.ring_s
    step = max(spot.octaves, NARROWEST_OCT)
    places = [spot.frequency_hz * 2.0 ** (by * step) for by in _BESIDE]
    beside = [measure_decay(spectrum, f, spot.octaves) for f in places if 40.0 < f < highest_hz]
    rings = [1000.0 * d.ring_s for d in beside if d is not None]
    usual = max(own, float(np.median(rings))) if rings else math.nan
    return {
        **of_networks(spot, reading, tried),
        "line_share": spectrum.line_share(spot.frequency_hz, spot.octaves, _LINE_HZ),
        "ring_over_width": math.log2(ring / own),
        "ring_over_neighbours": math.log2(ring / usual),
        "ring_spread_cents": math.nan if decay is None else decay.spread_cents,
        "with_surroundings": _together(seen.spot_db, seen.around_db),
        "with_level": seen.slope()[1],
    }


def broad_witnesses(
    spot: Spot, reading: Reading, tried: Reading, contours: Singles, seen: SpotTrace
) -> dict[str, float]:
    """All of BROAD but the crowd and what is said of the track; `seen` is the spot against its envelope."""
    away = np.abs(np.log2(finding_grid() / spot.frequency_hz))
    half = spot.octaves / 2.0
    valley = contour_of(contours, "long_valley")
    beside = (away > 1.3 * half) & (away <= 3.0 * half)
    lifted = np.mean(valley[away <= half / 2.0]) - np.mean(valley[beside]) if beside.any() else math.nan
    return {
        **of_networks(spot, reading, tried),
        "envelope_db": float(np.median(seen.excess_db)),
        "valley_db": float(lifted),
        "octaves": math.log2(spot.octaves),
        "place_oct": math.log2(spot.frequency_hz / 800.0),
    }


def _spread(values: Floats) -> float:
    return float(np.std(values, ddof=1)) if len(values) > 1 else 0.0


def _together(a: Floats, b: Floats) -> float:
    if np.std(a) < 0.1 or np.std(b) < 0.1:
        return 0.0
    return float(np.corrcoef(a, b)[0, 1])
