"""Where the sounds of this installation are: the store, what comes into it, and what this machine keeps of it."""

from __future__ import annotations

from mivlo.audio.cache import LocalCache
from mivlo.audio.objects import ObjectStore
from mivlo.audio.originals import Originals
from mivlo.config import settings


def store() -> ObjectStore:
    """Originals and exports (MIVLO_STORE; the data folder unless it says otherwise)."""
    return ObjectStore(settings().store or str(settings().data_dir))


def originals() -> Originals:
    """Takes files into the store."""
    return Originals(store(), settings().data_dir / "incoming", settings().keep_free_bytes)


def recordings() -> LocalCache:
    """Working copies on this machine."""
    return LocalCache(settings().data_dir, store(), settings().keep_free_bytes)
