"""The computation of Mivlo, for use from Python: no files, no database, no web, no clock.

from mivlo.core import Shape, StaticMove, treat
cleaned = treat(samples, [StaticMove(Shape.BELL, 412.0, q=14.4, gain_db=-6.0)], sample_rate=48_000)

A name is imported when it is first asked for: compiled code takes a second or two to load.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from mivlo.core.errors import BadAudio, InvalidValue, MivloError
    from mivlo.core.filters import SectionKind, analogue_response_db, design_section, response, response_db
    from mivlo.core.findings import Finding, find
    from mivlo.core.graph import Plan, Renderer, Strip, StripKind, Tap, TreatedSound, compile, treat
    from mivlo.core.loudness import LoudnessMeter, TruePeakMeter, gated_loudness, level_match_lu, true_peak
    from mivlo.core.moves import (
        Entry,
        Shape,
        StaticMove,
        Treatment,
        move_sections,
        treatment_db,
        treatment_sections,
    )
    from mivlo.core.probe import MonitorLimiter, Probe, ProbeMode, ProbeStream
    from mivlo.core.roles import Role
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

_HOMES = {
    "errors": ("BadAudio", "InvalidValue", "MivloError"),
    "filters": ("SectionKind", "analogue_response_db", "design_section", "response", "response_db"),
    "findings": ("Finding", "find"),
    "graph": ("Plan", "Renderer", "Strip", "StripKind", "Tap", "TreatedSound", "compile", "treat"),
    "loudness": ("LoudnessMeter", "TruePeakMeter", "gated_loudness", "level_match_lu", "true_peak"),
    "moves": ("Entry", "Shape", "StaticMove", "Treatment", "move_sections", "treatment_db", "treatment_sections"),
    "probe": ("MonitorLimiter", "Probe", "ProbeMode", "ProbeStream"),
    "roles": ("Role",),
    "spectra": ("LongTermSpectrum", "TimeMap", "band_levels", "log_grid", "long_term_levels"),
    "units": (
        "Note", "cents_between", "erb_hz", "erb_number", "hz_to_note", "octaves_to_q", "q_to_octaves", "ring_time_s",
    ),
}  # fmt: skip
_HOME_OF = {name: module for module, names in _HOMES.items() for name in names}

__all__ = [
    "BadAudio",
    "Entry",
    "Finding",
    "InvalidValue",
    "LongTermSpectrum",
    "LoudnessMeter",
    "MivloError",
    "MonitorLimiter",
    "Note",
    "Plan",
    "Probe",
    "ProbeMode",
    "ProbeStream",
    "Renderer",
    "Role",
    "SectionKind",
    "Shape",
    "StaticMove",
    "Strip",
    "StripKind",
    "Tap",
    "TimeMap",
    "TreatedSound",
    "Treatment",
    "TruePeakMeter",
    "analogue_response_db",
    "band_levels",
    "cents_between",
    "compile",
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


def __getattr__(name: str) -> Any:
    if name not in _HOME_OF:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(f"mivlo.core.{_HOME_OF[name]}"), name)
