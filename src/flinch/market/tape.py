"""A name's option trades of one session, as tickets with what each of them points at."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, fields

import numpy as np
import polars as pl

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.flow import (
    Legs,
    Packages,
    Sides,
    Tickets,
    find_packages,
    find_rolls,
    make_tickets,
    opening,
    out_of_the_money,
    package_lean,
    share_equivalent,
    since,
    ticket_lean,
    trade_side,
)
from flinch.core.pricing import greeks
from flinch.core.volatility import smile_vol
from flinch.market.bars import load_day_minutes
from flinch.market.view import View
from flinch.store.market.chain import read_chain
from flinch.store.market.tape import CANCELLED, LATE, PACKAGE, read_tape
from flinch.store.reading import numbers

_KEY = ("expiration", "strike", "is_call")
_MILLISECOND = 1_000_000


@dataclass(frozen=True)
class Doubts:
    """Fills that are not what they should be. The first four do not count; the others do."""

    cancelled: int
    no_size: int
    doubled: int
    not_listed: int
    late: int
    out_of_order: int
    no_quote: int
    locked: int

    @property
    def left_out(self) -> int:
        """How many do not count."""
        return self.cancelled + self.no_size + self.doubled + self.not_listed


WORDS = {
    "cancelled": "cancelled",
    "no_size": "without a size above zero",
    "doubled": "told twice",
    "not_listed": "in a contract that is not listed",
    "late": "told late",
    "out_of_order": "out of order",
    "no_quote": "without a usable quote",
    "locked": "at a locked market",
}
assert list(WORDS) == [field.name for field in fields(Doubts)]


@dataclass(frozen=True)
class NameTape:
    """Tickets of one name in one session, by time; columns of shape (tickets,).

    `contract` of the tickets is a row of `contracts`: expiration, strike, is_call, open_interest of the morning,
    next_open_interest (NaN where that is not known), volume (of the fills that count). `spot` is the price of the stock at the
    first fill, `fills` those that count, by time.
    """

    fills: pl.DataFrame
    ticket: IntArray
    tickets: Tickets
    contracts: pl.DataFrame
    packages: Packages
    package_lean: Sides
    roll: IntArray
    opening: Sides
    lean: Sides
    spot: FloatArray
    delta: FloatArray
    shares: FloatArray
    away: FloatArray
    since: FloatArray
    doubts: Doubts


def read_name_tape(view: View, row: int, session: int) -> NameTape | None:
    """The tape of a name's session as it was known at the view's moment; None when no trades of it are kept.

    `session` is not later than the view's. Next morning's open interest is known when the view is of a later session.
    """
    day, then = view.date(session), view.at(session)
    told = read_tape(view.store, (view.id(row), view.id(row)), (day, day))
    if then.snapshot is None or not told.height:
        return None
    midnight = dt.datetime.combine(day, dt.time(), dt.UTC)
    told = told.filter(pl.col("at") < (then.as_of - midnight) // dt.timedelta(milliseconds=1))
    contracts = _contracts(view, then, row, session)
    fills, doubts = clean(told, contracts)
    at = fills["at"].to_numpy() * _MILLISECOND
    price, bid, ask = (numbers(fills[column]) for column in ("price", "bid", "ask"))
    side = trade_side(price, bid, ask)
    contract, size = fills["contract"].to_numpy().astype(np.int64), fills["contracts"].to_numpy()
    multiplier = view.multiplier(row)
    venue = fills["venue"].to_numpy().astype(np.int16)
    tickets, of_fill = make_tickets(at, contract, side, venue, price, size, multiplier=multiplier)
    contracts = contracts.with_columns(
        pl.Series("volume", np.bincount(contract, size, contracts.height).astype(np.int64))
    )

    def of(column: str) -> FloatArray:
        return numbers(contracts[column])[tickets.contract]

    is_call = contracts["is_call"].to_numpy()[tickets.contract]
    expiration = contracts["expiration"].cast(pl.Date).to_physical().to_numpy().astype(np.int64)[tickets.contract]
    flagged = np.zeros(tickets.first.size, np.bool_)
    flagged[of_fill[(fills["conditions"].to_numpy() & PACKAGE) > 0]] = True
    nobody = np.zeros(tickets.first.size, np.int64)
    legs = Legs(
        nobody,
        tickets.first,
        tickets.contract,
        tickets.side,
        tickets.contracts,
        is_call,
        of("strike"),
        expiration,
        flagged,
    )
    packages = find_packages(legs)
    spot = _spots(then, row, tickets.first)
    delta = _deltas(then, row, contracts, tickets, spot)
    lean = ticket_lean(tickets.side, is_call)
    together = package_lean(
        packages.of_ticket, packages.form.size, packages.units, tickets.side, delta, tickets.contracts
    )
    inside = packages.of_ticket >= 0
    lean[inside] = together[packages.of_ticket[inside]]
    so_far = _so_far(tickets, of_fill, contract, size)
    one_day = float(then.metric("one_day_move")[row])
    return NameTape(
        fills=fills,
        ticket=of_fill,
        tickets=tickets,
        contracts=contracts,
        packages=packages,
        package_lean=together,
        roll=find_rolls(legs, of("open_interest"), packages.of_ticket),
        opening=opening(tickets.contracts, so_far, of("open_interest"), of("next_open_interest")),
        lean=lean,
        spot=spot,
        delta=delta,
        shares=share_equivalent(tickets.side, delta, tickets.contracts, multiplier),
        away=out_of_the_money(of("strike"), spot, is_call),
        since=since(np.full(spot.size, view.price(row)), spot, np.full(spot.size, one_day), lean),
        doubts=doubts,
    )


def compile_tape() -> None:
    """Compile what puts fills together, by two of them; what is compiled is kept for the next process."""
    contract, side, one = np.arange(2), np.array([1, -1], np.int8), np.ones(2, np.int64)
    tickets, _ = make_tickets(0 * one, contract, side, np.zeros(2, np.int16), np.ones(2), one)
    no = np.zeros(2, np.bool_)
    legs = Legs(0 * one, tickets.first, contract, side, one, no, np.ones(2), one, no)
    find_rolls(legs, np.ones(2), find_packages(legs).of_ticket)


def clean(told: pl.DataFrame, contracts: pl.DataFrame) -> tuple[pl.DataFrame, Doubts]:
    """The fills that count, in order of time, with the row of their contract; and what was wrong with those told."""
    at = told["at"].to_numpy()
    condition = pl.col("conditions")
    listed = contracts.select(_KEY).with_row_index("contract")
    rows = told.join(listed, on=_KEY, how="left", maintain_order="left").with_columns(
        twice=~pl.struct(told.columns).is_first_distinct()
    )
    cancelled = condition & CANCELLED > 0
    no_size = ~cancelled & (pl.col("contracts") <= 0)
    doubled = ~cancelled & ~no_size & pl.col("twice")
    unlisted = ~cancelled & ~no_size & ~doubled & pl.col("contract").is_null()
    counted = rows.filter(~(cancelled | no_size | doubled | unlisted))
    bid, ask = pl.col("bid"), pl.col("ask")
    quoted = bid.is_not_nan() & ask.is_not_nan() & (bid <= ask)

    def count(rows: pl.DataFrame, which: pl.Expr) -> int:
        return int(rows.select(which.fill_null(value=False).sum()).item())

    doubts = Doubts(
        cancelled=count(rows, cancelled),
        no_size=count(rows, no_size),
        doubled=count(rows, doubled),
        not_listed=count(rows, unlisted),
        late=count(counted, condition & LATE > 0),
        out_of_order=int((np.diff(at) < 0).sum()),
        no_quote=count(counted, ~quoted),
        locked=count(counted, quoted & (bid == ask)),
    )
    return counted.drop("twice").sort("at", maintain_order=True), doubts


def _contracts(view: View, then: View, row: int, session: int) -> pl.DataFrame:
    """What was listed in the session, with the open interest of its morning and, where the view knows it, of the next."""
    assert then.snapshot is not None
    chain = read_chain(view.store, view.id(row), then.snapshot.taken_at).select(*_KEY, "open_interest")
    following = view.at(session + 1).snapshot if session < view.last else None
    if following is None:
        return chain.with_columns(next_open_interest=pl.lit(float("nan")))
    later = read_chain(view.store, view.id(row), following.taken_at).select(
        *_KEY, pl.col("open_interest").cast(pl.Float64).alias("next_open_interest")
    )
    return chain.join(later, on=_KEY, how="left", maintain_order="left").with_columns(
        pl.col("next_open_interest").fill_null(float("nan"))
    )


def _so_far(tickets: Tickets, of_fill: IntArray, contract: IntArray, size: IntArray) -> FloatArray:
    """What had traded of its contract when each ticket was done."""
    order = np.argsort(contract, kind="stable")
    running = np.cumsum(size[order])
    first = np.searchsorted(contract[order], contract[order])
    so_far = np.empty(size.size)
    so_far[order] = running - (running[first] - size[order][first])
    out = np.zeros(tickets.first.size)
    np.maximum.at(out, of_fill, so_far)
    return out


def _spots(then: View, row: int, first: IntArray) -> FloatArray:
    """Price of the stock at each moment: of the last minute that had ended, before that the close before."""
    at, close = load_day_minutes(then.store, then.id(row), then.today)
    place = np.searchsorted(
        at + np.timedelta64(1, "m"), first.astype("timedelta64[ns]") + np.datetime64(then.today, "ns"), "right"
    )
    prices = np.concatenate([[then.previous_close(row)], close])
    return prices[place]


def _deltas(then: View, row: int, contracts: pl.DataFrame, tickets: Tickets, spot: FloatArray) -> FloatArray:
    """Delta of each ticket's contract at the price of the stock then, on the surface of the session and without early exercise;
    NaN where none was read."""
    expiries = {expiry.expiration: expiry for expiry in then.readable_expirations(row)}
    days = contracts["expiration"].to_list()
    years, carry, svi = np.full(len(days), np.nan), np.zeros(len(days)), np.full((len(days), 5), np.nan)
    for place, day in enumerate(days):
        if (expiry := expiries.get(day)) is not None:
            years[place], carry[place], svi[place] = expiry.years, expiry.carry, expiry.svi
    key, strike = tickets.contract, numbers(contracts["strike"])[tickets.contract]
    years, carry = years[key], carry[key]
    with np.errstate(invalid="ignore", divide="ignore"):
        vol = smile_vol(svi[key], years, np.log(strike / (spot * np.exp((then.rate - carry) * years))))
        is_call = contracts["is_call"].to_numpy()[key]
        delta: FloatArray = greeks(
            spot, strike, years, vol, is_call=is_call, rate=then.rate, dividend_yield=carry
        ).delta
    return delta
