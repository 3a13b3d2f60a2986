"""The demo song: nine tracks, always the same, and every planted trouble is really there."""

from __future__ import annotations

import numpy as np
from scipy import signal

from mivlo.core import long_term_levels
from mivlo.core.units import Floats
from mivlo.demo import instruments, score, song, voice

RATE = song.SAMPLE_RATE
Made = tuple[dict[str, Floats], list[song.Trouble]]


def _band(x: Floats, low: float, high: float) -> Floats:
    return np.asarray(signal.sosfilt(signal.butter(4, (low, high), "bandpass", fs=RATE, output="sos"), x[:, 0]))


def _rms(x: Floats, start_s: float, seconds: float) -> float:
    return float(np.sqrt(np.mean(x[int(start_s * RATE) : int((start_s + seconds) * RATE)] ** 2)) + 1e-12)


def _troubles(made: Made, track: str, kind: str) -> list[song.Trouble]:
    return [t for t in made[1] if (t.track, t.kind) == (track, kind)]


def test_there_are_nine_tracks_of_one_length(made: Made) -> None:
    tracks = made[0]
    assert list(tracks) == [
        "Marimba", "Cello", "Trumpet", "Upright bass", "Cajón", "Harmonium", "Narrator", "Room pair", "Shakers",
    ]  # fmt: skip
    assert {len(x) for x in tracks.values()} == {int(score.LENGTH_S * RATE)}
    assert 60 <= score.LENGTH_S <= 90
    assert tracks["Room pair"].shape[1] == 2
    for name, x in tracks.items():
        assert np.all(np.isfinite(x)), name
        assert 0.05 < np.max(np.abs(x)) < 1.0, name


def test_the_same_seed_gives_the_same_samples() -> None:
    def once() -> Floats:
        random = np.random.default_rng(1)
        return instruments.cajon(score.cajon(random)[:20], 8.0, RATE, random)

    assert np.array_equal(once(), once())


def test_the_shells_rings_stand_out_at_their_frequency(made: Made) -> None:
    rings = _troubles(made, "Cajón", "ring")
    assert len(rings) == 2
    for ring in rings:
        assert ring.frequency_hz is not None
        around = ring.frequency_hz * 2.0 ** np.array([-0.14, 0.0, 0.14])
        below, at, above = long_term_levels(made[0]["Cajón"], around, sample_rate=RATE, bands_per_octave=24)
        assert at - max(below, above) > 3, ring


def test_the_wolf_howls_on_loud_notes_only(made: Made) -> None:
    band = _band(made[0]["Cello"], 175, 195)
    loud = _troubles(made, "Cello", "wolf")[0].times_s
    notes = [n for n in score.cello(_random_before_cello()) if round(n.midi) == 54]
    assert loud
    assert len(notes) > len(loud)
    soft = [n.start_s for n in notes if n.strength < 0.5]

    # a howl beats about six times a second: its level moves within the note far more than a soft note's
    def swing(start: float) -> float:
        steps = [_rms(band, start + 0.4 + 0.02 * k, 0.02) for k in range(30)]
        return float(np.std(20 * np.log10(steps)))

    assert np.median([swing(t) for t in loud]) > 2 * np.median([swing(t) for t in soft])


def _random_before_cello() -> np.random.Generator:
    """The generator as the song has it when it comes to the cello's notes."""
    random = np.random.default_rng(song._SEED)
    score.cajon(random)
    return random


def test_the_trumpet_is_harsh_on_loud_notes_only(made: Made) -> None:
    x = made[0]["Trumpet"]
    harsh, rest = _band(x, 2_700, 3_600), _band(x, 500, 1_500)
    loud = _troubles(made, "Trumpet", "harsh")[0].times_s

    def ratio(start: float) -> float:
        return 20 * float(np.log10(_rms(harsh, start + 0.1, 0.2) / _rms(rest, start + 0.1, 0.2)))

    soft_start = 6 * score.BAR_S  # the first call is soft
    assert np.median([ratio(t) for t in loud]) > ratio(soft_start) + 12


def test_sibilants_plosives_and_whistles_are_where_the_list_says(made: Made) -> None:
    x = made[0]["Narrator"]
    for kind, low, high, more in (
        ("sibilance", 5_500, 9_500, 10),
        ("plosive", 45, 90, 10),
        ("whistle", 5_700, 6_050, 10),
    ):
        band = _band(x, low, high)
        times = _troubles(made, "Narrator", kind)[0].times_s
        assert len(times) >= 5
        usual = float(np.median([_rms(band, t, 0.1) for t in np.arange(3.0, 70.0, 0.37)]))
        found = np.median([_rms(band, t, 0.12) for t in times])
        assert 20 * np.log10(found / usual) > more, kind


def test_the_voice_has_formants(made: Made) -> None:
    # Peterson & Barney 1952 (from memory): /iy/ has its second formant near 2.3 kHz, /aa/ near 1.1 kHz
    random = np.random.default_rng(5)
    x, events = voice.narrator(score.LENGTH_S, score.BAR_S, RATE, random)
    levels = {}
    for name in ("iy", "aa"):
        parts = [x[int((e.start_s + 0.02) * RATE) : int((e.end_s - 0.02) * RATE)] for e in events if e.name == name]
        joined = np.concatenate(parts)[:, None]
        levels[name] = long_term_levels(joined, [1_100.0, 2_300.0], sample_rate=RATE, bands_per_octave=2)
    assert levels["iy"][1] - levels["iy"][0] > levels["aa"][1] - levels["aa"][0] + 10


def test_the_tram_rumbles_in_every_track(made: Made) -> None:
    start, stop = song.TRAM_S[0]
    middle = (start + stop) / 2 - 1.0
    for name, x in made[0].items():
        if name in ("Upright bass", "Cajón", "Room pair"):  # these play there too
            continue
        band = _band(x, 24, 50)
        assert _rms(band, middle, 2.0) > 3 * _rms(band, 0.2, 0.6), name
