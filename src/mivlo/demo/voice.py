"""The narrator: a formant synthesiser with voice, breath, fricatives and bursts.

A source-filter model in the manner of D. Klatt, J. Acoust. Soc. Am. 67, 1980 (from memory): glottal
pulses and breath through a cascade of five formants, fricatives and bursts through filters of their
own. Formant values of the vowels: Peterson & Barney 1952, male averages (from memory).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numba as nb
import numpy as np

from mivlo.core.units import Floats

FRAME_S = 0.005


@dataclass(frozen=True, slots=True)
class Sound:
    """One speech sound: length in s, formants, how much voice, breath and friction, and its place."""

    length_s: float
    formants: tuple[float, float, float]
    voice: float = 0.0
    breath: float = 0.0
    friction: float = 0.0
    friction_hz: float = 0.0
    friction_width_hz: float = 1000.0
    burst: bool = False


def _vowel(f1: float, f2: float, f3: float, length_s: float = 0.11) -> Sound:
    return Sound(length_s, (f1, f2, f3), voice=1.0, breath=0.02)


SOUNDS: dict[str, Sound] = {
    "iy": _vowel(270, 2290, 3010, 0.12), "ih": _vowel(390, 1990, 2550, 0.075), "eh": _vowel(530, 1840, 2480, 0.10),
    "ae": _vowel(660, 1720, 2410, 0.14), "aa": _vowel(730, 1090, 2440, 0.14), "ao": _vowel(570, 840, 2410, 0.14),
    "uh": _vowel(440, 1020, 2240, 0.08), "uw": _vowel(300, 870, 2240, 0.12), "ah": _vowel(640, 1190, 2390, 0.08),
    "er": _vowel(490, 1350, 1690, 0.12), "ax": _vowel(500, 1400, 2400, 0.05),
    "w": Sound(0.06, (300, 640, 2200), voice=0.6), "y": Sound(0.05, (280, 2200, 3000), voice=0.6),
    "r": Sound(0.07, (330, 1120, 1480), voice=0.65), "l": Sound(0.065, (360, 1100, 2600), voice=0.6),
    "m": Sound(0.07, (250, 1000, 2200), voice=0.42), "n": Sound(0.06, (250, 1500, 2500), voice=0.42),
    "ng": Sound(0.07, (250, 2000, 2600), voice=0.4),
    "s": Sound(0.115, (350, 1700, 2600), friction=0.55, friction_hz=6600, friction_width_hz=3200),
    "z": Sound(0.085, (320, 1700, 2600), voice=0.3, friction=0.34, friction_hz=6300, friction_width_hz=3000),
    "sh": Sound(0.115, (350, 1800, 2500), friction=0.55, friction_hz=3300, friction_width_hz=2000),
    "f": Sound(0.09, (350, 1100, 2300), friction=0.13, friction_hz=7000, friction_width_hz=7500),
    "v": Sound(0.055, (300, 1100, 2300), voice=0.45, friction=0.05, friction_hz=6500, friction_width_hz=7000),
    "th": Sound(0.09, (350, 1400, 2500), friction=0.10, friction_hz=7500, friction_width_hz=7000),
    "dh": Sound(0.045, (300, 1400, 2500), voice=0.4, friction=0.03, friction_hz=7000, friction_width_hz=7000),
    "h": Sound(0.06, (500, 1500, 2500), breath=0.5),
    "p": Sound(0.10, (350, 900, 2200), friction=0.38, friction_hz=900, friction_width_hz=1600, burst=True),
    "b": Sound(0.07, (300, 900, 2200), voice=0.15, friction=0.25, friction_hz=700, friction_width_hz=1200, burst=True),
    "t": Sound(0.09, (350, 1750, 2600), friction=0.6, friction_hz=4600, friction_width_hz=3500, burst=True),
    "d": Sound(0.065, (300, 1750, 2600), voice=0.15, friction=0.35, friction_hz=4000, friction_width_hz=3000, burst=True),
    "k": Sound(0.095, (350, 1800, 2300), friction=0.5, friction_hz=1900, friction_width_hz=1200, burst=True),
    "g": Sound(0.07, (300, 1800, 2300), voice=0.15, friction=0.3, friction_hz=1800, friction_width_hz=1200, burst=True),
    "_": Sound(0.16, (500, 1500, 2500)), ",": Sound(0.30, (500, 1500, 2500)),
}  # fmt: skip

# one line a sentence: when it begins (bars), its sounds; capitals are stressed
SENTENCES: tuple[tuple[float, str], ...] = (
    (1.0, "dh ax T AA iy d k l AA k , s t AE n d z _ ih n dh ax B AE th h AA uw s"),
    (4.0, "ih t s P EH n d y ax l ax m , ih z ax S T OW n _ ax n dh ax S IY".replace("OW", "AO uw")),
    (7.0, "P IY p ax l k ah m _ t ax l IH s ax n , w eh n dh ax w AO t er f AO l z"),
    (10.0, "S IH k s s t eh p s d AA uw n , P AE s t dh ax b l UW t AA iy l z"),
    (13.0, "dh ax b EH l z _ s P IY k ax v sh IH p s , ax n d S AO l t"),
    (16.0, "s ah m s EY dh ax h AW s r IH ng z , b ih f AO r dh ax t AA iy d".replace("EY", "EH iy").replace("AW", "AA uw")),
    (19.0, "P UH t y AO r h AE n d _ ax P AA n dh ax S T AO uw n , ax n d k AA uw n t"),
    (22.0, "S EH v ax n P AH l s ih z , dh eh n dh ax s IY ax n s er z"),
    (25.0, "dh ax k l AA k s t AA p s , ax n d b ih g IH n z ax g EH n"),
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Event:
    """Where a speech sound lies in the track, and whether it is stressed."""

    name: str
    start_s: float
    end_s: float
    stressed: bool


@nb.njit(cache=True, nogil=True)
def _speak(frames, rate, frame_length, noise, jitter):  # type: ignore[no-untyped-def]
    """Samples from control frames: f0, voice, breath, friction, its Hz and width, F1, F2, F3."""
    total = (frames.shape[0] - 1) * frame_length
    out = np.zeros(total)
    formant = np.zeros((5, 2))
    hiss = np.zeros(2)
    phase, period, tilt, last = 0.0, 1.0, 0.0, 0.0
    for i in range(total):
        k = i // frame_length
        a = (i % frame_length) / frame_length
        c = frames[k] * (1 - a) + frames[k + 1] * a
        f0 = max(c[0], 40.0)
        phase += f0 / rate * period
        if phase >= 1.0:
            phase -= 1.0
            period = 1.0 + jitter[i] * 0.008
        # Rosenberg's pulse, differentiated by the lips
        if phase < 0.42:
            flow = 0.5 * (1 - math.cos(math.pi * phase / 0.42))
        elif phase < 0.60:
            flow = math.cos(0.5 * math.pi * (phase - 0.42) / 0.18)
        else:
            flow = 0.0
        d = flow - last
        last = flow
        tilt += 0.55 * (d - tilt)
        u = c[1] * tilt * 9.0 + c[2] * noise[i] * (0.35 + 0.65 * flow) * 0.22
        # cascade of formants, each of unity gain at 0 Hz
        for n in range(5):
            if n < 3:
                f = c[6 + n]
                width = 60.0 + 0.035 * f
            else:
                f = 3500.0 if n == 3 else 4500.0
                width = 220.0 if n == 3 else 300.0
            r = math.exp(-math.pi * width / rate)
            b1 = 2.0 * r * math.cos(2 * math.pi * f / rate)
            b2 = -r * r
            y = (1.0 - b1 - b2) * u + b1 * formant[n, 0] + b2 * formant[n, 1]
            formant[n, 1] = formant[n, 0]
            formant[n, 0] = y
            u = y
        s = c[3] * noise[i]
        if c[4] > 0.0:
            r = math.exp(-math.pi * c[5] / rate)
            b1 = 2.0 * r * math.cos(2 * math.pi * c[4] / rate)
            y = (1.0 - r) * s + b1 * hiss[0] - r * r * hiss[1]
            s = y - hiss[1] * 0.9
            hiss[1] = hiss[0]
            hiss[0] = y
        else:
            s = 0.0
        out[i] = u + 0.5 * s
    return out


def _timeline(bar_s: float, random: np.random.Generator) -> list[Event]:
    events = []
    for bar, text in SENTENCES:
        at = bar * bar_s + 0.15
        for token in text.split():
            sound = SOUNDS[token.lower()]
            stressed = token.isupper()
            length = sound.length_s * (1.3 if stressed else 1.12) * random.uniform(0.92, 1.1)
            events.append(Event(token.lower(), at, at + length, stressed))
            at += length
    return events


def _fill(frames: Floats, events: list[Event], random: np.random.Generator) -> None:
    """Control values of all events; formants glide because neighbours are averaged afterwards."""
    frames[:, 6:9] = (500.0, 1500.0, 2500.0)
    sentence_start = events[0].start_s
    for previous, event in zip([None, *events[:-1]], events, strict=True):
        sound = SOUNDS[event.name]
        if previous is None or event.start_s - previous.end_s > 0.4:
            sentence_start = event.start_s
        a, b = round(event.start_s / FRAME_S), round(event.end_s / FRAME_S)
        level = 1.15 if event.stressed else 0.8
        fall = 1.0 - 0.05 * (event.start_s - sentence_start)
        frames[a:b, 0] = 112.0 * fall * (1.14 if event.stressed else 1.0)
        frames[a:b, 6:9] = sound.formants
        frames[a:b, 4:6] = (sound.friction_hz, sound.friction_width_hz)
        if sound.burst:
            closure = a + int(0.55 * (b - a))
            frames[a:closure, 1] = sound.voice
            frames[closure : closure + 2, 3] = sound.friction * level * 1.6
            fade = np.linspace(0.6, 0.1, max(b - closure - 2, 1))
            frames[closure + 2 : b, 3] = sound.friction * level * fade[: max(b - closure - 2, 0)] * 0.5
            frames[closure + 2 : b, 2] = 0.25
        else:
            frames[a:b, 1] = sound.voice * level
            frames[a:b, 2] = sound.breath
            frames[a:b, 3] = sound.friction * level


def _smooth(frames: Floats) -> None:
    """Muscles are slow: 25 ms for formants and pitch, 12 ms for levels."""
    for column, width in ((0, 13), (1, 3), (2, 3), (3, 2), (6, 7), (7, 7), (8, 7)):
        kernel = np.hanning(width + 2)[1:-1]
        padded = np.pad(frames[:, column], width, mode="edge")
        frames[:, column] = np.convolve(padded, kernel / kernel.sum(), mode="same")[width:-width]


def narrator(length_s: float, bar_s: float, rate: int, random: np.random.Generator) -> tuple[Floats, list[Event]]:
    """The spoken track and where its sounds lie."""
    events = _timeline(bar_s, random)
    frame_length = int(FRAME_S * rate)
    frames = np.zeros((int(length_s / FRAME_S) + 2, 9))
    frames[:, 0] = 105.0
    _fill(frames, events, random)
    _smooth(frames)
    total = (len(frames) - 1) * frame_length
    out = _speak(frames, rate, frame_length, random.standard_normal(total), random.standard_normal(total))
    return out[: int(length_s * rate)], events
