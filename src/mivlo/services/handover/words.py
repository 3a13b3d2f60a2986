"""Moves and what comes behind them in words and numbers that can be entered elsewhere."""

from __future__ import annotations

from collections.abc import Mapping

from mivlo.core.moves import (
    Acts,
    AdaptiveMove,
    Aftercare,
    Channels,
    DynamicMove,
    Entry,
    Key,
    KeyShape,
    Move,
    Phase,
    Place,
    RungsMove,
    StaticMove,
    ThresholdOf,
    Treatment,
)
from mivlo.core.moves.treatment import ALL

PHASES = {
    Phase.MINIMUM: "minimum phase",
    Phase.LINEAR: "linear phase for all static moves that always act, ahead of the others; the others keep their own",
    Phase.ANALOGUE: "the phase of the analogue filters up to the top of the range",
}


def number(value: float) -> str:
    """A number as a person writes it."""
    return f"{round(value, 2):g}"


def acting_words(move: Move, names: Mapping[int, str]) -> str:
    """How a move that listens acts; nothing for a static one."""
    match move:
        case StaticMove():
            return ""
        case DynamicMove():
            return _dynamic(move, names)
        case AdaptiveMove():
            return _adaptive(move, names)
        case RungsMove():
            return _rungs(move)


def _rungs(move: RungsMove) -> str:
    """Each band that is moved, with its centre: what a person can draw into a graphic equalizer."""
    moved = [(b, g) for b, g in zip(move.bands, move.gains_db, strict=True) if g]
    at = ", ".join(f"{number(band.centre_hz)} Hz {gain:+g} dB" for band, gain in moved)
    return f"{move.count} bands: {at or 'all at 0 dB'}"


def _dynamic(move: DynamicMove, names: Mapping[int, str]) -> str:
    side = "over" if move.acts is Acts.ABOVE else "under"
    of = " of the key's own level" if move.threshold_of is ThresholdOf.STRIP else "FS"
    threshold = f"{number(move.threshold_db)} dB{of}"
    parts = [
        f"moves by {move.range_db:+g} dB at most while {_key(move.key, names)} is {side} {threshold}",
        f"ratio {number(move.ratio)}:1",
        f"knee {number(move.knee_db)} dB" if move.knee_db else "",
        f"attack {number(move.attack_ms)} ms",
        f"hold {number(move.hold_ms)} ms" if move.hold_ms else "",
        f"release {number(move.release_ms)} ms",
        f"looks {number(move.lookahead_ms)} ms ahead" if move.lookahead_ms else "",
        f"{move.detector} level",
        f"stereo link {100 * move.stereo_link:.0f} %" if move.stereo_link < 1.0 else "",
    ]
    return ", ".join(part for part in parts if part)


def _key(key: Key, names: Mapping[int, str]) -> str:
    whose = names.get(key.listens_to[0], "a deleted strip") if key.listens_to else ""
    if key.frequency_hz is None and key.shape is None:
        part = "its band" if not whose else "this band"
    elif key.shape in (KeyShape.LOW, KeyShape.HIGH):
        part = f"what lies {'below' if key.shape is KeyShape.LOW else 'above'} {number(key.frequency_hz or 0.0)} Hz"
    else:
        narrow = f", Q {number(key.q)}" if key.q else ""
        part = f"the band at {number(key.frequency_hz)} Hz{narrow}" if key.frequency_hz else "its band"
    return f"{part} of {whose}" if whose else part


def _adaptive(move: AdaptiveMove, names: Mapping[int, str]) -> str:
    whose = f" in {names.get(move.key.listens_to[0], 'a deleted strip')}" if move.key.listens_to else ""
    weights = "; ".join(f"{number(hz)} Hz x {number(factor)}" for hz, factor in move.weights)
    parts = [
        f"takes {100 * move.share:.0f} % of what stands out{whose} over its surroundings",
        f"{number(move.from_hz)} to {number(move.to_hz)} Hz",
        f"narrower than {number(move.width_oct)} octaves",
        f"{number(move.most_db)} dB at most",
        f"attack {number(move.attack_ms)} ms, release {number(move.release_ms)} ms",
        f"weights {weights}" if weights else "",
    ]
    return ", ".join(part for part in parts if part)


def when_words(entry: Entry) -> str:
    """Where, when and on which channels an entry acts, where that is not always, everywhere and before the rest."""
    spans = ", ".join(f"{number(a)} to {number(b)} s" for a, b in entry.stretches)
    parts = [
        f"only {spans} (fades {number(entry.fade_ms)} ms)" if spans else "",
        f"{entry.channels} only" if entry.channels is not Channels.ALL else "",
        "behind the aftercare" if entry.place is Place.BEHIND else "",
    ]
    return "; ".join(part for part in parts if part)


def treatment_words(treatment: Treatment) -> list[str]:
    """What a treatment has beside its moves, a line each."""
    lines = []
    if treatment.phase is not Phase.MINIMUM:
        lines.append(PHASES[treatment.phase])
    amounts = [
        f"{'all moves' if name == ALL else name} at {100 * amount:.0f} %" for name, amount in treatment.amounts.items()
    ]
    if amounts:
        lines.append(f"values are those with the amounts applied: {', '.join(amounts)}")
    return [*lines, *aftercare_words(treatment.aftercare)]


def aftercare_words(aftercare: Aftercare) -> list[str]:
    """What comes behind the moves, a line each, in its order."""
    lines = [
        f"behind: compressor over {number(c.threshold_db)} dBFS ({c.detector}), {number(c.ratio)}:1, knee "
        f"{number(c.knee_db)} dB, attack {number(c.attack_ms)} ms, release {number(c.release_ms)} ms, detector above "
        f"{number(c.detector_low_cut_hz)} Hz, mix {100 * c.mix:.0f} %, gain {c.gain_db:+g} dB"
        for c in aftercare.compressors
    ]
    if clip := aftercare.clip:
        lines.append(
            f"behind: clip, drive {number(clip.drive_db)} dB, ceiling {number(clip.ceiling_db)} dBFS, hardness "
            f"{100 * clip.hardness:.0f} %"
        )
    if warmth := aftercare.warmth:
        lines.append(
            f"behind: harmonics of what lies below {number(warmth.below_hz)} Hz at {number(warmth.level_db)} dB"
        )
    if air := aftercare.air:
        lines.append(f"behind: harmonics of what is above {number(air.above_hz)} Hz at {number(air.level_db)} dB")
    if reverb := aftercare.reverb:
        lines.append(f"to hear it with: reverb, send {number(reverb.send_db)} dB, {number(reverb.decay_s)} s")
    if aftercare.output_db:
        lines.append(f"behind: output {aftercare.output_db:+g} dB")
    return lines
