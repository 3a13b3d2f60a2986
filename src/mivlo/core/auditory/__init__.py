"""A model of hearing: excitation, loudness, and loudness in the presence of something else."""

from mivlo.core.auditory.components import components, frame_count, frame_length
from mivlo.core.auditory.excitation import excitation
from mivlo.core.auditory.loudness import (
    SONES_A_BAND,
    TABLES,
    alone_at,
    partial_at,
    partial_loudness,
    sones,
    specific_loudness,
)
from mivlo.core.auditory.scale import BAND_CAMS, BAND_HZ, BANDS, COMPONENT_HZ, COMPONENTS, edges_of
from mivlo.core.auditory.weighting import K_WEIGHTS

__all__ = [
    "BANDS",
    "BAND_CAMS",
    "BAND_HZ",
    "COMPONENTS",
    "COMPONENT_HZ",
    "K_WEIGHTS",
    "SONES_A_BAND",
    "TABLES",
    "alone_at",
    "components",
    "edges_of",
    "excitation",
    "frame_count",
    "frame_length",
    "partial_at",
    "partial_loudness",
    "sones",
    "specific_loudness",
]
