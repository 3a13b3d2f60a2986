"""Second-order sections that keep the analogue shape up to the top of the range.

The analogue prototypes are those of the Audio EQ Cookbook (R. Bristow-Johnson, W3C Note 2021;
formulas from memory, checked in the tests against scipy). The bilinear transform squeezes them
towards half of the sample rate; here the squared magnitude of the digital section is fitted to the
analogue one directly.

Method. With x = sin²(ω/2) / sin²(ω₀/2) the squared magnitude of any second-order section is a
ratio of two quadratics in x:  |H|² = (n₀ + n₁x + n₂x²) / (1 + d₁x + d₂x²).  Its coefficients are
found by least squares on the linearised error, re-weighted a few times so that the *relative* error
counts (Sanathanan & Koerner, IEEE Trans. Autom. Control 8, 1963). Shapes that are zero somewhere
keep that zero exactly (low cut and band pass at 0 Hz, notch at its centre). A factorisation into
minimum-phase polynomials gives the section, which is stable by construction. The pieces of the
factorisation are those of M. Vicanek, "Matched Second Order Digital Filters", 2016 (from memory),
whose closed form is the fallback where the fit would turn negative.
"""

from __future__ import annotations

import math
from enum import IntEnum

import numba as nb
import numpy as np
import numpy.typing as npt

from mivlo.core.errors import InvalidValue
from mivlo.core.units import Floats, positive

HIGHEST_FIT_HZ = 20_500.0
"""The analogue shape is kept up to here (or to 0.98 of half the sample rate)."""

_POINTS = 72
_ROUNDS = 4
_CENTRE = 36 + 12  # index of the grid point that lies on the corner itself


class SectionKind(IntEnum):
    """What one second-order (or first-order) section is."""

    BELL = 0
    LOW_SHELF = 1
    HIGH_SHELF = 2
    HIGH_CUT_2 = 3
    LOW_CUT_2 = 4
    BAND_PASS = 5
    NOTCH = 6
    HIGH_CUT_1 = 7
    LOW_CUT_1 = 8


@nb.njit(cache=True, nogil=True)
def _analogue(kind, q, gain_db, num, den):  # type: ignore[no-untyped-def]
    """Coefficients of s², s, 1 of the prototype with corner at 1 rad/s, into `num` and `den`."""
    a = 10.0 ** (gain_db / 40.0)
    den[0], den[1], den[2] = 1.0, 1.0 / q, 1.0
    num[0], num[1], num[2] = 0.0, 0.0, 0.0
    if kind == 0:
        num[0], num[1], num[2] = 1.0, a / q, 1.0
        den[1] = 1.0 / (a * q)
    elif kind == 1:
        r = math.sqrt(a)
        num[0], num[1], num[2] = a, a * r / q, a * a
        den[0], den[1], den[2] = a, r / q, 1.0
    elif kind == 2:
        r = math.sqrt(a)
        num[0], num[1], num[2] = a * a, a * r / q, a
        den[0], den[1], den[2] = 1.0, r / q, a
    elif kind == 3:
        num[2] = 1.0
    elif kind == 4:
        num[0] = 1.0
    elif kind == 5:
        num[1] = 1.0 / q
    elif kind == 6:
        num[0], num[2] = 1.0, 1.0
    elif kind == 7:
        num[2] = 1.0
        den[0], den[1] = 0.0, 1.0
    else:
        num[1] = 1.0
        den[0], den[1] = 0.0, 1.0


@nb.njit(cache=True, nogil=True)
def _power(c, y):  # type: ignore[no-untyped-def]
    """|c₀s² + c₁s + c₂|² at s = jΩ, for y = Ω²."""
    return (c[2] - c[0] * y) ** 2 + c[1] * c[1] * y


@nb.njit(cache=True, nogil=True)
def _solve(m, v, n):  # type: ignore[no-untyped-def]
    """Solve the symmetric n x n system in place by Gauss with pivoting; False if singular."""
    for i in range(n):
        p = i
        for r in range(i + 1, n):
            if abs(m[r, i]) > abs(m[p, i]):
                p = r
        if abs(m[p, i]) < 1e-300:
            return False
        if p != i:
            for c in range(n):
                m[i, c], m[p, c] = m[p, c], m[i, c]
            v[i], v[p] = v[p], v[i]
        for r in range(i + 1, n):
            f = m[r, i] / m[i, i]
            for c in range(i, n):
                m[r, c] -= f * m[i, c]
            v[r] -= f * v[i]
    for i in range(n - 1, -1, -1):
        for c in range(i + 1, n):
            v[i] -= m[i, c] * v[c]
        v[i] /= m[i, i]
    return True


@nb.njit(cache=True, nogil=True)
def _min_phase(c0, c1, c2, out):  # type: ignore[no-untyped-def]
    """Polynomial of minimum phase with |P|² = c0 + c1 φ + c2 φ², φ = sin²(ω/2); False if < 0."""
    at_nyquist = c0 + c1 + c2
    scale = abs(c0) + abs(c1) + abs(c2)
    if c0 < -1e-12 * scale or at_nyquist < -1e-12 * scale:
        return False
    r0 = math.sqrt(max(c0, 0.0))
    r1 = math.sqrt(max(at_nyquist, 0.0))
    w = 0.5 * (r0 + r1)
    b2 = -0.25 * c2
    under = w * w + b2
    if under < -1e-9 * w * w:
        return False
    p0 = 0.5 * (w + math.sqrt(max(under, 0.0)))
    if p0 <= 0.0:
        return False
    out[0] = p0
    out[1] = 0.5 * (r0 - r1)
    out[2] = -b2 / (4.0 * p0)
    return True


@nb.njit(cache=True, nogil=True)
def _fit(kind, w0, top, num, den, coef):  # type: ignore[no-untyped-def]
    """Least squares for (n0, n1, n2, d1, d2) on x; returns False if the fit can't be used."""
    base = math.sin(0.5 * min(w0, math.pi)) ** 2
    first_order = kind >= 7
    # columns in use: numerator powers of x (or the notch's fixed square), then denominator
    use = np.zeros(5, dtype=np.bool_)
    fixed_notch = kind == 6 and w0 < math.pi * 0.98
    if kind <= 3 or (kind == 6 and not fixed_notch):
        use[0], use[1], use[2] = True, True, True
    elif kind == 4:
        use[2] = True
    elif kind == 5:
        use[1], use[2] = True, True
    elif kind == 6:
        use[2] = True
    elif kind == 7:
        use[0], use[1] = True, True
    else:
        use[1] = True
    use[3] = True
    use[4] = not first_order
    n = 0
    index = np.zeros(5, dtype=np.int64)
    for i in range(5):
        if use[i]:
            index[n] = i
            n += 1
    q_like = 1.0 if first_order else math.sqrt(abs(den[0] * den[2])) / max(den[1], 1e-12)
    q_num = q_like
    if kind <= 2:
        q_num = math.sqrt(abs(num[0] * num[2])) / max(num[1], 1e-12)
    narrow = min(1.5, 1.5 / max(q_like, q_num))
    grid = np.empty(_POINTS)
    m = 0
    for i in range(36):  # the skirts: four and a half octaves to each side
        grid[m] = w0 * 2.0 ** (-4.5 + 9.0 * i / 35.0)
        m += 1
    for i in range(24):  # the middle, as wide as the section itself
        grid[m] = w0 * 2.0 ** (narrow * (i - 12) / 12.0)
        m += 1
    for i in range(_POINTS - m):  # the top, where the sample rate bends the shape
        grid[m] = top * (0.3 + 0.7 * i / (_POINTS - 61.0))
        m += 1
    guess_den = np.empty(_POINTS)
    for i in range(_POINTS):
        guess_den[i] = _power(den, (grid[i] / w0) ** 2)
    mat = np.empty((5, 5))
    vec = np.empty(5)
    row = np.empty(5)
    for _ in range(_ROUNDS):
        mat[:, :] = 0.0
        vec[:] = 0.0
        for i in range(_POINTS):
            w = grid[i]
            if w > top:
                continue
            y = (w / w0) ** 2
            h = _power(num, y) / _power(den, y)
            if h < 1e-7:
                h = 1e-7  # below -70 dB the shape is not heard: do not chase it
                if kind != 3 and kind != 4:
                    continue
            x = math.sin(0.5 * w) ** 2 / base
            weight = 1.0 / (h * guess_den[i])
            if i == _CENTRE:
                weight *= 20.0  # the gain at the centre is what the user reads: let it be exact
            row[0] = weight
            row[1] = weight * x
            row[2] = weight * ((x - 1.0) ** 2 if fixed_notch else x * x)
            row[3] = -weight * h * x
            row[4] = -weight * h * x * x
            target = weight * h
            for r in range(n):
                a = row[index[r]]
                vec[r] += a * target
                for c in range(n):
                    mat[r, c] += a * row[index[c]]
        # scale to a unit diagonal: powers of x differ by many orders of magnitude
        d = np.ones(5)
        for r in range(n):
            d[r] = 1.0 / math.sqrt(mat[r, r]) if mat[r, r] > 0 else 1.0
        for r in range(n):
            vec[r] *= d[r]
            for c in range(n):
                mat[r, c] *= d[r] * d[c]
        if not _solve(mat, vec, n):
            return False
        coef[:] = 0.0
        for r in range(n):
            coef[index[r]] = vec[r] * d[r]
        for i in range(_POINTS):
            x = math.sin(0.5 * min(grid[i], math.pi)) ** 2 / base
            guess_den[i] = 1.0 + coef[3] * x + coef[4] * x * x
            if not guess_den[i] > 0.0:
                return False
    if fixed_notch:
        g = coef[2]
        coef[0], coef[1], coef[2] = g, -2.0 * g, g
    for k in range(5):
        if not math.isfinite(coef[k]):
            return False
    coef[1] /= base
    coef[2] /= base * base
    coef[3] /= base
    coef[4] /= base * base
    return True


@nb.njit(cache=True, nogil=True)
def _closed_form(w0, num, den, out):  # type: ignore[no-untyped-def]
    """Vicanek 2016: poles by impulse invariance, numerator matched at 0, at ω₀ and at Nyquist."""
    natural = math.sqrt(den[2] / den[0])
    damp = 0.5 * den[1] / den[0] / natural
    w = min(w0 * natural, 3.1)
    e = math.exp(-damp * w)
    if damp <= 1.0:
        a1 = -2.0 * e * math.cos(math.sqrt(1.0 - damp * damp) * w)
    else:
        s = math.sqrt(damp * damp - 1.0) * w
        a1 = -(math.exp(-damp * w + s) + math.exp(-damp * w - s))
    a2 = e * e
    s0, s1, s2 = (1.0 + a1 + a2) ** 2, (1.0 - a1 + a2) ** 2, -4.0 * a2
    b0 = s0 * _power(num, 0.0) / _power(den, 0.0)
    y = (math.pi / w0) ** 2
    b1 = s1 * _power(num, y) / _power(den, y)
    at = min(w0, 2.8)
    y = (at / w0) ** 2
    p1 = math.sin(0.5 * at) ** 2
    p0 = 1.0 - p1
    p2 = 4.0 * p0 * p1
    b2 = (_power(num, y) / _power(den, y) * (s0 * p0 + s1 * p1 + s2 * p2) - b0 * p0 - b1 * p1) / p2
    root0, root1 = math.sqrt(max(b0, 0.0)), math.sqrt(max(b1, 0.0))
    mean = 0.5 * (root0 + root1)
    n0 = 0.5 * (mean + math.sqrt(max(mean * mean + b2, 0.0)))
    if n0 < 1e-15:
        n0 = 1e-15
    out[0] = n0
    out[1] = 0.5 * (root0 - root1)
    out[2] = -b2 / (4.0 * n0)
    out[3] = a1
    out[4] = a2


@nb.njit(cache=True, nogil=True)
def design_into(kind, sample_rate, frequency, q, gain_db, out):  # type: ignore[no-untyped-def]
    """b0, b1, b2, a1, a2 of one section, written to `out`. Plain numbers in, for the kernels."""
    if kind <= 2 and abs(gain_db) < 1e-9:
        out[0], out[1], out[2], out[3], out[4] = 1.0, 0.0, 0.0, 0.0, 0.0
        return
    num = np.empty(3)
    den = np.empty(3)
    # a cut is the exact inverse of the boost: the pair then cancels to nothing
    inverse = kind <= 2 and gain_db < 0.0
    _analogue(kind, q, abs(gain_db) if inverse else gain_db, num, den)
    w0 = 2.0 * math.pi * frequency / sample_rate
    audible = 2.0 * math.pi * HIGHEST_FIT_HZ / sample_rate
    coef = np.empty(5)
    a = np.empty(3)
    b = np.empty(3)
    # Near the top a fit may turn negative between its last point and Nyquist: then it is tried
    # with points up to there, and a bell or shelf also upside down (poles and zeros exchanged).
    # The last resort before the closed form is to keep the shape a little less far up.
    for attempt in range(8):
        flipped = attempt % 2 == 1
        if flipped and kind > 2:
            continue
        top = min(0.98 * math.pi, audible)
        if attempt // 2 == 1:
            top = 0.998 * math.pi
        elif attempt // 2 >= 2:
            top *= 0.97 if attempt // 2 == 2 else 0.92
        upper, lower = (den, num) if flipped else (num, den)
        if (
            _fit(kind, w0, top, upper, lower, coef)
            and _min_phase(coef[0], coef[1], coef[2], b)
            and _min_phase(1.0, coef[3], coef[4], a)
        ):
            if inverse != flipped:
                a, b = b, a
            out[0], out[1], out[2] = b[0] / a[0], b[1] / a[0], b[2] / a[0]
            out[3], out[4] = a[1] / a[0], a[2] / a[0]
            return
    if kind >= 7:
        den[0], den[1], den[2] = 1e-9, 1.0, 1.0
    if kind <= 2 and den[2] * num[0] > num[2] * den[0]:  # the lower pair makes the better poles
        num, den = den, num
        inverse = not inverse
    _closed_form(w0, num, den, out)
    if inverse:
        b0, b1, b2, a1, a2 = out[0], out[1], out[2], out[3], out[4]
        out[0], out[1], out[2], out[3], out[4] = 1.0 / b0, a1 / b0, a2 / b0, b1 / b0, b2 / b0


def design_section(
    kind: SectionKind,
    frequency_hz: float,
    *,
    q: float = math.sqrt(0.5),
    gain_db: float = 0.0,
    sample_rate: float,
) -> Floats:
    """One second-order section.

    Parameters
    ----------
    kind : the shape of the section.
    frequency_hz : centre or corner, > 0. May lie above half of the sample rate: then what the
        section does below is kept.
    q : quality of the analogue prototype, > 0; not used by first-order sections.
    gain_db : gain of a bell or a shelf.
    sample_rate : Hz, > 0.

    Returns
    -------
    (6,) array in scipy's order: b0, b1, b2, 1, a1, a2.

    Raises
    ------
    InvalidValue : a parameter that is not above zero or not finite.
    """
    positive("sample_rate", sample_rate)
    positive("frequency_hz", frequency_hz)
    positive("q", q)
    if not math.isfinite(gain_db):
        raise InvalidValue("gain_db", gain_db, "it must be a finite number of dB")
    out = np.empty(5)
    design_into(int(kind), float(sample_rate), float(frequency_hz), float(q), float(gain_db), out)
    return np.array([out[0], out[1], out[2], 1.0, out[3], out[4]])


def analogue_polynomials(kind: SectionKind, *, q: float, gain_db: float) -> tuple[Floats, Floats]:
    """Numerator and denominator of the analogue prototype in s, highest power first: (3,) each; its frequency is 1."""
    num, den = np.empty(3), np.empty(3)
    _analogue(int(kind), float(q), float(gain_db), num, den)
    return num, den


def analogue_response(
    kind: SectionKind,
    frequency_hz: float,
    at_hz: npt.ArrayLike,
    *,
    q: float = math.sqrt(0.5),
    gain_db: float = 0.0,
) -> npt.NDArray[np.complex128]:
    """Complex response of the analogue prototype at the frequencies `at_hz` (any shape)."""
    num, den = analogue_polynomials(kind, q=q, gain_db=gain_db)
    s = 1j * np.asarray(at_hz, dtype=np.float64) / positive("frequency_hz", frequency_hz)
    return np.asarray(np.polyval(num, s) / np.polyval(den, s))


def analogue_response_db(
    kind: SectionKind,
    frequency_hz: float,
    at_hz: npt.ArrayLike,
    *,
    q: float = math.sqrt(0.5),
    gain_db: float = 0.0,
) -> Floats:
    """Level in dB of the analogue prototype at the frequencies `at_hz` (any shape)."""
    h = np.abs(analogue_response(kind, frequency_hz, at_hz, q=q, gain_db=gain_db))
    return np.asarray(20.0 * np.log10(np.maximum(h, 1e-10)))


def response(sections: npt.ArrayLike, at_hz: npt.ArrayLike, *, sample_rate: float) -> npt.NDArray[np.complex128]:
    """Complex response of a cascade.

    Parameters
    ----------
    sections : (n, 6), scipy's order; n may be 0, the response is then 1.
    at_hz : (m,) frequencies in Hz.

    Returns
    -------
    (m,) complex.
    """
    sos = np.asarray(sections, dtype=np.float64).reshape(-1, 6)
    z = np.exp(-2j * np.pi * np.asarray(at_hz, dtype=np.float64) / positive("sample_rate", sample_rate))
    out = np.ones_like(z)
    for b0, b1, b2, a0, a1, a2 in sos:
        out *= (b0 + z * (b1 + z * b2)) / (a0 + z * (a1 + z * a2))
    return np.asarray(out)


def response_db(sections: npt.ArrayLike, at_hz: npt.ArrayLike, *, sample_rate: float) -> Floats:
    """Level in dB of a cascade at the frequencies `at_hz`; never below -200 dB."""
    h = np.abs(response(sections, at_hz, sample_rate=sample_rate))
    return np.asarray(20.0 * np.log10(np.maximum(h, 1e-10)))
