"""A cut of a tone that acts on its tail only: the stroke keeps its body, what rings on goes, what follows frees it.

The move listens to the tone against the whole track: in a stroke everything is loud, in the tail little but the tone.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.typing as npt
from scipy.ndimage import maximum_filter1d, uniform_filter1d

from mivlo.core.making.thresholds import Trace, trace
from mivlo.core.moves import DynamicMove, Shape, StaticMove, ThresholdOf
from mivlo.core.processors.dynamic_kernel import CELL

ATTACK_MS, RELEASE_MS, RATIO = 20.0, 30.0, 20.0
LEAST_APART_DB = 4.0
"""By so much more than in strokes the tone has to lead in tails."""
_STROKE_DB = 3.0
_TAIL_DB = (10.0, 35.0)
"""How far below the stroke before it a tail is."""
_NEAR_S, _BEFORE_S, _SMOOTH_S = 0.25, 1.5, 0.02
_LEAST_CELLS = 50


def tail_cut(cut: StaticMove, mono: npt.ArrayLike, *, sample_rate: float) -> DynamicMove | None:
    """A dynamic cut as narrow and as deep that rests in strokes; None where tails can't be told from them.

    mono : (n,) what is cut.
    """
    x = np.asarray(mono, dtype=np.float64)
    move = DynamicMove(
        Shape.BELL, cut.frequency_hz, threshold_db=0.0, range_db=cut.gain_db, q=cut.q, ratio=RATIO,
        attack_ms=ATTACK_MS, release_ms=RELEASE_MS, threshold_of=ThresholdOf.STRIP,
    )  # fmt: skip
    heard = trace(move, x[:, None], sample_rate=sample_rate)
    strokes, tails = _strokes_and_tails(x, heard, sample_rate)
    if min(np.count_nonzero(strokes), np.count_nonzero(tails)) < _LEAST_CELLS:
        return None
    at_strokes = float(np.quantile(heard.level_db[strokes], 0.75))
    in_tails = float(np.median(heard.level_db[tails]))
    if in_tails - at_strokes < LEAST_APART_DB:
        return None
    # the typical tail is cut by all of it, if the strokes leave room for that
    threshold = max(at_strokes + 1.0, in_tails - 1.1 * abs(cut.gain_db))
    return replace(move, threshold_db=round(float(np.clip(threshold, -120.0, 24.0)), 1))


def _strokes_and_tails(x: np.ndarray, heard: Trace, sample_rate: float) -> tuple[np.ndarray, np.ndarray]:  # type: ignore[type-arg]
    cells = len(heard.times_s)
    power = np.zeros(cells * CELL)
    power[: min(len(x), len(power))] = x[: len(power)] ** 2
    per_s = sample_rate / CELL
    smooth = uniform_filter1d(power.reshape(cells, CELL).mean(axis=1), max(1, round(_SMOOTH_S * per_s)))
    level = 10.0 * np.log10(smooth + 1e-14)
    near = maximum_filter1d(level, 2 * round(_NEAR_S * per_s) + 1)
    behind = round(_BEFORE_S * per_s)
    before = maximum_filter1d(level, behind + 1, origin=behind // 2)
    loud = level > np.max(level) - 30.0
    strokes = loud & (level >= near - _STROKE_DB)
    tails = (level <= before - _TAIL_DB[0]) & (level >= before - _TAIL_DB[1]) & (before > np.max(level) - 20.0)
    return strokes, tails & ~strokes
