"""A scratch database and data folder for the parts that measure a real server."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def scratch(port: int, **settings_: str) -> Iterator[Path]:
    """A folder with a fresh database, known to this process and to those that it starts; gone afterwards."""
    from mivlo.cluster import Cluster
    from mivlo.config import settings
    from mivlo.launch import prepare_database
    from mivlo.store import database

    with tempfile.TemporaryDirectory(dir="/var/tmp") as name:
        folder = Path(name)
        folder.chmod(0o755)
        cluster = Cluster(folder / "postgres", port, durable=False)
        cluster.start()
        os.environ |= {"MIVLO_DATABASE_URL": cluster.url, "MIVLO_DATA_DIR": str(folder / "data"), **settings_}
        for known in (settings, database.engine, database._maker):  # another part has used another one
            known.cache_clear()
        try:
            prepare_database()
            yield folder
        finally:
            database.engine().dispose()
            cluster.stop()
