"""What each kind does with its rows: which are refused, what they change of what is there, and how they are written."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Protocol
from zoneinfo import ZoneInfo

import polars as pl
from sqlalchemy import Engine, select

from flinch.clock import wall
from flinch.feeds.files.reasons import because
from flinch.store.market.chain import chain_rows, read_contracts, read_multipliers, read_spots, stored
from flinch.store.market.imports import Ledger, primary_key
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

Write = Callable[[Ledger], None]
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
        known = symbols.is_null() | symbols.is_in(list(self.ids))
        return ~(known | self._make)

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

    def write(self, ledger: Ledger) -> None:
        """Write the names that were made: of them nothing is known but the symbol."""
        if self._made:
            rows = {"id": [self.ids[symbol] for symbol in self._made], "symbol": self._made, "company": self._made}
            ledger.replace(Name, pl.DataFrame(rows).with_columns(kind=pl.lit("stock"), sector=pl.lit("")))


class Loader(Protocol):
    """What one kind does."""

    def refuse(self, frame: pl.DataFrame, names: Names, zone: ZoneInfo) -> list[pl.Series]:
        """Why rows are refused, beside what reading says of them."""

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        """What the good rows, laid aside in files, change."""


@dataclass(frozen=True)
class Plain:
    """A kind whose rows are rows of a table. `over` is the column by which some are taken at a time, `filled` puts in what stands
    for a value that is missing, `wrong` finds rows that cannot be, `symbols` are columns with the ids that take their place, and
    with `republish` surfaces depend on them."""

    table: type[MarketBase]
    over: str | None = None
    filled: Callable[[pl.DataFrame], pl.DataFrame] = lambda rows: rows
    wrong: Callable[[pl.DataFrame], list[tuple[pl.Series, str]]] = lambda frame: []
    symbols: tuple[tuple[str, str], ...] = (("symbol", "name_id"),)
    republish: bool = False

    def refuse(self, frame: pl.DataFrame, names: Names, zone: ZoneInfo) -> list[pl.Series]:
        unknown = _unknown(frame, names, [symbol for symbol, _ in self.symbols])
        return [*unknown, *[because(bad, words) for bad, words in self.wrong(frame)]]

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        change = Change(all_moments=self.republish)
        for made in self._made(parts, names):
            _count(change, _compare(self._there(engine, made), made, primary_key(self.table)))
        # Read once more when they are written: all of a large file is never held at once.
        change.writes.append(partial(self._write, parts=parts, names=names))
        return change

    def _made(self, parts: Sequence[Path], names: Names) -> Iterator[pl.DataFrame]:
        """The good rows as those of the table, some at a time."""
        key = primary_key(self.table)
        for rows in _chunks(parts, self.over):
            ids = [names.id_of(rows[symbol]).alias(name) for symbol, name in self.symbols]
            made = self.filled(rows.with_columns(ids).drop([symbol for symbol, _ in self.symbols]))
            yield made.unique(key, keep="last", maintain_order=True)

    def _write(self, ledger: Ledger, parts: Sequence[Path], names: Names) -> None:
        for made in self._made(parts, names):
            alike = _compare(self._there(ledger.engine, made), made, primary_key(self.table))
            ledger.replace(self.table, made.filter(alike != _SAME).select(self._columns(made)))

    def _columns(self, made: pl.DataFrame) -> list[str]:
        return [column.name for column in self.table.__table__.columns if column.name in made.columns]

    def _there(self, engine: Engine, made: pl.DataFrame) -> pl.DataFrame:
        columns = self.table.__table__.columns
        wanted = select(*[columns[name] for name in self._columns(made)])
        if self.over is not None:
            first, last = made[self.over].min(), made[self.over].max()
            wanted = wanted.where(columns[self.over].between(first, last))
        return read_table(engine, wanted)


_NEW, _OTHER, _SAME = 0, 1, 2


def _compare(there: pl.DataFrame, made: pl.DataFrame, key: list[str]) -> pl.Series:
    """Of each row whether it is new, other than the one that is there, or the same."""
    values = [name for name in made.columns if name not in key and name in there.columns]
    typed = there.select(pl.col(name).cast(made.schema[name]) for name in (*key, *values)).with_columns(
        pl.lit(True).alias("_there")
    )
    both = made.join(typed, on=key, how="left", suffix="_before", maintain_order="left")
    alike = pl.all_horizontal(pl.lit(True), *[pl.col(name).eq_missing(pl.col(f"{name}_before")) for name in values])
    told = pl.when(pl.col("_there").is_null()).then(_NEW).when(alike).then(_SAME).otherwise(_OTHER)
    return both.select(told.alias("alike"))["alike"]


def _count(change: Change, alike: pl.Series) -> None:
    change.added += int((alike == _NEW).sum())
    change.changed += int((alike == _OTHER).sum())
    change.same += int((alike == _SAME).sum())


class NameLoader:
    """Names: a symbol that is there keeps its id."""

    def refuse(self, frame: pl.DataFrame, names: Names, zone: ZoneInfo) -> list[pl.Series]:
        return []

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
        alike = _compare(there, made, ["id"])
        _count(change, alike)
        new = made.filter(alike != _SAME)
        change.writes.append(lambda ledger: ledger.replace(Name, new))
        return change


class ChainLoader:
    """Chains: the contracts of a name at a moment are one value, into which those of a file are laid."""

    def refuse(self, frame: pl.DataFrame, names: Names, zone: ZoneInfo) -> list[pl.Series]:
        wrong = [
            (
                (frame[side] * FINEST - (frame[side] * FINEST).round()).abs() > 1e-3,
                f"{side} has more than four decimals",
            )
            for side in ("bid", "ask")
        ]
        wrong.append((frame["strike"] <= 0, "strike is not above zero"))
        today = frame["taken_at"].dt.convert_time_zone(zone.key).dt.date()
        wrong.append((frame["expiration"] < today, "the contract had expired"))
        return [*_unknown(frame, names, ["symbol"]), *[because(bad, words) for bad, words in wrong]]

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        change = Change()
        scan = pl.scan_parquet(list(parts))
        for moment in scan.select(pl.col("taken_at").unique().sort()).collect()["taken_at"].to_list():
            made = _contracts(parts, moment, names)
            contracts, prices = Change(), Change()
            _count(contracts, _compare(_there_at(engine, moment), made.select(*_CONTRACT, *_QUOTES), _CONTRACT))
            _count(prices, _compare(read_spots(engine, moment), _spots(made), ["name_id"]))
            change.added += contracts.added
            change.changed += contracts.changed
            change.same += contracts.same
            repriced = prices.added + prices.changed
            if not contracts.added + contracts.changed:
                # Of the same contracts the underlying's price is another one.
                change.changed += repriced
            if contracts.added + contracts.changed + repriced:
                session = moment.astimezone(zone).date()
                # Read once more when it is written: of many moments one is held at a time.
                change.writes.append(partial(_write_moment, moment=moment, session=session, parts=parts, names=names))
                change.moments.append(moment)
        return change


_CONTRACT = ["name_id", "expiration", "strike", "is_call"]


def _contracts(parts: Sequence[Path], moment: dt.datetime, names: Names) -> pl.DataFrame:
    """The contracts of a moment that were laid aside."""
    rows = pl.scan_parquet(list(parts)).filter(pl.col("taken_at") == moment).collect()
    made = rows.with_columns(names.id_of(rows["symbol"]).alias("name_id"), pl.col("right").alias("is_call"))
    made = made.unique(_CONTRACT, keep="last", maintain_order=True)
    return made.with_columns(pl.col("volume", "open_interest").fill_null(0))


def _there_at(engine: Engine, moment: dt.datetime) -> pl.DataFrame:
    return read_contracts(engine, moment).with_columns(pl.col("volume", "open_interest").cast(pl.Int64))


def _spots(made: pl.DataFrame) -> pl.DataFrame:
    told = made.drop_nulls("underlying").group_by("name_id", maintain_order=True)
    return told.agg(pl.col("underlying").last().alias("price"))


def _write_moment(ledger: Ledger, moment: dt.datetime, session: dt.date, parts: Sequence[Path], names: Names) -> None:
    """Write the chains of a moment: of each name those that were there and are not told otherwise stay."""
    made, at = _contracts(parts, moment, names), pl.lit(stored(moment)).alias("taken_at")
    there = _there_at(ledger.engine, moment).filter(pl.col("name_id").is_in(made["name_id"].unique().implode()))
    columns = [*_CONTRACT, *_QUOTES]
    stays = there.join(made, on=_CONTRACT, how="anti").select(columns)
    whole = pl.concat([stays, made.select(columns)], how="vertical_relaxed").with_columns(pl.lit(0).alias("series"))
    ledger.replace(ChainSnapshot, pl.DataFrame({"session": [session]}).with_columns(at))
    ledger.replace(SnapshotPrice, _spots(made).with_columns(at))
    ledger.replace(NameChain, chain_rows(moment, whole))
    _write_multipliers(ledger, made.select("name_id", "multiplier").drop_nulls().unique("name_id", keep="last"))


def _write_multipliers(ledger: Ledger, rows: pl.DataFrame) -> None:
    before = read_multipliers(ledger.engine).rename({"multiplier": "before"})
    new = rows.join(before, on="name_id", how="left").filter(pl.col("multiplier") != pl.col("before").fill_null(100.0))
    if new.height:
        standard = pl.DataFrame({"series": [0], "cash": [0.0]})
        made = new.select("name_id", "multiplier", pl.col("multiplier").alias("shares")).join(standard, how="cross")
        ledger.replace(ContractSeries, made)


def _chunks(parts: Sequence[Path], over: str | None) -> Iterator[pl.DataFrame]:
    """The rows laid aside, some at a time: those of a stretch of days together, so that a row stands in one of them alone."""
    scan = pl.scan_parquet(list(parts))
    if over is None:
        yield scan.collect()
        return
    days = scan.group_by(over).agg(pl.len().alias("rows")).sort(over).collect()
    chunk = ((pl.col("rows").cum_sum() - 1) // _AT_ONCE).alias("chunk")
    for wanted in days.with_columns(chunk).partition_by("chunk", maintain_order=True):
        yield scan.filter(pl.col(over).is_between(wanted[over][0], wanted[over][-1])).collect()


def _unknown(frame: pl.DataFrame, names: Names, symbols: Sequence[str]) -> list[pl.Series]:
    """Symbols that are no names: by name."""
    return [because(names.unknown(frame[symbol]), "no name is called ", frame[symbol]) for symbol in symbols]


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
