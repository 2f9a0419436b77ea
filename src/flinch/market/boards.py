"""What structures of some names are made of: quotes, expirations, surfaces and opinions, as a view knows them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import polars as pl
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.pricing import greeks, usable_quote
from flinch.core.rules.catalogue.metric import PERCENT
from flinch.core.structures import (
    Outcomes,
    Quotes,
    Surface,
    Terms,
    forecast_outcomes,
    market_outcomes,
    past_outcomes,
    variance_left,
    with_levels,
)
from flinch.core.volatility import smile_vol
from flinch.market.forecasts import forecast_spread
from flinch.market.reports import reports_inside
from flinch.market.view import View
from flinch.store.market.chain import read_declared, read_some_contracts
from flinch.store.market.surfaces import Expiry
from flinch.store.reading import numbers

_DAY_SECONDS = (16 - 9.5) * 3600
_YEAR_MINUTES = 525_600


@dataclass(frozen=True)
class Board:
    """Expirations of some names (by name and time) and their options that can be traded (by expiration, puts first, by strike).

    `name` is the row in the frame of each expiration, `date` its day, `sessions` the trading sessions until then, `report`
    whether the next report comes before it ends, `dividend` whether a declared dividend does. `left_out` counts options without
    a usable quote. `adjusted` are rows of names with adjusted contracts.
    """

    view: View
    expiries: list[Expiry]
    name: IntArray
    date: NDArray[np.datetime64]
    days: IntArray
    sessions: IntArray
    report: BoolArray
    dividend: BoolArray
    spot: FloatArray
    quotes: Quotes
    left_out: int
    adjusted: frozenset[int]
    target: FloatArray

    def only(self, row: int) -> Board:
        """The board of one of its names; `left_out` is not told apart."""
        mine = np.flatnonzero(self.name == row)
        cut = slice(int(mine[0]), int(mine[-1]) + 1) if mine.size else slice(0, 0)
        inside = slice(*np.searchsorted(self.quotes.expiration, [cut.start, cut.stop]).tolist())
        quotes = self.quotes._replace(**{key: getattr(self.quotes, key)[inside] for key in Quotes._fields})
        return replace(
            self,
            expiries=self.expiries[cut],
            name=self.name[cut],
            date=self.date[cut],
            days=self.days[cut],
            sessions=self.sessions[cut],
            report=self.report[cut],
            dividend=self.dividend[cut],
            spot=self.spot[cut],
            quotes=quotes._replace(expiration=quotes.expiration - cut.start),
            target=self.target[cut],
        )

    @cached_property
    def terms(self) -> Terms:
        """What the core asks of each expiration."""
        keys = ("years", "forward", "vol", "carry")
        field = {key: np.array([getattr(e, key) for e in self.expiries], np.float64) for key in keys}
        view, frame = self.view, self.view.frame
        return Terms(
            years=field["years"],
            spot=self.spot,
            forward=field["forward"],
            discount=np.exp(-view.rate * field["years"]),
            deviation=field["vol"] * np.sqrt(field["years"]),
            carry=field["carry"],
            multiplier=frame.multiplier[self.name].astype(np.float64),
            target=self.target,
            parameters=np.array([e.svi for e in self.expiries], np.float64).reshape(-1, 5),
            rate=view.rate,
            american=np.array([view.exercise(int(row)) == "american" for row in self.name], np.float64),
        )

    @cached_property
    def market(self) -> Outcomes:
        """What the fitted smiles imply at every expiration."""
        return market_outcomes(self.terms.parameters, self.terms.years, self.terms.forward)

    def surface(self, row: int, near_ones: BoolArray | None = None) -> Surface:
        """The surface of a name; later volatilities agree with what options cost today, when one of `near_ones` (places of the
        board; none: any) ends."""
        terms = self.terms
        mine = np.flatnonzero(self.name == row)
        surface = Surface(
            terms.years[mine],
            terms.carry[mine],
            terms.parameters[mine],
            self.view.rate,
            self.view.exercise(row),
            reaction_years(self.view, row),
            float((self.view.metric("implied_earnings_move")[row] / PERCENT) ** 2),
        )
        return with_levels(surface, self.market, mine, None if near_ones is None else near_ones[mine])

    def remaining(self, near: IntArray, far: IntArray) -> FloatArray:
        """Variance that is left of later expirations when nearer ones of the same name end."""
        pairs, place = np.unique(near * len(self.expiries) + far, return_inverse=True)
        one, other = np.divmod(pairs, len(self.expiries))
        ends = np.zeros(len(self.expiries), dtype=bool)
        ends[one] = True
        left = np.empty(pairs.size)
        for row in np.unique(self.name[one]).tolist():
            mine = self.name[one] == row
            first = int(np.searchsorted(self.name, row))
            left[mine] = variance_left(self.surface(row, ends), one[mine] - first, other[mine] - first)
        found: FloatArray = left[place]
        return found

    def opinions(self, wanted: BoolArray, *, scaled: bool = False) -> tuple[Outcomes, Outcomes, Outcomes]:
        """The three opinions of the price at the wanted expirations; nothing of the others. `scaled` gives the past the spread of
        the forecast."""
        terms = self.terms
        forward = np.where(wanted, terms.forward, np.nan)
        here = np.full(self.name.size, self.view.last)
        deviation, tail = forecast_spread(
            self.view, self.name, here, (self.sessions + session_left(self.view)).astype(np.float64), self.report
        )
        forecast = forecast_outcomes(deviation, tail, forward)
        tables = [np.full(part.shape, np.nan) for part in self.market]
        for row in np.unique(self.name[wanted]).tolist():
            mine = np.flatnonzero((self.name == row) & wanted)
            past = past_outcomes(
                np.ascontiguousarray(self.view.frame.close[row], np.float64),
                self.sessions[mine],
                forward[mine],
                deviation=deviation[mine] if scaled else None,
            )
            for table, part in zip(tables, past, strict=True):
                table[mine] = part
        return self.market, Outcomes(*tables), forecast


def session_left(view: View) -> float:
    """The share of the view's session that is still to come, 0 when it is over."""
    now = view.as_of
    close = view.hours.closes(now.date())
    return float(np.clip((close - now).total_seconds() / _DAY_SECONDS, 0.0, 1.0))


def reaction_years(view: View, row: int) -> float:
    """Time until price reacts to a name's next report, in years; NaN without one."""
    report = view.next_report(row)
    if report is None:
        return float("nan")
    day = np.datetime64(report.session, "D")
    if report.timing != "before_open":
        ahead = view.calendar[view.calendar > day]
        if not ahead.size:
            return float("nan")
        day = ahead[0]
    opened = view.hours.opens(day.astype(object))
    return max((opened - view.as_of).total_seconds() / 60 / _YEAR_MINUTES, 0.0)


def read_board(view: View, rows: IntArray, target: FloatArray, most_days: int) -> Board:
    """The board of some names, rows of the frame in order, up to so many days ahead; empty where the view has no chain.

    `target` is the price that a search is about, by row of the frame; NaN: none.
    """
    taken = view.snapshot
    expiries: list[Expiry] = []
    owner: list[int] = []
    for row in rows.tolist() if taken is not None else []:
        for expiry in view.expirations(row):
            ahead = (expiry.expiration - view.today).days
            if np.isfinite(expiry.vol) and expiry.years > 0 and ahead <= most_days:
                expiries.append(expiry)
                owner.append(row)
    name = np.array(owner, np.int64)
    date = np.array([e.expiration for e in expiries], dtype="datetime64[D]")
    today = np.datetime64(view.today, "D")
    ids = view.frame.ids
    calendar = view.calendar
    sessions = np.searchsorted(calendar, date, "right") - np.searchsorted(calendar, today, "right")
    report = reports_inside(view.frame.reports, name, np.full(name.size, today), date)
    dividend = np.zeros(name.size, dtype=bool)
    quotes, left_out, adjusted = _no_quotes(), 0, frozenset[int]()
    if taken is not None and name.size:
        used = np.unique(name)
        ahead_days = read_declared(view.store, ids[used].tolist(), view.today, view.today)
        for name_id, ex_date, _ in ahead_days.iter_rows():
            dividend |= (ids[name] == name_id) & (date >= np.datetime64(ex_date, "D"))
        contracts = read_some_contracts(view.store, taken.taken_at, ids[used].tolist())
        changed = contracts.filter(contracts["adjusted"])["name_id"].unique().to_numpy()
        adjusted = frozenset(np.searchsorted(ids, changed).tolist())
        quotes, left_out = _quotes(view, contracts, ids[name], date, expiries, view.frame.close[name, view.last])
    spot = view.frame.close[name, view.last].astype(np.float64) if name.size else np.empty(0)
    return Board(
        view, expiries, name, date, (date - today).astype(np.int64), sessions.astype(np.int64), report, dividend, spot, quotes,
        left_out, adjusted, target[name] if name.size else np.empty(0),
    )  # fmt: skip


def _quotes(
    view: View,
    contracts: pl.DataFrame,
    ids: IntArray,
    date: NDArray[np.datetime64],
    expiries: list[Expiry],
    spot: FloatArray,
) -> tuple[Quotes, int]:
    """Options whose quote can be used and whose expiration has a surface, with greeks of the fitted surface."""
    # Expirations come by name and date, so a key of both finds the place of each contract.
    key = ids * 1_000_000 + date.astype(np.int64)
    mine = contracts["name_id"].to_numpy() * 1_000_000 + contracts["expiration"].to_physical().to_numpy()
    place = np.minimum(np.searchsorted(key, mine), key.size - 1)
    bid, ask = numbers(contracts["bid"]), numbers(contracts["ask"])
    listed = key[place] == mine
    fine = listed & usable_quote(bid, ask)
    rows = np.flatnonzero(fine)
    place, is_call = place[rows], contracts["is_call"].to_numpy()[rows].astype(bool)
    strike = numbers(contracts["strike"])[rows]
    order = np.lexsort((strike, is_call, place))
    rows, place, is_call, strike = rows[order], place[order], is_call[order], strike[order]
    field = {
        name: np.array([getattr(e, name) for e in expiries], np.float64)[place]
        for name in ("years", "forward", "carry")
    }
    svi = np.array([e.svi for e in expiries], np.float64)[place]
    with np.errstate(invalid="ignore", divide="ignore"):
        vol = smile_vol(svi, field["years"], np.log(strike / field["forward"]))
    slopes = greeks(
        spot[place].astype(np.float64), strike, field["years"], vol, is_call=is_call, rate=view.rate,
        dividend_yield=field["carry"]
    )  # fmt: skip
    quotes = Quotes(
        place.astype(np.int64), is_call, strike, bid[rows], ask[rows], slopes.delta, slopes.gamma, slopes.theta, slopes.vega,
        numbers(contracts["open_interest"])[rows], numbers(contracts["volume"])[rows],
    )  # fmt: skip
    return quotes, int(listed.sum() - fine.sum())


def _no_quotes() -> Quotes:
    nothing = np.empty(0)
    return Quotes(np.empty(0, np.int64), np.empty(0, bool), *[nothing] * 9)
