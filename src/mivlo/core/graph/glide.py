"""Gains that change without a click: an S from the old to the new value, fixed to frames of the song."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from mivlo.core.units import Floats

RAMP_S = 512 / 48_000
"""Time in which a fader, a switch or a gain reaches its new value."""


def s_curve(share: npt.ArrayLike) -> Floats:
    """The way from 0 to 1, with smooth ends; `share` in 0 to 1, any shape."""
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * np.asarray(share, dtype=np.float64)))


@dataclass(frozen=True, slots=True)
class GlideState:
    """Where a glide is."""

    start: Floats
    goal: Floats
    begins: int


_LONG_AGO = -(1 << 62)


class Glide:
    """A row of gains on their way.

    The way is fixed to frames of the song, so that running over what came before does not use it up.

    Parameters
    ----------
    values : (k,) where they are at first.
    frames : how long a change takes.

    Attributes
    ----------
    goal : (k,) where they are going, or stand.
    ends_silent : whether all of these are 0.
    """

    def __init__(self, values: npt.ArrayLike, frames: int) -> None:
        self.goal = np.array(values, dtype=np.float64)
        self.ends_silent = not self.goal.any()
        self._start = self.goal
        self._frames = max(1, frames)
        self._begins = _LONG_AGO

    def stands(self, frame: int) -> bool:
        """Whether nothing moves from this frame on."""
        return frame >= self._begins + self._frames

    def aim(self, values: npt.ArrayLike, frame: int | None) -> None:
        """Set out for new values at this frame, from wherever they are; None: be there at once."""
        goal = np.array(values, dtype=np.float64)
        if frame is None:
            self._start, self.goal, self._begins = goal, goal, _LONG_AGO
        elif not np.array_equal(goal, self.goal):
            self._start, self.goal, self._begins = self.over(frame, frame + 1)[0], goal, frame
        self.ends_silent = not self.goal.any()

    def over(self, start: int, stop: int) -> Floats:
        """The values at the frames start to stop: (n, k), or (1, k) where they stand still."""
        if self.stands(start):
            return self.goal[None, :]
        share = np.clip((np.arange(start, stop) - self._begins) / self._frames, 0.0, 1.0)
        return np.asarray(self._start + (self.goal - self._start) * s_curve(share)[:, None])

    def state(self) -> GlideState:
        return GlideState(self._start, self.goal, self._begins)

    def restore(self, state: GlideState) -> None:
        self._start, self.goal, self._begins = state.start, state.goal, state.begins
        self.ends_silent = not self.goal.any()
