"""When chains are looked at: at the newest closes, and five times during the newest session."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.calendar import years_to_close
from flinch.core.pricing import option_price
from flinch.feeds.simulated.calendar import AS_OF, CLOSE, EXCHANGE_ZONE, OPEN, DateArray
from flinch.feeds.simulated.chains import Snapshot, quote_book
from flinch.feeds.simulated.ground import Ground
from flinch.feeds.simulated.interest import RATE, Book, Floats
from flinch.feeds.simulated.paths import HALTED_AT, STEPS
from flinch.feeds.simulated.planted import planted_volume
from flinch.feeds.simulated.storylines import Storyline
from flinch.feeds.simulated.volatility import priced_vols

QUARTERS = (2, 8, 14, 20, STEPS - 1)
"""Quarter hours after the open at which the newest session's snapshots are taken: 10:00, 11:30, 13:00, 14:30, 15:45."""
_TRADED = (0.14, 0.42, 0.6, 0.78, 1.0)
"""Of the session's volume up to 15:45, the share that has traded by each of them."""


class Moment(NamedTuple):
    """A moment at which chains are looked at: the close of a book's session, or so many quarter hours into it."""

    book: Book
    quarter: int | None


class AdjustedRows(NamedTuple):
    """Contracts of one name that a corporate action changed, at one snapshot; each delivers `shares` and `cash`."""

    name: int
    taken_at: dt.datetime
    multiplier: float
    shares: float
    cash: float
    expiration: DateArray
    strike: Floats
    is_call: NDArray[np.bool_]
    bid: Floats
    ask: Floats
    volume: NDArray[np.int64]
    open_interest: NDArray[np.int64]


def moments(books: list[Book]) -> list[Moment]:
    """When chains are looked at, in order: the closes of the books before the newest, and five times in the newest session."""
    closes = [Moment(book, None) for book in books[:-1]]
    return closes + [Moment(books[-1], quarter) for quarter in QUARTERS]


def take_snapshots(
    ground: Ground,
    wanted: list[Moment],
    stream: Callable[[str], np.random.Generator],
    progress: Callable[[float], None],
    newest: Snapshot | None = None,
) -> list[Snapshot]:
    """Quote the books at some moments, in order: past ones as they closed, the newest one as the session went on.

    `stream` gives the random numbers of a label, so that a moment's quotes are the same whichever others are taken; no more is
    traded at a moment than at the next one taken, or at the `newest`.
    """
    out: list[Snapshot] = []
    after = newest
    for done, moment in enumerate(reversed(wanted)):
        snapshot = _during(ground, moment, stream) if moment.quarter is not None else _at_close(ground, moment, stream)
        volume = snapshot.chain.volume
        if after is not None and after.session == snapshot.session:
            # More is never taken back.
            volume = np.minimum(volume, after.chain.volume - planted_volume(ground, after))
        volume = volume + planted_volume(ground, snapshot)
        snapshot = snapshot._replace(chain=snapshot.chain._replace(volume=volume))
        out.append(snapshot)
        after = snapshot
        progress((done + 1) / len(wanted))
    return out[::-1]


def _at_close(ground: Ground, moment: Moment, stream: Callable[[str], np.random.Generator]) -> Snapshot:
    book, t = moment.book, moment.book.session
    taken_at = dt.datetime.combine(ground.calendar[t].astype(object), CLOSE, EXCHANGE_ZONE)
    everything, nobody = np.ones(len(ground.names)), np.zeros(len(ground.names), dtype=bool)
    spot, rng = ground.close[:, t], stream(f"quotes {taken_at}")
    return Snapshot(
        taken_at, t, spot, book.expiries, quote_book(ground, book, book.expiries, spot, everything, nobody, rng)
    )


def _during(ground: Ground, moment: Moment, stream: Callable[[str], np.random.Generator]) -> Snapshot:
    book, quarter, t = moment.book, moment.quarter, moment.book.session
    assert quarter is not None
    taken_at = dt.datetime.combine(AS_OF.date(), OPEN, EXCHANGE_ZONE) + dt.timedelta(minutes=15 * quarter)
    last = quarter == QUARTERS[-1]
    spot = ground.close[:, t] if last else np.round(ground.paths.steps[3, :, -1, quarter - 1], 2)
    stopped = ground.halted & (quarter >= HALTED_AT)
    share = _TRADED[QUARTERS.index(quarter)]
    traded = np.where(stopped, 1.0, np.where(ground.halted, 0.5, share))
    years = years_to_close(book.expiries.expiration, taken_at)
    vol = book.expiries.vol if last else vols_during(ground, book, years, quarter / QUARTERS[-1])
    expiries = book.expiries._replace(years=years, vol=vol)
    chain = quote_book(ground, book, expiries, spot, traded, stopped, stream(f"quotes {taken_at}"))
    return Snapshot(taken_at, t, spot, expiries, chain)


def vols_during(ground: Ground, book: Book, years: Floats, share: float) -> Floats:
    """Volatility at the money part-way through a book's session: its variance and premium on their way from those of the session
    before."""
    before, now = book.session - 1, book.session
    variance = (1 - share) * ground.paths.variance[:, :, before] + share * ground.paths.variance[:, :, now]
    premium = (1 - share) * ground.premium[:, before] + share * ground.premium[:, now]
    out = np.empty(years.size)
    for expiration in np.unique(book.expiries.expiration):
        rows = np.flatnonzero(book.expiries.expiration == expiration)
        members = book.expiries.name[rows]
        listed = np.array([expiration])
        vols = priced_vols(ground, now, variance[:, members], premium[members], listed, years[rows[:1]], members)
        out[rows] = vols[:, 0]
    return out


def adjusted_rows(
    name: int, story: Storyline, snapshot: Snapshot, carry: float, rng: np.random.Generator
) -> AdjustedRows:
    """The adjusted contracts of a name: those of its first two monthly expirations around the price, with what a share and its
    part of the cash are worth together."""
    terms = story.adjusted
    if terms is None:
        raise ValueError(f"{story.symbol} has no adjusted contracts")
    chain, expiries = snapshot.chain, snapshot.expiries
    owner = expiries.name[chain.expiry]
    listed = np.flatnonzero(expiries.name == name)[:2]
    near = np.abs(np.log(chain.strike / snapshot.spot[name])) < 0.12
    rows = np.flatnonzero((owner == name) & np.isin(chain.expiry, listed) & near)
    years, strike, is_call = expiries.years[chain.expiry[rows]], chain.strike[rows], chain.is_call[rows]
    at: tuple[Any, ...] = (snapshot.spot[name] + terms.cash / 100, strike, years, expiries.vol[chain.expiry[rows]])
    price = option_price(*at, is_call=is_call, rate=RATE, dividend_yield=carry, exercise="american")
    half = np.maximum(0.06 * price, 0.05)
    interest = np.full(rows.size, terms.open_interest // max(rows.size, 1), dtype=np.int64)
    interest[: terms.open_interest - int(interest.sum())] += 1
    return AdjustedRows(
        name,
        snapshot.taken_at,
        100.0,
        100.0,
        terms.cash,
        expiries.expiration[chain.expiry[rows]],
        strike,
        is_call,
        np.round(np.maximum(price - half, 0.0), 2),
        np.round(price + half, 2),
        rng.poisson(0.3, rows.size),
        interest,
    )
