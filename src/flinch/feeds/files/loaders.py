"""What each kind does with its rows: which are refused, what they change of what is there, and how they are written."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from zoneinfo import ZoneInfo

import polars as pl
from sqlalchemy import Engine, select

from flinch.clock import wall
from flinch.feeds.files.chains import ChainLoader, InterestLoader
from flinch.feeds.files.changes import (
    SAME,
    Change,
    Loader,
    Names,
    compare_rows,
    count_rows,
    in_chunks,
    unknown_symbols,
)
from flinch.feeds.files.reasons import because
from flinch.feeds.files.sources import KIND_OF, Held, hold
from flinch.feeds.files.trades import PRINTS, TAPE, MinuteLoader
from flinch.store.market.chain import read_chain_days
from flinch.store.market.imports import Ledger, primary_key
from flinch.store.market.models import (
    DailyBar,
    Dividend,
    EarningsReport,
    Estimate,
    ExtendedDay,
    Fundamental,
    FundMember,
    MarketBase,
    Name,
    NewsItem,
    OtherRow,
    RateDay,
    ShortInterest,
    Split,
    VolatilityDay,
)
from flinch.store.market.news import OF_NO_NAME
from flinch.store.reading import read_table


@dataclass(frozen=True)
class Plain:
    """A kind whose rows are rows of a table. `over` is the column by which some are taken at a time, `filled` puts in what stands
    for a value that is missing, `wrong` finds rows that cannot be, `symbols` are columns with the ids that take their place, and
    with `republish` surfaces depend on them."""

    table: type[MarketBase]
    over: str | None = None
    filled: Callable[[pl.DataFrame, Names], pl.DataFrame] = lambda rows, names: rows
    wrong: Callable[[pl.DataFrame, Names], list[tuple[pl.Series, str]]] = lambda frame, names: []
    symbols: tuple[tuple[str, str], ...] = (("symbol", "name_id"),)
    republish: bool = False

    def refuse(self, frame: pl.DataFrame, names: Names, zone: ZoneInfo) -> list[pl.Series]:
        unknown = unknown_symbols(frame, names, [symbol for symbol, _ in self.symbols])
        return [*unknown, *[because(bad, words) for bad, words in self.wrong(frame, names)]]

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        change = Change(all_moments=self.republish)
        for made in self._made(parts, names):
            held = self._held(engine, made, names)
            count_rows(change, held.alike)
            change.beside += held.waits
        # Read once more when they are written: all of a large file is never held at once.
        change.writes.append(partial(self._write, parts=parts, names=names))
        return change

    def _made(self, parts: Sequence[Path], names: Names) -> Iterator[pl.DataFrame]:
        """The good rows as those of the table, some at a time."""
        key = primary_key(self.table)
        for rows in in_chunks(parts, self.over):
            ids = [names.id_of(rows[symbol]).alias(name) for symbol, name in self.symbols]
            made = self.filled(rows.with_columns(ids).drop([symbol for symbol, _ in self.symbols]), names)
            yield made.unique(key, keep="last", maintain_order=True)

    def _write(self, ledger: Ledger, parts: Sequence[Path], names: Names) -> None:
        for made in self._made(parts, names):
            held = self._held(ledger.engine, made, names)
            ledger.replace(self.table, held.served)
            if held.beside is not None and held.gone is not None:
                ledger.remove(OtherRow, held.gone)
                # Who told a row that gave way told it then.
                ledger.replace(OtherRow, held.beside, as_told=True)

    def _held(self, engine: Engine, made: pl.DataFrame, names: Names) -> Held:
        there, made = self._there(engine, made), made.select(self._columns(made))
        if self.table in KIND_OF:
            return hold(engine, self.table, there, made, names.tellers)
        alike = compare_rows(there, made, primary_key(self.table))
        return Held(alike, made.filter(alike != SAME), None, None, 0)

    def _columns(self, made: pl.DataFrame) -> list[str]:
        return [column.name for column in self.table.__table__.columns if column.name in made.columns]

    def _there(self, engine: Engine, made: pl.DataFrame) -> pl.DataFrame:
        columns = self.table.__table__.columns
        told = ["import_id"] if self.table in KIND_OF else []
        wanted = select(*[columns[name] for name in (*self._columns(made), *told)])
        if self.over is not None:
            first, last = made[self.over].min(), made[self.over].max()
            wanted = wanted.where(columns[self.over].between(first, last))
        return read_table(engine, wanted)


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
        alike = compare_rows(there, made, ["id"])
        count_rows(change, alike)
        new = made.filter(alike != SAME)
        change.writes.append(lambda ledger: ledger.replace(Name, new))
        return change


def _bars_wrong(frame: pl.DataFrame, names: Names) -> list[tuple[pl.Series, str]]:
    low = frame.select(pl.min_horizontal("open", "high", "low", "close"))["open"]
    return [(low <= 0, "a price is not above zero"), (frame["high"] < frame["low"], "high is under low")]


def _rates_wrong(frame: pl.DataFrame, names: Names) -> list[tuple[pl.Series, str]]:
    return [
        (frame["days"] <= 0, "days are not above zero"),
        (~frame["rate"].is_between(-0.5, 1), "a rate lies between -0.5 and 1, in decimals"),
    ]


def _splits_wrong(frame: pl.DataFrame, names: Names) -> list[tuple[pl.Series, str]]:
    return [(~frame["ratio"].is_between(1e-4, 1e4), "ratio is how many new shares are made of an old one")]


def _today() -> pl.Expr:
    return pl.lit(wall().date())


class VolatilityLoader(Plain):
    """Volatilities of past sessions: what a chain of the session says wins, and stays."""

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        said, dropped = read_chain_days(engine), 0
        for part in parts:
            rows = pl.read_parquet(part)
            rows = rows.with_columns(names.id_of(rows["symbol"]).alias("name_id"))
            left = rows.join(said, on=["session", "name_id"], how="anti", maintain_order="left").drop("name_id")
            dropped += rows.height - left.height
            left.write_parquet(part)
        change = super().compare(engine, parts, names, zone)
        change.same += dropped
        return change


def _sources_wrong(frame: pl.DataFrame, names: Names) -> list[tuple[pl.Series, str]]:
    # A third one is never given a key.
    new = [
        one for one in frame["source"].drop_nulls().unique(maintain_order=True).to_list() if one not in names.sources
    ]
    names.source_of(pl.Series(new[: max(0, _SOURCES - len(names.sources))], dtype=pl.String))
    known = [source for source, key in names.sources.items() if key <= _SOURCES]
    bad = ~frame["source"].is_in(known).fill_null(True)
    return [(bad, f"fundamentals are of {_SOURCES} sources at most, here {' and '.join(known)}")]


_SOURCES = 2


def _from_source(rows: pl.DataFrame, names: Names) -> pl.DataFrame:
    return rows.with_columns(names.source_of(rows["source"]).alias("source"), pl.col("known_on").fill_null(_today()))


def _news_wrong(frame: pl.DataFrame, names: Names) -> list[tuple[pl.Series, str]]:
    return [(frame["headline"].str.len_chars() > 300, "a headline has 300 characters at most")]


def _news(rows: pl.DataFrame, names: Names) -> pl.DataFrame:
    """One line of text each; without a symbol it is about no name."""
    line = pl.col("headline").str.replace_all(r"[\s\p{C}]+", " ").str.strip_chars()
    return rows.with_columns(
        pl.col("name_id").fill_null(OF_NO_NAME),
        pl.col("at").dt.convert_time_zone("UTC").dt.replace_time_zone(None),
        line.alias("headline"),
        pl.col("topic").str.slice(0, 40).fill_null(""),
    )


LOADERS: dict[str, Loader] = {
    "names": NameLoader(),
    "daily_bars": Plain(DailyBar, over="session", wrong=_bars_wrong),
    "splits": Plain(Split, wrong=_splits_wrong, republish=True),
    "chains": ChainLoader(),
    "open_interest": InterestLoader(),
    "volatility_days": VolatilityLoader(
        # Kept in single precision.
        VolatilityDay, over="session", filled=lambda rows, names: rows.with_columns(pl.col(pl.Float64).cast(pl.Float32))
    ),
    "extended_days": Plain(ExtendedDay, over="session"),
    "minute_bars": MinuteLoader(),
    "option_trades": TAPE,
    "prints": PRINTS,
    "fundamentals": Plain(Fundamental, filled=_from_source, wrong=_sources_wrong),
    "estimates": Plain(Estimate, filled=lambda rows, names: rows.rename({"price_target": "fair_value"})),
    "dividends": Plain(
        # Without a day of declaration it is taken to be known when it is paid.
        Dividend, filled=lambda rows, names: rows.with_columns(pl.coalesce("declared_on", "ex_date")), republish=True,
    ),
    "earnings_dates": Plain(
        EarningsReport,
        # One that is past was known on its day at the latest, one ahead since it was loaded.
        filled=lambda rows, names: rows.with_columns(
            pl.col("timing").fill_null("unknown"),
            pl.coalesce("known_on", pl.min_horizontal("session", _today())).alias("known_on")
        ),
        republish=True,
    ),
    "short_interest": Plain(
        ShortInterest, filled=lambda rows, names: rows.with_columns(pl.col("known_on").fill_null(_today()))
    ),
    "fund_members": Plain(FundMember, symbols=(("fund", "fund_id"), ("symbol", "name_id"))),
    "rates": Plain(RateDay, over="session", wrong=_rates_wrong, symbols=(), republish=True),
    "news": Plain(NewsItem, over="at", wrong=_news_wrong, filled=_news),
}  # fmt: skip
