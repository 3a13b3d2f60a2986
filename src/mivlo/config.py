"""Settings: read once from the environment (MIVLO_...), with defaults for one machine."""

from __future__ import annotations

import os
from functools import lru_cache
from pathlib import Path
from typing import Any

from pydantic import Field, SecretStr
from pydantic_settings import BaseSettings, SettingsConfigDict

PROJECT = Path(__file__).resolve().parents[2]


def url_file(data_dir: Path) -> Path:
    """Where the start command notes the address of its own cluster, for the other commands."""
    return data_dir.parent / "database-url"


def _database_url(known: dict[str, Any]) -> str:
    noted = url_file(known["data_dir"])
    if noted.exists():
        return noted.read_text().strip()
    return "postgresql+psycopg://mivlo@127.0.0.1:54317/mivlo"


class Settings(BaseSettings):
    """Where things are. The start command sets the database's address for its own cluster."""

    model_config = SettingsConfigDict(env_prefix="MIVLO_", extra="ignore")

    data_dir: Path = PROJECT / "var" / "data"
    database_url: str = Field(default_factory=_database_url)
    store: str = Field(
        default="", description="a folder or an fsspec address for originals and exports; data_dir if empty"
    )
    page_dir: Path = PROJECT / "ui" / "dist"
    host: str = "127.0.0.1"
    port: int = 8417
    names: str = Field(default="", description="further names under which the page is opened, separated by commas")
    password: SecretStr = Field(
        default=SecretStr(""),
        description="asked of everybody; needed where others can reach us; or an argon2 hash of it",
    )
    demo: bool = Field(default=True, description="load the demo song into an empty database at the start")
    worker_threads: int = 2
    treated_cache_gb: float = Field(default=4.0, ge=0.0, description="what treated sounds may take on disk")
    backup_dir: Path | None = Field(default=None, description="where all songs are backed up each night; empty: not")
    backup_hour: int = Field(default=3, ge=0, le=23, description="after which hour of the night")
    backups_kept: int = Field(default=7, ge=1, description="how many nightly backups stay")
    watch_dirs: str = Field(
        default="", description="folders below which songs may watch and write folders, separated by colons"
    )
    keep_free_mb: float = Field(
        default=256.0, ge=0.0, description="what imports and exports leave free on disk, for the database before all"
    )

    @property
    def watched_roots(self) -> tuple[Path, ...]:
        """The folders below which songs may watch folders."""
        return tuple(Path(name).expanduser().resolve() for name in self.watch_dirs.split(os.pathsep) if name.strip())

    @property
    def keep_free_bytes(self) -> int:
        return round(self.keep_free_mb * 1e6)

    @property
    def libpq_url(self) -> str:
        """The database's address as libpq (and the task queue) reads it."""
        return self.database_url.replace("postgresql+psycopg://", "postgresql://", 1)


@lru_cache
def settings() -> Settings:
    """The settings of this process."""
    return Settings()
