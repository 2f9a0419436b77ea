"""Sources that data come from by themselves: a folder that is watched, and the worked example as an installed package."""

from __future__ import annotations

import datetime as dt
import os
import shutil
import sqlite3
import sys
from pathlib import Path

import polars as pl
import pytest
from sqlalchemy import Engine, select
from tests.feeds.files.made import bars

from flinch.feeds.sources import FolderSource, NoSuchSource, fetch_all, find_source
from flinch.store.market.imports import read_imports
from flinch.store.market.models import DailyBar
from flinch.store.reading import read_table

EXAMPLE = Path(__file__).resolve().parents[3] / "docs" / "examples" / "harbour_source.py"


def test_a_folder_tells_each_file_once_and_again_when_it_is_another_one(store: Engine, files: Path):
    (files / "notes.txt").write_text("nothing of ours\n")
    (files / ".hidden.csv").write_text("symbol,company\n")
    (files / "broken.parquet").write_bytes(b"PAR1")
    source = find_source("folder", {"path": str(files)})
    assert [(one.kind, one.refused) for one in fetch_all(store, "folder", source, files / "refused")] == [
        ("names", 0), ("daily_bars", 0), ("chains", 0)
    ]  # fmt: skip
    assert {one.source for one in read_imports(store)} == {"folder"}
    assert list(fetch_all(store, "folder", source, files / "refused")) == []
    later = bars().tail(1).with_columns(close=pl.col("high"))
    later.write_csv(files / "prices.csv")
    os.utime(files / "prices.csv", ns=(1, 1))
    assert [(one.kind, one.changed) for one in fetch_all(store, "folder", source, files / "refused")] == [
        ("daily_bars", 1)
    ]
    # One who begins anew is told all of it, and nothing changes.
    again = list(fetch_all(store, "folder", FolderSource(files), files / "refused"))
    assert [(one.added, one.changed) for one in again] == [(0, 0)] * 3
    with pytest.raises(NoSuchSource, match="is no folder"):
        find_source("folder", {"path": str(files / "nothing")})
    with pytest.raises(NoSuchSource, match="'path'"):
        find_source("folder", {})
    with pytest.raises(NoSuchSource, match="there are folder"):
        find_source("gossip", {})


@pytest.fixture
def harbour(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The example as an installed package, and a database of its office."""
    place = tmp_path / "site"
    shutil.copytree(EXAMPLE.parent, place)
    about = place / "harbour_source-1.0.dist-info"
    about.mkdir()
    (about / "METADATA").write_text("Metadata-Version: 2.1\nName: harbour-source\nVersion: 1.0\n")
    (about / "entry_points.txt").write_text("[flinch.sources]\nharbour = harbour_source:make\n")
    monkeypatch.syspath_prepend(str(place))
    file = tmp_path / "harbour.sqlite"
    with sqlite3.connect(file) as office:
        office.execute("CREATE TABLE ship (code TEXT, title TEXT)")
        office.execute(
            "CREATE TABLE price (code TEXT, day TEXT, first REAL, top REAL, bottom REAL, last REAL, tons REAL)"
        )
        office.executemany("INSERT INTO ship VALUES (?, ?)", [("AVERA", "Avera Works"), ("BONTI", "Bonti Works")])
        rows = bars().filter(pl.col("symbol") != "CELDA").with_columns(pl.col("session").dt.to_string("%Y-%m-%d"))
        office.executemany("INSERT INTO price VALUES (?, ?, ?, ?, ?, ?, ?)", rows.rows())
    yield file
    sys.modules.pop("harbour_source", None)


def test_the_worked_example_fetches_what_is_new(store: Engine, harbour: Path):
    source = find_source("harbour", {"file": str(harbour)})
    first = list(fetch_all(store, "harbour", source, harbour.parent / "refused"))
    assert [(one.kind, one.added, one.refused) for one in first] == [
        ("names", 2, 0),
        ("daily_bars", bars().height * 2 // 3, 0),
    ]
    with sqlite3.connect(harbour) as office:
        office.execute("UPDATE price SET last = top WHERE day = '2026-09-09'")
        office.execute("INSERT INTO price VALUES ('AVERA', '2026-09-10', 10, 11, 9, 10.5, 7)")
        office.execute("UPDATE price SET last = 1 WHERE day = '2026-06-01'")
    again = list(fetch_all(store, "harbour", source, harbour.parent / "refused"))
    assert [(one.kind, one.added, one.changed) for one in again] == [("names", 0, 0), ("daily_bars", 1, 2)], (
        "from the last day on"
    )
    b = DailyBar
    newest = read_table(store, select(b.session, b.close).order_by(b.session.desc()).limit(1)).rows()
    assert newest == [(dt.date(2026, 9, 10), 10.5)]
    with pytest.raises(NoSuchSource, match="is no file"):
        find_source("harbour", {"file": "nothing"})


def test_the_example_is_as_short_as_it_says():
    assert len(EXAMPLE.read_text().splitlines()) <= 64
