"""Checks of what is loaded: what is likely wrong, in words, with a mend where there is one that can be undone."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator
from functools import cached_property
from typing import NamedTuple
from zoneinfo import ZoneInfo

import numpy as np
import polars as pl
from sqlalchemy import Engine, func, select
from sqlalchemy.orm import aliased

from flinch.core.checks import near_price, parity_broken, split_jumps, strikes_apart
from flinch.errors import FlinchError
from flinch.feeds.files.changes import Change
from flinch.feeds.files.importing import write_change
from flinch.store.market.calendars import sessions_between
from flinch.store.market.chain import Snapshot, read_contracts, read_snapshots, read_spots, stored
from flinch.store.market.imports import Ledger
from flinch.store.market.models import TENORS, ChainSnapshot, DailyBar, NameChain, SnapshotPrice, Split, VolatilityDay
from flinch.store.market.names import read_names, read_newest_bar
from flinch.store.market.rates import read_rate
from flinch.store.market.settings import MarketSettings, read_settings
from flinch.store.market.splits import bars_of_today
from flinch.store.reading import dates, numbers, read_table

_EXAMPLES = 40
_FAR = 0.05
"""How far outside its bar a price may be."""
_STRIKES = 3
"""Strikes that parity is broken at before a name is told of."""
_PERCENT = 5.0
"""A name whose implied volatilities are above it on average has them in percent."""


class Example(NamedTuple):
    """Where something was found: the name, the day, and what it is there."""

    symbol: str
    day: dt.date | None
    words: str


class Finding(NamedTuple):
    """Something that is likely wrong: which check found it, in which kind, what that means, how often, where for example, and in
    words what its mend would do, if there is one; `each` is mended one by one, since not every one need be wrong."""

    check: str
    kind: str
    words: str
    times: int
    examples: list[Example]
    mend: str | None
    each: bool


class NothingToMend(FlinchError):
    """What a mend is for is not there, or cannot be mended."""

    status, kind = 409, "nothing_to_mend"

    def __init__(self) -> None:
        super().__init__("There is nothing of it to mend any more. Look at the checks again.")


class _Found(NamedTuple):
    """Rows that a check found (name_id, session, words), in order, and what would mend some of them."""

    rows: pl.DataFrame
    change: Callable[[Ledger, pl.DataFrame], None] | None = None
    moments: tuple[dt.datetime, ...] = ()
    all_moments: bool = False


class _Read:
    """A market while it is checked: what several checks look at is read once."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine

    @cached_property
    def settings(self) -> MarketSettings:
        return read_settings(self.engine)

    @cached_property
    def snapshots(self) -> list[Snapshot]:
        return read_snapshots(self.engine)

    @cached_property
    def contracts(self) -> pl.DataFrame:
        """Of the newest moment."""
        return read_contracts(self.engine, self.snapshots[-1].taken_at)

    @cached_property
    def spots(self) -> pl.DataFrame:
        """At the newest moment."""
        return read_spots(self.engine, self.snapshots[-1].taken_at)


class _Check(NamedTuple):
    kind: str
    words: str
    find: Callable[[_Read], _Found]
    mend: str | None = None
    each: bool = False


def run_checks(engine: Engine) -> list[Finding]:
    """Everything that is found wrong in a market, in the order of its kinds."""
    read, symbols = _Read(engine), _symbols(engine)
    return [finding for name, check in CHECKS.items() for finding in _told(name, check, check.find(read), symbols)]


def _told(name: str, check: _Check, found: _Found, symbols: dict[int, str]) -> Iterator[Finding]:
    if found.rows.height:
        examples = [
            Example(symbols.get(name_id, "?"), session, words)
            for name_id, session, words in found.rows.head(_EXAMPLES).select("name_id", "session", "words").iter_rows()
        ]
        mend = check.mend if found.change is not None else None
        yield Finding(name, check.kind, check.words, found.rows.height, examples, mend, check.each)


class Where(NamedTuple):
    """A place that a check found: all of a name, or one day of it."""

    symbol: str
    day: dt.date | None


def mend(
    engine: Engine,
    name: str,
    where: Where | None = None,
    tell: Callable[[str, float], None] = lambda stage, share: None,
) -> int:
    """Mend what a check finds now, everywhere or at one place; returns the number of the import that it is kept as, which can be
    undone. Raises NothingToMend and Busy."""
    check = CHECKS.get(name)
    if check is None or check.mend is None or (check.each and where is None):
        raise NothingToMend

    def change() -> tuple[Change, str]:
        found = check.find(_Read(engine))
        rows = found.rows
        if where is not None:
            ids = [key for key, symbol in _symbols(engine).items() if symbol == where.symbol]
            rows = rows.filter(pl.col("name_id").is_in(ids) & pl.col("session").eq_missing(pl.lit(where.day)))
        if not rows.height or found.change is None:
            raise NothingToMend
        write = found.change
        at = "" if where is None else f"{where.symbol}{f' {where.day}' if where.day else ''}: "
        writes = [lambda ledger: write(ledger, rows)]
        made = Change(changed=rows.height, writes=writes, moments=list(found.moments), all_moments=found.all_moments)
        return made, f"{at}{check.mend}"

    return write_change(engine, check.kind, change, tell)


def _symbols(engine: Engine) -> dict[int, str]:
    names = read_names(engine)
    return dict(zip(names["id"].to_list(), names["symbol"].to_list(), strict=True))


_NONE = pl.DataFrame(schema={"name_id": pl.Int64, "session": pl.Date, "words": pl.String})


_SESSION, _NAME = pl.col("session").cast(pl.Date), pl.col("name_id").cast(pl.Int64)


# -- daily bars --------------------------------------------------------------------------------------------------


def _off_calendar(read: _Read) -> _Found:
    first, last = read_newest_bar(read.engine, oldest=True), read_newest_bar(read.engine)
    if first is None or last is None:
        return _Found(_NONE)
    calendar = sessions_between(read.settings.calendar, first, last).session.astype(object).tolist()
    b = DailyBar
    rows = read_table(
        read.engine, select(b.session, b.name_id).where(b.session.not_in(calendar)).order_by(b.session, b.name_id)
    )
    words = pl.lit(f"{read.settings.calendar} has no session on that day").alias("words")
    found = rows.select(_SESSION, _NAME, words)
    return _Found(found, lambda ledger, rows: ledger.remove(DailyBar, rows.select("session", "name_id")))


def _jumps(read: _Read) -> _Found:
    b = DailyBar
    rows = read_table(read.engine, select(b.session, b.name_id, b.open, b.close, b.import_id))
    if not rows.height:
        return _Found(_NONE)
    rows = bars_of_today(read.engine, rows, "session", ("open", "close")).select(_SESSION, _NAME, "open", "close")
    ids, name = np.unique(rows["name_id"].to_numpy(), return_inverse=True)
    days, session = np.unique(dates(rows["session"]), return_inverse=True)
    open_, close = np.full((2, ids.size, days.size), np.nan)
    open_[name, session], close[name, session] = numbers(rows["open"]), numbers(rows["close"])
    jumps = split_jumps(open_, close)
    words = [_split_words(ratio) for ratio in jumps.ratio]
    found = pl.DataFrame(
        {"name_id": ids[jumps.name], "session": days[jumps.session], "ratio": jumps.ratio, "words": words}
    )
    return _Found(found, _tell_split, all_moments=True)


def _tell_split(ledger: Ledger, rows: pl.DataFrame) -> None:
    ledger.replace(Split, rows.select("name_id", pl.col("session").alias("ex_date"), "ratio"))


def _split_words(ratio: float) -> str:
    if ratio > 1:
        return f"opens as if {ratio:g} shares had been made of one"
    return f"opens as if one share had been made of {1 / ratio:g}"


# -- chains ------------------------------------------------------------------------------------------------------


def _crossed(read: _Read) -> _Found:
    if not read.snapshots:
        return _Found(_NONE)
    newest = read.snapshots[-1].session
    crossed = (pl.col("bid") > pl.col("ask")) & (pl.col("ask") > 0)
    rows = read.contracts.group_by("name_id").agg(crossed.sum().alias("n"), pl.len().alias("of"))
    found = rows.filter(pl.col("n") > 0).sort("n", "name_id", descending=[True, False])
    words = pl.format("{} of {} contracts have a bid above their ask", pl.col("n"), pl.col("of"))
    return _Found(found.with_columns(pl.lit(newest).alias("session"), words.alias("words")))


def _no_underlying(read: _Read) -> _Found:
    c, n, p, b = ChainSnapshot, NameChain, SnapshotPrice, DailyBar
    wanted = (
        select(c.session, n.name_id, n.taken_at, b.close.label("price"))
        .join(n, n.taken_at == c.taken_at)
        .outerjoin(p, (p.taken_at == n.taken_at) & (p.name_id == n.name_id))
        .outerjoin(b, (b.session == c.session) & (b.name_id == n.name_id))
        .where(p.price.is_(None))
        .order_by(n.taken_at, n.name_id)
    )
    words = pl.lit("quotes of options, and no price of what they are on").alias("words")
    found = read_table(read.engine, wanted).select(_SESSION, _NAME, "taken_at", "price", words)
    known = found.drop_nulls("price")
    moments = [moment.replace(tzinfo=dt.UTC) for moment in known["taken_at"].unique().to_list()]

    def change(ledger: Ledger, rows: pl.DataFrame) -> None:
        ledger.replace(SnapshotPrice, rows.drop_nulls("price").select("taken_at", "name_id", "price"))

    return _Found(found, change if known.height else None, tuple(moments))


def _far_from_bar(read: _Read) -> _Found:
    if not read.snapshots:
        return _Found(_NONE)
    newest = read.snapshots[-1].session
    b = DailyBar
    bars = read_table(read.engine, select(b.name_id, b.low, b.high).where(b.session == newest))
    both = read.spots.join(bars, on="name_id").sort("name_id")
    outside = (pl.col("price") < pl.col("low") * (1 - _FAR)) | (pl.col("price") > pl.col("high") * (1 + _FAR))
    words = pl.format(
        "the chain says {}, the bar {} to {}", pl.col("price").round(2), pl.col("low").round(2), pl.col("high").round(2)
    )
    return _Found(both.filter(outside).with_columns(pl.lit(newest).alias("session"), words.alias("words")))


def _strikes(read: _Read) -> _Found:
    if not read.snapshots:
        return _Found(_NONE)
    newest = read.snapshots[-1].session
    middle = read.contracts.group_by("name_id").agg(pl.col("strike").median())
    both = middle.join(read.spots, on="name_id").sort("name_id")
    times = pl.Series("times", strikes_apart(numbers(both["price"]), numbers(both["strike"])))
    found = both.with_columns(times).filter(pl.col("times").is_not_nan())
    words = pl.format(
        "strikes are about {} times the price: are they per another number of shares?",
        pl.col("times").map_elements(lambda times: f"{times:g}", pl.String),
    )
    return _Found(found.with_columns(pl.lit(newest).alias("session"), words.alias("words")))


def _parity(read: _Read) -> _Found:
    if not read.snapshots:
        return _Found(_NONE)
    newest = read.snapshots[-1]
    key = ["name_id", "expiration", "strike"]
    quoted = read.contracts.filter((pl.col("bid") > 0) & (pl.col("ask") >= pl.col("bid")))
    calls, puts = (
        quoted.filter(pl.col("is_call") == side).select(
            *key, ((pl.col("bid") + pl.col("ask")) / 2).alias("mid"), (pl.col("ask") - pl.col("bid")).alias("width")
        )
        for side in (True, False)
    )
    rows = calls.join(puts, on=key, suffix="_put").join(read.spots, on="name_id").sort(key)
    group = rows.select(pl.struct("name_id", "expiration").rle_id())
    strike, price = numbers(rows["strike"]), numbers(rows["price"])
    days = (dates(rows["expiration"]) - np.datetime64(newest.session, "D")).astype(np.float64)
    rate = read_rate(read.engine, newest.session, read.settings.rate)
    broken = parity_broken(
        group.to_series().cast(pl.Int64).to_numpy(),
        strike,
        numbers(rows["mid"]) - numbers(rows["mid_put"]),
        numbers(rows["width"]) + numbers(rows["width_put"]),
        price,
        np.exp(-rate * days / 365),
    )
    names = rows.with_columns(pl.Series("broken", broken)).filter(pl.Series(near_price(strike, price)))
    told = names.group_by("name_id", maintain_order=True).agg(pl.col("broken").sum().alias("n"), pl.len().alias("of"))
    found = told.filter((pl.col("n") >= _STRIKES) & (pl.col("n") >= 0.2 * pl.col("of")))
    words = pl.format("at {} of {} strikes near the price", pl.col("n"), pl.col("of"))
    return _Found(found.with_columns(pl.lit(newest.session).alias("session"), words.alias("words")))


def _vanished(read: _Read) -> _Found:
    snapshots = read.snapshots
    earlier = [one for one in snapshots if one.session < snapshots[-1].session]
    if not earlier:
        return _Found(_NONE)

    def interest(contracts: pl.DataFrame, name: str) -> pl.DataFrame:
        return contracts.group_by("name_id").agg(pl.col("open_interest").cast(pl.Int64).sum().alias(name))

    before = interest(read_contracts(read.engine, earlier[-1].taken_at), "before")
    both = before.join(interest(read.contracts, "now"), on="name_id").sort("name_id")
    words = pl.format("{} contracts were open the session before, and none are now", pl.col("before"))
    found = both.filter((pl.col("before") > 0) & (pl.col("now") == 0))
    return _Found(found.with_columns(pl.lit(snapshots[-1].session).alias("session"), words.alias("words")))


def _stale(read: _Read) -> _Found:
    snapshots = read.snapshots
    if len(snapshots) < 2:
        return _Found(_NONE)
    now, before = NameChain, aliased(NameChain)
    same = (
        select(now.name_id, now.contracts)
        .join(before, (before.name_id == now.name_id) & (before.taken_at == stored(snapshots[-2].taken_at)))
        .where(now.taken_at == stored(snapshots[-1].taken_at), now.quotes == before.quotes)
        .order_by(now.name_id)
    )
    rows = read_table(read.engine, same)
    words = pl.format(f"all {{}} quotes are those of {snapshots[-2].taken_at:%Y-%m-%d %H:%M} UTC", pl.col("contracts"))
    return _Found(rows.with_columns(pl.lit(snapshots[-1].session).alias("session"), words.alias("words")))


def _odd_hours(read: _Read) -> _Found:
    zone, rows = ZoneInfo(read.settings.zone), []
    snapshots = read.snapshots
    if not snapshots:
        return _Found(_NONE)
    hours = sessions_between(read.settings.calendar, snapshots[0].session, snapshots[-1].session)
    opens = dict(zip(hours.session.astype(object).tolist(), zip(hours.opens, hours.closes, strict=True), strict=True))
    for one in snapshots:
        at = np.datetime64(stored(one.taken_at))
        if one.session not in opens:
            rows.append((0, one.session, f"taken at {one.taken_at.astimezone(zone):%H:%M}, on a day without a session"))
        elif (
            not opens[one.session][0] - np.timedelta64(90, "m") <= at <= opens[one.session][1] + np.timedelta64(90, "m")
        ):
            words = f"taken at {one.taken_at.astimezone(zone):%H:%M} in {read.settings.zone}: is its zone off by hours?"
            rows.append((0, one.session, words))
    return _Found(pl.DataFrame(rows, _NONE.schema, orient="row"))


# -- volatility --------------------------------------------------------------------------------------------------


def _percent(read: _Read) -> _Found:
    v = VolatilityDay
    names = read_table(
        read.engine, select(v.name_id, func.count().label("n"), func.avg(v.iv30).label("mean")).group_by(v.name_id)
    )
    odd = names.filter(pl.col("mean").cast(pl.Float64) > _PERCENT).sort("name_id")
    words = pl.format(
        "{} sessions of volatilities, {} on average: are they in percent?", pl.col("n"), pl.col("mean").round(1)
    )
    found = odd.with_columns(pl.lit(None).cast(pl.Date).alias("session"), words.alias("words"))

    def change(ledger: Ledger, rows: pl.DataFrame) -> None:
        days = read_table(ledger.engine, select(v).where(v.name_id.in_(rows["name_id"].to_list())))
        ledger.replace(VolatilityDay, days.with_columns((pl.col(f"iv{tenor}") / 100) for tenor in TENORS))

    return _Found(found, change)


CHECKS: dict[str, _Check] = {
    "off_calendar": _Check(
        "daily_bars", "Bars of days on which the exchange has no session.", _off_calendar, "remove these bars"
    ),
    "split_jumps": _Check(
        "daily_bars", "A jump the size of a split, overnight. Prices before it are of other shares.", _jumps,
        "say that it was a split: prices and shares before it are then told of the shares after it", each=True,
    ),
    "no_underlying": _Check(
        "chains", "A chain without the price of its underlying gives no surface.", _no_underlying,
        "take the close of the session's bar",
    ),
    "far_from_bar": _Check("chains", "The underlying's price is far outside the bar of its session.", _far_from_bar),
    "strikes": _Check("chains", "Strikes are ten times, or a tenth of, what the price is.", _strikes),
    "crossed": _Check("chains", "Quotes that are crossed; surfaces leave them out.", _crossed),
    "parity": _Check(
        "chains",
        "Calls and puts of one strike do not fit the other strikes of their expiration, by more than their quotes are wide: are "
        "sides swapped, or of different moments?", _parity,
    ),
    "stale": _Check("chains", "Quotes that are exactly those of the moment before.", _stale),
    "vanished": _Check("chains", "Open interest that vanished over night.", _vanished),
    "odd_hours": _Check("chains", "Moments outside the hours of the exchange.", _odd_hours),
    "percent": _Check("volatility_days", "Percent taken for decimals.", _percent, "divide these volatilities by a hundred"),
}  # fmt: skip
