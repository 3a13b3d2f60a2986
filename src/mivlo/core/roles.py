"""What a track is."""

from __future__ import annotations

from enum import StrEnum


class Role(StrEnum):
    """The instrument or family that a track holds."""

    VOICE = "voice"
    DRUMS = "drums"
    PERCUSSION = "percussion"
    BASS = "bass"
    GUITAR = "guitar"
    KEYS = "keys"
    STRINGS = "strings"
    BRASS = "brass"
    WINDS = "winds"
    MALLETS = "mallets"
    ROOM = "room"
    OTHER = "other"
