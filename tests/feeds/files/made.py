"""A market of three names, as somebody might have it in files."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import numpy as np
import polars as pl
from sqlalchemy import Engine

from flinch.core.pricing import option_price
from flinch.feeds.files.importing import Asked, Outcome, import_file
from flinch.store.market.calendars import sessions_between

SYMBOLS = ("AVERA", "BONTI", "CELDA")
VOLS = (0.25, 0.4, 0.6)
RATE = 0.03
SESSIONS = sessions_between("XNYS", dt.date(2026, 3, 2), dt.date(2026, 9, 9)).session
TAKEN = dt.datetime(2026, 9, 9, 19, 45, tzinfo=dt.UTC)


def bars() -> pl.DataFrame:
    rng = np.random.default_rng(3)
    parts = []
    for symbol, vol in zip(SYMBOLS, VOLS, strict=True):
        close = np.round(100 * np.exp(np.cumsum(rng.normal(0, vol / 16, SESSIONS.size))), 2)
        open_ = np.round(close * np.exp(rng.normal(0, 0.003, SESSIONS.size)), 2)
        parts.append(
            pl.DataFrame(
                {
                    "symbol": symbol, "session": SESSIONS, "open": open_, "high": np.maximum(open_, close) + 0.5,
                    "low": np.minimum(open_, close) - 0.5, "close": close, "volume": rng.integers(10_000, 90_000, SESSIONS.size),
                }
            )
        )  # fmt: skip
    return pl.concat(parts)


def chain(taken: dt.datetime = TAKEN) -> pl.DataFrame:
    """Quotes of a flat volatility a name, a cent and a half around it."""
    last = bars().group_by("symbol").agg(pl.col("close").last()).sort("symbol")["close"].to_list()
    rows = []
    for symbol, vol, spot in zip(SYMBOLS, VOLS, last, strict=True):
        for expiration in (dt.date(2026, 9, 18), dt.date(2026, 10, 16), dt.date(2026, 12, 18)):
            close = dt.datetime.combine(expiration, dt.time(20 if expiration.month < 11 else 21), dt.UTC)
            years = (close - taken).total_seconds() / 60 / 525_600
            for strike in np.arange(np.ceil(spot * 0.7 / 5) * 5, spot * 1.3, 5.0):
                for right in ("C", "P"):
                    one = option_price(
                        np.array([spot]), np.array([strike]), np.array([years]), np.array([vol]),
                        is_call=np.array([right == "C"]), rate=RATE, dividend_yield=np.array([0.0]), exercise="american",
                    )[0]  # fmt: skip
                    bid, ask = max(round(one - 0.015, 2), 0.0), round(one + 0.015, 2)
                    rows.append((symbol, taken, expiration, strike, right, spot, bid, ask, 10, 500))
    names = [
        "symbol",
        "taken_at",
        "expiration",
        "strike",
        "right",
        "underlying",
        "bid",
        "ask",
        "volume",
        "open_interest",
    ]
    return pl.DataFrame(rows, names, orient="row")


def load(store: Engine, path: Path, **more: object) -> Outcome:
    return import_file(store, Asked(path, **more))


def counts(outcome: Outcome) -> tuple[int, int, int, int]:
    return outcome.added, outcome.changed, outcome.same, outcome.refused
