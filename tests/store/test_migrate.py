"""Migrations: each tree makes exactly its models, and a database from before markets had their own keeps what users own."""

import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import Engine, text

from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer
from flinch.store.market.models import MarketBase
from flinch.store.migrate import migrate_market, migrate_owned, upgrade
from flinch.store.owned.models import OwnedBase


@pytest.fixture(scope="module")
def empty(tmp_path_factory: pytest.TempPathFactory):
    server = LocalServer(tmp_path_factory.mktemp("migrations") / "database")
    server.start()
    yield server
    server.stop()


def differences(engine: Engine, base) -> list:
    with engine.connect() as connection:
        return compare_metadata(MigrationContext.configure(connection), base.metadata)


def emptied(url: str) -> Engine:
    engine = make_engine(url)
    with engine.begin() as connection:
        connection.execute(text("SET foreign_key_checks = 0"))
        for (table,) in connection.execute(text("SHOW TABLES")).all():
            connection.execute(text(f"DROP TABLE `{table}`"))
        connection.execute(text("SET foreign_key_checks = 1"))
    return engine


@pytest.mark.parametrize("tree", ["market", "owned"])
@pytest.mark.parametrize("how", ["every migration in turn", "at once"])
def test_migrations_make_exactly_the_models_and_running_them_again_changes_nothing(
    empty: LocalServer, tree: str, how: str
):
    base, bring, url = {
        "market": (MarketBase, migrate_market, empty.market_url),
        "owned": (OwnedBase, migrate_owned, empty.owned_url),
    }[tree]
    engine = emptied(url)
    if how == "at once":
        bring(engine)
    else:
        with engine.begin() as connection:
            upgrade(connection, tree)
    assert differences(engine, base) == []
    bring(engine)
    assert differences(engine, base) == []


def test_what_users_own_stays_when_the_market_moves_out(empty: LocalServer):
    engine = emptied(empty.owned_url)
    with engine.begin() as connection:
        upgrade(connection, "owned", "0006")
        connection.execute(text("INSERT INTO owner (name) VALUES ('local')"))
        connection.execute(
            text("INSERT INTO tray_entry VALUES ((SELECT id FROM owner), 'TARNO', 1, '{}', '2026-09-09 20:00:00')")
        )
        connection.execute(text("INSERT INTO market_state VALUES (1, 'demo market', 7, '2026-09-09', 0.03, 4, 1)"))
    migrate_owned(engine)
    with engine.connect() as connection:
        assert connection.execute(text("SELECT symbol FROM tray_entry")).scalar() == "TARNO"
    assert differences(engine, OwnedBase) == []
