"""Phrases that the sources of the benchmark play: lines, arpeggios, chords and runs in the range of an instrument."""

from __future__ import annotations

import numpy as np

SCALES = ((0, 2, 4, 5, 7, 9, 11), (0, 2, 3, 5, 7, 8, 10), (0, 2, 4, 7, 9), (0, 2, 3, 5, 7, 9, 10))
_RANGES = {
    **{p: (28, 52) for p in (32, 33, 34, 35, 36, 37, 38, 39, 43, 58)},
    **{p: (36, 64) for p in (42, 57, 70, 67, 47, 117, 116, 118)},
    **{p: (48, 76) for p in (41, 60, 66, 71, 24, 25, 26, 27, 28, 29, 30, 104, 105, 19, 20)},
    **{p: (72, 96) for p in (9, 10, 14, 72, 78, 112, 8, 13)},
}
SUSTAINED = set(range(16, 24)) | set(range(40, 44)) | set(range(48, 55)) | set(range(56, 80)) | {109, 110, 111}


def phrase(
    program: int, random: np.random.Generator, *, within: tuple[int, int] | None = None
) -> list[tuple[float, float, int, int]]:
    """(start in beats, length in beats, note, velocity): one of some ways to play, over changing degrees."""
    low, high = within or _RANGES.get(program, (52, 82))
    root, scale = int(random.integers(12)), SCALES[int(random.integers(len(SCALES)))]
    notes = [n for n in range(low, high + 1) if (n - root) % 12 in scale]
    style = ("line", "line", "arpeggio", "chords", "runs")[int(random.integers(5))]
    at, place, out = 0.0, int(random.integers(len(notes))), []
    loud = int(random.integers(70, 105))
    while at < 40:
        velocity = int(np.clip(loud + random.normal(0, 14), 25, 127))
        if style == "chords":
            length = float(random.choice([1.0, 2.0, 2.0, 3.0]))
            place = int(random.integers(0, max(1, len(notes) - 5)))
            for step in (0, 2, 4)[: int(random.integers(2, 4))]:
                out.append((at, length * 0.95, notes[min(place + step, len(notes) - 1)], velocity))
        else:
            length = float(
                random.choice({"line": [0.5, 1.0, 1.0, 1.5, 2.0], "arpeggio": [0.5], "runs": [0.25, 0.25, 0.5]}[style])
            )
            leap = {"line": 3, "arpeggio": 5, "runs": 2}[style]
            place = int(np.clip(place + random.integers(-leap, leap + 1), 0, len(notes) - 1))
            held = length * float(random.choice([0.5, 0.9, 1.0, 1.4]))
            if random.random() > 0.08:
                out.append((at, held, notes[place], velocity))
        at += length
    return out
