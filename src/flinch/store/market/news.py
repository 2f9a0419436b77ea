"""Headlines: how many there were of each name in a session, and those of one name as they came."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Engine, func, select

from flinch.store.engine import told
from flinch.store.market.chain import stored
from flinch.store.market.models import NewsItem
from flinch.store.reading import Floats, read_table

OF_NO_NAME = 0
"""In the place of a name: what is about none, but about all."""


class Headline(NamedTuple):
    """One headline, and when it was told, in UTC. Plain text."""

    at: dt.datetime
    headline: str
    topic: str


def count_headlines(
    engine: Engine, ids: NDArray[np.int64], closes: NDArray[np.datetime64], until: dt.datetime
) -> Floats:
    """Headlines about each name after one session's close, up to the next one's and `until` at most, shape (names, closes - 1).

    `closes` are instants in UTC, in order, the first that of the session before. NaN for sessions that ended before the first
    headline that there is of any name: nobody had told any then.
    """
    n = NewsItem
    with told(), engine.connect() as connection:
        first = connection.scalar(select(func.min(n.at)).where(n.name_id != OF_NO_NAME))
    if first is None:
        return np.full((ids.size, closes.size - 1), np.nan)
    begin, end = (closes[place].astype("datetime64[us]").astype(object) for place in (0, -1))
    rows = read_table(
        engine,
        select(n.name_id, n.at).where(n.name_id != OF_NO_NAME, n.at > begin, n.at <= min(end, stored(until))),
    )
    at = rows["at"].to_numpy().astype("datetime64[us]")
    cell = (np.searchsorted(closes, at, side="left") - 1) + (closes.size - 1) * np.searchsorted(
        ids, rows["name_id"].to_numpy()
    )
    counts = np.bincount(cell, minlength=ids.size * (closes.size - 1)).reshape(ids.size, -1).astype(np.float64)
    counts[:, closes[1:] < np.datetime64(first, "us")] = np.nan
    return counts


def read_headlines(engine: Engine, name_id: int, until: dt.datetime, most: int) -> list[Headline]:
    """The newest headlines about a name (`OF_NO_NAME`: about none) up to a moment, the newest first."""
    n = NewsItem
    wanted = select(n.at, n.headline, n.topic).where(n.name_id == name_id, n.at <= stored(until))
    with told(), engine.connect() as connection:
        rows = connection.execute(wanted.order_by(n.at.desc()).limit(most)).all()
    return [Headline(at.replace(tzinfo=dt.UTC), headline, topic) for at, headline, topic in rows]
