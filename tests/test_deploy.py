"""The files for running it elsewhere: judged by those who read them, as far as they are here."""

from __future__ import annotations

import re
import shutil
import subprocess
import tomllib
from importlib import metadata
from pathlib import Path

import pytest
from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

from mivlo.config import PROJECT, Settings

DEPLOY = PROJECT / "deploy"


@pytest.mark.skipif(shutil.which("systemd-analyze") is None, reason="systemd is not installed here")
def test_systemd_finds_nothing_wrong_with_the_unit(tmp_path: Path) -> None:
    unit = tmp_path / "mivlo.service"
    # where the project lies here, so that the program is found
    unit.write_text((DEPLOY / "mivlo.service").read_text().replace("/opt/mivlo", str(PROJECT)))
    command = ["systemd-analyze", "verify", "--man=no", str(unit)]
    done = subprocess.run(command, capture_output=True, text=True)
    if "bus" in done.stderr.lower() and done.returncode:
        pytest.skip(f"it can't judge units here: {done.stderr.strip()}")
    assert (done.returncode, done.stdout, done.stderr) == (0, "", "")
    unit.write_text(unit.read_text().replace("ProtectSystem=strict", "ProtectSystem=sometimes"))
    assert "sometimes" in subprocess.run(command, capture_output=True, text=True).stderr  # it would have said so


def test_all_settings_in_the_files_and_the_page_are_settings() -> None:
    known = {f"MIVLO_{name.upper()}" for name in Settings.model_fields} | {"MIVLO_PG_DIR", "MIVLO_PG_PORT"}
    texts = [*DEPLOY.iterdir(), PROJECT / "docs" / "deploy.md", PROJECT / "README.md"]
    used = {name for text in texts for name in re.findall(r"MIVLO_[A-Z_]+", text.read_text())}
    assert used <= known, used - known
    assert {"MIVLO_PASSWORD", "MIVLO_NAMES", "MIVLO_BACKUP_DIR"} <= used


def test_the_lock_file_names_all_that_is_needed_to_run_and_to_test() -> None:
    locked = dict(line.split("==") for line in (PROJECT / "requirements.lock").read_text().split())
    project = tomllib.loads((PROJECT / "pyproject.toml").read_text())["project"]
    asked = [project["dependencies"], project["optional-dependencies"]["test"]]
    needed: dict[str, str] = {}
    while asked:
        for one in map(Requirement, asked.pop()):
            if one.name not in needed and (one.marker is None or one.marker.evaluate({"extra": ""})):
                needed[one.name] = metadata.version(one.name)
                asked.append(metadata.requires(one.name) or [])
    assert {"pytest-xdist", "execnet", "numpy"} <= needed.keys()
    versions = {canonicalize_name(name): version for name, version in locked.items()}
    assert {name: versions.get(canonicalize_name(name)) for name in needed} == needed


def test_what_the_container_copies_is_there() -> None:
    text = (DEPLOY / "Containerfile").read_text()
    for line in re.findall(r"^COPY (?!.*--from)(.*)$", text, flags=re.M):
        for name in re.sub(r"--\S+ ", "", line).split()[:-1]:
            assert (PROJECT / name).exists(), name
    assert '.venv/bin/mivlo", "start"' in text
