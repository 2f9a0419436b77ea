"""The fills of a session that count, what was wrong with those told, and how they are told to a reader."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, fields
from typing import Any

import numpy as np
import polars as pl

from flinch.store.market.tape import CANCELLED, LATE

KEY = ("name_id", "expiration", "strike", "is_call")
"""What a contract is known by."""


@dataclass(frozen=True)
class Doubts:
    """Fills that are not what they should be. The first four do not count; the others do."""

    cancelled: int
    no_size: int
    doubled: int
    not_listed: int
    late: int
    out_of_order: int
    no_quote: int
    locked: int

    @property
    def left_out(self) -> int:
        """How many do not count."""
        return self.cancelled + self.no_size + self.doubled + self.not_listed


WORDS = {
    "cancelled": "cancelled",
    "no_size": "without a size above zero",
    "doubled": "told twice",
    "not_listed": "in a contract that is not listed",
    "late": "told late",
    "out_of_order": "out of order",
    "no_quote": "without a usable quote",
    "locked": "at a locked market",
}
assert list(WORDS) == [field.name for field in fields(Doubts)]


def clean(told: pl.DataFrame, contracts: pl.DataFrame) -> tuple[pl.DataFrame, Doubts]:
    """The fills that count, in order of time, with the row of their contract; and what was wrong with those told."""
    at, owner = told["at"].to_numpy(), told["name_id"].to_numpy()
    condition = pl.col("conditions")
    listed = contracts.select(KEY).with_row_index("contract")
    rows = told.join(listed, on=KEY, how="left", maintain_order="left").with_columns(
        twice=~pl.struct(told.columns).is_first_distinct()
    )
    cancelled = condition & CANCELLED > 0
    no_size = ~cancelled & (pl.col("contracts") <= 0)
    doubled = ~cancelled & ~no_size & pl.col("twice")
    unlisted = ~cancelled & ~no_size & ~doubled & pl.col("contract").is_null()
    counted = rows.filter(~(cancelled | no_size | doubled | unlisted))
    bid, ask = pl.col("bid"), pl.col("ask")
    quoted = bid.is_not_nan() & ask.is_not_nan() & (bid <= ask)

    def count(rows: pl.DataFrame, which: pl.Expr) -> int:
        return int(rows.select(which.fill_null(value=False).sum()).item())

    doubts = Doubts(
        cancelled=count(rows, cancelled),
        no_size=count(rows, no_size),
        doubled=count(rows, doubled),
        not_listed=count(rows, unlisted),
        late=count(counted, condition & LATE > 0),
        out_of_order=int(((np.diff(at) < 0) & (np.diff(owner) == 0)).sum()),
        no_quote=count(counted, ~quoted),
        locked=count(counted, quoted & (bid == ask)),
    )
    return counted.drop("twice").sort("at", maintain_order=True), doubts


def midnight(session: dt.date) -> dt.datetime:
    """The start of the session's day in UTC, which fills are timed from."""
    return dt.datetime.combine(session, dt.time(), dt.UTC)


def moment_of_day(session: dt.date, milliseconds: int) -> dt.datetime:
    """An instant from the milliseconds since the session's midnight in UTC."""
    return midnight(session) + dt.timedelta(milliseconds=milliseconds)


def tell_fills(fills: pl.DataFrame, session: dt.date, venues: dict[int, str]) -> list[dict[str, Any]]:
    """Fills with their moment and the name of their venue: at, venue, price, contracts, bid, ask (NaN where not quoted)."""
    return [
        {"at": moment_of_day(session, at), "venue": venues.get(venue, "unknown"), **rest}
        for at, venue, rest in (
            (fill.pop("at"), fill.pop("venue"), fill)
            for fill in fills.select("at", "venue", "price", "contracts", "bid", "ask").iter_rows(named=True)
        )
    ]
