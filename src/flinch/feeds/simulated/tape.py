"""Option trades of the newest sessions: what was traded of each contract, cut into decisions, and those into fills."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray

from flinch.core.arrays import group_bounds
from flinch.core.flow import LARGE_CONTRACTS, LARGE_PREMIUM, ROLL_NANOSECONDS
from flinch.core.pricing import option_price
from flinch.feeds.simulated.calendar import CLOSE, EXCHANGE_ZONE, OPEN, since_open
from flinch.feeds.simulated.chains import Snapshot
from flinch.feeds.simulated.flow import DECISION_CONTRACTS
from flinch.feeds.simulated.ground import Ground
from flinch.feeds.simulated.interest import RATE, Floats, Whole
from flinch.feeds.simulated.planted import Planted, planted_decisions, planted_volume
from flinch.feeds.simulated.surfaces import smile_vol
from flinch.store.market.tape import AUCTION, CANCELLED, LATE, PACKAGE

TAPE_SESSIONS = 5
VENUES = ("QUAY", "HELM", "TIDE", "CAPE", "REEF", "SPAR", "KEEL", "MOLE", "BUOY", "FJORD", "SKIFF", "WHARF")
"""Where options trade on the Tarrow Isles; the first ones do most of it."""
_VENUE_SHARES = np.array([0.2, 0.16, 0.13, 0.11, 0.09, 0.08, 0.06, 0.05, 0.04, 0.035, 0.025, 0.02])
HIDDEN_SHARE = 0.02
"""Of large tickets the share that are sides of a roll, and as many that are legs of a package which its source does not flag."""
_ALONE, _FLAGGED, _HIDDEN, _ROLL = range(4)
_NEAR = 0.2
"""How far apart in logarithm the strikes of two sides are, at most."""
_SECOND = 1000
_AUCTION_SECONDS = 5


class _Decisions(NamedTuple):
    """Shape (decisions,): row in the session's chain, milliseconds since the open, contracts, side (-1 to +1; halves lie between
    mid and a side), and what it is a part of; sides of a roll and legs of hidden packages stand one after the other."""

    row: Whole
    at: Whole
    contracts: Whole
    side: Floats
    part: NDArray[np.int8]


class _Fills(NamedTuple):
    """Shape (fills,): decision, milliseconds since the open, contracts, venue, conditions."""

    of: Whole
    at: Whole
    contracts: Whole
    venue: Whole
    conditions: Whole


def make_tape(
    ground: Ground, snapshots: list[Snapshot], spots: dict[int, Floats], rng: np.random.Generator
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """Fills of every session that `snapshots` (in order; all of each session's) are of.

    `spots` has of each session the price of each name at the end of each minute of regular hours, names x minutes. What is traded
    of each contract between two snapshots of a session is exactly what its volume rose by.

    Returns
    -------
    By session, name and time: session (an index), name, at (milliseconds since the session's midnight in UTC), expiration,
    strike, is_call, venue (a place in `VENUES`), conditions, price, contracts, and the quote at the trade, bid and ask. And the
    manifest of rolls and of packages that are not flagged, two rows each: session, kind, pair, name, at, expiration, strike,
    is_call, contracts, premium.
    """
    days = []
    for session in sorted({snapshot.session for snapshot in snapshots}):
        taken = [snapshot for snapshot in snapshots if snapshot.session == session]
        days.append(_day(ground, taken, spots[session], rng))
    fills, pairs = zip(*days, strict=True)
    return pl.concat(fills), pl.concat(pairs)


def _day(
    ground: Ground, taken: list[Snapshot], spots: Floats, rng: np.random.Generator
) -> tuple[pl.DataFrame, pl.DataFrame]:
    newest = taken[-1]
    parts, before, begin = [], np.zeros_like(newest.chain.volume), 0
    for snapshot in taken:
        end = since_open(snapshot.taken_at)
        volume = snapshot.chain.volume - planted_volume(ground, snapshot)
        parts.append(_decide(ground, newest, volume - before, (begin, end), rng))
        before, begin = volume, end
    drawn = _joined(parts)
    planted = planted_decisions(ground, newest)
    cut, more = _cut(taken, drawn, rng), _cut_planted(planted)
    part = np.where(planted.package, _FLAGGED, _ALONE).astype(np.int8)
    made = _joined([drawn, _Decisions(planted.row, planted.at, planted.contracts, planted.side, part)])
    more = more._replace(of=more.of + drawn.row.size)
    told = _told(
        newest,
        made,
        _Fills(*map(np.concatenate, zip(cut, more, strict=True))),
        _quotes(ground, taken, made, spots),
        rng,
    )
    return told, _manifest(ground, newest, made, told)


def stretch_tape(
    ground: Ground, closed: Snapshot, volume: Whole, span: tuple[int, int], spots: Floats, rng: np.random.Generator
) -> pl.DataFrame:
    """Fills of a stretch of one session, from and to so many milliseconds after its open, as `make_tape` gives them.

    `closed` is the chain as the session ends, `volume` what trades of each of its contracts in the stretch; `spots` as in
    `make_tape`.
    """
    made = _decide(ground, closed, volume, span, rng)
    return _told(closed, made, _cut([closed], made, rng), _quotes(ground, [closed], made, spots), rng)


def _joined(parts: list[_Decisions]) -> _Decisions:
    row, at, contracts, side, part = (np.concatenate(column) for column in zip(*parts, strict=True))
    return _Decisions(row, at, contracts, side, part)


def _decide(
    ground: Ground, newest: Snapshot, volume: Whole, span: tuple[int, int], rng: np.random.Generator
) -> _Decisions:
    """Cut what was traded of each contract in a stretch of the session into decisions; some are legs of two done as one."""
    legs, left = _pairs(newest, volume, rng)
    together = np.repeat(_when(legs.row.size // 2, (span[0], span[1] - 60), rng), 2)
    together[1::2] += rng.integers(0, 60, together.size // 2)
    hidden = _hidden(ground, newest, _cut_alone(ground, newest, left, span, rng), left, span, rng)
    np.subtract.at(left, hidden.row, hidden.contracts)
    return _joined([_cut_alone(ground, newest, left, span, rng), legs._replace(at=together), hidden])


def _cut_alone(
    ground: Ground, newest: Snapshot, left: Whole, span: tuple[int, int], rng: np.random.Generator
) -> _Decisions:
    name = newest.expiries.name[newest.chain.expiry]
    typical = np.array([DECISION_CONTRACTS[listing.size] for listing in ground.names])[name]
    traded = np.flatnonzero(left)
    count = np.minimum(1 + rng.poisson(np.maximum(left[traded] - 1, 0) / typical[traded]), left[traded])
    row = np.repeat(traded, count)
    contracts = _shared(left[traded], count, np.exp(1.9 * rng.normal(size=row.size)))
    # A name's mood of the day moves how often its options are bought.
    mood = rng.normal(0.0, 0.06, len(ground.names))[name[row]]
    drawn = rng.random(row.size)
    side = np.select(
        [drawn < 0.40 + mood, drawn < 0.50 + mood, drawn < 0.58 + mood, drawn < 0.66], [1.0, 0.5, 0.0, -0.5], -1.0
    )
    return _Decisions(row, _when(row.size, span, rng), contracts, side, np.zeros(row.size, np.int8))


def _worth(ground: Ground, newest: Snapshot) -> Floats:
    """What a contract of each row costs, about; nothing where it is not quoted."""
    chain = newest.chain
    mid: Floats = np.nan_to_num(0.5 * (chain.bid + chain.ask))
    return mid * ground.multiplier[newest.expiries.name[chain.expiry]]


def _hidden(
    ground: Ground, newest: Snapshot, alone: _Decisions, left: Whole, span: tuple[int, int], rng: np.random.Generator
) -> _Decisions:
    """Rolls, and packages that nobody flags, of the size of some large decisions, two rows each, taken from what is left."""
    chain, worth = newest.chain, _worth(ground, newest)
    name = newest.expiries.name[chain.expiry]
    premium = alone.contracts * worth[alone.row]
    large = np.flatnonzero((alone.contracts >= LARGE_CONTRACTS) | (premium >= LARGE_PREMIUM))
    anchors = rng.choice(large, round(HIDDEN_SHARE * large.size), replace=False)
    bounds, left = group_bounds(name, len(ground.names)), left.copy()
    made: list[tuple[int, int, int, float, int]] = []
    for place, anchor in enumerate(anchors.tolist()):
        row, contracts = int(alone.row[anchor]), int(alone.contracts[anchor])
        roll = place % 2 == 0
        other = contracts if rng.random() < 0.75 else round(contracts * (rng.uniform(0.6, 1.6) if roll else 2))
        here = slice(int(bounds[name[row]]), int(bounds[name[row] + 1]))
        near = np.abs(np.log(chain.strike[here] / chain.strike[row])) < _NEAR
        near &= (left[here] >= other) & ((other >= LARGE_CONTRACTS) | (other * worth[here] >= LARGE_PREMIUM))
        near &= (chain.expiry[here] != chain.expiry[row]) | (chain.strike[here] != chain.strike[row])
        if roll or other != contracts:
            near &= chain.is_call[here] == chain.is_call[row]
        if not roll:
            near &= chain.expiry[here] == chain.expiry[row]
        side = 1.0 if rng.random() < 0.5 else -1.0
        # Nobody sells on who does not hold.
        if roll and side > 0:
            near &= chain.open_interest[here] >= other
        found = np.flatnonzero(near)
        if not found.size or left[row] < contracts or (roll and side < 0 and chain.open_interest[row] < contracts):
            continue
        partner = here.start + int(rng.choice(found))
        alike = not roll and chain.is_call[partner] != chain.is_call[row] and rng.random() < 0.67
        part = _ROLL if roll else _HIDDEN
        made += [(row, contracts, place, side, part), (partner, other, place, side if alike else -side, part)]
        left[row] -= contracts
        left[partner] -= other
    row_, contracts_, _, side_, part_ = (np.array(column) for column in (zip(*made, strict=True) if made else [()] * 5))
    at = np.repeat(_when(row_.size // 2, (span[0], span[1] - ROLL_NANOSECONDS // 10**6), rng), 2)
    gap = np.where(part_[1::2] == _ROLL, rng.integers(300, 4_500, at.size // 2), rng.integers(0, 90, at.size // 2))
    at[1::2] += gap
    return _Decisions(
        row_.astype(np.int64), at, contracts_.astype(np.int64), side_.astype(np.float64), part_.astype(np.int8)
    )


def _manifest(ground: Ground, newest: Snapshot, made: _Decisions, told: pl.DataFrame) -> pl.DataFrame:
    part = np.flatnonzero(made.part >= _HIDDEN)
    row, expiry = made.row[part], newest.chain.expiry[made.row[part]]
    return pl.DataFrame(
        {
            "session": np.full(part.size, newest.session),
            "kind": np.where(made.part[part] == _ROLL, "roll", "package"),
            "pair": np.arange(part.size) // 2,
            "name": newest.expiries.name[expiry],
            "at": made.at[part] + _opened(newest),
            "expiration": newest.expiries.expiration[expiry],
            "strike": newest.chain.strike[row],
            "is_call": newest.chain.is_call[row],
            "contracts": made.contracts[part],
            "premium": made.contracts[part] * _worth(ground, newest)[row],
        }
    )


def _pairs(newest: Snapshot, volume: Whole, rng: np.random.Generator) -> tuple[_Decisions, Whole]:
    """Verticals and pairs of a call and a put, legs one after the other; and the volume that is left."""
    chain, left = newest.chain, volume.copy()
    made = []
    for step, share in ((2, 0.03), (1, 0.02)):
        first = np.arange(0, chain.strike.size - step)
        first = first[(first // 2) % 2 == 0] if step == 2 else first[first % 2 == 0]
        first = first[(chain.expiry[first] == chain.expiry[first + step]) & (rng.random(first.size) < share)]
        most = np.minimum(left[first], left[first + step])
        first, most = first[most >= 4], most[most >= 4]
        units = 2 + np.floor((most - 1) * rng.random(first.size) ** 2).astype(np.int64)
        side = np.where(rng.random(first.size) < 0.5, 1.0, -1.0)
        # Verticals take two sides; of a call and a put two in three are on one.
        other = -side if step == 2 else np.where(rng.random(first.size) < 0.67, side, -side)
        made.append((np.stack([first, first + step], 1), np.stack([units, units], 1), np.stack([side, other], 1)))
        left[first] -= units
        left[first + step] -= units
    row, units, side = (np.concatenate([part[i] for part in made]).reshape(-1) for i in range(3))
    return _Decisions(row, np.zeros(row.size, np.int64), units, side, np.full(row.size, _FLAGGED, np.int8)), left


def _shared(total: Whole, count: Whole, weight: Floats) -> Whole:
    """Whole numbers from one up, `count` of each total, that add up to it, in proportion to weights."""
    end = np.cumsum(count)
    begin = end - count
    running = np.cumsum(weight)
    base = np.repeat(running[begin] - weight[begin], count)
    share = (running - base) / np.repeat(running[end - 1] - (running[begin] - weight[begin]), count)
    share[end - 1] = 1.0
    upto = np.floor(share * np.repeat(total - count, count)).astype(np.int64)
    upto[end - 1] = total - count
    part = np.diff(upto, prepend=0)
    part[begin] = upto[begin]
    cut: Whole = part + 1
    return cut


def _when(count: int, span: tuple[int, int], rng: np.random.Generator) -> Whole:
    """Milliseconds since the open, more of them after the open and before the close."""
    whole = (dt.datetime.combine(dt.date.min, CLOSE) - dt.datetime.combine(dt.date.min, OPEN)).total_seconds() * 1000
    grid = np.linspace(0.0, 1.0, 2001)
    busy = np.cumsum(1 + 1.8 * (2 * grid - 1) ** 2)
    low, high = np.interp(np.array(span) / whole, grid, busy)
    at = np.floor(whole * np.interp(rng.uniform(low, high, count), busy, grid)).astype(np.int64)
    within: Whole = np.clip(at, span[0], span[1] - 1)
    return within


def _cut(taken: list[Snapshot], made: _Decisions, rng: np.random.Generator) -> _Fills:
    """The fills of a session's decisions: at once, over several venues at once, or one after the other on one."""
    size = made.row.size
    drawn = rng.random(size)
    sweep = (made.contracts >= 10) & (drawn < 0.14) & (made.part == _ALONE)
    split = (made.contracts >= 6) & (drawn > 0.92) & (made.part == _ALONE)
    count = np.where(sweep, rng.integers(2, 7, size), np.where(split, rng.integers(3, 9, size), 1))
    count = np.minimum(count, made.contracts)
    of = np.repeat(np.arange(size), count)
    begin = np.cumsum(count) - count
    contracts = _shared(made.contracts, count, np.exp(0.5 * rng.normal(size=of.size)))
    gap = np.where(
        sweep[of], rng.integers(0, 120, of.size), np.where(split[of], rng.integers(600, 40 * _SECOND, of.size), 0)
    )
    gap[begin] = 0
    waited = np.cumsum(gap)
    at = made.at[of] + waited - waited[begin][of]
    venue = rng.choice(len(VENUES), size, p=_VENUE_SHARES)[of]
    place = np.arange(of.size) - begin[of]
    venue = np.where(sweep[of], (venue + place) % len(VENUES), venue)
    # What would come after the snapshot that counts it is told just before it.
    ends = np.array([since_open(snapshot.taken_at) for snapshot in taken])
    at = np.minimum(at, ends[np.searchsorted(ends, made.at, side="right")][of] - (count[of] - place))
    auction = at < _AUCTION_SECONDS * _SECOND
    late = rng.random(of.size) < 0.003
    conditions = PACKAGE * (made.part[of] == _FLAGGED) + AUCTION * auction + LATE * late
    fills = _Fills(of, at, contracts, venue, conditions)
    cancelled = np.flatnonzero(rng.random(of.size) < 0.001)
    again = _Fills(*(column[cancelled] for column in fills))
    again = again._replace(conditions=again.conditions | CANCELLED)
    return _Fills(*map(np.concatenate, zip(fills, again, strict=True)))


def _cut_planted(planted: Planted) -> _Fills:
    """One fill of each decision, or one on each of its venues, 20 ms apart."""
    of = np.repeat(np.arange(planted.row.size), planted.venues)
    place = np.arange(of.size) - (np.cumsum(planted.venues) - planted.venues)[of]
    even, rest = np.divmod(planted.contracts, planted.venues)
    conditions = PACKAGE * planted.package + CANCELLED * planted.cancelled
    return _Fills(
        of, planted.at[of] + 20 * place, even[of] + (place < rest[of]), (of + place) % len(VENUES), conditions[of]
    )


def _told(
    newest: Snapshot, made: _Decisions, fills: _Fills, quotes: tuple[Floats, Floats], rng: np.random.Generator
) -> pl.DataFrame:
    of, row = fills.of, made.row[fills.of]
    bid, ask = quotes
    expiry = newest.chain.expiry[row]
    fills = _apart(fills, row)
    return pl.DataFrame(
        {
            "session": np.full(of.size, newest.session),
            "name": newest.expiries.name[expiry],
            "at": fills.at + _opened(newest),
            "expiration": newest.expiries.expiration[expiry],
            "strike": newest.chain.strike[row],
            "is_call": newest.chain.is_call[row],
            "venue": fills.venue,
            "conditions": fills.conditions,
            "price": _prices(made.side, bid, ask, rng)[of],
            "contracts": fills.contracts,
            "bid": bid[of],
            "ask": ask[of],
        }
    ).sort("name", "at", maintain_order=True)


def _opened(newest: Snapshot) -> int:
    """Milliseconds from midnight in UTC to the session's open."""
    day = newest.taken_at.astimezone(EXCHANGE_ZONE).date()
    opened = dt.datetime.combine(day, OPEN, EXCHANGE_ZONE).astimezone(dt.UTC)
    return (opened.hour * 3600 + opened.minute * 60) * _SECOND


def _apart(fills: _Fills, row: Whole) -> _Fills:
    """Fills that chance made alike, on different venues: one that is told twice would not count."""
    venue = fills.venue.copy()
    while True:
        alike = pl.DataFrame([row, fills.at, venue, fills.contracts, fills.conditions])
        again = ~alike.select(pl.struct(pl.all()).is_first_distinct()).to_series().to_numpy()
        if not again.any():
            return fills._replace(venue=venue)
        venue[again] = (venue[again] + 1) % len(VENUES)


def _quotes(ground: Ground, taken: list[Snapshot], made: _Decisions, spots: Floats) -> tuple[Floats, Floats]:
    """The quote that each decision met: that of the session's last snapshot that has one, moved by what the price of the stock
    and the time between are worth."""
    newest, row = taken[-1], made.row
    bid, ask, then = (
        values[row].copy() for values in (newest.chain.bid, newest.chain.ask, newest.spot[_owner(newest)])
    )
    hours = np.full(row.size, since_open(newest.taken_at) / 3.6e6)
    for snapshot in taken[-2::-1]:
        missing = np.isnan(bid)
        for values, source in (
            (bid, snapshot.chain.bid),
            (ask, snapshot.chain.ask),
            (then, snapshot.spot[_owner(snapshot)]),
        ):
            values[missing] = source[row][missing]
        hours[missing] = since_open(snapshot.taken_at) / 3.6e6
    name, expiry = newest.expiries.name[newest.chain.expiry[row]], newest.chain.expiry[row]
    strike, is_call = newest.chain.strike[row], newest.chain.is_call[row]
    now = spots[name, np.minimum(made.at // (60 * _SECOND), spots.shape[1] - 1)]
    left = newest.expiries.years[expiry] + (since_open(newest.taken_at) / 3.6e6 - hours) / 8760
    earlier = left + (hours - made.at / 3.6e6) / 8760
    atm, session = newest.expiries.vol[expiry], newest.session
    smile = ground.smiles.rho[name, session], ground.smiles.eta[name, session]

    def value(spot: Floats, years: Floats) -> Floats:
        forward = spot * np.exp((RATE - ground.carry[name]) * years)
        vol = smile_vol(atm, np.log(strike / forward), years, *smile)
        worth: Floats = option_price(
            spot, strike, years, vol, is_call=is_call, rate=RATE, dividend_yield=ground.carry[name]
        )
        return worth

    mid = 0.5 * (bid + ask) + value(now, np.maximum(earlier, left)) - value(then, left)
    tick = np.array([0.1 if n.kind == "index" else 0.01 if n.size == "large" else 0.05 for n in ground.names])[name]
    half = 0.5 * (ask - bid)
    lower = np.maximum(np.floor((mid - half) / tick + 0.5) * tick, 0.0)
    upper = np.maximum(np.ceil((mid + half) / tick - 0.5) * tick, lower + tick)
    return np.round(lower, 2), np.round(upper, 2)


def _owner(snapshot: Snapshot) -> Whole:
    return snapshot.expiries.name[snapshot.chain.expiry]


def _prices(side: Floats, bid: Floats, ask: Floats, rng: np.random.Generator) -> Floats:
    """At the ask, the bid or exactly between them; halves anywhere between mid and their side, to the cent."""
    mid = 0.5 * (bid + ask)
    inside = np.round(mid + 0.5 * side * (ask - bid) * rng.uniform(0.2, 1.8, side.size), 2)
    price = np.where(side >= 1, ask, np.where(side <= -1, bid, np.where(side == 0, mid, inside)))
    # Nothing is sold for nothing.
    paid: Floats = np.maximum(np.where(np.isnan(price), 0.05, np.clip(price, bid, ask)), 0.01)
    return paid
