"""One name's Dossier as of a session."""

from __future__ import annotations

import datetime as dt
import math

import numpy as np

from flinch.core.calendar import is_monthly
from flinch.core.moves import expected_move, overnight_share, variance_gone
from flinch.core.rules import RuleError, percent
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
    SoFar,
    Standing,
    TenorPoint,
    Today,
    VolatilityYear,
)
from flinch.market import Dictionary, View
from flinch.screening.columns import Described, describe
from flinch.store.market.models import TENORS
from flinch.store.market.surfaces import Expiry

_USUAL_DAYS = 63
"""Sessions that tell how much of a day comes before its open."""
NOT_KEPT = "the chain of this session was not kept"


def dossier(view: View, symbol: str, estimator: Estimator, window: int) -> Dossier:
    """The Dossier of `symbol`; raises UnknownName."""
    row = view.row(symbol)
    name, report = view.name(row), view.next_report(row)
    return Dossier(
        session=view.today,
        newest=view.is_newest,
        past=view.past,
        as_of=view.as_of,
        chain_kept=view.snapshot is not None,
        symbol=name.symbol,
        company=name.company,
        kind=name.kind,
        sector=name.sector,
        listed_on=name.listed_on,
        market_cap=float(view.metric("market_cap")[row]),
        next_report=report
        and NextReport(session=report.session, timing=report.timing, days=(report.session - view.today).days),
        today=_today(view, row),
        year=_year(view, row, estimator, window),
        standing=_standing(view, row),
        expiries=[expiry_row(view, row, expiry) for expiry in view.expirations(row)],
        tenors=[TenorPoint(days=days, vol=float(view.metric(f"iv{days}")[row])) for days in TENORS],
    )


def _today(view: View, row: int) -> Today:
    price, previous = view.price(row), view.previous_close(row)
    expiries = view.readable_expirations(row)

    def metric(key: str) -> float:
        return float(view.metric(key)[row])

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
        so_far=_so_far(view, row),
        reason=view.reason("spent", row),
        next_reason=view.reason("next_day_move", row),
    )


def _so_far(view: View, row: int) -> SoFar | None:
    """A day that reacts to a report is left out: what was priced for it came with the report, and not with time."""
    move, priced = float(view.metric("change_pct")[row]), float(view.metric("one_day_move_pct")[row])
    if view.over or not view.ends_version or any(view.reaction(report) == view.last for report in view.reports(row)):
        return None
    before = slice(max(0, view.last - _USUAL_DAYS - 1), view.last)
    overnight = overnight_share(*(field[before] for field in view.prices(row)))
    opened, closes = view.hours.opens(view.as_of.date()), view.hours.closes(view.as_of.date())
    gone = float(variance_gone(overnight, (view.as_of - opened) / (closes - opened)))
    expected = priced * math.sqrt(gone)
    if not expected > 0 or math.isnan(move):
        return None
    return SoFar(
        gone_pct=100 * gone,
        expected_pct=expected,
        spent_pct=100 * abs(move) / expected,
        before_open_pct=100 * float(overnight),
    )


def _year(view: View, row: int, estimator: Estimator, window: int) -> VolatilityYear:
    hv = historical_vol(*view.prices(row), window, estimator=estimator)
    sessions = view.sessions[-LOOKBACK:]
    reports = [report.session for report in view.reports(row) if sessions[0] <= report.session <= view.today]
    return VolatilityYear(
        sessions=sessions,
        iv30=percent(view.implied(30, row)[-LOOKBACK:]).tolist(),
        hv=percent(hv[-LOOKBACK:]).tolist(),
        reports=reports,
    )


def _standing(view: View, row: int) -> Standing:
    year, sessions = view.implied(30, row)[-LOOKBACK:], view.sessions[-LOOKBACK:]
    seen = np.isfinite(year)
    last = year[-1]
    low, high = (int(np.nanargmin(year)), int(np.nanargmax(year))) if seen.any() else (None, None)

    def at(place: int | None) -> tuple[float | None, dt.date | None]:
        if place is None:
            return None, None
        return percent(float(year[place])), sessions[place]

    reason = view.reason("iv_rank", row)
    observed = int(observed_sessions(year))
    if reason is None and observed < MIN_OBSERVATIONS:
        reason = f"{observed} sessions observed, {MIN_OBSERVATIONS} are needed"
    return Standing(
        last=percent(last),
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


def expiry_row(view: View, row: int, expiry: Expiry) -> ExpiryRow:
    """One listed expiration as the Dossier tells it."""
    price = view.price(row)
    move = float(expected_move(price, expiry.vol, expiry.years))
    return ExpiryRow(
        expiration=expiry.expiration,
        days=(expiry.expiration - view.today).days,
        monthly=bool(is_monthly(np.array(expiry.expiration, dtype="datetime64[D]"), view.calendar)),
        vol=percent(expiry.vol),
        forward=expiry.forward,
        forward_from_parity=expiry.forward_from_parity,
        strikes=expiry.strikes,
        move=move,
        move_pct=percent(move / price),
        lower=price - move,
        upper=price + move,
        straddle=expiry.straddle,
        straddle_pct=percent(expiry.straddle / price),
        straddle_strike=expiry.straddle_strike,
        earnings_inside=view.report_inside(row, expiry.expiration),
        vol_ex_earnings=percent(expiry.vol_ex_earnings),
        quality=expiry.quality,
        flaw=expiry.flaw,
        reason=None if np.isfinite(expiry.vol) else expiry.flaw or "no usable quote near the money",
    )


def over_time(
    view: View, dictionary: Dictionary, own: dict[str, Described], symbol: str, query: OverTimeQuery
) -> OverTime:
    """A metric or expression of one name in every session; raises UnknownName and RuleError."""
    row = view.row(symbol)
    node = dictionary.read(query.expression).node
    if node.kind == "text":
        raise RuleError("A category has no history. Choose a number or a condition.", 0, len(query.expression))
    values = view.history(node, row)
    described = describe(query.expression.strip(), own, node.kind)
    known = values[np.isfinite(values)]
    reference = query.reference
    if reference is None and node.kind == "number" and known.size:
        reference = float(known[-1])
    line = 0.5 if node.kind == "condition" or reference is None else reference
    return OverTime(
        symbol=view.name(row).symbol,
        expression=query.expression,
        label=described.label,
        unit=described.unit,
        decimals=described.decimals,
        kind=node.kind,
        scale=described.scale,
        sessions=view.sessions,
        values=values.tolist(),
        reference=reference,
        known=int(known.size),
        above=int((known > line).sum()),
        reason=view.reasons(node).get(row),
    )
