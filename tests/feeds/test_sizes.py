"""A market of any size and seed has all planted cases, or none, and agrees with itself."""

import numpy as np
import polars as pl
import pytest

from flinch.feeds.simulated import SimulatedMarket, Simulation, simulate
from flinch.feeds.simulated.storylines import storylines

PLANTED = {story.symbol: story for story in storylines()}
KEYS = ("expiration", "strike", "is_call")


@pytest.fixture(scope="module")
def small() -> SimulatedMarket:
    return simulate(names=60, seed=7)


def contracts(market: SimulatedMarket) -> pl.DataFrame:
    newest = market.snapshots[-1]
    name = newest.expiries.name[newest.chain.expiry]
    return pl.DataFrame(
        {
            "symbol": np.array([listing.symbol for listing in market.names])[name],
            "expiration": newest.expiries.expiration[newest.chain.expiry],
            "strike": newest.chain.strike,
            "is_call": newest.chain.is_call,
            "volume": newest.chain.volume,
            "open_interest": newest.chain.open_interest,
        }
    )


def test_sixty_names_hold_all_planted_cases_and_the_indices(small: SimulatedMarket, simulated: SimulatedMarket):
    symbols = [name.symbol for name in small.names]
    assert len(set(symbols)) == len(symbols) == 60
    assert set(PLANTED) <= set(symbols)
    kinds = [name.kind for name in small.names]
    assert kinds == sorted(kinds, key=["stock", "fund", "index"].index)
    assert (kinds.count("fund") >= 3, kinds.count("index")) == (True, 2)
    assert small.close.shape == (60, 504)
    here = [name.symbol for name in simulated.names].index(symbols[0])
    assert not np.allclose(small.close[0], simulated.close[here]), "another seed is another market"


def test_what_is_planted_on_the_tape_is_there(small: SimulatedMarket):
    """Each trade in a contract that is listed, those of one case in as many contracts as it was written with."""
    row = {name.symbol: place for place, name in enumerate(small.names)}
    for symbol, story in PLANTED.items():
        tape = small.tape.filter(pl.col("name") == row[symbol])
        for trade in story.trades:
            at = (tape["session"] == 504 + trade.session) & (tape["is_call"] == (trade.right == "call"))
            size = tape.filter(at).group_by(*KEYS, "at").agg(pl.col("contracts").sum())["contracts"]
            total = tape.filter(at).group_by(*KEYS).agg(pl.col("contracts").sum())["contracts"].to_list()
            assert trade.contracts // trade.venues in tape.filter(at)["contracts"].to_list() or trade.contracts in size
            assert max(total, default=0) >= trade.contracts


def test_what_traded_is_the_volume_of_the_chain(small: SimulatedMarket):
    """Fill by fill the newest session's trades come to what its last chain counts."""
    newest = contracts(small)
    names = pl.Series([name.symbol for name in small.names])
    told = small.tape.filter((pl.col("session") == 503) & (pl.col("conditions") & 4 == 0))
    summed = (
        told.with_columns(symbol=names.gather(told["name"])).group_by("symbol", *KEYS).agg(pl.col("contracts").sum())
    )
    both = newest.join(summed, on=["symbol", *KEYS], how="left").with_columns(pl.col("contracts").fill_null(0))
    assert both.height == newest.height
    assert (both["volume"] == both["contracts"]).mean() > 0.999
    assert small.pairs.height > 100


def test_a_market_without_planted_cases():
    market = Simulation(60, seed=7, planted=False).first(lambda stage, share: None)
    assert len(market.names) == 60
    quoted = [np.isfinite(snapshot.chain.bid).mean() for snapshot in market.snapshots]
    assert min(quoted) > 0.9, "nobody is halted"
    assert market.traded.all(), "nobody is new or has days missing"
    assert not market.adjusted


def test_fifteen_hundred_names():
    market = Simulation(1_500, seed=11).first(lambda stage, share: None)
    assert len({name.symbol for name in market.names}) == 1_500
    there = contracts(market)
    for symbol, story in PLANTED.items():
        for planted in story.interest:
            own = there.filter((pl.col("symbol") == symbol) & (pl.col("is_call") == (planted.right == "call")))
            assert own["open_interest"].max() >= min(
                planted.contracts, planted.contracts * (planted.last - planted.first)
            )


def test_too_few_names_are_refused():
    with pytest.raises(ValueError, match="names at least"):
        Simulation(40)
    with pytest.raises(ValueError, match="20 names at least"):
        Simulation(19, planted=False)
