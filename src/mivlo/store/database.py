"""The engine, sessions, migrations, and the channel on which changes are told."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path
from typing import Any

import alembic.command
import alembic.config
from sqlalchemy import Engine, create_engine, text
from sqlalchemy.orm import Session, sessionmaker

from mivlo.config import settings

CHANNEL = "mivlo"
"""NOTIFY channel; the payload is a small JSON object with `song_id` and `kind`."""


@lru_cache
def engine(url: str | None = None) -> Engine:
    """The engine of this process (or for another address)."""
    return create_engine(url or settings().database_url, pool_size=8, max_overflow=16, pool_pre_ping=True)


@lru_cache
def _maker() -> sessionmaker[Session]:
    return sessionmaker(engine(), expire_on_commit=False)


@contextmanager
def session() -> Iterator[Session]:
    """A session in one transaction: committed at the end, rolled back when something is raised."""
    with _maker().begin() as open_session:
        yield open_session


def tell(open_session: Session, song_id: int, kind: str, **more: Any) -> None:
    """Tell all pages of a song that something changed; sent when the transaction commits."""
    payload = json.dumps({"song_id": song_id, "kind": kind, **more})
    open_session.execute(text("SELECT pg_notify(:channel, :payload)"), {"channel": CHANNEL, "payload": payload})


def _alembic() -> alembic.config.Config:
    config = alembic.config.Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", settings().database_url.replace("%", "%%"))
    return config


def migrate() -> None:
    """Bring the tables up to date; can be run at any time."""
    alembic.command.upgrade(_alembic(), "head")


def schema_is_current() -> bool:
    """Whether all migrations have run."""
    from alembic.runtime.migration import MigrationContext
    from alembic.script import ScriptDirectory

    with engine().connect() as connection:
        now = MigrationContext.configure(connection).get_current_revision()
    return now == ScriptDirectory.from_config(_alembic()).get_current_head()
