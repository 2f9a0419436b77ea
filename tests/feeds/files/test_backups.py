"""What is written into a backup comes back as it was, elsewhere too; a broken file changes nothing."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Iterator
from pathlib import Path

import polars as pl
import pytest
from polars.testing import assert_frame_equal
from sqlalchemy import Engine, select
from tests.feeds.files.dying import Dying
from tests.feeds.files.made import load
from tests.feeds.files.test_exporting import FACTS
from tests.somebody import somebody

from flinch.app import create_app
from flinch.cli import main
from flinch.clock import wall
from flinch.feeds.files.importing import recover
from flinch.settings import Settings
from flinch.store import backup as backups
from flinch.store.backup import NoBackup, read_index, restore_market, restore_owned, write_backup
from flinch.store.databases import MarketTaken
from flinch.store.engine import make_engine
from flinch.store.errors import DatabaseAway
from flinch.store.local_server import LocalServer
from flinch.store.market.imports import primary_key, read_imports
from flinch.store.market.models import MarketBase
from flinch.store.market.state import begin_moment
from flinch.store.migrate import migrate_owned
from flinch.store.owned.models import OwnedBase
from flinch.store.owned.tray import add_to_tray
from flinch.store.reading import read_table

PAGES = ("names", "dossier/AVERA", "dossier/volatility/BONTI", "dossier/chain/AVERA", "dossier/facts/AVERA", "tape/AVERA",
         "data/kinds", "imports", "tray", "peek/CELDA")  # fmt: skip


@pytest.fixture
def loaded(store: Engine, files: Path) -> Engine:
    for kind, text in FACTS.items():
        (files / f"{kind}.csv").write_text(text)
    for name in ("list.csv", "prices.csv", "chains-2026-09-09.parquet", *[f"{kind}.csv" for kind in FACTS]):
        load(store, files / name)
    return store


@pytest.fixture(scope="module")
def elsewhere(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LocalServer]:
    running = LocalServer(tmp_path_factory.mktemp("elsewhere") / "database")
    running.start()
    migrate_owned(make_engine(running.owned_url))
    yield running
    for name in running.databases.markets():
        running.databases.remove_market(name)
    running.stop()
    running.erase()


def everything(engine: Engine, base: type[MarketBase] | type[OwnedBase]) -> dict[str, pl.DataFrame]:
    tables = [m.class_ for m in base.registry.mappers]
    return {t.__tablename__: read_table(engine, select(*t.__table__.columns)).sort(primary_key(t)) for t in tables}


def pages(server: LocalServer) -> dict[str, object]:
    client = create_app(Settings(), server.databases).test_client()
    return {path: client.get(f"/api/{path}?market=mine").json for path in PAGES}


def test_what_is_restored_elsewhere_is_the_same_and_so_are_its_pages(
    own: LocalServer, elsewhere: LocalServer, loaded: Engine, tmp_path: Path
):
    owned, other = make_engine(own.owned_url), make_engine(elsewhere.owned_url)
    why = {"words": 'quotes " \\ and\nlines\tand NULL', "odd": ["Ж", 0.1]}
    add_to_tray(owned, somebody(owned, market="mine"), [("AVERA", why), ("CELDA", {})], wall().replace(tzinfo=None))
    path = tmp_path / "all.flinch"
    held = write_backup(own.databases, path, ["mine"])
    assert [one.part for one in held] == ["owned", "mine"]
    assert held == read_index(path)
    with pytest.raises(NoBackup, match="There is a file"):
        write_backup(own.databases, path, ["mine"])
    kept = restore_owned(elsewhere.databases, path, held[0], tmp_path / "aside")
    assert kept.exists()
    restore_market(elsewhere.databases, path, held[1])
    assert elsewhere.databases.markets() == ["demo", "mine"]
    market = make_engine(elsewhere.databases.market_url("mine"))
    for before, after, base in ((loaded, market, MarketBase), (owned, other, OwnedBase)):
        there = everything(after, base)
        for name, rows in everything(before, base).items():
            assert_frame_equal(rows, there[name])
    assert pages(elsewhere) == pages(own)
    with pytest.raises(MarketTaken):
        restore_market(elsewhere.databases, path, held[1])
    elsewhere.databases.remove_market("mine")


def altered(path: Path, place: Path, **members: bytes | None) -> Path:
    """A backup with some of its members others, or left out."""
    with zipfile.ZipFile(path) as old, zipfile.ZipFile(place, "w") as new:
        for name in old.namelist():
            data = members.get(name, old.read(name)) if name in members else old.read(name)
            if data is not None:
                new.writestr(name, data)
    return place


def test_a_broken_file_is_refused_and_nothing_of_it_stays(
    own: LocalServer, elsewhere: LocalServer, loaded: Engine, tmp_path: Path
):
    path = tmp_path / "all.flinch"
    held = write_backup(own.databases, path, ["mine"])
    with pytest.raises(NoBackup, match="only a part"):
        read_index(_written(tmp_path / "half", path.read_bytes()[: path.stat().st_size // 2]))
    with pytest.raises(NoBackup, match="no backup"):
        read_index(_written(tmp_path / "text", b"words"))
    with pytest.raises(NoBackup, match="cannot be read"):
        read_index(tmp_path / "nothing")
    index = json.loads(zipfile.ZipFile(path).read("index.json"))
    newer = altered(path, tmp_path / "newer", **{"index.json": json.dumps(index | {"format": 99}).encode()})
    with pytest.raises(NoBackup, match="newer"):
        read_index(newer)
    bars = "mine/daily_bar/000000.parquet"
    odd = io.BytesIO()
    pl.read_parquet(io.BytesIO(zipfile.ZipFile(path).read(bars))).rename({"close": "close` = 1 --"}).write_parquet(odd)
    for wrong, words in (
        (altered(path, tmp_path / "a", **{bars: None}), "0 rows of daily_bar where"),
        (altered(path, tmp_path / "b", **{bars: b"PAR1"}), "is broken"),
        (altered(path, tmp_path / "c", **{bars: odd.getvalue()}), "has columns that"),
    ):
        with pytest.raises(NoBackup, match=words):
            restore_market(elsewhere.databases, wrong, held[1])
        assert "mine" not in elsewhere.databases.markets()
    for change, words in (({"rows": {"mysql": 1}}, "has a table 'mysql'"), ({"revision": "9999"}, "newer Flinch")):
        with pytest.raises(NoBackup, match=words):
            restore_market(elsewhere.databases, path, held[1]._replace(**change))
    before = everything(make_engine(elsewhere.owned_url), OwnedBase)
    with pytest.raises(NoBackup, match="rows of owner where"):
        restore_owned(elsewhere.databases, path, held[0]._replace(rows={"owner": 5_000}), tmp_path / "aside")
    after = everything(make_engine(elsewhere.owned_url), OwnedBase)
    assert all(rows.equals(after[name]) for name, rows in before.items())
    assert elsewhere.databases.markets() == ["demo"]


def test_who_is_ended_while_it_restores_can_do_it_again(
    own: LocalServer, elsewhere: LocalServer, loaded: Engine, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    path = tmp_path / "all.flinch"
    held = write_backup(own.databases, path, ["mine"])

    def killed(engine: Engine, table: str, rows: pl.DataFrame) -> None:
        if table == "name_chain":
            raise RuntimeError("ended")
        add(engine, table, rows)

    add = backups.add_rows
    with monkeypatch.context() as patch:
        patch.setattr(backups, "add_rows", killed)
        # A process that is killed cleans nothing up.
        patch.setattr(type(elsewhere.databases), "remove_market", lambda *_: False)
        with pytest.raises(RuntimeError, match="ended"):
            restore_market(elsewhere.databases, path, held[1])
    assert "mine" in elsewhere.databases.markets()
    restore_market(elsewhere.databases, path, held[1])
    assert everything(make_engine(elsewhere.databases.market_url("mine")), MarketBase)["name"].height == 3
    elsewhere.databases.remove_market("mine")


@pytest.mark.parametrize("step", [0, 4, 9])
def test_a_backup_whose_database_dies_leaves_no_file_and_can_be_written_again(
    own: LocalServer, loaded: Engine, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, step: int
):
    with monkeypatch.context() as patch:
        patch.setattr(backups, "_pieces", Dying(own, step).before(backups._pieces))
        with pytest.raises(DatabaseAway):
            write_backup(own.databases, tmp_path / "all.flinch", ["mine"])
    assert list(tmp_path.glob("*flinch*")) + list(tmp_path.glob(".*flinch*")) == []
    assert own.restart_if_down()
    held = write_backup(own.databases, tmp_path / "all.flinch", ["mine"])
    assert held[1].rows["name"] == 3


def test_a_backup_that_is_written_while_an_import_is_under_way_is_whole_when_it_is_back(
    own: LocalServer, elsewhere: LocalServer, loaded: Engine, tmp_path: Path
):
    begin_moment(loaded)
    held = write_backup(own.databases, tmp_path / "all.flinch", ["mine"])
    restore_market(elsewhere.databases, tmp_path / "all.flinch", held[1])
    back = make_engine(elsewhere.databases.market_url("mine"))
    recover(back)
    assert pages_of(elsewhere)["symbols"] == ["AVERA", "BONTI", "CELDA"]
    assert [one.file for one in read_imports(back)][-1] == "list.csv"
    elsewhere.databases.remove_market("mine")


def pages_of(server: LocalServer) -> dict[str, list[str]]:
    names = create_app(Settings(), server.databases).test_client().get("/api/names?market=mine").json
    return {"symbols": [name["symbol"] for name in names["names"]]}


def test_the_commands_write_and_bring_back(tmp_path: Path, files: Path, capsys: pytest.CaptureFixture[str]):
    first, second, kept = str(tmp_path / "first"), str(tmp_path / "second"), tmp_path / "kept.flinch"
    assert main(["market", "new", "mine", "--folder", first]) == 0
    assert main(["import", str(files), "--market", "mine", "--source", "North", "--json", "--folder", first]) == 0
    told = [json.loads(line) for line in capsys.readouterr().out.splitlines() if line.startswith("{")]
    assert [(one["kind"], one["refused"], one["job"]) for one in told] == [
        ("names", 0, 1),
        ("daily_bars", 0, 2),
        ("chains", 0, 3),
    ]
    assert main(["export", "all", "--market", "mine", "--to", str(tmp_path / "out"), "--folder", first]) == 0
    assert (tmp_path / "out" / "index.json").exists()
    # What a user owns goes out with it, a document a kind, and comes back.
    document = tmp_path / "out" / "baskets.json"
    told = json.loads(document.read_text())
    assert (told["kind"], told["items"]) == ("baskets", [])
    document.write_text(json.dumps(told | {"items": [{"name": "Two", "symbols": ["AVERA", "BONTI"]}]}))
    for added, same in ((1, 0), (0, 1)):
        capsys.readouterr()
        assert main(["import", "baskets", str(document), "--market", "mine", "--json", "--folder", first]) == 0
        one = json.loads(capsys.readouterr().out)
        assert (one["kind"], one["added"], one["changed"], one["same"]) == ("baskets", added, 0, same)
    assert main(["export", "baskets", "--market", "mine", "--to", str(tmp_path / "again"), "--folder", first]) == 0
    assert json.loads((tmp_path / "again" / "baskets.json").read_text()) == json.loads(document.read_text())
    document.write_text("{")
    assert main(["import", "baskets", str(document), "--market", "mine", "--folder", first]) == 1
    assert "cannot be read as JSON" in capsys.readouterr().err
    assert main(["backup", str(kept), "--folder", first]) == 0
    assert main(["backup", str(kept), "--folder", first]) == 1
    assert main(["restore", str(kept), "--folder", second]) == 1, "nobody is there to be asked"
    assert "--yes" in capsys.readouterr().err
    assert main(["restore", str(kept), "--yes", "--folder", second]) == 0
    assert "the market mine" in capsys.readouterr().out
    assert main(["restore", str(kept), "--yes", "--folder", second]) == 1
    assert "There is a market mine already" in capsys.readouterr().err
    assert main(["restore", str(kept), "--market", "other", "--folder", second]) == 1
    assert main(["market", "list", "--json", "--folder", second]) == 0
    rows = [json.loads(line) for line in capsys.readouterr().out.splitlines()]
    assert [(row["market"], row["source"]) for row in rows][-1] == ("mine", "North")


def _written(path: Path, data: bytes) -> Path:
    path.write_bytes(data)
    return path
