"""Workbooks and calendars as files of rows."""

from __future__ import annotations

import datetime as dt
import subprocess
import sys
import zipfile
from pathlib import Path

import openpyxl
import polars as pl
import pytest
import xlsxwriter
from flask.testing import FlaskClient
from sqlalchemy import Engine, select
from tests.feeds.files.made import bars, chain, counts, load

from flinch.app import create_app
from flinch.feeds.files import sheets
from flinch.feeds.files.errors import BadFile
from flinch.feeds.files.importing import Asked, import_file
from flinch.feeds.files.reading import kinds_within, open_table
from flinch.feeds.sources import FolderSource
from flinch.settings import Settings
from flinch.store.local_server import LocalServer
from flinch.store.market.models import EarningsReport
from flinch.store.reading import read_table

REPORTS = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Harbour Notes//EN
BEGIN:VEVENT
UID:1
DTSTART;VALUE=DATE:20261102
SUMMARY:AVERA Q3 2026 earnings (before market open)
END:VEVENT
BEGIN:VEVENT
UID:2
DTSTART;TZID=America/New_York:20261104T163000
SUMMARY:Results of $BONTI
END:VEVENT
BEGIN:VEVENT
UID:3
DTSTART;VALUE=DATE:20261105
SUMMARY:Holiday of the harbour
END:VEVENT
BEGIN:VEVENT
UID:4
DTSTART;VALUE=DATE:20261106
SUMMARY:CELDA reports\\, amc
 , with a line that is folded
END:VEVENT
END:VCALENDAR
"""


def book(path: Path, **pages: list[list[object]]) -> Path:
    made = openpyxl.Workbook()
    made.remove(made.active)
    for title, rows in pages.items():
        page = made.create_sheet(title.replace("_", " ").title())
        for row in rows:
            page.append(row)
    made.save(path)
    return path


def rounded() -> pl.DataFrame:
    """What writes workbooks has sixteen digits."""
    return bars().with_columns(pl.col(pl.Float64).round(2))


def three(folder: Path) -> Path:
    """The least that is useful as one workbook with a sheet a kind."""
    quotes = chain().with_columns(taken_at=pl.lit("2026-09-09T15:45:00-04:00"))
    return book(
        folder / "all.xlsx",
        chains=[quotes.columns, *quotes.rows()],
        names=[
            ["# as of tonight"],
            ["Ticker", "Security Name"],
            *[[s, f"{s.title()} Works"] for s in ("AVERA", "BONTI", "CELDA")],
        ],
        daily_bars=[rounded().columns, *rounded().rows()],
        notes=[["whatever"], ["x"]],
    )


def test_a_sheet_a_kind_makes_a_market(own: LocalServer, store: Engine, files: Path, tmp_path: Path):
    path = three(tmp_path)
    rounded().write_csv(files / "prices.csv")
    assert kinds_within(path) == ["names", "daily_bars", "chains"], "in the order in which they are loaded"
    told = [import_file(store, Asked(path, kind)) for kind in kinds_within(path)]
    assert [counts(one) for one in told] == [(3, 0, 0, 0), (bars().height, 0, 0, 0), (chain().height, 0, 0, 0)]
    # The same rows as the other files have.
    assert counts(load(store, files / "prices.csv")) == (0, 0, bars().height, 0)
    assert counts(load(store, files / "chains-2026-09-09.parquet")) == (0, 0, chain().height, 0)


def test_cells_are_what_a_sheet_shows(tmp_path: Path):
    path = book(
        tmp_path / "prices.xlsx",
        first=[
            ["Symbol", "Date", "Close", "Volume", "Flag", None],
            ["AVERA", dt.date(2026, 9, 8), 0.1, 5.0, True, None],
            [None, None, None, None, None, None],
            ["BONTI", dt.datetime(2026, 9, 8, 9, 30), "=1+1", "#N/A", False, None],
            ["CELDA", "2026-09-08", 1e-7, 12345678901, None, "beyond"],
        ],
    )
    table = open_table(path)
    assert table.columns == ["Symbol", "Date", "Close", "Volume", "Flag"]
    [batch] = table.batches()
    assert batch.line.tolist() == [2, 4, 5], "rows as the sheet numbers them; an empty one is none"
    assert batch.cells.rows() == [
        ("AVERA", "2026-09-08", "0.1", "5", "true"),
        ("BONTI", "2026-09-08T09:30:00", "", "#N/A", "false"),
        ("CELDA", "2026-09-08", "1e-07", "12345678901", ""),
    ], "a formula is never worked out: nothing was kept with this one"
    assert batch.reason.to_list() == [None, None, "the row has 6 cells, the header 5"]


def test_refused_rows_of_a_sheet_come_back_with_their_row(store: Engine, files: Path, tmp_path: Path):
    load(store, files / "list.csv")
    path = book(
        tmp_path / "daily_bars.xlsx",
        bars=[
            ["symbol", "session", "open", "high", "low", "close"],
            ["AVERA", dt.date(2026, 9, 8), 10, 11, 9, 10],
            ["AVERA", dt.date(2026, 9, 9), 10, 8, 9, 10],
            ["NOBODY", dt.date(2026, 9, 9), 10, 11, 9, 10],
        ],
    )
    outcome = import_file(store, Asked(path, refused=tmp_path / "refused.csv"))
    assert counts(outcome) == (1, 0, 0, 2)
    refused = pl.read_csv(tmp_path / "refused.csv")
    assert refused["line"].to_list() == [3, 4]
    assert refused["reason"].to_list() == ["high is under low", "no name is called NOBODY"]


@pytest.mark.parametrize("how", ["half", "text", "another archive", "no sheet", "no header"])
def test_what_is_no_workbook_is_refused_in_words(tmp_path: Path, how: str):
    path, whole = tmp_path / "prices.xlsx", book(tmp_path / "whole.xlsx", bars=[["symbol"], ["AVERA"]]).read_bytes()
    if how == "half":
        path.write_bytes(whole[: len(whole) // 2])
    elif how == "text":
        path.write_text("symbol,session\n")
    elif how == "another archive":
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("prices.csv", "symbol\nAVERA\n")
    elif how == "no sheet":
        path.write_bytes(whole)
        with pytest.raises(BadFile, match="no sheet called 'chains'"):
            list(sheets.sheet_rows(path, "chains", 400))
        return
    else:
        book(path, bars=[["# nothing else"]])
    with pytest.raises(BadFile, match=r"is no workbook|no row of column names"):
        open_table(path)


def test_a_workbook_that_unpacks_to_too_much_is_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    path = tmp_path / "prices.xlsx"
    with xlsxwriter.Workbook(path) as made:
        made.add_worksheet().write_column(0, 0, ["symbol", *[f"N{n}" for n in range(500)]])
    for bounds in ({"_MOST_UNPACKED": 1_000}, {"_MOST_TEXTS": 1_000}, {"_SMALL": 1_000, "_BOMB": 2}):
        with monkeypatch.context() as patched:
            for bound, value in bounds.items():
                patched.setattr(sheets, bound, value)
            with pytest.raises(BadFile, match="unpacks to more than"):
                open_table(path)
    assert open_table(path).columns == ["symbol"]


def test_rows_of_a_sheet_come_some_at_a_time(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    path = book(tmp_path / "prices.xlsx", bars=[["symbol"], *[[f"N{n}"] for n in range(25)]])
    monkeypatch.setattr("flinch.feeds.files.reading._ROWS", 10)
    batches = list(open_table(path).batches())
    assert [batch.cells.height for batch in batches] == [10, 10, 5]
    assert [row for batch in batches for row in batch.cells["symbol"]] == [f"N{n}" for n in range(25)]


def test_a_calendar_tells_when_reports_come(store: Engine, files: Path, tmp_path: Path):
    load(store, files / "list.csv")
    path = tmp_path / "reports.ics"
    path.write_text(REPORTS)
    outcome = import_file(store, Asked(path, refused=tmp_path / "refused.csv"))
    assert (outcome.kind, counts(outcome)) == ("earnings_dates", (3, 0, 0, 1))
    r = EarningsReport
    rows = read_table(store, select(r.name_id, r.session, r.timing).order_by(r.name_id)).rows()
    assert rows == [
        (1, dt.date(2026, 11, 2), "before_open"),
        (2, dt.date(2026, 11, 4), "after_close"),
        (3, dt.date(2026, 11, 6), "after_close"),
    ]
    assert pl.read_csv(tmp_path / "refused.csv")["title"].to_list() == ["Holiday of the harbour"]
    assert counts(import_file(store, Asked(path))) == (0, 0, 3, 1)


def test_of_a_calendar_with_categories_reports_alone_are_taken(tmp_path: Path):
    path = tmp_path / "all.ics"
    parts = REPORTS.split("END:VEVENT")
    told = [
        "CATEGORIES:Report\n",
        "CATEGORIES:Dividend\n",
        "CATEGORIES:Holiday,Harbour\n",
        "CATEGORIES:Notes,Earnings\n",
    ]
    path.write_text("END:VEVENT".join(part + more for part, more in zip(parts, [*told, ""], strict=True)))
    [batch] = open_table(path).batches()
    assert (batch.cells["symbol"].to_list(), batch.line.tolist()) == (["AVERA", "CELDA"], [1, 4])


@pytest.mark.parametrize("text", ["BEGIN:VCALENDAR\nBEGIN:VEVENT\nnonsense", "symbol,session\nAVERA,2026-09-09\n"])
def test_what_is_no_calendar_is_refused_in_words(tmp_path: Path, text: str):
    path = tmp_path / "reports.ics"
    path.write_text(text)
    with pytest.raises(BadFile, match="is no calendar"):
        list(open_table(path).batches())


def test_a_workbook_that_is_dropped_lies_there_once_a_kind(own: LocalServer, store: Engine, tmp_path: Path):
    client: FlaskClient = create_app(Settings(inbox=tmp_path / "inbox"), own.databases).test_client()
    data = three(tmp_path).read_bytes()
    brought = client.post("/api/imports?market=mine", json={"name": "all.xlsx", "size": len(data)}).json
    half = len(data) // 2
    for at, part in ((0, data[:half]), (half, data[half:]), (half, data[half:])):
        answer = client.put(f"/api/imports/{brought['id']}/part?market=mine&at={at}", data=part)
        assert answer.status_code == 200, answer.json
    here = client.get("/api/imports?market=mine").json["uploads"]
    assert [one["name"] for one in here] == ["names-all.xlsx", "daily_bars-all.xlsx", "chains-all.xlsx"]
    for upload in here:
        seen = client.post(f"/api/imports/{upload['id']}/look?market=mine", json={}).json
        assert (seen["kind"], seen["question"]) == (upload["name"].split("-")[0], None)


def test_the_command_takes_a_workbook_and_a_watched_folder_all_of_its_sheets(
    store: Engine, own: LocalServer, tmp_path: Path
):
    path = three(tmp_path)
    source = FolderSource(tmp_path)
    for kind in ("names", "daily_bars", "chains"):
        assert list(source.fetch(kind, None)) == [path]
    assert [list(source.fetch(kind, None)) for kind in ("names", "splits")] == [[], []], (
        "told once, and only what it holds"
    )
    refused = subprocess.run(
        [sys.executable, "-m", "flinch.cli", "import", str(book(tmp_path / "one.xlsx", bars=[["symbol"]])), "--market", "mine"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert refused.returncode == 1
    assert "workbook with a sheet a kind" in refused.stderr
