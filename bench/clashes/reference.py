"""The same model written a second time, as plainly as it can be: another short-time spectrum, every bin of it spread by
itself, filters a quarter of a Cam apart, the paper's formulas in double precision. Slow; for comparison only."""

from __future__ import annotations

import numpy as np
from scipy import signal

from mivlo.core.auditory.outer import efficiency, threshold_db, to_cochlea_db
from mivlo.core.units import Floats

_STEP = 0.25
_C = 0.047


def _excitation(x: Floats, rate: int, full_scale_db: float, cams: Floats) -> Floats:
    """(frames, bands) of windows of 46 ms, half overlapping."""
    f, _, z = signal.stft(x, rate, "hann", nperseg=2048, scaling="psd")
    power = np.abs(z.T) ** 2 * rate / 2048
    use = (f > 25) & (f < 14_500)
    f, power = f[use], power[:, use]
    level = power * 10.0 ** ((full_scale_db + to_cochlea_db(f)) / 10.0)
    centres = (10.0 ** (cams / 21.4) - 1.0) / 0.00437
    width = 24.7 * (0.00437 * f + 1.0)
    near = np.abs(f[:, None] - f) <= width / 2  # what lies in the ERB around each bin
    x_db = 10.0 * np.log10(level @ near.T + 1e-12)
    p = 4.0 * centres / (24.7 * (0.00437 * centres + 1.0))
    g = (f[:, None] - centres) / centres
    out = np.zeros((len(power), len(centres)))
    for row in range(len(power)):
        lower = p - 0.35 * p / 30.16 * (x_db[row][:, None] - 51.0)
        slope = np.where(g < 0, np.maximum(lower, 1.0), p) * np.abs(g)
        out[row] = level[row] @ ((1.0 + slope) * np.exp(-slope))
    return out


def kept(tracks: tuple[Floats, ...], rate: int, *, full_scale_db: float = 95.0) -> list[float]:
    """What is left of each track's loudness (n,) among the others."""
    cams = np.arange(1.75, 38.8, _STEP)
    hz = (10.0 ** (cams / 21.4) - 1.0) / 0.00437
    quiet = 10.0 ** (threshold_db(hz) / 10.0)
    gain = quiet[-1] / quiet
    alpha = np.interp(
        10 * np.log10(gain), [-25, -20, -15, -10, -5, 0], [0.26692, 0.25016, 0.23679, 0.22228, 0.21055, 0.2]
    )
    a = 2.0 * quiet[-1] * 10.0 ** (-10 * np.log10(gain) * 0.0112)  # 4.6 at 500 Hz and above, 8.8 at 25 dB less gain
    k = efficiency(hz)
    own = [_excitation(x, rate, full_scale_db, cams) for x in tracks]
    out = []
    for i, e in enumerate(own):
        others = tuple(t for j, t in enumerate(tracks) if j != i)
        noise = _excitation(np.sum(others, axis=0), rate, full_scale_db, cams)
        loud = (gain * e + a) ** alpha - a**alpha
        alone = np.where(e < quiet, (2 * e / (e + quiet)) ** 1.5, 1.0) * loud
        masked = k * noise + quiet
        both, floor = (gain * (e + noise) + a) ** alpha, (gain * (noise * (1 + k) + quiet) + a) ** alpha
        bottom, under = (gain * quiet + a) ** alpha, (gain * noise + a) ** alpha
        over = both - a**alpha - (floor - bottom) * (masked / np.maximum(e, 1e-12)) ** 0.3
        faint = (2 * e / (e + masked)) ** 1.5 * (bottom - a**alpha) / np.maximum(floor - under, 1e-9) * (both - under)
        partial = np.clip(np.where(e >= masked, over, faint), 0.0, alone)
        out.append(float(np.sum(partial) / max(1e-12, float(np.sum(alone)))))
    return out
