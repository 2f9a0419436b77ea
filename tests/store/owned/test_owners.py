"""Whose things they are."""

from concurrent.futures import ThreadPoolExecutor

from sqlalchemy import delete

from flinch.store.engine import make_engine, transaction
from flinch.store.local_server import LocalServer
from flinch.store.migrate import migrate_owned
from flinch.store.owned.models import Owner
from flinch.store.owned.owners import LOCAL_OWNER, owner_called


def test_two_first_requests_at_once_make_one_owner(tmp_path):
    server = LocalServer(tmp_path / "database")
    server.start()
    try:
        engine = make_engine(server.owned_url)
        migrate_owned(engine)
        for _ in range(5):
            with ThreadPoolExecutor(8) as pool:
                found = set(pool.map(lambda _: owner_called(engine, LOCAL_OWNER), range(8)))
            assert len(found) == 1
            with transaction(engine) as session:
                session.execute(delete(Owner))
    finally:
        server.stop()
