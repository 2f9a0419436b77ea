"""What each kind does with its rows: which are refused, what they change of what is there, and how they are written."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any, Protocol
from zoneinfo import ZoneInfo

import polars as pl
from sqlalchemy import Engine, select

from flinch.clock import wall
from flinch.store.bulk import replace_rows
from flinch.store.market.chain import chain_rows, read_contracts, read_multipliers, read_spots, stored
from flinch.store.market.models import (
    ChainSnapshot,
    ContractSeries,
    DailyBar,
    Dividend,
    EarningsReport,
    FundMember,
    MarketBase,
    Name,
    NameChain,
    ShortInterest,
    SnapshotPrice,
)
from flinch.store.packing import FINEST
from flinch.store.reading import read_table

Write = Callable[[Engine], None]
_AT_ONCE = 1_000_000
"""Rows that are compared and written together, about."""
_QUOTES = ("bid", "ask", "volume", "open_interest")


@dataclass
class Change:
    """What rows come to: how many are new, other than before, or the same; what writes them; the moments whose chains changed."""

    added: int = 0
    changed: int = 0
    same: int = 0
    writes: list[Write] = field(default_factory=list)
    moments: list[dt.datetime] = field(default_factory=list)
    all_moments: bool = False


class Names:
    """The market's names: ids of symbols, and those that are made on the way."""

    def __init__(self, rows: pl.DataFrame, *, make: bool) -> None:
        self.ids: dict[str, int] = dict(zip(rows["symbol"].to_list(), rows["id"].to_list(), strict=True))
        self._next = max(self.ids.values(), default=0) + 1
        self._make = make
        self._made: list[str] = []

    def unknown(self, symbols: pl.Series) -> pl.Series:
        """Which symbols are not known; none where names are made."""
        return ~symbols.is_in(list(self.ids)) & symbols.is_not_null() if not self._make else symbols.is_null()

    def id_of(self, symbols: pl.Series) -> pl.Series:
        """Ids of symbols; those that are not known get one."""
        for symbol in sorted(set(symbols.unique().to_list()) - self.ids.keys()):
            self.take(symbol)
            self._made.append(symbol)
        return symbols.replace_strict(self.ids, return_dtype=pl.Int64)

    def take(self, symbol: str) -> int:
        """The id of a symbol, given now when it has none."""
        if symbol not in self.ids:
            self.ids[symbol] = self._next
            self._next += 1
        return self.ids[symbol]

    def write(self, engine: Engine) -> None:
        """Write the names that were made: of them nothing is known but the symbol."""
        if self._made:
            rows = {"id": [self.ids[symbol] for symbol in self._made], "symbol": self._made, "company": self._made}
            replace_rows(engine, Name, pl.DataFrame(rows).with_columns(kind=pl.lit("stock"), sector=pl.lit("")))


class Loader(Protocol):
    """What one kind does."""

    def refuse(self, frame: pl.DataFrame, reason: pl.Series, names: Names) -> pl.Series:
        """Why each row is refused, after what reading said of it."""

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        """What the good rows, laid aside in files, change."""


@dataclass(frozen=True)
class Plain:
    """A kind whose rows are rows of a table. `over` is the column by which some are taken at a time, `filled` what stands for a
    value that is missing, and `renamed` columns that the table calls otherwise."""

    table: type[MarketBase]
    over: str | None = None
    filled: Callable[[pl.DataFrame], pl.DataFrame] = lambda rows: rows
    wrong: Callable[[pl.DataFrame], list[tuple[pl.Series, str]]] = lambda frame: []
    symbols: tuple[tuple[str, str], ...] = (("symbol", "name_id"),)
    republish: bool = False

    def refuse(self, frame: pl.DataFrame, reason: pl.Series, names: Names) -> pl.Series:
        return _first(
            [reason, *_unknown(frame, names, self.symbols), *[_told(bad, words) for bad, words in self.wrong(frame)]]
        )

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        change = Change(all_moments=self.republish)
        key = [column.name for column in self.table.__table__.columns if column.primary_key]
        for rows in _chunks(parts, self.over):
            ids = [names.id_of(rows[symbol]).alias(name) for symbol, name in self.symbols]
            made = self.filled(rows.with_columns(ids).drop([symbol for symbol, _ in self.symbols]))
            made = made.unique(key, keep="last", maintain_order=True)
            _compare(change, self._there(engine, made), made, key)
            change.writes.append(partial(replace_rows, table=self.table, rows=made.select(self._columns(made))))
        return change

    def _columns(self, made: pl.DataFrame) -> list[str]:
        return [column.name for column in self.table.__table__.columns if column.name in made.columns]

    def _there(self, engine: Engine, made: pl.DataFrame) -> pl.DataFrame:
        columns = self.table.__table__.columns
        wanted = select(*[columns[name] for name in self._columns(made)])
        if self.over is not None:
            first, last = made[self.over].min(), made[self.over].max()
            wanted = wanted.where(columns[self.over].between(first, last))
        return read_table(engine, wanted)


def _compare(change: Change, there: pl.DataFrame, made: pl.DataFrame, key: list[str]) -> None:
    """Count rows by whether they are there already and alike."""
    values = [name for name in made.columns if name not in key and name in there.columns]
    typed = there.select(pl.col(name).cast(made.schema[name]) for name in (*key, *values)).with_columns(
        pl.lit(True).alias("_there")
    )
    both = made.join(typed, on=key, how="left", suffix="_before")
    found = both["_there"].fill_null(False)
    alike = pl.Series("alike", [True]).new_from_index(0, both.height)
    for name in values:
        alike = alike & both[name].eq_missing(both[f"{name}_before"])
    change.added += int((~found).sum())
    change.same += int((found & alike).sum())
    change.changed += int((found & ~alike).sum())


class NameLoader:
    """Names: a symbol that is there keeps its id."""

    def refuse(self, frame: pl.DataFrame, reason: pl.Series, names: Names) -> pl.Series:
        return reason

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        change = Change()
        rows = pl.concat([pl.read_parquet(part) for part in parts]).unique("symbol", keep="last", maintain_order=True)
        made = rows.select(
            pl.Series("id", [names.take(symbol) for symbol in rows["symbol"].to_list()]),
            "symbol", "company", pl.col("type").fill_null("stock").alias("kind"), pl.col("sector").str.slice(0, 40).fill_null(""),
            "listed_on", "shares_outstanding", "float_shares",
        )  # fmt: skip
        n = Name
        there = read_table(
            engine,
            select(n.id, n.symbol, n.company, n.kind, n.sector, n.listed_on, n.shares_outstanding, n.float_shares),
        )
        _compare(change, there, made, ["id"])
        change.writes.append(partial(replace_rows, table=Name, rows=made))
        return change


class ChainLoader:
    """Chains: the contracts of a name at a moment are one value, into which those of a file are laid."""

    def refuse(self, frame: pl.DataFrame, reason: pl.Series, names: Names) -> pl.Series:
        wrong = [
            (
                (frame[side] * FINEST - (frame[side] * FINEST).round()).abs() > 1e-3,
                f"{side} has more than four decimals",
            )
            for side in ("bid", "ask")
        ]
        wrong.append((frame["strike"] <= 0, "strike is not above zero"))
        expired = frame["expiration"] < frame["taken_at"].dt.date()
        wrong.append((expired, "the contract had expired"))
        return _first(
            [reason, *_unknown(frame, names, (("symbol", "name_id"),)), *[_told(bad, words) for bad, words in wrong]]
        )

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        change = Change()
        moments = (
            pl.scan_parquet(list(parts)).select(pl.col("taken_at").unique().sort()).collect()["taken_at"].to_list()
        )
        for moment in moments:
            rows = pl.scan_parquet(list(parts)).filter(pl.col("taken_at") == moment).collect()
            self._compare_moment(engine, moment, moment.astimezone(zone).date(), rows, names, change)
        return change

    def _compare_moment(
        self, engine: Engine, moment: dt.datetime, session: dt.date, rows: pl.DataFrame, names: Names, change: Change
    ) -> None:
        key = ["name_id", "expiration", "strike", "is_call"]
        made = (
            rows.with_columns(names.id_of(rows["symbol"]).alias("name_id"), pl.col("right").alias("is_call"))
            .unique(key, keep="last", maintain_order=True)
            .with_columns(pl.col("volume", "open_interest").fill_null(0))
        )
        there = read_contracts(engine, moment).with_columns(pl.col("volume", "open_interest").cast(pl.Int64))
        before = Change()
        _compare(before, there, made.select(*key, *_QUOTES), key)
        spots = (
            made.drop_nulls("underlying")
            .group_by("name_id", maintain_order=True)
            .agg(pl.col("underlying").last().alias("price"))
        )
        _compare(spots_before := Change(), read_spots(engine, moment), spots, ["name_id"])
        change.added += before.added
        change.changed += before.changed
        change.same += before.same
        if not (before.added or before.changed or spots_before.added or spots_before.changed):
            return
        if not (before.added or before.changed):
            # Of the same contracts the underlying's price is another one.
            change.changed += spots_before.added + spots_before.changed
        kept = there.filter(pl.col("name_id").is_in(made["name_id"].unique().implode())).join(made, on=key, how="anti")
        columns = [*key, *_QUOTES]
        whole = pl.concat([kept.select(columns), made.select(columns)], how="vertical_relaxed").with_columns(
            pl.lit(0).alias("series")
        )
        change.writes += [
            partial(_write_moment, moment=moment, session=session, spots=spots, chains=chain_rows(moment, whole)),
            partial(
                _write_multipliers,
                rows=made.select("name_id", "multiplier").drop_nulls().unique("name_id", keep="last"),
            ),
        ]
        change.moments.append(moment)


def _write_moment(
    engine: Engine, moment: dt.datetime, session: dt.date, spots: pl.DataFrame, chains: pl.DataFrame
) -> None:
    at = pl.lit(stored(moment)).alias("taken_at")
    replace_rows(engine, ChainSnapshot, pl.DataFrame({"session": [session]}).with_columns(at))
    replace_rows(engine, SnapshotPrice, spots.with_columns(at))
    replace_rows(engine, NameChain, chains)


def _write_multipliers(engine: Engine, rows: pl.DataFrame) -> None:
    before = read_multipliers(engine).rename({"multiplier": "before"})
    new = rows.join(before, on="name_id", how="left").filter(pl.col("multiplier") != pl.col("before").fill_null(100.0))
    if new.height:
        standard = pl.DataFrame({"series": [0], "cash": [0.0]})
        made = new.select("name_id", "multiplier", pl.col("multiplier").alias("shares")).join(standard, how="cross")
        replace_rows(engine, ContractSeries, made)


def _chunks(parts: Sequence[Path], over: str | None) -> list[pl.DataFrame] | Any:
    """The rows laid aside, some at a time: those of a stretch of days together, so that a row stands in one of them alone."""
    scan = pl.scan_parquet(list(parts))
    if over is None:
        yield scan.collect()
        return
    days = scan.group_by(over).agg(pl.len().alias("rows")).sort(over).collect()
    place = (days["rows"].cum_sum() - 1) // _AT_ONCE
    for chunk in range(int(place.max() or 0) + 1):  # type: ignore[arg-type]
        wanted = days.filter(place == chunk)[over]
        if wanted.len():
            yield scan.filter(pl.col(over).is_between(wanted.min(), wanted.max())).collect()


def _unknown(frame: pl.DataFrame, names: Names, symbols: tuple[tuple[str, str], ...]) -> list[pl.Series]:
    """Symbols that are no names: by name."""
    return [
        pl.DataFrame({"s": frame[symbol], "bad": names.unknown(frame[symbol])}).select(
            pl.when("bad").then(pl.lit("no name is called ") + pl.col("s")).alias("reason")
        )["reason"]
        for symbol, _ in symbols
    ]


def _told(bad: pl.Series, words: str) -> pl.Series:
    return pl.DataFrame({"bad": bad.fill_null(False)}).select(pl.when("bad").then(pl.lit(words)).alias("reason"))[
        "reason"
    ]


def _first(reasons: list[pl.Series]) -> pl.Series:
    """The first reason that each row has."""
    table = pl.DataFrame({str(n): reason.cast(pl.String) for n, reason in enumerate(reasons)})
    return table.select(pl.coalesce(pl.all()).alias("reason"))["reason"]


def _bars_wrong(frame: pl.DataFrame) -> list[tuple[pl.Series, str]]:
    low = frame.select(pl.min_horizontal("open", "high", "low", "close"))["open"]
    return [(low <= 0, "a price is not above zero"), (frame["high"] < frame["low"], "high is under low")]


def _today() -> pl.Expr:
    return pl.lit(wall().date())


LOADERS: dict[str, Loader] = {
    "names": NameLoader(),
    "daily_bars": Plain(DailyBar, over="session", wrong=_bars_wrong),
    "chains": ChainLoader(),
    "dividends": Plain(
        # Without a day of declaration it is taken to be known when it is paid.
        Dividend, filled=lambda rows: rows.with_columns(pl.coalesce("declared_on", "ex_date")), republish=True
    ),
    "earnings_dates": Plain(
        EarningsReport,
        # One that is past was known on its day at the latest, one ahead since it was loaded.
        filled=lambda rows: rows.with_columns(
            pl.col("timing").fill_null("unknown"),
            pl.coalesce("known_on", pl.min_horizontal("session", _today())).alias("known_on")
        ),
        republish=True,
    ),
    "short_interest": Plain(ShortInterest, filled=lambda rows: rows.with_columns(pl.col("known_on").fill_null(_today()))),
    "fund_members": Plain(FundMember, symbols=(("fund", "fund_id"), ("symbol", "name_id"))),
}  # fmt: skip
