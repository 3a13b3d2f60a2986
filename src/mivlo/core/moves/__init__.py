"""What a move is: frozen values, one kind a module; entries and treatments made of them."""

from mivlo.core.moves.adaptive import AdaptiveMove
from mivlo.core.moves.aftercare import NO_AFTERCARE, Aftercare, Air, Clip, Compressor, Reverb, Warmth
from mivlo.core.moves.bounds import GREATEST_GAIN_DB, HIGHEST_HZ, HIGHEST_Q, LARGEST_ID, LOWEST_HZ, LOWEST_Q
from mivlo.core.moves.dynamic import Acts, Detector, DynamicMove, ThresholdOf, key_band
from mivlo.core.moves.entry import Channels, Entry, Place
from mivlo.core.moves.fixed import FixedMove, treatment_db, treatment_sections
from mivlo.core.moves.key import OWN, SELF, Key, KeyShape
from mivlo.core.moves.kinds import Move, curve_db, mode_of, move_kinds
from mivlo.core.moves.rungs import Band, RungsMove, auditory_bands
from mivlo.core.moves.static import (
    BUTTERWORTH_Q,
    SectionPlan,
    Shape,
    StaticMove,
    butterworth_qualities,
    move_sections,
    plan_sections,
)
from mivlo.core.moves.treatment import MOST_MOVES, Phase, Treatment

__all__ = [
    "BUTTERWORTH_Q",
    "GREATEST_GAIN_DB",
    "HIGHEST_HZ",
    "HIGHEST_Q",
    "LARGEST_ID",
    "LOWEST_HZ",
    "LOWEST_Q",
    "MOST_MOVES",
    "NO_AFTERCARE",
    "OWN",
    "SELF",
    "Acts",
    "AdaptiveMove",
    "Aftercare",
    "Air",
    "Band",
    "Channels",
    "Clip",
    "Compressor",
    "Detector",
    "DynamicMove",
    "Entry",
    "FixedMove",
    "Key",
    "KeyShape",
    "Move",
    "Phase",
    "Place",
    "Reverb",
    "RungsMove",
    "SectionPlan",
    "Shape",
    "StaticMove",
    "ThresholdOf",
    "Treatment",
    "Warmth",
    "auditory_bands",
    "butterworth_qualities",
    "curve_db",
    "key_band",
    "mode_of",
    "move_kinds",
    "move_sections",
    "plan_sections",
    "treatment_db",
    "treatment_sections",
]
