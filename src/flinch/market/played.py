"""A session that is over, played again: the market as it was at one of its minutes, from what is kept of it.

Bars are those of the minutes that were over, trades and prints those that had been told. Chains are those of the last look that
is kept by then: of a session before the newest that is the close before, whose volatility and exposure stand until the session's
own close. Open interest, and what is listed, was known in the morning.
"""

from __future__ import annotations

import datetime as dt
import threading
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import select

from flinch.core.arrays import FloatArray, find
from flinch.core.rules.catalogue import BAR_KEYS
from flinch.core.volatility.terms import Terms, session_volatility, without_reports
from flinch.errors import FlinchError
from flinch.market.bars import opens_at
from flinch.market.columns import map_columns
from flinch.market.derived import DERIVED, derive
from flinch.market.frame import BEFORE, MarketFrame, fields_of
from flinch.market.opened import opened
from flinch.market.tickets import asked_of
from flinch.market.version import BeingRead
from flinch.market.view import View
from flinch.store.engine import as_known
from flinch.store.market.chain import Snapshot, stored
from flinch.store.market.facts import next_reactions, report_days
from flinch.store.market.looks import read_positions_before
from flinch.store.market.minutes import read_minute_sessions, read_minutes
from flinch.store.market.models import TENORS, FlowDay, Position, VolatilityDay
from flinch.store.market.news import count_headlines
from flinch.store.market.surfaces import Expiry, read_expiries
from flinch.store.reading import numbers, read_table
from flinch.tape import name_sums, read_session_tape

MOST_MOMENTS = 3
"""Played moments that are held at a time."""
_MOST_UNDER_WAY = 3
_ONE_AT_A_TIME = threading.Lock()
_AFTER = ("post_last", "post_volume")
_QUOTED = ("atm_width",)
"""Of a session's options what chains tell; the rest of them was known in the morning, but for what traded."""


class NotKept(FlinchError):
    """A session of which no minutes are kept cannot be played again."""

    status, kind, where = 404, "not_kept", "as_of"


class _Minutes(NamedTuple):
    """A session's bars as they were after each of its minutes, names x minutes; NaN before a name traded."""

    open: FloatArray
    high: FloatArray
    low: FloatArray
    close: FloatArray
    volume: FloatArray


def view_at(newest: View, asked: dt.date | dt.datetime) -> View:
    """The market as of a day's session, or as it was at a minute of it, in exchange time without a zone; the session's own view
    from its close on, and the newest from its moment on.

    Raises NotKept for a minute of a session whose minutes are not kept, BeingRead while others are being made.
    """
    if not isinstance(asked, dt.datetime):
        return newest.at(newest.session_on(asked))
    hours = newest.hours
    view = newest.at(newest.session_on(asked.date()))
    moment = asked.replace(second=0, microsecond=0, tzinfo=hours.zone)
    if view.today != asked.date() or moment >= view.as_of:
        return view
    # Nothing is known before the first minute is over.
    moment = max(moment, hours.opens(view.today) + dt.timedelta(minutes=1))
    version, key = newest.version, ("played", view.last, moment)
    if version.latest(*key) is None and version.under_way("played") >= _MOST_UNDER_WAY:
        # A hand that runs through minutes leaves more of them behind than anybody waits for.
        raise BeingRead
    return version.share(key, lambda: _play(newest, view.last, moment), MOST_MOMENTS)


def played_sessions(view: View) -> list[dt.date]:
    """Sessions up to a view's that can be played again, in order."""
    kept = view.version.keep(("minute sessions",), lambda: read_minute_sessions(view.store), 1)
    return [day for day in kept if day <= view.today]


def _play(newest: View, session: int, moment: dt.datetime) -> View:
    version = newest.version
    if newest.date(session) not in played_sessions(newest):
        days = played_sessions(newest)
        kept = f" They are kept from {days[0]:%-d %b %Y} to {days[-1]:%-d %b %Y}." if days else ""
        raise NotKept(f"No minutes of {newest.date(session):%-d %b %Y} are kept, so it cannot be played again.{kept}")
    # Of the newest session there will be more.
    so_far = version.frame.state.data_version if session == version.last else 0
    minutes = version.share(("played minutes", session, so_far), lambda: _read_minutes(newest, session), 1)
    before = version.latest("played", session)
    with _ONE_AT_A_TIME:
        view = opened(_frame_at(newest, session, moment, minutes), as_known(version.engine, moment))
        _add_trades(view)
    if isinstance(before, View):
        view.version.go_on_from(before.version)
    return view


def _read_minutes(newest: View, session: int) -> _Minutes:
    frame, day = newest.version.frame, newest.date(session)
    rows = read_minutes(newest.version.engine, (int(frame.ids[0]), int(frame.ids[-1])), (day, day))
    width = newest.hours.minutes(day)
    opens = opens_at(frame.sessions[session : session + 1], newest.hours)[0]
    minute = (rows["at"].to_numpy().astype("datetime64[m]") - opens).astype(np.int64)
    row = find(frame.ids, rows["name_id"].to_numpy())
    inside = np.flatnonzero((row >= 0) & (minute >= 0) & (minute < width))
    dense = {}
    for field in BAR_KEYS:
        dense[field] = np.full((frame.ids.size, width), np.nan)
        dense[field][row[inside], minute[inside]] = numbers(rows[field])[inside]
    traded = np.isfinite(dense["close"])
    last = np.maximum.accumulate(np.where(traded, np.arange(width), -1), axis=1)
    some, names = last >= 0, np.arange(frame.ids.size)
    first = traded.argmax(axis=1)
    return _Minutes(
        open=np.where(some, dense["open"][names, first][:, None], np.nan),
        high=np.where(some, np.maximum.accumulate(np.where(traded, dense["high"], -np.inf), axis=1), np.nan),
        low=np.where(some, np.minimum.accumulate(np.where(traded, dense["low"], np.inf), axis=1), np.nan),
        close=np.where(some, np.take_along_axis(dense["close"], np.maximum(last, 0), axis=1), np.nan),
        volume=np.where(some, np.nancumsum(dense["volume"], axis=1), np.nan),
    )


Fields = dict[str, FloatArray]


def _frame_at(newest: View, session: int, moment: dt.datetime, minutes: _Minutes) -> MarketFrame:
    """The frame up to a session as it was at a minute of it, but for what option trades came to."""
    whole = newest.version.frame
    end, hours = session + 1, newest.hours
    base = whole.until(session)
    day = newest.date(session)
    place = int((moment - hours.opens(day)) / dt.timedelta(minutes=1)) - 1
    prices, columns = _own_arrays(whole, end)
    for field in BAR_KEYS:
        prices[field][:, -1] = getattr(minutes, field)[:, place]
    # Of an index shares were never counted.
    counted = np.isfinite(whole.volume[:, :session]).any(axis=1) | ~np.isfinite(whole.close[:, :session]).any(axis=1)
    prices["volume"][~counted, -1] = np.nan
    looks = [snapshot for snapshot in whole.snapshots if snapshot.taken_at <= moment.astimezone(dt.UTC)]
    today = [snapshot for snapshot in looks if snapshot.session == day]
    later = [snapshot for snapshot in whole.snapshots if snapshot.session == day]
    for field in _AFTER:
        columns[field][:, -1] = np.nan
    for field in fields_of(FlowDay):
        columns[field][:, -1] = np.nan
    for field in _QUOTED:
        columns[field][:, -1] = columns[field][:, -2] if session else np.nan
    expiries = _chains_at(newest, session, columns, today)
    closes = np.array(
        [stored(hours.closes(day)) for day in newest.sessions[max(session - 1, 0) : end]], "datetime64[us]"
    )
    if session:
        columns["headlines"][:, -1] = count_headlines(newest.version.engine, whole.ids, closes, moment)[:, 0]
    known = report_days(whole.reports, whole.ids.size, base.sessions, prices["close"], first=session)
    for field, values in (known | derive(prices, columns, whole.calendar, whole.members)).items():
        columns[field][:, -1] = values[:, -1]
    bars: dict[str, Any] = dict(prices)
    return replace(
        base,
        state=whole.state._replace(as_of=moment.astimezone(dt.UTC)),
        **bars,
        implied={days: columns[f"iv{days}"] for days in TENORS},
        derived={field: columns[field] for field in DERIVED},
        daily={field: columns[field] for field in whole.daily},
        expiries=expiries,
        snapshots=looks,
        rate=whole.rate[:end],
        listed_from=np.where(
            (whole.listed_from == session) & ~np.isfinite(prices["close"][:, -1]), end, base.listed_from
        ),
        played=True,
        listing=None if today else later[-1] if later else whole.listing,
    )


def _own_arrays(frame: MarketFrame, end: int) -> tuple[Fields, Fields]:
    """Bars, and all other columns, of the sessions before `end`: what is written into them is nobody else's."""
    prices = {field: getattr(frame, field)[:, :end].copy() for field in BAR_KEYS}
    held = {f"iv{days}": values for days, values in frame.implied.items()} | frame.derived | frame.daily
    try:
        # Mapped, so that all sessions but the last are shared with everybody.
        mapped = {} if frame.place is None else map_columns(frame.place)
    except (OSError, ValueError):
        mapped = {}
    out = {}
    for field, values in held.items():
        there = mapped.get(field)
        if there is not None and there.shape[0] == values.shape[0] and there.shape[1] >= end:
            out[field] = there[:, :end]
            out[field][:, -1] = values[:, end - 1]
        else:
            out[field] = np.array(values[:, :end], order="F")
    return prices, out


def _chains_at(newest: View, session: int, columns: Fields, looks: list[Snapshot]) -> dict[int, list[Expiry]]:
    """Fill in what the chains said at the last of a session's looks, without one what they said in the session before; the
    expirations that were read then."""
    frame, store = newest.version.frame, newest.version.engine
    told = [*fields_of(Position), *(f"{field}_before" for field in BEFORE)]
    if not looks:
        for field in [*fields_of(VolatilityDay), *told]:
            columns[field][:, -1] = columns[field][:, -2] if session else np.nan
        return {}
    for field in told:
        columns[field][:, -1] = np.nan
    rows = read_table(store, select(Position).where(Position.taken_at == stored(looks[-1].taken_at)))
    before = read_positions_before(store, [look.taken_at for look in looks], BEFORE)
    for said, fields, suffix in ((rows, fields_of(Position), ""), (before, BEFORE, "_before")):
        row = find(frame.ids, said["name_id"].to_numpy())
        for field in fields:
            columns[f"{field}{suffix}"][row[row >= 0], -1] = numbers(said[field])[row >= 0]
    expiries = read_expiries(store, looks[-1].taken_at, frame.ids)
    listed = [(row, expiry) for row in sorted(expiries) for expiry in expiries[row]]

    def of(key: str) -> FloatArray:
        return np.array([getattr(expiry, key) for _, expiry in listed], dtype=np.float64)

    terms = Terms(
        names=frame.ids.size,
        session=frame.sessions[session],
        name=np.array([row for row, _ in listed], dtype=np.int64),
        expiration=np.array([expiry.expiration for _, expiry in listed], dtype="datetime64[D]"),
        **{key: of(key) for key in ("years", "vol", "put_25d", "call_25d", "quality")},
    )
    bare = without_reports(terms, next_reactions(store, frame.ids, newest.date(session)))
    for field, values in session_volatility(terms, bare, frame.calendar, TENORS).items():
        columns[field][:, -1] = values
    return expiries


def _add_trades(view: View) -> None:
    """Write into a frame that nobody has yet what its option trades came to."""
    frame = view.version.frame
    asked = asked_of(view, slice(None), view.last)
    tape = None if asked is None else read_session_tape(view.store, asked)
    traded = ("call_volume", "put_volume")
    for field in traded:
        frame.daily[field][:, -1] = np.nan
    if tape is None:
        return
    listed = np.isfinite(frame.daily["expirations"][:, -1])
    for field, values in name_sums(tape, frame.ids.size).items():
        frame.daily[field][:, -1] = np.where(listed, values, np.nan)
    is_call = tape.contracts["is_call"].to_numpy()
    owner = np.searchsorted(frame.ids, tape.contracts["name_id"].to_numpy())
    for field, side in zip(traded, (is_call, ~is_call), strict=True):
        volume = np.bincount(owner[side], tape.contracts["volume"].to_numpy()[side], frame.ids.size)
        frame.daily[field][:, -1] = np.where(listed, volume, np.nan)
