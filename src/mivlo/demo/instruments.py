"""Instruments by modal and spectral synthesis; each returns mono float64 at the given rate.

Partials of bars and strings: Fletcher & Rossing, The Physics of Musical Instruments (from memory).
Levels, decays and noises are set by ear and eye, no source.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.signal import butter, lfilter, sosfilt

from mivlo.core.graph import treat
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.units import Floats, midi_to_hz
from mivlo.demo.oscillators import add_ring, harmonics
from mivlo.demo.score import Note


def _canvas(length_s: float, rate: int) -> Floats:
    return np.zeros(int(length_s * rate))


def _put(out: Floats, sound: Floats, start_s: float, rate: int) -> None:
    a = max(0, int(start_s * rate))
    b = min(len(out), a + len(sound))
    if b > a:
        out[a:b] += sound[: b - a]


def _noise(random: np.random.Generator, count: int, low_hz: float, high_hz: float, rate: int) -> Floats:
    sos = butter(2, (low_hz, min(high_hz, rate * 0.48)), btype="bandpass", fs=rate, output="sos")
    return np.asarray(sosfilt(sos, random.standard_normal(count)))


def body(x: Floats, rate: int, resonances: Sequence[tuple[float, float, float]]) -> Floats:
    """A body as bells: (Hz, Q, dB)."""
    moves = [StaticMove(Shape.BELL, f, q=q, gain_db=g) for f, q, g in resonances]
    return treat(x[:, None], moves, sample_rate=rate)[:, 0]


def _phase(frequency_hz: Floats, rate: int) -> Floats:
    return 2.0 * np.pi * np.cumsum(frequency_hz) / rate


def _ramp_up_down(count: int, rate: int, attack_s: float, release_s: float) -> Floats:
    envelope = np.ones(count)
    a, r = min(count, int(attack_s * rate)), min(count, int(release_s * rate))
    envelope[:a] = np.sin(np.linspace(0, np.pi / 2, a)) ** 2
    envelope[count - r :] *= np.cos(np.linspace(0, np.pi / 2, r)) ** 2
    return envelope


def marimba(notes: Sequence[Note], length_s: float, rate: int, random: np.random.Generator) -> Floats:
    """Wooden bars tuned 1 : 4 : 10 over tubes that lengthen the fundamental; soft mallets."""
    out = _canvas(length_s, rate)
    for note in notes:
        f = midi_to_hz(note.midi)
        t = np.arange(int(note.length_s * rate)) / rate
        long = 1.5 * (262.0 / f) ** 0.7
        sound = np.zeros_like(t)
        hard = 0.25 + 0.75 * note.strength
        for ratio, level, decay in (
            (1.0, 1.0, long),
            (3.93, 0.28 * hard, 0.28),
            (9.75, 0.10 * hard**2, 0.09),
            (1.006, 0.12, long * 0.7),
        ):
            if ratio * f < rate * 0.45:
                add_ring(sound, ratio * f, level, decay, rate, random.uniform(0, 0.3))
        knock = _noise(random, int(0.03 * rate), 180, 1200 + 2600 * hard, rate)
        knock *= np.exp(-np.arange(len(knock)) / (0.005 * rate)) * 0.20 * hard
        sound[: len(knock)] += knock
        sound *= note.strength * np.minimum(1.0, t / 0.0012)
        sound[-480:] *= np.linspace(1, 0, 480)
        _put(out, sound, note.start_s, rate)
    return out


_CELLO_BODY = (
    (98.0, 8.0, 5.0), (176.0, 10.0, 5.0), (203.0, 12.0, 3.0), (390.0, 5.0, 3.5), (640.0, 5.0, 3.0),
    (1150.0, 1.6, 4.5), (2300.0, 1.2, 2.0), (480.0, 6.0, -3.0),
)  # fmt: skip


def cello(notes: Sequence[Note], length_s: float, rate: int, random: np.random.Generator, wolf_hz: float) -> Floats:
    """A bowed string (sawtooth-like partials, bow noise, vibrato) behind a body with resonances.

    Loud notes close to `wolf_hz` couple with the body: they beat, and swell at that frequency.
    """
    out = _canvas(length_s, rate)
    for note in notes:
        f = midi_to_hz(note.midi)
        count = int((note.length_s + 0.12) * rate)
        t = np.arange(count) / rate
        depth = 0.006 * np.clip((t - 0.25) / 0.4, 0, 1) * random.uniform(0.8, 1.2)
        drift = np.cumsum(random.standard_normal(count)) / rate * 0.15
        pitch = f * (1.0 + depth * np.sin(2 * np.pi * 5.4 * t + random.uniform(0, 6)) + 0.002 * drift)
        phase = _phase(pitch, rate)
        envelope = _ramp_up_down(count, rate, 0.11 - 0.05 * note.strength, 0.13)
        envelope *= 1.0 + 0.08 * np.sin(2 * np.pi * 5.4 * t + 1.0) * np.clip(t / 0.5, 0, 1)
        bright = 3.0 + 9.0 * note.strength
        n = np.arange(1, int(min(40, 9000 / f)) + 1)
        sound = harmonics(phase, np.exp(-n / bright / 2.2) / n**0.75, 0.4)
        rasp = _noise(random, count, 900, 6500, rate) * (0.5 + 0.5 * np.sin(phase))
        sound += 0.055 * (0.4 + note.strength) * rasp
        if abs(f - wolf_hz) < 4.0 and note.strength > 0.62:
            beat = 0.5 - 0.5 * np.cos(2 * np.pi * 5.8 * t)
            howl = np.sin(_phase(np.full(count, wolf_hz * 1.004), rate)) * 2.6 * beat
            sound = sound * (0.45 + 0.55 * (1 - beat)) + howl * np.clip((t - 0.15) / 0.2, 0, 1)
        _put(out, sound * envelope * note.strength**1.2, note.start_s, rate)
    return body(out, rate, _CELLO_BODY)


def trumpet(
    notes: Sequence[Note],
    length_s: float,
    rate: int,
    random: np.random.Generator,
    harsh: tuple[float, float, float],
) -> Floats:
    """Brass: the louder, the more partials, and they enter one after the other.

    Loud notes go through the extra resonance `harsh` (Hz, Q, dB).
    """
    soft, loud = _canvas(length_s, rate), _canvas(length_s, rate)
    for note in notes:
        f = midi_to_hz(note.midi)
        count = int((note.length_s + 0.06) * rate)
        t = np.arange(count) / rate
        vibrato = 0.0035 * np.clip((t - 0.3) / 0.3, 0, 1) * np.sin(2 * np.pi * 5.0 * t)
        scoop = -0.012 * np.exp(-t / 0.02)
        phase = _phase(f * (1 + vibrato + scoop), rate)
        envelope = _ramp_up_down(count, rate, 0.02, 0.07)
        sag = 0.82 + 0.18 * np.exp(-t / 0.12)
        bright = 1.3 + 5.5 * note.strength**1.6
        sound = np.zeros(count)
        for n in range(1, int(min(32, 14000 / f)) + 1):
            enter = np.clip((t - 0.0016 * n) / 0.018, 0, 1)
            sound += np.exp(-(n - 1) / bright) * enter * np.sin(n * phase + 0.2 * n)
        breath = _noise(random, count, 700, 7000, rate) * (0.02 + 0.05 * np.exp(-t / 0.03))
        sound = (sound * sag + breath) * envelope * note.strength
        _put(loud if note.strength > 0.8 else soft, sound, note.start_s, rate)
    bell = ((520.0, 1.4, 2.5), (1250.0, 1.6, 5.0), (2450.0, 2.0, 3.0))
    return body(soft, rate, bell) + body(loud, rate, (*bell, harsh))


def bass(notes: Sequence[Note], length_s: float, rate: int, random: np.random.Generator) -> Floats:
    """Plucked stiff string: inharmonic partials that die the faster the higher; wooden body."""
    out = _canvas(length_s, rate)
    for note in notes:
        f = midi_to_hz(note.midi)
        t = np.arange(int(note.length_s * rate)) / rate
        sound = np.zeros_like(t)
        for n in range(1, 19):
            partial = n * f * np.sqrt(1 + 0.00009 * n * n)
            level = abs(np.sin(np.pi * n * 0.17)) / n * np.exp(-n / (5.0 + 6.0 * note.strength))
            add_ring(sound, partial, level, 2.3 / (1 + 0.30 * (n - 1)), rate)
        thump = _noise(random, int(0.09 * rate), 60, 900, rate)
        thump *= np.exp(-np.arange(len(thump)) / (0.014 * rate)) * 0.3
        sound[: len(thump)] += thump
        sound *= np.minimum(1.0, t / 0.004) * note.strength
        sound[-2400:] *= np.linspace(1, 0, 2400)
        _put(out, sound, note.start_s, rate)
    return body(
        out,
        rate,
        ((62.0, 2.5, 2.0), (110.0, 4.0, 3.0), (205.0, 4.0, 3.0), (700.0, 1.0, 2.0), (3000.0, 0.8, -8.0)),
    )


def cajon(strokes: Sequence[tuple[Note, str]], length_s: float, rate: int, random: np.random.Generator) -> Floats:
    """A wooden box: air mode and plate modes for low strokes, wires and plate for slaps."""
    out = _canvas(length_s, rate)
    for note, kind in strokes:
        t = np.arange(int(0.45 * rate)) / rate
        force = note.strength
        sound = np.zeros_like(t)
        if kind == "low":
            drop = 86.0 * (1 + 0.35 * np.exp(-t / 0.018))
            sound += 1.1 * np.sin(_phase(drop, rate)) * np.exp(-t / 0.075)
            sound += _noise(random, len(t), 70, 900, rate) * np.exp(-t / 0.016) * 0.55
            sound += _noise(random, len(t), 1500, 6000, rate) * np.exp(-t / 0.006) * 0.16 * force
        else:
            sharp = 1.0 if kind == "slap" else 0.55
            for f, decay in ((212.0, 0.04), (345.0, 0.035), (560.0, 0.03), (910.0, 0.022)):
                sound += 0.05 * np.sin(2 * np.pi * f * t * random.uniform(0.995, 1.005)) * np.exp(-t / decay)
            sound += _noise(random, len(t), 900, 9500, rate) * np.exp(-t / 0.011) * 0.85 * sharp
            # the hand's thud: it is what sets the shell ringing
            sound += _noise(random, len(t), 220, 950, rate) * np.exp(-t / 0.009) * 0.5
            buzz = _noise(random, len(t), 2800, 11000, rate) * np.exp(-t / 0.07) * 0.16 * sharp
            sound += buzz * (0.6 + 0.4 * np.sign(np.sin(2 * np.pi * 86 * t)))
        _put(out, sound * force**1.3 * np.minimum(1.0, t / 0.0006), note.start_s, rate)
    return out


def harmonium(notes: Sequence[Note], length_s: float, rate: int, random: np.random.Generator) -> Floats:
    """Two free reeds a note, slightly apart, wind that sways with the bellows."""
    out = _canvas(length_s, rate)
    wind = 1.0 + 0.10 * np.sin(2 * np.pi * 0.37 * np.arange(len(out)) / rate)
    for note in notes:
        count = int((note.length_s + 0.15) * rate)
        envelope = _ramp_up_down(count, rate, 0.09, 0.16)
        sound = np.zeros(count)
        for cents in (-1.8, 2.1):
            f = midi_to_hz(note.midi + cents / 100)
            phase = 2 * np.pi * f * np.arange(count) / rate + random.uniform(0, 6)
            n = np.arange(1, int(min(24, 8000 / f)) + 1)
            sound += harmonics(phase, (0.55 + 0.45 * np.cos(np.pi * n * 0.31)) / n**0.85 * np.exp(-n / 14))
        chiff = _noise(random, count, 400, 3500, rate) * 0.02
        _put(out, (sound + chiff) * envelope * note.strength * 0.5, note.start_s, rate)
    return body(out * wind, rate, ((330.0, 1.5, 3.0), (880.0, 1.8, 4.0), (1900.0, 2.0, 2.5)))


def shakers(notes: Sequence[Note], length_s: float, rate: int, random: np.random.Generator) -> Floats:
    """Many small grains in a shell: noise whose density follows the hand."""
    out = _canvas(length_s, rate)
    for note in notes:
        count = int(note.length_s * rate)
        t = np.arange(count) / count
        hand = np.sin(np.pi * t**0.6) ** 2
        grains = (random.random(count) < 0.06 * hand) * random.standard_normal(count) * 2.4
        _put(out, np.asarray(lfilter([1], [1, -0.55], grains)) * note.strength, note.start_s, rate)
    shell = body(out, rate, ((4200.0, 2.2, 9.0), (7600.0, 2.5, 10.0), (11500.0, 2.0, 6.0)))
    return np.asarray(sosfilt(butter(3, 2200, "highpass", fs=rate, output="sos"), shell))
