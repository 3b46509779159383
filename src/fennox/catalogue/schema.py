"""Bringing a database to the newest schema, by Alembic."""

from __future__ import annotations

from importlib.resources import files

from alembic import command
from alembic.config import Config


def upgrade(url: str) -> None:
    """Run every migration that is missing."""
    command.upgrade(_config(url), "head")


def _config(url: str) -> Config:
    config = Config()
    config.set_main_option("script_location", str(files("fennox.catalogue").joinpath("migrations")))
    config.set_main_option("sqlalchemy.url", url.replace("%", "%%"))
    return config
