"""Bringing the schemas up to date with Alembic: a tree of migrations for a market, another for what users own."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Connection, Engine, MetaData, inspect

from flinch.store.market.models import MarketBase
from flinch.store.owned.models import OwnedBase

_HERE = Path(__file__).parent


def migrate_market(engine: Engine) -> None:
    """Bring a market's database up to date."""
    _bring(engine, "market", MarketBase.metadata)


def migrate_owned(engine: Engine) -> None:
    """Bring the database of what users own up to date."""
    _bring(engine, "owned", OwnedBase.metadata)


def _bring(engine: Engine, tree: str, tables: MetaData) -> None:
    with engine.begin() as connection:
        if inspect(connection).get_table_names():
            upgrade(connection, tree)
        else:
            # An empty database gets the tables as they are now; a test holds that every migration in turn makes the same.
            tables.create_all(connection)
            command.stamp(_config(connection, tree), "head")


def upgrade(connection: Connection, tree: str, to: str = "head") -> None:
    """Apply every migration of a tree ("market" or "owned") that the database lacks, up to one."""
    command.upgrade(_config(connection, tree), to)


def _config(connection: Connection, tree: str) -> Config:
    config = Config()
    config.set_main_option("script_location", str(_HERE / tree / "migrations"))
    config.attributes["connection"] = connection
    return config
