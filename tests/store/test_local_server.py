"""The private database server: no network, closed to others, started again at the same address, honest when it cannot start."""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pymysql
import pytest
from sqlalchemy import inspect, make_url, text
from sqlalchemy.exc import OperationalError
from tests.waiting import PATIENCE, until

from flinch.store.bulk import _unchecked
from flinch.store.databases import DEMO
from flinch.store.engine import loading, make_engine, told, transaction
from flinch.store.errors import DatabaseAway, DiskFull
from flinch.store.local_server import LocalServer, ServerFailed


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LocalServer]:
    running = LocalServer(tmp_path_factory.mktemp("own"))
    running.start()
    yield running
    running.stop()
    running.erase()


def pid_of(server: LocalServer) -> int:
    return int((server.folder / "server.pid").read_text())


def test_it_listens_on_no_network_at_all(own: LocalServer):
    """Sockets are told by the system: none of the server's is one of the internet's."""
    inodes = {
        os.readlink(entry)[8:-1]
        for entry in Path(f"/proc/{pid_of(own)}/fd").iterdir()
        if os.readlink(entry).startswith("socket:[")
    }
    assert inodes, "it listens on its own socket"
    for kind in ("tcp", "tcp6", "udp", "udp6"):
        rows = Path(f"/proc/net/{kind}").read_text().splitlines()[1:]
        assert not inodes & {row.split()[9] for row in rows}, kind


def enter(server: LocalServer, user: str, password: str) -> None:
    place = make_url(server.owned_url).query["unix_socket"]
    pymysql.connect(unix_socket=str(place), user=user, password=password, connect_timeout=5).close()


@pytest.mark.parametrize(
    ("user", "password"), [("flinch", ""), ("flinch", "guess"), ("flinch_market_demo", ""), ("nobody", "")]
)
def test_nobody_enters_without_the_password_of_this_start(own: LocalServer, user: str, password: str):
    with pytest.raises(pymysql.MySQLError, match="Access denied"):
        enter(own, user, password)
    enter(own, "flinch", str(make_url(own.owned_url).password))


def test_a_second_server_has_a_password_and_a_socket_of_its_own(own: LocalServer, tmp_path: Path):
    other = LocalServer(tmp_path)
    with pytest.raises(AssertionError, match="not started"):
        _ = other.owned_url
    other.start()
    try:
        theirs, mine = make_url(other.owned_url), make_url(own.owned_url)
        assert theirs.password != mine.password
        assert theirs.query["unix_socket"] != mine.query["unix_socket"]
    finally:
        other.stop()


def test_a_server_that_answers_gets_no_file_of_ours(own: LocalServer, tmp_path: Path):
    """Only who writes many rows at once may send one; whoever else is asked for a file refuses."""
    with make_engine(own.owned_url).begin() as connection:
        connection.execute(text("CREATE TABLE IF NOT EXISTS told (line VARCHAR(99))"))
    secret = tmp_path / "secret"
    secret.write_text("ours alone")
    ask = text(f"LOAD DATA LOCAL INFILE '{secret}' INTO TABLE told")
    for patient in (True, False):
        with (
            pytest.raises(OperationalError),
            make_engine(own.owned_url, patient=patient).begin() as connection,
        ):
            connection.execute(ask)
    with make_engine(own.owned_url).connect() as connection:
        assert connection.execute(text("SELECT COUNT(*) FROM told")).scalar() == 0
    with loading(make_engine(own.owned_url)) as connection:
        connection.execute(ask)
    with make_engine(own.owned_url).connect() as connection:
        assert connection.execute(text("SELECT line FROM told")).scalars().all() == ["ours alone"]


def test_a_killed_server_is_started_again_where_it_was_with_what_was_committed(own: LocalServer):
    engine = make_engine(own.owned_url)
    with engine.begin() as connection:
        connection.execute(text("CREATE TABLE kept (n INT)"))
        connection.execute(text("INSERT INTO kept VALUES (42)"))
    assert not own.restart_if_down()
    address = own.owned_url
    os.kill(pid_of(own), signal.SIGKILL)

    def away() -> bool:
        try:
            with transaction(engine) as session:
                session.execute(text("SELECT 1"))
        except DatabaseAway:
            return True
        return False

    until(away, "the end of a killed server")
    until(own.restart_if_down)
    assert own.owned_url == address
    with transaction(engine) as session:
        assert session.scalar(text("SELECT n FROM kept")) == 42


def test_erasing_stops_what_was_left_over_and_starts_empty(tmp_path: Path):
    left_over = LocalServer(tmp_path / "database")
    left_over.start()
    with make_engine(left_over.owned_url).begin() as connection:
        connection.execute(text("CREATE TABLE old (n INT)"))
    fresh = LocalServer(tmp_path / "database")
    fresh.erase()
    assert left_over._process is not None
    assert left_over._process.wait(PATIENCE) == 0
    fresh.start()
    try:
        with make_engine(fresh.owned_url).connect() as connection:
            assert connection.execute(text("SHOW TABLES")).all() == []
    finally:
        fresh.stop()


def test_a_statement_that_is_wrong_is_not_taken_for_a_server_that_is_away(own: LocalServer):
    with pytest.raises(Exception, match="nowhere") as told, transaction(make_engine(own.owned_url)) as session:
        session.execute(text("SELECT * FROM nowhere"))
    assert not isinstance(told.value, DatabaseAway)


def test_a_server_that_cannot_start_is_told_with_the_log(tmp_path: Path):
    server = LocalServer(tmp_path / "database")
    server.start()
    server.stop()
    (server.data / "ibdata1").write_bytes(b"not a tablespace")
    with pytest.raises(ServerFailed, match=r"ended at start; its log is .*server\.log"):
        server.start()
    server.stop()
    assert "ibdata1" in server.log.read_text()


def test_the_socket_lies_in_a_new_folder_of_ours_alone(own: LocalServer, tmp_path: Path):
    folder = own._run
    assert folder is not None
    status = folder.stat()
    assert (status.st_uid, status.st_mode & 0o777) == (os.getuid(), 0o700)
    other = LocalServer(tmp_path / "other")
    other.start()
    try:
        assert other._run is not None
        assert other._run != folder
    finally:
        other.stop()
    assert other._run is not None
    assert not other._run.exists(), "it goes with the server"


def test_root_has_no_password_to_guess_and_is_known_by_the_socket(own: LocalServer):
    with own.databases.enter() as connection, connection.cursor() as cursor:
        cursor.execute("SELECT User, Host, plugin, authentication_string FROM mysql.user WHERE User NOT LIKE 'flinch%'")
        found = cursor.fetchall()
    assert {row[0] for row in found} >= {"root"}
    for user, host, plugin, password in found:
        if user in ("root", "mysql", ""):
            assert host == "localhost"
            assert plugin == "unix_socket" or password == "invalid", f"{user} may enter with {plugin} {password!r}"


@pytest.mark.parametrize("how", ["a link", "open to others"])
def test_a_folder_that_others_may_write_to_is_refused(tmp_path: Path, how: str):
    folder = tmp_path / "database"
    if how == "a link":
        (tmp_path / "elsewhere").mkdir()
        folder.symlink_to(tmp_path / "elsewhere")
        server = LocalServer(folder)
        server.folder = folder
    else:
        folder.mkdir()
        folder.chmod(0o777)
        server = LocalServer(folder)
    with pytest.raises(ServerFailed, match="another user owns it or may write to it"):
        server.start()


def test_a_paused_server_is_given_up_after_seconds_and_no_threads_are_left(own: LocalServer):
    engine = make_engine(own.owned_url, patient=False)
    with engine.connect() as connection:
        connection.execute(text("SELECT 1"))
    before = threading.active_count()
    pid = pid_of(own)
    os.kill(pid, signal.SIGSTOP)
    try:
        with pytest.raises(DatabaseAway), transaction(engine) as session:
            session.execute(text("SELECT 1"))
        assert threading.active_count() == before
    finally:
        os.kill(pid, signal.SIGCONT)
    with transaction(engine) as session:
        assert session.scalar(text("SELECT 1")) == 1


@pytest.mark.parametrize("code", [1021, 1114])
def test_a_full_disk_is_named_and_nothing_else_is_taken_for_it(code: int):
    def failing(number: int) -> OperationalError:
        return OperationalError("INSERT", {}, pymysql.err.OperationalError(number, "no more room"))

    with pytest.raises(DiskFull), told():
        raise failing(code)
    with pytest.raises(DatabaseAway), told():
        raise failing(2013)
    with pytest.raises(OperationalError), told():
        raise failing(1205)


def test_a_connection_that_loaded_in_bulk_checks_keys_again(own: LocalServer):
    engine = make_engine(own.owned_url)
    with engine.begin() as connection:
        with _unchecked(connection):
            assert connection.execute(text("SELECT @@foreign_key_checks + @@unique_checks")).scalar() == 0
        assert connection.execute(text("SELECT @@foreign_key_checks + @@unique_checks")).scalar() == 2


def test_a_load_cannot_reach_what_users_own(own: LocalServer):
    """The market's user is refused by the server itself, whatever our code asks for."""
    with make_engine(own.owned_url).begin() as connection:
        connection.execute(text("CREATE TABLE IF NOT EXISTS mine (n INT)"))
    market = make_engine(own.market_url)
    for statement in (
        "SELECT * FROM flinch.mine",
        "DROP TABLE flinch.mine",
        "CREATE DATABASE flinch_other",
        "DROP DATABASE flinch",
    ):
        with pytest.raises(OperationalError, match="denied"), market.begin() as connection:
            connection.execute(text(statement))
    with market.begin() as connection:
        assert {row[0] for row in connection.execute(text("SHOW DATABASES"))} <= {
            "flinch_market_demo",
            "information_schema",
        }


def test_servers_that_start_at_once_leave_each_others_temporary_tables_alone(own: LocalServer, tmp_path: Path):
    with make_engine(own.owned_url).connect() as connection:
        assert connection.execute(text("SELECT @@tmpdir")).scalar() == str(own.folder / "tmp")
    servers = [LocalServer(tmp_path / str(n)) for n in range(3)]
    try:
        with ThreadPoolExecutor(3) as pool:
            list(pool.map(LocalServer.start, servers))
    finally:
        for server in servers:
            server.stop()


def test_a_market_that_is_emptied_leaves_what_users_own(own: LocalServer):
    engines = [make_engine(url) for url in (own.owned_url, own.market_url)]
    for engine in engines:
        with engine.begin() as connection:
            connection.execute(text("CREATE TABLE IF NOT EXISTS stays (n INT)"))
    own.databases.empty_market(DEMO)
    with engines[0].connect() as owned, engines[1].connect() as market:
        assert "stays" in inspect(owned).get_table_names()
        assert inspect(market).get_table_names() == []
