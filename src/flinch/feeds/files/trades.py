"""Loading what a session has many of, a name: minute bars, option trades and prints, each kept as one value.

Minutes are told apart by when they begin. Trades and prints have no key: from the first to the last moment that a file tells of
in a session, those of a name that it names take the place of what was there.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from zoneinfo import ZoneInfo

import polars as pl
from sqlalchemy import Engine

from flinch.feeds.files.changes import Change, Names, compare_rows, count_rows, in_chunks, unknown_symbols
from flinch.feeds.files.reasons import because
from flinch.store.market.chain import read_snapshots
from flinch.store.market.imports import Ledger
from flinch.store.market.minutes import minute_rows, read_minutes
from flinch.store.market.models import MarketBase, MinuteDay, PrintDay, TapeDay
from flinch.store.market.prints import AVERAGE, DERIVATIVE, print_rows, read_prints
from flinch.store.market.prints import LATE as OUT_OF_SEQUENCE
from flinch.store.market.tape import AUCTION, CANCELLED, LATE, PACKAGE, read_tape, tape_rows
from flinch.store.packing import can_be_packed
from flinch.store.reading import numbers

TAPE_CONDITIONS = {"package": PACKAGE, "late": LATE, "cancelled": CANCELLED, "auction": AUCTION}
PRINT_CONDITIONS = {"average": AVERAGE, "derived": DERIVATIVE, "out_of_sequence": OUT_OF_SEQUENCE}
_PRICES = ("open", "high", "low", "close", "price", "strike", "bid", "ask")
_MOST = 2**31 - 1


def _refused(frame: pl.DataFrame, names: Names, conditions: dict[str, int], counts: Sequence[str]) -> list[pl.Series]:
    """Why rows are refused whose prices are packed."""
    reasons = unknown_symbols(frame, names, ["symbol"])
    for name in _PRICES:
        if name in frame.columns:
            bad = pl.Series(~can_be_packed(numbers(frame[name])))
            reasons.append(because(bad, f"{name} is below zero, or has more than eight decimals"))
    for name in counts:
        reasons.append(because(frame[name].abs() > _MOST, f"{name} is larger than can be"))
    if "conditions" in frame.columns:
        known = frame.select(_told_words().list.eval(pl.element().is_in([*conditions, ""])).list.all())["conditions"]
        words = f"conditions are {', '.join(conditions)}, joined by +, and not: "
        reasons.append(because(~known.fill_null(True), words, frame["conditions"]))
    return reasons


def _told_words() -> pl.Expr:
    return pl.col("conditions").str.to_lowercase().str.split("+").list.eval(pl.element().str.strip_chars())


def _bits(conditions: dict[str, int]) -> pl.Expr:
    told = _told_words()
    parts = [pl.when(told.list.contains(word)).then(bit).otherwise(0) for word, bit in conditions.items()]
    return pl.sum_horizontal(parts).fill_null(0).cast(pl.UInt8).alias("conditions")


def condition_words(conditions: dict[str, int]) -> pl.Expr:
    """The words of added up conditions, joined by a plus; none for none."""
    bits = pl.col("conditions").cast(pl.Int64)
    words = [pl.when((bits & bit) > 0).then(pl.lit(word)).otherwise(None) for word, bit in conditions.items()]
    joined = pl.concat_str(words, separator="+", ignore_nulls=True)
    return pl.when(joined == "").then(None).otherwise(joined).alias("conditions")


def _with_session(rows: pl.DataFrame, names: Names, zone: ZoneInfo) -> pl.DataFrame:
    local = pl.col("at").dt.convert_time_zone(zone.key).dt.date()
    return rows.with_columns(names.id_of(rows["symbol"]).alias("name_id"), local.alias("session")).drop("symbol")


def _by_session(parts: Sequence[Path], zone: ZoneInfo) -> Iterator[pl.DataFrame]:
    """The rows laid aside, those of whole sessions together."""
    yield from in_chunks(parts, "at", lambda at: at.dt.convert_time_zone(zone.key).dt.date())


class MinuteLoader:
    """Minute bars: one that begins when another does takes its place."""

    def refuse(self, frame: pl.DataFrame, names: Names, zone: ZoneInfo) -> list[pl.Series]:
        low = frame.select(pl.min_horizontal("open", "high", "low", "close"))["open"]
        whole = (frame["at"].dt.second() == 0) & (frame["at"].dt.microsecond() == 0)
        return [
            *_refused(frame, names, {}, ["volume"]),
            because(low <= 0, "a price is not above zero"),
            because(frame["high"] < frame["low"], "high is under low"),
            because(~whole, "at is not the start of a minute"),
        ]

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        change = Change()
        for rows in _by_session(parts, zone):
            made = self._made(rows, names, zone)
            count_rows(change, compare_rows(_minutes_there(engine, made), made, _MINUTE))
        change.writes.append(partial(self._write, parts=parts, names=names, zone=zone))
        return change

    def _made(self, rows: pl.DataFrame, names: Names, zone: ZoneInfo) -> pl.DataFrame:
        made = _with_session(rows, names, zone).with_columns(
            pl.col("at").dt.replace_time_zone(None).cast(pl.Datetime("ms")), pl.col("volume").round()
        )
        return made.select(*_MINUTE, *_BAR).unique(_MINUTE, keep="last", maintain_order=True)

    def _write(self, ledger: Ledger, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> None:
        for rows in _by_session(parts, zone):
            made = self._made(rows, names, zone)
            there = _minutes_there(ledger.engine, made)
            whose = made.select("session", "name_id").unique()
            stays = there.join(whose, on=["session", "name_id"], how="semi").join(made, on=_MINUTE, how="anti")
            ledger.replace(MinuteDay, minute_rows(pl.concat([stays, made], how="vertical_relaxed")))


_MINUTE, _BAR = ["session", "name_id", "at"], ["open", "high", "low", "close", "volume"]


def _minutes_there(engine: Engine, made: pl.DataFrame) -> pl.DataFrame:
    there = read_minutes(engine, *_span(made), as_told=True).with_columns(
        pl.col("session").cast(pl.Date), pl.col("volume").fill_nan(None)
    )
    return there.select(*_MINUTE, *_BAR)


def _span(made: pl.DataFrame) -> tuple[tuple[int, int], tuple[dt.date, dt.date]]:
    ids, days = made["name_id"], made["session"]
    return (int(ids.min()), int(ids.max())), (days.min(), days.max())  # type: ignore[arg-type, return-value]


@dataclass(frozen=True)
class _Told:
    """What has an order and no key: the table, how its rows are packed and read, the fields of one, its conditions and counts,
    and whether flow follows from it."""

    table: type[MarketBase]
    pack: Callable[[pl.DataFrame], pl.DataFrame]
    read: Callable[..., pl.DataFrame]
    fields: tuple[str, ...]
    conditions: dict[str, int]
    counts: tuple[str, ...]
    republish: bool

    def refuse(self, frame: pl.DataFrame, names: Names, zone: ZoneInfo) -> list[pl.Series]:
        reasons = _refused(frame, names, self.conditions, self.counts)
        if "expiration" in frame.columns:
            today = frame["at"].dt.convert_time_zone(zone.key).dt.date()
            reasons.append(because(frame["expiration"] < today, "the contract had expired"))
        return reasons

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        change, sessions = Change(), set()
        for rows in _by_session(parts, zone):
            made = self._made(rows, names, zone)
            there = _with_spans(self._there(engine, made), made).filter(pl.col("at").is_between("first", "last"))
            key = ["session", "name_id"]
            told = {k: part for k, part in there.group_by(key)}
            for one, part in made.group_by(key, maintain_order=True):
                before = told.get(one)
                if before is None:
                    change.added += part.height
                elif before.select(self.fields).equals(part.select(self.fields)):
                    change.same += part.height
                    continue
                else:
                    change.changed += part.height
                sessions.add(one[0])
        change.writes.append(partial(self._write, parts=parts, names=names, zone=zone))
        if self.republish:
            change.moments = [s.taken_at for s in read_snapshots(engine) if s.session in sessions]
        return change

    def _made(self, rows: pl.DataFrame, names: Names, zone: ZoneInfo) -> pl.DataFrame:
        made = _with_session(rows, names, zone)
        if "venue" in made.columns:
            venue = made["venue"].str.slice(0, 40).fill_null("not told")
            made = made.with_columns(names.venue_of(venue).cast(pl.Int16).alias("venue"))
        midnight = pl.col("session").cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
        return made.with_columns(
            (pl.col("at") - midnight).dt.total_milliseconds().alias("at"),
            _bits(self.conditions),
            *([pl.col("right").alias("is_call")] if "right" in made.columns else []),
        ).select("session", "name_id", *self.fields)

    def _there(self, engine: Engine, made: pl.DataFrame) -> pl.DataFrame:
        there = self.read(engine, *_span(made), as_told=True).with_columns(pl.col("session").cast(pl.Date))
        return there.select(pl.col(name).cast(kind) for name, kind in made.schema.items()).with_columns(
            pl.col(pl.Float64).fill_nan(None)
        )

    def _write(self, ledger: Ledger, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> None:
        key = ["session", "name_id"]
        for rows in _by_session(parts, zone):
            made = self._made(rows, names, zone)
            there = _with_spans(self._there(ledger.engine, made), made)
            there = there.join(made.select(key).unique(), on=key, how="semi", maintain_order="left")
            early = there.filter(pl.col("at") < pl.col("first")).select(made.columns)
            late = there.filter(pl.col("at") > pl.col("last")).select(made.columns)
            ledger.replace(self.table, self.pack(pl.concat([early, made, late])))


def _with_spans(there: pl.DataFrame, made: pl.DataFrame) -> pl.DataFrame:
    """The rows that are there of sessions that a file tells of, with the `first` and `last` moment that it tells of in each."""
    span = made.group_by("session").agg(pl.col("at").min().alias("first"), pl.col("at").max().alias("last"))
    return there.join(span, on="session", how="inner", maintain_order="left")


TAPE = _Told(
    TapeDay, tape_rows, read_tape,
    ("at", "expiration", "strike", "is_call", "venue", "conditions", "price", "contracts", "bid", "ask"),
    TAPE_CONDITIONS, ("contracts",), republish=True,
)  # fmt: skip
PRINTS = _Told(
    PrintDay, print_rows, read_prints, ("at", "price", "shares", "conditions"), PRINT_CONDITIONS, ("shares",),
    republish=False,
)  # fmt: skip
