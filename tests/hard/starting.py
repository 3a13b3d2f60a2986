"""The start command as a user has it: a real process with its children, in folders of its own."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from mivlo.cluster import free_port
from tests.patience import PATIENCE_S, until
from tests.web.server import number

# a port is taken seconds after it was found free: test processes that run at a time must not find the same
SERVER_PORT, DATABASE_PORT = 54_520 + number(), 54_480 + number()


class Installation:
    """A start command on a data folder and a database folder."""

    def __init__(self, root: Path, port: int, settings: dict[str, str] | None = None) -> None:
        self.root, self.port, self.settings = root, port, settings or {}
        self.address = f"http://127.0.0.1:{port}"
        self.out = root / f"out-{port}.txt"
        self.process: subprocess.Popen[bytes] | None = None

    @property
    def environment(self) -> dict[str, str]:
        kept = {k: v for k, v in os.environ.items() if not k.startswith("MIVLO_")}
        return {
            **kept, "MIVLO_DATA_DIR": str(self.root / "data"), "MIVLO_PG_DIR": str(self.root / "postgres"),
            "MIVLO_PG_PORT": str(DATABASE_PORT), "MIVLO_PORT": str(self.port), "MIVLO_DEMO": "0",
            **self.settings,
        }  # fmt: skip

    def start(self) -> None:
        with self.out.open("ab") as out:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "mivlo.cli", "start"],
                env=self.environment, stdout=out, stderr=out, start_new_session=True,
            )  # fmt: skip

    def up(self) -> bool:
        with contextlib.suppress(httpx.TransportError):
            answer = httpx.get(f"{self.address}/api/health", timeout=2)
            return answer.status_code == 200 and bool(answer.json()["workers"])
        return False

    def wait_until_up(self) -> float:
        took = until(lambda: self.up() or self.ended(), "it did not come up")
        assert not self.ended(), self.said()
        return took

    def ended(self) -> bool:
        return self.process is not None and self.process.poll() is not None

    def said(self) -> str:
        return self.out.read_text()

    def signal(self, number: int) -> None:
        assert self.process is not None
        self.process.send_signal(number)

    def wait(self, most_s: float = PATIENCE_S) -> int:
        assert self.process is not None
        return self.process.wait(most_s)

    def pids(self, name: str) -> list[int]:
        """The processes of this installation: "serve", "worker" or "postgres", found by what they were given."""
        found = []
        for place in Path("/proc").glob("[0-9]*"):
            with contextlib.suppress(OSError):
                words = (place / "cmdline").read_bytes().split(b"\0")
                if name == "postgres":
                    mine = words[0].endswith(b"/postgres") and str(self.root / "postgres").encode() in words
                else:
                    own = f"MIVLO_DATA_DIR={self.root / 'data'}".encode()
                    mine = name.encode() in words and own in (place / "environ").read_bytes().split(b"\0")
                if mine:
                    found.append(int(place.name))
        return found

    def kill(self, name: str) -> None:
        for pid in self.pids(name):
            with contextlib.suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)

    def gone(self) -> bool:
        """Whether nothing of it runs any more."""
        return not any(self.pids(name) for name in ("serve", "worker", "postgres"))

    def clean_up(self) -> None:
        if self.process is not None and not self.ended():
            self.signal(signal.SIGTERM)
            with contextlib.suppress(subprocess.TimeoutExpired):
                self.process.wait(PATIENCE_S)
            self.process.kill()
        for name in ("serve", "worker", "postgres"):
            self.kill(name)


@contextlib.contextmanager
def small_disk(megabytes: int) -> Iterator[Path]:
    """A disk of its own that is soon full; skipped and said where none can be mounted."""
    with tempfile.TemporaryDirectory(dir="/var/tmp") as name:
        command = ["mount", "-t", "tmpfs", "-o", f"size={megabytes}m,mode=755", "tmpfs", name]
        done = subprocess.run(command, capture_output=True, text=True)
        if done.returncode:
            pytest.skip(f"no small disk can be mounted here: {done.stderr.strip()}")
        try:
            yield Path(name)
        finally:
            subprocess.run(["umount", "-l", name], check=True)


@contextlib.contextmanager
def installation(root: Path | None = None, settings: dict[str, str] | None = None) -> Iterator[Installation]:
    with contextlib.ExitStack() as stack:
        if root is None:  # where the unprivileged user of the database gets to, too
            root = Path(stack.enter_context(tempfile.TemporaryDirectory(dir="/var/tmp")))
            root.chmod(0o755)
        made = Installation(root, free_port(SERVER_PORT), settings)
        stack.callback(made.clean_up)
        yield made
