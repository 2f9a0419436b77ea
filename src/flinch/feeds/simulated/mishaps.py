"""What goes wrong in a session ahead: a name that is halted for some minutes, fills that are told twice, and corrected ones."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple

import numpy as np
import polars as pl
from numpy.typing import NDArray

from flinch.feeds.simulated.names import Listing
from flinch.store.market.tape import CANCELLED

HALT_MINUTES = 11
_MINUTE = 60_000
_EARLIEST, _LATEST = 30, 330
_TWICE, _CORRECTED = 0.0004, 0.0004
"""Shares of the fills."""
_CORRECTED_WITHIN = 20_000
_WRONG_BY = 10


class Halt(NamedTuple):
    """A row of the market that does not trade from one minute after the open until another."""

    name: int
    begin: int
    end: int

    def covers(self, minute: int) -> bool:
        """Whether nothing is quoted so many minutes after the open."""
        return self.begin <= minute < self.end


def draw_halt(names: list[Listing], rng: np.random.Generator) -> Halt | None:
    """In every other session a stock is halted for eleven minutes."""
    stocks = np.flatnonzero([name.kind == "stock" for name in names])
    happens, whose, begin = rng.random() < 0.5, int(rng.choice(stocks)), int(rng.integers(_EARLIEST, _LATEST))
    return Halt(whose, begin, begin + HALT_MINUTES) if happens else None


def without_halted(minutes: pl.DataFrame, halt: Halt | None, opened: dt.datetime) -> pl.DataFrame:
    """Minute bars (name, at in UTC, ...) without those in which a name was halted."""
    if halt is None:
        return minutes
    opens = opened.astimezone(dt.UTC).replace(tzinfo=None)
    begin, end = (opens + dt.timedelta(minutes=minute) for minute in (halt.begin, halt.end))
    return minutes.filter(~((pl.col("name") == halt.name) & (pl.col("at") >= begin) & (pl.col("at") < end)))


def after_halt(trades: pl.DataFrame, halt: Halt | None, opens: int) -> pl.DataFrame:
    """Trades (name, at in milliseconds since midnight, ...) by name and time; what would have been traded while a name was halted
    is in the minute after it. `opens`: when the session opens, counted so."""
    if halt is None:
        return trades
    begin, end = (opens + minute * _MINUTE for minute in (halt.begin, halt.end))
    waits = (pl.col("name") == halt.name) & (pl.col("at") >= begin) & (pl.col("at") < end)
    later = (end + (pl.col("at") - begin) // HALT_MINUTES).cast(trades.schema["at"])
    return trades.with_columns(pl.when(waits).then(later).otherwise(pl.col("at")).alias("at")).sort(
        "name", "at", maintain_order=True
    )


def amended(tape: pl.DataFrame, end: int, rng: np.random.Generator) -> pl.DataFrame:
    """Fills (name, at in milliseconds, conditions, contracts, ...) by name and time, a few of them told twice, and a few told of
    too many contracts, taken back, and told again within seconds as they were, before `end`. What counts is what it was."""
    drawn, seconds = rng.random(tape.height), rng.integers(1_000, _CORRECTED_WITHIN, tape.height)
    free = (tape["conditions"].to_numpy() & CANCELLED) == 0
    corrected = free & (drawn < _CORRECTED) & (tape["at"].to_numpy() + seconds < end)
    twice = free & (drawn >= _CORRECTED) & (drawn < _CORRECTED + _TWICE)
    wrong = pl.Series(corrected)
    told = tape.with_columns(
        contracts=pl.when(wrong).then(pl.col("contracts") * _WRONG_BY).otherwise(pl.col("contracts")),
        conditions=pl.when(wrong).then(pl.col("conditions") | CANCELLED).otherwise(pl.col("conditions")),
    ).cast(tape.schema)
    again = tape.filter(wrong)
    again = again.with_columns(at=pl.col("at") + pl.Series(seconds[corrected])).cast(tape.schema)
    return pl.concat([told, again, tape.filter(pl.Series(twice))]).sort("name", "at", maintain_order=True)


def halted_at(halt: Halt | None, minute: int, halted: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Who is halted so many minutes after the open, beside those that are all session."""
    if halt is None or not halt.covers(minute):
        return halted
    out = halted.copy()
    out[halt.name] = True
    return out
