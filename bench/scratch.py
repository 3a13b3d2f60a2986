"""A scratch database and data folder for the parts that measure a real server."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def scratch(port: int, **settings_: str) -> Iterator[Path]:
    """A folder with a fresh database, for this process and those that it starts; afterwards all is as before."""
    from mivlo.cluster import Cluster
    from mivlo.config import settings
    from mivlo.launch import prepare_database
    from mivlo.store import database

    with tempfile.TemporaryDirectory(dir="/var/tmp") as name:
        folder = Path(name)
        folder.chmod(0o755)
        cluster = Cluster(folder / "postgres", port, durable=False)
        cluster.start()
        before = dict(os.environ)
        os.environ |= {"MIVLO_DATABASE_URL": cluster.url, "MIVLO_DATA_DIR": str(folder / "data"), **settings_}
        caches = (settings, database.engine, database._maker)  # others have used another database
        for known in caches:
            known.cache_clear()
        try:
            prepare_database()
            yield folder
        finally:
            database.engine().dispose()
            cluster.stop()
            os.environ.clear()
            os.environ.update(before)
            for known in caches:
                known.cache_clear()
