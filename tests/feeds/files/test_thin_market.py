"""A market with the least that is useful, and holes in it: no page of it, as of any kind of session, is an error."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import polars as pl
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine
from tests.asked import ask_evidence
from tests.every_route import answered, asked
from tests.feeds.files.made import SESSIONS, bars, chain, load

from flinch.app import create_app
from flinch.market import Markets, load_frame, opened
from flinch.settings import Settings
from flinch.store.local_server import LocalServer
from flinch.store.market.settings import MarketSettings

AS = {"AVERA": "TARNO", "BONTI": "BELUA", "CELDA": "KESEO"}
"""Names as what walks the routes calls them."""
LATE, HOLE = SESSIONS[70], (SESSIONS[100], SESSIONS[110])


def thin_bars() -> pl.DataFrame:
    """One name is whole, one begins in the middle, one has a hole and neither volume nor options."""
    day, symbol = pl.col("session"), pl.col("symbol")
    rows = bars().with_columns(symbol.replace_strict(AS))
    rows = rows.filter(~((symbol == "BELUA") & (day < LATE)) & ~((symbol == "KESEO") & day.is_between(*HOLE)))
    return rows.with_columns(volume=pl.when(symbol == "KESEO").then(None).otherwise("volume"))


@pytest.fixture
def thin(own: LocalServer, markets: Markets, store: Engine, tmp_path: Path) -> Iterator[FlaskClient]:
    """The application, with this market chosen."""
    (tmp_path / "names.csv").write_text("symbol,company\nTARNO,T\nBELUA,B\nKESEO,K\nFELRO,F\n")
    thin_bars().write_parquet(tmp_path / "daily_bars.parquet")
    quotes = chain().filter(pl.col("symbol") != "CELDA").with_columns(pl.col("symbol").replace_strict(AS))
    quotes.write_parquet(tmp_path / "chains.parquet")
    for name in ("names.csv", "daily_bars.parquet", "chains.parquet"):
        assert load(store, tmp_path / name).refused == 0
    client = create_app(Settings(), own.databases).test_client()
    client.put("/api/markets/chosen", json={"market": "mine"})
    yield client
    client.put("/api/markets/chosen", json={"market": "demo"})


def test_every_page_of_it_answers_as_of_every_kind_of_session(thin: FlaskClient):
    days = [None, "2026-03-02", str(SESSIONS[69]), str(LATE), str(SESSIONS[105]), "2026-09-08"]
    statuses: Counter[int] = Counter()
    for day in days:
        for method, path, what in asked(thin.application, ("TARNO", "BELUA", "KESEO", "FELRO")):
            answer = answered(thin, method, path, what, day)
            assert answer.status_code in (200, 404, 422), (day, path, what, answer.text[:300])
            statuses[answer.status_code] += 1
    told = ask_evidence(thin, {"stack": {"rules": [{"text": "close > sma(close, 20)"}]}})
    assert told.status_code == 200, told.text
    assert statuses[200] > 0.8 * statuses.total(), statuses


def test_every_route_refuses_a_market_that_is_not_there(thin: FlaskClient):
    for method, path, what in asked(thin.application):
        body = {"query_string" if method == "get" else "json": what}
        if method == "get":
            body["query_string"] = what | {"market": "nowhere"}
        answer = thin.open(path if method == "get" else f"{path}?market=nowhere", method=method.upper(), **body)
        assert (answer.status_code, answer.json["type"]) == (404, "no_such_market"), (path, answer.text)


def test_relative_strength_is_against_the_index_that_the_market_was_made_with(
    own: LocalServer, markets: Markets, tmp_path: Path
):
    for name, symbol in (("with-one", "AVERA"), ("with-none", None), ("with-a-stranger", "NOBODY")):
        markets.make(name, MarketSettings(index_symbol=symbol))
        try:
            with markets.look(name) as market:
                bars().write_parquet(tmp_path / "daily_bars.parquet")
                load(market.engine, tmp_path / "daily_bars.parquet", make_names=True)
                frame = load_frame(market.engine)
                assert frame is not None
                view = opened(frame, market.engine)
                told = view.metric("index_close")
            if name == "with-one":
                assert (told == view.price(view.row("AVERA"))).all()
                assert view.metric("rel_strength_21")[view.row("AVERA")] == pytest.approx(0)
            else:
                assert (told != told).all(), "nothing is measured against what is not there"
        finally:
            markets.remove(name)


def test_a_market_that_is_looked_at_is_not_kept_open(markets: Markets):
    with markets.look("mine") as market:
        assert market.name == "mine"
    assert markets._open == {}
    opened_one = markets.open("mine")
    with markets.look("mine") as market:
        assert market is opened_one
