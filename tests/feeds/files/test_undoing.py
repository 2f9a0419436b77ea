"""What an import wrote can be brought back: all tables are then what they were, and so is what follows from them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import polars as pl
import pytest
from polars.testing import assert_frame_equal
from sqlalchemy import Engine, select
from tests.feeds.files.dying import Dying
from tests.feeds.files.made import TAKEN, bars, chain, counts, load

from flinch.app import create_app
from flinch.feeds import publish as publishing
from flinch.feeds.files import importing
from flinch.feeds.files.importing import NothingToUndo, recover, undo_import
from flinch.jobs import JobCancelled
from flinch.settings import Settings
from flinch.store.errors import DatabaseAway
from flinch.store.local_server import LocalServer
from flinch.store.market import imports
from flinch.store.market.imports import KEPT, primary_key, read_imports
from flinch.store.market.models import DataImport, ImportBefore, MarketBase, MarketJob, MarketState
from flinch.store.market.state import read_state
from flinch.store.reading import read_table

_APART = (MarketState, MarketJob, DataImport, ImportBefore)


@pytest.fixture
def loaded(store: Engine, files: Path) -> Engine:
    for name in ("list.csv", "prices.csv", "chains-2026-09-09.parquet"):
        load(store, files / name)
    return store


def whole(store: Engine) -> dict[str, pl.DataFrame]:
    """Every row of the market."""
    tables = [m.class_ for m in MarketBase.registry.mappers if m.class_ not in _APART]
    return {
        table.__tablename__: read_table(store, select(*table.__table__.columns)).sort(primary_key(table))
        for table in tables
    }


def require_same(store: Engine, before: dict[str, pl.DataFrame]) -> None:
    now = whole(store)
    assert {name: rows.height for name, rows in now.items()} == {name: rows.height for name, rows in before.items()}
    for name, rows in before.items():
        assert_frame_equal(now[name], rows, check_dtypes=False)
    state = read_state(store)
    assert state is not None
    assert state.whole


def corrections(folder: Path) -> list[tuple[str, Path]]:
    """Files that add to what is there and change it, of every sort of kind."""
    later = TAKEN.replace(minute=55)
    corrected = pl.concat(
        [
            chain().filter(pl.col("symbol") == "BONTI").with_columns(ask=pl.col("ask") + 0.2),
            chain().filter(pl.col("symbol") != "AVERA").with_columns(taken_at=pl.lit(later)),
            chain().head(6).with_columns(symbol=pl.lit("DERVI"), multiplier=pl.lit(10.0)),
        ],
        how="diagonal_relaxed",
    )
    corrected.write_parquet(folder / "chains.parquet")
    changed = bars().with_columns(close=pl.when(pl.col("symbol") == "CELDA").then(pl.col("high")).otherwise("close"))
    more = changed.tail(1).with_columns(symbol=pl.lit("DERVI"))
    pl.concat([changed, more]).write_parquet(folder / "daily_bars.parquet")
    (folder / "names.csv").write_text("symbol,company,sector\nAVERA,Avera Mills,Energy\nEMBRO,Embro Tools,Energy\n")
    (folder / "dividends.csv").write_text("symbol,ex_date,amount\nAVERA,2026-10-02,0.4\nDERVI,2026-10-02,0.2\n")
    (folder / "earnings_dates.csv").write_text("symbol,session,timing\nBONTI,2026-09-15,amc\n")
    (folder / "short_interest.csv").write_text("symbol,settled_on,shares\nBONTI,2026-08-31,1200\n")
    (folder / "fund_members.csv").write_text("fund,symbol,weight\nAVERA,BONTI,0.5\n")
    return [(path.name.split(".")[0], path) for path in sorted(folder.iterdir())]


def test_undoing_brings_back_every_row_and_what_follows_from_it(loaded: Engine, tmp_path: Path):
    folder = tmp_path / "more"
    folder.mkdir()
    for kind, path in corrections(folder):
        before = whole(loaded)
        outcome = load(loaded, path, kind=kind, make_names=True)
        assert outcome.added, kind
        changed = [name for name, rows in whole(loaded).items() if not rows.equals(before[name])]
        assert changed, kind
        assert outcome.job is not None
        undo_import(loaded, outcome.job)
        require_same(loaded, before)
        # What was undone can be loaded again.
        again = load(loaded, path, kind=kind, make_names=True)
        assert counts(again) == counts(outcome)


def test_imports_are_undone_from_the_newest_on_and_have_a_history(loaded: Engine, files: Path, tmp_path: Path):
    history = read_imports(loaded)
    assert [(one.kind, one.file, one.source, one.state, one.undoable) for one in history] == [
        ("chains", "chains-2026-09-09.parquet", "files", "loaded", True),
        ("daily_bars", "prices.csv", "files", "loaded", False),
        ("names", "list.csv", "files", "loaded", False),
    ]
    assert (history[1].rows, history[1].added, history[1].changed, history[1].refused) == (
        bars().height,
        bars().height,
        0,
        0,
    )
    assert history[2].how["columns"] == {"Ticker": "symbol", "Security Name": "company"}
    assert history[0].ended_at is not None
    with pytest.raises(NothingToUndo, match=f"undo import {history[0].id} first"):
        undo_import(loaded, history[1].id)
    assert counts(load(loaded, files / "prices.csv")) == (0, 0, bars().height, 0)
    assert len(read_imports(loaded)) == 3, "what changes nothing leaves no trace"
    for one in history:
        undo_import(loaded, one.id)
    assert [one.state for one in read_imports(loaded)] == ["undone"] * 3
    state = read_state(loaded)
    assert state is not None
    assert state.whole
    left = {name: rows.height for name, rows in whole(loaded).items() if rows.height and name != "market_setting"}
    assert left == {}, "nothing of it is left"
    with pytest.raises(NothingToUndo, match="no import is left"):
        undo_import(loaded, history[0].id)
    for name in ("list.csv", "prices.csv", "chains-2026-09-09.parquet"):
        assert load(loaded, files / name).added


def test_what_was_there_before_is_kept_of_the_last_imports_alone(loaded: Engine, tmp_path: Path):
    path = tmp_path / "short_interest.csv"
    for shares in range(KEPT + 2):
        path.write_text(f"symbol,settled_on,shares\nBONTI,2026-08-31,{shares + 1}\n")
        load(loaded, path)
    kept = read_table(loaded, select(ImportBefore.import_id).distinct())["import_id"].to_list()
    assert sorted(kept) == sorted(one.id for one in read_imports(loaded)[:KEPT])
    for one in read_imports(loaded)[:KEPT]:
        undo_import(loaded, one.id)
    assert read_table(loaded, select(imports.DataImport.kept))["kept"].sum() == 0
    with pytest.raises(NothingToUndo, match="no import is left"):
        undo_import(loaded, read_imports(loaded)[KEPT].id)


@pytest.mark.parametrize("step", range(5))
def test_rows_that_were_not_all_written_are_brought_back(
    loaded: Engine, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, step: int
):
    """Ended before and after each thing that an import of chains writes."""
    folder = tmp_path / "more"
    folder.mkdir()
    path = dict(corrections(folder))["chains"]
    before = whole(loaded)
    done = 0

    def ended(*arguments: object) -> None:
        nonlocal done
        if done == step:
            raise RuntimeError("ended")
        done += 1
        replace(*arguments)

    replace = imports.replace_rows
    with monkeypatch.context() as patch:
        patch.setattr(imports, "replace_rows", ended)
        with pytest.raises(RuntimeError, match="ended"):
            load(loaded, path, make_names=True)
    state = read_state(loaded)
    assert state is not None
    assert not state.whole
    # Whoever begins to bring it back may be ended too.
    with monkeypatch.context() as patch:
        patch.setattr(importing, "_forget", ended)
        with pytest.raises(RuntimeError, match="ended"):
            recover(loaded)
    recover(loaded)
    require_same(loaded, before)
    assert [one.state for one in read_imports(loaded)] == ["undone", "loaded", "loaded", "loaded"]
    assert [one.undoable for one in read_imports(loaded)] == [False, True, False, False]


@pytest.mark.parametrize("stage", ["reading", "comparing", "writing", "publishing"])
def test_an_import_that_is_cancelled_leaves_nothing(loaded: Engine, tmp_path: Path, stage: str):
    folder = tmp_path / "more"
    folder.mkdir()
    path = dict(corrections(folder))["chains"]
    before, shares = whole(loaded), []

    def tell(words: str, share: float) -> None:
        shares.append(share)
        if words.startswith(stage):
            raise JobCancelled

    with pytest.raises(JobCancelled):
        importing.import_file(loaded, importing.Asked(path, "chains", make_names=True), tell)
    require_same(loaded, before)
    assert shares == sorted(shares)
    assert load(loaded, path, make_names=True).added


@pytest.mark.parametrize("step", [0, 2, 4, 6, 9])
def test_a_database_that_is_killed_loses_doubles_and_half_shows_nothing(
    own: LocalServer, loaded: Engine, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, step: int
):
    """Killed before the so manieth statement that writes, of an import of chains and of undoing it."""
    folder = tmp_path / "more"
    folder.mkdir()
    path = dict(corrections(folder))["chains"]
    before = whole(loaded)

    def killed(act: Callable[[], object]) -> None:
        dying = Dying(own, step)
        with monkeypatch.context() as patch:
            for module, name in ((imports, "replace_rows"), (imports, "remove_rows"), (publishing, "replace_rows")):
                patch.setattr(module, name, dying.before(getattr(module, name)))
            with pytest.raises(DatabaseAway):
                act()
        assert own.restart_if_down()

    killed(lambda: load(loaded, path, make_names=True))
    recover(loaded)
    newest = read_imports(loaded)[0]
    if newest.state == "undone":
        require_same(loaded, before)
        assert load(loaded, path, make_names=True).added
        newest = read_imports(loaded)[0]
    else:
        # All its rows were there: it was gone on with.
        assert newest.state == "loaded"
    after = whole(loaded)
    killed(lambda: undo_import(loaded, newest.id))
    recover(loaded)
    require_same(loaded, before)
    assert [one.state for one in read_imports(loaded)].count("loaded") == 3
    assert load(loaded, path, make_names=True).added
    now = whole(loaded)
    assert {name: rows.height for name, rows in now.items()} == {name: rows.height for name, rows in after.items()}


@pytest.mark.parametrize("step", [0, 1, 2, 4])
def test_publishing_that_is_ended_with_the_database_is_gone_on_with(
    own: LocalServer, loaded: Engine, monkeypatch: pytest.MonkeyPatch, step: int
):
    """Killed before the so manieth table is written."""
    before = whole(loaded)
    with monkeypatch.context() as patch:
        patch.setattr(publishing, "replace_rows", Dying(own, step).before(publishing.replace_rows))
        with pytest.raises(DatabaseAway):
            importing.publish_all(loaded)
    assert own.restart_if_down()
    state = read_state(loaded)
    assert state is not None
    assert not state.whole, "what is half published is not served"
    recover(loaded)
    after, state = whole(loaded), read_state(loaded)
    assert state is not None
    assert state.whole
    require_same(loaded, {name: rows for name, rows in before.items() if name in after})


def test_what_an_import_changed_is_told_as_it_was_and_as_it_is(loaded: Engine, own: LocalServer, tmp_path: Path):
    folder = tmp_path / "more"
    folder.mkdir()
    path = dict(corrections(folder))["daily_bars"]
    outcome = load(loaded, path, kind="daily_bars", make_names=True)
    client = create_app(Settings(), own.databases).test_client()
    address = f"/api/imports/history/{outcome.job}/changes?market=mine"
    told = client.get(address).json
    assert told["kept"]
    rows = bars().filter((pl.col("symbol") == "CELDA") & (pl.col("close") != pl.col("high")))
    expected = {
        (str(day), f"{close:.10g}", f"{high:.10g}")
        for day, close, high in rows.select("session", "close", "high").iter_rows()
    }
    assert len(told["changes"]) == 100 < len(expected)
    assert {(one["symbol"], one["what"]) for one in told["changes"]} == {("CELDA", "daily bar close")}
    assert {(one["day"], one["before"], one["now"]) for one in told["changes"]} <= expected
    # Loaded again as it was, now is what it was before; a new row is no change.
    again = tmp_path / "again.parquet"
    bars().write_parquet(again)
    load(loaded, again, kind="daily_bars")
    assert client.get(address).json["changes"] == []
    # Of chains, which are packed, and of an import that there is none of nothing is told.
    chains = load(loaded, dict(corrections(folder))["chains"], make_names=True)
    other = client.get(f"/api/imports/history/{chains.job}/changes?market=mine").json
    assert {one["what"].split()[0] for one in other["changes"]} <= {"name", "snapshot", "contract"}
    assert client.get("/api/imports/history/999/changes?market=mine").json == {"kept": False, "changes": []}
    undo_import(loaded, chains.job)
    assert not client.get(f"/api/imports/history/{chains.job}/changes?market=mine").json["kept"]
