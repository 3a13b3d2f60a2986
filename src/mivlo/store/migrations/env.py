"""Alembic's entry: online migrations only."""

from alembic import context
from sqlalchemy import create_engine

from mivlo.store.models import Base

with create_engine(context.config.get_main_option("sqlalchemy.url") or "").connect() as connection:
    context.configure(connection=connection, target_metadata=Base.metadata)
    with context.begin_transaction():
        context.run_migrations()
