"""Which names have data of which sessions: where the holes are."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple

import numpy as np
from sqlalchemy import Engine, func, select

from flinch.core.arrays import BoolArray
from flinch.errors import FlinchError
from flinch.store.engine import told
from flinch.store.market.chain import read_chain_days
from flinch.store.market.models import (
    ChainSnapshot,
    DailyBar,
    ExtendedDay,
    MinuteDay,
    PrintDay,
    TapeDay,
    VolatilityDay,
)
from flinch.store.market.names import read_calendar, read_names
from flinch.store.reading import dates, read_table

SESSIONS = 252
"""Sessions that are looked at: the newest ones."""
_NAMES = 200
_TABLES: dict[str, type[DailyBar | ExtendedDay | MinuteDay | TapeDay | PrintDay | VolatilityDay]] = {
    "daily_bars": DailyBar,
    "volatility_days": VolatilityDay,
    "extended_days": ExtendedDay,
    "minute_bars": MinuteDay,
    "option_trades": TapeDay,
    "prints": PrintDay,
}
COVERED = ("daily_bars", "chains", *list(_TABLES)[1:])
"""Kinds that a name has, or has not, of a session."""


class NoCoverage(FlinchError):
    """A kind is not of names and sessions."""

    status, kind, where = 422, "no_coverage", "kind"

    def __init__(self, kind: str) -> None:
        super().__init__(f"{kind[:20]!r} is not kept by name and session; {', '.join(COVERED)} are.")


class Holes(NamedTuple):
    """A name that lacks sessions: the stretches that it has, as first and last places in the sessions, and how many it lacks from
    its first to the newest."""

    symbol: str
    spans: list[tuple[int, int]]
    lacks: int


class Coverage(NamedTuple):
    """Sessions in order, how many names have the kind in each, how many lack it that had it before, how many have it in any, and
    in all since their first, and the names that lack some, those that lack most first; `more` are not told."""

    sessions: list[dt.date]
    counts: list[int]
    lacking: list[int]
    names: int
    whole: int
    holes: list[Holes]
    more: int


def coverage(engine: Engine, kind: str) -> Coverage:
    """Which names have a kind of which of the newest sessions. Raises NoCoverage."""
    if kind not in COVERED:
        raise NoCoverage(kind)
    day = ChainSnapshot.session if kind == "chains" else _TABLES[kind].session
    with told(), engine.connect() as connection:
        newest = connection.scalar(select(func.max(day)))
    if newest is None:
        return Coverage([], [], [], 0, 0, [], 0)
    calendar = read_calendar(engine)
    sessions = calendar[calendar <= np.datetime64(newest, "D")][-SESSIONS:]
    if not sessions.size:
        return Coverage([], [], [], 0, 0, [], 0)
    first = sessions[0].astype(object)
    if kind == "chains":
        rows = read_chain_days(engine, first)
    else:
        table = _TABLES[kind]
        rows = read_table(engine, select(table.session, table.name_id).where(table.session >= first))
    there_day, there_name = dates(rows["session"]), rows["name_id"].to_numpy()
    known = read_names(engine)
    ids, symbols = known["id"].to_numpy(), known["symbol"].to_list()
    grid = np.zeros((ids.size, sessions.size), np.bool_)
    column = np.searchsorted(sessions, there_day)
    # Days that the exchange has no session on are found by the checks.
    on = (column < sessions.size) & (sessions[np.minimum(column, sessions.size - 1)] == there_day)
    grid[np.searchsorted(ids, there_name[on]), column[on]] = True
    return _told(grid, sessions.astype(object).tolist(), symbols)


def _told(grid: BoolArray, sessions: list[dt.date], symbols: list[str]) -> Coverage:
    any_of = grid.any(axis=1)
    begun = np.logical_or.accumulate(grid, axis=1)
    # A session of which nobody has anything is a hole of the market, and every name's.
    hole = begun & ~grid
    lacks = hole.sum(axis=1)
    order = np.flatnonzero(lacks > 0)
    order = order[np.argsort(-lacks[order], kind="stable")]
    holes = [Holes(symbols[row], _spans(grid[row]), int(lacks[row])) for row in order[:_NAMES]]
    whole = int((any_of & (lacks == 0)).sum())
    return Coverage(
        sessions,
        grid.sum(axis=0).tolist(),
        hole.sum(axis=0).tolist(),
        int(any_of.sum()),
        whole,
        holes,
        max(0, order.size - _NAMES),
    )


def _spans(there: BoolArray) -> list[tuple[int, int]]:
    edges = np.diff(np.concatenate([[0], there.astype(np.int8), [0]]))
    return list(zip(np.flatnonzero(edges == 1).tolist(), (np.flatnonzero(edges == -1) - 1).tolist(), strict=True))
