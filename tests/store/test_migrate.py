"""Migrations: each tree makes exactly its models, and a database from before markets had their own keeps what users own."""

import gzip
import json
from pathlib import Path

import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import Engine, event, text

import flinch.store
from flinch.store.engine import make_engine
from flinch.store.errors import CannotMigrate
from flinch.store.local_server import LocalServer
from flinch.store.market.models import MarketBase
from flinch.store.migrate import migrate_market, migrate_owned, upgrade
from flinch.store.owned.models import OwnedBase

MIGRATIONS = Path(flinch.store.__file__).parent


@pytest.fixture(scope="module")
def empty(tmp_path_factory: pytest.TempPathFactory):
    server = LocalServer(tmp_path_factory.mktemp("migrations") / "database")
    server.start()
    yield server
    server.stop()
    server.erase()


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


class Ended(Exception):
    """Stands for a kill: what was told to the server is done, and nothing more comes."""


def kill_at_every_statement(engine: Engine, bring) -> int:
    """Bring it up to date again and again, each time ended after the first statement that was not ended at before; how many."""
    ended_at: set[tuple[str, str]] = set()

    def end(_connection, _cursor, statement: str, parameters, *_):
        here = (statement, repr(parameters))
        if statement.split()[0] != "SELECT" and here not in ended_at:
            ended_at.add(here)
            raise Ended

    event.listen(engine, "after_cursor_execute", end)
    try:
        while True:
            try:
                bring(engine)
            except Ended:
                engine.dispose()
                continue
            return len(ended_at)
    finally:
        event.remove(engine, "after_cursor_execute", end)


@pytest.mark.parametrize("tree", ["market", "owned"])
@pytest.mark.parametrize("since", ["nothing", "the first version"])
def test_a_start_ended_at_any_statement_is_gone_on_with_by_the_next(empty: LocalServer, tree: str, since: str):
    base, bring, url = {
        "market": (MarketBase, migrate_market, empty.market_url),
        "owned": (OwnedBase, migrate_owned, empty.owned_url),
    }[tree]
    engine = emptied(url)
    if since != "nothing":
        with engine.begin() as connection:
            upgrade(connection, tree, "0001")
            if tree == "owned":
                connection.execute(text("INSERT INTO owner (name) VALUES ('local')"))
                connection.execute(
                    text(
                        "INSERT INTO tray_entry VALUES ((SELECT id FROM owner), 'TARNO', 1, '{}', '2026-09-09 20:00:00')"
                    )
                )
    ended = kill_at_every_statement(engine, bring)
    assert ended > 20
    assert differences(engine, base) == []
    with engine.connect() as connection:
        assert connection.execute(text("SELECT version_num FROM alembic_version")).scalars().all() == [
            max(path.name[:4] for path in MIGRATIONS.glob(f"{tree}/migrations/versions/0*.py"))
        ]
        if tree == "owned" and since != "nothing":
            assert connection.execute(text("SELECT symbol FROM tray_entry")).scalars().all() == ["TARNO"]


def test_what_users_own_is_copied_aside_before_a_migration_and_only_then(empty: LocalServer, tmp_path: Path):
    engine = emptied(empty.owned_url)
    with engine.begin() as connection:
        upgrade(connection, "owned", "0009")
        connection.execute(text("INSERT INTO owner (name) VALUES ('local')"))
        connection.execute(
            text(
                "INSERT INTO own_line VALUES (7, (SELECT id FROM owner), 1, 'TARNO', 'roof', 52.5, '', '2026-09-09', NULL)"
            )
        )
    migrate_owned(engine, tmp_path)
    (copy,) = tmp_path.iterdir()
    assert copy.name.startswith("before-0009-")
    with gzip.open(copy, "rt") as file:
        tables = {line["table"]: line["rows"] for line in map(json.loads, file)}
    assert tables["own_line"][0] | {"owner_id": None} == {
        "id": 7, "owner_id": None, "version": 1, "symbol": "TARNO", "name": "roof", "price": 52.5, "note": "",
        "since": "2026-09-09", "deleted_at": None,
    }  # fmt: skip
    migrate_owned(engine, tmp_path)
    assert len(list(tmp_path.iterdir())) == 1


def test_tables_of_a_newer_version_or_of_none_that_have_rows_are_left_alone(empty: LocalServer):
    engine = emptied(empty.owned_url)
    migrate_owned(engine)
    with engine.begin() as connection:
        connection.execute(text("INSERT INTO owner (name) VALUES ('local')"))
        connection.execute(text("UPDATE alembic_version SET version_num = '0999'"))
    with pytest.raises(CannotMigrate, match="newer Flinch"):
        migrate_owned(engine)
    with engine.begin() as connection:
        connection.execute(text("DELETE FROM alembic_version"))
    with pytest.raises(CannotMigrate, match="owner has rows"):
        migrate_owned(engine)
    with engine.connect() as connection:
        assert connection.execute(text("SELECT name FROM owner")).scalars().all() == ["local"]
