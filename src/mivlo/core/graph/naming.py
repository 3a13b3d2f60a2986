"""Names of sounds: equal where everything that a sound depends on is equal."""

from __future__ import annotations

import hashlib

from mivlo.core.moves import Channels, Treatment

ENGINE_VERSION = 1
"""Raised whenever the same treatment would sound different."""


def digest(*facts: object) -> str:
    """A name of these facts, whose text must say all of them."""
    return hashlib.sha256(repr((ENGINE_VERSION, *facts)).encode()).hexdigest()


def treatment_facts(treatment: Treatment, *, channels: int, listening: bool) -> tuple[object, ...]:
    """What of a treatment is heard: not ids, notes or entries that are off."""
    entries = []
    for e in treatment.heard():
        if not e.enabled or (e.move.listens_to and not listening):
            continue
        if channels == 1 and e.channels is Channels.SIDE:
            continue
        on = e.channels if channels == 2 else Channels.ALL
        entries.append((e.move, str(on), e.stretches, e.fade_ms if e.stretches else 0.0, str(e.place)))
    return (entries, str(treatment.phase), treatment.aftercare)
