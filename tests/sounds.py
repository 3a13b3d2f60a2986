"""Sampled instruments: Debian's fluidsynth plays a phrase with the sound font of timgm6mb-soundfont."""

from __future__ import annotations

import struct
import subprocess
from collections.abc import Sequence
from pathlib import Path

SOUND_FONT = Path("/usr/share/sounds/sf2/TimGM6mb.sf2")
TICKS_PER_BEAT = 480
PHRASE = (60, 64, 67, 72, 71, 67, 62, 65, 69, 74, 72, 69)


def _variable_length(value: int) -> bytes:
    out = [value & 0x7F]
    while value := value >> 7:
        out.insert(0, 0x80 | (value & 0x7F))
    return bytes(out)


def midi_file(notes: Sequence[int], *, program: int, beats: float = 1.0, velocity: int = 96) -> bytes:
    """A Standard MIDI File of format 0: the notes one after the other at 120 beats a minute."""
    events = bytearray(b"\x00" + bytes([0xC0, program]))
    for note in notes:
        events += _variable_length(0) + bytes([0x90, note, velocity])
        events += _variable_length(int(beats * TICKS_PER_BEAT)) + bytes([0x80, note, 0])
    events += _variable_length(TICKS_PER_BEAT) + b"\xff\x2f\x00"
    header = b"MThd" + struct.pack(">IHHH", 6, 0, 1, TICKS_PER_BEAT)
    return header + b"MTrk" + struct.pack(">I", len(events)) + bytes(events)


def play_phrase(path: Path, *, program: int, notes: Sequence[int] = PHRASE, rate: int = 48_000) -> Path:
    """Render a phrase of a General MIDI program to a stereo WAV file."""
    midi = path.with_suffix(".mid")
    midi.write_bytes(midi_file(notes, program=program))
    subprocess.run(
        ["fluidsynth", "-ni", "-q", "-g", "0.6", "-r", str(rate), "-F", str(path), str(SOUND_FONT), str(midi)],
        check=True,
        capture_output=True,
    )
    return path
