"""Publish on a chain that changes: what cannot be read any more becomes missing, and comes back."""

from __future__ import annotations

import numpy as np
from sqlalchemy import Engine, and_, select, update

from flinch.feeds.publish import publish
from flinch.market.frame import MarketFrame, load_frame
from flinch.store.engine import transaction
from flinch.store.market.chain import CONTRACT, stored
from flinch.store.market.models import Name, NameChain
from flinch.store.market.surfaces import read_surface
from flinch.store.packing import pack, unpack


def frame(engine: Engine) -> MarketFrame:
    found = load_frame(engine)
    assert found is not None
    return found


def test_a_name_whose_quotes_vanish_loses_todays_volatility_only_and_gets_it_back(engine: Engine):
    before = frame(engine)
    row = before.index["BELUA"]
    with transaction(engine) as session:
        key = session.query(Name).filter_by(symbol="BELUA").one().id
        mine = and_(NameChain.taken_at == stored(before.state.as_of), NameChain.name_id == key)
        quotes = session.execute(select(NameChain.quotes).where(mine)).scalar_one()
        unquoted = unpack(CONTRACT, quotes)
        unquoted["bid"] = unquoted["ask"] = -1
        session.execute(update(NameChain).where(mine).values(quotes=pack(unquoted)))
    try:
        publish(engine)
        without = frame(engine)
        assert np.isnan(without.implied[30][row, -1])
        assert all(np.isnan(expiry.vol) and np.isnan(expiry.straddle) for expiry in without.expiries[row])
        assert all(not expiry.forward_from_parity for expiry in without.expiries[row])
        assert np.array_equal(without.implied[30][row, :-1], before.implied[30][row, :-1], equal_nan=True)
        others = np.arange(len(before.names)) != row
        assert np.array_equal(without.implied[30][others], before.implied[30][others], equal_nan=True)
    finally:
        with transaction(engine) as session:
            session.execute(update(NameChain).where(mine).values(quotes=quotes))
        publish(engine)
    assert frame(engine).implied[30][row, -1] == before.implied[30][row, -1]


def test_every_listed_expiration_has_a_row_even_when_nothing_can_be_read(engine: Engine, simulated):
    loaded = frame(engine)
    listed = np.bincount(simulated.expiries.name, minlength=len(simulated.names))
    assert [len(loaded.expiries[row]) for row in range(len(loaded.names))] == listed.tolist()
    halted = loaded.expiries[loaded.index["FENSO"]]
    assert all(np.isnan(expiry.vol) and expiry.strikes == 0 for expiry in halted)
    assert all(np.isfinite(expiry.forward) for expiry in halted), "spot and rate still give a forward"


def test_publishing_an_earlier_snapshot_leaves_the_session_as_its_last_one_told(engine: Engine):
    before = frame(engine)
    earlier = before.snapshots[-2]
    assert earlier.session == before.snapshots[-1].session
    row = before.index["TARNO"]
    kept = read_surface(engine, int(before.ids[row]), earlier.session)
    publish(engine, earlier.taken_at)
    after = frame(engine)
    for field in ("iv_nearest", "fit_quality", "call_volume", "atm_width"):
        assert np.array_equal(after.daily[field], before.daily[field], equal_nan=True), field
    assert np.array_equal(after.implied[30], before.implied[30], equal_nan=True)
    again = read_surface(engine, int(before.ids[row]), earlier.session)
    assert kept is not None
    assert again is not None
    assert (again.taken_at, again.expirations.tobytes()) == (kept.taken_at, kept.expirations.tobytes())
