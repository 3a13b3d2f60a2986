"""The computation of Mivlo, for use from Python: no files, no database, no web, no clock.

from mivlo.core import Move, Shape, treat
cleaned = treat(samples, [Move(Shape.BELL, 412.0, q=14.4, gain_db=-6.0)], sample_rate=48_000)
"""

from mivlo.core.chain import Cascade, Chain, treat
from mivlo.core.errors import BadAudio, InvalidValue, MivloError
from mivlo.core.filters import SectionKind, analogue_response_db, design_section, response, response_db
from mivlo.core.findings import Finding, find
from mivlo.core.loudness import LoudnessMeter, TruePeakMeter, gated_loudness, level_match_lu, true_peak
from mivlo.core.moves import Move, Shape, move_sections, treatment_db, treatment_sections
from mivlo.core.probe import MonitorLimiter, Probe, ProbeMode, ProbeStream
from mivlo.core.spectra import LongTermSpectrum, TimeMap, band_levels, log_grid, long_term_levels
from mivlo.core.units import (
    Note,
    cents_between,
    erb_hz,
    erb_number,
    hz_to_note,
    octaves_to_q,
    q_to_octaves,
    ring_time_s,
)

__all__ = [
    "BadAudio",
    "Cascade",
    "Chain",
    "Finding",
    "InvalidValue",
    "LongTermSpectrum",
    "LoudnessMeter",
    "MivloError",
    "MonitorLimiter",
    "Move",
    "Note",
    "Probe",
    "ProbeMode",
    "ProbeStream",
    "SectionKind",
    "Shape",
    "TimeMap",
    "TruePeakMeter",
    "analogue_response_db",
    "band_levels",
    "cents_between",
    "design_section",
    "erb_hz",
    "erb_number",
    "find",
    "gated_loudness",
    "hz_to_note",
    "level_match_lu",
    "log_grid",
    "long_term_levels",
    "move_sections",
    "octaves_to_q",
    "q_to_octaves",
    "response",
    "response_db",
    "ring_time_s",
    "treat",
    "treatment_db",
    "treatment_sections",
    "true_peak",
]
