"""Headlines: which session each belongs to, what is known when, and what a file of them may hold."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import numpy as np
import polars as pl
from sqlalchemy import Engine
from tests.feeds.files.made import load

from flinch.feeds.files.importing import Asked, import_file, undo_import
from flinch.store.bulk import replace_rows
from flinch.store.market.models import NewsItem
from flinch.store.market.names import read_names
from flinch.store.market.news import OF_NO_NAME, count_headlines, read_headlines

CLOSES = np.array(["2026-09-03T20:00", "2026-09-04T20:00", "2026-09-08T20:00", "2026-09-09T20:00"], "datetime64[us]")
IDS = np.array([3, 7])


def moment(text: str) -> dt.datetime:
    return dt.datetime.fromisoformat(text).replace(tzinfo=dt.UTC)


def tell(store: Engine, *told: tuple[int, str]) -> None:
    rows = [(name, moment(at).replace(tzinfo=None), f"headline of {at}", "report") for name, at in told]
    replace_rows(store, NewsItem, pl.DataFrame(rows, ["name_id", "at", "headline", "topic"], orient="row"))


def test_a_headline_belongs_to_the_session_whose_close_comes_next(store: Engine):
    tell(
        store,
        (3, "2026-09-03T20:00:00.000001"),  # after a close
        (3, "2026-09-04T20:00"),  # at a close it is of that session still
        (3, "2026-09-05T12:00"),  # of a Saturday
        (7, "2026-09-08T13:00"),
        (7, "2026-09-08T20:00:00.000001"),
        (OF_NO_NAME, "2026-09-08T15:00"),
    )
    counts = count_headlines(store, IDS, CLOSES, moment("2026-09-09T20:00"))
    assert counts.tolist() == [[2, 1, 0], [0, 1, 1]]
    # What had not been told by then is not known.
    assert count_headlines(store, IDS, CLOSES, moment("2026-09-08T20:00")).tolist() == [[2, 1, 0], [0, 1, 0]]
    # At the very moment it is.
    assert count_headlines(store, IDS, CLOSES, moment("2026-09-08T13:00")).tolist() == [[2, 1, 0], [0, 1, 0]]
    # Some sessions alone are read as they are among all.
    assert count_headlines(store, IDS, CLOSES[1:], moment("2026-09-09T20:00")).tolist() == [[1, 0], [1, 1]]


def test_before_the_first_headline_of_any_name_nothing_is_known(store: Engine):
    assert np.isnan(count_headlines(store, IDS, CLOSES, moment("2026-09-09T20:00"))).all()
    tell(store, (OF_NO_NAME, "2026-09-03T21:00"))
    assert np.isnan(count_headlines(store, IDS, CLOSES, moment("2026-09-09T20:00"))).all()
    tell(store, (7, "2026-09-08T20:00"))
    np.testing.assert_array_equal(
        count_headlines(store, IDS, CLOSES, moment("2026-09-09T20:00")), [[np.nan, 0, 0], [np.nan, 1, 0]]
    )


def test_headlines_of_a_name_come_newest_first_up_to_a_moment(store: Engine):
    days = [f"2026-09-0{day}T12:00" for day in (1, 2, 3, 4)]
    tell(store, *[(3, day) for day in days], (7, "2026-09-02T12:00"), (OF_NO_NAME, "2026-09-02T12:00"))
    told = read_headlines(store, 3, moment("2026-09-03T12:00"), 2)
    assert [one.at for one in told] == [moment(days[2]), moment(days[1])]
    assert (told[0].headline, told[0].topic) == (f"headline of {days[2]}", "report")
    assert [one.at for one in read_headlines(store, OF_NO_NAME, moment("2026-09-09T00:00"), 9)] == [moment(days[1])]


def test_a_file_of_headlines_is_text_and_nothing_else(store: Engine, files: Path, tmp_path: Path):
    load(store, files / "list.csv")
    path, refused = tmp_path / "news.csv", tmp_path / "refused.csv"
    path.write_text(
        "Ticker,Published,Title,Category\n"
        'AVERA,2026-09-08T08:00:00-04:00,"<script>alert(1)</script>\n  =1+1\u202e",contract\n'
        f"BONTI,2026-09-08T08:00:00-04:00,{'x' * 301},\n"
        f"BONTI,2026-09-08T09:00:00-04:00,{'x' * 300},{'t' * 60}\n"
        "NOBODY,2026-09-08T08:00:00-04:00,of nobody,\n"
        ",2026-09-08T16:06:00-04:00,Stocks end higher,market\n"
        "CELDA,2026-09-08T08:00:00-04:00,,\n"
        "CELDA,,No time,\n"
    )
    outcome = import_file(store, Asked(path, "news", "Wire", refused=refused))
    assert (outcome.added, outcome.refused) == (3, 4)
    reasons = pl.read_csv(refused)["reason"].to_list()
    for reason, words in zip(
        reasons, ("300 characters", "NOBODY", "Title is missing", "Published is missing"), strict=True
    ):
        assert words in reason
    end = moment("2026-09-09T00:00")
    names = dict(read_names(store).select("symbol", "id").iter_rows())
    assert read_headlines(store, names["AVERA"], end, 9) == [
        (moment("2026-09-08T12:00"), "<script>alert(1)</script> =1+1", "contract")
    ]
    assert [(len(one.headline), len(one.topic)) for one in read_headlines(store, names["BONTI"], end, 9)] == [(300, 40)]
    assert [one.headline for one in read_headlines(store, OF_NO_NAME, end, 9)] == ["Stocks end higher"]
    again = import_file(store, Asked(path, "news", "Wire"))
    assert (again.added, again.changed, again.same) == (0, 0, 3)
    undo_import(store, outcome.job or 0)
    assert read_headlines(store, OF_NO_NAME, end, 9) == []
