"""Keeps the parts of an installation alive: started again when they die, given up when they keep dying."""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal
import subprocess
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

from mivlo.audio.room import LITTLE, free_bytes, size_words
from mivlo.cluster import Cluster, ClusterError
from mivlo.core.errors import MivloError

MOST_DEATHS, WITHIN_S = 5, 60.0
FIRST_PAUSE_S, LONGEST_PAUSE_S = 0.2, 5.0
STOP_WITHIN_S = 6.0
LOOK_FOR_ROOM_S = 1.0
_PR_SET_PDEATHSIG = 1
_LOG_SEGMENT = 2 * 16 << 20
"""The least with which PostgreSQL comes up: two segments of its log."""


class Part(Protocol):
    """Something that shall run."""

    @property
    def name(self) -> str: ...

    @property
    def log(self) -> Path: ...

    def start(self) -> None: ...

    def alive(self) -> bool: ...

    def ended(self) -> str:
        """How it ended, in a few words."""

    def hindered(self) -> str:
        """What keeps it from running that somebody has to mend, in a sentence; nothing where nothing does."""

    def ask_to_stop(self) -> None: ...

    def stop(self, within_s: float) -> None: ...


@dataclass
class Program:
    """A child process that ends with us, even when we are killed; its output goes to its log."""

    name: str
    command: list[str]
    log: Path
    _child: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        self.log.parent.mkdir(parents=True, exist_ok=True)
        parent = os.getpid()

        def die_with_us() -> None:  # between fork and exec, in the child
            ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)
            if os.getppid() != parent:
                os._exit(1)

        with self.log.open("ab") as out:
            # in a session of its own, so that Ctrl-C reaches us first
            self._child = subprocess.Popen(
                self.command, stdout=out, stderr=out, start_new_session=True, preexec_fn=die_with_us
            )

    @property
    def pid(self) -> int | None:
        return None if self._child is None else self._child.pid

    def alive(self) -> bool:
        return self._child is not None and self._child.poll() is None

    def ended(self) -> str:
        code = None if self._child is None else self._child.poll()
        return f"killed by signal {-code}" if code is not None and code < 0 else f"exit code {code}"

    def hindered(self) -> str:
        return _no_room(self.log.parent, LITTLE)

    def ask_to_stop(self) -> None:
        if self.alive() and self._child is not None:
            self._child.terminate()

    def stop(self, within_s: float) -> None:
        if self._child is None:
            return
        try:
            self._child.wait(max(0.0, within_s))
        except subprocess.TimeoutExpired:
            self._child.kill()
            self._child.wait()


@dataclass
class Database:
    """Our own cluster as a part; a guard stops it when we are killed."""

    cluster: Cluster
    guard: Callable[[], subprocess.Popen[bytes]]
    name: str = "database"
    _guard: subprocess.Popen[bytes] | None = None

    @property
    def log(self) -> Path:
        return self.cluster.folder / "server.log"

    def start(self) -> None:
        self.cluster.start()
        if self._guard is None or self._guard.poll() is not None:
            self._guard = self.guard()

    def alive(self) -> bool:
        return self.cluster.alive()

    def ended(self) -> str:
        return "it is gone"

    def hindered(self) -> str:
        return _no_room(self.cluster.folder, _LOG_SEGMENT)

    def ask_to_stop(self) -> None:
        """Not before all that use it have ended."""

    def stop(self, within_s: float) -> None:
        self.cluster.stop()
        if self._guard is not None and self._guard.stdin is not None:
            with contextlib.suppress(BrokenPipeError):
                self._guard.stdin.write(b"done")
                self._guard.stdin.close()
            self._guard.wait(5)


def _no_room(folder: Path, needed: int) -> str:
    free = free_bytes(folder)
    return "" if free >= needed else f"the disk is full, {size_words(free)} are free in {folder}"


class GaveUp(MivloError):
    """A part kept dying; the text says which one and where its log is."""


@dataclass
class _Deaths:
    times: deque[float] = field(default_factory=lambda: deque(maxlen=MOST_DEATHS))
    due: float | None = None
    told: str = ""

    def died(self, now: float) -> float:
        """Note a death; how long to wait before the next start."""
        self.times.append(now)
        lately = sum(now - t < WITHIN_S for t in self.times)
        return min(LONGEST_PAUSE_S, float(FIRST_PAUSE_S * 2 ** (lately - 1)))

    def too_many(self, now: float) -> bool:
        return len(self.times) == MOST_DEATHS and now - self.times[0] < WITHIN_S


class Supervisor:
    """Parts in the order in which they need each other.

    Parameters
    ----------
    say : tells the user a line.
    """

    def __init__(self, say: Callable[[str], None]) -> None:
        self._say = say
        self._parts: list[Part] = []
        self._deaths: dict[str, _Deaths] = {}

    def add(self, part: Part) -> None:
        """Start a part and keep it alive from now on."""
        self._parts.append(part)
        self._deaths[part.name] = _Deaths()
        part.start()

    def look(self) -> None:
        """Start again what has died and is due.

        Raises
        ------
        GaveUp : something has died MOST_DEATHS times within WITHIN_S.
        """
        now = time.monotonic()
        for part in self._parts:
            deaths = self._deaths[part.name]
            if deaths.due is None:
                if part.alive():
                    continue
                if why := part.hindered():
                    self._wait_for_room(part, why)
                    continue
                pause = deaths.died(now)
                if deaths.too_many(now):
                    often = f"The {part.name} ended {MOST_DEATHS} times within a minute"
                    raise GaveUp(f"{often} ({part.ended()}). Its log: {part.log}")
                deaths.due = now + pause
                self._say(f"The {part.name} ended ({part.ended()}); it is started again in {pause:.1f} s")
            elif now >= deaths.due:
                if deaths.told and (why := part.hindered()):
                    self._wait_for_room(part, why)
                    continue
                deaths.due, deaths.told = None, ""
                with contextlib.suppress(ClusterError):  # it counts as another death
                    part.start()

    def _wait_for_room(self, part: Part, why: str) -> None:
        """Dying of a full disk is no fault of its own and does not count."""
        deaths = self._deaths[part.name]
        deaths.due = time.monotonic() + LOOK_FOR_ROOM_S
        if deaths.told != why:
            deaths.told = why
            self._say(f"The {part.name} ended: {why}. It is started again when there is room (`mivlo tidy` makes some)")

    def stop(self) -> None:
        """Stop everything, the last part first; what does not listen is killed."""
        for part in self._parts:
            part.ask_to_stop()
        end = time.monotonic() + STOP_WITHIN_S
        for part in reversed(self._parts):
            part.stop(end - time.monotonic())
