"""Our own cluster, with real servers: nothing that is there is lost by a start."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest
from typer.testing import CliRunner

from mivlo.cli import app
from mivlo.cluster import FINISHED, Cluster, ClusterError, free_port

PORT = 54_471


@pytest.fixture
def own() -> Iterator[Path]:
    """A folder that the unprivileged user of a cluster can reach, too."""
    with tempfile.TemporaryDirectory(dir="/var/tmp") as name:
        Path(name).chmod(0o755)
        yield Path(name)


@pytest.fixture
def cluster(own: Path) -> Iterator[Cluster]:
    """One that has been used: it holds a table with a row."""
    made = Cluster(own / "postgres", PORT, durable=False)
    made.start()
    with psycopg.connect(_libpq(made)) as connection:
        connection.execute("CREATE TABLE kept AS SELECT 14 AS songs")
    made.stop()
    yield made
    made.stop()


def _libpq(cluster: Cluster) -> str:
    return cluster.url.replace("postgresql+psycopg://", "postgresql://")


def _songs(cluster: Cluster) -> int:
    with psycopg.connect(_libpq(cluster)) as connection:
        row = connection.execute("SELECT songs FROM kept").fetchone()
    assert row is not None
    return int(row[0])


def _names(folder: Path) -> set[str]:
    return {str(path.relative_to(folder)) for path in folder.rglob("*")}


def _again(cluster: Cluster) -> Cluster:
    return Cluster(
        cluster._secret_file.with_name(cluster._secret_file.name.removesuffix(".secret")), PORT, durable=False
    )


def test_a_database_whose_password_file_is_missing_is_refused_and_left_alone(cluster: Cluster) -> None:
    cluster._secret_file.unlink()
    before = _names(cluster.folder)
    with pytest.raises(ClusterError, match=r"password file .* is missing. Nothing was touched"):
        _again(cluster).start()
    assert _names(cluster.folder) == before
    assert not cluster._secret_file.exists()


def test_so_is_one_from_before_there_was_a_mark(cluster: Cluster) -> None:
    (cluster.folder / FINISHED).unlink()
    cluster._secret_file.unlink()
    with pytest.raises(ClusterError, match="Nothing was touched"):
        _again(cluster).start()
    assert (cluster.folder / "PG_VERSION").exists()


def test_the_doctor_gives_it_a_new_password_and_all_is_there(cluster: Cluster, monkeypatch: pytest.MonkeyPatch) -> None:
    cluster._secret_file.unlink()
    monkeypatch.setattr("mivlo.launch.own_cluster", lambda: _again(cluster))
    result = CliRunner().invoke(app, ["doctor", "--new-password"])
    assert result.exit_code == 0, result.output
    again = _again(cluster)
    assert again.start()
    assert _songs(again) == 14
    again.stop()


def test_a_password_file_that_is_wrong_is_kept_when_a_new_one_is_made(cluster: Cluster) -> None:
    cluster._secret_file.write_text("of another database")
    _again(cluster).renew_secret()
    old = cluster._secret_file.with_name(f"{cluster._secret_file.name}.old-1")
    assert old.read_text() == "of another database"
    again = _again(cluster)
    again.start()
    assert _songs(again) == 14
    again.stop()


def test_a_running_database_gets_no_new_password(cluster: Cluster) -> None:
    cluster.start()
    before = cluster._secret_file.read_text()
    with pytest.raises(ClusterError, match="is running"):
        _again(cluster).renew_secret()
    assert cluster._secret_file.read_text() == before


def test_a_folder_with_something_else_in_it_is_refused_and_left_alone(own: Path) -> None:
    cluster = Cluster(own / "mine", PORT, durable=False)
    cluster.folder.mkdir(parents=True)
    (cluster.folder / "thesis.txt").write_text("years of work")
    with pytest.raises(ClusterError, match="holds something else than a database"):
        cluster.start()
    assert (cluster.folder / "thesis.txt").read_text() == "years of work"
    assert _names(cluster.folder) == {"thesis.txt"}


def test_what_was_half_made_by_an_older_version_is_moved_aside(own: Path) -> None:
    folder = own / "postgres"
    cluster = Cluster(folder, PORT, durable=False)
    place = cluster.folder
    (place / "base" / "1").mkdir(parents=True)
    (place / "global").mkdir()
    (place / "PG_VERSION").write_text("15\n")
    assert cluster.start()
    cluster.stop()
    aside = place.with_name(f"{place.name}.aside-1")
    assert (aside / "base" / "1").is_dir()
    assert (place / FINISHED).exists()


def test_a_making_that_is_killed_at_any_moment_leaves_the_way_free(own: Path) -> None:
    folder = own / "postgres"
    code = f"from pathlib import Path; from mivlo.cluster import Cluster; Cluster(Path({str(folder)!r}), {PORT}, durable=False).make()"
    for wait in (0.3, 0.8, 1.6):
        maker = subprocess.Popen([sys.executable, "-c", code], start_new_session=True)
        time.sleep(wait)
        os.killpg(maker.pid, signal.SIGKILL)
        maker.wait()
    cluster = Cluster(folder, PORT, durable=False)
    cluster.start()
    with psycopg.connect(_libpq(cluster)) as connection:
        connection.execute("CREATE TABLE kept AS SELECT 14 AS songs")
    assert _songs(cluster) == 14
    cluster.stop()


def test_a_port_that_another_program_takes_at_the_last_moment_is_given_up_for_another(
    cluster: Cluster, monkeypatch: pytest.MonkeyPatch
) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        said = iter([int(taken.getsockname()[1])])
        monkeypatch.setattr("mivlo.cluster.free_port", lambda wanted: next(said, None) or free_port(wanted))
        assert cluster.start()
        assert cluster.port != taken.getsockname()[1]
    assert _songs(cluster) == 14
