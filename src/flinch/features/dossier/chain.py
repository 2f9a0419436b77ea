"""Dossier, chain: one expiration's contracts, both sides, with what the surface says about each."""

from __future__ import annotations

import datetime as dt
from typing import Any, NamedTuple

import numpy as np
import polars as pl
from pydantic import BaseModel, Field

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.moves import expected_move
from flinch.core.pricing import Exercise, Greeks, greeks, implied_vol, option_price
from flinch.core.rules import percent
from flinch.core.volatility import smile_vol
from flinch.features.dossier.schemas import ExpiryRow
from flinch.features.dossier.service import NOT_KEPT, expiry_row
from flinch.market import View
from flinch.store.market.chain import read_adjusted, read_chain, read_dividends
from flinch.store.market.looks import read_own_looks
from flinch.store.market.surfaces import Expiry
from flinch.store.reading import numbers

_KEPT = 1_000
"""Expirations whose quotes are kept with what they say: some 10 kB each."""


class Contract(BaseModel):
    """One contract; volatilities in percent points, greeks of the fitted surface per share."""

    bid: float | None
    ask: float | None
    width_pct: float | None = Field(description="Ask less bid in percent of mid")
    iv: float | None = Field(description="Implied by the mid; with early exercise where it is allowed")
    off_fit: float | None = Field(description="Mid less fitted price, $")
    delta: float | None
    gamma: float | None
    theta: float | None
    vega: float | None
    volume: int
    open_interest: int
    why: str | None = Field(description="Why there is no implied volatility")


class ChainRow(BaseModel):
    strike: float
    fit_iv: float | None
    call: Contract | None
    put: Contract | None


class ChainView(BaseModel):
    """One expiration's chain."""

    symbol: str
    exercise: str
    spot: float
    quoted_at: dt.datetime | None = Field(description="When its quotes were looked at, in exchange time")
    expirations: list[ExpiryRow]
    expiration: dt.date | None
    forward: float | None
    quality: float | None
    flaw: str
    lower: float | None = Field(description="Lower edge of the expected move to this expiration")
    upper: float | None
    ex_dates: list[dt.date] = Field(description="Declared ex-dividend dates before this expiration")
    earnings: dt.date | None = Field(description="The next report, when it comes before this expiration")
    adjusted: int = Field(description="Contracts of this name, after a corporate action, that are kept apart")
    rows: list[ChainRow]
    reason: str | None


def chain(view: View, symbol: str, expiration: dt.date | None) -> ChainView:
    """The chain of one expiration, the nearest monthly one unless it is given; raises UnknownName."""
    row = view.row(symbol)
    listed = view.expirations(row)
    tabs = [expiry_row(view, row, expiry) for expiry in listed]
    chosen = next((e for e in listed if e.expiration == expiration), None)
    if chosen is None and listed:
        monthly = [e for e, tab in zip(listed, tabs, strict=True) if tab.monthly]
        chosen = monthly[0] if monthly else listed[0]
    spot = view.price(row)
    exercise = view.exercise(row)
    if chosen is None:
        return ChainView(
            symbol=view.name(row).symbol, exercise=exercise, spot=spot, quoted_at=None, expirations=tabs, expiration=None,
            forward=None, quality=None, flaw="", lower=None, upper=None, ex_dates=[], earnings=None, adjusted=0, rows=[],
            reason="no options are listed",
        )  # fmt: skip
    move = float(expected_move(spot, chosen.vol, max(chosen.years, 0.0)))
    report = view.next_report(row)
    dividends = read_dividends(view.store, view.id(row))
    tab = next(t for t in tabs if t.expiration == chosen.expiration)
    ahead = dividends.filter(
        pl.col("ex_date").is_between(view.today, chosen.expiration, closed="right")
        & (pl.col("declared_on") <= view.today)
    )
    return ChainView(
        symbol=view.name(row).symbol,
        exercise=exercise,
        spot=spot,
        quoted_at=_quoted_at(view, row),
        expirations=tabs,
        expiration=chosen.expiration,
        forward=chosen.forward,
        quality=chosen.quality,
        flaw=chosen.flaw,
        lower=spot - move,
        upper=spot + move,
        ex_dates=ahead["ex_date"].to_list(),
        earnings=report.session if report is not None and tab.earnings_inside else None,
        adjusted=_adjusted(view, row),
        rows=_rows(view, row, chosen, spot, exercise) if view.snapshot else [],
        reason=None if view.snapshot else NOT_KEPT,
    )


def _quoted_at(view: View, row: int) -> dt.datetime | None:
    if view.snapshot is None:
        return None
    looked = read_own_looks(view.store, view.snapshot.taken_at, view.id(row))["looked_at"].to_list()
    return looked[0].replace(tzinfo=dt.UTC).astimezone(view.hours.zone) if looked else None


def _adjusted(view: View, row: int) -> int:
    if view.snapshot is None:
        return 0
    return int(read_adjusted(view.store, view.id(row), view.snapshot.taken_at)["contracts"].sum())


class _Said(NamedTuple):
    """What one expiration's quotes say, shape (contracts,): the quotes, and what is told of them; volatilities as decimals."""

    strike: FloatArray
    is_call: BoolArray
    bid: FloatArray
    ask: FloatArray
    volume: IntArray
    open_interest: IntArray
    mid: FloatArray
    vol: FloatArray
    fitted: FloatArray
    price: FloatArray
    slopes: Greeks


def _rows(view: View, row: int, expiry: Expiry, spot: float, exercise: Exercise) -> list[ChainRow]:
    # What the quotes of a moment say is found once, not for each look.
    key = ("chain quotes", view.last, row, expiry.expiration)
    told = view.version.keep(key, lambda: _said(view, row, expiry, spot, exercise), _KEPT)
    with np.errstate(invalid="ignore", divide="ignore"):
        width, off_fit = percent((told.ask - told.bid) / told.mid), told.mid - told.price
    contracts: dict[tuple[float, bool], Contract] = {}
    for i in range(told.strike.size):
        contracts[float(told.strike[i]), bool(told.is_call[i])] = Contract(
            bid=told.bid[i],
            ask=told.ask[i],
            width_pct=width[i],
            iv=percent(told.vol[i]),
            off_fit=off_fit[i],
            delta=told.slopes.delta[i],
            gamma=told.slopes.gamma[i],
            theta=told.slopes.theta[i],
            vega=told.slopes.vega[i],
            volume=int(told.volume[i]),
            open_interest=int(told.open_interest[i]),
            why=_why(told.bid[i], told.ask[i], told.vol[i], expiry.years),
        )
    fit_at = dict(zip(told.strike.tolist(), percent(told.fitted).tolist(), strict=True))
    return [
        ChainRow(strike=k, fit_iv=fit_at[k], call=contracts.get((k, True)), put=contracts.get((k, False)))
        for k in sorted(fit_at)
    ]


def _said(view: View, row: int, expiry: Expiry, spot: float, exercise: Exercise) -> _Said:
    assert view.snapshot is not None
    quotes = read_chain(view.store, view.id(row), view.snapshot.taken_at, expiry.expiration)
    strike, is_call = numbers(quotes["strike"]), quotes["is_call"].to_numpy()
    bid, ask = numbers(quotes["bid"]), numbers(quotes["ask"])
    with np.errstate(invalid="ignore", divide="ignore"):
        fitted = smile_vol(
            np.tile(np.array(expiry.svi), (strike.size, 1)),
            np.full(strike.size, expiry.years),
            np.log(strike / expiry.forward),
        )
        mid = np.where((bid > 0) & (ask >= bid), 0.5 * (bid + ask), np.nan)
        at = (spot, strike, expiry.years)
        kind: dict[str, Any] = {"is_call": is_call, "rate": view.rate, "dividend_yield": expiry.carry}
        return _Said(
            strike,
            is_call,
            bid,
            ask,
            quotes["volume"].to_numpy(),
            quotes["open_interest"].to_numpy(),
            mid,
            implied_vol(mid, *at, **kind, exercise=exercise),
            fitted,
            option_price(*at, fitted, **kind, exercise=exercise),
            greeks(*at, fitted, **kind, exercise=exercise),
        )


def _why(bid: float, ask: float, vol: float, years: float) -> str | None:
    if np.isfinite(vol):
        return None
    if years <= 0:
        return "this expiration is over"
    if np.isnan(bid) or np.isnan(ask):
        return "not quoted"
    if bid <= 0:
        return "nobody bids"
    if ask < bid:
        return "bid above ask"
    return "the mid is at or below the value of exercise"
