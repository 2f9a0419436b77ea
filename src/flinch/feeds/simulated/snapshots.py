"""When chains are looked at: at the newest closes, and five times during the newest session."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.calendar import CLOSE, EXCHANGE_ZONE, years_to_close
from flinch.core.pricing import option_price
from flinch.feeds.simulated.calendar import AS_OF, OPEN, SESSIONS, DateArray
from flinch.feeds.simulated.chains import Snapshot, quote_book
from flinch.feeds.simulated.earnings import EarningsCalendar
from flinch.feeds.simulated.interest import RATE, Book, Floats
from flinch.feeds.simulated.names import Listing
from flinch.feeds.simulated.paths import HALTED_AT, STEPS, Paths
from flinch.feeds.simulated.storylines import Storyline
from flinch.feeds.simulated.surfaces import Smile
from flinch.feeds.simulated.volatility import vols_at

QUARTERS = (2, 8, 14, 20, STEPS - 1)
"""Quarter hours after the open at which the newest session's snapshots are taken: 10:00, 11:30, 13:00, 14:30, 15:45."""
_TRADED = (0.14, 0.42, 0.6, 0.78, 1.0)
"""Of the session's volume up to 15:45, the share that has traded by each of them."""


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


def take_snapshots(
    names: list[Listing],
    books: list[Book],
    paths: Paths,
    premium: Floats,
    smiles: Smile,
    earnings: EarningsCalendar,
    calendar: DateArray,
    close: Floats,
    carry: Floats,
    halted: NDArray[np.bool_],
    rng: np.random.Generator,
    progress: Callable[[float], None],
) -> list[Snapshot]:
    """Quote the books of the newest sessions: past ones as they closed, the newest one as the session went on."""
    everything, nobody = np.ones(len(names)), np.zeros(len(names), dtype=bool)
    snapshots = []
    for done, book in enumerate(books[:-1]):
        t = book.session
        smile = Smile(smiles.rho[:, t], smiles.eta[:, t])
        chain = quote_book(names, book, book.expiries, close[:, t], carry, smile, everything, nobody, rng)
        moment = dt.datetime.combine(calendar[t].astype(object), CLOSE, EXCHANGE_ZONE)
        snapshots.append(Snapshot(moment, t, close[:, t], book.expiries, chain))
        progress((done + 1) / (len(books) + len(QUARTERS)))
    book, newest = books[-1], SESSIONS - 1
    began = dt.datetime.combine(AS_OF.date(), OPEN, EXCHANGE_ZONE)
    smile = Smile(smiles.rho[:, newest], smiles.eta[:, newest])
    for quarter, share in zip(QUARTERS, _TRADED, strict=True):
        moment = began + dt.timedelta(minutes=15 * quarter)
        last = quarter == QUARTERS[-1]
        spot = close[:, newest] if last else np.round(paths.steps[3, :, -1, quarter - 1], 2)
        stopped = halted & (quarter >= HALTED_AT)
        traded = np.where(stopped, 1.0, np.where(halted, 0.5, share))
        years = years_to_close(book.expiries.expiration, moment)
        vol = book.expiries.vol
        if not last:
            vol = _vols_during(names, book, paths, premium, earnings, calendar, years, quarter / QUARTERS[-1])
        expiries = book.expiries._replace(years=years, vol=vol)
        chain = quote_book(names, book, expiries, spot, carry, smile, traded, stopped, rng)
        if snapshots and snapshots[-1].session == newest:
            # More is never taken back.
            volume = np.maximum(chain.volume, snapshots[-1].chain.volume)
            chain = chain._replace(volume=volume)
        snapshots.append(Snapshot(moment, newest, spot, expiries, chain))
        progress(len(snapshots) / (len(books) + len(QUARTERS)))
    return snapshots


def _vols_during(
    names: list[Listing],
    book: Book,
    paths: Paths,
    premium: Floats,
    earnings: EarningsCalendar,
    calendar: DateArray,
    years: Floats,
    share: float,
) -> Floats:
    """Volatility at the money part-way through the newest session: its variance and premium on their way from yesterday's."""
    variance = paths.variance[:, :, -2:].copy()
    variance[:, :, -1] = (1 - share) * variance[:, :, 0] + share * variance[:, :, 1]
    asked = premium[:, -2:].copy()
    asked[:, -1] = (1 - share) * asked[:, 0] + share * asked[:, 1]
    part = paths._replace(variance=np.broadcast_to(variance[:, :, -1:], paths.variance.shape))
    everywhere = np.broadcast_to(asked[:, -1:], premium.shape)
    out = np.empty(years.size)
    for expiration in np.unique(book.expiries.expiration):
        rows = np.flatnonzero(book.expiries.expiration == expiration)
        members = book.expiries.name[rows]
        found = vols_at(
            part, everywhere, earnings, calendar, SESSIONS - 1, np.array([expiration]), years[rows[:1]], members
        )
        out[rows] = found[:, 0]
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
