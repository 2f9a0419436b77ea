"""A name's tape as pages take it: what counts, what each ticket points at, and what was wrong is told."""

import datetime as dt

import numpy as np
import polars as pl
import pytest
from sqlalchemy import Engine

from flinch.core.flow import CONFIRMED, OPENING
from flinch.market import View
from flinch.market.tape import read_name_tape, tape_since
from flinch.store.market.chain import read_chain
from flinch.store.market.tape import CANCELLED, LATE
from flinch.tape import Doubts, clean

EXPIRATION = dt.date(2026, 9, 18)


def fill(at: int, **changed) -> dict:
    usual = {
        "name_id": 1, "session": dt.date(2026, 9, 8), "at": at, "expiration": EXPIRATION, "strike": 100.0, "is_call": True,
        "venue": 1, "conditions": 0, "price": 1.05, "contracts": 5, "bid": 1.0, "ask": 1.1,
    }  # fmt: skip
    return usual | changed


LISTED = pl.DataFrame(
    {
        "name_id": [1] * 2,
        "expiration": [EXPIRATION] * 2,
        "strike": [100.0, 105.0],
        "is_call": [True, True],
        "open_interest": [9, 9],
    }
)


def test_what_does_not_count_is_left_out_and_everything_is_told():
    nan = float("nan")
    told = [
        fill(10),
        fill(30, price=1.1),
        fill(20, price=1.0),  # out of order
        fill(40, conditions=CANCELLED),
        fill(50, contracts=0),
        fill(60, contracts=-5),
        fill(70, strike=101.0),  # not listed
        fill(70, is_call=False),
        fill(80),
        fill(80),  # told twice
        fill(90, bid=nan),
        fill(95, bid=1.2, ask=1.1),  # crossed
        fill(96, bid=1.05, ask=1.05),  # locked
        fill(97, conditions=LATE, strike=105.0),
        fill(98, conditions=CANCELLED, contracts=0),  # counted once, as cancelled
    ]
    counted, doubts = clean(pl.DataFrame(told), LISTED)
    assert counted["at"].to_list() == [10, 20, 30, 80, 90, 95, 96, 97]
    assert counted["contract"].to_list() == [0, 0, 0, 0, 0, 0, 0, 1]
    assert doubts == Doubts(
        cancelled=2, no_size=2, doubled=1, not_listed=2, late=1, out_of_order=1, no_quote=2, locked=1
    )  # fmt: skip
    assert doubts.left_out == 7 == len(told) - counted.height


def test_nothing_wrong_is_nothing_told():
    counted, doubts = clean(pl.DataFrame([fill(10), fill(11)]), LISTED)
    assert counted.height == 2
    assert doubts == Doubts(*[0] * 8)


@pytest.mark.parametrize("symbol", ["TARNO", "BELUA", "GLUDO"])
def test_tickets_add_up_to_the_chain_s_volume(market: View, engine: Engine, symbol: str):
    row, session = market.row(symbol), market.last - 2
    read = read_name_tape(market, row, session)
    assert read is not None
    then = market.at(session)
    chain = read_chain(engine, market.id(row), then.snapshot.taken_at)
    assert read.contracts["volume"].to_list() == chain["volume"].to_list()
    assert (
        np.bincount(read.tickets.contract, read.tickets.contracts, chain.height).tolist() == chain["volume"].to_list()
    )
    assert read.tickets.fills.sum() == read.fills.height
    assert (np.diff(read.tickets.first) >= 0).all()
    low, high = then.frame.bars(row)[2][-1], then.frame.bars(row)[1][-1]
    before = then.previous_close(row)
    assert ((read.spot >= min(low, before) - 0.01) & (read.spot <= max(high, before) + 0.01)).all()
    known = np.isfinite(read.delta)
    assert known.mean() > 0.95
    call = read.contracts["is_call"].to_numpy()[read.tickets.contract]
    assert ((read.delta[known] >= 0) == call[known]).all()
    signed = read.shares[known & (read.tickets.side != 0)]
    multiplier = market.multiplier(row)
    by_hand = (read.tickets.side * read.delta * read.tickets.contracts)[known & (read.tickets.side != 0)] * multiplier
    assert signed == pytest.approx(by_hand)


def test_since_is_what_price_did_after_the_ticket(market: View):
    row, session = market.row("BELUA"), market.last - 1
    read, then = read_name_tape(market, row, session), market.at(session)
    one_day = float(then.metric("one_day_move")[row])
    leaning = np.flatnonzero(read.lean)
    assert leaning.size > 10
    for t in leaning[:20]:
        expected = read.lean[t] * (market.price(row) - read.spot[t]) / one_day
        assert tape_since(market, row, read)[t] == pytest.approx(expected)


def test_next_morning_is_known_only_from_the_next_session_on(market: View):
    row, session = market.row("TARNO"), market.last - 3
    later, then = read_name_tape(market, row, session), read_name_tape(market.at(session), row, session)
    assert np.isnan(then.contracts["next_open_interest"].to_numpy()).all()
    assert CONFIRMED not in then.opening
    assert CONFIRMED in later.opening
    rows = later.contracts.with_columns(rise=pl.col("next_open_interest") - pl.col("open_interest")).to_dicts()
    for t in np.flatnonzero(later.opening == CONFIRMED):
        assert rows[later.tickets.contract[t]]["rise"] >= 0.5 * later.tickets.contracts[t]
    assert (later.tickets.first == then.tickets.first).all(), "the tickets themselves are the same"


def test_volume_so_far_makes_certain_what_must_have_opened(market: View):
    """By a plain loop over the fills of a name."""
    row, session = market.row("BELUA"), market.last
    read = read_name_tape(market, row, session)
    contract, size = read.fills["contract"].to_list(), read.fills["contracts"].to_list()
    interest = read.contracts["open_interest"].to_list()
    traded: dict[int, int] = {}
    so_far: dict[int, int] = {}
    for key, contracts, ticket in zip(contract, size, read.ticket.tolist(), strict=True):
        traded[key] = traded.get(key, 0) + contracts
        so_far[ticket] = traded[key]
    words = [OPENING[code] for code in read.opening]
    assert "certain" in words
    for t, word in enumerate(words):
        own, open_before = int(read.tickets.contracts[t]), interest[read.tickets.contract[t]]
        assert word == ("certain" if so_far[t] - open_before >= own else "likely" if own > open_before else "unknown")


def test_a_session_without_trades_is_none(market: View):
    assert read_name_tape(market, market.row("TARNO"), market.last - 30) is None


def test_daily_sums_are_those_of_the_tickets_that_the_session_knew(market: View):
    """Of a session whose next morning is known too: that is not used."""
    session = market.last - 2
    for symbol in ("TARNO", "BELUA", "GLUDO"):
        row = market.row(symbol)
        read = read_name_tape(market.at(session), row, session)
        assert read is not None
        alone = read.packages.of_ticket < 0
        call = read.contracts["is_call"].to_numpy()[read.tickets.contract]
        side, premium = read.tickets.side, read.tickets.premium
        opens = alone & (side > 0) & (read.opening > 0)
        expected = {
            "call_ask_premium": premium[alone & call & (side > 0)].sum(),
            "put_bid_premium": premium[alone & ~call & (side < 0)].sum(),
            "package_premium": premium[~alone].sum(),
            "opening_call_premium": premium[opens & call].sum(),
            "largest_put_premium": premium[alone & ~call].max(initial=0),
            "tickets": alone.sum(),
            "net_shares": np.nansum(read.shares),
        }
        for key, value in expected.items():
            assert market.frame.daily[key][row, session] == pytest.approx(float(value), rel=1e-5, abs=1e-2), key


def test_sums_before_the_tape_are_like_those_of_it(market: View):
    """The law that is added up and not kept is the tape's: nothing jumps where the tape begins. Of 500 names together."""
    companies = market.frame.kind == "stock"
    for key in (
        "call_ask_premium",
        "put_bid_premium",
        "sweep_premium",
        "largest_call_premium",
        "tickets",
        "ask_contracts",
    ):
        sums = market.frame.daily[key][companies]
        traded = np.median(sums[:, -65:-5], axis=1) > 0
        typical = np.log(np.median(sums[traded, -65:-1], axis=0))
        ratio = np.exp(typical[60:].mean() - typical[:60].mean())
        assert 0.75 < ratio < 1.35, (key, ratio)


def test_a_few_large_tickets_that_open_knew_something(market: View):
    """What docs/demo-market.md says is planted: far above what chance gives, from the next open over five sessions."""
    frame = market.frame
    opening = frame.daily["opening_call_premium"] + frame.daily["opening_put_premium"]
    lean = np.sign(frame.daily["opening_call_premium"] - frame.daily["opening_put_premium"])
    call, put = (
        sum(frame.daily[f"{right}_{side}_premium"] for side in ("ask", "bid", "mid")) for right in ("call", "put")
    )
    end = market.last - 10
    fired = (opening > 0.4 * (call + put)) & (opening > 30_000) & (frame.kind == "stock")[:, None]
    ahead = np.full(opening.shape, np.nan)
    ahead[:, :-5] = np.sign(frame.close[:, 5:] / frame.open[:, 1:-4] - 1)
    cases = fired[:, 60:end] & np.isfinite(ahead[:, 60:end])
    along = (ahead[:, 60:end] == lean[:, 60:end])[cases]
    assert along.size > 500
    assert along.mean() > 0.5 + 4 * 0.5 / np.sqrt(along.size)
