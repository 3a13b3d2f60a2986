"""Small rooms by image sources, and bodies that ring by their modes: what recordings come with and sound fonts lack."""

from __future__ import annotations

import numpy as np
from scipy.signal import oaconvolve

from mivlo.core.units import Floats

SPEED_OF_SOUND = 343.0

# Modal ratios: circular membrane (zeros of Bessel functions), free bar, simply supported square plate; Fletcher &
# Rossing, The Physics of Musical Instruments, 2nd ed., chapters 2 and 3.
MODES = {
    "membrane": (1.0, 1.593, 2.135, 2.295, 2.653, 2.917, 3.155, 3.500, 3.598, 3.652, 4.059),
    "bar": (1.0, 2.756, 5.404, 8.933, 13.344),
    "plate": (1.0, 2.5, 4.0, 5.0, 6.5, 8.5, 9.0, 10.0, 12.5, 13.0),
}


def room_response(random: np.random.Generator, rate: int) -> Floats:
    """(n,) impulse response of a box-shaped room (Allen & Berkley, JASA 65, 1979), the direct sound first, at 1."""
    size = random.uniform((2.8, 2.3, 2.2), (8.0, 6.0, 3.6))
    source, ear = (random.uniform(0.15, 0.85, 3) * size for _ in range(2))
    wall = float(random.uniform(0.55, 0.9))  # pressure that a wall gives back
    reach = 0.35 * SPEED_OF_SOUND
    counts = np.ceil(reach / (2.0 * size)).astype(int)
    grid = np.stack(np.meshgrid(*[np.arange(-n, n + 1) for n in counts], indexing="ij"), axis=-1).reshape(-1, 3)
    out = np.zeros(round(0.35 * rate) + 1)
    nearest = np.linalg.norm(source - ear)
    for flip in np.ndindex(2, 2, 2):
        turned = np.array(flip)
        away = np.linalg.norm((1 - 2 * turned) * source + 2.0 * grid * size - ear, axis=1)
        bounces = np.abs(grid - turned).sum(axis=1) + np.abs(grid).sum(axis=1)
        at = np.rint((away - nearest) / SPEED_OF_SOUND * rate).astype(int)
        inside = at < len(out)
        np.add.at(out, at[inside], (wall**bounces * nearest / away)[inside])
    return out


def in_room(x: Floats, random: np.random.Generator, rate: int) -> Floats:
    """(n,) the sound in a small room."""
    return np.asarray(oaconvolve(x, room_response(random, rate))[: len(x)])


def struck(body: str, random: np.random.Generator, rate: int, *, tone_hz: float, hard: float) -> Floats:
    """(n,) one stroke on a body whose modes ring: its own tones, that are no fault of a recording."""
    seconds = 2.5
    t = np.arange(round(seconds * rate)) / rate
    out = np.zeros(len(t))
    ring = {"membrane": 0.35, "bar": 1.2, "plate": 1.6}[body]
    for ratio in MODES[body]:
        f = tone_hz * ratio * float(random.uniform(0.995, 1.005))
        if f > 12_000.0:
            break
        decay = ring / ratio ** float(random.uniform(0.4, 0.9)) * float(random.uniform(0.6, 1.5))
        level = float(random.uniform(0.2, 1.0)) / ratio ** (1.2 - 0.8 * hard)
        out += level * np.exp(-6.91 * t / decay) * np.sin(2 * np.pi * f * t + float(random.uniform(0, 6.28)))
    noise = random.normal(size=len(t)) * np.exp(-t / float(random.uniform(0.002, 0.02)))
    return np.asarray(out + 0.4 * hard * noise)
