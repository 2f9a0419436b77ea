"""The kinds of data and their columns: one table for import, export, templates and documents."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Sort = Literal["text", "number", "whole", "day", "instant", "right", "contract", "timing", "type"]


@dataclass(frozen=True)
class Column:
    """A column of a kind: what sort of values, whether it is part of the key, whether a row without it is refused, and what
    suppliers call it besides. Values of a `share` are decimals here, and in percent elsewhere: a mean (of weights the sum a fund)
    up to the first of its numbers tells the former, one above the second the latter, and between them it is asked. Of text
    so many `characters` are read."""

    name: str
    sort: Sort
    key: bool = False
    needed: bool = False
    least: float | None = None
    share: tuple[float, float] | None = None
    called: tuple[str, ...] = ()
    characters: int = 80


@dataclass(frozen=True)
class Kind:
    """A sort of data: its name, what it is in a sentence, and its columns."""

    name: str
    words: str
    columns: tuple[Column, ...]

    def column(self, name: str) -> Column | None:
        """A column by its name."""
        return next((column for column in self.columns if column.name == name), None)

    @property
    def key(self) -> tuple[str, ...]:
        """Names of the columns that tell one row from another."""
        return tuple(column.name for column in self.columns if column.key)


_SYMBOL = Column(
    "symbol", "text", key=True, needed=True, called=("ticker", "sym", "underlying_symbol", "root", "stock")
)
_SESSION = Column(
    "session", "day", key=True, needed=True, called=("date", "day", "trade_date", "trading_day", "quote_date", "as_of")
)

_AT = Column(
    "at", "instant", key=True, needed=True, called=("time", "timestamp", "datetime", "trade_time", "executed_at")
)
_CONTRACT = (
    Column("contract", "contract", called=("occ", "occ_symbol", "option_symbol", "contract_symbol", "osi")),
    Column("expiration", "day", key=True, called=("expiry", "expiration_date", "expire_date", "exp", "maturity")),
    Column("strike", "number", key=True, least=0, called=("strike_price", "k", "exercise_price")),
    Column("right", "right", key=True, called=("type", "option_type", "put_call", "call_put", "cp", "cp_flag")),
)
_PRICES = (
    Column("open", "number", needed=True, least=0, called=("o", "open_price", "px_open")),
    Column("high", "number", needed=True, least=0, called=("h", "high_price", "px_high")),
    Column("low", "number", needed=True, least=0, called=("l", "low_price", "px_low")),
    Column("close", "number", needed=True, least=0, called=("c", "close_price", "last", "px_last", "settle")),
    Column("volume", "number", least=0, called=("v", "vol", "shares_traded")),
)


def _vol(days: int) -> Column:
    called = (f"iv_{days}", f"iv_{days}d", f"iv{days}d", f"ivol_{days}d")
    return Column(f"iv{days}", "number", least=0, share=(2, 5), called=called)


_ALL = (
    Kind(
        "names",
        "What is listed: companies, funds and indices. Every other kind refers to it.",
        (
            _SYMBOL,
            Column("company", "text", needed=True, called=("name", "description", "security_name", "long_name")),
            Column("type", "type", called=("kind", "security_type", "instrument", "asset_class")),
            Column("sector", "text", called=("industry", "gics_sector")),
            Column("listed_on", "day", called=("ipo_date", "listing_date", "first_traded")),
            Column("shares_outstanding", "number", least=0, called=("shares", "shares_out")),
            Column("float_shares", "number", least=0, called=("float", "free_float")),
        ),
    ),
    Kind(
        "daily_bars",
        "A session's prices and shares traded, a name.",
        (
            _SYMBOL,
            _SESSION,
            *_PRICES,
        ),
    ),
    Kind(
        "chains",
        "Quotes of options at a moment, of as many names as there are.",
        (
            _SYMBOL,
            Column(
                "taken_at", "instant", key=True, needed=True,
                called=("at", "quote_time", "quote_datetime", "timestamp", "snapshot_time", "datetime", "time"),
            ),
            *_CONTRACT,
            Column(
                "underlying", "number", least=0,
                called=("spot", "underlying_price", "underlying_last", "stock_price", "active_underlying_price"),
            ),
            Column("bid", "number", least=0, called=("bid_price", "best_bid", "b")),
            Column("ask", "number", least=0, called=("ask_price", "best_ask", "offer", "best_offer", "a")),
            Column("volume", "whole", least=0, called=("vol", "trade_volume", "contracts_traded")),
            Column("open_interest", "whole", least=0, called=("oi", "openint", "open_int")),
            Column("multiplier", "number", least=0, called=("contract_size", "shares_per_contract")),
        ),
    ),
    Kind(
        "open_interest",
        "Open interest of a session's morning, for chains that come without it.",
        (
            _SYMBOL,
            _SESSION,
            *_CONTRACT,
            Column("open_interest", "whole", needed=True, least=0, called=("oi", "openint", "open_int")),
        ),
    ),
    Kind(
        "splits",
        "New shares made of old ones: prices before are then told of the new ones, unless their source did that itself.",
        (
            _SYMBOL,
            Column("ex_date", "day", key=True, needed=True, called=("date", "split_date", "effective_date", "exdate")),
            Column("ratio", "number", needed=True, least=0, called=("split_ratio", "factor", "split_factor", "new_for_old")),
        ),
    ),
    Kind(
        "volatility_days",
        "Implied volatility of past sessions, for who has history and no chains; what chains say wins.",
        (
            _SYMBOL,
            _SESSION,
            *[_vol(days) for days in (7, 14, 30, 60, 90, 180, 365)],
        ),
    ),
    Kind(
        "extended_days",
        "Prices and shares before a session's open and after its close, a name.",
        (
            _SYMBOL,
            _SESSION,
            *[
                Column(name, "number", least=0)
                for name in ("pre_high", "pre_low", "pre_last", "pre_volume", "post_last", "post_volume")
            ],
        ),
    ),
    Kind(
        "minute_bars",
        "Bars of a minute, by the moment in which each begins.",
        (_SYMBOL, _AT, *_PRICES),
    ),
    Kind(
        "option_trades",
        "Trades of options, in the order in which they were told.",
        (
            _SYMBOL,
            _AT,
            *_CONTRACT,
            Column("price", "number", needed=True, least=0, called=("trade_price", "px", "premium")),
            Column("contracts", "whole", needed=True, called=("size", "quantity", "qty", "trade_size")),
            Column("bid", "number", least=0, called=("bid_price", "best_bid", "bid_at_trade")),
            Column("ask", "number", least=0, called=("ask_price", "best_ask", "ask_at_trade", "offer")),
            Column("venue", "text", called=("exchange", "market", "mic")),
            Column("conditions", "text", called=("condition", "flags", "sale_condition")),
        ),
    ),
    Kind(
        "prints",
        "Off-exchange trades, in the order in which they were told.",
        (
            _SYMBOL,
            _AT,
            Column("price", "number", needed=True, least=0, called=("trade_price", "px")),
            Column("shares", "whole", needed=True, called=("size", "quantity", "qty", "volume")),
            Column("conditions", "text", called=("condition", "flags", "sale_condition")),
        ),
    ),
    Kind(
        "fundamentals",
        "What a report told, a share, by who tells it; two sources are held against each other.",
        (
            _SYMBOL,
            Column("source", "text", key=True, needed=True, called=("provider", "vendor")),
            Column("period_end", "day", key=True, needed=True, called=("period", "fiscal_period_end", "quarter_end")),
            Column("known_on", "day", called=("published_on", "filed_on", "filing_date", "announced")),
            Column("eps_ttm", "number", called=("eps", "earnings_per_share")),
            Column("sales_ttm", "number", called=("sales_per_share", "revenue_per_share")),
            Column("book", "number", called=("book_value", "book_per_share", "bvps")),
            Column("fcf_ttm", "number", called=("free_cash_flow_per_share", "fcf_per_share")),
            Column("debt_to_equity", "number", called=("de_ratio", "leverage")),
        ),
    ),
    Kind(
        "estimates",
        "What analysts expect together.",
        (
            _SYMBOL,
            Column("known_on", "day", key=True, needed=True, called=("date", "as_of", "published_on")),
            Column("eps_next_year", "number", called=("eps_estimate", "forward_eps")),
            Column("price_target", "number", least=0, called=("target", "target_price", "fair_value")),
        ),
    ),
    Kind(
        "dividends",
        "Cash dividends a share, past or declared.",
        (
            _SYMBOL,
            Column("ex_date", "day", key=True, needed=True, called=("ex_dividend_date", "exdate", "date")),
            Column("declared_on", "day", called=("declaration_date", "announced", "known_on")),
            Column("amount", "number", needed=True, least=0, called=("dividend", "cash_amount", "value")),
        ),
    ),
    Kind(
        "earnings_dates",
        "Reports, past or scheduled.",
        (
            _SYMBOL,
            Column("session", "day", key=True, needed=True, called=("date", "report_date", "earnings_date", "day")),
            Column("timing", "timing", called=("time", "when", "session_time", "hour")),
            Column("known_on", "day", called=("announced", "published_on")),
        ),
    ),
    Kind(
        "short_interest",
        "Shares sold short at a settlement date.",
        (
            _SYMBOL,
            Column("settled_on", "day", key=True, needed=True, called=("settlement_date", "date")),
            Column("known_on", "day", called=("published_on", "dissemination_date")),
            Column("shares", "number", needed=True, least=0, called=("short_interest", "short_shares")),
        ),
    ),
    Kind(
        "fund_members",
        "Companies in a fund or index, with their weights.",
        (
            Column("fund", "text", key=True, needed=True, called=("etf", "fund_symbol", "index")),
            Column("symbol", "text", key=True, needed=True, called=("member", "ticker", "holding", "constituent")),
            Column("weight", "number", needed=True, least=0, share=(3, 20), called=("share", "pct", "percent", "weight_pct")),
        ),
    ),
    Kind(
        "rates",
        "Rates of a session, continuously compounded; that of 30 days is used, between the days that are told.",
        (
            _SESSION,
            Column("days", "whole", key=True, needed=True, called=("tenor", "tenor_days", "maturity_days", "term")),
            Column("rate", "number", needed=True, share=(0.3, 1), called=("yield", "zero_rate", "value", "interest_rate")),
        ),
    ),
    Kind(
        "news",
        "Headlines about a name, or about none: plain text.",
        (
            Column("symbol", "text", key=True, called=("ticker", "sym", "underlying_symbol", "root", "stock")),
            Column(
                "at", "instant", key=True, needed=True,
                called=("time", "timestamp", "datetime", "published_at", "published", "released_at"),
            ),
            Column("headline", "text", needed=True, called=("title", "news", "text", "summary"), characters=10_000),
            Column("topic", "text", called=("category", "subject", "tag")),
        ),
    ),
)  # fmt: skip
KINDS: dict[str, Kind] = {kind.name: kind for kind in _ALL}
"""Every kind that can be loaded, in the order in which they are: what others refer to comes first."""
MISSING = frozenset({"", "na", "nan", "null", "n/a", "none", "-", "#n/a"})
"""Words for a value that is not there, in small letters."""
