"""The market in memory: versions of it, and views of them, which are all that pages take."""

from flinch.market.dictionary import PLAIN, PLAIN_TABLES, BarLength, Dictionary, Table
from flinch.market.frame import MarketFrame, NameFacts, load_frame
from flinch.market.holder import MarketHolder, MarketNotReady, warm
from flinch.market.markets import Market, Markets, NoSuchMarket, make_market
from flinch.market.opened import opened
from flinch.market.played import NotKept, played_sessions, view_at
from flinch.market.version import Column, Version
from flinch.market.view import Stale, UnknownName, View

__all__ = [
    "PLAIN",
    "PLAIN_TABLES",
    "BarLength",
    "Column",
    "Dictionary",
    "Market",
    "MarketFrame",
    "MarketHolder",
    "MarketNotReady",
    "Markets",
    "NameFacts",
    "NoSuchMarket",
    "NotKept",
    "Stale",
    "Table",
    "UnknownName",
    "Version",
    "View",
    "load_frame",
    "make_market",
    "opened",
    "played_sessions",
    "view_at",
    "warm",
]
