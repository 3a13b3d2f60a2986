"""What a value may be, written once: as `annotated_types` metadata at the field it belongs to.

The core checks it when a value is made (`check`); whoever reads documents from outside reads the same
metadata. So a bound stands nowhere else.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, fields
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
    for name, bound in _bounds(type(value)).items():  # type: ignore[arg-type]
        given = getattr(value, name)
        if not bound.allows(given):
            raise InvalidValue(name, given, bound.words)


def clamped(kind: type[Any], name: str, value: float) -> float:
    """The nearest to a number that a field with an interval may be."""
    interval = _bounds(kind)[name].interval  # type: ignore[arg-type]
    return float(min(interval.le, max(interval.ge, value)))


def bound_words(kind: type[Any], name: str) -> str | None:
    """What a field may be, in words; None where it has no bound."""
    bound = _bounds(kind).get(name)  # type: ignore[arg-type]
    return None if bound is None else bound.words


@dataclass(frozen=True, slots=True)
class _Bound:
    """An interval with its unit, or choices; `optional` where None is a value too."""

    interval: Any
    unit: str
    choices: tuple[Any, ...]
    optional: bool

    def allows(self, given: Any) -> bool:
        if given is None and self.optional:
            return True
        if self.choices:
            return given in self.choices
        return _is_number(given) and bool(self.interval.ge <= given <= self.interval.le)

    @property
    def words(self) -> str:
        if self.choices:
            return f"it must be {', '.join(map(str, self.choices[:-1]))} or {self.choices[-1]}"
        return f"it must lie between {self.interval.ge:g} and {self.interval.le:g} {self.unit}".rstrip()


def _is_number(given: Any) -> bool:
    return isinstance(given, int | float) and not isinstance(given, bool) and math.isfinite(given)


def _without_none(hint: Any) -> Any:
    """What an optional value is where it is given; hints of several other kinds have no bound of their own."""
    kinds = [kind for kind in get_args(hint) if kind is not type(None)]
    return kinds[0] if len(kinds) == 1 else Any


@lru_cache
def _bounds(kind: Any) -> dict[str, _Bound]:
    """The fields of a dataclass that have a bound."""
    found: dict[str, _Bound] = {}
    hints = get_type_hints(kind, include_extras=True)
    for field in fields(kind):
        hint = hints[field.name]
        if type(None) in get_args(hint):
            hint, optional = _without_none(hint), True
        else:
            optional = False
        parts = get_args(hint)
        if get_origin(hint) is Literal and len(parts) > 1:
            found[field.name] = _Bound(None, "", parts, optional)
        elif get_origin(hint) is Annotated:
            interval = next((m for m in parts[1:] if isinstance(m, Interval)), None)
            unit = next((m.unit for m in parts[1:] if isinstance(m, Unit)), "")
            if interval is not None:
                found[field.name] = _Bound(interval, unit, (), optional)
    return found
