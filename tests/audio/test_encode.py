"""Writing files: depths, dither, clipping."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
import pytest
import soundfile

from mivlo.audio.encode import Container, Depth, SoundWriter, depth_of
from mivlo.core.units import Floats


def _write(path: Path, x: Floats, depth: Depth, container: Container = Container.WAV) -> SoundWriter:
    with SoundWriter(path, 48_000, x.shape[1], depth, container) as writer:
        for start in range(0, len(x), 1_000):
            writer.write(x[start : start + 1_000])
    return writer


@pytest.mark.parametrize(
    ("depth", "subtype", "error"),
    [
        (Depth.BITS_16, "PCM_16", 1.6 / 32_768),
        (Depth.BITS_24, "PCM_24", 0.51 / 2**23),
        (Depth.FLOAT_32, "FLOAT", 2**-25),
    ],
)
def test_each_depth_is_as_exact_as_it_can_be(
    tmp_path: Path, noise: Floats, depth: Depth, subtype: str, error: float
) -> None:
    _write(tmp_path / "out.wav", noise, depth)
    assert soundfile.info(tmp_path / "out.wav").subtype == subtype
    y, _ = soundfile.read(tmp_path / "out.wav", always_2d=True)
    assert y.shape == noise.shape
    assert np.max(np.abs(y - noise)) < error


def test_dither_makes_the_error_independent_of_the_sound(tmp_path: Path) -> None:
    # a tone of a third of a step vanishes without dither; with it, it is there (Lipshitz et al. 1992)
    t = np.arange(480_000) / 48_000
    tone = np.sin(2 * np.pi * 1_000 * t) / 32_768 / 3
    _write(tmp_path / "out.wav", tone[:, None], Depth.BITS_16)
    y, _ = soundfile.read(tmp_path / "out.wav")
    found = 2 * np.mean(y * np.sin(2 * np.pi * 1_000 * t)) * 32_768
    assert found == pytest.approx(1 / 3, abs=0.02)
    # triangular dither of two steps plus rounding: variance 1/6 + 1/12 of a step
    assert np.var((y - tone) * 32_768) == pytest.approx(0.25, rel=0.03)


@pytest.mark.parametrize("depth", Depth)
def test_the_same_export_gives_the_same_bytes_whenever_it_is_made(tmp_path: Path, noise: Floats, depth: Depth) -> None:
    _write(tmp_path / "a.wav", noise, depth)
    time.sleep(1.1)  # a float WAV notes the second in which it was written
    _write(tmp_path / "b.wav", noise, depth)
    assert (tmp_path / "a.wav").read_bytes() == (tmp_path / "b.wav").read_bytes()


def test_what_is_above_full_scale_is_clipped_and_counted_but_kept_by_float(tmp_path: Path) -> None:
    x = np.array([[0.5], [1.5], [-2.0], [0.0]])
    assert _write(tmp_path / "i.wav", x, Depth.BITS_24).clipped == 2
    assert np.max(np.abs(soundfile.read(tmp_path / "i.wav")[0])) <= 1.0
    assert _write(tmp_path / "f.wav", x, Depth.FLOAT_32).clipped == 0
    assert soundfile.read(tmp_path / "f.wav")[0].tolist() == [0.5, 1.5, -2.0, 0.0]


def test_flac_holds_whole_numbers_only(tmp_path: Path, noise: Floats) -> None:
    writer = _write(tmp_path / "out.flac", noise, Depth.FLOAT_32, Container.FLAC)
    assert writer.depth is Depth.BITS_24
    assert soundfile.info(tmp_path / "out.flac").subtype == "PCM_24"


def test_the_depth_of_a_source_is_kept() -> None:
    assert depth_of("PCM_16") is Depth.BITS_16
    assert depth_of("FLOAT") is Depth.FLOAT_32
    assert depth_of("VORBIS") is Depth.BITS_24
