"""Putting one name's Dossier together from the frame."""

from __future__ import annotations

import datetime as dt

import numpy as np

from flinch.core.calendar import is_monthly
from flinch.core.moves import expected_move
from flinch.core.rules import RuleError
from flinch.core.volatility import (
    LOOKBACK,
    MIN_OBSERVATIONS,
    Estimator,
    historical_vol,
    observed_sessions,
    vol_percentile,
    vol_rank,
)
from flinch.features.dossier.schemas import (
    Dossier,
    ExpiryRow,
    NextReport,
    OverTime,
    OverTimeQuery,
    Standing,
    TenorPoint,
    Today,
    VolatilityYear,
)
from flinch.market import Dictionary, Market
from flinch.screening.columns import Described, describe
from flinch.store.frame import Expiry


def dossier(market: Market, symbol: str, estimator: Estimator, window: int) -> Dossier:
    """The Dossier of `symbol`; raises UnknownName."""
    row = market.row(symbol)
    frame = market.frame
    name = frame.names[row]
    report = market.next_report(row)
    return Dossier(
        symbol=name.symbol,
        company=name.company,
        kind=name.kind,
        sector=name.sector,
        listed_on=name.listed_on,
        market_cap=float(market.metric("market_cap")[row]),
        next_report=report
        and NextReport(session=report.session, timing=report.timing, days=(report.session - market.today).days),
        today=_today(market, row),
        year=_year(market, row, estimator, window),
        standing=_standing(market, row),
        expiries=[expiry_row(market, row, expiry) for expiry in frame.expiries.get(row, [])],
        tenors=[TenorPoint(days=days, vol=100 * float(vols[row, -1])) for days, vols in frame.implied.items()],
    )


def _today(market: Market, row: int) -> Today:
    price, previous = market.frame.close[row, -1], market.frame.close[row, -2]
    expiries = market.readable_expiries(row)

    def metric(key: str) -> float:
        return float(market.metric(key)[row])

    return Today(
        price=price,
        previous_close=previous,
        change=price - previous,
        change_pct=metric("change_pct"),
        one_day_move=metric("one_day_move"),
        one_day_move_pct=metric("one_day_move_pct"),
        next_day_move=metric("next_day_move"),
        next_day_move_pct=metric("next_day_move_pct"),
        priced_by=expiries[0].expiration if expiries else None,
        spent_pct=metric("spent"),
        reason=market.reason("spent", row),
        next_reason=market.reason("next_day_move", row),
    )


def _year(market: Market, row: int, estimator: Estimator, window: int) -> VolatilityYear:
    frame = market.frame
    hv = historical_vol(*frame.bars(row), window, estimator=estimator)
    sessions = [dt.date.fromisoformat(str(day)) for day in frame.sessions[-LOOKBACK:]]
    reports = [report.session for report in frame.reports.get(row, []) if sessions[0] <= report.session <= sessions[-1]]
    return VolatilityYear(
        sessions=sessions,
        iv30=(100 * frame.implied[30][row, -LOOKBACK:]).tolist(),
        hv=(100 * hv[-LOOKBACK:]).tolist(),
        reports=reports,
    )


def _standing(market: Market, row: int) -> Standing:
    year = market.frame.implied[30][row, -LOOKBACK:]
    sessions = market.frame.sessions[-LOOKBACK:]
    seen = np.isfinite(year)
    last = year[-1]
    low, high = (int(np.nanargmin(year)), int(np.nanargmax(year))) if seen.any() else (None, None)

    def at(place: int | None) -> tuple[float | None, dt.date | None]:
        if place is None:
            return None, None
        return 100 * float(year[place]), dt.date.fromisoformat(str(sessions[place]))

    reason = market.reason("iv_rank", row)
    observed = int(observed_sessions(year))
    if reason is None and observed < MIN_OBSERVATIONS:
        reason = f"{observed} sessions observed, {MIN_OBSERVATIONS} are needed"
    return Standing(
        last=100 * last,
        low=at(low)[0],
        low_on=at(low)[1],
        high=at(high)[0],
        high_on=at(high)[1],
        observed=observed,
        below=int((year[:-1][seen[:-1]] < last).sum()),
        rank=float(vol_rank(year)),
        percentile=float(vol_percentile(year)),
        reason=reason,
    )


def name_id(market: Market, row: int) -> int:
    """The store's key of a name."""
    return int(market.frame.ids[row])


def expiry_row(market: Market, row: int, expiry: Expiry) -> ExpiryRow:
    """One listed expiration as the Dossier tells it."""
    price = float(market.frame.close[row, -1])
    move = float(expected_move(price, expiry.vol, expiry.years))
    report = market.next_report(row)
    inside = report is not None and (
        report.session < expiry.expiration or (report.session == expiry.expiration and report.timing == "before_open")
    )
    return ExpiryRow(
        expiration=expiry.expiration,
        days=(expiry.expiration - market.today).days,
        monthly=bool(is_monthly(np.array(expiry.expiration, dtype="datetime64[D]"))),
        vol=100 * expiry.vol,
        forward=expiry.forward,
        forward_from_parity=expiry.forward_from_parity,
        strikes=expiry.strikes,
        move=move,
        move_pct=100 * move / price,
        lower=price - move,
        upper=price + move,
        straddle=expiry.straddle,
        straddle_pct=100 * expiry.straddle / price,
        straddle_strike=expiry.straddle_strike,
        earnings_inside=inside,
        vol_ex_earnings=100 * expiry.vol_ex_earnings,
        quality=expiry.quality,
        flaw=expiry.flaw,
        reason=None if np.isfinite(expiry.vol) else expiry.flaw or "no usable quote near the money",
    )


def over_time(
    market: Market, dictionary: Dictionary, own: dict[str, Described], symbol: str, query: OverTimeQuery
) -> OverTime:
    """A metric or expression of one name in every session; raises UnknownName and RuleError."""
    row = market.row(symbol)
    node = dictionary.read(query.expression).node
    if node.kind == "text":
        raise RuleError("A category has no history. Choose a number or a condition.", 0, len(query.expression))
    values = market.history(node, row)
    said = describe(query.expression.strip(), own, node.kind)
    known = values[np.isfinite(values)]
    reference = query.reference
    if reference is None and node.kind == "number" and known.size:
        reference = float(known[-1])
    line = 0.5 if node.kind == "condition" or reference is None else reference
    return OverTime(
        symbol=market.frame.names[row].symbol,
        expression=query.expression,
        label=said.label,
        unit=said.unit,
        decimals=said.decimals,
        kind=node.kind,
        scale=said.scale,
        sessions=[dt.date.fromisoformat(str(day)) for day in market.frame.sessions],
        values=values.tolist(),
        reference=reference,
        known=int(known.size),
        above=int((known > line).sum()),
        reason=market.reasons(node, market.newest).get(row),
    )
