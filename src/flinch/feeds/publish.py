"""Publish: compute what depends on the newest chain, and write it where the frame reads it."""

from __future__ import annotations

import datetime as dt
from zoneinfo import ZoneInfo

import numpy as np
import polars as pl
from sqlalchemy import Engine

from flinch.core.calendar import is_monthly
from flinch.core.volatility import constant_maturity_vol
from flinch.core.volatility.chain import ChainQuotes, summarise_expiries, typical_width
from flinch.store.bulk import replace_rows
from flinch.store.frame import TENORS, read_names, read_option_totals, read_quotes, read_spots
from flinch.store.market_state import read_state
from flinch.store.models import ExpiryVolatility, OptionDay, VolatilityDay
from flinch.store.reading import dates, numbers

_ZONE = ZoneInfo("America/New_York")


def publish(engine: Engine) -> None:
    """Read every expiry's forward, volatility and straddle out of the newest chain; write the session's volatility and activity.

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

    def column(name: str) -> np.ndarray[tuple[int], np.dtype[np.float64]]:
        return numbers(rows[name])

    chain = ChainQuotes(
        rows["group"].cast(pl.Int64).to_numpy(),
        column("strike"),
        *[column(f"{side}_{quote}") for side in ("call", "put") for quote in ("bid", "ask")],
    )
    spot = numbers(groups["close"])
    summary = summarise_expiries(chain, spot=spot, years=years, rate=state.rate)
    replace_rows(
        engine,
        ExpiryVolatility,
        groups.select("name_id", pl.lit(session).alias("session"), "expiration").with_columns(
            pl.Series("years", years),
            pl.Series("forward", summary.forward),
            pl.Series("forward_from_parity", summary.forward_from_parity),
            pl.Series("vol", summary.vol),
            pl.Series("strikes", summary.strikes),
            pl.Series("straddle", summary.straddle),
            pl.Series("straddle_strike", summary.straddle_strike),
        ),
    )
    # One row a name, one column an expiry in date order.
    owner = np.searchsorted(names["id"].to_numpy(), groups["name_id"].to_numpy())
    place = np.arange(owner.size) - np.searchsorted(owner, owner)
    table = np.full((2, names.height, place.max(initial=0) + 1), np.nan)
    table[:, owner, place] = years, summary.vol
    vols = constant_maturity_vol(table[0], table[1], np.array(TENORS) / 365)
    nearest = np.full(names.height, np.nan)
    read = np.flatnonzero(np.isfinite(summary.vol))
    firsts = np.unique(owner[read], return_index=True)
    nearest[firsts[0]] = summary.vol[read[firsts[1]]]
    replace_rows(
        engine,
        VolatilityDay,
        names.select(pl.col("id").alias("name_id"), pl.lit(session).alias("session")).with_columns(
            [pl.Series(f"iv{days}", vols[:, i]) for i, days in enumerate(TENORS)] + [pl.Series("iv_nearest", nearest)]
        ),
    )
    totals = read_option_totals(engine, state.as_of)
    expirations = dates(groups["expiration"])
    counts = [np.bincount(owner, weights, names.height) for weights in (None, ~is_monthly(expirations))]
    strikes = np.bincount(owner[chain.group], minlength=names.height)
    width = typical_width(chain, owner, spot=spot, years=years, count=names.height)
    replace_rows(
        engine,
        OptionDay,
        names.select(pl.col("id").alias("name_id"), pl.lit(session).alias("session"))
        .with_columns(
            pl.Series("atm_width", np.round(width, 3)),
            pl.Series("expirations", counts[0].astype(np.int64)),
            pl.Series("weekly_expirations", counts[1].astype(np.int64)),
            pl.Series("strikes", strikes),
        )
        .join(totals, on="name_id", how="inner", maintain_order="left"),
    )
