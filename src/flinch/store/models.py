"""Tables. Market data has natural keys, so loading a row twice changes nothing; user-owned rows carry their owner."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import JSON, BigInteger, Boolean, Date, DateTime, Double, ForeignKey, Integer, SmallInteger, String
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    """All tables use one character set, so that any text a user sends can be compared."""

    __table_args__ = {
        "mysql_charset": "utf8mb4",
        "mysql_collate": "utf8mb4_bin",
        "mysql_engine": "InnoDB",
    }


class MarketState(Base):
    """One row: what is loaded. `complete` is set last, so a load that was killed is recognised."""

    __tablename__ = "market_state"
    id: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    source: Mapped[str] = mapped_column(String(40))
    source_version: Mapped[int] = mapped_column(Integer)
    as_of: Mapped[dt.datetime] = mapped_column(DateTime)
    rate: Mapped[float] = mapped_column(Double)
    data_version: Mapped[int] = mapped_column(Integer)
    complete: Mapped[bool] = mapped_column(Boolean)


class Name(Base):
    """A listed company, fund or index."""

    __tablename__ = "name"
    id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    symbol: Mapped[str] = mapped_column(String(12), unique=True)
    company: Mapped[str] = mapped_column(String(80))
    kind: Mapped[str] = mapped_column(String(8))
    sector: Mapped[str] = mapped_column(String(40))
    listed_on: Mapped[dt.date] = mapped_column(Date)
    shares_outstanding: Mapped[float | None] = mapped_column(Double)


class DailyBar(Base):
    """A session's prices and shares traded."""

    __tablename__ = "daily_bar"
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    open: Mapped[float] = mapped_column(Double)
    high: Mapped[float] = mapped_column(Double)
    low: Mapped[float] = mapped_column(Double)
    close: Mapped[float] = mapped_column(Double)
    volume: Mapped[float | None] = mapped_column(Double)


class OptionActivity(Base):
    """Option contracts traded in a session, all expirations and strikes together."""

    __tablename__ = "option_activity"
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    volume: Mapped[int] = mapped_column(BigInteger)


class VolatilityDay(Base):
    """Constant-maturity implied volatility of a session, annualised decimals."""

    __tablename__ = "volatility_day"
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    iv7: Mapped[float | None] = mapped_column(Double)
    iv14: Mapped[float | None] = mapped_column(Double)
    iv30: Mapped[float | None] = mapped_column(Double)
    iv60: Mapped[float | None] = mapped_column(Double)
    iv90: Mapped[float | None] = mapped_column(Double)
    iv180: Mapped[float | None] = mapped_column(Double)
    iv365: Mapped[float | None] = mapped_column(Double)


class EarningsReport(Base):
    """A report, past or scheduled."""

    __tablename__ = "earnings_report"
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    timing: Mapped[str] = mapped_column(String(12))


class OptionQuote(Base):
    """One contract at one snapshot; bid and ask are missing while it is not quoted."""

    __tablename__ = "option_quote"
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    taken_at: Mapped[dt.datetime] = mapped_column(DateTime, primary_key=True)
    expiration: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    strike: Mapped[float] = mapped_column(Double, primary_key=True)
    is_call: Mapped[bool] = mapped_column(Boolean, primary_key=True)
    bid: Mapped[float | None] = mapped_column(Double)
    ask: Mapped[float | None] = mapped_column(Double)
    volume: Mapped[int] = mapped_column(Integer)
    open_interest: Mapped[int] = mapped_column(Integer)


class ExpiryVolatility(Base):
    """What publish reads out of a chain, an expiration a row."""

    __tablename__ = "expiry_volatility"
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    expiration: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    years: Mapped[float] = mapped_column(Double)
    forward: Mapped[float | None] = mapped_column(Double)
    forward_from_parity: Mapped[bool] = mapped_column(Boolean)
    vol: Mapped[float | None] = mapped_column(Double)
    strikes: Mapped[int] = mapped_column(Integer)
    straddle: Mapped[float | None] = mapped_column(Double)
    straddle_strike: Mapped[float | None] = mapped_column(Double)


class Owner(Base):
    """Whose rows they are. One local owner is made at start."""

    __tablename__ = "owner"
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    name: Mapped[str] = mapped_column(String(80), unique=True)


class TrayEntry(Base):
    """A name on the working list, and why it came."""

    __tablename__ = "tray_entry"
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), primary_key=True)
    symbol: Mapped[str] = mapped_column(String(12), primary_key=True)
    position: Mapped[int] = mapped_column(Integer)
    why: Mapped[dict[str, Any]] = mapped_column(JSON)
    added_at: Mapped[dt.datetime] = mapped_column(DateTime)


class TrayStep(Base):
    """The tray before a change, newest last: what undo restores."""

    __tablename__ = "tray_step"
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"), index=True)
    what: Mapped[str] = mapped_column(String(120))
    before: Mapped[list[dict[str, Any]]] = mapped_column(JSON)
