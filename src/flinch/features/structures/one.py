"""One structure: its payoff over prices and time, what three opinions say of it, and what may happen before it ends."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray
from flinch.core.calendar import is_monthly
from flinch.core.rules import percent
from flinch.core.structures import (
    OPINIONS,
    Corners,
    Outcomes,
    Quotes,
    Surface,
    bounds,
    breakevens,
    capital,
    chance_below,
    ending_corners,
    ending_worth,
    expiry_payoff,
    extremes,
    structure_greeks,
    value,
    verdict,
)
from flinch.core.structures.flags import THIN_INTEREST, pinned, thin, wide
from flinch.core.structures.notation import leg_words, read_legs, write_legs
from flinch.core.volatility import smile_vol
from flinch.features.structures.legs import OwnLegs, label_of, name_board, name_surface, own_legs, problem_of, quoted
from flinch.features.structures.one_schemas import (
    Breakeven,
    ExpirationView,
    Flag,
    GreeksAt,
    Judged,
    LegView,
    OneAsked,
    OneReply,
    Payoff,
    PriceMark,
    WhatIf,
)
from flinch.market import Dictionary, View
from flinch.market.boards import Board
from flinch.store.market.chain import read_declared

PRICES, STRETCHES = 161, 40
_REACH = 3.5
"""Expected moves to the first expiration that prices reach either way, at least."""
_GRID = 0.001
_DAYS_A_YEAR = 365


def look_at_one(view: View, dictionary: Dictionary, asked: OneAsked) -> OneReply:
    """One structure; raises UnknownName, BadLegs, NoQuotes."""
    row = view.row(asked.symbol)
    board = name_board(view, row)
    surface, spot = name_surface(view, board, row), view.price(row)
    multiplier = float(board.terms.multiplier[0])
    own = own_legs(view, board, read_legs(asked.legs), row)
    other = None if asked.against is None else own_legs(view, board, read_legs(asked.against), row)
    first = _first(own, board)
    end = float(board.terms.years[first])
    days = end * _DAYS_A_YEAR
    ahead = min(days, 0.5 * days if asked.ahead is None else asked.ahead)
    move = spot * float(board.terms.deviation[first])
    prices = _prices(spot, move, [own, *([other] if other else [])])
    wanted = np.zeros(len(board.expiries), dtype=bool)
    wanted[first] = True
    opinions = view.version.keep(
        ("one opinions", view.last, row, first, asked.scaled), lambda: board.opinions(wanted, scaled=asked.scaled), 60
    )
    edges = np.linspace(prices[0], prices[-1], STRETCHES + 1)
    at = _At(
        view, board, surface, spot, multiplier, first, end, move, opinions, prices, edges, ahead / _DAYS_A_YEAR, asked
    )
    made = _payoff(at, own)
    return OneReply(
        version=view.data_version,
        session=view.today,
        newest=view.is_newest,
        moment=view.as_of,
        symbol=view.name(row).symbol,
        company=view.name(row).company,
        spot=spot,
        exercise=view.exercise(row),
        multiplier=multiplier,
        first=_day(board, first),
        days=days,
        sessions=int(board.sessions[first]),
        ahead=ahead,
        on=(view.as_of + dt.timedelta(days=ahead)).date(),
        shift=asked.shift,
        lower=spot - move,
        upper=spot + move,
        prices=prices.tolist(),
        edges=edges.tolist(),
        structure=made,
        against=None if other is None else _payoff(at, other),
        path=_path(at, own, made.cost),
        what_if=_what_if(at, own, row, made.cost),
        flags=_flags(at, own, row, made),
        marks=_marks(view, dictionary, row),
        expirations=_expirations(board),
    )


class _At(NamedTuple):
    view: View
    board: Board
    surface: Surface
    spot: float
    multiplier: float
    first: int
    end: float
    move: float
    opinions: tuple[Outcomes, Outcomes, Outcomes]
    prices: FloatArray
    edges: FloatArray
    ahead: float
    asked: OneAsked


def _day(board: Board, place: int) -> dt.date:
    day: dt.date = board.date[place].astype(object)
    return day


def _first(own: OwnLegs, board: Board) -> int:
    """Which expiration comes first; of shares alone the nearest one a month away."""
    if not own.legs.expiry.size:
        return int(np.argmin(np.abs(board.days - 30)))
    return int(np.argmin(np.abs(board.terms.years - own.legs.expiry.min())))


def _prices(spot: float, move: float, structures: list[OwnLegs]) -> FloatArray:
    """Prices from well below to well above all strikes and the expected move, the strikes and the spot among them."""
    strikes = np.concatenate([own.legs.strike for own in structures] or [np.empty(0)])
    low = min(spot - _REACH * move, strikes.min(initial=spot) - 0.6 * move)
    high = max(spot + _REACH * move, strikes.max(initial=spot) + 0.6 * move)
    even = np.linspace(max(low, 0.02 * spot), high, PRICES)
    return np.unique(np.concatenate([even, strikes, [spot]]))


# -- what it pays ------------------------------------------------------------------------------------------------------


def _payoff(at: _At, own: OwnLegs) -> Payoff:
    board, legs = at.board, own.legs
    shares = float(own.plain.shares)
    mid, natural = quoted(board, own, at.multiplier, at.spot)
    cost = mid + at.asked.entry * (natural - mid)
    lasting = bool(legs.expiry.size) and float(np.ptp(legs.expiry)) > 1e-9
    corners = _corners(at, own, lasting)
    most, least, edges = _bounds(at, own, corners, cost, lasting)
    needs = capital(legs.quantity, legs.is_call, legs.strike, shares, cost, at.spot, least, multiplier=at.multiplier)
    worth = {
        key: value(legs, shares, at.prices, time, at.surface, shift, multiplier=at.multiplier)
        if legs.strike.size
        else shares * at.prices
        for key, time, shift in (("end", at.end, 0.0), ("today", 0.0, 0.0), ("between", at.ahead, at.asked.shift / 100))
    }
    if lasting:
        # The line that greatest profit and loss are read from.
        worth["end"] = ending_worth(legs, shares, *_first_end(at), at.prices, multiplier=at.multiplier)
    return Payoff(
        key=f"{at.view.name(int(board.name[0])).symbol} {write_legs(own.plain)}",
        label=label_of(own, at.multiplier),
        words=leg_words(own.plain),
        legs=[_leg(at, own, i) for i in range(legs.strike.size)],
        shares=own.plain.shares,
        problem=problem_of(own),
        mid=mid,
        natural=natural,
        cost=cost,
        quoted_width=2 * (natural - mid),
        max_profit=most if np.isfinite(most) else None,
        max_loss=-least if np.isfinite(least) else None,
        unbounded_profit=bool(np.isposinf(most)),
        unbounded_loss=bool(np.isneginf(least)),
        capital=needs,
        return_on_capital=float(percent(most / needs)) if np.isfinite(most) and needs > 0 else None,
        breakevens=[Breakeven(price=edge, moves=(edge - at.spot) / at.move) for edge in edges],
        at_end=(worth["end"] - cost).tolist(),
        today=(worth["today"] - cost).tolist(),
        between=(worth["between"] - cost).tolist(),
        judged=[_judged(at, own, corners, opinion, cost, natural - mid, least, lasting) for opinion in range(3)],
    )


def _corners(at: _At, own: OwnLegs, lasting: bool) -> Corners:
    """Where a payoff at the first expiration has corners: its strikes, or those of `ending_corners` when legs live on."""
    legs, shares = own.legs, float(own.plain.shares)
    right = shares + at.multiplier * float(legs.quantity[legs.is_call].sum())
    left = shares - at.multiplier * float(legs.quantity[~legs.is_call].sum())
    if not legs.strike.size:
        return Corners(np.array([at.spot]), np.array([shares * at.spot]), left, right)
    if not lasting:
        x = np.unique(legs.strike)
        return Corners(x, expiry_payoff(legs, shares, x, multiplier=at.multiplier), left, right)
    return ending_corners(legs, shares, *_first_end(at), multiplier=at.multiplier)


def _first_end(at: _At) -> tuple[Surface, float, float]:
    """The name's surface, and forward and deviation at the first expiration."""
    terms = at.board.terms
    return at.surface, float(terms.forward[at.first]), float(terms.deviation[at.first])


def _bounds(at: _At, own: OwnLegs, corners: Corners, cost: float, lasting: bool) -> tuple[float, float, list[float]]:
    """Greatest profit and loss, and breakevens."""
    legs, shares = own.legs, float(own.plain.shares)
    if not np.isfinite(cost):
        return float("nan"), float("nan"), []
    if not legs.strike.size:
        return (float("inf"), -cost, [cost / shares]) if shares > 0 else (-cost, float("-inf"), [cost / shares])
    if not lasting:
        most, least = extremes(legs, shares, cost, multiplier=at.multiplier)
        return most, least, breakevens(legs, shares, cost, multiplier=at.multiplier).tolist()
    most, least = bounds(corners.x.size, *corners, cost)
    steps = np.arange(np.log(at.prices[0] / at.spot) / _GRID, np.log(at.prices[-1] / at.spot) / _GRID)
    x = np.unique(np.concatenate([at.spot * np.exp(_GRID * steps), legs.strike]))
    profit = ending_worth(legs, shares, *_first_end(at), x, multiplier=at.multiplier) - cost
    turns = np.flatnonzero((profit[1:] > 0) != (profit[:-1] > 0))
    step = profit[turns] / (profit[turns] - profit[turns + 1])
    return most, least, (x[turns] + step * (x[turns + 1] - x[turns])).tolist()


def _judged(
    at: _At, own: OwnLegs, corners: Corners, place: int, cost: float, half_width: float, least: float, lasting: bool
) -> Judged:
    outcomes, terms = at.opinions[place], at.board.terms
    worst = least * 0.99 if lasting and np.isfinite(least) and least < 0 else least
    said = verdict(
        outcomes, at.first, corners.x, corners.y, left=corners.left, right=corners.right, cost=cost, worst=worst
    )
    discount = float(terms.discount[at.first])
    yielded = own.plain.shares * (at.spot - float(terms.forward[at.first]) * discount)
    expected = said.expected * discount + yielded
    below = chance_below(outcomes, at.first, at.edges)
    # What lies beyond the prices shown belongs to the outermost stretches.
    below[0], below[-1] = (0.0, 1.0) if np.isfinite(below).all() else (np.nan, np.nan)
    return Judged(
        opinion=OPINIONS[place],
        chance_of_profit=float(percent(said.chance_of_profit)),
        chance_of_max_loss=float(percent(said.chance_of_max_loss)),
        expected=expected,
        shortfall=said.shortfall,
        edge=expected - cost,
        edge_pct=float(percent((expected - cost) / (2 * half_width))) if half_width > 0 else None,
        outcomes=percent(np.diff(below)).tolist(),
    )


def _leg(at: _At, own: OwnLegs, i: int) -> LegView:
    leg, row, quotes = own.plain.options[i], int(own.rows[i]), at.board.quotes
    place = int(np.argmin(np.abs(at.board.terms.years - own.legs.expiry[i])))
    forward, years = float(at.board.terms.forward[place]), float(at.board.terms.years[place])
    vol = float(smile_vol(at.board.terms.parameters[place], np.array(years), np.array(np.log(leg.strike / forward))))
    quoted = row >= 0
    return LegView(
        quantity=leg.quantity,
        is_call=leg.is_call,
        strike=leg.strike,
        expiration=leg.expiration,
        days=int(at.board.days[place]),
        bid=float(quotes.bid[row]) if quoted else None,
        ask=float(quotes.ask[row]) if quoted else None,
        mid=float(0.5 * (quotes.bid[row] + quotes.ask[row])) if quoted else None,
        iv=float(percent(vol)),
        delta=float(quotes.delta[row]) if quoted else None,
        open_interest=int(quotes.open_interest[row]) if quoted else None,
        volume=int(quotes.volume[row]) if quoted else None,
        problem=own.problems[i],
    )


# -- over time ---------------------------------------------------------------------------------------------------------


def _path(at: _At, own: OwnLegs, cost: float | None) -> list[GreeksAt]:
    """Profit and sensitivities on some days with price and volatilities as they are."""
    if not own.legs.strike.size or cost is None:
        return []
    end = at.end * _DAYS_A_YEAR
    days = np.minimum(np.unique(np.round(np.array([0, 0.2, 0.4, 0.6, 0.8, 1]) * end, 1)), end)
    told = structure_greeks(
        own.legs, float(own.plain.shares), at.spot, at.surface, days / _DAYS_A_YEAR, multiplier=at.multiplier
    )
    return [
        GreeksAt(
            days=day,
            date=(at.view.as_of + dt.timedelta(days=day)).date(),
            profit=float(told.worth[i]) - cost,
            delta=float(told.delta[i]),
            gamma=float(told.gamma[i]),
            theta=float(told.theta[i]),
            vega=float(told.vega[i]),
        )
        for i, day in enumerate(days.tolist())
    ]


def _what_if(at: _At, own: OwnLegs, row: int, cost: float | None) -> list[WhatIf]:
    """What single changes would add or take, from what it is worth now."""
    if not own.legs.strike.size or cost is None:
        return []
    legs, shares = own.legs, float(own.plain.shares)
    day = float(at.view.metric("next_day_move")[row])

    def worth(spots: FloatArray, time: float, shift: float) -> FloatArray:
        return value(legs, shares, spots, time, at.surface, shift, multiplier=at.multiplier)

    down, now, up = worth(at.spot + day * np.array([-1.0, 0.0, 1.0]), 0.0, 0.0).tolist()
    here = np.array([at.spot])
    later, wider, narrower = (
        float(worth(here, time, shift)[0])
        for time, shift in ((min(1 / _DAYS_A_YEAR, at.end), 0.0), (0.0, 0.01), (0.0, -0.01))
    )
    return [
        WhatIf(words="a day goes by", profit=later - now),
        WhatIf(words="volatility up a point", profit=wider - now),
        WhatIf(words="volatility down a point", profit=narrower - now),
        WhatIf(words="one expected day up", profit=up - now),
        WhatIf(words="one expected day down", profit=down - now),
    ]


# -- what can happen ---------------------------------------------------------------------------------------------------


def _flags(at: _At, own: OwnLegs, row: int, made: Payoff) -> list[Flag]:
    """Facts about a structure, each with its day."""
    view, board, legs = at.view, at.board, own.legs
    out: list[Flag] = []
    report = view.next_report(row)
    if report is not None and board.report[at.first]:
        timing = {"before_open": "before the open", "after_close": "after the close"}.get(report.timing, "")
        out.append(Flag(words=f"a report comes inside, {timing}".rstrip(", "), on=report.session))
    sold = [i for i in range(legs.strike.size) if legs.quantity[i] < 0]
    declared = view.version.keep(
        ("declared", view.last, row),
        lambda: list(read_declared(view.store, [view.id(row)], view.today, view.today).iter_rows()),
        60,
    )
    for _, ex_date, amount in declared:
        for i in sold:
            leg = own.plain.options[i]
            if leg.is_call and leg.strike < at.spot and ex_date <= leg.expiration and view.exercise(row) == "american":
                mid = made.legs[i].mid
                time_value = None if mid is None else mid - (at.spot - leg.strike)
                likely = time_value is not None and amount > time_value
                words = f"ex-dividend {amount:.2f} with the short {leg.strike:g} call in the money"
                out.append(Flag(words=f"{words}: early exercise {'likely' if likely else 'possible'}", on=ex_date))
    day = float(view.metric("next_day_move")[row])
    for i in sold:
        leg = own.plain.options[i]
        if pinned(made.legs[i].days, leg.strike - at.spot, day):
            out.append(Flag(words=f"the short {leg.strike:g} is at the price in its last week", on=leg.expiration))
    if row in board.adjusted:
        out.append(Flag(words="adjusted contracts of this name are listed too: check which one is traded", on=None))
    if made.mid and made.quoted_width and wide(made.quoted_width, made.mid):
        out.append(
            Flag(words=f"its market is {percent(made.quoted_width / abs(made.mid)):.0f} % of what it is worth", on=None)
        )
    few = [leg for leg in made.legs if leg.open_interest is not None and thin(leg.open_interest)]
    if few:
        words = ", ".join(f"{leg.strike:g} {'C' if leg.is_call else 'P'} ({leg.open_interest})" for leg in few)
        out.append(Flag(words=f"fewer than {THIN_INTEREST} contracts open: {words}", on=None))
    if made.unbounded_loss:
        out.append(
            Flag(words="its loss has no bound: capital is the exchanges' minimum, not what can be lost", on=None)
        )
    return out


_MARKS = {
    "month_anchor + month_half_width": "month's upper edge",
    "month_anchor - month_half_width": "month's lower edge",
    "week_anchor + week_half_width": "week's upper edge",
    "week_anchor - week_half_width": "week's lower edge",
    "shelf_above": "shelf above",
    "shelf_below": "shelf below",
    "line_above_price": "own line above",
    "line_below_price": "own line below",
    "peak_interest_strike": "most open interest",
    "flip": "flip",
}


def _marks(view: View, dictionary: Dictionary, row: int) -> list[PriceMark]:
    told = []
    for text, label in _MARKS.items():
        price = float(view.column(dictionary.read(text).node).values[row])
        if np.isfinite(price) and price > 0:
            told.append(PriceMark(label=label, price=price))
    return told


def _expirations(board: Board) -> list[ExpirationView]:
    quotes: Quotes = board.quotes
    out = []
    for place in range(len(board.expiries)):
        mine = quotes.expiration == place
        sides = [quotes.strike[mine & (quotes.is_call == side)].tolist() for side in (True, False)]
        out.append(
            ExpirationView(
                expiration=_day(board, place),
                days=int(board.days[place]),
                monthly=bool(is_monthly(board.date[place], board.view.calendar)),
                calls=sides[0],
                puts=sides[1],
            )
        )
    return out
