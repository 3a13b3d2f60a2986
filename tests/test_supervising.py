"""Parts that are kept alive: what counts as dying, and what does not."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import pytest

from mivlo import supervising
from mivlo.supervising import MOST_DEATHS, GaveUp, Supervisor


@dataclass
class Frail:
    """Something that lives only while it may."""

    name: str = "frail"
    log: Path = Path("frail.log")
    why: str = ""
    started: int = 0
    lives: bool = field(default=False)

    def start(self) -> None:
        self.started += 1
        self.lives = not self.why

    def alive(self) -> bool:
        return self.lives

    def ended(self) -> str:
        return "killed by signal 9"

    def hindered(self) -> str:
        return self.why

    def ask_to_stop(self) -> None:
        self.lives = False

    def stop(self, within_s: float) -> None:
        self.lives = False


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> list[float]:
    now = [1000.0]
    monkeypatch.setattr(supervising.time, "monotonic", lambda: now[0])
    return now


def _watch(supervisor: Supervisor, clock: list[float], seconds: float) -> None:
    for _ in range(int(seconds / 0.2)):
        clock[0] += 0.2
        supervisor.look()


def test_a_full_disk_is_waited_for_and_said_once(clock: list[float]) -> None:
    said: list[str] = []
    supervisor, part = Supervisor(said.append), Frail()
    supervisor.add(part)
    for _ in range(3):
        part.lives, part.why = False, "the disk is full, 0 kB are free"
        _watch(supervisor, clock, 120)  # longer than any number of deaths would be borne
        assert part.started in (1, 2, 3)
        before = part.started
        part.why = ""
        _watch(supervisor, clock, 3)
        assert part.alive()
        assert part.started == before + 1
    assert len(said) == 3
    assert "the disk is full" in said[0]
    assert "mivlo tidy" in said[0]


def test_dying_again_and_again_is_given_up_with_a_growing_pause(clock: list[float]) -> None:
    said: list[str] = []
    supervisor, part = Supervisor(said.append), Frail()
    supervisor.add(part)
    pauses = []
    for _ in range(MOST_DEATHS - 1):
        part.lives = False
        at = clock[0]
        while not part.alive():
            _watch(supervisor, clock, 0.2)
        pauses.append(clock[0] - at)
    assert pauses == sorted(pauses)
    assert pauses[-1] > 2 * pauses[0]
    part.lives = False
    with pytest.raises(GaveUp, match=r"The frail ended 5 times within a minute .* Its log: frail\.log"):
        _watch(supervisor, clock, 1)


def test_deaths_that_lie_apart_are_borne_for_ever(clock: list[float]) -> None:
    supervisor, part = Supervisor(lambda text: None), Frail()
    supervisor.add(part)
    for _ in range(4 * MOST_DEATHS):
        part.lives = False
        _watch(supervisor, clock, 16)
        assert part.alive()
