"""What a rule on tickets may use of the ticket itself; every metric of its name may be used beside it."""

from __future__ import annotations

from functools import partial
from typing import Literal

from flinch.core.rules.catalogue.metric import Metric, computed, read
from flinch.core.rules.nodes import Kind

TICKET_GROUPS = ("the ticket", "what it points at", "its contract", "how unusual")
_TICKET, _POINTS, _CONTRACT, _UNUSUAL = TICKET_GROUPS
_TAPE = "the option trades of the session"
_NO_DELTA = "its side is not known, or its expiration has no surface that could be read"
_NO_ROLL = "it is no side of a roll"

_computed_unusual = partial(computed, _UNUSUAL)


def _read(group: str, key: str, label: str, short: str, unit: str, definition: str, missing: str = "", *,
          kind: Kind = "number", scale: Literal["linear", "log"] | None = None, decimals: int | None = None,
          factor: float = 1.0) -> Metric:  # fmt: skip
    return read(
        group, key, label, short, unit, key, _TAPE, definition, missing, kind=kind, scale=scale, decimals=decimals, factor=factor
    )  # fmt: skip


_ticket, _points, _contract, _unusual = (partial(_read, group) for group in TICKET_GROUPS)

_ENTRIES = (
    _ticket("is_call", "Is a call", "Call", "", "Whether the option is a call; not is_call is a put.", kind="condition"),
    _ticket("right", "Right", "Right", "", "Call or put.", kind="text"),
    _ticket("side", "Side", "Side", "", "ask: at the ask or nearer to it; bid: at the bid or nearer to it; mid: nobody knows.", kind="text"),
    _ticket("ticket_kind", "Kind", "Kind", "",
            "sweep: several venues within half a second; split: three or more fills of one price on one venue; block: one fill of 250 "
            "contracts or $250,000 and more; single: any other.", kind="text"),
    _ticket("premium", "Premium", "Premium", "$", "Price times contracts times shares a contract, all its fills.", decimals=0),
    _ticket("contracts", "Contracts", "Contracts", "contracts", "Contracts of all its fills."),
    _ticket("fill_price", "Price paid", "Paid", "$", "Price of the option, weighted by contracts."),
    _ticket("strike", "Strike", "Strike", "$", "The option's strike."),
    _ticket("dte", "Days to expiration", "Days", "days", "Calendar days from the ticket's session to its expiration.", scale="linear"),
    _ticket("out_of_the_money_pct", "Out of the money", "OTM", "%",
            "Strike over the price of the stock then, less one: above zero out of the money, for calls and puts.", "no price of the stock is known"),
    _ticket("out_of_the_money_moves", "Out of the money in expected moves", "OTM σ", "σ",
            "The same distance in moves priced until its expiration: the volatility at its strike times the root of the time.",
            "its expiration has no surface that could be read"),
    _ticket("price_then", "Price of the stock then", "Stock then", "$", "Of the last minute that had ended.", "no price of the stock is known"),
    _ticket("fills", "Fills", "Fills", "", "Trades that were put together.", scale="log"),
    _ticket("venues", "Venues", "Venues", "", "Exchanges that it traded on."),
    _ticket("minutes_since_open", "Minutes since the open", "Minute", "", "When its first fill came, minutes after the open."),
    _ticket("sessions_ago", "Sessions ago", "Ago", "sessions", "0: in the session that is looked at; 1: in the one before."),
    _points("lean", "Lean", "Lean", "",
            "+1 up (calls on the ask side, puts on the bid side), -1 down, 0 nobody knows. A leg of a package leans with the package. A "
            "fact about the trade, not about its owner: what it hedges is not known."),
    _points("since", "Since", "Since", "σ",
            "How far the price of the stock has gone since, in one-day expected moves and in the direction of the lean. At 1 a day's move "
            "is gone already.", "it leans nowhere, or no move is priced"),
    _points("share_equivalent", "Share equivalent", "Shares", "shares",
            "Delta times contracts times shares a contract, signed by the side.", _NO_DELTA, scale="linear"),
    computed(_POINTS, "share_equivalent_pct", "Share equivalent over volume", "Shs %", "%", "100 * share_equivalent / avg_volume_50",
             "Share equivalent in percent of the shares that trade a day (50 sessions).", decimals=2),
    _points("opening", "Opening", "Opens", "",
            "confirmed: the next morning's open interest rose by half the ticket or more; certain: volume so far exceeds the morning's open "
            "interest by the ticket or more; likely: the ticket alone exceeds it; unknown.", kind="text"),
    _points("in_package", "Is a leg", "Leg", "",
            "Whether it is a leg of a package: tickets of several contracts done as one, because its source says so, or because they fit together and chance does not make such. Judge the package, not the leg.", kind="condition"),
    _points("package_form", "Package", "Package", "", "What kind of package it is a leg of.", "it is no leg of a package", kind="text"),
    _points("is_roll", "Is a roll", "Roll", "",
            "Whether it is one side of a position moved: sold on the bid side, bought on the ask side within 5 s, each of 50 contracts or $25,000, no more than was open, and which chance does not make.",
            kind="condition"),
    _points("roll_ratio", "Premium after a roll", "Roll ×", "×", "Premium of the side bought over that of the side sold: above one money was added.",
            _NO_ROLL),
    _points("roll_strike_pct", "Strike after a roll", "Roll to", "%", "The strike bought over the strike sold, less one.", _NO_ROLL),
    _points("roll_days", "Days that a roll adds", "Roll days", "days", "How much further out the side bought expires, in calendar days.", _NO_ROLL),
    _contract("contract_volume", "Volume of its contract so far", "Vol", "contracts", "What had traded of its contract when it was done, its own among it."),
    _contract("contract_interest", "Open interest of its contract", "OI", "contracts", "Contracts open in the morning."),
    computed(_CONTRACT, "volume_over_interest", "Volume over open interest", "Vol/OI", "×", "contract_volume / contract_interest",
             "What had traded of its contract for each one open in the morning; missing where none was open."),
    _contract("ask_share", "Ask share of its contract", "Ask %", "%",
              "Contracts of the session on the ask side in percent of those whose side is known.", "no side is known", decimals=0),
    _contract("repeated", "Tickets in its contract, same side", "Repeated", "",
              "How many tickets of the session are in its contract and on its side, its own among them.", scale="log"),
    _unusual("first_in", "First of its size in", "First in", "sessions",
             "Sessions since the name last had a ticket of this premium or more in the same right; 0 when it had one earlier the same day; "
             "where there was none, all sessions held."),
    _unusual("size_rank", "Size among its name's largest", "Size", "0–100",
             "The share of the last 60 sessions whose largest ticket of the same right was smaller.", "no earlier session is known"),
    _unusual("size_part", "Part: size", "P size", "", "size_rank from 0 to 1.", "no earlier session is known", decimals=2),
    _unusual("interest_part", "Part: volume over open interest", "P vol/OI", "",
             "Half of volume over open interest, 1 at most; 1 where none was open.", decimals=2),
    _unusual("ask_part", "Part: ask share", "P ask", "", "The ask share of its contract from 0 to 1.", "no side is known", decimals=2),
    _unusual("novelty_part", "Part: novelty", "P new", "", "Sessions since a ticket like it over 60, 1 at most.", decimals=2),
    _unusual("urgency_part", "Part: urgency", "P urgent", "",
             "1 for a sweep, half for a split; half more out of the money with 14 days or less; 1 at most.", decimals=2),
    _computed_unusual("unusual", "Unusual", "Unusual", "", "size_part + interest_part + ask_part + novelty_part + urgency_part",
                      "The five parts added up, each from 0 to 1. Other weights are an expression of the parts: 2 * size_part + novelty_part.",
                      decimals=2),
)  # fmt: skip

TICKETS: dict[str, Metric] = {metric.key: metric for metric in _ENTRIES}
