"""Fit the second opinion that ships: what makes a spot likely, and how deep a cut of it harms least.

    python -m bench.findings.second look    # looks at clips with networks that never heard them; kept in the cache
    python -m bench.findings.second         # fits to what was seen and puts it into the model

Looked at are all sources that the networks which ship never heard: of foreign origin, and other instruments of the
origins that they learnt from; with one to three troubles, so that little is held against what stands alone. Where
networks that never heard a family have been trained (`bench.findings.train ... foreign`), each source that is trained
on is looked at by those: nothing is fitted to that, it only says what the same curves do there. Figures are printed
with the sources parted (`parted`): what is said of one is said by curves and a calibration that were fitted without
it, and with those the benchmark judges it.
"""

from __future__ import annotations

import pickle
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
import numpy.typing as npt
from scipy.optimize import minimize
from scipy.signal import welch
from scipy.special import expit, logit

from bench.findings.clips import CACHE, FOLDS, clip, without
from bench.findings.damage import ANY_COUNT, BANDS_HZ, Sound, damage, distance, levels
from bench.findings.judge import MOST, means
from bench.findings.origins import networks_without
from bench.findings.parted import PARTS, keep, parted
from bench.findings.sources import FOREIGN, KNOWN, RATE, all_sources
from bench.findings.spill import damaged_beside, spill_of_half
from mivlo.core.findings.cuts import bell_db, deepest_for
from mivlo.core.findings.finding import Kind, rank_of
from mivlo.core.findings.network import Model, read_model
from mivlo.core.findings.opinion import SENSE, Curve, Opinion, to_arrays
from mivlo.core.findings.search import LEAST_DEPTH_DB, Search
from mivlo.core.findings.witnesses import BROAD, NARROW
from mivlo.core.roles import Role
from mivlo.core.units import Floats

OUT = Path("src/mivlo/core/findings/model.npz")
SEEN = CACHE / "seen.pickle"
ORIGINS = dict.fromkeys(KNOWN, "known") | dict.fromkeys(FOREIGN, "foreign")
"""Of the halves that the networks never heard, what they are to them."""
TAKES, DAMAGES = 4, 3
TAKES_BESIDE, DAMAGES_BESIDE = 2, 2
"""Of clips in which others are heard."""
_KNOTS = {"certainty": 8, "closer_certainty": 8, "boost_db": 5, "height_db": 5, "boost_disagreement_db": 5}
_FEW_KNOTS = 4
_STIFF = 3.0
CONFIDENCES = np.array([0.1, 0.2, 0.35, 0.47, 0.55, 0.7, 0.85, 1.0])
CLEAN_WEIGHT = 1.0
"""How much more a decibel counts that is taken from a clean track than one that is left of a trouble."""
_CELLS_OCT = np.arange(np.log2(50.0), np.log2(14_000.0), 1.0 / 96.0)
_IN_BAND = np.abs(_CELLS_OCT[None] - np.log2(BANDS_HZ)[:, None]) <= 1 / 24


Opinions = dict[bool, Opinion]
"""On narrow spots (False) and on broad ones."""
Calibrations = dict[bool, Floats]


@dataclass(slots=True)
class Spotted:
    """A spot as it was seen. confidence : by curves that were fitted without its source."""

    broad: bool
    frequency_hz: float
    octaves: float
    height_db: float
    witnesses: dict[str, float]
    real: bool
    confidence: float = 0.0


@dataclass(slots=True)
class Look:
    """What was seen of one clip.

    origin : "foreign", "known" or "family" (left out). cells : its power in 1/96 octaves; levels and clean : as the
    benchmark measures. beside : whether others are heard in it.
    """

    source: str
    origin: str
    damaged: bool
    cells: Floats
    levels: Floats
    clean: Floats
    spots: list[Spotted] = field(default_factory=list)
    beside: bool = False

    @property
    def counts(self) -> float:
        """A track without trouble is as likely as one with some."""
        if self.damaged:
            return 1.0
        return float(DAMAGES_BESIDE if self.beside else DAMAGES)


def _cells(x: Floats) -> Floats:
    hz, power = welch(x, RATE, nperseg=32_768)
    sums = np.concatenate([[0.0], np.cumsum(power)])
    edges = 2.0 ** np.append(_CELLS_OCT - 1 / 192, _CELLS_OCT[-1] + 1 / 192) / hz[1]
    return np.diff(np.interp(edges, np.arange(len(sums)) - 0.5, sums)) + 1e-30


def _look(
    sound: Sound, model: Model, role: Role | None, source: str, origin: str, clean: Floats, *, beside: bool
) -> Look:
    x, bells = sound
    search = Search(x[:, None], sample_rate=RATE, role=role, model=model)
    out = Look(source, origin, bool(bells), _cells(x), levels(x), clean, beside=beside)
    for spot, _, heard in search.weighed():
        real = any(means(spot.frequency_hz, spot.octaves, bell) for bell in bells)
        out.spots.append(Spotted(spot.broad, spot.frequency_hz, spot.octaves, spot.gain_db, heard, real))
    return out


def _looks_at(job: tuple[int, int, int, str, str]) -> list[Look]:
    number, take, damages, path, origin = job
    source = all_sources()[number]
    # networks that never heard a family don't know it
    role = Role(source.role) if origin != "family" and take % 2 else None
    model = networks_without(source)
    if path:  # no network that reads the closer look never heard a family
        with Path(path).open("rb") as file:
            model = read_model(file)

    def seen(clean: Floats, damaged: Sequence[Sound], *, beside: bool) -> list[Look]:
        sounds: list[Sound] = [(clean, ()), *(sound for sound in damaged if sound[1])]
        target = levels(clean)
        return [_look(sound, model, role, source.name, origin, target, beside=beside) for sound in sounds]

    clean = clip(source, take)
    seeds = ([9, number, take, again] for again in range(damages))
    by_itself = [damage(clean, np.random.default_rng(seed), count=ANY_COUNT) for seed in seeds]
    out = seen(clean, by_itself, beside=False)
    if origin == "family" or take >= TAKES_BESIDE:
        return out
    random = np.random.default_rng([11, number, take])
    others = spill_of_half(source, clean, random, range(TAKES))
    with_others = [damaged_beside(clean, others, random, count=ANY_COUNT) for _ in range(DAMAGES_BESIDE)]
    return out + seen(clean + others, with_others, beside=True)


def _jobs() -> Iterator[tuple[int, int, int, str, str]]:
    for number, source in enumerate(all_sources()):
        if source.half in ORIGINS:
            origin = ORIGINS[source.half]
            yield from ((number, take, DAMAGES, "", origin) for take in range(TAKES))
        elif source.half == "more":
            fold = next(name for name, roles in FOLDS.items() if source.role in roles)
            if without(fold).exists():
                yield number, 0, 1, str(without(fold)), "family"


def look_at_all(workers: int = 2) -> None:
    """Look at all clips and keep what was seen."""
    jobs, seen = list(_jobs()), []
    with ProcessPoolExecutor(workers) as pool:
        for done, some in enumerate(pool.map(_looks_at, jobs, chunksize=2)):
            seen += some
            if done % 50 == 0:
                print(done, len(jobs), flush=True)
    with SEEN.open("wb") as file:
        pickle.dump(seen, file)


# --- the curves -----------------------------------------------------------------------------------


def fit(spots: Sequence[Spotted], weights: Floats, names: Sequence[str]) -> Opinion:
    """Curves of least penalised log-loss; steps of one sign where the sense of a witness is known."""
    real = np.array([s.real for s in spots], dtype=np.float64)
    knots, columns, bounds, groups = {}, [], [], []
    for name in names:
        asked = np.array([name in s.witnesses for s in spots])
        x = np.array([s.witnesses.get(name, np.nan) for s in spots])
        there = np.isfinite(x)
        at = np.unique(np.quantile(x[there], np.linspace(0.01, 0.99, _KNOTS.get(name, _FEW_KNOTS) + 1)))
        knots[name] = at if len(at) > 1 else np.array([at[0], at[0] + 1.0])
        first = len(columns)
        for a, b in zip(knots[name][:-1], knots[name][1:], strict=True):
            columns.append(np.where(there, np.clip((np.where(there, x, a) - a) / (b - a), 0.0, 1.0), 0.0))
            bounds.append({1: (0.0, None), -1: (None, 0.0), 0: (None, None)}[SENSE[name]])
        columns.append((asked & ~there).astype(np.float64))
        bounds.append((None, None))
        groups.append((first, len(columns) - 1))
    columns.append(np.ones(len(spots)))
    bounds.append((None, None))
    x = np.stack(columns, axis=1)

    def loss(steps: Floats) -> tuple[float, Floats]:
        total, slope = _log_loss(steps, x, real, weights)
        for a, b in groups:
            total += _STIFF * float(np.sum(steps[a : b + 1] ** 2) + np.sum(np.diff(steps[a:b]) ** 2))
            slope[a : b + 1] += 2.0 * _STIFF * steps[a : b + 1]
            change = np.diff(steps[a:b])
            slope[a : b - 1] -= 2.0 * _STIFF * change
            slope[a + 1 : b] += 2.0 * _STIFF * change
        return total, slope

    steps = minimize(loss, np.zeros(x.shape[1]), jac=True, method="L-BFGS-B", bounds=bounds, options={"maxiter": 500}).x
    curves = {
        name: Curve(knots[name], np.concatenate([[0.0], np.cumsum(steps[a:b])]), float(steps[b]))
        for name, (a, b) in zip(names, groups, strict=True)
    }
    return Opinion(curves, float(steps[-1]), np.stack([CONFIDENCES, CONFIDENCES]))


def _log_loss(values: Floats, x: Floats, real: Floats, weights: Floats) -> tuple[float, Floats]:
    """Weighted log-loss of the log-odds x @ values, and its slope."""
    odds = x @ values
    total = float(np.sum(weights * (np.logaddexp(0.0, odds) - real * odds)))
    return total, x.T @ (weights * (expit(odds) - real))


def _odds(share: npt.ArrayLike) -> Floats:
    return np.asarray(logit(np.clip(share, 1e-9, 1.0 - 1e-9)))


def _rows(looks: Sequence[Look], broad: bool) -> tuple[list[Spotted], Floats]:
    rows = [(s, look.counts) for look in looks for s in look.spots if s.broad is broad]
    return [s for s, _ in rows], np.array([w for _, w in rows])


_CALIBRATED_AT = np.array([-6.0, -3.0, -1.5, -0.75, 0.0, 0.75, 1.5, 3.0, 6.0])
_AS_THEY_ARE = {False: 2.0, True: 30.0}
"""How many spots speak for leaving each step of the calibration as long as it is; of broad ones few are sure, and most
of those come from one source."""


def calibrate(spots: Sequence[Spotted], weights: Floats, *, broad: bool) -> Floats:
    """(2, n): log-odds as summed, and such that of what is said with a confidence, so much is real. Rises."""
    odds = _odds([s.confidence for s in spots])
    real = np.array([s.real for s in spots], dtype=np.float64)
    # each row: how much of the first value and of every step lies below it
    lengths = np.diff(_CALIBRATED_AT)
    steps = np.clip((odds[:, None] - _CALIBRATED_AT[:-1]) / lengths, 0.0, 1.0)
    x = np.concatenate([np.ones((len(odds), 1)), steps], axis=1)
    first = np.concatenate([_CALIBRATED_AT[:1], lengths])

    kept = _AS_THEY_ARE[broad] * np.append(0.0, np.ones(len(lengths)))

    def loss(values: Floats) -> tuple[float, Floats]:
        total, slope = _log_loss(values, x, real, weights)
        return total + float(np.sum(kept * (values - first) ** 2)), slope + 2.0 * kept * (values - first)

    bounds = [(None, None), *[(0.01, None)] * len(lengths)]
    values = minimize(loss, first, jac=True, method="L-BFGS-B", bounds=bounds).x
    return np.stack([_CALIBRATED_AT, np.cumsum(values)])


def opinions_on(looks: Sequence[Look]) -> Opinions:
    """Curves fitted to what was seen, not calibrated yet."""
    return {broad: fit(*_rows(looks, broad), BROAD if broad else NARROW) for broad in (False, True)}


def say_without_own(looks: Sequence[Look], part: Mapping[str, int]) -> list[Opinions]:
    """Give every spot the confidence of curves that were fitted without its part of the sources; these curves."""
    fitted = [look for look in looks if look.origin != "family"]
    apart = [opinions_on([look for look in fitted if part[look.source] != k]) for k in range(PARTS)]
    for look in looks:
        for spot in look.spots:
            spot.confidence = apart[part[look.source]][spot.broad].confidence(spot.witnesses)
    return apart


def calibrate_on_foreign(looks: Sequence[Look], part: Mapping[str, int]) -> tuple[Calibrations, list[Calibrations]]:
    """The calibrations that ship, and those without each part of the sources; spots get what others' say.

    Only foreign sources tell: on those like what was trained on, too little is said rather than too much.
    """

    def on(some: Sequence[Look]) -> Calibrations:
        return {broad: calibrate(*_rows(some, broad), broad=broad) for broad in (False, True)}

    foreign = [look for look in looks if look.origin == "foreign"]
    whole, apart = on(foreign), [on([x for x in foreign if part[x.source] != k]) for k in range(PARTS)]
    for look in looks:
        for spot in look.spots:
            at, odds = apart[part[look.source]][spot.broad]
            spot.confidence = float(expit(np.interp(_odds(spot.confidence), at, odds)))
    return whole, apart


# --- the depths -----------------------------------------------------------------------------------

Share = Callable[[Spotted], float]


def left_db(look: Look, share: Share) -> float:
    """Distance from the clean clip after the cuts, predicted from the power in cells."""
    ranked = sorted(look.spots, key=lambda s: -rank_of(Kind.RING, s.confidence, s.height_db))
    cut = np.zeros(len(_CELLS_OCT))
    for spot in ranked[:MOST]:
        depth = min(spot.height_db * share(spot), deepest_for(spot.confidence, broad=spot.broad))
        if depth >= LEAST_DEPTH_DB and spot.confidence >= CONFIDENCES[0]:
            cut -= bell_db(_CELLS_OCT, np.log2(spot.frequency_hz), spot.octaves, depth)
    change = 10.0 * np.log10((_IN_BAND @ (look.cells * 10.0 ** (cut / 10.0))) / (_IN_BAND @ look.cells))
    return distance(look.levels + change, look.clean)


def harm(looks: Sequence[Look], share: Share) -> float:
    """Mean decibels that are left of the damage, as a share of it, and that are done to clean clips."""
    left = [left_db(x, share) / distance(x.levels, x.clean) for x in looks if x.damaged]
    done = [left_db(x, share) for x in looks if not x.damaged]
    return float(np.mean(left) + CLEAN_WEIGHT * 0.25 * np.mean(done))


def least_harm(looks: Sequence[Look]) -> dict[bool, Floats]:
    """For narrow spots (False) the shares at CONFIDENCES that harm least, rising.

    Of broad ones (True) too few are sure to fit anything: a power, chosen by hand.
    """
    shares = {False: CONFIDENCES**1.6, True: CONFIDENCES**1.5}

    def share(spot: Spotted) -> float:
        return float(np.interp(spot.confidence, CONFIDENCES, shares[spot.broad]))

    narrow = shares[False]
    best = harm(looks, share)
    for step in (0.15, 0.07, 0.15, 0.07):
        for i, by in [(i, by) for i in range(len(narrow)) for by in (step, -step)] * 2:
            was = narrow.copy()
            narrow[i] = np.clip(was[i] + by, 0.0, 1.1)
            narrow[:i] = np.minimum(narrow[:i], narrow[i])
            narrow[i:] = np.maximum(narrow[i:], narrow[i])
            now = harm(looks, share)
            if now < best - 1e-5:
                best = now
            else:
                narrow[:] = was
    return shares


def _figures(looks: Sequence[Look], share: Share) -> str:
    repair = np.array([1.0 - left_db(x, share) / distance(x.levels, x.clean) for x in looks if x.damaged])
    done = [left_db(x, share) for x in looks if not x.damaged]
    return (
        f"repair {repair.mean():.3f} / {np.median(repair):.3f}, worse {100 * np.mean(repair < 0):.0f} %, "
        f"clean clips changed by {np.mean(done):.2f} dB"
    )


def _print_calibration(looks: Sequence[Look], origin: str) -> None:
    """Said and real, a clean clip counting as much as all damaged ones, and the area under the curve."""
    for broad in (False, True):
        spots, weights = _rows(looks, broad)
        told = []
        for low, high in ((0.0, 0.4), (0.4, 0.7), (0.7, 1.01)):
            some = [i for i, s in enumerate(spots) if low <= s.confidence < high]
            if some:
                by = weights[some]
                said = np.average([spots[i].confidence for i in some], weights=by)
                real = np.average([spots[i].real for i in some], weights=by)
                told.append(f"{said:.2f} / {real:.2f} of {len(some)}")
        print(origin, "broad" if broad else "narrow", "said / real", ", ".join(told), f"area {_area(spots):.3f}")


def _area(spots: Sequence[Spotted]) -> float:
    """How often what is real is held likelier than what is not."""
    real = np.array([s.confidence for s in spots if s.real])
    false = np.array([s.confidence for s in spots if not s.real])
    if not len(real) or not len(false):
        return 0.5
    return float(np.mean((real[:, None] > false) + 0.5 * (real[:, None] == false)))


def _whole(curves: Opinions, shares: Mapping[bool, Floats], calibrations: Calibrations) -> dict[str, Opinion]:
    """Opinions as they are kept, on "narrow" and on "broad" spots."""
    return {
        name: replace(curves[broad], shares=np.stack([CONFIDENCES, shares[broad]]), calibration=calibrations[broad])
        for name, broad in (("narrow", False), ("broad", True))
    }


def _print_curves(opinions: Mapping[str, Opinion]) -> None:
    for sort, opinion in opinions.items():
        print(sort, "calibration", np.round(opinion.calibration, 2).tolist())
        for name, curve in opinion.curves.items():
            at, by = np.round(curve.at, 2).tolist(), np.round(curve.log_odds, 2).tolist()
            print(f"{name:24}", at, by, round(curve.missing, 2))


def main() -> None:
    with SEEN.open("rb") as file:
        looks: list[Look] = pickle.load(file)  # our own file
    part = parted([look.source for look in looks])
    curves_apart = say_without_own(looks, part)
    calibrations, calibrations_apart = calibrate_on_foreign(looks, part)
    fitted = [x for x in looks if x.origin != "family"]
    shares = least_harm(fitted)
    for kind in dict.fromkeys((x.origin, x.beside) for x in looks):
        some = [x for x in looks if (x.origin, x.beside) == kind]
        origin = f"{kind[0]}, others heard" if kind[1] else kind[0]
        _print_calibration(some, origin)
        for power in (1.0, 1.6):
            print(origin, "power", power, _figures(some, lambda s, power=power: s.confidence**power))
        said = _figures(some, lambda s: float(np.interp(s.confidence, CONFIDENCES, shares[s.broad])))
        print(origin, "least harm", said)
    print({broad: np.round(s, 2).tolist() for broad, s in shares.items()})
    ships = _whole(opinions_on(fitted), shares, calibrations)
    _print_curves(ships)
    with np.load(OUT) as found:
        kept = {n: found[n] for n in found.files if n.split("/")[0] not in ships}
    for sort, opinion in ships.items():
        kept |= to_arrays(opinion, sort)
    np.savez_compressed(OUT, **kept)
    keep([_whole(a, shares, b) for a, b in zip(curves_apart, calibrations_apart, strict=True)], part)


if __name__ == "__main__":
    if "look" in sys.argv:
        look_at_all()
    else:
        main()
