"""Publish: compute what depends on a snapshot of the chains, and write it where the frame reads it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
import polars as pl
from sqlalchemy import Engine

from flinch.core.calendar import Hours, is_monthly, years_to_close
from flinch.core.gamma import StrikeRows, summarise_positions
from flinch.core.moves import running_ends
from flinch.core.pricing import exercised_early
from flinch.core.volatility import smile_vol
from flinch.core.volatility.chain import FLAWS, ChainQuotes, ExpirySummary, summarise_expiries, typical_width
from flinch.core.volatility.terms import Terms, WithoutReports, session_volatility, without_reports
from flinch.hours import read_hours
from flinch.jobs import told_as_job
from flinch.store.bulk import replace_rows
from flinch.store.jobs import JobTable
from flinch.store.market.chain import read_interest, read_snapshots, read_spots, read_strike_rows, stored
from flinch.store.market.facts import dividends_ahead, next_reactions
from flinch.store.market.models import (
    SVI_COLUMNS,
    TENORS,
    ExpiryVolatility,
    FlowDay,
    MarketJob,
    OptionDay,
    Position,
    SurfaceDay,
    VolatilityDay,
)
from flinch.store.market.names import multipliers, read_calendar, read_closes, read_names
from flinch.store.market.rates import read_rate
from flinch.store.market.state import read_state
from flinch.store.market.surfaces import NO_QUALITY, PACKED
from flinch.store.packing import pack_groups
from flinch.store.reading import dates, numbers
from flinch.tape import Asked, name_sums, read_session_tape


class Reading(NamedTuple):
    """A snapshot of all chains and the surfaces fitted to it.

    `rows` has a strike a row, `group` being its expiration's row in `groups`; `owner` is each group's row in `names`, `spot` by
    name.
    """

    taken_at: dt.datetime
    session: dt.date
    names: pl.DataFrame
    spot: np.ndarray
    rows: pl.DataFrame
    groups: pl.DataFrame
    owner: np.ndarray
    years: np.ndarray
    chain: ChainQuotes
    summary: ExpirySummary
    rate: float
    hours: Hours


def publish(engine: Engine, taken_at: dt.datetime | None = None, names: Sequence[int] | None = None) -> None:
    """Fit every name's surface to a snapshot of the chains; write expirations, exposures and what was opened, and where it is the
    last one of its session, what is kept of that: its surfaces, volatility and option activity.

    Parameters
    ----------
    engine
        The store.
    taken_at
        The snapshot, of any session; the market's as-of instant when left out.
    names
        Keys of the names whose chains were looked at, where the others' stand as they were published before; all when left out.

    Notes
    -----
    One pass over all contracts; running it twice writes the same rows. A row of `MarketJob` tells how far it is; it can be
    cancelled between two tables, and what was not written then is as it was.
    """
    state = read_state(engine)
    if state is None:
        raise RuntimeError("no market is loaded")
    moment = (taken_at or state.as_of).astimezone(dt.UTC)
    with told_as_job(JobTable(engine, MarketJob), "publish", {"taken_at": moment.isoformat()}) as tell:
        tell(0.0, "fitting surfaces")
        reading = _read(engine, moment, state.rate, names)
        ids = reading.names["id"].to_numpy()
        bare = without_reports(_terms(reading), next_reactions(engine, ids, reading.session))
        tell(0.5, "writing expirations")
        _write_expiries(engine, reading, bare.vol)
        tell(0.65, "adding up exposure")
        _write_positions(engine, reading)
        tell(0.85, "writing the session")
        _write_session(engine, reading, bare)
    publish_flow(engine, moment)


def publish_flow(engine: Engine, taken_at: dt.datetime) -> None:
    """Write what every name's option trades of a session came to up to a moment; nothing when a later snapshot of the session is
    there, or no trades of it are kept."""
    state, moment = read_state(engine), taken_at.astimezone(dt.UTC)
    assert state is not None
    hours = read_hours(engine)
    session = hours.day_of(moment)
    looks = [s.taken_at for s in read_snapshots(engine) if s.session == session]
    if not looks or looks[-1] > moment:
        return
    names = read_names(engine)
    ids = names["id"].to_numpy()
    calendar = read_calendar(engine)
    before = calendar[calendar < np.datetime64(session, "D")]
    close = np.full(ids.size, np.nan)
    if before.size:
        bars = read_closes(engine, before[-1].astype(object)).filter(pl.col("name_id").is_in(ids.tolist()))
        close[np.searchsorted(ids, bars["name_id"].to_numpy())] = numbers(bars["close"])
    rate = read_rate(engine, session, state.rate)
    tape = read_session_tape(
        # Trades come between one look at the chains and the next.
        engine,
        Asked(ids, close, multipliers(engine, ids), session, looks[-1], looks[-1], None, moment, rate, hours),
    )
    if tape is None:
        return
    sums = name_sums(tape, ids.size)
    rows = pl.DataFrame({"session": [session] * ids.size, "name_id": ids}).with_columns(
        [pl.Series(key, values) for key, values in sums.items()]
    )
    replace_rows(engine, FlowDay, rows.join(read_spots(engine, looks[-1]).select("name_id"), on="name_id", how="semi"))


def compile_publish() -> None:
    """Compile what publishing runs, by reading one expiration of one name; what is compiled is kept for the next process."""
    strike = np.arange(80.0, 121.0, 5.0)
    call, put = (3.0 + np.maximum(sign * (100.0 - strike), 0.0) for sign in (1, -1))
    chain = ChainQuotes(np.zeros(strike.size, np.int64), strike, call - 0.1, call + 0.1, put - 0.1, put + 0.1)
    summarise_expiries(
        chain,
        name=np.zeros(1, np.int64),
        spot=np.array([100.0]),
        years=np.array([0.25]),
        rate=0.03,
        american=np.ones(1, np.bool_),
        dividends=np.zeros(1),
    )


def _write_session(engine: Engine, reading: Reading, bare: WithoutReports) -> None:
    """What is kept of a session, when the snapshot is the last one of it."""
    later = [s for s in read_snapshots(engine) if s.session == reading.session and s.taken_at > reading.taken_at]
    if not later:
        _write_surfaces(engine, reading, bare.vol)
        _write_day(engine, reading, bare)


def _read(engine: Engine, taken_at: dt.datetime, otherwise: float, wanted: Sequence[int] | None) -> Reading:
    hours = read_hours(engine)
    session = hours.day_of(taken_at)
    rate = read_rate(engine, session, otherwise)
    names = read_names(engine)
    if wanted is not None:
        names = names.filter(pl.col("id").is_in(list(wanted)))
    ids = names["id"].to_numpy()
    known = pl.col("name_id").is_in(ids.tolist())
    rows, prices = read_strike_rows(engine, taken_at).filter(known), read_spots(engine, taken_at).filter(known)
    spot = np.full(names.height, np.nan)
    spot[np.searchsorted(ids, prices["name_id"].to_numpy())] = numbers(prices["price"])
    groups = rows.select("name_id", "expiration").unique(maintain_order=True).with_row_index("group")
    rows = rows.join(groups, on=["name_id", "expiration"], maintain_order="left")
    years = years_to_close(dates(groups["expiration"]), taken_at, hours)
    chain = ChainQuotes(
        rows["group"].cast(pl.Int64).to_numpy(),
        numbers(rows["strike"]),
        *[numbers(rows[f"{side}_{quote}"]) for side in ("call", "put") for quote in ("bid", "ask")],
    )
    owner = np.searchsorted(ids, groups["name_id"].to_numpy())
    summary = summarise_expiries(
        chain,
        name=owner,
        spot=spot[owner],
        years=years,
        rate=rate,
        american=exercised_early(names["kind"].to_numpy())[owner],
        dividends=dividends_ahead(engine, session, groups, rate),
    )
    return Reading(taken_at, session, names, spot, rows, groups, owner, years, chain, summary, rate, hours)


def _terms(reading: Reading) -> Terms:
    summary = reading.summary
    return Terms(
        names=reading.names.height,
        session=np.datetime64(reading.session, "D"),
        name=reading.owner,
        expiration=dates(reading.groups["expiration"]),
        years=reading.years,
        vol=summary.vol,
        put_25d=summary.put_25d,
        call_25d=summary.call_25d,
        quality=summary.quality,
    )


def _write_expiries(engine: Engine, reading: Reading, bare: np.ndarray) -> None:
    summary = reading.summary
    columns: dict[str, Any] = {
        "years": reading.years,
        "forward": summary.forward,
        "forward_from_parity": summary.forward_from_parity,
        "vol": summary.vol,
        "strikes": summary.fit.strikes,
        "straddle": summary.straddle,
        "straddle_strike": summary.straddle_strike,
        "carry": summary.carry,
        "lowest_strike": summary.lowest_strike,
        "highest_strike": summary.highest_strike,
        "vol_ex_earnings": bare,
        "put_25d": summary.put_25d,
        "call_25d": summary.call_25d,
        "quality": summary.quality,
        "flaw": [FLAWS[code] for code in summary.flaw],
        **{key: summary.fit.parameters[:, i] for i, key in enumerate(SVI_COLUMNS)},
    }
    replace_rows(
        engine,
        ExpiryVolatility,
        reading.groups.select("name_id", pl.lit(stored(reading.taken_at)).alias("taken_at"), "expiration").with_columns(
            [pl.Series(key, values) for key, values in columns.items()]
        ),
    )


def _write_surfaces(engine: Engine, reading: Reading, bare: np.ndarray) -> None:
    """What is kept of the session when its chains are not."""
    summary = reading.summary
    rows = np.zeros(reading.owner.size, PACKED)
    rows["days"] = _terms(reading).days
    rows["forward"], rows["svi"], rows["vol_ex_earnings"] = summary.forward, summary.fit.parameters, bare
    rows["straddle"], rows["straddle_strike"] = summary.straddle, summary.straddle_strike
    rows["lowest"], rows["highest"] = summary.lowest_strike, summary.highest_strike
    rows["quality"] = np.where(np.isfinite(summary.quality), np.round(np.nan_to_num(summary.quality)), NO_QUALITY)
    rows["flaw"], rows["strikes"] = summary.flaw, np.minimum(summary.fit.strikes, 255)
    rows["from_parity"] = summary.forward_from_parity
    owner, surfaces = pack_groups(reading.owner, rows)
    ids = reading.names["id"].to_numpy()[owner]
    when = {"session": [reading.session], "taken_at": [stored(reading.taken_at)]}
    frame = pl.DataFrame({"name_id": ids, "surface": surfaces}).join(pl.DataFrame(when), how="cross")
    replace_rows(engine, SurfaceDay, frame)


def _write_positions(engine: Engine, reading: Reading) -> None:
    rows, summary, group = reading.rows, reading.summary, reading.chain.group
    earlier = [s.taken_at for s in read_snapshots(engine) if s.session < reading.session]
    key = ["name_id", "expiration", "strike"]
    if earlier:
        before = rows.select(key).join(read_interest(engine, earlier[-1]), on=key, how="left", maintain_order="left")
    else:
        before = rows.with_columns(pl.lit(None).alias(f"{side}_open_interest") for side in ("call", "put"))
    multiplier = multipliers(engine, reading.names["id"].to_numpy())
    years = reading.years[group]
    with np.errstate(invalid="ignore", divide="ignore"):
        moneyness = np.log(reading.chain.strike / summary.forward[group])
    name = reading.owner[group]
    over = reading.taken_at >= reading.hours.closes(reading.session)
    week_end, month_end = running_ends(read_calendar(engine), np.datetime64(reading.session, "D"), over=over)
    positions = summarise_positions(
        StrikeRows(
            name,
            dates(rows["expiration"]),
            reading.chain.strike,
            years,
            smile_vol(summary.fit.parameters[group], years, moneyness),
            summary.carry[group],
            multiplier[name],
            *[np.nan_to_num(numbers(rows[f"{side}_open_interest"])) for side in ("call", "put")],
            *[numbers(before[f"{side}_open_interest"]) for side in ("call", "put")],
        ),
        spot=reading.spot,
        rate=reading.rate,
        week_end=week_end,
        month_end=month_end,
    )
    replace_rows(
        engine,
        Position,
        reading.names.select(
            pl.col("id").alias("name_id"), pl.lit(stored(reading.taken_at)).alias("taken_at")
        ).with_columns([pl.Series(key, values) for key, values in positions._asdict().items()]),
    )


def _write_day(engine: Engine, reading: Reading, bare: WithoutReports) -> None:
    session, names, owner = reading.session, reading.names, reading.owner
    calendar = read_calendar(engine)
    by_name = names.select(pl.col("id").alias("name_id"), pl.lit(session).alias("session"))
    vols = session_volatility(_terms(reading), bare, calendar, TENORS)
    replace_rows(engine, VolatilityDay, by_name.with_columns([pl.Series(key, values) for key, values in vols.items()]))
    totals = reading.rows.group_by("name_id", maintain_order=True).agg(
        [pl.col(f"{side}_{what}").sum() for what in ("volume", "open_interest") for side in ("call", "put")]
    )
    weekly = ~is_monthly(dates(reading.groups["expiration"]), calendar)
    counts = [np.bincount(owner, weights, names.height) for weights in (None, weekly)]
    strikes = np.bincount(owner[reading.chain.group], minlength=names.height)
    quoted_width = typical_width(
        reading.chain, owner, spot=reading.spot[owner], years=reading.years, count=names.height
    )
    replace_rows(
        engine,
        OptionDay,
        by_name.with_columns(
            pl.Series("atm_width", np.round(quoted_width, 3)),
            pl.Series("expirations", counts[0].astype(np.int64)),
            pl.Series("weekly_expirations", counts[1].astype(np.int64)),
            pl.Series("strikes", strikes),
        ).join(totals, on="name_id", how="inner", maintain_order="left"),
    )
