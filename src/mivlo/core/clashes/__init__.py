"""Who covers whom in a mix, and the smallest carve that frees it."""

from mivlo.core.clashes.carving import GROUP_GIVES_DB, TRACK_GIVES_DB, Carve, Carving, Effect
from mivlo.core.clashes.finding import LEAST_LOST, Clash, find_clashes
from mivlo.core.clashes.freeing import Limits, free
from mivlo.core.clashes.losses import Loss, loss_of, losses
from mivlo.core.clashes.scene import FILES_FULL_SCALE_DB, SMALL_ROOM_DB, Scene

__all__ = [
    "FILES_FULL_SCALE_DB",
    "GROUP_GIVES_DB",
    "LEAST_LOST",
    "SMALL_ROOM_DB",
    "TRACK_GIVES_DB",
    "Carve",
    "Carving",
    "Clash",
    "Effect",
    "Limits",
    "Loss",
    "Scene",
    "find_clashes",
    "free",
    "loss_of",
    "losses",
]
