"""Loading chains: the contracts of a name at a moment are one value, into which those of a file are laid."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from zoneinfo import ZoneInfo

import polars as pl
from sqlalchemy import Engine

from flinch.feeds.files.changes import Change, Names, compare_rows, count_rows, unknown_symbols
from flinch.feeds.files.reasons import because
from flinch.store.market.chain import chain_rows, read_contracts, read_multipliers, read_spots, stored
from flinch.store.market.imports import Ledger
from flinch.store.market.models import ChainSnapshot, ContractSeries, NameChain, SnapshotPrice
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
            count_rows(prices, compare_rows(read_spots(engine, moment), _spots(made), ["name_id"]))
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
