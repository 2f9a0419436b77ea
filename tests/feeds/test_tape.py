"""The simulated tape: it adds up to what was traded, meets its quotes, and looks like option trades do."""

import datetime as dt
import itertools

import numpy as np
import polars as pl

from flinch.core.flow import KINDS, make_tickets, trade_side
from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.calendar import AS_OF, CLOSE, EXCHANGE_ZONE
from flinch.feeds.simulated.tape import TAPE_SESSIONS, VENUES, _shared, _when
from flinch.store.market.tape import CANCELLED, LATE, PACKAGE

KEY = ["name", "expiration", "strike", "is_call"]


def counted(tape: pl.DataFrame) -> pl.DataFrame:
    return tape.filter(pl.col("conditions") & CANCELLED == 0)


def contracts(snapshot) -> pl.DataFrame:
    chain, expiries = snapshot.chain, snapshot.expiries
    return pl.DataFrame(
        {
            "name": expiries.name[chain.expiry],
            "expiration": expiries.expiration[chain.expiry],
            "strike": chain.strike,
            "is_call": chain.is_call,
            "volume": chain.volume,
            "interest": chain.open_interest,
        }
    )


def milliseconds(simulated: SimulatedMarket, snapshot) -> int:
    midnight = dt.datetime.combine(simulated.sessions[snapshot.session].astype(object), dt.time(), dt.UTC)
    return (snapshot.taken_at - midnight) // dt.timedelta(milliseconds=1)


def test_there_are_five_sessions_and_about_a_million_fills(simulated: SimulatedMarket):
    assert sorted(set(simulated.tape["session"])) == list(range(504 - TAPE_SESSIONS, 504))
    assert 900_000 < simulated.tape.height < 1_400_000
    order = simulated.tape.select("session", "name", "at")
    assert order.equals(order.sort("session", "name", "at")), "by session, name and time"


def test_the_fills_of_every_contract_add_up_to_its_volume_at_every_snapshot(simulated: SimulatedMarket):
    told = [s for s in simulated.snapshots if s.session >= 504 - TAPE_SESSIONS]
    assert len(told) == 9
    for snapshot in told:
        upto = pl.col("at") < milliseconds(simulated, snapshot)
        fills = counted(simulated.tape.filter((pl.col("session") == snapshot.session) & upto))
        traded = fills.group_by(KEY).agg(pl.col("contracts").sum())
        listed = contracts(snapshot).filter(pl.col("volume") > 0)
        both = listed.join(traded, on=KEY, how="full", coalesce=True)
        assert both["volume"].null_count() == both["contracts"].null_count() == 0
        assert (both["volume"] == both["contracts"]).all(), snapshot.taken_at


def test_prices_lie_where_quotes_allow(simulated: SimulatedMarket):
    tape = simulated.tape
    assert tape.select(pl.any_horizontal(pl.col("price", "bid", "ask").is_nan())).to_series().sum() == 0
    assert (tape["bid"] >= 0).all()
    assert (tape["ask"] > tape["bid"]).all()
    assert (tape["price"] <= tape["ask"]).all()
    assert ((tape["price"] >= tape["bid"]) & (tape["price"] > 0)).all()
    assert (tape["contracts"] >= 1).all()
    side = trade_side(*(tape[column].to_numpy() for column in ("price", "bid", "ask")))
    shares = [(side == sign).mean() for sign in (-1, 0, 1)]
    assert 0.35 < shares[0] < 0.55
    assert 0.03 < shares[1] < 0.15
    assert 0.4 < shares[2] < 0.6


def test_no_fill_is_told_twice(simulated: SimulatedMarket):
    assert simulated.tape.is_duplicated().sum() == 0


def test_quotes_follow_the_price_of_the_stock(simulated: SimulatedMarket):
    """Where a stock moved a good deal through the session, its calls near the money were dearer when it stood higher."""
    close, opened = simulated.close[:, -1], simulated.open[:, -1]
    moved = np.abs(np.log(close / opened))
    agree = []
    for name in np.argsort(-moved)[:40]:
        rows = simulated.tape.filter(
            (pl.col("session") == 503) & (pl.col("name") == name) & pl.col("is_call")
            & ((pl.col("strike") / close[name] - 1).abs() < 0.05)
        )  # fmt: skip
        for part in rows.partition_by("expiration", "strike"):
            if part.height >= 8:
                half = part.height // 2
                change = part["bid"][half:].mean() - part["bid"][:half].mean()
                agree.append(np.sign(change) == np.sign(close[name] - opened[name]))
    assert len(agree) > 30
    assert np.mean(agree) > 0.8


def test_fills_come_while_the_exchange_is_open_and_until_now(simulated: SimulatedMarket):
    for session, fills in simulated.tape.group_by("session"):
        day = simulated.sessions[session[0]].astype(object)
        ends = AS_OF if session[0] == 503 else dt.datetime.combine(day, CLOSE, EXCHANGE_ZONE)
        minute = fills["at"].to_numpy() / 60_000
        begins = 13.5 * 60  # half past nine in New York in summer, in UTC
        assert minute.min() >= begins
        assert minute.max() < begins + (ends.hour * 60 + ends.minute) - (9 * 60 + 30)
        middle = ((minute - begins > 150) & (minute - begins < 210)).mean()
        assert (minute - begins < 60).mean() > 1.3 * middle, "more at the open than at noon"


def test_a_halted_name_trades_no_longer(simulated: SimulatedMarket, stories):
    halted = next(story.symbol for story in stories.values() if story.halted)
    row = next(i for i, name in enumerate(simulated.names) if name.symbol == halted)
    mine = simulated.tape.filter((pl.col("session") == 503) & (pl.col("name") == row))
    last = max(s for s in mine["at"].to_list())
    snapshots = [s for s in simulated.snapshots if s.session == 503]
    quiet = [s for s in snapshots if not s.chain.volume[s.expiries.name[s.chain.expiry] == row].sum()]
    assert len(quiet) < len(snapshots)
    assert last < milliseconds(simulated, snapshots[1])


def test_some_are_told_late_or_taken_back_and_some_belong_to_packages(simulated: SimulatedMarket):
    conditions = simulated.tape["conditions"].to_numpy()
    assert 0.0005 < (conditions & CANCELLED > 0).mean() < 0.002
    assert 0.002 < (conditions & LATE > 0).mean() < 0.004
    assert 0.002 < (conditions & PACKAGE > 0).mean() < 0.05
    assert set(simulated.tape["venue"]) == set(range(len(VENUES)))


def test_tickets_have_the_sizes_and_kinds_of_real_ones(simulated: SimulatedMarket):
    day = counted(simulated.tape.filter(pl.col("session") == 502)).sort("at", maintain_order=True)
    contract = day.select(pl.struct(KEY).rank("dense")).to_series().to_numpy().astype(np.int64)
    prices = [day[column].to_numpy() for column in ("price", "bid", "ask")]
    tickets, _ = make_tickets(
        day["at"].to_numpy() * 1_000_000, contract, trade_side(*prices), day["venue"].to_numpy().astype(np.int16), prices[0],
        day["contracts"].to_numpy(),
    )  # fmt: skip
    shares = np.bincount(tickets.kind, minlength=len(KINDS)) / tickets.kind.size
    single, block, split, sweep = shares
    assert single > 0.85
    assert 0.001 < block < 0.01
    assert 0.01 < split < 0.06
    assert 0.01 < sweep < 0.08
    assert np.median(tickets.contracts) < 5 < tickets.contracts.mean() < 15, "most are small, a few are large"
    assert np.percentile(tickets.premium, 99.9) > 200 * np.median(tickets.premium)


def test_parts_add_up_to_their_total():
    rng = np.random.default_rng(8)
    total = rng.integers(1, 5_000, 400)
    count = np.minimum(rng.integers(1, 60, 400), total)
    parts = _shared(total, count, np.exp(2 * rng.normal(size=count.sum())))
    assert (parts >= 1).all()
    assert np.add.reduceat(parts, np.cumsum(count) - count).tolist() == total.tolist()


def test_moments_lie_in_their_stretch():
    for span in ((0, 1_800_000), (1_800_000, 7_200_000), (23_399_000, 23_400_000)):
        at = _when(5_000, span, np.random.default_rng(1))
        assert span[0] <= at.min() <= at.max() < span[1]
    whole = _when(200_000, (0, 23_400_000), np.random.default_rng(1)) / 23_400_000
    assert np.histogram(whole, 5, (0, 1))[0][[0, 4]].min() > 1.3 * ((whole > 0.4) & (whole < 0.6)).sum()


def test_next_morning_s_interest_changes_by_no_more_than_was_traded(simulated: SimulatedMarket, stories):
    """Of the sessions on the tape, contract by contract."""
    planted = {s.symbol for s in stories.values() if any(plant.base is not None for plant in s.interest)}
    closes = [s for s in simulated.snapshots if s.session < 503] + [simulated.snapshots[-1]]
    for before, after in itertools.pairwise(closes[-TAPE_SESSIONS:]):
        fills = counted(simulated.tape.filter(pl.col("session") == before.session))
        traded = fills.group_by(KEY).agg(pl.col("contracts").sum())
        rows = (
            contracts(before)
            .join(contracts(after), on=KEY, suffix="_after")
            .join(traded, on=KEY, how="left")
            .fill_null(0)
        )
        assert rows.height > 100_000
        more = rows.filter((pl.col("interest_after") - pl.col("interest")).abs() > pl.col("contracts"))
        assert {simulated.names[row].symbol for row in more["name"]} <= planted, (
            "but for what a planted case begins with"
        )
