"""Putting "Tide Clock" together: nine tracks, the bath house around them, and the planted troubles."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path

import numpy as np
from scipy.signal import butter, fftconvolve, sosfilt

from mivlo.audio.encode import Container, Depth, SoundWriter
from mivlo.core.graph import treat
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.units import Floats, db_to_gain
from mivlo.demo import instruments, score, voice

NAME = "Tide Clock"
SAMPLE_RATE = 48_000
PASSAGE_S = (24.55, 32.73)
"""Bars 10 to 12: everybody plays, the narrator speaks."""
_SEED = 1_871

TRACKS = (
    "Marimba", "Cello", "Trumpet", "Upright bass", "Cajón", "Harmonium", "Narrator", "Room pair", "Shakers",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Trouble:
    """Something planted. Only tests may know of it."""

    track: str
    kind: str
    frequency_hz: float | None = None
    q: float | None = None
    gain_db: float | None = None
    times_s: list[float] = field(default_factory=list)
    note: str = ""


ROOM_RINGS = ((268.0, 38.0, 9.0), (521.0, 45.0, 8.0))
CAJON_RINGS = ((412.0, 34.0, 15.0), (637.0, 30.0, 12.0))
CAJON_BOX = (305.0, 1.1, 6.0)
CELLO_WOLF_HZ = 185.0
HARMONIUM_BOX = (290.0, 1.2, 5.5)
TRUMPET_HARSH = (3150.0, 2.6, 9.0)
WHISTLE_HZ = 5870.0
TRAM_S = ((17.0, 30.0), (50.0, 63.0))


def _bells(x: Floats, bells: tuple[tuple[float, float, float], ...], rate: int) -> Floats:
    moves = [StaticMove(Shape.BELL, f, q=q, gain_db=g) for f, q, g in bells]
    return treat(x[:, None], moves, sample_rate=rate)[:, 0]


def _tram(length: int, rate: int, random: np.random.Generator) -> Floats:
    """Rumble of a tram that passes: noise below 60 Hz that swells, with the beat of the rail joints."""
    noise = sosfilt(butter(2, (22.0, 58.0), btype="bandpass", fs=rate, output="sos"), random.standard_normal(length))
    t = np.arange(length) / rate
    swell = np.zeros(length)
    for start, stop in TRAM_S:
        x = np.clip((t - start) / (stop - start), 0, 1)
        swell += np.sin(np.pi * x) ** 2
    joints = 1.0 + 0.5 * np.maximum(0.0, np.sin(2 * np.pi * 1.7 * t)) ** 8
    out = noise * (0.12 + swell) * joints
    return np.asarray(out / np.max(np.abs(out)))


def _bath_house(rate: int, random: np.random.Generator, seconds: float = 1.9) -> Floats:
    """Impulse response of a tiled room, (n, 2): early echoes, then a dense tail, bright and long."""
    n = int(seconds * rate)
    t = np.arange(n) / rate
    tail = np.zeros((n, 2))
    for low, high, t60 in ((60, 250, 1.7), (250, 1000, 1.9), (1000, 4000, 1.5), (4000, 14000, 0.8)):
        sos = butter(2, (low, high), btype="bandpass", fs=rate, output="sos")
        noise = sosfilt(sos, random.standard_normal((n, 2)), axis=0)
        tail += noise * np.exp(-6.9 * t / t60)[:, None]
    tail *= np.clip(t / 0.03, 0, 1)[:, None] * 0.05
    for delay, gain in (
        (0.0071, 0.5),
        (0.0113, 0.42),
        (0.0172, 0.36),
        (0.0231, 0.3),
        (0.0318, 0.25),
        (0.041, 0.2),
    ):
        for side in range(2):
            tail[int(delay * rate * (1.0 if side else 1.06)), side] += gain * random.uniform(0.7, 1.0)
    return tail


def _narrator_troubles(
    x: Floats, events: list[voice.Event], rate: int, random: np.random.Generator
) -> tuple[Floats, list[Trouble]]:
    """Sharp sibilants, pops and a whistle on some words."""
    out = x.copy()
    sharp = [e for e in events if e.name in ("s", "sh", "z") and e.stressed]
    pops = [e for e in events if e.name in ("p", "b") and e.stressed]
    whistles = [e for e in events if e.name == "s"][::5]
    hiss = sosfilt(butter(2, (5200, 9800), btype="bandpass", fs=rate, output="sos"), random.standard_normal(len(x)))
    scale = float(np.sqrt(np.mean(x**2))) * 3.0
    for e in sharp:
        a, b = int(e.start_s * rate), int(e.end_s * rate)
        out[a:b] += hiss[a:b] * np.hanning(b - a) * scale * 1.1
    for e in pops:
        a = int((e.start_s + 0.55 * (e.end_s - e.start_s)) * rate)
        t = np.arange(int(0.09 * rate)) / rate
        out[a : a + len(t)] += np.sin(2 * np.pi * 62 * t) * np.exp(-t / 0.022) * scale * 2.6
    for e in whistles:
        a, b = int(e.start_s * rate), int(e.end_s * rate)
        t = np.arange(b - a) / rate
        out[a:b] += (
            np.sin(2 * np.pi * WHISTLE_HZ * t + 0.5 * np.sin(2 * np.pi * 30 * t)) * np.hanning(b - a) * scale * 0.75
        )
    troubles = [
        Trouble("Narrator", "sibilance", 7400.0, times_s=[round(e.start_s, 3) for e in sharp]),
        Trouble("Narrator", "plosive", 62.0, times_s=[round(e.start_s, 3) for e in pops]),
        Trouble("Narrator", "whistle", WHISTLE_HZ, times_s=[round(e.start_s, 3) for e in whistles]),
    ]
    return out, troubles


def _played(rate: int, random: np.random.Generator) -> tuple[dict[str, Floats], list[Trouble]]:
    """The eight close tracks as played, without room and rumble, and what was planted in them."""
    n = score.LENGTH_S
    strokes = score.cajon(random)
    cello_notes, trumpet_notes = score.cello(random), score.trumpet(random)
    spoken, events = voice.narrator(n, score.BAR_S, rate, random)
    spoken, troubles = _narrator_troubles(spoken, events, rate, random)
    tracks = {
        "Marimba": instruments.marimba(score.marimba(random), n, rate, random),
        "Cello": instruments.cello(cello_notes, n, rate, random, CELLO_WOLF_HZ),
        "Trumpet": instruments.trumpet(trumpet_notes, n, rate, random, TRUMPET_HARSH),
        "Upright bass": instruments.bass(score.bass(random), n, rate, random),
        "Cajón": _bells(instruments.cajon(strokes, n, rate, random), (*CAJON_RINGS, CAJON_BOX), rate),
        "Harmonium": _bells(instruments.harmonium(score.harmonium(random), n, rate, random), (HARMONIUM_BOX,), rate),
        "Narrator": spoken,
        "Shakers": instruments.shakers(score.shakers(random), n, rate, random),
    }
    wolves = [x.start_s for x in cello_notes if round(x.midi) == 54 and x.strength > 0.62]
    harsh = [x.start_s for x in trumpet_notes if x.strength > 0.8]
    troubles += [Trouble("Cajón", "ring", f, q, g) for f, q, g in CAJON_RINGS]
    troubles += [
        Trouble("Cajón", "boxy", *CAJON_BOX),
        Trouble("Harmonium", "boxy", *HARMONIUM_BOX),
        Trouble("Cello", "wolf", CELLO_WOLF_HZ, times_s=[round(t, 3) for t in wolves], note="loud F sharp only"),
        Trouble("Trumpet", "harsh", *TRUMPET_HARSH, times_s=[round(t, 3) for t in harsh], note="loud notes only"),
        Trouble("Upright bass", "clash", 86.0, note="in the place of the cajón's low strokes"),
        Trouble("Trumpet", "clash", 2500.0, note="over the narrator"),
        Trouble("Harmonium", "clash", 450.0, note="over the narrator"),
    ]
    return tracks, troubles


_LEVEL_DB = {
    "Marimba": -7.0, "Cello": -9.0, "Trumpet": -6.0, "Upright bass": -6.0, "Cajón": -3.0, "Harmonium": -12.0,
    "Narrator": -5.0, "Room pair": -9.0, "Shakers": -14.0,
}  # fmt: skip
_PAN = {"Marimba": -0.4, "Cello": 0.35, "Trumpet": 0.5, "Harmonium": -0.25, "Shakers": 0.6}


def make_song(rate: int = SAMPLE_RATE) -> tuple[dict[str, Floats], list[Trouble]]:
    """All tracks, (n, channels) each, and the list of planted troubles. Always the same."""
    random = np.random.default_rng(_SEED)
    played, troubles = _played(rate, random)
    length = len(played["Marimba"])
    room = _bath_house(rate, random)
    mixed = np.zeros((length, 2))
    for name, x in played.items():
        played[name] = x * (db_to_gain(_LEVEL_DB[name]) / max(float(np.max(np.abs(x))), 1e-9))
        pan = _PAN.get(name, 0.0)
        mixed += played[name][:, None] * np.array([1 - pan, 1 + pan]) * 0.5
    wet = np.stack([fftconvolve(mixed[:, c], room[:, c])[:length] for c in range(2)], axis=1)
    pair = np.stack([_bells(wet[:, c] + 0.25 * mixed[:, c], ROOM_RINGS, rate) for c in range(2)], axis=1)
    pair *= db_to_gain(_LEVEL_DB["Room pair"]) / np.max(np.abs(pair))
    tram = _tram(length, rate, random)
    spill = _bells(wet.mean(axis=1), ROOM_RINGS, rate)
    spill /= np.max(np.abs(spill))
    tracks: dict[str, Floats] = {}
    for name in TRACKS:
        dry = pair if name == "Room pair" else played[name][:, None]
        hiss = random.standard_normal(dry.shape) * db_to_gain(-84.0)
        rumble = tram[:, None] * db_to_gain(random.uniform(-40.0, -30.0))
        bleed = 0.0 if name == "Room pair" else spill[:, None] * db_to_gain(-34.0)
        tracks[name] = dry + hiss + rumble + bleed
        troubles.append(Trouble(name, "rumble", 40.0, times_s=[t for span in TRAM_S for t in span]))
    troubles += [Trouble("Room pair", "ring", f, q, g) for f, q, g in ROOM_RINGS]
    return tracks, troubles


def write_song(folder: Path, say: Callable[[str], None] = lambda text: None) -> list[Path]:
    """Write the nine tracks (24 bit WAV) and `truth.json` into a folder; the paths of the tracks."""
    folder.mkdir(parents=True, exist_ok=True)
    tracks, troubles = make_song()
    paths = []
    for number, (name, x) in enumerate(tracks.items(), 1):
        path = folder / f"{number:02d}_{name.replace(' ', '_')}.wav"
        with SoundWriter(path, SAMPLE_RATE, x.shape[1], Depth.BITS_24, Container.WAV) as writer:
            writer.write(x)
        say(path.name)
        paths.append(path)
    truth = {"song": NAME, "sample_rate": SAMPLE_RATE, "troubles": [asdict(trouble) for trouble in troubles]}
    (folder / "truth.json").write_text(json.dumps(truth, indent=1, ensure_ascii=False))
    return paths
