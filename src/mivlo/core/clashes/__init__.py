"""Who covers whom in a mix, and the smallest carve that frees it."""

from mivlo.core.clashes.carving import GROUP_GIVES_DB, TRACK_GIVES_DB, Carve, Carving, Effect, Halves
from mivlo.core.clashes.finding import LEAST_LOST, Clash, Survey, survey
from mivlo.core.clashes.floor import Floor, Floors, find_floors
from mivlo.core.clashes.freeing import Limits, free
from mivlo.core.clashes.losses import Loss, loss_of
from mivlo.core.clashes.scene import FILES_FULL_SCALE_DB, SMALL_ROOM_DB, Scene
from mivlo.core.clashes.sources import low_end, same_sources
from mivlo.core.clashes.way import by_importance, right_of_way

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
    "Floor",
    "Floors",
    "Halves",
    "Limits",
    "Loss",
    "Scene",
    "Survey",
    "by_importance",
    "find_floors",
    "free",
    "loss_of",
    "low_end",
    "right_of_way",
    "same_sources",
    "survey",
]
