"""Snapshots in the store: the moments, whole chains and one name's, what contracts deliver, positions of every moment."""

import datetime as dt

import numpy as np
import pytest
from sqlalchemy import Engine

from flinch.feeds.simulated import SimulatedMarket
from flinch.market import View
from flinch.store.market.chain import (
    read_adjusted,
    read_chain,
    read_interest,
    read_multipliers,
    read_snapshots,
    read_spots,
    read_strike_rows,
)
from flinch.store.market.surfaces import read_expiries


def test_moments_are_in_order_and_belong_to_sessions(engine: Engine, simulated: SimulatedMarket):
    found = read_snapshots(engine)
    assert [s.taken_at for s in found] == [s.taken_at for s in simulated.snapshots]
    assert [np.datetime64(s.session) for s in found] == [simulated.sessions[s.session] for s in simulated.snapshots]
    assert found[-1].taken_at.tzinfo is dt.UTC


def test_a_whole_chain_a_strike_a_row(engine: Engine, simulated: SimulatedMarket):
    snapshot = simulated.snapshots[3]
    rows = read_strike_rows(engine, snapshot.taken_at)
    assert rows.height == snapshot.chain.strike.size // 2
    assert rows.equals(rows.sort("name_id", "expiration", "strike"))
    calls = snapshot.chain.is_call
    assert rows["call_volume"].sum() == snapshot.chain.volume[calls].sum()
    assert rows["put_open_interest"].sum() == snapshot.chain.open_interest[~calls].sum()
    interest = read_interest(engine, snapshot.taken_at)
    assert interest["call_open_interest"].to_list() == rows["call_open_interest"].to_list()
    assert read_strike_rows(engine, dt.datetime(2020, 1, 1, tzinfo=dt.UTC)).height == 0


def test_prices_of_a_snapshot_are_those_of_its_moment(engine: Engine, simulated: SimulatedMarket):
    for place in (0, 7, -1):
        snapshot = simulated.snapshots[place]
        found = read_spots(engine, snapshot.taken_at)
        assert found["price"].to_list() == snapshot.spot[found["name_id"].to_numpy() - 1].tolist()


def test_what_a_contract_stands_for(engine: Engine, market: View):
    found = dict(read_multipliers(engine).iter_rows())
    assert set(found.values()) == {10, 100}
    assert [market.frame.names[row].symbol for row in np.flatnonzero(market.frame.multiplier != 100)] == ["MUFEO"]
    key = int(market.frame.ids[market.row("TISVI")])
    adjusted = read_adjusted(engine, key, market.frame.state.as_of)
    assert adjusted["open_interest"].to_list() == [1260]
    assert adjusted["cash"].to_list() == [310]
    assert read_adjusted(engine, key + 1, market.frame.state.as_of).height == 0
    chain = read_chain(engine, key, market.frame.state.as_of)
    assert chain.select("expiration", "strike", "is_call").is_duplicated().sum() == 0, "standard contracts alone"


def test_surfaces_of_every_snapshot_but_the_oldest_are_kept(engine: Engine, market: View):
    row = market.row("DEMEO")
    key = int(market.frame.ids[row])
    counts = [
        len(read_expiries(engine, s.taken_at, market.frame.ids, key).get(row, [])) for s in market.frame.snapshots
    ]
    assert counts[0] == 0
    assert min(counts[1:]) >= 12
    newest = read_expiries(engine, market.frame.state.as_of, market.frame.ids, key)
    assert newest.keys() == {row}
    assert repr(newest[row]) == repr(market.frame.expiries[row])


def test_positions_of_the_past_are_the_simulators_and_of_kept_chains_read_from_them(
    market: View, simulated: SimulatedMarket
):
    found, truth = market.frame.daily["call_exposure"], simulated.positions["call_exposure"]
    traded = simulated.traded
    told = traded[:, :498]
    assert np.array_equal(found[:, :498][told], truth[:, :498][told].astype(np.float32)), "in single precision"
    assert np.isnan(found[:, :498][~traded[:, :498]]).all(), "nothing is known of a missing session"
    read = found[:, 498:]
    off = np.abs(read / truth[:, 498:] - 1)
    assert 0 < np.nanmedian(off) < 0.02, "near the truth, and not copied"
    assert np.nanpercentile(off[market.frame.daily["fit_quality"][:, -1] >= 50], 90) < 0.15, "where quotes can be read"
    opened = market.frame.daily["opened"][:, 498:]
    assert np.array_equal(opened, simulated.positions["opened"][:, 498:]), "contracts are counted, not estimated"
    before = market.frame.daily["call_exposure_before"]
    assert np.isnan(before[:, :-1]).all()
    assert np.isfinite(before[:, -1]).mean() > 0.99


@pytest.mark.parametrize("key", ["call_exposure", "near_exposure"])
def test_gross_exposure_is_at_least_its_parts(market: View, key: str):
    gross = market.metric("gross_exposure")
    part = market.metric(key)
    known = np.isfinite(gross) & np.isfinite(part)
    assert known.mean() > 0.8
    assert (part[known] <= gross[known] * (1 + 1e-9)).all()
