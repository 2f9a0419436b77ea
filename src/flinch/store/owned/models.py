"""Tables of what users own: every row says whose it is, and what belongs to a market which."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import (
    JSON,
    Boolean,
    Date,
    DateTime,
    Double,
    ForeignKey,
    Index,
    Integer,
    SmallInteger,
    String,
)
from sqlalchemy.dialects.mysql import MEDIUMBLOB, MEDIUMTEXT
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

from flinch.store.jobs import JobColumns


class OwnedBase(DeclarativeBase):
    """The tables of all users. All tables use one character set, so that any text can be compared."""

    __table_args__ = {
        "mysql_charset": "utf8mb4",
        "mysql_collate": "utf8mb4_bin",
        "mysql_engine": "InnoDB",
    }


class Owner(OwnedBase):
    """Whose rows they are. One local owner is made at start."""

    __tablename__ = "owner"
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    name: Mapped[str] = mapped_column(String(80), unique=True)


class ChosenMarket(OwnedBase):
    """The market that somebody chose last: what a request that names none is about."""

    __tablename__ = "chosen_market"
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), primary_key=True)
    market: Mapped[str] = mapped_column(String(31))


class TrayEntry(OwnedBase):
    """A name on the working list, and why it came."""

    __tablename__ = "tray_entry"
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), primary_key=True)
    market: Mapped[str] = mapped_column(String(31), primary_key=True)
    symbol: Mapped[str] = mapped_column(String(12), primary_key=True)
    position: Mapped[int] = mapped_column(Integer)
    why: Mapped[dict[str, Any]] = mapped_column(JSON)
    added_at: Mapped[dt.datetime] = mapped_column(DateTime)


class TrayStep(OwnedBase):
    """The tray before a change, newest last: what undo restores."""

    __tablename__ = "tray_step"
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), index=True)
    market: Mapped[str] = mapped_column(String(31))
    what: Mapped[str] = mapped_column(String(120))
    before: Mapped[list[dict[str, Any]]] = mapped_column(JSON)


class SavedScreen(OwnedBase):
    """A screen somebody keeps; `deleted_at` is set while its removal can still be undone."""

    __tablename__ = "saved_screen"
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), index=True)
    version: Mapped[int] = mapped_column(Integer)
    name: Mapped[str] = mapped_column(String(120))
    description: Mapped[str] = mapped_column(String(2000))
    tags: Mapped[list[str]] = mapped_column(JSON)
    body: Mapped[dict[str, Any]] = mapped_column(JSON)
    changed_at: Mapped[dt.datetime] = mapped_column(DateTime)
    deleted_at: Mapped[dt.datetime | None] = mapped_column(DateTime)


class ScreenLook(OwnedBase):
    """Which names a saved screen had when somebody last looked at it as of a session, and at which `moment` of the market."""

    __tablename__ = "screen_look"
    screen_id: Mapped[int] = mapped_column(ForeignKey("saved_screen.id", ondelete="CASCADE"), primary_key=True)
    market: Mapped[str] = mapped_column(String(31), primary_key=True)
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    looked_at: Mapped[dt.datetime] = mapped_column(DateTime)
    moment: Mapped[dt.datetime | None] = mapped_column(DateTime)
    symbols: Mapped[list[str]] = mapped_column(JSON)


class OwnMetric(OwnedBase):
    """A numeric expression with a name."""

    __tablename__ = "own_metric"
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), index=True)
    version: Mapped[int] = mapped_column(Integer)
    key: Mapped[str] = mapped_column(String(40))
    label: Mapped[str] = mapped_column(String(80))
    unit: Mapped[str] = mapped_column(String(20))
    expression: Mapped[str] = mapped_column(String(1000))
    decimals: Mapped[int] = mapped_column(SmallInteger)
    deleted_at: Mapped[dt.datetime | None] = mapped_column(DateTime)


class Basket(OwnedBase):
    """A saved, named group of names."""

    __tablename__ = "basket"
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), index=True)
    market: Mapped[str] = mapped_column(String(31))
    version: Mapped[int] = mapped_column(Integer)
    name: Mapped[str] = mapped_column(String(120))
    symbols: Mapped[list[str]] = mapped_column(JSON)
    changed_at: Mapped[dt.datetime] = mapped_column(DateTime)
    deleted_at: Mapped[dt.datetime | None] = mapped_column(DateTime)


class OwnLine(OwnedBase):
    """A price that somebody marked on a name; `since` is the market's session in which it was put there."""

    __tablename__ = "own_line"
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), index=True)
    market: Mapped[str] = mapped_column(String(31))
    version: Mapped[int] = mapped_column(Integer)
    symbol: Mapped[str] = mapped_column(String(12))
    name: Mapped[str] = mapped_column(String(60))
    price: Mapped[float] = mapped_column(Double)
    note: Mapped[str] = mapped_column(String(500))
    since: Mapped[dt.date] = mapped_column(Date)
    deleted_at: Mapped[dt.datetime | None] = mapped_column(DateTime)


class Plan(OwnedBase):
    """A structure that somebody means to trade: why, at what price, when to leave; and the market that it was made on."""

    __tablename__ = "plan"
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), index=True)
    market: Mapped[str] = mapped_column(String(31))
    version: Mapped[int] = mapped_column(Integer)
    symbol: Mapped[str] = mapped_column(String(12))
    legs: Mapped[str] = mapped_column(String(400))
    label: Mapped[str] = mapped_column(String(60))
    why: Mapped[dict[str, Any]] = mapped_column(JSON)
    entry_limit: Mapped[float | None] = mapped_column(Double)
    exits: Mapped[dict[str, Any]] = mapped_column(JSON)
    notes: Mapped[str] = mapped_column(String(4000))
    made_on: Mapped[dt.date] = mapped_column(Date)
    data_version: Mapped[int] = mapped_column(Integer)
    cost: Mapped[float | None] = mapped_column(Double)
    max_profit: Mapped[float | None] = mapped_column(Double)
    spot: Mapped[float] = mapped_column(Double)
    deleted_at: Mapped[dt.datetime | None] = mapped_column(DateTime)


class Tripwire(OwnedBase):
    """Names that are parked, and what somebody waits for on them, on one market. `parked` and `rule` as the page tells them;
    `why` is where it was made. Armed since a moment of the market, or not."""

    __tablename__ = "tripwire"
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), index=True)
    market: Mapped[str] = mapped_column(String(31))
    version: Mapped[int] = mapped_column(Integer)
    name: Mapped[str] = mapped_column(String(120))
    parked: Mapped[dict[str, Any]] = mapped_column(JSON)
    rule: Mapped[dict[str, Any]] = mapped_column(JSON)
    again: Mapped[dict[str, Any]] = mapped_column(JSON)
    why: Mapped[dict[str, Any]] = mapped_column(JSON)
    note: Mapped[str] = mapped_column(String(500))
    armed_at: Mapped[dt.datetime | None] = mapped_column(DateTime)
    changed_at: Mapped[dt.datetime] = mapped_column(DateTime)
    deleted_at: Mapped[dt.datetime | None] = mapped_column(DateTime)


class TripwireWaiting(OwnedBase):
    """What is remembered of a tripwire's names, packed as `store.owned.trips` says, and why it cannot be watched, if so. It is of
    the arming at `armed_at`: what was remembered of another is of no use."""

    __tablename__ = "tripwire_waiting"
    tripwire_id: Mapped[int] = mapped_column(ForeignKey("tripwire.id", ondelete="CASCADE"), primary_key=True)
    armed_at: Mapped[dt.datetime] = mapped_column(DateTime)
    version: Mapped[int] = mapped_column(Integer)
    waiting: Mapped[bytes] = mapped_column(MEDIUMBLOB)
    error: Mapped[str | None] = mapped_column(String(300))


class Trip(OwnedBase):
    """A name that tripped: when, at what price, and what the rule read then. `move` is the price move priced for the next session
    ($), `missed` says that it was found afterwards."""

    __tablename__ = "trip"
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), index=True)
    market: Mapped[str] = mapped_column(String(31))
    tripwire_id: Mapped[int] = mapped_column(Integer)
    symbol: Mapped[str] = mapped_column(String(12))
    moment: Mapped[dt.datetime] = mapped_column(DateTime)
    session: Mapped[dt.date] = mapped_column(Date)
    data_version: Mapped[int] = mapped_column(Integer)
    rule: Mapped[dict[str, Any]] = mapped_column(JSON)
    numbers: Mapped[dict[str, Any]] = mapped_column(JSON)
    price: Mapped[float | None] = mapped_column(Double)
    move: Mapped[float | None] = mapped_column(Double)
    missed: Mapped[bool] = mapped_column(Boolean)
    told_at: Mapped[dt.datetime] = mapped_column(DateTime)
    seen_at: Mapped[dt.datetime | None] = mapped_column(DateTime)


Index("trip_once", Trip.tripwire_id, Trip.moment, Trip.symbol, unique=True)


class WatchedMarket(OwnedBase):
    """Up to which moment of a market all armed tripwires have been watched."""

    __tablename__ = "watched_market"
    market: Mapped[str] = mapped_column(String(31), primary_key=True)
    moment: Mapped[dt.datetime] = mapped_column(DateTime)


class OwnedJob(JobColumns, OwnedBase):
    """Long work that somebody asked for."""

    __tablename__ = "job"
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), index=True)


class WriteKey(OwnedBase):
    """A change that was kept, by the key its sender gave it: sent again it is not done again. `answer` is what was answered."""

    __tablename__ = "write_key"
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), primary_key=True)
    key: Mapped[str] = mapped_column(String(64), primary_key=True)
    path: Mapped[str] = mapped_column(String(200))
    answer: Mapped[str | None] = mapped_column(MEDIUMTEXT)
    at: Mapped[dt.datetime] = mapped_column(DateTime)
