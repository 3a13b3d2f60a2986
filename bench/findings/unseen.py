"""Recordings by which nothing was trained, fitted or chosen: `python -m bench.findings unseen`, the last word.

Instruments of Debian's `tuxpaint-stamps-default`, speakers of `ktuberling-data` and keys of `bucklespring-data` (free
licences, named there; nothing of it ships). Once a method is changed because of what is seen here, they are seen.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from bench.findings.recorded import RATE, Play, again_and_again, pattern, read, spoken

PACKAGES = ("tuxpaint-stamps-default", "ktuberling-data", "bucklespring-data")
UNSEEN = "unseen"
_STAMPS = Path("/usr/share/tuxpaint/stamps/hobbies/music")
_SPEAKERS = Path("/usr/share/ktuberling/sounds")
_KEYS = Path("/usr/share/buckle/wav")
_PLAYED = {
    "cello": ("string/cello", "strings"), "violin": ("string/violin", "strings"), "bassoon": ("wind/bassoon", "winds"),
    "drum kit": ("percussion/drumkit", "drums"),
}  # fmt: skip
_STRUCK = {"tom": ("drum_tomtom_floor", "drums"), "crash": ("cymbal_crash", "drums")}
_LANGUAGES = ("da", "de", "el", "en", "lt", "ru", "uk")
"""Speakers of whom there is enough, all of it with 44,100 Hz."""


def missing() -> list[str]:
    """What has to be installed."""
    return [str(path) for path in (_STAMPS, _SPEAKERS, _KEYS) if not path.exists()]


def unseen() -> Iterator[tuple[str, str, str, Play]]:
    """(name, half, role, how it is played) of every source here."""
    for name, (file, role) in _PLAYED.items():
        yield f"stamp {name}", UNSEEN, role, again_and_again(lambda file=file: read(_STAMPS / f"{file}.ogg"))
    for name, (file, role) in _STRUCK.items():
        path = _STAMPS / "percussion" / f"{file}.ogg"
        yield f"stamp {name}", UNSEEN, role, pattern(lambda path=path: [read(path)[: 3 * RATE]])
    for language in _LANGUAGES:
        yield f"teller {language}", UNSEEN, "voice", spoken(_SPEAKERS / language)
    yield "keyboard", UNSEEN, "percussion", pattern(lambda: [read(p) for p in sorted(_KEYS.glob("*.wav"))[::7]])
