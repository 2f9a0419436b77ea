"""Legs as somebody wrote them, found among a name's quotes: what they cost, or why they cannot be priced."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import IntArray
from flinch.core.structures import (
    BadLegs,
    Legs,
    PlainLeg,
    PlainLegs,
    Surface,
    bounds,
    ending_corners,
    extremes,
    recognise,
)
from flinch.errors import FlinchError
from flinch.market import View
from flinch.market.boards import Board, read_board
from flinch.store.market.chain import read_chain
from flinch.store.reading import numbers

_MOST_DAYS = 1_100


class NoQuotes(FlinchError):
    """Nothing is quoted that a structure could be made of."""

    kind, where = "no_quotes", "as_of"


class OwnLegs(NamedTuple):
    """A structure as the board sees it: rows of the quotes of each leg (-1: no usable quote), and why one is missing."""

    plain: PlainLegs
    legs: Legs
    rows: IntArray
    problems: list[str | None]


def name_board(view: View, row: int) -> Board:
    """All expirations of one name with their usable quotes, made once; raises NoQuotes."""
    return board_of(view, name_boards(view, (row,)), row)


def name_boards(view: View, rows: tuple[int, ...]) -> dict[int, Board]:
    """The same of some names, each read with the others."""

    def read() -> dict[int, Board]:
        nothing = np.full(len(view.frame.names), np.nan)
        board = read_board(view, np.array(rows, np.int64), nothing, _MOST_DAYS)
        return {row: board.only(row) for row in rows}

    if len(rows) == 1:
        return view.version.keep(("board", view.last, rows), read, 24)
    return view.version.keep(("boards", view.last, rows), read, 2)


def name_surface(view: View, board: Board, row: int) -> Surface:
    """The surface of a name's board, made once."""
    return view.version.keep(("surface", view.last, row), lambda: board.surface(row), 24)


def listed_rows(view: View, symbols: list[str]) -> tuple[int, ...]:
    """Rows of those of the symbols that are listed, each once, in order."""
    index = view.frame.index
    return tuple(sorted({index[symbol] for symbol in symbols if symbol in index}))


def board_of(view: View, boards: dict[int, Board], row: int) -> Board:
    """One of the boards; raises NoQuotes."""
    if view.snapshot is None:
        raise NoQuotes("No quotes of this session are kept, so no structure can be priced: choose a later one.")
    if not boards[row].expiries:
        raise NoQuotes(f"{view.name(row).symbol} has no expiration whose volatility can be read.")
    return boards[row]


def own_legs(view: View, board: Board, plain: PlainLegs, row: int) -> OwnLegs:
    """Legs found on the board; raises BadLegs for an expiration that is over or not listed, and a strike that is not listed."""
    rows, problems = [], []
    quotes = board.quotes
    for place, leg in enumerate(plain.options, 1):
        if leg.expiration < view.today:
            raise BadLegs(f"Leg {place} expired on {leg.expiration:%-d %b %Y}: choose a later expiration.", place)
        at = np.flatnonzero(board.date == np.datetime64(leg.expiration, "D"))
        if not at.size:
            near = board.date[np.argsort(np.abs(board.date - np.datetime64(leg.expiration, "D")))[:2]]
            words = " and ".join(f"{day.astype(object):%-d %b %Y}" for day in sorted(near))
            raise BadLegs(
                f"Leg {place} is of {leg.expiration:%-d %b %Y}, which is not listed or has no surface. Nearest are {words}.",
                place,
            )
        side = np.flatnonzero((quotes.expiration == at[0]) & (quotes.is_call == leg.is_call))
        hit = side[np.abs(quotes.strike[side] - leg.strike) < 1e-6]
        rows.append(int(hit[0]) if hit.size else -1)
        problems.append(None if hit.size else _why_not(view, row, leg, place))
    known = {float(day): i for i, day in enumerate(board.date.astype(np.int64))}
    years = [
        float(board.terms.years[known[float(np.datetime64(leg.expiration, "D").astype(np.int64))]])
        for leg in plain.options
    ]
    legs = Legs(
        np.array([leg.quantity for leg in plain.options], np.float64),
        np.array([leg.is_call for leg in plain.options], bool),
        np.array([leg.strike for leg in plain.options], np.float64),
        np.array(years, np.float64),
    )
    return OwnLegs(plain, legs, np.array(rows, np.int64), problems)


def _why_not(view: View, row: int, leg: PlainLeg, place: int) -> str:
    """Why a leg has no usable quote; raises BadLegs when it is not listed at all."""
    assert view.snapshot is not None
    listed = read_chain(view.store, view.id(row), view.snapshot.taken_at, leg.expiration)
    listed = listed.filter(listed["is_call"].cast(bool) == leg.is_call)
    strikes = numbers(listed["strike"])
    name = f"{leg.strike:g} {'call' if leg.is_call else 'put'} of {leg.expiration:%-d %b %Y}"
    hit = np.flatnonzero(np.abs(strikes - leg.strike) < 1e-6)
    if not hit.size:
        near = ", ".join(f"{k:g}" for k in sorted(strikes[np.argsort(np.abs(strikes - leg.strike))[:2]]))
        raise BadLegs(f"Leg {place}: there is no {name}. Nearest strikes are {near}.", place)
    bid, ask = (numbers(listed[side])[hit[0]] for side in ("bid", "ask"))
    if not np.isfinite(bid) or not np.isfinite(ask):
        return f"the {name} is not quoted"
    if bid <= 0:
        return f"nobody bids for the {name}"
    if ask < bid:
        return f"bid above ask for the {name}"
    return f"the market of the {name} is too wide to have a mid"


class Priced(NamedTuple):
    """A structure's label and price; money in $ a unit, None where a leg has no usable quote, as `problem` says."""

    label: str
    mid: float | None
    cost: float | None
    max_profit: float | None
    spot: float
    problem: str | None


def price_legs(view: View, row: int, board: Board, plain: PlainLegs, entry: float = 0.3) -> Priced:
    """What a structure costs now; raises BadLegs."""
    own = own_legs(view, board, plain, row)
    multiplier, spot = float(board.terms.multiplier[0]), view.price(row)
    label, problem = label_of(own, multiplier), problem_of(own)
    mid, natural = quoted(board, own, multiplier, spot)
    if not np.isfinite(mid):
        return Priced(label, None, None, None, spot, problem)
    cost = mid + entry * (natural - mid)
    most = None
    if own.legs.strike.size:
        shares, terms = float(plain.shares), board.terms
        if np.ptp(own.legs.expiry) < 1e-9:
            bound = extremes(own.legs, shares, cost, multiplier=multiplier)[0]
        else:
            first = int(np.argmin(np.abs(terms.years - own.legs.expiry.min())))
            surface, end = name_surface(view, board, row), (float(terms.forward[first]), float(terms.deviation[first]))
            corners = ending_corners(own.legs, shares, surface, *end, multiplier=multiplier)
            bound = bounds(corners.x.size, *corners, cost)[0]
        most = bound if np.isfinite(bound) else None
    return Priced(label, mid, cost, most, spot, problem)


def problem_of(own: OwnLegs) -> str | None:
    """Why a structure cannot be priced, if it cannot."""
    return next((why for why in own.problems if why), None)


def label_of(own: OwnLegs, multiplier: float) -> str:
    """The kind that legs make, in words."""
    legs = own.legs
    found = recognise(
        [leg.quantity for leg in own.plain.options],
        legs.is_call.tolist(),
        legs.strike.tolist(),
        (legs.expiry > legs.expiry.min(initial=np.inf) + 1e-9).tolist(),
        own.plain.shares / multiplier,
    )
    if found is None:
        return "Own structure"
    return found.kind.label if found.units == 1 else f"{found.units} × {found.kind.label}"


def quoted(board: Board, own: OwnLegs, multiplier: float, spot: float) -> tuple[float, float]:
    """Worth at mid and at the worst side of every leg; NaN where a leg has no usable quote."""
    if problem_of(own) is not None:
        return float("nan"), float("nan")
    legs, held = own.legs, own.plain.shares * spot
    bid, ask = board.quotes.bid[own.rows], board.quotes.ask[own.rows]
    mid = multiplier * float((legs.quantity * 0.5 * (bid + ask)).sum()) + held
    return mid, multiplier * float((legs.quantity * np.where(legs.quantity > 0, ask, bid)).sum()) + held
