"""Writing a market's data as files that can be loaded again: a file a kind, chains a file a moment, and an index of them."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Literal, NamedTuple

import polars as pl
from sqlalchemy import Engine, select

from flinch.feeds.files.kinds import KINDS
from flinch.feeds.files.trades import PRINT_CONDITIONS, TAPE_CONDITIONS, condition_words
from flinch.store.market.chain import read_chain_days, read_contracts, read_multipliers, read_snapshots, read_spots
from flinch.store.market.interest import read_interest_day, read_interest_sessions
from flinch.store.market.minutes import read_minutes
from flinch.store.market.models import (
    DailyBar,
    Dividend,
    EarningsReport,
    Estimate,
    ExtendedDay,
    Fundamental,
    FundamentalSource,
    FundMember,
    MarketBase,
    MinuteDay,
    NewsItem,
    RateDay,
    ShortInterest,
    Split,
    Venue,
    VolatilityDay,
)
from flinch.store.market.names import read_keys, read_names
from flinch.store.market.prints import read_print_sessions, read_prints
from flinch.store.market.settings import read_settings
from flinch.store.market.splits import bars_as_traded
from flinch.store.market.tape import read_tape, read_tape_sessions
from flinch.store.reading import read_table

Form = Literal["parquet", "csv"]


class Written(NamedTuple):
    """A file that was written."""

    kind: str
    file: str
    rows: int


class Span(NamedTuple):
    """Sessions from one to another, both included; none: from the first, to the last."""

    first: dt.date | None = None
    last: dt.date | None = None

    def holds(self, day: dt.date) -> bool:
        """Whether a session is one of them."""
        return (self.first is None or day >= self.first) and (self.last is None or day <= self.last)


def export_kinds(
    engine: Engine,
    kinds: list[str],
    folder: Path,
    form: Form,
    span: Span | None = None,
    tell: Callable[[float], None] = lambda share: None,
) -> list[Written]:
    """Write kinds into a folder, which is made, and `index.json` beside them; what there is none of is left out. `tell` hears
    what share of them is done."""
    folder.mkdir(parents=True, exist_ok=True)
    written = []
    for done, kind in enumerate(kinds):
        tell(done / len(kinds))
        for name, rows in _EXPORTS[kind](engine, kind, span or Span()):
            tell(done / len(kinds))
            if rows.height:
                file = f"{name}.{form}"
                _write(
                    rows.select([c.name for c in KINDS[kind].columns if c.name in rows.columns]), folder / file, form
                )
                written.append(Written(kind, file, rows.height))
    index = {"market": read_settings(engine)._asdict(), "files": [one._asdict() for one in written]}
    (folder / "index.json").write_text(json.dumps(index, indent=1) + "\n", encoding="utf-8")
    return written


def _write(rows: pl.DataFrame, path: Path, form: Form) -> None:
    making = path.with_name(f".{path.name}.making")
    if form == "parquet":
        rows.write_parquet(making, compression="zstd")
    else:
        # Numbers as the shortest text that reads back as the same number, instants with their offset.
        rows.write_csv(making, datetime_format="%Y-%m-%dT%H:%M:%S%.f%:z")
    making.rename(path)


Tables = Iterator[tuple[str, pl.DataFrame]]


def _with_symbols(
    engine: Engine, rows: pl.DataFrame, pairs: Sequence[tuple[str, str]] = (("name_id", "symbol"),)
) -> pl.DataFrame:
    """Rows with symbols in place of ids."""
    names = read_names(engine).select("id", "symbol")
    for key, symbol in pairs:
        known = names.rename({"id": key, "symbol": symbol})
        rows = rows.join(known, on=key, how="inner", maintain_order="left").drop(key)
    return rows


def _plainly(
    table: type[MarketBase],
    day: str | None = None,
    pairs: Sequence[tuple[str, str]] = (("name_id", "symbol"),),
    finished: Callable[[Engine, pl.DataFrame], pl.DataFrame] = lambda engine, rows: rows,
) -> Callable[[Engine, str, Span], Tables]:
    """What exports a kind that is a table, by the column of its days and its ids with the columns of their symbols."""

    def export(engine: Engine, kind: str, span: Span) -> Tables:
        columns = table.__table__.columns
        rows = select(*columns).order_by(*[column for column in columns if column.primary_key])
        if day is not None and span.first is not None:
            rows = rows.where(columns[day] >= span.first)
        if day is not None and span.last is not None:
            rows = rows.where(columns[day] <= span.last)
        yield kind, _with_symbols(engine, finished(engine, read_table(engine, rows)), pairs)

    return export


def _as_traded(table: type[DailyBar | ExtendedDay]) -> Callable[[Engine, str, Span], Tables]:
    """What exports prices and shares of sessions, as they were traded."""
    told = [c.name for c in table.__table__.columns if not c.primary_key and c.name != "import_id"]
    counts = [name for name in told if name.endswith("volume")]
    prices = [name for name in told if name not in counts]

    def finished(engine: Engine, rows: pl.DataFrame) -> pl.DataFrame:
        return bars_as_traded(engine, rows, "session", prices, counts)

    return _plainly(table, "session", finished=finished)


def _by_moment(
    read: Callable[..., pl.DataFrame],
    finished: Callable[[Engine, pl.DataFrame], pl.DataFrame],
    sessions: Callable[[Engine], list[dt.date]],
) -> Callable[[Engine, str, Span], Tables]:
    """What exports a kind of which a session has many, a file a session."""

    def export(engine: Engine, kind: str, span: Span) -> Tables:
        ids = read_names(engine)["id"]
        for session in sessions(engine):
            if span.holds(session) and ids.len():
                rows = read(engine, (int(ids.min()), int(ids.max())), (session, session), as_told=True)  # type: ignore[arg-type]
                yield f"{kind}-{session}", _with_symbols(engine, finished(engine, rows))

    return export


def _minutes(engine: Engine, rows: pl.DataFrame) -> pl.DataFrame:
    at = pl.col("at").cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
    return rows.with_columns(at, pl.col(pl.Float64).fill_nan(None))


def _told(conditions: dict[str, int]) -> Callable[[Engine, pl.DataFrame], pl.DataFrame]:
    def finished(engine: Engine, rows: pl.DataFrame) -> pl.DataFrame:
        midnight = pl.col("session").cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
        told = rows.with_columns(
            (midnight + pl.duration(milliseconds=pl.col("at"))).alias("at"),
            condition_words(conditions),
            pl.col(pl.Float64).fill_nan(None),
        )
        if "venue" in told.columns:
            venues = {key: name for name, key in read_keys(engine, Venue).items()}
            told = told.with_columns(
                pl.col("venue").cast(pl.Int64).replace_strict(venues, default="not told", return_dtype=pl.String),
                pl.when("is_call").then(pl.lit("call")).otherwise(pl.lit("put")).alias("right"),
            )
        return told

    return finished


def _minute_sessions(engine: Engine) -> list[dt.date]:
    rows = read_table(engine, select(MinuteDay.session).distinct().order_by(MinuteDay.session))
    return rows["session"].cast(pl.Date).to_list()


def _fundamentals(engine: Engine, kind: str, span: Span) -> Tables:
    sources = {key: name for name, key in read_keys(engine, FundamentalSource).items()}
    for name, rows in _plainly(Fundamental, "known_on")(engine, kind, span):
        known = pl.col("source").cast(pl.Int64)
        named = known.replace_strict(sources, default=None, return_dtype=pl.String)
        yield name, rows.with_columns(pl.coalesce(named, pl.format("source {}", known)).alias("source"))


def _estimates(engine: Engine, kind: str, span: Span) -> Tables:
    for name, rows in _plainly(Estimate, "known_on")(engine, kind, span):
        yield name, rows.rename({"fair_value": "price_target"})


def _volatilities(engine: Engine, kind: str, span: Span) -> Tables:
    """Those that no chain says."""
    symbols = _with_symbols(engine, read_chain_days(engine))
    for name, rows in _plainly(VolatilityDay, "session")(engine, kind, span):
        # Single precision, as the shortest number that reads back as the same.
        plain = rows.with_columns(pl.col(pl.Float32).cast(pl.String).cast(pl.Float64))
        yield name, plain.join(symbols, on=["symbol", "session"], how="anti", maintain_order="left")


def _names(engine: Engine, kind: str, span: Span) -> Tables:
    rows = read_names(engine).rename({"kind": "type"})
    yield kind, rows.with_columns(pl.when(pl.col("sector") == "").then(None).otherwise("sector").alias("sector"))


def _chains(engine: Engine, kind: str, span: Span) -> Tables:
    multipliers = read_multipliers(engine)
    for snapshot in read_snapshots(engine):
        if span.holds(snapshot.session):
            rows = read_contracts(engine, snapshot.taken_at, as_told=True).join(
                read_spots(engine, snapshot.taken_at, as_told=True).rename({"price": "underlying"}),
                on="name_id",
                how="left",
            )
            rows = rows.join(multipliers, on="name_id", how="left").with_columns(
                pl.lit(snapshot.taken_at).cast(pl.Datetime("us", "UTC")).alias("taken_at"),
                pl.when("is_call").then(pl.lit("call")).otherwise(pl.lit("put")).alias("right"),
            )
            yield f"{kind}-{snapshot.taken_at:%Y-%m-%dT%H%M%S}", _with_symbols(engine, rows)


def _interest(engine: Engine, kind: str, span: Span) -> Tables:
    for session in read_interest_sessions(engine):
        if span.holds(session):
            right = pl.when("is_call").then(pl.lit("call")).otherwise(pl.lit("put")).alias("right")
            yield f"{kind}-{session}", _with_symbols(engine, read_interest_day(engine, session).with_columns(right))


def _news(engine: Engine, kind: str, span: Span) -> Tables:
    """By the day that they have in UTC."""
    n = NewsItem
    wanted = select(n.name_id, n.at, n.headline, n.topic).order_by(n.name_id, n.at)
    if span.first is not None:
        wanted = wanted.where(n.at >= span.first)
    if span.last is not None:
        wanted = wanted.where(n.at < span.last + dt.timedelta(days=1))
    names = read_names(engine).select(pl.col("id").alias("name_id"), "symbol")
    at = pl.col("at").cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
    topic = pl.when(pl.col("topic") == "").then(None).otherwise("topic").alias("topic")
    told = read_table(engine, wanted).with_columns(at, topic)
    yield kind, told.join(names, on="name_id", how="left", maintain_order="left").drop("name_id")


_EXPORTS: dict[str, Callable[[Engine, str, Span], Tables]] = {
    "names": _names,
    "daily_bars": _as_traded(DailyBar),
    "splits": _plainly(Split, "ex_date"),
    "chains": _chains,
    "open_interest": _interest,
    "volatility_days": _volatilities,
    "extended_days": _as_traded(ExtendedDay),
    "minute_bars": _by_moment(read_minutes, _minutes, _minute_sessions),
    "option_trades": _by_moment(read_tape, _told(TAPE_CONDITIONS), read_tape_sessions),
    "prints": _by_moment(read_prints, _told(PRINT_CONDITIONS), read_print_sessions),
    "fundamentals": _fundamentals,
    "estimates": _estimates,
    "dividends": _plainly(Dividend, "ex_date"),
    "earnings_dates": _plainly(EarningsReport, "session"),
    "short_interest": _plainly(ShortInterest, "settled_on"),
    "fund_members": _plainly(FundMember, pairs=(("fund_id", "fund"), ("name_id", "symbol"))),
    "rates": _plainly(RateDay, "session", ()),
    "news": _news,
}
EXPORTED = tuple(_EXPORTS)
"""Kinds that can be written."""
