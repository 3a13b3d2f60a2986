"""Kills of each process in the middle of each activity, counted: `python -m tests.hard.kills 200`.

Edits go on all the time, each under a name and sent again until it is answered, as the page does it.
"""

from __future__ import annotations

import contextlib
import random
import statistics
import sys
import tempfile
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path

import httpx
import numpy as np
import soundfile

from tests.hard.starting import Installation, installation
from tests.hard.working import new_song, settled, tasks, upload
from tests.patience import until

RATE = 48_000
PARTS = ("serve", "worker", "postgres")
ACTIVITIES = ("import", "look", "export", "backup", "edits")
APART_S = 16.0
"""One part may die five times a minute before its start gives up; this is a test of something else."""


@dataclass
class Figures:
    """What was counted."""

    kills: int = 0
    edits: int = 0
    lost: int = 0
    twice: int = 0
    stuck: int = 0
    failed: int = 0
    usable_s: list[float] = field(default_factory=list)

    def __str__(self) -> str:
        took = sorted(self.usable_s)
        return (
            f"{self.kills} kills; {self.edits} edits answered, {self.lost} lost, {self.twice} made twice; "
            f"tasks: {self.stuck} stuck, {self.failed} failed; usable again after {statistics.median(took):.1f} s "
            f"(median), {took[-1]:.1f} s (longest)"
        )


class Editor:
    """Renames a song again and again; knows what was answered."""

    def __init__(self, made: Installation, song: int) -> None:
        self._made, self._song = made, song
        self.answered: list[str] = []
        self._stop = threading.Event()
        self._number = 0
        self._thread = threading.Thread(target=self._edit)
        self._thread.start()

    def _edit(self) -> None:
        while not self._stop.is_set():
            self._number += 1
            name = f"Weir {self._number}"
            while not self._stop.is_set():
                with contextlib.suppress(httpx.TransportError):
                    answer = httpx.patch(
                        f"{self._made.address}/api/songs/{self._song}", json={"name": name}, timeout=15,
                        headers={"Mivlo-Change": name, "Mivlo-Page": "editor"},
                    )  # fmt: skip
                    if answer.status_code == 200:
                        self.answered.append(name)
                        break
                time.sleep(0.2)
            time.sleep(0.1)

    def stop(self) -> list[str]:
        self._stop.set()
        self._thread.join(40)
        return self.answered


def _noise(folder: Path, seed: int) -> Path:
    path = folder / f"{seed}.wav"
    x = np.random.default_rng(seed).standard_normal((RATE * 40, 2)) * 0.05
    soundfile.write(path, x, RATE, subtype="PCM_16")
    return path


def _rests(made: Installation, song: int) -> bool:
    """Whether nothing is open, and nothing comes: a look begins by itself a moment after an import or a move."""
    if not settled(made, song):
        return False
    time.sleep(1.5)
    return settled(made, song)


class Song:
    """A song that is worked on."""

    def __init__(self, made: Installation, folder: Path) -> None:
        self.made, self.folder, self.id = made, folder, new_song(made)
        self.base = f"{made.address}/api/songs/{self.id}"
        for seed in (1, 2):
            upload(made, self.id, _noise(folder, seed), f"Track {seed}.wav")
        until(lambda: settled(made, self.id), "the song is not made")
        self._seed = 100

    def tracks(self) -> list[int]:
        return [t["id"] for t in httpx.get(self.base).json()["tracks"]]

    def begin(self, activity: str) -> None:
        """Have something done that takes a while."""
        first = self.tracks()[0]
        if activity == "import":
            self._seed += 1
            upload(self.made, self.id, _noise(self.folder, self._seed), f"Track {self._seed}.wav")
        elif activity == "look":
            move = {"shape": "bell", "frequency_hz": 300 + self._seed, "q": 3, "gain_db": -6}
            httpx.post(f"{self.base}/tracks/{first}/moves", json=move).raise_for_status()
            self._seed += 1
        elif activity == "export":
            httpx.post(f"{self.base}/exports", json={"track_ids": self.tracks()}).raise_for_status()
        elif activity == "backup":
            httpx.post(f"{self.base}/backups").raise_for_status()

    def tidy(self) -> None:
        """As few tracks and moves as before."""
        for track in self.tracks()[2:]:
            httpx.delete(f"{self.base}/tracks/{track}")
        for track in httpx.get(self.base).json()["tracks"]:
            for move in track["moves"]:
                httpx.delete(f"{self.base}/moves/{move['id']}")


def run(made: Installation, folder: Path, kills: int, seed: int = 1, *, tell: bool = False) -> Figures:
    """Kill so many times, each at a random moment, and look what became of everything."""
    rng, figures, song = random.Random(seed), Figures(), Song(made, folder)
    plan = [(part, activity) for activity in ACTIVITIES for part in PARTS]
    last = dict.fromkeys(PARTS, 0.0)
    for number in range(kills):
        part, activity = plan[number % len(plan)]
        time.sleep(max(0.0, last[part] + APART_S - time.monotonic()))
        known = {t["id"] for t in tasks(made, song.id)}
        editor = Editor(made, song.id)
        song.begin(activity)
        time.sleep(rng.uniform(0.05, 2.5))
        made.kill(part)
        last[part] = time.monotonic()
        figures.kills += 1
        time.sleep(0.05)
        before = len(editor.answered)
        took = until(lambda m=before, e=editor: made.up() and len(e.answered) > m, "it is not usable any more")  # type: ignore[misc]
        figures.usable_s.append(took)
        answered = editor.stop()
        with contextlib.suppress(AssertionError):
            until(lambda: _rests(made, song.id), "stuck")
        after = tasks(made, song.id)
        figures.stuck += sum(t["state"] in ("waiting", "running") for t in after)
        figures.failed += sum(t["state"] == "failed" and t["id"] not in known for t in after)
        labels = [e["label"] for e in httpx.get(f"{song.base}/history", params={"most": 1000}).json()]
        figures.edits += len(answered)
        figures.lost += sum(f"rename to {name}" not in labels for name in answered)
        recent = labels[: labels.index("rename to Weir 1") + 1] if "rename to Weir 1" in labels else labels
        figures.twice += sum(recent.count(f"rename to {name}") > 1 for name in answered)
        song.tidy()
        if tell:
            print(f"{number + 1}: {part} in {activity}, usable after {took:.1f} s", flush=True)
    return figures


if __name__ == "__main__":
    with installation() as place, tempfile.TemporaryDirectory() as scratch:
        place.start()
        place.wait_until_up()
        print(run(place, Path(scratch), int(sys.argv[1]) if len(sys.argv) > 1 else 200, tell=True))
        print(place.said())
