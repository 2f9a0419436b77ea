"""Tables of market data. Keys are natural, so loading a row twice changes nothing.

Keys of what comes session after session, or moment after moment, begin with those: rows are written where the table ends, and a
session's lie together. Such tables refer to names without a foreign key, which would want an index of its own over all of them.
What Flinch computed itself, and volatilities, are kept in single precision.
"""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import (
    JSON,
    BigInteger,
    Boolean,
    Date,
    DateTime,
    Double,
    Float,
    ForeignKey,
    Integer,
    SmallInteger,
    String,
)
from sqlalchemy.dialects.mysql import DATETIME, LONGBLOB, MEDIUMBLOB, VARBINARY
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

from flinch.store.jobs import JobColumns


class MarketBase(DeclarativeBase):
    """A market's tables. All tables use one character set, so that any text can be compared."""

    __table_args__ = {
        "mysql_charset": "utf8mb4",
        "mysql_collate": "utf8mb4_bin",
        "mysql_engine": "InnoDB",
    }


class MarketState(MarketBase):
    """One row: what is loaded. `load_id` tells one load from another, `past_version` is the data version in which anything but
    the newest session changed last. `complete` is set last, so a load that was killed is recognised; `writing` is set while rows
    of a later moment come, when what is there belongs to no version."""

    __tablename__ = "market_state"
    id: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    source: Mapped[str] = mapped_column(String(40))
    source_version: Mapped[int] = mapped_column(Integer)
    as_of: Mapped[dt.datetime] = mapped_column(DateTime)
    rate: Mapped[float] = mapped_column(Double)
    data_version: Mapped[int] = mapped_column(Integer)
    load_id: Mapped[str] = mapped_column(String(32))
    past_version: Mapped[int] = mapped_column(Integer)
    complete: Mapped[bool] = mapped_column(Boolean)
    writing: Mapped[bool] = mapped_column(Boolean)


class MarketSetting(MarketBase):
    """One row: what the market is, whatever is loaded. `rate` is used where no other rates are there."""

    __tablename__ = "market_setting"
    id: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    calendar: Mapped[str] = mapped_column(String(8))
    currency: Mapped[str] = mapped_column(String(3))
    index_symbol: Mapped[str | None] = mapped_column(String(12))
    rate: Mapped[float] = mapped_column(Double)
    zone: Mapped[str] = mapped_column(String(40))


class MarketRun(MarketBase):
    """One row of a market whose source goes on by itself: how many times as fast as the clock it is to run (0: it stands still),
    the moment until which it runs as fast as it can, if it does, and how many seconds of the market it is behind.
    `alive_at` is when the source last said that it is there."""

    __tablename__ = "market_run"
    id: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    speed: Mapped[int] = mapped_column(SmallInteger)
    until: Mapped[dt.datetime | None] = mapped_column(DateTime)
    behind: Mapped[float] = mapped_column(Double)
    alive_at: Mapped[dt.datetime] = mapped_column(DateTime)


class ExchangeState(MarketBase):
    """Where the simulated exchange is after a session, as its own bytes: what it goes on from. Of an `unfinished` one the rest is
    ahead."""

    __tablename__ = "exchange_state"
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    unfinished: Mapped[bool] = mapped_column(Boolean, primary_key=True)
    state: Mapped[bytes] = mapped_column(LONGBLOB)


class Told:
    """Rows that files tell: `import_id` is the import that a row is of, none for what was made."""

    import_id: Mapped[int | None] = mapped_column(Integer)


class MarketJob(JobColumns, MarketBase):
    """Work on the market: filling it with what a first start leaves for later, publishing a snapshot."""

    __tablename__ = "market_job"


class DataImport(MarketBase):
    """A file that was loaded: as what, how its columns were read, and what came of it.

    `state` is "writing" until all rows are there, "publishing" until what follows from them is, "loaded", "undoing" or "undone";
    `moments` are those of the chains that it changed, all of them where it has "all". What was there before is `kept` for the
    last ones.
    """

    __tablename__ = "data_import"
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    kind: Mapped[str] = mapped_column(String(20))
    source: Mapped[str] = mapped_column(String(40))
    file: Mapped[str] = mapped_column(String(120))
    how: Mapped[dict[str, Any]] = mapped_column(JSON)
    state: Mapped[str] = mapped_column(String(12))
    rows: Mapped[int] = mapped_column(BigInteger)
    added: Mapped[int] = mapped_column(BigInteger)
    changed: Mapped[int] = mapped_column(BigInteger)
    same: Mapped[int] = mapped_column(BigInteger)
    refused: Mapped[int] = mapped_column(BigInteger)
    moments: Mapped[list[str]] = mapped_column(JSON)
    began_at: Mapped[dt.datetime] = mapped_column(DateTime)
    ended_at: Mapped[dt.datetime | None] = mapped_column(DateTime)
    kept: Mapped[bool] = mapped_column(Boolean)


class ImportBefore(MarketBase):
    """Rows of a table as they were before an import wrote them, as Parquet; those that were not there are without values and
    marked."""

    __tablename__ = "import_before"
    import_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    place: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    table_name: Mapped[str] = mapped_column(String(40))
    rows: Mapped[bytes] = mapped_column(LONGBLOB)


class OtherRow(MarketBase):
    """What a source says of a name's day where another one, which is preferred, says it otherwise: the values as JSON."""

    __tablename__ = "other_row"
    kind: Mapped[str] = mapped_column(String(20), primary_key=True)
    day: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    source: Mapped[str] = mapped_column(String(40), primary_key=True)
    told: Mapped[str] = mapped_column(String(2000))
    import_id: Mapped[int | None] = mapped_column(Integer)


class SourceOrder(MarketBase):
    """Which source of a kind is preferred: the one in the first place."""

    __tablename__ = "source_order"
    kind: Mapped[str] = mapped_column(String(20), primary_key=True)
    place: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    source: Mapped[str] = mapped_column(String(40))


class Name(Told, MarketBase):
    """A listed company, fund or index."""

    __tablename__ = "name"
    id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    symbol: Mapped[str] = mapped_column(String(12), unique=True)
    company: Mapped[str] = mapped_column(String(80))
    kind: Mapped[str] = mapped_column(String(8))
    sector: Mapped[str] = mapped_column(String(40))
    listed_on: Mapped[dt.date | None] = mapped_column(Date)
    shares_outstanding: Mapped[float | None] = mapped_column(Double)
    float_shares: Mapped[float | None] = mapped_column(Double)


class ExchangeSession(MarketBase):
    """A session of the exchange, past or ahead, and when it opens and closes in the market's zone, as hour:minute."""

    __tablename__ = "exchange_session"
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    opens: Mapped[str] = mapped_column(String(5), server_default="09:30")
    closes: Mapped[str] = mapped_column(String(5), server_default="16:00")


class DailyBar(Told, MarketBase):
    """A session's prices and shares traded."""

    __tablename__ = "daily_bar"
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    open: Mapped[float] = mapped_column(Double)
    high: Mapped[float] = mapped_column(Double)
    low: Mapped[float] = mapped_column(Double)
    close: Mapped[float] = mapped_column(Double)
    volume: Mapped[float | None] = mapped_column(Double)


class Split(Told, MarketBase):
    """New shares for an old one: prices before its day are of the old ones, as they were traded."""

    __tablename__ = "split"
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    ex_date: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    ratio: Mapped[float] = mapped_column(Double)


class RateDay(Told, MarketBase):
    """A rate of a session for so many calendar days, continuously compounded."""

    __tablename__ = "rate_day"
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    days: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    rate: Mapped[float] = mapped_column(Double)


class InterestDay(MarketBase):
    """Open interest of a session's morning that came without chains, packed as `store.market.interest` says."""

    __tablename__ = "interest_day"
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    contracts: Mapped[bytes] = mapped_column(MEDIUMBLOB)


class ExtendedDay(Told, MarketBase):
    """Before a session's open and after its close; missing where nothing traded then."""

    __tablename__ = "extended_day"
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    pre_high: Mapped[float | None] = mapped_column(Double)
    pre_low: Mapped[float | None] = mapped_column(Double)
    pre_last: Mapped[float | None] = mapped_column(Double)
    pre_volume: Mapped[float | None] = mapped_column(Double)
    post_last: Mapped[float | None] = mapped_column(Double)
    post_volume: Mapped[float | None] = mapped_column(Double)


class MinuteDay(MarketBase):
    """A name's minute bars of a session, regular hours or not, packed as `store.market.minutes` says."""

    __tablename__ = "minute_day"
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    minutes: Mapped[bytes] = mapped_column(MEDIUMBLOB)


class TapeDay(MarketBase):
    """A name's option trades of a session, `count` of them, packed as `store.market.tape` says."""

    __tablename__ = "tape_day"
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    count: Mapped[int] = mapped_column(Integer)
    fills: Mapped[bytes] = mapped_column(MEDIUMBLOB)


class PrintDay(MarketBase):
    """A name's off-exchange prints of a session, packed as `store.market.prints` says."""

    __tablename__ = "print_day"
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    prints: Mapped[bytes] = mapped_column(MEDIUMBLOB)


class FlowDay(MarketBase):
    """What a name's option trades of a session came to, as `core.flow.day_sums` defines it: premium in dollars."""

    __tablename__ = "flow_day"
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    call_ask_premium: Mapped[float] = mapped_column(Float)
    call_bid_premium: Mapped[float] = mapped_column(Float)
    call_mid_premium: Mapped[float] = mapped_column(Float)
    put_ask_premium: Mapped[float] = mapped_column(Float)
    put_bid_premium: Mapped[float] = mapped_column(Float)
    put_mid_premium: Mapped[float] = mapped_column(Float)
    package_premium: Mapped[float] = mapped_column(Float)
    sweep_premium: Mapped[float] = mapped_column(Float)
    outside_call_premium: Mapped[float] = mapped_column(Float)
    opening_call_premium: Mapped[float] = mapped_column(Float)
    opening_put_premium: Mapped[float] = mapped_column(Float)
    largest_call_premium: Mapped[float] = mapped_column(Float)
    largest_put_premium: Mapped[float] = mapped_column(Float)
    ask_contracts: Mapped[int] = mapped_column(BigInteger)
    bid_contracts: Mapped[int] = mapped_column(BigInteger)
    tickets: Mapped[int] = mapped_column(Integer)
    repeats: Mapped[int] = mapped_column(Integer)
    net_shares: Mapped[float] = mapped_column(Float)


class Venue(MarketBase):
    """Where options are traded."""

    __tablename__ = "venue"
    id: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    name: Mapped[str] = mapped_column(String(40))


class FundamentalSource(MarketBase):
    """Who fundamentals are from: the first one and the second one."""

    __tablename__ = "fundamental_source"
    id: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    name: Mapped[str] = mapped_column(String(40))


class OptionDay(MarketBase):
    """A session's options as a whole: contracts traded and open by side, quoted width at the money in percent, what is listed."""

    __tablename__ = "option_day"
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    call_volume: Mapped[int] = mapped_column(BigInteger)
    put_volume: Mapped[int] = mapped_column(BigInteger)
    call_open_interest: Mapped[int] = mapped_column(BigInteger)
    put_open_interest: Mapped[int] = mapped_column(BigInteger)
    atm_width: Mapped[float | None] = mapped_column(Float)
    expirations: Mapped[int] = mapped_column(Integer)
    weekly_expirations: Mapped[int] = mapped_column(Integer)
    strikes: Mapped[int] = mapped_column(Integer)


class VolatilityDay(MarketBase):
    """Implied volatility of a session, annualised decimals: constant maturities, the nearest expiration, the ones that end the
    week and the month; 30 days ahead without earnings and at 25 delta. The move priced for earnings is a decimal, the quality
    0 to 100."""

    __tablename__ = "volatility_day"
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    iv7: Mapped[float | None] = mapped_column(Float)
    iv14: Mapped[float | None] = mapped_column(Float)
    iv30: Mapped[float | None] = mapped_column(Float)
    iv60: Mapped[float | None] = mapped_column(Float)
    iv90: Mapped[float | None] = mapped_column(Float)
    iv180: Mapped[float | None] = mapped_column(Float)
    iv365: Mapped[float | None] = mapped_column(Float)
    iv_nearest: Mapped[float | None] = mapped_column(Float)
    iv_week: Mapped[float | None] = mapped_column(Float)
    iv_month: Mapped[float | None] = mapped_column(Float)
    iv30_ex_earnings: Mapped[float | None] = mapped_column(Float)
    implied_earnings_move: Mapped[float | None] = mapped_column(Float)
    put_25d: Mapped[float | None] = mapped_column(Float)
    call_25d: Mapped[float | None] = mapped_column(Float)
    fit_quality: Mapped[float | None] = mapped_column(Float)


class EarningsReport(Told, MarketBase):
    """A report, past or scheduled; `known_on` is the day from which its date was known."""

    __tablename__ = "earnings_report"
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    timing: Mapped[str] = mapped_column(String(12))
    known_on: Mapped[dt.date] = mapped_column(Date)


class FundMember(Told, MarketBase):
    """A company in a fund or index, with its weight."""

    __tablename__ = "fund_member"
    fund_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    weight: Mapped[float] = mapped_column(Double)


class Fundamental(Told, MarketBase):
    """A report's figures as first reported by one source, per share; usable from `known_on`."""

    __tablename__ = "fundamental"
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    source: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    period_end: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    known_on: Mapped[dt.date] = mapped_column(Date)
    eps_ttm: Mapped[float | None] = mapped_column(Double)
    sales_ttm: Mapped[float | None] = mapped_column(Double)
    book: Mapped[float | None] = mapped_column(Double)
    fcf_ttm: Mapped[float | None] = mapped_column(Double)
    debt_to_equity: Mapped[float | None] = mapped_column(Double)


class Estimate(Told, MarketBase):
    """What analysts expect together, usable from `known_on`."""

    __tablename__ = "estimate"
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    known_on: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    eps_next_year: Mapped[float | None] = mapped_column(Double)
    fair_value: Mapped[float | None] = mapped_column(Double)


class Dividend(Told, MarketBase):
    """A cash dividend per share, past or declared."""

    __tablename__ = "dividend"
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    ex_date: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    declared_on: Mapped[dt.date] = mapped_column(Date)
    amount: Mapped[float] = mapped_column(Double)


class ShortInterest(Told, MarketBase):
    """Shares sold short at a settlement date, usable from `known_on`."""

    __tablename__ = "short_interest"
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    settled_on: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    known_on: Mapped[dt.date] = mapped_column(Date)
    shares: Mapped[float] = mapped_column(Double)


class NewsItem(Told, MarketBase):
    """A headline, in UTC: plain text. Of no name it is about all; then `name_id` is nought."""

    __tablename__ = "news_item"
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    at: Mapped[dt.datetime] = mapped_column(DATETIME(fsp=6), primary_key=True, index=True)
    headline: Mapped[str] = mapped_column(String(300))
    topic: Mapped[str] = mapped_column(String(40))


class ChainSnapshot(Told, MarketBase):
    """A moment at which all chains were looked at."""

    __tablename__ = "chain_snapshot"
    taken_at: Mapped[dt.datetime] = mapped_column(DateTime, primary_key=True)
    session: Mapped[dt.date] = mapped_column(Date)


class SnapshotPrice(MarketBase):
    """A name's price at the moment of a snapshot, or at the look before it that stands there still (`looked_at`), where its chain
    was not looked at anew."""

    __tablename__ = "snapshot_price"
    taken_at: Mapped[dt.datetime] = mapped_column(ForeignKey("chain_snapshot.taken_at"), primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    price: Mapped[float] = mapped_column(Double)
    looked_at: Mapped[dt.datetime | None] = mapped_column(DateTime)


class ContractSeries(MarketBase):
    """What a contract of a name delivers: `multiplier` is what premium and exposure are multiplied with. Series 0 are the
    standard contracts; others were adjusted after a corporate action and deliver `shares` and `cash`."""

    __tablename__ = "contract_series"
    name_id: Mapped[int] = mapped_column(ForeignKey("name.id"), primary_key=True)
    series: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    multiplier: Mapped[float] = mapped_column(Double)
    shares: Mapped[float] = mapped_column(Double)
    cash: Mapped[float] = mapped_column(Double)


class Position(MarketBase):
    """What a chain says about a name's exposure and open interest at one moment: a session's close, or a snapshot.

    Exposures are $ per 1 % move, dealers taken to be long calls and short puts; strikes and flip are prices; interest is
    contracts, `top_strikes` a share.
    """

    __tablename__ = "position"
    taken_at: Mapped[dt.datetime] = mapped_column(DateTime, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    call_exposure: Mapped[float | None] = mapped_column(Float)
    put_exposure: Mapped[float | None] = mapped_column(Float)
    flip: Mapped[float | None] = mapped_column(Float)
    near_exposure: Mapped[float | None] = mapped_column(Float)
    week_exposure: Mapped[float | None] = mapped_column(Float)
    month_exposure: Mapped[float | None] = mapped_column(Float)
    peak_exposure_strike: Mapped[float | None] = mapped_column(Float)
    peak_interest_strike: Mapped[float | None] = mapped_column(Float)
    top_strikes: Mapped[float | None] = mapped_column(Float)
    interest_above: Mapped[float | None] = mapped_column(Float)
    opened: Mapped[float | None] = mapped_column(Float)
    opened_above: Mapped[float | None] = mapped_column(Float)
    opened_below: Mapped[float | None] = mapped_column(Float)
    largest_build: Mapped[float | None] = mapped_column(Float)
    largest_build_base: Mapped[float | None] = mapped_column(Float)
    left_out: Mapped[float | None] = mapped_column(Float)


class NameChain(MarketBase):
    """All contracts of a name at a snapshot, `contracts` of them, packed as `store.market.chain` says."""

    __tablename__ = "name_chain"
    taken_at: Mapped[dt.datetime] = mapped_column(DateTime, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    contracts: Mapped[int] = mapped_column(Integer)
    quotes: Mapped[bytes] = mapped_column(MEDIUMBLOB)


class ExpiryVolatility(MarketBase):
    """What publish reads out of a chain at a snapshot, an expiration a row; `svi_a` to `svi_sigma`: raw SVI in total variance."""

    __tablename__ = "expiry_volatility"
    taken_at: Mapped[dt.datetime] = mapped_column(DateTime, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    expiration: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    years: Mapped[float] = mapped_column(Double)
    forward: Mapped[float | None] = mapped_column(Double)
    forward_from_parity: Mapped[bool] = mapped_column(Boolean)
    vol: Mapped[float | None] = mapped_column(Double)
    strikes: Mapped[int] = mapped_column(Integer)
    straddle: Mapped[float | None] = mapped_column(Double)
    straddle_strike: Mapped[float | None] = mapped_column(Double)
    carry: Mapped[float | None] = mapped_column(Double)
    vol_ex_earnings: Mapped[float | None] = mapped_column(Double)
    put_25d: Mapped[float | None] = mapped_column(Double)
    call_25d: Mapped[float | None] = mapped_column(Double)
    quality: Mapped[float | None] = mapped_column(Double)
    flaw: Mapped[str] = mapped_column(String(60))
    lowest_strike: Mapped[float | None] = mapped_column(Double)
    highest_strike: Mapped[float | None] = mapped_column(Double)
    svi_a: Mapped[float | None] = mapped_column(Double)
    svi_b: Mapped[float | None] = mapped_column(Double)
    svi_rho: Mapped[float | None] = mapped_column(Double)
    svi_m: Mapped[float | None] = mapped_column(Double)
    svi_sigma: Mapped[float | None] = mapped_column(Double)


class SurfaceDay(MarketBase):
    """A name's surface as it was read last in a session, all expirations in one row, packed as `store.market.surfaces` says."""

    __tablename__ = "surface_day"
    session: Mapped[dt.date] = mapped_column(Date, primary_key=True)
    name_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    taken_at: Mapped[dt.datetime] = mapped_column(DateTime)
    surface: Mapped[bytes] = mapped_column(VARBINARY(8000))


TENORS = (7, 14, 30, 60, 90, 180, 365)
"""Days of the constant maturities that `VolatilityDay` has columns of."""
SVI_COLUMNS = ("svi_a", "svi_b", "svi_rho", "svi_m", "svi_sigma")
