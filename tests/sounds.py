"""Sampled instruments: Debian's fluidsynth plays a phrase with the sound font of timgm6mb-soundfont."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence
from pathlib import Path

import mido

SOUND_FONT = Path("/usr/share/sounds/sf2/TimGM6mb.sf2")
TICKS_PER_BEAT = 480
PHRASE = (60, 64, 67, 72, 71, 67, 62, 65, 69, 74, 72, 69)


def midi_file(path: Path, notes: Sequence[int], *, program: int, beats: float = 1.0, velocity: int = 96) -> None:
    """Write a Standard MIDI File: the notes one after the other at 120 beats a minute."""
    track = mido.MidiTrack([mido.Message("program_change", program=program)])
    for note in notes:
        track.append(mido.Message("note_on", note=note, velocity=velocity))
        track.append(mido.Message("note_off", note=note, time=int(beats * TICKS_PER_BEAT)))
    track.append(mido.MetaMessage("end_of_track", time=TICKS_PER_BEAT))
    mido.MidiFile(type=0, ticks_per_beat=TICKS_PER_BEAT, tracks=[track]).save(path)


def play_phrase(path: Path, *, program: int, notes: Sequence[int] = PHRASE, rate: int = 48_000) -> Path:
    """Render a phrase of a General MIDI program to a stereo WAV file."""
    midi = path.with_suffix(".mid")
    midi_file(midi, notes, program=program)
    subprocess.run(
        ["fluidsynth", "-ni", "-q", "-g", "0.6", "-r", str(rate), "-F", str(path), str(SOUND_FONT), str(midi)],
        check=True,
        capture_output=True,
    )
    return path
