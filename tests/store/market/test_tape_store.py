"""Option trades in the store: what goes in comes out, in the order in which it was told."""

import datetime as dt

import numpy as np
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import Engine

from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.tape import VENUES
from flinch.store.market.tape import FILL, read_tape, read_tape_sessions, read_venues, tape_rows
from flinch.store.packing import unpack

DAY = dt.date(2026, 9, 8)


def one(**changed) -> dict:
    usual = {
        "session": DAY, "name_id": 3, "at": 50_000_000, "expiration": dt.date(2026, 9, 18), "strike": 97.5, "is_call": True,
        "venue": 2, "conditions": 0, "price": 1.23, "contracts": 7, "bid": 1.2, "ask": float("nan"),
    }  # fmt: skip
    return usual | changed


prices = st.integers(0, 10**9).map(lambda cents: cents / 100)
fills = st.builds(
    one,
    session=st.sampled_from([DAY, dt.date(2026, 9, 9)]),
    name_id=st.integers(1, 4),
    at=st.integers(0, 86_399_999),
    strike=prices,
    is_call=st.booleans(),
    venue=st.integers(0, 300),
    conditions=st.integers(0, 15),
    price=prices,
    contracts=st.integers(-(2**31), 2**31 - 1),
    bid=st.one_of(prices, st.just(float("nan"))),
)


@given(st.lists(fills, min_size=1, max_size=30))
def test_what_is_packed_is_unpacked(rows):
    packed = tape_rows(pl.DataFrame(rows))
    wanted = sorted(rows, key=lambda row: (row["session"], row["name_id"]))
    assert packed["count"].sum() == len(rows)
    records = np.concatenate([unpack(FILL, fills) for fills in packed["fills"]])
    for field in ("at", "venue", "conditions", "contracts"):
        assert records[field].tolist() == [row[field] for row in wanted], field
    assert (records["strike"] / 1e4).tolist() == [row["strike"] for row in wanted]
    assert [bid / 1e4 if bid >= 0 else None for bid in records["bid"].tolist()] == [
        None if np.isnan(row["bid"]) else row["bid"] for row in wanted
    ]


@pytest.mark.parametrize("price", [-0.01, 1.0000000013])
def test_a_price_that_is_none_is_refused(price):
    with pytest.raises(ValueError, match="a price must"):
        tape_rows(pl.DataFrame([one(price=price)]))


def test_the_tape_of_the_market_is_in_the_store(engine: Engine, simulated: SimulatedMarket):
    sessions = read_tape_sessions(engine)
    assert sessions == [day.astype(object) for day in simulated.sessions[-5:]]
    assert list(read_venues(engine).values()) == list(VENUES)
    read = read_tape(engine, (40, 42), (sessions[1], sessions[2]))
    made = simulated.tape.filter(pl.col("session").is_in([500, 501]) & pl.col("name").is_in([39, 40, 41]))
    assert read.height == made.height > 100
    for column in ("at", "is_call", "venue", "conditions", "contracts", "expiration"):
        assert read[column].to_list() == made[column].to_list(), column
    for column in ("price", "strike", "bid", "ask"):
        assert read[column].to_list() == pytest.approx(made[column].to_list()), column
    assert set(read["session"]) == {sessions[1], sessions[2]}


def test_nothing_is_nothing(engine: Engine):
    assert read_tape(engine, (1, 10_000), (dt.date(2020, 1, 1), dt.date(2020, 1, 2))).height == 0
