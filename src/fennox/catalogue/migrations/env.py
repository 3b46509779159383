"""Alembic's environment: online only, one transaction, one migrating process at a time."""

from __future__ import annotations

from alembic import context
from sqlalchemy import create_engine, text

from fennox.catalogue.models.base import Base

_MIGRATING = 7201  # advisory lock: two services that start together migrate one after the other

engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "")
try:
    with engine.connect() as connection:
        context.configure(connection=connection, target_metadata=Base.metadata)
        with context.begin_transaction():
            connection.execute(text(f"select pg_advisory_xact_lock({_MIGRATING})"))
            context.run_migrations()
finally:
    engine.dispose()
