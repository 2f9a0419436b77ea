"""One name's chain and its dividends, and what publish needs to know of both."""

import datetime as dt

import numpy as np
import polars as pl
import pytest
from sqlalchemy import Engine

from flinch.feeds.simulated import SimulatedMarket
from flinch.market import View
from flinch.store.market.chain import read_chain, read_dividends
from flinch.store.market.facts import dividends_ahead, next_reactions

TODAY = dt.date(2026, 9, 9)


@pytest.fixture(scope="module")
def demeo(market: View) -> int:
    return int(market.frame.ids[market.row("DEMEO")])


def test_a_chain_is_one_names_contracts_in_order(engine: Engine, market: View, simulated: SimulatedMarket, demeo: int):
    chain = read_chain(engine, demeo, market.frame.state.as_of)
    mine = simulated.expiries.name[simulated.chain.expiry] == demeo - 1
    assert chain.height == mine.sum()
    assert chain["volume"].sum() == simulated.chain.volume[mine].sum()
    assert chain.equals(chain.sort("expiration", "strike", "is_call"))
    bid = np.where(np.isnan(simulated.chain.bid[mine]), 0, simulated.chain.bid[mine])
    assert chain["bid"].fill_null(0).sum() == pytest.approx(bid.sum())


def test_one_expiration_of_it(engine: Engine, market: View, demeo: int):
    whole = read_chain(engine, demeo, market.frame.state.as_of)
    day = dt.date(2026, 10, 16)
    one = read_chain(engine, demeo, market.frame.state.as_of, day)
    assert one.equals(whole.filter(pl.col("expiration") == day))
    assert one.height > 20
    assert read_chain(engine, demeo, market.frame.state.as_of, dt.date(2026, 10, 15)).height == 0


def test_dividends_are_in_order_and_declared_before_they_go_ex(engine: Engine, market: View):
    paid = read_dividends(engine, int(market.frame.ids[market.row("FOLVO")]))
    assert paid.height > 6
    assert paid["ex_date"].is_sorted()
    assert (paid["declared_on"] < paid["ex_date"]).all()
    last = paid.filter(pl.col("ex_date") <= TODAY)["amount"][-4:].sum()
    assert market.metric("dividend_yield")[market.row("FOLVO")] == pytest.approx(
        100 * last / market.frame.close[market.row("FOLVO"), -1], rel=0.02
    )


def test_only_declared_dividends_before_an_expiration_are_discounted(engine: Engine, market: View):
    row = market.row("FOLVO")
    key = int(market.frame.ids[row])
    known = read_dividends(engine, key).filter((pl.col("declared_on") <= TODAY) & (pl.col("ex_date") > TODAY))
    ends = [dt.date(2026, 9, 10), dt.date(2027, 6, 18)]
    expiries = pl.DataFrame({"name_id": [key, key], "expiration": ends})
    found = dividends_ahead(engine, TODAY, expiries, 0.03)
    expected = [
        sum(
            amount * np.exp(-0.03 * (day - TODAY).days / 365)
            for day, amount in known.select("ex_date", "amount").iter_rows()
            if day <= end
        )
        for end in ends
    ]
    assert found == pytest.approx(expected)


def test_a_report_before_the_open_is_priced_until_the_evening_before(engine: Engine, market: View):
    found = next_reactions(engine, market.frame.ids, TODAY)
    for symbol, days in (("KOSVI", 0), ("KRULU", 7)):
        assert found[market.row(symbol)] == days, symbol
    funds = market.frame.kind != "stock"
    assert np.isnan(found[funds]).all()
    to_report = market.metric("days_to_earnings")
    both = np.isfinite(found) & np.isfinite(to_report)
    assert both.sum() > 400
    assert set((to_report - found)[both]) <= {0.0, 1.0}
