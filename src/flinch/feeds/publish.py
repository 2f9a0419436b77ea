"""Publish: compute what depends on the newest chain, and write it where the frame reads it."""

from __future__ import annotations

import datetime as dt
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import polars as pl
from sqlalchemy import Engine

from flinch.core.calendar import is_monthly
from flinch.core.moves import cycle_ends, cycles
from flinch.core.volatility import constant_maturity_vol, ex_earnings, reports_before
from flinch.core.volatility.chain import FLAWS, ChainQuotes, ExpirySummary, summarise_expiries, typical_width
from flinch.store.bulk import replace_rows
from flinch.store.facts import dividends_ahead, next_reactions
from flinch.store.frame import TENORS, read_calendar, read_names, read_option_totals, read_quotes, read_spots
from flinch.store.market_state import read_state
from flinch.store.models import SVI_COLUMNS, ExpiryVolatility, OptionDay, VolatilityDay
from flinch.store.reading import dates, numbers

_ZONE = ZoneInfo("America/New_York")


def publish(engine: Engine) -> None:
    """Fit every name's surface to the newest chain; write the session's volatility and option activity.

    One pass over all contracts; running it twice writes the same rows.
    """
    state = read_state(engine)
    if state is None:
        raise RuntimeError("no market is loaded")
    session = state.as_of.astimezone(_ZONE).date()
    quotes = read_quotes(engine, state.as_of)
    names = read_names(engine)
    spots = read_spots(engine, session)
    groups = quotes.select("name_id", "expiration").unique(maintain_order=True).with_row_index("group")
    rows = quotes.join(groups, on=["name_id", "expiration"], maintain_order="left")
    groups = groups.join(spots, on="name_id", how="left", maintain_order="left")
    instants = [dt.datetime.combine(day, dt.time(16), _ZONE) for day in groups["expiration"]]
    years = np.array([(instant - state.as_of).total_seconds() / 60 / 525_600 for instant in instants])
    chain = ChainQuotes(
        rows["group"].cast(pl.Int64).to_numpy(),
        numbers(rows["strike"]),
        *[numbers(rows[f"{side}_{quote}"]) for side in ("call", "put") for quote in ("bid", "ask")],
    )
    spot = numbers(groups["close"])
    owner = np.searchsorted(names["id"].to_numpy(), groups["name_id"].to_numpy())
    summary = summarise_expiries(
        chain,
        name=owner,
        spot=spot,
        years=years,
        rate=state.rate,
        american=(names["kind"] != "index").to_numpy()[owner],
        dividends=dividends_ahead(engine, session, groups, state.rate),
    )
    # One row a name, one column an expiry in date order.
    place = np.arange(owner.size) - np.searchsorted(owner, owner)
    width = int(place.max(initial=0)) + 1

    def table(values: np.ndarray) -> np.ndarray:
        out = np.full((names.height, width), np.nan)
        out[owner, place] = values
        return out

    expirations = dates(groups["expiration"])
    days = (expirations - np.datetime64(session, "D")).astype(np.float64)
    # An expiration of today prices nothing that is still to come.
    ahead = np.where(days > 0, summary.vol, np.nan)
    to_report = next_reactions(engine, names["id"].to_numpy(), session)
    reports = reports_before(np.nan_to_num(table(days)).astype(np.int64), to_report)
    bare = ex_earnings(table(years), table(ahead), reports)
    _write_expiries(engine, session, groups, years, summary, bare.vols[owner, place])

    targets = np.array(TENORS) / 365
    vols = constant_maturity_vol(table(years), table(ahead), targets)
    month = np.array([30 / 365])
    fixed = {
        "iv30_ex_earnings": constant_maturity_vol(table(years), bare.vols, month)[:, 0],
        "implied_earnings_move": bare.move,
        "put_25d": constant_maturity_vol(table(years), table(summary.put_25d), month)[:, 0],
        "call_25d": constant_maturity_vol(table(years), table(summary.call_25d), month)[:, 0],
        "fit_quality": _name_quality(owner, names.height, days, summary),
    }
    calendar = read_calendar(engine)
    here = int(np.searchsorted(calendar, np.datetime64(session, "D")))
    for key, monthly in (("iv_week", False), ("iv_month", True)):
        end = calendar[cycles(cycle_ends(calendar, monthly=monthly)).end[here + 1]]
        fixed[key] = np.full(names.height, np.nan)
        fixed[key][owner[expirations == end]] = ahead[expirations == end]
    fixed["iv_nearest"] = np.full(names.height, np.nan)
    read = np.flatnonzero(np.isfinite(ahead))
    firsts = np.unique(owner[read], return_index=True)
    fixed["iv_nearest"][firsts[0]] = ahead[read[firsts[1]]]
    by_name = names.select(pl.col("id").alias("name_id"), pl.lit(session).alias("session"))
    replace_rows(
        engine,
        VolatilityDay,
        by_name.with_columns(
            [pl.Series(f"iv{tenor}", vols[:, i]) for i, tenor in enumerate(TENORS)]
            + [pl.Series(key, values) for key, values in fixed.items()]
        ),
    )
    totals = read_option_totals(engine, state.as_of)
    counts = [np.bincount(owner, weights, names.height) for weights in (None, ~is_monthly(expirations))]
    strikes = np.bincount(owner[chain.group], minlength=names.height)
    quoted_width = typical_width(chain, owner, spot=spot, years=years, count=names.height)
    replace_rows(
        engine,
        OptionDay,
        by_name.with_columns(
            pl.Series("atm_width", np.round(quoted_width, 3)),
            pl.Series("expirations", counts[0].astype(np.int64)),
            pl.Series("weekly_expirations", counts[1].astype(np.int64)),
            pl.Series("strikes", strikes),
        ).join(totals, on="name_id", how="inner", maintain_order="left"),
    )


def _write_expiries(
    engine: Engine,
    session: dt.date,
    groups: pl.DataFrame,
    years: np.ndarray,
    summary: ExpirySummary,
    without_reports: np.ndarray,
) -> None:
    columns: dict[str, Any] = {
        "years": years,
        "forward": summary.forward,
        "forward_from_parity": summary.forward_from_parity,
        "vol": summary.vol,
        "strikes": summary.fit.strikes,
        "straddle": summary.straddle,
        "straddle_strike": summary.straddle_strike,
        "carry": summary.carry,
        "vol_ex_earnings": without_reports,
        "put_25d": summary.put_25d,
        "call_25d": summary.call_25d,
        "quality": summary.quality,
        "flaw": [FLAWS[code] for code in summary.flaw],
        **{key: summary.fit.parameters[:, i] for i, key in enumerate(SVI_COLUMNS)},
    }
    replace_rows(
        engine,
        ExpiryVolatility,
        groups.select("name_id", pl.lit(session).alias("session"), "expiration").with_columns(
            [pl.Series(key, values) for key, values in columns.items()]
        ),
    )


def _name_quality(owner: np.ndarray, names: int, days: np.ndarray, summary: ExpirySummary) -> np.ndarray:
    """A name's fit quality: the mean of its expirations between a week and a quarter ahead, or of all when none is."""
    known = np.isfinite(summary.quality) & (days > 0)
    near = known & (days >= 7) & (days <= 92)
    chosen = np.where(np.isin(owner, owner[near]), near, known)
    with np.errstate(invalid="ignore"):
        mean: np.ndarray = np.bincount(owner[chosen], summary.quality[chosen], names) / np.bincount(
            owner[chosen], minlength=names
        )
    return mean
