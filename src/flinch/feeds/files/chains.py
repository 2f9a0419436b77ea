"""Loading chains: the contracts of a name at a moment are one value, into which those of a file are laid."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Sequence
from functools import partial
from pathlib import Path
from zoneinfo import ZoneInfo

import polars as pl
from sqlalchemy import Engine

from flinch.feeds.files.changes import SAME, Change, Names, compare_rows, count_rows, in_chunks, unknown_symbols
from flinch.feeds.files.reasons import because
from flinch.store.market.chain import chain_rows, read_contracts, read_multipliers, read_snapshots, read_spots, stored
from flinch.store.market.imports import Ledger
from flinch.store.market.interest import interest_rows, read_interest_day
from flinch.store.market.models import ChainSnapshot, ContractSeries, InterestDay, NameChain, SnapshotPrice
from flinch.store.packing import can_be_packed
from flinch.store.reading import numbers

_QUOTES = ("bid", "ask", "volume", "open_interest")


class ChainLoader:
    """Chains: the contracts of a name at a moment are one value, into which those of a file are laid."""

    def refuse(self, frame: pl.DataFrame, names: Names, zone: ZoneInfo) -> list[pl.Series]:
        wrong = [
            (pl.Series(~can_be_packed(numbers(frame[side]))), f"{side} has more than eight decimals")
            for side in ("bid", "ask")
        ]
        wrong.append((frame["strike"] <= 0, "strike is not above zero"))
        today = frame["taken_at"].dt.convert_time_zone(zone.key).dt.date()
        wrong.append((frame["expiration"] < today, "the contract had expired"))
        return [*unknown_symbols(frame, names, ["symbol"]), *[because(bad, words) for bad, words in wrong]]

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        change = Change()
        scan = pl.scan_parquet(list(parts))
        for moment in scan.select(pl.col("taken_at").unique().sort()).collect()["taken_at"].to_list():
            made = _contracts(parts, moment, names)
            contracts, prices = Change(), Change()
            count_rows(contracts, compare_rows(_there_at(engine, moment), made.select(*_CONTRACT, *_QUOTES), _CONTRACT))
            count_rows(prices, compare_rows(read_spots(engine, moment, as_told=True), _spots(made), ["name_id"]))
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
    return read_contracts(engine, moment, as_told=True).with_columns(pl.col("volume", "open_interest").cast(pl.Int64))


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


class InterestLoader:
    """Open interest of mornings, for chains that come without: the contracts of a name in a session are one value."""

    def refuse(self, frame: pl.DataFrame, names: Names, zone: ZoneInfo) -> list[pl.Series]:
        wrong = [
            because(frame["strike"] <= 0, "strike is not above zero"),
            because(pl.Series(~can_be_packed(numbers(frame["strike"]))), "strike has more than eight decimals"),
            because(frame["expiration"] < frame["session"], "the contract had expired"),
        ]
        return [*unknown_symbols(frame, names, ["symbol"]), *wrong]

    def compare(self, engine: Engine, parts: Sequence[Path], names: Names, zone: ZoneInfo) -> Change:
        change, sessions = Change(), set()
        for made in self._made(parts, names):
            for (session,), mine in made.group_by("session", maintain_order=True):
                assert isinstance(session, dt.date)
                alike = compare_rows(read_interest_day(engine, session), mine, ["session", *_CONTRACT])
                count_rows(change, alike)
                if (alike != SAME).any():
                    sessions.add(session)
        change.writes.append(partial(self._write, parts=parts, names=names))
        snapshots = read_snapshots(engine)
        # What was opened on the session after follows from it too.
        after = [next((s.session for s in snapshots if s.session > session), None) for session in sessions]
        change.moments = [s.taken_at for s in snapshots if s.session in sessions or s.session in after]
        return change

    def _made(self, parts: Sequence[Path], names: Names) -> Iterator[pl.DataFrame]:
        for rows in in_chunks(parts, "session"):
            made = rows.with_columns(names.id_of(rows["symbol"]).alias("name_id"), pl.col("right").alias("is_call"))
            columns = ["session", *_CONTRACT, "open_interest"]
            yield made.select(columns).unique(["session", *_CONTRACT], keep="last", maintain_order=True)

    def _write(self, ledger: Ledger, parts: Sequence[Path], names: Names) -> None:
        key = ["session", *_CONTRACT]
        for made in self._made(parts, names):
            for (session,), mine in made.group_by("session", maintain_order=True):
                assert isinstance(session, dt.date)
                there = read_interest_day(ledger.engine, session).select(mine.columns)
                whose = there.filter(pl.col("name_id").is_in(mine["name_id"].unique().implode()))
                ledger.replace(InterestDay, interest_rows(pl.concat([whose.join(mine, on=key, how="anti"), mine])))


def _write_multipliers(ledger: Ledger, rows: pl.DataFrame) -> None:
    before = read_multipliers(ledger.engine).rename({"multiplier": "before"})
    new = rows.join(before, on="name_id", how="left").filter(pl.col("multiplier") != pl.col("before").fill_null(100.0))
    if new.height:
        standard = pl.DataFrame({"series": [0], "cash": [0.0]})
        made = new.select("name_id", "multiplier", pl.col("multiplier").alias("shares")).join(standard, how="cross")
        ledger.replace(ContractSeries, made)
