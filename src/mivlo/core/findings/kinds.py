"""Names of troubles by where they lie. Common practice, no source."""

from __future__ import annotations

from mivlo.core.findings.finding import Kind
from mivlo.core.roles import Role

BROAD_OCT = 0.5
"""What is wider than this is a broad trouble, not a ring."""

# up to Hz
_RANGES = (
    (140.0, Kind.BOOM), (240.0, Kind.MUD), (620.0, Kind.BOX), (1_600.0, Kind.HONK), (5_000.0, Kind.HARSH),
    (1e9, Kind.FIZZ),
)  # fmt: skip
_GUITAR_FIZZ_HZ = 2_500.0


def broad_kind(frequency_hz: float, role: Role | None = None) -> Kind:
    """The name of a broad trouble around `frequency_hz`; a guitar's harsh range is called fizz."""
    if role is Role.GUITAR and frequency_hz >= _GUITAR_FIZZ_HZ:
        return Kind.FIZZ
    return next(kind for up_to, kind in _RANGES if frequency_hz < up_to)
