"""What rows of a file come to: which are new, which are others than those that are there, and what writes them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol
from zoneinfo import ZoneInfo

import polars as pl
from sqlalchemy import Engine

from flinch.feeds.files.reasons import because
from flinch.store.market.imports import Ledger
from flinch.store.market.models import FundamentalSource, Name, Venue

Write = Callable[[Ledger], None]
_AT_ONCE = 500_000
"""Rows that are compared and written together, about."""


@dataclass
class Change:
    """What rows come to: how many are new, other than before, or the same, and how many of them are kept `beside`, where another
    source is preferred; what writes them; the moments whose chains changed."""

    added: int = 0
    changed: int = 0
    same: int = 0
    beside: int = 0
    writes: list[Write] = field(default_factory=list)
    moments: list[dt.datetime] = field(default_factory=list)
    all_moments: bool = False


MEND = "mend"
"""Who tells what was mended. It gives way to whoever tells it anew."""


@dataclass(frozen=True)
class Tellers:
    """Who told what: the source of every import, who tells the rows that come, and the sources in the order of preference, by
    kind."""

    me: str
    imports: dict[int, str]
    order: dict[str, list[str]]

    def known(self, kind: str) -> list[str]:
        """All sources, the preferred one first; those that are not in the order come last, by when they told something first."""
        first = [self.imports[number] for number in sorted(self.imports)]
        return list(dict.fromkeys([*self.order.get(kind, []), *first, self.me]))

    def ranks(self, kind: str) -> dict[str, int]:
        """How far down the order of a kind each source is."""
        return {source: place for place, source in enumerate(self.known(kind))}


class Names:
    """The market's names: ids of symbols, and those that are made on the way; keys of the `venues` and of the `sources` of
    fundamentals, likewise. `tellers` knows who told which row, and who tells those that come."""

    def __init__(
        self,
        rows: pl.DataFrame,
        *,
        make: bool,
        venues: dict[str, int] | None = None,
        sources: dict[str, int] | None = None,
        tellers: Tellers | None = None,
    ) -> None:
        self.tellers = tellers or Tellers("", {}, {})
        self.ids: dict[str, int] = dict(zip(rows["symbol"].to_list(), rows["id"].to_list(), strict=True))
        self._next = max(self.ids.values(), default=0) + 1
        self._make = make
        self._made: list[str] = []
        self.venues, self.sources = dict(venues or {}), dict(sources or {})

    def unknown(self, symbols: pl.Series) -> pl.Series:
        """Which symbols are not known; none where names are made."""
        known = symbols.is_null() | symbols.is_in(list(self.ids))
        return ~(known | self._make)

    def venue_of(self, venues: pl.Series) -> pl.Series:
        """Keys of venues; those that are not known get one."""
        return _keys(venues, self.venues)

    def source_of(self, sources: pl.Series) -> pl.Series:
        """Keys of sources of fundamentals, from one on; those that are not known get one."""
        return _keys(sources, self.sources)

    def id_of(self, symbols: pl.Series) -> pl.Series:
        """Ids of symbols; those that are not known get one, and those that are missing none."""
        for symbol in sorted(set(symbols.drop_nulls().unique().to_list()) - self.ids.keys()):
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
        """Write the names that were made: of them nothing is known but the symbol; and new venues and sources."""
        for table, keys in ((Venue, self.venues), (FundamentalSource, self.sources)):
            ledger.replace(table, pl.DataFrame({"id": list(keys.values()), "name": list(keys)}))
        if self._made:
            rows = {"id": [self.ids[symbol] for symbol in self._made], "symbol": self._made, "company": self._made}
            ledger.replace(Name, pl.DataFrame(rows).with_columns(kind=pl.lit("stock"), sector=pl.lit("")))


def _keys(words: pl.Series, known: dict[str, int]) -> pl.Series:
    for word in words.drop_nulls().unique(maintain_order=True).to_list():
        if word not in known:
            known[word] = max(known.values(), default=0) + 1
    return words.replace_strict(known, default=None, return_dtype=pl.Int64)


class Loader(Protocol):
    """What one kind does."""

    def refuse(self, frame: pl.DataFrame, names: Names, zone: ZoneInfo) -> list[pl.Series]:
        """Why rows are refused, beside what reading says of them."""

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        """What the good rows, laid aside in files, change."""


NEW, OTHER, SAME = 0, 1, 2


def compare_rows(there: pl.DataFrame, made: pl.DataFrame, key: list[str]) -> pl.Series:
    """Of each row whether it is new, other than the one that is there, or the same."""
    values = [name for name in made.columns if name not in key and name in there.columns]
    typed = there.select(pl.col(name).cast(made.schema[name]) for name in (*key, *values)).with_columns(
        pl.lit(True).alias("_there")
    )
    both = made.join(typed, on=key, how="left", suffix="_before", maintain_order="left")
    alike = pl.all_horizontal(pl.lit(True), *[pl.col(name).eq_missing(pl.col(f"{name}_before")) for name in values])
    told = pl.when(pl.col("_there").is_null()).then(NEW).when(alike).then(SAME).otherwise(OTHER)
    return both.select(told.alias("alike"))["alike"]


def count_rows(change: Change, alike: pl.Series) -> None:
    change.added += int((alike == NEW).sum())
    change.changed += int((alike == OTHER).sum())
    change.same += int((alike == SAME).sum())


def in_chunks(
    parts: Sequence[Path], over: str | None, day: Callable[[pl.Expr], pl.Expr] = lambda column: column
) -> Iterator[pl.DataFrame]:
    """The rows laid aside, some at a time: those of a stretch of days together, so that a row stands in one of them alone. `day`
    tells the day from the column."""
    scan = pl.scan_parquet(list(parts))
    if over is None:
        yield scan.collect()
        return
    stretch = day(pl.col(over)).alias("_day")
    days = scan.group_by(stretch).agg(pl.len().alias("rows")).sort("_day").collect()
    chunk = ((pl.col("rows").cum_sum() - 1) // _AT_ONCE).alias("chunk")
    for wanted in days.with_columns(chunk).partition_by("chunk", maintain_order=True):
        yield scan.filter(stretch.is_between(wanted["_day"][0], wanted["_day"][-1])).collect()


def unknown_symbols(frame: pl.DataFrame, names: Names, symbols: Sequence[str]) -> list[pl.Series]:
    """Symbols that are no names: by name."""
    return [because(names.unknown(frame[symbol]), "no name is called ", frame[symbol]) for symbol in symbols]
