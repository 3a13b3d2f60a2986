"""What a value may be, written once: as `annotated_types` metadata at the field it belongs to.

The core checks it when a value is made (`check`); whoever reads documents from outside reads the same
metadata. So a bound stands nowhere else.
"""

from __future__ import annotations

import math
from collections.abc import Hashable
from dataclasses import fields
from functools import lru_cache
from typing import Annotated, Any, Literal, get_args, get_origin, get_type_hints

from annotated_types import Interval, Unit

from mivlo.core.errors import InvalidValue

LOWEST_HZ, HIGHEST_HZ = 10.0, 24_000.0
LOWEST_Q, HIGHEST_Q = 0.1, 100.0
GREATEST_GAIN_DB = 30.0
LARGEST_ID = 2**32 - 1
LONGEST_S = 24 * 3600.0
"""No recording is longer than a day."""

Hertz = Annotated[float, Interval(ge=LOWEST_HZ, le=HIGHEST_HZ), Unit("Hz")]
Quality = Annotated[float, Interval(ge=LOWEST_Q, le=HIGHEST_Q)]
GainDb = Annotated[float, Interval(ge=-GREATEST_GAIN_DB, le=GREATEST_GAIN_DB), Unit("dB")]
Seconds = Annotated[float, Interval(ge=0.0, le=LONGEST_S), Unit("s")]
Id = Annotated[int, Interval(ge=0, le=LARGEST_ID)]


def check(value: Any) -> None:
    """Hold the fields of a dataclass against their bounds; InvalidValue names the first that breaks one."""
    for name, bound, unit, choices in _bounds(type(value)):  # type: ignore[arg-type]
        given = getattr(value, name)
        if choices is not None:
            if given not in choices:
                words = [str(c) for c in choices]
                raise InvalidValue(name, given, f"it must be {', '.join(words[:-1])} or {words[-1]}")
        elif bound is not None and not (_is_number(given) and bound.ge <= given <= bound.le):
            raise InvalidValue(name, given, f"it must lie between {bound.ge:g} and {bound.le:g} {unit}".rstrip())


def _is_number(given: Any) -> bool:
    return isinstance(given, int | float) and not isinstance(given, bool) and math.isfinite(given)


@lru_cache
def _bounds(kind: Hashable) -> tuple[tuple[str, Any, str, tuple[Any, ...] | None], ...]:
    """Per bounded field: its name, interval, unit, and the choices of a literal."""
    found: list[tuple[str, Any, str, tuple[Any, ...] | None]] = []
    hints = get_type_hints(kind, include_extras=True)
    for field in fields(kind):  # type: ignore[arg-type]
        hint = hints[field.name]
        origin, parts = get_origin(hint), get_args(hint)
        if origin is Literal and len(parts) > 1:
            found.append((field.name, None, "", parts))
        elif origin is Annotated:
            interval = next((m for m in parts[1:] if isinstance(m, Interval)), None)
            unit = next((m.unit for m in parts[1:] if isinstance(m, Unit)), "")
            if interval is not None:
                found.append((field.name, interval, unit, None))
    return tuple(found)
