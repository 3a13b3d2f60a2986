"""Names, roles and sides of tracks, guessed from the names of files."""

from __future__ import annotations

import re

from mivlo.core.roles import Role

_WORDS: tuple[tuple[Role, str], ...] = (
    (Role.ROOM, r"room|ambien|overhead|oh|hall"),
    (Role.VOICE, r"vo(x|c|ice)?|vocals?|narrat\w*|sing\w*|speech|spoken|choir|bv|backing"),
    (Role.PERCUSSION, r"perc\w*|caj[oóò]n|shakers?|conga\w*|bongo\w*|tamb\w*|clave\w*|triangle"),
    (Role.DRUMS, r"drums?|kick|bd|snare|sd|toms?|hi ?hat|hh|cymbals?|ride|crash|kit"),
    (Role.MALLETS, r"marimba|vibra\w*|xylo\w*|glock\w*|bells?"),
    (Role.BASS, r"bass|contrabass|sub"),
    (Role.GUITAR, r"g(ui)?t(ar|r)?s?|acoustic|electric|banjo|mandolin|ukulele"),
    (Role.KEYS, r"piano|keys?|organ|harmonium|synth|rhodes|pad|accordion|clav\w*"),
    (Role.STRINGS, r"cello|violin|viola|strings?|fiddle"),
    (Role.BRASS, r"trumpet|trombone|horns?|tuba|brass|flugel\w*"),
    (Role.WINDS, r"flute|clarinet|oboe|bassoon|sax\w*|winds?|whistle"),
)


def guess_role(name: str) -> Role:
    """The role that a track's name suggests; `other` when it suggests none."""
    words = re.sub(r"[_\-.\d]+", " ", name.lower())
    for role, pattern in _WORDS:
        if re.search(rf"(?<![a-z])(?:{pattern})(?![a-z])", words):
            return role
    return Role.OTHER


def name_from_file(file_name: str) -> str:
    """A readable track name from a file name: `03_Upright-Bass.wav` gives `Upright Bass`."""
    stem = file_name.replace("\\", "/").rsplit("/", 1)[-1]
    stem = re.sub(r"\.[A-Za-z0-9]{1,5}$", "", stem)
    stem = re.sub(r"^\d+[\s_.\-]+", "", stem)
    cleaned = re.sub(r"[_\-\s]+", " ", stem).strip()
    return (cleaned[:1].upper() + cleaned[1:]) if cleaned else "Track"


_SIDE = re.compile(r"^(?P<stem>.+?)(?:[ ._\-](?P<side>l|r|left|right)| ?\((?P<bracketed>l|r)\))$", re.IGNORECASE)


def side_of(file_name: str) -> tuple[str, str] | None:
    """A file's name without its side, and which side it is ("l" or "r"); None where it names none.

    `Kick.L.wav`, `Kick_R.wav`, `Kick left.wav` and `Kick (R).wav` name one (common practice).
    """
    stem = re.sub(r"\.[A-Za-z0-9]{2,5}$", "", file_name.replace("\\", "/").rsplit("/", 1)[-1]).strip()
    found = _SIDE.match(stem)
    if found is None:
        return None
    return found["stem"].rstrip(" ._-"), (found["side"] or found["bracketed"])[0].lower()
