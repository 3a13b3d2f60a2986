"""Reference files: of a sound towards whose balance a strip is brought only its spectrum is kept, by its content."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from mivlo.audio.decode import inspect, read_blocks
from mivlo.audio.whole import written_whole
from mivlo.config import settings
from mivlo.core.balance import Spectrum
from mivlo.services.errors import NotFound

MOST_REFERENCES = 200
"""Those that were brought in last are kept."""


@dataclass(frozen=True, slots=True)
class Reference:
    """A reference file: its content's SHA-256, its name and length."""

    id: str
    name: str
    seconds: float


def bring(path: Path, name: str, digest: str) -> Reference:
    """Measure a file and keep its spectrum.

    Raises
    ------
    BadAudio : it can't be used, or is silent.
    """
    info = inspect(path, name)
    spectrum = Spectrum.of(read_blocks(path, name), sample_rate=info.sample_rate, channels=info.channels)
    place = _place(digest)
    place.parent.mkdir(parents=True, exist_ok=True)
    with written_whole(place) as part, part.open("wb") as file:
        np.savez(file, power=spectrum.power, bin_hz=spectrum.bin_hz)
    for old in sorted(place.parent.glob("*.npz"), key=lambda p: -p.stat().st_mtime)[MOST_REFERENCES:]:
        old.unlink(missing_ok=True)
    return Reference(digest, name, info.frames / info.sample_rate)


def spectrum_of(reference_id: str) -> Spectrum:
    """The spectrum of a reference that was brought in; NotFound where it is not kept any more."""
    try:
        with np.load(_place(reference_id)) as kept:
            return Spectrum(np.asarray(kept["power"], dtype=np.float64), float(kept["bin_hz"]))
    except OSError:
        raise NotFound("reference file", reference_id[:8]) from None


def _place(digest: str) -> Path:
    return settings().data_dir / "references" / f"{digest}.npz"
