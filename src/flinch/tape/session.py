"""A session's option trades as tickets, with what each of them points at: for one name or for all of them at once."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import polars as pl
from sqlalchemy import Engine

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.calendar import Hours
from flinch.core.flow import (
    Legs,
    Packages,
    Rolls,
    Sides,
    Tickets,
    Told,
    day_sums,
    find_packages,
    find_rolls,
    group_tickets,
    highest,
    make_tickets,
    opening,
    out_of_the_money,
    package_lean,
    place_of_highest,
    share_equivalent,
    ticket_lean,
    trade_side,
)
from flinch.core.pricing import greeks
from flinch.core.volatility import smile_vol
from flinch.store.market.chain import read_contracts
from flinch.store.market.minutes import read_minutes
from flinch.store.market.surfaces import read_smiles
from flinch.store.market.tape import PACKAGE, read_tape
from flinch.store.reading import numbers
from flinch.tape.fills import KEY, Doubts, clean, midnight
from flinch.tape.words import Paired

_MILLISECOND = 1_000_000
_MINUTE = 60 * 10**9
_DAY_MINUTES = 100_000


class Asked(NamedTuple):
    """Which tape is read.

    The store's keys of the names, ascending, with no other name's key between them; their close before the session and shares a
    contract, shape (names,); the session; the snapshot whose chain is read, and the one whose surfaces are; the one that tells
    the next morning's open interest, None when it is not to be known; the moment up to which trades are known; the
    rate; and the exchange's hours.
    """

    ids: IntArray
    previous_close: FloatArray
    multiplier: FloatArray
    session: dt.date
    snapshot: dt.datetime
    surfaces: dt.datetime
    next_snapshot: dt.datetime | None
    until: dt.datetime
    rate: float
    hours: Hours


@dataclass(frozen=True)
class SessionTape:
    """Tickets of one session, by time; columns of shape (tickets,).

    `contract` of the tickets is a row of `contracts`: name_id, expiration, strike, is_call, open_interest of the morning,
    next_open_interest (NaN where that is not known), volume (of the fills that count). `name` is a place in the names asked for,
    `so_far` what had traded of its contract when the ticket was done, `spot` the price of the stock at its first fill, `fills`
    those that count, by time, each with its `ticket`.
    """

    session: dt.date
    fills: pl.DataFrame
    ticket: IntArray
    tickets: Tickets
    contracts: pl.DataFrame
    name: IntArray
    packages: Packages
    package_lean: Sides
    rolls: Rolls
    so_far: FloatArray
    opening: Sides
    lean: Sides
    spot: FloatArray
    delta: FloatArray
    shares: FloatArray
    away: FloatArray
    away_moves: FloatArray
    doubts: Doubts
    paired: Paired


def read_session_tape(engine: Engine, asked: Asked) -> SessionTape | None:
    """The tape of some names in a session; None when no trades of them are kept."""
    ids, session = asked.ids, asked.session
    told = read_tape(engine, (int(ids[0]), int(ids[-1])), (session, session))
    if not told.height:
        return None
    told = told.filter(pl.col("at") < (asked.until - midnight(session)) // dt.timedelta(milliseconds=1))
    contracts = _contracts(engine, asked)
    counted, doubts = clean(told, contracts)
    at = counted["at"].to_numpy() * _MILLISECOND
    price, bid, ask = (numbers(counted[column]) for column in ("price", "bid", "ask"))
    side = trade_side(price, bid, ask)
    contract, size = counted["contract"].to_numpy().astype(np.int64), counted["contracts"].to_numpy()
    venue = counted["venue"].to_numpy().astype(np.int16)
    owner = np.searchsorted(ids, contracts["name_id"].to_numpy())
    tickets, of_fill = make_tickets(
        at, contract, side, venue, price, size, multiplier=asked.multiplier[owner[contract]]
    )
    contracts = contracts.with_columns(
        pl.Series("volume", np.bincount(contract, size, contracts.height).astype(np.int64))
    )
    name = owner[tickets.contract]

    def of(column: str) -> FloatArray:
        return numbers(contracts[column])[tickets.contract]

    is_call = contracts["is_call"].to_numpy()[tickets.contract]
    expiration = contracts["expiration"].cast(pl.Date).to_physical().to_numpy().astype(np.int64)[tickets.contract]
    flagged = np.zeros(tickets.first.size, np.bool_)
    flagged[of_fill[(counted["conditions"].to_numpy() & PACKAGE) > 0]] = True
    legs = Legs(
        name,
        tickets.first,
        tickets.contract,
        tickets.side,
        tickets.contracts,
        tickets.premium,
        is_call,
        of("strike"),
        expiration,
        flagged,
    )
    hours = _hours(asked)
    packages = find_packages(legs, hours)
    spot = prices_at(engine, asked, name, tickets.first)
    priced = _priced(engine, asked, contracts, tickets, spot)
    delta = priced.delta
    lean = ticket_lean(tickets.side, is_call)
    together = package_lean(
        packages.of_ticket, packages.form.size, packages.units, tickets.side, delta, tickets.contracts
    )
    inside = packages.of_ticket >= 0
    lean[inside] = together[packages.of_ticket[inside]]
    rolls = find_rolls(legs, of("open_interest"), packages.of_ticket, hours)
    so_far = _so_far(tickets, of_fill, contract, size)
    away = out_of_the_money(of("strike"), spot, is_call)
    return SessionTape(
        session=session,
        fills=counted,
        ticket=of_fill,
        tickets=tickets,
        contracts=contracts,
        name=name,
        packages=packages,
        package_lean=together,
        rolls=rolls,
        so_far=so_far,
        opening=opening(tickets.contracts, so_far, of("open_interest"), of("next_open_interest")),
        lean=lean,
        spot=spot,
        delta=delta,
        shares=share_equivalent(tickets.side, delta, tickets.contracts, asked.multiplier[name]),
        away=away,
        away_moves=away / priced.move,
        doubts=doubts,
        paired=_paired(packages, rolls, name, ids.size),
    )


def _paired(packages: Packages, rolls: Rolls, name: IntArray, names: int) -> Paired:
    first = np.full(packages.form.size, name.size)
    inside = np.flatnonzero(packages.of_ticket >= 0)
    np.minimum.at(first, packages.of_ticket[inside], inside)
    sides, unflagged = name[rolls.other >= 0], name[first[~packages.flagged]]
    counted = (
        0.5 * np.bincount(sides, minlength=names),
        np.bincount(name, rolls.by_chance, names),
        np.bincount(unflagged, minlength=names),
        np.bincount(name, packages.by_chance, names),
    )
    return Paired(*(np.asarray(one, np.float64) for one in counted))


def name_sums(tape: SessionTape, names: int) -> dict[str, FloatArray]:
    """What the tickets come to for each name, as `day_sums` says; what the next morning tells is not used."""
    tickets, contracts = tape.tickets, tape.contracts
    told = Told(
        name=tape.name,
        contract=tickets.contract,
        is_call=contracts["is_call"].to_numpy()[tickets.contract],
        side=tickets.side,
        kind=tickets.kind,
        contracts=tickets.contracts,
        premium=tickets.premium,
        outside=tape.away > 0,
        opening=opening(tickets.contracts, tape.so_far, numbers(contracts["open_interest"])[tickets.contract]),
        shares=tape.shares,
        leg=tape.packages.of_ticket >= 0,
    )
    return day_sums(told, names, contracts.height)


def compile_tape() -> None:
    """Compile what puts fills together, by two of them; what is compiled is kept for the next process."""
    contract, side, one = np.arange(2), np.array([1, -1], np.int8), np.ones(2, np.int64)
    tickets, _ = make_tickets(0 * one, contract, side, np.zeros(2, np.int16), np.ones(2), one)
    no = np.zeros(2, np.bool_)
    legs = Legs(0 * one, tickets.first, contract, side, one, np.ones(2), no, np.ones(2), one, no)
    find_rolls(legs, np.ones(2), find_packages(legs, (0, 1)).of_ticket, (0, 1))
    group_tickets(0 * one, 1, no, side, np.ones(2), one)
    highest(0 * one, 1, np.ones(2))
    place_of_highest(0 * one, 1, np.ones(2))


def _hours(asked: Asked) -> tuple[int, int]:
    """When the session opens, and closes or is known until, in nanoseconds since its midnight in UTC."""
    start, day = midnight(asked.session), asked.session
    opened, closed = asked.hours.opens(day), asked.hours.closes(day)
    ends = (opened - start, min(closed, asked.until) - start)
    begin, end = (end // dt.timedelta(microseconds=1) * 1_000 for end in ends)
    return begin, max(begin, end)


def _contracts(engine: Engine, asked: Asked) -> pl.DataFrame:
    """What was listed in the session, with the open interest of its morning and, where that is to be known, of the next."""
    names = (int(asked.ids[0]), int(asked.ids[-1]))
    chain = read_contracts(engine, asked.snapshot, names).select(*KEY, "open_interest")
    if asked.next_snapshot is None:
        return chain.with_columns(next_open_interest=pl.lit(float("nan")))
    later = read_contracts(engine, asked.next_snapshot, names).select(
        *KEY, pl.col("open_interest").cast(pl.Float64).alias("next_open_interest")
    )
    return chain.join(later, on=KEY, how="left", maintain_order="left").with_columns(
        pl.col("next_open_interest").fill_null(float("nan"))
    )


def _so_far(tickets: Tickets, of_fill: IntArray, contract: IntArray, size: IntArray) -> FloatArray:
    """What had traded of its contract when each ticket was done."""
    order = np.argsort(contract, kind="stable")
    running = np.cumsum(size[order])
    first = np.searchsorted(contract[order], contract[order])
    so_far = np.empty(size.size)
    so_far[order] = running - (running[first] - size[order][first])
    return highest(of_fill, tickets.first.size, so_far)


def prices_at(engine: Engine, asked: Asked, name: IntArray, moment: IntArray) -> FloatArray:
    """Price of a name (a place in those asked for) at each moment (nanoseconds since midnight in UTC).

    That of the last minute that had ended, and before the first the close before.
    """
    session = asked.session
    rows = read_minutes(engine, (int(asked.ids[0]), int(asked.ids[-1])), (session, session))
    start = np.datetime64(session, "m")
    ended = (rows["at"].to_numpy().astype("datetime64[m]") - start).astype(np.int64) + 1
    owner = np.searchsorted(asked.ids, rows["name_id"].to_numpy())
    place = np.searchsorted(owner * _DAY_MINUTES + ended, name * _DAY_MINUTES + moment // _MINUTE, "right") - 1
    close = numbers(rows["close"])
    there = place >= 0
    there[there] &= owner[place[there]] == name[there]
    spot = asked.previous_close[name]
    spot[there] = close[place[there]]
    return spot


class _Priced(NamedTuple):
    """Of each ticket: delta of its contract at the price of the stock then, without early exercise, and the move priced until its
    expiration at the volatility of its strike, a decimal; NaN where no surface was read."""

    delta: FloatArray
    move: FloatArray


def _priced(engine: Engine, asked: Asked, contracts: pl.DataFrame, tickets: Tickets, spot: FloatArray) -> _Priced:
    """On the surfaces that were read in the session."""
    smiles = read_smiles(engine, asked.surfaces, (int(asked.ids[0]), int(asked.ids[-1])))
    joined = contracts.select("name_id", "expiration").join(
        smiles, on=["name_id", "expiration"], how="left", maintain_order="left"
    )
    svi = np.stack([numbers(joined[column]) for column in smiles.columns[-5:]], axis=1)
    key, strike = tickets.contract, numbers(contracts["strike"])[tickets.contract]
    years, carry = numbers(joined["years"])[key], np.nan_to_num(numbers(joined["carry"]))[key]
    with np.errstate(invalid="ignore", divide="ignore"):
        vol = smile_vol(svi[key], years, np.log(strike / (spot * np.exp((asked.rate - carry) * years))))
        is_call = contracts["is_call"].to_numpy()[key]
        delta = greeks(spot, strike, years, vol, is_call=is_call, rate=asked.rate, dividend_yield=carry).delta
        return _Priced(delta, vol * np.sqrt(years))
