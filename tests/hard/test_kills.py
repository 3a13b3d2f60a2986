"""Kills of each process: a few here, many by `python -m tests.hard.kills 200`."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.hard import kills
from tests.hard.starting import Installation


@pytest.mark.parametrize("count", [3, pytest.param(9, marks=pytest.mark.hard)])
def test_whatever_is_killed_nothing_is_lost_or_stuck(running: Installation, tmp_path: Path, count: int) -> None:
    figures = kills.run(running, tmp_path, count, seed=count)
    print(figures)
    assert (figures.lost, figures.twice, figures.stuck, figures.failed) == (0, 0, 0, 0), figures
    assert figures.edits > count
