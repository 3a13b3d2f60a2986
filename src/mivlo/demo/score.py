"""Who plays what and when: 28 bars of four beats in B minor at 88 beats a minute."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

BEAT_S = 60.0 / 88.0
BAR_S = 4 * BEAT_S
BARS = 28
LENGTH_S = BARS * BAR_S + 2.6  # the last sound rings out

# root (MIDI, low octave), chord tones above it in semitones
_CHORDS = {
    "Bm": (47, (0, 3, 7)),
    "G": (43, (0, 4, 7)),
    "D": (50, (0, 4, 7)),
    "A": (45, (0, 4, 7)),
    "Em": (40, (0, 3, 7)),
    "F#": (42, (0, 4, 7)),
}
_PLAN = (
    "Bm", "Bm", "G", "D", "Em", "Bm", "F#", "Bm",
    "G", "D", "A", "Bm", "G", "D", "Em", "F#",
    "Bm", "G", "D", "A", "Em", "Bm", "F#", "Bm",
    "G", "A", "Bm", "Bm",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Note:
    """Start and length in seconds, MIDI number, strength between 0 and 1."""

    start_s: float
    length_s: float
    midi: float
    strength: float


def _chord(bar: int) -> tuple[int, tuple[int, ...]]:
    return _CHORDS[_PLAN[bar % len(_PLAN)]]


def _swell(bar: int) -> float:
    """The song's dynamics: 0.4 to 1 over its bars."""
    return float(np.interp(bar, [0, 6, 10, 14, 20, 24, 28], [0.45, 0.65, 0.95, 0.7, 1.0, 0.75, 0.4]))


def _near(midi: int, low: int) -> int:
    """The same note name within the octave that begins at `low`."""
    return low + (midi - low) % 12


def marimba(random: np.random.Generator) -> list[Note]:
    """Broken chords in eighths, a roll now and then."""
    notes = []
    pattern = (0, 2, 1, 2, 0, 1, 2, 1)
    for bar in range(BARS):
        root, tones = _chord(bar)
        pool = sorted(_near(root + t, 60) for t in tones) + [_near(root, 60) + 12]
        for i, step in enumerate(pattern):
            if bar % 4 == 3 and i >= 6:
                continue
            midi = pool[(step + (bar // 2) % 2) % len(pool)]
            strength = _swell(bar) * (0.95 if i % 4 == 0 else 0.6) * random.uniform(0.8, 1.05)
            late = random.normal(0, 0.004)
            notes.append(Note(bar * BAR_S + i * BEAT_S / 2 + late + 0.01, 1.5, midi, strength))
        if bar % 8 == 7:
            for k in range(12):
                notes.append(Note(bar * BAR_S + 3 * BEAT_S + k * BEAT_S / 12, 0.6, pool[-1], 0.3 + 0.04 * k))
    return notes


def cello(random: np.random.Generator) -> list[Note]:
    """Long lines; the F sharp below middle C comes softly and loudly."""
    line = {
        0: (59, 54),
        1: (54, 50),
        2: (55, 50),
        3: (50, 54),
        4: (52, 55),
        5: (54, 47),
        6: (54, 49),
        7: (47, 54),
    }
    notes = []
    for bar in range(2, BARS):
        loud = 0.4 + 0.6 * (bar % 5 in (2, 3))
        for half, midi in enumerate(line[bar % 8]):
            start = bar * BAR_S + half * 2 * BEAT_S + random.normal(0, 0.008)
            strength = min(1.0, _swell(bar) * loud * random.uniform(0.9, 1.1))
            notes.append(Note(start, 2 * BEAT_S * 0.97, midi, strength))
    return notes


def trumpet(random: np.random.Generator) -> list[Note]:
    """Short calls, soft and loud, from bar 6 on."""
    figures = ((66, 1.0), (69, 0.5), (71, 1.5), (74, 1.0)), ((71, 0.5), (69, 0.5), (66, 2.0)), (
        (62, 1.0), (64, 1.0), (66, 0.5), (71, 1.5),
    )  # fmt: skip
    notes = []
    for index, bar in enumerate(range(6, BARS - 1, 2)):
        at = bar * BAR_S
        level = (0.35, 0.95, 0.6, 1.0)[index % 4]
        for midi, beats in figures[index % 3]:
            strength = min(1.0, level * random.uniform(0.92, 1.05))
            notes.append(Note(at, beats * BEAT_S * 0.92, midi, strength))
            at += beats * BEAT_S
    return notes


def bass(random: np.random.Generator) -> list[Note]:
    """Root and fifth on the strong beats, a passing note before the change."""
    notes = []
    for bar in range(1, BARS):
        root, _ = _chord(bar)
        low = _near(root, 31)
        following = _near(_chord(bar + 1)[0], 31)
        beats = ((0.0, low), (1.5, low + 7 if low < 38 else low - 5), (2.0, low), (3.5, following - 1))
        for beat, midi in beats:
            strength = min(1.0, _swell(bar) * random.uniform(0.75, 1.05))
            notes.append(Note(bar * BAR_S + beat * BEAT_S + random.normal(0, 0.004), 1.1, midi, strength))
    return notes


def cajon(random: np.random.Generator) -> list[tuple[Note, str]]:
    """Low strokes, slaps and touches from bar 2 on."""
    pattern = (
        (0.0, "low"),
        (1.0, "slap"),
        (1.5, "touch"),
        (2.0, "low"),
        (2.5, "low"),
        (3.0, "slap"),
        (3.75, "touch"),
    )
    strokes = []
    for bar in range(2, BARS):
        for beat, kind in pattern:
            if bar % 8 == 7 and beat >= 3:
                kind = "slap"
            strength = min(1.0, _swell(bar) * random.uniform(0.6, 1.05) * (0.35 if kind == "touch" else 1.0))
            start = bar * BAR_S + beat * BEAT_S + random.normal(0, 0.003)
            strokes.append((Note(start, 0.6, 0, strength), kind))
    return strokes


def harmonium(random: np.random.Generator) -> list[Note]:
    """Held chords that breathe with the bellows."""
    notes = []
    for bar in range(4, BARS):
        root, tones = _chord(bar)
        for tone in tones:
            midi = _near(root + tone, 57)
            strength = _swell(bar) * random.uniform(0.6, 0.75)
            notes.append(Note(bar * BAR_S + random.uniform(0, 0.02), BAR_S * 0.99, midi, strength))
    return notes


def shakers(random: np.random.Generator) -> list[Note]:
    """Sixteenths with a sway."""
    notes = []
    for bar in range(4, BARS - 1):
        for i in range(16):
            accent = (1.0, 0.45, 0.7, 0.5)[i % 4]
            start = bar * BAR_S + i * BEAT_S / 4 + (0.012 if i % 2 else 0.0) + random.normal(0, 0.002)
            notes.append(Note(start, 0.09, 0, _swell(bar) * accent * random.uniform(0.8, 1.1)))
    return notes
