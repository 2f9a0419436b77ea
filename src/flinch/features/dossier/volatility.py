"""Dossier, volatility: implied against historical, smiles, term structure, the cone, the forecast, past reports."""

from __future__ import annotations

import datetime as dt

import numpy as np
import polars as pl
from pydantic import BaseModel, Field

from flinch.core.arrays import FloatArray
from flinch.core.moves import report_moves
from flinch.core.pricing import implied_vol, usable_quote
from flinch.core.rules import percent
from flinch.core.volatility import (
    HORIZONS,
    SHARES,
    Estimator,
    forecast_errors,
    historical_vol,
    session_variance,
    smile_vol,
    volatility_cone,
)
from flinch.features.dossier.schemas import ExpiryRow
from flinch.features.dossier.service import expiry_row
from flinch.market import PLAIN, View
from flinch.store.market.chain import read_chain, read_dividends
from flinch.store.market.surfaces import Expiry
from flinch.store.reading import numbers

_CURVE_POINTS = 41
_QUOTES_KEPT = 600
"""Names whose quotes are kept as volatilities: some 30 kB each."""


class VolatilityHistory(BaseModel):
    """Every session held, percent points."""

    sessions: list[dt.date]
    iv30: list[float | None]
    iv30_ex_earnings: list[float | None]
    hv: list[float | None]
    ratio: list[float | None] = Field(description="Implied over historical")
    ratio_percentile: list[float | None] = Field(description="Of the ratio within its own 252 sessions")
    iv_percentile: list[float | None]
    reports: list[dt.date]
    ex_dates: list[dt.date]


class SmileQuote(BaseModel):
    """An out-of-the-money option's quotes as volatilities, percent points."""

    strike: float
    is_call: bool
    bid: float | None
    ask: float | None
    mid: float | None
    used: bool = Field(description="Narrow enough to take part in the fit")


class Smile(BaseModel):
    """One expiration's quotes and the curve through them."""

    expiration: dt.date
    days: int
    forward: float | None
    carry: float | None = Field(
        description="Implied yield: dividends and the cost of borrowing the stock, percent a year"
    )
    quality: float | None
    flaw: str
    marks: list[float | None] = Field(description="Strikes one deviation below the forward, at it, and one above")
    quotes: list[SmileQuote]
    strikes: list[float] = Field(description="Of the fitted curve")
    deviations: list[float | None] = Field(description="The same in standard deviations from the forward")
    vols: list[float | None] = Field(description="Fitted, percent points")


class ConePart(BaseModel):
    """One horizon of the cone, percent points; `quantiles` are at the shares of `Cone`."""

    sessions: int
    quantiles: list[float | None]
    last: float | None
    windows: int


class Cone(BaseModel):
    shares: list[int]
    parts: list[ConePart]


class PastReport(BaseModel):
    """A report that is over: what options priced for it and what the price did, percent."""

    session: dt.date
    timing: str
    priced: float | None = Field(description="One standard deviation, at the last close before the reaction")
    moved: float | None
    ratio: float | None = Field(description="Size of the move over the priced one")
    won: str | None = Field(description="sellers when it moved less than the mean size that was priced, else buyers")


class Forecast(BaseModel):
    """Volatility expected over the next 21 sessions, and how far forecasts were off, percent points."""

    value: float | None
    reason: str | None
    outcomes: int = Field(description="Forecasts of this name with an outcome")
    forecast_error: float | None
    last_error: float | None
    mean_error: float | None
    implied_error: float | None


class VolatilityView(BaseModel):
    symbol: str
    history: VolatilityHistory
    smiles: list[Smile]
    expiries: list[ExpiryRow]
    cone: Cone
    reports: list[PastReport]
    average_priced: float | None
    average_moved: float | None
    forecast: Forecast
    dividend_yield: float | None = Field(
        description="Of the last twelve months' dividends, percent: what of an implied yield they are"
    )


def volatility(view: View, symbol: str, estimator: Estimator, window: int) -> VolatilityView:
    """Everything about one name's volatility; raises UnknownName."""
    row = view.row(symbol)
    expiries = view.expirations(row)
    reports = past_reports(view, row)
    known = [r for r in reports if r.priced is not None and r.moved is not None]
    return VolatilityView(
        symbol=view.name(row).symbol,
        history=_history(view, row, estimator, window),
        smiles=_smiles(view, row, expiries),
        expiries=[expiry_row(view, row, expiry) for expiry in expiries],
        cone=_cone(view, row, estimator),
        reports=reports,
        average_priced=float(np.mean([r.priced for r in known])) if known else None,
        average_moved=float(np.mean([abs(r.moved or 0) for r in known])) if known else None,
        forecast=_forecast(view, row),
        dividend_yield=float(view.metric("dividend_yield")[row]),
    )


def _history(view: View, row: int, estimator: Estimator, window: int) -> VolatilityHistory:
    def over_time(text: str) -> FloatArray:
        return view.history(PLAIN.read(text).node, row)

    hv = f'hv({window}, "{estimator}")'
    return VolatilityHistory(
        sessions=view.sessions,
        iv30=over_time("iv30").tolist(),
        iv30_ex_earnings=over_time("iv30_ex_earnings").tolist(),
        hv=percent(historical_vol(*view.prices(row), window, estimator=estimator)).tolist(),
        ratio=over_time(f"iv30 / {hv}").tolist(),
        ratio_percentile=over_time(f"rank_pct(iv30 / {hv}, 252)").tolist(),
        iv_percentile=over_time("iv_percentile").tolist(),
        reports=[r.session for r in view.reports(row) if r.session <= view.today],
        ex_dates=[
            day
            for day in read_dividends(view.store, view.id(row))["ex_date"].to_list()
            if view.date(0) <= day <= view.today
        ],
    )


def _smiles(view: View, row: int, expiries: list[Expiry]) -> list[Smile]:
    # What the quotes of a moment say is found once, not for each look.
    quoted = view.version.keep(("smile quotes", view.last, row), lambda: _quoted(view, row, expiries), _QUOTES_KEPT)
    return [_smile(view, expiry, quoted.filter(pl.col("expiration") == expiry.expiration)) for expiry in expiries]


def _quoted(view: View, row: int, expiries: list[Expiry]) -> pl.DataFrame:
    """Out-of-the-money quotes as volatilities, by expiration and strike. Without a kept chain a smile is its curve alone."""
    chain = read_chain(view.store, view.id(row), view.snapshot.taken_at if view.snapshot else view.as_of)
    terms = pl.DataFrame(
        [(e.expiration, e.forward, e.years, e.carry) for e in expiries],
        schema={"expiration": pl.Date, "forward": pl.Float64, "years": pl.Float64, "carry": pl.Float64},
        orient="row",
    )
    money = (
        chain.join(terms, on="expiration", maintain_order="left")
        .filter(pl.col("is_call") == (pl.col("strike") >= pl.col("forward")))
        .sort("expiration", "strike")
    )
    bid, ask, strike, years, carry = (numbers(money[key]) for key in ("bid", "ask", "strike", "years", "carry"))
    # As the chain does: what each price implies, with early exercise where it is allowed; all at once, over all cores.
    with np.errstate(invalid="ignore", divide="ignore"):
        vols: FloatArray = percent(
            implied_vol(
                np.stack([bid, ask, 0.5 * (bid + ask)]),
                view.price(row),
                strike,
                years,
                is_call=money["is_call"].to_numpy(),
                rate=view.rate,
                dividend_yield=carry,
                exercise=view.exercise(row),
            )
        )
    return money.select("expiration", "strike", "is_call").with_columns(
        pl.Series("used", usable_quote(bid, ask)),
        *[pl.Series(key, side) for key, side in zip(("bid_vol", "ask_vol", "mid_vol"), vols, strict=True)],
    )


def _smile(view: View, expiry: Expiry, rows: pl.DataFrame) -> Smile:
    parameters, years, strike = np.array(expiry.svi), expiry.years, numbers(rows["strike"])
    curve = np.linspace(*_shown(expiry, strike), _CURVE_POINTS)
    moneyness = np.log(curve / expiry.forward)
    vols = smile_vol(np.tile(parameters, (curve.size, 1)), np.full(curve.size, years), moneyness)
    deviation = expiry.vol * float(np.sqrt(max(years, 0)))
    with np.errstate(invalid="ignore", divide="ignore"):
        away = moneyness / deviation
    return Smile(
        expiration=expiry.expiration,
        days=(expiry.expiration - view.today).days,
        forward=expiry.forward,
        carry=percent(expiry.carry),
        quality=expiry.quality,
        flaw=expiry.flaw,
        marks=[expiry.forward * float(np.exp(z * deviation)) for z in (-1, 0, 1)],
        quotes=[
            SmileQuote(strike=k, is_call=call, bid=b, ask=a, mid=m, used=u)
            for k, call, b, a, m, u in rows.select(
                "strike", "is_call", "bid_vol", "ask_vol", "mid_vol", "used"
            ).iter_rows()
        ],
        strikes=curve.tolist(),
        deviations=away.tolist(),
        vols=percent(vols).tolist(),
    )  # fmt: skip


def _shown(expiry: Expiry, strike: FloatArray) -> tuple[float, float]:
    """Strikes between which a curve is drawn: those listed, or three deviations where the chain was not kept."""
    if strike.size:
        return float(strike.min()), float(strike.max())
    reach = 3 * expiry.vol * float(np.sqrt(max(expiry.years, 0.0)))
    return expiry.forward * float(np.exp(-reach)), expiry.forward * float(np.exp(reach))


def _cone(view: View, row: int, estimator: Estimator) -> Cone:
    cone = volatility_cone(*view.prices(row), estimator=estimator)
    return Cone(
        shares=list(SHARES),
        parts=[
            ConePart(
                sessions=horizon,
                quantiles=percent(cone.quantiles[place]).tolist(),
                last=percent(float(cone.last[place])),
                windows=int(cone.windows[place]),
            )
            for place, horizon in enumerate(HORIZONS)
        ],
    )


def past_reports(view: View, row: int) -> list[PastReport]:
    """Reports that price has reacted to, with what was priced and what came, newest first."""
    over = [
        (report, reaction)
        for report in view.reports(row)
        if (reaction := view.reaction(report)) is not None and report.session >= view.date(0)
    ]
    places = np.array([reaction for _, reaction in over], dtype=np.int64)
    moves = report_moves(view.prices(row)[3], view.daily("implied_earnings_move", row), places)
    out = [
        PastReport(
            session=report.session,
            timing=report.timing,
            priced=percent(priced),
            moved=percent(moved),
            ratio=ratio,
            won=("sellers" if sellers else "buyers") if np.isfinite(ratio) else None,
        )
        for (report, _), priced, moved, ratio, sellers in zip(
            over, moves.priced, moves.moved, moves.ratio, moves.sellers, strict=True
        )
    ]
    return out[::-1]


def _forecast(view: View, row: int) -> Forecast:
    forecast = view.derived("forecast_vol", row)
    errors = forecast_errors(session_variance(*view.prices(row)), forecast, view.implied(30, row))
    return Forecast(
        value=float(view.metric("forecast_vol")[row]),
        reason=view.reason("forecast_vol", row),
        outcomes=errors.outcomes,
        forecast_error=percent(errors.forecast),
        last_error=percent(errors.last),
        mean_error=percent(errors.long_mean),
        implied_error=percent(errors.implied),
    )
